package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/polltest"
)

// A contest is clients that edit the same few items through several services, some of which come
// and go.
type contest struct {
	t        *testing.T
	key      string
	serve    func() *process // starts one more
	services [2]atomic.Pointer[process]
	stop     atomic.Bool
	asked    http.Client

	mu           sync.Mutex
	acknowledged map[uint64]string // what was acknowledged, by the number of the change
	refused      int               // with 503 and a time to come again
	accepted     int               // of what was acknowledged, suggestions
}

const contested = 4 // items

// TestManyEditTheSame has clients count up numbers of the same few items, while a service is killed
// and the database is stopped and started. Each acknowledged step is in the history, once, and
// nothing was counted twice.
func TestManyEditTheSame(t *testing.T) {
	t.Parallel() // it has services and a database of its own
	server := primary(t)
	newBeacon(server)
	serve := func() *process { return start(t, t.TempDir(), "serve", "--dsn", server.dsn("beacon")) }
	c := &contest{t: t, serve: serve, acknowledged: map[uint64]string{}, asked: http.Client{Timeout: time.Minute}}
	for i := range c.services {
		c.services[i].Store(serve())
	}
	first := c.services[0].Load()
	c.services[1].Load().hasKeysOf(first)
	c.key = ownerOf(first.url)
	through := connect(t, first.url)
	if _, err := through.CreateCollection(t.Context(), api.NewCollection{ID: "huts"}); err != nil {
		t.Fatal(err)
	}
	for i := range contested {
		item := newItem(fmt.Sprint("c", i))
		item.Properties = json.RawMessage(`{"n":0}`)
		if _, err := through.CreateItem(t.Context(), "huts", item); err != nil {
			t.Fatal(err)
		}
	}
	heard, listening := c.hear(through)
	var clients sync.WaitGroup
	for n := range 6 {
		clients.Go(func() { c.count(rand.New(rand.NewPCG(uint64(n), 1))) })
	}
	for n := range 2 {
		clients.Go(func() { c.suggestAndAccept(rand.New(rand.NewPCG(uint64(n), 2))) })
	}
	ending, end := context.WithCancel(t.Context())
	defer end()
	clients.Go(func() { c.listenNowAndThen(ending, through) })
	c.until("edits to go on", 40)
	c.untilAccepted("suggestions to be accepted", 5)

	// A service is killed, and another takes its place.
	second := c.services[1].Load()
	if err := second.cmd.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-second.exited
	c.until("edits beside a service that was killed", 40)
	anew := serve()
	anew.hasKeysOf(first)
	c.services[1].Store(anew)
	c.until("edits through all services", 40)

	// A database that is frozen does not keep what is in memory from being served.
	thaw := server.freeze()
	if status, _, body := get(t, first.url+allMarkers); status != 200 || !strings.Contains(body, `"matched":4`) {
		t.Errorf("beside a frozen database: %d %s", status, body)
	}
	thaw()
	c.until("edits after the database was frozen", 40)

	// Without the database what is in memory is served, and edits are refused for a while.
	server.kill()
	polltest.Until(t, "an edit to be refused", func() bool { c.mu.Lock(); defer c.mu.Unlock(); return c.refused > 0 })
	if status, _, body := get(t, first.url+allMarkers); status != 200 || !strings.Contains(body, `"matched":4`) {
		t.Errorf("without the database: %d %s", status, body)
	}
	server.start()
	c.until("edits after the database was away", 40)
	c.untilAccepted("suggestions to be accepted after that", 5)
	c.stop.Store(true)
	end()
	clients.Wait()
	c.check(heard, listening)
}

// count counts up, until it is stopped: each step is made from what was seen, and sent again under
// the same name until it is known what became of it.
func (c *contest) count(r *rand.Rand) {
	for !c.stop.Load() {
		id := fmt.Sprint("c", r.IntN(contested))
		tag, n, seen := c.look(r, id)
		if !seen {
			continue
		}
		patch := fmt.Sprintf(`{"properties":{"n":%d}}`, n+1)
		name := uuid.NewString()
		status, answered, _ := c.insist(r, request{http.MethodPatch, "/items/" + id, patch, tag, name})
		if status == 200 {
			c.acknowledge(answered.Get("Change-Number"), fmt.Sprintf("%s=%d", id, n+1))
		}
		if status != 200 && status != 412 {
			c.t.Errorf("a step of %s is answered with %d", id, status)
		}
	}
}

