package httpapi

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"

	"idlebeacon/api"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// withBoats returns a fixture with a group of devices, of which some have reported.
func withBoats(t *testing.T) *fixture {
	t.Helper()
	f := newFixture(t)
	f.want(201, `"silent_after":90`, "POST", "/api/groups", `{"id":"boats","title":"Boats","icon":"ship",`+
		`"settings":{"silent_after":90}}`)
	now := time.Now().UTC().Add(-time.Minute)
	for i := range 4 {
		f.want(200, `"status":"kept"`, "POST", "/api/positions?group=boats", fmt.Sprintf(
			`[{"device":"WB-01","latitude":-38.5,"longitude":%g,"timestamp":%q,"accuracy":5,"properties":{"battery":80}},`+
				`{"device":"WB-02","latitude":-38.6,"longitude":-22.1,"timestamp":%q}]`, -22+float64(i)/1000,
			stampOf(now, i*10), stampOf(now, i*10)))
	}
	f.settle("/api/devices?q=WB-01", `"timestamp":"`+stampOf(now, 30))
	return f
}

func stampOf(t time.Time, seconds int) string {
	return t.Add(time.Duration(seconds) * time.Second).Truncate(time.Second).Format(time.RFC3339)
}

// settle waits until an answer has a text: what was kept is published a moment later.
func (f *fixture) settle(path, text string) string {
	f.t.Helper()
	for began := time.Now(); ; {
		status, _, answer := f.call("GET", path, "", "")
		if status == 200 && strings.Contains(answer, text) {
			return answer
		}
		if time.Since(began) > patience {
			f.t.Fatalf("%s: %d %s, want %s", path, status, answer, text)
		}
	}
}

