package httpapi

import (
	"encoding/json"
	"strconv"
	"strings"
	"testing"

	"idlebeacon/api"
	"idlebeacon/internal/service"
)

const suggestions = huts + "/suggestions"

// suggested sends a suggestion and returns what is kept of it.
func (f *fixture) suggested(body string) (s api.Suggestion) {
	f.t.Helper()
	if err := json.Unmarshal([]byte(f.want(201, "", "POST", suggestions, body)), &s); err != nil {
		f.t.Fatal(err)
	}
	return s
}

func TestSuggestions(t *testing.T) {
	f := withHuts(t)
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"Old","beds":4}`)) // 2
	tag, _ := f.edit(200, "GET", hutA, "")
	patch := f.suggested(`{"op":"patch","id":"a","patch":{"properties":{"name":"New","beds":null}},"note":"I was there",
		"if_match":` + strconv.Quote(tag.Get("ETag")) + `}`)
	if patch.State != "open" || patch.Note != "I was there" || len(patch.Differing) != 2 || patch.Now == nil ||
		string(patch.Would.Properties) != `{"name":"New"}` || patch.Follow == "" || len(patch.Meanwhile) != 0 {
		t.Fatalf("the suggestion: %+v", patch)
	}
	// What happens meanwhile is told, and it has to be known to accept.
	f.edit(200, "PATCH", hutA, `{"properties":{"beds":6,"note":"x"}}`, ifMatch("*")) // 3
	var now api.Suggestion
	at := suggestions + "/" + patch.ID
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", at, "")), &now); err != nil {
		t.Fatal(err)
	}
	if len(now.Meanwhile) != 2 || now.Meanwhile[0].Member != "/properties/beds" || len(now.Differing) != 2 ||
		string(now.Would.Properties) != `{"name":"New","note":"x"}` || now.Follow != "" {
		t.Errorf("beside the item as it is: %+v", now)
	}
	f.edit(428, "POST", at+"/accept", "")
	f.edit(412, "POST", at+"/accept", "", ifMatch(tag.Get("ETag")))
	header, answer := f.edit(200, "POST", at+"/accept", `{"word":"Thank you"}`, ifMatch(now.Now.ETag)) // 4
	if header.Get(changeHeader) != "4" || !strings.Contains(answer, `"name":"New","note":"x"`) {
		t.Errorf("accepted: %s", answer)
	}
	if c := f.changes(huts + "/changes?way=suggestion").Changes; len(c) != 1 || c[0].Number != 4 {
		t.Errorf("the history: %+v", c)
	}
	f.want(200, `"state":"accepted","made_at"`, "GET", at, "")
	f.want(200, `"word":"Thank you","change":4`, "GET", at, "")
	f.edit(409, "POST", at+"/accept", "", ifMatch("*"))
	f.edit(409, "POST", at+"/decline", "")
	f.edit(409, "DELETE", at, "")
	// With another edit instead.
	nameless := strings.Replace(hut("", `{"name":"Hut","beds":"two"}`), `"id":"",`, "", 1)
	create := f.suggested(`{"op":"create","feature":` + nameless + `}`)
	_, answer = f.edit(200, "POST", suggestions+"/"+create.ID+"/accept",
		`{"edit":{"op":"create","feature":`+hut("b", `{"name":"Hut","beds":2}`)+`}}`) // 5
	if !strings.Contains(answer, `"status":201`) || !strings.Contains(answer, `"beds":2`) {
		t.Errorf("accepted with changes: %s", answer)
	}
	gone := f.suggested(`{"op":"delete","id":"b"}`)
	f.want(200, `"state":"declined"`, "POST", suggestions+"/"+gone.ID+"/decline", `{"word":"It is still there"}`)
	moved := f.suggested(`{"op":"patch","id":"b","patch":{"geometry":{"coordinates":[-20,-38]}}}`)
	f.want(200, `[-20,-38]`, "PUT", suggestions+"/"+moved.ID, `{"op":"patch","id":"b","patch":{"properties":{"x":1},
		"geometry":{"coordinates":[-20,-38]}},"note":"better"}`)
	f.edit(204, "DELETE", huts+"/items/b", "", ifMatch("*")) // 6
	f.want(200, `"against":"there is no item`, "GET", suggestions+"/"+moved.ID, "")
	f.edit(404, "POST", suggestions+"/"+moved.ID+"/accept", "", ifMatch("*"))
	f.want(204, "", "DELETE", suggestions+"/"+moved.ID, "")
	for state, want := range map[string]int{"open": 0, "accepted": 2, "declined": 1, "withdrawn": 1, "": 4} {
		var page api.Suggestions
		if err := json.Unmarshal([]byte(f.want(200, "", "GET", suggestions+"?state="+state, "")), &page); err != nil {
			t.Fatal(err)
		}
		if len(page.Suggestions) != want {
			t.Errorf("%q: %d suggestions, want %d", state, len(page.Suggestions), want)
		}
	}
	f.want(200, `"rel":"next"`, "GET", suggestions+"?limit=3", "")
	f.want(400, "state", "GET", suggestions+"?state=lost", "")
	f.want(404, "", "GET", suggestions+"/none", "")
	f.want(404, "no item", "POST", suggestions, `{"op":"delete","id":"none"}`)
	f.want(400, "note", "POST", suggestions, `{"op":"delete","id":"a","note":"`+strings.Repeat("x", 1001)+`"}`)
	f.want(200, "", "PUT", huts+"/schema", `{"properties":{"beds":{"type":"integer"}}}`)
	f.want(422, "whole number", "POST", suggestions, `{"op":"patch","id":"a","patch":{"properties":{"beds":"few"}}}`)
	for range service.MaxOpenOfSender {
		f.suggested(`{"op":"delete","id":"a"}`)
	}
	f.want(429, "withdraw one", "POST", suggestions, `{"op":"delete","id":"a"}`)
}

