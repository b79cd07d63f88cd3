package stored_test

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/coding"
	"tovik.example/tovik/internal/cluster/inmemory"
	"tovik.example/tovik/internal/cluster/stored"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// member is a node with its file, hooks and keys.
type member struct {
	*stored.Records
	name    cluster.Name
	hooks   *hooks.Dispatcher
	keys    *access.Keyring
	signIns *access.SignIns
	running *inmemory.Running
	dir     string
}

// Put has rows of its own: the other members get the same records.
func (m *member) Put(after cluster.Position, fold cluster.Fold, list []cluster.Record) error {
	own, err := coding.Again(list)
	return errors.Join(err, m.Records.Put(after, fold, own))
}

func (m *member) RealmMade(cluster.Realm, string) {}
func (m *member) RealmGone(cluster.Realm)         {}
func (m *member) Halted(string)                   {}
func (m *member) Owns(_ cluster.Realm, name string, is bool) {
	if err := m.hooks.Own(name, is); err != nil {
		panic(err)
	}
}

// members starts a cluster whose first node owns the realm.
func members(t *testing.T, names ...cluster.Name) map[cluster.Name]*member {
	all, log := map[cluster.Name]*member{}, slog.New(slog.DiscardHandler)
	var nodes []*inmemory.Running
	nodes = inmemory.StartWith(t.Context(), presence.DefaultPolicy(), func(name cluster.Name) inmemory.Table {
		m := &member{name: name, dir: t.TempDir()}
		store, err := records.OpenThrough(m.dir, func(ctx context.Context, c records.Change) error {
			return nodes[slices.Index(names, name)].Change(ctx, 1, c)
		})
		require.NoError(t, err)
		m.Records, err = stored.New(store, "the-river-watch", cluster.NewFold(access.Main), func(r *stored.Records) (records.Deliverer, error) {
			m.hooks, err = hooks.New(hooks.Options{Store: store, Outcomes: r, Log: log, Shared: true, Private: true, Retries: []time.Duration{20 * time.Millisecond, 20 * time.Millisecond, time.Minute}})
			return m.hooks, err
		})
		require.NoError(t, err)
		m.keys, err = access.NewKeyring(store, "the secret of nodes that live for one test", "own")
		require.NoError(t, err)
		m.signIns = access.NewSignIns(store, m.keys, log)
		for _, l := range []records.Listener{m.hooks, m.keys, m.signIns} {
			store.Listen(l)
		}
		ctx, stop := context.WithCancel(context.Background())
		var running sync.WaitGroup
		running.Go(func() { m.hooks.Run(ctx) })
		running.Go(func() {
			m.Tidy(ctx, func() records.Retention { return records.Retention{JournalRows: 5} }, func(realm cluster.Realm) bool {
				m.Confirmed(realm, []presence.SessionID{"session-none"}) // as a node that is asked may
				return m.running.Speaks(realm)
			}, func(err error) { panic(err) })
		})
		t.Cleanup(func() {
			stop()
			running.Wait()
			require.NoError(t, store.Close())
		})
		all[name] = m
		return m
	}, names...)
	for i, name := range names {
		all[name].running = nodes[i]
		t.Cleanup(nodes[i].Stop)
	}
	return all
}

// receiver is an application to which hooks deliver.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	broken bool
	events []string // in the order in which they came first
	again  int
}

