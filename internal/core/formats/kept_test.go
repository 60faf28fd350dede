package formats

import (
	"archive/zip"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"idlebeacon/internal/core/geo"
)

// TestIDsOfEveryFormat takes ids from a property.
func TestIDsOfEveryFormat(t *testing.T) {
	for format, text := range map[Format]string{
		CSV: "lat,lon,code,n\n1,2,a7,x\n1,2,,y\n",
		GeoJSON: `{"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"Point",` +
			`"coordinates":[1,2]},"properties":{"code":"a7","n":"x"}},{"type":"Feature","geometry":{"type":"Point",` +
			`"coordinates":[1,2]},"properties":{"n":"y"}}]}`,
		GeoJSONLines: `{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{"code":"a7",` +
			`"n":"x"}}` +
			"\n" + `{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{"code":null}}`,
		KML: `<kml><Placemark><Point><coordinates>1,2</coordinates></Point><ExtendedData><Data ` +
			`name="code"><value>a7</value></Data><Data ` +
			`name="n"><value>x</value></Data></ExtendedData></Placemark><Placemark><Point><coordinates>1,` +
			`2</coordinates></Point></Placemark></kml>`,
		GPX: `<gpx><wpt lat="1" lon="2"><extensions><code>a7</code><n>x</n></extensions></wpt><wpt ` +
			`lat="1" lon="2"/></gpx>`,
	} {
		w := readWhole(t, text, Options{Format: format, IDColumn: "code"})
		if len(w.rows) != 1 || len(w.bad) != 1 || w.rows[0].Feature.ID != "a7" ||
			string(w.rows[0].Feature.Properties.JSON()) != `{"n":"x"}` {
			t.Errorf("%s: %+v, %v", format, w.rows, w.bad)
		}
	}
}

