package server_test

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/cluster/clustertest"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// playground is a service with everything that the examples of the document name, and the ids
// that stand for them here.
type playground struct {
	*testing.T
	server  *server.Server
	replace map[string]string // examples by what they are here
	bearers map[string]string // by what is shown
	served  int               // addresses that have asked
}

// swallow returns the URL of a server that accepts hook deliveries.
func swallow(t *testing.T) string {
	t.Helper()
	receiver := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	t.Cleanup(receiver.Close)
	return receiver.URL
}

func newPlayground(t *testing.T, c server.Config) *playground {
	t.Helper()
	c.Data, c.PrivateHooks, c.Practice, c.Proxies = t.TempDir(), true, true, httpapi.Proxies{netip.MustParsePrefix("127.0.0.0/8")}
	c.Reread = func() (server.Config, error) {
		if c.MaxConnections != 0 {
			return c, errors.New("tovik.toml:1: grace.lost is wrong")
		}
		again := c
		again.Listen, again.TokenSecret, again.OperatorKey = "127.0.0.1:0", secret, key
		return again, nil
	}
	if c.Policy == nil {
		c.Policy = askingAt("desk.meeting")
	}
	p := &playground{T: t, server: startWith(t, c), bearers: map[string]string{"token": mint(t, "e-01", "**")}}
	p.replace = map[string]string{exampleHookURL: swallow(t), `"KEY"`: `"` + key + `"`}
	for _, user := range []string{"e-01", "w-10", "w-12", "w-13", "w-14"} {
		link := dial(t, client.Options{Server: p.server.URL(), Token: mint(t, user, "**"), Rooms: []string{weir}})
		if user == "w-10" {
			p.replace["session-7qk2"] = link.Opened().Session
		}
		if user == "w-10" || user == "w-12" { // they ask
			require.NoError(t, link.Join(t.Context(), "desk.meeting"))
		}
	}
	return p
}

// newNode starts a cluster of one node, heron.
func newNode(t *testing.T) *playground {
	t.Helper()
	dir := t.TempDir()
	_, err := server.BeginCluster(dir, false)
	require.NoError(t, err)
	s := startWith(t, server.Config{Data: dir, Cluster: &server.Cluster{Name: "aldermoor", Node: "heron", Listen: clustertest.FreeAddresses(t, 1)[0], Nodes: []string{"heron"}, LogNodes: []string{"heron"}, Password: "the routes of one test"}})
	return &playground{T: t, server: s}
}

// ofCluster reports whether an operation needs a node of a cluster.
func ofCluster(op httpapi.Operation) bool { return strings.HasPrefix(op.Path, "/v1/nodes") }

// askingAt returns a policy with one room that asks.
func askingAt(room presence.Pattern) *presence.Policy {
	policy := presence.DefaultPolicy()
	asks, small, engages := policy.RoomPolicy, policy.RoomPolicy, policy.RoomPolicy
	asks.Entry, small.Entry, small.Capacity, engages.Engages, engages.Entry = presence.EntryAsk, presence.EntryAsk, 1, true, presence.EntryOpen
	both := engages
	both.Entry = presence.EntryAsk
	policy.Rooms = []presence.PatternPolicy{{Pattern: room, RoomPolicy: asks}, {Pattern: "desk.small", RoomPolicy: small},
		{Pattern: "call.*", RoomPolicy: engages}, {Pattern: "call.asking", RoomPolicy: both}}
	policy.InvitationsMax = 1
	return &policy
}

// person opens a session of a new person in rooms.
func (p *playground) person(rooms ...string) (user string, link *client.Link) {
	p.Helper()
	user = "w-" + strings.ToLower(rand.Text()[:8])
	return user, dial(p.T, client.Options{Server: p.server.URL(), Token: mint(p.T, user, "**"), Rooms: rooms})
}

// asks lets a person ask about a room, and puts their ask into the path.
func (p *playground) asks(link *client.Link, room string, op httpapi.Operation, r *http.Request) *http.Request {
	p.Helper()
	ask, err := link.JoinOrAsk(p.Context(), room)
	require.NoError(p, err)
	return pathIs("ask", ask.Ask)(p, op, r)
}

// invites changes an invitation to one from somebody to somebody.
func (p *playground) invites(from, to string) func(*playground, httpapi.Operation, *http.Request) *http.Request {
	return body(fmt.Sprintf(`{"from":%q,"to":%q,"room":"call.upstream"}`, from, to))
}

const exampleHookURL = "https://desk.aldermoor.example/presence"

// standIns replace what an example would end although later examples need it.
var standIns = map[string]map[string]string{
	"removeFromRoom": {"e-01": "w-12"}, "removePerson": {"e-01": "w-13"}, "erasePerson": {"e-01": "w-14"}, "dropPerson": {"e-01": "w-02"},
	"signOutPerson": {"e-01": "w-12"}, "undeclareRoom": {}, "beat": {"session-7qk2": "new"}, "problem": {},
}

