package test

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"maps"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/cluster/local"
	"tovik.example/tovik/wire"
)

var (
	chaosPeople = flag.Int("people", 60, "how many people are on three nodes while things are done to them")
	chaosCalm   = flag.Duration("calm", 4*time.Second, "how long nothing is done after the cluster is whole again")
	chaosRounds = flag.Int("rounds", 1, "how often each fault is made")
	chaosFault  = flag.String("fault", "", "make only the faults whose name contains this")
	chaosLong   = flag.Duration("longest", 8*time.Second, "how long a cut lasts, and the longer of two pauses")
)

// rooms is how many rooms the people are in: a page of a list of members has all of one.
func rooms() int { return max(10, *chaosPeople/40) }

// steady is how long somebody must have been where they are so that no fault may show them leaving: before, it may
// not be on record yet (the exception in docs/cluster.md).
const steady = 12 * time.Second

// night is a cluster with people on it, and what others see of them.
type night struct {
	t      *testing.T
	nodes  *local.Nodes
	names  []string
	people []*soul
	small  bool // the disk of kestrel is so small that it can be filled
	stop   context.CancelFunc
	done   sync.WaitGroup

	mu      sync.Mutex
	left    []string // leaves that should not have been shown
	returns []time.Duration
	written map[string]string // names of people in the directory, as answered
	events  map[string]bool   // ids that the hook has got
}

// soul is a person who comes and goes in a room. Most stay in it all night.
type soul struct {
	night *night
	user  string
	room  string
	moves bool // it reloads, leaves and comes again; others stay

	mu     sync.Mutex
	link   *client.Link
	here   time.Time // since when it has been in its room, as far as it knows
	lost   time.Time // when it lost its link; zero: it has one
	wants  bool      // it wants to be in the room
	turned time.Time // when it last wanted something else
}

// TestNobodyIsSeenToLeaveWhateverHappensToNodes kills, pauses, cuts off and restarts nodes under people who come and
// go. Third parties at each node see nobody leave who wants to be there; in the end all nodes show the same, have the
// same records, and no answered write and no event of a hook is lost.
func TestNobodyIsSeenToLeaveWhateverHappensToNodes(t *testing.T) {
	t.Parallel()
	if inside(t) {
		return
	}
	n := begins(t)
	table := []string{}
	for range *chaosRounds {
		for _, fault := range n.faults() {
			if !strings.Contains(fault.what, *chaosFault) {
				continue
			}
			began := time.Now()
			whole := fault.do()
			table = append(table, fmt.Sprintf("%-44s %6.1f s until whole, %s", fault.what, time.Since(began).Seconds(), whole))
			n.mu.Lock()
			list := slices.Clone(n.left)
			n.mu.Unlock()
			require.Empty(t, list, "after: %s\n%s", fault.what, strings.Join(table, "\n"))
		}
	}
	n.ends()
	t.Log("\n" + strings.Join(table, "\n"))
}

// begins starts the nodes, people and onlookers.
func begins(t *testing.T) *night {
	dir := t.TempDir()
	small := smallDisk(t, filepath.Join(dir, "kestrel", "data"))
	names := []string{"dipper", "heron", "kestrel"}
	options := local.Options{Program: tovik, Dir: dir, Names: names, Listen: "127.0.0.1:0", Secret: secret, Key: key, Settings: "private_hooks = true\n[grace]\nlost = \"2m\"\n"}
	hooksAt := "127.0.0.1:0"
	if is := newLAN(t, names...); is != nil {
		options.Network, hooksAt = is, bridge+":0"
	}
	nodes, err := local.Start(options, nil)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	n := &night{t: t, nodes: nodes, names: nodes.Names, stop: stop, small: small, written: map[string]string{}, events: map[string]bool{}}
	t.Cleanup(func() {
		n.stop()
		n.done.Wait()
		nodes.Stop()
		if t.Failed() {
			for _, name := range n.names {
				text, _ := os.ReadFile(nodes.Dir + "/" + name + "/output")
				t.Logf("%s: %s", name, text[max(0, len(text)-2000):])
			}
		}
	})
	n.whole()
	n.hook(ctx, hooksAt)
	for _, name := range n.names {
		n.done.Go(func() { n.looksOn(ctx, name) })
	}
	for i := range *chaosPeople {
		s := &soul{night: n, user: fmt.Sprintf("w-%03d", i), room: fmt.Sprintf("basin.b-%d", i%rooms()), moves: i%4 == 3, wants: true}
		n.people = append(n.people, s)
		n.done.Go(func() { s.lives(ctx, i) })
	}
	n.done.Go(func() { n.writes(ctx) })
	n.everybody("is here")
	time.Sleep(steady)
	return n
}

