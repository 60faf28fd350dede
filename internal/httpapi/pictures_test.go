package httpapi

import (
	"bytes"
	"encoding/json"
	"image"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"idlebeacon/api"
)

// photo is a picture file with sides of so many pixels, all of one shade.
func photo(t *testing.T, width, height int, shade uint8) string {
	t.Helper()
	m := image.NewGray(image.Rect(0, 0, width, height))
	for i := range m.Pix {
		m.Pix[i] = shade
	}
	var out bytes.Buffer
	if err := png.Encode(&out, m); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestPictures(t *testing.T) {
	f := withHuts(t)
	bring := func(file string) (made api.Picture) {
		t.Helper()
		status, _, answer := f.call("POST", huts+"/pictures", "image/png", file)
		if err := json.Unmarshal([]byte(answer), &made); err != nil || status != 201 {
			t.Fatalf("%d %s", status, answer)
		}
		return made
	}
	one, two := bring(photo(t, 1200, 600, 40)), bring(photo(t, 30, 60, 200))
	if again := bring(photo(t, 1200, 600, 40)); again.ID != one.ID || one.Width != 1200 || one.Height != 600 {
		t.Errorf("the same again: %+v, %+v", one, again)
	}
	for size, want := range map[string]int{"small": 320, "medium": 960, "large": 1200, "": 960} {
		path := one.Href
		if size != "" {
			path += "?size=" + size
		}
		status, header, file := f.call("GET", path, "", "")
		got, err := jpeg.DecodeConfig(strings.NewReader(file))
		if status != 200 || err != nil || got.Width != want || !strings.Contains(header.Get("Cache-Control"), "immutable") ||
			!strings.Contains(header.Get("Cache-Control"), "private") {
			t.Errorf("%q: %d %v %v %v", size, status, got, err, header)
		}
		if status, _, _ := f.call("GET", path, "", "", [2]string{"If-None-Match", header.Get("ETag")}); status != 304 {
			t.Errorf("%q again: %d", size, status)
		}
	}
	f.want(400, "size", "GET", one.Href+"?size=huge", "")
	f.want(404, "no picture", "GET", huts+"/pictures/none", "")
	status, _, answer := f.call("POST", huts+"/pictures", "image/png", "not a picture")
	if status != 400 || !strings.Contains(answer, "JPEG, PNG, WebP or GIF") {
		t.Errorf("nonsense: %d %s", status, answer)
	}
	// A popup shows several; they are part of the history, and of undo.
	pictures := `["` + one.Href + `","` + two.Href + `"]`
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"One","pictures":`+pictures+`}`)) // 2
	f.want(200, `"images":`+pictures, "GET", hutA+"/popup", "")
	f.edit(200, "PATCH", hutA, `{"properties":{"pictures":["`+two.Href+`"]}}`, ifMatch("*")) // 3
	f.edit(200, "POST", "/api/changes/3/undo", "")
	f.want(200, `"image":"`+one.Href+`"`, "GET", hutA+"/popup", "")
	f.want(200, "", "PATCH", huts, `{"picture_mib":0}`)
	if status, _, answer := f.call("POST", huts+"/pictures", "image/png", photo(t, 9, 9, 9)); status != 400 ||
		!strings.Contains(answer, "does not fit") {
		t.Errorf("beyond the limit: %d %s", status, answer)
	}
	f.want(204, "", "DELETE", two.Href, "")
	f.want(404, "", "GET", two.Href, "")
}
