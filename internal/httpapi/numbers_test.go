package httpapi

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
)

// TestNumbersFollowEdits adds, changes and removes places with numbers, and looks at what the
// cluster of all of them says.
func TestNumbersFollowEdits(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"huts","name_property":"name"}`)
	r := rand.New(rand.NewPCG(3, 1))
	tenths := map[string]int{} // beds, in tenths
	var file strings.Builder
	file.WriteString("id,name,lat,lon,beds\n")
	for i := range 300 {
		id := fmt.Sprint(i)
		tenths[id] = r.IntN(400)
		fmt.Fprintf(&file, "%s,Hut,%v,%v,%v\n", id, -38+r.Float64()/100, -22+r.Float64()/100, float64(tenths[id])/10)
	}
	f.want(200, `"rejected":0`, "POST", "/api/collections/huts/import?format=csv&id_column=id", file.String())
	view := "/api/collections/huts/markers?bbox=-23,-39,-21,-37&zoom=3&numbers=beds"
	check := func() {
		t.Helper()
		sum, least, greatest := 0, math.MaxInt, math.MinInt
		for _, n := range tenths {
			sum, least, greatest = sum+n, min(least, n), max(greatest, n)
		}
		of := func(tenths int) string { return fmt.Sprint(float64(tenths) / 10) }
		f.want(200, fmt.Sprintf(`"numbers":{"beds":{"count":%d,"sum":%s,"mean":%v,"least":%s,"greatest":%s}}`,
			len(tenths), of(sum), float64(sum)/10/float64(len(tenths)), of(least), of(greatest)), "GET", view, "")
	}
	check()
	for i := range 30 {
		id := fmt.Sprint(r.IntN(200) * 2)
		if i%3 == 0 {
			id = fmt.Sprint(1000 + i)
		}
		if _, there := tenths[id]; there {
			f.want(204, "", "DELETE", "/api/collections/huts/items/"+id, "")
			delete(tenths, id)
			check()
		}
		if i%2 == 0 {
			tenths[id] = r.IntN(600) - 100
			f.want(201, "", "POST", "/api/collections/huts/items", fmt.Sprintf(`{"type":"Feature",`+
				`"id":%q,"geometry":{"type":"Point",`+
				`"coordinates":[-22,-38]},"properties":{"beds":%v}}`, id, float64(tenths[id])/10))
		}
		check()
	}

	// What has no numbers says so, and what nothing has is refused.
	f.want(200, `"numbers":{"name":{"count":0}}`, "GET", strings.Replace(view, "=beds", "=name", 1), "")
	f.want(400, `did you mean \"beds\"?`, "GET", strings.Replace(view, "=beds", "=Beds", 1), "")
	f.want(400, `at most 4`, "GET", view+",name,beds,name,beds", "")
}
