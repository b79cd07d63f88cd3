package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// TestWhoHidesOrFollowsChangesNothingInAnyHistory plays random histories twice, the second time
// with a hidden person who joins, leaves, types and follows at every detail, and with another
// follower. Everybody else gets the same both times, at any detail and over any kind of link.
func TestWhoHidesOrFollowsChangesNothingInAnyHistory(t *testing.T) {
	t.Parallel()
	for seed := range uint64(4) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			alone, haunted := history(t, seed, false), history(t, seed, true)
			require.Equal(t, strings.Join(alone, "\n"), strings.Join(haunted, "\n"))
			require.Greater(t, len(alone), 100)
		})
	}
}

var unseenRooms = []string{"basin.upper-weir", "basin.fen-end", "basin.drill"}

// unseen is a night whose visible part comes from a seed.
type unseen struct {
	*testing.T
	server  *server.Server
	random  *rand.Rand
	seats   []*seat
	prober  *seat
	opened  int
	asked   int
	told    []string
	haunted bool
	ghost   *client.Link
	lurkers []*client.Link
	hidden  *rand.Rand
}

// seat is a link of a visible person, over a WebSocket or an event stream.
type seat struct {
	name    string
	send    func(frame string)
	frames  chan map[string]any
	told    []map[string]any // that have come and are not noted yet
	session string
	rooms   map[string]bool // that it is in or watches
	pattern bool            // it watches all of them
	leaves  string          // the room that it is just leaving: until it has, news of it may come
}

func history(t *testing.T, seed uint64, haunted bool) []string {
	policy := presence.DefaultPolicy()
	// Timers are very long, for a slow machine, and every count is sent.
	policy.GraceLost, policy.GraceClosing, policy.TypingExpires, policy.CountEvery = 10*time.Minute, 10*time.Minute, 10*time.Minute, 0
	policy.BeatEvery, policy.Lease = 10*time.Minute, 20*time.Minute
	u := &unseen{T: t, server: start(t, &policy), random: rand.New(rand.NewPCG(seed, 1)), hidden: rand.New(rand.NewPCG(seed, 2)), haunted: haunted}
	u.ghost = dial(t, client.Options{Server: u.server.URL(), Token: mintAll(t, "ghost"), Detail: wire.DetailNone})
	require.NoError(t, u.ghost.Hide(t.Context(), true))
	dial(t, client.Options{Server: u.server.URL(), Token: mintAll(t, "sentinel")})
	u.prober = u.overWebSocket("prober", `"watch_only":true,"watch":[{"people":["sentinel"]}]`)
	u.seats = nil
	u.settle()
	for range 60 {
		for range 2 {
			u.haunt()
		}
		u.step()
		u.settle()
	}
	return u.told
}

// haunt does something that nobody may notice.
func (u *unseen) haunt() {
	if !u.haunted {
		return
	}
	ctx, room := u.Context(), unseenRooms[u.hidden.IntN(3)]
	detail := []string{wire.DetailMembers, wire.DetailCount}[u.hidden.IntN(2)]
	switch u.hidden.IntN(9) {
	case 0, 1:
		require.NoError(u, u.ghost.Join(ctx, room))
	case 2:
		_ = u.ghost.Leave(ctx, room) // where it may not be
	case 3:
		_ = u.ghost.Typing(ctx, room, u.hidden.IntN(2) == 0)
	case 4:
		require.NoError(u, u.ghost.SetStatus(ctx, []string{"busy", ""}[u.hidden.IntN(2)], "", time.Time{}))
	case 5:
		require.NoError(u, u.ghost.Watch(ctx, room, detail))
	case 6:
		_ = u.ghost.Unwatch(ctx, room)
	case 7:
		u.lurkers = append(u.lurkers, dial(u.T, client.Options{Server: u.server.URL(), Token: mintAll(u.T, "lurker"), WatchOnly: true,
			Watch: []wire.Watch{{Room: []string{room, "basin.*"}[u.hidden.IntN(2)], Detail: detail}}}))
	case 8:
		if len(u.lurkers) > 0 {
			u.lurkers[0].Close()
			u.lurkers = u.lurkers[1:]
		}
	}
}

