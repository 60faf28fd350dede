package axes

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/worlds"
)

// A land is where the places of a generated file are.
type land func(r *rand.Rand) geo.Point

// lands makes the shapes that files of people have, each anew from r.
var lands = map[string]func(r *rand.Rand) land{
	"town": func(r *rand.Rand) land {
		at, size := anywhere(r), 0.01+0.05*r.Float64()
		return func(r *rand.Rand) geo.Point { return blob(r, at, size) }
	},
	"country": func(r *rand.Rand) land {
		at, width, height := anywhere(r), 1+6*r.Float64(), 1+6*r.Float64()
		return func(r *rand.Rand) geo.Point {
			return clamp(at.Lon+(r.Float64()-0.5)*width, at.Lat+(r.Float64()-0.5)*height)
		}
	},
	"several countries": func(r *rand.Rand) land {
		at := anywhere(r)
		var centres []geo.Point
		for range 3 + r.IntN(6) {
			centres = append(centres, clamp(at.Lon+r.NormFloat64()*8, at.Lat+r.NormFloat64()*5))
		}
		return func(r *rand.Rand) geo.Point {
			k := int(math.Floor(float64(len(centres)) * r.Float64() * r.Float64())) // some are much larger
			return blob(r, centres[k], 0.5+float64(k)*0.2)
		}
	},
	"twenty countries": func(r *rand.Rand) land { return countries(r, 20) },
	"coast": func(r *rand.Rand) land {
		at, length, turn := anywhere(r), 2+10*r.Float64(), r.Float64()*2*math.Pi
		return func(r *rand.Rand) geo.Point {
			f := r.Float64() * length
			return clamp(
				at.Lon+f*math.Cos(turn)+0.3*math.Sin(3*f)+r.NormFloat64()*0.02,
				at.Lat+f*math.Sin(turn)+r.NormFloat64()*0.02,
			)
		}
	},
	"archipelago": func(r *rand.Rand) land {
		at := anywhere(r)
		var isles []geo.Point
		for range 30 {
			isles = append(isles, clamp(at.Lon+r.NormFloat64()*3, at.Lat+r.NormFloat64()*3))
		}
		return func(r *rand.Rand) geo.Point {
			return blob(r, isles[int(float64(len(isles))*r.Float64()*r.Float64())], 0.03)
		}
	},
	"two far centres": func(r *rand.Rand) land {
		a, b := anywhere(r), anywhere(r)
		return func(r *rand.Rand) geo.Point {
			if r.IntN(20) == 0 {
				return blob(r, b, 0.3)
			}
			return blob(r, a, 0.5)
		}
	},
	"towns and farms": func(r *rand.Rand) land {
		at := anywhere(r)
		var towns []geo.Point
		for range 40 {
			towns = append(towns, clamp(at.Lon+(r.Float64()-0.5)*8, at.Lat+(r.Float64()-0.5)*5))
		}
		return func(r *rand.Rand) geo.Point {
			if r.IntN(8) == 0 {
				return clamp(at.Lon+(r.Float64()-0.5)*9, at.Lat+(r.Float64()-0.5)*6)
			}
			return blob(r, towns[int(float64(len(towns))*math.Pow(r.Float64(), 3))], 0.04)
		}
	},
	"half a continent": func(r *rand.Rand) land {
		at := anywhere(r)
		return func(r *rand.Rand) geo.Point {
			return clamp(at.Lon+r.NormFloat64()*10, at.Lat+r.NormFloat64()*7)
		}
	},
}

// countries is a file of many countries all over the Earth.
func countries(r *rand.Rand, n int) land {
	var centres []geo.Point
	for range n {
		centres = append(centres, anywhere(r))
	}
	return func(r *rand.Rand) geo.Point {
		k := r.IntN(len(centres))
		return blob(r, centres[k], 0.5+0.6*float64(k%4))
	}
}

// everywhere is a file of the whole Earth: continents of many sizes with lone isles between.
func everywhere(r *rand.Rand) land {
	var towns []geo.Point
	for range 12 {
		at := anywhere(r)
		for range 60 {
			towns = append(towns, clamp(at.Lon+r.NormFloat64()*12, at.Lat+r.NormFloat64()*8))
		}
	}
	return func(r *rand.Rand) geo.Point {
		if r.IntN(500) == 0 {
			return anywhere(r)
		}
		return blob(r, towns[int(float64(len(towns))*r.Float64()*r.Float64())], 0.5)
	}
}

// anywhere is a place where people live: not near the poles.
func anywhere(r *rand.Rand) geo.Point {
	return geo.Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*120 - 55}
}

func blob(r *rand.Rand, at geo.Point, size float64) geo.Point {
	return clamp(at.Lon+r.NormFloat64()*size, at.Lat+r.NormFloat64()*size)
}

func clamp(lon, lat float64) geo.Point {
	return geo.Point{Lon: geo.WrapLon(lon), Lat: math.Max(-89, math.Min(89, lat))}
}

