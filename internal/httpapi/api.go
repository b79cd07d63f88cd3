// Package httpapi serves everything that Tovik offers over HTTP: the resources under /v1, the
// handshake of links, health, the pages that explain errors, and the console.
//
// Every error is a problem document (RFC 9457) whose type is one of those pages. The package may
// import gateway and the packages below it.
package httpapi

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/cors"
	"github.com/gofiber/fiber/v3/middleware/recover"
	"github.com/valyala/fasthttp"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/cluster/peers"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// API is the HTTP side of the service.
type API struct {
	gateway  *gateway.Gateway
	realms   *realm.Realms
	keys     *access.Keyring
	guard    *access.Guard
	signIns  *access.SignIns
	hooks    *hooks.Dispatcher
	measures *Measures
	proxies  Proxies
	world    World
	peers    *peers.Peers
	log      *slog.Logger
	streams  streams
	answers  answers
	paces    paces
	// exposition writes the metrics.
	exposition fiber.Handler
	// described renders the page of the API, once.
	described func() ([]byte, error)
	ready     atomic.Bool

	practiceSecret string // empty: no practice room
	hideDocs       bool
}

// World adds and removes realms and reloads the configuration while the service runs. Its errors
// are problems.
type World interface {
	AddRealm(name string) error
	RemoveRealm(name string) error
	// Reload applies the configuration as it is now.
	Reload(by string) (wire.Reloaded, error)
	// Nodes describes the nodes of the cluster.
	Nodes(ctx context.Context) (wire.Nodes, error)
	// Drain has a node hand over what it owns and end.
	Drain(ctx context.Context, node string) error
	// NotReady returns why a load balancer should send no clients here, apart from a start or stop; empty if it
	// may.
	NotReady() string
	// Figures returns the figures of this node; false: the service is alone.
	Figures() (NodeFigures, bool)
}

// NodeFigures are figures of a node, for metrics.
type NodeFigures struct {
	Heard int      // nodes, with itself
	Owned []string // realms
	Begun int      // realms that it has begun to own, since its start
	// BegunLog and so on are how long that took, over all of them.
	BegunLog, BegunRecords, BegunReports time.Duration
	Apart                                time.Duration
	Read, Behind                         uint64 // records
	LogBytes, Most                       uint64
	Clock                                time.Duration // by which it is ahead of the median of all
	Refused                              int           // connections of other nodes that were refused, or have failed
	// MessagesIn and so on went over connections to other nodes.
	MessagesIn, BytesIn, MessagesOut, BytesOut int64
}

// Options are the parts and settings of an API. The first eight and Log are required.
type Options struct {
	Gateway  *gateway.Gateway
	Realms   *realm.Realms
	Keys     *access.Keyring
	Guard    *access.Guard
	SignIns  *access.SignIns
	Hooks    *hooks.Dispatcher
	Measures *Measures
	World    World
	Peers    *peers.Peers // the nodes of the cluster; nil: the service is alone
	Proxies  Proxies      // that are trusted
	// PracticeSecret signs the tokens of practice rooms; without it there are none.
	PracticeSecret string
	HideDocs       bool // serves no pages that explain errors and frames
	// RequestsPerSecond limits the requests of one key, with bursts of five times as many; 0
	// means no limit.
	RequestsPerSecond int
	Log               *slog.Logger
}

// New returns an API whose /readyz answers 503 until SetReady.
func New(o Options) *API {
	a := &API{
		gateway: o.Gateway, realms: o.Realms, keys: o.Keys, guard: o.Guard, signIns: o.SignIns, hooks: o.Hooks, measures: o.Measures, world: o.World, peers: o.Peers, proxies: o.Proxies, log: o.Log,
		practiceSecret: o.PracticeSecret, hideDocs: o.HideDocs,
		paces: newPaces(o.RequestsPerSecond),
	}
	a.keepForPeers()
	a.exposition = a.metrics()
	a.described = sync.OnceValues(renderAPI)
	return a
}

// SetReady sets what /readyz answers.
func (a *API) SetReady(ready bool) { a.ready.Store(ready) }

// Ready reports whether the service has started, and does not stop.
func (a *API) Ready() bool { return a.ready.Load() }

