package client

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"idlebeacon/api"
)

// Groups returns the groups of devices, in the order of their ids.
func (c *Client) Groups(ctx context.Context) (g api.Groups, err error) {
	return g, c.get(ctx, "/api/groups", nil, &g)
}

func groupPath(id string) string { return "/api/groups/" + url.PathEscape(id) }

// CreateGroup makes a group.
func (c *Client) CreateGroup(ctx context.Context, n api.NewGroup) (g api.Group, err error) {
	return g, c.send(ctx, http.MethodPost, "/api/groups", n, &g)
}

// UpdateGroup changes a group.
func (c *Client) UpdateGroup(ctx context.Context, id string, u api.GroupUpdate) (g api.Group, err error) {
	return g, c.send(ctx, http.MethodPatch, groupPath(id), u, &g)
}

// DeleteGroup takes out a group without devices.
func (c *Client) DeleteGroup(ctx context.Context, id string) error {
	return c.send(ctx, http.MethodDelete, groupPath(id), nil, nil)
}

// A DeviceSelection says which devices are meant. The zero value means all.
type DeviceSelection struct {
	Groups []string // ids; nil for all
	States []string // moving, still, silent, unheard, paused; nil for all
}

func (s *DeviceSelection) set(q url.Values) {
	setList(q, "groups", s.Groups)
	setList(q, "state", s.States)
}

// DevicesOptions ask for a page of devices.
type DevicesOptions struct {
	DeviceSelection
	Text   string // their id or name contains this
	Filter string // a condition in CQL2 Text that they meet
	Sort   string // id, name, group, state, time or speed, with - before it for the reverse
	Offset int
	Limit  int // 0 for the service's default
}

// Devices returns a page of devices.
func (c *Client) Devices(ctx context.Context, o DevicesOptions) (d api.Devices, err error) {
	q := url.Values{}
	o.set(q)
	for name, value := range map[string]string{"q": o.Text, "filter": o.Filter, "sortby": o.Sort} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if o.Offset != 0 {
		q.Set("offset", strconv.Itoa(o.Offset))
	}
	setPage(q, "", o.Limit)
	return d, c.get(ctx, "/api/devices", q, &d)
}

func devicePath(id string) string { return "/api/devices/" + url.PathEscape(id) }

// Device returns a device.
func (c *Client) Device(ctx context.Context, id string) (d api.Device, err error) {
	return d, c.get(ctx, devicePath(id), nil, &d)
}

// CreateDevice makes a device.
func (c *Client) CreateDevice(ctx context.Context, n api.NewDevice) (d api.Device, err error) {
	return d, c.send(ctx, http.MethodPost, "/api/devices", n, &d)
}

// UpdateDevice changes a device.
func (c *Client) UpdateDevice(ctx context.Context, id string, u api.DeviceUpdate) (d api.Device, err error) {
	return d, c.send(ctx, http.MethodPatch, devicePath(id), u, &d)
}

// DeleteDevice takes out a device with all its positions, for good.
func (c *Client) DeleteDevice(ctx context.Context, id string) error {
	return c.send(ctx, http.MethodDelete, devicePath(id), nil, nil)
}

// DeviceFile writes everything that is kept of a device to w, as JSON.
func (c *Client) DeviceFile(ctx context.Context, id string, w io.Writer) error {
	return c.copy(ctx, devicePath(id)+"/file", w)
}