// request is the example request of an operation, adapted to the playground.
func (p *playground) request(op httpapi.Operation) *http.Request {
	p.Helper()
	fit := func(text string) string {
		tomorrow := time.Now().UTC().Add(24 * time.Hour).Format(time.DateOnly)
		text = strings.ReplaceAll(text, "2026-11-24T", tomorrow+"T") // the end of a status is to come
		for example, here := range p.replace {
			text = strings.ReplaceAll(text, example, here)
		}
		for example, here := range standIns[op.ID] {
			text = strings.ReplaceAll(text, example, here)
		}
		return text
	}
	path := op.Path
	for name, parameter := range pathParameters {
		path = strings.ReplaceAll(path, "{"+name+"}", parameter[1])
	}
	query := url.Values{}
	for _, q := range op.Query {
		if q.Example != nil && q.Name != "format" {
			query.Set(q.Name, fmt.Sprint(q.Example))
		}
	}
	var body string
	if text, plain := op.Takes.(string); plain {
		body = text
	} else if op.Takes != nil {
		text, err := json.Marshal(op.Takes)
		require.NoError(p, err)
		body = string(text)
	}
	address := p.server.URL() + fit(path)
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	request, err := http.NewRequestWithContext(p.Context(), op.Method, address, strings.NewReader(fit(body)))
	require.NoError(p, err)
	if op.Media != "" {
		request.Header.Set("Content-Type", op.Media)
	}
	bearer := p.bearers[op.Shows]
	if _, operated := access.ParseRole(op.Shows); operated {
		bearer = key
	}
	if bearer != "" {
		request.Header.Set("Authorization", "Bearer "+bearer)
	}
	return request
}

// send returns the answer and its body; of a stream, the beginning.
func (p *playground) send(request *http.Request) (*http.Response, string) {
	p.Helper()
	response, err := http.DefaultTransport.RoundTrip(request)
	require.NoError(p, err)
	defer func() { _ = response.Body.Close() }()
	if strings.HasPrefix(response.Header.Get("Content-Type"), "text/event-stream") {
		var text strings.Builder
		lines := bufio.NewScanner(response.Body)
		for lines.Scan() && !strings.HasPrefix(lines.Text(), "data:") {
			text.WriteString(lines.Text() + "\n")
		}
		return response, text.String() + lines.Text()
	}
	text, err := io.ReadAll(response.Body)
	require.NoError(p, err, request.URL)
	return response, string(text)
}

// learn takes ids for later examples from an answer.
func (p *playground) learn(op httpapi.Operation, answer object) {
	switch op.ID {
	case "addHook":
		p.replace["hook-4f1c"] = answer["id"].(string)
	case "listDeliveries":
		p.replace["deliveries/12"] = fmt.Sprintf("deliveries/%v", answer["deliveries"].([]any)[0].(object)["id"])
	case "addKey":
		p.replace["key-93bd"] = answer["id"].(string)
	case "listAsks":
		asks := answer["asks"].([]any)
		p.replace["asks/ask-2c9e/admit"] = "asks/" + asks[0].(object)["ask"].(string) + "/admit"
		p.replace["asks/ask-2c9e/refuse"] = "asks/" + asks[1].(object)["ask"].(string) + "/refuse"
	case "invite":
		p.replace["invitation-81fd"] = answer["invitation"].(string)
	case "beat":
		p.replace["session-7qk2"], p.bearers["session"] = answer["session"].(string), answer["resume_key"].(string)
	}
}

// TestOpenAPI makes the document from the example requests of all operations and their answers.
// It checks the answers against their schemas, and the served document against the result.
func TestOpenAPI(t *testing.T) {
	all, node := newPlayground(t, server.Config{}), newNode(t)
	doc := document(t)
	check := checker(t, doc)
	operations := httpapi.Operations()
	// Destructive operations come last.
	slices.SortStableFunc(operations, func(x, y httpapi.Operation) int { return cmp.Compare(lateness(x), lateness(y)) })
	for _, op := range operations {
		switch op.ID {
		case "openLink", "openFeed", "postToLink": // TestFramesOnTheWire and others do
			continue
		}
		if op.ID == "listDeliveries" {
			all.waitForDelivery()
		}
		p := all
		if ofCluster(op) {
			p = node
		}
		response, text := p.send(p.request(op))
		if op.ID == "apiPage" && *write {
			continue // shows the document that is about to be another
		}
		require.Equal(t, statusOf(op), response.StatusCode, "%s: %s", op.ID, text)
		if op.Gives == nil {
			continue
		}
		require.NotEmpty(t, response.Header.Get("X-Request-ID"))
		answer := check(op, statusOf(op), "application/json", text)
		p.learn(op, answer.(object))
		at(doc, "paths", op.Path, strings.ToLower(op.Method), "responses", fmt.Sprint(statusOf(op)), "content", "application/json")["example"] = p.forget(answer)
		for _, form := range op.Forms {
			p.inForm(op, form)
		}
		p.asNDJSON(op, doc)
	}
	text, err := json.MarshalIndent(doc, "", " ")
	require.NoError(t, err)
	if *write {
		require.NoError(t, os.WriteFile("../../wire/openapi.json", append(text, '\n'), 0o644))
		return
	}
	var served object
	require.NoError(t, json.Unmarshal(wire.OpenAPI, &served))
	require.Equal(t, withoutExamples(doc), withoutExamples(served), "to generate it, run: go test ./internal/server -run TestOpenAPI -write")
}

func operation(id string) httpapi.Operation {
	return httpapi.Operations()[slices.IndexFunc(httpapi.Operations(), func(op httpapi.Operation) bool { return op.ID == id })]
}

// lateness sorts operations by what they destroy.
func lateness(op httpapi.Operation) int {
	switch op.ID {
	case "redeliver":
		return 1
	case "removeHook", "revokeKey", "revokeTokenKey", "removeRealm", "endSession", "bye", "signOutPerson":
		return 2
	case "removeFromRoom", "removePerson", "erasePerson", "dropPerson", "undeclareRoom":
		return 3
	}
	return 0
}

func (p *playground) waitForDelivery() {
	p.Helper()
	hook := p.replace["hook-4f1c"]
	api := client.API{Server: p.server.URL(), Key: key}
	require.NoError(p, dial(p.T, client.Options{Server: p.server.URL(), Token: mint(p.T, "w-15", "**"), Rooms: []string{weir}}).Bye(p.Context()))
	require.Eventually(p, func() bool {
		page, err := api.Deliveries(p.Context(), hook, "", 0, 10)
		return err == nil && len(page.Deliveries) > 0 && page.Deliveries[0].State != "waiting"
	}, patience, 20*time.Millisecond)
}

