package motion

import (
	"math"
	"time"

	"idlebeacon/internal/core/geo"
)

// A Leg is a run of positions of a track that are joined, by their numbers in it.
type Leg struct {
	From, To int  // of positions; To is not in it
	After    Step // what parts it from the leg before: Gap or Jump; Travel for the first
}

// Legs cuts a track, whose positions are in the order of their times, where there are gaps and jumps.
func (s *Settings) Legs(track []Position) (legs []Leg) {
	start, after := 0, Travel
	for i := 1; i <= len(track); i++ {
		step := Travel
		if i < len(track) {
			if step = s.Between(&track[i-1], &track[i]); step == Travel {
				continue
			}
		}
		legs = append(legs, Leg{start, i, after})
		start, after = i, step
	}
	if len(track) == 0 {
		return nil
	}
	return legs
}

// A Stop is where a device was still for a while.
type Stop struct {
	At       geo.Point // the mean of its positions then
	From, To Moment
}

// A Summary is what a track comes to.
type Summary struct {
	Positions   int
	Distance    float64 // metres, along the legs, without the wander of a device that is still
	Elapsed     time.Duration
	Moving      time.Duration // within legs
	Still       time.Duration // within legs
	Gaps, Jumps int
	Fastest     float64 // metres per second
	Stops       []Stop
}

// Mean returns the mean speed while moving in metres per second, 0 if it never moved.
func (s *Summary) Mean() float64 {
	if s.Moving <= 0 {
		return 0
	}
	return s.Distance / s.Moving.Seconds()
}

// Summarise returns what a track comes to, whose positions are in the order of their times.
func (s *Settings) Summarise(track []Position) (sum Summary) {
	sum.Positions = len(track)
	if len(track) == 0 {
		return sum
	}
	sum.Elapsed = track[len(track)-1].Time.Sub(track[0].Time)
	for _, leg := range s.Legs(track) {
		switch leg.After {
		case Gap:
			sum.Gaps++
		case Jump:
			sum.Jumps++
		}
		s.walk(track[leg.From:leg.To], &sum)
	}
	return sum
}

// walk adds a leg to a summary.
func (s *Settings) walk(leg []Position, sum *Summary) {
	state := s.first(&leg[0])
	still := 0 // the first position of the run in which the device is still
	end := func(to int) {
		if state == Still {
			s.stop(leg[still:to], sum)
		}
	}
	for i := 1; i < len(leg); i++ {
		a, b := &leg[i-1], &leg[i]
		if speed, known := s.SpeedOver(a, b); known {
			sum.Fastest = max(sum.Fastest, speed)
		}
		next := s.next(state, a, b)
		if next == Moving {
			sum.Moving += b.Time.Sub(a.Time)
			sum.Distance += geo.Distance(a.At, b.At)
		} else {
			sum.Still += b.Time.Sub(a.Time)
		}
		switch {
		case state == Still && next == Moving:
			end(i)
		case state == Moving && next == Still:
			still = i - 1 // where it came to rest
		}
		state = next
	}
	end(len(leg))
}

// stop adds a run of positions in which a device was still, if that was long enough.
func (s *Settings) stop(run []Position, sum *Summary) {
	if len(run) == 0 {
		return
	}
	from, to := run[0].Time, run[len(run)-1].Time
	if to.Sub(from) < s.StopFrom {
		return
	}
	var lon, lat float64 // beside the first, so that the antimeridian is no matter
	for i := range run {
		lon += geo.WrapLon(run[i].At.Lon - run[0].At.Lon)
		lat += run[i].At.Lat - run[0].At.Lat
	}
	n := float64(len(run))
	at := geo.Point{Lon: geo.WrapLon(run[0].At.Lon + lon/n), Lat: run[0].At.Lat + lat/n}
	sum.Stops = append(sum.Stops, Stop{at, from, to})
}

// Thin returns the numbers of those positions of a leg that its line needs so that no position is
// further from it than so many metres, the first and the last among them (D. H. Douglas and T. K. Peucker,
// "Algorithms for the Reduction of the Number of Points Required to Represent a Digitized Line or its
// Caricature", Cartographica 10(2), 1973). It takes pieces of a bounded number of positions by
// themselves, so its cost goes with their number.
func Thin(leg []Position, metres float64) (kept []int) {
	const together = 1024
	if len(leg) == 0 {
		return nil
	}
	kept = append(kept, 0)
	for from := 0; from+1 < len(leg); from += together {
		to := min(from+together, len(leg)-1)
		kept = thin(leg, from, to, metres, kept)
	}
	return kept
}

// thin appends the numbers of the positions after from and up to to that are needed.
func thin(leg []Position, from, to int, metres float64, kept []int) []int {
	worst, at := metres, -1
	for i := from + 1; i < to; i++ {
		if d := beside(leg[from].At, leg[to].At, leg[i].At); d > worst {
			worst, at = d, i
		}
	}
	if at < 0 {
		return append(kept, to)
	}
	return thin(leg, at, to, metres, thin(leg, from, at, metres, kept))
}

// beside returns how far in metres p is from the line from a to b, on a plane that touches the Earth
// at a: good for the length of a leg's pieces.
func beside(a, b, p geo.Point) float64 {
	bx, by := geo.Offset(a, b)
	px, py := geo.Offset(a, p)
	along := 0.0
	if length := bx*bx + by*by; length > 0 {
		along = max(0, min(1, (px*bx+py*by)/length))
	}
	return math.Hypot(px-along*bx, py-along*by)
}
