package pgbox

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
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
		s, err := Start(t.Context(), dir, log)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := start()
	query(t, s, "CREATE TABLE kept AS SELECT 1")
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if err := s.Stop(); err != nil {
		t.Fatalf("a second Stop: %v", err)
	}
	if left := processesIn(dir); len(left) > 0 {
		t.Fatalf("processes %v run after Stop", left)
	}

	s = start()
	query(t, s, "INSERT INTO kept VALUES (2)")
	if err := s.process.Kill(); err != nil {
		t.Fatal(err)
	}
	<-s.Exited()

	s = start() // over the lock of the killed server
	query(t, s, "INSERT INTO kept VALUES (3)")

	again := start() // its owner forgot it, as after a kill of the owner alone
	<-s.Exited()
	query(t, again, "DO $$ BEGIN IF (SELECT count(*) FROM kept) <> 3 THEN RAISE 'rows lost'; END IF; END $$")
	if err := again.Stop(); err != nil {
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
	if err := s.process.Signal(syscall.SIGINT); err != nil { // it ends by itself
		t.Fatal(err)
	}
	<-s.Exited()
	if err := s.Stop(); err != nil {
		t.Fatalf("Stop of a server that has ended: %v", err)
	}

	if err := os.WriteFile(filepath.Join(dir, "PG_VERSION"), []byte("9.6\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(t.Context(), dir, log); err == nil || !strings.Contains(err.Error(), "made by PostgreSQL 9.6") {
		t.Fatalf("a cluster of another version: %v", err)
	}
}

func TestLongPath(t *testing.T) {
	dir := filepath.Join(t.TempDir(), strings.Repeat("long", 30), "pg")
	s, err := Start(t.Context(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	query(t, s, "SELECT 1")
	if err := s.Stop(); err != nil {
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
	if _, err := Start(ctx, dir, slog.New(slog.DiscardHandler)); err == nil {
		t.Fatal("started with a context that had ended")
	}
	if left := processesIn(dir); len(left) > 0 {
		t.Fatalf("processes %v are left", left)
	}
}
