package e2e

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/polltest"
)

// connect returns a client with the owner key of a service that was started.
func connect(t *testing.T, url string) *client.Client {
	t.Helper()
	c, err := client.New(url, client.WithKey(ownerOf(url)))
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// items returns all items of a collection, page by page.
func items(t *testing.T, c *client.Client, collection string) []api.Item {
	t.Helper()
	var all []api.Item
	for after := ""; ; {
		page, err := c.Items(t.Context(), collection, client.ItemsOptions{After: after, Limit: 1000})
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, page.Features...)
		if len(all) >= page.NumberMatched || len(page.Features) == 0 {
			return all
		}
		after = all[len(all)-1].ID
	}
}

func TestMarkersAddUpToThePlaces(t *testing.T) {
	t.Parallel()
	url := demo(t).url
	for _, zoom := range []string{"0", "5", "9.5", "12", "16", "20"} {
		out, errs, status := command(t, nil, nil, "markers", "--server", url, "--zoom", zoom, "--json")
		var m api.Markers
		if err := json.Unmarshal([]byte(out), &m); err != nil || status != 0 {
			t.Fatalf("status %d: %v\n%s", status, err, errs)
		}
		total := 0
		for _, f := range m.Features {
			total += max(1, f.Properties.Count)
		}
		if total != 2400 || m.Matched != 2400 {
			t.Errorf("zoom %s: markers add up to %d, matched %d, want 2400", zoom, total, m.Matched)
		}
	}
	out, _, _ := command(t, []string{"IDLEBEACON_SERVER=" + url}, nil, "markers", "--zoom", "9")
	if !strings.Contains(out, "2400 places in the box") || !strings.Contains(out, "mooring") {
		t.Errorf("the table is\n%s", out)
	}
}

func TestNearAgreesWithBruteForce(t *testing.T) {
	t.Parallel()
	url := demo(t).url
	all := items(t, connect(t, url), "brindlemere")
	if len(all) != 2400 {
		t.Fatalf("%d items", len(all))
	}
	for _, from := range []geo.Point{{Lon: -22, Lat: -38.5}, {Lon: -21.7, Lat: -38.6}, {Lon: 158, Lat: 38.5}} {
		type hit struct {
			id     string
			metres float64
		}
		var want []hit
		for _, item := range all {
			at, ok := item.Geometry.Position()
			if !ok {
				t.Fatalf("%s is a %s", item.ID, item.Geometry.Type)
			}
			p := geo.Point(at)
			want = append(want, hit{item.ID, geo.Distance(from, p)})
		}
		slices.SortFunc(want, func(a, b hit) int { return cmp.Compare(a.metres, b.metres) })
		out, errs, status := command(t, nil, nil, "near", "--server", url, "--json", "--limit", "25",
			"--lat", fmt.Sprint(from.Lat), "--lon", fmt.Sprint(from.Lon))
		var n api.Neighbours
		if err := json.Unmarshal([]byte(out), &n); err != nil || status != 0 {
			t.Fatalf("status %d: %v\n%s", status, err, errs)
		}
		for i, f := range n.Features {
			if d := f.Properties.Distance - want[i].metres; f.ID != want[i].id || d > 0.001 || d < -0.001 {
				t.Errorf(
					"from %v, number %d: %s at %v m, want %s at %v m",
					from,
					i,
					f.ID,
					f.Properties.Distance,
					want[i].id,
					want[i].metres,
				)
			}
		}
		if len(n.Features) != 25 {
			t.Errorf("%d found", len(n.Features))
		}
	}
}

