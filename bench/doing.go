//go:build linux

package main

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// doing measures what cursors cost: fifty of the two hundred members of a room change theirs
// twenty times a second. In the end each of the two hundred has exactly the service's list, and
// nobody was told more often of one person than doing.every allows.
func (s *stage) doing(r results) {
	const people, cursors, every = 200, 50, 50 * time.Millisecond
	length := pick(s, 10*time.Second, 3*time.Second)
	service, address := s.startService("")
	defer service.stop()
	crowd := make([]*cursor, people)
	for i := range crowd {
		crowd[i] = &cursor{told: map[string]int{}, has: map[string]wire.Member{}}
		link := must(client.Dial(context.Background(), client.Options{Server: "http://" + address, Token: s.token(fmt.Sprintf("w-%03d", i)), Rooms: []string{room}, OnEvent: crowd[i].hear}))
		crowd[i].Link = link
		defer link.Close()
	}
	time.Sleep(time.Second)
	for _, c := range crowd {
		c.forget()
	}
	before := service.cpu()
	var moving sync.WaitGroup
	end := time.Now().Add(length)
	for i, c := range crowd[:cursors] {
		moving.Go(func() {
			for n := 0; time.Now().Before(end); n++ {
				check(c.Doing(context.Background(), room, map[string]int{"x": n, "y": i}))
				time.Sleep(every)
			}
		})
	}
	moving.Wait()
	time.Sleep(time.Second)
	spent := service.cpu() - before
	total, worst := 0, 0
	for _, c := range crowd {
		changes, most := c.all()
		total, worst = total+changes, max(worst, most)
	}
	truth := must(client.API{Server: "http://" + address, Key: key}.Members(context.Background(), room))
	wrong := 0
	for _, c := range crowd {
		if !reflect.DeepEqual(truth.Members, c.members()) {
			wrong++
		}
	}
	allowed := float64(length/presence.DefaultPolicy().DoingEvery) + 2
	r["doing_us_per_receiver"] = spent.Seconds() * 1e6 / float64(total)
	r["doing_changes_per_second"] = float64(total) / length.Seconds()
	r["doing_wrong_lists"] = float64(wrong)
	r["doing_over_the_rate"] = max(0, float64(worst)-allowed)
	r["doing_bytes"] = float64(len(`{"user":"w-000","doing":{"x":100,"y":10}},`))
}

// cursor is a member who follows the room.
type cursor struct {
	*client.Link
	mu   sync.Mutex
	told map[string]int         // changes of doing, by user
	has  map[string]wire.Member // the list, from what it was told
}

func (c *cursor) hear(e client.Event) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range slices.Concat(e.Joined, e.Changed, e.Doing) {
		c.has[m.User] = m
	}
	for _, m := range e.Doing {
		c.told[m.User]++
	}
}

func (c *cursor) members() []wire.Member {
	c.mu.Lock()
	defer c.mu.Unlock()
	list := slices.Collect(maps.Values(c.has))
	slices.SortFunc(list, func(a, b wire.Member) int { return cmp.Compare(a.User, b.User) })
	return list
}

func (c *cursor) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.told)
}

// all returns how many changes the member was told, and of how many of one person at most.
func (c *cursor) all() (changes, most int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, n := range c.told {
		changes, most = changes+n, max(most, n)
	}
	return changes, most
}

// cpu returns the processor time that the process has used.
func (p *process) cpu() time.Duration {
	stat := string(must(os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid))))
	fields := strings.Fields(stat[strings.LastIndex(stat, ")")+1:])
	ticks := must(strconv.Atoi(fields[11])) + must(strconv.Atoi(fields[12]))
	return time.Duration(ticks) * 10 * time.Millisecond // USER_HZ is 100
}