// patienceOfAll is long because the host may take half of the processors.
const patienceOfAll = 5 * time.Minute

// all waits until something is so.
func (n *night) all(what string, is func() bool) {
	n.t.Helper()
	require.Eventually(n.t, is, patienceOfAll, 50*time.Millisecond, what)
}

// everybody waits until each has a link. Whoever reloads pages counts once they have had one since the call: on a slow
// machine, one of them is always between two links.
func (n *night) everybody(what string) {
	n.t.Helper()
	missing := slices.Clone(n.people)
	require.EventuallyWithT(n.t, func(c *assert.CollectT) {
		missing = slices.DeleteFunc(missing, func(s *soul) bool { return s.moves && !s.away() })
		for _, s := range missing {
			require.False(c, s.away(), "%s, for one, has no link", s.user)
		}
	}, patienceOfAll, 50*time.Millisecond, "everybody "+what)
}

// whole waits until all nodes are ready, and the realm answers at each.
func (n *night) whole() {
	n.t.Helper()
	n.all("the cluster is whole", func() bool {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		for _, name := range n.names {
			api := client.API{Server: n.nodes.At(name), Key: key}
			if _, err := api.Ready(ctx); err != nil {
				return false
			}
			if _, err := api.RoomsPage(ctx, client.RoomsQuery{Limit: 1}); err != nil {
				return false
			}
		}
		list, err := client.API{Server: n.nodes.At(n.names[0]), Key: key}.Nodes(ctx)
		return err == nil && list.Log.Current == len(n.names) && !slices.ContainsFunc(list.Nodes, func(of wire.Node) bool { return of.State != wire.NodeReady || len(of.Unheard) > 0 })
	})
}

// owner returns the node that owns the realm.
func (n *night) owner() string {
	var owner string
	n.all("an owner", func() bool {
		for _, name := range n.names {
			if list, err := (client.API{Server: n.nodes.At(name), Key: key}).Nodes(context.Background()); err == nil && len(list.Realms) == 1 && list.Realms[0].Answers {
				owner = list.Realms[0].Owner
				return true
			}
		}
		return false
	})
	return owner
}

// other returns a node that does not own the realm.
func (n *night) other() string {
	owner := n.owner()
	return n.names[(slices.Index(n.names, owner)+1)%len(n.names)]
}

type fault struct {
	what string
	do   func() string
}

