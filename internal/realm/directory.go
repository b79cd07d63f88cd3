package realm

import (
	"context"
	"errors"
	"slices"
	"time"

	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Limits of what a back end may store about a person.
const (
	maxAttributes     = 32
	maxAttributeName  = 64
	maxAttributeBytes = 256
)

// catchUpTime limits how long a query about people waits until recent events are written.
const catchUpTime = time.Second

// catchUp waits until everything that has happened is on record, so that a person who has
// just joined is found. It returns early if the records cannot be written.
func (r *Realm) catchUp(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, catchUpTime)
	defer cancel()
	_ = r.writer.Sync(ctx)
}

// PeopleQuery selects people of the directory, ordered by user id.
type PeopleQuery struct {
	After string
	Text  string   // only those whose id begins with it, or whose name contains it
	Users []string // only these, up to [MostAsked]; nil: all
	Limit int
}

// People returns a page of the directory, with everybody's current status.
func (d Desk) People(ctx context.Context, q PeopleQuery) (wire.People, error) {
	doc := wire.People{People: []wire.Person{}}
	asked, err := d.peopleQuery(q.Users)
	if err != nil {
		return doc, err
	}
	asked.After, asked.Text, asked.Limit = presence.UserID(norm.NFC.String(q.After)), norm.NFC.String(q.Text), q.Limit+1
	d.realm.catchUp(ctx)
	page, err := d.realm.store.People(ctx, asked)
	if err != nil {
		return doc, err
	}
	for i := range page[:min(q.Limit, len(page))] {
		person, err := d.realm.person(&page[i])
		if err != nil {
			return doc, err
		}
		doc.People = append(doc.People, person)
	}
	if len(page) > q.Limit {
		doc.Next = string(page[q.Limit-1].User)
	}
	return doc, nil
}

func (d Desk) peopleQuery(ids []string) (records.PeopleQuery, error) {
	q := records.PeopleQuery{Realm: d.realm.name}
	if len(ids) > MostAsked {
		return q, tooManyPeople(MostAsked)
	}
	if ids == nil {
		return q, nil
	}
	var err error
	q.Users, err = usersOf(ids)
	return q, err
}

// Person returns the directory's entry of a person, with their current status.
func (d Desk) Person(ctx context.Context, id string) (wire.Person, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.Person{}, err
	}
	r := d.realm
	q := records.PeopleQuery{Realm: r.name, Users: []presence.UserID{user}, Limit: 1}
	page, err := r.store.People(ctx, q)
	if err == nil && len(page) == 0 {
		r.catchUp(ctx)
		page, err = r.store.People(ctx, q)
	}
	if err != nil {
		return wire.Person{}, err
	}
	if len(page) == 0 {
		return wire.Person{}, problem.UnknownPerson(user)
	}
	return r.person(&page[0])
}

// person returns the document of a person on record, with their current status.
func (r *Realm) person(p *records.Person) (wire.Person, error) {
	saved, err := p.Saved()
	if err != nil {
		return wire.Person{}, err
	}
	sight := r.core.SightNow(engine.Subject{User: p.User, View: presence.Full})
	doc := wire.Person{User: string(p.User), Name: p.Name, Picture: p.Picture, Attributes: p.Attributes, Status: string(sight.Status), Note: sight.Note,
		Until: wire.TimeOf(sight.Until), Set: string(saved.Set.Status), Hidden: saved.Hidden, FirstSeen: wire.TimeOf(p.FirstSeen)}
	if sight.Status == presence.Offline {
		doc.LastSeen = wire.TimeOf(p.LastSeen)
		if !sight.LastSeen.IsZero() {
			doc.LastSeen = &wire.Time{Time: sight.LastSeen}
		}
	}
	doc.Rooms = roomNames(r.core.RoomsOf(p.User, presence.Full))
	slices.Sort(doc.Rooms)
	return doc, nil
}

// PutPerson adds a person to the directory, or changes their entry.
func (d Desk) PutPerson(ctx context.Context, id string, asked wire.Profile) (wire.Person, error) {
	asked.User = id
	row, err := d.profile(asked)
	if err != nil {
		return wire.Person{}, err
	}
	if err := d.realm.store.PutPeople([]records.Person{row}); err != nil {
		return wire.Person{}, problem.NotRecorded("nothing has been changed", err)
	}
	return d.Person(ctx, id)
}

// DropPerson deletes a person who was never here from the directory. Others have to be erased.
func (d Desk) DropPerson(id string) error {
	user, err := userOf(id)
	if err != nil {
		return err
	}
	err = d.realm.store.DropPerson(d.realm.name, user)
	if errors.Is(err, records.ErrNotFound) {
		unknown := problem.UnknownPerson(user)
		unknown.Allowed = "somebody who was never here; of others everything is deleted with POST /v1/people/USER/erasure"
		return unknown
	}
	if err != nil {
		return problem.NotRecorded("nothing has been changed", err)
	}
	return nil
}

// profile checks what a back end wants to store about a person.
func (d Desk) profile(asked wire.Profile) (records.Person, error) {
	row := records.Person{Realm: d.realm.name, User: presence.UserID(norm.NFC.String(asked.User)), Name: norm.NFC.String(asked.Name), Picture: asked.Picture, Attributes: asked.Attributes}
	if err := d.realm.Policy().CheckPerson(row.User, presence.Profile{Name: row.Name, Picture: row.Picture}); err != nil {
		return row, err
	}
	if err := access.CheckPicture(row.Picture); err != nil {
		return row, err
	}
	if len(row.Attributes) > maxAttributes {
		return row, problem.BadField("attributes", "", "the person has too many attributes", "at most 32")
	}
	for name, value := range row.Attributes {
		if name == "" || len(name) > maxAttributeName || len(value) > maxAttributeBytes {
			return row, problem.BadField("attributes", name, "the person has an attribute that is too long, or has no name", "names of 1 to 64 bytes, values of at most 256")
		}
	}
	return row, nil
}

// Import collects people for the directory, line by line.
type Import struct {
	desk   Desk
	report wire.Imported
	rows   []records.Person
	places map[presence.UserID]int
}

// ImportPeople starts an import. Nothing is stored before [Import.Done].
func (d Desk) ImportPeople() *Import {
	return &Import{desk: d, report: wire.Imported{Refused: []wire.RefusedLine{}}, places: map[presence.UserID]int{}}
}

// Line adds a line: a person, or why the line cannot be read. The last line about a person
// counts.
func (i *Import) Line(line int, p wire.Profile, err error) {
	var row records.Person
	if err == nil {
		row, err = i.desk.profile(p)
	}
	if err != nil {
		i.report.Refused = append(i.report.Refused, wire.RefusedLine{Line: line, Problem: *problem.Of(err)})
		return
	}
	i.report.Taken++
	if at, again := i.places[row.User]; again {
		i.rows[at] = row
		return
	}
	i.places[row.User] = len(i.rows)
	i.rows = append(i.rows, row)
}

// Done stores the people of all valid lines, and reports each invalid line.
func (i *Import) Done() (wire.Imported, error) {
	if len(i.rows) > 0 {
		if err := i.desk.realm.store.PutPeople(i.rows); err != nil {
			return wire.Imported{}, problem.NotRecorded("nothing has been taken", err)
		}
	}
	return i.report, nil
}