// forget replaces what varies in an answer by the values of the example.
func (p *playground) forget(answer any) any {
	text, err := json.Marshal(answer)
	require.NoError(p, err)
	for example, here := range p.replace {
		if !strings.HasPrefix(example, `"`) && !strings.Contains(example, "/12") {
			text = bytes.ReplaceAll(text, []byte(here), []byte(example))
		}
	}
	var plain any
	require.NoError(p, json.Unmarshal(text, &plain))
	return plain
}

// inForm requests an answer in another form and reads it.
func (p *playground) inForm(op httpapi.Operation, form string) {
	p.Helper()
	request := p.request(op)
	request.Header.Set("Accept", form)
	response, text := p.send(request)
	require.Equal(p, statusOf(op), response.StatusCode, "%s: %s", op.ID, text)
	require.Contains(p, response.Header.Get("Content-Type"), form, op.ID)
	switch form {
	case "text/csv":
		rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		require.NoError(p, err)
		require.NotEmpty(p, rows, op.ID)
	case "application/x-ndjson":
		for line := range strings.Lines(text) {
			var one object
			require.NoError(p, json.Unmarshal([]byte(line), &one), op.ID)
		}
	case "text/event-stream":
		require.Contains(p, text, "retry:", op.ID)
	case "application/pidf+xml":
		var doc struct {
			Basic string `xml:"tuple>status>basic"`
		}
		require.NoError(p, xml.Unmarshal([]byte(text), &doc), text)
		require.Equal(p, "open", doc.Basic)
	}
}

// asNDJSON runs the examples as lines of JSON: for a body, and for the query.
func (p *playground) asNDJSON(op httpapi.Operation, doc object) {
	p.Helper()
	request := p.request(op)
	if op.Media != "" {
		example := at(doc, "paths", op.Path, strings.ToLower(op.Method), "requestBody", "content", "application/x-ndjson")["example"].(string)
		request = body(example)(p, op, request)
		request.Header.Set("Content-Type", "application/x-ndjson")
		response, text := p.send(request)
		require.Equal(p, 200, response.StatusCode, text)
		require.Contains(p, text, `"taken":1`)
	}
	if i := slices.IndexFunc(op.Query, func(q httpapi.Parameter) bool { return q.Name == "format" }); i >= 0 {
		response, _ := p.send(queryIs("format", op.Query[i].Example.(string))(p, op, request))
		require.Contains(p, response.Header.Get("Content-Type"), "ndjson", op.ID)
	}
}

// at walks into an object.
func at(o object, path ...string) object {
	for _, name := range path {
		o = o[name].(object)
	}
	return o
}

func withoutExamples(o any) any {
	switch o := o.(type) {
	case object:
		clean := object{}
		for name, value := range o {
			if name != "example" {
				clean[name] = withoutExamples(value)
			}
		}
		return clean
	case []any:
		clean := []any{}
		for _, value := range o {
			clean = append(clean, withoutExamples(value))
		}
		return clean
	}
	return o
}

// checker checks answers against the schemas of a document.
func checker(t *testing.T, doc object) func(op httpapi.Operation, status int, media, text string) any {
	t.Helper()
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft2020)
	compiler.AssertFormat()
	plain, err := json.Marshal(doc)
	require.NoError(t, err)
	resource, err := jsonschema.UnmarshalJSON(bytes.NewReader(plain))
	require.NoError(t, err)
	require.NoError(t, compiler.AddResource("openapi.json", resource))
	escape := strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D")
	return func(op httpapi.Operation, status int, media, text string) any {
		t.Helper()
		where := fmt.Sprintf("paths/%s/%s/responses/%d", escape.Replace(op.Path), strings.ToLower(op.Method), status)
		response, described := at(doc, "paths", op.Path, strings.ToLower(op.Method), "responses")[fmt.Sprint(status)].(object)
		require.True(t, described, "%s describes no %d", op.ID, status)
		if shared, ok := response["$ref"].(string); ok {
			where = strings.TrimPrefix(shared, "#/")
		}
		schema, err := compiler.Compile("openapi.json#/" + where + "/content/" + escape.Replace(media) + "/schema")
		require.NoError(t, err, "%s describes no %d as %s", op.ID, status, media)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		require.NoError(t, err, text)
		require.NoError(t, schema.Validate(value), "%s: %s", op.ID, text)
		var again any
		require.NoError(t, json.Unmarshal([]byte(text), &again))
		return again
	}
}

func with(change func(r *http.Request)) func(*playground, httpapi.Operation, *http.Request) *http.Request {
	return func(_ *playground, _ httpapi.Operation, r *http.Request) *http.Request {
		change(r)
		return r
	}
}

func body(text string) func(*playground, httpapi.Operation, *http.Request) *http.Request {
	return with(func(r *http.Request) {
		r.Body, r.ContentLength = io.NopCloser(strings.NewReader(text)), int64(len(text))
	})
}

func bearerIs(key string) func(*playground, httpapi.Operation, *http.Request) *http.Request {
	return with(func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+key) })
}

// both changes a request in two ways.
func both(first, second func(*playground, httpapi.Operation, *http.Request) *http.Request) func(*playground, httpapi.Operation, *http.Request) *http.Request {
	return func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		return second(p, op, first(p, op, r))
	}
}

