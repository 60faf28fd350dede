package httpapi

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"idlebeacon/api"
)

func (f *fixture) changes(path string) (all api.Changes) {
	f.t.Helper()
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", path, "")), &all); err != nil {
		f.t.Fatal(err)
	}
	return all
}

func TestHistory(t *testing.T) {
	f := withHuts(t)
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"Old","beds":4}`))
	f.edit(200, "PATCH", hutA, `{"properties":{"name":"New"},"geometry":{"coordinates":[-20,-38]}}`, ifMatch("*"))
	f.edit(204, "DELETE", hutA, "", ifMatch("*"))
	all := f.changes(huts + "/changes")
	if len(all.Changes) != 4 || all.Changes[0].Op != "delete" || !all.Changes[0].Newest || all.Changes[1].Newest {
		t.Fatalf("the history: %+v", all)
	}
	patched := all.Changes[1]
	if patched.Was == nil || patched.Is == nil || len(patched.Differing) != 2 || patched.Way != "edit" ||
		patched.Actor != "key/test" || patched.Differing[1].Member != "/properties/name" || *patched.Item != "a" {
		t.Errorf("the patch: %+v", patched)
	}
	page := f.changes("/api/changes?collections=huts&limit=3")
	next := page.Links[len(page.Links)-1]
	if len(page.Changes) != 3 || next.Rel != "next" {
		t.Fatalf("a page of three: %+v", page)
	}
	if rest := f.changes(next.Href); len(rest.Changes) != 1 || rest.Changes[0].Item != nil || len(rest.Links) != 1 {
		t.Errorf("the rest: %+v", rest)
	}
	for path, want := range map[string]int{
		"/api/changes?bbox=-21,-39,-19,-37": 2, hutA + "/history": 3, "/api/changes?actor=key/test&way=edit": 4,
		huts + "/changes?datetime=2001-01-01/2001-12-31": 0, huts + "/items/none/history": 0,
	} {
		if got := f.changes(path); len(got.Changes) != want {
			t.Errorf("%s: %d changes, want %d", path, len(got.Changes), want)
		}
	}
	f.want(200, `"name":"Old"`, "GET", hutA+"?at=2", "")
	f.want(200, `"name":"New"`, "GET", hutA+"?at=3", "")
	f.want(404, "as of change 4", "GET", hutA+"?at=4", "")
	f.want(200, `"numberReturned":1`, "GET", huts+"/items?at=3&bbox=-21,-39,-19,-37", "")
	f.want(200, `"numberReturned":0`, "GET", huts+"/items?at=4", "")
	f.want(400, "", "GET", huts+"/items?at=4&sortby=name", "")
	f.want(404, "collection", "GET", "/api/changes?collections=none", "")
	for _, bad := range []string{"way=magic", "before=x", "bbox=1", "datetime=x", "at=1"} {
		f.want(400, "", "GET", huts+"/changes?"+bad, "")
	}
}

func TestUndo(t *testing.T) {
	f := withHuts(t)
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"One"}`))              // 2
	f.edit(200, "PATCH", hutA, `{"properties":{"name":"Two"}}`, ifMatch("*"))   // 3
	f.edit(200, "PATCH", hutA, `{"properties":{"name":"Three"}}`, ifMatch("*")) // 4
	_, answer := f.edit(409, "POST", "/api/changes/3/undo", "")
	if p := f.problem(answer); len(p.Later) != 1 || p.Later[0].Number != 4 {
		t.Errorf("what came later: %s", answer)
	}
	f.edit(200, "POST", "/api/changes/4/undo", `{}`) // 5
	f.want(200, `"name":"Two"`, "GET", hutA, "")
	header, answer := f.edit(200, "POST", "/api/changes/3/undo", `{"force":true}`) // 6
	if header.Get(changeHeader) != "6" || !strings.Contains(answer, `"name":"One"`) {
		t.Errorf("forced: %s", answer)
	}
	if undo := f.changes(huts + "/changes?limit=1").Changes[0]; undo.Way != "undo" {
		t.Errorf("the history has %+v", undo)
	}
	f.edit(204, "DELETE", hutA, "", ifMatch("*"))
	f.edit(200, "POST", "/api/changes/7/undo", "")
	f.want(200, `"name":"One"`, "GET", hutA, "")
	f.edit(200, "POST", huts+"/changes/undo", `{"actor":"key/test","since":"2001-01-01T00:00:00Z"}`)
	f.want(404, "", "GET", hutA, "")
	for path, status := range map[string]int{
		"/api/changes/1/undo": 400, "/api/changes/99/undo": 404, "/api/changes/0/undo": 404, "/api/changes/x/undo": 404,
	} {
		f.edit(status, "POST", path, "")
	}
	for _, bad := range []string{`{}`, `{"actor":"a"}`, `{"since":"2001-01-01T00:00:00Z"}`, `{"actor":"a","since":"x"}`} {
		f.edit(400, "POST", huts+"/changes/undo", bad)
	}
}

