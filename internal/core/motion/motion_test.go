package motion

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
)

const start = Moment(1_780_000_000_000)

var harbour = geo.Point{Lon: -22, Lat: -38.5}

// trip returns positions of a device that goes east at a speed, one in so many seconds.
func trip(from Moment, at geo.Point, metresPerSecond float64, seconds, n int) (track []Position) {
	for i := range n {
		p := At(geo.Destination(at, metresPerSecond*float64(i*seconds), 90), from.Add(time.Duration(i*seconds)*time.Second))
		track = append(track, p)
	}
	return track
}

// randomTrack returns positions of a device that goes, rests, jumps and says nothing for a while.
func randomTrack(r *rand.Rand, n int) (track []Position) {
	at, now := harbour, start
	for range n {
		p := At(at, now)
		if r.IntN(3) == 0 {
			p.Speed = float32(r.IntN(10))
		}
		if r.IntN(3) == 0 {
			p.Accuracy = float32(r.IntN(40))
		}
		p.Received = now.Add(time.Duration(r.IntN(5000)) * time.Millisecond)
		track = append(track, p)
		now = now.Add(time.Duration(1+r.IntN(60)) * time.Second)
		switch r.IntN(12) {
		case 0:
			now = now.Add(time.Hour)
		case 1:
			at = geo.Destination(at, 1e6*r.Float64(), r.Float64()*360)
		case 2, 3, 4:
			at = geo.Destination(at, 300*r.Float64(), r.Float64()*360)
		}
	}
	return track
}

// seen is all that is told of a device.
func seen(r *Recent, now Moment) string {
	s := DefaultSettings()
	state, since := r.State(now, &s)
	newest := r.Newest()
	before, step, known := r.Last(&s)
	ahead, sure := r.ClockError()
	return fmt.Sprint(state, since, *newest, before, step, known, r.Speed(&s), r.Heading(&s), ahead, sure)
}

// TestOrderDoesNotMatter gives the same positions in many orders, some of them several times.
func TestOrderDoesNotMatter(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		track := randomTrack(r, 1+r.IntN(20))
		now := track[len(track)-1].Time.Add(time.Duration(r.IntN(600)) * time.Second)
		var ordered Recent
		for i := range track {
			if got := ordered.Add(&track[i]); got != Newer {
				t.Fatalf("seed %d: a newer position is %v", seed, got)
			}
		}
		shuffled := slices.Concat(track, track[:r.IntN(len(track)+1)])
		r.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		var other Recent
		for i := range shuffled {
			other.Add(&shuffled[i])
		}
		if want, got := seen(&ordered, now), seen(&other, now); got != want {
			t.Fatalf("seed %d: in order\n%s\nshuffled\n%s", seed, want, got)
		}
	}
}

func TestRepeatsAreKnown(t *testing.T) {
	var r Recent
	track := trip(start, harbour, 3, 10, 3)
	for i, want := range []Arrival{Newer, Newer, Newer} {
		if got := r.Add(&track[i]); got != want {
			t.Errorf("position %d: %v", i, got)
		}
	}
	moved := track[1]
	moved.At.Lat++
	if r.Add(&track[2]) != Repeated || r.Add(&moved) != Repeated {
		t.Error("a position with the time of another is not a repeat")
	}
	between := At(harbour, start.Add(time.Second))
	if got := r.Add(&between); got != Late {
		t.Errorf("one between is %v", got)
	}
	if newest := r.Newest(); newest.Time != track[2].Time {
		t.Error("a late position moved the device")
	}
}