func TestImportByCommandLine(t *testing.T) {
	t.Parallel()
	p := start(t, filepath.Join(t.TempDir(), "data"), "serve")
	env := []string{"IDLEBEACON_SERVER=" + p.url}
	dir := t.TempDir()
	write := func(name, content string) string {
		t.Helper()
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		return file
	}
	huts := write(
		"huts.csv",
		"id;name;kind;lat;lon;postcode\n1;Wren;shelter;-38.5;-22;00417\n2;Tern;shelter;-138.5;-22;1\n3;Auk;;-38.51;"+
			"-22.01;00012\n",
	)
	taps := write(
		"taps.geojson",
		`{"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"Point","coordinates":[-22,`+
			`-38.5]},"properties":{"name":"Pump"}}]}`,
	)
	config := write("config.yaml", "into: huts\n")
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"collections"}, 0, "There are no collections yet"},
		{[]string{"import", huts, "--into", "huts", "--dry-run"}, 3, "2 rows could be imported into huts"},
		{[]string{"markers"}, 1, "no collection yet"},
		{[]string{"import", huts, "--config", config}, 3, "In huts: 2 new, 0 replaced, 0 unchanged."},
		{[]string{"import", huts, "--into", "huts"}, 3, "row 3: latitude: is -138.5; want -90 to 90"},
		{[]string{"import", huts, "--into", "huts"}, 3, "In huts: 0 new, 0 replaced, 2 unchanged."},
		{[]string{"near", "--lat", "-38.5", "--lon", "-22"}, 0, "Wren"},
		{[]string{"import", taps, "--into", "taps"}, 0, "1 row has no id: importing the file again would add it " +
			"again."},
		{[]string{"markers"}, 2, "say which collection with --collection: there are huts, taps"},
		{[]string{"markers", "--collection", "taps", "--zoom", "5"}, 0, "1 place in the box"},
		{[]string{"markers", "--collection", "taps,huts", "--zoom", "5"}, 0, "2 huts, 1 taps"},
		{[]string{"members", "--collection", "taps,huts", "--lat", "-38.5", "--lon", "-22", "--zoom", "3",
			"--limit", "2"}, 0,
			"More follow: add --after 'huts/3'"},
		{[]string{"shapes", "--collection", "taps,huts"}, 0, "0 shapes to draw."},
		{[]string{"markers", "--collection", "taps,huts", "--select", "huts.category=shelter"}, 0, "huts: 1 place in " +
			"the box."},
		{[]string{"markers", "--collection", "taps,huts", "--category", "shelter"}, 2, "--select taps.name=Lee"},
		{[]string{"markers", "--collection", "taps", "--select", "taps.name=P"}, 2, "--select is for several " +
			"collections"},
		{[]string{"markers", "--collection", "taps,huts", "--select", "quays.name=P"}, 2, `"quays" is not one of the`},
		{[]string{"markers", "--collection", "tapes"}, 1, `no collection "tapes"`},
		{[]string{"import", filepath.Join(dir, "none.csv"), "--into", "huts"}, 2, "no such file"},
		{[]string{"import", huts}, 2, "--into COLLECTION"},
		{[]string{"import", huts, "--into", "huts", "--lat-column", "north"}, 2, `no column "north"`},
		{[]string{"import", huts, "--into", "Not This"}, 2, "not usable as the id of a collection"},
		{[]string{"collections", "create", "empty", "--title", "Nothing yet"}, 0, "Made collection empty"},
		{[]string{"collections", "delete", "huts"}, 2, "deletes collection huts with 2 items; add --yes"},
		{[]string{"collections", "delete", "huts", "--yes"}, 0, "Deleted collection huts"},
		{[]string{"near", "--lat", "-38.5"}, 2, "--lat and --lon"},
		{[]string{"near", "--latitude", "5"}, 2, "unknown flag"},
		{[]string{"markers", "--bbox", "1,2,3"}, 2, "has 3 numbers"},
		{[]string{"sreve"}, 2, "unknown command"},
		{[]string{"collections", "--server", "http://127.0.0.1:9"}, 1, "Is the service running?"},
		{[]string{"collections", "--server", "elsewhere"}, 2, "is neither the URL of a service nor the name of one"},
	} {
		out, errs, status := command(t, env, nil, c.args...)
		if status != c.status || !strings.Contains(out+errs, c.want) {
			t.Errorf("%v: status %d, want %d with %q\n%s%s", c.args, status, c.status, c.want, out, errs)
		}
	}
	out, errs, status := command(
		t,
		env,
		strings.NewReader("lat,lon,id\n1,2,x\n1,\"2"),
		"import",
		"-",
		"--into",
		"piped",
		"--json",
	)
	var report api.ImportReport
	if err := json.Unmarshal([]byte(out), &report); err != nil || status != 3 || report.Created != 1 ||
		report.Rejected != 1 {
		t.Errorf("from standard input: status %d, %v %+v\n%s", status, err, report, errs)
	}
}

