package formats

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"unicode/utf8"
)

// read gives every row of a file as a line: "number id lon lat properties" for a
// good one, "! error" for a bad one, and the error that ended the file.
func read(r io.Reader, options Options) (lines []string, err error) {
	reader, err := Open(r, options)
	if err != nil {
		return nil, err
	}
	for {
		row, err := reader.Next()
		var bad *RowError
		switch {
		case errors.Is(err, io.EOF):
			return lines, nil
		case errors.As(err, &bad):
			lines = append(lines, "! "+err.Error())
		case err != nil:
			return lines, err
		default:
			f := row.Feature
			lines = append(
				lines,
				fmt.Sprintf("%d %q %v %v %s", row.Number, f.ID, f.At.Lon, f.At.Lat, f.Properties.JSON()),
			)
		}
	}
}

func TestCSV(t *testing.T) {
	for _, c := range []struct {
		name, in string
		options  Options
		want     []string
	}{
		{"codes stay text, numbers are numbers",
			"id,name,Latitude,LONGITUDE,postcode,berths\n7,Gull Stair,-38.5,-22.1,00417,6\n8,Otter " +
				"Head,-38.6,-22.2,10417,\n", Options{},
			[]string{
				`2 "7" -22.1 -38.5 {"name":"Gull Stair","postcode":"00417","berths":6}`,
				`3 "8" -22.2 -38.6 {"name":"Otter Head","postcode":"10417","berths":null}`,
			}},
		{"byte order mark, semicolons, CRLF, quoted fields with everything in them",
			"\xef\xbb\xbfname;lat;lon\r\n\"a;b \"\"c\"\"\nd\";1;2\r\n", Options{},
			[]string{`2 "" 2 1 {"name":"a;b \"c\"\nd"}`}},
		{"tabs", "lng\tlat\n1\t2\n", Options{}, []string{`2 "" 1 2 {}`}},
		{"named columns", "east,north,code\n1,2,x\n", Options{LonColumn: "east", LatColumn: "north", IDColumn: "code"},
			[]string{`2 "x" 1 2 {}`}},
		{"mixed columns stay text", "x,y,a,b\n1,2,5,1.50\n1,2,five,01\n", Options{},
			[]string{`2 "" 1 2 {"a":"5","b":"1.50"}`, `3 "" 1 2 {"a":"five","b":"01"}`}},
		{"bad rows are told and passed over",
			"id,lat,lon\na,1,2\nb,91,2\nc,x,2\nd,1\n,1,2\nf,\"1\n2,2\n", Options{},
			[]string{`2 "a" 2 1 {}`, "! row 3: latitude: is 91; want -90 to 90; longitude and latitude may be swapped",
				`! row 4: latitude (column "lat"): is "x"; want degrees as a decimal number`,
				"! row 5: has 2 fields; want 3, as in the header",
				`! row 6: id (column "id"): is empty`, `! row 7 (line 8): extraneous or missing " in quoted-field`}},
		{"decimal commas", "lat;lon\n1,5;2,5\n", Options{},
			[]string{`! row 2: longitude (column "lon"): is "2,5"; want degrees with a decimal point, not a comma; ` +
				`the fix decimal_comma mends it`}},
		{"no hexadecimal, no infinity", "lat,lon\n0x1p1,2\n1,inf\n", Options{},
			[]string{`! row 2: latitude (column "lat"): is "0x1p1"; want degrees as a decimal number`,
				"! row 3: longitude: is not a finite number"}},
		{"invalid UTF-8", "lat,lon,n\n1,2,\xff\n1,2,ä\n", Options{}, []string{
			`! row 2: column "n" is not valid UTF-8 text; save the file as UTF-8, or say what encoding it has`,
			`3 "" 2 1 {"n":"ä"}`}},
		{"only a header", "lat,lon", Options{}, nil},
		{"a line that tells the separator", "sep=;\r\nid;lat;lon;note\r\na;1;2;x,y\r\nb;north;2;z\r\n", Options{},
			[]string{`2 "a" 2 1 {"note":"x,y"}`,
				`! row 3 (line 4): latitude (column "lat"): is "north"; want degrees as a decimal number`}},
		{"it is no such line", "sep=,lat,lon\n1,2,3\n", Options{}, []string{`2 "" 3 2 {"sep=":1}`}},
		{"units in the names", "Latitude (deg),Longitude [°],lat_accuracy\n1,2,3\n", Options{}, []string{`2 "" 2 1 ` +
			`{"lat_accuracy":3}`}},
		{"the plain name goes first", "lat_deg,lat,lon_wgs84\n7,1,2\n", Options{}, []string{`2 "" 2 1 {"lat_deg":7}`}},
		{"nameless column", "lat,lon,\n1,2,z\n", Options{}, []string{`2 "" 2 1 {"column 3":"z"}`}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := read(strings.NewReader(c.in), c.options)
			if err != nil {
				t.Fatal(err)
			}
			if strings.Join(got, "\n") != strings.Join(c.want, "\n") {
				t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(c.want, "\n"))
			}
		})
	}
}

