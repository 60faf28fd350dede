// Command bench measures the service against its budgets and prints a table, one
// line for each, with what was measured and its ratio to the budget. It needs no
// set-up: data is generated, and a private PostgreSQL is started for what needs one.
//
//	go run ./bench                   everything, up to ten million places
//	go run ./bench -only viewport,http  some of it
package main

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"runtime"
	"runtime/pprof"
	"slices"
	"strings"
	"time"
)

// A report gathers the lines of the table.
type report struct{ lines []line }

// A line is one thing measured. The ratio is that of the measured to the budget,
// oriented so that at most 1 means that it is met.
type line struct {
	what, budget, measured string
	ratio                  float64 // 0 if there is no budget
}

// add notes something measured, and prints it at once.
func (r *report) add(what, budget, measured string, ratio float64) {
	r.lines = append(r.lines, line{what, budget, measured, ratio})
	fmt.Fprintf(os.Stderr, "%-60s %-16s %s\n", what, budget, measured)
}

func (r *report) print() {
	fmt.Printf("| what | budget | measured | measured / budget |\n|---|---|---|---|\n")
	for _, l := range r.lines {
		ratio := ""
		if l.ratio > 0 {
			ratio = fmt.Sprintf("%.2f", l.ratio)
			if l.ratio > 1 {
				ratio += " (missed)"
			}
		}
		fmt.Printf("| %s | %s | %s | %s |\n", l.what, l.budget, l.measured, ratio)
	}
}

// parts are what can be asked for with -only, in the order in which they run.
var parts = []struct {
	name string
	run  func(ctx context.Context, r *report) error
}{
	{"viewport", viewports},
	{"markers", markersOnScreen},
	{"edit", edits},
	{"memory", memory},
	{"load", underLoad},
	{"filter", filters},
	{"database", database},
	{"http", overNetwork},
	{"live", live},
	{"writes", writes},
	{"positions", positions},
	{"watches", watches},
	{"start", starts},
}

var plots = flag.String("plots", "", "directory for plots, as SVG: how a viewport scales, how many markers it has")

func main() {
	only := flag.String("only", "", "parts to run, separated by commas; all if empty")
	var wanted []string
	profile := flag.String("cpuprofile", "", "file for a profile of where the time goes")
	flag.Parse()
	if *only != "" {
		wanted = strings.Split(*only, ",")
	}
	var names []string
	for _, p := range parts {
		names = append(names, p.name)
	}
	for _, name := range wanted {
		if !slices.Contains(names, name) {
			fmt.Fprintf(os.Stderr, "bench: there is no part %q; there are %s\n", name, strings.Join(names, ", "))
			os.Exit(2)
		}
	}
	if *profile != "" {
		f, err := os.Create(*profile)
		if err == nil {
			err = pprof.StartCPUProfile(f)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		defer pprof.StopCPUProfile()
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	var r report
	for _, p := range parts {
		if len(wanted) > 0 && !slices.Contains(wanted, p.name) {
			continue
		}
		if err := p.run(ctx, &r); err != nil {
			fmt.Fprintf(os.Stderr, "bench: %s: %v\n", p.name, err)
			os.Exit(1)
		}
		runtime.GC()
	}
	fmt.Printf("%s, %d processors, %s\n\n", time.Now().Format(time.DateOnly), runtime.NumCPU(), runtime.Version())
	r.print()
}

// A spread is durations in order.
type spread []time.Duration

func newSpread(took []time.Duration) spread {
	slices.Sort(took)
	return took
}

// at returns the duration that a share of all do not exceed.
func (s spread) at(share float64) time.Duration { return s[min(len(s)-1, int(share*float64(len(s))))] }

func (s spread) String() string {
	return fmt.Sprintf("p50 %s, p99 %s", short(s.at(0.5)), short(s.at(0.99)))
}

// short writes a duration with three digits or so.
func short(d time.Duration) string {
	switch {
	case d < 10*time.Microsecond:
		return fmt.Sprintf("%.2f µs", float64(d.Nanoseconds())/1e3)
	case d < time.Millisecond:
		return fmt.Sprintf("%.0f µs", float64(d.Nanoseconds())/1e3)
	case d < time.Second:
		return fmt.Sprintf("%.3g ms", float64(d.Microseconds())/1e3)
	}
	return fmt.Sprintf("%.3g s", d.Seconds())
}

// count writes a number of places.
func count(n int) string {
	switch {
	case n >= 1_000_000:
		return fmt.Sprintf("%d M", n/1_000_000)
	case n >= 1000:
		return fmt.Sprintf("%d k", n/1000)
	}
	return fmt.Sprint(n)
}

var quiet = slog.New(slog.DiscardHandler)
