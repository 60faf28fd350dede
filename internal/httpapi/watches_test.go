package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
)

// fastWatch makes a watch that notices who is fast.
func (f *fixture) fastWatch(id string) {
	f.t.Helper()
	f.want(
		201, `"margin":10`, "POST", "/api/watches",
		fmt.Sprintf(`{"id":%q,"title":"Too fast","rule":{"notices":["fast"],`+
			`"faster_than":10}}`, id),
	)
}

// fastFrom is when devices were fast last, in milliseconds since 1970.
var fastFrom atomic.Int64

func init() { fastFrom.Store(time.Now().Add(-6 * time.Hour).UnixMilli()) }

// fast reports that devices are fast, and then that they are not.
func (f *fixture) fast(group string, devices ...string) {
	f.t.Helper()
	for _, speed := range []int{0, 20, 0} {
		for _, d := range devices {
			f.want(200, `"kept"`, "POST", "/api/positions?group="+group, fmt.Sprintf(
				`{"device":%q,"latitude":-38.5,"longitude":-22,"speed":%d,"timestamp":%d}`, d, speed,
				fastFrom.Add(1000)))
		}
	}
}

func (f *fixture) noticesAt(path string) (n api.Notices) {
	f.t.Helper()
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", path, "")), &n); err != nil {
		f.t.Fatal(err)
	}
	return n
}