func TestGeoJSON(t *testing.T) {
	const a = `{"type":"Feature","id":"a","geometry":{"type":"Point","coordinates":[1,2]},"properties":{"n":"00"}}`
	const wantA = ` "a" 1 2 {"n":"00"}`
	for _, c := range []struct {
		name, in string
		want     []string
		err      string
	}{
		{"collection", ` {"type":"FeatureCollection","name":"x","features":[` + a + `,` + a +
			`],"after":{"features":[1]}}`, []string{"1" + wantA, "2" + wantA}, ""},
		{"type last", `{"features":[` + a + `],"type":"FeatureCollection"}`, []string{"1" + wantA}, ""},
		{"one feature", a, []string{"1" + wantA}, ""},
		{"one feature, type last",
			`{"id":"a","geometry":{"type":"Point","coordinates":[1,2]},"properties":{"n":"00"},"type":"Feature"}`,
			[]string{"1" + wantA},
			""},
		{"empty", `{"type":"FeatureCollection","features":[]}`, nil, ""},
		{"others are told",
			`{"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"LineString",` +
				`"coordinates":[[1,2]]},"properties":null},3,` + a +
				`]}`,
			[]string{`! row 1: geometry.coordinates: line 1 has 1 position; want two or more`,
				"! row 2: feature: is a number; want a GeoJSON object with type, geometry and properties", "3" + wantA},
			""},
		{"cut off between features", `{"type":"FeatureCollection","features":[` + a + `,`, []string{"1" + wantA},
			"ends in the middle, after 1 whole features"},
		{"cut off after a feature", `{"type":"FeatureCollection","features":[` + a, []string{"1" + wantA},
			"ends in the middle, after 1 whole features"},
		{"cut off in a feature", `{"type":"FeatureCollection","features":[` + a + `,{"type":"Fea`,
			[]string{"1" + wantA},
			"ends in the middle, after 1 whole features"},
		{"broken", `{"type":"FeatureCollection","features":[` + a + `,}]}`, []string{"1" + wantA},
			"not valid JSON at byte"},
		{"another kind", `{"type":"Topology","objects":{}}`, nil, `its type is "Topology"`},
		{"no features", `{"a":1}`, nil, `no member "features"`},
		{"features no array", `{"features":{}}`, nil, "not an array"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := read(strings.NewReader(c.in), Options{})
			if (err == nil) != (c.err == "") ||
				err != nil && (!strings.Contains(err.Error(), c.err) || !errors.Is(err, ErrNotUsable)) {
				t.Errorf("error %v, want %q", err, c.err)
			}
			if strings.Join(got, "\n") != strings.Join(c.want, "\n") {
				t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(c.want, "\n"))
			}
		})
	}
}

func TestFilesThatCannotBeUsed(t *testing.T) {
	for _, c := range []struct {
		name, in string
		options  Options
		err      string
	}{
		{"empty", "", Options{}, "it is empty"},
		{"unknown encoding", "lat,lon\n1,2\n", Options{Encoding: "klingon"}, "\"klingon\" is not known"},
		{"no coordinates", "a,b\n1,2\n", Options{}, `looked for longitude, lon, lng, long, x among the columns ` +
			`"a", "b"; name it with lon_column`},
		{"no such column", "lat,lon\n1,2\n", Options{LatColumn: "north"}, `no column "north" for the latitude`},
		{"no such id column", "lat,lon\n1,2\n", Options{IDColumn: "code"}, `no column "code" for the id`},
		{"same column twice", "lat,lon\n1,2\n", Options{LatColumn: "lon"}, "cannot be both"},
		{"same name twice", "lat,lon,lat\n1,2,3\n", Options{}, `two columns are named "lat"`},
		{"unknown format", "x", Options{Format: "pdf"}, `format "pdf" is not known`},
		{"open quote", "lat,lon\n1,\"2\n" + strings.Repeat("x,y\n", MaxRowBytes/3), Options{},
			"a quote that is not closed"},
		{"endless feature", `{"features":[{"a":"` + strings.Repeat("x", MaxRowBytes+1<<20), Options{},
			"feature 1 is longer than"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := read(strings.NewReader(c.in), c.options)
			if err == nil || !strings.Contains(err.Error(), c.err) || !errors.Is(err, ErrNotUsable) {
				t.Errorf("error %v, want %q", err, c.err)
			}
		})
	}
}

