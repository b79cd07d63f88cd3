package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"

	"github.com/pelletier/go-toml/v2"
	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
)

// services are those that the command line knows by a name, in a file that only its owner
// may read, for it has their keys.
type services struct {
	Current string    `toml:"current"`
	All     []service `toml:"context"`

	path string
}

type service struct {
	Name   string `toml:"name" json:"name"`
	Server string `toml:"server" json:"server"`
	Key    string `toml:"key" json:"-"`
}

var contextName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

func readServices() (services, error) {
	var s services
	dir := os.Getenv("TOVIK_CONFIG_DIR")
	if dir == "" {
		base, err := os.UserConfigDir()
		if err != nil {
			return s, nil // nobody's: there is no home
		}
		dir = filepath.Join(base, "tovik")
	}
	s.path = filepath.Join(dir, "contexts.toml")
	text, err := os.ReadFile(s.path)
	if errors.Is(err, os.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = toml.Unmarshal(text, &s)
	}
	if err != nil {
		return s, &failure{exitFailed, fmt.Sprintf("the contexts in %s cannot be read: %v", s.path, err)}
	}
	return s, nil
}

func (s *services) write() error {
	text, err := toml.Marshal(s)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(s.path), 0o700)
	}
	if err == nil { // beside, and then in its place, lest half of it is left
		err = os.WriteFile(s.path+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(s.path+".new", s.path)
	}
	if err != nil {
		return &failure{exitFailed, fmt.Sprintf("the contexts cannot be written: %v", err)}
	}
	return nil
}

func (s *services) find(name string) (service, error) {
	if i := slices.IndexFunc(s.All, func(one service) bool { return one.Name == name }); i >= 0 {
		return s.All[i], nil
	}
	return service{}, usage("there is no context %q; tovik context list shows those that there are", name)
}

// whichService is where a command goes: the context that is named with --context; else what
// --server and --key or the environment say; else the context in use.
func whichService(c *cli.Command) (server, key string, err error) {
	server, key = c.String("server"), c.String("key")
	named := c.String("context")
	if named == "" && c.IsSet("server") {
		return server, key, nil
	}
	known, err := readServices()
	if err != nil {
		return "", "", err
	}
	if named == "" {
		named = known.Current
	}
	if named == "" {
		return server, key, nil
	}
	one, err := known.find(named)
	if c.IsSet("key") && !c.IsSet("context") {
		one.Key = key
	}
	return one.Server, one.Key, err
}

func contextCommand() *cli.Command {
	add := &cli.Command{
		Name: "add", Usage: "remember a service by a name, and use it", ArgsUsage: "NAME", OnUsageError: usageError,
		Description: "Looks whether the key is good first. Commands go there from then on, unless --server or --context says something else.\n\nExample: tovik context add aldermoor",
		Flags:       []cli.Flag{serviceFlags()[0], serviceFlags()[1]},
		Action: func(ctx context.Context, c *cli.Command) error {
			name := c.Args().First()
			if c.Args().Len() != 1 || !contextName.MatchString(name) {
				return usage("%s wants one name of letters, digits, dots and dashes, as in: %s aldermoor", c.FullName(), c.FullName())
			}
			one := service{Name: name, Server: c.String("server"), Key: c.String("key")}
			if _, err := (client.API{Server: one.Server, Key: one.Key}).RoomsPage(ctx, client.RoomsQuery{Limit: 1}); err != nil {
				return err
			}
			known, err := readServices()
			if err != nil {
				return err
			}
			known.All = append(slices.DeleteFunc(known.All, func(other service) bool { return other.Name == name }), one)
			known.Current = name
			if err := known.write(); err != nil {
				return err
			}
			_, err = fmt.Fprintf(c.Root().Writer, "Commands go to %s at %s from now on.\n", one.Name, one.Server)
			return err
		},
	}
	list := &cli.Command{
		Name: "list", Usage: "list the services that are known by a name", OnUsageError: usageError, Flags: []cli.Flag{formatFlag()}, Description: "Example: tovik context list",
		Action: func(_ context.Context, c *cli.Command) error {
			known, err := readServices()
			if err != nil {
				return err
			}
			return listing(c, known.All, known.All, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "CONTEXT\tSERVER\tIN USE")
				for _, one := range known.All {
					inUse := ""
					if one.Name == known.Current {
						inUse = "yes"
					}
					_, _ = fmt.Fprintf(w, "%s\t%s\t%s\n", one.Name, one.Server, inUse)
				}
			})
		},
	}
	change := func(name, usageText, example string, apply func(*services, service)) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usageText, ArgsUsage: "NAME", OnUsageError: usageError, Description: example,
			Action: func(_ context.Context, c *cli.Command) error {
				known, err := readServices()
				if err != nil {
					return err
				}
				one, err := known.find(c.Args().First())
				if err != nil {
					return err
				}
				apply(&known, one)
				return known.write()
			},
		}
	}
	use := change("use", "let commands go to a service from now on", "Example: tovik context use aldermoor", func(s *services, one service) { s.Current = one.Name })
	remove := change("remove", "forget a service, and its key", "Example: tovik context remove aldermoor", func(s *services, one service) {
		s.All = slices.DeleteFunc(s.All, func(other service) bool { return other == one })
		if s.Current == one.Name {
			s.Current = ""
		}
	})
	return &cli.Command{Name: "context", Usage: "services that are known by a name, with their keys", Commands: []*cli.Command{add, list, use, remove}}
}