// suggestAndAccept counts up as count does, by suggestions that are accepted. A suggestion is never
// carried out twice: whoever is told that it was decided on before looks what became of it.
func (c *contest) suggestAndAccept(r *rand.Rand) {
	for !c.stop.Load() {
		id := fmt.Sprint("c", r.IntN(contested))
		tag, n, seen := c.look(r, id)
		if !seen {
			continue
		}
		edit := fmt.Sprintf(`{"op":"patch","id":%q,"patch":{"properties":{"n":%d}}}`, id, n+1)
		status, _, body := c.send(r, request{http.MethodPost, "/suggestions", edit, "", ""})
		var made api.Suggestion
		if status != 201 || json.Unmarshal([]byte(body), &made) != nil {
			continue // one whose answer was lost stays open
		}
		one := "/suggestions/" + made.ID
		step := fmt.Sprintf("%s=%d", id, n+1)
		switch status, header, _ := c.insist(r, request{http.MethodPost, one + "/accept", "{}", tag, ""}); status {
		case 200:
			c.accept(header.Get("Change-Number"), step)
		case 409:
			_, _, body := c.insist(r, request{http.MethodGet, one, "", "", ""})
			if err := json.Unmarshal([]byte(body), &made); err != nil || made.State != "accepted" {
				c.t.Errorf("a suggestion that nobody else decides on is %q (%v)", made.State, err)
				continue
			}
			c.accept(strconv.FormatUint(made.Change, 10), step)
		case 412:
			c.insist(r, request{http.MethodPost, one + "/decline", `{"word":"too late"}`, "", ""})
		default:
			c.t.Errorf("accepting a step of %s is answered with %d", id, status)
		}
	}
}

func (c *contest) accept(number, step string) {
	c.acknowledge(number, step)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.accepted++
}

// look returns the tag and the number of an item, if a service answers.
func (c *contest) look(r *rand.Rand, id string) (tag string, n int, seen bool) {
	status, header, body := c.send(r, request{http.MethodGet, "/items/" + id, "", "", ""})
	var item struct{ Properties struct{ N int } }
	if status != 200 || json.Unmarshal([]byte(body), &item) != nil {
		return "", 0, false
	}
	return header.Get("ETag"), item.Properties.N, true
}

// A request is what is asked of a collection.
type request struct {
	method, path, body string
	tag, name          string // that it is made under; "" for none
}

// insist sends a request until it is answered.
func (c *contest) insist(r *rand.Rand, q request) (status int, header http.Header, body string) {
	for status == 0 || status >= 500 {
		status, header, body = c.send(r, q)
		if status == 503 && header.Get("Retry-After") != "" {
			c.mu.Lock()
			c.refused++
			c.mu.Unlock()
		}
	}
	return status, header, body
}

// send sends a request to any of the services; the status is 0 if that does not answer.
func (c *contest) send(r *rand.Rand, q request) (int, http.Header, string) {
	url := c.services[r.IntN(len(c.services))].Load().url + "/api/collections/huts" + q.path
	asked, err := http.NewRequestWithContext(context.Background(), q.method, url, strings.NewReader(q.body))
	if err != nil {
		c.t.Error(err)
		return 0, nil, ""
	}
	headers := map[string]string{"Authorization": "Bearer " + c.key, "If-Match": q.tag, "Idempotency-Key": q.name}
	switch {
	case q.method == http.MethodPatch:
		headers["Content-Type"] = "application/merge-patch+json"
	case q.body != "":
		headers["Content-Type"] = "application/json"
	}
	for name, value := range headers {
		if value != "" {
			asked.Header.Set(name, value)
		}
	}
	answer, err := c.asked.Do(asked)
	if err != nil {
		return 0, nil, ""
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return 0, nil, ""
	}
	return answer.StatusCode, answer.Header, string(text)
}

func (c *contest) acknowledge(number, step string) {
	n, err := strconv.ParseUint(number, 10, 64)
	if err != nil {
		c.t.Errorf("an edit was acknowledged as change %q", number)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if other, again := c.acknowledged[n]; again {
		c.t.Errorf("%s and %s were both acknowledged as change %d", other, step, n)
	}
	c.acknowledged[n] = step
}

// until waits for so many more acknowledged steps.
func (c *contest) until(what string, more int) {
	c.t.Helper()
	count := func() int { c.mu.Lock(); defer c.mu.Unlock(); return len(c.acknowledged) }
	before := count()
	polltest.Until(c.t, what, func() bool { return count() >= before+more })
}

// untilAccepted waits for so many more suggestions that were accepted.
func (c *contest) untilAccepted(what string, more int) {
	c.t.Helper()
	count := func() int { c.mu.Lock(); defer c.mu.Unlock(); return c.accepted }
	before := count()
	polltest.Until(c.t, what, func() bool { return count() >= before+more })
}

// hear follows the changes, until the returned function is called.
func (c *contest) hear(through *client.Client) (heard *[]api.ChangeEvent, stop func()) {
	ctx, cancel := context.WithCancel(c.t.Context())
	heard = &[]api.ChangeEvent{}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		each := func(e api.ChangeEvent) error {
			c.mu.Lock()
			defer c.mu.Unlock()
			*heard = append(*heard, e)
			return nil
		}
		err := through.Watch(ctx, client.WatchOptions{Collections: []string{"huts"}}, each, func() error {
			c.t.Error("the listener has missed changes")
			return nil
		})
		if ctx.Err() == nil {
			c.t.Errorf("the listener ended: %v", err)
		}
	}()
	c.t.Cleanup(cancel)
	return heard, func() { cancel(); <-ended }
}

