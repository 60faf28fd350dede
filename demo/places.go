package demo

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"

	"idlebeacon/internal/core/geo"
)

// DefaultPlaces is how many places the demo has.
const DefaultPlaces = 2400

// A kind is a category of places: how common it is and where it is found.
type kind struct {
	category string
	share    float64 // of all places
	code     string  // begins its ids
	find     func(s *siting) (at geo.Point, near string)
	name     func(s *siting, near string, n int) string
}

var kinds = []kind{
	{
		"mooring",
		0.54,
		"M",
		(*siting).afloat,
		func(_ *siting, near string, n int) string { return fmt.Sprintf("%s mooring %d", near, n) },
	},
	{
		"slipway",
		0.07,
		"S",
		(*siting).onCoast,
		func(_ *siting, near string, n int) string { return fmt.Sprintf("%s slip %d", near, n) },
	},
	{
		"water tap",
		0.10,
		"W",
		(*siting).ashore,
		func(s *siting, near string, _ int) string { return s.pick(tapNames) + " tap, " + near },
	},
	{
		"shelter hut",
		0.07,
		"H",
		(*siting).inland,
		func(s *siting, near string, _ int) string { return s.pick(hutNames) + " hut on " + near },
	},
	{
		"charge post",
		0.09,
		"C",
		(*siting).ashore,
		func(_ *siting, near string, n int) string { return fmt.Sprintf("%s charge post %d", near, n) },
	},
	{
		"tide gauge",
		0.03,
		"T",
		(*siting).offCoast,
		func(_ *siting, near string, n int) string { return fmt.Sprintf("Tide gauge %d off %s", n, near) },
	},
	{
		"tool shed",
		0.10,
		"B",
		(*siting).ashore,
		func(s *siting, near string, _ int) string { return s.pick(shedNames) + " shed, " + near },
	},
}

var (
	tapNames  = []string{"Quayside", "Upper", "Lower", "Boatyard", "Chapel", "Pump Lane", "Ferry Steps", "Netloft"}
	hutNames  = []string{"Heather", "Windward", "Lee", "Cairn", "Shepherd's", "Peat Road", "Lookout", "Gorse"}
	shedNames = []string{"Rope", "Oar", "Paint", "Caulking", "Winch", "Sail", "Chandler's", "Grease"}

	conditions = []string{"good", "good", "good", "fair", "fair", "worn", "closed"}
	notes      = []string{
		"", "", "", "",
		"Chain renewed last spring.",
		"Mind the ledge at low water, it dries out for two hours either side.",
		"Key at the warden's handheld, channel 12.",
		"Shared with the ferry on regatta days; clear it when the blue flag is up.",
		"Reported by a visitor: \"shackle worn, still holds\".",
		"Best approached from the south-east. The old leading marks are gone, and the new ones are lit only from " +
			"dusk until midnight, so come in on the flood and keep the white gable open of the pier.",
	}
)

// A siting finds spots for places.
type siting struct {
	world  *World
	r      *rand.Rand
	spread float64 // how much wider than the demo's harbours, for more places than it has
}

func (s *siting) pick(from []string) string { return from[s.r.IntN(len(from))] }

func (s *siting) harbour() *Harbour {
	// The square makes some harbours much busier than others.
	f := s.r.Float64()
	return &s.world.Harbours[int(f*f*float64(len(s.world.Harbours)))]
}

// afloat is a spot in a harbour's basin, in rows.
func (s *siting) afloat() (geo.Point, string) {
	h := s.harbour()
	for {
		along, out := s.r.NormFloat64()*220*s.spread, s.r.NormFloat64()*110*s.spread
		const row = 35
		out = math.Round(out/row)*row + s.r.Float64()*6
		p := geo.Destination(
			h.Basin,
			math.Hypot(along, out),
			geo.Bearing(h.Quay, h.Basin)+90+math.Atan2(out, along)*180/math.Pi,
		)
		if !s.world.onLand(p) {
			return p, h.Name
		}
	}
}

// onCoast is a spot on the shore near a harbour.
func (s *siting) onCoast() (geo.Point, string) {
	h := s.harbour()
	isle := s.isle(h.Isle)
	best := h.Quay
	for range 4 {
		i := s.r.IntN(len(isle.Coast))
		a, b := isle.Coast[i], isle.Coast[(i+1)%len(isle.Coast)]
		f := s.r.Float64()
		p := geo.Point{Lon: a.Lon + (b.Lon-a.Lon)*f, Lat: a.Lat + (b.Lat-a.Lat)*f}
		if best == h.Quay || geo.Distance(p, h.Quay) < geo.Distance(best, h.Quay) {
			best = p
		}
	}
	return best, h.Name
}

