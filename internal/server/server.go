// Package server puts the parts of Tovik together, starts them, drains them and
// stops them.
package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"slices"
	"sync"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/admission"
	"tovik.example/tovik/internal/config"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/transport"
)

// How long a stop waits for links and for requests; together they stay well
// below five seconds.
const (
	drainTimeout    = 2 * time.Second
	shutdownTimeout = 2 * time.Second
)

// memoryRows limits the journal when it is kept in memory.
const memoryRows = 200_000

// Config is the configuration of a service. Listen, TokenSecret and OperatorKey are required.
type Config struct {
	// Settings are what the configuration was made from. A reload compares them.
	Settings    config.Settings
	Listen      string // address, as in 127.0.0.1:8420; port 0 picks a free one
	TokenSecret string
	OperatorKey string
	Policy      *presence.Policy // nil stands for the default
	Log         *slog.Logger     // nil stands for none
	Version     string           // of the program, for operators
	// Data is the directory of the records. If it is empty or [records.Memory], they end with
	// the service.
	Data      string
	Retention records.Retention
	// PrivateHooks lets hooks send to addresses of private networks.
	PrivateHooks bool
	HookRetries  []time.Duration // pauses before each further attempt; nil: a day's
	// TLSCert and TLSKey are files of a certificate and its key in PEM; empty: no TLS.
	TLSCert, TLSKey string
	MaxConnections  int // 0: as many as there are descriptors, less a reserve
	Limits          gateway.Limits
	// Realms are settings by realm. Realms that are not on record are made.
	Realms   map[string]RealmConfig
	Proxies  httpapi.Proxies // that are trusted to say whom they speak for
	HideDocs bool            // serves no pages that explain errors and frames
	Practice bool            // whoever reaches the service may have tokens for rooms to practise in
	// RequestsPerSecond limits the HTTP requests with one key, with bursts of five times as
	// many; 0: no limit.
	RequestsPerSecond int
	// Cluster makes the service a node of a cluster; nil: it is alone.
	Cluster *Cluster
	// Reread reads the configuration again for [Server.Reload]; nil: it cannot be reloaded.
	Reread func() (Config, error)
}

// RealmConfig is the configuration of a realm.
type RealmConfig struct {
	Origins   []string          // of pages that may be clients; nil: any
	TokenKeys []access.TokenKey // besides those on record, each made by [access.NewTokenKey]
	KeySets   []access.KeySet   // that its identity services publish
	Admission *admission.Client // nil: grants alone decide
	Policy    *presence.Policy  // nil: that of the service
}

// policy returns the policy of a realm.
func (c *Config) policy(realm string) *presence.Policy {
	if own := c.Realms[realm].Policy; own != nil {
		return own
	}
	return c.Policy
}

func (c *Config) asksOthers() bool {
	for _, realm := range c.Realms {
		if realm.Admission != nil || len(realm.KeySets) > 0 {
			return true
		}
	}
	return false
}

// addPractice adds the policies of practice rooms, which are in the main realm, if the service
// offers them.
func (c *Config) addPractice() {
	if !c.Practice {
		return
	}
	policy := *c.policy(access.Main)
	policy.Rooms = append(slices.Clone(policy.Rooms), httpapi.PracticePolicies(&policy)...)
	main := c.Realms[access.Main]
	main.Policy = &policy
	c.Realms = maps.Clone(c.Realms)
	if c.Realms == nil {
		c.Realms = map[string]RealmConfig{}
	}
	c.Realms[access.Main] = main
}

// boundMemory limits a journal in memory.
func (c *Config) boundMemory() {
	if rows := c.Retention.JournalRows; c.Data == records.Memory && (rows == 0 || rows > memoryRows) {
		c.Retention.JournalRows = memoryRows
	}
}

// Server is a running service.
type Server struct {
	config  Config
	scheme  string
	store   *records.Store
	writer  *records.Writer
	world   *world
	written context.CancelFunc // ends the writer, after all that it records has come to rest
	writing sync.WaitGroup
	gateway *gateway.Gateway
	api     *httpapi.API
	app     *fiber.App
	listen  net.Listener
	stop    context.CancelFunc
	running sync.WaitGroup // what stop ends
	unasked *unasked
	served  chan struct{} // closed when the listener has ended
	failed  chan error    // holds two: of the listener, and of the node
	drained chan struct{} // holds one
}

// Start returns once the service listens. /readyz answers only after Ready.
func Start(c Config) (*Server, error) { return StartContext(context.Background(), c) }

// StartContext is Start for a node of a cluster, which waits for the other nodes until ctx is done.
func StartContext(ctx context.Context, c Config) (*Server, error) {
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	if c.Policy == nil {
		policy := presence.DefaultPolicy()
		c.Policy = &policy
	}
	c.addPractice()
	secure := &certificate{cert: c.TLSCert, key: c.TLSKey}
	if err := secure.read(); err != nil {
		return nil, err
	}
	var n *node
	open := func() (*records.Store, error) { return records.Open(c.Data) }
	if c.Cluster != nil {
		var err error
		if n, err = joinCluster(ctx, &c); err != nil {
			return nil, err
		}
		if err := n.fillRecords(ctx, c.Data); err != nil {
			n.leave()
			return nil, err
		}
		open = func() (*records.Store, error) { return records.OpenThrough(c.Data, n.change) }
	}
	store, err := open()
	if err == nil {
		var s *Server
		if s, err = start(ctx, c, store, secure, n); err == nil {
			return s, nil
		}
	}
	if n != nil {
		n.end()
	}
	if store != nil {
		_ = store.Close()
	}
	return nil, err
}

