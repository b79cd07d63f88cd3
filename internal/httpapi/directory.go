package httpapi

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// Bounds of what a back end keeps of a person.
const (
	maxAttributes     = 32
	maxAttributeBytes = 256
	// maxImport is the body of an import; it is larger than others for who shows a key.
	maxImport  = 16 << 20
	importPath = "/v1/people/import"
)

// people lists the directory by user, with how everybody is now: all, those who match a
// text, or with user= those who are named.
func (a *API) people(c fiber.Ctx) error {
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	realm := realmOf(c)
	q := records.PeopleQuery{Realm: realm.Name, After: presence.UserID(norm.NFC.String(c.Query("after"))), Text: norm.NFC.String(c.Query("text")), Limit: limit + 1}
	if q.Users, err = usersIn(c, maxLimit); err != nil {
		return err
	}
	a.catchUp(c)
	if form, _ := formIn(c, asJSON, asNDJSON, asCSV); form != asJSON {
		q.Limit = piece
		return export(a, c, form, limit, func(ctx context.Context) ([]wire.Person, error) {
			page, err := a.store.People(ctx, q)
			if err != nil || len(page) == 0 {
				return nil, err
			}
			q.After = page[len(page)-1].User
			return personDocuments(realm, page)
		})
	}
	page, err := a.store.People(c.Context(), q)
	if err != nil {
		return err
	}
	doc := wire.People{}
	if doc.People, err = personDocuments(realm, page[:min(limit, len(page))]); err != nil {
		return err
	}
	if len(page) > limit {
		doc.Next = string(page[limit-1].User)
	}
	return c.JSON(doc)
}

func personDocuments(realm *gateway.Realm, page []records.Person) ([]wire.Person, error) {
	people := make([]wire.Person, len(page))
	for i := range page {
		var err error
		if people[i], err = personDocument(realm, &page[i]); err != nil {
			return nil, err
		}
	}
	return people, nil
}

// catchUpTime bounds how long a question about people waits for what has just happened to
// be written.
const catchUpTime = time.Second

// catchUp waits until all events so far are on record, so that a person who has just come is
// found. When the records cannot be written, it returns without them.
func (a *API) catchUp(c fiber.Ctx) {
	ctx, cancel := context.WithTimeout(c.Context(), catchUpTime)
	defer cancel()
	_ = a.writer.Sync(ctx)
}

// person tells of one.
func (a *API) person(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	realm := realmOf(c)
	q := records.PeopleQuery{Realm: realm.Name, Users: []presence.UserID{user}, Limit: 1}
	page, err := a.store.People(c.Context(), q)
	if err == nil && len(page) == 0 {
		a.catchUp(c)
		page, err = a.store.People(c.Context(), q)
	}
	if err != nil {
		return err
	}
	if len(page) == 0 {
		return unknownPerson(user)
	}
	doc, err := personDocument(realm, &page[0])
	if err != nil {
		return err
	}
	return c.JSON(doc)
}

func unknownPerson(user presence.UserID) error {
	return &wire.Problem{Code: wire.CodeUnknownPerson, Field: "user", Value: wire.Shorten(string(user)), Detail: "nobody of this id is known in the realm"}
}

// personDocument is what is on record of a person, with how they are now.
func personDocument(realm *gateway.Realm, p *records.Person) (wire.Person, error) {
	saved, err := p.Saved()
	if err != nil {
		return wire.Person{}, err
	}
	sight := realm.Engine.SightNow(engine.Subject{User: p.User, View: presence.Full})
	doc := wire.Person{User: string(p.User), Name: p.Name, Picture: p.Picture, Attributes: p.Attributes, Status: string(sight.Status), Note: sight.Note,
		Until: milliseconds(sight.Until), Set: string(saved.Set.Status), Hidden: saved.Hidden, FirstSeen: milliseconds(p.FirstSeen)}
	if sight.Status == presence.Offline {
		doc.LastSeen = milliseconds(p.LastSeen)
		if !sight.LastSeen.IsZero() {
			doc.LastSeen = &wire.Time{Time: sight.LastSeen}
		}
	}
	for _, room := range realm.Engine.RoomsOf(p.User, presence.Full) {
		doc.Rooms = append(doc.Rooms, string(room))
	}
	slices.Sort(doc.Rooms)
	return doc, nil
}

