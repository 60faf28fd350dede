package httpapi

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"idlebeacon/api"
	"idlebeacon/internal/answers"
	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// TestTextsAreCheckedAtTheDoor sends what is no text wherever texts come in. None of it
// reaches the database, and edits beside it are carried out.
func TestTextsAreCheckedAtTheDoor(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	var writers sync.WaitGroup
	stop := make(chan struct{})
	var done atomic.Int64
	for w := range 4 {
		writers.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				default:
				}
				status, _, answer := f.call(
					"POST",
					"/api/collections/c/items",
					"application/geo+json",
					point(fmt.Sprint(w, "-", i), "1", "2", "{}"),
				)
				if status != 201 {
					t.Errorf("a good edit: %d %s", status, answer)
				}
				done.Add(1)
			}
		})
	}
	broken := []string{"%00", "%ff", "%ED%A0%80", "x%00y"}
	for range 30 {
		for _, text := range broken {
			f.want(400, "", "DELETE", "/api/collections/c/items/"+text, "")
		}
	}
	for _, text := range broken {
		for _, path := range []string{
			"/api/collections/c/items/" + text, "/api/collections/c/items/" + text + "/popup",
			"/api/collections/" + text, "/api/icons/" + text, "/api/imports/" + text,
			"/api/collections/c/items?after=" + text, "/api/imports?before=" + text,
			"/api/imports?collection=" + text, "/api/collections/c/items?category=" + text,
			"/api/collections/c/items?name=" + text, "/api/collections/c/items?sortby=" + text,
			"/api/collections/c/members?lat=1&lon=2&zoom=3&after=" + text,
			"/api/collections/c/items?filter=a+%3D+%27" + text + "%27",
			"/api/collections/c/export?format=" + text,
		} {
			f.want(400, "", "GET", path, "")
		}
		f.want(400, "", "PUT", "/api/icons/"+text, "<svg/>")
		f.want(400, "", "POST", "/api/collections/c/import?file_name="+text, "id,lat,lon\nq,1,2\n")
	}
	for _, body := range []string{`{"id":"x","title":"\ud800"}`, "{\"id\":\"x\",\"title\":\"\xff\"}",
		`{"id":"x","title":"\u0000"}`} {
		f.want(400, "", "POST", "/api/collections", body)
	}
	f.want(
		400,
		`"field":"id"`,
		"POST",
		"/api/collections/c/items",
		`{"type":"Feature","id":"\ud800","geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}`,
	)
	f.want(400, `"field":"properties"`, "POST", "/api/collections/c/items", point("k", "1", "2", `{"k":"\ud800"}`))
	f.want(400, `"field":"properties"`, "POST", "/api/collections/c/items", point("k", "1", "2", `{"k":1e400}`))
	f.want(400, ``, "PUT", "/api/collections/c/style", `{"popup":{"title":"\ud800"}}`)
	polltest.Until(t, "some edits beside it", func() bool { return done.Load() > 50 })
	close(stop)
	writers.Wait()
}

// TestPreconditions deletes items and asks again for what has not changed.
func TestPreconditions(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	with := func(method, path, header, value string) (status int, tag string) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), method, f.server.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set(header, value)
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		return response.StatusCode, response.Header.Get("ETag")
	}
	f.want(201, "", "POST", "/api/collections/c/items", point("a", "1", "2", "{}"))
	_, old := with("GET", "/api/collections/c/items/a", "Accept", "*/*")
	f.want(200, `"replaced":1`, "POST", "/api/collections/c/import", "id,lat,lon\na,2,2\n")
	status, tag := with("GET", "/api/collections/c/items/a", "If-None-Match", old)
	if status != 200 || tag == old {
		t.Errorf("an item that has changed: %d %s, before %s", status, tag, old)
	}
	if status, _ := with("GET", "/api/collections/c/items/a", "If-None-Match", tag); status != 304 {
		t.Errorf("an item that has not: %d", status)
	}
	if status, _ := with("DELETE", "/api/collections/c/items/a", "If-Match", old); status != 412 {
		t.Errorf("deleting what has changed: %d", status)
	}
	if status, _ := with("DELETE", "/api/collections/c/items/a", "If-Match",
		`"elsewhere-`+strings.SplitN(strings.Trim(tag,
			`"`), "-", 2)[1]+`"`); status != 412 {
		t.Errorf("deleting by the tag of another database: %d", status)
	}
	if status, _ := with("DELETE", "/api/collections/c/items/a", "If-Match", tag); status != 204 {
		t.Errorf("deleting what has not: %d", status)
	}
	_, tag = with("GET", "/api/collections/c/style", "Accept", "*/*")
	if status, _ := with("GET", "/api/collections/c/style", "If-None-Match", tag); status != 304 {
		t.Errorf("a style that has not changed: %d", status)
	}
	f.want(200, `"created":1`, "POST", "/api/collections/c/import", "id,lat,lon,category\nb,2,2,huts\n")
	if status, again := with("GET", "/api/collections/c/style", "If-None-Match", tag); status != 200 || again == tag {
		t.Errorf("a proposed style with another category: %d %s", status, again)
	}
}

