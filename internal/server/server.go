// Package server puts the parts of Tovik together, starts them, drains them and
// stops them.
package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"syscall"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/internal/presence"
)

// How long a stop waits for links and for requests; together they stay well
// below five seconds.
const (
	drainTimeout    = 2 * time.Second
	shutdownTimeout = 2 * time.Second
)

// Config is what a service is started with. All but Log and Policy is required.
type Config struct {
	Listen      string // address, as in 127.0.0.1:8420; port 0 picks a free one
	TokenSecret string
	OperatorKey string
	Policy      *presence.Policy // nil stands for the default
	Log         *slog.Logger     // nil stands for none
}

// Server is a running service.
type Server struct {
	api    *httpapi.API
	app    *fiber.App
	links  *gateway.Links
	listen net.Listener
	stop   context.CancelFunc
	ended  chan struct{} // closed when the engine's time has stopped
	served chan error    // holds one, what the listener ended with; then closed
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
	tokens, err := access.NewTokens([]byte(c.TokenSecret))
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, explain(c.Listen, err)
	}
	key := access.NewOperatorKey(c.OperatorKey)
	hub := delivery.NewHub()
	links := gateway.NewLinks()
	e := engine.New(engine.Options{Policy: *c.Policy, Sink: hub, Links: links, Log: c.Log})
	hub.Use(e)
	api := httpapi.New(e, gateway.New(e, hub, links, tokens, key, c.Log), key, c.Log)

	ctx, cancel := context.WithCancel(context.Background())
	s := &Server{
		api: api, app: api.App(), links: links, listen: listener,
		stop: cancel, ended: make(chan struct{}), served: make(chan error, 1),
	}
	go func() {
		defer close(s.ended)
		e.Run(ctx)
	}()
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
func (s *Server) URL() string { return "http://" + s.listen.Addr().String() }

// Failed yields an error when the service can no longer accept connections.
func (s *Server) Failed() <-chan error { return s.served }

// Stop refuses what is new, tells each link that the service restarts (1012),
// waits a bounded time for links and requests, and ends. It is called once.
func (s *Server) Stop() error {
	s.api.SetReady(false)
	ctx, cancel := context.WithTimeout(context.Background(), drainTimeout)
	defer cancel()
	s.links.Drain(ctx, websocket.CloseServiceRestart, "the service restarts")
	err := s.app.ShutdownWithTimeout(shutdownTimeout)
	_ = s.listen.Close() // for a stop that comes before the library has begun to serve
	for range s.served {
	}
	s.stop()
	<-s.ended
	return err
}
