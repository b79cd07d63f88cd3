// Package local runs the nodes of a cluster as processes on this machine, behind a small load balancer. It can kill
// and pause them, and cut the connections between them.
package local

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Options are the settings of [Start]. All but Serve, Settings and LogNodes are required.
type Options struct {
	Program string   // the path of tovik
	Serve   []string // its arguments, before --config; nil: serve
	Dir     string   // of all nodes; each has its files in DIR/NAME
	Names   []string
	// LogNodes are the names of the nodes that keep the log; nil: all.
	LogNodes []string
	Listen   string // the address of the load balancer
	Secret   string // of tokens
	Key      string // of the operator
	Settings string // more lines of the configuration of each node
	Network  Network
}

// Network is where the nodes are, if not on loopback with cables between them.
type Network interface {
	// Addresses returns the addresses at which a node listens for clients and for other nodes.
	Addresses(name string) (clients, nodes string)
	// Settings are more lines of the section cluster of a node's configuration.
	Settings(name string) string
	// Command returns a command that runs a program where a node is.
	Command(name, program string, args ...string) *exec.Cmd
	// Cut cuts two nodes apart, or connects them again, and Unplug one from everybody. Nobody is told.
	Cut(one, other string, cut bool)
	Unplug(name string, cut bool)
}

// Nodes are running nodes. All methods are safe for concurrent use.
type Nodes struct {
	Options
	server *http.Server
	url    string
	stop   context.CancelFunc
	done   sync.WaitGroup

	mu     sync.Mutex
	nodes  map[string]*node
	cables map[[2]string]*Cable // from one node to another
}

// node is one of them.
type node struct {
	name    string
	file    string // its configuration
	url     string
	in      *Cable // from the load balancer
	process *exec.Cmd
	exited  chan struct{}
	paused  bool
	cut     bool
}

// State is what was done to a node last.
type State string

// States of a node.
const (
	Running State = "running"
	Paused  State = "paused"
	CutOff  State = "cut off"
	Stopped State = "stopped"
)

// Start makes the files of the nodes, begins the cluster with the records of the first one, and starts all. Extra, if
// not nil, answers requests to the load balancer for paths below /demo.
func Start(o Options, extra http.Handler) (*Nodes, error) {
	n := &Nodes{Options: o, nodes: map[string]*node{}, cables: map[[2]string]*Cable{}}
	if n.Serve == nil {
		n.Serve = []string{"serve"}
	}
	if n.LogNodes == nil {
		n.LogNodes = n.Names
	}
	ok := false
	defer func() {
		if !ok {
			n.Stop()
		}
	}()
	if err := n.lay(); err != nil {
		return nil, err
	}
	if out, err := exec.Command(o.Program, "cluster", "begin", "--data", n.Data(o.Names[0])).CombinedOutput(); err != nil && !strings.Contains(string(out), "already") {
		return nil, fmt.Errorf("the cluster does not begin: %s", out)
	}
	for _, name := range o.Names {
		if err := n.Run(name); err != nil {
			return nil, err
		}
	}
	if err := n.balance(extra); err != nil {
		return nil, err
	}
	ok = true
	return n, nil
}