func TestDevices(t *testing.T) {
	f := withBoats(t)
	f.want(200, `"state":"moving"`, "GET", "/api/devices/WB-01", "")
	f.want(200, `"icon":"ship"`, "GET", "/api/devices/WB-01", "")
	f.want(200, `"properties":{"battery":80}`, "GET", "/api/devices/WB-01", "")
	f.want(200, `"state":"still"`, "GET", "/api/devices/WB-02", "")
	f.want(200, `"moving":1`, "GET", "/api/groups/boats", "")
	f.want(200, `"matched":1`, "GET", "/api/devices?state=moving", "")
	f.want(
		200, `"matched":2,"states":{"moving":1,"paused":0,"silent":0,"still":1,"unheard":0}`, "GET", "/api/devices?q=wb",
		"",
	)
	f.want(200, `"rel":"next"`, "GET", "/api/devices?sortby=-speed&limit=1", "")
	f.want(200, `"matched":1`, "GET", "/api/devices?filter=battery%3E50", "")
	f.want(200, `"matched":1`, "GET", "/api/devices?filter=battery+IS+NULL", "")
	f.want(200, `"matched":1`, "GET", "/api/devices?filter=state%3D'moving'+AND+speed%3E1", "")
	f.want(200, `"matched":1`, "GET", "/api/devices?filter=S_WITHIN(geometry,BBOX(-22.2,-38.7,-22.05,-38.55))", "")
	f.want(200, `"matched":2,"shown":{"boats":2}`, "GET", "/api/devices/markers?bbox=-23,-39,-21,-38&zoom=12", "")
	f.want(200, `"kind":"device","group":"boats","device":"WB-01","icon":"ship","state":"moving"`, "GET",
		"/api/devices/markers?bbox=-23,-39,-21,-38&zoom=12", "")
	f.want(200, `"tally":{"boats":{"moving":1,"still":1}}`, "GET", "/api/devices/markers?bbox=-23,-39,-21,-38&zoom=2", "")
	f.want(200, `"matched":1`, "GET", "/api/devices/markers?bbox=-23,-39,-21,-38&zoom=2&state=still", "")
	f.want(200, `"id":"WB-02"`, "GET", "/api/devices/near?device=WB-01", "")
	f.want(200, `"devices":[]`, "GET", "/api/devices/near?lat=0&lon=0&radius=1000", "")
	f.want(200, `"id":"WB-01"`, "GET", "/api/devices/at?time="+stampOf(time.Now().UTC(), 0), "")
	f.want(200, `"devices":[]`, "GET", "/api/devices/at?time=2020-01-01T00:00:00Z", "")
	f.want(200, `"summary":{"positions":4`, "GET", "/api/devices/WB-01/track", "")
	f.want(200, `"positions":1,`, "GET", "/api/devices/WB-01/track?limit=1&newest=true", "")
	f.want(200, `"more":true`, "GET", "/api/devices/WB-01/track?limit=3", "")
	f.want(200, `<trkpt`, "GET", "/api/devices/WB-01/track?f=gpx", "")
	f.want(200, `MultiLineString`, "GET", "/api/devices/WB-01/track?f=geojson", "")
	f.want(200, `MovingPoint`, "GET", "/api/devices/WB-01/track?f=movingfeatures", "")
	f.want(200, `WB-01,20`, "GET", "/api/devices/WB-01/track?f=csv", "")
	f.want(200, `"positions":[`, "GET", "/api/devices/WB-01/file", "")
	// A line that is nearly straight needs its ends only.
	var track api.Track
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", "/api/devices/WB-01/track?zoom=8", "")), &track); err != nil ||
		len(track.Positions) != 2 || track.Summary.Positions != 4 || len(track.Legs) != 1 || track.Legs[0].To != 1 {
		t.Errorf("%+v, %v", track, err)
	}
	for path, want := range map[string]string{
		"/api/devices?state=asleep":                                "moving, still",
		"/api/devices/WB-01/track?f=mf-json":                       "movingfeatures",
		"/api/devices?sortby=colour":                               "speed",
		"/api/devices?filter=batery%3E50":                          `property \"batery\"; there are \"battery\"`,
		"/api/devices?filter=Battery%3E50":                         `did you mean \"battery\"?`,
		"/api/devices?filter=battery%3E":                           "is not a condition",
		"/api/devices?filter=S_WITHIN(geometry,ITEM('a','b'))":     "written out",
		"/api/devices/near":                                        "from where",
		"/api/devices/near?device=WB-01&lat=1&lon=2":               "from where",
		"/api/devices/near?place=huts":                             "slash",
		"/api/devices/at":                                          "time",
		"/api/devices/WB-01/track?datetime=yesterday":              "moment",
		"/api/devices/WB-01/track?since=-6h":                       "span of time",
		"/api/devices/markers?bbox=-23,-39,-21,-38":                "zoom",
		"/api/devices/WB-01/track?since=6h&datetime=2026-01-01/..": "since",
	} {
		f.want(400, want, "GET", path, "")
	}
	f.want(404, "WB-09", "GET", "/api/devices/WB-09", "")
	f.want(404, "cars", "GET", "/api/devices?groups=cars", "")
	f.want(
		200, `"name":"Ternlet"`, "PATCH", "/api/devices/WB-02",
		`{"name":"Ternlet","colour":"#0b6e99","properties":{"a":1}}`,
	)
	f.want(400, "colour", "PATCH", "/api/devices/WB-02", `{"colour":"red"}`)
	f.want(200, `"state":"paused"`, "PATCH", "/api/devices/WB-02", `{"paused":true}`)
	f.want(400, "share", "GET", "/api/devices/WB-02/track", "")
	f.want(200, `"matched":1`, "GET", "/api/devices?filter=a%3D1+AND+state%3D'paused'", "")
	f.want(200, `"matched":0`, "GET", "/api/devices?filter=a%3D1+AND+speed%3E%3D0", "")
	f.want(200, `"matched":1`, "GET", "/api/devices?filter=S_WITHIN(geometry,BBOX(-23,-39,-21,-38))", "")
	f.want(200, `"state":"still"`, "PATCH", "/api/devices/WB-02", `{"paused":false}`)
	f.want(201, `"state":"unheard"`, "POST", "/api/devices", `{"id":"WB-03","group":"boats"}`)
	f.want(409, "WB-03", "POST", "/api/devices", `{"id":"WB-03","group":"boats"}`)
	f.want(400, "id", "POST", "/api/devices", `{"id":"markers","group":"boats"}`)
	f.want(409, "devices", "DELETE", "/api/groups/boats", "")
	f.want(200, `"erased":1`, "DELETE", "/api/devices/WB-01/track?datetime=../"+
		strings.Split(track.Positions[0].Timestamp.Format(time.RFC3339), "+")[0], "")
	f.want(204, "", "DELETE", "/api/devices/WB-01", "")
	f.want(404, "", "GET", "/api/devices/WB-01", "")
}

