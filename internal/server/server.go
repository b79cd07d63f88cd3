// Package server puts the parts of Tovik together, starts them, drains them and
// stops them.
package server

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/admission"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/records"
)

// How long a stop waits for links and for requests; together they stay well
// below five seconds.
const (
	drainTimeout    = 2 * time.Second
	shutdownTimeout = 2 * time.Second
)

// memoryRows is how many entries the journal has at most when it is kept in memory.
const memoryRows = 200_000

// Config is what a service is started with. Listen, TokenSecret and OperatorKey are
// required.
type Config struct {
	Listen      string // address, as in 127.0.0.1:8420; port 0 picks a free one
	TokenSecret string
	OperatorKey string
	Policy      *presence.Policy // nil stands for the default
	Log         *slog.Logger     // nil stands for none
	// Data is the directory of the records; empty or [records.Memory]: they end with the
	// service.
	Data      string
	Retention records.Retention
	// PrivateHooks lets hooks be told at addresses of inner networks.
	PrivateHooks bool
	HookRetries  []time.Duration // pauses before each further attempt; nil: a day's
	// TLSCert and TLSKey are files of a certificate and its key in PEM; empty: no TLS.
	TLSCert, TLSKey string
	MaxConnections  int // 0: as many as there are descriptors, less a reserve
	Limits          gateway.Limits
	// Realms are settings of realms, by name. Those that are not in the records are made.
	Realms   map[string]RealmConfig
	Proxies  httpapi.Proxies // that are trusted to say whom they speak for
	HideDocs bool            // serves no pages that explain errors and frames
	Practice bool            // whoever reaches the service may have tokens for rooms to practise in
	// RequestsPerSecond is how often one key may ask over HTTP, five times as many at once; 0:
	// as often as it likes.
	RequestsPerSecond int
	// Reread reads the configuration anew for [Server.Reload]; nil: there is none to read.
	Reread func() (Config, error)
}

// RealmConfig is what a realm is told in the configuration.
type RealmConfig struct {
	Origins   []string          // of pages that may be clients; nil: any
	TokenKeys []access.TokenKey // besides those on record, each made by [access.NewTokenKey]
	KeySets   []access.KeySet   // that its identity services publish
	Admission *admission.Client // nil: grants alone decide
}

func (c *Config) asksOthers() bool {
	for _, realm := range c.Realms {
		if realm.Admission != nil || len(realm.KeySets) > 0 {
			return true
		}
	}
	return false
}

// boundMemory keeps a journal in memory from growing without end.
func (c *Config) boundMemory() {
	if c.Data == records.Memory && c.Retention.JournalRows == 0 {
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
	served  chan error // holds one, what the listener ended with; then closed
}

// Start returns once the service listens. It answers /readyz only after Ready.
func Start(c Config) (*Server, error) {
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	if c.Policy == nil {
		policy := presence.DefaultPolicy()
		c.Policy = &policy
	}
	secure := &certificate{cert: c.TLSCert, key: c.TLSKey}
	if err := secure.read(); err != nil {
		return nil, err
	}
	store, err := records.Open(c.Data)
	if err != nil {
		return nil, err
	}
	s, err := start(c, store, secure)
	if err != nil {
		_ = store.Close()
		return nil, err
	}
	return s, nil
}

// start puts the parts together.
func start(c Config, store *records.Store, secure *certificate) (*Server, error) {
	keys, err := access.NewKeyring(store, c.TokenSecret, c.OperatorKey)
	if err != nil {
		return nil, err
	}
	plain, err := listen(c.Listen)
	if err != nil {
		return nil, explain(c.Listen, err)
	}
	var listener net.Listener = limitConnections(plain, c.MaxConnections)
	scheme := "http"
	if secure.wanted() {
		listener, scheme = tls.NewListener(listener, secure.config()), "https"
	}
	c.boundMemory()
	measures := httpapi.NewMeasures()
	var hook *hooks.Dispatcher
	writer, err := records.NewWriter(records.WriterOptions{Store: store, Log: c.Log, Retention: c.Retention, Gaps: measures.Gaps,
		Outbox: func(w *records.Writer) (outbox records.Outbox, err error) {
			hook, err = hooks.New(hooks.Options{Store: store, Writer: w, Log: c.Log, Private: c.PrivateHooks, Retries: c.HookRetries})
			return hook, err
		}})
	if err != nil {
		_ = plain.Close()
		return nil, err
	}
	guard := new(access.Guard)
	realms := realm.NewRealms(realm.RealmsOptions{Keys: keys, Guard: guard, Store: store, Writer: writer, Policy: c.Policy, AsksOthers: c.asksOthers()})
	g := gateway.New(gateway.Options{Realms: realms, Limits: c.Limits, Log: c.Log})
	w := &world{config: c, secure: secure, store: store, writer: writer, hooks: hook, measures: measures, keys: keys, realms: realms, gateway: g}
	ctx, cancel := context.WithCancel(context.Background())
	if err := w.beginAll(ctx); err != nil {
		cancel()
		_ = plain.Close()
		g.Close()
		w.end()
		return nil, err
	}
	options := httpapi.Options{Gateway: g, Realms: realms, Keys: keys, Guard: guard, SignIns: access.NewSignIns(store, keys, c.Log), Hooks: hook, Measures: measures, World: w,
		Proxies: c.Proxies, HideDocs: c.HideDocs, RequestsPerSecond: c.RequestsPerSecond, Log: c.Log}
	if c.Practice {
		options.PracticeSecret = c.TokenSecret
	}
	api, connections := httpapi.New(options), new(unasked)
	s := &Server{
		config: c, scheme: scheme, store: store, writer: writer, world: w, gateway: g, api: api, app: api.App(connections.watch), unasked: connections, listen: listener,
		stop: cancel, served: make(chan error, 1),
	}
	writing, written := context.WithCancel(context.Background())
	s.written = written
	s.writing.Go(func() { writer.Run(writing) })
	s.running.Go(func() { hook.Run(ctx) })
	s.running.Go(func() { api.Run(ctx) })
	s.running.Go(func() { g.Run(ctx) })
	s.running.Go(func() { keys.Run(ctx, func(err error) { c.Log.Warn("the keyring", "error", err) }) })
	s.running.Go(func() { reclaim(ctx) })
	go func() {
		defer close(s.served)
		s.served <- s.app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true})
	}()
	return s, nil
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

// Ready lets /readyz say that the service is.
func (s *Server) Ready() { s.api.SetReady(true) }

// URL is the address at which the service is reached.
func (s *Server) URL() string { return s.scheme + "://" + s.listen.Addr().String() }

// Failed yields an error when the service can no longer accept connections.
func (s *Server) Failed() <-chan error { return s.served }

// Stop refuses what is new, tells each link that the service restarts and when to
// come back (moving, then 1012), waits a bounded time for links and requests, saves
// the sessions, and ends. It is called once.
func (s *Server) Stop() error {
	s.api.SetReady(false)
	ctx, cancel := context.WithTimeout(context.Background(), drainTimeout)
	defer cancel()
	s.gateway.Drain(ctx, s.world.realms.Policy().GraceLost/2)
	s.api.EndStreams()
	s.unasked.close()
	err := s.app.ShutdownWithTimeout(shutdownTimeout)
	_ = s.listen.Close() // for a stop that comes before the library has begun to serve
	for range s.served {
	}
	s.stop()
	s.running.Wait()
	s.gateway.Close()
	s.world.end()
	s.written()
	s.writing.Wait()
	return errors.Join(err, s.writer.Close(), s.store.Close())
}