// App returns the routes. Each function of before is first called with the app.
func (a *API) App(before ...func(*fiber.App)) *fiber.App {
	app := fiber.New(fiber.Config{
		AppName:       "Tovik",
		ErrorHandler:  a.fail,
		BodyLimit:     wire.MaxFrame,
		Immutable:     true, // what a handler is given stays what it was
		StrictRouting: true,
		CaseSensitive: true,
		ReadTimeout:   readTimeout,
		WriteTimeout:  10 * time.Second,
		IdleTimeout:   60 * time.Second,
	})
	stayAway(app.Server())
	app.Server().HeaderReceived = a.bodyLimit

	for _, set := range before {
		set(app)
	}
	app.Use(identifyRequest, a.measure)
	app.Use(recover.New()) // a fault in one request is that request's error
	// Pages of other origins may be clients if their realm allows them. They have to send a
	// token or a key themselves; a cookie does not count.
	app.Use([]string{"/v1/tickets", "/v1/sessions", "/v1/closing", "/v1/seen"}, cors.New(cors.Config{
		AllowOriginsFunc: a.realms.AllowsOrigin,
		AllowMethods:     []string{"GET", "POST", "PUT", "DELETE"}, AllowHeaders: []string{"Authorization", "Content-Type", "If-None-Match"}, ExposeHeaders: []string{"ETag"}, MaxAge: 3600,
	}))
	for _, r := range a.routes() {
		a.serve(app, r)
	}
	a.library(app)
	a.documentation(app)
	a.console(app)
	return app
}

// serve adds a route with the checks that its callers must pass.
func (a *API) serve(app *fiber.App, r route) {
	var gates []any
	if role, ok := access.ParseRole(r.Shows); ok {
		gates = append(gates, a.operator(role), a.pace)
		switch r.Reach {
		case ReachRealm:
			gates = append(gates, func(c fiber.Ctx) error {
				if err := deskOf(c).WholeRealm(); err != nil {
					return err
				}
				return c.Next()
			})
		case ReachService:
			gates = append(gates, a.root)
		}
		switch {
		case r.Method != get:
			gates = append(gates, a.once)
		case r.Gives != nil:
			gates = append(gates, compress, conditional)
		}
	} else if r.Shows == showsSession {
		gates = append(gates, resumeKey)
	} else if r.Shows == showsToken && r.Method == get && r.Gives != nil {
		gates = append(gates, a.visitor, compress, conditional)
	} else if r.Topic == "Service" {
		gates = append(gates, compress, conditional)
	}
	gates = append(gates, r.do)
	path := strings.NewReplacer("{", ":", "}", "").Replace(r.Path)
	app.Add([]string{r.Method}, path, gates[0], gates[1:]...)
}

// bearer returns the credential of an Authorization header with the scheme Bearer, or nothing.
func bearer(c fiber.Ctx) string {
	scheme, key, _ := strings.Cut(c.Get(fiber.HeaderAuthorization), " ")
	if !strings.EqualFold(scheme, "Bearer") {
		return ""
	}
	return strings.TrimSpace(key)
}

func (a *API) readyz(c fiber.Ctx) error {
	if !a.ready.Load() {
		return &wire.Problem{Code: wire.CodeNotReady, Detail: "the service is starting or stopping"}
	}
	if why := a.world.NotReady(); why != "" {
		return &wire.Problem{Code: wire.CodeNotReady, Detail: why}
	}
	return c.JSON(wire.Readiness{Status: "ready", Records: a.realms.Health()})
}

// recheckEvery is how often the keys of long answers are checked.
const recheckEvery = 5 * time.Second

// Run ends long answers whose key has expired, until ctx ends.
func (a *API) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(recheckEvery):
			a.RecheckStreams()
		}
	}
}

// RecheckStreams ends long answers whose key is no longer valid.
func (a *API) RecheckStreams() {
	a.streams.recheck(func(key string) bool { return a.keys.InForce(true, key) })
}

// EndStreams ends all long answers, and refuses new ones.
func (a *API) EndStreams() { a.streams.end() }

// readTimeout limits the time for receiving a request; slowestUpload is the least number of
// bytes per second of an import.
const (
	readTimeout   = 10 * time.Second
	slowestUpload = 16 << 10
)