// lay makes the cables and the configurations.
func (n *Nodes) lay() error {
	addresses, err := FreeAddresses(2 * len(n.Names))
	if err != nil {
		return err
	}
	routes, listens := map[string]string{}, map[string]string{}
	for i, name := range n.Names {
		routes[name], listens[name] = addresses[2*i], addresses[2*i+1]
		if n.Network != nil {
			listens[name], routes[name] = n.Network.Addresses(name)
		}
		in, err := NewCable(listens[name])
		if err != nil {
			return err
		}
		n.nodes[name] = &node{name: name, url: "http://" + listens[name], in: in, file: filepath.Join(n.Dir, name, "tovik.toml")}
	}
	for _, name := range n.Names {
		var peers []string
		more := ""
		if n.Network != nil {
			more = n.Network.Settings(name)
		}
		for _, other := range n.Names {
			if other == name {
				continue
			}
			if n.Network != nil {
				peers = append(peers, routes[other])
				continue
			}
			c, err := NewCable(routes[other])
			if err != nil {
				return err
			}
			n.cables[[2]string{name, other}] = c
			peers = append(peers, c.Address())
		}
		if err := os.MkdirAll(n.Data(name), 0o700); err != nil {
			return err
		}
		text := fmt.Sprintf("listen = %q\ndata = %q\ntrusted_proxies = [\"127.0.0.0/8\"]\n%s\n[cluster]\nname = \"aldermoor\"\nnode = %q\nlisten = %q\npeers = %s\nnodes = %s\nlog_nodes = %s\npassword = %q\n%s",
			listens[name], n.Data(name), n.Settings, name, routes[name], quoted(peers), quoted(n.Names), quoted(n.LogNodes), n.Key+n.Secret, more)
		if err := os.WriteFile(n.nodes[name].file, []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

func quoted(list []string) string {
	words := make([]string, len(list))
	for i, word := range list {
		words[i] = fmt.Sprintf("%q", word)
	}
	return "[" + strings.Join(words, ", ") + "]"
}

// balance starts the load balancer.
func (n *Nodes) balance(extra http.Handler) error {
	var backends []*backend
	for _, name := range n.Names {
		backends = append(backends, &backend{name: name, cable: n.nodes[name].in})
	}
	b := newBalancer(backends)
	mux := http.NewServeMux()
	mux.Handle("/", b.proxy)
	if extra != nil {
		mux.Handle("/demo/", extra)
		b.proxy.ModifyResponse = framed
	}
	listener, err := net.Listen("tcp", n.Listen)
	if err != nil {
		return err
	}
	n.url, n.server = "http://"+listener.Addr().String(), &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	ctx, stop := context.WithCancel(context.Background())
	n.stop = stop
	n.done.Go(func() { b.look(ctx) })
	n.done.Go(func() { _ = n.server.Serve(listener) })
	return nil
}

// Data returns the data directory of a node.
func (n *Nodes) Data(name string) string { return filepath.Join(n.Dir, name, "data") }

// URL returns the address of the load balancer.
func (n *Nodes) URL() string { return n.url }

// At returns the address of a node, at which it can be reached even if it is cut off, unless there is a Network.
func (n *Nodes) At(name string) string { return n.nodes[name].url }

// Run starts a node that does not run.
func (n *Nodes) Run(name string) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	is := n.nodes[name]
	if is.process != nil {
		return fmt.Errorf("%s runs already", name)
	}
	out, err := os.OpenFile(n.output(name), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = out.Close() }()
	command := func(_, program string, args ...string) *exec.Cmd { return exec.Command(program, args...) }
	if n.Network != nil {
		command = n.Network.Command
	}
	is.process = command(name, n.Program, append(slices.Clone(n.Serve), "--config", is.file)...)
	is.process.Stdout, is.process.Stderr = out, out
	own := func(variable string) bool { return strings.HasPrefix(variable, "TOVIK_") } // they are not meant for these nodes
	is.process.Env = append(slices.DeleteFunc(os.Environ(), own), "TOVIK_TOKEN_SECRET="+n.Secret, "TOVIK_OPERATOR_KEY="+n.Key)
	if err := is.process.Start(); err != nil {
		is.process = nil
		return err
	}
	exited, process := make(chan struct{}), is.process
	is.exited = exited
	n.done.Go(func() {
		_ = process.Wait()
		n.mu.Lock()
		is.process, is.paused = nil, false
		n.mu.Unlock()
		close(exited)
	})
	return nil
}

// with does something to the process of a node that runs.
func (n *Nodes) with(name string, do func(*node) error) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	is := n.nodes[name]
	if is == nil || is.process == nil {
		return fmt.Errorf("%s does not run", name)
	}
	return do(is)
}

// Kill kills a node at once, and returns when it is dead.
func (n *Nodes) Kill(name string) error { return n.end(name, (*os.Process).Kill) }

// Drain lets a node hand over what it owns and end, and returns when it has.
func (n *Nodes) Drain(name string) error { return n.end(name, terminate) }

func (n *Nodes) end(name string, how func(*os.Process) error) error {
	var exited chan struct{}
	err := n.with(name, func(is *node) error {
		exited = is.exited
		if is.paused {
			_ = goOn(is.process.Process)
		}
		return how(is.process.Process)
	})
	if err == nil {
		<-exited
	}
	return err
}

// Pause lets a node stand still until GoOn, as a machine that is suspended.
func (n *Nodes) Pause(name string) error {
	return n.with(name, func(is *node) error { is.paused = true; return pause(is.process.Process) })
}

// GoOn ends Pause.
func (n *Nodes) GoOn(name string) error {
	return n.with(name, func(is *node) error { is.paused = false; return goOn(is.process.Process) })
}

// Cut cuts the cables between two nodes, or mends them.
func (n *Nodes) Cut(one, other string, cut bool) {
	if n.Network != nil {
		n.Network.Cut(one, other, cut)
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	n.cables[[2]string{one, other}].Sever(cut)
	n.cables[[2]string{other, one}].Sever(cut)
}

// Unplug cuts a node off from all others and from the load balancer, or plugs it in again. Nobody is told.
func (n *Nodes) Unplug(name string, cut bool) {
	if n.Network != nil {
		n.Network.Unplug(name, cut)
	} else {
		for _, other := range n.Names {
			if other != name {
				n.Cut(name, other, cut)
			}
		}
		n.nodes[name].in.Sever(cut)
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	n.nodes[name].cut = cut
}

// State returns what was done to a node last.
func (n *Nodes) State(name string) State {
	n.mu.Lock()
	defer n.mu.Unlock()
	switch is := n.nodes[name]; {
	case is.process == nil:
		return Stopped
	case is.paused:
		return Paused
	case is.cut:
		return CutOff
	}
	return Running
}

// Processes returns the ids of the processes that run.
func (n *Nodes) Processes() (ids []int) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, is := range n.nodes {
		if is.process != nil {
			ids = append(ids, is.process.Process.Pid)
		}
	}
	return ids
}

// Await waits until all nodes that run are ready.
func (n *Nodes) Await(ctx context.Context) error {
	for _, name := range n.Names {
		for n.State(name) != Stopped && !answers(ctx, n.At(name)+"/readyz") {
			select {
			case <-ctx.Done():
				return fmt.Errorf("%s is not ready: %w", name, ctx.Err())
			case <-time.After(50 * time.Millisecond):
			}
		}
		if n.State(name) == Stopped {
			return fmt.Errorf("%s has ended; the end of %s: %s", name, n.output(name), n.lastLines(name))
		}
	}
	return nil
}

// output returns the path of the file with what a node has printed.
func (n *Nodes) output(name string) string { return filepath.Join(n.Dir, name, "output") }

// lastLines returns the end of what a node has printed.
func (n *Nodes) lastLines(name string) string {
	text, err := os.ReadFile(n.output(name))
	if err != nil {
		return err.Error()
	}
	return string(text[max(0, len(text)-2000):])
}

func answers(ctx context.Context, url string) bool {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return false
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return false
	}
	_ = response.Body.Close()
	return response.StatusCode == http.StatusOK
}

// stopIn limits how long Stop waits for a node.
const stopIn = 20 * time.Second

// Stop ends everything: first the nodes, all at once.
func (n *Nodes) Stop() {
	var ending sync.WaitGroup
	for _, name := range n.Names {
		if n.nodes[name] != nil {
			if n.State(name) == CutOff {
				n.Unplug(name, false)
			}
			ending.Go(func() {
				late := time.AfterFunc(stopIn, func() { _ = n.with(name, func(is *node) error { return is.process.Process.Kill() }) })
				defer late.Stop()
				_ = n.Drain(name)
			})
		}
	}
	ending.Wait()
	if n.stop != nil {
		n.stop()
		_ = n.server.Close()
	}
	n.done.Wait()
	for _, c := range n.cables {
		c.Close()
	}
	for _, is := range n.nodes {
		is.in.Close()
	}
}
