package watch

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
)

func TestHours(t *testing.T) {
	// The days are of April 2026, in Dublin, which is an hour ahead of UTC then; the 10th is a Friday.
	at := func(day int, clock string) motion.Moment {
		when, err := time.Parse("15:04", clock)
		if err != nil {
			t.Fatal(err)
		}
		return motion.MomentOf(time.Date(2026, 4, day, when.Hour()-1, when.Minute(), 0, 0, time.UTC))
	}
	for _, c := range []struct {
		from, to string
		days     []string
		in, out  []motion.Moment
	}{
		{
			"08:00", "17:30", nil, []motion.Moment{at(10, "08:00"), at(11, "17:29")},
			[]motion.Moment{at(10, "07:59"), at(10, "17:30")},
		},
		{
			"22:00", "06:30", nil, []motion.Moment{at(10, "22:00"), at(11, "06:29")},
			[]motion.Moment{at(10, "21:59"), at(11, "06:30")},
		},
		{
			"22:00", "06:30", []string{"fri"}, []motion.Moment{at(10, "23:00"), at(11, "03:00")},
			[]motion.Moment{at(10, "03:00"), at(11, "23:00")},
		},
		{
			"00:00", "00:00", []string{"sat", "sun"}, []motion.Moment{at(11, "00:00"), at(12, "23:59")},
			[]motion.Moment{at(10, "23:59")},
		},
	} {
		h, err := ParseHours(c.from, c.to, c.days, "Europe/Dublin")
		if err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(h.DayNames(), c.days) {
			t.Errorf("the days are %v", h.DayNames())
		}
		for _, m := range c.in {
			if !h.Contain(m) {
				t.Errorf("%s to %s on %v does not contain %v", c.from, c.to, c.days, m.Time())
			}
		}
		for _, m := range c.out {
			if h.Contain(m) {
				t.Errorf("%s to %s on %v contains %v", c.from, c.to, c.days, m.Time())
			}
		}
	}
}

// TestCellsCover looks for a position of an area outside its cells, near poles and the antimeridian too.
func TestCellsCover(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for range 3000 {
		a := Area{
			Centre: geo.Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*180 - 90}, Radius: 1 + r.Float64()*MaxRadius,
		}
		if r.IntN(3) == 0 {
			a.Centre.Lon = 180 - r.Float64()*0.2
		}
		cells := cover(a.box())
		if len(cells) > 40 {
			t.Fatalf("%+v has %d cells", a, len(cells))
		}
		for range 20 {
			p := geo.Destination(a.Centre, a.Radius*r.Float64(), r.Float64()*360)
			at := geo.Project(p)
			if a.Contains(p) && !slices.ContainsFunc(cells, func(c cell) bool { return cellOf(at, c.level) == c }) {
				t.Fatalf("%v is in %+v, but in none of its cells", p, a)
			}
		}
	}
}

// TestDevicesAreFound looks for devices within some metres, near poles and the antimeridian too.
func TestDevicesAreFound(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	settings := motion.DefaultSettings()
	for _, centre := range []geo.Point{
		{Lon: -22, Lat: -38.5}, {Lon: 180, Lat: 10}, {Lon: -180, Lat: -60}, {Lon: 5, Lat: 84.9}, {Lat: 89.99},
	} {
		e := NewEngine()
		at := map[int64]geo.Point{}
		for key := range int64(300) {
			p := geo.Destination(centre, 8000*r.Float64(), 360*r.Float64())
			at[key] = p
			e.SetDevice(Device{Key: key, Settings: &settings})
			e.Seed(key, []motion.Position{motion.At(p, 1000)})
		}
		for range 50 {
			from, metres := geo.Destination(centre, 8000*r.Float64(), 360*r.Float64()), 3000*r.Float64()
			found := map[int64]bool{}
			e.within(from, metres, func(d *device) { found[d.Key] = true })
			for key, p := range at {
				if geo.Distance(from, p) <= metres && !found[key] {
					t.Fatalf("%v, %v m from %v, is not found", p, geo.Distance(from, p), from)
				}
			}
		}
	}
}

// TestRulesOfOldDevices are about a device whose group, properties or sharing change.
func TestRulesFollowDevices(t *testing.T) {
	settings := motion.DefaultSettings()
	e := NewEngine()
	rule := &Rule{Notices: []Kind{Fast}, FasterThan: 5, Margin: 10, WorstAccuracy: 100}
	e.SetRule(&Bound{Rule: rule, Key: 1, Groups: []int64{7}})
	now := motion.Moment(1_000_000)
	step := func(d Device, speed float32) (n int) {
		now += 10_000
		d.Key, d.Settings = 1, &settings
		e.SetDevice(d)
		p := motion.At(geo.Point{Lon: -22, Lat: -38.5}, now)
		p.Speed = speed
		e.Judge(1, &p)
		events, _ := e.Take()
		return len(events)
	}
	for i, c := range []struct {
		device Device
		speed  float32
		want   int
	}{
		{Device{Group: 7}, 9, 1}, {Device{Group: 7}, 9, 0}, {Device{Group: 8}, 9, 0}, {Device{Group: 7}, 9, 1},
		{Device{Group: 7, Paused: true}, 9, 0}, {Device{Group: 7}, 4.8, 0}, {Device{Group: 7}, 9, 1},
		{Device{Group: 7}, 4.8, 0},
		{Device{Group: 7}, 9, 0}, {Device{Group: 7}, 4, 0}, {Device{Group: 7}, 9, 1},
	} {
		if got := step(c.device, c.speed); got != c.want {
			t.Errorf("step %d: %d things are noticed, want %d", i, got, c.want)
		}
	}
	e.RemoveDevice(1)
	e.RemoveRule(1)
	if len(e.flags)+len(e.rules)+len(e.devices)+len(e.grid)+len(e.changed) != 0 {
		t.Errorf("something is left: %+v", e)
	}
}

// BenchmarkJudge judges positions of a thousand devices by ten thousand rules.
func BenchmarkJudge(b *testing.B) {
	r := rand.New(rand.NewPCG(6, 6))
	settings := motion.DefaultSettings()
	e := NewEngine()
	const devices, rules = 1000, 10_000
	for key := range int64(devices) {
		e.SetDevice(Device{Key: key + 1, Group: 1, Settings: &settings, Properties: "{}"})
	}
	for i := range rules {
		rule := &Rule{
			Where: &Where{Item: "a"}, Notices: []Kind{Entered, Left}, Margin: DefaultMargin, WorstAccuracy: DefaultWorstAccuracy,
		}
		bound := &Bound{Rule: rule, Key: int64(i + 1)}
		east, north, size := r.Float64()*60_000-30_000, r.Float64()*30_000-15_000, 50+r.Float64()*500
		if i%2 == 0 {
			bound.Area = square(east, north, size)
		} else {
			bound.Area = &Area{Centre: offset(east, north), Radius: size}
		}
		e.SetRule(bound)
	}
	var east, north [devices]float64
	for i := range devices {
		east[i], north[i] = r.Float64()*60_000-30_000, r.Float64()*30_000-15_000
	}
	now, n := motion.Moment(1_000_000_000), 0
	for b.Loop() {
		i := n % devices
		if n++; i == 0 {
			now += 1000
		}
		east[i], north[i] = east[i]+r.Float64()*20-10, north[i]+r.Float64()*20-10
		p := motion.At(offset(east[i], north[i]), now)
		e.Judge(int64(i+1), &p)
		if n%1000 == 0 {
			e.Take()
		}
	}
}
