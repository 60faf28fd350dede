package e2e

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"idlebeacon/api"
	"idlebeacon/client"
	isles "idlebeacon/demo"
	"idlebeacon/internal/polltest"
)

// faults skips a test that takes its time: `make faults` runs them.
func faults(t *testing.T) {
	t.Helper()
	if os.Getenv("IDLEBEACON_FAULTS") == "" {
		t.Skip("IDLEBEACON_FAULTS is not set; make faults sets it")
	}
}

// newBeacon makes a database for services on a cluster.
func newBeacon(c *cluster) {
	c.t.Helper()
	c.do("createdb", "-h", "127.0.0.1", "-p", strconv.Itoa(c.port), "-U", "operator", "beacon")
}

func ready(t *testing.T, p *process) bool {
	status, _, _ := get(t, p.url+"/readyz")
	return status == http.StatusOK
}

// TestFailoverToAStandbyThatIsBehind lets a standby take over that has not got the last five
// edits. Two services must notice, show what the standby has, and go on.
func TestFailoverToAStandbyThatIsBehind(t *testing.T) {
	faults(t)
	first := primary(t)
	newBeacon(first)
	replication := newProxy(t, first.port)
	second := standbyOf(first, replication.port())
	way := newProxy(t, first.port)
	dsn := dsnAt(way.port(), "beacon")
	services := []*process{start(t, t.TempDir(), "serve", "--dsn", dsn), start(t, t.TempDir(), "serve", "--dsn", dsn)}
	services[1].hasKeysOf(services[0])
	c := connect(t, services[0].url)
	if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Fatal(err)
	}
	for i := range 20 {
		if _, err := c.CreateItem(t.Context(), "huts", newItem(fmt.Sprint("kept ", i))); err != nil {
			t.Fatal(err)
		}
	}
	polltest.Until(t, "the standby to have all", func() bool {
		return first.query(
			"postgres",
			"SELECT (pg_current_wal_lsn() = replay_lsn)::text FROM pg_stat_replication",
		) == "true"
	})
	replication.hold(true)
	for i := range 5 {
		if _, err := c.CreateItem(t.Context(), "huts", newItem(fmt.Sprint("lost ", i))); err != nil {
			t.Fatal(err)
		}
	}
	for _, p := range services {
		polltest.Until(
			t,
			"all edits",
			func() bool { _, _, body := get(t, p.url+allMarkers); return strings.Contains(body, `"matched":25`) },
		)
	}
	_, header, _ := get(t, services[0].url+"/api/collections/huts/items/kept%200")
	before := header.Get("ETag")

	// A service that is led to the standby before it has taken over does not start.
	if _, errs, status := command(t, nil, nil, "serve", "--dsn", second.dsn("beacon"), "--listen",
		"127.0.0.1:0"); status != 1 ||
		!strings.Contains(errs, "read-only") {
		t.Errorf("on a standby: status %d, %s", status, errs)
	}
	first.kill()
	replication.cut() // with what it holds back
	replication.hold(false)
	way.lead(second.port) // the standby does not take changes yet
	for _, p := range services {
		polltest.Until(t, "a service to be not ready", func() bool { return !ready(t, p) })
	}
	second.promote()
	for i, p := range services {
		polltest.Until(t, "the state of the standby", func() bool {
			status, _, body := get(t, p.url+allMarkers)
			return status == 200 && ready(t, p) && strings.Contains(body, `"matched":20`)
		})
		if !strings.Contains(p.said(), "all is loaded anew") {
			t.Errorf("service %d says nothing of it", i)
		}
	}
	_, header, _ = get(t, services[0].url+"/api/collections/huts/items/kept%200")
	if after := header.Get("ETag"); after == before {
		t.Errorf("the tag is %s as before", after)
	}
	for i, p := range services {
		if _, err := connect(t, p.url).CreateItem(t.Context(), "huts", newItem(fmt.Sprint("new ", i))); err != nil {
			t.Errorf("an edit by service %d: %v", i, err)
		}
		if _, _, body := get(t, p.url+allMarkers); !strings.Contains(body, fmt.Sprintf(`"matched":%d`, 21+i)) {
			t.Errorf("after its edit service %d has %s", i, body)
		}
	}
}

