package icon

import (
	"bytes"
	"encoding/xml"
	"errors"
	"image"
	"image/color"
	"image/png"
	"io"
	"slices"
	"strings"
	"testing"
)

// picture returns a PNG picture.
func picture(t testing.TB, width, height int) []byte {
	t.Helper()
	m := image.NewNRGBA(image.Rect(0, 0, width, height))
	m.Set(width/2, height/2, color.NRGBA{200, 10, 10, 128})
	var b bytes.Buffer
	if err := png.Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

const plain = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24"><path d="M1 1h5"/></svg>`

func TestRead(t *testing.T) {
	pixels := picture(t, 8, 8)
	for _, test := range []struct {
		name, file string
		media      string
		removed    []string
		problem    string // "" for none
		has, not   string // of what is kept
	}{
		{name: "plain", file: plain, media: SVG, has: `<path d="M1 1h5"></path>`},
		{name: "with a declaration, a mark and comments", file: "\xef\xbb\xbf<?xml version=\"1.0\"?>\n<!-- x " +
			"--><!DOCTYPE svg>" + plain, media: SVG, not: "<!"},
		{name: "sized by width and height", file: `<svg xmlns="http://www.w3.org/2000/svg" width="20px" ` +
			`height="10"/>`, media: SVG, has: `viewBox="0 0 20 10"`},
		{name: "a script", file: strings.Replace(plain, "<path", "<script>alert(1)</script><path onclick='x()'", 1),
			media: SVG, removed: []string{"script",
				"onclick"}, not: "alert"},
		{name: "foreign content", file: strings.Replace(plain, "<path", "<foreignObject><body "+
			"xmlns='http://www.w3.org/1999/xhtml'><img src='x'/></body></foreignObject><path", 1), media: SVG,
			removed: []string{"foreignObject"}, not: "img"},
		{name: "an image from elsewhere", file: strings.Replace(plain, "<path",
			"<image href='https://example.org/x.png'/><path",
			1), media: SVG, removed: []string{"image"}, not: "example"},
		{name: "copies without end", file: strings.Replace(plain, "<path", "<g id='a'/><use href='#a'/><path", 1),
			media: SVG, removed: []string{"use"}},
		{name: "a style", file: strings.Replace(plain, "<path",
			`<path style="fill: #f00; stroke:url(http://example.org/#x); behavior: url(#b)"`, 1), media: SVG,
			removed: []string{"stroke of url(http://example.org/#x)", "behavior"}, has: `fill="#f00"`, not: "example"},
		{name: "a gradient", file: strings.Replace(plain, "<path", `<defs><linearGradient id="g"><stop offset="0" `+
			`stop-color="#fff"/></linearGradient></defs><path fill="url(#g)"`, 1), media: SVG, has: `fill="url(#i`},
		{name: "escapes that hide an address", file: strings.Replace(plain, "<path",
			`<path fill="u\72l(http://example.org)"`, 1), media: SVG, not: "example", removed: []string{`fill of ` +
			`u\72l(http://example.org)`}},
		{name: "entities", file: `<!DOCTYPE svg [<!ENTITY a "aaaa">]>` + plain, problem: "declares entities"},
		{name: "another document", file: "<html></html>", problem: "first element"},
		{name: "cut off", file: plain[:40], problem: "not a whole SVG"},
		{name: "two pictures", file: plain + plain, problem: "more after"},
		{name: "no size", file: `<svg xmlns="http://www.w3.org/2000/svg"/>`, problem: "want a viewBox"},
		{name: "an odd viewBox", file: `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 0 5"/>`,
			problem: "want more than 0"},
		{name: "too deep", file: strings.Replace(plain, "<path", strings.Repeat("<g>", maxDepth)+"<path", 1),
			problem: "too intricate"},
		{name: "too many elements", file: strings.Replace(plain, "<path", strings.Repeat("<g/>",
			maxElements)+"<path", 1), problem: "too intricate"},
		{name: "empty", problem: "empty"},
		{name: "large", file: plain + strings.Repeat(" ", MaxBytes), problem: "at most 128 KiB"},
		{name: "a text", file: "hello", problem: "neither SVG nor PNG"},
		{name: "pixels", file: string(pixels), media: PNG},
		{name: "pixels that are cut off", file: string(pixels[:50]), problem: "not a whole PNG"},
		{name: "many pixels", file: string(picture(t, MaxPixels+1, 4)), problem: "513 by 4 pixels"},
	} {
		i, err := Read([]byte(test.file))
		switch {
		case test.problem != "":
			if err == nil || !strings.Contains(err.Error(), test.problem) {
				t.Errorf("%s: %v, want %q", test.name, err, test.problem)
			}
		case err != nil:
			t.Errorf("%s: %v", test.name, err)
		case i.MediaType != test.media || !slices.Equal(i.Removed, test.removed):
			t.Errorf(
				"%s: %s without %q, want %s without %q",
				test.name,
				i.MediaType,
				i.Removed,
				test.media,
				test.removed,
			)
		case !strings.Contains(string(i.Data), test.has) || test.not != "" && strings.Contains(string(i.Data),
			test.not):
			t.Errorf("%s: want %q and no %q in %s", test.name, test.has, test.not, i.Data)
		}
	}
}

func TestPixelsStay(t *testing.T) {
	file := picture(t, 9, 5)
	i, err := Read(file)
	if err != nil || i.Width != 9 || i.Height != 5 {
		t.Fatalf("%v by %v, %v", i.Width, i.Height, err)
	}
	want, _ := png.Decode(bytes.NewReader(file))
	got, err := png.Decode(bytes.NewReader(i.Data))
	if err != nil || got.At(4, 2) != want.At(4, 2) || got.At(0, 0) != want.At(0, 0) {
		t.Errorf("the pixels have changed: %v", err)
	}
}

func TestNames(t *testing.T) {
	for name, good := range map[string]bool{"lighthouse-2": true, "7": true, "": false, "Anchor": false,
		"anchor": false,
		"../x":   false, "a b": false, strings.Repeat("x", 61): false} {
		if err := CheckName(name); (err == nil) != good {
			t.Errorf("%q: %v", name, err)
		}
	}
	if _, there := BuiltIn("../icon"); there {
		t.Error("a path is taken for a name")
	}
}

// TestSheet checks that every built-in icon is in a sheet as it is by itself.
func TestSheet(t *testing.T) {
	own, err := Read(picture(t, 4, 4))
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	err = WriteSheet(&b, func(yield func(string, Icon) bool) {
		for _, name := range Names {
			i, there := BuiltIn(name)
			if !there {
				t.Errorf("%s is not there", name)
			}
			if checked, err := Read(i.Data); err != nil || len(checked.Removed) > 0 {
				t.Errorf("%s would not pass as an icon: %v %v", name, checked.Removed, err)
			}
			yield(name, i)
		}
		yield("own", own)
	})
	if err != nil {
		t.Fatal(err)
	}
	var sheet struct {
		Symbols []struct {
			ID    string `xml:"id,attr"`
			Box   string `xml:"viewBox,attr"`
			Fill  string `xml:"fill,attr"`
			Inner string `xml:",innerxml"`
		} `xml:"symbol"`
	}
	if err := xml.Unmarshal(b.Bytes(), &sheet); err != nil || len(sheet.Symbols) != len(Names)+1 {
		t.Fatalf("%d symbols, %v", len(sheet.Symbols), err)
	}
	for k, s := range sheet.Symbols[:len(Names)] {
		i, _ := BuiltIn(s.ID)
		if s.ID != Names[k] || s.Box != "0 0 24 24" || s.Fill != "none" ||
			!bytes.Contains(i.Data, []byte(strings.TrimSpace(s.Inner))) {
			t.Errorf("symbol %d is %q %q %q", k, s.ID, s.Box, s.Inner)
		}
	}
}

// checkClean fails where an SVG picture has anything but elements and attributes that
// draw.
func checkClean(t *testing.T, data []byte) {
	t.Helper()
	decoder := xml.NewDecoder(bytes.NewReader(data))
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			t.Fatalf("%q: %v", data, err)
		}
		e, is := token.(xml.StartElement)
		if !is {
			continue
		}
		if !elements[e.Name.Local] {
			t.Fatalf("%q has an element %s", data, e.Name.Local)
		}
		for _, a := range e.Attr {
			lower := strings.ToLower(a.Value)
			switch {
			case a.Name.Local == "xmlns":
			case !attributes[a.Name.Local] || strings.HasPrefix(a.Name.Local, "on"):
				t.Fatalf("%q has an attribute %s", data, a.Name.Local)
			case strings.Contains(lower, "url(") && !strings.HasPrefix(a.Value, "url(#i"),
				a.Name.Local == "href" && !strings.HasPrefix(a.Value, "#i"):
				t.Fatalf("%q refers to %s", data, a.Value)
			}
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(plain))
	f.Add(picture(f, 3, 3))
	for _, part := range []string{`<script/>`, `<a href="javascript:x()"><path/></a>`, `<g style="fill:url(#a)"/>`,
		`<path fill="url('#a') #fff"/>`, `<svg viewBox="0 0 1 1"/>`,
		`<g xlink:href="#a" xmlns:xlink="http://www.w3.org/1999/xlink"/>`} {
		f.Add([]byte(strings.Replace(plain, "<path", part+"<path", 1)))
	}
	f.Fuzz(func(t *testing.T, file []byte) {
		i, err := Read(file)
		if err != nil || i.MediaType != SVG {
			return
		}
		checkClean(t, i.Data)
		again, err := Read(i.Data)
		if err != nil || len(again.Removed) > 0 || again.Width != i.Width {
			t.Fatalf("what is kept of %q is not an icon: %v, without %q", file, err, again.Removed)
		}
	})
}

