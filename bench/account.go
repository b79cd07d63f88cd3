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
	hellos := s.hellos(links)
	const often = "GODEBUG" // with the usual rate of samples, small things are seen too rarely
	check(os.Setenv(often, "memprofilerate=2048"))
	s.accountMemory(hellos)
	check(os.Unsetenv(often)) // which costs time
	s.accountTime(hellos)
}

// warm starts a service whose caches of a fixed size, which do not belong to a link, are full.
func (s *stage) warm(hellos []string) (probed, load.Plan) {
	service, address := s.startService("")
	s.fillCaches(address)
	plan := load.Plan{Address: address, Source: "127.0.0.2", Path: "/v1/link", Links: len(hellos), Hellos: hellos, At: 16}
	early := plan
	early.Links /= 10
	first, _ := startCrowd(early)
	first.stop()
	time.Sleep(12 * time.Second)
	return probed{service, "http://" + address}, plan
}

func (s *stage) accountMemory(hellos []string) {
	p, plan := s.warm(hellos)
	defer p.stop()
	links := float64(plan.Links)
	heap, figures, rss := p.heap(), p.figures(), p.rss()
	crowd, _ := startCrowd(plan)
	defer crowd.stop()
	look := func(after time.Duration) {
		time.Sleep(after)
		heapAfter, figuresAfter, rssAfter := p.heap(), p.figures(), p.rss()
		each := func(names ...string) (sum float64) {
			for _, name := range names {
				sum += (figuresAfter["go_"+name] - figures["go_"+name]) / links
			}
			return sum
		}
		a := accountant()
		fmt.Printf("An idle link with a session in a room of ten, of %.0f, %s after the last one came:\n\n", links, after)
		a.row((rssAfter-rss)*1024/links, "bytes", "altogether: resident memory")
		a.row(each("memstats_heap_alloc_bytes"), "bytes", "heap in use, of which")
		for _, part := range more(heapAfter, heap, links) {
			a.row(part.value, "bytes", "      "+part.what)
		}
		a.row(each("memstats_heap_inuse_bytes")-each("memstats_heap_alloc_bytes"), "bytes", "heap that is free in used spans: fragments")
		a.row(each("memstats_heap_idle_bytes")-each("memstats_heap_released_bytes"), "bytes", "heap that is free, and not given back")
		a.row(each("memstats_stack_inuse_bytes"), "bytes", "stacks of goroutines")
		a.row(each("memstats_mspan_sys_bytes", "memstats_mcache_sys_bytes", "memstats_gc_sys_bytes", "memstats_other_sys_bytes", "memstats_buck_hash_sys_bytes"), "bytes",
			"the runtime's own: spans, caches, marks, profiles")
		a.row(each("goroutines"), "", "goroutines")
		a.row((figuresAfter["process_open_fds"]-figures["process_open_fds"])/links, "", "descriptors")
		a.end()
	}
	look(10 * time.Second)
	look(75 * time.Second) // rooms keep their changes for a minute
}

func (s *stage) accountTime(hellos []string) {
	floor, bare := startFloor()
	defer floor.stop()
	floorSpent := floor.spent()
	others, _ := startCrowd(load.Plan{Address: bare, Source: "127.0.0.3", Path: "/link", Links: len(hellos), At: 16})
	floorSpent = floor.spent() - floorSpent
	others.stop()

	p, plan := s.warm(hellos)
	defer p.stop()
	took, spent := p.spending(), p.spent()
	crowd, connected := startCrowd(plan)
	defer crowd.stop()
	ways := took()
	spent = p.spent() - spent
	micro := func(d time.Duration) float64 { return d.Seconds() * 1e6 / float64(plan.Links) }
	total := 0.0
	for _, of := range ways {
		total += of
	}
	a := accountant()
	fmt.Printf("A hello with a join, %.0f a second:\n\n", float64(plan.Links)/connected.Connected.Seconds())
	a.row(micro(floorSpent), "µs", "a bare handshake")
	a.row(micro(spent), "µs", fmt.Sprintf("altogether: %.2f times as much, of which", spent.Seconds()/floorSpent.Seconds()))
	for _, part := range largest(ways) {
		a.row(micro(spent)*part.value/total, "µs", fmt.Sprintf("      %s (%.0f %%)", part.what, 100*part.value/total))
	}
	a.end()
}

type account struct{ *tabwriter.Writer }

func accountant() account {
	return account{tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', tabwriter.AlignRight)}
}

func (a account) row(value float64, unit, what string) {
	_, _ = fmt.Fprintf(a, "%.0f\t %s\t   %s\n", value, unit, what)
}

func (a account) end() {
	_ = a.Flush()
	fmt.Println()
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
	{"goroutines, apart from their stacks", regexp.MustCompile(`runtime\.malg`)},
	{"buffers that wait for use", regexp.MustCompile(`transport\.NewPool\.func`)},
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
func more(after, before map[string]float64, n float64) []amount {
	grown := map[string]float64{}
	for what, value := range after {
		grown[what] = (value - before[what]) / n
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
