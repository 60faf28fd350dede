package formats

import (
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"testing"

	"idlebeacon/internal/core/doubts"
	"idlebeacon/internal/core/geo"
)

func TestFixes(t *testing.T) {
	const file = "lat;lon\n-38,5;-22,25\n38°30'S;22 15 0 W\nS38d30m15s;-22:15:30\n1;2\n"
	got, err := read(strings.NewReader(file), Options{Fix: Fix{DecimalComma: true, Sexagesimal: true}})
	if want := "2 \"\" -22.25 -38.5 {}\n3 \"\" -22.25 -38.5 {}\n4 \"\" -22.258333333333333 -38.50416666666667 " +
		"{}\n5 \"\" 2 1 {}"; err != nil ||
		strings.Join(got, "\n") != want {
		t.Errorf("%v\n%s\nwant\n%s", err, strings.Join(got, "\n"), want)
	}
	_, _, bad, end := rowsOf(t, file, Options{})
	if !errors.Is(end, io.EOF) || len(bad) != 3 || bad[0].Fix != "decimal_comma" || bad[1].Fix != "sexagesimal" ||
		bad[2].Fix != "sexagesimal" {
		t.Errorf("the fixes for %+v, %v", bad, end)
	}
	got, err = read(strings.NewReader(file), Options{})
	if err != nil || len(got) != 4 || !strings.Contains(got[1], "want the decimal number") ||
		!strings.Contains(got[0], "decimal_comma") {
		t.Errorf("without fixes: %v %q", err, got)
	}
}

// TestPairs reads positions that stand in one column.
func TestPairs(t *testing.T) {
	all := Fix{DecimalComma: true, Sexagesimal: true}
	for text, want := range map[string]struct {
		fix Fix
		at  string // or what is wrong
	}{
		"-38.5, -22.1":            {Fix{}, "-22.1 -38.5"},
		"-38.5 -22.1":             {Fix{}, "-22.1 -38.5"},
		"[-38.5;-22.1]":           {Fix{}, "-22.1 -38.5"},
		"(-38.5,-22.1)":           {Fix{}, "-22.1 -38.5"},
		"-38,5; -22,1":            {all, "-22.1 -38.5"},
		"-38,5, -22,1":            {all, "-22.1 -38.5"},
		"-38,5 -22,1":             {Fix{}, "the fix decimal_comma mends"},
		"38°30'0\"S 22°15'W":      {all, "-22.25 -38.5"},
		"S38 30 0 W22 15":         {all, "-22.25 -38.5"},
		"22.25W, 38.5 S":          {all, "-22.25 -38.5"},
		"w22,25 s38,5":            {all, "-22.25 -38.5"},
		"38.5S 22.25W":            {Fix{}, "the fix sexagesimal mends it"},
		"-3.85e1, -2.21e1":        {Fix{}, "-22.1 -38.5"},
		"-138.5, -22.1":           {Fix{}, "may be swapped"},
		"POINT (-22.1 -38.5)":     {Fix{}, "-22.1 -38.5"},
		"SRID=4326;POINT (1 2)":   {Fix{}, "want POINT"},
		"1":                       {Fix{}, "want a latitude and a longitude"},
		"1, 2, 3":                 {Fix{}, "want a latitude and a longitude"},
		"-22.1 -38.5 and further": {Fix{}, "geometry (column"},
		"North Pier":              {Fix{}, "want POINT"},
	} {
		_, good, bad, _ := rowsOf(t, "coords\n\""+strings.ReplaceAll(text, `"`, `""`)+"\"\n", Options{Fix: want.fix})
		got := ""
		if len(good) == 1 {
			got = fmt.Sprint(good[0].Feature.At.Lon, " ", good[0].Feature.At.Lat)
		} else if len(bad) == 1 {
			got = bad[0].Reason
		}
		if got != want.at && (len(bad) != 1 || !strings.Contains(got, want.at)) {
			t.Errorf("%q is read as %s, want %s", text, got, want.at)
		}
	}
	// Columns of their own go first, and a column that is named is meant.
	for file, want := range map[string]string{
		"lat,lon,coords\n1,2,\"3,4\"\n": "2 1", "geom,coords\nPOINT(1 2),\"3,4\"\n": "1 2",
		"coords,x\n\"3,4\",7\n": "4 3",
	} {
		if _, good, bad, _ := rowsOf(t, file, Options{}); len(good) != 1 ||
			fmt.Sprint(good[0].Feature.At.Lon, " ", good[0].Feature.At.Lat) != want {
			t.Errorf("%q: %+v, %+v, want %s", file, good, bad, want)
		}
	}
	if _, good, _, _ := rowsOf(t, "wo\n\"3,4\"\n", Options{GeometryColumn: "wo"}); len(good) != 1 {
		t.Error("a column that is named is not read")
	}
}

// doubtful returns which rows of a file are doubtful, and why; and where they are.
func doubtful(t *testing.T, file string, o Options) (doubts []string, at []geo.Point) {
	t.Helper()
	reader, err := Open(strings.NewReader(file), o)
	if err != nil {
		t.Fatal(err)
	}
	for {
		row, err := reader.Next()
		var bad *RowError
		switch {
		case errors.Is(err, io.EOF):
			return doubts, at
		case errors.As(err, &bad):
			doubts = append(
				doubts,
				fmt.Sprintf("%d rejected", bad.Row)+map[bool]string{true: " for " + bad.Fix}[bad.Fix != ""],
			)
			continue
		case err != nil:
			t.Fatal(err)
		}
		if row.Doubt != nil {
			doubts = append(doubts, fmt.Sprintf("%d %s", row.Number, row.Doubt.Kind))
		}
		if row.Mended {
			doubts = append(doubts, fmt.Sprintf("%d mended", row.Number))
		}
		at = append(at, row.Feature.At)
	}
}