// pathIs replaces the parameter of a path.
func pathIs(parameter, value string) func(*playground, httpapi.Operation, *http.Request) *http.Request {
	return func(_ *playground, op httpapi.Operation, r *http.Request) *http.Request {
		there, asked := strings.Split(op.Path, "/"), strings.Split(r.URL.EscapedPath(), "/")
		for i, word := range there {
			if word == "{"+parameter+"}" {
				asked[i] = value
			}
		}
		address := *r.URL
		r.URL, _ = address.Parse(strings.Join(asked, "/"))
		r.URL.RawQuery = address.RawQuery
		return r
	}
}

func queryIs(name, value string) func(*playground, httpapi.Operation, *http.Request) *http.Request {
	return with(func(r *http.Request) {
		query := r.URL.Query()
		query.Set(name, value)
		r.URL.RawQuery = query.Encode()
	})
}

// outlives uses a key that expires to make one that expires later.
func outlives(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
	soon := time.Now().Add(time.Hour)
	made, err := client.API{Server: p.server.URL(), Key: key}.AddKey(p.Context(), wire.NewKey{Role: "operate", Expires: &soon})
	require.NoError(p, err)
	return bearerIs(made.Key)(p, op, body(`{"role":"read","expires":"2100-01-01T00:00:00Z"}`)(p, op, r))
}

