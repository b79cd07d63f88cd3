package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/wire"
)

const (
	formatTable = "table"
	formatJSON  = "json"
)

// clientFlags are those of every command that asks a service.
func clientFlags(more ...cli.Flag) []cli.Flag {
	return append(append(more, serviceFlags()...), formatFlag())
}

// serviceFlags say which service is asked.
func serviceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "server", Value: "http://" + DefaultListen, Usage: "the `URL` of the service", Sources: cli.EnvVars("TOVIK_SERVER")},
		&cli.StringFlag{Name: "key", Usage: "the operator `KEY`", Sources: cli.EnvVars("TOVIK_KEY")},
	}
}

func formatFlag() cli.Flag {
	return &cli.StringFlag{Name: "format", Value: formatTable, Usage: "table or json", Validator: func(s string) error {
		if s != formatTable && s != formatJSON {
			return fmt.Errorf("--format is %q; allowed: table, json", s)
		}
		return nil
	}}
}

func api(c *cli.Command) (client.API, error) {
	server := strings.TrimRight(c.String("server"), "/")
	if !strings.HasPrefix(server, "http://") && !strings.HasPrefix(server, "https://") {
		return client.API{}, usage("--server is %q; allowed: http://HOST:PORT or https://HOST", server)
	}
	return client.API{Server: server, Key: c.String("key")}, nil
}

// show prints a document as it is, or as a table.
func show(c *cli.Command, document any, table func(io.Writer)) error {
	out := c.Root().Writer
	if c.String("format") == formatJSON {
		encoder := json.NewEncoder(out)
		encoder.SetIndent("", "  ")
		encoder.SetEscapeHTML(false)
		return encoder.Encode(document)
	}
	columns := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	table(columns)
	return columns.Flush()
}

func roomsCommand() *cli.Command {
	return &cli.Command{
		Name:  "rooms",
		Usage: "list the rooms that somebody is in",
		Flags: clientFlags(
			&cli.StringFlag{Name: "match", Value: "**", Usage: "only rooms that match the `PATTERN`, as in 'basin.*'"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			rooms, err := allRooms(ctx, a, c.String("match"))
			if err != nil {
				return err
			}
			return show(c, rooms, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "ROOM\tPEOPLE\tSESSIONS")
				for _, r := range rooms.Rooms {
					_, _ = fmt.Fprintf(w, "%s\t%d\t%d\n", r.Room, r.People, r.Sessions)
				}
			})
		},
	}
}

func allRooms(ctx context.Context, a client.API, match string) (wire.Rooms, error) {
	all, err := a.Rooms(ctx, match, "", 1000)
	for next := all.Next; next != "" && err == nil; {
		var page wire.Rooms
		if page, err = a.Rooms(ctx, match, next, 1000); err == nil {
			all.Rooms, next = append(all.Rooms, page.Rooms...), page.Next
		}
	}
	all.Next, all.Total = "", len(all.Rooms)
	return all, err
}

// roomCommand is a command that asks a service about one room.
func roomCommand(name, usage string, ask func(ctx context.Context, c *cli.Command, a client.API, room string) error) *cli.Command {
	return &cli.Command{
		Name:      name,
		Usage:     usage,
		ArgsUsage: "ROOM",
		Flags:     clientFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := room(c)
			if err != nil {
				return err
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			return ask(ctx, c, a, name)
		},
	}
}

func membersCommand() *cli.Command {
	return roomCommand("members", "list who is in a room", func(ctx context.Context, c *cli.Command, a client.API, room string) error {
		members, err := a.Members(ctx, room)
		if err != nil {
			return err
		}
		expected, err := a.Expected(ctx, room)
		if err != nil {
			return err
		}
		return show(c, members, func(w io.Writer) {
			_, _ = fmt.Fprintf(w, "%s: %s\n\n", members.Room, counted(members.Count))
			_, _ = fmt.Fprintln(w, "PERSON\tUSER\tSTATUS\tHERE SINCE\tSESSIONS")
			for _, m := range members.Members {
				_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s (%s)\t%d\n", displayName(m.Name, m.User), m.User, m.Status,
					clock(m.Since.Time), ago(time.Since(m.Since.Time)), m.Sessions)
			}
			if len(expected.Missing) > 0 {
				_, _ = fmt.Fprintf(w, "\nMissing: %s\n", strings.Join(expected.Missing, ", "))
			}
		})
	})
}

func countCommand() *cli.Command {
	return roomCommand("count", "count who is in a room", func(ctx context.Context, c *cli.Command, a client.API, room string) error {
		count, err := a.Count(ctx, room)
		if err != nil {
			return err
		}
		return show(c, count, func(w io.Writer) {
			_, _ = fmt.Fprintf(w, "%s: %s\n", count.Room, counted(count.Count))
		})
	})
}

func displayName(name, user string) string {
	if name == "" {
		return user
	}
	return name
}

func counted(c wire.Count) string {
	people := "people"
	if c.People == 1 {
		people = "person"
	}
	return fmt.Sprintf("%d %s, %s", c.People, people, plural(c.Sessions, "session"))
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if stem, ok := strings.CutSuffix(noun, "y"); ok && noun != "day" {
		return fmt.Sprintf("%d %sies", n, stem)
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func clock(t time.Time) string { return t.Local().Format("15:04:05") }

// ago says how long ago something was, in the largest unit that fits.
func ago(d time.Duration) string {
	switch {
	case d < time.Second:
		return "just now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 24*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return plural(int(d.Hours()/24), "day") + " ago"
}