// step does something visible.
func (u *unseen) step() {
	room := unseenRooms[u.random.IntN(3)]
	detail := []string{wire.DetailMembers, wire.DetailMembers, wire.DetailCount, wire.DetailNone}[u.random.IntN(4)]
	watched := []string{wire.DetailMembers, wire.DetailCount}[u.random.IntN(2)]
	what := u.random.IntN(12)
	if len(u.seats) < 3 {
		what %= 3
	}
	if what < 3 {
		hello := fmt.Sprintf(`"rooms":[%q],"detail":%q`, room, detail)
		s := &seat{rooms: map[string]bool{room: true}}
		if u.random.IntN(3) == 0 {
			hello += fmt.Sprintf(`,"watch":[{"room":"basin.*","detail":%q},{"people":["ghost","p-0","p-1"]}]`, watched)
			s.pattern = true
		}
		u.opened++
		user := fmt.Sprintf("p-%d", u.opened%5) // now and then it is another tab of somebody
		open := u.overWebSocket
		if what == 2 {
			open = u.overStream
		}
		made := open(user, hello)
		made.rooms, made.pattern = s.rooms, s.pattern
		return
	}
	s := u.seats[u.random.IntN(len(u.seats))]
	follows := s.pattern || s.rooms[room]
	switch {
	case what == 3 && len(u.seats) > 4:
		s.send(`{"type":"bye"}`)
		u.seats = slices.DeleteFunc(u.seats, func(other *seat) bool { return other == s })
	case what == 4 && !follows:
		s.rooms[room] = true
		u.ask(s, fmt.Sprintf(`"type":"join","room":%q,"detail":%q`, room, detail))
	case what == 5:
		delete(s.rooms, room)
		s.leaves = room
		u.ask(s, fmt.Sprintf(`"type":"leave","room":%q`, room))
	case what == 6 && !follows:
		s.rooms[room] = true
		u.ask(s, fmt.Sprintf(`"type":"watch","room":%q,"detail":%q`, room, watched))
	case what == 7:
		u.ask(s, fmt.Sprintf(`"type":"unwatch","room":%q`, room))
	case what == 8:
		u.ask(s, fmt.Sprintf(`"type":"status","status":%q`, []string{"busy", "away", ""}[u.random.IntN(3)]))
	case what == 9:
		u.ask(s, fmt.Sprintf(`"type":"typing","room":%q,"on":%t`, room, u.random.IntN(3) > 0))
	case what == 10:
		u.ask(s, fmt.Sprintf(`"type":"members","room":%q`, room))
	case what == 11:
		response, body := ask(u.T, "PUT", u.server.URL()+"/v1/sessions/new", "Bearer "+mintAll(u.T, "gauge"), fmt.Sprintf(`{"rooms":[%q]}`, room))
		require.Equal(u, 200, response.StatusCode, body)
		u.note("gauge", body)
	}
}

// settle waits until everything is sealed and sent.
func (u *unseen) settle() {
	for _, room := range unseenRooms {
		u.ask(u.prober, fmt.Sprintf(`"type":"members","room":%q`, room)) // waits for the seal
	}
	u.asked++
	note := fmt.Sprint("settled ", u.asked)
	_, err := client.API{Server: u.server.URL(), Key: key}.SetStatus(u.Context(), "sentinel", wire.StatusWanted{Status: "busy", Note: note})
	require.NoError(u, err)
	await(u.T, u.prober.frames, func(frame map[string]any) bool { return frame["note"] == note })
	for _, s := range u.seats {
		// The state before the first of the two is sent before that of the second.
		for range 2 {
			u.asked++
			name := fmt.Sprint("settled-", u.asked)
			_, err := client.API{Server: u.server.URL(), Key: key}.CueSession(u.Context(), s.session, wire.NewCue{Name: name})
			require.NoError(u, err)
			u.until(s, func(frame map[string]any) bool { return frame["name"] == name })
		}
		slices.SortStableFunc(s.told, func(a, b map[string]any) int { return strings.Compare(about(a), about(b)) })
		for i, frame := range s.told {
			if s.leaves != "" && frame["room"] == s.leaves {
				continue
			}
			if i+1 < len(s.told) && frame["type"] == "person" && about(s.told[i+1]) == about(frame) {
				continue // of a person only the newest counts; whether others come before depends on the machine
			}
			text, err := json.Marshal(frame)
			require.NoError(u, err)
			u.note(s.name, string(text))
		}
		s.told, s.leaves = nil, ""
	}
}

