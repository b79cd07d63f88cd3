// Package httpapi serves everything that Tovik offers over HTTP: the resources
// under /v1, the handshake of links, health, the pages that explain errors, and
// the console.
//
// Every error is a problem document (RFC 9457) whose type is one of those pages.
// The package may import gateway and what stands below it.
package httpapi

import (
	"errors"
	"log/slog"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/cors"
	"github.com/gofiber/fiber/v3/middleware/recover"
	"github.com/valyala/fasthttp"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// API is the HTTP side of the service.
type API struct {
	gateway  *gateway.Gateway
	realms   *gateway.Realms
	keys     *access.Keyring
	guard    *access.Guard
	store    *records.Store
	writer   *records.Writer
	hooks    *hooks.Dispatcher
	links    *gateway.Links
	measures *Measures
	proxies  gateway.Proxies
	world    World
	log      *slog.Logger
	signIns  signIns
	streams  streams
	ready    atomic.Bool

	practiceSecret string // empty: no practice room
	hideDocs       bool
}

// World adds and removes realms while the service runs. Their errors are problems.
type World interface {
	AddRealm(name string) error
	RemoveRealm(name string) error
}

// Options are what an API is made of. The first ten and Log are required.
type Options struct {
	Gateway  *gateway.Gateway
	Realms   *gateway.Realms
	Keys     *access.Keyring
	Guard    *access.Guard
	Store    *records.Store
	Writer   *records.Writer
	Hooks    *hooks.Dispatcher
	Links    *gateway.Links
	Measures *Measures
	World    World
	Proxies  gateway.Proxies // that are trusted
	// PracticeSecret signs the tokens of practice rooms; empty: there are none.
	PracticeSecret string
	HideDocs       bool // serves no pages that explain errors and frames
	Log            *slog.Logger
}

// New returns an API that answers /readyz with 503 until SetReady.
func New(o Options) *API {
	return &API{
		gateway: o.Gateway, realms: o.Realms, keys: o.Keys, guard: o.Guard, store: o.Store, writer: o.Writer, hooks: o.Hooks, links: o.Links, measures: o.Measures, world: o.World, proxies: o.Proxies, log: o.Log,
		practiceSecret: o.PracticeSecret, hideDocs: o.HideDocs,
	}
}

// SetReady changes what /readyz answers.
func (a *API) SetReady(ready bool) { a.ready.Store(ready) }

// App returns the routes, ready to listen.
func (a *API) App() *fiber.App {
	app := fiber.New(fiber.Config{
		AppName:       "Tovik",
		ErrorHandler:  a.fail,
		BodyLimit:     wire.MaxFrame,
		Immutable:     true, // what a handler is given stays what it was
		StrictRouting: true,
		CaseSensitive: true,
		ReadTimeout:   10 * time.Second,
		WriteTimeout:  10 * time.Second,
		IdleTimeout:   60 * time.Second,
	})
	gateway.ReuseNothing(app.Server())
	app.Server().HeaderReceived = a.bodyLimit

	app.Use(a.measure)
	app.Use(recover.New()) // a fault in one request is that request's error
	app.Get("/healthz", func(c fiber.Ctx) error { return c.JSON(fiber.Map{"status": "ok"}) })
	app.Get("/readyz", a.readyz)

	app.Get("/v1/link", func(c fiber.Ctx) error { return a.gateway.Upgrade(c.RequestCtx(), a.caller(c)) })
	// Pages of other origins may be clients of realms that allow it: nothing but a token or
	// key, which the page itself has to send, says who somebody is there.
	app.Use([]string{"/v1/tickets", "/v1/sessions", "/v1/closing"}, cors.New(cors.Config{
		AllowOriginsFunc: a.realms.AllowsOrigin,
		AllowMethods:     []string{"GET", "POST", "PUT", "DELETE"}, AllowHeaders: []string{"Authorization", "Content-Type"}, MaxAge: 3600,
	}))
	app.Get("/v1/feed", a.feed)
	app.Post("/v1/tickets", a.ticket)
	app.Post("/v1/closing", a.closing)
	app.Get("/v1/sessions/:session", a.session)
	app.Put("/v1/sessions/:session", a.beat)
	app.Delete("/v1/sessions/:session", a.bye)
	app.Post("/v1/sessions/:session/links/:link", a.post)
	app.Post("/v1/practice", a.practice)
	app.Get("/v1/sign-in", a.signedIn)
	app.Post("/v1/sign-in", a.signIn)
	app.Delete("/v1/sign-in", a.signOut)
	read, write, operate := a.operator(access.Read), a.operator(access.Write), a.operator(access.Operate)
	app.Get("/v1/rooms", read, a.rooms)
	app.Get("/v1/rooms/:room", read, a.room)
	app.Get("/v1/rooms/:room/count", read, a.room)
	app.Get("/v1/rooms/:room/members", read, a.members)
	app.Delete("/v1/rooms/:room/members/:user", operate, a.removeFromRoom)
	app.Post("/v1/people/:user/removal", operate, a.remove)
	app.Post("/v1/people/:user/sign-out", write, a.signOutPerson)
	app.Post("/v1/people/:user/erasure", operate, a.erase)
	app.Post("/v1/sessions/:session/end", write, a.endSession)
	app.Put("/v1/rooms/:room", write, a.declare)
	app.Delete("/v1/rooms/:room", write, a.undeclare)
	app.Get("/v1/rooms/:room/expected", read, a.expectations)
	app.Get("/v1/people", read, a.people)
	app.Post(importPath, write, a.importPeople)
	app.Get("/v1/people/:user", read, a.person)
	app.Put("/v1/people/:user", write, a.putPerson)
	app.Delete("/v1/people/:user", write, a.dropPerson)
	app.Get("/v1/people/:user/why", read, a.why)
	app.Get("/v1/people/:user/sessions", read, a.sessionsOf)
	app.Put("/v1/people/:user/status", write, a.setStatus)
	app.Delete("/v1/people/:user/status", write, a.clearStatus)
	app.Post("/v1/counts", read, a.counts)
	app.Post("/v1/statuses", read, a.statuses)
	app.Get("/v1/sessions", read, a.sessions)
	app.Get("/v1/policies", read, a.policies)
	app.Get("/v1/journal", read, a.journal)
	app.Get("/v1/attendance", read, a.attendance)
	app.Get("/v1/headcount", read, a.headcount)
	app.Get("/v1/hooks", operate, a.listHooks)
	app.Post("/v1/hooks", operate, a.addHook)
	app.Get("/v1/hooks/:id", operate, a.hook)
	app.Put("/v1/hooks/:id", operate, a.changeHook)
	app.Delete("/v1/hooks/:id", operate, a.removeHook)
	app.Post("/v1/hooks/:id/secret", operate, a.rotateSecret)
	app.Post("/v1/hooks/:id/test", operate, a.tryHook)
	app.Get("/v1/hooks/:id/deliveries", operate, a.deliveries)
	app.Get("/v1/deliveries/:id", operate, a.delivery)
	app.Post("/v1/deliveries/:id/again", operate, a.redeliver)
	app.Get("/metrics", read, a.root, a.metrics())
	app.Get("/v1/backup", operate, a.root, a.backup)
	app.Get("/v1/keys", operate, a.listKeys)
	app.Post("/v1/keys", operate, a.addKey)
	app.Delete("/v1/keys/:id", operate, a.revokeKey)
	app.Get("/v1/token-keys", operate, a.listTokenKeys)
	app.Post("/v1/token-keys", operate, a.addTokenKey)
	app.Delete("/v1/token-keys/:id", operate, a.revokeTokenKey)
	app.Get("/v1/realms", operate, a.root, a.listRealms)
	app.Post("/v1/realms", operate, a.root, a.addRealm)
	app.Delete("/v1/realms/:realm", operate, a.root, a.removeRealm)

	if !a.hideDocs {
		app.Get("/asyncapi.yaml", func(c fiber.Ctx) error { return c.Type("yaml").Send(wire.AsyncAPI) })
		app.Get("/problems", problemIndex)
		app.Get("/problems/:code", problemPage)
	}
	a.library(app)
	a.console(app)
	return app
}

// bearer returns what the Authorization header has after Bearer, or nothing.
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
	health := a.writer.Health()
	doc := wire.Readiness{Status: "ready", Records: wire.RecordsHealth{
		Status: "ok", Waiting: health.Waiting, Lost: health.Lost, LostDeliveries: health.LostDeliveries}}
	if health.Failing != nil {
		doc.Records.Status, doc.Records.Error, doc.Records.Since = "failing", health.Failing.Error(), &wire.Time{Time: health.Since}
	}
	return c.JSON(doc)
}

