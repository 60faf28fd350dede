package formats

import (
	"bytes"
	"errors"
	"io"
	"iter"
	"slices"
	"strings"
	"testing"
)

// rowsOf returns the good and the bad rows of a file, and what ended it.
func rowsOf(t *testing.T, text string, options Options) (file *File, good []Row, bad []RowError, end error) {
	t.Helper()
	file, err := Open(strings.NewReader(text), options)
	if err != nil {
		t.Fatalf("opening %.80q: %v", text, err)
	}
	for {
		row, err := file.Next()
		var e *RowError
		switch {
		case errors.As(err, &e):
			bad = append(bad, *e)
		case err != nil:
			return file, good, bad, err
		default:
			good = append(good, row)
		}
	}
}

func each(all []RowError) iter.Seq2[RowError, error] {
	return func(yield func(RowError, error) bool) {
		for _, e := range all {
			if !yield(e, nil) {
				return
			}
		}
	}
}

// badFiles have rows that cannot be used; correct turns those into ones that can.
var badFiles = []struct {
	name    string
	format  Format
	text    string
	bad     int
	correct *strings.Replacer
}{
	{
		"csv",
		CSV,
		"id,lon,lat,note\na,1,2,fine\nb,1,north,\"a, b\"\nc,1,200,\nd,1,2,\"two\nlines\"\ne,x,\"1\",\"three\nlines\"\n",
		3,
		strings.NewReplacer("north", "3", "200", "20", "e,x", "e,4"),
	},
	{
		"csv of few fields",
		CSV,
		"id;lon;lat\na;1;2\nb;1\nc;1;2;3\n",
		2,
		strings.NewReplacer("b;1;", "b;1;5;", "c;1;2;3", "c;1;2"),
	},
	{
		"csv of bytes that are no text",
		CSV,
		"id,lon,lat,note\na,1,2,ö\xff\nb,1,2,x\n",
		1,
		strings.NewReplacer("\xff", "y"),
	},
	{"csv with a stray quote", CSV, "id,lon,lat,note\na,1,2,x\"y\nb,1,2,z\n", 1, strings.NewReplacer(`x"y`, "xy")},
	{
		"geojson",
		GeoJSON,
		`{"type":"FeatureCollection","features":[{"type":"Feature","id":"a","geometry":{"type":"Point",` +
			`"coordinates":[1,2]},"properties":{"n":1}},
		{"type":"Feature","id":"b","geometry":{"type":"Point","coordinates":[1,200]},"properties":{"n":1.50}},{}]}`,
		2,
		strings.NewReplacer(
			"200",
			"20",
			`{"rejected":{"reason":"`,
			`{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{},"rejected":{"reason":"`,
		),
	},
	{
		"lines",
		GeoJSONLines,
		`{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}` + "\n" +
			`{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{}` + "\n",
		1,
		strings.NewReplacer(`"properties":{}`, `"properties":{}}`),
	},
	{
		"sequence",
		GeoJSONSeq,
		"\x1e" + `{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}` + "\n\x1e" +
			`{"type":"Feature","geometry":{"type":"Point","coordinates":[]},"properties":{}}` + "\n",
		1,
		strings.NewReplacer("[]", "[3,4]"),
	},
	{
		"kml",
		KML,
		`<kml xmlns="http://www.opengis.net/kml/2.2"><Document><Placemark ` +
			`id="a"><Point><coordinates>1,2</coordinates></Point></Placemark>
		<Placemark id="b"><name>a -- b</name><Point><coordinates>1,north--south</coordinates></Point></Placemark>` +
			`<Placemark/></Document></kml>`,
		2,
		strings.NewReplacer(
			"north--south",
			"3",
			"<Placemark/>",
			"<Placemark><Point><coordinates>1,2</coordinates></Point></Placemark>",
		),
	},
	{
		"gpx",
		GPX,
		`<gpx version="1.1" xmlns="http://www.topografix.com/GPX/1/1"><wpt lat="1" ` +
			`lon="2"><name>a</name></wpt><wpt lat="91" lon="2"/></gpx>`,
		1,
		strings.NewReplacer(`lat="91"`, `lat="9"`),
	},
}

