package httpapi

import (
	"context"
	"net/http"
	"net/http/pprof"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"

	"tovik.example/tovik/wire"
)

// reload applies the configuration as it is now.
func (a *API) reload(c fiber.Ctx) error {
	done, err := a.world.Reload(operatorOf(c).Key)
	if err != nil {
		return err
	}
	return c.JSON(done)
}

// nodes describes the nodes of the cluster.
func (a *API) nodes(c fiber.Ctx) error {
	form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream)
	if err != nil {
		return err
	}
	if form == asStream {
		unsaid := func() <-chan struct{} { return nil } // no entry says that something has changed
		return a.repeat(c, "nodes", healthEvery, unsaid, func(ctx context.Context) (any, time.Duration, error) {
			doc, err := a.world.Nodes(ctx)
			return doc, healthEvery, err
		})
	}
	doc, err := a.world.Nodes(c.Context())
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Nodes)
}

// drainNode has a node hand over what it owns and end.
func (a *API) drainNode(c fiber.Ctx) error {
	if err := a.world.Drain(c.Context(), param(c, "node")); err != nil {
		return err
	}
	return c.Status(fiber.StatusAccepted).JSON(wire.Drained{Node: param(c, "node")})
}

// health answers with the state of the service, as the caller's key may see it.
func (a *API) health(c fiber.Ctx) error {
	form, err := formIn(c, asJSON, asStream)
	if err != nil {
		return err
	}
	desk := deskOf(c)
	read := func(ctx context.Context) wire.ServiceHealth {
		doc := wire.ServiceHealth{Node: a.peers.Name(), Records: a.realms.Health(), LinksBeforeHello: a.gateway.Size().Strangers}
		if desk.WholeRealm() == nil {
			of := desk.Health(ctx)
			doc.Realm = &of
		}
		return doc
	}
	if form == asStream {
		unsaid := func() <-chan struct{} { return nil } // no entry says that the health has changed
		return a.repeat(c, "health", healthEvery, unsaid, func(ctx context.Context) (any, time.Duration, error) { return read(ctx), healthEvery, nil })
	}
	return c.JSON(read(c.Context()))
}

// healthEvery is the shortest interval in which changes of the health are told.
const healthEvery = time.Second

// mostProfiled limits the duration, in seconds, of a processor profile or a trace.
const mostProfiled = 60

// takeProfile serves the profiles of net/http/pprof.
func (a *API) takeProfile(c fiber.Ctx) error {
	seconds, err := numberIn(c, "seconds", 30, 1, mostProfiled) // the default of net/http/pprof
	if err != nil {
		return err
	}
	// The time limit for writing begins when the profile is complete.
	_ = c.RequestCtx().Conn().SetDeadline(time.Now().Add(time.Duration(seconds)*time.Second + streamWrite))
	var handler http.Handler
	switch name := param(c, "profile"); name {
	case "profile":
		handler = http.HandlerFunc(pprof.Profile)
	case "trace":
		handler = http.HandlerFunc(pprof.Trace)
	case "allocs", "block", "goroutine", "heap", "mutex", "threadcreate":
		handler = pprof.Handler(name)
	default:
		return &wire.Problem{Code: wire.CodeUnknownPath, Field: "profile", Value: wire.Shorten(name), Detail: "there is no such profile",
			Allowed: "allocs, block, goroutine, heap, mutex, threadcreate, profile, trace"}
	}
	return adaptor.HTTPHandler(handler)(c)
}
