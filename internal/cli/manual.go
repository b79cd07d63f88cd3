package cli

import (
	"context"
	"fmt"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"
)

func manCommand() *cli.Command {
	return &cli.Command{
		Name: "man", Usage: "write the man page",
		Description: "In the format of man(7), on the standard output.\n\nExample: tovik man",
		Action: func(_ context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			page, err := docs.ToManWithSection(c.Root(), 1)
			if err != nil {
				return fmt.Errorf("write the man page: %w", err)
			}
			_, err = fmt.Fprint(c.Root().Writer, page)
			return err
		},
	}
}
