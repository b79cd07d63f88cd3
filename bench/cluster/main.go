//go:build linux

// Command cluster measures what several nodes cost and how long they need, as processes on one machine: what they cost
// at rest, a change as others see it, joins and leaves, and how long a realm is without an owner. All of it shares the
// processors of this machine with the load, so quote ratios of one run.
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/bench/load"
	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/cluster/local"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/wire"
)

const (
	secret = "a secret of the Aldermoor for one bench"
	key    = "the key of one bench"
	room   = "basin.upper-weir"
)

var (
	kills     = flag.Int("kills", 30, "how often the owner is killed")
	handovers = flag.Int("handovers", 20, "how often the owner hands over")
	links     = flag.Int("links", 300, "how many links join and leave")
	sessions  = flag.Int("sessions", 15_000, "how many people are there while owners change")
	rounds    = flag.Int("rounds", 5, "how often joins and leaves are measured, at one service after the other")
	spell     = flag.Duration("for", 8*time.Second, "how long each figure is measured")
)

func main() {
	flag.Parse()
	dir, err := os.MkdirTemp("", "tovik-bench-")
	check(err)
	program := filepath.Join(dir, "tovik")
	out, err := exec.Command("go", "build", "-o", program, "./cmd/tovik").CombinedOutput()
	if err != nil {
		log.Fatalf("%s", out)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	alone := aloneService(dir, program)
	one := cluster(filepath.Join(dir, "one"), program, "dipper")
	three := cluster(filepath.Join(dir, "three"), program, "dipper", "heron", "kestrel")
	owner := ownerOf(three, "dipper")
	if *rounds > 0 {
		measured(func() { joinsEverywhere(alone, one, three, owner) })
	}
	alone.stop()
	one.Stop()
	time.Sleep(20 * time.Second) // old entries are looked for, and garbage is collected
	measured(func() {
		used := cpu(three.Processes())
		time.Sleep(*spell)
		fmt.Printf("at rest, each of three nodes: %.2f %% of a core\n", 100*(cpu(three.Processes())-used).Seconds()/spell.Seconds()/3)
	})
	measured(func() { followed(three, owner) })
	measured(func() { seen(three, owner) })
	empty := memory(three.Processes())
	people := gather(three, *sessions)
	fmt.Printf("%d people with a link each: %.1f KB of memory each, over all processes\n", *sessions, float64(memory(three.Processes())-empty)/float64(*sessions))
	measured(func() { handover(three, people) })
	measured(func() { takeovers(three, people) })
	people.goes()
	three.Stop()
}

// measured does what prints figures, and says how busy the host was: what it takes of the processors, others use.
func measured(part func()) {
	stolen := load.Stolen()
	part()
	fmt.Printf("  (the host took %.0f %% of the processors meanwhile)\n", stolen())
}

func check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}

// service is one that is alone.
type service struct {
	url  string
	pids []int
	stop func()
}

func aloneService(dir, program string) service {
	cmd := exec.Command(program, "serve", "--listen", "127.0.0.1:8431", "--data", filepath.Join(dir, "alone"), "--operator-key", key, "--token-secret", secret)
	check(cmd.Start())
	s := service{url: "http://127.0.0.1:8431", pids: []int{cmd.Process.Pid}, stop: func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }}
	for range 200 {
		if _, err := (client.API{Server: s.url, Key: key}).Ready(context.Background()); err == nil {
			return s
		}
		time.Sleep(50 * time.Millisecond)
	}
	log.Fatal("the service does not start")
	return s
}

func cluster(dir, program string, names ...string) *local.Nodes {
	n, err := local.Start(local.Options{Program: program, Dir: dir, Names: names, Listen: "127.0.0.1:0", Secret: secret, Key: key, Settings: "links_per_person = 100000\nlinks_per_address = 100000\n"}, nil)
	check(err)
	await(n)
	return n
}