// faults returns what is done in a round, one after another.
func (n *night) faults() []fault {
	heals := func(do func() func()) func() string {
		return func() string {
			n.mu.Lock()
			n.returns = nil
			n.mu.Unlock()
			heal := do()
			heal()
			n.whole()
			n.everybody("is back")
			n.agree()
			said := n.returned()
			n.spread()
			time.Sleep(max(*chaosCalm, steady-8*time.Second))
			return said
		}
	}
	allDie := heals(func() func() {
		for _, name := range n.names {
			n.done.Go(func() { _ = n.nodes.Kill(name) })
		}
		time.Sleep(2 * time.Second)
		return func() {
			for _, name := range n.names {
				require.NoError(n.t, n.nodes.Run(name))
			}
		}
	})
	powerFails := heals(func() func() {
		for _, name := range n.names {
			n.done.Go(func() { _ = n.nodes.Kill(name) })
		}
		n.all("all are dead", func() bool { return len(n.nodes.Processes()) == 0 })
		cutTails(n.t, filepath.Join(n.nodes.Data(n.names[0]), "log"))
		for _, name := range n.names[1:] {
			tearTails(n.t, filepath.Join(n.nodes.Data(name), "log"))
		}
		return func() {
			for _, name := range n.names {
				require.NoError(n.t, n.nodes.Run(name))
			}
		}
	})
	dies := func(which func() string) func() string {
		return heals(func() func() {
			name := which()
			require.NoError(n.t, n.nodes.Kill(name))
			time.Sleep(3 * time.Second)
			return func() { require.NoError(n.t, n.nodes.Run(name)) }
		})
	}
	stands := func(which func() string, d time.Duration) func() string {
		return heals(func() func() {
			name := which()
			require.NoError(n.t, n.nodes.Pause(name))
			time.Sleep(d)
			return func() { require.NoError(n.t, n.nodes.GoOn(name)) }
		})
	}
	unplugged := func(which func() string) func() string {
		return heals(func() func() {
			name := which()
			n.nodes.Unplug(name, true)
			time.Sleep(*chaosLong)
			return func() { n.nodes.Unplug(name, false) }
		})
	}
	full := heals(func() func() {
		filler := filepath.Join(n.nodes.Data(fullNode), "filler")
		fill(n.t, filler)
		n.all("a node without space on its disk ends", func() bool { return n.nodes.State(fullNode) == local.Stopped })
		text, err := os.ReadFile(filepath.Join(n.nodes.Dir, fullNode, "output"))
		require.NoError(n.t, err)
		require.Contains(n.t, string(text), "this node cannot go on")
		return func() {
			require.NoError(n.t, os.Remove(filler))
			require.NoError(n.t, n.nodes.Run(fullNode))
		}
	})
	faults := []fault{
		{"the owner is killed", dies(n.owner)},
		{"another node is killed", dies(n.other)},
		{"the owner stands still for 3 s", stands(n.owner, 3*time.Second)},
		{fmt.Sprintf("the owner stands still for %v", *chaosLong), stands(n.owner, *chaosLong)},
		{"the owner is cut off", unplugged(n.owner)},
		{"another node is cut off", unplugged(n.other)},
		{"the owner and another node are cut", heals(func() func() {
			one, other := n.owner(), n.other()
			n.nodes.Cut(one, other, true)
			time.Sleep(*chaosLong)
			return func() { n.nodes.Cut(one, other, false) }
		})},
		{"all nodes are killed at once", allDie},
		{"the power fails, and tears the ends of all logs", powerFails},
		{"each node is restarted", heals(func() func() {
			for _, name := range n.names {
				require.NoError(n.t, n.nodes.Drain(name))
				require.NoError(n.t, n.nodes.Run(name))
				n.whole()
				time.Sleep(time.Second)
			}
			return func() {}
		})},
	}
	if n.small {
		faults = append(faults, fault{"the disk of a node is full", full})
	} else {
		n.t.Log("a file system cannot be mounted here, so a full disk is not tried")
	}
	return faults
}

// fullNode is the node whose disk is filled.
const fullNode = "kestrel"

// smallDisk mounts a file system that is so small that it can be filled, but not by what the people do. It returns false where that is not allowed.
func smallDisk(t *testing.T, dir string) bool {
	require.NoError(t, os.MkdirAll(dir, 0o700))
	if syscall.Mount("tovik", dir, "tmpfs", 0, fmt.Sprintf("size=%dm", 512+*chaosPeople)) != nil {
		return false
	}
	t.Cleanup(func() { require.NoError(t, syscall.Unmount(dir, syscall.MNT_DETACH)) })
	return true
}

