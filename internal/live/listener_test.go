package live

import (
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
)

// TestWhoseTurnItIs: a view is looked at when something has changed that concerns it, and in a while if
// something has elsewhere in its collections.
func TestWhoseTurnItIs(t *testing.T) {
	near, far := geo.Spot{X: 15, Y: 15}, geo.Spot{X: 90, Y: 90}
	region := []geo.SpotBox{{Min: geo.Spot{X: 10, Y: 10}, Max: geo.Spot{X: 20, Y: 20}}}
	where := func(spots ...geo.Spot) map[string]*touch { return map[string]*touch{"a": {spots: spots}} }
	for name, c := range map[string]struct {
		collections []string
		region      []geo.SpotBox
		touched     map[string]*touch
		any         bool
		again       time.Duration // that somebody has asked for; 0 for not at all
		want        time.Duration // until it is its turn; -1 for never
	}{
		"near":                 {[]string{"a"}, region, where(far, near), false, 0, 0},
		"elsewhere":            {[]string{"a"}, region, where(far), false, 0, elsewhereEvery},
		"elsewhere, and again": {[]string{"a"}, region, where(far), false, time.Second, time.Second},
		"again":                {[]string{"a"}, region, nil, false, 9 * time.Second, 9 * time.Second},
		"anywhere":             {[]string{"b", "a"}, region, map[string]*touch{"a": {anywhere: true}}, false, 0, 0},
		"another collection":   {[]string{"a"}, region, map[string]*touch{"b": {spots: []geo.Spot{near}}}, false, 0, -1},
		"all of the map":       {[]string{"a"}, nil, where(far), false, 0, 0},
		"all collections":      {nil, nil, map[string]*touch{"b": {spots: []geo.Spot{far}}}, false, 0, 0},
		"anything":             {[]string{"a"}, region, nil, true, 0, 0},
	} {
		t.Run(name, func(t *testing.T) {
			h := &Hub{listeners: map[string]*Listener{}}
			l, err := h.Listen("somebody")
			if err != nil {
				t.Fatal(err)
			}
			l.Look([]View{{Name: "v", Collections: c.collections, Region: c.region}})
			first, err := l.Next(t.Context())
			if err != nil || len(first) != 1 {
				t.Fatalf("at first it is the turn of %d views, %v", len(first), err)
			}
			if due, wait := l.due(first[0].told); len(due) != 0 || wait != 0 {
				t.Errorf("before anything has changed: %d views, %v", len(due), wait)
			}
			if c.again != 0 {
				l.LookAgain(first[0], c.again)
			}
			h.tell(c.touched, c.any)
			due, wait := l.due(first[0].told)
			switch {
			case c.want == 0 && len(due) == 1:
			case c.want < 0 && len(due) == 0 && wait == 0:
			case c.want > 0 && len(due) == 0 && wait > c.want-time.Second && wait < c.want+time.Second:
			default:
				t.Errorf("it is the turn of %d views, in %v", len(due), wait)
			}
			if later, _ := l.due(first[0].told.Add(wait)); c.want > 0 && len(later) != 1 {
				t.Errorf("then it is the turn of %d views", len(later))
			}
			if again, wait := l.due(first[0].told.Add(time.Hour)); len(again) != 0 || wait != 0 {
				t.Errorf("after that: %d views, %v", len(again), wait)
			}
		})
	}
}
