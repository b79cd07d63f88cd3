package gateway

import (
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// renew takes a newer token of the same person. What it no longer grants is over: the
// session leaves rooms, the link follows no more what it may not, and sees with the eyes
// that the token gives it.
func (l *link) renew(r wire.Request) error {
	before := l.guest()
	if before.operator {
		_, err := l.session()
		return err
	}
	who, err := l.gateway.identify(wire.Hello{Token: r.Token}, l.caller)
	if err != nil {
		return err
	}
	if who.id() != before.id() {
		return &wire.Problem{Code: wire.CodeBadToken, Field: "token", Detail: "the token is another person's",
			Allowed: "a newer token of the person of this link"}
	}
	from, err := l.session()
	if err != nil {
		return err
	}
	p := who.person
	_, err = who.realm.do(presence.Renew{From: from, Profile: p.Profile, Issued: p.Issued.UnixMilli(), Expires: p.Expires.UnixMilli(), Grants: who.grants()})
	if err != nil {
		return err
	}
	talk := l.talk.Load()
	talk.guest.Store(who)
	talk.receiver.See(who.view())
	for _, room := range who.realm.Engine.RoomsOver(from) {
		_ = l.admitted(l.guest(), room) // tells the client itself when not
	}
	ctx, done := l.during()
	defer done()
	l.narrow(func(pattern presence.Pattern) error { return who.admittedToWatch(ctx, pattern) })
	l.answer(r.ID, nil, nil)
	return nil
}

// narrow ends what event streams without a connection watch and may not any more.
func (s *feeds) narrow(is func(*guest) bool) {
	for _, f := range s.those(is) {
		talk := f.talk
		f.mu.Lock()
		away := f.link == nil
		f.mu.Unlock()
		if !away {
			continue // its link has been seen to
		}
		for _, d := range talk.narrow(nil) {
			talk.keep(dropFrame(d))
		}
	}
}

// endIf gives up the event streams that wait for a client that may not come back.
func (s *feeds) endIf(over func(*guest) bool) {
	for _, f := range s.those(over) {
		f.mu.Lock()
		if f.link == nil && !f.gone {
			s.end(f)
		}
		f.mu.Unlock()
	}
}

func (s *feeds) those(is func(*guest) bool) (feeds []*feed) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.all {
		if is(f.talk.guest.Load()) {
			feeds = append(feeds, f)
		}
	}
	return feeds
}
