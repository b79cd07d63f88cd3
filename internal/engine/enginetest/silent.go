package enginetest

import (
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// NoLinks ignores all orders about links, for tests without clients.
type NoLinks struct{}

// AskBeat does nothing.
func (NoLinks) AskBeat(presence.AskBeat) {}

// Cut does nothing.
func (NoLinks) Cut(presence.Cut) {}

// WarnExpiry does nothing.
func (NoLinks) WarnExpiry(presence.LinkID, time.Time) {}

// OwnChanged does nothing.
func (NoLinks) OwnChanged(presence.OwnChanged) {}

// AskAnswered does nothing.
func (NoLinks) AskAnswered(presence.AskAnswered) {}

// InvitationAnswered does nothing.
func (NoLinks) InvitationAnswered(presence.InvitationAnswered) {}

// PassEnded does nothing.
func (NoLinks) PassEnded(presence.PassEnded) {}

// InvitationsChanged does nothing.
func (NoLinks) InvitationsChanged(presence.InvitationsChanged) {}

// TakenOut does nothing.
func (NoLinks) TakenOut(presence.TakenOut) {}

// NoSink ignores all news, for tests without followers.
type NoSink struct{}

// Take does nothing.
func (NoSink) Take(*engine.Batch) {}

// TakeAsks does nothing.
func (NoSink) TakeAsks(engine.Asks) {}

// TakeUnchanged does nothing.
func (NoSink) TakeUnchanged(engine.Topic) {}

// TakeTypists does nothing.
func (NoSink) TakeTypists(engine.Typists) {}

// TakeSight does nothing.
func (NoSink) TakeSight(engine.Sight) {}