func (c *Client) copy(ctx context.Context, path string, w io.Writer) error {
	response, err := c.call(ctx, http.MethodGet, path, "", nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(w, response.Body)
	return err
}

// DeviceMarkersOptions ask for the markers of devices in a viewport.
type DeviceMarkersOptions struct {
	DeviceSelection
	Gathering
	Box  Box
	Zoom float64 // 0 to 24
}

// DeviceMarkers returns what to draw of devices in a viewport.
func (c *Client) DeviceMarkers(ctx context.Context, o DeviceMarkersOptions) (m api.DeviceMarkers, err error) {
	q := url.Values{"bbox": {o.Box.String()}, "zoom": {number(o.Zoom)}}
	o.DeviceSelection.set(q)
	o.Gathering.set(q)
	return m, c.get(ctx, "/api/devices/markers", q, &m)
}

// NearDevicesOptions ask for devices near something.
type NearDevicesOptions struct {
	DeviceSelection
	Origin
	Radius float64 // metres; 0 for the whole Earth
	Limit  int     // 0 for the service's default
}

// NearDevices returns the devices near something, nearest first.
func (c *Client) NearDevices(ctx context.Context, o NearDevicesOptions) (n api.DeviceNeighbours, err error) {
	q := url.Values{}
	o.DeviceSelection.set(q)
	o.Origin.set(q)
	if o.Radius != 0 {
		q.Set("radius", number(o.Radius))
	}
	setPage(q, "", o.Limit)
	return n, c.get(ctx, "/api/devices/near", q, &n)
}

// DevicesAt returns where the devices of some groups were at a moment; nil for all.
func (c *Client) DevicesAt(ctx context.Context, at time.Time, groups []string) (d api.DevicesAt, err error) {
	q := url.Values{"time": {at.UTC().Format(time.RFC3339Nano)}}
	setList(q, "groups", groups)
	return d, c.get(ctx, "/api/devices/at", q, &d)
}

// TrackOptions ask for a track.
type TrackOptions struct {
	From, To time.Time // zero for no end
	Limit    int       // 0 for the service's default
	Newest   bool      // the newest positions of the span and not the first
	Zoom     *float64  // leaves out what makes less than half a pixel at a zoom; nil for nothing
}

func (o *TrackOptions) query() url.Values {
	q := url.Values{}
	if !o.From.IsZero() || !o.To.IsZero() {
		q.Set("datetime", moment(o.From)+"/"+moment(o.To))
	}
	setPage(q, "", o.Limit)
	if o.Newest {
		q.Set("newest", "true")
	}
	if o.Zoom != nil {
		q.Set("zoom", number(*o.Zoom))
	}
	return q
}

func moment(t time.Time) string {
	if t.IsZero() {
		return ".."
	}
	return t.UTC().Format(time.RFC3339Nano)
}

// Track returns where a device was.
func (c *Client) Track(ctx context.Context, device string, o TrackOptions) (t api.Track, err error) {
	return t, c.get(ctx, devicePath(device)+"/track", o.query(), &t)
}

// TrackFile writes where a device was to w, as gpx, geojson, movingfeatures or csv.
func (c *Client) TrackFile(ctx context.Context, device, format string, o TrackOptions, w io.Writer) error {
	q := o.query()
	q.Set("f", format)
	return c.copy(ctx, devicePath(device)+"/track?"+q.Encode(), w)
}

// AddTrack keeps the positions of a file, gpx or csv, as those of a device. Of what it returns, verdicts are those of
// the first that were refused.
func (c *Client) AddTrack(
	ctx context.Context, device, format string, file io.Reader,
) (v api.ReportVerdicts, err error) {
	path := devicePath(device) + "/track?format=" + url.QueryEscape(format)
	media := map[string]string{"gpx": "application/gpx+xml", "csv": "text/csv"}[format]
	return v, c.do(ctx, http.MethodPost, path, media, file, &v)
}

// EraseTrack takes out the positions of a device in a span, for good; zero times for no end.
func (c *Client) EraseTrack(ctx context.Context, device string, from, to time.Time) (e api.Erased, err error) {
	q := url.Values{}
	if !from.IsZero() || !to.IsZero() {
		q.Set("datetime", moment(from)+"/"+moment(to))
	}
	path := devicePath(device) + "/track"
	if len(q) > 0 {
		path += "?" + q.Encode()
	}
	return e, c.do(ctx, http.MethodDelete, path, "", nil, &e)
}

// Report reports where devices are, at most 10,000 positions. Those that are told to be kept are durable. Devices
// that are not there yet are made in a group, "" for the usual one.
func (c *Client) Report(ctx context.Context, reports []api.Report, group string) (v api.ReportVerdicts, err error) {
	return v, c.send(ctx, http.MethodPost, reportPath(group), reports, &v)
}

func reportPath(group string) string {
	if group == "" {
		return "/api/positions"
	}
	return "/api/positions?group=" + url.QueryEscape(group)
}

// ReportLines reports where devices are, as lines of JSON that are read as they come, and calls each with what
// became of each.
func (c *Client) ReportLines(
	ctx context.Context, lines io.Reader, group string, each func(api.ReportVerdict) error,
) error {
	response, err := c.once(ctx, http.MethodPost, reportPath(group), "application/x-ndjson", lines)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	answers := bufio.NewScanner(response.Body)
	for answers.Scan() {
		var v api.ReportVerdict
		if err := json.Unmarshal(answers.Bytes(), &v); err != nil {
			return err
		}
		if err := each(v); err != nil {
			return err
		}
	}
	return answers.Err()
}

// WatchDevices calls each whenever devices have changed, at first with all, until ctx ends or each returns an error,
// which it returns. A device that changes often is told of a few times a second, as it is then. If the connection is
// lost, it takes another, with growing pauses, and begins with all again; so does who is too slow to follow.
func (c *Client) WatchDevices(
	ctx context.Context, groups []string, box *Box, each func(api.PositionsEvent) error,
) error {
	q := url.Values{"groups": {strings.Join(groups, ",")}}
	if box != nil {
		q.Set("bbox", box.String())
	}
	return c.listen(ctx, q, func(name string, data []byte) (told, err error) {
		if name != "positions" {
			return nil, nil
		}
		var e api.PositionsEvent
		if err := json.Unmarshal(data, &e); err != nil {
			return nil, err
		}
		return each(e), nil
	})
}

// Shares returns the links by which a device is shared.
func (c *Client) Shares(ctx context.Context, device string) (s api.Shares, err error) {
	return s, c.get(ctx, devicePath(device)+"/shares", nil, &s)
}

// Share makes a link by which a device can be seen until a time.
func (c *Client) Share(ctx context.Context, device string, n api.NewShare) (s api.Share, err error) {
	return s, c.send(ctx, http.MethodPost, devicePath(device)+"/shares", n, &s)
}

// EndShare ends a link.
func (c *Client) EndShare(ctx context.Context, device, share string) error {
	return c.send(ctx, http.MethodDelete, devicePath(device)+"/shares/"+url.PathEscape(share), nil, nil)
}