// TestUndoOfManyItems takes back an import of more items than are told of one by one, and that again.
func TestUndoOfManyItems(t *testing.T) {
	f := withHuts(t)
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"One"}`)) // 2
	var file strings.Builder
	file.WriteString("id,name,lat,lon\na,Two,1,1\n")
	const others = 10_500
	for i := range others {
		fmt.Fprintf(&file, "h%d,Hut %d,%d,%d\n", i, i, i%80, i%170)
	}
	f.want(200, "", "POST", huts+"/import", file.String()) // 3
	undo := func(change string) {
		t.Helper()
		header, answer := f.edit(200, "POST", "/api/changes/"+change+"/undo", "")
		var done api.Edits
		err := json.Unmarshal([]byte(answer), &done)
		if err != nil || done.Items != others+1 || len(done.Edits) != 0 || header.Get(changeHeader) == "" {
			t.Fatalf("taking back change %s: %v, %.200s", change, err, answer)
		}
	}
	undo("3") // 4
	f.want(200, `"name":"One"`, "GET", hutA, "")
	f.want(200, `"numberMatched":1`, "GET", huts+"/items", "")
	undo("4") // 5
	f.want(200, `"name":"Two"`, "GET", hutA, "")
	f.edit(200, "PATCH", huts+"/items/h7", `{"properties":{"name":"Seven"}}`, ifMatch("*")) // 6
	_, answer := f.edit(409, "POST", "/api/changes/5/undo", "")
	if p := f.problem(answer); len(p.Later) != 1 || p.Later[0].Number != 6 || *p.Later[0].Item != "h7" {
		t.Errorf("what came later: %s", answer)
	}
	past := f.changes(huts + "/items/h7/history").Changes
	if len(past) != 4 || past[1].Items != others+1 || past[1].Way != "undo" || past[2].Op != "delete" {
		t.Errorf("the history of an item: %+v", past)
	}
	// All that the caller has done: some of it was taken back already.
	f.edit(200, "POST", huts+"/changes/undo", `{"actor":"key/test","since":"2001-01-01T00:00:00Z"}`)
	f.want(200, `"numberMatched":0`, "GET", huts+"/items", "")
}

func TestChangesForACopy(t *testing.T) {
	f := withHuts(t)
	for _, id := range []string{"a", "b", "c"} {
		f.edit(201, "POST", huts+"/items", hut(id, `{"beds":1}`))
	}
	f.edit(200, "PATCH", hutA, `{"properties":{"beds":5}}`, ifMatch("*"))
	f.edit(200, "PATCH", huts+"/items/b", `{"geometry":{"coordinates":[9,9]}}`, ifMatch("*"))
	f.edit(204, "DELETE", huts+"/items/c", "", ifMatch("*"))
	read := func(path string) (page api.Since) {
		t.Helper()
		if err := json.Unmarshal([]byte(f.want(200, "", "GET", path, "")), &page); err != nil {
			t.Fatal(err)
		}
		return page
	}
	page := read(huts + "/changes?after=4&bbox=-23,-39,-21,-38")
	if len(page.Features) != 1 || page.Features[0].ID != "a" || strings.Join(page.Gone, ",") != "b,c" || page.Change != 7 {
		t.Errorf("since 4: %+v", page)
	}
	first := read(huts + "/changes?after=4&limit=1")
	if len(first.Features) != 1 || first.Change != 5 || len(first.Links) != 2 {
		t.Fatalf("a page of one: %+v", first)
	}
	second := read(first.Links[1].Href)
	if len(second.Features) != 1 || second.Features[0].ID != "b" || second.Change != 6 {
		t.Errorf("the next: %+v", second)
	}
	if page := read(huts + "/changes?after=4&filter=beds%3E3"); len(page.Features) != 1 || len(page.Gone) != 2 {
		t.Errorf("with more than 3 beds: %+v", page)
	}
	if page := read(huts + "/changes?after=7"); len(page.Features)+len(page.Gone) != 0 || page.Change != 7 {
		t.Errorf("since now: %+v", page)
	}
	for _, bad := range []string{"after=x", "after=1&way=edit", "after=1&filter=((", "after=1&bbox=2"} {
		f.want(400, "", "GET", huts+"/changes?"+bad, "")
	}
}