// fill writes a file until the disk is full.
func fill(t *testing.T, path string) {
	filler, err := os.Create(path)
	require.NoError(t, err)
	for size := 1 << 20; size > 0; {
		if _, err := filler.Write(make([]byte, size)); err != nil {
			require.ErrorIs(t, err, syscall.ENOSPC)
			size /= 2
		}
	}
	require.NoError(t, filler.Close())
}

// cutTails cuts off the end of each file that the log was written to last: a disk had not kept it, although it said so.
func cutTails(t *testing.T, dir string) {
	for _, path := range newest(t, dir) {
		is, err := os.Stat(path)
		require.NoError(t, err)
		require.NoError(t, os.Truncate(path, max(0, is.Size()-min(is.Size()/2, 16<<10))))
	}
}

// tearTails leaves the first part of a record at the end of each of these files: the power failed while a disk wrote it.
func tearTails(t *testing.T, dir string) {
	const part = 40
	for _, path := range newest(t, dir) {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, append(text, text[:min(part, len(text))]...), 0o600))
	}
}

// newest returns the files that a log was written to last.
func newest(t *testing.T, dir string) []string {
	newest, written := map[string]string{}, map[string]time.Time{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, is os.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".blk" {
			return err
		}
		file, err := is.Info()
		if in := filepath.Dir(path); err == nil && file.ModTime().After(written[in]) {
			newest[in], written[in] = path, file.ModTime()
		}
		return err
	}))
	require.NotEmpty(t, newest)
	return slices.Collect(maps.Values(newest))
}

// returned says how long those needed who have lost their link.
func (n *night) returned() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	slices.Sort(n.returns)
	if len(n.returns) == 0 {
		return "nobody lost a link"
	}
	return fmt.Sprintf("%d returned, p50 %.1f s, the last %.1f s", len(n.returns), n.returns[len(n.returns)/2].Seconds(), n.returns[len(n.returns)-1].Seconds())
}

// spread pulls the cable of two of three people, so that the load balancer spreads them again.
func (n *night) spread() {
	for i, s := range n.people {
		s.mu.Lock()
		link := s.link
		s.mu.Unlock()
		if i%3 > 0 && link != nil {
			link.Close()
		}
	}
}

// agree waits until all nodes show everybody in their rooms, and nobody else.
func (n *night) agree() {
	n.t.Helper()
	var found string
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(200 * time.Millisecond) {
		if found = n.differs(); found == "" {
			return
		}
		require.True(n.t, time.Now().Before(deadline), found)
	}
}

func (n *night) differs() string {
	began := time.Now()
	shown := map[string]map[string]string{} // by node and person
	for _, name := range n.names {
		shown[name] = map[string]string{}
		for i := range rooms() {
			list, err := client.API{Server: n.nodes.At(name), Key: key}.Members(context.Background(), fmt.Sprintf("basin.b-%d", i))
			if problem := (*client.Error)(nil); err != nil && !(asProblem(err, &problem) && problem.Code == wire.CodeUnknownRoom) {
				return name + ": " + err.Error()
			}
			for _, m := range list.Members {
				shown[name][m.User] = list.Room
			}
		}
	}
	for _, s := range n.people {
		s.mu.Lock()
		should, moved := "", s.moves && (s.turned.After(began.Add(-3*time.Second)) || s.wants && !s.lost.IsZero())
		if s.wants {
			should = s.room
		}
		s.mu.Unlock()
		for _, name := range n.names {
			if is := shown[name][s.user]; !moved && is != should {
				return fmt.Sprintf("%s shows %s in %q, not in %q", name, s.user, is, should)
			}
		}
	}
	return ""
}

func asProblem(err error, to **client.Error) bool {
	is, ok := err.(*client.Error)
	*to = is
	return ok
}

