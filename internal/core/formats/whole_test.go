package formats

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"idlebeacon/internal/core/geo"
)

// A whole is what is read of a file, whatever it takes.
type whole struct {
	rows  []Row
	bad   []*RowError
	notes []string
	file  *File
	times int // that it was read
}

func readWhole(t *testing.T, text string, o Options) (w whole) {
	t.Helper()
	open := func() (io.Reader, error) { return strings.NewReader(text), nil }
	file, err := ReadWhole(open, o, func(f *File) error {
		w.rows, w.bad = nil, nil
		w.times++
		for {
			row, err := f.Next()
			var bad *RowError
			switch {
			case errors.As(err, &bad):
				w.bad = append(w.bad, bad)
			case err != nil:
				return err
			default:
				w.rows = append(w.rows, row)
			}
		}
	})
	if err != nil {
		t.Fatalf("%.200q: %v", text, err)
	}
	w.file = file
	for _, n := range file.Notes() {
		w.notes = append(w.notes, n.String()+fmt.Sprint(n.Set))
	}
	return w
}

func (w *whole) doubtful() (n int) {
	for _, row := range w.rows {
		if row.Doubt != nil {
			n++
		}
	}
	return n
}

// TestTypesOfWholeFiles has columns whose first values are of another kind than later ones.
func TestTypesOfWholeFiles(t *testing.T) {
	column := func(value func(i int) string) string {
		var b strings.Builder
		b.WriteString("lat,lon,v\n")
		for i := range 3000 {
			fmt.Fprintf(&b, "1,%d,\"%s\"\n", i%50, value(i))
		}
		return b.String()
	}
	late := func(usual, other string) string {
		return column(func(i int) string { return map[bool]string{true: other, false: usual}[i == 2500] })
	}
	for name, c := range map[string]struct {
		file        string
		options     Options
		first, last string // the properties of the first row, and of the one that differs
		note        string
	}{
		"numbers all through": {late("5", "6"), Options{}, `{"v":5}`, `{"v":6}`, ""},
		"a text that comes late": {late("5", "five"), Options{}, `{"v":"5"}`, `{"v":"five"}`,
			`text only because of 1 value that does not fit the type number: the first, in row 2502, is ` +
				`"five".[{type v:number}]`},
		"a number that comes late": {late("five", "5"), Options{}, `{"v":"five"}`, `{"v":"5"}`, ""},
		"n/a that comes late": {late("5", "n/a"), Options{}, `{"v":"5"}`, `{"v":"n/a"}`,
			`is "n/a".[{no_value n/a}]`},
		"n/a that is no value": {late("5", "N/A"), Options{NoValue: []string{"n/a"}}, `{"v":5}`, `{"v":null}`, ""},
		"a leading zero":       {late("5", "05"), Options{}, `{"v":"5"}`, `{"v":"05"}`, "only because of 1 value"},
		"exponents":            {late("1e9", "1.5E+3"), Options{}, `{"v":1e9}`, `{"v":1.5E+3}`, ""},
		"decimal commas": {late("1390,1", "1.390,25"), Options{}, `{"v":"1390,1"}`, `{"v":"1.390,25"}`,
			`has numbers in the notation of a decimal comma, such as "1390,1" in row 2, and is kept as text.[{type ` +
				`v:decimal_comma}]`},
		"asked for": {late("1390,1", "1.390,25"), Options{Types: map[string]Type{"v": Number}}, `{"v":1390.1}`,
			`{"v":1390.25}`,
			`is read as numbers with a decimal comma`},
		"asked for by name": {late("1,390", "12"), Options{Types: map[string]Type{"v": DecimalPoint}}, `{"v":1390}`,
			`{"v":12}`, ""},
		"comma by name": {late("1,390", "12"), Options{Types: map[string]Type{"v": DecimalComma}}, `{"v":1.390}`,
			`{"v":12}`, ""},
		"it may be either": {late("1,390", "12"), Options{}, `{"v":"1,390"}`, `{"v":"12"}`,
			"[{type v:decimal_comma} {type v:decimal_point}]"},
		"thousands": {late("1,390.5", "-12,000"), Options{Types: map[string]Type{"v": Number}}, `{"v":1390.5}`,
			`{"v":-12000}`, "a decimal point"},
		"spaces between them": {late("1 390", "1\u202f390,5"), Options{Types: map[string]Type{"v": Number}},
			`{"v":1390}`, `{"v":1390.5}`, "a decimal comma"},
		"units": {late("12", "12 m"), Options{Types: map[string]Type{"v": Number}}, `{"v":12}`, `{"v":"12 m"}`,
			`1 of the 3000 values of the column "v" does not fit the type number and stays text: the first, in row ` +
				`2502, is "12 m".[]`},
		"dates": {late("2024/01/31", "2024/1/2"), Options{}, `{"v":"2024-01-31"}`,
			`{"v":"2024-01-02"}`, "dates with the year first"},
		"the day is first": {late("01/02/2024", "31/01/2024"), Options{}, `{"v":"2024-02-01"}`,
			`{"v":"2024-01-31"}`, "the day first"},
		"the month is first": {late("01/02/2024", "01/31/2024"), Options{}, `{"v":"2024-01-02"}`,
			`{"v":"2024-01-31"}`, "the month first"},
		"nothing tells": {late("01/02/2024", "02/03/2024"), Options{}, `{"v":"01/02/2024"}`,
			`{"v":"02/03/2024"}`, ""},
		"codes that look like it": {late("001", "002"), Options{}, `{"v":"001"}`, `{"v":"002"}`, ""},
	} {
		w := readWhole(t, c.file, c.options)
		first, last := string(w.rows[0].Feature.Properties.JSON()), string(w.rows[2500].Feature.Properties.JSON())
		notes := strings.Join(w.notes, "\n")
		if first != c.first || last != c.last || !strings.Contains(notes, c.note) || c.note == "" && notes != "" {
			t.Errorf("%s: %s and %s, notes %q; want %s and %s, %q", name, first, last, notes, c.first, c.last, c.note)
		}
		if len(w.rows) != 3000 {
			t.Errorf("%s: %d rows", name, len(w.rows))
		}
	}
	if _, err := Open(strings.NewReader("lat,lon,v\n1,2,3\n"),
		Options{Types: map[string]Type{"w": Number}}); !errors.Is(
		err,
		ErrNotUsable,
	) ||
		!strings.Contains(err.Error(), `no column "w"`) {
		t.Errorf("a type of a column that is not there: %v", err)
	}
}

