package httpapi

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"mime"
	"net/http"
	"slices"
	"strings"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/trackfile"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/watching"
)

const (
	// usualTrack is how many positions a track has if nobody says.
	usualTrack = 10_000
	// bytesOfPosition is about what one takes on its way out.
	bytesOfPosition = 600
)

// span reads a span of time, such as 2026-04-12T06:00:00Z/.. or the last hours as since=6h.
func (q *query) span() (from, to motion.Moment) {
	if i := q.interval("datetime"); i != nil {
		if !i.From.IsZero() {
			from = motion.MomentOf(i.From)
		}
		if !i.To.IsZero() {
			to = motion.MomentOf(i.To)
		}
	}
	if q.has("since") {
		ago, err := time.ParseDuration(q.text("since"))
		switch {
		case q.has("datetime"):
			q.fail("since", "is there beside datetime; want one of both")
		case err != nil || ago <= 0:
			q.fail("since", "%.40q is no span of time; want one such as 90m or 6h", q.text("since"))
		}
		from = motion.MomentOf(time.Now().Add(-ago))
	}
	return from, to
}

// getTrack gives the track of a device, as JSON or as a file.
func (h *server) getTrack(w http.ResponseWriter, r *http.Request) error {
	wanted := trackfile.Format(r.URL.Query().Get("f"))
	file := slices.Contains(trackfile.Formats, wanted)
	if !file && wanted != "" && wanted != "json" {
		return invalid.New("f", "%.40q is no form of a track", string(wanted)).
			Wanted("json, or gpx, geojson, movingfeatures or csv for a file")
	}
	if file { // the other parameters are as they are
		values := r.URL.Query()
		values.Del("f")
		r = r.Clone(r.Context())
		r.URL.RawQuery = values.Encode()
	}
	q := parseQuery(r, "datetime", "since", "limit", "newest", "zoom")
	ask := fleet.TrackQuery{Limit: q.clamped("limit", usualTrack, fleet.MaxTrack), Newest: q.flag("newest")}
	if file && !q.has("limit") {
		ask.Limit = fleet.MaxTrack
	}
	ask.From, ask.To = q.span()
	zoom := q.number("zoom", -1, 0, maxZoom)
	if q.err != nil {
		return q.err
	}
	if ask.Limit > usualTrack {
		release, err := h.service.Reserve(r.Context(), int64(ask.Limit)*bytesOfPosition)
		if err != nil {
			return err
		}
		defer release()
	}
	track, err := h.options.Fleet.Track(r.Context(), pathValue(r, "device"), ask)
	if err != nil {
		return err
	}
	settings := &track.Device.Group.Motion
	cut := trackfile.Of(track.Device.ID, track.Device.Name, track.Positions, settings)
	if zoom >= 0 && len(track.Positions) > 0 {
		cut.Thin(halfPixel(track.Positions, zoom))
	}
	if file {
		w.Header().Set("Content-Type", wanted.MediaType())
		w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment",
			map[string]string{"filename": track.Device.ID + wanted.Extension()}))
		return trackfile.Write(w, wanted, cut)
	}
	out := api.Track{
		Device: track.Device.ID, Name: track.Device.Name, Positions: []api.DevicePosition{}, Legs: []api.Leg{},
		Summary: describeSummary(settings.Summarise(track.Positions)), More: track.More,
		Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for _, leg := range cut.Legs {
		l := api.Leg{From: len(out.Positions), To: len(out.Positions) + len(leg.Positions) - 1}
		if leg.After != motion.Travel {
			l.After = leg.After.String()
		}
		out.Legs = append(out.Legs, l)
		for i := range leg.Positions {
			out.Positions = append(out.Positions, *describePosition(&leg.Positions[i]))
		}
	}
	if n := len(track.Positions); track.More && !ask.Newest {
		next := r.URL.Query()
		next.Del("since")
		end := ".."
		if ask.To != 0 {
			end = ask.To.Time().Format(time.RFC3339Nano)
		}
		next.Set("datetime", (track.Positions[n-1].Time+1).Time().Format(time.RFC3339Nano)+"/"+end)
		out.Links = append(out.Links, h.nextLink(r, next, plainJSON))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// halfPixel returns how many metres half a pixel is at the position of some that is closest to the equator.
func halfPixel(positions []motion.Position, zoom float64) float64 {
	least := 90.0
	for i := range positions {
		least = min(least, math.Abs(positions[i].At.Lat))
	}
	const equator = 2 * math.Pi * geo.EarthRadius
	return 0.5 * equator * math.Cos(min(least, geo.MaxLat)*math.Pi/180) / (geo.TilePixels * math.Exp2(zoom))
}

func describeSummary(s motion.Summary) api.TrackSummary {
	tenth := func(v float64) float64 { return math.Round(v*10) / 10 }
	out := api.TrackSummary{
		Positions: s.Positions, Distance: tenth(s.Distance), Elapsed: s.Elapsed.Seconds(), Moving: s.Moving.Seconds(),
		Still: s.Still.Seconds(), MeanSpeed: math.Round(s.Mean()*100) / 100, MaxSpeed: math.Round(s.Fastest*100) / 100,
		Gaps: s.Gaps, Jumps: s.Jumps, Stops: []api.Stop{},
	}
	for _, stop := range s.Stops {
		out.Stops = append(out.Stops, api.Stop{
			Longitude: stop.At.Lon, Latitude: stop.At.Lat, From: stop.From.Time(), To: stop.To.Time(),
		})
	}
	return out
}

// addTrack keeps the positions of a file as those of a device.
func (h *server) addTrack(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "format")
	format := trackfile.Format(q.text("format"))
	if media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); format == "" {
		switch {
		case strings.Contains(media, "gpx") || strings.HasSuffix(media, "/xml"):
			format = trackfile.GPX
		case media == "text/csv":
			format = trackfile.CSV
		}
	}
	if q.err != nil {
		return q.err
	}
	if format != trackfile.GPX && format != trackfile.CSV {
		return invalid.New("format", "is not known").Wanted("gpx or csv, or the media type of the file")
	}
	id := pathValue(r, "device")
	d, err := h.options.Fleet.Device(r.Context(), id)
	if err != nil {
		return err
	}
	if a := actorOf(r); !a.Reports(id, d.Device.Group.ID) && !a.ManagesDevice(id, d.Device.Group.ID) {
		return &policy.DeniedError{Actor: a, Needs: policy.Editor}
	}
	body, release, err := h.receive(w, r, maxBody)
	if err != nil {
		return err
	}
	defer release()
	out := api.ReportVerdicts{Verdicts: []api.ReportVerdict{}} // those that were refused
	var reports []fleet.Reported
	var lines []int
	keep := func() error {
		if len(reports) == 0 {
			return nil
		}
		verdicts, err := h.options.Fleet.Report(withoutActor(r.Context()), reports, "")
		if err != nil {
			return err
		}
		for i := range verdicts {
			h.count(&out, &verdicts[i], lines[i])
		}
		reports, lines = reports[:0], lines[:0]
		return nil
	}
	var failed error
	err = trackfile.Read(bytes.NewReader(body), format, func(row trackfile.Row) bool {
		reports = append(reports, fleet.Reported{
			Report: motion.Report{Device: id, Position: row.Position, Timed: true}, Err: row.Err,
		})
		lines = append(lines, row.Line)
		if len(reports) == fleet.MaxReports/2 {
			failed = keep()
		}
		return failed == nil
	})
	if failed == nil {
		failed = err
	}
	if failed == nil {
		failed = keep()
	}
	if failed != nil {
		return failed
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// withoutActor is for what the caller was found to be allowed in another way.
func withoutActor(ctx context.Context) context.Context { return (*policy.Actor)(nil).In(ctx) }

// count adds a verdict to some; of those that were refused the first are told.
func (h *server) count(out *api.ReportVerdicts, v *fleet.Verdict, line int) {
	const told = 100
	switch v.Status {
	case fleet.Kept:
		out.Kept++
	case fleet.Repeated:
		out.Repeated++
	default:
		if out.Refused++; len(out.Verdicts) < told {
			said := describeVerdict(v)
			said.Detail = fmt.Sprintf("line %d: %s", line, said.Detail)
			out.Verdicts = append(out.Verdicts, said)
		}
	}
}

// eraseTrack takes out the positions of a device, for good.
func (h *server) eraseTrack(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "datetime")
	from, to := q.span()
	if q.err != nil {
		return q.err
	}
	erased, err := h.options.Fleet.EraseTrack(r.Context(), pathValue(r, "device"), from, to)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, api.Erased{Erased: erased})
}

