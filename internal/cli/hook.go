package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/wire"
)

func hookFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "url", Usage: "the `URL` to send events to"},
		&cli.StringSliceFlag{Name: "kind", Usage: "a `KIND` of events, repeatable: " + strings.Join(hooks.Kinds, ", ")},
		&cli.StringSliceFlag{Name: "room", Usage: "only events of rooms that match the `PATTERN`, repeatable"},
		&cli.StringFlag{Name: "view", Usage: "full, or open (without hidden people); full by default"},
		&cli.IntFlag{Name: "above", Usage: "for headcount.above: when there are more than `N` people"},
		&cli.IntFlag{Name: "below", Usage: "for headcount.below: when there are fewer than `N` people"},
		&cli.StringFlag{Name: "name", Usage: "what it is for"},
		&cli.BoolFlag{Name: "paused", Usage: "pause: keep events and send them later"},
	}
}

// asked applies the flags to a hook, and leaves the rest as it is.
func asked(c *cli.Command, h wire.NewHook) wire.NewHook {
	text := func(name string, into *string) {
		if c.IsSet(name) {
			*into = c.String(name)
		}
	}
	list := func(name string, into *[]string) {
		if c.IsSet(name) {
			*into = c.StringSlice(name)
		}
	}
	text("url", &h.URL)
	text("view", &h.View)
	text("name", &h.Name)
	list("kind", &h.Kinds)
	list("room", &h.Rooms)
	for name, into := range map[string]**int{"above": &h.Above, "below": &h.Below} {
		if c.IsSet(name) {
			n := c.Int(name)
			*into = &n
		}
	}
	if c.IsSet("paused") {
		h.Paused = c.Bool("paused")
	}
	return h
}

func hookCommand() *cli.Command {
	add := calling("add", "add a hook", "", "Prints the secret that signs its requests, once.\n\nExample: tovik hook add --url https://app.example/presence --kind room.empty --room 'desk.**'",
		hookFlags(), func(ctx context.Context, c *cli.Command, a client.API) error {
			h, err := a.AddHook(ctx, asked(c, wire.NewHook{}))
			if err != nil {
				return err
			}
			return show(c, h, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s\n\nThis is the secret of the hook %s. It is not shown again. Try it: tovik hook test %s\n", h.Secret, h.ID, h.ID)
			})
		})
	list := calling("list", "list the hooks", "", "Example: tovik hook list", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		all, err := a.Hooks(ctx)
		if err != nil {
			return err
		}
		return listing(c, all, all.Hooks, func(w io.Writer) {
			_, _ = fmt.Fprintln(w, "HOOK\tNAME\tTOLD\tROOMS\tWAITING\tPARKED\tSTATE")
			for _, h := range all.Hooks {
				state := "on"
				if h.Paused {
					state = "paused"
				}
				_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%d\t%d\t%s\n", h.ID, orDash(h.Name), strings.Join(h.Kinds, ", "), orAll(h.Rooms), h.Deliveries["waiting"], h.Deliveries["parked"], state)
			}
		})
	})
	change := calling("change", "change a hook", "ID", "Only the given flags change; the secret stays.\n\nExample: tovik hook change hook-abc --paused=false", hookFlags(),
		func(ctx context.Context, c *cli.Command, a client.API) error {
			was, err := a.Hook(ctx, c.Args().First())
			if err != nil {
				return err
			}
			h, err := a.ChangeHook(ctx, was.ID, asked(c, wire.NewHook{Name: was.Name, URL: was.URL, Kinds: was.Kinds, Rooms: was.Rooms, View: was.View, Above: was.Above, Below: was.Below, Paused: was.Paused}))
			if err != nil {
				return err
			}
			return show(c, h, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s is told %s at %s.\n", h.ID, strings.Join(h.Kinds, ", "), h.URL)
			})
		})
	rotate := calling("rotate", "change the secret of a hook", "ID", "For a day its requests are signed with both.\n\nExample: tovik hook rotate hook-abc", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		h, err := a.RotateSecret(ctx, c.Args().First())
		if err != nil {
			return err
		}
		return show(c, h, func(w io.Writer) {
			_, _ = fmt.Fprintf(w, "%s\n\nThis is the new secret of the hook %s. It is not shown again. The old one signs too until %s.\n", h.Secret, h.ID, day(h.OldSecretUntil))
		})
	})
	remove := calling("remove", "remove a hook", "ID", "Waiting deliveries are dropped.\n\nExample: tovik hook remove hook-abc", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		if err := a.RemoveHook(ctx, c.Args().First()); err != nil {
			return err
		}
		return say(c, "%s was removed.", c.Args().First())
	})
	test := calling("test", "send a test event to a hook", "ID", "Example: tovik hook test hook-abc", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		d, err := a.TestHook(ctx, c.Args().First())
		if err != nil {
			return err
		}
		if err := show(c, d, func(w io.Writer) { _, _ = fmt.Fprintln(w, tried(d)) }); err != nil {
			return err
		}
		if d.State != "delivered" {
			return &failure{exitFailed, "the hook was not delivered"}
		}
		return nil
	})
	return &cli.Command{Name: "hook", Usage: "hooks: addresses that events are sent to", Commands: []*cli.Command{
		add, list, change, rotate, remove, test, deliveriesCommand(), redeliverCommand(), hookReceiveCommand(),
	}}
}

