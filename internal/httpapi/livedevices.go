package httpapi

import (
	"context"
	"encoding/json"
	"hash/maphash"
	"net/http"
	"net/url"
	"strings"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/live"
)

// aboutDevices reports whether the answers of a route change when devices do, and not when places do.
func (h *server) aboutDevices(pattern string) bool {
	return strings.HasPrefix(pattern, "/api/devices") || pattern == "/api/groups"
}

// groupsOf returns which groups a query is about, as views name them.
func groupsOf(query url.Values) (all []string) {
	if query.Get("groups") == "" {
		return []string{live.AllGroups}
	}
	for _, id := range splitList(query.Get("groups")) {
		all = append(all, live.OfGroup(id))
	}
	return all
}

// stateOfDevices is stateOf for the markers of devices.
func (h *server) stateOfDevices(r *http.Request) (func(context.Context) live.State, []geo.SpotBox) {
	q := parseQuery(r, deviceViewNames...)
	ask := q.deviceView()
	if q.err != nil {
		return nil, nil
	}
	region := ask.Options.Reach(ask.Box.SpotBoxes(), ask.Zoom)
	return func(ctx context.Context) live.State {
		v, err := h.options.Fleet.View(ctx, ask)
		if err != nil {
			return live.State{}
		}
		state := live.State{All: maphash.String(stateSeed, v.Identity)}
		state.Near = state.All
		for _, key := range v.Keys {
			state.All, state.Near = state.All*31+uint64(key), state.Near*31+uint64(key)
		}
		state.All = state.All*31 + v.Change
		for _, change := range v.ChangedNear(nil) {
			state.Near = state.Near*31 + change
		}
		return state
	}, region
}

// moves is of which devices a listener is told when they change.
type moves struct {
	fleet     *fleet.Fleet
	selection fleet.Selection
	box       *geo.Box // nil for everywhere
	listener  *live.Listener
	told      uint64 // the tick of the snapshot of which it was told last; 0 for none
}

// toldEvery is the shortest time between two events about positions.
const toldEvery = 100 * time.Millisecond

// moves reads of which devices a listener is to be told; nil for none.
func (h *server) moves(r *http.Request, q *query, box *geo.Box) (*moves, error) {
	if !r.URL.Query().Has("groups") || h.options.Fleet == nil {
		return nil, nil
	}
	m := &moves{fleet: h.options.Fleet, box: box}
	m.selection, _ = q.devices()
	if q.err != nil {
		return nil, q.err
	}
	// Whoever may not see a group is told so at once.
	nothing := func(*fleet.Sighting) {}
	return m, m.fleet.Snapshot().Moved(r.Context(), m.selection, &geo.Box{}, nil, nothing, nothing)
}

// wait puts something into a channel whenever there may be news, at first at once, until ctx ends.
func (m *moves) wait(ctx context.Context, news chan<- struct{}) {
	v := live.View{Name: "positions", Collections: []string{live.AllGroups}, Every: toldEvery}
	if m.selection.Groups != nil {
		v.Collections = nil
		for _, id := range m.selection.Groups {
			v.Collections = append(v.Collections, live.OfGroup(id))
		}
	}
	if m.box != nil {
		v.Region = m.box.SpotBoxes()
	}
	m.listener.Look([]live.View{v})
	for {
		if _, err := m.listener.Next(ctx); err != nil || !handTo(ctx, news, struct{}{}) {
			return
		}
	}
}

// positions tells of the devices that have changed since it did so last, and reports whether the listener may
// still hear of them. What was true in between is left out. A listener that is too slow is told of all again.
func (s *stream) positions() bool {
	const together = 500
	before := s.moves.fleet.SnapshotOf(s.moves.told) // first: what is published from now on is kept
	if s.moves.told == 0 {
		before = nil
	}
	snapshot := s.moves.fleet.Snapshot()
	n := 0
	begin := func() {
		s.begin("positions", "")
		s.buffer.WriteByte('{')
		if before == nil && n == 0 {
			s.buffer.WriteString(`"whole":true,`)
		}
		s.buffer.WriteString(`"devices":[`)
	}
	tell := func(d *fleet.Sighting) {
		if n > 0 && n%together == 0 {
			s.buffer.WriteString("]}\n\n")
			_, _ = s.out.Write(s.buffer.Bytes()) // if the client has gone, the next flush says so
			s.buffer.Reset()
		}
		if n%together == 0 {
			begin()
		} else {
			s.buffer.WriteByte(',')
		}
		n++
		s.buffer.Write(d.Encoded(encodeDevice))
	}
	var gone []string
	lose := func(was *fleet.Sighting) { gone = append(gone, was.Device.ID) }
	if err := snapshot.Moved(s.request.Context(), s.moves.selection, s.moves.box, before, tell, lose); err != nil {
		return false
	}
	s.moves.told = snapshot.Tick
	if n == 0 {
		if before != nil && len(gone) == 0 {
			return true
		}
		begin()
	}
	s.buffer.WriteByte(']')
	if len(gone) > 0 {
		ids, _ := json.Marshal(gone) // texts can be encoded
		s.buffer.WriteString(`,"gone":`)
		s.buffer.Write(ids)
	}
	s.buffer.WriteString("}\n\n")
	return true
}

// encodeDevice writes a device for all who listen.
func encodeDevice(d *fleet.Sighting) []byte {
	text, err := json.Marshal(describeDevice(d, false))
	if err != nil {
		panic(err) // all that is known of a device can be encoded
	}
	return text
}
