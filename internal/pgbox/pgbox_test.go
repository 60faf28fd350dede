package pgbox

import (
	"context"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/polltest"
)

func query(t *testing.T, s *Server, sql string) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), s.DSN())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if _, err := conn.Exec(t.Context(), sql); err != nil {
		t.Fatal(err)
	}
}

// TestLife takes one cluster through what happens to it in the field.
func TestLife(t *testing.T) {
	log := slog.New(slog.DiscardHandler)
	closed := filepath.Join(t.TempDir(), "closed")
	if err := os.Mkdir(closed, 0o700); err != nil { // the server's own user cannot go through here
		t.Fatal(err)
	}
	dir := filepath.Join(closed, "it's a directory", "pg")
	start := func() *Server {
		t.Helper()
		s, err := Start(t.Context(), dir, log, func(string) {})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := start()
	query(t, s, "CREATE TABLE kept AS SELECT 1")
	if err := s.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := s.Stop(t.Context()); err != nil {
		t.Fatalf("a second Stop: %v", err)
	}
	if left := processesIn(dir); len(left) > 0 {
		t.Fatalf("processes %v run after Stop", left)
	}

	s = start()
	query(t, s, "INSERT INTO kept VALUES (2)")
	if err := s.current().process.Kill(); err != nil {
		t.Fatal(err)
	}
	<-s.Exited()

	s = start() // over the lock of the killed server
	query(t, s, "INSERT INTO kept VALUES (3)")

	again := start() // its owner forgot it, as after a kill of the owner alone
	<-s.Exited()
	query(t, again, "DO $$ BEGIN IF (SELECT count(*) FROM kept) <> 3 THEN RAISE 'rows lost'; END IF; END $$")
	if err := again.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}

	// A stale lock whose process number another process has.
	lock := strconv.Itoa(os.Getpid()) + "\n" + dir + "\n1\n5432\n\n\n         1         1\n"
	for _, name := range []string{"postmaster.pid", socketName + ".lock"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(lock), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s = start()
	if err := s.current().process.Signal(syscall.SIGINT); err != nil { // it ends by itself
		t.Fatal(err)
	}
	<-s.Exited()
	if err := s.Stop(t.Context()); err != nil {
		t.Fatalf("Stop of a server that has ended: %v", err)
	}

	if err := os.WriteFile(filepath.Join(dir, "PG_VERSION"), []byte("9.6\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(t.Context(), dir, log, func(string) {}); err == nil ||
		!strings.Contains(err.Error(), "made by PostgreSQL 9.6") {
		t.Fatalf("a cluster of another version: %v", err)
	}
}

// TestPathsThatAreNoSocketPaths has data directories that a socket cannot be told by.
func TestPathsThatAreNoSocketPaths(t *testing.T) {
	for _, name := range []string{strings.Repeat("long", 30), "with, a comma"} {
		t.Run(name[:4], func(t *testing.T) { testPath(t, filepath.Join(t.TempDir(), name, "pg")) })
	}
	t.Run("private temporary directory", func(t *testing.T) {
		private := filepath.Join(t.TempDir(), "private")
		if err := os.Mkdir(private, 0o700); err != nil {
			t.Fatal(err)
		}
		t.Setenv("TMPDIR", private)
		testPath(t, filepath.Join(private, "a,b", "pg"))
	})
}

func testPath(t *testing.T, dir string) {
	s, err := Start(t.Context(), dir, slog.New(slog.DiscardHandler), func(string) {})
	if err != nil {
		t.Fatal(err)
	}
	query(t, s, "SELECT 1")
	if err := s.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(s.tempDir); !os.IsNotExist(err) {
		t.Errorf("the temporary directory is still there: %v", err)
	}
}

func TestStartGivesUpWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	dir := filepath.Join(t.TempDir(), "pg")
	if _, err := Start(ctx, dir, slog.New(slog.DiscardHandler), func(string) {}); err == nil {
		t.Fatal("started with a context that had ended")
	}
	if left := processesIn(dir); len(left) > 0 {
		t.Fatalf("processes %v are left", left)
	}
}

// TestTheEnvironmentIsForOtherServers starts with variables that would lead clients astray.
func TestTheEnvironmentIsForOtherServers(t *testing.T) {
	for name, value := range map[string]string{
		"PGHOST": "192.0.2.1", "PGPORT": "1", "PGSSLMODE": "verify-full", "PGTARGETSESSIONATTRS": "standby",
		"PGSERVICE": "none",
		"PGDATA":    "/nowhere", "PGOPTIONS": "-c default_transaction_read_only=on",
	} {
		t.Setenv(name, value)
	}
	s, err := Start(t.Context(), filepath.Join(t.TempDir(), "pg"), slog.New(slog.DiscardHandler), func(string) {})
	if err != nil {
		t.Fatal(err)
	}
	query(t, s, "CREATE TABLE kept AS SELECT 1")
	if err := s.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
}

// TestRestart kills the server, leaves it a lock file that says nothing, and starts it again.
func TestRestart(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "pg")
	s, err := Start(t.Context(), dir, slog.New(slog.DiscardHandler), func(string) {})
	if err != nil {
		t.Fatal(err)
	}
	query(t, s, "CREATE TABLE kept AS SELECT 1")
	for _, empty := range []bool{false, true} {
		if err := s.current().process.Kill(); err != nil {
			t.Fatal(err)
		}
		<-s.Exited()
		if empty {
			polltest.Until(t, "the last of its processes to end", func() bool { return len(processesIn(s.dir)) == 0 })
			if err := os.WriteFile(filepath.Join(dir, "postmaster.pid"), nil, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if err := s.Restart(t.Context()); err != nil {
			t.Fatal(err)
		}
		query(t, s, "INSERT INTO kept VALUES (2)")
	}
	if err := s.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
}

func TestALargeLogIsPutAside(t *testing.T) {
	name := filepath.Join(t.TempDir(), "log")
	l, err := openLog(name)
	if err != nil {
		t.Fatal(err)
	}
	line := []byte(strings.Repeat("x", 1<<20-1) + "\n")
	for range 2*maxLog>>20 + 5 {
		if n, err := l.Write(line); n != len(line) || err != nil {
			t.Fatal(n, err)
		}
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{name, name + ".old"} {
		if info, err := os.Stat(name); err != nil || info.Size() > maxLog+1<<20 {
			t.Errorf("%s: %v, %v", name, info, err)
		}
	}
}

// TestARecoveryIsWaitedFor has a server that says that it is starting, for longer than one
// that says nothing is waited for; and one that says nothing.
func TestARecoveryIsWaitedFor(t *testing.T) {
	for said, want := range map[string]string{"57P03": "was not ready yet", "": "does not answer"} {
		dir := t.TempDir()
		listener, err := net.Listen("unix", filepath.Join(dir, socketName))
		if err != nil {
			t.Fatal(err)
		}
		defer listener.Close()
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				// A connection that is closed before its first message was read breaks that off.
				if _, err := conn.Read(make([]byte, 1024)); err != nil {
					conn.Close()
					continue
				}
				if said != "" {
					message := "SFATAL\x00VFATAL\x00C" + said + "\x00Mthe database system is starting up\x00\x00"
					_, _ = conn.Write(append([]byte{'E', 0, 0, 0, byte(len(message) + 4)}, message...))
				}
				conn.Close()
			}
		}()
		s := &Server{
			dir:       dir,
			socketDir: dir,
			log:       slog.New(slog.DiscardHandler),
			silence:   250 * time.Millisecond,
			run:       &run{exited: make(chan struct{})},
		}
		ctx, cancel := context.WithCancel(t.Context())
		told := 0
		err = s.waitReady(ctx, func(string) {
			if told++; told == 5 { // five times as long as a silent one is waited for
				cancel()
			}
		})
		if err == nil || !strings.Contains(err.Error(), want) || (told == 5) != (said != "") {
			t.Errorf("one that says %q: told %d times, %v", said, told, err)
		}
		cancel()
	}
}
