package httpapi

import (
	"net"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// feed opens an event stream, for a ticket or for what the query says.
func (a *API) feed(c fiber.Ctx) error {
	if c.Method() != fiber.MethodGet { // a HEAD has no stream
		return fiber.ErrMethodNotAllowed
	}
	args := c.RequestCtx().QueryArgs()
	list := func(name string) []string {
		var values []string
		for _, value := range args.PeekMulti(name) {
			values = append(values, strings.Split(string(value), ",")...)
		}
		return values
	}
	h := wire.Hello{Detail: c.Query("detail"), Rooms: list("room"), WatchOnly: c.Query("watch_only") == "true"}
	for _, room := range list("watch") {
		h.Watch = append(h.Watch, wire.Watch{Room: room, Detail: c.Query("detail")})
	}
	if people := list("people"); people != nil {
		h.Watch = append(h.Watch, wire.Watch{People: people})
	}
	ctx := c.RequestCtx()
	begin, err := a.gateway.Feed(ctx.Conn(), gateway.FeedRequest{
		Ticket: c.Query("ticket"), Bearer: bearer(c), Hello: h, Last: c.Get("Last-Event-ID"), Caller: a.caller(c),
	})
	if err != nil {
		return err
	}
	ctx.HijackSetNoResponse(true)
	ctx.Hijack(func(c net.Conn) {
		conn, early := release(c)
		begin(conn, streamHead, early)
	})
	return nil
}

// ticket answers with a ticket for the hello of an event stream.
func (a *API) ticket(c fiber.Ctx) error {
	var h wire.Hello
	if err := strictjson.Read(c.Body(), &h); err != nil {
		return err
	}
	ticket, err := a.gateway.Ticket(h, bearer(c), a.caller(c))
	if err != nil {
		return err
	}
	return fresh(c).Status(fiber.StatusCreated).JSON(ticket)
}

// post carries out a request of a client with an event stream.
func (a *API) post(c fiber.Ctx) error {
	number, err := strconv.ParseUint(param(c, "link"), 10, 64)
	if err != nil {
		return &wire.Problem{Code: wire.CodeBadField, Field: "link", Value: wire.Shorten(param(c, "link")),
			Detail: "the path has no valid link number", Allowed: "an address that the last answer gave for posts"}
	}
	answer, err := a.gateway.Post(c.Context(), gateway.PostRequest{Node: c.Query("node"), Session: param(c, "session"), Link: number, Key: bearer(c), Frame: c.Body()})
	if err != nil {
		return err
	}
	return fresh(c).Type("json").Send(answer)
}

// beat carries out an HTTP beat.
func (a *API) beat(c fiber.Ctx) error {
	var b wire.Beating
	if err := strictjson.Read(c.Body(), &b); err != nil {
		return err
	}
	lease, err := a.gateway.Beat(c.RequestCtx().Conn(), bearer(c), param(c, "session"), b, a.caller(c))
	if err != nil {
		return err
	}
	return fresh(c).JSON(lease)
}

// resumeKey refuses a request without a resume key. A wrong key passes: it gets the same answer as the key of a session that
// has ended.
func resumeKey(c fiber.Ctx) error {
	const field, allowed = "resume_key", "Authorization: Bearer RESUME_KEY, with the key of the answer that opened the session"
	switch key := bearer(c); {
	case key == "":
		return problem.BadField(field, "", "the request has no resume key", allowed)
	case access.IsToken(key):
		return problem.BadField(field, "", "a person's token was sent; here the resume key of the session is wanted", allowed)
	}
	return c.Next()
}

// session describes a session to the holder of its resume key.
func (a *API) session(c fiber.Ctx) error {
	return fresh(c).JSON(a.realms.Session(param(c, "session"), bearer(c)))
}

// bye ends a session for the holder of its resume key.
func (a *API) bye(c fiber.Ctx) error {
	answer, err := a.realms.Bye(param(c, "session"), bearer(c))
	if err != nil {
		return err
	}
	return fresh(c).JSON(answer)
}

// closing applies the note of a page that is going away. A beacon cannot have headers, so the
// body, which is text/plain, contains the session's resume key.
func (a *API) closing(c fiber.Ctx) error {
	var note wire.ClosingNote
	if err := strictjson.Read(c.Body(), &note); err != nil {
		return err
	}
	const allowed = "the one of the answer that opened the session"
	switch {
	case note.Session == "":
		return problem.BadField("session", "", "the note names no session", allowed)
	case note.ResumeKey == "":
		return problem.BadField("resume_key", "", "the note has no resume key", allowed)
	}
	answer, err := a.realms.Closing(note)
	if err != nil {
		return err
	}
	return c.JSON(answer)
}

// fresh keeps an answer out of caches.
func fresh(c fiber.Ctx) fiber.Ctx {
	c.Set(fiber.HeaderCacheControl, "no-store")
	return c
}