// TestStyleElements keeps the colours that a style element gives, and leaves out the rest.
func TestStyleElements(t *testing.T) {
	read := func(svg string) Icon {
		t.Helper()
		i, err := Read([]byte(svg))
		if err != nil {
			t.Fatalf("%s: %v", svg, err)
		}
		return i
	}
	i := read(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 4 4"><path class="a b" d="M0 0h4" fill="#000000"/>
		<path id="only" class="a" d="M0 2h4" style="stroke:#00ff00"/><circle r="1"/>
		<style>/* of an editor */ .a{fill:#ff0000;stroke:#111111} path.b{fill:#0000ff !important} ` +
		`#only,circle{stroke-width:3}</style></svg>`)
	drawn := string(i.Data)
	for _, want := range []string{
		`<path d="M0 0h4" fill="#0000ff" stroke="#111111">`, `fill="#ff0000"`, `stroke="#00ff00"`,
		`<circle r="1" stroke-width="3">`,
	} {
		if !strings.Contains(drawn, want) {
			t.Errorf("%s lacks %s", drawn, want)
		}
	}
	if len(i.Removed) > 0 || strings.Contains(drawn, "<style") || strings.Contains(drawn, "class") {
		t.Errorf("%s, removed %v", drawn, i.Removed)
	}
	i = read(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 4 4"><style>@import url(https://far.example/a.css);
		.a{fill:url(https://far.example/b);position:fixed} .a .b{fill:#ffffff} @media ` +
		`print{.a{fill:red}}</style><path class="a" d="M0 0h4"/></svg>`)
	if drawn := string(i.Data); strings.Contains(drawn, "far.example") || strings.Contains(drawn, "position") ||
		len(i.Removed) == 0 {
		t.Errorf("%s, removed %v", drawn, i.Removed)
	}
}
