package server_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// asServer turns the test binary into a service that a test can kill. Its arguments are ADDRESS
// and DIRECTORY.
const asServer = "TOVIK_TEST_AS_SERVER"

// killedGrace is the grace of lost links in that service. It is long, because clients return
// slowly on a busy machine.
const killedGrace = 4 * time.Second

func beServer() {
	address, dir, _ := strings.Cut(os.Getenv(asServer), " ")
	policy := brisk()
	policy.GraceLost = killedGrace
	s, err := server.Start(server.Config{Listen: address, TokenSecret: secret, OperatorKey: key, Policy: policy, Data: dir, PrivateHooks: true,
		Log:         slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn})),
		HookRetries: append([]time.Duration{50 * time.Millisecond, 200 * time.Millisecond}, slices.Repeat([]time.Duration{time.Second}, 1000)...)})
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	s.Ready()
	select {}
}

// killable is a service in a process of its own, with the same address and directory each time.
type killable struct {
	*testing.T
	address, dir string
	process      *exec.Cmd
}

func startKillable(t *testing.T) *killable {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	k := &killable{T: t, address: listener.Addr().String(), dir: t.TempDir()}
	require.NoError(t, listener.Close())
	t.Cleanup(func() {
		if k.process != nil {
			k.kill()
		}
	})
	k.start()
	return k
}

func (k *killable) url() string { return "http://" + k.address }

func (k *killable) api() client.API { return client.API{Server: k.url(), Key: key} }

func (k *killable) start() {
	k.Helper()
	k.process = exec.Command(os.Args[0])
	k.process.Env = append(os.Environ(), asServer+"="+k.address+" "+k.dir)
	k.process.Stdout, k.process.Stderr = os.Stderr, os.Stderr
	require.NoError(k, k.process.Start())
	require.Eventually(k, func() bool {
		_, err := k.api().Ready(k.Context())
		return err == nil
	}, patience, 5*time.Millisecond)
}

// onRecord waits until this many people with a prefix are written.
func (k *killable) onRecord(users string, many int) {
	k.Helper()
	require.Eventually(k, func() bool {
		page, err := k.api().People(k.Context(), users, "", 1000)
		return err == nil && len(page.People) >= many
	}, patience, 10*time.Millisecond, "%s", users)
}

func (k *killable) kill() {
	k.Helper()
	require.NoError(k, k.process.Process.Kill())
	_ = k.process.Wait()
	k.process = nil
}

// walker is a client that moves from room to room and logs the confirmed moves. No two of its
// rooms have the same name.
type walker struct {
	user    string
	service *killable
	mu      sync.Mutex
	log     []step
	here    map[string]bool
	resumed int
	fresh   int // returns for which the session was no longer there
}

type step struct {
	room string
	in   bool
	at   time.Time // when it was asked for
}

func (w *walker) walk(ctx context.Context) {
	var resume *wire.Resume
	random := rand.New(rand.NewPCG(rand.Uint64(), 1))
	token := mint(w.service.T, w.user, "**")
	for n := 0; ctx.Err() == nil; {
		options := client.Options{Server: w.service.url(), Token: token, Resume: resume, Nonce: "the same page"}
		if resume == nil {
			options.Rooms = []string{weir}
		}
		link, err := client.Dial(ctx, options)
		if err != nil {
			select {
			case <-ctx.Done():
			case <-time.After(10 * time.Millisecond):
			}
			continue
		}
		w.came(link, resume != nil)
		resume = link.Resume()
		for ctx.Err() == nil {
			room := fmt.Sprintf("levee.%s-%d", w.user, n/2)
			act := link.Join
			if n%2 == 1 {
				act = link.Leave
			}
			asked := time.Now()
			err := act(ctx, room)
			var refused *wire.Problem
			if err != nil && !errors.As(err, &refused) {
				break // the link is gone; whether it was done is not known
			}
			if err == nil {
				w.did(room, n%2 == 0, asked)
			}
			n++
			time.Sleep(time.Duration(random.IntN(30)) * time.Millisecond)
		}
		if n%2 == 1 {
			n++ // what was under way is left alone
		}
		link.Close()
	}
}

func (w *walker) came(link *client.Link, again bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if again && link.Opened().Resumed {
		w.resumed++
	} else if again {
		w.fresh++
	}
	w.here = map[string]bool{}
	for _, room := range link.Opened().Rooms {
		w.here[room] = true
	}
}

func (w *walker) did(room string, in bool, at time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.log = append(w.log, step{room, in, at})
	w.here[room] = in
}