func newReceiver(t *testing.T) *receiver {
	r := &receiver{}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, request *http.Request) {
		body, err := io.ReadAll(request.Body)
		var event struct{ ID, Type string }
		if err != nil || json.Unmarshal(body, &event) != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.broken {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		if text := event.ID + " " + string(body); slices.ContainsFunc(r.events, func(known string) bool { return strings.HasPrefix(known, event.ID+" ") }) {
			r.again++
		} else {
			r.events = append(r.events, text)
		}
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *receiver) breaks(is bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.broken = is
}

// users returns whose events came, in order.
func (r *receiver) users() (users []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, event := range r.events {
		for _, user := range []string{"bram", "ilse", "odile", "tarn"} {
			if strings.Contains(event, `"`+user+`"`) {
				users = append(users, user)
			}
		}
	}
	return users
}

func soon(t *testing.T, what string, is func() bool) {
	t.Helper()
	require.Eventually(t, is, time.Minute, 5*time.Millisecond, what)
}

func (m *member) opens(t *testing.T, core *cluster.Core, user string) {
	soon(t, user+" is let in", func() bool {
		_, err := core.Do(t.Context(), presence.Hello{User: presence.UserID(user), Issued: 1, NewSession: presence.SessionID("session-" + user), NewKey: "key-" + user, Nonce: user, Rooms: []presence.RoomName{"desk.night"}})
		return err == nil
	})
}

// TestHooksKeysAndSignInsAreThoseOfAllNodes makes them at one node and uses them at others. The owner dies
// while a delivery waits: the next one delivers it, in order, and all files say so.
func TestHooksKeysAndSignInsAreThoseOfAllNodes(t *testing.T) {
	all := members(t, "dipper", "heron", "kestrel")
	dipper, heron, kestrel := all["dipper"], all["heron"], all["kestrel"]
	to := newReceiver(t)
	hook, err := heron.hooks.Desk(access.Main).Make(wire.NewHook{Name: "the log book", URL: to.URL, Kinds: []string{"member.joined"}})
	require.NoError(t, err)
	for _, m := range all {
		soon(t, "all nodes have the hook", func() bool { _, err := m.hooks.Get(access.Main, hook.ID); return err == nil })
	}
	key, err := heron.keys.AddOperatorKey(nil, access.Main, wire.NewKey{Name: "the watch", Role: "read"})
	require.NoError(t, err)
	soon(t, "a key that was made elsewhere is taken", func() bool { _, err := kestrel.keys.Check(key.Key, access.Read); return err == nil })
	cookie := heron.signIns.Open(key.ID, time.Now())
	soon(t, "who signed in elsewhere is known", func() bool { _, ok := dipper.signIns.Find(cookie, time.Now()); return ok })
	operator, err := kestrel.keys.Check("own", access.Operate)
	require.NoError(t, err)
	require.NoError(t, kestrel.keys.RevokeOperatorKey(operator, key.ID))
	soon(t, "a revocation is one everywhere", func() bool { _, err := heron.keys.Check(key.Key, access.Read); return err != nil })
	heron.signIns.Close(cookie)
	soon(t, "who signed out is out everywhere", func() bool { _, ok := dipper.signIns.Find(cookie, time.Now()); return !ok })

	here, there := heron.running.Core(1, nobody{}, enginetest.NoLinks{}), kestrel.running.Core(1, nobody{}, enginetest.NoLinks{})
	heron.opens(t, here, "bram")
	kestrel.opens(t, there, "ilse")
	soon(t, "the owner delivers", func() bool { return slices.Equal([]string{"bram", "ilse"}, to.users()) })

	to.breaks(true)
	heron.opens(t, here, "odile")
	soon(t, "it tries", func() bool {
		page, err := kestrel.Deliveries(t.Context(), hook.ID, records.Waiting, 0, 10)
		require.NoError(t, err)
		return len(page) == 1 && page[0].Attempts >= 2
	})
	dipper.running.Stop()
	require.NoError(t, dipper.hooks.Own(access.Main, false)) // its process is gone
	require.Zero(t, dipper.hooks.Waiting())
	to.breaks(false)
	kestrel.opens(t, there, "tarn")
	soon(t, "the next owner delivers what waited, and then what came", func() bool { return slices.Equal([]string{"bram", "ilse", "odile", "tarn"}, to.users()) })
	soon(t, "outcomes are on record at all nodes", func() bool {
		for _, m := range []*member{heron, kestrel} {
			page, err := m.Deliveries(t.Context(), hook.ID, records.Delivered, 0, 10)
			require.NoError(t, err)
			if len(page) != 4 {
				return false
			}
		}
		return true
	})
	before, err := heron.Deliveries(t.Context(), hook.ID, "", 0, 1)
	require.NoError(t, err)
	for _, m := range []*member{heron, kestrel} { // one of them owns the realm, the other does not
		soon(t, "its outcome is on record", func() bool {
			d, err := m.Delivery(before[0].ID)
			require.NoError(t, err)
			return d.State == records.Delivered
		})
		was := to.times()
		_, err := m.hooks.Desk(access.Main).Redeliver(t.Context(), strconv.FormatInt(before[0].ID, 10))
		require.NoError(t, err)
		soon(t, "a delivery is repeated from any node", func() bool { return to.times() > was })
	}
	soon(t, "old entries go at all nodes", func() bool {
		for _, m := range []*member{heron, kestrel} {
			first, last, err := m.JournalEnds(t.Context())
			require.NoError(t, err)
			if last-first > 5 {
				return false
			}
		}
		return true
	})
	soon(t, "rows are equal", func() bool {
		findings, err := records.Compare(t.Context(), heron.dir, kestrel.dir)
		if err != nil { // one is behind
			return false
		}
		for _, f := range findings {
			require.False(t, f.Wrong, "%+v", f)
		}
		return true
	})
}

func (r *receiver) times() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.again
}

// TestThePositionIsThatOfWhatTheLogHas gives a node a record with something that it does not know, as a later version may
// write: nodes of both versions have equal positions.
func TestThePositionIsThatOfWhatTheLogHas(t *testing.T) {
	store, err := records.Open(records.Memory)
	require.NoError(t, err)
	defer func() { require.NoError(t, store.Close()) }()
	r, err := stored.New(store, "the-river-watch", cluster.NewFold(access.Main), nil)
	require.NoError(t, err)
	text, err := cbor.Marshal(map[string]any{"i": "record-1", "f": 1, "k": "batch", "n": "dipper", "later": "a value"})
	require.NoError(t, err)
	record, err := coding.ReadRecord(text, cluster.Newest)
	require.NoError(t, err)
	next := r.At().Next(text)
	require.NoError(t, r.Put(1, r.Fold(), []cluster.Record{record}))
	require.Equal(t, next.Hash, r.At().Hash)
	record.ID, record.Text = "record-2", nil
	require.ErrorContains(t, r.Put(2, r.Fold(), []cluster.Record{record}), "record-2")
	require.Equal(t, next.Hash, r.At().Hash)
}

func TestRecordsOfANodeThatRanAloneAreRefused(t *testing.T) {
	store, err := records.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, store.Close()) })
	_, err = store.AddRealm("training")
	require.NoError(t, err)
	_, err = stored.New(store, "the-river-watch", cluster.NewFold(access.Main), nil)
	require.ErrorContains(t, err, "ran alone")
}

// nobody is a sink.
type nobody struct{}

func (nobody) Take(*engine.Batch)         {}
func (nobody) TakeUnchanged(engine.Topic) {}
func (nobody) TakeTypists(engine.Typists) {}
func (nobody) TakeAsks(engine.Asks)       {}
func (nobody) TakeSight(engine.Sight)     {}
