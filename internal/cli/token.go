package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// visitorTime is how long the demo's link to take part is valid.
const visitorTime = 12 * time.Hour

func tokenCommand() *cli.Command {
	return &cli.Command{
		Name:  "token",
		Usage: "mint a token for a person",
		Description: "Prints a JWT (HS256) for a page or device. It is signed with --token-secret, or with the " +
			"secret that the service keeps in --data.\n\nExample: tovik token --user w-17 --name \"Merrin Withywind\" --room 'basin.*'",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "user", Usage: "the person's stable `ID`", Required: true},
			&cli.StringFlag{Name: "name", Usage: "the `NAME` that others see"},
			&cli.StringFlag{Name: "picture", Usage: "the `URL` of a picture"},
			&cli.StringSliceFlag{Name: "room", Usage: "a `PATTERN` of rooms to grant, repeatable"},
			&cli.StringSliceFlag{Name: "cue", Usage: "a `PATTERN` of rooms to give cues in, repeatable"},
			&cli.StringSliceFlag{Name: "people", Usage: "the `ID` of a person to watch, or the beginning of ids and *, repeatable"},
			&cli.StringSliceFlag{Name: "watch", Usage: "a `PATTERN` of rooms to watch without being in them, repeatable"},
			&cli.StringSliceFlag{Name: "moderate", Usage: "a `PATTERN` of rooms to remove people from, repeatable"},
			&cli.BoolFlag{Name: "near", Usage: "allow the person to watch people in the same rooms"},
			&cli.BoolFlag{Name: "see-hidden", Usage: "allow the person to see hidden people"},
			&cli.BoolFlag{Name: "no-input", Usage: "allow sessions without human input (devices)"},
			&cli.BoolFlag{Name: "hide", Usage: "allow the person to hide"},
			&cli.DurationFlag{Name: "ttl", Value: time.Hour, Usage: "how long the token is valid, as in 15m or 8h"},
			dataFlag(defaultData, ""), secretFlag(),
		},
		Action: mintToken,
	}
}

func mintToken(_ context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	token := client.Token{
		User: c.String("user"), Name: c.String("name"), Picture: c.String("picture"), TTL: c.Duration("ttl"),
		Grants: wire.Grants{
			Rooms: c.StringSlice("room"), Cue: c.StringSlice("cue"), People: c.StringSlice("people"), Hide: c.Bool("hide"),
			Watch: c.StringSlice("watch"), Moderate: c.StringSlice("moderate"), Near: c.Bool("near"), SeeHidden: c.Bool("see-hidden"), NoInput: c.Bool("no-input"),
		},
	}
	policy := presence.DefaultPolicy()
	if err := policy.CheckPerson(presence.UserID(token.User), presence.Profile{Name: token.Name, Picture: token.Picture}); err != nil {
		return usageOf(err)
	}
	for _, pattern := range slices.Concat(token.Rooms, token.Cue, token.Watch, token.Moderate) {
		if _, err := presence.ParsePattern(pattern); err != nil {
			return usageOf(err)
		}
	}
	if len(token.Rooms)+len(token.Watch) == 0 {
		return usage("the token would grant no room: name some with --room, as in --room 'basin.*'")
	}
	if ttl := c.Duration("ttl"); ttl <= 0 {
		return usage("--ttl is %s; allowed: a time above zero, as in 15m or 8h", ttl)
	}
	secret := c.String("token-secret")
	if secret == "" {
		var err error
		if secret, err = access.ReadTokenSecret(c.String("data")); err != nil {
			return noSecret(c.String("data"), err)
		}
	}
	text, err := token.Sign(secret)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(c.Root().Writer, text)
	return err
}

func usageOf(err error) error {
	var refusal *presence.Refusal
	if !errors.As(err, &refusal) {
		return err
	}
	return usage("--%s is %q; allowed: %s", refusal.Field, refusal.Value, refusal.Allowed)
}

func noSecret(data string, err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return &failure{exitFailed, fmt.Sprintf("there is no token secret in %q: say where the service keeps its data with --data, "+
			"or give the secret with --token-secret or TOVIK_TOKEN_SECRET", data)}
	}
	return err
}
