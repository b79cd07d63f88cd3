//go:build linux

// Command bench measures the service against floors: minimal programs on the same libraries that
// do the same without presence. Service, floors and load are separate processes. Service and
// floor are measured alternately in one run. Quote only their ratio, because absolute figures
// are those of one machine at one time.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"os"
	"runtime"
	"slices"
	"text/tabwriter"
	"time"

	"tovik.example/tovik/bench/load"
	"tovik.example/tovik/internal/engine"
)

// results are figures by name.
type results map[string]float64

// line describes a row of the table.
type line struct {
	name, unit, what string
	floor            string // the figure that it is compared with, if any
	aim              string
}

var lines = []line{
	{"link_rss_kb", "KB", "memory of an idle link with a session in a room, 15,000 of them, calm for more than a minute", "floor_link_rss_kb", "≤ 5"},
	{"link_rss_after_frames_kb", "KB", "the same after each has sent 10 frames", "floor_link_rss_after_frames_kb", "≤ 5.5"},
	{"link_rss_tls_kb", "KB", "the same as the first, of 5,000 links over TLS", "", "≤ 14"},
	{"handshakes_per_second", "/s", "links opened, with hello and join", "floor_handshakes_per_second", "≥ 4,000"},
	{"events_per_second", "/s", "changes delivered: 5,000 receivers, 1,000 changes a second", "floor_frames_per_second", "≥ 4,000,000"},
	{"last_receiver_p50_ms", "ms", "from a change until the last receiver has it", "", "≤ 120"},
	{"last_receiver_p99_ms", "ms", "", "", "≤ 400"},
	{"events_15000_per_second", "/s", "the same: 15,000 receivers, 200 changes a second", "floor_frames_per_second", ""},
	{"last_receiver_15000_p50_ms", "ms", "", "", ""},
	{"last_receiver_15000_p99_ms", "ms", "", "", ""},
	{"slow_healthy_percent", "%", "receivers that are served while 1 % of 5,000 never read", "", "100"},
	{"slow_last_receiver_p99_ms", "ms", "", "", ""},
	{"holes", "", "revisions that were missing in any of these", "", "0"},
	{"join_seen_p50_ms", "ms", "from asking to join a calm room until a third party sees it", "floor_relay_p50_ms", ""},
	{"join_seen_p99_ms", "ms", "", "floor_relay_p99_ms", ""},
	{"joins_and_leaves_per_second", "/s", "answered to 600 links; the floor keeps its records in memory", "floor_joins_and_leaves_per_second", ""},
	{"presence_slowdown_with_records", "", "how much faster that is", "", "≤ 1.15"},
	{"journal_rows_per_second", "/s", "entries added to those of the week, 5,000 at once; the floor adds them with the driver alone", "floor_journal_rows_per_second", "ratio ≥ 0.6"},
	{"journal_mb_per_million", "MB", "what a million entries take", "", ""},
	{"journal_query_room_ms", "ms", "a room's last hour out of the recorded week, the slowest of 20", "", "≤ 20"},
	{"journal_query_person_ms", "ms", "a person's last day, the same", "", "≤ 20"},
	{"export_rows_per_second", "/s", "the last two days of the week as NDJSON", "", ""},
	{"export_mb_over_idle", "MB", "memory of the service meanwhile", "", "≤ 64"},
	{"restart_ready_s", "s", "with a million people on record and 15,000 sessions, after a kill", "", "≤ 3"},
	{"back_s", "s", "from ready until 15,000 links are back with their sessions, after a kill; nobody may be seen to leave", "floor_back_s", "ratio ≤ 1.4"},
	{"core_held_cpu_longest_ms", "ms", "processor time for which a core is held at most: a room of 10,000 that follow it, 100 who watch", "", "≤ 2"},
	{"core_held_longest_ms", "ms", "the same by the clock, with what others took of the processor; the floor is a loop of as much processor time after each input", "floor_core_held_longest_ms", ""},
	{"core_held_p999_ms", "ms", "one hold in a thousand is longer", "floor_core_held_p999_ms", ""},
	{"doing_us_per_receiver", "µs", "processor time of the service for one change of doing at one receiver: 50 cursors, 20 changes a second each, 200 members", "", ""},
	{"doing_bytes", "B", "what it adds to a frame", "", ""},
	{"doing_changes_per_second", "/s", "changes of doing delivered meanwhile", "", ""},
	{"doing_over_the_rate", "", "changes of one person at one receiver beyond doing.every", "", "0"},
	{"doing_wrong_lists", "", "receivers whose list is not the service's in the end", "", "0"},
	{"week_sessions", "", "sessions of a recorded week", "", "≥ 1,000,000"},
	{"week_replayed_s", "s", "time to study it and to play it under two policies", "", "≤ 120"},
	{"week_replay_mb", "MB", "heap in use meanwhile, of the bench", "", "≤ 500"},
	{"week_exceptions", "", "leaves that the replay under the policy in force misses, or has besides: of a return within the tick in which the grace ended", "", "≤ 100"},
	{"reconnects_s", "s", "an owner's time for 100,000 sessions that lose their links and return, with their rows", "", ""},
	{"reconnects_rows", "", "rows of that", "", ""},
	{"reconnects_log_mb", "MB", "what they take in the log", "", ""},
	{"reconnects_on_nodes_s", "s", "until two nodes on this machine have put them into their files", "", ""},
	{"reconnects_lag_s", "s", "for how long a row waited at most", "", ""},
	{"reconnect_rows_per_second", "/s", "rows put, in each of the files", "", ""},
	{"reseats_s", "s", "an owner's time for 100,000 reported links that it knows", "", ""},
	{"reseats_rows", "", "rows of that", "", "0"},
	{"takeover_restore_s", "s", "another owner's time to continue with them from its file", "", ""},
	{"takeover_reseats_s", "s", "and for the reports of all links", "", ""},
	{"takeover_rows", "", "rows of that", "", "0"},
	{"counts_http_per_second", "/s", "GET /v1/rooms/{room}/count", "floor_counts_http_per_second", "ratio ≥ 0.85"},
}