// listenNowAndThen comes to listen, hears of some changes in order, and goes, until ctx ends.
func (c *contest) listenNowAndThen(ctx context.Context, through *client.Client) {
	const some = 5
	for ctx.Err() == nil {
		listening, leave := context.WithCancel(ctx)
		heard, last := 0, uint64(0)
		err := through.Watch(listening, client.WatchOptions{Collections: []string{"huts"}}, func(e api.ChangeEvent) error {
			if e.Number <= last {
				c.t.Errorf("who listens for a while is told of change %d after %d", e.Number, last)
			}
			if last = e.Number; heard == some {
				leave()
			}
			heard++
			return nil
		}, func() error { return nil })
		if listening.Err() == nil {
			c.t.Errorf("who listens for a while is cut off: %v", err)
		}
		leave()
	}
}

// check compares what was acknowledged with the history, and with what the listener has heard.
func (c *contest) check(heard *[]api.ChangeEvent, stopListening func()) {
	c.t.Helper()
	newest := map[string]uint64{}
	for at := range c.services {
		through := connect(c.t, c.services[at].Load().url)
		kept := map[uint64]string{}
		for i := range contested {
			id := fmt.Sprint("c", i)
			steps := history(c.t, through, id)
			for n, change := range steps { // the first made it
				var properties struct{ N int }
				if err := json.Unmarshal(change.Is.Properties, &properties); err != nil || properties.N != n {
					c.t.Errorf("step %d of %s leads to %s", n, id, change.Is.Properties)
				}
				kept[change.Number] = fmt.Sprintf("%s=%d", id, n)
			}
			newest[id] = steps[len(steps)-1].Number
		}
		for number, step := range c.acknowledged {
			if kept[number] != step {
				c.t.Errorf("service %d: %s was acknowledged as change %d, which is %q", at, step, number, kept[number])
			}
		}
	}
	c.t.Logf("%d steps were acknowledged, %d of them suggestions, and %d were refused for a while", len(c.acknowledged),
		c.accepted, c.refused)
	last := map[string]uint64{}
	polltest.Until(c.t, "the listener to have heard all", func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		before := uint64(0)
		for _, e := range *heard {
			if e.Number <= before {
				c.t.Fatalf("change %d was told after %d", e.Number, before)
			}
			before, last[e.Item] = e.Number, e.Number
		}
		for id, number := range newest {
			if last[id] != number {
				return false
			}
		}
		return true
	})
	stopListening()
	// All services say what one says that has just been started.
	fresh := c.serve()
	fresh.hasKeysOf(c.services[0].Load())
	for _, path := range []string{
		allMarkers, "/api/collections/huts/items", "/api/collections/huts/near?lat=-38&lon=-22&radius=20000000",
	} {
		status, header, want := get(c.t, fresh.url+path)
		if status != 200 {
			c.t.Errorf("%s: %d %s", path, status, want)
		}
		want = settled(want, fresh.url)
		for at := range c.services {
			url := c.services[at].Load().url
			_, other, got := get(c.t, url+path)
			if got = settled(got, url); got != want || other.Get("ETag") != header.Get("ETag") {
				c.t.Errorf("%s: service %d says\n%s\nand one that has just been started\n%s", path, at, got, want)
			}
		}
	}
}

// settled leaves out of an answer which service gives it, and when, so that answers can be compared.
func settled(answer, url string) string {
	return timeStamps.ReplaceAllString(strings.ReplaceAll(answer, url, ""), "")
}

var timeStamps = regexp.MustCompile(`"timeStamp":"[^"]*",`)

// history returns all changes of an item, oldest first.
func history(t *testing.T, c *client.Client, item string) (all []api.Change) {
	t.Helper()
	for before := uint64(0); ; {
		page, err := c.History(t.Context(), client.HistoryOptions{
			Collections: []string{"huts"}, Item: item, Before: before, Limit: 500,
		})
		if err != nil {
			t.Fatal(err)
		}
		for _, change := range page.Changes {
			all = append([]api.Change{change}, all...)
		}
		if len(page.Links) < 2 {
			return all
		}
		before = all[0].Number
	}
}
