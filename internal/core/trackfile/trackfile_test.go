package trackfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
)

func randomTrack(seed uint64) (*Track, []motion.Position) {
	r := rand.New(rand.NewPCG(seed, 1))
	var positions []motion.Position
	now := motion.MomentOf(time.Date(2026, 4, 12, 6, 30, 0, 0, time.UTC))
	at := geo.Point{Lon: 179.999, Lat: -38.5}
	for range r.IntN(40) {
		p := motion.At(at, now)
		for _, to := range []*float32{&p.Accuracy, &p.Altitude, &p.Heading, &p.Speed} {
			if r.IntN(2) == 0 {
				*to = float32(r.IntN(3600)) / 10
			}
		}
		if p.Heading >= 360 {
			p.Heading = 0
		}
		positions = append(positions, p)
		now = now.Add(time.Duration(1+r.IntN(90_000)) * time.Millisecond)
		if r.IntN(8) == 0 {
			now = now.Add(time.Hour)
		}
		at = geo.Destination(at, r.Float64()*100, r.Float64()*360)
	}
	s := motion.DefaultSettings()
	return Of("WB-07", `Tern & "Co" <ø>`, positions, &s), positions
}

// TestFilesReadBack writes tracks and reads them again.
func TestFilesReadBack(t *testing.T) {
	for seed := range uint64(50) {
		track, want := randomTrack(seed)
		for _, f := range []Format{GPX, CSV} {
			var file bytes.Buffer
			if err := Write(&file, f, track); err != nil {
				t.Fatal(err)
			}
			var got []motion.Position
			err := Read(bytes.NewReader(file.Bytes()), f, func(r Row) bool {
				if r.Err != nil {
					t.Fatalf("line %d: %v", r.Line, r.Err)
				}
				r.Received = r.Time
				got = append(got, r.Position)
				return true
			})
			if err != nil && len(want) > 0 {
				t.Fatal(err)
			}
			if fmt.Sprint(got) != fmt.Sprint(want) {
				t.Fatalf("seed %d, %s: read back\n%v\nwant\n%v", seed, f, got, want)
			}
		}
	}
}

// TestJSONFiles holds what others read of the formats in JSON.
func TestJSONFiles(t *testing.T) {
	for seed := range uint64(50) {
		track, want := randomTrack(seed)
		var line struct {
			Geometry *struct {
				Type        string
				Coordinates [][][]float64
			}
			Properties struct{ Times [][]time.Time }
		}
		var moving struct {
			TemporalGeometry struct {
				Prisms []struct {
					Datetimes   []time.Time
					Coordinates [][]float64
				}
			}
		}
		for f, to := range map[Format]any{GeoJSON: &line, MovingFeatures: &moving} {
			var file bytes.Buffer
			if err := Write(&file, f, track); err != nil {
				t.Fatal(err)
			}
			if err := json.Unmarshal(file.Bytes(), to); err != nil {
				t.Fatalf("%s: %v\n%s", f, err, &file)
			}
		}
		if len(want) == 0 {
			if line.Geometry != nil {
				t.Error("a track of nothing is somewhere")
			}
			continue
		}
		k := 0
		for i, leg := range moving.TemporalGeometry.Prisms {
			for j, at := range leg.Coordinates {
				p := want[k]
				if at[0] != p.At.Lon || at[1] != p.At.Lat || !leg.Datetimes[j].Equal(p.Time.Time()) ||
					!reflect.DeepEqual(line.Geometry.Coordinates[i][j], at) || !line.Properties.Times[i][j].Equal(leg.Datetimes[j]) {
					t.Fatalf("seed %d: position %d is %v at %v", seed, k, at, leg.Datetimes[j])
				}
				k++
			}
			if len(line.Geometry.Coordinates[i]) < 2 {
				t.Error("a line of one position")
			}
		}
		if k != len(want) {
			t.Errorf("seed %d: %d positions, want %d", seed, k, len(want))
		}
	}
}

func TestWhatIsWrongWithFiles(t *testing.T) {
	for _, c := range []struct {
		format     Format
		file, want string
	}{
		{GPX, "<kml/>", "GPX"}, {GPX, "<gpx><trk>", "XML"}, {GPX, "<gpx/>", "no track"}, {CSV, "", "columns"},
		{CSV, "lat,lon\n1,2", "timestamp"}, {GeoJSON, "{}", "gpx or csv"},
	} {
		if err := Read(strings.NewReader(c.file), c.format, func(Row) bool { return true }); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%q: %v", c.file, err)
		}
	}
	file := "Time,Lat,Lon,Speed\r\n2026-04-12T06:30:00Z,1,2,\r\nyesterday,1,2,3\r\n1780000000000,91,2,3\r\n" +
		"1780000000000,1,2,3\r\n1780000000000,,2,3\r\n"
	var got []string
	err := Read(strings.NewReader(file), CSV, func(r Row) bool {
		got = append(got, fmt.Sprint(r.Line, r.Time, r.Speed, r.Err != nil))
		return true
	})
	want := []string{"2 1775975400000 NaN false", "3 0 3 true", "4 1780000000000 3 true", "5 1780000000000 3 false",
		"6 0 NaN true"}
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%q, %v", got, err)
	}
	other := `<gpx xmlns="a"><trk><trkseg><trkpt lat="1" lon="2"><time>2026-04-12T06:30:00Z</time><extensions>` +
		`<x:more xmlns:x="b"><x:speed>4.5</x:speed><x:course>90</x:course></x:more>` +
		`</extensions></trkpt></trkseg></trk></gpx>`
	err = Read(strings.NewReader(other), GPX, func(r Row) bool {
		if r.Err != nil || r.Speed != 4.5 || r.Heading != 90 {
			t.Errorf("a position of another program: %+v", r)
		}
		return true
	})
	if err != nil {
		t.Error(err)
	}
}
