package e2e

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/polltest"
)

// A cluster is a PostgreSQL server of an operator's own, on a port of its own.
type cluster struct {
	t    *testing.T
	dir  string
	port int
}

const programs = "/usr/lib/postgresql/15/bin"

// asPostgres makes a command that runs as the user that PostgreSQL runs as.
func asPostgres(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = "/"
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	if os.Geteuid() == 0 {
		if u, err := user.Lookup("postgres"); err == nil {
			uid, _ := strconv.ParseUint(u.Uid, 10, 32) // numbers, on Linux
			gid, _ := strconv.ParseUint(u.Gid, 10, 32)
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
		}
	}
	return cmd
}

func (c *cluster) do(name string, args ...string) {
	c.t.Helper()
	if out, err := asPostgres(c.t.Context(), filepath.Join(programs, name), args...).CombinedOutput(); err != nil {
		c.t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
}

// newCluster makes a place for a cluster.
func newCluster(t *testing.T) *cluster {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "idlebeacon-cluster-")
	if err != nil {
		t.Fatal(err)
	}
	if os.Geteuid() == 0 {
		if out, err := exec.Command("chown", "postgres", dir).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	c := &cluster{t: t, dir: filepath.Join(dir, "data"), port: port}
	t.Cleanup(func() {
		c.kill()
		os.RemoveAll(dir)
	})
	return c
}

// primary makes a cluster and starts it.
func primary(t *testing.T) *cluster {
	t.Helper()
	c := newCluster(t)
	c.do("initdb", "-D", c.dir, "--encoding=UTF8", "--locale=C", "--auth=trust", "--username=operator")
	c.start()
	return c
}

// standbyOf makes a copy that follows c by way of a port.
func standbyOf(c *cluster, port int) *cluster {
	c.t.Helper()
	s := newCluster(c.t)
	s.do(
		"pg_basebackup",
		"-D",
		s.dir,
		"-R",
		"--checkpoint=fast",
		"-d",
		fmt.Sprintf("host=127.0.0.1 port=%d user=operator", port),
	)
	s.start()
	return s
}

func (c *cluster) start() {
	c.t.Helper()
	c.do(
		"pg_ctl",
		"-D",
		c.dir,
		"-w",
		"-l",
		c.dir+".log",
		"-o",
		fmt.Sprintf(
			"-c listen_addresses=127.0.0.1 -c port=%d -c unix_socket_directories= -c max_connections=60",
			c.port,
		),
		"start",
	)
}

func (c *cluster) kill() {
	_ = asPostgres(
		context.Background(),
		filepath.Join(programs, "pg_ctl"),
		"-D",
		c.dir,
		"-m",
		"immediate",
		"-w",
		"stop",
	).Run()
	// it may not run
}

// freeze halts all processes of the server where they are, until thaw is called.
func (c *cluster) freeze() (thaw func()) {
	c.t.Helper()
	all := processesIn(c.t, c.dir)
	send := func(signal syscall.Signal) {
		for _, text := range all {
			pid, err := strconv.Atoi(text)
			if err == nil {
				err = syscall.Kill(pid, signal)
			}
			if err != nil && !errors.Is(err, syscall.ESRCH) { // a connection that has ended
				c.t.Errorf("process %s of the database: %v", text, err)
			}
		}
	}
	if len(all) == 0 {
		c.t.Fatal("there are no processes of the database")
	}
	send(syscall.SIGSTOP)
	thaw = sync.OnceFunc(func() { send(syscall.SIGCONT) })
	c.t.Cleanup(thaw)
	return thaw
}

func (c *cluster) dsn(database string) string { return dsnAt(c.port, database) }

func dsnAt(port int, database string) string {
	return fmt.Sprintf("host=127.0.0.1 port=%d user=operator dbname=%s sslmode=disable", port, database)
}

// query returns the first value that a query gives.
func (c *cluster) query(database, sql string) (value string) {
	c.t.Helper()
	conn, err := pgx.Connect(c.t.Context(), c.dsn(database))
	if err != nil {
		c.t.Fatal(err)
	}
	defer conn.Close(context.WithoutCancel(c.t.Context()))
	if err := conn.QueryRow(c.t.Context(), sql).Scan(&value); err != nil && !errors.Is(err, pgx.ErrNoRows) {
		c.t.Fatalf("%s: %v", sql, err)
	}
	return value
}

// A proxy stands between a service and its database. It can be led to another server, hold
// back all that goes through, or cut all connections.
type proxy struct {
	listener net.Listener

	mu    sync.Mutex
	moved *sync.Cond
	to    int // the port that it leads to
	held  bool
	conns map[net.Conn]bool
}

func newProxy(t *testing.T, to int) *proxy {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p := &proxy{listener: listener, to: to, conns: map[net.Conn]bool{}}
	p.moved = sync.NewCond(&p.mu)
	t.Cleanup(func() { listener.Close(); p.hold(false); p.cut() })
	go func() {
		for {
			in, err := listener.Accept()
			if err != nil {
				return
			}
			go p.serve(in)
		}
	}()
	return p
}

func (p *proxy) port() int { return p.listener.Addr().(*net.TCPAddr).Port }

func (p *proxy) serve(in net.Conn) {
	p.mu.Lock()
	to := p.to
	p.mu.Unlock()
	out, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", to))
	if err != nil {
		in.Close()
		return
	}
	p.mu.Lock()
	p.conns[in], p.conns[out] = true, true
	p.mu.Unlock()
	pass := func(to, from net.Conn) {
		room := make([]byte, 32<<10)
		for {
			n, err := from.Read(room)
			p.mu.Lock()
			for p.held {
				p.moved.Wait()
			}
			p.mu.Unlock()
			if n > 0 {
				if _, err := to.Write(room[:n]); err != nil {
					break
				}
			}
			if err != nil {
				break
			}
		}
		to.Close()
		from.Close()
	}
	go pass(in, out)
	pass(out, in)
	p.mu.Lock()
	delete(p.conns, in)
	delete(p.conns, out)
	p.mu.Unlock()
}

// hold keeps back all that goes through, without closing anything.
func (p *proxy) hold(held bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.held = held
	p.moved.Broadcast()
}

// cut closes all connections.
func (p *proxy) cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for c := range p.conns {
		c.Close()
	}
}

// lead leads new connections to another port, and cuts the others.
func (p *proxy) lead(to int) {
	p.mu.Lock()
	p.to = to
	p.mu.Unlock()
	p.cut()
}

// promote makes a standby a primary.
func (c *cluster) promote() {
	c.t.Helper()
	c.do("pg_ctl", "-D", c.dir, "-w", "promote")
	polltest.Until(
		c.t,
		"the standby to take changes",
		func() bool { return c.query("postgres", "SELECT pg_is_in_recovery()::text") == "false" },
	)
}

// copyFiles copies a directory with all that is in it and whom it belongs to.
func copyFiles(t *testing.T, from, to string) {
	t.Helper()
	if out, err := exec.Command("cp", "-a", from, to).CombinedOutput(); err != nil {
		t.Fatalf("copying %s: %v %s", from, err, out)
	}
}