// TestEncodings reads the same table in several encodings.
func TestEncodings(t *testing.T) {
	table := "lat,lon,name\n1,2,Öde Küste\n1,3,plain\n"
	long := "lat,lon,name\n" + strings.Repeat("1,3,plain\n", 20_000) + "1,2,Öde Küste\n"
	latin := func(s string) string { b, _ := charmap.Windows1252.NewEncoder().String(s); return b }
	utf16 := func(e unicode.Endianness, bom unicode.BOMPolicy) string {
		b, _ := unicode.UTF16(e, bom).NewEncoder().String(table)
		return b
	}
	for name, c := range map[string]struct {
		file, asked, note string
	}{
		"UTF-8":                {table, "", ""},
		"UTF-8 with a mark":    {"\xef\xbb\xbf" + table, "", ""},
		"windows-1252":         {latin(table), "", "windows-1252"},
		"evident only late":    {latin(long), "", "windows-1252"},
		"iso-8859-1, asked":    {latin(table), "ISO-8859-1", "windows-1252"},
		"UTF-16 with a mark":   {utf16(unicode.LittleEndian, unicode.UseBOM), "", "utf-16"},
		"UTF-16, big, marked":  {utf16(unicode.BigEndian, unicode.UseBOM), "", "utf-16"},
		"UTF-16 without it":    {utf16(unicode.LittleEndian, unicode.IgnoreBOM), "", "utf-16le"},
		"UTF-16, big, without": {utf16(unicode.BigEndian, unicode.IgnoreBOM), "", "utf-16be"},
	} {
		w := readWhole(t, c.file, Options{Encoding: c.asked})
		found := ""
		for _, row := range w.rows {
			if n := row.Feature.Properties.Text("name"); n != "plain" {
				found = n
			}
		}
		want := ""
		if c.note != "" {
			want = "The file is read as " + c.note + ".[]"
		}
		if found != "Öde Küste" || strings.Join(w.notes, "") != want || len(w.bad) > 0 {
			t.Errorf("%s: %q, %d bad, notes %q; want the note %q", name, found, len(w.bad), w.notes, want)
		}
	}
	kml := `<?xml version="1.0" encoding="ISO-8859-1"?><kml><Placemark><name>K` + "\xfc" +
		`ste</name><Point><coordinates>1,2</coordinates></Point></Placemark></kml>`
	if w := readWhole(t, kml, Options{}); len(w.rows) != 1 || w.rows[0].Feature.Properties.Text("name") != "Küste" {
		t.Errorf("KML that declares its encoding: %+v", w)
	}
	// Characters of several bytes are counted right wherever reads end.
	for size := 1; size < 9; size++ {
		e := encoding{}
		text := strings.NewReader("aö€😀b\xffc€" + strings.Repeat("x", 20) + "ö")
		w := &watcher{r: &shortReads{text, size}, seen: &e}
		if _, err := io.Copy(io.Discard, struct{ io.Reader }{w}); err != nil || e.several != 5 || e.broken != 1 {
			t.Errorf("reads of %d bytes: %+v, %v", size, e, err)
		}
	}
}

