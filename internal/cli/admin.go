package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/wire"
)

// calling returns a command that calls a service, with a fixed number of arguments.
func calling(name, usageText, arguments, description string, flags []cli.Flag, act func(context.Context, *cli.Command, client.API) error) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usageText, ArgsUsage: arguments, Description: description, Flags: clientFlags(flags...),
		Action: func(ctx context.Context, c *cli.Command) error {
			if arguments == "" && c.Args().Present() {
				return noArguments(c)
			}
			if want := len(strings.Fields(arguments)); c.Args().Len() != want {
				return usage("%s wants %s; see %s --help", c.FullName(), arguments, c.FullName())
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			return act(ctx, c, a)
		},
	}
}

// say prints a line, unless the output is JSON.
func say(c *cli.Command, format string, args ...any) error {
	if c.String("format") == formatJSON {
		return nil
	}
	_, err := fmt.Fprintf(c.Root().Writer, format+"\n", args...)
	return err
}

func expiresFlag() cli.Flag {
	return &cli.DurationFlag{Name: "ttl", Usage: "the `TIME` after which it expires, as in 720h; by default it does not"}
}

func expires(c *cli.Command) (*time.Time, error) {
	switch ttl := c.Duration("ttl"); {
	case ttl < 0:
		return nil, usage("--ttl is %s; allowed: a time above zero, as in 720h", ttl)
	case ttl == 0:
		return nil, nil
	default:
		at := time.Now().Add(ttl).UTC().Truncate(time.Second)
		return &at, nil
	}
}

func reloadCommand() *cli.Command {
	return calling("reload", "reload the configuration of a service", "", "Whole or not at all, like SIGHUP. If a key that needs a restart has changed, the reload is refused and names it. Needs the service's own key.\n\nExample: tovik reload", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			done, err := a.Reload(ctx)
			if err != nil {
				return err
			}
			type change struct {
				What string `json:"changed"`
			}
			changes := make([]change, len(done.Changed))
			for i, what := range done.Changed {
				changes[i].What = what
			}
			return listing(c, done, changes, func(w io.Writer) {
				if len(done.Changed) == 0 {
					_, _ = fmt.Fprintln(w, "Nothing has changed.")
					return
				}
				_, _ = fmt.Fprintf(w, "Taken over: %s.\n", strings.Join(done.Changed, ", "))
			})
		})
}

func keyCommand() *cli.Command {
	create := calling("create", "make a key for a back end or an operator", "",
		"The key is shown once; the service keeps only its hash.\n\nExample: tovik key create --name flood-log --role read --room 'desk.**'",
		[]cli.Flag{
			&cli.StringFlag{Name: "role", Value: "read", Usage: "read, write (adds statuses, rooms, sign-out) or operate (adds removals and keys)"},
			&cli.StringFlag{Name: "name", Usage: "what it is for"},
			&cli.StringSliceFlag{Name: "room", Usage: "a `PATTERN` of rooms that the key covers, repeatable; all by default"},
			&cli.StringFlag{Name: "realm", Usage: "the `REALM` of the key; needs the service's own key"},
			expiresFlag(),
		},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			until, err := expires(c)
			if err != nil {
				return err
			}
			asked := wire.NewKey{Realm: c.String("realm"), Name: c.String("name"), Role: c.String("role"), Expires: until}
			if c.IsSet("room") {
				asked.Rooms = c.StringSlice("room")
			}
			made, err := a.AddKey(ctx, asked)
			if err != nil {
				return err
			}
			return show(c, made, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s\n\nThis key is not shown again. It has the role %s in the realm %s; revoke it with: tovik key revoke %s\n", made.Key, made.Role, made.Realm, made.ID)
			})
		})
	list := calling("list", "list the keys of the realm", "", "Example: tovik key list", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		keys, err := a.Keys(ctx)
		if err != nil {
			return err
		}
		return listing(c, keys, keys.Keys, func(w io.Writer) {
			_, _ = fmt.Fprintln(w, "KEY\tNAME\tROLE\tROOMS\tLAST USED\tSTATE")
			for _, k := range keys.Keys {
				_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\n", k.ID, orDash(k.Name), k.Role, orAll(k.Rooms), day(k.LastUsed), state(k.Expires, k.Revoked))
			}
		})
	})
	revoke := calling("revoke", "revoke a key", "ID", "Example: tovik key revoke key-abc", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		if err := a.RevokeKey(ctx, c.Args().First()); err != nil {
			return err
		}
		return say(c, "%s is revoked.", c.Args().First())
	})
	return &cli.Command{Name: "key", Usage: "keys of back ends and operators", Commands: []*cli.Command{create, list, revoke}}
}

