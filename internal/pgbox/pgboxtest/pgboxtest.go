// Package pgboxtest gives tests a real PostgreSQL database each.
package pgboxtest

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/pgbox"
)

var (
	server    *pgbox.Server
	databases atomic.Int64
)

// Main runs the tests of a package with a server beside them. A package's
// TestMain calls it.
func Main(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "idlebeacon-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	server, err = pgbox.Start(
		context.Background(),
		filepath.Join(dir, "pg"),
		slog.New(slog.DiscardHandler),
		func(string) {},
	)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	code := m.Run()
	if err := server.Stop(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return code
}

// DSN returns the connection string of a new, empty database.
func DSN(t testing.TB) string {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), server.DSN())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	name := fmt.Sprintf("test%d", databases.Add(1))
	if _, err := conn.Exec(t.Context(), "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	return strings.Replace(server.DSN(), "dbname=idlebeacon", "dbname="+name, 1)
}
