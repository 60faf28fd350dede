// Package e2e drives the built program from outside, as its users do: by its
// command line, over HTTP, and in a browser, with a real database behind it.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// program is the path of the built program.
var program string

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "idlebeacon-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	// With IDLEBEACON_RACE set the program has the race detector, and takes several times as long. It would sleep a
	// second when it ends, which is long for a command.
	if err := os.Setenv("GORACE", strings.TrimSpace(os.Getenv("GORACE")+" atexit_sleep_ms=0")); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	program = filepath.Join(dir, "idlebeacon")
	build := exec.Command("go", "build", "-o", program, "idlebeacon/cmd/idlebeacon")
	if os.Getenv("IDLEBEACON_RACE") != "" {
		build.Args = slices.Insert(build.Args, 2, "-race")
	}
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		return 1
	}
	defer stopShared()
	return m.Run()
}

// A process is a running service.
type process struct {
	cmd    *exec.Cmd
	url    string
	data   string
	exited chan struct{}
	err    error

	mu     sync.Mutex
	output bytes.Buffer
}

var urlInOutput = regexp.MustCompile(
	`Idle Beacon is ready: (https?://\S+)|(?:msg=serving url=|"msg":"serving","url":")(https?://[^\s"]+)`,
)

// ownerKeys has the owner key of each service that was started, by its address.
var ownerKeys sync.Map

// ownerOf returns the owner key of the service that an address is of, or "".
func ownerOf(address string) (key string) {
	ownerKeys.Range(func(url, of any) bool {
		if address == url || strings.HasPrefix(address, url.(string)+"/") {
			key = of.(string)
		}
		return key == ""
	})
	return key
}

// hasKeysOf lets a service be called with the owner key of another, whose database it has.
func (p *process) hasKeysOf(other *process) { ownerKeys.Store(p.url, ownerOf(other.url)) }

// launch starts the program with arguments and waits until it says where it
// serves, or ends.
func launch(data string, args ...string) (*process, error) {
	p := &process{data: data, exited: make(chan struct{})}
	args = append(args, "--data", data)
	if args[0] == "demo" && !slices.Contains(args, "--devices") { // those have tests of their own
		args = append(args, "--devices", "0")
	}
	if !slices.Contains(args, "--listen") {
		args = append(args, "--listen", "127.0.0.1:0")
	}
	p.cmd = exec.Command(program, args...)
	out, in, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	p.cmd.Stdout, p.cmd.Stderr = in, in
	if err := p.cmd.Start(); err != nil {
		return nil, errors.Join(err, in.Close(), out.Close())
	}
	in.Close()
	urls := make(chan string, 1)
	wanted := 2 // the group of the expression that counts
	if args[0] == "demo" {
		wanted = 1
	}
	read := make(chan struct{})
	go func() {
		defer close(read)
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			p.mu.Lock()
			p.output.WriteString(lines.Text() + "\n")
			p.mu.Unlock()
			if found := urlInOutput.FindStringSubmatch(lines.Text()); found != nil && found[wanted] != "" {
				urls <- found[wanted]
			}
		}
	}()
	go func() {
		p.err = p.cmd.Wait()
		<-read
		close(p.exited)
	}()
	select {
	case p.url = <-urls:
		p.url, _, _ = strings.Cut(p.url, "/#") // without the code that signs in
		key, err := os.ReadFile(filepath.Join(data, "owner.key"))
		if err == nil {
			ownerKeys.Store(p.url, strings.TrimSpace(string(key)))
		} else if !errors.Is(err, fs.ErrNotExist) { // on the database of another, which has it
			return nil, errors.Join(err, p.cmd.Process.Kill())
		}
		return p, nil
	case <-p.exited:
		return nil, fmt.Errorf("%v ended: %w\n%s", args, p.err, p.said())
	case <-time.After(2 * time.Minute):
		return nil, errors.Join(
			fmt.Errorf("%v does not say where it serves:\n%s", args, p.said()),
			p.cmd.Process.Kill(),
		)
	}
}

func start(t *testing.T, data string, args ...string) *process {
	t.Helper()
	p, err := launch(data, args...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.stop(t) })
	return p
}

func (p *process) said() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.output.String()
}

// stop interrupts the service as Ctrl-C does and waits for it.
func (p *process) stop(t *testing.T) {
	t.Helper()
	select {
	case <-p.exited:
		return
	default:
	}
	if err := p.cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Error(err)
	}
	<-p.exited
	if p.err != nil {
		t.Errorf("after Ctrl-C: %v\n%s", p.err, p.said())
	}
}

var (
	sharedDemo *process
	sharedDir  string
	sharedOnce sync.Once
	sharedErr  error
)

// demo returns a service with the demo data that tests share. They must leave its data as they are;
// those that change them for a while do not run in parallel.
func demo(t *testing.T) *process {
	t.Helper()
	sharedOnce.Do(func() {
		if sharedDir, sharedErr = os.MkdirTemp("", "idlebeacon-e2e-demo-"); sharedErr == nil {
			sharedDemo, sharedErr = launch(filepath.Join(sharedDir, "demo"), "demo")
		}
	})
	if sharedErr != nil {
		t.Fatal(sharedErr)
	}
	return sharedDemo
}

func stopShared() {
	if sharedDemo != nil {
		if err := sharedDemo.cmd.Process.Signal(syscall.SIGINT); err == nil {
			<-sharedDemo.exited
		}
	}
	if sharedDir != "" {
		if err := os.RemoveAll(sharedDir); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
	}
}

// command runs the program to its end. If it is to call a service that was started, it has the
// owner key of that, unless env says otherwise.
func command(t *testing.T, env []string, stdin io.Reader, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	for _, text := range slices.Concat(env, args) {
		_, address, _ := strings.Cut(text, "http")
		if key := ownerOf("http" + address); key != "" {
			env = append([]string{"IDLEBEACON_KEY=" + key}, env...)
			break
		}
	}
	cmd.Env = append(os.Environ(), env...)
	cmd.Stdin = stdin
	var out, errs strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatalf("%v: %v", args, err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// databases returns the PostgreSQL processes that run in a data directory.
func databases(t *testing.T, data string) []string {
	t.Helper()
	return processesIn(t, filepath.Join(data, "pg"))
}

// processesIn returns the processes that have a directory as their own.
func processesIn(t *testing.T, dir string) []string {
	t.Helper()
	links, err := filepath.Glob("/proc/[0-9]*/cwd")
	if err != nil {
		t.Fatal(err)
	}
	var found []string
	for _, link := range links {
		if cwd, err := os.Readlink(link); err == nil && cwd == dir {
			found = append(found, filepath.Base(filepath.Dir(link)))
		}
	}
	return found
}

// commands runs the command line against one service.
type commands struct {
	t      *testing.T
	server string
}

// run runs a command that must end with the given status, and returns what it prints.
func (c *commands) run(want int, args ...string) string {
	c.t.Helper()
	out, errs, status := command(c.t, nil, nil, append(args, "--server", c.server)...)
	if status != want {
		c.t.Fatalf("%v: status %d, want %d\n%s%s", args, status, want, out, errs)
	}
	return out + errs
}

// contains checks that all texts are in what a command prints.
func (c *commands) contains(out string, all ...string) {
	c.t.Helper()
	for _, want := range all {
		if !strings.Contains(out, want) {
			c.t.Errorf("no %q in\n%s", want, out)
		}
	}
}
