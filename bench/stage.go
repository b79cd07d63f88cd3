//go:build linux

package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/fasthttp/websocket"

	"tovik.example/tovik/bench/load"
	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/wire"
)

const (
	secret  = "the secret of a service that lives for one bench"
	key     = "bench"
	room    = "basin.upper-weir"
	workers = 4 // that load at once: two for each core of the machine in mind
)

// stage has a service and a floor that run during the whole bench, and starts others for single
// measurements.
type stage struct {
	process *process // the service
	short   bool
	dir     string // of the binary and the service's data
	binary  string
	loader  *http.Client
	people  atomic.Int64
	service string // its URL
	floor   string // its address
	week    week   // once it is recorded
	many    string // the directory of records with many people, once they are written
	stop    func()
}

// newStage returns a stage for this tree.
func newStage(short bool) *stage {
	return newStageOf(short, "")
}

// newStageOf returns a stage for a binary; without one it builds this tree.
func newStageOf(short bool, binary string) *stage {
	dir := must(os.MkdirTemp("", "tovik-bench-"))
	s := &stage{
		short: short, dir: dir, binary: binary,
		loader: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: workers}},
	}
	if s.binary == "" {
		s.binary = filepath.Join(dir, "tovik")
		build := exec.Command("go", "build", "-trimpath", "-ldflags=-s -w", "-o", s.binary, "tovik.example/tovik/cmd/tovik")
		build.Stderr = os.Stderr
		check(build.Run())
	}
	service, address := s.startService("")
	floor, bare := startFloor()
	s.service, s.floor, s.process = "http://"+address, bare, service
	s.stop = func() {
		service.stop()
		floor.stop()
		_ = os.RemoveAll(dir)
	}
	return s
}

// pick chooses by the length of the bench.
func pick[T any](s *stage, full, short T) T {
	if s.short {
		return short
	}
	return full
}

