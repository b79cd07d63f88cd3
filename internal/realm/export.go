package realm

import (
	"context"
	"errors"
	"slices"
	"time"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// errFound ends a search.
var errFound = errors.New("found")

// Export is everything that the realm has about a person.
type Export struct {
	desk Desk
	user presence.UserID
}

// Export returns the export of a person. A person about whom there is nothing is unknown.
func (d Desk) Export(ctx context.Context, id string) (*Export, error) {
	user, err := userOf(id)
	if err != nil {
		return nil, err
	}
	e := &Export{d, user}
	d.realm.catchUp(ctx)
	anything := false
	err = e.Each(ctx, func(wire.ExportLine) error {
		anything = true
		return errFound
	})
	if err != nil && !errors.Is(err, errFound) {
		return nil, err
	}
	if !anything {
		return nil, problem.UnknownPerson(user)
	}
	d.act(journal.Entry{Kind: journal.PersonExported, User: user})
	return e, nil
}

// Each calls the function with every line, until it returns an error.
func (e *Export) Each(ctx context.Context, each func(wire.ExportLine) error) error {
	for _, part := range []func(context.Context, func(wire.ExportLine) error) error{e.person, e.now, e.standing, e.entries, e.deliveries} {
		if err := part(ctx, each); err != nil {
			return err
		}
	}
	return nil
}

// person exports the directory's entry.
func (e *Export) person(ctx context.Context, each func(wire.ExportLine) error) error {
	page, err := e.desk.realm.store.People(ctx, records.PeopleQuery{Realm: e.desk.realm.name, Users: []presence.UserID{e.user}, Limit: 1})
	if err != nil || len(page) == 0 {
		return err
	}
	doc, err := e.desk.realm.person(&page[0])
	if err != nil {
		return err
	}
	return each(wire.ExportLine{What: "person", Person: &doc})
}

// now exports sessions, asks and invitations.
func (e *Export) now(_ context.Context, each func(wire.ExportLine) error) error {
	sessions, err := e.desk.SessionsOf(string(e.user))
	if err != nil {
		return err
	}
	for i := range sessions.Sessions {
		if err := each(wire.ExportLine{What: "session", Session: &sessions.Sessions[i]}); err != nil {
			return err
		}
	}
	asks, err := e.desk.Asks("")
	if err != nil {
		return err
	}
	for i := range asks.Asks {
		if asks.Asks[i].User != string(e.user) {
			continue
		}
		if err := each(wire.ExportLine{What: "ask", Ask: &asks.Asks[i]}); err != nil {
			return err
		}
	}
	invitations, err := e.desk.Invitations(string(e.user))
	if err != nil {
		return err
	}
	for i := range invitations.Invitations {
		if err := each(wire.ExportLine{What: "invitation", Invitation: &invitations.Invitations[i]}); err != nil {
			return err
		}
	}
	return nil
}

// standing exports passes and removals, and the rooms that expect the person.
func (e *Export) standing(_ context.Context, each func(wire.ExportLine) error) error {
	r := e.desk.realm
	passes, err := e.desk.Passes(string(e.user))
	if err != nil {
		return err
	}
	for i := range passes.Passes {
		if err := each(wire.ExportLine{What: "pass", Pass: &passes.Passes[i]}); err != nil {
			return err
		}
	}
	removals, err := r.store.Removals(r.name)
	if err != nil {
		return err
	}
	for _, removal := range removals {
		if removal.User != e.user {
			continue
		}
		doc := wire.Removal{User: string(e.user), Room: string(removal.Room), At: wire.Time{Time: removal.At}}
		if err := each(wire.ExportLine{What: "removal", Removal: &doc}); err != nil {
			return err
		}
	}
	rooms, err := r.store.Rooms(r.name)
	if err != nil {
		return err
	}
	for _, room := range rooms {
		if !slices.Contains(room.Expected, e.user) {
			continue
		}
		if err := each(wire.ExportLine{What: "expected", Room: string(room.Room)}); err != nil {
			return err
		}
	}
	return nil
}

// entries exports what the journal has about the person, and about others with them.
func (e *Export) entries(ctx context.Context, each func(wire.ExportLine) error) error {
	r := e.desk.realm
	var failed error
	err := r.store.EachEntry(ctx, records.JournalQuery{Realm: r.name, About: e.user}, piece, func(page []journal.Entry) bool {
		for i := range page {
			doc := page[i].Record()
			if failed = each(wire.ExportLine{What: "entry", Entry: &doc}); failed != nil {
				return false
			}
		}
		return true
	})
	if err == nil {
		err = failed
	}
	return err
}

func (e *Export) deliveries(ctx context.Context, each func(wire.ExportLine) error) error {
	r := e.desk.realm
	return r.store.EachDeliveryAbout(ctx, r.name, e.user, func(d *records.Delivery) error {
		doc := wire.Delivery{ID: d.ID, Hook: d.Hook, Kind: d.Kind, Event: d.Event, State: d.State, Attempts: d.Attempts,
			Created: wire.Time{Time: time.UnixMilli(d.Created)}, Tried: wire.TimeOf(d.Tried), Body: string(d.Body)}
		return each(wire.ExportLine{What: "delivery", Delivery: &doc})
	})
}