func main() {
	if len(os.Args) > 1 && (os.Args[1] == "crowd" || os.Args[1] == "floor") {
		be := map[string]func() error{"crowd": beCrowd, "floor": beFloor}[os.Args[1]]
		if err := be(); err != nil {
			log.Fatal(err)
		}
		return
	}
	short := flag.Bool("short", false, "fewer and shorter rounds, in about two minutes")
	file := flag.String("out", "bench/latest.json", "where the results are written")
	only := flag.String("only", "", "one part: counts, joins, records, memory, returns, blast, fanout, hold, doing, timing or rows, with -growth one curve, with -against what the figures' names contain; nothing is written then")
	against := flag.String("against", "", "a commit that is built too and measured in alternation with this tree; nothing is written then")
	pairs := flag.Int("pairs", 10, "how many rounds of each, for the figure that has the fewest")
	account := flag.Int("account", 0, "print where the memory of so many idle links goes, and the time of their hellos; nothing is written then")
	soak := flag.Duration("soak", 0, "hold 10,000 links for so long while others come and go, and print what changed; nothing is written then")
	growth := flag.String("growth", "", "measure how costs grow, and draw the curves into this directory; nothing is written to -out then")
	flag.Parse()
	if *growth != "" {
		s := newStage(*short)
		defer s.stop()
		s.growth(*growth, *only)
		return
	}
	if *soak > 0 {
		s := newStage(*short)
		defer s.stop()
		s.soak(*soak)
		return
	}
	if *account > 0 {
		s := newStage(*short)
		defer s.stop()
		s.account(*account)
		return
	}
	if *against != "" {
		if err := compare(*against, *only, *pairs); err != nil {
			log.Fatal(err)
		}
		return
	}
	r := run(*short, *only)
	if *only != "" {
		*file = os.DevNull
	}
	if err := write(*file, r, *short); err != nil {
		log.Fatal(err)
	}
}

