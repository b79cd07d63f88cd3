package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

// presenceCommands show people and their sessions now.
func presenceCommands() []*cli.Command {
	explain := calling("explain", "explain the status of a person", "USER",
		"Shows the deciding rule, its evidence, and what happens next; with a room also why they are in it or not.\n\nExample: tovik explain e-01 --room basin.upper-weir",
		[]cli.Flag{&cli.StringFlag{Name: "room", Usage: "the `ROOM` that it is about"}},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			why, err := a.Explain(ctx, c.Args().First(), c.String("room"))
			if err != nil {
				return err
			}
			return show(c, why, func(w io.Writer) { explainTable(w, why) })
		})
	sessions := calling("sessions", "list who is connected, over what, and since when", "", "Example: tovik sessions --room basin.upper-weir",
		[]cli.Flag{
			&cli.StringFlag{Name: "room", Usage: "only those in this `ROOM`"}, &cli.StringFlag{Name: "after", Usage: "only of people whose id is after `USER`"},
			&cli.IntFlag{Name: "limit", Value: 100, Usage: "about `N` sessions"},
		},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			page, err := a.Sessions(ctx, c.String("room"), c.String("after"), c.Int("limit"))
			if err != nil {
				return err
			}
			return listing(c, page, page.Sessions, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "USER\tSTATE\tOVER\tSINCE\tLAST TOUCHED\tROOMS\tNEXT")
				for _, s := range page.Sessions {
					_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\t%s\n", s.User, sessionState(s), s.Over, clock(s.Opened.Time), ago(time.Since(s.LastActivity.Time)), roomsWord(s.Rooms), nextWord(s))
				}
				if page.Next != "" {
					_, _ = fmt.Fprintf(w, "\nThere are more: --after %s\n", page.Next)
				}
			})
		})
	status := calling("status", "show or set the status of a person", "USER", "Example: tovik status e-01 --set busy --note 'at the sluice' --for 30m",
		[]cli.Flag{
			&cli.StringFlag{Name: "set", Usage: "busy or away; none to follow their sessions again"}, &cli.StringFlag{Name: "note", Usage: "a `TEXT` to show with the status, or alone"},
			&cli.DurationFlag{Name: "for", Usage: "for this `TIME`; by default until it is changed"},
		},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			user := c.Args().First()
			if !c.IsSet("set") && !c.IsSet("note") {
				doc, err := a.Statuses(ctx, user)
				if err != nil {
					return err
				}
				return showStatus(c, doc.Statuses[0])
			}
			wanted := wire.StatusWanted{Status: c.String("set"), Note: c.String("note")}
			if wanted.Status == "none" {
				wanted.Status = ""
			} else if wanted.Status == "" && c.IsSet("set") {
				return usage("--set is empty; allowed: busy, away, none")
			}
			if d := c.Duration("for"); d > 0 {
				wanted.Until = &wire.Time{Time: time.Now().Add(d)}
			}
			doc, err := a.SetStatus(ctx, user, wanted)
			if err != nil {
				return err
			}
			return showStatus(c, doc)
		})
	policy := &cli.Command{
		Name: "policy", Usage: "show the policy of a room and its effect", ArgsUsage: "[ROOM]", Flags: clientFlags(),
		Description: "Without a room: the policies of the realm and of each pattern.\n\nExample: tovik policy basin.upper-weir",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return usage("%s wants one room at most; see %s --help", c.FullName(), c.FullName())
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			doc, err := a.Policies(ctx, c.Args().First())
			if err != nil {
				return err
			}
			return listing(c, doc, doc.Policies, func(w io.Writer) {
				for i, p := range doc.Policies {
					if i > 0 {
						_, _ = fmt.Fprintln(w)
					}
					_, _ = fmt.Fprintf(w, "%s\n  %s\n", policyTitle(p), strings.Join(p.Words, "\n  "))
				}
			})
		},
	}
	return []*cli.Command{explain, sessions, status, policy}
}

