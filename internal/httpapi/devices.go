package httpapi

import (
	"encoding/json"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fleet"
)

// following are the routes about devices.
func (h *server) following(g guarded) {
	if h.options.Fleet == nil {
		return
	}
	g.get("/api/groups", h.bare(h.listGroups))
	g.post("/api/groups", h.bare(h.createGroup))
	g.get("/api/groups/{group}", h.bare(h.getGroup))
	g.patch("/api/groups/{group}", h.bare(h.updateGroup))
	g.delete("/api/groups/{group}", h.bare(h.deleteGroup))
	g.post("/api/positions", h.stream(h.report))
	g.get("/api/positions/stream", h.stream(h.streamPositions))
	g.get("/api/devices", h.handle(h.listDevices))
	g.post("/api/devices", h.bare(h.createDevice))
	g.get("/api/devices/markers", h.handle(h.deviceMarkers))
	g.get("/api/devices/members", h.handle(h.deviceMembers))
	g.get("/api/devices/near", h.handle(h.devicesNear))
	g.get("/api/devices/at", h.handle(h.devicesAt))
	g.get(device, h.bare(h.getDevice))
	g.patch(device, h.bare(h.updateDevice))
	g.delete(device, h.bare(h.deleteDevice))
	g.get(device+"/track", h.handle(h.getTrack))
	g.post(device+"/track", h.stream(h.addTrack))
	g.delete(device+"/track", h.handle(h.eraseTrack))
	g.get(device+"/file", h.download(h.deviceFile))
	if h.options.Access != nil {
		g.get(device+"/shares", h.bare(h.listShares))
		g.post(device+"/shares", h.bare(h.shareDevice))
		g.delete(device+"/shares/{share}", h.bare(h.endShare))
	}
}

// device is the path of one.
const device = "/api/devices/{device}"

// maxDevices is how many devices a page of them has at most.
const maxDevices = 1000

// known returns a number that a report has, nil for none.
func known(v float32) *float32 {
	if !motion.Known(v) {
		return nil
	}
	return &v
}

func describePosition(p *motion.Position) *api.DevicePosition {
	return &api.DevicePosition{
		Longitude: p.At.Lon, Latitude: p.At.Lat, Timestamp: p.Time.Time(), Received: p.Received.Time(),
		Accuracy: known(p.Accuracy), Altitude: known(p.Altitude), AltitudeAccuracy: known(p.AltitudeAccuracy),
		Heading: known(p.Heading), Speed: known(p.Speed), Properties: p.Properties,
	}
}

// describeDevice tells what is known of a device; where it is only if it shares that, or if own is set.
func describeDevice(d *fleet.Sighting, own bool) api.Device {
	i := d.Device
	out := api.Device{
		ID: i.ID, Name: i.Name, Group: i.Group.ID, Icon: i.Icon(), Colour: i.Colour(), State: d.StateName(),
		Properties: json.RawMessage(i.Properties), CreatedAt: i.CreatedAt(), MadeBy: i.MadeBy(),
	}
	if d.Position == nil || d.Hidden() && !own {
		return out
	}
	out.Position = describePosition(d.Position)
	since := d.Since.Time()
	out.Since, out.Speed, out.Heading = &since, known(d.Speed), known(d.Heading)
	out.ClockAhead = float64(d.ClockError) / 1000
	if d.Step != motion.Travel {
		out.Step = d.Step.String()
	}
	return out
}

// selectionNamesOfDevices are the parameters that choose among devices.
var selectionNamesOfDevices = []string{"groups", "state"}

// devices reads which devices are meant, and whether those that do not share are.
func (q *query) devices() (s fleet.Selection, hidden bool) {
	s.Groups = q.list("groups")
	if len(s.Groups) > maxLayers {
		q.fail("groups", "names too many; want at most %d", maxLayers)
	}
	for _, name := range q.list("state") {
		if name == fleet.Paused {
			hidden = true
			continue
		}
		state, err := motion.ParseState(name)
		if err != nil {
			q.fail("state", "%q is no state of a device; want moving, still, silent, unheard or paused", name)
		}
		s.States = append(s.States, state)
	}
	if hidden && s.States == nil {
		s.States = []motion.State{}
	}
	return s, hidden
}

