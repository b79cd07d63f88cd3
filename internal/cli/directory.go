package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

func peopleCommand() *cli.Command {
	list := calling("list", "list the people in the directory", "", "Includes people who are offline.\n\nExample: tovik people list --text marrow",
		[]cli.Flag{&cli.StringFlag{Name: "text", Usage: "only those whose id begins with `TEXT`, or whose name has it"}, &cli.IntFlag{Name: "limit", Value: 100, Usage: "at most `N`"}, &cli.StringFlag{Name: "after", Usage: "only people whose id is after `USER`"}},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			page, err := a.People(ctx, c.String("text"), c.String("after"), c.Int("limit"))
			if err != nil {
				return err
			}
			return listing(c, page, page.People, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "PERSON\tUSER\tSTATUS\tLAST SEEN\tROOMS")
				for _, p := range page.People {
					_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", displayName(p.Name, p.User), p.User, statusWords(p), lastSeen(p), orDash(strings.Join(p.Rooms, ", ")))
				}
				if page.Next != "" {
					_, _ = fmt.Fprintf(w, "\nThere are more: --after %s\n", page.Next)
				}
			})
		})
	showOne := calling("show", "show the directory entry of a person", "USER", "Example: tovik people show e-01", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		p, err := a.Person(ctx, c.Args().First())
		if err != nil {
			return err
		}
		return showPerson(c, p)
	})
	put := calling("put", "add a person to the directory, or change their entry", "USER",
		"Members of rooms are shown with the profile of their token.\n\nExample: tovik people put w-99 --name 'Wren Alder' --attribute phone=17",
		[]cli.Flag{&cli.StringFlag{Name: "name", Usage: "the `NAME`"}, &cli.StringFlag{Name: "picture", Usage: "the `URL` of a picture"}, &cli.StringMapFlag{Name: "attribute", Usage: "an attribute, as `NAME=VALUE`, repeatable"}},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			p, err := a.PutPerson(ctx, wire.Profile{User: c.Args().First(), Name: c.String("name"), Picture: c.String("picture"), Attributes: c.StringMap("attribute")})
			if err != nil {
				return err
			}
			return showPerson(c, p)
		})
	drop := calling("drop", "remove a person who was never here from the directory", "USER", "To delete everything about a person who was here: tovik erase USER\n\nExample: tovik people drop w-99", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			if err := a.DropPerson(ctx, c.Args().First()); err != nil {
				return err
			}
			return say(c, "%s is no longer in the directory.", c.Args().First())
		})
	bring := calling("import", "add many people from a file", "FILE",
		"FILE is CSV (.csv) with the columns user, name, picture, and others for attributes; or it has one JSON object per line. Invalid lines are reported, all others imported.\n\nExample: tovik people import watch.csv",
		nil, func(ctx context.Context, c *cli.Command, a client.API) error {
			file, err := os.Open(c.Args().First())
			if err != nil {
				return &failure{exitUsage, fmt.Sprintf("the file cannot be read: %v", err)}
			}
			defer func() { _ = file.Close() }()
			media := "application/x-ndjson"
			if strings.HasSuffix(c.Args().First(), ".csv") {
				media = "text/csv"
			}
			report, err := a.ImportPeople(ctx, media, file)
			if err != nil {
				return err
			}
			err = show(c, report, func(w io.Writer) {
				for _, r := range report.Refused {
					_, _ = fmt.Fprintf(w, "line %d\t%s\n", r.Line, r.Error())
				}
				_, _ = fmt.Fprintf(w, "%s taken, %d refused.\n", phrase.Count(report.Taken, "line"), len(report.Refused))
			})
			if err == nil && len(report.Refused) > 0 {
				err = &failure{exitFailed, fmt.Sprintf("%s refused", phrase.Count(len(report.Refused), "line"))}
			}
			return err
		})
	export := calling("export", "write everything about a person", "USER",
		"Writes a JSON object per line: the directory entry, sessions, passes, removals, what is open, the journal, and deliveries of hooks. To delete it all: tovik erase USER\n\nExample: tovik people export w-17",
		nil, func(ctx context.Context, c *cli.Command, a client.API) error {
			if format := c.String("format"); c.IsSet("format") && format != formatNDJSON {
				return usage("--format is %q; allowed: ndjson, which an export always is", format)
			}
			body, err := a.ExportPerson(ctx, c.Args().First())
			if err != nil {
				return err
			}
			defer func() { _ = body.Close() }()
			if _, err := io.Copy(c.Root().Writer, body); err != nil {
				return fmt.Errorf("the export broke off, so this is not all of it: %w", err)
			}
			return nil
		})
	return &cli.Command{Name: "people", Usage: "the directory: everybody the realm knows, online or not", Commands: []*cli.Command{list, showOne, put, drop, bring, export}}
}