// TestALineThatGoesDead holds back all that goes between a service and its database: it says
// so promptly, serves what it has, refuses edits in time, and catches up.
func TestALineThatGoesDead(t *testing.T) {
	faults(t)
	server := primary(t)
	newBeacon(server)
	way := newProxy(t, server.port)
	cutOff := start(t, t.TempDir(), "serve", "--dsn", dsnAt(way.port(), "beacon"))
	other := start(t, t.TempDir(), "serve", "--dsn", server.dsn("beacon"))
	other.hasKeysOf(cutOff)
	c := connect(t, other.url)
	if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.CreateItem(t.Context(), "huts", newItem("before")); err != nil {
		t.Fatal(err)
	}
	matched := func(p *process, n int) bool {
		_, _, body := get(t, p.url+allMarkers)
		return strings.Contains(body, fmt.Sprintf(`"matched":%d`, n))
	}
	polltest.Until(t, "both to have it", func() bool { return matched(cutOff, 1) && matched(other, 1) })
	for _, how := range []string{"held", "cut"} {
		way.hold(true)
		if how == "cut" {
			way.cut()
		}
		if _, err := c.CreateItem(t.Context(), "huts", newItem("while "+how)); err != nil {
			t.Errorf("an edit by the other service: %v", err)
		}
		polltest.Until(t, how+": not ready", func() bool { return !ready(t, cutOff) })
		if status, _, _ := get(t, cutOff.url+allMarkers); status != 200 {
			t.Errorf("%s: a view is answered %d", how, status)
		}
		if _, err := connect(t, cutOff.url).CreateItem(t.Context(), "huts", newItem("never "+how)); !isStatus(
			err,
			http.StatusServiceUnavailable,
		) {
			t.Errorf("%s: an edit: %v", how, err)
		}
		way.hold(false)
		polltest.Until(t, how+": ready again", func() bool { return ready(t, cutOff) })
	}
	polltest.Until(t, "both to have the same", func() bool {
		_, _, a := get(t, cutOff.url+allMarkers)
		_, _, b := get(t, other.url+allMarkers)
		return a == b && strings.Contains(a, "before")
	})
}

func isStatus(err error, status int) bool {
	e, ok := err.(*client.Error)
	return ok && e.Status == status
}

// TestAServiceThatHangs stops one of three services, as often as it takes to catch it with the
// clock in its hands. The others go on without it, and it catches up when it wakes.
func TestAServiceThatHangs(t *testing.T) {
	faults(t)
	server := primary(t)
	newBeacon(server)
	var services []*process
	for range 3 {
		services = append(services, start(t, t.TempDir(), "serve", "--dsn", server.dsn("beacon")))
		services[len(services)-1].hasKeysOf(services[0])
	}
	c := connect(t, services[0].url)
	if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Fatal(err)
	}
	var stop atomic.Bool
	var writers sync.WaitGroup
	var acknowledged sync.Map
	for w := range 6 {
		c := connect(t, services[w%3].url)
		writers.Go(func() {
			for i := 0; !stop.Load(); i++ {
				id := fmt.Sprintf("%d-%d", w, i)
				if _, err := c.CreateItem(t.Context(), "huts", newItem(id)); err == nil {
					acknowledged.Store(id, true)
				}
			}
		})
	}
	caught := 0
	for range 6 {
		if err := services[2].cmd.Process.Signal(syscall.SIGSTOP); err != nil {
			t.Fatal(err)
		}
		holds := server.query(
			"beacon",
			"SELECT count(*)::text FROM pg_stat_activity WHERE state = 'idle in transaction'",
		) != "0"
		if holds {
			caught++
		}
		// Whoever holds it, the others' edits are committed in the end.
		for i, p := range services[:2] {
			polltest.Until(t, "an edit beside a service that hangs", func() bool {
				_, err := connect(
					t,
					p.url,
				).CreateItem(t.Context(), "huts", newItem(fmt.Sprintf("beside-%d-%d", i, time.Now().UnixNano())))
				return err == nil
			})
		}
		if err := services[2].cmd.Process.Signal(syscall.SIGCONT); err != nil {
			t.Fatal(err)
		}
		polltest.Until(t, "it to be ready again", func() bool { return ready(t, services[2]) })
	}
	stop.Store(true)
	writers.Wait()
	t.Logf("%d of 6 times it had the clock in its hands", caught)
	var there map[string]bool
	for i, p := range services {
		found := map[string]bool{}
		for _, item := range items(t, connect(t, p.url), "huts") {
			found[item.ID] = true
		}
		if there == nil {
			there = found
		} else if len(found) != len(there) {
			t.Errorf("service %d has %d items, the first %d", i, len(found), len(there))
		}
	}
	acknowledged.Range(func(id, _ any) bool {
		if !there[id.(string)] {
			t.Errorf("%s was acknowledged and is gone", id)
		}
		return true
	})
	for _, p := range services {
		polltest.Until(t, "the same map everywhere", func() bool {
			_, a, one := get(t, services[0].url+allMarkers)
			_, b, two := get(t, p.url+allMarkers)
			return one == two && a.Get("ETag") == b.Get("ETag")
		})
	}
}