func TestWatchesOverHTTP(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/groups", `{"id":"boats"}`)
	f.want(201, "", "POST", "/api/collections", `{"id":"waters"}`)
	f.want(201, "", "POST", "/api/collections/waters/items", `{"type":"Feature","id":"pool","geometry":{"type":"Polygon",`+
		`"coordinates":[[[-22.1,-38.6],[-21.9,-38.6],[-21.9,-38.4],[-22.1,-38.4],[-22.1,-38.6]]]},"properties":{}}`)
	f.want(201, "", "POST", "/api/collections/waters/items", `{"type":"Feature","id":"hut","geometry":{"type":"Point",`+
		`"coordinates":[-22,-38.5]},"properties":{}}`)
	f.want(200, `"watches":[]`, "GET", "/api/watches", "")
	f.want(400, `"field":"kinds"`, "GET", "/api/notices?kinds=left,flown", "")
	whole := `{"groups":["boats"],"where":{"collection":"waters","item":"pool"},"notices":["entered","left","stayed"],` +
		`"stayed_for":600,"margin":25,"worst_accuracy":60,"state":["moving"],"filter":"\"kind\" = 'tug'",` +
		`"hours":{"from":"22:00","to":"06:30","days":["fri","sat"],"zone":"Europe/Dublin"}}`
	f.want(201, whole, "POST", "/api/watches", `{"id":"pool","title":"The pool","rule":`+whole+`}`)
	f.want(409, "", "POST", "/api/watches", `{"id":"pool","rule":`+whole+`}`)
	f.want(200, whole, "GET", "/api/watches/pool", "")
	f.want(200, `"off":true`, "PATCH", "/api/watches/pool", `{"off":true}`)
	f.want(200, `"rule":{"notices":["fast"],"faster_than":3.5`, "PATCH", "/api/watches/pool",
		`{"rule":{"notices":["fast"],"faster_than":3.5},"off":false}`)
	for _, c := range []struct{ field, rule string }{
		{"rule.notices", `{"notices":[]}`},
		{"rule.notices", `{"notices":["flown"]}`},
		{"rule.where", `{"notices":["entered"]}`},
		{"rule.faster_than", `{"notices":["fast"]}`},
		{"", `{"notices":["silent"],"near":5}`},
		{"rule.silent_for", `{"notices":["near"],"silent_for":5}`},
		{"rule.groups", `{"notices":["near"],"nearer_than":50,"groups":["vans"]}`},
		{"rule.groups", `{"notices":["near"],"nearer_than":50,"groups":[]}`},
		{"", `{"notices":["near"],"nearer_than":50,"devices":["b9"]}`},
		{"rule.filter", `{"notices":["near"],"nearer_than":50,"filter":"kind ="}`},
		{"rule.filter", `{"notices":["near"],"nearer_than":50,"filter":"S_WITHIN(geometry, ITEM('waters','pool'))"}`},
		{"rule.hours.from", `{"notices":["near"],"nearer_than":50,"hours":{"from":"7","to":"9"}}`},
		{"rule.hours.zone", `{"notices":["near"],"nearer_than":50,"hours":{"from":"07:00","to":"09:00","zone":"Mars"}}`},
		{"rule.state", `{"notices":["near"],"nearer_than":50,"state":["flying"]}`},
		{"rule.state", `{"notices":["near"],"nearer_than":50,"state":["silent"]}`},
		{"rule.where.item", `{"notices":["left"],"where":{"collection":"waters","item":"sea"}}`},
		{"rule.where.radius", `{"notices":["left"],"where":{"collection":"waters","item":"hut"}}`},
		{"", `{"notices":["left"],"where":{"collection":"lakes","item":"hut"}}`},
		{"rule.where", `{"notices":["left"],"where":{"longitude":1,"radius":5}}`},
		{"", `{"notices":["left"],"where":{"longitude":1,"latitude":99,"radius":5}}`},
		{"rule.where", `{"notices":["left"],"where":{"longitude":1,"latitude":9,"radius":5,"device":"b1"}}`},
		{"rule.where.radius", `{"notices":["left"],"where":{"longitude":1,"latitude":9,"radius":1e9}}`},
		{"rule.stayed_for", `{"notices":["stayed"],"stayed_for":1e300,"where":{"longitude":1,"latitude":9,"radius":50}}`},
		{"rule.stayed_for", `{"notices":["stayed"],"stayed_for":-1e300,"where":{"longitude":1,"latitude":9,"radius":50}}`},
		{"rule.margin", `{"notices":["left"],"margin":-1,"where":{"longitude":1,"latitude":9,"radius":50}}`},
		{"rule.notices", `{"notices":["left","left"],"where":{"longitude":1,"latitude":9,"radius":50}}`},
		{"rule.worst_accuracy", `{"notices":["left"],"worst_accuracy":0,"where":{"longitude":1,"latitude":9,"radius":50}}`},
		{"rule.where.radius", `{"notices":["left"],"where":{"collection":"waters","item":"pool","radius":0.5}}`},
		{"rule.hours.days", `{"notices":["near"],"nearer_than":5,"hours":{"from":"07:00","to":"09:00",` +
			`"days":["mon","mon"]}}`},
		{"rule.hours.days", `{"notices":["near"],"nearer_than":5,"hours":{"from":"07:00","to":"09:00",` +
			`"days":["Monday","mo"]}}`},
	} {
		status, _, answer := f.call(
			"POST", "/api/watches/try", "application/json", `{"from":"2026-04-01T00:00:00Z","rule":`+c.rule+`}`,
		)
		if p := f.problem(string(answer)); status != 400 && status != 404 || c.field != "" && p.Field != c.field {
			t.Errorf("%s: %d, %+v, want the field %s", c.rule, status, p, c.field)
		}
	}
	f.want(
		200, "", "PATCH", "/api/watches/pool",
		`{"rule":{"notices":["left"],"where":{"collection":"waters","item":"pool"}}}`,
	)
	f.want(204, "", "DELETE", "/api/collections/waters", "")
	f.want(200, `"problem":"where.item: there is no item`, "GET", "/api/watches", "")
	f.want(204, "", "DELETE", "/api/watches/pool", "")
	f.want(404, "", "GET", "/api/watches/pool", "")

	f.fastWatch("fast")
	l := listen(t, f.server.URL, "", "?notices=true")
	polltest.Until(t, "it is noticed that a device is fast", func() bool {
		f.fast("boats", "b1")
		return len(f.noticesAt("/api/notices?watches=fast").Notices) > 0
	})
	var told api.NoticesEvent
	if err := json.Unmarshal([]byte(l.next("notices").data), &told); err != nil || told.Notices[0].Device != "b1" ||
		told.Notices[0].Kind != "fast" || told.Notices[0].Title != "Too fast" {
		t.Errorf("the listener is told: %+v, %v", told, err)
	}
	polltest.Until(t, "five things are noticed", func() bool {
		f.fast("boats", "b1", "b2")
		return len(f.noticesAt("/api/notices").Notices) >= 5
	})
	page := f.noticesAt("/api/notices?limit=2")
	if len(page.Notices) != 2 || page.Notices[0].Number <= page.Notices[1].Number || page.Links[1].Rel != "next" {
		t.Fatalf("the first page: %+v", page)
	}
	next := f.noticesAt(strings.TrimPrefix(page.Links[1].Href, f.server.URL))
	if len(next.Notices) != 2 || next.Notices[0].Number >= page.Notices[1].Number {
		t.Errorf("the next page: %+v", next)
	}
	after := f.noticesAt(fmt.Sprint("/api/notices?after=", page.Notices[1].Number))
	if len(after.Notices) == 0 || after.Notices[0].Number != page.Notices[0].Number {
		t.Errorf("those after: %+v", after)
	}
	for path, any := range map[string]bool{
		"?devices=b2": true, "?kinds=left": false, "?kinds=fast,left": true, "?watches=other": false, "?groups=boats": true,
		"?to=2026-01-01T00:00:00Z": false, "?from=2026-01-01T00:00:00Z": true,
	} {
		found := f.noticesAt("/api/notices" + path).Notices
		if (len(found) > 0) != any ||
			path == "?devices=b2" && slices.ContainsFunc(found, func(n api.Notice) bool { return n.Device != "b2" }) {
			t.Errorf("%s has %+v", path, found)
		}
	}
	f.want(400, "groups", "GET", "/api/notices?groups=vans", "")
	var tried api.WatchTried
	ask := fmt.Sprintf(
		`{"rule":{"notices":["fast"],"faster_than":10},"from":%q}`, time.Now().Add(-7*time.Hour).Format(time.RFC3339),
	)
	if err := json.Unmarshal([]byte(f.want(200, "", "POST", "/api/watches/try", ask)), &tried); err != nil ||
		len(tried.Notices) < 5 || tried.Devices != 2 {
		t.Errorf("tried: %+v, %v", tried, err)
	}
	f.want(200, `"state":"paused"`, "PATCH", "/api/devices/b1", `{"paused":true}`)
}