// provocations make operations fail, by operation and code, or by code for all operations.
var provocations = map[string]func(*playground, httpapi.Operation, *http.Request) *http.Request{
	wire.CodeTooLarge: with(func(r *http.Request) { r.Header.Set("X-Long", strings.Repeat("x", 8000)) }),
	wire.CodeNoKey:    with(func(r *http.Request) { r.Header.Del("Authorization") }),
	wire.CodeBadKey:   bearerIs("guess"),
	wire.CodeWrongRole: func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		switch {
		case op.Reach == httpapi.ReachService:
			return bearerIs(p.bearers["operate"])(p, op, r)
		case op.Reach == httpapi.ReachRealm:
			return bearerIs(p.bearers["rooms"])(p, op, r)
		}
		return bearerIs(p.bearers["read"])(p, op, r)
	},
	wire.CodeBadField: func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		for _, parameter := range op.Query {
			if bad := badValue(parameter); bad != "" {
				return queryIs(parameter.Name, bad)(p, op, r)
			}
		}
		r.Header.Set("Idempotency-Key", strings.Repeat("x", 300))
		return r
	},
	wire.CodeKeyReused: func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		name := rand.Text()
		first, err := http.NewRequestWithContext(p.Context(), "POST", p.server.URL()+"/v1/counts", strings.NewReader(`{"rooms":["desk.night"]}`))
		require.NoError(p, err)
		first.Header = http.Header{"Authorization": r.Header["Authorization"], "Idempotency-Key": {name}}
		response, text := p.send(first)
		require.Equal(p, 200, response.StatusCode, text)
		r.Header.Set("Idempotency-Key", name)
		return r
	},
	wire.CodeAlone:             func(_ *playground, _ httpapi.Operation, r *http.Request) *http.Request { return r },
	wire.CodeUnknownNode:       pathIs("node", "plover"),
	wire.CodeNotJSON:           body("{"),
	"bad-room":                 pathIs("room", "a..b"),
	"bad-user":                 pathIs("user", "%01"),
	wire.CodeUnknownRoom:       pathIs("room", "desk.nobody"),
	wire.CodeUnknownPerson:     pathIs("user", "nobody"),
	wire.CodeUnknownHook:       pathIs("hook", "h-none"),
	wire.CodeUnknownDelivery:   pathIs("delivery", "0"),
	wire.CodeUnknownRealm:      pathIs("realm", "nowhere"),
	"no-session":               pathIs("session", "s-none"),
	wire.CodeBadToken:          bearerIs("no.jwt.token"),
	wire.CodeNoToken:           with(func(r *http.Request) { r.Header.Del("Authorization") }),
	wire.CodeBadOrigin:         with(func(r *http.Request) { r.Header.Set("Origin", "https://elsewhere.example") }),
	wire.CodeNoLink:            both(bearerIs("5QOG"), pathIs("session", "s-none")),
	"revokeKey unknown-key":    pathIs("key", "k-none"),
	"declareRoom bad-user":     body(`{"expected":["\u0001"]}`),
	"declareRoom unknown-room": outside("room", "desk.night"), "getExpected unknown-room": outside("room", "desk.night"), "removeFromRoom unknown-room": outside("room", "desk.night"),
	"listRooms bad-pattern": queryIs("match", "a.**.b"), "listJournal bad-pattern": queryIs("room", "a.**.b"), "listJournal bad-user": queryIs("user", "\x01"), "listPeople bad-user": queryIs("user", "\x01"),
	"listMembers old-revision": queryIs("rev", "AAAAAAAAAA.1"), "membersSeen old-revision": queryIs("rev", "AAAAAAAAAA.1"),
	"countSeen not-granted": narrow, "membersSeen not-granted": narrow, "statusSeen not-granted": func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		return pathIs("user", "w-99")(p, op, narrow(p, op, r))
	},
	"listAsks bad-room": queryIs("room", "a..b"), "listAsks unknown-room": outsideQuery, "listInvitations bad-user": queryIs("user", "\x01"),
	"no-ask": with(func(*http.Request) {}), "no-invitation": with(func(*http.Request) {}),
	"admit room-full": func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		inside, _ := p.person()
		_, err := client.API{Server: p.server.URL(), Key: key}.GrantPass(p.Context(), "desk.small", inside, wire.PassWanted{})
		require.NoError(p, err)
		dial(p.T, client.Options{Server: p.server.URL(), Token: mint(p.T, inside, "**"), Rooms: []string{"desk.small"}})
		_, link := p.person()
		return p.asks(link, "desk.small", op, r)
	},
	"admit engaged": func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		_, link := p.person()
		r = p.asks(link, "call.asking", op, r)
		require.NoError(p, link.Join(p.Context(), "call.other"))
		return r
	},
	"invite bad-room": body(`{"from":"e-01","to":"w-10","room":"a..b"}`), "invite bad-user": body(`{"from":"e-01","to":"e-01","room":"call.upstream"}`),
	"invite unknown-room": outsideBody(`{"from":"e-01","to":"w-10","room":"desk.night"}`), "invite offline": body(`{"from":"e-01","to":"nobody","room":"call.upstream"}`),
	"invite engaged": func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		user, _ := p.person("call.other")
		return p.invites("e-01", user)(p, op, r)
	},
	"invite already-here": func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		user, _ := p.person("call.upstream")
		return p.invites("e-01", user)(p, op, r)
	},
	"invite set-busy": func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		user, link := p.person()
		require.NoError(p, link.SetStatus(p.Context(), "busy", "", time.Time{}))
		return p.invites("e-01", user)(p, op, r)
	},
	"invite too-many-invitations": func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		user, _ := p.person()
		_, err := client.API{Server: p.server.URL(), Key: key}.Invite(p.Context(), wire.NewInvitation{From: "w-12", To: user, Room: "call.upstream"})
		require.NoError(p, err)
		return p.invites("e-01", user)(p, op, r)
	},
	"invite hiding": func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		link := dial(p.T, client.Options{Server: p.server.URL(), Token: tokenOf(p.T, client.Token{User: "e-09", Grants: wire.Grants{Rooms: []string{"**"}, Hide: true}})})
		require.NoError(p, link.Hide(p.Context(), true))
		return p.invites("e-09", "w-10")(p, op, r)
	},
	"grantPass bad-pass":      body(`{"until":"2020-01-01T00:00:00Z"}`),
	"grantPass unknown-room":  outside("room", "desk.night"),
	"revokePass unknown-room": outside("room", "desk.night"),
	"removed":                 taken,
	"countRooms bad-room":     body(`{"rooms":["a..b"]}`),
	"countRooms unknown-room": outsideBody(`{"rooms":["desk.night"]}`),
	"putPerson bad-profile":   body(`{"name":"\u0001"}`), "setStatus bad-status": body(`{"status":"asleep"}`), "setStatus bad-note": body(`{"status":"busy","note":"\u0001"}`),
	"listStatuses bad-user": body(`{"users":["\u0001"]}`), "explainPerson bad-room": queryIs("room", "a..b"),
	"getTiming bad-pattern": queryIs("room", "a.**.b"), "listSessions bad-room": queryIs("room", "a..b"), "listAttendance bad-room": queryIs("room", "a..b"), "listHeadcount bad-room": queryIs("room", "a..b"), "listPolicies bad-room": queryIs("room", "a..b"),
	"listSessions unknown-room": outsideQuery, "listAttendance unknown-room": outsideQuery, "listHeadcount unknown-room": outsideQuery,
	"addHook bad-pattern": body(`{"url":"https://a.example","kinds":["room.empty"],"rooms":["a.**.b"]}`), "changeHook bad-pattern": body(`{"url":"https://a.example","kinds":["room.empty"],"rooms":["a.**.b"]}`),
	"addKey bad-pattern": body(`{"role":"read","rooms":["a.**.b"]}`), "addKey not-granted": outlives,
	"addTokenKey exists": again, "addRealm exists": again, "removeRealm bad-field": pathIs("realm", "main"),
	"revokeTokenKey unknown-key": pathIs("kid", "none"), "profile unknown-path": pathIs("profile", "none"), "problem unknown-path": pathIs("code", "none"),
	"reload bad-config": with(func(*http.Request) {}), "openLink not-websocket": with(func(*http.Request) {}), "practise not-json": body("{"), "practise no-practice": with(func(*http.Request) {}),
	"getTicket not-json": body("{"), "getTicket wrong-version": body(`{"version":9}`), "getTicket not-granted": narrow, "getTicket bad-room": body(`{"version":1,"rooms":["a..b"]}`),
	"openFeed bad-ticket": with(func(r *http.Request) { r.Header.Del("Authorization"); r.URL.RawQuery = "ticket=none" }), "openFeed not-granted": narrow, "openFeed bad-field": with(func(r *http.Request) { r.URL.RawQuery = "watch=desk.night&detail=all" }),
	"beat not-json": body("{"), "beat not-granted": narrow, "beat bad-field": body(`{"rooms":"basin"}`), "beat bad-room": body(`{"rooms":["a..b"]}`),
	"postToLink bad-field": both(bearerIs("5QOG"), pathIs("link", "one")), "closing not-json": body("{"), "closing bad-field": body(`{"resume_key":"5QOG"}`), "getSession bad-field": bearerIs("a.person's.token"), "bye bad-field": bearerIs(""), "closing too-large": body(strings.Repeat(" ", wire.MaxFrame+1)), "signIn not-json": body("{"), "signIn bad-key": body(`{"key":"guess"}`),
	"redeliver exists": func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		return pathIs("delivery", p.replace["waiting"])(p, op, r)
	},
}

// guess tries wrong keys from one address until it is locked out. The number varies, because on
// a slow machine the guard forgets some.
func (p *playground) guess(op httpapi.Operation) (response *http.Response, text string) {
	for range 1000 {
		request := bearerIs("guess")(p, op, p.request(op))
		if op.ID == "signIn" {
			request = body(`{"key":"guess"}`)(p, op, request)
		}
		request.Header.Set("X-Forwarded-For", "203.0.113.7")
		if response, text = p.send(request); response.StatusCode == http.StatusTooManyRequests {
			break
		}
	}
	return response, text
}

// askTooOften lists the rooms until the operator's key has asked too often.
func (p *playground) askTooOften() {
	for range 1000 {
		if response, _ := p.send(p.request(operation("listRooms"))); response.StatusCode == http.StatusTooManyRequests {
			return
		}
	}
}