// source returns random numbers of their own for each world.
func source(name string, seed, n int) *rand.Rand {
	h := fnv.New64()
	_, _ = h.Write([]byte(name))
	return rand.New(rand.NewPCG(h.Sum64(), uint64(seed*10_000+n)))
}

// A tally counts what a judge said.
type tally struct{ right, alarms, swapped, found int }

func (t *tally) add(o tally) {
	t.right, t.alarms, t.swapped, t.found = t.right+o.right, t.alarms+o.alarms, t.swapped+o.swapped, t.found+o.found
}

func (t tally) String() string {
	return fmt.Sprintf(
		"%d false alarms among %d (%.2f of 10,000), %d of %d swapped found (%.1f %%)",
		t.alarms,
		t.right,
		1e4*float64(t.alarms)/float64(t.right),
		t.found,
		t.swapped,
		100*float64(t.found)/float64(max(1, t.swapped)),
	)
}

// judgeWorld makes a file of n places of a land, swaps some of them, and counts what is
// said. A swap counts only if it can be told: if it stays on the Earth and moves the
// place further than the land's places are from each other.
func judgeWorld(r *rand.Rand, here land, n, swap int) (t tally) {
	points, swapped := make([]geo.Point, n), make([]bool, n)
	var right Cloud
	for i := range points {
		points[i] = here(r)
		right.Add(points[i])
	}
	still := NewJudge(&right, nil) // of the places as they are
	for range swap {
		i := r.IntN(n)
		s := points[i].Swapped()
		if swapped[i] || s.Validate() != nil || !still.Lonely(s) {
			continue
		}
		points[i], swapped[i] = s, true
	}
	var c Cloud
	for _, p := range points {
		c.Add(p)
	}
	j := NewJudge(&c, nil)
	count := 0
	for i, p := range points {
		said := j.Swapped(p)
		if said {
			count++
		}
		switch {
		case swapped[i]:
			t.swapped++
			if said {
				t.found++
			}
		default:
			t.right++
			if said {
				t.alarms++
			}
		}
	}
	if count != j.Count() {
		panic(fmt.Sprintf("Count is %d, but %d are doubtful", j.Count(), count))
	}
	return t
}

// TestWorlds holds the judge against files of many shapes and sizes, with none, few and
// many places swapped.
func TestWorlds(t *testing.T) {
	all := tally{}
	for name, make := range lands {
		of := tally{}
		for seed := range 16 {
			for _, n := range []int{40, 400, 2000} {
				r := source(name, seed, n)
				here := make(r)
				for _, swap := range []int{0, 1, n / 20, n / 10} {
					of.add(judgeWorld(r, here, n, swap))
				}
			}
		}
		t.Logf("%-17s %v", name, of)
		all.add(of)
		if of.found*100 < of.swapped*75 {
			t.Errorf("%s: %v; want at least 75 %% found", name, of)
		}
	}
	t.Logf("all: %v", all)
	if all.alarms*10_000 > all.right {
		t.Errorf("%v; want at most one false alarm among 10,000", all)
	}
	if all.found*100 < all.swapped*95 {
		t.Errorf("%v; want at least 95 %% found", all)
	}
}

// TestManyCountries judges large files of forty countries, some with a single swapped place:
// it is far from all others, while the mirror images of many places happen to be in a country.
func TestManyCountries(t *testing.T) {
	all := tally{}
	for seed := range 2 {
		for _, swap := range []int{0, 1, 20} {
			r := source("many countries", seed, swap)
			all.add(judgeWorld(r, countries(r, 40), 50_000, swap))
		}
	}
	t.Logf("%v", all)
	if all.alarms*10_000 > all.right || all.found*100 < all.swapped*75 {
		t.Errorf("%v; want at most one false alarm among 10,000, and 75 %% found", all)
	}
}

// TestWholeEarth judges files of the whole Earth, where many a swapped place lies among
// others by chance: false alarms would be many.
func TestWholeEarth(t *testing.T) {
	all := tally{}
	for seed := range uint64(8) {
		r := rand.New(rand.NewPCG(seed, 1))
		all.add(judgeWorld(r, everywhere(r), 20_000, 0))
		all.add(judgeWorld(r, worlds.Earth, 20_000, 0))
		all.add(judgeWorld(r, worlds.Earth, 1_000, 0))
	}
	if t.Logf("%v", all); all.alarms*10_000 > all.right {
		t.Errorf("%v; want at most one false alarm among 10,000", all)
	}
}

