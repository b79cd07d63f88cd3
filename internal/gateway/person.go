package gateway

import (
	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// status sets what others see of the person, for all their sessions.
func (l *link) status(r wire.Request) error {
	in := presence.SetStatus{User: l.guest().person.User, Status: presence.Status(r.Status), Note: r.Note}
	if r.Until != nil {
		in.Until = r.Until.UnixMilli()
	}
	return l.tellOfPerson(r, in)
}

// hide takes the person out of what others see, or puts them back into it, which
// everybody may.
func (l *link) hide(r wire.Request) error {
	on := r.On == nil || *r.On
	if on && !l.guest().person.MayHide {
		if _, err := l.session(); err != nil {
			return err
		}
		return notGranted("on", "true", "a token with tovik.hide")
	}
	return l.tellOfPerson(r, presence.Hide{User: l.guest().person.User, Hidden: on})
}

// signOut ends all sessions of the person, this one last of all.
func (l *link) signOut(r wire.Request) error {
	if _, err := l.session(); err != nil {
		return err
	}
	l.answer(r.ID, nil, nil)
	_, err := l.realm().do(presence.SignOut{User: l.guest().person.User})
	return err
}

// remove takes somebody out of a room, for who may moderate there.
func (l *link) remove(r wire.Request) error {
	if _, err := l.session(); err != nil {
		return err
	}
	room, err := presence.ParseRoom(r.Room)
	if err != nil {
		return err
	}
	if !l.guest().person.MayModerate(room) {
		return notGranted("room", r.Room, grantList(l.guest().person.Moderate, "moderation"))
	}
	user := presence.UserID(norm.NFC.String(r.User))
	if err := presence.CheckUser(user); err != nil {
		return err
	}
	if err := l.hears(); err != nil {
		return err
	}
	if _, err := l.gateway.Remove(l.realm(), user, room); err != nil {
		return err
	}
	l.answer(r.ID, nil, nil)
	return nil
}

// tellOfPerson gives the core what a request says of the person of a session, and
// answers it.
func (l *link) tellOfPerson(r wire.Request, in presence.Input) error {
	if _, err := l.session(); err != nil {
		return err
	}
	if err := l.hears(); err != nil {
		return err
	}
	if _, err := l.realm().do(in); err != nil {
		return err
	}
	return l.answerWhenKept(r)
}

// answerWhenKept answers when what was asked for will outlast the service. A WebSocket
// goes on meanwhile.
func (l *link) answerWhenKept(r wire.Request) error {
	if l.post != nil {
		if err := l.realm().kept(); err != nil {
			return err
		}
		l.answer(r.ID, nil, nil)
		return nil
	}
	l.gateway.waiting.Go(func() {
		if err := l.realm().kept(); err != nil {
			l.refuse(r.ID, err)
			return
		}
		l.answer(r.ID, nil, nil)
	})
	return nil
}