// looksOn follows all rooms at one node, and notes who is shown to leave and should not be.
func (n *night) looksOn(ctx context.Context, name string) {
	for ctx.Err() == nil {
		link, err := client.Dial(ctx, client.Options{Server: n.nodes.At(name), Key: key, Watch: []wire.Watch{{Room: "basin.*"}}, OnEvent: func(e client.Event) {
			for _, d := range e.Left {
				if s := n.of(d.User); s != nil {
					s.shownToLeave(name, e, d)
				}
			}
		}})
		if err == nil {
			select {
			case <-link.Ended():
			case <-ctx.Done():
				link.Close()
			}
		}
		pauseFor(ctx, 100*time.Millisecond)
	}
}

func (n *night) of(user string) *soul {
	i := slices.IndexFunc(n.people, func(s *soul) bool { return s.user == user })
	if i < 0 {
		return nil
	}
	return n.people[i]
}

// shownToLeave notes a leave that a third party should not see.
func (s *soul) shownToLeave(at string, e client.Event, d client.Departed) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.moves || !s.wants || s.here.IsZero() || time.Since(s.here) < steady || !s.lost.IsZero() && time.Since(s.lost) > 110*time.Second {
		return
	}
	s.night.mu.Lock()
	defer s.night.mu.Unlock()
	s.night.left = append(s.night.left, fmt.Sprintf("%s shows that %s left %s (%s, whole: %v) at %s; it has been there for %v, and without a link for %v", at, s.user, e.Room, d.Reason, e.Whole,
		time.Now().Format("15:04:05.000"), time.Since(s.here).Round(time.Millisecond), sinceOrZero(s.lost)))
}

func sinceOrZero(at time.Time) time.Duration {
	if at.IsZero() {
		return 0
	}
	return time.Since(at).Round(time.Millisecond)
}

func (s *soul) away() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.wants && (s.link == nil || !s.lost.IsZero())
}

// lives keeps a person's page open, over the load balancer, and does what people do.
func (s *soul) lives(ctx context.Context, number int) {
	random := mathrand.New(mathrand.NewPCG(7, uint64(number)))
	var resume *wire.Resume
	nonce := rand.Text()
	for ctx.Err() == nil {
		if s.moves { // it is another page
			nonce = rand.Text()
		}
		o := client.Options{Server: s.night.nodes.URL(), Token: mint(s.night.t, s.user, s.user), Rooms: []string{s.room}, Resume: resume, Nonce: nonce, Detail: "count", RequestTimeout: 4 * time.Second}
		dialing, cancel := context.WithTimeout(ctx, 5*time.Second)
		link, err := client.Dial(dialing, o)
		cancel()
		if err != nil {
			pauseFor(ctx, time.Duration(50+random.IntN(150))*time.Millisecond)
			continue
		}
		resume = link.Resume()
		s.returned(link)
		again := s.acts(ctx, link, random)
		s.mu.Lock()
		if ctx.Err() == nil && s.lost.IsZero() {
			s.lost = time.Now()
		}
		s.mu.Unlock()
		link.Close()
		if !again {
			resume = nil
			pauseFor(ctx, time.Duration(500+random.IntN(2000))*time.Millisecond)
			s.mu.Lock()
			s.wants, s.here, s.turned = true, time.Time{}, time.Now()
			s.mu.Unlock()
		}
	}
}

func (s *soul) returned(link *client.Link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.lost.IsZero() && !s.moves {
		s.night.mu.Lock()
		s.night.returns = append(s.night.returns, time.Since(s.lost))
		s.night.mu.Unlock()
	}
	s.link, s.lost, s.turned = link, time.Time{}, time.Now()
	if s.here.IsZero() || s.moves {
		s.here = time.Now()
	}
}

