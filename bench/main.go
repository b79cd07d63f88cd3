// Command bench measures the service against floors: the barest programs on the
// same libraries that do the same without any presence. Service and floor are
// measured in turn in one run, so only their ratio is to be quoted; the absolute
// figures are those of this machine in this minute.
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

	"tovik.example/tovik/internal/engine"
)

// measure is one thing that is measured, in runs of a given length. More of it is
// better unless it is a latency.
type measure struct {
	name, unit     string
	latency        bool
	service, floor func(bench *stage, length time.Duration) float64
}

// result is the median over the rounds, as bench/latest.json has it.
type result struct {
	Name    string  `json:"name"`
	Unit    string  `json:"unit"`
	Service float64 `json:"service"`
	Floor   float64 `json:"floor"`
	// Ratio is how good the service is against its floor: 1 is as good.
	Ratio float64 `json:"ratio"`
}

func main() {
	short := flag.Bool("short", false, "fewer and shorter rounds")
	file := flag.String("out", "bench/latest.json", "where the results are written")
	flag.Parse()
	// Many short rounds: the machine's speed drifts, and a pair should see the same.
	rounds, length := 21, 700*time.Millisecond
	if *short {
		rounds, length = 9, 400*time.Millisecond
	}
	results, err := run(rounds, length)
	if err != nil {
		log.Fatal(err)
	}
	if err := write(*file, results); err != nil {
		log.Fatal(err)
	}
}

func run(rounds int, length time.Duration) ([]result, error) {
	s, err := newStage()
	if err != nil {
		return nil, err
	}
	defer s.close()
	var results []result
	for _, m := range measures {
		var service, floor, ratio []float64
		for range rounds {
			f := m.floor(s, length)
			v := m.service(s, length)
			service, floor = append(service, v), append(floor, f)
			if m.latency {
				v, f = f, v
			}
			ratio = append(ratio, v/f)
		}
		results = append(results, result{m.name, m.unit, median(service), median(floor), median(ratio)})
	}
	return results, nil
}

func median(values []float64) float64 {
	slices.Sort(values)
	return values[len(values)/2]
}

func write(file string, results []result) error {
	table := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	_, _ = fmt.Fprintln(table, "MEASURE\tSERVICE\tFLOOR\tUNIT\tRATIO")
	for _, r := range results {
		_, _ = fmt.Fprintf(table, "%s\t%.4g\t%.4g\t%s\t%.3f\n", r.Name, r.Service, r.Floor, r.Unit, r.Ratio)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	fmt.Printf("\nA change waits up to %s for others to go with it, unless somebody comes who needs the room whole, as a joiner does.\n", engine.DefaultWindow)
	text, err := json.MarshalIndent(map[string]any{
		"at": time.Now().UTC().Format(time.RFC3339), "go": runtime.Version(), "cores": runtime.NumCPU(), "measures": results,
	}, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(text, '\n'), 0o644)
}
