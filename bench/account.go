//go:build linux

package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/google/pprof/profile"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"tovik.example/tovik/bench/load"
)

// account prints where the memory of an idle link goes, and the processor time of a hello with a join, from profiles
// that it takes itself. The sums are exact; the parts are samples.
func (s *stage) account(links int) {
	check(os.Setenv("GODEBUG", "memprofilerate=2048")) // of the service: with the usual rate, small things are seen too rarely
	service, address := s.startService("")
	defer service.stop()
	s.fillCaches(address)
	p := probed{service, "http://" + address}
	hellos := make([]string, links)
	for i := range hellos {
		hellos[i] = fmt.Sprintf(`{"type":"hello","version":1,"token":"%s","nonce":"n-%d","rooms":["basin.b%d"]}`, s.token(fmt.Sprint("w-", i)), i, i/10)
	}
	plan := load.Plan{Address: address, Source: "127.0.0.2", Path: "/v1/link", Links: links, Hellos: hellos, At: 16}
	early := plan
	early.Links = links / 10
	first, _ := startCrowd(early) // fills caches of a fixed size, which do not belong to a link
	first.stop()
	time.Sleep(12 * time.Second)

	heap, figures, rss := p.heap(), p.figures(), service.rss()
	spent := service.spent()
	took := p.spending()
	crowd, connected := startCrowd(plan)
	defer crowd.stop()
	ways := took()
	spent = service.spent() - spent
	time.Sleep(10 * time.Second) // until what the burst has left is swept up
	heapAfter, figuresAfter, rssAfter := p.heap(), p.figures(), service.rss()

	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', tabwriter.AlignRight)
	row := func(what string, value float64, unit string) { _, _ = fmt.Fprintf(w, "%.0f\t %s\t   %s\n", value, unit, what) }
	each := func(name string) float64 { return (figuresAfter[name] - figures[name]) / float64(links) }
	fmt.Printf("An idle link with a session in a room of ten, of %d:\n\n", links)
	row("altogether: resident memory", (rssAfter-rss)*1024/float64(links), "bytes")
	row("heap in use, of which", each("go_memstats_heap_alloc_bytes"), "bytes")
	for _, part := range more(heapAfter, heap, links) {
		row("      "+part.what, part.value, "bytes")
	}
	row("heap that is free in used spans: fragments", each("go_memstats_heap_inuse_bytes")-each("go_memstats_heap_alloc_bytes"), "bytes")
	row("heap that is free, and not given back", each("go_memstats_heap_idle_bytes")-each("go_memstats_heap_released_bytes"), "bytes")
	row("stacks of goroutines", each("go_memstats_stack_inuse_bytes"), "bytes")
	row("the runtime's own: spans, caches, marks, profiles", each("go_memstats_mspan_sys_bytes")+each("go_memstats_mcache_sys_bytes")+each("go_memstats_gc_sys_bytes")+each("go_memstats_other_sys_bytes")+each("go_memstats_buck_hash_sys_bytes"), "bytes")
	row("goroutines", each("go_goroutines"), "")
	row("descriptors", each("process_open_fds"), "")
	_ = w.Flush()

	fmt.Printf("\nA hello with a join, %.0f a second:\n\n", float64(links)/connected.Connected.Seconds())
	row("altogether: processor time", spent.Seconds()*1e6/float64(links), "µs")
	total := 0.0
	for _, of := range ways {
		total += of
	}
	for _, part := range largest(ways) {
		row(fmt.Sprintf("      %s (%.0f %%)", part.what, 100*part.value/total), spent.Seconds()*1e6/float64(links)*part.value/total, "µs")
	}
	_ = w.Flush()
}

// probed is a service that tells about itself.
type probed struct {
	*process
	url string
}

func (p probed) get(path string) io.ReadCloser {
	request := must(http.NewRequestWithContext(context.Background(), http.MethodGet, p.url+path, nil))
	request.Header.Set("Authorization", "Bearer "+key)
	response := must(http.DefaultClient.Do(request))
	if response.StatusCode != http.StatusOK {
		check(fmt.Errorf("%s is answered with %s", path, response.Status))
	}
	return response.Body
}

// heap returns the bytes in use by where they were allocated, after a collection.
func (p probed) heap() map[string]float64 {
	body := p.get("/debug/pprof/heap?gc=1")
	defer func() { _ = body.Close() }()
	taken := must(profile.Parse(body))
	of := map[string]float64{}
	for _, sample := range taken.Sample {
		of[part(sample, memoryParts)] += float64(sample.Value[3]) // inuse_space
	}
	return of
}

// figures returns the service's metrics that have no labels.
func (p probed) figures() map[string]float64 {
	body := p.get("/metrics")
	defer func() { _ = body.Close() }()
	parser := expfmt.NewTextParser(model.UTF8Validation)
	of := map[string]float64{}
	for name, family := range must(parser.TextToMetricFamilies(body)) {
		if m := family.GetMetric()[0]; len(m.GetLabel()) == 0 {
			of[name] = m.GetGauge().GetValue() + m.GetCounter().GetValue()
		}
	}
	return of
}

