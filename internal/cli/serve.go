package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/admission"
	"tovik.example/tovik/internal/config"
	"tovik.example/tovik/internal/demo"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

const defaultData = "tovik-data"

func listenFlag() cli.Flag {
	return &cli.StringFlag{Name: "listen", Value: DefaultListen, Usage: "the `HOST:PORT` to listen at", Sources: cli.EnvVars("TOVIK_LISTEN")}
}

func operatorKeyFlag() cli.Flag {
	return &cli.StringFlag{Name: "operator-key", Usage: "the `KEY` that operators and back ends show; made up when empty", Sources: cli.EnvVars("TOVIK_OPERATOR_KEY")}
}

func secretFlag() cli.Flag {
	return &cli.StringFlag{Name: "token-secret", Usage: "the `SECRET` that signs people's tokens, 32 bytes or more; kept in the data directory when empty", Sources: cli.EnvVars("TOVIK_TOKEN_SECRET")}
}

func dataFlag(value, note string) cli.Flag {
	return &cli.StringFlag{Name: "data", Value: value, Usage: "the `DIR` that the service keeps its data in" + note, Sources: cli.EnvVars("TOVIK_DATA")}
}

func verboseFlag() cli.Flag {
	return &cli.BoolFlag{Name: "verbose", Usage: "log what happens to sessions too"}
}

func practiceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "practice", Usage: "offer the page /practice, and with it tokens for rooms of their own to everybody", Sources: cli.EnvVars("TOVIK_PRACTICE")}
}

// edgeFlags are about connections.
func edgeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "tls-cert", Usage: "the `FILE` of a certificate in PEM: the service speaks TLS then", Sources: cli.EnvVars("TOVIK_TLS_CERT")},
		&cli.StringFlag{Name: "tls-key", Usage: "the `FILE` of its key in PEM", Sources: cli.EnvVars("TOVIK_TLS_KEY")},
		&cli.IntFlag{Name: "max-connections", Usage: "how many connections `N` there may be at once; 0: as many as there are descriptors, less 200", Sources: cli.EnvVars("TOVIK_MAX_CONNECTIONS")},
		&cli.IntFlag{Name: "links-per-address", Usage: "how many links `N` one network address may have; 0: 4096", Sources: cli.EnvVars("TOVIK_LINKS_PER_ADDRESS")},
		&cli.IntFlag{Name: "links-per-person", Usage: "how many links `N` one person may have; 0: 128", Sources: cli.EnvVars("TOVIK_LINKS_PER_PERSON")},
		&cli.IntFlag{Name: "requests-per-second", Usage: "how often `N` one key may ask over HTTP; 0: 500", Sources: cli.EnvVars("TOVIK_REQUESTS_PER_SECOND")},
		&cli.BoolFlag{Name: "private-hooks", Usage: "let hooks be told at addresses of inner networks", Sources: cli.EnvVars("TOVIK_PRIVATE_HOOKS")},
		&cli.DurationFlag{Name: "slow-after", Usage: "after what `TIME` without progress a link that does not read is closed; 0: 10s", Sources: cli.EnvVars("TOVIK_SLOW_AFTER")},
	}
}

// checkEdge names a flag whose value cannot be.
func checkEdge(c *cli.Command) error {
	for _, name := range []string{"max-connections", "links-per-address", "links-per-person", "requests-per-second"} {
		if n := c.Int(name); n < 0 {
			return usage("--%s is %d; allowed: a whole number of 0 or more", name, n)
		}
	}
	if d := c.Duration("slow-after"); d < 0 {
		return usage("--slow-after is %s; allowed: a time such as 10s", d)
	}
	return nil
}

func logFlag() cli.Flag {
	return &cli.StringFlag{Name: "log", Value: logText, Usage: "how the log is written: text or json", Sources: cli.EnvVars("TOVIK_LOG"), Validator: func(s string) error {
		if s != logText && s != formatJSON {
			return fmt.Errorf("--log is %q; allowed: text, json", s)
		}
		return nil
	}}
}

const logText = "text"

