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

// places are the services that the command line knows by name. Their file contains keys, so only
// its owner can read it.
type places struct {
	Chosen string  `toml:"chosen"`
	All    []place `toml:"place"`

	path string
}

type place struct {
	Name   string `toml:"name" json:"name"`
	Server string `toml:"server" json:"server"`
	Key    string `toml:"key" json:"-"`
}

var placeName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

func readPlaces() (places, error) {
	var s places
	dir := os.Getenv("TOVIK_CONFIG_DIR")
	if dir == "" {
		base, err := os.UserConfigDir()
		if err != nil {
			return s, nil // no home directory, so no places
		}
		dir = filepath.Join(base, "tovik")
	}
	s.path = filepath.Join(dir, "places.toml")
	text, err := os.ReadFile(s.path)
	if errors.Is(err, os.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = toml.Unmarshal(text, &s)
	}
	if err != nil {
		return s, &failure{exitFailed, fmt.Sprintf("the places in %s cannot be read: %v", s.path, err)}
	}
	return s, nil
}

func (s *places) write() error {
	text, err := toml.Marshal(s)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(s.path), 0o700)
	}
	if err == nil { // write a temporary file and rename it, so that the file is never incomplete
		err = os.WriteFile(s.path+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(s.path+".new", s.path)
	}
	if err != nil {
		return &failure{exitFailed, fmt.Sprintf("the places cannot be written: %v", err)}
	}
	return nil
}

func (s *places) find(name string) (place, error) {
	if i := slices.IndexFunc(s.All, func(one place) bool { return one.Name == name }); i >= 0 {
		return s.All[i], nil
	}
	return place{}, usage("there is no place %q; tovik place list shows all", name)
}

// whichService returns the service of a command: the place named with --at, otherwise --server
// and --key or their environment variables, otherwise the chosen place.
func whichService(c *cli.Command) (server, key string, err error) {
	server, key = c.String("server"), c.String("key")
	named := c.String("at")
	if named == "" && c.IsSet("server") {
		return server, key, nil
	}
	known, err := readPlaces()
	if err != nil {
		return "", "", err
	}
	if named == "" {
		named = known.Chosen
	}
	if named == "" {
		return server, key, nil
	}
	one, err := known.find(named)
	if c.IsSet("key") && !c.IsSet("at") {
		one.Key = key
	}
	return one.Server, one.Key, err
}

func placeCommand() *cli.Command {
	add := &cli.Command{
		Name: "add", Usage: "store a service under a name, and choose it", ArgsUsage: "NAME",
		Description: "Checks the key first. Commands then go there, unless --server or --at says otherwise.\n\nExample: tovik place add aldermoor",
		Flags:       []cli.Flag{serviceFlags()[0], serviceFlags()[1]},
		Action: func(ctx context.Context, c *cli.Command) error {
			name := c.Args().First()
			if c.Args().Len() != 1 || !placeName.MatchString(name) {
				return usage("%s wants one name of letters, digits, dots and dashes, as in: %s aldermoor", c.FullName(), c.FullName())
			}
			one := place{Name: name, Server: c.String("server"), Key: c.String("key")}
			if _, err := (client.API{Server: one.Server, Key: one.Key}).RoomsPage(ctx, client.RoomsQuery{Limit: 1}); err != nil {
				return err
			}
			known, err := readPlaces()
			if err != nil {
				return err
			}
			known.All = append(slices.DeleteFunc(known.All, func(other place) bool { return other.Name == name }), one)
			known.Chosen = name
			if err := known.write(); err != nil {
				return err
			}
			_, err = fmt.Fprintf(c.Root().Writer, "Commands now go to %s at %s.\n", one.Name, one.Server)
			return err
		},
	}
	list := &cli.Command{
		Name: "list", Usage: "list the stored services", Flags: []cli.Flag{formatFlag()}, Description: "Example: tovik place list",
		Action: func(_ context.Context, c *cli.Command) error {
			known, err := readPlaces()
			if err != nil {
				return err
			}
			return listing(c, known.All, known.All, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "PLACE\tSERVER\tCHOSEN")
				for _, one := range known.All {
					chosen := ""
					if one.Name == known.Chosen {
						chosen = "yes"
					}
					_, _ = fmt.Fprintf(w, "%s\t%s\t%s\n", one.Name, one.Server, chosen)
				}
			})
		},
	}
	change := func(name, usageText, example string, apply func(*places, place)) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usageText, ArgsUsage: "NAME", Description: example,
			Action: func(_ context.Context, c *cli.Command) error {
				known, err := readPlaces()
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
	choose := change("choose", "send commands to a stored service", "Example: tovik place choose aldermoor", func(s *places, one place) { s.Chosen = one.Name })
	forget := change("forget", "delete a stored service and its key", "Example: tovik place forget aldermoor", func(s *places, one place) {
		s.All = slices.DeleteFunc(s.All, func(other place) bool { return other == one })
		if s.Chosen == one.Name {
			s.Chosen = ""
		}
	})
	return &cli.Command{Name: "place", Usage: "services stored by name, with their keys", Commands: []*cli.Command{add, list, choose, forget}}
}