// spending starts a profile of the processor. The function that it returns waits for its end, and returns the samples by
// what was done.
func (p probed) spending() func() map[string]float64 {
	taken := make(chan *profile.Profile)
	go func() {
		body := p.get("/debug/pprof/profile?seconds=12")
		defer func() { _ = body.Close() }()
		taken <- must(profile.Parse(body))
	}()
	time.Sleep(time.Second) // it has begun
	return func() map[string]float64 {
		of := map[string]float64{}
		for _, sample := range (<-taken).Sample {
			of[part(sample, timeParts)] += float64(sample.Value[1])
		}
		return of
	}
}

// spent returns the processor time of the process.
func (p *process) spent() time.Duration {
	text := must(os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid)))
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+2:]))
	const ticks = 100 // a second, in Linux
	return time.Duration(must(strconv.Atoi(fields[11]))+must(strconv.Atoi(fields[12]))) * time.Second / ticks
}

// parts tell of what a sample is: the first whose pattern one of its functions matches.
type parts []struct {
	what    string
	pattern *regexp.Regexp
}

var memoryParts = parts{
	{"profiles of the processor and the like", regexp.MustCompile(`runtime/pprof|compress/|expfmt|promhttp`)},
	{"core: sessions, people, rooms", regexp.MustCompile(`internal/presence\.`)},
	{"engine: feeds, numbering", regexp.MustCompile(`internal/engine\.`)},
	{"delivery: what a link follows, and lists of rooms", regexp.MustCompile(`internal/delivery\.`)},
	{"records: what waits to be written, caches", regexp.MustCompile(`internal/(records|journal|headcount|timing|hooks)\.|modernc|gorm`)},
	{"gateway: the link", regexp.MustCompile(`internal/(gateway|transport|pace|admission)\.`)},
	{"realm: the conversation, its guest and grants", regexp.MustCompile(`internal/(realm|access)\.|jwt`)},
	{"frames", regexp.MustCompile(`tovik/wire\.|encoding/json|strictjson`)},
	{"HTTP: the handshake, the listener", regexp.MustCompile(`fasthttp|fiber|internal/(httpapi|server)\.`)},
	{"connections", regexp.MustCompile(`^net\.|internal/poll`)},
}

var timeParts = parts{
	{"the collector", regexp.MustCompile(`runtime\.(gcBgMarkWorker|gcAssistAlloc|bgsweep|bgscavenge|gcStart|mallocgc.*Assist)`)},
	{"the profile and metrics", regexp.MustCompile(`runtime/pprof|promhttp|profileWriter`)},
	{"records: entries, people, SQLite", regexp.MustCompile(`internal/(records|journal|headcount|timing|hooks)\.|modernc|gorm`)},
	{"the token", regexp.MustCompile(`internal/access\.|jwt|crypto/(hmac|sha256|ed25519)`)},
	{"delivery: snapshots, changes of the room", regexp.MustCompile(`internal/delivery\.`)},
	{"core and engine", regexp.MustCompile(`internal/(presence|engine)\.`)},
	{"reading the hello as JSON", regexp.MustCompile(`wire\.Decode|encoding/json.*[dD]ecode|json\.Unmarshal|json\.checkValid|strictjson`)},
	{"writing JSON", regexp.MustCompile(`encoding/json|wire\.Encode`)},
	{"writes to sockets", regexp.MustCompile(`syscall\.write|internal/poll.*Write|Writev`)},
	{"reads from sockets", regexp.MustCompile(`syscall\.read|internal/poll.*Read`)},
	{"accepting, and closing, of connections", regexp.MustCompile(`accept|netFD\.init|Setsockopt|setsockopt|poll.*Close|epollctl|EpollCtl`)},
	{"the handshake over HTTP", regexp.MustCompile(`fasthttp|fiber|internal/(httpapi|server)\.`)},
	{"gateway and realm: the conversation", regexp.MustCompile(`internal/(gateway|realm|transport|pace|admission)\.`)},
	{"goroutines: waiting and waking", regexp.MustCompile(`runtime\.(schedule|findRunnable|park_m|mcall|goready|ready|netpoll|futex|mstart|sysmon|notewakeup)`)},
}

func part(sample *profile.Sample, of parts) string {
	for _, one := range of {
		for _, at := range sample.Location {
			for _, line := range at.Line {
				if one.pattern.MatchString(line.Function.Name) {
					return one.what
				}
			}
		}
	}
	return "anything else"
}

type amount struct {
	what  string
	value float64
}

// more returns by how much each part has grown for one of so many.
func more(after, before map[string]float64, n int) []amount {
	grown := map[string]float64{}
	for what, value := range after {
		grown[what] = (value - before[what]) / float64(n)
	}
	return largest(grown)
}

func largest(of map[string]float64) []amount {
	list := make([]amount, 0, len(of))
	for _, what := range slices.Sorted(maps.Keys(of)) {
		list = append(list, amount{what, of[what]})
	}
	slices.SortStableFunc(list, func(a, b amount) int { return cmp.Compare(b.value, a.value) })
	return slices.DeleteFunc(list, func(a amount) bool { return a.value < 0.5 })
}