// TestOrder adds the places of a file in its order and in others. The judgement is the same.
func TestOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	here := everywhere(r)
	points := make([]geo.Point, 200_000) // enough for cells to become larger
	for i := range points {
		points[i] = here(r)
	}
	slices.SortFunc(points, func(a, b geo.Point) int { return cmp.Compare(a.Lon, b.Lon) })
	judge := func() *Judge {
		var c Cloud
		for _, p := range points {
			c.Add(p)
		}
		return NewJudge(&c, nil)
	}
	inOrder := judge()
	r.Shuffle(len(points), func(i, j int) { points[i], points[j] = points[j], points[i] })
	shuffled := judge()
	if inOrder.finest == 0 || inOrder.Count() != shuffled.Count() {
		t.Errorf("level %d, %d doubtful in order and %d shuffled", inOrder.finest, inOrder.Count(), shuffled.Count())
	}
	for _, p := range points {
		if inOrder.Swapped(p) != shuffled.Swapped(p) {
			t.Fatalf("%v is judged by the order of the file", p)
		}
	}
}

// TestSides asks whether a file has two halves that mirror each other: where a third to
// two thirds of its places are swapped it does, and if none is it does not.
func TestSides(t *testing.T) {
	found, asked, wrong, quiet := 0, 0, 0, 0
	for name, make := range lands {
		for seed := range 12 {
			for _, n := range []int{40, 400, 2000} {
				r := source(name, seed, n)
				here := make(r)
				for _, share := range []float64{0, 0.35, 0.5, 0.65} {
					var c Cloud
					for range n {
						p := here(r)
						if s := p.Swapped(); r.Float64() < share && s.Validate() == nil {
							p = s
						}
						c.Add(p)
					}
					j := NewJudge(&c, nil)
					sides := j.Sides()
					switch {
					case share == 0:
						quiet++
						if len(sides) > 0 {
							wrong++
							t.Logf(
								"%s of %d, seed %d: asked for nothing: %v and %v",
								name,
								n,
								seed,
								sides[0].Box,
								sides[1].Box,
							)
						}
					case canBeMirrored(here, r):
						asked++
						if len(sides) > 0 {
							found++
							if sides[0].Count+sides[1].Count > n || sides[0].Count < sides[1].Count ||
								len(sides[0].Spots) == 0 {
								t.Errorf("%s: sides of %d and %d", name, sides[0].Count, sides[1].Count)
							}
						}
					}
				}
			}
		}
	}
	t.Logf("%d of %d questions asked; %d of %d asked for nothing", found, asked, wrong, quiet)
	if found*100 < asked*90 || wrong*200 > quiet {
		t.Errorf(
			"%d of %d questions asked, want 90 %%; %d of %d asked for nothing, want at most 0.5 %%",
			found,
			asked,
			wrong,
			quiet,
		)
	}
}

// canBeMirrored reports whether the places of a land can all be swapped and are elsewhere
// then: it lies to one side of the line on which longitude and latitude are equal.
func canBeMirrored(here land, r *rand.Rand) bool {
	sides, possible := [2]int{}, 0
	for range 200 {
		p := here(r)
		if p.Swapped().Validate() == nil {
			possible++
		}
		switch {
		case p.Lon-p.Lat > 3:
			sides[0]++
		case p.Lat-p.Lon > 3:
			sides[1]++
		}
	}
	return possible >= 196 && max(sides[0], sides[1]) >= 196
}

// TestEarthHasNoSides has files of the whole Earth, which look alike however they are turned.
func TestEarthHasNoSides(t *testing.T) {
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 2))
		for name, here := range map[string]land{"everywhere": everywhere(r), "uniform": worlds.Earth} {
			var c Cloud
			for range 5000 {
				c.Add(here(r))
			}
			if sides := NewJudge(&c, nil).Sides(); sides != nil {
				t.Errorf("%s, seed %d: %v and %v", name, seed, sides[0].Box, sides[1].Box)
			}
		}
	}
}

// TestKnown judges positions by those of a collection.
func TestKnown(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	var sample []geo.Point
	for range 1000 {
		sample = append(sample, blob(r, geo.Point{Lon: -22, Lat: -38.5}, 0.2))
	}
	known := CloudOf(sample, 1_000_000)
	among := NewJudge(nil, known)
	for p, want := range map[geo.Point]bool{
		{Lon: -22.1, Lat: -38.4}: false, {Lon: -38.4, Lat: -22.1}: true, {Lon: 50, Lat: 10}: false, {Lon: 170,
			Lat: -22}: false,
	} {
		if among.SwappedAmong(p) != want {
			t.Errorf("%v among the known: want %v", p, want)
		}
	}
	var file Cloud // all swapped
	for range 40 {
		file.Add(blob(r, geo.Point{Lon: -22, Lat: -38.5}, 0.2).Swapped())
	}
	if j := NewJudge(&file, known); j.Count() != 40 || j.Sides() != nil {
		t.Errorf("%d of 40 swapped places are doubtful, sides %v", j.Count(), j.Sides())
	}
	if j := NewJudge(&file, nil); j.Count() != 0 || j.Swapped(sample[0].Swapped()) {
		t.Error("a file that is wrong as a whole is doubtful by itself")
	}
	if j := NewJudge(&Cloud{}, nil); j.Count() != 0 || j.SwappedAmong(sample[0]) || !j.Lonely(sample[0]) {
		t.Error("nothing tells, but is said to")
	}
}