func TestErrorsOfTheSourceComeThrough(t *testing.T) {
	for _, in := range []string{"lat,lon\n1,2\n", `{"features":[`} {
		_, err := read(io.MultiReader(strings.NewReader(in), failing{}), Options{})
		if !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%q: error %v, want that of the source", in, err)
		}
	}
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, os.ErrDeadlineExceeded }

func TestGuessedProperties(t *testing.T) {
	reader, err := Open(strings.NewReader("lat,lon,Kind,TITLE\n1,2,a,b\n"), Options{})
	if err != nil {
		t.Fatal(err)
	}
	if n, c := GuessNameProperty(reader.Names()), GuessCategoryProperty(reader.Names()); n != "TITLE" || c != "Kind" {
		t.Errorf("guessed name %q, category %q", n, c)
	}
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte("lat,lon,id\n1,2,3\n\"4\",5,6"))
	f.Add(
		[]byte(
			`{"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"Point","coordinates":[1,` +
				`2]}}]}`,
		),
	)
	f.Fuzz(func(t *testing.T, in []byte) {
		reader, err := Open(strings.NewReader(string(in)), Options{})
		if err != nil {
			return
		}
		for range len(in) + 10 {
			row, err := reader.Next()
			var bad *RowError
			switch {
			case err == nil:
				if err := row.Feature.Validate(); err != nil {
					t.Fatalf("%q gives a feature with %v", in, err)
				}
			case !errors.As(err, &bad):
				return
			}
		}
		t.Fatalf("%q never ends", in)
	})
}

// TestWhatIsRecognised checks in each format that a file tells its properties, before
// its rows are read and after.
func TestWhatIsRecognised(t *testing.T) {
	feature := `{"type":"Feature","id":"a","geometry":{"type":"Point","coordinates":[1,2]},"properties":{"name":"A",` +
		`"depth":2.5,"open":true}}`
	for format, text := range map[Format]string{
		CSV:          "id,lon,lat,name,depth,open\na,1,2,A,2.5,true\n",
		GeoJSON:      `{"type":"FeatureCollection","features":[` + feature + `]}`,
		GeoJSONLines: feature + "\n" + feature + "\n",
		GeoJSONSeq:   "\x1e" + feature + "\n",
		KML: `<kml><Placemark><name>A</name><ExtendedData><Data name="depth"><value>2.5</value></Data><Data ` +
			`name="open"><value>true</value></Data></ExtendedData>` +
			`<Point><coordinates>1,2</coordinates></Point></Placemark></kml>`,
	} {
		file, err := Open(strings.NewReader(text), Options{})
		if err != nil || file.Format() != format {
			t.Errorf("%s: read as %v, %v", format, file, err)
			continue
		}
		tell := func() string {
			var all []string
			for _, c := range file.Columns() {
				if c.Role == "" {
					all = append(all, fmt.Sprint(c.Name, " ", c.Type, " ", c.Samples))
				}
			}
			return fmt.Sprint(file.Names(), all)
		}
		want := "[name depth open] [name text [A] depth number [2.5] open boolean [true]]"
		if got := tell(); got != want {
			t.Errorf("%s: %s, want %s", format, got, want)
		}
		if _, err := file.Next(); err != nil {
			t.Errorf("%s: %v", format, err)
		}
		if got := tell(); got != want {
			t.Errorf("%s, after its first row: %s", format, got)
		}
	}
}

// TestSamplesAreShort checks that what is shown of a file is bounded, whatever is in it.
func TestSamplesAreShort(t *testing.T) {
	long := strings.Repeat("ü", 50_000)
	for name, text := range map[string]string{
		"csv": "id,note,wkt\na," + long + ",\"LINESTRING(0 0" + strings.Repeat(",1 1", 50_000) + ")\"\n",
		"lines": `{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{"note":"` + long +
			`"}}`,
	} {
		file, good, _, _ := rowsOf(t, text, Options{})
		if len(good) != 1 {
			t.Fatalf("%s: %d rows", name, len(good))
		}
		for _, c := range file.Columns() {
			for _, s := range c.Samples {
				if len(s) > maxSampleLength+len("…") || !utf8.ValidString(s) || s == "" {
					t.Errorf("%s, column %s: a sample of %d bytes", name, c.Name, len(s))
				}
			}
		}
	}
}

