package demo

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"idlebeacon/internal/core/geo"
)

// DefaultDevices is how many devices the demo has.
const DefaultDevices = 140

// A FleetGroup is one of the groups of the devices of the isles.
type FleetGroup struct {
	ID, Title, Description, Icon, Colour string
	Guests                               bool    // may see them
	SilentAfter                          float64 // seconds
	share                                float64 // of all devices
	prefix                               string
}

// FleetGroups are the groups of the devices.
var FleetGroups = []FleetGroup{
	{"workboats", "Workboats", "The Trust's boats, on the ferry lanes. All made up.", "ship", "#0b6e99", true, 120, 0.45,
		"WB"},
	{"handhelds", "Wardens' handhelds", "What the wardens carry on their rounds. All made up.", "users", "#9c4a8c", false,
		180, 0.35, "HH"},
	{"buoys", "Survey buoys", "Anchored buoys that measure the waves. All made up.", "waves", "#b8641b", true, 900, 0.2,
		"BY"},
}

// A Fleet is devices that move about the isles. Where each is follows from the time, so a fleet that is
// started again goes on where it would have been.
type Fleet struct {
	devices []mover
}

// A FleetDevice is one of a fleet.
type FleetDevice struct {
	ID, Name, Group string
	Every           time.Duration // between two reports, about
}

// A FleetFix is where a device is at a time.
type FleetFix struct {
	At       geo.Point
	Accuracy float64 // metres
	Speed    float64 // metres per second
	Heading  float64 // degrees; NaN if it is still
	Battery  int     // percent
	Signal   int     // dBm
	Waves    float64 // height in metres that a buoy measures; 0 for others
}

type mover struct {
	FleetDevice
	route []geo.Point // up and down which it goes; one point for what is anchored
	marks []float64   // metres along the route to each of its points
	speed float64     // metres per second
	stay  float64     // seconds at either end
	phase float64     // seconds
	seed  uint64
}

var boatNames = []string{
	"Tern", "Ouzel", "Dunlin", "Fulmar", "Gannet", "Petrel", "Plover", "Redshank", "Sanderling", "Skua", "Turnstone",
	"Whimbrel", "Avocet", "Curlew", "Guillemot", "Knot", "Merganser", "Scoter", "Shearwater", "Wigeon",
}

// Fleet returns n devices. The same world has the same ones every time.
func (w *World) Fleet(n int) *Fleet {
	r := rand.New(rand.NewPCG(w.seed, 11))
	lanes := w.lanes()
	f := &Fleet{}
	left := n
	for k, g := range FleetGroups {
		count := int(math.Round(g.share * float64(n)))
		if k == len(FleetGroups)-1 {
			count = left
		}
		count = max(0, min(count, left))
		left -= count
		for i := range count {
			m := mover{FleetDevice: FleetDevice{ID: fmt.Sprintf("%s-%02d", g.prefix, i+1), Group: g.ID}, seed: r.Uint64()}
			switch g.ID {
			case "workboats":
				m.Name = boatNames[i%len(boatNames)]
				if i >= len(boatNames) {
					m.Name += fmt.Sprintf(" %d", i/len(boatNames)+1)
				}
				m.route, m.speed, m.stay, m.Every = lanes[r.IntN(len(lanes))], 4+5*r.Float64(), 120+r.Float64()*500, 4*time.Second
			case "handhelds":
				h := w.Harbours[r.IntN(len(w.Harbours))]
				m.Name = h.Name + " round"
				m.route, m.speed, m.stay, m.Every = w.round(r, h), 0.9+r.Float64()*0.6, 60+r.Float64()*300, 6*time.Second
			default:
				m.Name = fmt.Sprintf("Survey buoy %d", i+1)
				m.route, m.Every = []geo.Point{w.openWater(r, nil)}, 30*time.Second
			}
			m.measure()
			m.phase = r.Float64() * 1e5
			f.devices = append(f.devices, m)
		}
	}
	return f
}

// lanes returns the ferry lanes.
func (w *World) lanes() (all [][]geo.Point) {
	for _, f := range w.waters() {
		if f.Properties.Text("category") != "ferry lane" || f.Shape == nil {
			continue
		}
		for _, line := range f.Shape.Lines {
			var lane []geo.Point
			for _, p := range line {
				lane = append(lane, p.Point)
			}
			all = append(all, lane)
		}
	}
	return all
}

