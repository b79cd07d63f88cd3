package realm_test

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/coding"
	"tovik.example/tovik/internal/cluster/inmemory"
	"tovik.example/tovik/internal/cluster/stored"
	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

const secret = "the secret of realms that live for one test"

// links are the links of a node, of which a test reads the offered frames.
type links struct {
	enginetest.NoLinks
	mu      sync.Mutex
	offered []string
	removed []presence.UserID
}

func (l *links) Offer(_ presence.LinkID, frame []byte) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.offered = append(l.offered, string(frame))
	return true
}

func (l *links) Removed(realm string, user presence.UserID, _ presence.RoomName, _ time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.removed = append(l.removed, user)
}

func (l *links) ended(user presence.UserID) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Contains(l.removed, user)
}

func (l *links) got(text string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return strings.Contains(strings.Join(l.offered, "\n"), text)
}

// place is a node's realm, over a core that may be on another node.
type place struct {
	realms *realm.Realms
	main   *realm.Realm
	links  *links
}

func placeAt(t *testing.T, node *inmemory.Running) place {
	store, err := records.Open(records.Memory)
	require.NoError(t, err)
	return placeWith(t, node, store)
}

func placeWith(t *testing.T, node *inmemory.Running, store *records.Store) place {
	keys, err := access.NewKeyring(store, secret, "own")
	require.NoError(t, err)
	writer, err := records.NewWriter(records.WriterOptions{Store: store})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { writer.Run(ctx) })
	policy, links := presence.DefaultPolicy(), &links{}
	realms := realm.NewRealms(realm.RealmsOptions{Keys: keys, Guard: new(access.Guard), Store: store, Writer: writer})
	main, err := realm.Open(realm.Options{Name: access.Main, Policy: &policy, Links: links, Store: store, Writer: writer,
		Core: func(sink engine.Sink, links engine.Links) realm.Elsewhere { return node.Core(1, sink, links) }})
	require.NoError(t, err)
	realms.Add(main)
	t.Cleanup(func() {
		main.Close()
		stop()
		running.Wait()
		require.NoError(t, store.Close())
	})
	return place{realms, main, links}
}

// guest is somebody with a link at a place.
type guest struct {
	*realm.Conversation
	link   presence.LinkID
	opened *wire.Opened
	frames []deflate.Text
}

func (p place) greet(t *testing.T, user string) *guest {
	token, err := client.Token{User: user, Grants: wire.Grants{Rooms: []string{"**"}, Cue: []string{"**"}}}.Sign(secret)
	require.NoError(t, err)
	c, err := p.realms.Greet(t.Context(), wire.Hello{Token: token, Rooms: []string{"desk.night"}}, realm.Caller{})
	require.NoError(t, err)
	c, err = c.Admit(t.Context())
	require.NoError(t, err)
	reply, wait, err := c.Begin()
	require.NoError(t, err)
	if wait != nil {
		reply, err = wait(t.Context())
		require.NoError(t, err)
	}
	g := &guest{link: reply.Link}
	g.Conversation, g.opened = c.Converse(reply, func() {})
	return g
}

// hears waits for frames that have all of some texts.
func (g *guest) hears(t *testing.T, texts ...string) {
	t.Helper()
	require.Eventually(t, func() bool {
		g.frames, _ = g.Next(g.frames)
		var all strings.Builder
		for _, frame := range g.frames {
			all.Write(frame.Plain())
		}
		for _, text := range texts {
			if !strings.Contains(all.String(), text) {
				return false
			}
		}
		return true
	}, time.Minute, 5*time.Millisecond, "%v", texts)
}

func (g *guest) do(t *testing.T, r wire.Request) wire.Answer {
	t.Helper()
	done, err := g.Do(t.Context(), realm.By{Link: g.link}, r)
	require.NoError(t, err)
	if done.Wait != nil {
		answer, err := done.Wait()
		require.NoError(t, err)
		return answer
	}
	return done.Answer
}

// TestUseCasesDoNotCareWhereTheCoreIs has ilse and bram at two nodes, while a third one owns the realm, and
// then dies.
func TestUseCasesDoNotCareWhereTheCoreIs(t *testing.T) {
	synctest.Test(t, useCasesDoNotCareWhereTheCoreIs) // a busy machine must not make an owner late
}

func useCasesDoNotCareWhereTheCoreIs(t *testing.T) {
	nodes := inmemory.Start(t.Context(), presence.DefaultPolicy(), "dipper", "heron", "kestrel")
	for _, n := range nodes {
		t.Cleanup(n.Stop)
	}
	here, there := placeAt(t, nodes[1]), placeAt(t, nodes[2])
	ilse := here.greet(t, "ilse")
	ilse.hears(t, `"snapshot"`, "ilse")
	bram := there.greet(t, "bram")
	require.Equal(t, []string{"desk.night"}, bram.opened.Rooms)
	bram.hears(t, `"snapshot"`, "ilse", "bram")
	ilse.hears(t, `"changes"`, "bram")

	bram.do(t, wire.Request{Type: wire.TypeStatus, Status: string(presence.Busy), Note: "at the pumps"})
	ilse.hears(t, "at the pumps")
	reached := bram.do(t, wire.Request{Type: wire.TypeCue, Name: "look", User: "ilse"}).Links
	require.Equal(t, 1, *reached)
	require.Eventually(t, func() bool { return here.links.got(`"look"`) }, time.Minute, 5*time.Millisecond)
	desk := here.main.Desk(access.Operator{Realm: access.Main, Role: access.Operate})
	sessions, err := desk.Sessions("desk.night", "", 10)
	require.NoError(t, err)
	require.Len(t, sessions.Sessions, 2)

	ilse.frames, bram.frames = nil, nil
	nodes[0].Stop()
	odile := there.greet(t, "odile") // waits for the next owner
	odile.hears(t, `"snapshot"`, "ilse", "bram", "odile")
	for _, g := range []*guest{ilse, bram} {
		g.hears(t, "odile")
		for _, frame := range g.frames {
			require.NotContains(t, string(frame.Plain()), `"snapshot"`)
			require.NotContains(t, string(frame.Plain()), `"left":[{`)
		}
	}
	bram.do(t, wire.Request{Type: wire.TypeLeave, Room: "desk.night"})
	ilse.hears(t, `"left"`, "bram")

	nodes[2].Stop()                     // one of three nodes is no majority
	require.Eventually(t, func() bool { // it notices that after a moment
		_, err = ilse.Do(t.Context(), realm.By{Link: ilse.link}, wire.Request{Type: wire.TypeJoin, Room: "basin.upper-weir"})
		return err != nil
	}, time.Minute, time.Millisecond)
	require.Equal(t, wire.CodeNotReady, problem.Of(err).Code)
}

