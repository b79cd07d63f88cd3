package server_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// hostile is an attacker with access to basin.fen-end, and the service that they attack, with a
// victim in two rooms.
type hostile struct {
	t      *testing.T
	s      *server.Server
	api    client.API // of who operates the service
	from   net.IP     // a network address of their own, so that nobody locks another out
	victim *client.Link
	keys   map[string]any // that sign tokens, by kid
	read   string         // a key to read desk.*
	other  string         // a key to operate another realm
	hook   string         // the id of a hook of the main realm
	cookie string         // of a browser that has signed in
	seen   bytes.Buffer   // everything that the service has said to them
}

// marker is the victim's name, which no attacker may read.
const marker = "Ilse Never-Told"

func (h *hostile) dialer() *net.Dialer { return &net.Dialer{LocalAddr: &net.TCPAddr{IP: h.from}} }

// sign returns a token with arbitrary claims and header, signed with a key by its kid.
func (h *hostile) sign(method jwt.SigningMethod, kid string, key any, change func(head map[string]any, claims jwt.MapClaims)) string {
	claims := jwt.MapClaims{"sub": "mallory", "iat": time.Now().Unix(), "exp": time.Now().Add(time.Hour).Unix(),
		"tovik": map[string]any{"rooms": []string{"basin.fen-end"}, "cue": []string{"**"}}}
	token := jwt.NewWithClaims(method, claims)
	if kid != "" {
		token.Header["kid"] = kid
	}
	if change != nil {
		change(token.Header, claims)
	}
	text, err := token.SignedString(key)
	require.NoError(h.t, err)
	return text
}

// token returns a valid token except for one claim.
func (h *hostile) token(claim string, value any) string {
	return h.sign(jwt.SigningMethodHS256, "", []byte(secret), func(_ map[string]any, claims jwt.MapClaims) {
		if claim != "" {
			claims[claim] = value
		}
	})
}

func (h *hostile) link(header http.Header) *raw {
	dialer := websocket.Dialer{NetDialContext: h.dialer().DialContext}
	conn, response, err := dialer.DialContext(h.t.Context(), strings.Replace(h.s.URL(), "http", "ws", 1)+"/v1/link", header)
	require.NoError(h.t, err)
	_ = response.Body.Close()
	h.t.Cleanup(func() { _ = conn.Close() })
	require.NoError(h.t, conn.SetReadDeadline(time.Now().Add(patience)))
	return &raw{h.t, conn}
}

// outcome is the result of a frame: the code of an error, or the content of an answer.
func (h *hostile) outcome(r *raw) string {
	for {
		_, data, err := r.conn.ReadMessage()
		if err != nil {
			var closed *websocket.CloseError
			require.ErrorAs(h.t, err, &closed)
			return fmt.Sprint("closed ", closed.Code)
		}
		h.seen.Write(data)
		var frame struct {
			Type       string
			Code       string
			NotResumed string `json:"not_resumed"`
		}
		require.NoError(h.t, json.Unmarshal(data, &frame))
		switch {
		case frame.Type == "error":
			return frame.Code
		case frame.NotResumed != "":
			return "not resumed: " + frame.NotResumed
		case frame.Type == "answer":
			return "answer"
		}
	}
}

// hello sends a hello with a token and further fields.
func (h *hostile) hello(token, more string) string {
	r := h.link(nil)
	r.send(`{"type":"hello","id":1,"version":1,"token":"` + token + `","nonce":"m"` + more + `}`)
	return h.outcome(r)
}

// asks sends a valid hello and then a frame.
func (h *hostile) asks(frame string) string {
	r := h.link(nil)
	r.send(`{"type":"hello","id":1,"version":1,"token":"` + h.token("", nil) + `","nonce":"m","rooms":["basin.fen-end"]}`)
	require.Equal(h.t, "answer", h.outcome(r))
	return h.outcome(r.send(frame))
}

// calls makes an HTTP request. The outcome is the code of the problem, or the answer.
func (h *hostile) calls(method, path, bearer, body string, header ...string) string {
	client := &http.Client{Transport: &http.Transport{DialContext: h.dialer().DialContext, DisableKeepAlives: true}, Timeout: patience}
	request, err := http.NewRequestWithContext(h.t.Context(), method, h.s.URL()+path, strings.NewReader(body))
	require.NoError(h.t, err)
	if bearer != "" {
		request.Header.Set("Authorization", "Bearer "+bearer)
	}
	for i := 0; i < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	response, err := client.Do(request)
	require.NoError(h.t, err)
	defer func() { _ = response.Body.Close() }()
	if strings.HasPrefix(response.Header.Get("Content-Type"), "text/event-stream") {
		return "a stream"
	}
	data, err := io.ReadAll(response.Body)
	require.NoError(h.t, err)
	h.seen.Write(data)
	var answer struct {
		Code       string
		State      string
		Applied    *bool
		NotResumed string `json:"not_resumed"`
		Ticket     string
		Feed       string
		Role       *string
	}
	_ = json.Unmarshal(data, &answer)
	switch {
	case answer.Code != "":
		return answer.Code
	case answer.State != "":
		return answer.State
	case answer.Applied != nil:
		return fmt.Sprint("applied: ", *answer.Applied)
	case answer.NotResumed != "":
		return "not resumed: " + answer.NotResumed
	case answer.Feed != "":
		return answer.Feed
	case answer.Role != nil && *answer.Role == "":
		return "nobody"
	}
	return fmt.Sprint(response.StatusCode)
}

