package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/server"
)

func clusterCommand() *cli.Command {
	begin := &cli.Command{
		Name: "begin", Usage: "begin a cluster with the records of one node",
		Flags: []cli.Flag{dataOnly()[0], &cli.BoolFlag{Name: "again", Usage: "begin another log with records that were those of a cluster, because its log is lost; what is left of it in DIR is deleted"}},
		Description: "Do this once, on one node, while no service uses the records. They may be those of a service that was alone, or empty. " +
			"The other nodes start with empty data directories, and take a copy of the records from this one.\n\nExample: tovik cluster begin --data tovik-data",
		Action: func(_ context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			realms, err := server.BeginCluster(c.String("data"), c.Bool("again"))
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(c.Root().Writer, "A cluster begins with the records in %s: %s %s.\nStart this node and the others now; those with empty data directories take a copy.\n",
				c.String("data"), map[bool]string{true: "the realm", false: "the realms"}[len(realms) == 1], phrase.List(realms))
			return err
		},
	}
	return &cli.Command{Name: "cluster", Usage: "begin a cluster", Commands: []*cli.Command{begin}}
}
