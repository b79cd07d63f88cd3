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

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

const (
	// maxImport limits the body of an import, which may be larger than other bodies.
	maxImport  = 16 << 20
	importPath = "/v1/people/import"
	// piece is the number of rows of a long answer that are read at a time.
	piece = 1000
)

// people lists the directory with everybody's current status: all, those who match a text, or
// with user= those named.
func (a *API) people(c fiber.Ctx) error {
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	desk := deskOf(c)
	q := realm.PeopleQuery{After: c.Query("after"), Text: c.Query("text"), Users: repeated(c, "user"), Limit: limit}
	form, _ := formIn(c, asJSON, asNDJSON, asCSV)
	if form == asJSON {
		return respond(c)(desk.People(c.Context(), q))
	}
	q.Limit = piece
	page, err := desk.People(c.Context(), q) // a bad query is refused before the answer begins
	if err != nil {
		return err
	}
	return export(a, c, form, limit, func(ctx context.Context) (given []wire.Person, err error) {
		given, page.People, q.After = page.People, nil, page.Next
		if q.After != "" {
			page, err = desk.People(ctx, q)
		}
		return given, err
	})
}

// person answers with one person.
func (a *API) person(c fiber.Ctx) error {
	return respond(c)(deskOf(c).Person(c.Context(), param(c, "user")))
}

// putPerson adds a person to the directory, or changes their entry.
func (a *API) putPerson(c fiber.Ctx) error {
	asked, err := bodyOf[wire.Profile](c)
	if err != nil {
		return err
	}
	return respond(c)(deskOf(c).PutPerson(c.Context(), param(c, "user"), asked))
}

// dropPerson deletes a person who was never here from the directory.
func (a *API) dropPerson(c fiber.Ctx) error {
	return nothing(c, deskOf(c).DropPerson(param(c, "user")))
}

// importPeople adds a list of people, as NDJSON or CSV, and reports each line that is invalid.
// Valid lines are applied even then.
func (a *API) importPeople(c fiber.Ctx) error {
	read := readNDJSON
	if media := c.Get(fiber.HeaderContentType); strings.HasPrefix(media, "text/csv") {
		read = readCSV
	} else if media != "" && !strings.HasPrefix(media, "application/x-ndjson") && !strings.HasPrefix(media, "application/json") {
		return problem.BadField("Content-Type", media, "unsupported media type for a list of people", "application/x-ndjson, text/csv")
	}
	people := deskOf(c).ImportPeople()
	if err := read(c.Body(), people.Line); err != nil {
		return err
	}
	return respond(c)(people.Done())
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

// readCSV reads the columns user, name and picture, found by the names in the first line; every
// other column is an attribute.
func readCSV(body []byte, each func(line int, p wire.Profile, err error)) error {
	rows := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(body, []byte("\uFEFF"))))
	rows.FieldsPerRecord = -1
	columns, err := rows.Read()
	if err != nil || !slices.Contains(columns, "user") {
		return problem.BadField("body", strings.Join(columns, ","), "the first line has to name the columns", "user, name, picture, and attributes of your own")
	}
	for {
		cells, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		line, _ := rows.FieldPos(0)
		var wrong *csv.ParseError
		if errors.As(err, &wrong) {
			each(wrong.Line, wire.Profile{}, problem.BadField("line", "", "this is not CSV: "+wrong.Err.Error(), "RFC 4180"))
			continue
		}
		if len(cells) != len(columns) {
			each(line, wire.Profile{}, problem.BadField("line", strings.Join(cells, ","), "the line has not as many cells as the first", "a cell for each column"))
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
