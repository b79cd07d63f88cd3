package server_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// everyRequestElsewhere sends each request of a client to another node than the one before, as a load
// balancer may.
func everyRequestElsewhere(t *testing.T, nodes map[string]*server.Server) {
	here := watch(t, nodes["kestrel"])
	next := 0
	node := func() *server.Server {
		next++
		return nodes[[]string{"dipper", "heron", "kestrel"}[next%3]]
	}
	// call asks the next node, again if a realm has no owner at the moment.
	call := func(method, path, bearer, body string, header ...string) (status int, text string) {
		soon(t, func() error {
			request, err := http.NewRequestWithContext(t.Context(), method, node().URL()+path, strings.NewReader(body))
			require.NoError(t, err)
			if bearer != "" {
				request.Header.Set("Authorization", "Bearer "+bearer)
			}
			if len(header) > 0 {
				request.Header.Set(header[0], header[1])
			}
			response, err := http.DefaultClient.Do(request)
			require.NoError(t, err)
			defer func() { _ = response.Body.Close() }()
			read, err := io.ReadAll(response.Body)
			require.NoError(t, err)
			if status, text = response.StatusCode, string(read); status == http.StatusServiceUnavailable {
				return errors.New(text)
			}
			return nil
		})
		return status, text
	}
	anEventStreamGoesOnElsewhere(t, node, call, here)
	aLeaseIsKeptElsewhere(t, call, here)
	aWriteIsCarriedOutOnce(t, call)
	aSignInCountsElsewhere(t, node)
}

type caller func(method, path, bearer, body string, header ...string) (status int, text string)

func anEventStreamGoesOnElsewhere(t *testing.T, node func() *server.Server, call caller, here *onlooker) {
	status, text := call("POST", "/v1/tickets", mint(t, "ilse"), `{"rooms":["`+weir+`"]}`)
	require.Equal(t, http.StatusCreated, status, text)
	var opened wire.Ticket
	require.NoError(t, json.Unmarshal([]byte(text), &opened))
	f := follow(t, node(), opened.Feed, "", "")
	require.Equal(t, http.StatusOK, f.response.StatusCode)
	first := f.until("answer")
	here.joins(t, "ilse")
	require.Equal(t, http.StatusUnauthorized, follow(t, node(), opened.Feed, "", "").response.StatusCode, "the ticket is used up at all nodes")
	for i := range 3 { // at the node that carries the stream, and at the two others
		posts, own := first["posts"].(string), first["resume_key"].(string)
		status, text = call("POST", posts, own, fmt.Sprintf(`{"type":"join","id":%d,"room":"basin.b-%d"}`, i, i))
		require.Equal(t, http.StatusOK, status, text)
		require.JSONEq(t, fmt.Sprintf(`{"type":"answer","re":%d}`, i), text)
		for room := ""; room != fmt.Sprint("basin.b-", i); {
			room = f.until("snapshot")["room"].(string)
		}
		status, text = call("POST", posts, own, `{"type":"join","id":4,"room":"desk.night"}`)
		require.Equal(t, http.StatusForbidden, status, text)
		status, text = call("POST", posts, "a guess", `{"type":"leave","id":4,"room":"`+weir+`"}`)
		require.Contains(t, text, `"code":"no-link"`)
		require.Equal(t, http.StatusNotFound, status)

		if i == 1 {
			other := follow(t, node(), "/v1/feed?watch="+weir, mintAll(t, "tobin"), f.last)
			require.NotEqual(t, http.StatusOK, other.response.StatusCode, "another person does not get the stream")
		}
		_ = f.response.Body.Close()
		f = follow(t, node(), opened.Feed, "", f.last)
		require.Equal(t, http.StatusOK, f.response.StatusCode)
		again := f.until("answer")
		require.Equal(t, first["session"], again["session"])
		require.Equal(t, true, again["resumed"])
		require.Len(t, again["rooms"], i+2)
		first = again
	}
	status, text = call("POST", "/v1/closing", "", fmt.Sprintf(`{"session":%q,"resume_key":%q,"nonce":%q}`, first["session"], first["resume_key"], "none"))
	require.Equal(t, http.StatusOK, status, text)
	status, text = call("DELETE", "/v1/sessions/"+first["session"].(string), first["resume_key"].(string), "")
	require.Equal(t, http.StatusOK, status, text)
	for _, e := range here.until(t, left("ilse")) {
		require.Empty(t, e.Joined, "nobody has seen the moves")
	}
}

func aLeaseIsKeptElsewhere(t *testing.T, call caller, here *onlooker) {
	session, body, own := "new", `{"rooms":["`+weir+`"]}`, ""
	for range 4 {
		status, text := call("PUT", "/v1/sessions/"+session, mint(t, "tobin"), body)
		require.Equal(t, http.StatusOK, status, text)
		var lease wire.Lease
		require.NoError(t, json.Unmarshal([]byte(text), &lease))
		if session == "new" {
			here.joins(t, "tobin")
		} else {
			require.True(t, lease.Resumed)
		}
		session, own = lease.Session, lease.ResumeKey
		body = fmt.Sprintf(`{"resume_key":%q,"active":true}`, own)
	}
	status, text := call("DELETE", "/v1/sessions/"+session, own, "")
	require.Equal(t, http.StatusOK, status, text)
	for _, e := range here.until(t, left("tobin")) {
		require.Empty(t, e.Joined, "nobody has seen the moves")
	}
}

func aWriteIsCarriedOutOnce(t *testing.T, call caller) {
	answers := map[string]bool{}
	for range 4 {
		status, text := call("POST", "/v1/keys", key, `{"name":"the flood desk","role":"read"}`, "Idempotency-Key", "one")
		require.Equal(t, http.StatusCreated, status, text)
		answers[text] = true
	}
	require.Len(t, answers, 1)
	status, text := call("POST", "/v1/keys", key, `{"name":"the day desk","role":"read"}`, "Idempotency-Key", "one")
	require.Equal(t, http.StatusUnprocessableEntity, status, text)
}

func aSignInCountsElsewhere(t *testing.T, node func() *server.Server) {
	response, err := http.Post(node().URL()+"/v1/sign-in", "application/json", strings.NewReader(`{"key":"`+key+`"}`))
	require.NoError(t, err)
	_ = response.Body.Close()
	require.Equal(t, http.StatusOK, response.StatusCode)
	require.NotEmpty(t, response.Cookies())
	for range 3 {
		at := node().URL()
		soon(t, func() error {
			request, err := http.NewRequestWithContext(t.Context(), "GET", at+"/v1/realms", nil)
			require.NoError(t, err)
			request.AddCookie(response.Cookies()[0])
			answer, err := http.DefaultClient.Do(request)
			require.NoError(t, err)
			_ = answer.Body.Close()
			if answer.StatusCode != http.StatusOK {
				return errors.New(answer.Status)
			}
			return nil
		})
	}
}
