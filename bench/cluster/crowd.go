//go:build linux

package main

import (
	"context"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/cluster/local"
	"tovik.example/tovik/wire"
)

// crowd are people who stay, spread over the nodes. Whoever loses a link comes back, to the next node that answers.
type crowd struct {
	nodes *local.Nodes
	stop  context.CancelFunc
	done  sync.WaitGroup
	here  atomic.Int64
}

// crowded is the room of the first of them.
const crowded = "levee.c-0"

// gather brings people to the nodes, and returns when all are there.
func gather(n *local.Nodes, sessions int) *crowd {
	ctx, stop := context.WithCancel(context.Background())
	c := &crowd{nodes: n, stop: stop}
	atOnce := make(chan struct{}, 128) // hellos under way
	for i := range sessions {
		c.done.Go(func() { c.stays(ctx, i, atOnce) })
	}
	for until := time.Now().Add(5 * time.Minute); c.here.Load() < int64(sessions); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(until) {
			log.Fatalf("only %d of %d people are there", c.here.Load(), sessions)
		}
	}
	return c
}

func (c *crowd) stays(ctx context.Context, i int, atOnce chan struct{}) {
	user := fmt.Sprintf("c-%05d", i)
	var resume *wire.Resume
	for try := i; ctx.Err() == nil; try++ {
		atOnce <- struct{}{}
		dialing, cancel := context.WithTimeout(ctx, 10*time.Second)
		link, err := client.Dial(dialing, client.Options{Server: c.nodes.At(c.nodes.Names[try%len(c.nodes.Names)]), Token: token(user), Rooms: []string{fmt.Sprintf("levee.c-%d", i/50)}, Resume: resume, Nonce: user, Detail: "count"})
		cancel()
		<-atOnce
		if err != nil {
			select {
			case <-ctx.Done():
			case <-time.After(100 * time.Millisecond):
			}
			continue
		}
		c.here.Add(1)
		resume = link.Resume()
		select {
		case <-link.Ended():
		case <-ctx.Done():
		}
		link.Close()
		c.here.Add(-1)
	}
}

func (c *crowd) goes() {
	c.stop()
	c.done.Wait()
}

// whole waits until everybody is there.
func (c *crowd) whole(sessions int) {
	for until := time.Now().Add(time.Minute); c.here.Load() < int64(sessions) && time.Now().Before(until); {
		time.Sleep(50 * time.Millisecond)
	}
}

// memory returns the resident memory of processes, in KB.
func memory(pids []int) (kb int64) {
	for _, pid := range pids {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			if is, ok := strings.CutPrefix(line, "VmRSS:"); ok {
				n, _ := strconv.ParseInt(strings.Fields(is)[0], 10, 64)
				kb += n
			}
		}
	}
	return kb
}

// figure returns the sum of a metric over all nodes.
func figure(n *local.Nodes, name, labels string) (sum float64) {
	for _, node := range n.Names {
		sum += figureOf(n, node, name, labels)
	}
	return sum
}

// figureOf returns the sum of a metric at one node.
func figureOf(n *local.Nodes, node, name, labels string) (sum float64) {
	request, err := http.NewRequest(http.MethodGet, n.At(node)+"/metrics", nil)
	check(err)
	request.Header.Set("Authorization", "Bearer "+key)
	response, err := http.DefaultClient.Do(request)
	check(err)
	text, err := io.ReadAll(response.Body)
	check(err)
	check(response.Body.Close())
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, name+labels) {
			v, err := strconv.ParseFloat(strings.Fields(line)[1], 64)
			check(err)
			sum += v
		}
	}
	return sum
}

// followed measures what a change costs while receivers at more and more nodes follow all rooms.
func followed(n *local.Nodes, owner string) {
	order := []string{owner}
	for _, name := range n.Names {
		if name != owner {
			order = append(order, name)
		}
	}
	fmt.Println("a change, while receivers at so many nodes follow all rooms:")
	var receivers []*client.Link
	for k, name := range order {
		receivers = append(receivers, dial(client.Options{Server: n.At(name), Key: key, Watch: []wire.Watch{{Room: "basin.*"}}}))
		out := func() (float64, float64) {
			return figure(n, "tovik_node_routes_messages_total", `{direction="out"}`), figure(n, "tovik_node_routes_bytes_total", `{direction="out"}`)
		}
		messages, bytes := out()
		is := joins(n.At(owner), n.Processes())
		after, sent := out()
		changes := is.perSecond * spell.Seconds()
		fmt.Printf("  %d   %6.0f /s  %6.0f µs over all processes, %.2f messages and %.0f bytes between nodes\n", k+1, is.perSecond, is.micros, (after-messages)/changes, (sent-bytes)/changes)
	}
	for _, r := range receivers {
		r.Close()
	}
}