func logger(c *cli.Command, to io.Writer, form string) *slog.Logger {
	options := &slog.HandlerOptions{}
	if c.Bool("verbose") {
		options.Level = slog.LevelDebug
	}
	if form == formatJSON {
		return slog.New(slog.NewJSONHandler(to, options))
	}
	return slog.New(slog.NewTextHandler(to, options))
}

func serveCommand() *cli.Command {
	return &cli.Command{
		Name:  "serve",
		Usage: "run the service",
		Description: "Listens until it is interrupted. The operator key and the token secret are made up at the first start " +
			"and kept in the data directory, readable by its owner only. SIGHUP has it take over its configuration as it is now.\n\nExample: tovik serve --listen 127.0.0.1:8420 --data tovik-data",
		Flags: append([]cli.Flag{listenFlag(), dataFlag(defaultData, ""), operatorKeyFlag(), secretFlag(), verboseFlag(), logFlag(), practiceFlag(), configFlag(), hideDocsFlag()}, edgeFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			s, secrets, err := start(c, stage{})
			if err != nil {
				return err
			}
			s.Ready()
			out := c.Root().Writer
			_, _ = fmt.Fprintf(out, "Tovik listens at %s; the console is there too.\n", s.URL())
			switch {
			case secrets.KeyFile != "":
				_, _ = fmt.Fprintf(out, "The operator key is in %s.\n", secrets.KeyFile)
			case !c.IsSet("operator-key"):
				_, _ = fmt.Fprintf(out, "The operator key is %s, and like all records it ends with the service.\n", secrets.OperatorKey)
			}
			return serveUntil(ctx, s)
		},
	}
}

func hideDocsFlag() cli.Flag {
	return &cli.BoolFlag{Name: "hide-docs", Usage: "serve no pages that explain errors and frames", Sources: cli.EnvVars("TOVIK_HIDE_DOCS")}
}

func configFlag() cli.Flag {
	return &cli.StringFlag{Name: "config", Usage: "the configuration, a `FILE` in TOML; tovik.toml if that is there", Sources: cli.EnvVars("TOVIK_CONFIG")}
}

// defaultConfig is read when it is there and no other file is named.
const defaultConfig = "tovik.toml"

// told reads the configuration file, if there is one.
func told(c *cli.Command, isDemo bool) (config.Service, string, error) {
	path := c.String("config")
	if path == "" && !isDemo {
		if _, err := os.Stat(defaultConfig); err == nil {
			path = defaultConfig
		}
	}
	environment := os.LookupEnv
	ownWorld := isDemo && path == ""
	if ownWorld { // which is the same wherever it is played
		environment = func(string) (string, bool) { return "", false }
	}
	said, err := config.ReadService(path, environment)
	if err != nil {
		return said, path, &failure{exitUsage, err.Error()}
	}
	if ownWorld {
		said.Policy = demo.Policy()
	}
	return said, path, nil
}

// configure takes over what the configuration file says of realms and records.
func configure(path string, told config.Service, c *server.Config) error {
	keep := told.Retention
	c.Retention = records.Retention{Journal: keep.Journal, JournalRows: keep.JournalRows, Minutes: keep.Minutes, Hours: keep.Hours, Deliveries: keep.Deliveries, Kinds: map[records.Kind]time.Duration{}}
	c.Retention.KindRows = map[records.Kind]int64{}
	for _, kind := range slices.Concat(sortedKeys(keep.Kinds), sortedKeys(keep.KindRows)) {
		if !slices.Contains(records.Kinds, records.Kind(kind)) {
			return &failure{exitUsage, fmt.Sprintf("%s: keep.journal_kinds or journal_kind_entries has %q; allowed: %v", path, kind, records.Kinds)}
		}
	}
	for kind, age := range keep.Kinds {
		c.Retention.Kinds[records.Kind(kind)] = age
	}
	for kind, n := range keep.KindRows {
		c.Retention.KindRows[records.Kind(kind)] = n
	}
	c.Proxies, c.Realms = told.TrustedProxies, map[string]server.RealmConfig{}
	for _, r := range told.Realms {
		realm := server.RealmConfig{Origins: r.Origins}
		for _, k := range r.Keys {
			key, err := access.NewTokenKey(access.TokenKey{ID: k.ID, Algorithm: k.Algorithm, Issuer: k.Issuer, Audience: k.Audience}, bytes.TrimRight(k.Material, "\n"))
			if err != nil {
				return &failure{exitUsage, fmt.Sprintf("%s: realm.key %q: %v", path, k.ID, err)}
			}
			realm.TokenKeys = append(realm.TokenKeys, *key)
		}
		for _, set := range r.KeySets {
			realm.KeySets = append(realm.KeySets, access.KeySet{URL: set.URL, Issuer: set.Issuer, Audience: set.Audience})
		}
		if a := r.Admission; a != nil {
			realm.Admission = &admission.Client{Rooms: a.Rooms, URL: a.URL, Secret: a.Secret, Wait: a.Wait}
		}
		c.Realms[r.Name] = realm
	}
	return nil
}

