package places

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strconv"
	"strings"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
)

// someValue returns a value in JSON of any form and length.
func someValue(r *rand.Rand, p *Place) string {
	switch r.IntN(11) {
	case 0:
		return "null"
	case 1:
		return strconv.FormatBool(r.IntN(2) == 0)
	case 2:
		return strconv.FormatInt((r.Int64()>>r.IntN(64)-1)%1e15, 10)
	case 3:
		return strconv.FormatFloat(r.NormFloat64()*1e3, 'g', -1, 64)
	case 4:
		return `"` + strings.Repeat("long ", r.IntN(60)) + `"`
	case 5:
		return `"` + strings.Repeat("浮標", r.IntN(60)) + `"`
	case 6:
		return fmt.Sprintf(`"word %d"`, r.IntN(20))
	case 7:
		return `{"a":[` + strings.Repeat("1,", r.IntN(100)) + `2]}`
	case 8:
		return string(feature.AppendText(nil, p.Name))
	case 9:
		return string(feature.AppendText(nil, p.Category))
	}
	return `1e400`
}

// TestProbe asks for some properties of places, in any order, and holds what is said against the JSON.
func TestProbe(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	var names []string
	for i := range 40 { // so that some have numbers that take more than a byte
		names = append(names, fmt.Sprint("p", i))
	}
	var b Builder
	rows := map[string]*Row{}
	for i := range 3000 {
		row := &Row{Place: Place{
			ID: fmt.Sprint(i), At: geo.Point{Lon: r.Float64(), Lat: r.Float64()},
			Name: strings.Repeat("name ", r.IntN(40)), Category: fmt.Sprint("kind ", r.IntN(5)),
		}}
		var members []string
		for _, n := range r.Perm(len(names))[:r.IntN(14)] {
			members = append(members, fmt.Sprintf("%q:%s", names[n], someValue(r, &row.Place)))
		}
		if r.IntN(9) == 0 {
			members = append(members, `"id":7`)
		}
		row.Properties = feature.StoredProperties([]byte("{" + strings.Join(members, ",") + "}"))
		rows[row.ID] = row
		b.Add(row)
	}
	s := b.Build(1).Snapshot()
	for range 30 {
		wanted := []string{"id", "absent", filter.Geometry}
		for _, n := range r.Perm(len(names))[:1+r.IntN(6)] {
			wanted = append(wanted, names[n])
		}
		r.Shuffle(len(wanted), func(i, j int) { wanted[i], wanted[j] = wanted[j], wanted[i] })
		probe := s.newProbe(wanted)
		for e := range s.Tree().All() {
			row := rows[s.Place(e).ID]
			want := func(i int) filter.Value {
				raw, there := row.Properties.Value(wanted[i])
				switch {
				case wanted[i] == filter.Geometry:
					return filter.PositionValue(row.At)
				case there:
					return filter.JSONValue(raw)
				case wanted[i] == "id":
					return filter.TextValue(row.ID)
				}
				return filter.Value{}
			}
			probe.at(&s.columns, e.Ref, e.Category())
			for range r.IntN(4) {
				if i := r.IntN(len(wanted)); !reflect.DeepEqual(*probe.Value(i), want(i)) {
					t.Fatalf("%s of %s is %v, want %v", wanted[i], row.Properties.JSON(), *probe.Value(i), want(i))
				}
			}
			if r.IntN(3) > 0 {
				continue
			}
			for i, got := range probe.read(&s.columns, e.Ref, e.Category()) {
				if !reflect.DeepEqual(got, want(i)) {
					t.Fatalf("%s of %s is read as %v, want %v", wanted[i], row.Properties.JSON(), got, want(i))
				}
			}
		}
	}
}