// EndStreams ends the answers that take their time, and lets no more begin.
func (a *API) EndStreams() { a.streams.end() }

// bodyLimit lets an import be larger than other bodies, for who shows a key that may.
func (a *API) bodyLimit(h *fasthttp.RequestHeader) (config fasthttp.RequestConfig) {
	if string(h.RequestURI()) != importPath {
		return config
	}
	_, key, _ := strings.Cut(string(h.Peek(fiber.HeaderAuthorization)), " ")
	if _, err := a.keys.Check(strings.TrimSpace(key), access.Write); err == nil {
		config.MaxRequestBodySize = maxImport
	}
	return config
}

// fail answers every error with a problem document.
func (a *API) fail(c fiber.Ctx, err error) error {
	problem := problemOf(c, err)
	if problem.Code == wire.CodeTooLarge && c.Path() == importPath {
		// The limit depends on the key: who guesses is told no more than elsewhere.
		if _, err := a.identify(c, access.Write); err != nil {
			problem = problemOf(c, err)
		}
	}
	explanation, _ := wire.Explain(problem.Code)
	if explanation.Status == 0 {
		explanation.Status = fiber.StatusBadRequest
	}
	if problem.Code == wire.CodeInternal {
		a.log.Error("request failed", "method", c.Method(), "path", c.Path(), "error", err)
	}
	switch explanation.Status {
	case fiber.StatusUpgradeRequired:
		c.Set(fiber.HeaderUpgrade, "websocket")
		c.Set("Sec-WebSocket-Version", "13")
	case fiber.StatusUnauthorized:
		c.Set(fiber.HeaderWWWAuthenticate, `Bearer realm="tovik"`)
	case fiber.StatusTooManyRequests, fiber.StatusServiceUnavailable:
		c.Set(fiber.HeaderRetryAfter, "1")
	}
	return c.Status(explanation.Status).JSON(wire.Document{
		Type: wire.HelpPath(problem.Code), Title: explanation.Title, Status: explanation.Status,
		Instance: c.Path(), Problem: *problem,
	}, "application/problem+json")
}

// problemOf translates what the HTTP library finds wrong, and leaves the rest to
// the gateway.
func problemOf(c fiber.Ctx, err error) *wire.Problem {
	var f *fiber.Error
	if !errors.As(err, &f) {
		return gateway.ProblemOf(err)
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
		return &wire.Problem{Code: wire.CodeBadRequest, Detail: "this is no HTTP request that can be read", Allowed: "HTTP/1.1 (RFC 9112)"}
	}
	return gateway.ProblemOf(err)
}
