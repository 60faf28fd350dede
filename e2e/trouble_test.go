package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"

	"idlebeacon/api"
	"idlebeacon/internal/polltest"
)

func newItem(id string) api.Item {
	return api.Item{
		Type:       "Feature",
		ID:         id,
		Geometry:   api.Geometry{Type: "Point", Coordinates: json.RawMessage(`[-22,-38.5]`)},
		Properties: json.RawMessage(`{"name":"By hand","category":"mooring"}`), // as the demo's schema has it
	}
}

// get returns the status of an answer and its body.
func get(t *testing.T, url string) (status int, header http.Header, body string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), "GET", url, nil)
	if err != nil {
		t.Fatal(err)
	}
	if key := ownerOf(url); key != "" {
		request.Header.Set("Authorization", "Bearer "+key)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	all, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, response.Header, string(all)
}

const allMarkers = "/api/collections/huts/markers?bbox=-180,-90,180,90&zoom=3"

// TestTheDatabaseIsStartedAgain kills the database of a running service, twice: the map is
// there meanwhile, and edits go on.
func TestTheDatabaseIsStartedAgain(t *testing.T) {
	t.Parallel()
	data := filepath.Join(t.TempDir(), "data")
	p := start(t, data, "serve", "--log-format", "json", "--access-log")
	c := connect(t, p.url)
	if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Fatal(err)
	}
	for round := range 2 {
		if _, err := c.CreateItem(t.Context(), "huts", newItem(fmt.Sprint("before ", round))); err != nil {
			t.Fatal(err)
		}
		for _, pid := range databases(t, data) {
			if n, err := strconv.Atoi(pid); err == nil {
				_ = syscall.Kill(n, syscall.SIGKILL) // some end by themselves meanwhile
			}
		}
		for i := range 20 {
			if status, _, body := get(t, p.url+allMarkers); status != 200 || !strings.Contains(body, "before 0") {
				t.Fatalf("a view without a database: %d %s", status, body)
			}
			if status, header, body := get(t, fmt.Sprintf("%s/api/collections/huts/items?limit=%d", p.url,
				i+1)); status != 200 &&
				(status != 503 || header.Get("Retry-After") == "") {
				t.Fatalf("items without a database: %d %s", status, body)
			}
		}
		polltest.Until(t, "an edit", func() bool {
			_, err := c.CreateItem(t.Context(), "huts", newItem(fmt.Sprint("after ", round)))
			return err == nil
		})
	}
	polltest.Until(
		t,
		"the service to be ready",
		func() bool { status, _, _ := get(t, p.url+"/readyz"); return status == 200 },
	)
	if found := items(t, c, "huts"); len(found) != 4 {
		t.Errorf("%d items are there, want 4", len(found))
	}
	p.stop(t)
	said := p.said()
	for _, want := range []string{`"msg":"request"`, `"path":"/readyz"`, `"msg":"the database runs again"`,
		`"msg":"stopped"`} {
		if !strings.Contains(said, want) {
			t.Errorf("the log has no %s:\n%s", want, said)
		}
	}
}

// TestAStopEnds interrupts a service while somebody keeps the clock from it, so that an edit
// cannot end, and hangs up on another.
func TestAStopEnds(t *testing.T) {
	t.Parallel()
	for name, signal := range map[string]syscall.Signal{"SIGTERM": syscall.SIGTERM, "SIGHUP": syscall.SIGHUP} {
		t.Run(name, func(t *testing.T) {
			data := filepath.Join(t.TempDir(), "data")
			p := start(t, data, "serve", "--stop-timeout", "4s")
			c := connect(t, p.url)
			if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
				t.Fatal(err)
			}
			conn, err := pgx.Connect(
				t.Context(),
				fmt.Sprintf("host='%s' user=idlebeacon dbname=idlebeacon", filepath.Join(data, "pg")),
			)
			if err != nil {
				t.Fatal(err)
			}
			defer conn.Close(context.WithoutCancel(t.Context()))
			tx, err := conn.Begin(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			if _, err := tx.Exec(t.Context(), "SELECT change FROM clock FOR UPDATE"); err != nil {
				t.Fatal(err)
			}
			answered := make(chan error, 1)
			go func() {
				_, err := c.CreateItem(t.Context(), "huts", newItem("waits"))
				answered <- err
			}()
			polltest.Until(t, "the edit to wait", func() bool {
				_, _, body := get(t, p.url+"/metrics")
				return strings.Contains(body, "idlebeacon_waiting_writes 1\n")
			})
			if err := p.cmd.Process.Signal(signal); err != nil {
				t.Fatal(err)
			}
			if err := <-answered; err == nil {
				t.Error("an edit that cannot be was acknowledged")
			}
			<-p.exited
			if left := databases(t, data); len(left) > 0 {
				t.Errorf("database processes %v are left", left)
			}
			p = start(t, data, "serve")
			if found := items(t, connect(t, p.url), "huts"); len(found) != 0 {
				t.Errorf("an edit that failed is there: %v", found)
			}
		})
	}
}