// TestADiskThatIsFull keeps a private database on a small disk, and fills that.
func TestADiskThatIsFull(t *testing.T) {
	faults(t)
	if os.Geteuid() != 0 {
		t.Skip("only root may mount a small disk")
	}
	disk := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=400m,mode=0755", "none",
		disk).CombinedOutput(); err != nil {
		t.Skipf("no small disk can be mounted: %v %s", err, out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", disk).Run() })
	data := filepath.Join(disk, "data")
	p := start(t, data, "serve")
	c := connect(t, p.url)
	var file bytes.Buffer
	if err := isles.New(1).WritePlaces(&file, 100_000); err != nil {
		t.Fatal(err)
	}
	if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.CreateItem(t.Context(), "huts", newItem("first")); err != nil {
		t.Fatal(err)
	}
	ballast := filepath.Join(disk, "ballast")
	fill := func(left int64) {
		t.Helper()
		var s syscall.Statfs_t
		if err := syscall.Statfs(disk, &s); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(ballast, make([]byte, int64(s.Bavail)*s.Bsize-left), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	fill(80 << 20)
	_, err := c.Import(t.Context(), "huts", bytes.NewReader(file.Bytes()), client.ImportOptions{FileName: "huts.csv"})
	if !isStatus(err, http.StatusInsufficientStorage) || !strings.Contains(err.Error(), "needs about") {
		t.Errorf("an import without room: %v", err)
	}
	if err := os.Remove(ballast); err != nil {
		t.Fatal(err)
	}
	fill(0)
	var refused error
	for i := 0; refused == nil && i < 3000; i++ {
		_, refused = c.CreateItem(t.Context(), "huts", api.Item{
			Type: "Feature", ID: fmt.Sprint("large ", i), Geometry: api.Geometry{Type: "Point", Coordinates: []byte(
				`[1,2]`)},
			Properties: fmt.Appendf(nil, `{"text":%q}`, strings.Repeat(fmt.Sprint(i, " "), 100_000)),
		})
	}
	if !isStatus(refused, http.StatusInsufficientStorage) && !isStatus(refused, http.StatusServiceUnavailable) {
		t.Errorf("an edit without room: %v", refused)
	}
	if status, _, body := get(t, p.url+allMarkers); status != 200 || !strings.Contains(body, "matched") {
		t.Errorf("a view without room: %d", status)
	}
	if err := os.Remove(ballast); err != nil {
		t.Fatal(err)
	}
	polltest.Until(t, "edits again", func() bool {
		_, err := c.CreateItem(t.Context(), "huts", newItem(fmt.Sprint("again ", time.Now().UnixNano())))
		return err == nil
	})
	p.stop(t)
	fill(1 << 20)
	if _, errs, status := command(t, nil, nil, "serve", "--data", data, "--listen", "127.0.0.1:0"); status != 1 ||
		!strings.Contains(errs, "make room there") {
		t.Errorf("starting without room: status %d, %s", status, errs)
	}
}

// TestKillsDuringAnImport kills a service and its database at many moments of an import: it is
// whole or not there, and what is noted of it is right.
func TestKillsDuringAnImport(t *testing.T) {
	faults(t)
	var file bytes.Buffer
	if err := isles.New(1).WritePlaces(&file, 40_000); err != nil {
		t.Fatal(err)
	}
	data := filepath.Join(t.TempDir(), "data")
	load := func(c *client.Client, name string) error {
		_, err := c.Import(
			t.Context(),
			name,
			bytes.NewReader(file.Bytes()),
			client.ImportOptions{FileName: "huts.csv", Create: &api.NewCollection{ID: name}},
		)
		return err
	}
	p := start(t, data, "serve")
	began := time.Now()
	if err := load(connect(t, p.url), "undisturbed"); err != nil {
		t.Fatal(err)
	}
	took := time.Since(began)
	p.stop(t)
	const rounds = 14
	whole, absent := 0, 0
	for round := range rounds {
		p := start(t, data, "serve")
		c := connect(t, p.url)
		name := fmt.Sprint("huts-", round)
		done := make(chan error, 1)
		go func() { done <- load(c, name) }()
		// A little later each time, until one has time to end.
		select {
		case err := <-done:
			done <- err
		case <-time.After(time.Duration(round) * 2 * took / rounds):
		}
		if err := p.cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		for _, pid := range databases(t, data) {
			if n, err := strconv.Atoi(pid); err == nil && round%2 == 0 {
				_ = syscall.Kill(n, syscall.SIGKILL)
			}
		}
		<-p.exited
		imported := <-done
		p = start(t, data, "serve")
		c = connect(t, p.url)
		found, err := c.Collection(t.Context(), name)
		switch {
		case client.IsNotFound(err) && imported != nil:
			absent++
		case err == nil && found.Count == 40_000:
			whole++
		default:
			t.Errorf(
				"round %d: the import ended with %v, and there are %d places, %v",
				round,
				imported,
				found.Count,
				err,
			)
		}
		p.stop(t)
	}
	t.Logf("%d imports are whole, %d not there", whole, absent)
	if whole == 0 || absent == 0 {
		t.Errorf("%d imports are whole, %d not there: the kills came too early or too late", whole, absent)
	}
}