// TestAKilledServiceLosesNobody kills a service under load repeatedly, at random moments.
// CRASHES is the number of times.
func TestAKilledServiceLosesNobody(t *testing.T) {
	rounds, err := strconv.Atoi(os.Getenv("CRASHES"))
	if err != nil {
		rounds = 5
	}
	k := startKillable(t)
	ctx, cancel := context.WithCancel(t.Context())
	var walking sync.WaitGroup
	defer walking.Wait()
	defer cancel()
	var walkers []*walker
	for i := range 16 {
		w := &walker{user: fmt.Sprintf("w-%02d", i), service: k}
		walkers = append(walkers, w)
		walking.Go(func() { w.walk(ctx) })
	}
	var kills []time.Time
	var gone []string // who had a link when the service was killed, and did not come back
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	k.onRecord("w-", len(walkers))
	for round := range rounds {
		time.Sleep(time.Duration(50+random.IntN(700)) * time.Millisecond)
		user := fmt.Sprintf("gone-%d", round)
		lost := dial(t, client.Options{Server: k.url(), Token: mint(t, user, "**"), Rooms: []string{weir, "desk.night"}})
		k.onRecord(user, 1)
		time.Sleep(time.Duration(random.IntN(500)) * time.Millisecond)
		gone = append(gone, user)
		k.kill()
		kills = append(kills, time.Now())
		lost.Close()
		findings, err := records.Check(t.Context(), k.dir)
		require.NoError(t, err)
		for _, f := range findings {
			require.False(t, f.Wrong, "round %d: %s: %d %s", round, f.What, f.Number, f.Detail)
		}
		k.start()
	}
	ready := time.Now()
	for _, user := range gone {
		require.Eventually(t, func() bool {
			p, err := k.api().Person(t.Context(), user)
			return err == nil && p.Status == "offline" && len(p.Rooms) == 0
		}, killedGrace+patience, 50*time.Millisecond, "%s is a ghost", user)
	}
	t.Logf("no ghost %s after the last start; the grace is %s", time.Since(ready).Round(time.Millisecond), killedGrace)
	stopped := time.Now()
	cancel()
	walking.Wait()
	k.judge(walkers, kills, gone, stopped)
}

// judge compares the journal with the logs of the clients. The walkers left when they were
// stopped, so their sessions may end after that.
func (k *killable) judge(walkers []*walker, kills []time.Time, gone []string, stopped time.Time) {
	k.Helper()
	body, err := k.api().ExportJournal(k.Context(), client.JournalQuery{}, "ndjson")
	require.NoError(k, err)
	defer func() { _ = body.Close() }()
	written := map[step]bool{}
	reasons := map[string]int{}
	lines := 0
	last := int64(0)
	each(k.T, body, func(r wire.Record) {
		lines++
		require.Greater(k, r.ID, last, "ids go up")
		last = r.ID
		switch r.Kind {
		case "member.joined":
			written[step{room: r.Room + " " + r.User, in: true}] = true
		case "member.left":
			written[step{room: r.Room + " " + r.User}] = true
		}
		if strings.HasPrefix(r.User, "w-") && r.At.Before(stopped) && (r.Kind == "session.ended" || r.Kind == "member.left" && r.Reason != "leave") {
			reasons[r.Kind+" "+r.Reason]++
		}
	})
	resumed, fresh, steps := 0, 0, 0
	worst := time.Duration(0)
	lost := 0
	for _, w := range walkers {
		resumed, fresh = resumed+w.resumed, fresh+w.fresh
		for _, s := range w.log {
			steps++
			if written[step{room: s.room + " " + w.user, in: s.in}] {
				continue
			}
			lost++
			next := slices.IndexFunc(kills, func(at time.Time) bool { return at.After(s.at) })
			require.GreaterOrEqual(k, next, 0, "%s %v of %s is not in the journal, and nothing was killed after it", w.user, s.in, s.room)
			worst = max(worst, kills[next].Sub(s.at))
		}
	}
	require.Zero(k, fresh, "everybody who came back in time had their session still")
	require.Empty(k, reasons, "and had not been missed by anybody")
	require.GreaterOrEqual(k, resumed, len(kills)*len(walkers))
	for i, user := range gone {
		p, err := k.api().Person(k.Context(), user)
		require.NoError(k, err)
		require.NotNil(k, p.LastSeen, user)
		off := p.LastSeen.Sub(kills[i])
		require.InDelta(k, 0, off.Seconds(), patience.Seconds(), "last seen of %s", user)
		k.Logf("%s was last seen %s after the kill", user, off.Round(time.Millisecond))
	}
	// The time between an action and its write depends on the machine. This bound is exceeded
	// only if something is broken; the log has the measured time.
	require.Less(k, worst, patience)
	k.Logf("%d kills, %d returns, %d steps, %d entries; %d steps were lost, the oldest of them %s before its kill",
		len(kills), resumed, steps, lines, lost, worst.Round(time.Millisecond))
	if strict := os.Getenv("CRASHES_LOSE"); strict != "" {
		most, err := time.ParseDuration(strict)
		require.NoError(k, err)
		require.LessOrEqual(k, worst, most)
	}
}

// each reads records line by line.
func each(t *testing.T, from io.Reader, do func(wire.Record)) {
	t.Helper()
	decoder := json.NewDecoder(from)
	for {
		var r wire.Record
		err := decoder.Decode(&r)
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
		do(r)
	}
}
