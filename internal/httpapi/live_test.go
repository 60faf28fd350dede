package httpapi

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
)

// A listener of a test reads a stream.
type listener struct {
	t      *testing.T
	url    string
	key    string
	id     string
	events chan event
	status int
	leave  context.CancelFunc
}

type event struct{ name, id, data string }

// listen opens a stream with further parameters and headers.
func listen(t *testing.T, url, key, parameters string, headers ...[2]string) *listener {
	t.Helper()
	ctx, leave := context.WithCancel(t.Context())
	l := &listener{t: t, url: url, key: key, events: make(chan event, 1000), leave: leave}
	t.Cleanup(leave)
	r := l.request(ctx, "GET", "/api/live"+parameters, "")
	for _, h := range headers {
		r.Header.Set(h[0], h[1])
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	if l.status = response.StatusCode; l.status != 200 {
		response.Body.Close()
		return l
	}
	if media := response.Header.Get("Content-Type"); media != "text/event-stream" {
		t.Errorf("the stream is %s", media)
	}
	go func() {
		defer response.Body.Close()
		defer close(l.events)
		var e event
		lines := bufio.NewScanner(response.Body)
		lines.Buffer(nil, 8<<20)
		for lines.Scan() {
			name, value, _ := strings.Cut(lines.Text(), ": ")
			switch name {
			case "event":
				e.name = value
			case "id":
				e.id = value
			case "data":
				e.data = value
			case "":
				if e.name != "" {
					l.events <- e
				}
				e = event{}
			}
		}
	}()
	var hello api.Hello
	if err := json.Unmarshal([]byte(l.next("hello").data), &hello); err != nil {
		t.Fatal(err)
	}
	l.id = hello.Listener
	return l
}

func (l *listener) request(ctx context.Context, method, path, body string) *http.Request {
	l.t.Helper()
	r, err := http.NewRequestWithContext(ctx, method, l.url+path, strings.NewReader(body))
	if err != nil {
		l.t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	if l.key != "" {
		r.Header.Set("Authorization", "Bearer "+l.key)
	}
	return r
}

// look says what is looked at.
func (l *listener) look(status int, views ...api.View) {
	l.t.Helper()
	body, err := json.Marshal(api.Views{Views: views})
	if err != nil {
		l.t.Fatal(err)
	}
	response, err := http.DefaultClient.Do(l.request(l.t.Context(), "PUT", "/api/live/"+l.id, string(body)))
	if err != nil {
		l.t.Fatal(err)
	}
	defer response.Body.Close()
	if response.StatusCode != status {
		l.t.Errorf("looking at %s: %d, want %d", body, response.StatusCode, status)
	}
}

// patience is how long an event may take that has to come.
const patience = 20 * time.Second

// next returns the next event, which has a name.
func (l *listener) next(name string) event {
	l.t.Helper()
	select {
	case e, open := <-l.events:
		if !open || e.name != name {
			l.t.Fatalf("got %+v (open: %v), want an event %s", e, open, name)
		}
		return e
	case <-time.After(patience):
		l.t.Fatalf("no event %s came", name)
	}
	panic("unreachable")
}

// view returns the next answer, which is that of a view.
func (l *listener) view(name string) (v api.ViewEvent) {
	l.t.Helper()
	if err := json.Unmarshal([]byte(l.next("view").data), &v); err != nil {
		l.t.Fatal(err)
	}
	if v.Name != name {
		l.t.Fatalf("got the view %+v, want %s", v, name)
	}
	return v
}

// ended waits until the stream has ended, without another event.
func (l *listener) ended() {
	l.t.Helper()
	select {
	case e, open := <-l.events:
		if open {
			l.t.Fatalf("got %+v, want the end", e)
		}
	case <-time.After(patience):
		l.t.Fatal("the stream has not ended")
	}
}

const hutMarkers = "/api/markers?collections=huts&bbox=-23,-39,-21,-38&zoom=12"

func TestViewsAreKeptUpToDate(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	f, other := newFixtureOn(t, dsn), newFixtureOn(t, dsn)
	f.edit(201, "POST", "/api/collections", `{"id":"huts","name_property":"name"}`)
	f.edit(201, "POST", "/api/collections", `{"id":"piers"}`)
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"Gull Hut"}`))
	header, body := f.edit(200, "GET", hutMarkers, "")
	l := listen(t, f.server.URL, "", "")
	l.look(204, api.View{Name: "m", Path: hutMarkers, ETag: header.Get("ETag")},
		api.View{Name: "p", Path: hutA + "/popup"}, api.View{Name: "c", Path: "/api/collections"})
	// What the listener has is not sent.
	got := map[string]string{}
	for range 2 {
		var v api.ViewEvent
		if err := json.Unmarshal([]byte(l.next("view").data), &v); err != nil {
			t.Fatal(err)
		}
		got[v.Name] = string(v.Answer)
	}
	if !strings.Contains(got["p"], "Gull Hut") || !strings.Contains(got["c"], `"piers"`) {
		t.Errorf("at first: %v", got)
	}
	l.look(204, api.View{Name: "m", Path: hutMarkers}, api.View{Name: "p", Path: hutA + "/popup"})
	// Edits elsewhere say nothing here; one of another process is seen.
	f.edit(201, "POST", "/api/collections/piers/items", hut("x", `{}`))
	f.edit(201, "POST", huts+"/items", `{"type":"Feature","id":"far","geometry":{"type":"Point","coordinates":[9,9]}}`)
	polltest.Until(t, "the other process has the item", func() bool {
		status, _, _ := other.call("GET", hutA, "", "")
		return status == 200
	})
	other.edit(200, "PATCH", hutA, `{"properties":{"name":"Seal Hut"}}`, ifMatch("*"))
	names := map[string]string{}
	for range 2 {
		var v api.ViewEvent
		if err := json.Unmarshal([]byte(l.next("view").data), &v); err != nil {
			t.Fatal(err)
		}
		names[v.Name] = string(v.Answer)
		if v.Name == "m" && v.ETag == header.Get("ETag") {
			t.Error("another answer has the same tag")
		}
	}
	if !strings.Contains(names["m"], "Seal Hut") || !strings.Contains(names["p"], "Seal Hut") || names["m"] == body {
		t.Errorf("after the edit: %v", names)
	}
	if now := f.want(200, "", "GET", hutMarkers, ""); now != names["m"] {
		t.Errorf("the stream has\n%s\nand an answer\n%s", names["m"], now)
	}
	// Another style makes another answer of the same places.
	l.look(204, api.View{Name: "m", Path: hutMarkers})
	f.edit(200, "PUT", huts+"/style", `{"tooltip":[{"property":"name","label":"Called"}]}`)
	if v := l.view("m"); !strings.Contains(string(v.Answer), "Called: Seal Hut") {
		t.Errorf("in another style: %s", v.Answer)
	}
	l.look(204, api.View{Name: "p", Path: hutA + "/popup"})
	l.view("p")
	f.edit(204, "DELETE", hutA, "", ifMatch("*"))
	if v := l.view("p"); v.Status != 404 {
		t.Errorf("of what is gone: %+v", v)
	}
	l.leave()
	polltest.Until(t, "the listener has left", func() bool { return listeners(f) == "0" })
}

// listeners returns how many there are, as the service counts them.
func listeners(f *fixture) string {
	_, _, metrics := f.call("GET", "/metrics", "", "")
	_, after, _ := strings.Cut(metrics, "\nidlebeacon_listeners ")
	count, _, _ := strings.Cut(after, "\n")
	return count
}

func TestChangesAreTold(t *testing.T) {
	f := withHuts(t)
	l := listen(t, f.server.URL, "", "?collections=huts")
	south := listen(t, f.server.URL, "", "?collections=huts&bbox=-23,-39,-21,-38")
	f.edit(201, "POST", huts+"/items", `{"type":"Feature","id":"north","geometry":{"type":"Point","coordinates":[9,9]}}`)
	f.edit(201, "POST", huts+"/items", hut("a", `{}`))
	f.edit(204, "DELETE", hutA, "", ifMatch("*"))
	var told []string
	for range 3 {
		e := l.next("change")
		told = append(told, e.id+e.data)
	}
	if want := `2{"number":2,"collection":"huts","item":"north"} 3{"number":3,"collection":"huts","item":"a"} ` +
		`4{"number":4,"collection":"huts","item":"a","gone":true}`; strings.Join(told, " ") != want {
		t.Errorf("told of %v", told)
	}
	if e := south.next("change"); e.id != "3" {
		t.Errorf("in the south: %+v", e)
	}
	// Whoever comes back misses nothing and hears nothing twice.
	for _, again := range []*listener{
		listen(t, f.server.URL, "", "?collections=huts", [2]string{"Last-Event-ID", "2"}),
		listen(t, f.server.URL, "", "?collections=huts&after=2"),
	} {
		for _, id := range []string{"3", "4"} {
			if e := again.next("change"); e.id != id {
				t.Errorf("again: %+v, want %s", e, id)
			}
		}
	}
	f.edit(200, "PATCH", huts, `{"title":"Huts"}`)
	if e := l.next("change"); e.data != `{"number":5,"collection":"huts"}` {
		t.Errorf("of the collection: %+v", e)
	}
	f.edit(204, "DELETE", huts, "")
	l.ended()
}

// TestWhatIsNotKnownAnyMore asks for changes from before the service was started.
func TestWhatIsNotKnownAnyMore(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	f := newFixtureOn(t, dsn)
	f.edit(201, "POST", "/api/collections", `{"id":"huts"}`)
	f.edit(201, "POST", huts+"/items", hut("a", `{}`))
	later := newFixtureOn(t, dsn)
	l := listen(t, later.server.URL, "", "?collections=huts&after=1")
	l.next("reload")
	later.edit(204, "DELETE", hutA, "", ifMatch("*"))
	if e := l.next("change"); e.id != "3" {
		t.Errorf("then: %+v", e)
	}
}

func TestWhatIsWrongWithListening(t *testing.T) {
	f := withHuts(t)
	for path, status := range map[string]int{
		"?bbox=1": 400, "?after=x": 400, "?collections=none": 404, "?other=1": 400,
	} {
		if l := listen(t, f.server.URL, "", path); l.status != status {
			t.Errorf("%s: %d, want %d", path, l.status, status)
		}
	}
	f.edit(404, "PUT", "/api/live/nobody", `{"views":[]}`)
	l := listen(t, f.server.URL, "", "")
	for _, path := range []string{
		"", "x", "//other.example/api/collections", "/api/keys", "/api/live", "/api/nothing", huts + "/export",
		"/api/markers?" + strings.Repeat("x", maxViewPath),
	} {
		l.look(400, api.View{Name: "v", Path: path})
	}
	twice := api.View{Name: "v", Path: huts}
	l.look(400, twice, twice)
	many := make([]api.View, 65)
	for i := range many {
		many[i] = api.View{Name: fmt.Sprint(i), Path: huts}
	}
	l.look(400, many...)
	l.look(204, api.View{Name: "bad", Path: huts + "/markers"})
	if v := l.view("bad"); v.Status != 400 {
		t.Errorf("a view that cannot be answered: %+v", v)
	}
}

// TestWhoMayListen has listeners see what they may, as long as they may.
func TestWhoMayListen(t *testing.T) {
	h := newHouse(t, Network{})
	server := httptest.NewServer(h.handler)
	t.Cleanup(server.Close)
	id, reader := h.key(`{"name":"r","role":"reader"}`)
	_, other := h.key(`{"name":"o","role":"reader","limits":{"collections":["open"]}}`)
	closed := api.View{Name: "v", Path: "/api/collections/closed/items/a"}
	for _, c := range []struct {
		key    string
		status int
	}{{"", 404}, {reader, 200}, {other, 404}} {
		l := listen(t, server.URL, c.key, "")
		l.look(204, closed)
		if v := l.view("v"); v.Status != c.status {
			t.Errorf("with %.12q the closed item is %+v, want %d", c.key, v, c.status)
		}
	}
	if l := listen(t, server.URL, "", "?collections=closed"); l.status != 404 {
		t.Errorf("a guest hears of a closed collection: %d", l.status)
	}
	// Nobody changes what another looks at.
	l := listen(t, server.URL, reader, "?collections=closed")
	stranger := &listener{t: t, url: server.URL, key: other, id: l.id}
	stranger.look(404, closed)
	h.want(200, h.owner, "DELETE", "/api/keys/"+id, "")
	l.ended()
	// A collection that is closed is closed to those who listen.
	guest := listen(t, server.URL, "", "?collections=open")
	h.want(200, h.owner, "PATCH", "/api/collections/open", `{"guests":"nothing"}`)
	guest.ended()
	// A ticket is for the beginning.
	var ticket api.Ticket
	made := h.want(201, h.owner, "POST", "/api/tickets", `{"path":"/api/live"}`)
	if err := json.Unmarshal([]byte(made), &ticket); err != nil {
		t.Fatal(err)
	}
	byTicket := listen(t, server.URL, "", "?ticket="+ticket.Ticket)
	byTicket.key = h.owner
	byTicket.look(204, closed)
	byTicket.view("v")
}

// TestStoppingEndsStreams stops a service with listeners.
func TestStoppingEndsStreams(t *testing.T) {
	stopping, stop := context.WithCancel(t.Context())
	f := newFixtureWith(t, pgboxtest.DSN(t), Options{Stopping: stopping})
	l := listen(t, f.server.URL, "", "")
	stop()
	l.ended()
}