// round returns the way of a warden along the shore of a harbour.
func (w *World) round(r *rand.Rand, h Harbour) (way []geo.Point) {
	inland := geo.Bearing(h.Basin, h.Quay)
	at := h.Quay
	way = append(way, at)
	course := inland + 60*(r.Float64()*2-1)
	for range 6 + r.IntN(10) {
		next := geo.Destination(at, 40+r.Float64()*90, course)
		if !w.onLand(next) {
			course += 100 + 60*r.Float64()
			continue
		}
		at, course = next, course+50*(r.Float64()*2-1)
		way = append(way, at)
	}
	return way
}

func (m *mover) measure() {
	m.marks = make([]float64, len(m.route))
	for i := 1; i < len(m.route); i++ {
		m.marks[i] = m.marks[i-1] + geo.Distance(m.route[i-1], m.route[i])
	}
}

// Devices returns who is in the fleet.
func (f *Fleet) Devices() (all []FleetDevice) {
	for i := range f.devices {
		all = append(all, f.devices[i].FleetDevice)
	}
	return all
}

// At returns where a device is at a time, by its number.
func (f *Fleet) At(device int, t time.Time) FleetFix {
	m := &f.devices[device]
	seconds := float64(t.UnixMilli()) / 1000
	noise := rand.New(rand.NewPCG(m.seed, uint64(t.UnixMilli())))
	out := FleetFix{
		Heading: math.NaN(), Battery: m.battery(seconds), Signal: -60 - int(m.seed%30) - noise.IntN(8),
	}
	length := m.marks[len(m.marks)-1]
	if length == 0 { // anchored: it swings
		turn := seconds/900 + float64(m.seed%100)
		out.At = geo.Destination(m.route[0], 12+4*math.Sin(turn*1.7), turn*57)
		out.Accuracy, out.Speed = 3, 0
		out.Waves = math.Round(10*(0.8+0.5*math.Sin(seconds/3600+float64(m.seed%7)))) / 10
		return out
	}
	way := length / m.speed
	in := math.Mod(seconds+m.phase, 2*(way+m.stay))
	back := in >= way+m.stay
	if back {
		in -= way + m.stay
	}
	along := min(length, in*m.speed)
	moves := along < length
	if back {
		along = length - along
	}
	at, bearing := m.on(along)
	if back {
		bearing += 180
	}
	out.Accuracy = 4 + 4*noise.Float64()
	if moves {
		out.Speed, out.Heading = m.speed*(0.95+0.1*noise.Float64()), math.Mod(bearing+3*noise.NormFloat64()+720, 360)
	}
	out.At = geo.Destination(at, math.Abs(noise.NormFloat64())*1.5, noise.Float64()*360)
	return out
}

// on returns the position so many metres along the route, and where it leads.
func (m *mover) on(along float64) (at geo.Point, bearing float64) {
	i := 1
	for i < len(m.marks)-1 && m.marks[i] < along {
		i++
	}
	bearing = geo.Bearing(m.route[i-1], m.route[i])
	return geo.Destination(m.route[i-1], along-m.marks[i-1], bearing), bearing
}

// battery returns a charge that falls for a day and is filled up again.
func (m *mover) battery(seconds float64) int {
	const day = 86400
	return 100 - int(85*math.Mod(seconds+float64(m.seed%day), day)/day)
}

// Trouble is what goes wrong on the way of a report.
type Trouble struct {
	Lost    bool          // it is in a stretch without a connection, and never sent
	Delay   time.Duration // it is sent so much later
	Doubled bool          // it is sent twice
}

// Trouble returns what goes wrong with what a device reports at a time: of a hundred reports, so many are late, so
// many doubled, and of a hundred stretches of five minutes so many are without a connection.
func (f *Fleet) Trouble(device int, t time.Time, late, doubled, out float64) (trouble Trouble) {
	seed := f.devices[device].seed
	stretch := rand.New(rand.NewPCG(seed, uint64(t.Unix()/300)))
	trouble.Lost = stretch.Float64()*100 < out
	r := rand.New(rand.NewPCG(seed+1, uint64(t.UnixMilli())))
	if r.Float64()*100 < late {
		trouble.Delay = time.Duration(5+r.IntN(40)) * time.Second
	}
	trouble.Doubled = r.Float64()*100 < doubled
	return trouble
}
