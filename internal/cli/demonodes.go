package cli

import (
	"bufio"
	"context"
	"crypto/rand"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/cluster/local"
	"tovik.example/tovik/internal/config"
	"tovik.example/tovik/internal/demo"
	"tovik.example/tovik/internal/rehearsal"
)

// demoNodes are the nodes of the demo.
var demoNodes = []string{"dipper", "heron", "kestrel"}

// pastIn returns where the past of a demo is written.
func pastIn(c *cli.Command, data string) string {
	if c.Int("nodes") == 1 {
		return data
	}
	return filepath.Join(data, demoNodes[0], "data")
}

// demoNodeCommand is how the demo starts its nodes.
func demoNodeCommand() *cli.Command {
	return &cli.Command{
		Name: "demo-node", Hidden: true, Flags: []cli.Flag{configFlag(), operatorKeyFlag(), secretFlag(), verboseFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			s, _, err := start(ctx, c, stage{demo: true})
			if err != nil {
				return err
			}
			s.Ready()
			return serveUntil(ctx, s)
		},
	}
}

// nodesTogether limits how long the nodes of the demo may need to start.
const nodesTogether = time.Minute

// runNodes is the demo on several nodes.
func runNodes(ctx context.Context, c *cli.Command, data string, open []rehearsal.Tab) error {
	secrets, err := access.Settle(data, access.Secrets{OperatorKey: c.String("operator-key")})
	if err != nil {
		return err
	}
	settings, err := config.Read("", given(c, func(config.Key) (text, where string) { return "", "" }))
	if err != nil {
		return &failure{exitUsage, err.Error()}
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	stage := &nodesPage{key: secrets.OperatorKey, token: rand.Text()}
	nodes, err := local.Start(local.Options{Program: program, Serve: []string{"demo-node"}, Dir: data, Names: demoNodes, Listen: settings.Listen, Secret: secrets.Token, Key: secrets.OperatorKey}, stage.handler())
	if err != nil {
		return err
	}
	stage.nodes = nodes
	stage.ready.Store(true)
	defer nodes.Stop()
	out := c.Root().Writer
	_, _ = fmt.Fprintln(out, "Three nodes are starting.")
	starting, cancel := context.WithTimeout(ctx, nodesTogether)
	err = nodes.Await(starting)
	cancel()
	if err != nil {
		return err
	}
	banner, err := demoBanner(c, nodes.URL(), data, secrets)
	if err != nil {
		return err
	}
	played := make(chan struct{})
	go func() {
		defer close(played)
		demo.Play(ctx, demo.Options{
			Server: nodes.URL(), Secret: secrets.Token, Key: secrets.OperatorKey, People: c.Int("people"), Seed: c.Uint64("seed"), Open: open, Log: logger(c, c.Root().ErrWriter, logText),
		}, func() {
			_, _ = fmt.Fprint(out, banner)
			_, _ = fmt.Fprintf(out, "\n  The nodes   %s/demo/#%s\n              (kill, pause and cut them off; watch nobody leave)\n  Or here: kill, pause, go, cut, mend, drain or run, and a node (%s), then Enter.\n", nodes.URL(), stage.token, strings.Join(demoNodes, ", "))
		})
	}()
	if term.IsTerminal(int(os.Stdin.Fd())) {
		go stage.listen(ctx, os.Stdin, out)
	}
	<-ctx.Done()
	<-played
	return nil
}

// nodesPage is the page of the demo on which one does things to nodes.
type nodesPage struct {
	nodes *local.Nodes
	ready atomic.Bool // nodes is set
	key   string      // of an operator
	token string      // that the page must show
}

// acts are what can be done to a node.
var acts = []string{"kill", "pause", "go", "cut", "mend", "drain", "run"}

// act does something to a node.
func (p *nodesPage) act(what, name string) error {
	if !slices.Contains(demoNodes, name) {
		return fmt.Errorf("there is no node %q; there are %s", name, strings.Join(demoNodes, ", "))
	}
	switch what {
	case "kill":
		return p.nodes.Kill(name)
	case "pause":
		return p.nodes.Pause(name)
	case "go":
		return p.nodes.GoOn(name)
	case "cut":
		p.nodes.Unplug(name, true)
	case "mend":
		p.nodes.Unplug(name, false)
	case "drain":
		go func() { _ = p.nodes.Drain(name) }() // it takes some seconds
	case "run":
		return p.nodes.Run(name)
	default:
		return fmt.Errorf("nothing is called %q; there are %s", what, strings.Join(acts, ", "))
	}
	return nil
}

// listen takes lines from a terminal: what to do, and a node.
func (p *nodesPage) listen(ctx context.Context, in io.Reader, out io.Writer) {
	lines := bufio.NewScanner(in)
	for lines.Scan() && ctx.Err() == nil {
		words := strings.Fields(lines.Text())
		if len(words) == 0 {
			continue
		}
		err := errors.New("say what to do, and to which node, as in: kill heron")
		if len(words) == 2 {
			err = p.act(words[0], words[1])
		}
		if err != nil {
			_, _ = fmt.Fprintf(out, "%v\n", err)
			continue
		}
		_, _ = fmt.Fprintf(out, "%s: %s\n", words[1], p.nodes.State(words[1]))
	}
}

//go:embed demonodes.html
var nodesFiles embed.FS

// handler serves the page, what it shows, and what it does.
func (p *nodesPage) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /demo/{$}", func(w http.ResponseWriter, _ *http.Request) {
		text, _ := nodesFiles.ReadFile("demonodes.html") // it is there
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'self' 'unsafe-inline'")
		_, _ = w.Write(text)
	})
	answer := func(w http.ResponseWriter, doc any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(doc)
	}
	mux.HandleFunc("GET /demo/nodes", p.guarded(func(w http.ResponseWriter, _ *http.Request) {
		type shown struct {
			Node  string      `json:"node"`
			State local.State `json:"state"`
		}
		list := make([]shown, len(demoNodes))
		for i, name := range demoNodes {
			list[i] = shown{name, p.nodes.State(name)}
		}
		answer(w, map[string]any{"nodes": list, "key": p.key})
	}))
	mux.HandleFunc("POST /demo/nodes/{node}/{act}", p.guarded(func(w http.ResponseWriter, r *http.Request) {
		if err := p.act(r.PathValue("act"), r.PathValue("node")); err != nil {
			w.WriteHeader(http.StatusConflict)
			answer(w, map[string]string{"error": err.Error()})
			return
		}
		answer(w, map[string]any{"state": p.nodes.State(r.PathValue("node"))})
	}))
	return mux
}

// guarded takes requests of the page alone.
func (p *nodesPage) guarded(do http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !p.ready.Load() || r.Header.Get("Authorization") != "Bearer "+p.token {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		do(w, r)
	}
}