// ashore is a spot on land near a harbour.
func (s *siting) ashore() (geo.Point, string) {
	h := s.harbour()
	for {
		p := geo.Destination(h.Quay, math.Abs(s.r.NormFloat64())*350*s.spread, s.r.Float64()*360)
		if s.world.onLand(p) {
			return p, h.Name
		}
	}
}

// inland is a spot anywhere on an isle, the larger the likelier.
func (s *siting) inland() (geo.Point, string) {
	for {
		isle := &s.world.Isles[s.r.IntN(len(s.world.Isles))]
		if s.r.Float64() > isle.Radius/s.world.Isles[0].Radius {
			continue
		}
		p := geo.Destination(isle.Centre, math.Sqrt(s.r.Float64())*isle.Radius, s.r.Float64()*360)
		if isle.contains(p) {
			return p, isle.Name
		}
	}
}

// offCoast is a spot in the water around an isle.
func (s *siting) offCoast() (geo.Point, string) {
	for {
		isle := &s.world.Isles[s.r.IntN(len(s.world.Isles))]
		p := geo.Destination(isle.Coast[s.r.IntN(len(isle.Coast))], 60+s.r.Float64()*500*s.spread, s.r.Float64()*360)
		if !s.world.onLand(p) {
			return p, isle.Name
		}
	}
}

func (s *siting) isle(name string) *Isle {
	for i := range s.world.Isles {
		if s.world.Isles[i].Name == name {
			return &s.world.Isles[i]
		}
	}
	return &s.world.Isles[0]
}

// header names the columns that WritePlaces writes.
var header = []string{
	"id",
	"name",
	"category",
	"latitude",
	"longitude",
	"near",
	"berths",
	"depth_m",
	"swing_m",
	"condition",
	"reference",
	"picture",
	"note",
}

// WritePlaces writes n places as CSV. Those of the same world and number are the
// same every time.
func (w *World) WritePlaces(out io.Writer, n int) error {
	buffered := bufio.NewWriterSize(out, 1<<20)
	rows := csv.NewWriter(buffered)
	if err := rows.Write(header); err != nil {
		return err
	}
	s := &siting{
		world:  w,
		r:      rand.New(rand.NewPCG(w.seed, 2)),
		spread: math.Max(1, math.Min(40, math.Sqrt(float64(n)/DefaultPlaces))),
	}
	counts := map[string]int{}
	for i := range n {
		k := s.kind()
		at, near := k.find(s)
		counts[k.category+near]++
		berths, depth, swing := "", "", ""
		switch k.category {
		case "mooring":
			n := 1 + s.r.IntN(6)
			metres := 1.5 + s.r.ExpFloat64()*3
			// A boat swings round its mooring on a chain of three times the depth.
			berths, depth, swing = strconv.Itoa(n), fmt.Sprintf("%.1f", metres), strconv.Itoa(int(3*metres)+8+2*n)
		case "slipway", "tide gauge":
			depth = fmt.Sprintf("%.1f", 0.5+s.r.ExpFloat64())
		case "shelter hut":
			berths = strconv.Itoa(2 + 2*s.r.IntN(5))
		}
		err := rows.Write([]string{
			fmt.Sprintf("%s%05d", k.code, i+1), k.name(s, near, counts[k.category+near]), k.category,
			fmt.Sprintf("%.6f", at.Lat), fmt.Sprintf("%.6f", at.Lon), near, berths, depth, swing,
			s.pick(conditions), fmt.Sprintf("%05d", s.r.IntN(100000)),
			"/pictures/" + strings.ReplaceAll(k.category, " ", "-") + ".svg", s.pick(notes),
		})
		if err != nil {
			return err
		}
	}
	rows.Flush()
	if err := rows.Error(); err != nil {
		return err
	}
	return buffered.Flush()
}

func (s *siting) kind() *kind {
	f := s.r.Float64()
	for i := range kinds {
		if f -= kinds[i].share; f < 0 {
			return &kinds[i]
		}
	}
	return &kinds[0]
}