// putPerson adds somebody to the directory, or changes what it says of them.
func (a *API) putPerson(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	var asked wire.Profile
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	asked.User = string(user)
	row, err := a.profile(realmOf(c), asked)
	if err != nil {
		return err
	}
	if err := a.store.PutPeople([]records.Person{row}); err != nil {
		return gateway.NotRecorded("nothing has been changed", err)
	}
	return a.person(c)
}

// dropPerson takes somebody out of the directory who was never here. Who was is erased.
func (a *API) dropPerson(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	err = a.store.DropPerson(realmOf(c).Name, user)
	if errors.Is(err, records.ErrNotFound) {
		problem := unknownPerson(user).(*wire.Problem)
		problem.Allowed = "somebody who was never here; of others everything is deleted with POST /v1/people/USER/erasure"
		return problem
	}
	if err != nil {
		return gateway.NotRecorded("nothing has been changed", err)
	}
	return c.SendStatus(fiber.StatusNoContent)
}

// profile checks what is to be kept of a person.
func (a *API) profile(realm *gateway.Realm, asked wire.Profile) (records.Person, error) {
	row := records.Person{Realm: realm.Name, User: presence.UserID(norm.NFC.String(asked.User)), Name: norm.NFC.String(asked.Name), Picture: asked.Picture, Attributes: asked.Attributes}
	if err := realm.Engine.Policy().CheckPerson(row.User, presence.Profile{Name: row.Name, Picture: row.Picture}); err != nil {
		return row, err
	}
	if err := access.CheckPicture(row.Picture); err != nil {
		return row, err
	}
	if len(row.Attributes) > maxAttributes {
		return row, badField("attributes", "", "the person has too many attributes", "at most 32")
	}
	for name, value := range row.Attributes {
		if name == "" || len(name) > 64 || len(value) > maxAttributeBytes {
			return row, badField("attributes", name, "the person has an attribute that is too long, or has no name", "names of 1 to 64 bytes, values of at most 256")
		}
	}
	return row, nil
}

// importPeople takes a list of people, as NDJSON or as CSV, and reports what has become of
// each line. Lines that are right are taken, whatever the others are.
func (a *API) importPeople(c fiber.Ctx) error {
	read := readNDJSON
	if media := c.Get(fiber.HeaderContentType); strings.HasPrefix(media, "text/csv") {
		read = readCSV
	} else if media != "" && !strings.HasPrefix(media, "application/x-ndjson") && !strings.HasPrefix(media, "application/json") {
		return badField("Content-Type", media, "a list of people cannot come as this", "application/x-ndjson, text/csv")
	}
	report := wire.Imported{Refused: []wire.RefusedLine{}}
	var rows []records.Person
	places := map[presence.UserID]int{}
	realm := realmOf(c)
	err := read(c.Body(), func(line int, p wire.Profile, err error) {
		var row records.Person
		if err == nil {
			row, err = a.profile(realm, p)
		}
		if err != nil {
			report.Refused = append(report.Refused, wire.RefusedLine{Line: line, Problem: *gateway.ProblemOf(err)})
			return
		}
		report.Taken++
		if at, again := places[row.User]; again {
			rows[at] = row // the last line about somebody counts
			return
		}
		places[row.User] = len(rows)
		rows = append(rows, row)
	})
	if err != nil {
		return err
	}
	if len(rows) > 0 {
		if err := a.store.PutPeople(rows); err != nil {
			return gateway.NotRecorded("nothing has been taken", err)
		}
	}
	return c.JSON(report)
}

func readNDJSON(body []byte, each func(line int, p wire.Profile, err error)) error {
	lines := bufio.NewScanner(bytes.NewReader(body))
	lines.Buffer(nil, wire.MaxFrame)
	line := 0
	for lines.Scan() {
		line++
		if text := bytes.TrimSpace(lines.Bytes()); len(text) > 0 {
			var p wire.Profile
			err := strictjson.Read(text, &p)
			each(line, p, err)
		}
	}
	if lines.Err() != nil {
		return &wire.Problem{Code: wire.CodeTooLarge, Detail: "a line is too large", Allowed: "lines of at most 16384 bytes"}
	}
	return nil
}

