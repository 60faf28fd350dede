package httpapi

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/worlds"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// soakTime returns for how long TestSoak goes on: IDLEBEACON_SOAK, or a moment.
func soakTime(t *testing.T) time.Duration {
	text := os.Getenv("IDLEBEACON_SOAK")
	if text == "" {
		return 3 * time.Second
	}
	d, err := time.ParseDuration(text)
	if err != nil {
		t.Fatalf("IDLEBEACON_SOAK: %v", err)
	}
	return d
}

var soakFilters = []url.Values{
	{}, {}, {},
	{"category": {"mooring"}},
	{"category": {"slipway,"}},
	{"name": {"Site 1"}},
	{"filter": {"berths >= 4 AND kind IN ('mooring', 'tap')"}},
	{"filter": {"berths BETWEEN 2 AND 5 OR berths IS NULL"}, "category": {"tap,slipway"}},
}

// soakQuestion returns something that a client may ask about the collection.
func soakQuestion(r *rand.Rand) string {
	if r.IntN(3) == 0 {
		return jointSoakQuestion(r)
	}
	q := url.Values{}
	maps.Copy(q, soakFilters[r.IntN(len(soakFilters))])
	box, zoom := worlds.Look(r)
	zoom += float64(r.IntN(8)) - 4 + float64(r.IntN(2))/2
	box = worlds.Screen(geo.Point{Lon: (box.West + box.East) / 2, Lat: (box.South + box.North) / 2}, zoom)
	at := worlds.Uniform(r)
	what := "markers"
	switch r.IntN(7) {
	default:
		if r.IntN(2) == 0 {
			q.Set("numbers", "berths")
		}
		q.Set("bbox", box.String())
		q.Set("zoom", fmt.Sprint(zoom))
		if r.IntN(3) == 0 {
			q.Set("outline", "true")
		}
		if r.IntN(3) == 0 {
			q.Set("spacing", "90")
		}
	case 0:
		what = "near"
		q.Set("lat", fmt.Sprint(at.Lat))
		q.Set("lon", fmt.Sprint(at.Lon))
	case 1:
		what = "items"
		q.Set("bbox", box.String())
	case 2:
		what = "categories"
	case 3:
		what = "density"
		q.Set("bbox", box.String())
		q.Set("zoom", fmt.Sprint(zoom))
		if r.IntN(2) == 0 {
			q.Set("show", "sum")
			q.Set("property", "berths")
		}
	}
	return "/api/collections/" + soakCollections[r.IntN(len(soakCollections))] + "/" + what + "?" + q.Encode()
}

// soakCollections are those that are edited.
var soakCollections = []string{"soak", "soak-east", "soak-west"}

// jointSoakQuestion asks for markers of several collections, each with a selection of its own.
func jointSoakQuestion(r *rand.Rand) string {
	asked := slices.Clone(soakCollections)
	r.Shuffle(len(asked), func(i, k int) { asked[i], asked[k] = asked[k], asked[i] })
	asked = asked[:1+r.IntN(len(asked))]
	box, zoom := worlds.Look(r)
	zoom += float64(r.IntN(6)) - 3 + float64(r.IntN(2))/2
	box = worlds.Screen(geo.Point{Lon: (box.West + box.East) / 2, Lat: (box.South + box.North) / 2}, zoom)
	q := url.Values{"collections": {strings.Join(asked, ",")}, "bbox": {box.String()}, "zoom": {fmt.Sprint(zoom)}}
	for _, id := range asked {
		for name, values := range soakFilters[r.IntN(len(soakFilters))] {
			q[id+"."+name] = values
		}
		if r.IntN(3) == 0 {
			q.Set(id+".numbers", "berths")
		}
	}
	return "/api/markers?" + q.Encode()
}

var anyChange = regexp.MustCompile(`"change":\d+`)

// ask makes a request and returns the answer without the change numbers, which may
// differ from one process to another.
func (f *fixture) ask(path, tag string) (status int, newTag, body string, err error) {
	request, err := http.NewRequestWithContext(f.t.Context(), http.MethodGet, f.server.URL+path, nil)
	if err != nil {
		return 0, "", "", err
	}
	request.Header.Set("Accept-Encoding", "identity")
	if tag != "" {
		request.Header.Set("If-None-Match", tag)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return 0, "", "", err
	}
	defer response.Body.Close()
	all, err := io.ReadAll(response.Body)
	return response.StatusCode, response.Header.Get(
			"ETag",
		), anyChange.ReplaceAllString(
			f.settled(all),
			`"change":0`,
		), err
}

