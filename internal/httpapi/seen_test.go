package httpapi

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"idlebeacon/api"
)

// TestNothingIsGivenAway asks as somebody who may not see a collection for everything in which
// it could show.
func TestNothingIsGivenAway(t *testing.T) {
	h := newHouse(t, Network{})
	_, reader := h.key(`{"name":"r","role":"reader","limits":{"collections":["open"]}}`)
	_, owner := h.key(`{"name":"o","role":"owner","limits":{"collections":["open"]}}`)
	h.want(200, h.owner, "POST", "/api/collections/closed/import?file_name=f.csv", "id,lat,lon\nb,1,2\n", "Content-Type",
		"text/csv")
	var imports api.Imports
	if err := json.Unmarshal([]byte(h.want(200, h.owner, "GET", "/api/imports", "")), &imports); err != nil {
		t.Fatal(err)
	}
	tag := h.ask("GET", "/api/collections/closed/style", "", bearer(h.owner)...).Header().Get("ETag")
	for who, key := range map[string]string{"a guest": "", "a reader": reader, "an owner": owner} {
		for _, target := range []string{"/api/collections", "/api/icons", "/api/icon-sheet"} {
			if body := h.want(200, key, "GET", target, ""); strings.Contains(body, "closed") || !strings.Contains(body, "open") {
				t.Errorf("%s: %s has %s", who, target, body)
			}
		}
		h.want(404, key, "GET", "/api/icons/of-closed", "")
		h.want(200, key, "GET", "/api/icons/of-open", "")
		h.want(404, key, "GET", "/api/markers?collections=open,closed&bbox=0,0,9,9&zoom=3", "")
		h.want(404, key, "GET", "/api/shapes?collections=closed,open&bbox=0,0,9,9&zoom=3", "")
		h.want(404, key, "GET", "/api/collections/closed/style", "", "If-None-Match", tag)
		// A condition that names an area there learns no more than one that names nothing.
		by := func(c string) string {
			got := h.ask("GET", "/api/collections/open/items?filter=S_WITHIN(geometry,%20ITEM('"+c+"',%20'area'))", "",
				bearer(key)[:2*min(1, len(key))]...)
			return fmt.Sprint(got.Code, strings.ReplaceAll(got.Body.String(), c, "C"))
		}
		if hidden, gone := by("closed"), by("absent"); hidden != gone {
			t.Errorf("%s: %s, and of what is not there %s", who, hidden, gone)
		}
	}
	if body := h.want(200, owner, "GET", "/api/imports", ""); strings.Contains(body, "closed") {
		t.Errorf("imports: %s", body)
	}
	for _, i := range imports.Imports {
		if i.Collection == "closed" {
			h.want(404, owner, "GET", "/api/imports/"+i.ID, "")
			h.want(404, owner, "DELETE", "/api/imports/"+i.ID, "")
			h.want(404, owner, "GET", "/api/imports/"+i.ID+"/rejected", "")
		}
	}
	// Nor can it be brought into a style that it could see through.
	h.want(400, owner, "PUT", "/api/collections/open/style",
		`{"rules":[{"when":"S_WITHIN(geometry, ITEM('closed', 'area'))","colour":"#0072b2"}]}`)
	h.want(403, owner, "GET", "/metrics", "")
	h.want(403, owner, "GET", "/api/keys", "")
}

// TestOwnFeaturesOnly lets a key take out what it has made, and nothing else.
func TestOwnFeaturesOnly(t *testing.T) {
	h := newHouse(t, Network{})
	_, mine := h.key(`{"name":"m","role":"editor","limits":{"own":true}}`)
	items := "/api/collections/open/items"
	h.want(201, mine, "POST", items, point("m", "1", "2", "{}"))
	any := []string{"If-Match", "*", "Content-Type", mergePatch}
	for _, edit := range [][2]string{
		{"PUT", point("a", "1", "2", "{}")}, {"PATCH", `{"properties":{"n":1}}`}, {"DELETE", ""},
	} {
		body := h.want(403, mine, edit[0], items+"/a", edit[1], any...)
		if !strings.Contains(body, "somebody else") {
			t.Error(body)
		}
	}
	both := `{"edits":[{"op":"delete","id":"m","if_match":"*"},{"op":"delete","id":"a","if_match":"*"}]}`
	h.want(403, mine, "POST", "/api/collections/open/changes", both)
	h.want(200, mine, "PATCH", items+"/m", `{"properties":{"n":1}}`, any...)
	h.want(204, mine, "DELETE", items+"/m", "", any...)
	h.want(404, mine, "DELETE", items+"/m", "", any...)
	h.want(204, h.owner, "DELETE", items+"/a", "", any...)
}