// readCSV takes the columns user, name and picture by the names in the first line, and
// every other one for an attribute.
func readCSV(body []byte, each func(line int, p wire.Profile, err error)) error {
	rows := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(body, []byte("\uFEFF"))))
	rows.FieldsPerRecord = -1
	columns, err := rows.Read()
	if err != nil || !slices.Contains(columns, "user") {
		return badField("body", strings.Join(columns, ","), "the first line has to name the columns", "user, name, picture, and attributes of your own")
	}
	for {
		cells, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		line, _ := rows.FieldPos(0)
		var wrong *csv.ParseError
		if errors.As(err, &wrong) {
			each(wrong.Line, wire.Profile{}, badField("line", "", "this is not CSV: "+wrong.Err.Error(), "RFC 4180"))
			continue
		}
		if len(cells) != len(columns) {
			each(line, wire.Profile{}, badField("line", strings.Join(cells, ","), "the line has not as many cells as the first", "a cell for each column"))
			continue
		}
		var p wire.Profile
		for i, cell := range cells {
			switch {
			case columns[i] == "user":
				p.User = cell
			case columns[i] == "name":
				p.Name = cell
			case columns[i] == "picture":
				p.Picture = cell
			case cell != "":
				if p.Attributes == nil {
					p.Attributes = map[string]string{}
				}
				p.Attributes[columns[i]] = cell
			}
		}
		each(line, p, nil)
	}
}

// declare lets a room exist while nobody is in it, and says whom it expects.
func (a *API) declare(c fiber.Ctx) error {
	room, err := roomOf(c)
	if err != nil {
		return err
	}
	var asked wire.Declaration
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	row := records.Room{Realm: realmOf(c).Name, Room: room, Expected: []presence.UserID{}}
	for _, name := range asked.Expected {
		user := presence.UserID(norm.NFC.String(name))
		if err := presence.CheckUser(user); err != nil {
			return err
		}
		if !slices.Contains(row.Expected, user) {
			row.Expected = append(row.Expected, user)
		}
	}
	if err := a.store.Declare(row); err != nil {
		return gateway.NotRecorded("nothing has been changed", err)
	}
	if _, err := realmOf(c).Engine.Do(c.Context(), presence.Declare{Room: room, Declared: true}); err != nil {
		return err
	}
	return c.JSON(declaration(realmOf(c), row))
}

// undeclare lets a room be one that ends with its last member again.
func (a *API) undeclare(c fiber.Ctx) error {
	room, err := roomOf(c)
	if err != nil {
		return err
	}
	err = a.store.Undeclare(realmOf(c).Name, room)
	if errors.Is(err, records.ErrNotFound) {
		return &wire.Problem{Code: wire.CodeUnknownRoom, Field: "room", Value: string(room), Detail: "no room of this name is declared"}
	}
	if err != nil {
		return gateway.NotRecorded("nothing has been changed", err)
	}
	if _, err := realmOf(c).Engine.Do(c.Context(), presence.Declare{Room: room}); err != nil {
		return err
	}
	return c.SendStatus(fiber.StatusNoContent)
}

// declaration tells whom a room expects, and whom of them it misses now.
func declaration(realm *gateway.Realm, row records.Room) wire.DeclaredRoom {
	doc := wire.DeclaredRoom{Room: string(row.Room), Declared: true, Expected: []string{}, Missing: []string{}}
	here := map[presence.UserID]bool{}
	for _, m := range realm.Engine.MembersNow(row.Room) {
		here[m.User] = true
	}
	for _, user := range row.Expected {
		doc.Expected = append(doc.Expected, string(user))
		if !here[user] {
			doc.Missing = append(doc.Missing, string(user))
		}
	}
	return doc
}

// expectations tells whom a room expects; nobody when it is not declared.
func (a *API) expectations(c fiber.Ctx) error {
	room, err := roomOf(c)
	if err != nil {
		return err
	}
	row, err := a.store.Room(realmOf(c).Name, room)
	if errors.Is(err, records.ErrNotFound) {
		return c.JSON(wire.DeclaredRoom{Room: string(room), Expected: []string{}, Missing: []string{}})
	}
	if err != nil {
		return err
	}
	return c.JSON(declaration(realmOf(c), row))
}