func TestStates(t *testing.T) {
	s := DefaultSettings()
	fast, slow := trip(start, harbour, 5, 10, 4), trip(start, harbour, 0.1, 10, 4)
	told := trip(start, harbour, 0.1, 10, 4)
	told[3].Speed = 6
	// At 0.6 m/s a device that has moved moves still, and one that was still does not move.
	slowing := append(trip(start, harbour, 5, 10, 2), trip(start.Add(20*time.Second), geo.Destination(harbour, 56, 90),
		0.6, 10, 2)...)
	starting := trip(start, harbour, 0.6, 10, 4)
	jitter := trip(start, harbour, 1, 10, 4)
	for i := range jitter {
		jitter[i].Accuracy = 15
	}
	leap := trip(start, harbour, 5000, 10, 2)
	for name, c := range map[string]struct {
		track []Position
		after time.Duration // the last position
		want  State
		since Moment
	}{
		"moving":           {fast, 0, Moving, fast[1].Time},
		"still":            {slow, 0, Still, start},
		"says it moves":    {told, 0, Moving, told[3].Time},
		"slower":           {slowing, 0, Moving, slowing[1].Time},
		"not fast enough":  {starting, 0, Still, start},
		"within accuracy":  {jitter, 0, Still, start},
		"jump":             {leap, 0, Still, start},
		"silent":           {fast, s.SilentAfter + time.Second, Silent, fast[3].Time.Add(s.SilentAfter)},
		"not yet silent":   {fast, s.SilentAfter, Moving, fast[1].Time},
		"never heard of":   {nil, 0, Unheard, 0},
		"alone and moving": {told[3:], 0, Moving, told[3].Time},
	} {
		var r Recent
		now := start
		for i := range c.track {
			r.Add(&c.track[i])
			now = c.track[i].Time.Add(c.after)
		}
		if state, since := r.State(now, &s); state != c.want || since != c.since {
			t.Errorf("%s: %v since %v, want %v since %v", name, state, since.Sub(start), c.want, c.since.Sub(start))
		}
	}
}

func TestClockErrors(t *testing.T) {
	for _, c := range []struct {
		delays []time.Duration
		ahead  time.Duration
		known  bool
	}{
		{[]time.Duration{-42 * time.Second, -42 * time.Second, -41500 * time.Millisecond}, 42 * time.Second, true},
		{[]time.Duration{90 * time.Second, 91 * time.Second, 90 * time.Second}, -90 * time.Second, true},
		{[]time.Duration{300 * time.Millisecond, 90 * time.Millisecond, 100 * time.Millisecond}, 0, false},
		{[]time.Duration{10 * time.Minute, 5 * time.Minute, time.Second}, 0, false}, // sent together, later
		{[]time.Duration{-42 * time.Second, -42 * time.Second}, 0, false},
	} {
		var r Recent
		for i, delay := range c.delays {
			p := At(harbour, start.Add(time.Duration(i)*time.Minute))
			p.Received = p.Time.Add(delay)
			r.Add(&p)
		}
		if ahead, known := r.ClockError(); ahead != c.ahead || known != c.known {
			t.Errorf("%v: %v, %v", c.delays, ahead, known)
		}
	}
}

func TestTracks(t *testing.T) {
	s := DefaultSettings()
	track := trip(start, harbour, 4, 10, 31) // 300 s, 1200 m
	rest := track[30]
	for i := range 20 { // 190 s of rest, that wander
		p := At(geo.Destination(rest.At, 1, float64(i*80)), rest.Time.Add(time.Duration(i+1)*10*time.Second))
		track = append(track, p)
	}
	afterGap := track[len(track)-1].Time.Add(time.Hour)
	track = append(track, trip(afterGap, geo.Destination(harbour, 3000, 0), 5, 10, 11)...) // 500 m
	track = append(track, At(geo.Point{Lon: 10, Lat: 50}, track[len(track)-1].Time.Add(10*time.Second)))
	legs := s.Legs(track)
	if want := []Leg{{0, 51, Travel}, {51, 62, Gap}, {62, 63, Jump}}; !reflect.DeepEqual(legs, want) {
		t.Fatalf("the legs are %v", legs)
	}
	sum := s.Summarise(track)
	if math.Abs(sum.Distance-1700) > 5 || sum.Gaps != 1 || sum.Jumps != 1 || sum.Moving != 400*time.Second ||
		math.Abs(sum.Mean()-4.25) > 0.02 || math.Abs(sum.Fastest-5) > 0.01 || sum.Still != 200*time.Second {
		t.Errorf("%+v", sum)
	}
	if len(sum.Stops) != 1 || geo.Distance(sum.Stops[0].At, rest.At) > 2 || sum.Stops[0].From != rest.Time {
		t.Errorf("the stops are %+v", sum.Stops)
	}
}