// TestWhereOptionsComeFrom gives the limit of near in three places.
func TestWhereOptionsComeFrom(t *testing.T) {
	t.Parallel()
	url := demo(t).url
	config := filepath.Join(t.TempDir(), "config.yaml")
	if err := os.WriteFile(config, []byte("limit: 4\nserver: "+url+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	broken := filepath.Join(t.TempDir(), "broken.yaml")
	if err := os.WriteFile(broken, []byte("limit: [\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	base := []string{"near", "--lat", "-38.5", "--lon", "-22", "--json"}
	for _, c := range []struct {
		env  []string
		args []string
		want int
	}{
		{nil, []string{"--config", config}, 4},
		{[]string{"IDLEBEACON_CONFIG=" + config}, nil, 4},
		{[]string{"IDLEBEACON_LIMIT=3"}, []string{"--config", config}, 3},
		{[]string{"IDLEBEACON_LIMIT=3"}, []string{"--config", config, "--limit", "2"}, 2},
		{[]string{"IDLEBEACON_SERVER=" + url}, nil, 10},
	} {
		out, errs, status := command(t, c.env, nil, append(base, c.args...)...)
		var n api.Neighbours
		if err := json.Unmarshal([]byte(out), &n); err != nil || status != 0 || len(n.Features) != c.want {
			t.Errorf(
				"%v %v: status %d, %d places, want %d (%v)\n%s",
				c.env,
				c.args,
				status,
				len(n.Features),
				c.want,
				err,
				errs,
			)
		}
	}
	for _, c := range [][]string{{"--config", broken}, {"--config", "none.yaml"}} {
		if _, errs, status := command(t, nil, nil, append(base, c...)...); status != 2 ||
			!strings.Contains(errs, "reading the configuration file") {
			t.Errorf("%v: status %d, %s", c, status, errs)
		}
	}
	if _, errs, status := command(t, []string{"IDLEBEACON_LIMIT=many"}, nil, base...); status != 2 ||
		!strings.Contains(errs, "option limit") {
		t.Errorf("a wrong value in the environment: status %d, %s", status, errs)
	}
}

func TestWhatKeepsAServiceFromStarting(t *testing.T) {
	t.Parallel()
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer busy.Close()
	data := filepath.Join(t.TempDir(), "data")
	p := start(t, data, "serve")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"serve", "--data", data, "--listen", "127.0.0.1:0"}, fmt.Sprintf(
			"another Idle Beacon (process %d) uses the data directory", p.cmd.Process.Pid)},
		{[]string{"serve", "--data", t.TempDir(), "--listen", busy.Addr().String()}, "already listens on"},
		{[]string{"serve", "--data", t.TempDir(), "--listen", "127.0.0.1:0", "--tls-certificate", "none.pem", "--tls-key",
			"none.pem"}, "reading the certificate"},
		{[]string{"serve", "--data", t.TempDir(), "--listen", "8470"}, "want host:port"},
		{[]string{"serve", "--dsn", "host=127.0.0.1 port=9 user=x", "--listen", "127.0.0.1:0"},
			"connecting to the database"},
		{[]string{"serve", "--data", t.TempDir(), "--listen", "127.0.0.1:0", "--backdrop", "none.geojson"},
			"reading the backdrop"},
	} {
		_, errs, status := command(t, nil, nil, c.args...)
		if status != 1 || !strings.Contains(errs, c.want) {
			t.Errorf("%v: status %d, %s, want %q", c.args, status, errs, c.want)
		}
	}
	if _, errs, status := command(t, nil, nil, "serve", "--log", "loud"); status != 2 ||
		!strings.Contains(errs, "want debug, info, warn or error") {
		t.Errorf("a wrong level: status %d, %s", status, errs)
	}
}

func TestServiceWithADatabaseOfOnesOwn(t *testing.T) {
	t.Parallel()
	first := start(t, filepath.Join(t.TempDir(), "data"), "serve")
	dsn := fmt.Sprintf("host='%s' user=idlebeacon dbname=idlebeacon", filepath.Join(first.data, "pg"))
	unused := filepath.Join(t.TempDir(), "unused")
	second := start(t, unused, "serve", "--dsn", dsn)
	second.hasKeysOf(first)
	if _, err := connect(t, first.url).CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Fatal(err)
	}
	polltest.Until(t, "the collection at the second service", func() bool {
		_, err := connect(t, second.url).Collection(t.Context(), "huts")
		return err == nil
	})
	if _, err := os.Stat(unused); !os.IsNotExist(err) {
		t.Errorf("with --dsn the data directory was made: %v", err)
	}
}