func TestReporting(t *testing.T) {
	f := withBoats(t)
	f.want(200, `"status":"kept"`, "POST", "/api/positions", `{"device":"N-1","latitude":1,"longitude":2}`)
	f.settle("/api/devices/N-1", `"group":"devices"`)
	f.want(400, "swapped", "POST", "/api/positions", `{"device":"N-1","latitude":-138,"longitude":2}`)
	f.want(400, "latitude", "POST", "/api/positions", `{"device":"N-1"}`)
	f.want(400, "report", "POST", "/api/positions", ``)
	f.want(
		200, `"kept":1,"repeated":1,"refused":2`, "POST", "/api/positions",
		`[{"device":"N-2","latitude":1,"longitude":2,"timestamp":"2026-11-01T00:00:00Z"},`+
			`{"device":"N-2","latitude":1,"longitude":2,"timestamp":"2026-11-01T00:00:00Z"},`+
			`{"device":"N-2"},7]`,
	)
	// A track that another program wrote.
	status, _, answer := f.call("POST", "/api/devices/N-2/track", "text/csv", "time,lat,lon\n2026-11-02T00:00:00Z,1,2\n"+
		"2026-11-02T00:00:00Z,1,2\n2026-11-03T00:00:00Z,91,2\n")
	if status != 200 || !strings.Contains(answer, `"kept":1,"repeated":1,"refused":1`) ||
		!strings.Contains(answer, "line 4") {
		t.Errorf("%d %s", status, answer)
	}
	f.want(400, "format", "POST", "/api/devices/N-2/track", "x")
}

// TestReportingLines sends lines one by one, and has an answer to each before it sends the next.
func TestReportingLines(t *testing.T) {
	f := newFixture(t)
	lines, out := io.Pipe()
	r, err := http.NewRequestWithContext(t.Context(), "POST", f.server.URL+"/api/positions", lines)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/x-ndjson")
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	answers := bufio.NewScanner(response.Body)
	for i, c := range []struct{ line, want string }{
		{`{"device":"a","latitude":1,"longitude":2,"timestamp":1790000000000}`, "kept"}, {"no JSON", "refused"},
		{`{"device":"a","latitude":1,"longitude":2,"timestamp":1790000000000}`, "repeated"},
		{`{"device":"b","latitude":1,"longitude":2}`, "kept"},
	} {
		if i == 0 { // not in the beginning of the clock of the service
			c.line = strings.ReplaceAll(c.line, "1790000000000", fmt.Sprint(time.Now().UnixMilli()-5000))
		}
		if i == 2 {
			continue
		}
		if _, err := io.WriteString(out, c.line+"\n"); err != nil {
			t.Fatal(err)
		}
		if !answers.Scan() || !strings.Contains(answers.Text(), c.want) {
			t.Fatalf("line %d: %q, %v", i, answers.Text(), answers.Err())
		}
	}
	if _, err := io.WriteString(out, `{"device":"cut off","lat`); err != nil {
		t.Fatal(err)
	}
	out.Close()
	if !answers.Scan() || !strings.Contains(answers.Text(), "refused") || answers.Scan() {
		t.Errorf("half a line is answered %s", answers.Text())
	}
}

// TestDevicesAreToldOf listens to markers in squares, and to positions one by one.
func TestDevicesAreToldOf(t *testing.T) {
	f := withBoats(t)
	l := listen(t, f.server.URL, "", "?groups=boats&bbox=-23,-39,-21,-38")
	var told api.PositionsEvent
	err := json.Unmarshal([]byte(l.next("positions").data), &told)
	if err != nil || len(told.Devices) != 2 || !told.Whole {
		t.Fatalf("at first: %+v, %v", told, err)
	}
	told = api.PositionsEvent{}
	f.want(200, "kept", "POST", "/api/positions", `{"device":"WB-02","latitude":-38.2,"longitude":-22}`)
	if err := json.Unmarshal([]byte(l.next("positions").data), &told); err != nil || len(told.Devices) != 1 ||
		told.Devices[0].ID != "WB-02" || told.Devices[0].Position.Latitude != -38.2 {
		t.Fatalf("then: %+v, %v", told, err)
	}
	told = api.PositionsEvent{}
	f.want(200, "kept", "POST", "/api/positions", `{"device":"WB-02","latitude":60,"longitude":-22}`)
	if err := json.Unmarshal([]byte(l.next("positions").data), &told); err != nil || len(told.Devices) != 0 ||
		!slices.Equal(told.Gone, []string{"WB-02"}) || told.Whole {
		t.Fatalf("when it has left the box: %+v, %v", told, err)
	}
	path := "/api/devices/markers?groups=boats&bbox=-45,-66.5132604,0,0&zoom=3"
	m := listen(t, f.server.URL, "", "")
	m.look(204, api.View{Name: "m", Path: path, Squares: true}, api.View{Name: "d", Path: "/api/devices/WB-01"})
	squares := map[string]api.Square{}
	until := func(places int) { // what was published just before may come in between
		for n := -1; n != places; {
			e := <-m.events
			if e.name == "" {
				t.Fatal("the stream ended")
			}
			if e.name != "squares" {
				continue
			}
			var told api.SquaresEvent
			if err := json.Unmarshal([]byte(e.data), &told); err != nil {
				t.Fatal(err)
			}
			maps.Copy(squares, told.Squares)
			n = 0
			for _, s := range squares {
				n += s.Places
			}
		}
	}
	until(1)
	f.want(200, "kept", "POST", "/api/positions?group=boats", `{"device":"WB-05","latitude":-30,"longitude":-22}`)
	until(2)
	if l := listen(t, f.server.URL, "", "?groups=cars"); l.status != 404 {
		t.Errorf("listening to a group that is not there: %d", l.status)
	}
}