func run(short bool, only string) results {
	s := newStage(short)
	defer s.stop()
	r := results{}
	memory := func(r results) {
		s.memory(r, func(pause func()) {
			if only == "" {
				s.recordedWeek(pause) // for records and timing
				s.directory(pause)
			}
		})
	}
	for _, part := range []struct {
		name string
		run  func(results)
	}{{"counts", s.counts}, {"joins", s.joins}, {"memory", memory}, {"records", s.records}, {"returns", s.returns}, {"blast", s.blast}, {"fanout", s.fanouts}, {"hold", s.hold}, {"doing", s.doing}, {"timing", s.timing}, {"rows", s.rows}} {
		if only == "" || only == part.name {
			fmt.Fprintf(os.Stderr, "%s …", part.name)
			begun, stolen := time.Now(), load.Stolen()
			part.run(r)
			fmt.Fprintf(os.Stderr, " %.0f s, the host took %.0f %% of the processors\n", time.Since(begun).Seconds(), stolen())
		}
	}
	return r
}

func (s *stage) fanouts(r results) {
	s.fanout(r, fanout{receivers: 5000, changes: 1000})
	s.fanout(r, fanout{prefix: "15000_", receivers: 15_000, changes: 200})
	s.fanout(r, fanout{prefix: "slow_", receivers: 5000, changes: 200, deafPercent: 1})
	r["holes"] += r["15000_holes"] + r["slow_holes"]
	for _, name := range []string{"events", "last_receiver"} {
		for _, unit := range []string{"_per_second", "_p50_ms", "_p99_ms"} {
			if v, ok := r["15000_"+name+unit]; ok {
				r[name+"_15000"+unit] = v
				delete(r, "15000_"+name+unit)
			}
		}
	}
}

// counts alternates many short rounds, because the speed of the machine drifts.
func (s *stage) counts(r results) {
	someone := s.person([]string{room}, nil)
	defer someone.Close()
	rounds, length := pick(s, 21, 5), pick(s, 500*time.Millisecond, 300*time.Millisecond)
	var service, floor, ratio []float64
	for range rounds {
		f := s.gets("http://"+s.floor+"/count", length)
		v := s.gets(s.service+"/v1/rooms/"+room+"/count", length)
		service, floor, ratio = append(service, v), append(floor, f), append(ratio, v/f)
	}
	r["counts_http_per_second"], r["floor_counts_http_per_second"] = median(service), median(floor)
	r["counts_http_ratio"] = median(ratio)
}

func (s *stage) joins(r results) {
	length := pick(s, 4*time.Second, 500*time.Millisecond)
	floor, service := s.relayed(length), s.seen(length)
	at := func(list []float64, q float64) float64 { return list[int(q*float64(len(list)-1))] }
	r["join_seen_p50_ms"], r["join_seen_p99_ms"] = at(service, 0.5), at(service, 0.99)
	r["floor_relay_p50_ms"], r["floor_relay_p99_ms"] = at(floor, 0.5), at(floor, 0.99)
}

func median(values []float64) float64 {
	slices.Sort(values)
	return values[len(values)/2]
}

func write(file string, r results, short bool) error {
	table := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	_, _ = fmt.Fprintln(table, "FIGURE\tSERVICE\tUNIT\tFLOOR\tRATIO\tAIM\tWHAT")
	for _, l := range lines {
		if _, measured := r[l.name]; !measured {
			continue
		}
		floor, ratio := "", ""
		if f, ok := r[l.floor]; ok {
			floor, ratio = number(f), fmt.Sprintf("%.2f", r[l.name]/f)
		}
		_, _ = fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\t%s\n", l.name, number(r[l.name]), l.unit, floor, ratio, l.aim, l.what)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	fmt.Printf("\nA change in a calm room waits for nothing; what follows within %s goes together.\n", engine.DefaultWindow)
	all := map[string]any{"at": time.Now().UTC().Format(time.RFC3339), "go": runtime.Version(), "cores": runtime.NumCPU(), "short": short}
	for name, figure := range r {
		all[name] = figure
	}
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(text, '\n'), 0o644)
}

// number formats a figure with its significant digits.
func number(v float64) string {
	if v >= 1000 {
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprintf("%.3g", v)
}