// TestTagsTellDatabasesApart gives two databases the same edits but for a name: what one
// tagged is not taken for what the other has. Two processes on one database have the same.
func TestTagsTellDatabasesApart(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	fill := func(f *fixture, name string) {
		f.want(201, "", "POST", "/api/collections", `{"id":"c","name_property":"name"}`)
		f.want(201, "", "POST", "/api/collections/c/items", point("a", "1", "2", `{"name":"`+name+`"}`))
		f.want(
			201,
			"",
			"POST",
			"/api/collections/c/items",
			`{"type":"Feature","id":"s","geometry":{"type":"LineString","coordinates":[[1,2],[2,3]]},`+
				`"properties":{"name":"`+name+
				`"}}`,
		)
	}
	one, other := newFixtureOn(t, dsn), newFixture(t)
	fill(one, "here")
	fill(other, "there")
	beside := newFixtureOn(t, dsn)
	// What came and went leaves no trace, in a process that has seen it or one that has not.
	one.want(201, "", "POST", "/api/collections/c/items", point("gone", "1", "2", `{}`))
	one.want(204, "", "DELETE", "/api/collections/c/items/gone", "")
	later := newFixtureOn(t, dsn)
	change := func(f *fixture) string {
		var c api.Collection
		if err := json.Unmarshal([]byte(f.want(200, "", "GET", "/api/collections/c", "")), &c); err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(c.Change, c.ChangedAt, c.CreatedAt, c.OwnChange)
	}
	polltest.Until(t, "the other process to follow", func() bool { return change(beside) == change(one) })
	if change(later) != change(one) {
		t.Errorf("a process that started later says %s of the collection, the first %s", change(later), change(one))
	}
	for _, path := range []string{
		"/api/collections/c/markers?bbox=-10,-10,10,10&zoom=5",
		"/api/collections/c/markers?bbox=0.5,1,1.5,3&zoom=16",
		"/api/collections/c/shapes?bbox=-10,-10,10,10&zoom=5",
		"/api/collections/c/items/a", "/api/collections/c/items/a/popup", "/api/collections/c/style",
		"/api/icon-sheet", "/api/icons/anchor",
	} {
		get := func(f *fixture) (string, string) {
			t.Helper()
			status, header, body := f.call("GET", path, "", "")
			if status != 200 || header.Get("ETag") == "" {
				t.Fatalf("%s: %d, tag %s", path, status, header.Get("ETag"))
			}
			return header.Get("ETag"), body
		}
		tag, body := get(one)
		if foreign, _ := get(other); foreign == tag {
			t.Errorf("%s: another database has the same tag %s", path, tag)
		}
		for what, f := range map[string]*fixture{"followed": beside, "started later": later} {
			if same, text := get(f); same != tag || text != body {
				t.Errorf(
					"%s: a process that %s has the tag %s and says\n%s\nthe first has %s and\n%s",
					path,
					what,
					same,
					text,
					tag,
					body,
				)
			}
		}
	}
}

// TestASquareIsNotMixedIntoAnOlderView keeps squares of a newer state, and puts a view of an
// older one together.
func TestASquareIsNotMixedIntoAnOlderView(t *testing.T) {
	s := openService(t)
	if _, err := s.CreateCollection(t.Context(), store.Collection{ID: "c"}); err != nil {
		t.Fatal(err)
	}
	ask := service.MarkersQuery{Box: worldsBox, Zoom: 12, Options: defaultGathering}
	kept := answers.NewSquares[*service.Marker](8 << 20)
	for i := range 20 {
		add := service.Ask{Op: service.OpCreate, ID: fmt.Sprint(i), Feature: feature.Feature{At: pointIn(i)}}
		if _, err := s.EditItem(t.Context(), "c", add, nil); err != nil {
			t.Fatal(err)
		}
		older, err := s.Viewport(t.Context(), service.Layer{Collection: "c"}, ask)
		if err != nil {
			t.Fatal(err)
		}
		add.ID = fmt.Sprint("new ", i)
		if _, err := s.EditItem(t.Context(), "c", add, nil); err != nil {
			t.Fatal(err)
		}
		newer, err := s.Viewport(t.Context(), service.Layer{Collection: "c"}, ask)
		if err != nil {
			t.Fatal(err)
		}
		for _, view := range []*service.Viewport{newer, older} {
			got, done := kept.Append(nil, "q", view, markerForm(ask.Zoom))
			want, err := appendMarkers(nil, view, markerForm(ask.Zoom))
			if err != nil || !done {
				t.Fatal(err, done)
			}
			if strings.Join(lines(t, got), "\n") != strings.Join(lines(t, want), "\n") {
				t.Fatalf("from squares\n%s\nby itself\n%s", got, want)
			}
		}
	}
}