// until reads frames up to one, which it returns.
func (u *unseen) until(s *seat, is func(map[string]any) bool) map[string]any {
	return await(u.T, s.frames, func(frame map[string]any) bool {
		if is(frame) {
			return true
		}
		s.told = append(s.told, frame)
		return false
	})
}

// about returns what a frame is about. Only the order of frames about the same thing counts:
// rooms and people are sealed separately.
func about(frame map[string]any) string { return fmt.Sprint(frame["room"], " ", frame["user"]) }

// ofChance matches what differs between any two nights.
var ofChance = regexp.MustCompile(`"(session|resume_key|since|at|last_seen|posts|id|expires)":"[^"]*"|"(rev|prev)":"[A-Z0-9]+`)

func (u *unseen) note(name, text string) {
	u.told = append(u.told, name+" "+ofChance.ReplaceAllString(text, `"$1$2":"…`))
}

// ask sends a request, and records the answer unless it is the prober's.
func (u *unseen) ask(s *seat, frame string) {
	u.asked++
	id := float64(u.asked)
	s.send(fmt.Sprintf(`{"id":%d,%s}`, u.asked, frame))
	answer := u.until(s, func(frame map[string]any) bool { return frame["re"] == id })
	delete(answer, "re")
	if s != u.prober {
		text, err := json.Marshal(answer)
		require.NoError(u, err)
		u.note(s.name, string(text))
	}
}

// begin reads the answer to a hello. It keeps all frames for later.
func (u *unseen) begin(s *seat) *seat {
	answer := await(u.T, s.frames, ofType("answer"))
	s.session, _ = answer["session"].(string)
	u.seats = append(u.seats, s)
	return s
}

func (u *unseen) overWebSocket(user, hello string) *seat {
	r := connect(u.T, u.server)
	require.NoError(u, r.conn.SetReadDeadline(time.Time{}))
	s := &seat{name: user, frames: make(chan map[string]any, 10_000), send: func(frame string) { r.send(frame) }}
	go func() {
		for {
			_, data, err := r.conn.ReadMessage()
			var frame map[string]any
			if err != nil || json.Unmarshal(data, &frame) != nil {
				return
			}
			s.frames <- frame
		}
	}()
	r.send(fmt.Sprintf(`{"type":"hello","version":1,"id":"h","token":%q,%s}`, mintAll(u.T, user, "*"), hello))
	return u.begin(s)
}

func (u *unseen) overStream(user, hello string) *seat {
	f := follow(u.T, u.server, ticket(u.T, u.server, mintAll(u.T, user, "*"), "{"+hello+"}").Feed, "", "")
	first := f.until("answer")
	s := &seat{name: user + " (stream)", frames: make(chan map[string]any, 10_000)}
	s.frames <- first
	s.send = func(frame string) {
		request, err := http.NewRequestWithContext(context.Background(), "POST", u.server.URL()+first["posts"].(string), bytes.NewBufferString(frame))
		require.NoError(u, err)
		request.Header.Set("Authorization", "Bearer "+first["resume_key"].(string))
		response, err := http.DefaultClient.Do(request)
		require.NoError(u, err)
		defer func() { _ = response.Body.Close() }()
		var answer map[string]any
		if json.NewDecoder(response.Body).Decode(&answer) == nil {
			if answer["re"] == nil { // a problem document
				var asked map[string]any
				require.NoError(u, json.Unmarshal([]byte(frame), &asked))
				answer = map[string]any{"type": "error", "re": asked["id"], "code": answer["code"]}
			}
			s.frames <- answer
		}
	}
	go func() {
		for f.lines.Scan() {
			var frame map[string]any
			if data, ok := strings.CutPrefix(f.lines.Text(), "data: "); ok && json.Unmarshal([]byte(data), &frame) == nil && frame["type"] != nil {
				s.frames <- frame
			}
		}
	}()
	return u.begin(s)
}