func statusWords(p wire.Person) string {
	words := p.Status
	if p.Note != "" {
		words += " (" + p.Note + ")"
	}
	if p.Hidden {
		words += ", hidden"
	}
	return words
}

func lastSeen(p wire.Person) string {
	switch {
	case p.Status != "offline":
		return "now"
	case p.LastSeen == nil:
		return "never"
	}
	return day(p.LastSeen)
}

func showPerson(c *cli.Command, p wire.Person) error {
	return show(c, p, func(w io.Writer) {
		_, _ = fmt.Fprintf(w, "%s\t%s\n\nstatus\t%s\nlast seen\t%s\nfirst seen\t%s\nrooms\t%s\n", displayName(p.Name, p.User), p.User, statusWords(p), lastSeen(p), day(p.FirstSeen), orDash(strings.Join(p.Rooms, ", ")))
		if p.Set != "" {
			_, _ = fmt.Fprintf(w, "has set\t%s\n", p.Set)
		}
		for _, name := range sortedKeys(p.Attributes) {
			_, _ = fmt.Fprintf(w, "%s\t%s\n", name, p.Attributes[name])
		}
	})
}

func roomCommands() *cli.Command {
	showDeclared := func(c *cli.Command, doc wire.DeclaredRoom) error {
		return show(c, doc, func(w io.Writer) {
			switch {
			case !doc.Declared:
				_, _ = fmt.Fprintf(w, "%s is not declared, and expects nobody.\n", doc.Room)
			case len(doc.Expected) == 0:
				_, _ = fmt.Fprintf(w, "%s is declared, and expects nobody.\n", doc.Room)
			default:
				_, _ = fmt.Fprintf(w, "%s expects %s.\nMissing now: %s\n", doc.Room, strings.Join(doc.Expected, ", "), orDash(strings.Join(doc.Missing, ", ")))
			}
		})
	}
	declare := calling("declare", "declare a room: it exists even while it is empty", "ROOM", "Replaces an earlier declaration.\n\nExample: tovik room declare desk.night --expect e-01 --expect w-02",
		[]cli.Flag{&cli.StringSliceFlag{Name: "expect", Usage: "a `USER` who is expected, repeatable"}},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			doc, err := a.Declare(ctx, c.Args().First(), c.StringSlice("expect"))
			if err != nil {
				return err
			}
			return showDeclared(c, doc)
		})
	undeclare := calling("undeclare", "undo the declaration of a room", "ROOM", "Example: tovik room undeclare desk.night", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		if err := a.Undeclare(ctx, c.Args().First()); err != nil {
			return err
		}
		return say(c, "%s is no longer declared.", c.Args().First())
	})
	expected := calling("expected", "list who is expected in a room, and who is missing", "ROOM", "Example: tovik room expected desk.night", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		doc, err := a.Expected(ctx, c.Args().First())
		if err != nil {
			return err
		}
		return showDeclared(c, doc)
	})
	return &cli.Command{Name: "room", Usage: "declared rooms, and the people they expect", Commands: []*cli.Command{declare, undeclare, expected}}
}