// TestDevicesAreFor asks as callers of several kinds.
func TestDevicesAreFor(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	as := func(a policy.Actor) *fixture {
		a.Kind = policy.Keyed
		return newFixtureWith(t, dsn, Options{Everyone: &a})
	}
	owner := as(policy.Actor{Role: policy.Owner})
	owner.want(201, "", "POST", "/api/groups", `{"id":"boats"}`)
	owner.want(201, "", "POST", "/api/devices", `{"id":"b1","group":"boats"}`)
	device := as(policy.Actor{Role: policy.Device, Limits: policy.Limits{Devices: []string{"b1"}}})
	device.want(200, "kept", "POST", "/api/positions", `{"device":"b1","latitude":1,"longitude":2}`)
	device.want(403, "b2", "POST", "/api/positions", `{"device":"b2","latitude":1,"longitude":2}`)
	device.want(200, "b1", "GET", "/api/devices", "")
	device.want(403, "role", "PATCH", "/api/devices/b1", `{"name":"x"}`)
	device.want(200, `"state":"paused"`, "PATCH", "/api/devices/b1", `{"paused":true}`)
	device.want(200, `"positions":1`, "GET", "/api/devices/b1/track", "")
	device.want(200, `"erased":1`, "DELETE", "/api/devices/b1/track", "")
	device.want(403, "", "DELETE", "/api/devices/b1", "")
	reader := as(policy.Actor{Role: policy.Reader})
	reader.want(403, "role", "POST", "/api/positions", `{"device":"b1","latitude":1,"longitude":2}`)
	reader.want(403, "role", "PATCH", "/api/devices/b1", `{"paused":false}`)
	reader.want(403, "role", "DELETE", "/api/devices/b1/track", "")
	reader.want(403, "role", "POST", "/api/groups", `{"id":"x"}`)
	other := as(policy.Actor{Role: policy.Editor, Limits: policy.Limits{Groups: []string{"vans"}}})
	for _, path := range []string{"/api/devices/b1", "/api/devices/b1/track", "/api/devices/b1/file", "/api/groups/boats",
		"/api/devices?groups=boats", "/api/devices/near?device=b1"} {
		other.want(404, "", "GET", path, "")
	}
	other.want(404, "", "PATCH", "/api/devices/b1", `{"name":"x"}`)
	other.want(404, "", "POST", "/api/devices", `{"id":"b9","group":"boats"}`)
	guest := newFixtureWith(t, dsn, Options{Everyone: &policy.Actor{Kind: policy.Guest}})
	guest.want(200, `"groups":[]`, "GET", "/api/groups", "")
	guest.want(401, "", "POST", "/api/positions", `{"device":"b1","latitude":1,"longitude":2}`)
}