type shortReads struct {
	r    io.Reader
	size int
}

func (s *shortReads) Read(p []byte) (int, error) { return s.r.Read(p[:min(len(p), s.size)]) }

// TestOrderOfCountries has a file in the order of its countries, the first of which are
// elsewhere than most: nothing is doubtful but what is swapped, and shuffling changes nothing.
func TestOrderOfCountries(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var lines []string
	for country, at := range []geo.Point{{Lon: 45, Lat: 25}, {Lon: 12, Lat: 47}, {Lon: -70, Lat: -15}, {Lon: 100,
		Lat: 35}} {
		for range 3000 {
			lines = append(
				lines,
				fmt.Sprintf("%.4f,%.4f,%d", at.Lat+r.NormFloat64(), at.Lon+r.NormFloat64()*1.5, country),
			)
		}
	}
	file := func() string { return "lat,lon,country\n" + strings.Join(lines, "\n") + "\n" }
	if w := readWhole(t, file(), Options{}); w.doubtful() != 0 || w.times != 1 {
		t.Errorf("%d rows are doubtful, read %d times: %v", w.doubtful(), w.times, w.notes)
	}
	for i := range 40 { // of the second country
		lat, rest, _ := strings.Cut(lines[3000+i*10], ",")
		lon, country, _ := strings.Cut(rest, ",")
		lines[3000+i*10] = lon + "," + lat + "," + country
	}
	inOrder := readWhole(t, file(), Options{})
	if inOrder.doubtful() != 40 ||
		!strings.Contains(
			strings.Join(inOrder.notes, ""),
			"The fix swap_doubtful would change 40 of 12000 rows (0.33 %).[{fix swap_doubtful}]",
		) {
		t.Errorf("%d of 40 swapped rows are doubtful: %v", inOrder.doubtful(), inOrder.notes)
	}
	mended := readWhole(t, file(), Options{Fix: Fix{SwapDoubtful: true, SkipZero: true}})
	if mended.doubtful() != 0 || !mended.rows[3000].Mended ||
		strings.Join(mended.notes, "") != "The fix skip_zero changed nothing.[]" {
		t.Errorf("mended: %d are doubtful, notes %v", mended.doubtful(), mended.notes)
	}
	r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	if shuffled := readWhole(t, file(), Options{}); shuffled.doubtful() != 40 {
		t.Errorf("%d of 40 swapped rows are doubtful when the file is shuffled", shuffled.doubtful())
	}
}

// TestMirroredHalves asks about a file of 40 rows, half of them swapped.
func TestMirroredHalves(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	file := "lat,lon\n"
	for i := range 40 {
		lat, lon := -38.5+(r.Float64()-0.5)/2, -22+(r.Float64()-0.5)/2
		if i%2 == 0 {
			lat, lon = lon, lat
		}
		file += fmt.Sprintf("%.4f,%.4f\n", lat, lon)
	}
	w := readWhole(t, file, Options{})
	notes := w.file.Notes()
	if w.doubtful() != 0 || len(notes) != 1 || notes[0].Kind != MirroredNote || notes[0].Sides[0].Count != 20 ||
		notes[0].Sides[1].Count != 20 {
		t.Fatalf("%d doubtful, notes %v", w.doubtful(), w.notes)
	}
	for _, side := range notes[0].Sides {
		box := side.Box
		w := readWhole(t, file, Options{Within: &box, Fix: Fix{SwapDoubtful: true}})
		for _, row := range w.rows {
			if !box.Contains(row.Feature.At) {
				t.Errorf("within %v, a row is at %v", box, row.Feature.At)
			}
		}
		if w := readWhole(t, file, Options{Within: &box}); w.doubtful() != 20 {
			t.Errorf("within %v, %d rows are doubtful", box, w.doubtful())
		}
	}
}