func tried(d wire.Delivery) string {
	switch {
	case d.Error != "":
		return "failed: " + d.Error
	case d.Answered == 0:
		return "not tried yet"
	case d.State == "delivered":
		return fmt.Sprintf("answered %d after %d ms", d.Answered, d.Took)
	}
	return fmt.Sprintf("refused: answered %d after %d ms", d.Answered, d.Took)
}

func deliveriesCommand() *cli.Command {
	return calling("deliveries", "list the deliveries of a hook", "ID", "Example: tovik hook deliveries hook-abc --state parked",
		[]cli.Flag{
			&cli.StringFlag{Name: "state", Usage: "only deliveries in this state: waiting, delivered, parked"},
			&cli.Int64Flag{Name: "before", Usage: "only deliveries before the one with this `ID`"},
			&cli.IntFlag{Name: "limit", Value: 30, Usage: "at most `N`"},
		},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			page, err := a.Deliveries(ctx, c.Args().First(), c.String("state"), c.Int64("before"), c.Int("limit"))
			if err != nil {
				return err
			}
			return listing(c, page, page.Deliveries, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "DELIVERY\tCREATED\tKIND\tSTATE\tATTEMPTS\tLAST")
				for _, d := range page.Deliveries {
					_, _ = fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%d\t%s\n", d.ID, d.Created.Local().Format("01-02 15:04:05"), d.Kind, d.State, d.Attempts, tried(d))
				}
			})
		})
}

func redeliverCommand() *cli.Command {
	return calling("redeliver", "deliver an event again", "DELIVERY", "tovik hook deliveries has the ids.\n\nExample: tovik hook redeliver 12", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		id, err := strconv.ParseInt(c.Args().First(), 10, 64)
		if err != nil {
			return usage("%s wants the number of a delivery; see tovik hook deliveries", c.FullName())
		}
		d, err := a.Redeliver(ctx, id)
		if err != nil {
			return err
		}
		return show(c, d, func(w io.Writer) { _, _ = fmt.Fprintf(w, "%d is delivered again.\n", d.ID) })
	})
}

// hookReceiveCommand is a small receiver for development.
func hookReceiveCommand() *cli.Command {
	return &cli.Command{
		Name: "receive", Usage: "receive events, check their signatures, and print them",
		Description: "A receiver for development. The service must allow addresses of private networks: tovik serve --private-hooks.\n\nExample: tovik hook receive --listen 127.0.0.1:8500 --secret whsec_...",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8500", Usage: "the `HOST:PORT` to listen at"},
			&cli.StringFlag{Name: "secret", Required: true, Usage: "the `SECRET` of the hook", Sources: cli.EnvVars("TOVIK_HOOK_SECRET")},
			&cli.IntFlag{Name: "answer", Value: http.StatusNoContent, Usage: "the HTTP `STATUS` to answer with, to try out failures"},
			&cli.BoolFlag{Name: "verbose", Usage: "print the whole event"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			secret, err := hooks.ParseSecret(c.String("secret"))
			if err != nil {
				return usage("--secret: %v", err)
			}
			if status := c.Int("answer"); status < 200 || status > 599 {
				return usage("--answer is %d; allowed: 200 to 599", status)
			}
			listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", c.String("listen"))
			if err != nil {
				return fmt.Errorf("cannot listen at %q: %w", c.String("listen"), err)
			}
			out := &lines{to: c.Root().Writer}
			out.print(fmt.Sprintf("Waiting for events at http://%s/", listener.Addr()))
			server := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: receiver(secret, c.Int("answer"), c.Bool("verbose"), out)}
			go func() {
				<-ctx.Done()
				_ = server.Close()
			}()
			if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		},
	}
}

// lines prints whole lines from concurrent requests.
type lines struct {
	mu sync.Mutex
	to io.Writer
}

func (l *lines) print(line string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	_, _ = fmt.Fprintln(l.to, line)
}

func receiver(secret []byte, status int, verbose bool, out *lines) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
		if err != nil {
			return
		}
		if err := hooks.Verify(r.Header, time.Now(), body, secret); err != nil {
			out.print("refused: " + err.Error())
			http.Error(w, err.Error(), http.StatusUnauthorized)
			return
		}
		var event wire.Event
		if err := json.Unmarshal(body, &event); err != nil {
			out.print("refused: this is no event: " + err.Error())
			http.Error(w, "this is no event", http.StatusBadRequest)
			return
		}
		line := fmt.Sprintf("%s  %-16s %s", event.Time.Local().Format("15:04:05.000"), strings.TrimPrefix(event.Type, "tovik."), eventWords(event))
		if verbose {
			var pretty bytes.Buffer
			if json.Indent(&pretty, body, "", "  ") == nil {
				line += "\n" + pretty.String()
			}
		}
		out.print(line)
		w.WriteHeader(status)
	})
}

// eventWords describes an event.
func eventWords(e wire.Event) string {
	var words []string
	add := func(text string) {
		if text != "" {
			words = append(words, text)
		}
	}
	add(e.Data.Room)
	add(displayName(e.Data.Name, e.Data.User))
	add(e.Data.Status)
	add(e.Data.Reason)
	if e.Data.People != nil {
		people := wire.Count{People: *e.Data.People}
		add(strings.Split(counted(people), ",")[0])
	}
	return strings.Join(words, " · ")
}