// TestNoticesAreFor asks for watches and notices as callers of several kinds.
func TestNoticesAreFor(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	as := func(a policy.Actor) *fixture {
		a.Kind = policy.Keyed
		return newFixtureWith(t, dsn, Options{Everyone: &a})
	}
	owner := as(policy.Actor{Role: policy.Owner})
	for _, g := range []string{"boats", "vans"} {
		owner.want(201, "", "POST", "/api/groups", fmt.Sprintf(`{"id":%q,"guests":"read"}`, g))
	}
	owner.fastWatch("fast")
	owner.want(201, "", "POST", "/api/watches", `{"id":"pairs","rule":{"notices":["near"],"nearer_than":100}}`)
	boats, vans := policy.Limits{Groups: []string{"boats"}}, policy.Limits{Groups: []string{"vans"}}
	reader := as(policy.Actor{Role: policy.Reader, Limits: boats})
	l := listen(t, reader.server.URL, "", "?notices=true")
	polltest.Until(t, "something is noticed of each", func() bool {
		owner.fast("boats", "b1")
		owner.fast("vans", "v1")
		all := owner.noticesAt("/api/notices").Notices
		has := func(kind, device string) bool {
			return slices.ContainsFunc(all, func(n api.Notice) bool { return n.Kind == kind && n.Device == device })
		}
		return has("fast", "b1") && has("fast", "v1") && (has("near", "b1") || has("near", "v1"))
	})
	only := func(f *fixture, device string) {
		t.Helper()
		found := f.noticesAt("/api/notices").Notices
		for _, n := range found {
			if n.Device != device || n.Other != "" {
				t.Errorf("it sees %+v", n)
			}
		}
		if len(found) == 0 {
			t.Error("it sees nothing")
		}
	}
	only(reader, "b1")
	only(as(policy.Actor{Role: policy.Reader, Limits: policy.Limits{Devices: []string{"v1"}}}), "v1")
	for range owner.noticesAt("/api/notices?groups=boats&kinds=fast").Notices[:1] {
		e := l.next("notices")
		if strings.Contains(e.data, "v1") {
			t.Errorf("a listener is told of another group: %s", e.data)
		}
	}
	reader.want(200, `"watches":[]`, "GET", "/api/watches", "") // they are about all groups
	reader.want(404, "", "GET", "/api/watches/fast", "")
	reader.want(403, "role", "POST", "/api/watches", `{"id":"x","rule":{"notices":["fast"],"faster_than":1}}`)
	reader.want(400, "", "GET", "/api/notices?groups=vans", "")
	editor := as(policy.Actor{Role: policy.Editor, Limits: vans})
	editor.want(403, "groups", "POST", "/api/watches", `{"id":"x","rule":{"notices":["fast"],"faster_than":1}}`)
	editor.want(
		403, "groups", "POST", "/api/watches",
		`{"id":"x","rule":{"notices":["fast"],"faster_than":1,"groups":["boats"]}}`,
	)
	editor.want(
		404, "b1", "POST", "/api/watches",
		`{"id":"x","rule":{"notices":["fast"],"faster_than":1,"groups":["vans"],"devices":["b1"]}}`,
	)
	editor.want(
		201, "", "POST", "/api/watches", `{"id":"vans","rule":{"notices":["fast"],"faster_than":1,"groups":["vans"]}}`,
	)
	editor.want(404, "", "PATCH", "/api/watches/fast", `{"off":true}`)
	editor.want(404, "", "DELETE", "/api/watches/fast", "")
	editor.want(403, "groups", "PATCH", "/api/watches/vans", `{"rule":{"notices":["fast"],"faster_than":1}}`)
	ask := `{"rule":{"notices":["fast"],"faster_than":10,"groups":["vans"]},"from":"2026-01-01T00:00:00Z"}`
	if answer := editor.want(200, `"v1"`, "POST", "/api/watches/try", ask); strings.Contains(answer, "b1") {
		t.Errorf("trying shows devices of another group: %s", answer)
	}
	reader.want(200, `"watches":[]`, "GET", "/api/watches", "")
	for _, f := range []*fixture{editor, as(policy.Actor{Role: policy.Owner, Limits: boats}),
		as(policy.Actor{Role: policy.Owner, Limits: policy.Limits{Collections: []string{"c"}}})} {
		f.want(403, "", "GET", "/api/hooks", "")
		f.want(403, "", "POST", "/api/hooks", `{"id":"h","url":"https://app.example/","notices":true}`)
	}
	device := as(policy.Actor{Role: policy.Device, Limits: policy.Limits{Devices: []string{"b1"}}})
	device.want(403, "role", "GET", "/api/notices", "")
	guest := newFixtureWith(t, dsn, Options{Everyone: &policy.Actor{Kind: policy.Guest}})
	guest.want(401, "", "GET", "/api/notices", "")
	guest.want(401, "", "GET", "/api/watches", "")
	if l := listen(t, guest.server.URL, "", "?notices=true&groups=boats"); l.status != http.StatusOK {
		t.Errorf("a guest listens: %d", l.status)
	} else if e := l.next("positions"); e.name != "positions" {
		t.Errorf("a guest is told first: %+v", e)
	}
	// Whoever does not share where they are is not told of.
	owner.want(200, "", "PATCH", "/api/devices/b1", `{"paused":true}`)
	polltest.Until(
		t, "the other process has heard", func() bool { return len(reader.noticesAt("/api/notices").Notices) == 0 },
	)
}