// start makes the parts, connects them and runs them. A node waits for the others until waits is done.
func start(waits context.Context, c Config, store *records.Store, secure *certificate, n *node) (_ *Server, err error) {
	keys, err := access.NewKeyring(store, c.TokenSecret, c.OperatorKey)
	if err != nil {
		return nil, err
	}
	plain, err := listen(c.Listen)
	if err != nil {
		return nil, explain(c.Listen, err)
	}
	defer func() {
		if err != nil {
			_ = plain.Close()
		}
	}()
	c.boundMemory()
	w, err := newWorld(c, secure, store, keys, n)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	if err := w.startRealms(waits, ctx); err != nil {
		cancel()
		w.gateway.Close()
		w.end()
		return nil, err
	}
	s := &Server{config: c, world: w, store: store, writer: w.writer, gateway: w.gateway, api: httpapi.New(w.api()), unasked: new(unasked),
		stop: cancel, served: make(chan struct{}), failed: make(chan error, 2), drained: make(chan struct{}, 1)}
	s.app = s.api.App(s.unasked.watch)
	s.listen, s.scheme = limitConnections(plain, c.MaxConnections), "http"
	if secure.wanted() {
		s.listen, s.scheme = transport.TLS(s.listen, secure.config()), "https"
	}
	if n != nil {
		n.answerPeers(s.api.Ready, s.drain)
	}
	s.run(ctx)
	return s, nil
}

// run starts the parts. The writer runs until written is called, and the others until ctx is done.
func (s *Server) run(ctx context.Context) {
	w := s.world
	untilWritten, written := context.WithCancel(context.Background())
	s.written = written
	s.writing.Go(func() { w.writer.Run(untilWritten) })
	s.running.Go(func() { w.hooks.Run(ctx) })
	s.running.Go(func() { s.api.Run(ctx) })
	s.running.Go(func() { w.gateway.Run(ctx) })
	s.running.Go(func() {
		w.keys.Run(ctx, func(err error) { s.config.Log.Warn("the last use of keys could not be written", "error", err) })
	})
	s.running.Go(func() { reclaim(ctx) })
	go func() {
		defer close(s.served)
		s.failed <- s.app.Listener(s.listen, fiber.ListenConfig{DisableStartupMessage: true})
	}()
	if n := w.node; n != nil {
		s.running.Go(func() { n.look(ctx) })
		s.running.Go(func() {
			select {
			case err := <-n.failed:
				s.failed <- err
			case <-ctx.Done():
			}
		})
	}
}

func explain(address string, err error) error {
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return fmt.Errorf("%s is in use already: stop what listens there, or choose another address with --listen", address)
	case errors.Is(err, syscall.EACCES):
		return fmt.Errorf("listening at %s is not permitted: choose a port above 1023 with --listen", address)
	}
	return fmt.Errorf("cannot listen at %q (it wants HOST:PORT): %w", address, err)
}

// Ready makes /readyz answer that the service is ready.
func (s *Server) Ready() { s.api.SetReady(true) }

// Drained returns a channel that yields when an operator wants this node to hand over what it owns, and to
// end: then call Stop.
func (s *Server) Drained() <-chan struct{} { return s.drained }

func (s *Server) drain() {
	s.api.SetReady(false)
	select {
	case s.drained <- struct{}{}:
	default:
	}
}

// URL returns the address of the service.
func (s *Server) URL() string { return s.scheme + "://" + s.listen.Addr().String() }

// Failed returns a channel that yields an error when the service can no longer accept
// connections, or its node cannot go on.
func (s *Server) Failed() <-chan error { return s.failed }

// Stop hands the realms of a node over, refuses new links and requests, tells each link that the service restarts and when to
// return (moving, then 1012), waits a limited time for links and requests, saves the sessions,
// and ends. Call it once.
func (s *Server) Stop() error {
	s.api.SetReady(false)
	if n := s.world.node; n != nil {
		n.handOver()
	}
	ctx, cancel := context.WithTimeout(context.Background(), drainTimeout)
	defer cancel()
	s.gateway.Drain(ctx, s.world.realms.ShortestGrace()/2)
	s.api.EndStreams()
	s.unasked.close()
	err := s.app.ShutdownWithTimeout(shutdownTimeout)
	_ = s.listen.Close() // for a stop that comes before the library has begun to serve
	<-s.served
	s.stop()
	s.running.Wait()
	s.gateway.Close()
	s.world.end()
	if s.world.node != nil {
		s.world.node.end()
	}
	s.written()
	s.writing.Wait()
	return errors.Join(err, s.writer.Close(), s.store.Close())
}
