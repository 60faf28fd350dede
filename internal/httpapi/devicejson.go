package httpapi

import (
	"idlebeacon/internal/answers"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/fleet"
)

// The form of markers of devices is that of api.DeviceMarkers.

// deviceForm returns how markers of devices are written at a zoom.
func deviceForm(zoom float64) answers.Form[*fleet.Marker] {
	j := newMarkerWriter(nil, max(zoom, 15)) // they move by less than a pixel at a time
	return answers.Form[*fleet.Marker]{Between: ",", Append: func(dst []byte, m *fleet.Marker) []byte {
		j.b = dst
		j.deviceMarker(m)
		return j.b
	}}
}

func (j *markerWriter) deviceMarker(m *fleet.Marker) {
	j.b = append(j.b, `{"type":"Feature","id":`...)
	if m.Count > 1 {
		j.cluster(m)
		return
	}
	d := m.Device
	j.b = feature.AppendText(j.b, d.Device.ID)
	j.b = append(j.b, `,"geometry":{"type":"Point","coordinates":`...)
	j.position(d.At)
	j.b = append(j.b, `},"properties":{"kind":"device"`...)
	j.text("group", d.Device.Group.ID)
	j.text("device", d.Device.ID)
	j.text("name", d.Device.Name)
	j.text("icon", d.Device.Icon())
	j.text("colour", d.Device.Colour())
	j.text("state", d.State.String())
	j.member("timestamp")
	j.b = append(d.Time.Time().AppendFormat(append(j.b, '"'), "2006-01-02T15:04:05.999Z07:00"), '"')
	for _, v := range [...]struct {
		name  string
		value float32
	}{{"speed", d.Speed}, {"heading", d.Heading}, {"accuracy", d.Accuracy}} {
		if motion.Known(v.value) {
			j.member(v.name)
			j.b = appendTenths(j.b, v.value)
		}
	}
	if d.Step != motion.Travel {
		j.text("step", d.Step.String())
	}
	j.b = append(j.b, "}}"...)
}

// appendTenths appends a number to a tenth.
func appendTenths(dst []byte, v float32) []byte {
	return appendFloat(dst, float64(int64(float64(v)*10+0.5))/10)
}

// cluster writes a marker of several devices, from its id on.
func (j *markerWriter) cluster(m *fleet.Marker) {
	j.clusterHead(m.Members, m.At, m.Count)
	if !m.Stacked {
		j.float("opens_at", m.OpensAt)
	}
	j.member("extent")
	j.extent(m.Extent)
	j.member("tally")
	j.b = append(j.b, '{')
	for _, t := range m.Tallies {
		j.name(t.Group)
		j.b = append(j.b, '{')
		for state, n := range t.States {
			if n > 0 {
				j.whole(motion.State(state).String(), n)
			}
		}
		j.b = append(j.b, '}')
	}
	j.b = append(j.b, '}')
	if m.Stacked {
		j.member("devices")
		j.b = append(j.b, '[')
		for i, d := range m.Listed {
			if i > 0 {
				j.b = append(j.b, ',')
			}
			j.b = append(j.b, '{')
			j.text("group", d.Device.Group.ID)
			j.text("device", d.Device.ID)
			j.text("name", d.Device.Name)
			j.text("state", d.State.String())
			j.b = append(j.b, '}')
		}
		j.b = append(j.b, ']')
	}
	j.b = append(j.b, "}}"...)
}
