package motion

import (
	"bytes"
	"encoding/json"
	"errors"
	"math"
	"time"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/wellformed"
)

const (
	// MaxReport is how large the JSON of one report may be, in bytes.
	MaxReport = 16 << 10
	// MaxProperties is how large the properties of one may be, in bytes.
	MaxProperties = 4 << 10
)

// A Report is a position of a device, as it was sent.
type Report struct {
	Device string // its id; "" if the report does not say
	Position
	Timed bool // the report says when it was; otherwise Time is to be when it was received
}

// The members of a report, which may also be those of the W3C interface GeolocationPosition, whose
// coordinates are in coords.
type reportJSON struct {
	Device string `json:"device"`
	coordinatesJSON
	Coords     *coordinatesJSON `json:"coords"`
	Timestamp  json.RawMessage  `json:"timestamp"`
	Properties json.RawMessage  `json:"properties"`
}

type coordinatesJSON struct {
	Latitude         *float64 `json:"latitude"`
	Longitude        *float64 `json:"longitude"`
	Accuracy         *float64 `json:"accuracy"`
	Altitude         *float64 `json:"altitude"`
	AltitudeAccuracy *float64 `json:"altitudeAccuracy"`
	Heading          *float64 `json:"heading"`
	Speed            *float64 `json:"speed"`
}

// ParseReport reads a report in JSON. What is wrong with it is an *invalid.Error; the device may be known all the same.
func ParseReport(text []byte) (Report, error) {
	if len(text) > MaxReport {
		return Report{}, invalid.New("", "a report of %d bytes is too large", len(text)).Wanted("at most %d", MaxReport)
	}
	if err := wellformed.JSON(text); err != nil {
		return Report{}, invalid.In("", err)
	}
	var in reportJSON
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&in); err != nil {
		return Report{}, unread(err)
	}
	out := Report{Device: in.Device}
	if in.Coords != nil {
		if in.coordinatesJSON != (coordinatesJSON{}) {
			return out, invalid.New("coords", "is there beside other coordinates").Wanted("one of both")
		}
		in.coordinatesJSON = *in.Coords
	}
	switch {
	case in.Latitude == nil:
		return out, invalid.New("latitude", "is missing").Wanted("degrees north")
	case in.Longitude == nil:
		return out, invalid.New("longitude", "is missing").Wanted("degrees east")
	}
	out.Position = Position{
		Accuracy: number(in.Accuracy), Altitude: number(in.Altitude), AltitudeAccuracy: number(in.AltitudeAccuracy),
		Heading: number(in.Heading), Speed: number(in.Speed),
	}
	out.At.Lon, out.At.Lat = *in.Longitude, *in.Latitude
	if out.Heading == 360 {
		out.Heading = 0
	}
	var err error
	if out.Time, out.Timed, err = parseMoment(in.Timestamp); err != nil {
		return out, err
	}
	if out.Properties, err = parseProperties(in.Properties); err != nil {
		return out, err
	}
	return out, out.Validate()
}

// unread says what is wrong with a report that encoding/json cannot read.
func unread(err error) error {
	var kind *json.UnmarshalTypeError
	if errors.As(err, &kind) && kind.Field != "" {
		return invalid.New(kind.Field, "is a %s", kind.Value).Wanted("a %s", kind.Type)
	}
	return invalid.New("", "it is no report: %v", err).
		Wanted("an object with device, latitude, longitude, timestamp, accuracy, altitude, altitudeAccuracy, heading, " +
			"speed and properties")
}

func number(v *float64) float32 {
	if v == nil {
		return Unknown
	}
	return float32(*v)
}

func absent(text json.RawMessage) bool { return len(text) == 0 || string(text) == "null" }

// parseMoment reads a time: milliseconds since 1970, as browsers have them, or RFC 3339.
func parseMoment(text json.RawMessage) (at Moment, there bool, err error) {
	if absent(text) {
		return 0, false, nil
	}
	wrong := invalid.New("timestamp", "%.60s is no time", text).
		Wanted("milliseconds since 1970, or a time such as 2026-04-12T06:30:00Z")
	if text[0] == '"' {
		var s string
		if err := json.Unmarshal(text, &s); err != nil {
			return 0, false, wrong
		}
		t, err := time.Parse(time.RFC3339, s)
		if err != nil {
			return 0, false, wrong
		}
		return MomentOf(t), true, nil
	}
	var ms float64
	if err := json.Unmarshal(text, &ms); err != nil || math.Abs(ms) > math.MaxInt64/2 {
		return 0, false, wrong
	}
	// As seconds, this is a time from 2001 on; as milliseconds, it is one before April 1970.
	if ms >= 1e9 && ms < 1e10 {
		return 0, false, wrong.Hinted("this looks like seconds: multiply it by 1000")
	}
	return Moment(math.Floor(ms)), true, nil
}

// CheckProperties returns the properties of a device as they are kept: an object of at most MaxProperties
// bytes, {} for none. What is wrong with them is an *invalid.Error.
func CheckProperties(text []byte) ([]byte, error) {
	if err := wellformed.JSON(text); err != nil {
		return nil, invalid.In("properties", err)
	}
	properties, err := parseProperties(text)
	if properties == nil {
		properties = []byte("{}")
	}
	return properties, err
}

func parseProperties(text json.RawMessage) ([]byte, error) {
	if absent(text) {
		return nil, nil
	}
	var object map[string]json.RawMessage
	if err := json.Unmarshal(text, &object); err != nil {
		return nil, invalid.New("properties", "are no object").Wanted(`members such as {"battery": 80}`)
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, text); err != nil {
		return nil, invalid.In("properties", err)
	}
	switch size := compact.Len(); {
	case len(object) == 0:
		return nil, nil
	case size > MaxProperties:
		return nil, invalid.New("properties", "have %d bytes", size).Wanted("at most %d", MaxProperties)
	}
	return compact.Bytes(), nil
}