// speaks writes bytes and returns the response until the service closes the connection.
func (h *hostile) speaks(text string) string {
	conn, err := h.dialer().Dial("tcp", strings.TrimPrefix(h.s.URL(), "http://"))
	require.NoError(h.t, err)
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(patience))
	_, _ = io.WriteString(conn, text)
	data, _ := io.ReadAll(conn)
	h.seen.Write(data)
	return string(data)
}

// breaks opens a WebSocket, writes raw bytes, and returns the close code.
func (h *hostile) breaks(frame ...byte) string {
	conn, err := h.dialer().Dial("tcp", strings.TrimPrefix(h.s.URL(), "http://"))
	require.NoError(h.t, err)
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(patience))
	_, _ = io.WriteString(conn, "GET /v1/link HTTP/1.1\r\nHost: x\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n")
	reader := bufio.NewReader(conn)
	response, err := http.ReadResponse(reader, nil)
	require.NoError(h.t, err)
	_ = response.Body.Close()
	_, _ = conn.Write(frame)
	for {
		head := make([]byte, 2)
		if _, err := io.ReadFull(reader, head); err != nil {
			return "hung up"
		}
		length := int(head[1])
		if length == 126 {
			more := make([]byte, 2)
			_, _ = io.ReadFull(reader, more)
			length = int(more[0])<<8 | int(more[1])
		}
		payload := make([]byte, length)
		_, _ = io.ReadFull(reader, payload)
		h.seen.Write(payload)
		if head[0] == 0x88 {
			return fmt.Sprint("closed ", int(payload[0])<<8|int(payload[1]))
		}
	}
}

func masked(first byte, payload string) []byte {
	return append([]byte{first, 0x80 | byte(len(payload)), 0, 0, 0, 0}, payload...)
}

func pemOf(t *testing.T, public any) string {
	der, err := x509.MarshalPKIXPublicKey(public)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
}