func (h *server) listDevices(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, slices.Concat(selectionNamesOfDevices, []string{"q", "filter", "sortby", "offset", "limit"})...)
	ask := fleet.ListQuery{
		Text: q.text("q"), Sort: q.text("sortby"), Offset: q.whole("offset", 0, 0, math.MaxInt32),
		Limit: q.clamped("limit", 100, maxDevices),
	}
	ask.Selection, ask.Paused = q.devices()
	ask.Filter = q.condition("filter")
	if q.err != nil {
		return q.err
	}
	page, err := h.options.Fleet.List(r.Context(), ask)
	if err != nil {
		return err
	}
	out := api.Devices{
		Devices: make([]api.Device, len(page.Devices)), Matched: page.Matched, Returned: len(page.Devices),
		States: counts(page.States[:], page.Paused),
		Links:  []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for i, d := range page.Devices {
		out.Devices[i] = describeDevice(d, owns(r, d))
	}
	if next := ask.Offset + len(page.Devices); next < page.Matched && len(page.Devices) > 0 {
		further := r.URL.Query()
		further.Set("offset", strconv.Itoa(next))
		out.Links = append(out.Links, h.nextLink(r, further, plainJSON))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// owns reports whether a device is the caller's own.
func owns(r *http.Request, d *fleet.Sighting) bool {
	return actorOf(r).Owns(d.Device.ID, d.Device.Group.ID)
}

func (h *server) writeDevice(w http.ResponseWriter, r *http.Request, status int, d *fleet.Sighting) error {
	out := describeDevice(d, owns(r, d))
	here, path := h.site(r), "/api/devices/"+d.Device.ID
	out.Links = []api.Link{
		here.link("self", path, plainJSON, ""),
		here.link("collection", "/api/groups/"+d.Device.Group.ID, plainJSON, "the group it is in"),
		here.link("related", path+"/track", plainJSON, "where it was"),
	}
	return writeJSON(w, status, plainJSON, out)
}

func (h *server) getDevice(w http.ResponseWriter, r *http.Request) error {
	d, err := h.options.Fleet.Device(r.Context(), pathValue(r, "device"))
	if err != nil {
		return err
	}
	return h.writeDevice(w, r, http.StatusOK, d)
}

func deviceEdit(u *api.DeviceUpdate) fleet.DeviceEdit {
	return fleet.DeviceEdit{
		Name: u.Name, Icon: u.Icon, Colour: u.Colour, Group: u.Group, Properties: u.Properties, Paused: u.Paused,
	}
}

func (h *server) createDevice(w http.ResponseWriter, r *http.Request) error {
	var n api.NewDevice
	if err := h.readJSON(w, r, &n); err != nil {
		return err
	}
	d, err := h.options.Fleet.CreateDevice(r.Context(), n.ID, deviceEdit(&n.DeviceUpdate))
	if err != nil {
		return err
	}
	w.Header().Set("Location", string(h.site(r))+"/api/devices/"+n.ID)
	return h.writeDevice(w, r, http.StatusCreated, d)
}

func (h *server) updateDevice(w http.ResponseWriter, r *http.Request) error {
	var u api.DeviceUpdate
	if err := h.readJSON(w, r, &u); err != nil {
		return err
	}
	d, err := h.options.Fleet.UpdateDevice(r.Context(), pathValue(r, "device"), deviceEdit(&u))
	if err != nil {
		return err
	}
	return h.writeDevice(w, r, http.StatusOK, d)
}

func (h *server) deleteDevice(w http.ResponseWriter, r *http.Request) error {
	if err := h.options.Fleet.DeleteDevice(r.Context(), pathValue(r, "device")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// devicesNear lists the devices near a position, a device or a place.
func (h *server) devicesNear(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, slices.Concat(selectionNamesOfDevices, originNames, []string{"radius", "limit"})...)
	sel, _ := q.devices()
	radius, limit := q.number("radius", math.Inf(1), 0, math.MaxFloat64), q.clamped("limit", 10, maxDevices)
	from, err := h.origin(r, q)
	if err != nil {
		return err
	}
	near, err := h.options.Fleet.Near(r.Context(), from.at, radius, limit, sel, from.device)
	if err != nil {
		return err
	}
	out := api.DeviceNeighbours{
		From: api.DeviceNearFrom{
			Longitude: from.at.Lon, Latitude: from.at.Lat, Device: from.device, Place: from.place,
		},
		Devices: make([]api.DeviceNeighbour, len(near)), Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for i, n := range near {
		out.Devices[i] = api.DeviceNeighbour{
			Device: describeDevice(n.Sighting, false), Distance: math.Round(n.Distance*10) / 10,
			Bearing: math.Round(n.Bearing*10) / 10,
		}
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// originNames are the parameters that say from where something is near.
var originNames = []string{"lat", "lon", "device", "place"}

// An origin is from where something is near.
type origin struct {
	at            geo.Point
	device, place string // of what it is the position; "" if of neither
}

// origin reads from where something is to be near: a position, a device, or a place.
func (h *server) origin(r *http.Request, q *query) (from origin, err error) {
	from.device, from.place = q.text("device"), q.text("place")
	given := 0
	for _, is := range []bool{from.device != "", from.place != "", q.has("lat") || q.has("lon")} {
		if is {
			given++
		}
	}
	if given != 1 && q.err == nil {
		return from, invalid.New("", "it is not said from where").Wanted("lat and lon, or device, or place")
	}
	switch {
	case q.err != nil:
	case from.device != "":
		if h.options.Fleet == nil {
			return from, invalid.New("device", "is not known")
		}
		d, err := h.options.Fleet.Shared(r.Context(), from.device)
		if err != nil {
			return from, err
		}
		if d.Position == nil {
			return from, invalid.New("device", "has not said yet where it is")
		}
		from.at = d.At
	case from.place != "":
		collection, id, found := strings.Cut(from.place, "/")
		if !found {
			return from, invalid.New("place", "is %.80q", from.place).
				Wanted("the id of a collection, a slash and the id of an item")
		}
		if err := h.mayRead(r, collection); err != nil {
			return from, err
		}
		item, err := h.service.Item(r.Context(), collection, id)
		if err != nil {
			return from, err
		}
		from.at = item.At
	default:
		from.at = geo.Point{Lat: q.number("lat", math.NaN(), -90, 90), Lon: q.number("lon", math.NaN(), -180, 180)}
	}
	return from, q.err
}

// mayRead returns why the caller may not read items of a collection.
func (h *server) mayRead(r *http.Request, collection string) error {
	opening, err := h.service.Opening(collection)
	if err != nil {
		return err
	}
	return policy.For(http.MethodGet, one+"/items/{item}").Decide(actorOf(r), collection, opening)
}

// devicesAt tells where devices were at a moment.
func (h *server) devicesAt(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "groups", "time")
	at := q.time("time")
	sel, _ := q.devices()
	if q.err == nil && at.IsZero() {
		q.fail("time", "is missing; want a moment such as 2026-04-12T06:30:00Z")
	}
	if q.err != nil {
		return q.err
	}
	past, more, err := h.options.Fleet.At(r.Context(), motion.MomentOf(at), sel)
	if err != nil {
		return err
	}
	out := api.DevicesAt{Time: at.UTC(), Devices: make([]api.PastDevice, len(past)), More: more}
	for i := range past {
		p := &past[i]
		out.Devices[i] = api.PastDevice{
			ID: p.Device.ID, Name: p.Device.Name, Group: p.Device.Group.ID, Icon: p.Device.Icon(), Colour: p.Device.Colour(),
			Silent: p.Silent, Position: *describePosition(&p.Position),
		}
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// time reads a moment, the zero time if it is absent.
func (q *query) time(name string) (at time.Time) {
	if q.has(name) {
		at, _ = q.moment(name, q.text(name))
	}
	return at
}
