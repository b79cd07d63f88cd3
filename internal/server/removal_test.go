package server_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/admission"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// frames reads a link in the background and returns its frames.
func (r *raw) frames() chan map[string]any {
	_ = r.conn.SetReadDeadline(time.Time{}) // whoever awaits a frame has patience of their own
	all := make(chan map[string]any, 1000)
	go func() {
		defer close(all)
		for {
			_, data, err := r.conn.ReadMessage()
			if err != nil {
				return
			}
			var frame map[string]any
			if json.Unmarshal(data, &frame) == nil {
				all <- frame
			}
		}
	}()
	return all
}

func untilFrame(t *testing.T, frames chan map[string]any, is func(map[string]any) bool) map[string]any {
	t.Helper()
	return await(t, frames, is)
}

func ofType(kind string) func(map[string]any) bool {
	return func(frame map[string]any) bool { return frame["type"] == kind }
}

func answerTo(id float64) func(map[string]any) bool {
	return func(frame map[string]any) bool { return frame["re"] == id }
}

// TestARemovalEndsEveryWayOfFollowingTheRoom removes somebody who follows a room in every way.
// Later changes reach none of their links.
func TestARemovalEndsEveryWayOfFollowingTheRoom(t *testing.T) {
	t.Parallel()
	for _, by := range []string{"the back end", "a moderator"} {
		t.Run(by, func(t *testing.T) {
			t.Parallel()
			s := start(t, nil)
			token := mint(t, "mallory")
			hello := func(more string) string {
				return `{"type":"hello","id":1,"version":1,"token":"` + token + `",` + more + `}`
			}
			ways := map[string]chan map[string]any{}
			for name, said := range map[string][]string{
				"hello, members":  {hello(`"rooms":["` + weir + `"]`)},
				"hello, count":    {hello(`"rooms":["` + weir + `"],"detail":"count"`)},
				"hello, none":     {hello(`"rooms":["` + weir + `"],"detail":"none"`)},
				"join, members":   {hello(`"rooms":[]`), `{"type":"join","id":1,"room":"` + weir + `"}`},
				"join, count":     {hello(`"rooms":[]`), `{"type":"join","id":1,"room":"` + weir + `","detail":"count"}`},
				"watch, members":  {hello(`"rooms":[]`), `{"type":"watch","id":1,"room":"` + weir + `"}`},
				"watch, pattern":  {hello(`"rooms":[],"watch":[{"room":"basin.*","detail":"count"}]`)},
				"watch only":      {hello(`"watch_only":true,"watch":[{"room":"basin.*"}]`)},
				"join and watch":  {hello(`"rooms":["` + weir + `"],"watch":[{"room":"` + weir + `"}]`)},
				"two rooms of it": {hello(`"rooms":["` + weir + `","basin.fen-end"]`)},
			} {
				r := connect(t, s)
				frames := r.frames()
				for _, frame := range said {
					r.send(frame)
					untilFrame(t, frames, answerTo(1))
				}
				r.send(`{"type":"beat","id":2}`)
				untilFrame(t, frames, answerTo(2))
				ways[name] = frames
				t.Cleanup(func() { _ = r.conn.Close() })
			}
			stream := follow(t, s, "/v1/feed?room="+weir, token, "")
			stream.until("snapshot")
			watching := follow(t, s, "/v1/feed?watch_only=true&watch=basin.*", token, "")
			watching.until("snapshot")

			if by == "the back end" {
				_, err := client.API{Server: s.URL(), Key: key}.Remove(t.Context(), "mallory", weir)
				require.NoError(t, err)
			} else {
				warden := dial(t, client.Options{Server: s.URL(), Token: tokenOf(t, client.Token{User: "warden", Grants: wire.Grants{Moderate: []string{weir}, Rooms: []string{"desk.*"}}})})
				require.NoError(t, warden.Remove(t.Context(), "mallory", weir))
			}
			for name, frames := range ways {
				dropped := untilFrame(t, frames, ofType("dropped"))
				require.Equal(t, "removed", dropped["code"], name)
				require.Contains(t, []any{weir, "basin.*"}, dropped["room"], name)
			}
			require.Equal(t, "removed", stream.until("dropped")["code"])
			require.Equal(t, "removed", watching.until("dropped")["code"])

			// A change in the room, and then one that everybody may see.
			later := dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
			require.NoError(t, later.Typing(t.Context(), weir, true))
			third := watch(t, s)
			require.NoError(t, later.Bye(t.Context()))
			third.until(t, left("tobin"))
			_, err := client.API{Server: s.URL(), Key: key}.CuePerson(t.Context(), "mallory", wire.NewCue{Name: "over"})
			require.NoError(t, err)
			for name, frames := range ways {
				if name == "watch only" {
					continue // which has no session for cues
				}
				untilFrame(t, frames, func(frame map[string]any) bool {
					left, _ := frame["left"].([]any)
					itself := len(left) == 1 && left[0].(map[string]any)["user"] == "mallory" // may be sealed before all has ended
					require.False(t, frame["room"] == weir && frame["type"] != "dropped" && !itself, "%s: %v", name, frame)
					return frame["type"] == "cue"
				})
			}
			for frame := stream.next(); frame["type"] != "cue"; frame = stream.next() {
				require.False(t, frame["room"] == weir && frame["type"] != "dropped", "%v", frame)
			}
		})
	}
}