// stage is what a demo brings along.
type stage struct {
	demo bool
	data string
}

// said is a flag, or when that was not given what the file says.
func said[T comparable](c *cli.Command, flag string, given, file T) T {
	var nothing T
	if !c.IsSet(flag) && file != nothing {
		return file
	}
	return given
}

// start settles the secrets and starts a service as the flags and the file say.
func start(c *cli.Command, with stage) (*server.Server, access.Secrets, error) {
	if err := checkEdge(c); err != nil {
		return nil, access.Secrets{}, err
	}
	file, path, err := told(c, with.demo)
	if err != nil {
		return nil, access.Secrets{}, err
	}
	data := with.data
	if !with.demo {
		data = said(c, "data", c.String("data"), file.Data)
	}
	given := access.Secrets{Token: c.String("token-secret"), OperatorKey: c.String("operator-key")}
	secrets, err := access.Settle(data, given)
	if err != nil {
		return nil, secrets, &failure{exitFailed, fmt.Sprintf("%v; choose a directory that you may write with --data", err)}
	}
	settings, err := settle(c, with, file, path, data, secrets)
	if err != nil {
		return nil, secrets, err
	}
	settings.Reread = func() (server.Config, error) {
		file, path, err := told(c, with.demo)
		if err != nil {
			return server.Config{}, err
		}
		data := with.data
		if !with.demo {
			data = said(c, "data", c.String("data"), file.Data)
		}
		return settle(c, with, file, path, data, secrets)
	}
	s, err := server.Start(settings)
	return s, secrets, err
}

// defaultRequests is how often one key may ask in a second unless something else is said.
const defaultRequests = 500

// settle puts together what flags, environment and file say.
func settle(c *cli.Command, with stage, file config.Service, path, data string, secrets access.Secrets) (server.Config, error) {
	settings := server.Config{
		Listen: said(c, "listen", c.String("listen"), file.Listen), TokenSecret: secrets.Token, OperatorKey: secrets.OperatorKey, Policy: &file.Policy,
		Log: logger(c, c.Root().ErrWriter, said(c, "log", c.String("log"), file.Log)), Data: data,
		PrivateHooks: with.demo || said(c, "private-hooks", c.Bool("private-hooks"), file.PrivateHooks),
		Practice:     with.demo || said(c, "practice", c.Bool("practice"), file.Practice),
		HideDocs:     said(c, "hide-docs", c.Bool("hide-docs"), file.HideDocs),
		TLSCert:      said(c, "tls-cert", c.String("tls-cert"), file.TLSCert), TLSKey: said(c, "tls-key", c.String("tls-key"), file.TLSKey),
		MaxConnections: said(c, "max-connections", c.Int("max-connections"), file.MaxConnections),
		Limits: gateway.Limits{
			PerAddress: said(c, "links-per-address", c.Int("links-per-address"), file.LinksPerAddress),
			PerPerson:  said(c, "links-per-person", c.Int("links-per-person"), file.LinksPerPerson),
			SlowAfter:  said(c, "slow-after", c.Duration("slow-after"), file.SlowAfter),
		},
		RequestsPerSecond: said(c, "requests-per-second", c.Int("requests-per-second"), file.RequestsPerSecond),
	}
	if settings.RequestsPerSecond == 0 {
		settings.RequestsPerSecond = defaultRequests
	}
	return settings, configure(path, file, &settings)
}

