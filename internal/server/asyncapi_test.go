package server_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// description is wire/asyncapi.yaml and the frames that were checked against it.
type description struct {
	t       *testing.T
	schemas map[string]*jsonschema.Schema // by message
	byType  map[bool]map[string]string    // from the client or not, by the type of a frame
	seen    map[string]bool
}

func describe(t *testing.T) *description {
	var document struct {
		Operations map[string]struct {
			Action   string
			Messages []map[string]string
		}
		Components struct {
			Messages map[string]struct{ Payload map[string]string }
			Schemas  map[string]struct {
				Properties map[string]struct{ Const string }
			}
		}
	}
	require.NoError(t, yaml.Unmarshal(wire.AsyncAPI, &document))
	var plain any
	require.NoError(t, yaml.Unmarshal(wire.AsyncAPI, &plain))
	text, err := json.Marshal(plain)
	require.NoError(t, err)
	resource, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft7)
	require.NoError(t, compiler.AddResource("asyncapi.json", resource))

	d := &description{t: t, schemas: map[string]*jsonschema.Schema{}, byType: map[bool]map[string]string{true: {}, false: {}}, seen: map[string]bool{}}
	for name, message := range document.Components.Messages {
		schema := strings.TrimPrefix(message.Payload["$ref"], "#/components/schemas/")
		d.schemas[name], err = compiler.Compile("asyncapi.json#/components/schemas/" + schema)
		require.NoError(t, err)
		frame := document.Components.Schemas[schema].Properties["type"].Const
		for _, operation := range document.Operations {
			for _, m := range operation.Messages {
				if strings.HasSuffix(m["$ref"], "/"+name) {
					d.byType[operation.Action == "receive"][frame] = name
				}
			}
		}
	}
	return d
}

// holds checks a frame.
func (d *description) holds(fromClient bool, data []byte) {
	d.t.Helper()
	frame, err := jsonschema.UnmarshalJSON(strings.NewReader(string(data)))
	require.NoError(d.t, err)
	name, known := d.byType[fromClient][frame.(map[string]any)["type"].(string)]
	require.True(d.t, known, "no message describes %s", data)
	require.NoError(d.t, d.schemas[name].Validate(frame), "%s", data)
	d.seen[fmt.Sprint(fromClient, " ", name)] = true
}

// talker is a raw client that checks its frames against the description.
type talker struct {
	*raw
	*description
}

func (d *description) talk(s *server.Server) talker { return talker{connect(d.t, s), d} }

func (c talker) say(format string, args ...any) talker {
	c.description.t.Helper()
	frame := fmt.Sprintf(format, args...)
	c.holds(true, []byte(frame))
	c.send(frame)
	return c
}

// until reads up to a frame of a type.
func (c talker) until(kind string) map[string]any {
	c.description.t.Helper()
	for {
		_, data, err := c.conn.ReadMessage()
		require.NoError(c.description.t, err)
		c.holds(false, data)
		var frame map[string]any
		require.NoError(c.description.t, json.Unmarshal(data, &frame))
		if frame["type"] == kind {
			return frame
		}
	}
}

// untilAll reads until several frames have come, in any order.
func (c talker) untilAll(kinds ...string) {
	c.description.t.Helper()
	missing := map[string]bool{}
	for _, kind := range kinds {
		missing[kind] = true
	}
	for len(missing) > 0 {
		_, data, err := c.conn.ReadMessage()
		require.NoError(c.description.t, err)
		c.holds(false, data)
		var frame struct{ Type string }
		require.NoError(c.description.t, json.Unmarshal(data, &frame))
		delete(missing, frame.Type)
	}
}