func (s *stage) token(user string) string {
	return must(client.Token{User: user, Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(secret))
}

// calm is how long it takes until rooms have forgotten their last changes, which they keep for a minute, and the memory
// of a burst is given back.
const calm = 110 * time.Second

// memory measures the memory of an idle link, each with a session in a room of ten, and the
// speed of connecting. While links are idle, meanwhile does something else. It calls pause so often
// that nothing waits for it for long.
func (s *stage) memory(r results, meanwhile func(pause func())) {
	const links = 15_000
	const frame = `{"type":"activity"}`
	var turn sync.Mutex
	service, address := s.startService("")
	defer service.stop()
	s.fillCaches(address)
	secure, tunnel, stop := s.startSecureService()
	defer stop()
	floor, bare := startFloor()
	defer floor.stop()
	plan := load.Plan{Address: address, Source: "127.0.0.2", Path: "/v1/link", Links: links, Hellos: s.hellos(links), At: 16}
	over, plain := plan, plan
	over.Address, over.Links = tunnel, secureLinks
	plain.Address, plain.Source, plain.Path, plain.Hellos = bare, "127.0.0.4", "/link", nil // an address has ports for fewer than all links
	var secureKB, idle, after, rate float64
	var all sync.WaitGroup
	all.Go(func() {
		turn.Lock()
		defer turn.Unlock()
		meanwhile(func() {
			turn.Unlock()
			turn.Lock()
		})
	})
	all.Go(func() { secureKB, _, _ = s.weigh(&turn, secure, over, frame, calm) })
	all.Go(func() { idle, after, rate = s.weigh(&turn, floor, plain, frame, 25*time.Second) })
	r["link_rss_kb"], r["link_rss_after_frames_kb"], r["handshakes_per_second"] = s.weigh(&turn, service, plan, frame, calm)
	all.Wait()
	r["floor_link_rss_kb"], r["floor_link_rss_after_frames_kb"], r["floor_handshakes_per_second"] = idle, after, rate
	r["link_rss_tls_kb"] = secureKB
}

// hellos returns hellos of different people. Ten people join each room.
func (s *stage) hellos(links int) []string {
	hellos := make([]string, links)
	for i := range hellos {
		hellos[i] = fmt.Sprintf(`{"type":"hello","version":1,"token":"%s","nonce":"n","rooms":["basin.b%d"]}`, s.token(fmt.Sprint("w-", i)), i/10)
	}
	return hellos
}

// weigh returns the memory of a process for each idle link in KB, before and after each link has sent ten frames, and how many
// links it accepted a second. While the links are idle it leaves the turn to other measurements.
func (s *stage) weigh(turn *sync.Mutex, p *process, plan load.Plan, frame string, settled time.Duration) (idle, after, rate float64) {
	turn.Lock()
	defer turn.Unlock()
	// settle waits, and returns the mean of the memory in the last seconds, because memory rises from one
	// collection to the next.
	settle := func(length time.Duration) (rss float64) {
		turn.Unlock()
		defer turn.Lock()
		looks := pick(s, 15, 1)
		time.Sleep(length - time.Duration(looks)*time.Second)
		for range looks {
			time.Sleep(time.Second)
			rss += p.rss() / float64(looks)
		}
		return rss
	}
	links := float64(plan.Links)
	// Some links come and go first, because caches of a fixed size do not belong to a link.
	early := plan
	early.Links = plan.Links / 10
	first, _ := startCrowd(early)
	time.Sleep(time.Second)
	first.stop()
	before := settle(pick(s, 30*time.Second, 12*time.Second)) // when those are gone altogether
	c, connected := startCrowd(plan)
	defer c.stop()
	idle = (settle(pick(s, settled, 2500*time.Millisecond)) - before) / links
	for range 10 {
		c.tell(order{Do: "send", Text: frame})
		time.Sleep(100 * time.Millisecond)
	}
	rss := settle(pick(s, 25*time.Second, 2500*time.Millisecond))
	seen := c.tell(order{Do: "result"})
	if seen.Closed+seen.Holes+seen.Errors > 0 {
		check(fmt.Errorf("of %d idle links %d were closed, %d had a hole, and there were %d errors, as %s", plan.Links, seen.Closed, seen.Holes, seen.Errors, seen.Sample))
	}
	return idle, (rss - before) / links, links / connected.Connected.Seconds()
}

// fillCaches creates a directory so large that the bounded caches of the records are full,
// because they do not belong to a link.
func (s *stage) fillCaches(address string) {
	var people strings.Builder
	people.WriteString("user,name\n")
	for i := range 150_000 {
		fmt.Fprintf(&people, "known-%d,Somebody who is known as number %d\n", i, i)
	}
	done := must(client.API{Server: "http://" + address, Key: key}.ImportPeople(context.Background(), "text/csv", strings.NewReader(people.String())))
	if done.Taken != 150_000 {
		check(fmt.Errorf("of 150000 people %d were taken", done.Taken))
	}
}

// blast measures a plain loop of writes.
func (s *stage) blast(r results) {
	floor, address := startFloor()
	defer floor.stop()
	c, _ := startCrowd(load.Plan{Address: address, Source: "127.0.0.2", Path: "/link", Links: 5000, At: 16})
	defer c.stop()
	response := must(http.Get(fmt.Sprintf("http://%s/blast?ms=%d", address, pick(s, 4000, 1000))))
	defer func() { _ = response.Body.Close() }()
	var rate float64
	check(json.NewDecoder(response.Body).Decode(&rate))
	r["floor_frames_per_second"] = rate
}

// fanout changes the members of a watched room at a rate.
type fanout struct {
	prefix             string // of the names of what is measured
	receivers, changes int
	deafPercent        int
}

const membersOfRoom = 500 // each of whom changes at most once in a window, or two changes would be one

func (s *stage) fanout(r results, f fanout) {
	service, address := s.startService("")
	defer service.stop()
	deaf := f.receivers * f.deafPercent / 100
	members := s.fill(address)
	defer members.close()
	hello := fmt.Sprintf(`{"type":"hello","version":1,"token":"%s","watch_only":true,"watch":[{"room":"%s"}]}`, s.token("onlooker"), room)
	c, _ := startCrowd(load.Plan{Address: address, Source: "127.0.0.3", Path: "/v1/link", Links: f.receivers, Hellos: []string{hello}, Deaf: deaf, At: 16})
	defer c.stop()
	time.Sleep(time.Second)
	c.tell(order{Do: "forget"})
	length := pick(s, 10*time.Second, 3*time.Second)
	members.change(f.changes, length)
	time.Sleep(pick(s, 4*time.Second, time.Second))
	seen := c.tell(order{Do: "result"})

	// The causes of each revision, from the watcher that reads everything, and the time when the
	// last receiver had it.
	members.mu.Lock()
	defer members.mu.Unlock()
	healthy := f.receivers - deaf
	var latencies []float64
	var delivered float64
	missing := 0
	for rev, causes := range members.revisions {
		if seen.Had[rev] < healthy {
			missing++
			continue
		}
		delivered += float64(len(causes) * (seen.Had[rev] - seen.Whole[rev]))
		for _, cause := range causes {
			latencies = append(latencies, float64(seen.Last[rev]-cause)/1e6)
		}
	}
	slices.Sort(latencies)
	at := func(q float64) float64 { return latencies[int(q*float64(len(latencies)-1))] }
	r[f.prefix+"events_per_second"] = delivered / length.Seconds()
	r[f.prefix+"last_receiver_p50_ms"], r[f.prefix+"last_receiver_p99_ms"] = at(0.5), at(0.99)
	r[f.prefix+"by_snapshot"] = float64(seen.Snapshots)
	r[f.prefix+"holes"] = float64(seen.Holes)
	current := 0
	for rev, links := range seen.Revisions {
		if rev >= members.newest {
			current += links
		}
	}
	r[f.prefix+"healthy_percent"] = 100 * float64(current) / float64(healthy)
	if missing > 0 || seen.Errors > 0 {
		check(fmt.Errorf("%d revisions did not reach everybody; %d errors, as %s", missing, seen.Errors, seen.Sample))
	}
}

// members are the members of the watched room, and one watcher that reads everything.
type members struct {
	conns []*websocket.Conn

	mu        sync.Mutex
	sent      map[string]int64   // when a change was asked for, by its note, in Unix nanoseconds
	revisions map[uint64][]int64 // when the changes of a revision were asked for
	newest    uint64
}

// fill adds people to the room.
func (s *stage) fill(address string) *members {
	m := &members{sent: map[string]int64{}, revisions: map[uint64][]int64{}}
	join := func(hello string) *websocket.Conn {
		conn, response, err := websocket.DefaultDialer.Dial("ws://"+address+"/v1/link", nil)
		check(err)
		_ = response.Body.Close()
		check(conn.WriteMessage(websocket.TextMessage, []byte(hello)))
		m.conns = append(m.conns, conn)
		return conn
	}
	for i := range membersOfRoom {
		conn := join(fmt.Sprintf(`{"type":"hello","version":1,"token":"%s","rooms":["%s"],"detail":"none"}`, s.token(fmt.Sprint("w-", i)), room))
		go func() {
			for {
				_, data, err := conn.ReadMessage()
				if err != nil {
					return
				}
				if strings.HasPrefix(string(data), `{"type":"error"`) {
					panic(string(data))
				}
			}
		}()
	}
	reader := join(fmt.Sprintf(`{"type":"hello","version":1,"token":"%s","watch_only":true,"watch":[{"room":"%s"}]}`, s.token("reader"), room))
	go m.read(reader)
	return m
}

func (m *members) read(conn *websocket.Conn) {
	for {
		_, data, err := conn.ReadMessage()
		if err != nil {
			return
		}
		var frame struct {
			Type, Rev string
			Changed   []struct{ Note string }
		}
		check(json.Unmarshal(data, &frame))
		if frame.Type != "changes" {
			continue
		}
		_, number, _ := strings.Cut(frame.Rev, ".")
		var rev uint64
		_, _ = fmt.Sscan(number, &rev)
		m.mu.Lock()
		m.newest = max(m.newest, rev)
		for _, changed := range frame.Changed {
			if at, ok := m.sent[changed.Note]; ok {
				delete(m.sent, changed.Note)
				m.revisions[rev] = append(m.revisions[rev], at)
			}
		}
		m.mu.Unlock()
	}
}

// change sets the status of one member after the other, each with another note, at a fixed rate.
func (m *members) change(each int, length time.Duration) {
	begun := time.Now()
	for n := 0; ; n++ {
		due := begun.Add(time.Duration(n) * time.Second / time.Duration(each))
		if due.Sub(begun) >= length {
			return
		}
		time.Sleep(time.Until(due))
		note := fmt.Sprint("n", n)
		m.mu.Lock()
		m.sent[note] = time.Now().UnixNano()
		m.mu.Unlock()
		check(m.conns[n%membersOfRoom].WriteMessage(websocket.TextMessage, []byte(`{"type":"status","status":"busy","note":"`+note+`"}`)))
	}
}

func (m *members) close() {
	for _, conn := range m.conns {
		_ = conn.Close()
	}
}

// person links a new one.
func (s *stage) person(rooms []string, onEvent func(client.Event)) *client.Link {
	token := s.token(fmt.Sprint("p-", s.people.Add(1)))
	return must(client.Dial(context.Background(), client.Options{Server: s.service, Token: token, Rooms: rooms, OnEvent: onEvent}))
}

// seen measures the time from a join in a calm room until a third party has the change.
func (s *stage) seen(length time.Duration) []float64 {
	seen := make(chan struct{}, 16)
	third := s.person([]string{room}, func(e client.Event) {
		if !e.Whole {
			seen <- struct{}{}
		}
	})
	defer third.Close()
	joiner := s.person([]string{}, nil)
	defer joiner.Close()
	time.Sleep(100 * time.Millisecond) // their own joining is over
	for len(seen) > 0 {
		<-seen
	}
	await := func() {
		select {
		case <-seen:
		case <-third.Ended():
			check(fmt.Errorf("the link that sees has ended: %w", third.Err()))
		}
	}
	return times(length, func() {
		check(joiner.Join(context.Background(), room))
		await()
	}, func() {
		check(joiner.Leave(context.Background(), room))
		await()
		time.Sleep(engine.DefaultWindow + 5*time.Millisecond)
	})
}

// relayed measures a message from one client to another through the floor.
func (s *stage) relayed(length time.Duration) []float64 {
	bare := func() *websocket.Conn {
		conn, response, err := websocket.DefaultDialer.Dial("ws://"+s.floor+"/relay", nil)
		check(err)
		_ = response.Body.Close()
		return conn
	}
	one, two := bare(), bare()
	defer func() { _, _ = one.Close(), two.Close() }()
	message := []byte(strings.Repeat("x", 120))
	time.Sleep(100 * time.Millisecond)
	return times(length, func() {
		check(one.WriteMessage(websocket.TextMessage, message))
		_, _, err := two.ReadMessage()
		check(err)
	}, func() {})
}

// times repeats an action and its reversal, and returns the durations of the action in
// milliseconds, sorted.
func times(length time.Duration, act, undo func()) (list []float64) {
	for end := time.Now().Add(length); time.Now().Before(end); {
		begun := time.Now()
		act()
		list = append(list, float64(time.Since(begun).Microseconds())/1000)
		undo()
	}
	slices.Sort(list)
	return list
}

func (s *stage) gets(url string, length time.Duration) float64 {
	return rate(length, func() {
		request := must(http.NewRequest(http.MethodGet, url, nil))
		request.Header.Set("Authorization", "Bearer "+key)
		response := must(s.loader.Do(request))
		if response.StatusCode != http.StatusOK {
			check(fmt.Errorf("%s answered %s", url, response.Status))
		}
		_, _ = io.Copy(io.Discard, response.Body)
		_ = response.Body.Close()
	})
}

// cpuOfCounts returns the processor time of the service for one count over HTTP, in microseconds. Most
// of what the machine does for it is the client's work, so the rate says little about the service.
func (s *stage) cpuOfCounts(length time.Duration) (us float64) {
	someone := s.person([]string{room}, nil)
	defer someone.Close()
	used, begun := s.process.cpu(), time.Now()
	each := s.gets(s.service+"/v1/rooms/"+room+"/count", length)
	return float64((s.process.cpu() - used).Microseconds()) / (each * time.Since(begun).Seconds())
}

// rate returns the number of actions per second of all workers.
func rate(length time.Duration, act func()) float64 {
	var done atomic.Int64
	var all sync.WaitGroup
	begun := time.Now()
	for range workers {
		all.Go(func() {
			for time.Since(begun) < length {
				act()
				done.Add(1)
			}
		})
	}
	all.Wait()
	return float64(done.Load()) / time.Since(begun).Seconds()
}

func must[T any](value T, err error) T {
	check(err)
	return value
}

func check(err error) {
	if err != nil {
		panic(err)
	}
}