func cueCommand() *cli.Command {
	return calling("cue", "give a cue to a room, a person or a session", "NAME", "A cue is small and ephemeral: it goes to the links that are there now, is never stored and never tried again.\n\nExample: tovik cue drill --room basin.upper-weir --json '{\"sluice\":\"mill-lane\"}'",
		[]cli.Flag{&cli.StringFlag{Name: "room", Usage: "to everybody in this `ROOM`"}, &cli.StringFlag{Name: "user", Usage: "to all sessions of this `USER`"}, &cli.StringFlag{Name: "session", Usage: "to the session of this `ID`"},
			&cli.StringFlag{Name: "json", Usage: "the data: any `JSON`, at most 4 KB"}},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			cue := wire.NewCue{Name: c.Args().First()}
			if text := c.String("json"); text != "" {
				if !json.Valid([]byte(text)) {
					return usage("--json is %q; allowed: any JSON", text)
				}
				cue.Data = json.RawMessage(text)
			}
			var given wire.CueGiven
			var err error
			switch room, user, session := c.String("room"), c.String("user"), c.String("session"); {
			case room != "" && user == "" && session == "":
				given, err = a.CueRoom(ctx, room, cue)
			case user != "" && room == "" && session == "":
				given, err = a.CuePerson(ctx, user, cue)
			case session != "" && room == "" && user == "":
				given, err = a.CueSession(ctx, session, cue)
			default:
				return usage("%s wants one of --room, --user and --session", c.FullName())
			}
			if err != nil {
				return err
			}
			return show(c, given, func(w io.Writer) { _, _ = fmt.Fprintf(w, "It went to %s.\n", phrase.Count(given.Links, "link")) })
		})
}

func policyTitle(p wire.Policy) string {
	switch {
	case p.Room != "" && p.Pattern != "":
		return fmt.Sprintf("%s has the policy of %s, the most specific matching pattern:", p.Room, p.Pattern)
	case p.Room != "":
		return fmt.Sprintf("%s has the policy of the realm; no pattern matches:", p.Room)
	case p.Pattern != "":
		return "Rooms that match " + p.Pattern + ":"
	}
	return "The realm:"
}

func showStatus(c *cli.Command, s wire.StatusOfPerson) error {
	return show(c, s, func(w io.Writer) {
		text := s.User + " is " + s.Status
		if s.Note != "" {
			text += " (" + s.Note + ")"
		}
		if s.Until != nil {
			text += " until " + clock(s.Until.Time)
		}
		if s.LastSeen != nil {
			text += ", last seen " + day(s.LastSeen)
		}
		_, _ = fmt.Fprintln(w, text)
	})
}

func explainTable(w io.Writer, why wire.Explanation) {
	title := displayName(why.Name, why.User) + " (" + why.User + ") is " + why.Status
	if why.Note != "" {
		title += " (" + why.Note + ")"
	}
	if why.Open != "" {
		title += "; others see " + why.Open
	}
	_, _ = fmt.Fprintf(w, "%s\n\n", title)
	for _, sentence := range why.Words {
		_, _ = fmt.Fprintln(w, "  "+sentence)
	}
	_, _ = fmt.Fprint(w, "\nRULE\tMAKES\tHOLDS\t\n")
	for _, r := range why.Rules {
		holds, mark := "no", ""
		if r.Holds {
			holds = "yes"
		}
		if r.Decides {
			mark = "← decides"
		}
		_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", cmp.Or(wire.Rules[r.Rule], r.Rule), r.Status, holds, mark)
	}
}

func sessionState(s wire.Session) string {
	switch {
	case s.State == "grace":
		return "grace: " + s.Reason
	case s.Idle:
		return "idle"
	}
	return s.State
}

func roomsWord(rooms []string) string {
	if len(rooms) > 2 {
		return fmt.Sprintf("%s and %d more", rooms[0], len(rooms)-1)
	}
	return orDash(strings.Join(rooms, ", "))
}

func nextWord(s wire.Session) string {
	if len(s.Next) == 0 {
		return "-"
	}
	return fmt.Sprintf("%s in %s", wire.ActWords(s.Next[0].Act, s.Next[0].Room), phrase.Lasting(max(0, time.Until(s.Next[0].At.Time))))
}
