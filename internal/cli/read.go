package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

// clientFlags are the flags of every command that calls a service.
func clientFlags(more ...cli.Flag) []cli.Flag {
	return append(append(more, serviceFlags()...), formatFlag())
}

// serviceFlags select the service.
func serviceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "server", Value: "http://" + DefaultListen, Usage: "the `URL` of the service", Sources: cli.EnvVars("TOVIK_SERVER")},
		&cli.StringFlag{Name: "key", Usage: "the operator `KEY`", Sources: cli.EnvVars("TOVIK_KEY")},
		&cli.StringFlag{Name: "at", Usage: "the service stored under this `NAME`; see tovik place", Sources: cli.EnvVars("TOVIK_AT")},
	}
}

func api(c *cli.Command) (client.API, error) {
	server, key, err := whichService(c)
	if err != nil {
		return client.API{}, err
	}
	server = strings.TrimRight(server, "/")
	if !strings.HasPrefix(server, "http://") && !strings.HasPrefix(server, "https://") {
		return client.API{}, usage("--server is %q; allowed: http://HOST:PORT or https://HOST", server)
	}
	return client.API{Server: server, Key: key}, nil
}

func roomsCommand() *cli.Command {
	return &cli.Command{
		Name:        "rooms",
		Usage:       "list the rooms that somebody is in",
		Description: "Declared rooms are listed even if they are empty.\n\nExample: tovik rooms --match 'basin.*' --sort people",
		Flags: clientFlags(
			&cli.StringFlag{Name: "match", Value: "**", Usage: "only rooms that match the `PATTERN`, as in 'basin.*'"},
			&cli.StringFlag{Name: "sort", Value: "name", Usage: "the order: name, people or sessions, the largest first"},
			&cli.IntFlag{Name: "limit", Usage: "at most `N` rooms; all by default"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			rooms, err := allRooms(ctx, a, client.RoomsQuery{Match: c.String("match"), Sort: c.String("sort"), Limit: c.Int("limit")})
			if err != nil {
				return err
			}
			return listing(c, rooms, rooms.Rooms, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "ROOM\tPEOPLE\tONLINE\tAWAY\tBUSY\tSESSIONS")
				for _, r := range rooms.Rooms {
					_, _ = fmt.Fprintf(w, "%s\t%d\t%d\t%d\t%d\t%d\n", r.Room, r.People, r.Online.People, r.Away.People, r.Busy.People, r.Sessions)
				}
				if len(rooms.Rooms) == 0 {
					_, _ = fmt.Fprintln(w, "Nobody is in a room that matches.")
				}
			})
		},
	}
}

// allRooms lists rooms page by page, up to the limit of the query, if any.
func allRooms(ctx context.Context, a client.API, ask client.RoomsQuery) (wire.Rooms, error) {
	most := ask.Limit
	all := wire.Rooms{Rooms: []wire.Room{}}
	for {
		if ask.Limit = 1000; most > 0 {
			ask.Limit = min(1000, most-len(all.Rooms))
		}
		page, err := a.RoomsPage(ctx, ask)
		if err != nil {
			return all, err
		}
		all.Rooms, all.Total = append(all.Rooms, page.Rooms...), page.Total
		if ask.After = page.Next; page.Next == "" || len(all.Rooms) == most {
			return all, nil
		}
	}
}

// roomCommand returns a command about one room.
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
	members := roomCommand("members", "list who is in a room", func(ctx context.Context, c *cli.Command, a client.API, room string) error {
		members, err := a.Members(ctx, room, c.String("status"))
		if err != nil {
			return err
		}
		expected, err := a.Expected(ctx, room)
		if err != nil {
			return err
		}
		return listing(c, members, members.Members, func(w io.Writer) {
			_, _ = fmt.Fprintf(w, "%s: %s\n\n", members.Room, counted(members.Count))
			does := slices.ContainsFunc(members.Members, func(m wire.Member) bool { return m.Doing != nil })
			head := "PERSON\tUSER\tSTATUS\tHERE SINCE\tSESSIONS"
			if does {
				head += "\tDOING"
			}
			_, _ = fmt.Fprintln(w, head)
			for _, m := range members.Members {
				line := fmt.Sprintf("%s\t%s\t%s\t%s (%s)\t%d", displayName(m.Name, m.User), m.User, statusWord(m), clock(m.Since.Time), ago(time.Since(m.Since.Time)), m.Sessions)
				if does {
					line += "\t" + orDash(string(m.Doing))
				}
				_, _ = fmt.Fprintln(w, line)
			}
			if len(expected.Missing) > 0 {
				_, _ = fmt.Fprintf(w, "\nMissing: %s\n", strings.Join(expected.Missing, ", "))
			}
		})
	})
	members.Description = "Example: tovik members basin.upper-weir --status online"
	members.Flags = append(members.Flags, &cli.StringFlag{Name: "status", Usage: "only members with this status: online, away, busy"})
	return members
}

func countCommand() *cli.Command {
	return &cli.Command{
		Name: "count", Usage: "count who is in rooms", ArgsUsage: "ROOM...", Flags: clientFlags(),
		Description: "Counts up to 1000 rooms at once. A room that does not exist counts as empty.\n\nExample: tovik count basin.upper-weir sluice.mill-lane",
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return usage("%s wants rooms, as in: %s basin.upper-weir", c.FullName(), c.FullName())
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			if c.Args().Len() == 1 { // a single room that does not exist is an error
				count, err := a.Count(ctx, c.Args().First())
				if err != nil {
					return err
				}
				return show(c, count, func(w io.Writer) { _, _ = fmt.Fprintf(w, "%s: %s\n", count.Room, counted(count.Count)) })
			}
			doc, err := a.Counts(ctx, c.Args().Slice()...)
			if err != nil {
				return err
			}
			return listing(c, doc, doc.Counts, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "ROOM\tPEOPLE\tSESSIONS")
				for _, r := range doc.Counts {
					_, _ = fmt.Fprintf(w, "%s\t%d\t%d\n", r.Room, r.People, r.Sessions)
				}
			})
		},
	}
}

func displayName(name, user string) string {
	if name == "" {
		return user
	}
	return name
}

func counted(c wire.Count) string {
	return phrase.Count(c.People, "person") + ", " + phrase.Count(c.Sessions, "session")
}

func clock(t time.Time) string { return t.Local().Format("15:04:05") }

// ago formats how long ago a time was, in its largest unit.
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
	return phrase.Count(int(d.Hours()/24), "day") + " ago"
}