// TestAxisGuard has files with positions whose axes are swapped, among others.
func TestAxisGuard(t *testing.T) {
	isles := "lat,lon\n"
	for i := range 30 {
		isles += fmt.Sprintf("%v,%v\n", -38.5+float64(i%7)/50, -22+float64(i%5)/20)
	}
	lines := ""
	for i := range 30 {
		lines += fmt.Sprintf(
			`{"type":"Feature","geometry":{"type":"Point","coordinates":[%v,%v]},"properties":{}}`+"\n",
			100+float64(i%5)/20,
			-38.5+float64(i%7)/50,
		)
	}
	lines += `{"type":"Feature","geometry":{"type":"Point","coordinates":[-38.5,100.1]},"properties":{}}` + "\n"
	paths := "wkt\n"
	for i := range 24 {
		paths += fmt.Sprintf("\"LINESTRING(%v -38.5, %v -38.4)\"\n", -22-float64(i)/100, -22.1-float64(i)/100)
	}
	paths += "\"LINESTRING(-38.5 -22.1, -38.4 -22.2)\"\n"
	var sample []geo.Point
	for i := range 60 {
		sample = append(sample, geo.Point{Lon: -22.3 + float64(i%8)/10, Lat: -38.7 + float64(i%5)/10})
	}
	known := doubts.KnownFrom(sample, 6000)
	for name, c := range map[string]struct {
		file    string
		options Options
		want    string
	}{
		"as they should be": {isles, Options{Known: known}, ""},
		"two of the file": {isles + "-22.1,-38.5\n-38.5,-22.1\n-22.2,-38.4\n", Options{},
			"32 swapped, 34 swapped"},
		"elsewhere, but not for swapping": {isles + "10,10\n-60,120\n", Options{}, ""},
		"at 0, 0":                         {isles + "0,0\n", Options{}, "32 zero"},
		"those are left out where asked":  {isles + "0,0\n", Options{Fix: Fix{SkipZero: true}}, "32 rejected"},
		"mended where asked": {isles + "-22.1,-38.5\n", Options{Fix: Fix{SwapDoubtful: true}},
			"32 mended"},
		"too few rows to tell":     {"lat,lon\n-22.1,-38.5\n", Options{}, ""},
		"but the collection tells": {"lat,lon\n-22.1,-38.5\n-38.5,-22.1\n", Options{Known: known}, "2 swapped"},
		"lines":                    {paths, Options{}, "26 swapped"},
		"lines, to be mended":      {paths, Options{Fix: Fix{SwapDoubtful: true}}, "26 mended"},
		"a line that the collection tells": {"wkt\n\"LINESTRING(-38.5 -22.1,-38.4 -22.2)\"\n\"LINESTRING(-38.5 " +
			"-22.1,-22.1 -38.5)\"\n", Options{Known: known}, "2 swapped"},
		"a line that is not possible": {"wkt\n\"LINESTRING(-38.5 -122.1,-38.4 -122.2)\"\n", Options{},
			"2 rejected for swap_doubtful"},
		"impossible latitudes":               {lines, Options{}, "31 rejected for swap_doubtful"},
		"impossible latitudes, to be mended": {lines, Options{Fix: Fix{SwapDoubtful: true}}, "31 mended"},
	} {
		doubts, at := doubtful(t, c.file, c.options)
		if got := strings.Join(doubts, ", "); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
		if c.options.Fix.SwapDoubtful {
			if last := at[len(at)-1]; last.Lat > -30 {
				t.Errorf("%s: the mended row is at %v", name, last)
			}
		}
	}
	if _, at := doubtful(t, "lat,lon\n1,2\n", Options{Fix: Fix{Swap: true}}); at[0] != (geo.Point{Lon: 1, Lat: 2}) {
		t.Errorf("all swapped: %v", at)
	}
	for name, metres := range map[string]string{
		"csv": "x,y\n-2449028.799,-4650301.837\n",
		"wkt": "wkt\n\"LINESTRING (-2449028.799 -4650301.837, -2449000 -4650301.837)\"\n",
		"geojson": `{"type":"Feature","geometry":{"type":"Point","coordinates":[-2449028.799,-4650301.837]},` +
			`"properties":{}}`,
		"kml": `<kml><Placemark><Point><coordinates>-2449028.799,` +
			`-4650301.837</coordinates></Point></Placemark></kml>`,
	} {
		_, _, bad, _ := rowsOf(t, metres, Options{})
		if len(bad) != 1 || !strings.Contains(bad[0].Reason, "the fix web_mercator mends") ||
			bad[0].Fix != "web_mercator" {
			t.Errorf("%s in metres: %+v", name, bad)
		}
		_, good, _, _ := rowsOf(t, metres, Options{Fix: Fix{WebMercator: true}})
		if len(good) != 1 {
			t.Errorf("%s in metres, to be read as Web Mercator: %d rows", name, len(good))
			continue
		}
		if at, want := good[0].Feature.At, (geo.Point{Lon: -22, Lat: -38.5}); math.Abs(at.Lon-want.Lon) > 1e-3 ||
			math.Abs(at.Lat-want.Lat) > 1e-3 {
			t.Errorf("%s in metres read as Web Mercator: %v, want about %v", name, at, want)
		}
	}
}