func tokenKeyCommand() *cli.Command {
	add := calling("add", "add a key that verifies tokens", "ID FILE",
		"ID is the kid of the tokens. FILE has the secret for HS256, or a public key in PEM. For a rotation, add the new key, let the back end sign with it, "+
			"and revoke the old one when its tokens have expired.\n\nExample: tovik token-key add watch-house public.pem --algorithm EdDSA",
		[]cli.Flag{
			&cli.StringFlag{Name: "algorithm", Value: "EdDSA", Usage: "HS256, EdDSA, ES256 or RS256"},
			&cli.StringFlag{Name: "issuer", Usage: "the `ISS` that tokens must have"},
			&cli.StringFlag{Name: "audience", Usage: "the `AUD` that tokens must have"},
			expiresFlag(),
		},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			until, err := expires(c)
			if err != nil {
				return err
			}
			material, err := os.ReadFile(c.Args().Get(1))
			if err != nil {
				return &failure{exitUsage, fmt.Sprintf("the key cannot be read: %v", err)}
			}
			made, err := a.AddTokenKey(ctx, wire.NewTokenKey{ID: c.Args().First(), Algorithm: c.String("algorithm"), Key: strings.TrimRight(string(material), "\n"),
				Issuer: c.String("issuer"), Audience: c.String("audience"), Expires: until})
			if err != nil {
				return err
			}
			return show(c, made, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "The realm %s now accepts tokens with the kid %s (%s).\n", made.Realm, made.ID, made.Algorithm)
			})
		})
	list := calling("list", "list the keys that verify tokens", "", "Example: tovik token-key list", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		keys, err := a.TokenKeys(ctx)
		if err != nil {
			return err
		}
		return listing(c, keys, keys.Keys, func(w io.Writer) {
			_, _ = fmt.Fprintln(w, "KEY\tALGORITHM\tISSUER\tAUDIENCE\tCREATED\tSTATE")
			for _, k := range keys.Keys {
				_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\n", k.ID, k.Algorithm, orDash(k.Issuer), orDash(k.Audience), day(k.Created), tokenKeyState(k))
			}
		})
	})
	revoke := calling("revoke", "revoke a key that verifies tokens", "ID", "Links that were opened with such tokens are closed.\n\nExample: tovik token-key revoke watch-house", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			if err := a.RevokeTokenKey(ctx, c.Args().First()); err != nil {
				return err
			}
			return say(c, "The key %s is revoked; its tokens are refused.", c.Args().First())
		})
	return &cli.Command{Name: "token-key", Usage: "keys that verify people's tokens", Commands: []*cli.Command{add, list, revoke}}
}

func tokenKeyState(k wire.TokenKey) string {
	if k.Configured {
		return "in tovik.toml"
	}
	return state(k.Expires, k.Revoked)
}