func await(n *local.Nodes) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	check(n.Await(ctx))
	for ctx.Err() == nil {
		if list, err := (client.API{Server: n.At(n.Names[0]), Key: key}).Nodes(ctx); err == nil && len(list.Realms) > 0 && list.Realms[0].Answers && list.Log.Current == len(n.Names) {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	log.Fatal("the nodes are not together")
}

// ownerOf returns the owner of the realm, as a node knows it.
func ownerOf(n *local.Nodes, as string) string {
	for range 100 {
		if list, err := (client.API{Server: n.At(as), Key: key}).Nodes(context.Background()); err == nil {
			return list.Realms[0].Owner
		}
		time.Sleep(50 * time.Millisecond)
	}
	log.Fatal("no owner")
	return ""
}

func token(user string) string {
	text, err := client.Token{User: user, Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(secret)
	check(err)
	return text
}

func dial(o client.Options) *client.Link {
	for range 100 {
		if link, err := client.Dial(context.Background(), o); err == nil {
			return link
		}
		time.Sleep(50 * time.Millisecond)
	}
	log.Fatal("no link")
	return nil
}

// cpu returns the processor time of processes.
func cpu(pids []int) (used time.Duration) {
	for _, pid := range pids {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			continue
		}
		fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		for _, field := range fields[11:13] { // user and system time, in hundredths of a second
			ticks, _ := strconv.ParseInt(field, 10, 64)
			used += time.Duration(ticks) * 10 * time.Millisecond
		}
	}
	return used
}

type figures struct{ perSecond, micros float64 }

// joinsEverywhere compares joins and leaves of a service that is alone, of a cluster of one, and of one of three.
func joinsEverywhere(alone service, one, three *local.Nodes, owner string) {
	fmt.Println("joins and leaves, answered to", *links, "links; processor time over all processes")
	var ratios [3][]float64 // to alone, of the same round
	var last [3]figures
	for range *rounds {
		for i, at := range []service{alone, {url: one.At("dipper"), pids: one.Processes()}, {url: three.At(owner), pids: three.Processes()}} {
			last[i] = joins(at.url, at.pids)
			ratios[i] = append(ratios[i], last[i].perSecond/last[0].perSecond)
		}
	}
	for i, what := range []string{"alone", "a cluster of one", "three nodes, at the owner"} {
		slices.Sort(ratios[i])
		fmt.Printf("  %-28s %7.0f /s  %6.0f µs each in the last round;  %.2f of alone (%.2f to %.2f)\n", what, last[i].perSecond, last[i].micros, ratios[i][len(ratios[i])/2], ratios[i][0], ratios[i][len(ratios[i])-1])
	}
}

// joins has links join and leave rooms as fast as they are answered.
func joins(url string, pids []int) figures {
	var all []*client.Link
	for i := range *links {
		all = append(all, dial(client.Options{Server: url, Token: token(fmt.Sprintf("w-%04d", i)), Rooms: []string{}}))
	}
	var done atomic.Int64
	var working sync.WaitGroup
	ctx, stop := context.WithTimeout(context.Background(), *spell)
	defer stop()
	used, began := cpu(pids), time.Now()
	for i, link := range all {
		working.Go(func() {
			name := fmt.Sprintf("basin.b-%d", i/10)
			for ctx.Err() == nil {
				if link.Join(ctx, name) == nil && link.Leave(ctx, name) == nil {
					done.Add(2)
				}
			}
		})
	}
	working.Wait()
	took, spent := time.Since(began), cpu(pids)-used
	for _, link := range all {
		link.Close()
	}
	n := float64(max(done.Load(), 1))
	return figures{n / took.Seconds(), float64(spent.Microseconds()) / n}
}

// watched is when a receiver at a node has seen somebody join or leave.
func watched(url string, to chan<- time.Time) *client.Link {
	return dial(client.Options{Server: url, Key: key, Watch: []wire.Watch{{Room: room}}, OnEvent: func(e client.Event) {
		if len(e.Joined) == 1 && e.Joined[0].User == "w-01" || len(e.Left) == 1 && e.Left[0].User == "w-01" {
			to <- time.Now()
		}
	}})
}

// seen measures when a join is seen at the owner's node and at another one.
func seen(n *local.Nodes, owner string) {
	other := n.Names[(slices.Index(n.Names, owner)+1)%3]
	here, there := make(chan time.Time, 16), make(chan time.Time, 16)
	defer dial(client.Options{Server: n.At(other), Token: token("w-00"), Rooms: []string{room}}).Close() // so that there is a room
	defer watched(n.At(owner), here).Close()
	defer watched(n.At(other), there).Close()
	link := dial(client.Options{Server: n.At(owner), Token: token("w-01"), Rooms: []string{}})
	defer link.Close()
	var near, far []time.Duration
	for until := time.Now().Add(*spell); time.Now().Before(until); time.Sleep(3 * engine.DefaultWindow) { // the room is calm again
		began := time.Now()
		check(link.Join(context.Background(), room))
		near, far = append(near, soon(here).Sub(began)), append(far, soon(there).Sub(began))
		check(link.Leave(context.Background(), room))
		soon(here) // otherwise the next join could cancel it, and nobody would see either
		soon(there)
	}
	fmt.Printf("a join in a calm room is seen, at p50 and p99: at the owner's node after %s, %s; at another after %s, %s\n", at(near, 50), at(near, 99), at(far, 50), at(far, 99))
}

// soon returns what comes within a time that only a fault exceeds.
func soon(from <-chan time.Time) time.Time {
	select {
	case at := <-from:
		return at
	case <-time.After(30 * time.Second):
		log.Fatal("a receiver has not seen a change")
		return time.Time{}
	}
}

func at(list []time.Duration, percent int) time.Duration {
	slices.Sort(list)
	return list[min(len(list)-1, len(list)*percent/100)].Round(10 * time.Microsecond)
}

// probe returns how long it takes until a node answers for the realm. It may be asked several times.
func probe(url string) time.Duration {
	began := time.Now()
	for {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		_, err := client.API{Server: url, Key: key}.Count(ctx, crowded)
		cancel()
		if err == nil {
			return time.Since(began)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// handover measures how long a request waits at most while an owner hands over: at the node that owns the realm next, and
// at the third one.
func handover(n *local.Nodes, people *crowd) {
	var atNext, atThird []time.Duration
	var inLog, read, reported []time.Duration
	for range *handovers {
		owner := ownerOf(n, n.Names[0])
		before := map[string]steps{}
		for _, name := range n.Names {
			before[name] = stepsOf(n, name)
		}
		over := make(chan error, 1)
		go func() { over <- n.Drain(owner) }()
		var waited [3]time.Duration
		var asking sync.WaitGroup
		for i, name := range n.Names {
			if name != owner {
				asking.Go(func() {
					for ownerOf(n, name) == owner {
						waited[i] = max(waited[i], probe(n.At(name)))
					}
				})
			}
		}
		asking.Wait()
		check(<-over)
		check(n.Run(owner))
		await(n)
		next := ownerOf(n, owner)
		took, was := stepsOf(n, next), before[next]
		inLog, read, reported = append(inLog, seconds(took.log-was.log)), append(read, seconds(took.records-was.records)), append(reported, seconds(took.reports-was.reports))
		for i, name := range n.Names {
			switch name {
			case owner:
			case next:
				atNext = append(atNext, waited[i])
			default:
				atThird = append(atThird, waited[i])
			}
		}
		people.whole(*sessions)
		time.Sleep(2 * time.Second)
	}
	fmt.Printf("a request waits during a handover: at the next owner %s at p50, %s at most; at the third node %s and %s, of %d\n", at(atNext, 50), at(atNext, 100), at(atThird, 50), at(atThird, 100), len(atNext))
	fmt.Printf("  of this, at p50: %s until it is in the log, %s to read the records and restore the core, %s until %d links are re-seated\n", at(inLog, 50), at(read, 50), at(reported, 50), *sessions)
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// steps are how long a node has taken to begin to own realms.
type steps struct{ log, records, reports float64 }

func stepsOf(n *local.Nodes, node string) steps {
	const seconds = "tovik_node_realms_begun_seconds_total"
	return steps{figureOf(n, node, seconds, `{until="log"}`), figureOf(n, node, seconds, `{until="records"}`), figureOf(n, node, seconds, `{until="reports"}`)}
}

// takeovers kills owners, and groups them by what they led of the broker.
func takeovers(n *local.Nodes, people *crowd) {
	took := map[int][]time.Duration{}
	for i := range *kills {
		leads := i%2 == 1 // every other owner should lead something of the broker, as far as that can be had
		for range 4 {
			if owner := ownerOf(n, n.Names[0]); !leads || led(n, owner) > 0 {
				break
			}
			for _, name := range n.Names {
				if name != ownerOf(n, name) && led(n, name) > 0 { // what it leads goes to one of the others
					again(n, people, name)
					break
				}
			}
		}
		owner := ownerOf(n, n.Names[0])
		of := led(n, owner)
		other := n.Names[(slices.Index(n.Names, owner)+1)%3]
		check(n.Kill(owner))
		took[of] = append(took[of], probe(n.At(other)))
		check(n.Run(owner))
		await(n)
		people.whole(*sessions)
		time.Sleep(2 * time.Second)
	}
	for of, name := range []string{"no leader of the broker", "one of its two leaders", "both of its leaders"} {
		if list := took[of]; len(list) > 0 {
			fmt.Printf("an owner is killed with %s: the next answers after %s at p50, %s at most, of %d\n", name, at(list, 50), at(list, 100), len(list))
		}
	}
}

// led returns how many of the broker's leaders a node is.
func led(n *local.Nodes, name string) int {
	list, err := client.API{Server: n.At(n.Names[0]), Key: key}.Nodes(context.Background())
	check(err)
	for _, is := range list.Nodes {
		if is.Node == name {
			return len(is.Leads)
		}
	}
	return 0
}

// again kills a node and starts it again.
func again(n *local.Nodes, people *crowd, name string) {
	check(n.Kill(name))
	time.Sleep(5 * time.Second)
	check(n.Run(name))
	await(n)
	people.whole(*sessions)
	time.Sleep(2 * time.Second)
}
