package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

// meetingCommands are about people who ask to be let in, passes and invitations.
func meetingCommands() []*cli.Command {
	list := calling("list", "list who asks to be let in", "", "Example: tovik ask list --room desk.handover",
		[]cli.Flag{&cli.StringFlag{Name: "room", Usage: "only those about this `ROOM`"}},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			doc, err := a.Asks(ctx, c.String("room"))
			if err != nil {
				return err
			}
			return listing(c, doc, doc.Asks, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "ASK\tWHO\tROOM\tASKED\tEXPIRES")
				for _, ask := range doc.Asks {
					_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\tin %s\n", ask.Ask, named(ask.Name, ask.User), ask.Room, ago(time.Since(ask.Since.Time)), phrase.Lasting(max(0, time.Until(ask.Until.Time))))
				}
			})
		})
	answer := func(name, what, done string, act func(client.API, context.Context, string) error) *cli.Command {
		return calling(name, what, "ASK", "The id of an ask is in tovik ask list.\n\nExample: tovik ask "+name+" ask-2c9e", nil,
			func(ctx context.Context, c *cli.Command, a client.API) error {
				if err := act(a, ctx, c.Args().First()); err != nil {
					return err
				}
				return say(c, "%s %s.", c.Args().First(), done)
			})
	}
	ask := &cli.Command{Name: "ask", Usage: "answer those who ask to be let in", Commands: []*cli.Command{
		list, answer("admit", "let somebody in who asks", "is answered: they are in", client.API.Admit),
		answer("refuse", "refuse somebody who asks", "is answered: they are refused", client.API.Refuse),
	}}
	invite := calling("invite", "invite somebody into a room on behalf of somebody else", "FROM TO ROOM",
		"The one who is invited accepts or declines at one of their pages. It is refused at once if they are offline, engaged or busy.\n\nExample: tovik invite e-01 w-17 call.upstream", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			i, err := a.Invite(ctx, wire.NewInvitation{From: c.Args().Get(0), To: c.Args().Get(1), Room: c.Args().Get(2)})
			if err != nil {
				return err
			}
			return show(c, i, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s is invited to %s by %s; the invitation expires in %s.\n", named(i.To.Name, i.To.User), i.Room, named(i.From.Name, i.From.User), phrase.Lasting(time.Until(i.Until.Time)))
			})
		})
	invitations := calling("invitations", "list the open invitations, or withdraw one", "", "Example: tovik invitations --user w-02",
		[]cli.Flag{&cli.StringFlag{Name: "user", Usage: "only those that this `USER` received or sent"}, &cli.StringFlag{Name: "withdraw", Usage: "withdraw the invitation of this `ID` instead"}},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			if id := c.String("withdraw"); id != "" {
				if err := a.WithdrawInvitation(ctx, id); err != nil {
					return err
				}
				return say(c, "%s is withdrawn.", id)
			}
			doc, err := a.Invitations(ctx, c.String("user"))
			if err != nil {
				return err
			}
			return listing(c, doc, doc.Invitations, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "INVITATION\tFROM\tTO\tROOM\tEXPIRES")
				for _, i := range doc.Invitations {
					_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\tin %s\n", i.Invitation, i.From.User, i.To.User, i.Room, phrase.Lasting(max(0, time.Until(i.Until.Time))))
				}
			})
		})
	return []*cli.Command{ask, invite, invitations, passCommand()}
}

func passCommand() *cli.Command {
	list := calling("list", "list the passes of a person", "USER", "Example: tovik pass list w-02", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			doc, err := a.Passes(ctx, c.Args().First())
			if err != nil {
				return err
			}
			return listing(c, doc, doc.Passes, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "ROOM\tUNTIL")
				for _, p := range doc.Passes {
					_, _ = fmt.Fprintf(w, "%s\t%s\n", p.Room, day(&p.Until))
				}
			})
		})
	grant := calling("grant", "let a person into a room without asking", "ROOM USER", "Example: tovik pass grant desk.handover w-17 --for 2h",
		[]cli.Flag{&cli.DurationFlag{Name: "for", Usage: "for this `TIME`; by default as long as the room's policy says"}},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			var wanted wire.PassWanted
			if d := c.Duration("for"); d > 0 {
				wanted.Until = &wire.Time{Time: time.Now().Add(d)}
			}
			pass, err := a.GrantPass(ctx, c.Args().Get(0), c.Args().Get(1), wanted)
			if err != nil {
				return err
			}
			return show(c, pass, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s lets %s in until %s.\n", pass.Room, c.Args().Get(1), day(&pass.Until))
			})
		})
	revoke := calling("revoke", "end a pass; a member stays in the room", "ROOM USER", "Example: tovik pass revoke desk.handover w-17", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			if err := a.RevokePass(ctx, c.Args().Get(0), c.Args().Get(1)); err != nil {
				return err
			}
			return say(c, "%s asks %s again.", c.Args().Get(0), c.Args().Get(1))
		})
	return &cli.Command{Name: "pass", Usage: "let people into rooms that ask", Commands: []*cli.Command{list, grant, revoke}}
}