func TestRejectedRowsCanBeCorrected(t *testing.T) {
	for _, test := range badFiles {
		t.Run(test.name, func(t *testing.T) {
			file, good, bad, end := rowsOf(t, test.text, Options{Format: test.format})
			if !errors.Is(end, io.EOF) || len(bad) != test.bad {
				t.Fatalf("%d good rows, bad rows %+v, end %v; want %d bad", len(good), bad, end, test.bad)
			}
			var out bytes.Buffer
			if err := WriteRejected(&out, test.format, file.Head(), each(bad)); err != nil {
				t.Fatal(err)
			}
			_, none, again, end := rowsOf(t, out.String(), Options{Format: test.format})
			if !errors.Is(end, io.EOF) || len(none) != 0 || len(again) != test.bad {
				t.Fatalf(
					"the rejected rows as they are give %d good rows, %+v, %v:\n%s",
					len(none),
					again,
					end,
					out.String(),
				)
			}
			_, corrected, still, end := rowsOf(t, test.correct.Replace(out.String()), Options{Format: test.format})
			if !errors.Is(end, io.EOF) || len(corrected) != test.bad || len(still) != 0 {
				t.Fatalf(
					"corrected, %d rows are good and not: %+v, %v\n%s",
					len(corrected),
					still,
					end,
					test.correct.Replace(out.String()),
				)
			}
			for _, row := range corrected {
				for _, name := range rejectedColumns {
					if _, there := row.Feature.Properties.Value(name); there {
						t.Errorf("%q has become a property", name)
					}
				}
			}
		})
	}
}

// TestRejectedRowsKeepTheirFolder checks that what a row has from around it is not lost.
func TestRejectedRowsKeepTheirFolder(t *testing.T) {
	text := `<kml><Document><name>d</name><Folder><name>Huts &amp; ` +
		`taps</name><Placemark><Point><coordinates>1,north</coordinates></Point></Placemark></Folder>
		<Placemark><Point><coordinates>2,north</coordinates></Point></Placemark></Document></kml>`
	_, _, bad, _ := rowsOf(t, text, Options{})
	var out bytes.Buffer
	if err := WriteRejected(&out, KML, nil, each(bad)); err != nil {
		t.Fatal(err)
	}
	_, good, bad, _ := rowsOf(t, strings.ReplaceAll(out.String(), "north", "2"), Options{})
	if len(good) != 2 || len(bad) != 0 || good[0].Feature.Properties.Text("folder") != "Huts & taps" ||
		good[1].Feature.Properties.Text("folder") != "" {
		t.Errorf("%+v, %+v of\n%s", good, bad, out.String())
	}
}

func TestSourcesFarApart(t *testing.T) {
	// Bad rows among so many that the tape is cut again and again.
	var text strings.Builder
	text.WriteString(`<gpx version="1.1" xmlns="http://www.topografix.com/GPX/1/1">`)
	var want []string
	for i := range 20_000 {
		row := `<wpt lat="1" lon="2"><name>` + strings.Repeat("n", i%97) + `</name></wpt>`
		if i%777 == 0 {
			row = strings.Replace(row, `lat="1"`, `lat="100"`, 1)
			want = append(want, row)
		}
		text.WriteString(row)
	}
	text.WriteString("</gpx>")
	_, _, bad, _ := rowsOf(t, text.String(), Options{})
	var got []string
	for _, e := range bad {
		got = append(got, string(e.Source))
	}
	if !slices.Equal(got, want) {
		t.Errorf("the sources of %d bad rows are not the %d that were written", len(got), len(want))
	}
}

// TestLongRowsAreNotKept checks that the source of a row is kept up to its bound and no
// further, in every format, and that the rows after it are read.
func TestLongRowsAreNotKept(t *testing.T) {
	for name, file := range map[string]func(filling string) string{
		"csv": func(s string) string { return "id,lon,lat,note\na,1,north," + s + "\nb,1,2,x\n" },
		"lines": func(s string) string {
			return `{"type":"Feature","note":"` + s + `"}` + "\n" +
				`{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}` + "\n"
		},
		"kml": func(s string) string {
			return "<kml><Placemark><description>" + s +
				"</description></Placemark><Placemark><Point><coordinates>1,2</coordinates></Point></Placemark></kml>"
		},
	} {
		for _, c := range []struct {
			size int
			kept bool
		}{{10, true}, {maxSource - 1000, true}, {maxSource + 1, false}} {
			o := Options{}
			if name == "lines" {
				o.Format = GeoJSONLines // its first line is longer than what the format is found from
			}
			_, good, bad, end := rowsOf(t, file(strings.Repeat("x", c.size)), o)
			if len(good) != 1 || len(bad) != 1 || !errors.Is(end, io.EOF) || (bad[0].Source != nil) != c.kept {
				t.Errorf(
					"%s, %d bytes: %d good rows, %d bad, end %v; want its source kept %v",
					name,
					c.size,
					len(good),
					len(bad),
					end,
					c.kept,
				)
				continue
			}
			if c.kept && !bytes.Contains(bad[0].Source, []byte("xxxxxxxxxx")) {
				t.Errorf("%s: %.60q is kept", name, bad[0].Source)
			}
		}
	}
}
