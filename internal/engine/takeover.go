package engine

import (
	"time"

	"tovik.example/tovik/internal/presence"
)

// An engine with an epoch is one of several that run a realm in turn (docs/cluster.md). Its driver
// calls these methods and [Engine.Pass] from one goroutine, and does not call Run.

// Settler is told the answers to pending hellos that [Engine.Give] was given. [Links] of an engine
// with an epoch implement it.
type Settler interface{ Settled(presence.Settled) }

// Give applies an input now, as Do does. A pending hello is answered later, to the [Settler].
func (e *Engine) Give(in presence.Input) (reply presence.Reply, err error) {
	e.change(func(now presence.Instant) { reply, err = e.core.Apply(now, in, &e.effects) })
	return reply, err
}

// Continue loads the state that the realm's previous engines have recorded (see
// [presence.Core.Continue]). Time stands still afterwards. Each room begins a run.
func (e *Engine) Continue(saved presence.Saved, from presence.Takeover) error {
	var err error
	e.change(func(now presence.Instant) {
		if err = e.core.Continue(now, saved, from, &e.effects); err != nil {
			return
		}
		if e.record != nil {
			e.record.Restored(now.Wall, e.effects.List, e.effects.Touched)
		}
		e.effects.Reset() // nobody sees a change
		for _, view := range []presence.View{presence.Full, presence.Open} {
			for _, room := range e.core.Rooms(view) {
				topic := Topic{room, view}
				e.feeds[topic] = &feed{topic: topic, revision: Revision{Run: e.newRun(view)}}
			}
		}
	})
	return err
}

// Reseat applies a carrier's report of one link (see [presence.Core.Reseat]).
func (e *Engine) Reseat(f presence.Fact) (seat presence.Seat) {
	e.change(func(now presence.Instant) { seat = e.core.Reseat(now, f, &e.effects) })
	return seat
}

// Unseat makes a link silent (see [presence.Core.Unseat]).
func (e *Engine) Unseat(link presence.LinkID) {
	e.change(func(now presence.Instant) { e.core.Unseat(now, link, &e.effects) })
}

// UnseatOthers makes the links silent that no carrier has reported (see
// [presence.Core.UnseatOthers]).
func (e *Engine) UnseatOthers() {
	e.change(func(now presence.Instant) { e.core.UnseatOthers(now, &e.effects) })
}

// SealAll seals all changes now. A list that is compared with another engine's must not lack what is
// known.
func (e *Engine) SealAll() {
	e.hold(func(now presence.Instant) {
		pending := e.pending
		e.pending = nil
		for _, f := range pending {
			e.seal(now, f)
		}
	})
}

// StandStill stops the realm's time (see [presence.Core.StandStill]).
func (e *Engine) StandStill() { e.hold(e.core.StandStill) }

// StoodStill is StandStill from the last call on (see [presence.Core.StoodStill]).
func (e *Engine) StoodStill() { e.hold(e.core.StoodStill) }

// GoOn ends StandStill.
func (e *Engine) GoOn() { e.hold(e.core.GoOn) }

// Time returns the realm's time (see [presence.Core.Time]).
func (e *Engine) Time() (at time.Duration) {
	e.hold(func(presence.Instant) { at = e.core.Time() })
	return at
}

// Registers returns who is typing in a topic now, and the open asks of its room.
func (e *Engine) Registers(topic Topic) (typists []presence.UserID, asks []presence.OpenAsk) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Typing(topic.Room, topic.View), e.core.Asks(e.now(), topic.Room)
}

// Save returns what must survive of a person; false if there is nothing.
func (e *Engine) Save(user presence.UserID) (presence.SavedPerson, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.SavePerson(e.now(), user)
}
