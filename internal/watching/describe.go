package watching

import (
	"idlebeacon/api"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/store"
)

// Describe returns a notice as it is told.
func Describe(n *store.Notice) api.Notice {
	e := &n.Event
	out := api.Notice{
		Number: n.Number, Watch: n.Watch, Title: n.Title, Kind: string(e.Kind), Device: n.Device, Group: n.Group,
		Other: n.Other, Time: e.Time.Time(), NoticedAt: n.NoticedAt.UTC(), Longitude: e.At.Lon, Latitude: e.At.Lat,
	}
	if e.Since != e.Time {
		since := e.Since.Time()
		out.Since = &since
	}
	if motion.Known(e.Speed) {
		out.Speed = &e.Speed
	}
	return out
}