// TestNothingIsLost kills a service and its database while edits arrive, starts
// again, and looks for every edit that was acknowledged.
func TestNothingIsLost(t *testing.T) {
	t.Parallel()
	data := filepath.Join(t.TempDir(), "data")
	p := start(t, data, "demo", "--places", "300")
	c := connect(t, p.url)
	acknowledged := make(chan string, 10_000)
	writers := make(chan struct{})
	for w := range 4 {
		go func() {
			defer func() { writers <- struct{}{} }()
			for i := 0; ; i++ {
				item := newItem(fmt.Sprintf("edit-%d-%d", w, i))
				if _, err := c.CreateItem(t.Context(), "brindlemere", item); err != nil {
					return
				}
				acknowledged <- item.ID
			}
		}()
	}
	for len(acknowledged) < 200 {
		select {
		case <-writers:
			t.Fatal("a writer gave up early")
		default:
		}
	}
	for _, pid := range databases(t, data) {
		if n, err := strconv.Atoi(pid); err == nil {
			_ = syscall.Kill(n, syscall.SIGKILL) // some end by themselves meanwhile
		}
	}
	if err := p.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	<-p.exited
	for range 4 {
		<-writers
	}
	close(acknowledged)

	p = start(t, data, "demo", "--places", "300")
	there := map[string]bool{}
	for _, item := range items(t, connect(t, p.url), "brindlemere") {
		there[item.ID] = true
	}
	for id := range acknowledged {
		if !there[id] {
			t.Errorf("%s was acknowledged and is gone", id)
		}
		delete(there, id)
	}
	if len(there) < 300 {
		t.Errorf("%d other places are left of 300", len(there))
	}
	p.stop(t)
	if left := databases(t, data); len(left) > 0 {
		t.Errorf("database processes %v run after the service has stopped", left)
	}
}

// TestDatabaseEndsWithItsService kills the service alone.
func TestDatabaseEndsWithItsService(t *testing.T) {
	t.Parallel()
	data := filepath.Join(t.TempDir(), "data")
	p := start(t, data, "serve")
	if len(databases(t, data)) == 0 {
		t.Fatal("no database runs")
	}
	if err := p.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	<-p.exited
	polltest.Until(t, "the end of the database", func() bool { return len(databases(t, data)) == 0 })
}

func boxAround(lat, lon, degrees float64) client.Box {
	return client.Box{West: lon - degrees, South: lat - degrees, East: lon + degrees, North: lat + degrees}
}