// TestSoak has clients read and edit at once for a while, and then holds every
// answer against those of a service that has just read the database. It also checks
// that an answer said to be unchanged is. IDLEBEACON_SOAK=5m makes it long.
func TestSoak(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	f := newFixtureOn(t, dsn)
	for _, id := range soakCollections {
		f.want(201, "", "POST", "/api/collections", fmt.Sprintf(`{"id":%q,"name_property":"name",`+
			`"category_property":"kind"}`, id))
		f.want(201, "", "POST", "/api/collections/"+id+"/items", `{"type":"Feature","geometry":{"type":"Point",`+
			`"coordinates":[-22,-38.5]},"properties":{"name":"Site 1","kind":"tap","berths":1}}`) // so that these are known
	}
	until := time.Now().Add(soakTime(t))
	var edits, reads, unchanged atomic.Int64
	var group sync.WaitGroup
	for w := range 4 {
		group.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 1))
			mine := map[int]bool{}
			for n := 0; time.Now().Before(until); n++ {
				if err := f.soakEdit(r, w, n, mine); err != nil {
					t.Error(err)
					return
				}
				edits.Add(1)
			}
		})
	}
	const readers = 3
	seen := make([]map[string][2]string, readers) // the newest tag and body, by question
	for w := range readers {
		seen[w] = map[string][2]string{}
		group.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 2))
			questions := make([]string, 150)
			for i := range questions {
				questions[i] = soakQuestion(r)
			}
			for time.Now().Before(until) {
				path := questions[r.IntN(len(questions))]
				status, tag, body, err := f.ask(path, seen[w][path][0])
				reads.Add(1)
				switch {
				case err != nil || status != http.StatusOK && status != http.StatusNotModified:
					t.Errorf("%s: %d %.200s %v", path, status, body, err)
					return
				case status == http.StatusNotModified:
					unchanged.Add(1)
				default:
					seen[w][path] = [2]string{tag, body}
				}
			}
		})
	}
	group.Wait()
	t.Logf("%d edits, %d reads, %d of them answered 304", edits.Load(), reads.Load(), unchanged.Load())

	fresh := newFixtureOn(t, dsn)
	compare := func(path, got string) {
		t.Helper()
		_, _, want, err := fresh.ask(path, "")
		if err != nil {
			t.Fatal(err)
		}
		if !sameAnswer(got, want) {
			t.Errorf("%s:\n%.2000s\na fresh index answers\n%.2000s", path, got, want)
		}
	}
	for w := range seen {
		for _, path := range slices.Sorted(maps.Keys(seen[w])) {
			status, _, body, err := f.ask(path, seen[w][path][0])
			if err != nil {
				t.Fatal(err)
			}
			if status == http.StatusNotModified { // then what it had is still right
				body = seen[w][path][1]
			}
			compare(path, body)
		}
	}
	r := rand.New(rand.NewPCG(9, 9))
	for range 300 {
		path := soakQuestion(r)
		_, _, body, err := f.ask(path, "")
		if err != nil {
			t.Fatal(err)
		}
		compare(path, body)
	}
	var c api.Collection
	if err := json.Unmarshal([]byte(fresh.want(200, "", "GET", "/api/collections/soak", "")), &c); err != nil ||
		c.Count == 0 {
		t.Errorf("%d places in the end, %v", c.Count, err)
	}
}

// soakEdit makes the n-th edit of writer w, which knows which of its places there
// are.
func (f *fixture) soakEdit(r *rand.Rand, w, n int, mine map[int]bool) error {
	place := r.IntN(400)
	id := fmt.Sprintf("w%d-%d", w, place)
	collection := "/api/collections/" + soakCollections[w%len(soakCollections)]
	method, path, contentType, body, want := http.MethodPost, collection+"/items", "application/geo+json", "",
		http.StatusCreated
	switch {
	case n%50 == 49: // many at once
		var b strings.Builder
		b.WriteString("id,name,kind,berths,note,lat,lon\n")
		for i := range 200 {
			p := worlds.Clumped(r)
			fmt.Fprintf(&b, "w%d-%d,Site %d,%s,%d,x,%v,%v\n", w, i, i, soakKind(r), r.IntN(9), p.Lat, p.Lon)
			mine[i] = true
		}
		path, contentType, body, want = collection+"/import", "text/csv", b.String(), http.StatusOK
	case mine[place] && r.IntN(2) == 0:
		p := worlds.Clumped(r)
		method, path, contentType, want = http.MethodPatch, path+"/"+id, mergePatch, http.StatusOK
		body = fmt.Sprintf(`{"geometry":{"coordinates":[%v,%v]},"properties":{"berths":%d,"kind":%q}}`,
			p.Lon, p.Lat, r.IntN(9), soakKind(r))
	case mine[place]:
		method, path, want = http.MethodDelete, path+"/"+id, http.StatusNoContent
		delete(mine, place)
	default:
		p := worlds.Clumped(r)
		body = fmt.Sprintf(
			`{"type":"Feature","id":%q,"geometry":{"type":"Point","coordinates":[%v,%v]},"properties":{"name":"Site `+
				`%d","kind":%q,"berths":%d}}`,
			id,
			p.Lon,
			p.Lat,
			place,
			soakKind(r),
			r.IntN(9),
		)
		mine[place] = true
	}
	request, err := http.NewRequestWithContext(f.t.Context(), method, f.server.URL+path, strings.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", contentType)
	request.Header.Set("If-Match", "*")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != want {
		all, _ := io.ReadAll(response.Body)
		return fmt.Errorf("%s %s: %d %s, want %s", method, path, response.StatusCode, all, strconv.Itoa(want))
	}
	_, err = io.Copy(io.Discard, response.Body)
	return err
}

func soakKind(r *rand.Rand) string {
	return []string{"mooring", "mooring", "slipway", "tap", ""}[r.IntN(5)]
}

// sameAnswer reports whether two answers say the same. The order of markers, and of
// members of objects, does not matter.
func sameAnswer(a, b string) bool {
	if a == b {
		return true
	}
	plain := func(s string) []string {
		var v map[string]any
		if json.Unmarshal([]byte(s), &v) != nil {
			return []string{s}
		}
		features, _ := v["features"].([]any)
		delete(v, "features")
		lines := []string{fmt.Sprint(v)}
		for _, f := range features {
			lines = append(lines, fmt.Sprint(f))
		}
		slices.Sort(lines)
		return lines
	}
	return slices.Equal(plain(a), plain(b))
}
