package demo

import (
	"math"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
)

// TestFleetMoves follows devices for a day: boats stay on the water, nothing jumps, and who starts again goes on.
func TestFleetMoves(t *testing.T) {
	w := New(1)
	f, again := w.Fleet(DefaultDevices), New(1).Fleet(DefaultDevices)
	devices := f.Devices()
	if len(devices) != DefaultDevices {
		t.Fatalf("there are %d devices", len(devices))
	}
	groups := map[string]int{}
	for i, d := range devices {
		groups[d.Group]++
		moved, ashore := 0.0, 0
		at := time.Unix(1_790_000_000, 0)
		last := f.At(i, at)
		for range 24 * 60 {
			at = at.Add(time.Minute)
			now := f.At(i, at)
			if other := again.At(i, at); other.At != now.At || other.Battery != now.Battery {
				t.Fatalf("%s is at %v, and at %v", d.ID, now.At, other.At)
			}
			step := geo.Distance(last.At, now.At)
			if step > 60*10+20 {
				t.Fatalf("%s goes %.0f m in a minute", d.ID, step)
			}
			if d.Group == "workboats" && w.onLand(now.At) {
				ashore++
			}
			if math.IsNaN(now.Heading) != (now.Speed == 0) {
				t.Fatalf("%s: %+v", d.ID, now)
			}
			moved += step
			last = now
		}
		if d.Group != "buoys" && moved < 2000 {
			t.Errorf("%s moves %.0f m in a day", d.ID, moved)
		}
		if ashore > 24*60/20 {
			t.Errorf("%s is on land %d of %d times", d.ID, ashore, 24*60)
		}
	}
	if groups["workboats"] != 63 || groups["handhelds"] != 49 || groups["buoys"] != 28 {
		t.Errorf("the groups are %v", groups)
	}
	if n := len(w.Fleet(1).Devices()); n != 1 {
		t.Errorf("a fleet of one has %d", n)
	}
}