// TestSuggestionsOfLargeItems: pages about large items are short, and each item is beside its suggestion.
func TestSuggestionsOfLargeItems(t *testing.T) {
	if testing.Short() {
		t.Skip("it is about sizes")
	}
	f := withHuts(t)
	const items = 6
	for i := range items {
		id := strconv.Itoa(i)
		f.edit(201, "POST", huts+"/items", hut(id, `{"note":"`+strings.Repeat("x", 1<<20-100)+`"}`))
		f.suggested(`{"op":"patch","id":"` + id + `","patch":{"properties":{"beds":1}}}`)
	}
	seen, pages := map[string]bool{}, 0
	for at := suggestions + "?limit=100"; at != ""; pages++ {
		var page api.Suggestions
		if err := json.Unmarshal([]byte(f.want(200, "", "GET", at, "")), &page); err != nil {
			t.Fatal(err)
		}
		for _, s := range page.Suggestions {
			if seen[s.Item] = true; s.Now == nil || s.Would == nil || s.Against != "" {
				t.Errorf("item %s is told to be gone: %q", s.Item, s.Against)
			}
		}
		at = ""
		for _, link := range page.Links {
			if link.Rel == "next" {
				at = link.Href
			}
		}
	}
	if len(seen) != items || pages < 2 {
		t.Errorf("%d items on %d pages", len(seen), pages)
	}
}

// TestWhoMaySuggest: guests where the collection lets them, contributors, and who may see what of it.
func TestWhoMaySuggest(t *testing.T) {
	h := newHouse(t, Network{})
	const path, edit = "/api/collections/open/suggestions", `{"op":"patch","id":"a","patch":{"properties":{"name":"x"}}}`
	h.want(401, "", "POST", path, edit)
	h.want(200, h.owner, "PATCH", "/api/collections/open", `{"guests":"suggest"}`)
	var made api.Suggestion
	if err := json.Unmarshal([]byte(h.want(201, "", "POST", path, edit)), &made); err != nil {
		t.Fatal(err)
	}
	guests := "https://guests.example"
	h.want(201, "", "POST", path, edit, "Origin", guests, "Sec-Fetch-Site", "cross-site")
	h.want(404, "", "POST", path, edit, "Origin", "https://other.example", "Sec-Fetch-Site", "cross-site")
	h.want(403, "", "PUT", "/api/collections/open/items/a", "{}", "Origin", guests, "Sec-Fetch-Site", "cross-site")
	_, contributor := h.key(`{"name":"c","role":"contributor"}`)
	_, other := h.key(`{"name":"d","role":"contributor"}`)
	_, reader := h.key(`{"name":"r","role":"reader"}`)
	_, own := h.key(`{"name":"own","role":"editor","limits":{"own":true}}`)
	h.want(404, "", "GET", path+"/"+made.ID, "")
	h.want(404, "", "GET", path+"/"+made.ID+"?secret=ibfollow_x", "")
	h.want(404, contributor, "GET", path+"/"+made.ID, "")
	h.want(200, "", "GET", path+"/"+made.ID+"?secret="+made.Follow, "")
	h.want(200, "", "GET", path+"/"+made.ID, "", "Follow-Secret", made.Follow)
	h.want(200, own, "GET", path+"/"+made.ID, "")
	h.want(401, "", "GET", path, "")
	h.want(403, reader, "GET", path, "")
	var mine api.Suggestion
	if err := json.Unmarshal([]byte(h.want(201, contributor, "POST", path, edit)), &mine); err != nil {
		t.Fatal(err)
	}
	for key, want := range map[string]int{contributor: 1, other: 0, own: 3, h.owner: 3} {
		var page api.Suggestions
		if err := json.Unmarshal([]byte(h.want(200, key, "GET", path, "")), &page); err != nil {
			t.Fatal(err)
		}
		if len(page.Suggestions) != want {
			t.Errorf("%d suggestions, want %d", len(page.Suggestions), want)
		}
	}
	at := path + "/" + mine.ID
	h.want(403, contributor, "POST", at+"/accept", "", "If-Match", "*")
	h.want(403, contributor, "POST", at+"/decline", "")
	h.want(404, other, "DELETE", at, "")
	h.want(403, h.owner, "DELETE", at, "")                      // it is declined, not taken back
	h.want(403, own, "POST", at+"/accept", "", "If-Match", "*") // the item is not its own
	h.want(200, contributor, "PUT", at, `{"op":"patch","id":"a","patch":{"properties":{"name":"y"}}}`)
	h.want(204, contributor, "DELETE", at, "")
	h.want(200, h.owner, "POST", path+"/"+made.ID+"/accept", "", "If-Match", "*")
	told := h.want(200, "", "GET", path+"/"+made.ID+"?secret="+made.Follow, "")
	if !strings.Contains(told, `"state":"accepted"`) {
		t.Errorf("who suggested it is told %s", told)
	}
}