// The service accepts exactly the fields of a request that the description has.
func TestRequestsHaveTheFieldsThatAsyncAPIDescribes(t *testing.T) {
	t.Parallel()
	var document struct {
		Components struct {
			Schemas map[string]struct {
				Properties map[string]struct{ Const string }
			}
		}
	}
	require.NoError(t, yaml.Unmarshal(wire.AsyncAPI, &document))
	described := map[string][]string{}
	for name, schema := range document.Components.Schemas {
		kind := schema.Properties["type"].Const
		if name == "typing" || name == "cue" || wire.RequestFields[kind] == nil { // frames of the service
			continue
		}
		fields := []string{}
		for field := range schema.Properties {
			if field != "type" && field != "id" {
				fields = append(fields, field)
			}
		}
		described[kind] = fields
	}
	for kind, fields := range wire.RequestFields {
		require.ElementsMatch(t, fields, described[kind], kind)
	}
}

func TestFramesAreAsAsyncAPIDescribesThem(t *testing.T) {
	t.Parallel()
	policy := brisk()
	asks := policy.RoomPolicy
	asks.Entry = presence.EntryAsk
	policy.Rooms = []presence.PatternPolicy{{Pattern: "sluice.*", RoomPolicy: asks}}
	policy.BeatEvery, policy.BeatTolerance, policy.ExpiryWarning = 300*time.Millisecond, 100, 59*time.Minute+59*time.Second
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Policy: policy})
	require.NoError(t, err)
	d := describe(t)
	everything := func(user string) string {
		all := []string{"**"}
		token, err := client.Token{User: user, Name: "Ilse Marrow", Picture: "https://pictures.example/1",
			Grants: wire.Grants{Rooms: all, Cue: all, People: []string{"*"}, Hide: true, Moderate: all, Admit: []string{"sluice.gate"}, Invite: all}}.Sign(secret)
		require.NoError(t, err)
		return token
	}

	a, b := d.talk(s), d.talk(s)
	a.say(`{"type":"hello","id":1,"version":1,"token":%q,"nonce":"n","rooms":[%q],"detail":"members","idle_for":1000,"page_hidden":true,`+
		`"watch":[{"room":"desk.*","detail":"count"},{"people":["tobin"]}],"revs":{%q:"OLD.4"}}`, everything("ilse"), weir, weir)
	opened := a.until("answer")
	a.untilAll("snapshot", "person")
	b.say(`{"type":"hello","version":1,"token":%q,"nonce":"n","rooms":[]}`, everything("tobin")).until("answer")
	b.say(`{"type":"join","id":2,"room":%q,"detail":"none"}`, weir).until("answer")
	a.until("changes")
	b.say(`{"type":"join","id":"two","room":"desk.night"}`).until("answer")
	a.until("count")
	b.say(`{"type":"typing","id":3,"room":%q,"on":true,"number":1}`, weir).until("answer")
	a.until("typing")
	b.say(`{"type":"sent","id":3,"room":%q,"number":2}`, weir).until("answer")
	b.say(`{"type":"status","id":4,"status":"busy","note":"at the sluice","until":"2100-01-01T00:00:00Z"}`).until("answer")
	a.until("person")
	b.say(`{"type":"cue","id":5,"room":%q,"name":"wave","data":{"hand":["left"]},"everyone":true}`, weir).until("cue")
	a.until("cue")
	b.say(`{"type":"cue","id":6,"session":%q,"name":"nod"}`, opened["session"]).until("answer")
	b.say(`{"type":"watch","id":7,"room":"basin.*"}`).until("answer")
	b.say(`{"type":"watch","id":8,"people":["ilse"]}`).until("answer")
	b.say(`{"type":"unwatch","id":9,"people":["ilse"]}`).until("answer")
	b.say(`{"type":"unwatch","id":9,"room":"basin.*"}`).until("answer")
	b.say(`{"type":"members","id":10,"room":%q,"limit":1,"after":"a"}`, weir).until("answer")
	b.say(`{"type":"activity","id":11,"idle_for":500}`).until("answer")
	b.say(`{"type":"hide","id":11,"on":false}`).until("answer")
	b.say(`{"type":"idle","id":12}`).until("answer")
	b.say(`{"type":"page","id":13,"page_hidden":false}`).until("answer")
	b.until("beat")
	b.say(`{"type":"beat","id":14}`).until("answer")
	b.say(`{"type":"leave","id":15,"room":"desk.empty"}`).until("error")
	b.say(`{"type":"doing","id":20,"room":%q,"data":{"page":3},"number":1}`, weir).until("answer")
	for !strings.Contains(fmt.Sprint(a.until("changes")), "page:3") { // the status may come in a change of its own
	}
	b.say(`{"type":"status","id":20}`).until("answer") // free to be invited
	m := d.talk(s)
	m.say(`{"type":"hello","version":1,"token":%q,"rooms":["sluice.gate","desk.handover"],"device":"phone","without":["doing"]}`, everything("mara")).until("answer")
	require.Empty(t, m.until("asks")["asks"], "nobody asks yet")
	n := d.talk(s)
	plain, err := client.Token{User: "joss", Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(secret)
	require.NoError(t, err)
	n.say(`{"type":"hello","version":1,"token":%q,"rooms":[]}`, plain).until("answer")
	ask := n.say(`{"type":"join","id":21,"room":"sluice.gate"}`).until("answer")["ask"].(map[string]any)["ask"]
	require.Contains(t, fmt.Sprint(m.until("asks")), ask)
	m.say(`{"type":"admit","id":22,"ask":%q}`, ask).until("answer")
	require.Equal(t, "admitted", n.until("ask")["outcome"])
	ask = n.say(`{"type":"join","id":23,"room":"sluice.weir"}`).until("answer")["ask"].(map[string]any)["ask"]
	m.say(`{"type":"refuse","id":24,"ask":%q}`, ask).until("error") // not in that room
	invitation := m.say(`{"type":"invite","id":25,"user":"tobin","room":"desk.handover"}`).until("answer")["invitation"]
	b.until("invitations")
	b.say(`{"type":"decline","id":26,"invitation":%q}`, invitation).until("answer")
	require.Equal(t, "declined", m.until("invitation")["outcome"])
	invitation = m.say(`{"type":"invite","id":27,"user":"tobin","room":"desk.handover"}`).until("answer")["invitation"]
	m.say(`{"type":"withdraw","id":28,"invitation":%q}`, invitation).until("answer")
	invitation = m.say(`{"type":"invite","id":29,"user":"tobin","room":"desk.handover"}`).until("answer")["invitation"]
	b.say(`{"type":"accept","id":30,"invitation":%q,"detail":"count"}`, invitation).until("answer")
	m.say(`{"type":"bye"}`)
	n.say(`{"type":"bye"}`)
	if !d.seen["false expiring"] { // where everything is slow, it has come before
		a.until("expiring")
	}
	a.say(`{"type":"renew","id":16,"token":%q}`, everything("ilse")).until("answer")
	c := d.talk(s)
	c.say(`{"type":"hello","version":1,"token":%q,"nonce":"n","rooms":[%q],"resume":{"session":%q,"resume_key":%q},"revs":{%q:"OLD.4"}}`, everything("ilse"), weir,
		opened["session"], opened["resume_key"], weir).until("answer")
	c.until("snapshot")
	b.say(`{"type":"leave","id":17,"room":%q}`, weir).until("answer")
	b.say(`{"type":"closing","id":18}`).until("answer")
	c.until("changes")
	e := d.talk(s)
	e.say(`{"type":"hello","version":1,"token":%q,"watch_only":true}`, everything("hanne")).until("answer")
	e.say(`{"type":"bye","id":1}`).until("answer")
	f := d.talk(s)
	f.say(`{"type":"hello","version":1,"token":%q,"rooms":[]}`, everything("tobin")).until("answer") // busy
	f.say(`{"type":"remove","id":2,"room":%q,"user":"ilse"}`, weir).until("answer")
	c.until("dropped")
	f.say(`{"type":"sign-out","id":1}`).until("answer")

	stopped := make(chan error)
	go func() { stopped <- s.Stop() }()
	c.until("moving")
	require.Equal(t, websocket.CloseServiceRestart, c.closed())
	_ = c.conn.Close()
	require.NoError(t, <-stopped)

	for fromClient, messages := range d.byType {
		for _, name := range messages {
			require.True(t, d.seen[fmt.Sprint(fromClient, " ", name)], "no %s was seen (from a client: %t)", name, fromClient)
		}
	}
}