// raw sends bytes to the service and returns a reader of what comes back.
func (f *fixture) raw(text string) (net.Conn, *bufio.Reader) {
	f.t.Helper()
	conn, err := net.Dial("tcp", f.server.Listener.Addr().String())
	if err != nil {
		f.t.Fatal(err)
	}
	f.t.Cleanup(func() { conn.Close() })
	if _, err := io.WriteString(conn, text); err != nil {
		f.t.Fatal(err)
	}
	return conn, bufio.NewReader(conn)
}

// TestARefusedUploadGetsItsAnswer begins to send large bodies that are refused at once: the
// answer comes while they are still being sent, and all of them can be sent.
func TestARefusedUploadGetsItsAnswer(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	for path, want := range map[string]int{
		"/api/collections/none/import": 404, "/api/collections/c/import?nonsense=1": 400,
		"/api/collections/c/items": 413, "/api/nothing": 404, "/api/inspect?format=x": 400,
	} {
		const size = 40 << 20
		conn, answers := f.raw(
			fmt.Sprintf(
				"POST %s HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/csv\r\nContent-Length: %d\r\n\r\n",
				path,
				size,
			),
		)
		sent := make(chan error, 1)
		go func() {
			piece := make([]byte, 1<<20)
			for range size >> 20 {
				if _, err := conn.Write(piece); err != nil {
					sent <- err
					return
				}
			}
			sent <- nil
		}()
		response, err := http.ReadResponse(answers, nil)
		if err != nil {
			t.Errorf("%s: %v", path, err)
			continue
		}
		if response.StatusCode != want {
			t.Errorf("%s: %d, want %d", path, response.StatusCode, want)
		}
		if err := <-sent; err != nil {
			t.Errorf("%s: sending the rest: %v", path, err)
		}
	}
}

// TestNoSuccessThatWasNone closes the sending side of connections whose requests wait: there
// must be no answer that looks like a success.
func TestNoSuccessThatWasNone(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	f := newFixtureOn(t, dsn)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	holder, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer holder.Close(context.WithoutCancel(t.Context()))
	tx, err := holder.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(t.Context(), "SELECT change FROM clock FOR UPDATE"); err != nil {
		t.Fatal(err)
	}
	body := point("waits", "1", "2", "{}")
	conn, answers := f.raw(
		fmt.Sprintf(
			"POST /api/collections/c/items HTTP/1.1\r\nHost: localhost\r\nContent-Type: "+
				"application/json\r\nContent-Length: %d\r\n\r\n%s",
			len(body),
			body,
		),
	)
	if err := conn.(*net.TCPConn).CloseWrite(); err != nil {
		t.Fatal(err)
	}
	if response, err := http.ReadResponse(answers, nil); err == nil {
		t.Errorf("a request that was given up is answered %s", response.Status)
	}
	if err := tx.Rollback(t.Context()); err != nil {
		t.Fatal(err)
	}
}

// TestAStalledBodyIsAnswered begins to send bodies and does not go on: the answer says so, and
// the connection is not taken for the next request.
func TestAStalledBodyIsAnswered(t *testing.T) {
	f := newFixtureWith(t, pgboxtest.DSN(t), Options{Patience: 200 * time.Millisecond})
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	for path, header := range map[string]string{
		"/api/collections": "", "/api/collections/c/items": "", "/api/collections/c/import?format=csv": "",
		"/api/inspect?format=csv":                "",
		"/api/collections/c/import?dry_run=true": "", "/api/collections/c/import": "Prefer: respond-async\r\n",
	} {
		_, answers := f.raw(
			"POST " + path + " HTTP/1.1\r\nHost: localhost\r\n" + header + "Content-Length: 1000\r\n\r\nid,lat,lon\n",
		)
		response, err := http.ReadResponse(answers, nil)
		if err != nil {
			t.Errorf("%s: %v", path, err)
			continue
		}
		if response.StatusCode != http.StatusRequestTimeout || !response.Close {
			t.Errorf("%s: %s, to be closed: %v", path, response.Status, response.Close)
		}
	}
	f.want(200, `"count":0`, "GET", "/api/collections/c", "")
}