func realmCommand() *cli.Command {
	add := calling("add", "make a realm", "NAME", "A realm has its own people, rooms and keys. Prints the first operator key, once.\n\nExample: tovik realm add training", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			made, err := a.AddRealm(ctx, c.Args().First())
			if err != nil {
				return err
			}
			return show(c, made, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s\n\nThis is the first key of the realm %s, with the role operate. It is not shown again.\n", made.FirstKey.Key, made.Name)
			})
		})
	list := calling("list", "list the realms", "", "Example: tovik realm list", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		realms, err := a.Realms(ctx)
		if err != nil {
			return err
		}
		return listing(c, realms, realms.Realms, func(w io.Writer) {
			_, _ = fmt.Fprintln(w, "REALM\tORIGINS")
			for _, r := range realms.Realms {
				origins := "any"
				if r.Origins != nil {
					origins = strings.Join(r.Origins, ", ")
				}
				_, _ = fmt.Fprintf(w, "%s\t%s\n", r.Name, origins)
			}
		})
	})
	remove := calling("remove", "remove a realm and its records", "NAME", "Example: tovik realm remove training", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		if err := a.RemoveRealm(ctx, c.Args().First()); err != nil {
			return err
		}
		return say(c, "The realm %s was removed.", c.Args().First())
	})
	return &cli.Command{Name: "realm", Usage: "realms: isolated worlds of people and rooms", Commands: []*cli.Command{add, list, remove}}
}

// moderationCommands remove people.
func moderationCommands() []*cli.Command {
	remove := calling("remove", "remove a person from a room or from the realm", "USER",
		"Ends their sessions, and refuses all tokens issued until now, also after a restart.\n\nExample: tovik remove w-17 --room basin.upper-weir",
		[]cli.Flag{&cli.StringFlag{Name: "room", Usage: "the `ROOM`; the realm by default"}},
		func(ctx context.Context, c *cli.Command, a client.API) error {
			done, err := a.Remove(ctx, c.Args().First(), c.String("room"))
			if err != nil {
				return err
			}
			return show(c, done, func(w io.Writer) {
				from := "altogether"
				if done.Room != "" {
					from = "from " + done.Room
				}
				_, _ = fmt.Fprintf(w, "%s is removed %s; tokens issued before %s are refused.\n", done.User, from, done.At.Local().Format(time.DateTime))
			})
		})
	signOut := calling("sign-out", "end all sessions of a person", "USER", "They can return with their token. To keep them out: tovik remove USER.\n\nExample: tovik sign-out w-17", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			if err := a.SignOut(ctx, c.Args().First()); err != nil {
				return err
			}
			return say(c, "All sessions of %s have ended.", c.Args().First())
		})
	end := calling("end", "end one session", "SESSION", "tovik sessions --format json has the ids.\n\nExample: tovik end session-abc", nil, func(ctx context.Context, c *cli.Command, a client.API) error {
		if err := a.EndSession(ctx, c.Args().First()); err != nil {
			return err
		}
		return say(c, "%s has ended.", c.Args().First())
	})
	erase := calling("erase", "delete everything about a person", "USER", "Prints a receipt of what was deleted. A person with a valid token can return as a new person.\n\nExample: tovik erase w-17", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			receipt, err := a.Erase(ctx, c.Args().First())
			if err != nil {
				return err
			}
			return show(c, receipt, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "Erased of %s at %s:\n", receipt.User, receipt.At.Local().Format(time.DateTime))
				for _, kind := range sortedKeys(receipt.Erased) {
					_, _ = fmt.Fprintf(w, "  %s\t%d\n", strings.ReplaceAll(kind, "_", " "), receipt.Erased[kind])
				}
				if until := receipt.LogUntil; until != nil {
					_, _ = fmt.Fprintf(w, "The log of the cluster has what was written about them until %s.\n", until.Local().Format(time.DateTime))
				}
			})
		})
	return []*cli.Command{remove, signOut, end, erase}
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func orDash(text string) string {
	if text == "" {
		return "-"
	}
	return text
}

func orAll(rooms []string) string {
	if rooms == nil {
		return "all"
	}
	return strings.Join(rooms, ", ")
}

func day(at *wire.Time) string {
	if at == nil {
		return "never"
	}
	return at.Local().Format(time.DateTime)
}

// state says whether a key is valid.
func state(expires, revoked *wire.Time) string {
	switch {
	case revoked != nil:
		return "revoked " + day(revoked)
	case expires == nil:
		return "in force"
	case expires.Before(time.Now()):
		return "expired " + day(expires)
	}
	return "until " + day(expires)
}