func TestHooksOverHTTP(t *testing.T) {
	f := newFixture(t)
	made := f.want(
		201, `"secret":"whsec_`, "POST", "/api/hooks",
		`{"id":"office","url":"https://office.example/told","notices":true,"kinds":["silent"],"groups":[],`+
			`"collections":["c"]}`,
	)
	if strings.Contains(made, `"groups"`) {
		t.Errorf("of no group in particular: %s", made)
	}
	if shown := f.want(200, `"kinds":["silent"]`, "GET", "/api/hooks/office", ""); strings.Contains(shown, "whsec_") {
		t.Errorf("the secret is shown again: %s", shown)
	}
	f.want(200, `"dead":0`, "GET", "/api/hooks", "")
	changed := f.want(200, `"off":true`, "PATCH", "/api/hooks/office", `{"off":true,"kinds":[]}`)
	if strings.Contains(changed, "kinds") || strings.Contains(changed, "whsec_") {
		t.Errorf("changed: %s", changed)
	}
	f.want(200, `"secret":"whsec_`, "PATCH", "/api/hooks/office", `{"new_secret":true}`)
	f.want(400, "address", "PATCH", "/api/hooks/office", `{"url":"gopher://office.example"}`)
	f.want(409, "", "POST", "/api/hooks", `{"id":"office","url":"https://office.example/told","notices":true}`)
	f.want(400, "told of nothing", "POST", "/api/hooks", `{"id":"other","url":"https://office.example/told"}`)
	f.want(200, `"deliveries":[]`, "GET", "/api/hooks/office/deliveries", "")
	f.want(400, "state", "GET", "/api/hooks/office/deliveries?state=lost", "")
	f.want(200, `"messages":0`, "POST", "/api/hooks/office/deliveries/again", "")
	f.want(404, "", "POST", "/api/hooks/office/deliveries/7/again", "")
	f.want(400, "", "POST", "/api/hooks/office/deliveries/x/again", "")
	f.want(404, "", "GET", "/api/hooks/nobody/deliveries", "")
	f.want(204, "", "DELETE", "/api/hooks/office", "")
	f.want(404, "", "DELETE", "/api/hooks/office", "")
}