// ownRows are rows whose records the other nodes do not share.
type ownRows struct{ *stored.Records }

func (r ownRows) Put(after cluster.Position, fold cluster.Fold, list []cluster.Record) error {
	own, err := coding.Again(list)
	return errors.Join(err, r.Records.Put(after, fold, own))
}

// TestCommandsGoThroughTheLog has back ends at two nodes, while a third one owns the realm. What they
// change is in the records of all.
func TestCommandsGoThroughTheLog(t *testing.T) {
	synctest.Test(t, commandsGoThroughTheLog)
}

func commandsGoThroughTheLog(t *testing.T) {
	names := []cluster.Name{"dipper", "heron", "kestrel"}
	var nodes []*inmemory.Running
	tables := map[cluster.Name]*stored.Records{}
	nodes = inmemory.StartWith(t.Context(), presence.DefaultPolicy(), func(name cluster.Name) inmemory.Table {
		store, err := records.OpenThrough(records.Memory, func(ctx context.Context, c records.Change) error {
			return nodes[slices.Index(names, name)].Change(ctx, 1, c)
		})
		require.NoError(t, err)
		tables[name], err = stored.New(store, "the-river-watch", cluster.NewFold(access.Main), nil)
		require.NoError(t, err)
		return ownRows{tables[name]}
	}, names...)
	for _, n := range nodes {
		t.Cleanup(n.Stop)
	}
	here, there := placeWith(t, nodes[1], tables["heron"].Store), placeWith(t, nodes[2], tables["kestrel"].Store)
	t.Cleanup(func() { require.NoError(t, tables["dipper"].Close()) })
	atHere, atThere := here.main.Desk(access.Operator{Realm: access.Main, Role: access.Operate, Key: "key-1"}), there.main.Desk(access.Operator{Realm: access.Main, Role: access.Operate, Key: "key-1"})
	soon := func(what string, is func() bool) {
		t.Helper()
		require.Eventually(t, is, time.Minute, 5*time.Millisecond, what)
	}
	here.greet(t, "bram")

	_, err := atHere.Declare("levee.north-bank", wire.Declaration{Expected: []string{"ilse"}})
	require.NoError(t, err)
	_, err = atHere.Expectations("levee.north-bank")
	require.NoError(t, err, "the node that made the change has it")
	soon("the others soon have it", func() bool { _, err := atThere.Room("levee.north-bank"); return err == nil })
	require.NoError(t, atThere.Undeclare("levee.north-bank"))
	require.Equal(t, wire.CodeUnknownRoom, problem.Of(atThere.Undeclare("levee.north-bank")).Code, "what does not fit is refused")

	_, err = atThere.PutPerson(t.Context(), "ilse", wire.Profile{Name: "Ilse"})
	require.NoError(t, err)
	soon("the directory", func() bool { p, err := atHere.Person(t.Context(), "ilse"); return err == nil && p.Name == "Ilse" })

	_, err = atThere.Remove("bram")
	require.NoError(t, err)
	for _, at := range []place{here, there} {
		soon("a removal ends what is followed at all nodes", func() bool { return at.links.ended("bram") })
	}
	soon("what was done is in all journals", func() bool {
		entries, err := atThere.Journal(realm.JournalQuery{Kinds: []string{string(journal.RoomDeclared), string(journal.PersonRemoved)}})
		require.NoError(t, err)
		found := 0
		require.NoError(t, entries.Each(t.Context(), func(list []wire.Record) error { found += len(list); return nil }))
		return found == 2
	})
	receipt, err := atHere.Erase(t.Context(), "bram")
	require.NoError(t, err)
	require.Positive(t, receipt.Erased["journal"])
	require.WithinDuration(t, time.Now().Add(24*time.Hour), receipt.LogUntil.Time, time.Minute, "the log still has it")
	soon("rows are equal", func() bool {
		here, err := tables["heron"].Position()
		require.NoError(t, err)
		there, err := tables["kestrel"].Position()
		require.NoError(t, err)
		return here.Sequence > 0 && here.Sequence == there.Sequence && bytes.Equal(here.Hash, there.Hash)
	})

	nodes[0].Stop()
	nodes[2].Stop()
	soon("without an owner, nobody is told that nothing is there", func() bool {
		err := here.main.Answered(func() error { _, err := atHere.Members("desk.night", realm.MembersQuery{Limit: 10}); return err })
		return errors.Is(err, engine.ErrNotReady)
	})
	_, err = atHere.Declare("levee.north-bank", wire.Declaration{})
	require.Equal(t, wire.CodeNotRecorded, problem.Of(err).Code)
}