// attack starts a service with everything that can be attacked.
func attack(t *testing.T) *hostile {
	s := startWith(t, server.Config{Realms: map[string]server.RealmConfig{"fenced": {Origins: []string{"https://app.example"}}}})
	h := &hostile{t: t, s: s, api: client.API{Server: s.URL(), Key: key}, keys: map[string]any{}}
	edPublic, ed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	rs, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	for _, k := range []wire.NewTokenKey{
		{ID: "ed", Algorithm: "EdDSA", Key: pemOf(t, edPublic), Issuer: "https://app.example", Audience: "tovik"},
		{ID: "ec", Algorithm: "ES256", Key: pemOf(t, &ec.PublicKey)}, {ID: "rs", Algorithm: "RS256", Key: pemOf(t, &rs.PublicKey)},
		{ID: "gone", Algorithm: "HS256", Key: strings.Repeat("g", 32)},
	} {
		_, err := h.api.AddTokenKey(t.Context(), k)
		require.NoError(t, err)
	}
	require.NoError(t, h.api.RevokeTokenKey(t.Context(), "gone"))
	h.keys["ed"], h.keys["ec"], h.keys["rs"] = ed, ec, rs
	h.keys["ed-public"], h.keys["rs-public"] = []byte(pemOf(t, edPublic)), []byte(pemOf(t, &rs.PublicKey))

	realm, err := h.api.AddRealm(t.Context(), "training")
	require.NoError(t, err)
	h.other = realm.FirstKey.Key
	_, err = client.API{Server: s.URL(), Key: h.other}.AddTokenKey(t.Context(), wire.NewTokenKey{ID: "drill", Algorithm: "HS256", Key: strings.Repeat("d", 32)})
	require.NoError(t, err)
	read, err := h.api.AddKey(t.Context(), wire.NewKey{Role: "read", Rooms: []string{"desk.*"}})
	require.NoError(t, err)
	h.read = read.Key

	token, err := client.Token{User: "ilse", Name: marker, Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(secret)
	require.NoError(t, err)
	h.victim = dial(t, client.Options{Server: s.URL(), Token: token, Nonce: "v", Rooms: []string{"basin.upper-weir", "desk.night"}})
	response, err := http.Post(s.URL()+"/v1/sign-in", "application/json", strings.NewReader(`{"key":"`+key+`"}`))
	require.NoError(t, err)
	_ = response.Body.Close()
	require.Equal(t, 200, response.StatusCode)
	h.cookie = strings.Split(response.Header.Get("Set-Cookie"), ";")[0]
	require.Contains(t, strings.ToLower(response.Header.Get("Set-Cookie")), "httponly; samesite=strict")
	_, err = h.api.PutPerson(t.Context(), wire.Profile{User: "told-to-nobody", Name: marker})
	require.NoError(t, err)
	hook, err := h.api.AddHook(t.Context(), wire.NewHook{URL: "https://app.example/", Kinds: []string{"member.joined"}, Paused: true})
	require.NoError(t, err)
	h.hook = hook.ID
	_, err = h.api.Remove(t.Context(), "banned", "")
	require.NoError(t, err)
	return h
}

// TestHostile runs one attempt after another, each from its own network address. Each gets the
// expected answer, the victim's name is never read, and nobody sees a change.
func TestHostile(t *testing.T) {
	t.Parallel()
	h := attack(t)
	third := watch(t, h.s)
	victim := h.victim.Resume()
	at := func(d time.Duration) int64 { return time.Now().Add(d).Unix() }
	hs, none := jwt.SigningMethodHS256, jwt.SigningMethodNone
	grants := func(more map[string]any) map[string]any {
		more["rooms"] = []string{"basin.fen-end"}
		return more
	}

	for i, a := range []struct {
		name, want string
		try        func(h *hostile) string
	}{
		// Tokens.
		{"no token", "no-token", func(h *hostile) string { return h.hello("", "") }},
		{"an unsigned token", "bad-token", func(h *hostile) string { return h.hello(h.sign(none, "", jwt.UnsafeAllowNoneSignatureType, nil), "") }},
		{"an unsigned token with the head of a signed one", "bad-token", func(h *hostile) string {
			return h.hello(h.sign(none, "", jwt.UnsafeAllowNoneSignatureType, func(head map[string]any, _ jwt.MapClaims) { head["alg"] = "HS256" }), "")
		}},
		{"alg nOnE", "bad-token", func(h *hostile) string {
			return h.hello(h.sign(none, "", jwt.UnsafeAllowNoneSignatureType, func(head map[string]any, _ jwt.MapClaims) { head["alg"] = "nOnE" }), "")
		}},
		{"another secret", "bad-token", func(h *hostile) string { return h.hello(h.sign(hs, "", []byte(strings.Repeat("x", 32)), nil), "") }},
		{"an empty secret", "bad-token", func(h *hostile) string { return h.hello(h.sign(hs, "", []byte{}, nil), "") }},
		{"the public Ed25519 key as a secret", "bad-token", func(h *hostile) string { return h.hello(h.sign(hs, "ed", h.keys["ed-public"], nil), "") }},
		{"the public RSA key as a secret", "bad-token", func(h *hostile) string { return h.hello(h.sign(hs, "rs", h.keys["rs-public"], nil), "") }},
		{"another hash than the key's", "bad-token", func(h *hostile) string { return h.hello(h.sign(jwt.SigningMethodHS512, "", []byte(secret), nil), "") }},
		{"another padding than the key's", "bad-token", func(h *hostile) string { return h.hello(h.sign(jwt.SigningMethodPS256, "rs", h.keys["rs"], nil), "") }},
		{"the key of another kid", "bad-token", func(h *hostile) string { return h.hello(h.sign(jwt.SigningMethodEdDSA, "ec", h.keys["ed"], nil), "") }},
		{"the main secret under another kid", "bad-token", func(h *hostile) string { return h.hello(h.sign(hs, "drill", []byte(secret), nil), "") }},
		{"another realm's key without its kid", "bad-token", func(h *hostile) string { return h.hello(h.sign(hs, "", []byte(strings.Repeat("d", 32)), nil), "") }},
		{"a kid that is a path", "bad-token", func(h *hostile) string { return h.hello(h.sign(hs, "../../token.secret", []byte{}, nil), "") }},
		{"a kid that is a query", "bad-token", func(h *hostile) string { return h.hello(h.sign(hs, "' OR 1=1 --", []byte(secret), nil), "") }},
		{"a key that the token brings along", "bad-token", func(h *hostile) string {
			return h.hello(h.sign(hs, "mine", []byte(strings.Repeat("m", 32)), func(head map[string]any, _ jwt.MapClaims) {
				head["jwk"] = map[string]string{"kty": "oct", "k": base64.RawURLEncoding.EncodeToString([]byte(strings.Repeat("m", 32)))}
			}), "")
		}},
		{"the address of a key that the token brings along", "bad-token", func(h *hostile) string {
			return h.hello(h.sign(hs, "mine", []byte(strings.Repeat("m", 32)), func(head map[string]any, _ jwt.MapClaims) { head["jku"] = h.s.URL() }), "")
		}},
		{"the token of a revoked key", "bad-token", func(h *hostile) string { return h.hello(h.sign(hs, "gone", []byte(strings.Repeat("g", 32)), nil), "") }},
		{"an expired token", "expired-token", func(h *hostile) string { return h.hello(h.token("exp", at(-time.Second)), "") }},
		{"a token that never expires", "bad-token", func(h *hostile) string { return h.hello(h.token("exp", nil), "") }},
		{"a token of tomorrow", "bad-token", func(h *hostile) string { return h.hello(h.token("nbf", at(24*time.Hour)), "") }},
		{"a token issued tomorrow", "bad-token", func(h *hostile) string { return h.hello(h.token("iat", at(24*time.Hour)), "") }},
		{"another audience", "bad-token", func(h *hostile) string {
			return h.hello(h.sign(jwt.SigningMethodEdDSA, "ed", h.keys["ed"], func(_ map[string]any, c jwt.MapClaims) { c["iss"], c["aud"] = "https://app.example", "billing" }), "")
		}},
		{"another issuer", "bad-token", func(h *hostile) string {
			return h.hello(h.sign(jwt.SigningMethodEdDSA, "ed", h.keys["ed"], func(_ map[string]any, c jwt.MapClaims) { c["iss"], c["aud"] = "https://evil.example", "tovik" }), "")
		}},
		{"no audience", "bad-token", func(h *hostile) string {
			return h.hello(h.sign(jwt.SigningMethodEdDSA, "ed", h.keys["ed"], func(_ map[string]any, c jwt.MapClaims) { c["iss"] = "https://app.example" }), "")
		}},
		{"claims that were changed after signing", "bad-token", func(h *hostile) string {
			parts := strings.Split(h.token("", nil), ".")
			parts[1] = base64.RawURLEncoding.EncodeToString([]byte(`{"sub":"ilse","exp":4102444800,"tovik":{"rooms":["**"]}}`))
			return h.hello(strings.Join(parts, "."), "")
		}},
		{"a token without its signature", "bad-token", func(h *hostile) string { s := h.token("", nil); return h.hello(s[:strings.LastIndex(s, ".")+1], "") }},
		{"a signature with bits to spare", "bad-token", func(h *hostile) string { return h.hello(h.token("", nil)+"A", "") }},
		{"a token of nobody", "bad-token", func(h *hostile) string { return h.hello(h.token("sub", ""), "") }},
		{"a user with a control character", "bad-user", func(h *hostile) string { return h.hello(h.token("sub", "il\x07se"), "") }},
		{"a user that reads backwards", "bad-user", func(h *hostile) string { return h.hello(h.token("sub", "\u202eesli"), "") }},
		{"a user that is too long", "bad-user", func(h *hostile) string { return h.hello(h.token("sub", strings.Repeat("u", 129)), "") }},
		{"a name that reads backwards", "bad-profile", func(h *hostile) string { return h.hello(h.token("name", "\u202eesli"), "") }},
		{"a picture that is a script", "bad-profile", func(h *hostile) string { return h.hello(h.token("picture", "javascript:alert(1)"), "") }},
		{"a picture that is a file", "bad-profile", func(h *hostile) string { return h.hello(h.token("picture", "file:///etc/passwd"), "") }},
		{"a grant that is no pattern", "bad-token", func(h *hostile) string {
			return h.hello(h.token("tovik", map[string]any{"rooms": []string{"**.weir"}}), "")
		}},
		{"an older token of who was removed", "removed", func(h *hostile) string {
			return h.hello(h.sign(hs, "", []byte(secret), func(_ map[string]any, c jwt.MapClaims) { c["sub"], c["iat"] = "banned", at(-time.Minute) }), "")
		}},
		{"a token of who was removed without its time", "removed", func(h *hostile) string {
			return h.hello(h.sign(hs, "", []byte(secret), func(_ map[string]any, c jwt.MapClaims) { c["sub"] = "banned"; delete(c, "iat") }), "")
		}},

		// In another's name.
		{"resume another's session by its id", "not resumed: unknown", func(h *hostile) string {
			return h.hello(h.token("", nil), `,"resume":{"session":"`+victim.Session+`","resume_key":"guess"}`)
		}},
		{"resume another's session with its stolen key", "not resumed: unknown", func(h *hostile) string {
			return h.hello(h.token("", nil), `,"resume":{"session":"`+victim.Session+`","resume_key":"`+victim.ResumeKey+`"}`)
		}},
		{"resume a session of another realm, as its person there", "not resumed: unknown", func(h *hostile) string {
			return h.hello(h.sign(hs, "drill", []byte(strings.Repeat("d", 32)), func(_ map[string]any, c jwt.MapClaims) { c["sub"] = "ilse" }), `,"resume":{"session":"`+victim.Session+`","resume_key":"`+victim.ResumeKey+`"}`)
		}},
		{"close another's page", "applied: false", func(h *hostile) string {
			return h.calls("POST", "/v1/closing", "", `{"session":"`+victim.Session+`","resume_key":"guess","nonce":"v"}`)
		}},
		{"close another's page with an old nonce", "applied: false", func(h *hostile) string {
			return h.calls("POST", "/v1/closing", "", `{"session":"`+victim.Session+`","resume_key":"`+victim.ResumeKey+`","nonce":"before"}`)
		}},
		{"end another's session", "applied: false", func(h *hostile) string { return h.calls("DELETE", "/v1/sessions/"+victim.Session, "guess", "") }},
		{"read another's session", "ended", func(h *hostile) string { return h.calls("GET", "/v1/sessions/"+victim.Session, "guess", "") }},
		{"read another's session with a token", "bad-field", func(h *hostile) string {
			return h.calls("GET", "/v1/sessions/"+victim.Session, h.token("", nil), "")
		}},
		{"beat for another", "not resumed: unknown", func(h *hostile) string {
			return h.calls("PUT", "/v1/sessions/"+victim.Session, h.token("", nil), `{"resume_key":"guess"}`)
		}},
		{"ask over another's link", "no-link", func(h *hostile) string {
			return h.calls("POST", "/v1/sessions/"+victim.Session+"/links/1", victim.ResumeKey, `{"type":"bye"}`)
		}},
		{"renew with another's token", "bad-token", func(h *hostile) string { return h.asks(`{"type":"renew","id":2,"token":"` + mint(t, "ilse") + `"}`) }},
		{"type where one is not", "not-in-room", func(h *hostile) string {
			return h.asks(`{"type":"typing","id":2,"room":"desk.night","user":"ilse","session":"` + victim.Session + `"}`)
		}},
		{"let another leave", "not-in-room", func(h *hostile) string {
			return h.asks(`{"type":"leave","id":2,"room":"basin.upper-weir","user":"ilse","session":"` + victim.Session + `"}`)
		}},
		{"remove another", "not-granted", func(h *hostile) string {
			return h.asks(`{"type":"remove","id":2,"room":"basin.upper-weir","user":"ilse"}`)
		}},
		{"hide without a grant", "not-granted", func(h *hostile) string { return h.asks(`{"type":"hide","id":2}`) }},
		{"be a device without a grant", "not-granted", func(h *hostile) string { return h.hello(h.token("", nil), `,"no_input":true`) }},
		{"a cue to who is not there", "not-granted", func(h *hostile) string { return h.asks(`{"type":"cue","id":2,"name":"boo","user":"ilse"}`) }},
		{"a cue to another's session", "not-granted", func(h *hostile) string {
			return h.asks(`{"type":"cue","id":2,"name":"boo","session":"` + victim.Session + `"}`)
		}},
		{"a cue to a room where one is not", "not-in-room", func(h *hostile) string { return h.asks(`{"type":"cue","id":2,"name":"boo","room":"desk.night"}`) }},
		{"a cue that carries too much", "bad-field", func(h *hostile) string {
			return h.asks(`{"type":"cue","id":2,"name":"boo","room":"basin.fen-end","data":"` + strings.Repeat("x", 5000) + `"}`)
		}},
		{"a cue that is nested deeply", "bad-field", func(h *hostile) string {
			return h.asks(`{"type":"cue","id":2,"name":"boo","room":"basin.fen-end","data":` + strings.Repeat("[", 3000) + strings.Repeat("]", 3000) + `}`)
		}},
		{"a ticket twice", "bad-ticket", func(h *hostile) string {
			feed := h.calls("POST", "/v1/tickets", h.token("", nil), `{"nonce":"t"}`)
			require.Equal(t, "a stream", h.calls("GET", feed, "", ""))
			return h.calls("GET", feed, "", "")
		}},
		{"a guessed ticket", "bad-ticket", func(h *hostile) string { return h.calls("GET", "/v1/feed?ticket=AAAAAAAAAAAAAAAAAAAAAAAAAA", "", "") }},
		{"the place in another's stream", "no-token", func(h *hostile) string {
			return h.calls("GET", "/v1/feed", "", "", "Last-Event-ID", "AAAAAAAAAAAAAAAAAAAAAAAAAA.1")
		}},

		// What the token does not grant, at each door.
		{"be in a room", "not-granted", func(h *hostile) string { return h.asks(`{"type":"join","id":2,"room":"desk.night"}`) }},
		{"be in a room from the start", "not-granted", func(h *hostile) string { return h.hello(h.token("", nil), `,"rooms":["desk.night"]`) }},
		{"watch a room", "not-granted", func(h *hostile) string { return h.asks(`{"type":"watch","id":2,"room":"desk.night"}`) }},
		{"watch the count of a room", "not-granted", func(h *hostile) string {
			return h.asks(`{"type":"watch","id":2,"room":"desk.night","detail":"count"}`)
		}},
		{"watch everything", "not-granted", func(h *hostile) string { return h.asks(`{"type":"watch","id":2,"room":"**"}`) }},
		{"watch more than the grant", "not-granted", func(h *hostile) string { return h.asks(`{"type":"watch","id":2,"room":"basin.*"}`) }},
		{"watch under the grant", "not-granted", func(h *hostile) string { return h.asks(`{"type":"watch","id":2,"room":"basin.fen-end.**"}`) }},
		{"watch from the start", "not-granted", func(h *hostile) string { return h.hello(h.token("", nil), `,"watch":[{"room":"desk.*"}]`) }},
		{"watch somebody", "not-granted", func(h *hostile) string { return h.asks(`{"type":"watch","id":2,"people":["ilse"]}`) }},
		{"watch nobody, who is not told from somebody", "not-granted", func(h *hostile) string { return h.asks(`{"type":"watch","id":2,"people":["nobody"]}`) }},
		{"watch who is near, and is not", "not-granted", func(h *hostile) string {
			return h.hello(h.token("tovik", grants(map[string]any{"near": true})), `,"rooms":["basin.fen-end"],"watch":[{"people":["ilse"]}]`)
		}},
		{"members with a grant to count", "not-granted", func(h *hostile) string {
			return h.hello(h.token("tovik", grants(map[string]any{"count": []string{"desk.*"}})), `,"watch":[{"room":"desk.night"}]`)
		}},
		{"a page of a room", "not-granted", func(h *hostile) string { return h.asks(`{"type":"members","id":2,"room":"desk.night"}`) }},
		{"what was missed of a room", "answer", func(h *hostile) string { return h.hello(h.token("", nil), `,"revs":{"desk.night":"AAAAAAAAAA.1"}`) }},
		{"a stream of a room", "not-granted", func(h *hostile) string { return h.calls("GET", "/v1/feed?room=desk.night", h.token("", nil), "") }},
		{"a stream of everything", "not-granted", func(h *hostile) string {
			return h.calls("GET", "/v1/feed?watch=**&watch_only=true", h.token("", nil), "")
		}},
		{"beats of a room", "not-granted", func(h *hostile) string {
			return h.calls("PUT", "/v1/sessions/new", h.token("", nil), `{"rooms":["desk.night"]}`)
		}},
		{"a room of another realm", "answer", func(h *hostile) string { // there is one of the same name, and nobody is in it
			return h.hello(h.sign(hs, "drill", []byte(strings.Repeat("d", 32)), func(_ map[string]any, c jwt.MapClaims) {
				c["tovik"] = map[string]any{"rooms": []string{"**"}, "people": []string{"*"}, "see_hidden": true}
			}), `,"watch":[{"room":"**"},{"people":["ilse"]}]`)
		}},
		{"HTTP without a key", "no-key", func(h *hostile) string { return h.calls("GET", "/v1/rooms/desk.night/members", "", "") }},
		{"HTTP with a person's token", "bad-key", func(h *hostile) string { return h.calls("GET", "/v1/rooms", h.token("", nil), "") }},
		{"HTTP with a guess", "bad-key", func(h *hostile) string { return h.calls("GET", "/v1/rooms", "guess", "") }},
		{"HTTP with the id of a key", "bad-key", func(h *hostile) string {
			id, _, _ := strings.Cut(h.read, ".")
			return h.calls("GET", "/v1/rooms", id, "")
		}},
		{"HTTP with the id of a key and a guess", "bad-key", func(h *hostile) string {
			id, _, _ := strings.Cut(h.read, ".")
			return h.calls("GET", "/v1/rooms", id+".guess", "")
		}},
		{"a room that the key is not about", "unknown-room", func(h *hostile) string { return h.calls("GET", "/v1/rooms/basin.upper-weir/members", h.read, "") }},
		{"a room that is not there, which looks the same", "unknown-room", func(h *hostile) string { return h.calls("GET", "/v1/rooms/basin.nowhere/members", h.read, "") }},
		{"a link of a key that watches too much", "not-granted", func(h *hostile) string {
			return h.outcome(h.link(nil).send(`{"type":"hello","id":1,"version":1,"key":"` + h.read + `","watch":[{"room":"**"}]}`))
		}},
		{"a link of a key about rooms that watches people", "not-granted", func(h *hostile) string {
			return h.outcome(h.link(nil).send(`{"type":"hello","id":1,"version":1,"key":"` + h.read + `","watch":[{"people":["ilse"]}]}`))
		}},
		{"a room with another realm's key", "unknown-room", func(h *hostile) string { return h.calls("GET", "/v1/rooms/desk.night/members", h.other, "") }},
		{"a session with another realm's key", "no-session", func(h *hostile) string { return h.calls("POST", "/v1/sessions/"+victim.Session+"/end", h.other, "") }},
		// What is on record.
		{"the journal without a key", "no-key", func(h *hostile) string { return h.calls("GET", "/v1/journal", "", "") }},
		{"the journal with a person's token", "bad-key", func(h *hostile) string { return h.calls("GET", "/v1/journal", h.token("", nil), "") }},
		{"follow the journal without a key", "no-key", func(h *hostile) string { return h.calls("GET", "/v1/journal", "", "", "Accept", "text/event-stream") }},
		{"the journal of rooms that the key is not about", "not-granted", func(h *hostile) string { return h.calls("GET", "/v1/journal?room=basin.*", h.read, "") }},
		{"the journal of a person, by a key about other rooms", "200", func(h *hostile) string {
			text := h.calls("GET", "/v1/journal?user=ilse", h.read, "")
			require.NotContains(t, h.seen.String(), "session.", "nor of their sessions")
			require.NotContains(t, h.seen.String(), "basin.", "nor of other rooms")
			return text
		}},
		{"the journal of another realm", "200", func(h *hostile) string {
			text := h.calls("GET", "/v1/journal?limit=1000", h.other, "")
			require.NotContains(t, h.seen.String(), victim.Session)
			return text
		}},
		{"who was in a room that the key is not about", "unknown-room", func(h *hostile) string { return h.calls("GET", "/v1/attendance?room=basin.upper-weir", h.read, "") }},
		{"who had sessions, by a key about some rooms", "wrong-role", func(h *hostile) string { return h.calls("GET", "/v1/attendance", h.read, "") }},
		{"the headcount of a room that the key is not about", "unknown-room", func(h *hostile) string { return h.calls("GET", "/v1/headcount?room=basin.upper-weir", h.read, "") }},
		{"the headcount of the realm, by a key about some rooms", "wrong-role", func(h *hostile) string { return h.calls("GET", "/v1/headcount", h.read, "") }},
		{"the directory, by a key about some rooms", "wrong-role", func(h *hostile) string { return h.calls("GET", "/v1/people", h.read, "") }},
		{"the directory of another realm", "unknown-person", func(h *hostile) string { return h.calls("GET", "/v1/people/told-to-nobody", h.other, "") }},
		{"a search that is a query", "200", func(h *hostile) string { return h.calls("GET", "/v1/people?text='+OR+1=1+--", h.other, "") }},
		{"change the directory with a key to read", "wrong-role", func(h *hostile) string { return h.calls("PUT", "/v1/people/ilse", h.read, `{"name":"Mallory"}`) }},
		{"declare a room with a key to read", "wrong-role", func(h *hostile) string { return h.calls("PUT", "/v1/rooms/desk.night", h.read, `{}`) }},
		{"a large import without a key", "no-key", func(h *hostile) string { return h.calls("POST", "/v1/people/import", "", strings.Repeat(" ", 20<<10)) }},
		{"a large import with a guess", "bad-key", func(h *hostile) string {
			return h.calls("POST", "/v1/people/import", "guess", strings.Repeat(" ", 20<<10))
		}},
		{"a large import with a key to read", "wrong-role", func(h *hostile) string {
			return h.calls("POST", "/v1/people/import", h.read, strings.Repeat(" ", 20<<10))
		}},
		{"a backup with a realm's key", "wrong-role", func(h *hostile) string { return h.calls("GET", "/v1/backup", h.other, "") }},
		{"a hook with a key to read", "wrong-role", func(h *hostile) string {
			return h.calls("POST", "/v1/hooks", h.read, `{"url":"https://evil.example/","kinds":["member.joined"]}`)
		}},
		{"a hook at an inner address", "bad-field", func(h *hostile) string {
			return h.calls("POST", "/v1/hooks", h.other, `{"url":"http://127.0.0.1:1/","kinds":["member.joined"]}`)
		}},
		{"a hook of another realm", "unknown-hook", func(h *hostile) string { return h.calls("GET", "/v1/hooks/"+h.hook, h.other, "") }},
		{"rotate the secret of another realm's hook", "unknown-hook", func(h *hostile) string { return h.calls("POST", "/v1/hooks/"+h.hook+"/secret", h.other, "") }},
		{"the deliveries of another realm's hook", "unknown-hook", func(h *hostile) string { return h.calls("GET", "/v1/hooks/"+h.hook+"/deliveries", h.other, "") }},
		{"a delivery of another realm", "unknown-delivery", func(h *hostile) string { return h.calls("GET", "/v1/deliveries/1", h.other, "") }},
		{"make a key with a key to read", "wrong-role", func(h *hostile) string { return h.calls("POST", "/v1/keys", h.read, `{"role":"operate"}`) }},
		{"remove somebody with a key to read", "wrong-role", func(h *hostile) string { return h.calls("POST", "/v1/people/ilse/removal", h.read, "") }},
		{"sign somebody out with a key to read", "wrong-role", func(h *hostile) string { return h.calls("POST", "/v1/people/ilse/sign-out", h.read, "") }},
		{"erase somebody with a key to read", "wrong-role", func(h *hostile) string { return h.calls("POST", "/v1/people/ilse/erasure", h.read, "") }},
		{"make a realm with a realm's key", "wrong-role", func(h *hostile) string { return h.calls("POST", "/v1/realms", h.other, `{"name":"mine"}`) }},
		{"revoke another realm's key", "unknown-key", func(h *hostile) string {
			id, _, _ := strings.Cut(h.read, ".")
			return h.calls("DELETE", "/v1/keys/"+id, h.other, "")
		}},
		{"revoke the service's key", "unknown-key", func(h *hostile) string { return h.calls("DELETE", "/v1/keys/service", key, "") }},
		{"take another realm's kid", "exists", func(h *hostile) string {
			return h.calls("POST", "/v1/token-keys", h.other, `{"id":"ed","algorithm":"HS256","key":"`+strings.Repeat("m", 32)+`"}`)
		}},
		{"a weak secret", "bad-field", func(h *hostile) string {
			return h.calls("POST", "/v1/token-keys", h.other, `{"id":"weak","algorithm":"HS256","key":"weak"}`)
		}},
		{"a practice room where there is none", "no-practice", func(h *hostile) string { return h.calls("POST", "/v1/practice", "", `{}`) }},

		// Names.
		{"a room with an empty word", "bad-room", func(h *hostile) string { return h.asks(`{"type":"join","id":2,"room":"basin..fen-end"}`) }},
		{"a room with a point at its end", "bad-room", func(h *hostile) string { return h.asks(`{"type":"join","id":2,"room":"basin.fen-end."}`) }},
		{"a room with a byte of zero", "bad-room", func(h *hostile) string { return h.asks(`{"type":"join","id":2,"room":"basin.fen-end\u0000.x"}`) }},
		{"a room with a letter that looks the same", "bad-room", func(h *hostile) string { return h.asks(`{"type":"join","id":2,"room":"basin.f` + "\u0435" + `n-end"}`) }},
		{"a room in capitals", "not-granted", func(h *hostile) string { return h.asks(`{"type":"join","id":2,"room":"BASIN.fen-end"}`) }},
		{"a pattern as a room", "bad-room", func(h *hostile) string { return h.asks(`{"type":"join","id":2,"room":"basin.*"}`) }},
		{"a path as a room", "bad-room", func(h *hostile) string { return h.calls("GET", "/v1/rooms/..%2f..%2fdesk.night", key, "") }},
		{"a page with a script in its name", "unknown-path", func(h *hostile) string { return h.calls("GET", "/problems/%3Cscript%3E", "", "") }},
		{"a file of the machine", "unknown-path", func(h *hostile) string { return h.calls("GET", "/assets/..%2f..%2f..%2fetc%2fpasswd", "", "") }},

		// Shapes.
		{"a frame that is too large", "too-large", func(h *hostile) string { return h.asks(`{"type":"beat","x":"` + strings.Repeat("x", 17_000) + `"}`) }},
		{"a body that is too large", "too-large", func(h *hostile) string { return h.calls("POST", "/v1/closing", "", strings.Repeat("x", 17_000)) }},
		{"an array nested without end", "not-json", func(h *hostile) string { return h.asks(strings.Repeat("[", 15_000)) }},
		{"a number for a list", "bad-field", func(h *hostile) string { return h.hello(h.token("", nil), `,"rooms":7`) }},
		{"a time of idleness before the world", "bad-field", func(h *hostile) string { return h.hello(h.token("", nil), `,"idle_for":-1`) }},
		{"a time of idleness that overflows", "bad-field", func(h *hostile) string { return h.hello(h.token("", nil), `,"idle_for":9223372036854775807`) }},
		{"a frame without a mask", "closed 1002", func(h *hostile) string { return h.breaks(append([]byte{0x81, 2}, "{}"...)...) }},
		{"a compressed frame", "closed 1002", func(h *hostile) string { return h.breaks(masked(0xC1, "{}")...) }},
		{"a frame of an unknown kind", "closed 1002", func(h *hostile) string { return h.breaks(masked(0x83, "{}")...) }},
		{"a ping in pieces", "closed 1002", func(h *hostile) string { return h.breaks(masked(0x09, "x")...) }},
		{"a continuation of nothing", "closed 1002", func(h *hostile) string { return h.breaks(masked(0x80, "{}")...) }},
		{"text that is none", "closed 1007", func(h *hostile) string { return h.breaks(masked(0x81, "\xff\xfe")...) }},
		{"a frame that says to be endless", "closed 1009", func(h *hostile) string {
			return h.breaks(0x81, 0xFF, 0x7F, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0)
		}},
		{"half a frame", "closed 4701", func(h *hostile) string { return h.breaks(0x81, 0xFE, 0x10) }},
		{"a second request in the body of the first", "one answer", func(h *hostile) string {
			answers := h.speaks("POST /v1/closing HTTP/1.1\r\nHost: x\r\nContent-Length: 4\r\nTransfer-Encoding: chunked\r\nConnection: close\r\n\r\n0\r\n\r\n" +
				"GET /v1/rooms HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + key + "\r\n\r\n")
			if strings.Count(answers, "\r\nDate: ") == 1 && !strings.Contains(answers, `"rooms"`) {
				return "one answer"
			}
			return answers
		}},
		{"two lengths", "one answer", func(h *hostile) string {
			answers := h.speaks("POST /v1/closing HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\nContent-Length: 60\r\nConnection: close\r\n\r\nGET /v1/rooms HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + key + "\r\n\r\n")
			if strings.Count(answers, "\r\nDate: ") == 1 && !strings.Contains(answers, `"rooms"`) {
				return "one answer"
			}
			return answers
		}},
		{"a request that never ends", "hung up", func(h *hostile) string {
			if answers := h.speaks("GET /v1/rooms HTTP/1.1\r\nHost: x\r\nAuthor"); strings.Contains(answers, "200 OK") {
				return answers
			}
			return "hung up"
		}},
		{"headers without end", "one answer", func(h *hostile) string {
			if strings.Count(h.speaks("GET /healthz HTTP/1.1\r\nHost: x\r\nX: "+strings.Repeat("x", 100_000)+"\r\n\r\n"), "200 OK") == 0 {
				return "one answer"
			}
			return "taken"
		}},

		// From other sites.
		{"a WebSocket of another site, with the operator's cookie", "no-token", func(h *hostile) string {
			return h.outcome(h.link(http.Header{"Origin": {"https://evil.example"}, "Cookie": {h.cookie}}).send(`{"type":"hello","id":1,"version":1,"watch":[{"room":"**"}]}`))
		}},
		{"a request of another site, with the operator's cookie", "no-key", func(h *hostile) string {
			return h.calls("POST", "/v1/people/ilse/removal", "", "", "Origin", "https://evil.example", "Cookie", h.cookie)
		}},
		{"a request of no site, with the operator's cookie", "bad-origin", func(h *hostile) string {
			return h.calls("POST", "/v1/people/ilse/removal", "", "", "Cookie", h.cookie)
		}},
		{"a read of another site, with the operator's cookie", "no-key", func(h *hostile) string {
			return h.calls("GET", "/v1/rooms", "", "", "Sec-Fetch-Site", "cross-site", "Cookie", h.cookie)
		}},
		{"a guessed cookie", "nobody", func(h *hostile) string { return h.calls("GET", "/v1/sign-in", "", "", "Cookie", "tovik-console=AAAA") }},
		{"a sign-in by another site", "bad-origin", func(h *hostile) string {
			return h.calls("POST", "/v1/sign-in", "", `{"key":"`+key+`"}`, "Origin", "https://evil.example")
		}},
		{"a sign-in with a guess", "bad-key", func(h *hostile) string { return h.calls("POST", "/v1/sign-in", "", `{"key":"guess"}`) }},
		{"to be locked out, and say to be somebody else", "locked-out", func(h *hostile) string {
			// On a busy machine an address may be let in again before its next call: it is locked
			// out again, and the call tried again.
			locked := func(call func() string) string {
				got := ""
				for range 20 {
					for guess := "bad-key"; guess != "locked-out"; {
						require.Equal(t, "bad-key", guess)
						guess = h.calls("GET", "/v1/rooms", "guess", "")
					}
					if got = call(); got == "locked-out" {
						break
					}
				}
				return got
			}
			require.Equal(t, "locked-out", locked(func() string {
				return h.outcome(h.link(nil).send(`{"type":"hello","id":1,"version":1,"key":"` + key + `"}`))
			}))
			require.Equal(t, "answer", h.hello(h.token("", nil), ""), "a token from there is taken")
			return locked(func() string { return h.calls("GET", "/v1/rooms", key, "", "X-Forwarded-For", "10.0.0.7") })
		}},
	} {
		t.Run(strings.ReplaceAll(a.name, " ", "-"), func(t *testing.T) {
			own := &hostile{t: t, s: h.s, api: h.api, keys: h.keys, read: h.read, other: h.other, hook: h.hook, cookie: h.cookie, from: net.IPv4(127, 0, byte(1+i/200), byte(1+i%200))}
			got := a.try(own)
			require.Equal(t, a.want, got)
			require.NotContains(t, own.seen.String(), marker, "the victim was read")
			require.NotContains(t, own.seen.String(), "internal", "the service failed")
			t.Logf("%3d. %s: %s", i+1, a.name, got)
		})
	}

	require.NoError(t, h.victim.Activity(context.Background()), "the victim is there, and has noticed nothing")
	for _, e := range third.rest() {
		require.Empty(t, e.Left)
	}
	session, err := client.API{Server: h.s.URL(), Key: victim.ResumeKey}.Session(t.Context(), victim.Session)
	require.NoError(t, err)
	require.Equal(t, "live", session.State)
	require.Equal(t, uint64(1), session.Link)
}