// TestWhatIsLeftOut counts what has no place in features, and keeps what has one.
func TestWhatIsLeftOut(t *testing.T) {
	kml := `<kml xmlns:gx="x"><Document><name>Doc</name><Style id="a"/><Style id="b"/><Region/>
<Folder><name>North</name><Folder><name>Huts</name><open>1</open>
<Placemark><name>Lee</name><styleUrl>#a</styleUrl><LookAt/><Point><coordinates>1,` +
		`2</coordinates></Point><ExtendedData><x:berths xmlns:x="y">4</x:berths></ExtendedData></Placemark>
</Folder><NetworkLink><Link><href>http://far.example/a.kml</href></Link></NetworkLink>
<NetworkLink><Link><href>more/b.kml</href></Link></NetworkLink>
<Placemark><name>Walk</name><gx:Track><when>2026-01-01T10:00:00Z</when><when>2026-01-01T11:00:00Z</when><gx:coord>1 ` +
		`2 30</gx:coord><gx:coord>1.5 2.5 31</gx:coord></gx:Track></Placemark>
<Placemark><name>Area</name><Polygon><outerBoundaryIs><LinearRing><coordinates>0,0 1,0 ` +
		`1,1</coordinates></LinearRing></outerBoundaryIs></Polygon></Placemark>
<GroundOverlay><name>Old map</name></GroundOverlay></Folder></Document></kml>`
	properties := func(w whole) (all []string) {
		for _, row := range w.rows {
			all = append(all, string(row.Feature.Geometry().Type)+string(row.Feature.Properties.JSON()))
		}
		return all
	}
	compare := func(name string, got, want []string) {
		t.Helper()
		if !slices.Equal(got, want) {
			t.Errorf("%s:\n%s\nwant\n%s", name, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	left := func(what string, n int) string {
		return fmt.Sprintf("Left out, as a feature has no place for it: %s (%d).[]", what, n)
	}
	w := readWhole(t, kml, Options{})
	compare("kml", properties(w), []string{
		`Point{"name":"Lee","folder":"North/Huts","berths":4}`,
		`LineString{"name":"Walk","folder":"North","begin":"2026-01-01T10:00:00Z","end":"2026-01-01T11:00:00Z"}`,
		`Polygon{"name":"Area","folder":"North"}`,
	})
	compare("kml notes", w.notes, []string{
		"1 row had rings that were not closed, and were closed: the first is row 3.[]",
		left(
			"styles",
			2,
		), left("regions", 1), left("viewpoints", 1), left("network links", 2), left(pointTimes,
			2), left("overlays", 1),
	})
	var archive bytes.Buffer
	z := zip.NewWriter(&archive)
	for _, f := range [][2]string{
		{"more/b.kml", `<kml><Placemark><name>B</name><Point><coordinates>3,4</coordinates></Point></Placemark></kml>`},
		{"doc.kml", kml},
		{"icon.png", "x"},
	} {
		part, err := z.Create(f[0])
		if err == nil {
			_, err = io.WriteString(part, f[1])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	w = readWhole(t, archive.String(), Options{})
	if len(w.rows) != 4 || w.rows[3].Number != 4 || w.rows[3].Feature.Properties.Text("name") != "B" ||
		!slices.Contains(
			w.notes,
			left("network links", 1),
		) || !slices.Contains(w.notes, left("files that are not KML (.png)", 1)) {
		t.Errorf("kmz: %v, notes %v", properties(w), w.notes)
	}
	gpx := `<gpx xmlns:g="urn:garden"><metadata><name>All</name></metadata>
<wpt lat="2" lon="1"><name>Gate</name><hdop>3</hdop>
<extensions><g:height>12</g:height><g:who><g:first>Una</g:first></g:who></extensions></wpt>
<trk><name>Round</name><trkseg>
<trkpt lat="1" lon="2"><time>2026-01-01T10:00:00Z</time><extensions><g:hr>80</g:hr></extensions></trkpt>
<trkpt lat="2" lon="2"/></trkseg></trk></gpx>`
	w = readWhole(t, gpx, Options{})
	compare("gpx", properties(w), []string{
		`Point{"name":"Gate","height":12,"who/first":"Una","hdop":3}`,
		`LineString{"begin":"2026-01-01T10:00:00Z","name":"Round"}`,
	})
	compare("gpx notes", w.notes, []string{left(pointTimes, 1), left("extensions of the points of tracks", 1)})
	w = readWhole(
		t,
		`{"type":"FeatureCollection","owner":"x","features":[{"type":"Feature","title":"a",`+
			`"geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}]}`,
		Options{},
	)
	slices.SortFunc(w.notes, cmp.Compare)
	compare(
		"geojson notes",
		w.notes,
		[]string{left(`the member "owner" of the file`, 1), left(`the member "title" of features`, 1)},
	)
}

// TestLargeArchives reads archives up to their limit, which is beyond that of a row.
func TestLargeArchives(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for size, good := range map[int]bool{40 << 20: true, 65 << 20: false} {
		filler := make([]byte, size)
		for i := range filler {
			filler[i] = byte(r.Uint32())
		}
		var archive bytes.Buffer
		z := zip.NewWriter(&archive)
		for name, content := range map[string][]byte{
			"doc.kml":   []byte(`<kml><Placemark><Point><coordinates>1,2</coordinates></Point></Placemark></kml>`),
			"photo.jpg": filler,
		} {
			part, err := z.Create(name)
			if err == nil {
				_, err = part.Write(content)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		f, err := Open(bytes.NewReader(archive.Bytes()), Options{})
		switch {
		case good && err != nil:
			t.Errorf("%d bytes: %v", size, err)
		case good:
			if row, err := f.Next(); err != nil || row.Feature.At != (geo.Point{Lon: 1, Lat: 2}) {
				t.Errorf("%d bytes: %+v, %v", size, row, err)
			}
		case !errors.Is(err, ErrNotUsable) || !strings.Contains(err.Error(), "larger than 64 MiB"):
			t.Errorf("%d bytes: %v", size, err)
		}
	}
}