// bodyLimit allows a larger body for an import, if the caller has a key for it.
func (a *API) bodyLimit(h *fasthttp.RequestHeader) (config fasthttp.RequestConfig) {
	if string(h.RequestURI()) != importPath {
		return config
	}
	_, key, _ := strings.Cut(string(h.Peek(fiber.HeaderAuthorization)), " ")
	if _, err := a.keys.Check(strings.TrimSpace(key), access.Write); err == nil {
		config.MaxRequestBodySize = maxImport
		// The longest time that is allowed; the listener ends an upload that makes no progress.
		size := h.ContentLength()
		if size < 0 {
			size = maxImport
		}
		config.ReadTimeout = readTimeout + time.Duration(size)*time.Second/slowestUpload
	}
	return config
}

// fail answers an error with a problem document.
func (a *API) fail(c fiber.Ctx, err error) error {
	p := problemOf(c, err)
	if p.Code == wire.CodeTooLarge && c.Path() == importPath {
		// The limit depends on the key. This says no more to callers without a valid key than
		// elsewhere.
		if _, err := a.identify(c, access.Write); err != nil {
			p = problemOf(c, err)
		}
	}
	c.Set(fiber.HeaderXContentTypeOptions, "nosniff") // also of what came to no route
	problemType, _ := wire.ProblemTypeOf(p.Code)
	if problemType.Status == 0 {
		problemType.Status = fiber.StatusBadRequest
	}
	if p.Code == wire.CodeInternal {
		a.log.Error("request failed", "method", c.Method(), "path", c.Path(), "request", requestOf(c), "error", err)
	}
	if p.Code == wire.CodeTooLarge || p.Code == wire.CodeBadRequest {
		leaveUnread(c)
	}
	switch problemType.Status {
	case fiber.StatusUpgradeRequired:
		c.Set(fiber.HeaderUpgrade, "websocket")
		c.Set("Sec-WebSocket-Version", "13")
	case fiber.StatusUnauthorized:
		c.Set(fiber.HeaderWWWAuthenticate, `Bearer realm="tovik"`)
	case fiber.StatusTooManyRequests, fiber.StatusServiceUnavailable:
		if c.GetRespHeader(fiber.HeaderRetryAfter) == "" {
			c.Set(fiber.HeaderRetryAfter, "1")
		}
	}
	c.Response().Header.Del(fiber.HeaderContentEncoding) // of an answer that was ready when the error came
	c.Response().Header.Del(fiber.HeaderETag)
	return c.Status(problemType.Status).JSON(wire.Document{
		Type: wire.HelpPath(p.Code), Title: problemType.Title, Status: problemType.Status,
		Instance: c.Path(), Request: requestOf(c), Problem: *p,
	}, "application/problem+json")
}

// leaveUnread closes the connection of a request with an unread rest, so that the answer still
// arrives.
func leaveUnread(c fiber.Ctx) {
	conn := c.RequestCtx().Conn()
	if secure, ok := conn.(interface{ NetConn() net.Conn }); ok {
		conn = secure.NetConn()
	}
	if conn, ok := conn.(interface{ LeaveUnread() }); ok {
		conn.LeaveUnread()
	}
}

// problemOf translates errors of the HTTP library, and leaves others to package problem.
func problemOf(c fiber.Ctx, err error) *wire.Problem {
	var f *fiber.Error
	if !errors.As(err, &f) {
		return problem.Of(err)
	}
	switch f.Code {
	case fiber.StatusNotFound:
		return &wire.Problem{Code: wire.CodeUnknownPath, Detail: "nothing is served at " + wire.Shorten(c.Path())}
	case fiber.StatusMethodNotAllowed:
		return &wire.Problem{Code: wire.CodeMethodNotAllowed, Field: "method", Value: c.Method(),
			Detail: "this path does not take this method", Allowed: c.GetRespHeader(fiber.HeaderAllow)}
	case fiber.StatusRequestEntityTooLarge:
		return &wire.Problem{Code: wire.CodeTooLarge, Detail: "the body is too large", Allowed: "at most 16384 bytes"}
	case fiber.StatusRequestHeaderFieldsTooLarge:
		return &wire.Problem{Code: wire.CodeTooLarge, Detail: "the head of the request is too large", Allowed: "at most 4096 bytes"}
	case fiber.StatusBadRequest, fiber.StatusRequestTimeout, fiber.StatusNotImplemented:
		return &wire.Problem{Code: wire.CodeBadRequest, Detail: "this is not a valid HTTP request", Allowed: "HTTP/1.1 (RFC 9112)"}
	}
	return problem.Of(err)
}
