package filter

import (
	"errors"
	"strings"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

type shaped struct{ g geometry.Geometry }

func (s *shaped) Box() geo.Box               { b, _ := s.g.Extent(); return b }
func (s *shaped) Outline() geometry.Geometry { return s.g }

func shape(t *testing.T, wkt string) geometry.Geometry {
	t.Helper()
	g, err := geometry.ParseWKT(wkt)
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func TestSpatialConditions(t *testing.T) {
	area := shape(t, "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))")
	for text, want := range map[string][3]truth{ // of a place at 5, 5; one at 20, 5; and an area half within
		"S_INTERSECTS(geometry, POLYGON((0 0, 10 0, 10 10, 0 10, 0 0)))": {isTrue, isFalse,
			isTrue},
		"S_WITHIN(geometry, POLYGON((0 0, 10 0, 10 10, 0 10)))": {isTrue, isFalse,
			isFalse},
		"s_within ( GEOMETRY , BBOX(0,0,10,10) )": {isTrue, isFalse,
			isFalse},
		"S_INTERSECTS(geometry, BBOX(-170,-80,180,80))": {isTrue, isTrue,
			isTrue},
		"S_INTERSECTS(geometry, BBOX(170, 0, 6, 10))": {isTrue, isFalse,
			isTrue},
		"NOT S_WITHIN(geometry, ITEM('areas', 'it''s'))": {isFalse, isTrue,
			isTrue},
		"S_INTERSECTS(geometry, LINESTRING (5 5, 9 9)) AND berths > 3": {isTrue, isFalse,
			isTrue},
		"berths > 3 OR S_WITHIN(geometry, ITEM('areas', 'it''s'))": {isTrue, isTrue,
			isTrue},
		"S_INTERSECTS(geometry, POINT(20 5)) AND geometry IS NULL": {isFalse, isTrue,
			isFalse},
		"S_WITHIN(geometry, MULTIPOLYGON(((0 0,6 0,6 6,0 6,0 0)),((19 4,21 4,21 6,19 6,19 4))))": {isTrue, isTrue,
			isFalse},
	} {
		f, err := Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if again, err := Parse(f.String()); err != nil || again.String() != f.String() {
			t.Errorf("%s: its canonical form %s is read as %v, %v", text, f, again, err)
		}
		version := "1"
		bind := func(i Item) (*geometry.Region, string, error) {
			if i != (Item{"areas", "it's"}) {
				return nil, "", errors.New("no such item")
			}
			return geometry.Prepare(&area), version, nil
		}
		bound, err := f.Bind(bind)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if named := len(f.Items()) > 0; named != (bound.String() != f.String()) {
			t.Errorf("%s bound is %s", text, bound)
		}
		version = "2"
		if later, _ := f.Bind(bind); len(f.Items()) > 0 && later.String() == bound.String() {
			t.Errorf("%s: another version has the same text", text)
		}
		for i, where := range []Value{
			PositionValue(geo.Point{Lon: 5, Lat: 5}), PositionValue(geo.Point{Lon: 20, Lat: 5}),
			ShapeValue(&shaped{shape(t, "POLYGON ((5 5, 15 5, 15 6, 5 6, 5 5))")}),
		} {
			var values []Value
			for _, name := range bound.Properties() {
				values = append(values, map[string]Value{Geometry: where, "berths": NumberValue(4)}[name])
			}
			if got := bound.root.holds(list(values)); got != want[i] {
				t.Errorf("%s of place %d: %v, want %v", text, i, got, want[i])
			}
		}
	}
	for text, want := range map[string]string{
		"S_WITHIN(geometry, LINESTRING(1 1, 2 2))":        "is no area",
		"S_WITHIN(geometry, POLYGON((0 0, 200 0, 1 1)))":  "want -180 to 180",
		"S_WITHIN(name, BBOX(1,2,3,4))":                   "expected geometry",
		"S_WITHIN(geometry, BBOX(1,2,3))":                 "want four",
		"S_WITHIN(geometry, ITEM('a'))":                   "want a collection and an id",
		"S_WITHIN(geometry, ITEM('a', 'b', 'c'))":         "has more in it",
		"S_WITHIN(geometry, 'a')":                         "Well-Known Text",
		"S_WITHIN(geometry, BBOX(1,2,3,4)":                "found the end",
		"S_WITHIN(geometry, POLYGON((0 0, 1 0, 1 1, 0 0)": "Well-Known Text",
		"S_WITHIN(geometry)":                              "expected a comma",
	} {
		if f, err := Parse(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, %v; want %q", text, f, err, want)
		}
	}
	line := shape(t, "LINESTRING (0 0, 1 1)")
	f := Must("S_WITHIN(geometry, ITEM('a', 'b'))")
	if _, err := f.Bind(func(Item) (*geometry.Region, string, error) {
		return geometry.Prepare(&line), "",
			nil
	}); err == nil {
		t.Error("something lies within a line")
	}
	if f.Matches([]Value{PositionValue(geo.Point{})}) {
		t.Error("a condition that is not bound holds")
	}
}