// outside uses a key for other rooms.
func outside(parameter, value string) func(*playground, httpapi.Operation, *http.Request) *http.Request {
	return func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		return bearerIs(p.bearers["rooms"])(p, op, pathIs(parameter, value)(p, op, r))
	}
}

func outsideQuery(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
	return bearerIs(p.bearers["rooms"])(p, op, queryIs("room", "desk.night")(p, op, r))
}

func outsideBody(text string) func(*playground, httpapi.Operation, *http.Request) *http.Request {
	return func(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
		return bearerIs(p.bearers["rooms"])(p, op, body(text)(p, op, r))
	}
}

func narrow(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
	return bearerIs(mint(p.T, "e-01", "desk.night"))(p, op, r)
}

// taken uses the token of a person who was removed later.
func taken(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
	token := tokenOf(p.T, client.Token{User: "r-01", Issued: longAgo(), Grants: wire.Grants{Rooms: []string{"**"}, People: []string{"*"}}})
	_, err := client.API{Server: p.server.URL(), Key: key}.Remove(p.Context(), "r-01", "")
	require.NoError(p, err)
	return bearerIs(token)(p, op, r)
}

// again repeats a creation.
func again(p *playground, op httpapi.Operation, r *http.Request) *http.Request {
	_, _ = p.send(p.request(op))
	return r
}

// TestEveryDocumentedProblemCanHappen provokes every documented problem of every operation, and
// checks the answers against the document.
func TestEveryDocumentedProblemCanHappen(t *testing.T) {
	p := newPlayground(t, server.Config{})
	api := client.API{Server: p.server.URL(), Key: key}
	for name, asked := range map[string]wire.NewKey{"read": {Role: "read"}, "operate": {Role: "operate"}, "rooms": {Role: "operate", Rooms: []string{"basin.*"}}} {
		made, err := api.AddKey(t.Context(), asked)
		require.NoError(t, err)
		p.bearers[name] = made.Key
	}
	p.makeWaitingDelivery(api)
	others := map[string]*playground{wire.CodeUnknownNode: newNode(t), wire.CodeTooFast: newPlayground(t, server.Config{RequestsPerSecond: 1}), wire.CodeBadConfig: newPlayground(t, server.Config{MaxConnections: 500})}
	check := checker(t, document(t))
	for _, op := range httpapi.Operations() {
		for _, code := range codesOf(op) {
			one := p
			if other := others[code]; other != nil {
				one = other
			}
			var response *http.Response
			var text string
			switch code {
			case wire.CodeTooFast:
				for range 10 {
					one.askTooOften() // a slow request alone would never exceed the limit
					if response, text = one.send(one.request(op)); response.StatusCode == http.StatusTooManyRequests {
						break
					}
				}
				require.NotEmpty(t, response.Header.Get("Retry-After"), op.ID)
			case wire.CodeLockedOut:
				response, text = one.guess(op)
			case wire.CodeNotReady, wire.CodeNotRecorded, wire.CodeNoPractice:
				continue // TestProblemsOfAServiceThatIsNotWell
			default:
				provoke := provocations[op.ID+" "+code]
				if provoke == nil {
					provoke = provocations[code]
				}
				require.NotNil(t, provoke, "%s can fail with %s, and nothing here provokes that", op.ID, code)
				request := provoke(one, op, one.request(op))
				if request.Header.Get("X-Forwarded-For") == "" {
					one.served++ // lest refused keys add up
					request.Header.Set("X-Forwarded-For", fmt.Sprintf("198.51.100.%d", one.served%250+1))
				}
				response, text = one.send(request)
			}
			problemType, _ := wire.ProblemTypeOf(code)
			require.Equal(t, problemType.Status, response.StatusCode, "%s should fail with %s: %s", op.ID, code, text)
			problem := check(op, problemType.Status, "application/problem+json", text).(object)
			require.Equal(t, code, problem["code"], op.ID)
			require.Equal(t, response.Header.Get("X-Request-ID"), problem["request"], op.ID)
		}
	}
}

// makeWaitingDelivery makes a delivery that cannot succeed.
func (p *playground) makeWaitingDelivery(api client.API) {
	made, err := api.AddHook(p.Context(), wire.NewHook{URL: "http://127.0.0.1:1/", Kinds: []string{"member.left"}})
	p.replace["hook-4f1c"] = made.ID
	require.NoError(p, err)
	require.NoError(p, dial(p.T, client.Options{Server: p.server.URL(), Token: mint(p.T, "w-18", "**"), Rooms: []string{weir}}).Bye(p.Context()))
	require.Eventually(p, func() bool {
		page, err := api.Deliveries(p.Context(), made.ID, "waiting", 0, 1)
		if err != nil || len(page.Deliveries) == 0 || page.Deliveries[0].Attempts == 0 {
			return false
		}
		p.replace["waiting"] = fmt.Sprint(page.Deliveries[0].ID)
		return true
	}, patience, 20*time.Millisecond)
}