func TestAStreamThatComesBackIsTakenOutOfTheRoomItWasRemovedFrom(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	token := mint(t, "mallory")
	stream := follow(t, s, "/v1/feed?room="+weir+"&watch=basin.*", token, "")
	stream.until("snapshot")
	require.NoError(t, stream.response.Body.Close())
	require.Eventually(t, func() bool {
		_, text := ask(t, "GET", s.URL()+"/v1/people/mallory/sessions", "Bearer "+key, "")
		return strings.Contains(text, `"state":"grace"`)
	}, patience, 10*time.Millisecond)
	_, err := client.API{Server: s.URL(), Key: key}.Remove(t.Context(), "mallory", weir)
	require.NoError(t, err)
	again := follow(t, s, "/v1/feed", mint(t, "mallory"), stream.last)
	answer := again.next()
	require.Equal(t, "answer", answer["type"])
	require.Empty(t, answer["rooms"])
	require.Equal(t, "removed", again.until("dropped")["code"])
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
	_, err = client.API{Server: s.URL(), Key: key}.CuePerson(t.Context(), "mallory", wire.NewCue{Name: "over"})
	require.NoError(t, err)
	for frame := again.next(); frame["type"] != "cue"; frame = again.next() {
		require.NotContains(t, []any{"changes", "snapshot"}, frame["type"], "%v", frame)
	}
}

func TestATokenThatSeesLessGoesOnWithLess(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	ghost := dial(t, client.Options{Server: s.URL(), Token: mintAll(t, "ghost"), Rooms: []string{weir}})
	require.NoError(t, ghost.Hide(t.Context(), true))
	seeing := client.Token{User: "ilse", Grants: wire.Grants{Rooms: []string{"**"}, SeeHidden: true}}
	events, onEvent := heard[client.Event](100)
	link := dial(t, client.Options{Server: s.URL(), Token: tokenOf(t, seeing), Rooms: []string{weir}, OnEvent: onEvent})
	await(t, events, func(e client.Event) bool { return e.Count.People == 2 })
	seeing.SeeHidden = false
	require.NoError(t, link.Renew(t.Context(), tokenOf(t, seeing)))
	await(t, events, func(e client.Event) bool { return e.Whole && e.Count.People == 1 })
	require.NoError(t, link.Activity(t.Context()), "the link goes on")
	seeing.SeeHidden = true
	require.NoError(t, link.Renew(t.Context(), tokenOf(t, seeing)))
	await(t, events, func(e client.Event) bool { return e.Whole && e.Count.People == 2 })
}

func TestTheApplicationAdmitsWatchersToo(t *testing.T) {
	t.Parallel()
	var asked atomic.Pointer[map[string]string]
	var deny atomic.Pointer[string]
	none := ""
	deny.Store(&none)
	application := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var question map[string]string
		body, _ := io.ReadAll(r.Body)
		_ = json.Unmarshal(body, &question)
		asked.Store(&question)
		_, _ = fmt.Fprintf(w, `{"admit":%t,"ADMIT":true}`, question["to"] != *deny.Load())
	}))
	t.Cleanup(application.Close)
	secret := "whsec_" + "YSBzZWNyZXQgb2YgdGhlIGFwcGxpY2F0aW9u"
	s := startWith(t, server.Config{Realms: map[string]server.RealmConfig{"main": {Admission: &admission.Client{
		Rooms: []presence.Pattern{"desk.*"}, URL: application.URL, Secret: secret}}}})
	watchers := "watch"
	deny.Store(&watchers)
	token := func(user string) string { return mint(t, user, "**") }
	link := dial(t, client.Options{Server: s.URL(), Token: token("ilse"), Rooms: []string{"desk.night"}})
	require.NoError(t, link.Join(t.Context(), "desk.night"))
	_, err := link.Members(t.Context(), "desk.night", "", "", 10)
	require.NoError(t, err, "somebody who is in the room may list it")
	for _, room := range []string{"desk.night", "desk.*", "**", "*.night"} {
		requireCode(t, "not-admitted", link.Watch(t.Context(), room, "count"))
		require.Equal(t, map[string]string{"realm": "main", "user": "ilse", "name": "", "room": room, "to": "watch"}, *asked.Load())
	}
	require.NoError(t, link.Watch(t.Context(), "basin.*", "members"), "nobody asks about other rooms")
	_, err = dial(t, client.Options{Server: s.URL(), Token: token("tobin")}).Members(t.Context(), "desk.night", "", "", 10)
	requireCode(t, "not-admitted", err)
	refusedWith(t, "not-admitted", client.Options{Server: s.URL(), Token: token("hanne"), WatchOnly: true, Watch: []wire.Watch{{Room: "desk.night"}}})
	response, _ := ask(t, "GET", s.URL()+"/v1/feed?watch_only=true&watch=desk.*", "Bearer "+token("corin"), "")
	require.Equal(t, 403, response.StatusCode)

	// Somebody whom the application no longer admits is removed, and gets the reason.
	dropped, onDropped := heard[wire.Drop](10)
	elin := dial(t, client.Options{Server: s.URL(), Token: token("elin"), Rooms: []string{"desk.night"}, OnDropped: onDropped})
	joiners := "join"
	deny.Store(&joiners)
	require.NoError(t, elin.Renew(t.Context(), tokenOf(t, client.Token{User: "elin", Name: "Elin", Grants: wire.Grants{Rooms: []string{"**"}}, Issued: longAgo()})))
	require.Equal(t, "not-admitted", await(t, dropped, func(wire.Drop) bool { return true }).Code)
	_, text := ask(t, "GET", s.URL()+"/v1/rooms/desk.night/members", "Bearer "+key, "")
	require.NotContains(t, text, "elin")
}

// longAgo is an earlier time of issue than that of any other token of the test.
func longAgo() time.Time { return time.Now().Add(-10 * time.Minute) }