// deviceFile gives everything that is kept of a device, as one file.
func (h *server) deviceFile(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	id := pathValue(r, "device")
	d, err := h.options.Fleet.Shared(r.Context(), id)
	if err != nil {
		return err
	}
	ask := fleet.TrackQuery{Limit: filePage}
	track, err := h.options.Fleet.Track(r.Context(), id, ask)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": id + ".json"}))
	w.Header().Set("Content-Type", plainJSON)
	head, err := json.Marshal(api.DeviceFile{Device: describeDevice(d, true), MadeAt: time.Now().UTC()})
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	_, _ = out.Write(bytes.TrimSuffix(head, []byte(`null,"positions":null}`))) // what cannot be written, Flush tells
	_ = out.WriteByte('[')
	if err := h.writeNotices(r, out, id); err != nil {
		h.options.Log.Warn("the file of a device was cut off", "device", id, "error", err)
		panic(http.ErrAbortHandler)
	}
	_, _ = out.WriteString(`],"positions":`)
	separator := "["
	for {
		for i := range track.Positions {
			text, err := json.Marshal(describePosition(&track.Positions[i]))
			if err != nil {
				panic(err) // all positions can be encoded
			}
			_, _ = out.WriteString(separator + "\n")
			_, _ = out.Write(text)
			separator = ","
		}
		if !track.More {
			break
		}
		ask.From = track.Positions[len(track.Positions)-1].Time + 1
		if track, err = h.options.Fleet.Track(r.Context(), id, ask); err != nil {
			h.options.Log.Warn("the file of a device was cut off", "device", id, "error", err)
			panic(http.ErrAbortHandler)
		}
	}
	if separator == "[" {
		_, _ = out.WriteString("[")
	}
	_, _ = out.WriteString("]}\n")
	return cut(out.Flush())
}

// writeNotices writes what was noticed of a device, the newest first, with commas between.
func (h *server) writeNotices(r *http.Request, out *bufio.Writer, device string) error {
	if h.options.Watching == nil {
		return nil
	}
	ask := watching.Query{Devices: []string{device}, Limit: watching.MaxNotices}
	separator := ""
	for {
		some, more, err := h.options.Watching.Notices(r.Context(), ask)
		if err != nil {
			return err
		}
		for i := range some {
			text, err := json.Marshal(watching.Describe(&some[i]))
			if err != nil {
				panic(err) // all notices can be encoded
			}
			_, _ = out.WriteString(separator + "\n")
			_, _ = out.Write(text)
			separator = ","
		}
		if !more {
			return nil
		}
		ask.Before = some[len(some)-1].Number
	}
}

// cut ends an answer that the client does not take any more.
func cut(err error) error {
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	return nil
}

// filePage is how many positions are read at once for a file.
const filePage = 5000