// TestProblemsOfAServiceThatIsNotWell provokes the problems that need an unhealthy service.
func TestProblemsOfAServiceThatIsNotWell(t *testing.T) {
	t.Parallel()
	check := checker(t, document(t))
	fails := func(p *playground, id, code string) {
		t.Helper()
		op := operation(id)
		response, text := p.send(p.request(op))
		problemType, _ := wire.ProblemTypeOf(code)
		require.Equal(t, problemType.Status, response.StatusCode, "%s: %s", id, text)
		require.Equal(t, code, check(op, response.StatusCode, "application/problem+json", text).(object)["code"])
	}
	fails(&playground{T: t, server: start(t, nil)}, "practise", wire.CodeNoPractice)

	early, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key})
	require.NoError(t, err)
	defer func() { require.NoError(t, early.Stop()) }()
	fails(&playground{T: t, server: early}, "readiness", wire.CodeNotReady)

	dir := t.TempDir()
	p := &playground{T: t, server: startWith(t, server.Config{Data: dir, Policy: askingAt("desk.meeting")}), replace: map[string]string{}}
	for range 2 {
		_, link := p.person()
		require.NoError(t, link.Join(t.Context(), "desk.meeting"))
	}
	_, asks := p.send(p.request(operation("listAsks")))
	p.learn(operation("listAsks"), check(operation("listAsks"), 200, "application/json", asks).(object))
	onRecord(t, client.API{Server: p.server.URL(), Key: key}, "ok")
	release := holdRecords(t, dir)
	presenceGoesOn(t, p.server, "ilse")
	onRecord(t, client.API{Server: p.server.URL(), Key: key}, "failing")
	for _, op := range httpapi.Operations() {
		if slices.Contains(op.Fails, wire.CodeNotRecorded) {
			fails(p, op.ID, wire.CodeNotRecorded)
		}
	}
	release()
}

// TestARequestIsCarriedOutOnce repeats requests with their idempotency key.
func TestARequestIsCarriedOutOnce(t *testing.T) {
	t.Parallel()
	s := startWith(t, server.Config{PrivateHooks: true})
	hold, arrived := make(chan struct{}), make(chan struct{}, 1)
	slow := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { arrived <- struct{}{}; <-hold }))
	defer slow.Close()
	send := func(name, bearer, method, path, body string) (int, string) {
		request, err := http.NewRequestWithContext(t.Context(), method, s.URL()+path, strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+bearer)
		request.Header.Set("Idempotency-Key", name)
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer func() { _ = response.Body.Close() }()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	const asked = `{"name":"billing","role":"operate"}`
	status, first := send("one", key, "POST", "/v1/keys", asked)
	require.Equal(t, 201, status)
	status, again := send("one", key, "POST", "/v1/keys", asked)
	require.Equal(t, 201, status)
	require.Equal(t, first, again, "with the same key in it")
	_, other := send("two", key, "POST", "/v1/keys", asked)
	require.NotEqual(t, first, other)
	status, text := send("one", key, "POST", "/v1/keys", `{"name":"billing","role":"write"}`)
	require.Equal(t, 422, status)
	require.Contains(t, text, wire.CodeKeyReused)
	status, _ = send("one", key, "POST", "/v1/realms", asked)
	require.Equal(t, 422, status, "another address")
	var made wire.Key
	require.NoError(t, json.Unmarshal([]byte(first), &made))
	status, mine := send("one", made.Key, "POST", "/v1/keys", asked)
	require.Equal(t, 201, status, "another key's names are its own")
	require.NotEqual(t, first, mine)
	status, wrong := send("bad", key, "POST", "/v1/keys", `{"role":"king"}`)
	require.Equal(t, 400, status)
	_, wrongAgain := send("bad", key, "POST", "/v1/keys", `{"role":"king"}`)
	require.Equal(t, wrong, wrongAgain)

	hook, err := client.API{Server: s.URL(), Key: key}.AddHook(t.Context(), wire.NewHook{URL: slow.URL, Kinds: []string{"room.empty"}})
	require.NoError(t, err)
	ended := make(chan int)
	go func() {
		status, _ := send("slow", key, "POST", "/v1/hooks/"+hook.ID+"/test", "")
		ended <- status
	}()
	<-arrived
	status, text = send("slow", key, "POST", "/v1/hooks/"+hook.ID+"/test", "")
	require.Equal(t, 409, status)
	require.Contains(t, text, wire.CodeUnderWay)
	close(hold)
	require.Equal(t, 200, <-ended)
	keys, err := client.API{Server: s.URL(), Key: key}.Keys(t.Context())
	require.NoError(t, err)
	require.Len(t, keys.Keys, 3)
}

// TestWhoHasAnAnswerIsNotSentItAgain repeats requests with the ETag until the answer changes.
func TestWhoHasAnAnswerIsNotSentItAgain(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	get := func(path, tag string) *http.Response {
		request, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+key)
		request.Header.Set("If-None-Match", tag)
		request.Header.Set("Accept-Encoding", "gzip")
		request.Header.Set("Origin", "https://app.example")
		response, err := http.DefaultTransport.RoundTrip(request)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		return response
	}
	for _, what := range []string{"Origin", "Cookie", "Accept-Encoding"} {
		require.Contains(t, get("/v1/sessions", "").Header.Get("Vary"), what, "what pages of other origins may ask depends on that, too")
	}
	tags := map[string]string{}
	paths := []string{"/v1/rooms", "/v1/rooms/" + weir, "/v1/rooms/" + weir + "/members", "/v1/rooms/" + weir + "/members?status=online", "/v1/policies", "/openapi.json"}
	for _, path := range paths {
		response := get(path, "")
		require.Equal(t, 200, response.StatusCode, path)
		tags[path] = response.Header.Get("ETag")
		require.NotEmpty(t, tags[path], path)
		require.Contains(t, response.Header.Get("Vary"), "Accept-Encoding", path)
		require.Equal(t, 304, get(path, tags[path]).StatusCode, path)
	}
	require.Equal(t, "gzip", get("/openapi.json", "").Header.Get("Content-Encoding"))
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
	for _, path := range paths[:4] {
		require.Equal(t, 200, get(path, tags[path]).StatusCode, path)
	}
	require.Equal(t, 304, get("/v1/policies", tags["/v1/policies"]).StatusCode)
}

