// Siege plays hostile and careless callers against a service of its own, all at once and
// beside ordinary users, and prints what the ordinary users got.
//
//	go run ./siege -program bin/idlebeacon -time 20s
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
)

func main() {
	program := flag.String("program", "bin/idlebeacon", "the built program")
	length := flag.Duration("time", 20*time.Second, "how long the quiet part and the siege each take")
	places := flag.Int("places", 200_000, "how many places there are")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, *program, *length, *places); err != nil {
		fmt.Fprintln(os.Stderr, "siege:", err)
		os.Exit(1)
	}
}

// A target is the service that is besieged.
type target struct {
	url  string
	cmd  *exec.Cmd
	http *http.Client
	key  string           // of an owner
	ids  []string         // of some of its items
	log  *strings.Builder // what it says
	mu   sync.Mutex       // guards log
}

func run(ctx context.Context, program string, length time.Duration, places int) (err error) {
	dir, err := os.MkdirTemp("", "idlebeacon-siege-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	t, err := begin(program, filepath.Join(dir, "data"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, t.end()) }()
	if err := t.fill(ctx, places); err != nil {
		return err
	}
	quiet := t.play(ctx, length, nil)
	most := t.watchMemory(ctx)
	under := t.play(ctx, length, hostile)
	after := t.play(ctx, length/4, nil)
	report(quiet, under, after, most())
	return verdict(ctx, t, under, after)
}

var serving = regexp.MustCompile(`msg=serving url=(http://\S+)`)

// begin starts a service on a directory of its own.
func begin(program, data string) (*target, error) {
	t := &target{log: &strings.Builder{}, http: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 200}}}
	t.cmd = exec.Command(program, "serve", "--data", data, "--listen", "127.0.0.1:0")
	out, err := t.cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := t.cmd.Start(); err != nil {
		return nil, err
	}
	url := make(chan string, 1)
	go func() {
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			t.mu.Lock()
			fmt.Fprintln(t.log, lines.Text())
			t.mu.Unlock()
			if found := serving.FindStringSubmatch(lines.Text()); found != nil {
				url <- found[1]
			}
		}
		close(url)
	}()
	var ok bool
	if t.url, ok = <-url; !ok {
		return nil, fmt.Errorf("the service does not start:\n%s", t.log)
	}
	key, err := os.ReadFile(filepath.Join(data, "owner.key"))
	t.key = strings.TrimSpace(string(key))
	return t, err
}

func (t *target) end() error {
	if err := t.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	return t.cmd.Wait()
}

// watchMemory looks at the memory of the service now and then, until the most is asked for.
func (t *target) watchMemory(ctx context.Context) (most func() int64) {
	ctx, cancel := context.WithCancel(ctx)
	var highest atomic.Int64
	done := make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(100 * time.Millisecond)
		defer tick.Stop()
		for {
			highest.Store(max(highest.Load(), t.memory()))
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
		}
	}()
	return func() int64 { cancel(); <-done; return highest.Load() }
}

var residentLine = regexp.MustCompile(`VmRSS:\s+(\d+) kB`)

// memory returns how many bytes of memory the service has.
func (t *target) memory() int64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", t.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	found := residentLine.FindSubmatch(status)
	if found == nil {
		return 0
	}
	kilobytes, _ := strconv.ParseInt(string(found[1]), 10, 64) // digits
	return kilobytes << 10
}

// report prints what the users of each part got.
func report(quiet, under, after *outcome, most int64) {
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.AppendHeader(table.Row{"What", "", "Asked", "Answered", "503", "Failed", "p50", "p99", "Longest"})
	for _, name := range ordinaryNames {
		for _, part := range []struct {
			name string
			of   *outcome
		}{{"quiet", quiet}, {"under siege", under}, {"afterwards", after}} {
			s := part.of.of(name)
			t.AppendRow(
				table.Row{name, part.name, s.asked, s.good, s.busy, s.failed, s.share(0.5), s.share(0.99), s.share(1)},
			)
		}
	}
	t.AppendSeparator()
	for _, h := range hostile {
		s := under.of(h.name)
		t.AppendRow(
			table.Row{
				h.name,
				"under siege",
				s.asked,
				s.good,
				s.busy,
				s.failed,
				s.share(0.5),
				s.share(0.99),
				s.share(1),
			},
		)
	}
	t.Render()
	fmt.Printf("\nThe service had at most %.2f GB of memory under siege.\n", float64(most)/1e9)
	for _, name := range append(append([]string{}, ordinaryNames...), hostileNames()...) {
		if s := under.of(name); s.example != "" {
			fmt.Printf("For example %s failed: %s\n", name, s.example)
		}
	}
}

// verdict reports what must not be: an ordinary request that failed, or a service that is not
// well afterwards.
func verdict(ctx context.Context, t *target, under, after *outcome) error {
	var errs []error
	for _, name := range ordinaryNames {
		if s := under.of(name); s.failed > 0 || s.good == 0 {
			errs = append(
				errs,
				fmt.Errorf("%s under siege: %d of %d failed, %d answered", name, s.failed, s.asked, s.good),
			)
		}
		if s := after.of(name); s.failed > 0 || s.busy > 0 {
			errs = append(errs, fmt.Errorf("%s afterwards: %d failed and %d were refused", name, s.failed, s.busy))
		}
	}
	if status, body := t.get(ctx, "/readyz"); status != http.StatusOK {
		errs = append(errs, fmt.Errorf("the service is not ready afterwards: %d %s", status, body))
	}
	return errors.Join(errs...)
}
