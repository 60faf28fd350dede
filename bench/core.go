package main

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/worlds"
)

const most = 10_000_000 // places

// The budgets of a view of ten million places, in ms.
const viewP50, viewP99 = 0.15, 0.5

// A scaled is what views of a world took, by the number of its places.
type scaled struct {
	name string
	at   []scaledTo
}

type scaledTo struct {
	places int
	took   spread
}

func entriesOf(world worlds.World, n, categories int) []index.Entry {
	r := rand.New(rand.NewPCG(1, 1))
	entries := make([]index.Entry, n)
	for i := range entries {
		entries[i] = index.NewEntry(
			index.KeyOf(geo.Project(world(r))),
			uint32(i),
			uint16(r.IntN(categories)),
			r.Uint64(),
		)
	}
	return entries
}

// dealt returns a crowd of trees that have the entries dealt out to them.
func dealt(entries []index.Entry, trees int) (crowd cluster.Crowd) {
	hands := make([][]index.Entry, trees)
	for i, e := range entries {
		hands[i%trees] = append(hands[i%trees], e)
	}
	for i, hand := range hands {
		crowd = append(crowd, cluster.Source{Tree: index.Build(hand, 1), Salt: uint64(i + 1)})
	}
	return crowd
}

// look takes views of a crowd, by a 1280 x 800 screen, and returns what each took.
func look(crowd cluster.Crowd, times int) (spread, error) {
	r := rand.New(rand.NewPCG(2, 2))
	took := make([]time.Duration, times)
	for i := range took {
		box, zoom := worlds.Look(r)
		started := time.Now()
		if err := cluster.View(crowd, box, zoom, cluster.Default, math.MaxInt,
			func(*cluster.Marker) {}); err != nil {
			return nil, err
		}
		took[i] = time.Since(started)
	}
	return newSpread(took), nil
}

// best takes views several times and keeps the round with the least median: what
// else the machine does only ever adds.
func best(crowd cluster.Crowd) (spread, error) {
	var best spread
	for range 5 {
		s, err := look(crowd, 1500)
		if err != nil {
			return nil, err
		}
		if best == nil || s.at(0.5) < best.at(0.5) {
			best = s
		}
	}
	return best, nil
}

// viewports measures views of ten thousand to ten million places.
func viewports(_ context.Context, r *report) error {
	var lines []scaled
	for _, world := range []struct {
		name  string
		place worlds.World
	}{{"uniform", worlds.Uniform}, {"clumped", worlds.Clumped}} {
		drawn := scaled{name: world.name}
		var least spread
		for n := 10_000; n <= most; n *= 10 {
			tree := index.Build(entriesOf(world.place, n, 8), 1)
			s, err := best(cluster.Of(tree))
			if err != nil {
				return err
			}
			if least == nil {
				least = s
			}
			drawn.at = append(drawn.at, scaledTo{n, s})
			what := fmt.Sprintf("viewport 1280x800, core, %s places, %s", count(n), world.name)
			if n < most {
				r.add(what, "", s.String(), 0)
				continue
			}
			r.add(what+", p50", fmt.Sprintf("%g ms", viewP50), short(s.at(0.5)), s.at(0.5).Seconds()*1e3/viewP50)
			r.add(what+", p99", fmt.Sprintf("%g ms", viewP99), short(s.at(0.99)), s.at(0.99).Seconds()*1e3/viewP99)
			joint, err := best(dealt(entriesOf(world.place, n, 8), 5))
			if err != nil {
				return err
			}
			share := joint.at(0.5).Seconds() / s.at(0.5).Seconds()
			r.add(fmt.Sprintf("joint view of five collections of %s, %s, p50", count(n/5), world.name),
				"2 times one of all", fmt.Sprintf("%s, %.2f times", short(joint.at(0.5)), share), share/2)
			growth := s.at(0.5).Seconds() / least.at(0.5).Seconds()
			r.add(
				fmt.Sprintf("p50 at %s to p50 at 10 k, %s", count(n), world.name),
				"2",
				fmt.Sprintf("%.2f", growth),
				growth/2,
			)
		}
		lines = append(lines, drawn)
	}
	few, err := best(cluster.Of(index.Build(entriesOf(worlds.Uniform, 1_000_000, 8), 1)))
	if err != nil {
		return err
	}
	many, err := best(cluster.Of(index.Build(entriesOf(worlds.Uniform, 1_000_000, 200), 1)))
	if err != nil {
		return err
	}
	r.add("viewport, 1 M places, 200 categories instead of 8, p50", "", fmt.Sprintf("%s instead of %s: %.2f times",
		short(many.at(0.5)), short(few.at(0.5)), many.at(0.5).Seconds()/few.at(0.5).Seconds()), 0)
	if *plots != "" {
		return os.WriteFile(filepath.Join(*plots, "viewport-scaling.svg"), scaling(lines).svg(), 0o644)
	}
	return nil
}

// edits measures inserting and removing in a tree of ten million, alone and in
// sets that become visible together.
func edits(_ context.Context, r *report) error {
	entries := entriesOf(worlds.Uniform, most, 8)
	tree := index.Build(slices.Clone(entries), 1)
	random := rand.New(rand.NewPCG(3, 3))
	// What is edited is made ready before: every other edit takes an entry out.
	const times = 200_000
	ready := make([]index.Entry, times)
	for _, together := range []int{1, 100} {
		least := time.Duration(math.MaxInt64)
		for range 3 {
			for i := range ready {
				if i%2 == 0 {
					ready[i] = entries[random.IntN(len(entries))]
				} else {
					key := index.KeyOf(geo.Project(worlds.Uniform(random)))
					ready[i] = index.NewEntry(key, uint32(most+i), 3, random.Uint64())
				}
			}
			change := uint64(2)
			edit := tree.Edit()
			started := time.Now()
			for i, e := range ready {
				change++
				if i%2 == 0 {
					edit.Remove(e, change)
				} else {
					edit.Insert(e, change)
				}
				if i%together == together-1 {
					edit = edit.Tree().Edit()
				}
			}
			least = min(least, time.Since(started)/times)
		}
		budget, ratio := "", 0.0
		if together > 1 {
			budget, ratio = "4 µs", least.Seconds()/4e-6
		}
		r.add(
			fmt.Sprintf("one edit of the index, %s places, %d made visible together", count(most), together),
			budget,
			short(least),
			ratio,
		)
	}
	return nil
}

// heap returns how many bytes are in use.
func heap() uint64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}