// TestARoomIsPagedAtOneRevision pages through a room while it changes, also by status.
func TestARoomIsPagedAtOneRevision(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	links := map[string]*client.Link{}
	for i := range 7 {
		user := fmt.Sprint("w-", i)
		links[user] = dial(t, client.Options{Server: s.URL(), Token: mint(t, user), Rooms: []string{weir}})
		if i%2 == 1 {
			require.NoError(t, links[user].Idle(t.Context()))
		}
	}
	users := func(ask client.MembersQuery) (found []string) {
		for {
			page, err := api.MembersPage(t.Context(), weir, ask)
			require.NoError(t, err)
			for _, m := range page.Members {
				found = append(found, m.User)
			}
			if page.Next == "" {
				return found
			}
			ask.Rev, ask.After = page.Rev, page.Next
			if links["w-4"] != nil {
				require.NoError(t, links["w-4"].Bye(t.Context()))
				delete(links, "w-4")
			}
		}
	}
	require.Equal(t, []string{"w-0", "w-1", "w-2", "w-3", "w-4", "w-5", "w-6"}, users(client.MembersQuery{Limit: 3}))
	require.Equal(t, []string{"w-0", "w-2", "w-6"}, users(client.MembersQuery{Limit: 2, Status: "online"}))
	require.Equal(t, []string{"w-1", "w-3", "w-5"}, users(client.MembersQuery{Status: "away"}))
	_, err := api.MembersPage(t.Context(), weir, client.MembersQuery{Rev: "AAAAAAAAAA.7", After: "w-1"})
	var problem *client.Error
	require.ErrorAs(t, err, &problem)
	require.Equal(t, wire.CodeOldRevision, problem.Code)
}

// TestListsAreFollowed reads lists as event streams, until the key expires.
func TestListsAreFollowed(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	made, err := api.AddKey(t.Context(), wire.NewKey{Role: "read"})
	require.NoError(t, err)
	events := func(path string) *bufio.Scanner {
		request, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+made.Key)
		request.Header.Set("Accept", "text/event-stream")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		require.Equal(t, 200, response.StatusCode)
		t.Cleanup(func() { _ = response.Body.Close() })
		return bufio.NewScanner(response.Body)
	}
	until := func(lines *bufio.Scanner, text string) {
		t.Helper()
		for lines.Scan() {
			if strings.Contains(lines.Text(), text) {
				return
			}
		}
		t.Fatalf("the stream ended before %q", text)
	}
	rooms, members, status := events("/v1/rooms?match=basin.*"), events("/v1/rooms/"+weir+"/members"), events("/v1/people/ilse/status")
	until(status, `"status":"offline"`)
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	until(rooms, `"room":"`+weir+`"`)
	until(members, `"user":"ilse"`)
	until(status, `"status":"online"`)
	require.NoError(t, api.RevokeKey(t.Context(), made.ID))
	for rooms.Scan() {
	}
	for members.Scan() {
	}
	require.NoError(t, members.Err())
}

// TestTheConfigurationIsReloadedWholeOrNotAtAll reloads valid and invalid configurations.
func TestTheConfigurationIsReloadedWholeOrNotAtAll(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	var next server.Config
	var broken error
	c := server.Config{Policy: &policy, Listen: "127.0.0.1:0", Reread: func() (server.Config, error) { return next, broken }}
	s := startWith(t, c)
	api := client.API{Server: s.URL(), Key: key}
	shorter := presence.DefaultPolicy()
	shorter.IdleAfter, shorter.BeatEvery = 50*time.Millisecond, 20*time.Second
	shorter.Rooms = []presence.PatternPolicy{{Pattern: "basin.*", RoomPolicy: shorter.RoomPolicy}}
	shorter.Rooms[0].GraceLost = 42 * time.Second
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	refused := func(words string) {
		t.Helper()
		_, err := api.Reload(t.Context())
		var problem *client.Error
		require.ErrorAs(t, err, &problem)
		require.Equal(t, wire.CodeBadConfig, problem.Code)
		require.Contains(t, problem.Detail, words)
		doc, err := api.Policies(t.Context(), weir)
		require.NoError(t, err)
		require.Equal(t, int64(10_000), doc.Policies[0].GraceLost)
	}
	next, broken = c, errors.New("tovik.toml:7: grace.lost is wrong")
	refused("tovik.toml:7")
	broken, next.Policy, next.Settings.MaxConnections = nil, &shorter, 500
	refused("max_connections")
	next.Settings.MaxConnections, next.Realms = 0, map[string]server.RealmConfig{"main": {Origins: []string{"https://app.example"}}}
	refused(`realm "main"`)
	next.Realms = nil
	done, err := api.Reload(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{"policies"}, done.Changed)
	doc, err := api.Policies(t.Context(), weir)
	require.NoError(t, err)
	require.Equal(t, int64(42_000), doc.Policies[0].GraceLost)
	require.Equal(t, "basin.*", doc.Policies[0].Pattern)
	require.Eventually(t, func() bool { // the timer of before would let it be idle in five minutes
		statuses, err := api.Statuses(t.Context(), "ilse")
		return err == nil && statuses.Statuses[0].Status == "away"
	}, patience, 10*time.Millisecond)
	require.NoError(t, link.Bye(t.Context()))
}

// holdRecords locks the file of the records until it is released.
func holdRecords(t *testing.T, dir string) (release func()) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, "tovik.db")+"?_pragma=busy_timeout(60000)") // the service may be writing
	require.NoError(t, err)
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	_, err = conn.ExecContext(t.Context(), "BEGIN IMMEDIATE")
	require.NoError(t, err)
	return func() {
		_, err = conn.ExecContext(context.WithoutCancel(t.Context()), "ROLLBACK")
		require.NoError(t, err)
		require.NoError(t, errors.Join(conn.Close(), db.Close()))
	}
}
