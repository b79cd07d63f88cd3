package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

func watchCommand() *cli.Command {
	c := roomCommand("watch", "follow a room live, a line for each change", watch)
	c.Description = "Prints who is there and then who comes and goes, until it is interrupted. ROOM may be a pattern, as in 'basin.*'. " +
		"With --format json or ndjson each line is one JSON object.\n\nExample: tovik watch 'basin.*'"
	return c
}

func watch(ctx context.Context, c *cli.Command, a client.API, pattern string) error {
	if c.String("format") == formatCSV {
		return usage("%s prints table, json or ndjson; csv is for output that ends", c.FullName())
	}
	print := printEvent
	if format := c.String("format"); format == formatJSON || format == formatNDJSON {
		print = printEventJSON
	}
	if a.Key == "" {
		return &wire.Problem{Code: wire.CodeNoKey}
	}
	follower := client.Follow(client.Options{Server: a.Server, Key: a.Key, Watch: []wire.Watch{{Room: pattern, Detail: wire.DetailMembers}}})
	found := false
	for change, err := range follower.Changes(ctx) {
		switch change := change.(type) {
		case nil:
			return err
		case client.Event:
			print(c.Root().Writer, change)
		case client.Linked:
			found = true
		case client.Lost:
			if !found { // more likely a wrong address than a restart
				return change.Err
			}
			_, _ = fmt.Fprintf(c.Root().ErrWriter, "The link was lost: %v. It is being made again.\n", change.Err)
		}
	}
	return nil
}

func printEvent(w io.Writer, e client.Event) {
	at := time.Now()
	if !e.At.IsZero() {
		at = e.At
	}
	line := func(verb, who, note string) {
		_, _ = fmt.Fprintf(w, "%s  %-18s  %-6s  %-28s  %s%s\n", clock(at), e.Room, verb, who, counted(e.Count), note)
	}
	if e.Whole && len(e.Joined) == 0 {
		line("empty", "nobody is here yet", "")
	}
	joined := "joined"
	if e.Whole {
		joined = "here"
	}
	for _, m := range e.Joined {
		line(joined, named(m.Name, m.User), "")
	}
	for _, m := range e.Changed {
		line("now", named(m.Name, m.User), "; "+m.Status+" with "+phrase.Count(m.Sessions, "session"))
	}
	for _, d := range e.Left {
		line("left", named(d.Was.Name, d.User), why(d.Departed))
	}
}

func named(name, user string) string {
	if name == "" {
		return user
	}
	return name + " (" + user + ")"
}

func why(d wire.Departed) string {
	if d.Reason == "" {
		return ""
	}
	text := cmp.Or(wire.Reasons[d.Reason].Short, d.Reason)
	return "; " + text + ", seen " + clock(d.LastSeen.Time)
}

// line is an event in the JSON output of watch.
type line struct {
	Room    string          `json:"room"`
	Rev     string          `json:"rev"`
	At      *wire.Time      `json:"at,omitempty"`
	Whole   bool            `json:"whole"`
	Joined  []wire.Member   `json:"joined,omitempty"`
	Changed []wire.Member   `json:"changed,omitempty"`
	Left    []wire.Departed `json:"left,omitempty"`
	Count   wire.Count      `json:"count"`
}

func printEventJSON(w io.Writer, e client.Event) {
	l := line{Room: e.Room, Rev: e.Rev, Whole: e.Whole, Joined: e.Joined, Changed: e.Changed, Count: e.Count}
	for _, d := range e.Left {
		l.Left = append(l.Left, d.Departed)
	}
	if !e.At.IsZero() {
		l.At = &wire.Time{Time: e.At}
	}
	text, err := json.Marshal(l)
	if err != nil {
		panic("cli: events are plain data: " + err.Error())
	}
	_, _ = fmt.Fprintf(w, "%s\n", text)
}