// TestThin holds that no position is further from the line than it may be.
func TestThin(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 2))
		var leg []Position
		at, course := geo.Point{Lon: 179.99, Lat: 10}, 90.0
		for i := range 1 + r.IntN(3000) {
			leg = append(leg, At(at, start.Add(time.Duration(i)*time.Second)))
			course += r.NormFloat64() * 10
			at = geo.Destination(at, 20*r.Float64(), course)
		}
		metres := 1 + 30*r.Float64()
		kept := Thin(leg, metres)
		if kept[0] != 0 || kept[len(kept)-1] != len(leg)-1 || !slices.IsSorted(kept) {
			t.Fatalf("seed %d: kept %v of %d", seed, kept, len(leg))
		}
		for i := 1; i < len(kept); i++ {
			for k := kept[i-1]; k <= kept[i]; k++ {
				if d := beside(leg[kept[i-1]].At, leg[kept[i]].At, leg[k].At); d > metres {
					t.Fatalf("seed %d: position %d is %v m from the line, want %v", seed, k, d, metres)
				}
			}
		}
		if len(leg) > 100 && len(kept) > len(leg)/2 {
			t.Errorf("seed %d: %d of %d are kept", seed, len(kept), len(leg))
		}
	}
}

func TestReports(t *testing.T) {
	full := `{"device":"WB-07","latitude":-38.5,"longitude":-22,"accuracy":4,"altitude":2,"altitudeAccuracy":9,` +
		`"heading":360,"speed":3.5,"timestamp":1780000000000.7,"properties":{"battery": 80}}`
	r, err := ParseReport([]byte(full))
	if err != nil || r.Device != "WB-07" || r.At != harbour || r.Heading != 0 || r.Speed != 3.5 || r.Time != start ||
		string(r.Properties) != `{"battery":80}` || !r.Timed {
		t.Errorf("%+v, %v", r, err)
	}
	browser := `{"device":"p","timestamp":1780000000000,"coords":{"latitude":-38.5,"longitude":-22,"accuracy":8,` +
		`"altitude":null,"altitudeAccuracy":null,"heading":null,"speed":null}}`
	r, err = ParseReport([]byte(browser))
	if err != nil || Known(r.Altitude) || Known(r.Speed) || r.Accuracy != 8 || r.At != harbour {
		t.Errorf("%+v, %v", r, err)
	}
	for text, want := range map[string]string{
		`{"longitude":1}`:                                          "latitude",
		`{"latitude":1}`:                                           "longitude",
		`{"latitude":100,"longitude":1}`:                           "swapped",
		`{"latitude":1,"longitude":1,"lat":2}`:                     "lat",
		`{"latitude":1,"longitude":1,"speed":-1}`:                  "leave it out",
		`{"latitude":1,"longitude":1,"heading":400}`:               "heading",
		`{"latitude":"1","longitude":1}`:                           "latitude",
		`{"latitude":1,"longitude":1,"timestamp":1780000000}`:      "seconds",
		`{"latitude":1,"longitude":1,"timestamp":"yesterday"}`:     "timestamp",
		`{"latitude":1,"longitude":1,"timestamp":-5}`:              "1970",
		`{"latitude":1,"longitude":1,"timestamp":1e300}`:           "timestamp",
		`{"latitude":1,"longitude":1,"properties":[1]}`:            "properties",
		`{"latitude":1,"longitude":1,"coords":{"latitude":1}}`:     "coords",
		`{"latitude":1,"longitude":1,"properties":{"a":"\u0000"}}`: "U+0000",
		`[]`:   "report",
		`{"la`: "report",
		`{"latitude":1,"longitude":1,"properties":{"a":"` + strings.Repeat("x", 5000) + `"}}`: "bytes",
	} {
		if _, err := ParseReport([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.80s: %v", text, err)
		}
	}
}

// FuzzParseReport holds that what is read is a position that can be told again.
func FuzzParseReport(f *testing.F) {
	f.Add(`{"device":"WB-07","latitude":-38.5,"longitude":-22,"timestamp":"2026-04-12T06:30:00Z","properties":{"a":1}}`)
	f.Add(`{"coords":{"latitude":1e1,"longitude":2,"speed":0},"timestamp":12}`)
	f.Fuzz(func(t *testing.T, text string) {
		r, err := ParseReport([]byte(text))
		if err != nil {
			return
		}
		if err := r.Validate(); err != nil {
			t.Fatal(err)
		}
		if r.Properties != nil && !json.Valid(r.Properties) {
			t.Fatalf("the properties are %q", r.Properties)
		}
	})
}