// TestFixThatGoesFar offers a fix that would move rows to where nothing else of the file is.
func TestFixThatGoesFar(t *testing.T) {
	file := "lat,lon\n"
	for i := range 40 {
		file += fmt.Sprintf("%.2f,%.2f\n", -38.5+float64(i%7)/50, -22+float64(i%5)/20)
	}
	file += "122,-38.4\n-122,50\n"
	w := readWhole(t, file, Options{})
	if want := "The fix swap_doubtful would change 2 of 42 rows (4.8 %). 2 of them would then lie where nothing " +
		"else of the file is." +
		" That is more than a small share: look at them first.[{fix swap_doubtful}]"; strings.Join(
		w.notes,
		"",
	) != want {
		t.Errorf("%q, want %q", w.notes, want)
	}
}

// TestReferenceSystems reads GeoJSON whose positions are not in WGS 84.
func TestReferenceSystems(t *testing.T) {
	file := func(before, after string, x, y float64) string {
		return fmt.Sprintf(
			`{"type":"FeatureCollection"%s,"features":[{"type":"Feature","geometry":{"type":"Point",`+
				`"coordinates":[%v,%v]},"properties":{}}]%s}`,
			before,
			x,
			y,
			after,
		)
	}
	crs := func(name string) string { return `,"crs":{"type":"name","properties":{"name":"` + name + `"}}` }
	for name, c := range map[string]struct {
		file string
		crs  string
		at   string
	}{
		"CRS84":        {file(crs("urn:ogc:def:crs:OGC:1.3:CRS84"), "", 9, 47), "", "9.000 47.000"},
		"UTM":          {file(crs("urn:ogc:def:crs:EPSG::32632"), "", 500000, 5205000), "", "9.000 46.999"},
		"after":        {file("", crs("EPSG:32632"), 500000, 5205000), "", "9.000 46.999"},
		"small metres": {file("", crs("EPSG:32632"), 500000, 12), "", "9.000 0.000"},
		"Web Mercator": {file(crs("EPSG:3857"), "", 1001875.417, 5942074.072), "", "9.000 47.000"},
		"of the feature": {`{"type":"Feature"` + crs("EPSG:32632") +
			`,"geometry":{"type":"Point","coordinates":[500000,5205000]},"properties":{}}`, "", "9.000 46.999"},
		"asked for":     {file("", "", 500000, 5205000), "EPSG:25832", "9.000 46.999"},
		"asked against": {file(crs("EPSG:31467"), "", 9, 47), "OGC:CRS84", "9.000 47.000"},
		"none":          {file(`,"crs":null`, "", 9, 47), "", "9.000 47.000"},
	} {
		var o Options
		if c.crs != "" {
			asked, err := geo.ParseCRS(c.crs)
			if err != nil {
				t.Fatal(err)
			}
			o.CRS = &asked
		}
		w := readWhole(t, c.file, o)
		if len(w.rows) != 1 || fmt.Sprintf("%.3f %.3f", w.rows[0].Feature.At.Lon, w.rows[0].Feature.At.Lat) != c.at {
			t.Errorf("%s: %+v, %v, want %s", name, w.rows, w.bad, c.at)
		}
	}
	for _, text := range []string{file(crs("urn:ogc:def:crs:EPSG::31467"), "", 3.5e6, 5e6), file("", crs(
		"urn:ogc:def:crs:EPSG::31467"), 3, 5)} {
		f, err := Open(strings.NewReader(text), Options{})
		for err == nil {
			_, err = f.Next()
			if bad := (*RowError)(nil); errors.As(err, &bad) {
				err = nil
			}
		}
		if !errors.Is(err, ErrNotUsable) || !strings.Contains(err.Error(), "EPSG:31467") {
			t.Errorf("a system that is not known: %v", err)
		}
	}
}

// TestWrongFormats reads files as formats that they are not.
func TestWrongFormats(t *testing.T) {
	files := map[Format]string{
		CSV: "lat,lon\n1,2\n", GeoJSON: `{"type":"FeatureCollection","features":[]}`,
		KML: `<kml><Document/></kml>`, GPX: `<gpx/>`, KMZ: "PK\x03\x04",
	}
	for is, text := range files {
		for asked := range files {
			f, err := Open(strings.NewReader(text), Options{Format: asked})
			if err == nil && is != asked {
				_, err = f.Next()
			}
			if is != asked && !errors.Is(err, ErrNotUsable) {
				t.Errorf("%s read as %s: %v", is, asked, err)
			}
		}
	}
}