// TestReportingOnAWebSocket sends more at once than may wait, and hears of each in order.
func TestReportingOnAWebSocket(t *testing.T) {
	f := newFixture(t)
	connection, answer, err := websocket.Dial(t.Context(), f.server.URL+"/api/positions/stream?group=", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = connection.CloseNow() }()
	if answer.StatusCode != 101 {
		t.Fatal(answer.Status)
	}
	now := time.Now().UnixMilli() - 100_000
	const messages, each = 40, 50
	go func() {
		for m := range messages {
			var reports []string
			for i := range each {
				reports = append(reports, fmt.Sprintf(`{"device":"w%d","latitude":1,"longitude":2,"timestamp":%d}`, m%7,
					now+int64(m*each+i)))
			}
			text := "[" + strings.Join(reports, ",") + "]"
			if m == 5 {
				text = "{"
			}
			if err := connection.Write(t.Context(), websocket.MessageText, []byte(text)); err != nil {
				t.Error(err)
			}
		}
	}()
	var verdicts []api.ReportVerdict
	for len(verdicts) < (messages-1)*each+1 {
		_, text, err := connection.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		var some []api.ReportVerdict
		if err := json.Unmarshal(text, &some); err != nil {
			t.Fatal(err)
		}
		verdicts = append(verdicts, some...)
	}
	at := int64(0)
	for i, v := range verdicts {
		if i == 5*each {
			if v.Status != "refused" {
				t.Errorf("what is no JSON is %s", v.Status)
			}
			continue
		}
		if v.Status != "kept" || v.Timestamp.UnixMilli() <= at {
			t.Fatalf("report %d: %+v after %d", i, v, at)
		}
		at = v.Timestamp.UnixMilli()
	}
	// Pages of other sites may not.
	other := http.Header{"Origin": {"https://other.example"}}
	if _, answer, err := websocket.Dial(t.Context(), f.server.URL+"/api/positions/stream",
		&websocket.DialOptions{HTTPHeader: other}); err == nil || answer.StatusCode != 403 {
		t.Errorf("from a page of another site: %v, %v", answer.Status, err)
	}
}

// TestSharing makes a link to one device, looks at what it lets see, and ends it.
func TestSharing(t *testing.T) {
	h := newHouse(t, Network{})
	for _, group := range []string{"boats", "vans"} {
		h.want(201, h.owner, "POST", "/api/groups", fmt.Sprintf(`{"id":%q}`, group))
		for i := range 2 {
			h.want(200, h.owner, "POST", "/api/positions?group="+group, fmt.Sprintf(
				`{"device":"%s-%d","latitude":1,"longitude":2}`, group, i))
		}
	}
	until := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	h.want(400, h.owner, "POST", "/api/devices/boats-0/shares", `{"until":"2020-01-01T00:00:00Z"}`)
	h.want(400, h.owner, "POST", "/api/devices/boats-0/shares", `{"until":"2099-01-01T00:00:00Z"}`)
	var share api.Share
	made := h.want(201, h.owner, "POST", "/api/devices/boats-0/shares", fmt.Sprintf(`{"title":"Crew","until":%q}`, until))
	if err := json.Unmarshal([]byte(made), &share); err != nil {
		t.Fatal(err)
	}
	_, key, _ := strings.Cut(share.Href, "#share=")
	for path, want := range map[string]string{
		"/api/devices":         `"matched":1`,
		"/api/groups":          `"id":"boats"`,
		"/api/devices/boats-0": `"longitude":2`,
		"/api/devices/markers?bbox=-10,-10,10,10&zoom=3": `"matched":1,"shown":{"boats":1}`,
		"/api/collections":                                    `"collections":[]`,
		"/api/devices/boats-0/track":                          `"positions":1`,
		"/api/devices/at?time=" + url.QueryEscape(nowText(1)): `"id":"boats-0"`,
		"/api/devices/near?lat=1&lon=2":                       `"id":"boats-0"`,
	} {
		got := h.want(200, key, "GET", path, "")
		if !strings.Contains(got, want) || strings.Contains(got, "vans") || strings.Contains(got, "boats-1") {
			t.Errorf("%s: %s", path, got)
		}
	}
	for _, path := range []string{"/api/devices/boats-1", "/api/devices/vans-0", "/api/groups/vans",
		"/api/devices?groups=vans", "/api/devices/vans-0/track"} {
		h.want(404, key, "GET", path, "")
	}
	h.want(403, key, "POST", "/api/devices/boats-0/shares", fmt.Sprintf(`{"until":%q}`, until))
	h.want(403, key, "PATCH", "/api/devices/boats-0", `{"paused":true}`)
	if got := h.want(200, h.owner, "GET", "/api/devices/boats-0/shares", ""); !strings.Contains(got, "Crew") ||
		strings.Contains(got, key) {
		t.Errorf("the shares are %s", got)
	}
	h.want(404, h.owner, "DELETE", "/api/devices/boats-1/shares/"+share.ID, "")
	h.want(204, h.owner, "DELETE", "/api/devices/boats-0/shares/"+share.ID, "")
	h.want(401, key, "GET", "/api/devices/boats-0", "")
}

func nowText(seconds int) string {
	return time.Now().UTC().Add(time.Duration(seconds) * time.Second).Format(time.RFC3339)
}