// TestBackupAndRestore does what docs/OPERATING.md says of backups: a dump that goes into
// another database while the service runs, and a copy of the files of one that is stopped.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	server := primary(t)
	server.do("createdb", "-h", "127.0.0.1", "-p", strconv.Itoa(server.port), "-U", "operator", "beacon")
	p := start(t, t.TempDir(), "serve", "--dsn", server.dsn("beacon"), "--schema", "beacon")
	c := connect(t, p.url)
	if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Fatal(err)
	}
	for i := range 20 {
		if _, err := c.CreateItem(t.Context(), "huts", newItem(fmt.Sprint("saved ", i))); err != nil {
			t.Fatal(err)
		}
	}
	dump := filepath.Join(filepath.Dir(server.dir), "beacon.dump")
	at := []string{"-h", "127.0.0.1", "-p", strconv.Itoa(server.port), "-U", "operator"}
	server.do("pg_dump", append(at, "--format=custom", "--schema=beacon", "--file", dump, "beacon")...)
	if _, err := c.CreateItem(t.Context(), "huts", newItem("not saved")); err != nil {
		t.Fatal(err)
	}
	server.do("createdb", append(at, "restored")...)
	server.do("pg_restore", append(at, "--dbname=restored", "--exit-on-error", dump)...)
	restored := start(t, t.TempDir(), "serve", "--dsn", server.dsn("restored"), "--schema", "beacon")
	restored.hasKeysOf(p)
	if found := items(t, connect(t, restored.url), "huts"); len(found) != 20 {
		t.Errorf("%d items are restored, want 20", len(found))
	}
	if tagOf(t, restored.url, "saved%200") == tagOf(t, p.url, "saved%200") {
		t.Error("the restored database has the tags of the one that was saved")
	}
	// Over the database of a running service: what came after the dump is gone, and it says so.
	restore := append(
		[]string{},
		append(at, "--dbname=beacon", "--clean", "--if-exists", "--single-transaction", dump)...)
	polltest.Until(t, "the dump to be restored", func() bool {
		out, err := asPostgres(t.Context(), filepath.Join(programs, "pg_restore"), restore...).CombinedOutput()
		if err != nil && !strings.Contains(string(out), "deadlock detected") {
			t.Fatalf("restoring: %v\n%s", err, out)
		}
		return err == nil
	})
	polltest.Until(t, "the service to have the state that was restored", func() bool {
		status, _, body := get(t, p.url+allMarkers)
		ready, _, _ := get(t, p.url+"/readyz")
		return status == 200 && ready == 200 && strings.Contains(body, `"matched":20`)
	})
	if !strings.Contains(p.said(), "all is loaded anew") {
		t.Errorf("the log says nothing of it:\n%s", p.said())
	}
	if _, err := c.CreateItem(t.Context(), "huts", newItem("later")); err != nil {
		t.Errorf("an edit afterwards: %v", err)
	}

	// The files of a private database.
	data := filepath.Join(t.TempDir(), "data")
	own := start(t, data, "serve")
	fill := connect(t, own.url)
	if _, err := fill.CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Fatal(err)
	}
	if _, err := fill.CreateItem(t.Context(), "huts", newItem("saved")); err != nil {
		t.Fatal(err)
	}
	first := tagOf(t, own.url, "saved")
	own.stop(t)
	saved := filepath.Join(t.TempDir(), "saved")
	copyFiles(t, data, saved)
	again := start(t, saved, "serve")
	if found := items(t, connect(t, again.url), "huts"); len(found) != 1 {
		t.Errorf("the copy of the files has %d items, want 1", len(found))
	}
	if tagOf(t, again.url, "saved") == first {
		t.Error("the copy of the files has the tags of what it was copied from")
	}
	again.stop(t)
	own = start(t, data, "serve")
	if tagOf(t, own.url, "saved") != first {
		t.Error("a database that was only started again has other tags")
	}
}

func tagOf(t *testing.T, url, item string) string {
	t.Helper()
	status, header, body := get(t, url+"/api/collections/huts/items/"+item)
	if status != 200 || header.Get("ETag") == "" {
		t.Fatalf("%s: %d %s", item, status, body)
	}
	return header.Get("ETag")
}

func TestOptionsThatMakeNoSense(t *testing.T) {
	for option, want := range map[string]string{
		"--connections=2": "want at least 11", "--work-memory=1": "want at least 64",
		"--stop-timeout=1ms": "want at least 1s",
		"--keep-history=1m":  "want at least 1h", "--log-format=xml": "want text or json",
	} {
		if _, errs, status := command(t, nil, nil, "serve", option); status != 2 || !strings.Contains(errs, want) {
			t.Errorf("%s: status %d, %s", option, status, errs)
		}
	}
}

// TestAStartCanBeInterrupted interrupts a service at several moments of its first start, and
// starts it on what was left.
func TestAStartCanBeInterrupted(t *testing.T) {
	t.Parallel()
	data := filepath.Join(t.TempDir(), "data")
	for _, reached := range []string{"lock", "pg.new", filepath.Join("pg", "PG_VERSION"), filepath.Join("pg",
		"postmaster.pid")} {
		cmd := exec.Command(program, "serve", "--data", data, "--listen", "127.0.0.1:0")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		polltest.Until(t, reached, func() bool { _, err := os.Stat(filepath.Join(data, reached)); return err == nil })
		if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		_ = cmd.Wait() // it may have got as far as serving
		if left := databases(t, data); len(left) > 0 {
			t.Errorf("after %s database processes %v are left", reached, left)
		}
	}
	p := start(t, data, "serve")
	if _, err := connect(t, p.url).CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Error(err)
	}
}
