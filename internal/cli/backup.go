package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/records"
)

func dataOnly() []cli.Flag {
	return []cli.Flag{&cli.StringFlag{Name: "data", Value: defaultData, Usage: "the `DIR` of the records", Sources: cli.EnvVars("TOVIK_DATA")}}
}

// recordsCommands work on the file of the records.
func recordsCommands() []*cli.Command {
	backup := calling("backup", "write a copy of the records of a running service", "FILE",
		"The copy is consistent. It contains the hashes of keys and the secrets of hooks and of HS256: protect it like the data directory. Needs the service's own key.\n\nExample: tovik backup night.db",
		nil, func(ctx context.Context, c *cli.Command, a client.API) error {
			return writeBackup(ctx, c, a, c.Args().First())
		})
	restore := &cli.Command{
		Name: "restore", Usage: "replace the records of a stopped service by a backup", ArgsUsage: "FILE", Flags: dataOnly(),
		Description: "The old file is moved aside. A backup does not contain the secrets in operator.key and token.secret.\n\nExample: tovik restore night.db --data tovik-data",
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return usage("%s wants one backup, as in: %s night.db", c.FullName(), c.FullName())
			}
			aside, err := records.Restore(c.Args().First(), c.String("data"))
			if err != nil {
				return err
			}
			out := c.Root().Writer
			if aside != "" {
				_, _ = fmt.Fprintf(out, "What was there is in %s now.\n", aside)
			}
			_, err = fmt.Fprintf(out, "%s has the records of %s.\n", c.String("data"), c.Args().First())
			return err
		},
	}
	check := &cli.Command{
		Name: "check", Usage: "check the records for damage and contradictions",
		Flags:       append(dataOnly(), &cli.StringFlag{Name: "compare", Usage: "check instead that the records in `OTHER`, the data directory of another node of the cluster, are the same"}, formatFlag()),
		Description: "Changes nothing; a service may be running. Exits with 1 if something is wrong.\n\nExample: tovik check --data tovik-data",
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			look := func() ([]records.Finding, error) { return records.Check(ctx, c.String("data")) }
			if c.IsSet("compare") {
				look = func() ([]records.Finding, error) { return records.Compare(ctx, c.String("data"), c.String("compare")) }
			}
			findings, err := look()
			if err != nil {
				return err
			}
			wrong := 0
			for _, f := range findings {
				if f.Wrong {
					wrong++
				}
			}
			if err := listing(c, findings, findings, func(w io.Writer) {
				for _, f := range findings {
					verdict, value := "", f.Detail
					if value == "" {
						value = fmt.Sprint(f.Number)
					}
					if f.Wrong {
						verdict = "WRONG"
					}
					_, _ = fmt.Fprintf(w, "%s\t%s\t%s\n", f.What, value, verdict)
				}
			}); err != nil {
				return err
			}
			if wrong > 0 {
				return &failure{exitFailed, fmt.Sprintf("%s found: put a backup in its place with tovik restore, or ask us", phrase.Count(wrong, "fault"))}
			}
			return nil
		},
	}
	return []*cli.Command{backup, restore, check}
}

// writeBackup writes a temporary file and renames it, so that an incomplete backup never looks
// complete.
func writeBackup(ctx context.Context, c *cli.Command, a client.API, name string) error {
	body, err := a.Backup(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = body.Close() }()
	part := name + ".part"
	file, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return &failure{exitUsage, fmt.Sprintf("the backup cannot be written: %v", err)}
	}
	n, err := io.Copy(file, body)
	err = errors.Join(err, file.Sync(), file.Close())
	if err == nil {
		err = records.CheckFile(part)
	}
	if err == nil {
		err = os.Rename(part, name)
	}
	if err != nil {
		_ = os.Remove(part)
		return fmt.Errorf("the backup is not whole, and was dropped: %w", err)
	}
	return say(c, "%s has the records, %.1f MB.", name, float64(n)/1e6)
}