// TestUnplacedTables looks at tables without columns for a position.
func TestUnplacedTables(t *testing.T) {
	const text = "nr,ort,breite,laenge\n01,Hafen,-38.5,-22.1\n02,Turm,-38.4,-22.2\n"
	for _, c := range []struct {
		options Options
		missing string // "" if it can be used
		want    string
	}{
		{Options{Unplaced: true}, "no column for the longitude", "nr text [01 02], ort text [Hafen Turm], breite " +
			"number [-38.5 -38.4], laenge number [-22.1 -22.2], "},
		{Options{Unplaced: true, LonColumn: "laenge"}, "no column for the latitude", "nr text [01 02], ort text " +
			"[Hafen Turm], breite number [-38.5 -38.4], laenge longitude [-22.1 -22.2], "},
		{Options{Unplaced: true, LonColumn: "laenge", LatColumn: "breite"}, "", "nr text [01 02], ort text [Hafen " +
			"Turm], breite latitude [-38.5 -38.4], laenge longitude [-22.1 -22.2], "},
	} {
		file, good, bad, end := rowsOf(t, text, c.options)
		told := ""
		for _, column := range file.Columns() {
			told += fmt.Sprintf(
				"%s %s %v, ",
				column.Name,
				cmp.Or(string(column.Role), string(column.Type)),
				column.Samples,
			)
		}
		if told != c.want || !errors.Is(end, io.EOF) {
			t.Errorf("%+v: columns %s, end %v; want %s", c.options, told, end, c.want)
		}
		if c.missing == "" && (file.Missing() != nil || len(good) != 2) ||
			c.missing != "" &&
				(file.Missing() == nil || !strings.Contains(file.Missing().Error(), c.missing) || len(bad) != 2) {
			t.Errorf("%+v: missing %v, %d good rows, %d bad", c.options, file.Missing(), len(good), len(bad))
		}
	}
	for _, o := range []Options{{}, {LonColumn: "laenge"}, {Unplaced: true, LonColumn: "east"}, {Unplaced: true,
		LatColumn: "north", LonColumn: "laenge"}} {
		if _, err := Open(strings.NewReader(text), o); !errors.Is(err, ErrNotUsable) {
			t.Errorf("%+v: %v", o, err)
		}
	}
}

// TestMoreAfterTheEnd has files that go on where one of their format ends: what follows
// is not passed over in silence.
func TestMoreAfterTheEnd(t *testing.T) {
	feature := func(note string) string {
		return `{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{"note":"` + note + `"}}`
	}
	long := feature(strings.Repeat("x", 100_000)) // longer than what the format is found from
	for name, text := range map[string]string{
		"lines, the first of them long": long + "\n" + feature("") + "\n",
		"two collections": `{"type":"FeatureCollection","features":[` + feature("") +
			`]}{"type":"FeatureCollection","features":[]}`,
	} {
		_, good, bad, end := rowsOf(t, text, Options{})
		if len(good) != 1 || len(bad) != 0 || !errors.Is(end, ErrNotUsable) ||
			!strings.Contains(end.Error(), "geojson-lines") {
			t.Errorf("%s: %d good rows, %d bad, end %v", name, len(good), len(bad), end)
		}
	}
	if _, good, _, end := rowsOf(t, long+"\n"+feature("")+"\n", Options{Format: GeoJSONLines}); len(good) != 2 ||
		!errors.Is(end, io.EOF) {
		t.Errorf("read as lines: %d rows, end %v", len(good), end)
	}
}

// TestColumnsAreBounded opens a table of far too many columns.
func TestColumnsAreBounded(t *testing.T) {
	var header strings.Builder
	header.WriteString("lat,lon")
	for i := range 80_000 {
		fmt.Fprintf(&header, ",c%d", i)
	}
	if _, err := Open(strings.NewReader(header.String()), Options{}); !errors.Is(err, ErrNotUsable) ||
		!strings.Contains(err.Error(), "the most is 4096") {
		t.Errorf("opening it: %v", err)
	}
}