// acts does things until the link ends. It returns false if the person has left for good.
func (s *soul) acts(ctx context.Context, link *client.Link, random *mathrand.Rand) (again bool) {
	for {
		select {
		case <-ctx.Done():
			_ = link.Bye(context.Background())
			return true
		case <-link.Ended():
			return true
		case <-time.After(time.Duration(500+random.IntN(3000)) * time.Millisecond):
		}
		switch dice := random.IntN(20); {
		case dice < 5:
			_ = link.Typing(ctx, s.room, dice < 3)
		case dice < 8:
			_ = link.Doing(ctx, s.room, map[string]int{"page": dice})
		case dice < 10:
			_ = link.SetStatus(ctx, "busy", "at the pumps", time.Now().Add(time.Minute))
		case dice < 12:
			_ = link.Activity(ctx)
		case dice == 12 && s.moves:
			return true // a reload
		case dice == 13 && s.moves:
			s.mu.Lock()
			s.wants, s.turned = false, time.Now()
			s.mu.Unlock()
			_ = link.Bye(ctx)
			return false
		}
	}
}

func pauseFor(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// hook has joins and leaves sent to a receiver, which notes their ids.
func (n *night) hook(ctx context.Context, at string) {
	receiver := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var event struct{ ID string }
		body, _ := io.ReadAll(r.Body)
		if json.Unmarshal(body, &event) == nil {
			n.mu.Lock()
			n.events[event.ID] = true
			n.mu.Unlock()
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	listener, err := net.Listen("tcp", at)
	require.NoError(n.t, err)
	require.NoError(n.t, receiver.Listener.Close())
	receiver.Listener = listener
	receiver.Start()
	n.t.Cleanup(receiver.Close)
	_, err = client.API{Server: n.nodes.URL(), Key: key}.AddHook(ctx, wire.NewHook{Name: "the flood desk", URL: receiver.URL, Kinds: []string{"member.joined", "member.left"}})
	require.NoError(n.t, err)
}

// writes changes the directory all the time, and notes what was answered.
func (n *night) writes(ctx context.Context) {
	api := client.API{Server: n.nodes.URL(), Key: key}
	for i := 0; ctx.Err() == nil; i++ {
		user, name := fmt.Sprintf("e-%02d", i%50), fmt.Sprintf("Engineer %d", i)
		calling, cancel := context.WithTimeout(ctx, 4*time.Second)
		_, err := api.PutPerson(calling, wire.Profile{User: user, Name: name})
		cancel()
		n.mu.Lock()
		if err == nil {
			n.written[user] = name
		} else {
			delete(n.written, user) // nobody knows which of two it has
		}
		n.mu.Unlock()
		pauseFor(ctx, 20*time.Millisecond)
	}
}

// ends stops the people, and compares what is left.
func (n *night) ends() {
	n.agree()
	n.stop()
	n.done.Wait()
	ctx := n.t.Context()
	require.NotEmpty(n.t, n.written)
	for _, name := range n.names {
		api := client.API{Server: n.nodes.At(name), Key: key}
		for user, wrote := range n.written {
			person, err := api.Person(ctx, user)
			require.NoError(n.t, err, "%s at %s", user, name)
			require.Equal(n.t, wrote, person.Name, name)
		}
	}
	var journal int
	n.all("each event reaches the hook", func() bool {
		journal = n.entries(ctx)
		n.mu.Lock()
		defer n.mu.Unlock()
		return journal > 0 && len(n.events) >= journal
	})
	for _, other := range n.names[1:] {
		var said string
		n.all("the records are equal", func() bool {
			out, errs, code := run(n.t, nil, "check", "--data", n.nodes.Data(n.names[0]), "--compare", n.nodes.Data(other))
			said = out + errs
			return code == 0
		})
		require.NotContains(n.t, said, "WRONG")
	}
}

// entries counts the joins and leaves in the journal.
func (n *night) entries(ctx context.Context) int {
	body, err := client.API{Server: n.nodes.At("heron"), Key: key}.ExportJournal(ctx, client.JournalQuery{Kinds: []string{"member.joined", "member.left"}}, "ndjson")
	if err != nil {
		return 0
	}
	defer func() { _ = body.Close() }()
	text, err := io.ReadAll(body)
	if err != nil {
		return 0
	}
	return strings.Count(string(text), "\n")
}
