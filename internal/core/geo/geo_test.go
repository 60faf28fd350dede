package geo

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
)

func randomPoint(r *rand.Rand) Point {
	return Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*180 - 90}
}

func TestDistanceAndBearing(t *testing.T) {
	quarter := math.Pi / 2 * EarthRadius
	anyway := math.NaN() // between antipodes every bearing is right
	for _, c := range []struct {
		a, b            Point
		metres, bearing float64
	}{
		{Point{}, Point{}, 0, 0},
		{Point{}, Point{Lon: 90}, quarter, 90},
		{Point{}, Point{Lat: 90}, quarter, 0},
		{Point{}, Point{Lon: -90}, quarter, 270},
		{Point{Lon: 179.5}, Point{Lon: -179.5}, quarter / 90, 90},
		{Point{Lon: 10}, Point{Lon: -170}, 2 * quarter, anyway},
		{Point{Lat: 90}, Point{Lon: 30, Lat: -90}, 2 * quarter, anyway},
	} {
		if got := Distance(c.a, c.b); math.Abs(got-c.metres) > 1e-3 {
			t.Errorf("Distance(%v, %v) = %v, want %v", c.a, c.b, got, c.metres)
		}
		if got := Bearing(c.a, c.b); math.Abs(got-c.bearing) > 1e-6 {
			t.Errorf("Bearing(%v, %v) = %v, want %v", c.a, c.b, got, c.bearing)
		}
	}
}

func TestDestinationUndoesDistanceAndBearing(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		a := Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*170 - 85}
		metres, bearing := r.Float64()*1e6, r.Float64()*360
		b := Destination(a, metres, bearing)
		if got := Distance(a, b); math.Abs(got-metres) > 0.01 {
			t.Fatalf("Destination(%v, %v, %v) = %v, at %v m", a, metres, bearing, b, got)
		}
		if got := math.Abs(Bearing(a, b) - bearing); metres > 1000 && got > 1e-4 && got < 360-1e-4 {
			t.Fatalf("Destination(%v, %v, %v) = %v, at bearing %v", a, metres, bearing, b, Bearing(a, b))
		}
	}
}

// TestBoxDistance checks the distance to a box against the nearest of many
// points of the box: never above any of them, and close to the least.
func TestBoxDistance(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 400 {
		a, c := randomPoint(r), randomPoint(r)
		b := Box{West: a.Lon, East: c.Lon, South: min(a.Lat, c.Lat), North: max(a.Lat, c.Lat)}
		if r.IntN(2) == 0 { // a small one
			b.East = WrapLon(b.West + r.Float64()*5)
			b.North = min(90, b.South+r.Float64()*5)
		}
		width := b.East - b.West
		if b.CrossesAntimeridian() {
			width += 360
		}
		p := randomPoint(r)
		got, least := b.Distance(p), math.Inf(1)
		if b.Contains(p) {
			least = 0
		}
		const steps = 60
		for i := range steps + 1 {
			for j := range steps + 1 {
				q := Point{
					Lon: WrapLon(b.West + width*float64(i)/steps),
					Lat: b.South + (b.North-b.South)*float64(j)/steps,
				}
				least = min(least, Distance(p, q))
			}
		}
		step := (width + b.North - b.South) / steps * math.Pi / 180 * EarthRadius
		if got > least+1e-3 || got < least-step {
			t.Fatalf("distance from %v to box %v = %v, but a point of it is at %v", p, b, got, least)
		}
	}
}

func TestSpotBoxesHoldWhatTheBoxHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	edges := []float64{-180, -90, -0.0001, 0, 90, 179.9999, 180}
	lon := func() float64 {
		if r.IntN(3) == 0 {
			return edges[r.IntN(len(edges))]
		}
		return r.Float64()*360 - 180
	}
	for range 20000 {
		lats := [2]float64{r.Float64()*180 - 90, r.Float64()*180 - 90}
		b := Box{West: lon(), East: lon(), South: min(lats[0], lats[1]), North: max(lats[0], lats[1])}
		p := Point{Lon: lon(), Lat: r.Float64()*180 - 90}
		held := 0
		for _, sb := range b.SpotBoxes() {
			if sb.Contains(Project(p)) {
				held++
				if back := sb.Box(); p.Lon != 180 && !back.Contains(p) {
					t.Fatalf("%v is in %v, but not in its box %v", p, sb, back)
				}
			}
		}
		if held > 1 || b.Contains(p) && held == 0 {
			t.Fatalf("box %v contains %v: %v, held by %d spot boxes %v", b, p, b.Contains(p), held, b.SpotBoxes())
		}
	}
}

func TestProjectRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 5000 {
		p := Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*170 - 85}
		if d := Distance(p, Project(p).Centre()); d > 0.01 {
			t.Fatalf("%v comes back %v m away", p, d)
		}
	}
	if Project(Point{Lon: 180}) != Project(Point{Lon: -180}) {
		t.Error("the antimeridian has two spots")
	}
	if got := Project(Point{Lat: 90}).Y; got != 0 {
		t.Errorf("north pole at Y %d", got)
	}
	if got := Project(Point{Lat: -90}).Y; got != 1<<32-1 {
		t.Errorf("south pole at Y %d", got)
	}
}

func TestParseBox(t *testing.T) {
	for _, c := range []struct{ in, err string }{
		{"-22.5,-39,-21.5,-38", ""},
		{" 170, -10 ,-170,10", ""},
		{"1,2,3", "has 3 numbers"},
		{"1,2,3,x", `"x" is not a number`},
		{"1,2,3,", `"" is not a number`},
		{"0,10,1,-10", "south 10 is above north -10"},
		{"0,-91,1,0", "latitude is -91"},
		{"-181,0,1,1", "longitude is -181"},
		{"NaN,0,1,1", "not a finite number"},
		{"-38.5,-122,-38,-121", "may be swapped"},
	} {
		b, err := ParseBox(c.in)
		if c.err == "" {
			if err != nil {
				t.Errorf("ParseBox(%q): %v", c.in, err)
			} else if again, err := ParseBox(b.String()); err != nil || again != b {
				t.Errorf("ParseBox(%q) comes back as %v, %v", b.String(), again, err)
			}
		} else if err == nil || !strings.Contains(err.Error(), c.err) {
			t.Errorf("ParseBox(%q): error %v, want one with %q", c.in, err, c.err)
		}
	}
}

func FuzzParseBox(f *testing.F) {
	f.Add("1,2,3,4")
	f.Add("170,-1,-170,1")
	f.Fuzz(func(t *testing.T, s string) {
		b, err := ParseBox(s)
		if err != nil {
			return
		}
		if again, err := ParseBox(b.String()); err != nil || again != b {
			t.Fatalf("%q: %v comes back as %v, %v", s, b, again, err)
		}
	})
}

func TestLatitudeIsThatOfTheFormula(t *testing.T) {
	for i := range 100_001 {
		y := float64(i) / 100_000
		want := 180 / math.Pi * math.Atan(math.Sinh(math.Pi*(1-2*y)))
		if got := latitude(y); math.Abs(got-want) > 1e-10 {
			t.Fatalf("latitude(%v) = %v, want %v", y, got, want)
		}
	}
}
