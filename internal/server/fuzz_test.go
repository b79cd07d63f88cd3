package server_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// fuzzed starts a service. It returns a function that mints tokens with all grants, each for
// another person.
func fuzzed(f *testing.F) (*server.Server, func() string) {
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Practice: true})
	require.NoError(f, err)
	s.Ready()
	f.Cleanup(func() { _ = s.Stop() })
	all := []string{"**"}
	var n atomic.Int64
	return s, func() string {
		token, err := client.Token{User: fmt.Sprint("w-", n.Add(1)), TTL: 100 * time.Hour,
			Grants: wire.Grants{Rooms: all, Cue: all, People: []string{"*"}, Hide: true, Moderate: all}}.Sign(secret)
		if err != nil {
			panic(err)
		}
		return token
	}
}

// FuzzFrames sends a hello and then arbitrary frames. The service answers with documented words
// or closes the link.
func FuzzFrames(f *testing.F) {
	s, token := fuzzed(f)
	for _, frame := range []string{
		`{"type":"join","id":1,"room":"desk.night"}`, `{"type":"cue","name":"x","room":"a","data":[{}]}`, `{"type":"status","status":"busy","until":"2100-01-01T00:00:00Z"}`,
		`{"type":"watch","people":["a"],"room":"b"}`, `{"type":"members","room":"a","rev":"R.9999999999999999999","limit":-1}`, `{"type":"typing","room":"a","number":18446744073709551615}`,
		`{"type":"activity","idle_for":1e9}`, `{"type":"hello"}`, `[]`, `{"id":null,"type":"beat"}`, `{"type":"remove","user":"\u0000","room":"a"}`,
	} {
		f.Add([]byte(frame))
	}
	f.Fuzz(func(t *testing.T, frame []byte) {
		conn, response, err := websocket.DefaultDialer.Dial(strings.Replace(s.URL(), "http", "ws", 1)+"/v1/link", nil)
		require.NoError(t, err)
		_ = response.Body.Close()
		defer func() { _ = conn.Close() }()
		_ = conn.SetReadDeadline(time.Now().Add(patience))
		for _, text := range [][]byte{[]byte(`{"type":"hello","id":"h","version":1,"token":"` + token() + `","nonce":"n","rooms":["desk.night"]}`), frame, []byte(`{"type":"beat","id":"last"}`)} {
			if err := conn.WriteMessage(websocket.TextMessage, text); err != nil {
				return
			}
		}
		for {
			_, data, err := conn.ReadMessage()
			if err != nil {
				require.True(t, websocket.IsCloseError(err, 1000, 1007, 1009, wire.CloseEnded, wire.CloseClosing, wire.CloseExpired), "%v", err)
				return
			}
			var answer struct{ Type, Code, Re string }
			_ = json.Unmarshal(data, &answer) // an id that is a number is not looked at
			require.NotEqual(t, wire.CodeInternal, answer.Code)
			if answer.Type == wire.TypeError {
				_, explained := wire.ProblemTypeOf(answer.Code)
				require.True(t, explained, "%s", data)
			}
			if answer.Re == "last" {
				require.NoError(t, conn.WriteMessage(websocket.TextMessage, []byte(`{"type":"bye"}`)))
			}
		}
	})
}

// FuzzBodies sends arbitrary bodies to each path that takes one. The service answers as
// documented or with a problem.
func FuzzBodies(f *testing.F) {
	s, token := fuzzed(f)
	one := token()
	paths := []struct{ method, path, bearer string }{
		{"POST", "/v1/closing", ""}, {"POST", "/v1/tickets", one}, {"PUT", "/v1/sessions/new", one}, {"PUT", "/v1/sessions/s-1", one}, {"POST", "/v1/practice", ""},
		{"POST", "/v1/sign-in", ""}, {"POST", "/v1/keys", key}, {"POST", "/v1/token-keys", key}, {"POST", "/v1/realms", key}, {"POST", "/v1/sessions/s-1/links/1", "k"},
	}
	for i, body := range []string{`{}`, `{"role":"read","rooms":["a"]}`, `{"id":"k","algorithm":"EdDSA","key":"x"}`, `{"rooms":["a"],"typing":["b"],"revs":{"a":"R.1"}}`, `null`, `{"name":"a"}`} {
		f.Add(uint8(i), []byte(body))
	}
	f.Fuzz(func(t *testing.T, which uint8, body []byte) {
		p := paths[int(which)%len(paths)]
		request, err := http.NewRequest(p.method, s.URL()+p.path, strings.NewReader(string(body)))
		require.NoError(t, err)
		if p.bearer != "" {
			request.Header.Set("Authorization", "Bearer "+p.bearer)
		}
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer func() { _ = response.Body.Close() }()
		require.Less(t, response.StatusCode, 500, "%s %s %q", p.method, p.path, body)
		if response.StatusCode >= 400 {
			var document wire.Document
			require.NoError(t, json.NewDecoder(response.Body).Decode(&document))
			_, explained := wire.ProblemTypeOf(document.Code)
			require.True(t, explained, document.Code)
		}
	})
}