// TestSlowBodiesEnd holds the pace of clients against what it allows.
func TestSlowBodiesEnd(t *testing.T) {
	const patience = 30 * time.Second
	p := newPace(patience)
	if left := p.deadline(time.Time{}).Sub(time.Time{}); left != patience {
		t.Errorf("at first there are %v", left)
	}
	for range 1000 { // a byte now and then
		p.spend(patience/2, 1)
	}
	if left := p.deadline(time.Time{}).Sub(time.Time{}); left > 0 {
		t.Errorf("who dribbles has %v left", left)
	}
	p = newPace(patience)
	for range 1000 { // just fast enough
		p.spend(time.Second, slowestRate)
	}
	if left := p.deadline(time.Time{}).Sub(time.Time{}); left != patience {
		t.Errorf("who goes on has %v left", left)
	}
}

// TestTheDatabaseInTrouble kills the connections of a service, and lets another hold the
// clock: the answers are 503 with Retry-After, and later all is well again.
func TestTheDatabaseInTrouble(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	f := newFixtureOn(t, dsn)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	f.want(201, "", "POST", "/api/collections/c/items", point("a", "1", "2", "{}"))
	killer, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer killer.Close(context.WithoutCancel(t.Context()))
	for range 5 {
		if _, err := killer.Exec(t.Context(), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE "+
			"datname = current_database() AND pid <> pg_backend_pid()"); err != nil {
			t.Fatal(err)
		}
		for _, path := range []string{"/api/collections/c/items", "/api/collections/c/items/a"} {
			if status, header, answer := f.call("GET", path, "", ""); status != 200 &&
				(status != 503 || header.Get("Retry-After") == "") {
				t.Errorf("%s: %d %s", path, status, answer)
			}
		}
		id := fmt.Sprint(time.Now().UnixNano())
		if status, header, answer := f.call("POST", "/api/collections/c/items", "application/json", point(id, "1", "2",
			"{}")); status != 201 &&
			(status != 503 || header.Get("Retry-After") == "") {
			t.Errorf("an edit: %d %s", status, answer)
		}
		f.want(200, `"features":[{`, "GET", "/api/collections/c/markers?bbox=0,0,10,10&zoom=12", "")
	}
	polltest.Until(t, "edits again", func() bool {
		status, _, _ := f.call(
			"POST",
			"/api/collections/c/items",
			"application/json",
			point(fmt.Sprint(time.Now().UnixNano()), "1", "2", "{}"),
		)
		return status == 201
	})
	// Somebody hangs with the clock in their hands.
	tx, err := killer.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(t.Context(), "SELECT change FROM clock FOR UPDATE"); err != nil {
		t.Fatal(err)
	}
	status, header, answer := f.call(
		"POST",
		"/api/collections/c/items",
		"application/json",
		point("late", "1", "2", "{}"),
	)
	if status != 503 || header.Get("Retry-After") == "" {
		t.Errorf("while another holds the clock: %d %s", status, answer)
	}
	f.want(200, "", "GET", "/api/collections/c/items/a", "")
	if err := tx.Rollback(t.Context()); err != nil {
		t.Fatal(err)
	}
	f.want(201, "", "POST", "/api/collections/c/items", point("late", "1", "2", "{}"))
}

func TestMetrics(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	f.want(201, "", "POST", "/api/collections/c/items", point("a", "1", "2", "{}"))
	f.want(404, "", "GET", "/api/collections/none", "")
	answer := f.want(200, "", "GET", "/metrics", "")
	for _, want := range []string{
		`idlebeacon_requests_total{method="POST",route="/api/collections/{collection}/items",status="201"} 1`,
		`idlebeacon_requests_total{method="GET",route="/api/collections/{collection}",status="404"} 1`,
		"idlebeacon_ready 1", "idlebeacon_applied_change 2", "idlebeacon_places 1",
		"idlebeacon_edits_total 1", "idlebeacon_waiting_writes 0", "idlebeacon_notices_total 0",
		"idlebeacon_hook_messages_total 0",
	} {
		if !strings.Contains(answer, want+"\n") {
			t.Errorf("the metrics have no %s", want)
		}
	}
}

var (
	worldsBox        = geo.Box{West: -22.5, South: -38.8, East: -21.9, North: -38.2}
	defaultGathering = cluster.Default
)

// pointIn returns one of some positions in worldsBox, a few of which are close to each other.
func pointIn(i int) geo.Point {
	return geo.Point{Lon: -22.4 + 0.05*float64(i%5), Lat: -38.7 + 0.07*float64(i%3)}
}