// serveUntil waits for the end of ctx, or for the service to fail, and stops it. SIGHUP has
// it take over its configuration as it is now.
func serveUntil(ctx context.Context, s *server.Server) error {
	reload := make(chan os.Signal, 1) // one is enough: what is read is the newest
	signal.Notify(reload, syscall.SIGHUP)
	defer signal.Stop(reload)
	for {
		select {
		case err := <-s.Failed():
			return fmt.Errorf("the service can no longer accept connections: %w", err)
		case <-ctx.Done():
			return s.Stop()
		case <-reload:
			_, _ = s.Reload() // which logs what came of it
		}
	}
}

func demoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "run the service with the river watch of the Aldermoor in it",
		Description: "About thirty people keep six flood-watch rooms through a wet night, each over real links: they arrive, " +
			"reload, lose the network, fall asleep, open tabs, move on and go home.\n\nExample: tovik demo --listen 127.0.0.1:8421 --people 40",
		Flags: []cli.Flag{
			listenFlag(), operatorKeyFlag(), dataFlag("", "; a temporary one, deleted at the end, when empty"), verboseFlag(),
			&cli.IntFlag{Name: "people", Value: 30, Usage: "how many people, `N` from 1 to 5000"},
			&cli.Uint64Flag{Name: "seed", Value: 7, Usage: "the `NUMBER` that the script is made from"},
		},
		Action: runDemo,
	}
}

func runDemo(ctx context.Context, c *cli.Command) (err error) {
	if err := noArguments(c); err != nil {
		return err
	}
	people := c.Int("people")
	if people < 1 || people > 5000 {
		return usage("--people is %d; allowed: a whole number from 1 to 5000", people)
	}
	data := c.String("data")
	if data == "" {
		if data, err = os.MkdirTemp("", "tovik-demo-"); err != nil {
			return err
		}
		defer func() { _ = os.RemoveAll(data) }()
	}
	s, secrets, err := start(c, stage{demo: true, data: data})
	if err != nil {
		return err
	}
	banner, err := demoBanner(c, s.URL(), data, secrets)
	if err != nil {
		return err
	}
	played := make(chan struct{})
	go func() {
		defer close(played)
		demo.Play(ctx, demo.Options{
			Server: s.URL(), Secret: secrets.Token, Key: secrets.OperatorKey, People: people, Seed: c.Uint64("seed"), Log: logger(c, c.Root().ErrWriter, logText),
		}, func() {
			s.Ready()
			_, _ = fmt.Fprint(c.Root().Writer, banner)
		})
	}()
	err = serveUntil(ctx, s)
	if ctx.Err() != nil {
		<-played
	}
	return err
}

// demoBanner says where everything is, with a command to paste for each thing to
// try.
func demoBanner(c *cli.Command, url, data string, secrets access.Secrets) (string, error) {
	visitor, err := client.Token{
		User: "visitor", Name: "Visitor", Grants: wire.Grants{Rooms: []string{"**"}}, TTL: visitorTime,
	}.Sign(secrets.Token)
	if err != nil {
		return "", err
	}
	program := os.Args[0]
	if filepath.Base(program) == program {
		program = "tovik"
	}
	kept := ", deleted at the end"
	if c.String("data") != "" {
		kept = ", kept"
	}
	return fmt.Sprintf(`The river watch of the Aldermoor is on: %d people, %d rooms, seed %d.

  Console     %[4]s/#key=%[5]s
  Practise    %[4]s/practice
              (play several people: reload, pull the cable, close; see what the others see)
  Take part   %[4]s/visit#room=%[9]s&token=%[6]s
              (open it twice: one person with two sessions; close one; reload)

  In another terminal:
    export TOVIK_SERVER=%[4]s TOVIK_KEY=%[5]s
    %[7]s rooms
    %[7]s members %[9]s
    %[7]s count %[9]s
    %[7]s watch %[9]s
    %[7]s token --data %[8]s --user w-99 --name "Wren Alder" --room 'basin.*'
    curl -H "Authorization: Bearer %[5]s" %[4]s/v1/rooms

  The data is in %[8]s%[10]s. Ctrl-C ends the watch.
`, c.Int("people"), len(demo.Rooms), c.Uint64("seed"), url, secrets.OperatorKey, visitor, program, data, demo.Visiting, kept), nil
}
