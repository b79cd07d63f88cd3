package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/internal/config"
)

func configCommand() *cli.Command {
	begin := &cli.Command{
		Name: "init", Usage: "write a configuration with every key as a comment", ArgsUsage: "[FILE]",
		Description: "FILE is tovik.toml by default, and - is the standard output. An existing file is not changed.\n\nExample: tovik config init",
		Action: func(_ context.Context, c *cli.Command) error {
			name := c.Args().First()
			switch {
			case c.Args().Len() > 1:
				return usage("%s wants one file at most; see %s --help", c.FullName(), c.FullName())
			case name == "-":
				_, err := fmt.Fprint(c.Root().Writer, config.Example())
				return err
			case name == "":
				name = defaultConfig
			}
			file, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if errors.Is(err, os.ErrExist) {
				return &failure{exitFailed, fmt.Sprintf("%s is there already; look at every key with: tovik config init -", name)}
			}
			if err != nil {
				return &failure{exitFailed, fmt.Sprintf("the configuration cannot be written: %v", err)}
			}
			_, err = file.WriteString(config.Example())
			if err := errors.Join(err, file.Close()); err != nil {
				return err
			}
			_, err = fmt.Fprintf(c.Root().Writer, "%s has every key with its default. Take the # away from what is to be different.\n", name)
			return err
		},
	}
	check := &cli.Command{
		Name: "check", Usage: "check a configuration", ArgsUsage: "[FILE]",
		Description: "Reports the line, the key and what is allowed for the first mistake, and exits with 2.\n\nExample: tovik config check tovik.toml",
		Action: func(_ context.Context, c *cli.Command) error {
			name := c.Args().First()
			switch {
			case c.Args().Len() > 1:
				return usage("%s wants one file at most; see %s --help", c.FullName(), c.FullName())
			case name == "":
				name = defaultConfig
			}
			s, err := config.Read(name, config.FromEnvironment(os.LookupEnv))
			if err == nil {
				_, err = configure(name, s)
			}
			if err != nil {
				return &failure{exitUsage, err.Error()}
			}
			_, err = fmt.Fprintf(c.Root().Writer, "%s is right.\n", name)
			return err
		},
	}
	return &cli.Command{Name: "config", Usage: "the configuration file", Commands: []*cli.Command{begin, check}}
}
