package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"testing"

	"idlebeacon/api"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// edit makes a call with further headers that must answer with the given status.
func (f *fixture) edit(status int, method, path, body string, headers ...[2]string) (http.Header, string) {
	f.t.Helper()
	media := "application/json"
	if method == http.MethodPatch {
		media = mergePatch
	}
	got, header, answer := f.call(method, path, media, body, headers...)
	if got != status {
		f.t.Errorf("%s %s %.100s %v: %d %.400s, want %d", method, path, body, headers, got, answer, status)
	}
	return header, answer
}

func ifMatch(tag string) [2]string { return [2]string{"If-Match", tag} }

func retryKey(name string) [2]string { return [2]string{"Idempotency-Key", name} }

var ifAbsent = [2]string{"If-None-Match", "*"}

func (f *fixture) problem(answer string) (p api.Problem) {
	f.t.Helper()
	if err := json.Unmarshal([]byte(answer), &p); err != nil {
		f.t.Fatalf("%v: %s", err, answer)
	}
	return p
}

const (
	huts = "/api/collections/huts"
	hutA = huts + "/items/a"
)

func hut(id, properties string) string {
	return `{"type":"Feature","id":"` + id + `","geometry":{"type":"Point","coordinates":[-22,-38.5]},"properties":` +
		properties + `}`
}

func withHuts(t *testing.T) *fixture {
	t.Helper()
	f := newFixture(t)
	f.edit(201, "POST", "/api/collections", `{"id":"huts","name_property":"name","category_property":"kind"}`)
	return f
}

func TestEditsSayWhatTheyWereMadeFrom(t *testing.T) {
	f := withHuts(t)
	f.edit(428, "PUT", hutA, hut("a", `{}`))
	made, answer := f.edit(201, "PUT", hutA, hut("a", `{"name":"Old","beds":4}`), ifAbsent)
	first := made.Get("ETag")
	if made.Get("Location") != f.server.URL+hutA || made.Get(changeHeader) != "2" ||
		!strings.Contains(answer, `"beds":4`) {
		t.Errorf("made: %v %s", made, answer)
	}
	for _, method := range []string{"PUT", "PATCH", "DELETE"} {
		body := hut("a", `{}`)
		if method == "PATCH" {
			body = `{"properties":{"beds":5}}`
		}
		f.edit(428, method, hutA, body)
		f.edit(412, method, hutA, body, ifMatch(`"0-1"`))
		f.edit(412, method, hutA, body, ifMatch(`W/nonsense`))
	}
	second, _ := f.edit(200, "PATCH", hutA, `{"properties":{"beds":5,"note":"new"}}`, ifMatch(first))
	// Somebody else still has the first.
	_, answer = f.edit(412, "PATCH", hutA, `{"properties":{"name":"Mine"}}`, ifMatch(first))
	p := f.problem(answer)
	want := []api.Difference{
		{Member: "/properties/beds", Was: json.RawMessage("4"), Is: json.RawMessage("5")},
		{Member: "/properties/note", Is: json.RawMessage(`"new"`)},
	}
	if p.Current == nil || string(p.Current.Properties) != `{"name":"Old","beds":5,"note":"new"}` ||
		p.CurrentTag != second.Get("ETag") || !reflect.DeepEqual(p.Differing, want) {
		t.Errorf("the older edit is told %s", answer)
	}
	f.edit(200, "PATCH", hutA, `{"properties":{"name":"Mine"}}`, ifMatch(`"x", `+p.CurrentTag))
	// A tag of the compressed answer is as good.
	tag, _ := f.edit(200, "GET", hutA, "")
	f.edit(200, "PUT", hutA, hut("a", `{"name":"Whole"}`), ifMatch(strings.TrimSuffix(tag.Get("ETag"), `"`)+`--gzip"`))
	same, _ := f.edit(200, "PUT", hutA, hut("a", `{"name":"Whole"}`), ifMatch("*"))
	again, _ := f.edit(200, "GET", hutA, "")
	if same.Get("ETag") != again.Get("ETag") || same.Get(changeHeader) != "5" {
		t.Errorf("a change to the same is %s, the item %s", same.Get("ETag"), again.Get("ETag"))
	}
	_, answer = f.edit(412, "PUT", hutA, hut("a", `{}`), ifAbsent)
	if p := f.problem(answer); p.Current == nil || !strings.Contains(p.Detail, "is there already") {
		t.Errorf("put if absent: %s", answer)
	}
	gone, _ := f.edit(204, "DELETE", hutA, "", ifMatch("*"))
	if gone.Get(changeHeader) != "6" {
		t.Errorf("deleted: %v", gone)
	}
	f.edit(404, "DELETE", hutA, "", ifMatch("*"))
	f.edit(404, "PATCH", hutA, `{}`, ifMatch("*"))
	f.edit(412, "PUT", hutA, hut("a", `{}`), ifMatch("*"))
	f.edit(404, "PUT", "/api/collections/none/items/a", hut("a", `{}`), ifMatch("*"))

	f.edit(200, "PATCH", huts, `{"unconditional_edits":true}`)
	f.edit(201, "PUT", hutA, hut("a", `{"name":"One"}`))
	f.edit(200, "PUT", hutA, hut("a", `{"name":"Two"}`))
	f.edit(412, "PUT", hutA, hut("a", `{"name":"Three"}`), ifMatch(first))
	f.edit(200, "PATCH", hutA, `{"properties":{"beds":1}}`)
	f.edit(204, "DELETE", hutA, "")
}

func TestWhatIsWrongWithAnEdit(t *testing.T) {
	f := withHuts(t)
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"Hut"}`))
	for _, c := range []struct{ method, path, body, field string }{
		{"PUT", hutA, hut("b", `{}`), "id"},
		{"PUT", hutA, `{"type":"Feature","geometry":null}`, "geometry"},
		{"PATCH", hutA, `{"id":"b"}`, "id"},
		{"PATCH", hutA, `[1]`, "body"},
		{"PATCH", hutA, `{"geometry":{"coordinates":[-38,-122]}}`, "geometry.coordinates"},
		{"PUT", hutA + "?if=1", hut("a", `{}`), "if"},
	} {
		_, answer := f.edit(400, c.method, c.path, c.body, ifMatch("*"))
		if p := f.problem(answer); p.Field != c.field {
			t.Errorf("%s %s %s: %s", c.method, c.path, c.body, answer)
		}
	}
	f.edit(400, "DELETE", hutA, "", ifAbsent)
	status, header, _ := f.call("PATCH", hutA, "text/plain", `{}`, ifMatch("*"))
	if status != 415 || header.Get("Accept-Patch") != mergePatch {
		t.Errorf("a patch as text: %d %v", status, header)
	}
	for _, name := range []string{"", `""`, "a b", "é", strings.Repeat("x", 201)} {
		f.edit(400, "DELETE", hutA, "", ifMatch("*"), retryKey(name))
	}
	f.edit(400, "PATCH", huts, `{"alike_within":-1}`)
	f.want(200, `"name":"Hut"`, "GET", hutA, "")
}

// TestIdsThatAreNumbers keeps them so through edits that do not say.
func TestIdsThatAreNumbers(t *testing.T) {
	f := withHuts(t)
	f.edit(201, "POST", huts+"/items", `{"type":"Feature","id":7,"geometry":{"type":"Point","coordinates":[1,2]}}`)
	body := `{"type":"Feature","geometry":{"type":"Point","coordinates":[1,3]}}`
	for _, edit := range []func(){
		func() { f.edit(200, "PUT", huts+"/items/7", body, ifMatch("*")) },
		func() { f.edit(200, "PATCH", huts+"/items/7", `{"id":"7","properties":{"a":1}}`, ifMatch("*")) },
	} {
		edit()
		f.want(200, `"id":7,`, "GET", huts+"/items/7", "")
	}
}

func TestWarningsOfEdits(t *testing.T) {
	f := withHuts(t)
	near := func(id, name, kind string, north float64) string {
		return fmt.Sprintf(`{"type":"Feature","id":"%s","geometry":{"type":"Point","coordinates":[-22,%f]},
			"properties":{"name":"%s","kind":"%s"}}`, id, -38.5+north/111_195, name, kind)
	}
	warned := func(kind, answer string) {
		t.Helper()
		if has := strings.Contains(answer, `"warnings"`); has != (kind != "") || !strings.Contains(answer, kind) {
			t.Errorf("want a warning %q: %s", kind, answer)
		}
	}
	add := func(kind, body string) {
		t.Helper()
		_, answer := f.edit(201, "POST", huts+"/items", body)
		warned(kind, answer)
	}
	add("", near("a", "Gull Hut", "hut", 0))
	add("there is one like it 12 m away", near("b", "Seal Hut", "hut", 12))
	add("", near("c", "Tern Pier", "pier", 5))
	add(`\"Tern Pier\"`, near("d", "tern piér", "slip", 10))
	add("", near("e", "Far Hut", "hut", 500))
	_, answer := f.edit(200, "PATCH", huts+"/items/e", `{"properties":{"note":"x"}}`, ifMatch("*"))
	warned("", answer)
	_, answer = f.edit(200, "PATCH", huts+"/items/e", `{"geometry":{"coordinates":[-22,-38.5]}}`, ifMatch("*"))
	warned(`"alike"`, answer)
	_, answer = f.edit(200, "PUT", huts+"/items/c", near("c", "Tern Pier", "hut", 5), ifMatch("*"))
	warned(`"alike"`, answer)
	f.edit(200, "PATCH", huts, `{"alike_within":0}`)
	add("", near("f", "Gull Hut", "hut", 0))
	f.edit(200, "PATCH", huts, `{"alike_within":1000}`)
	add(`"alike"`, near("g", "", "hut", -400))
	_, answer = f.edit(200, "PUT", hutA, `{"type":"Feature","geometry":{"type":"Point","coordinates":[0,0]},"colour":1}`,
		ifMatch("*"))
	warned(`"zero"`, answer)
	warned(`the member \"colour\"`, answer)
}

func TestManyEditsAsOne(t *testing.T) {
	f := withHuts(t)
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"A"}`))
	f.edit(201, "POST", huts+"/items", hut("b", `{"name":"B"}`))
	tagged, _ := f.edit(200, "GET", hutA, "")
	tag, err := json.Marshal(tagged.Get("ETag"))
	if err != nil {
		t.Fatal(err)
	}
	edits := func(all ...string) string { return `{"edits":[` + strings.Join(all, ",") + `]}` }
	add := `{"op":"create","feature":` + hut("c", `{"name":"C"}`) + `}`
	patch := `{"op":"patch","id":"a","if_match":` + string(tag) + `,"patch":{"properties":{"beds":1}}}`
	remove := `{"op":"delete","id":"b","if_match":"*"}`
	// One that cannot be done keeps all from being done.
	for _, c := range []struct {
		bad      string
		status   int
		statuses []int
	}{
		{`{"op":"delete","id":"none","if_match":"*"}`, 404, []int{424, 424, 424, 404}},
		{`{"op":"patch","id":"d","patch":{}}`, 428, []int{424, 424, 424, 428}},
		{`{"op":"create","feature":` + hut("c", `{}`) + `}`, 400, []int{424, 424, 424, 400}},
		{`{"op":"replace","id":"d","if_match":"\"x\"","feature":` + hut("d", `{}`) + `}`, 412, []int{424, 424, 424, 412}},
	} {
		_, answer := f.edit(c.status, "POST", huts+"/changes", edits(add, patch, remove, c.bad))
		var statuses []int
		for _, v := range f.problem(answer).Edits {
			statuses = append(statuses, v.Status)
		}
		if !reflect.DeepEqual(statuses, c.statuses) || !strings.Contains(answer, "nothing was changed: edit 3: ") {
			t.Errorf("with %s: %s", c.bad, answer)
		}
	}
	for _, bad := range []string{
		`{}`, edits(), edits(`{"op":"move","id":"a"}`), edits(`{"op":"delete"}`), edits(`{"op":"patch","id":"a"}`),
		edits(`{"op":"delete","id":"a","if_match":"*","patch":{}}`), edits(`{"op":"create","feature":7}`),
		edits(`{"op":"create","id":"x","feature":` + hut("y", `{}`) + `}`),
		edits(strings.Repeat(remove+",", 1000) + remove),
	} {
		f.edit(400, "POST", huts+"/changes", bad)
	}
	f.want(200, `"numberMatched":2`, "GET", huts+"/items", "")
	f.want(200, `"change":3`, "GET", huts, "")

	_, answer := f.edit(200, "POST", huts+"/changes", edits(add, patch, remove))
	var done api.Edits
	if err := json.Unmarshal([]byte(answer), &done); err != nil {
		t.Fatal(err)
	}
	if len(done.Edits) != 3 || done.Change != 6 || done.Edits[0].Status != 201 || done.Edits[1].Change != 5 ||
		string(done.Edits[1].Item.Properties) != `{"name":"A","beds":1}` || done.Edits[2].Status != 204 {
		t.Errorf("done: %s", answer)
	}
	f.want(200, `"numberMatched":2`, "GET", huts+"/items", "")
	// What was seen before is not what is there now.
	_, answer = f.edit(412, "POST", huts+"/changes", edits(patch))
	if v := f.problem(answer).Edits; len(v) != 1 || v[0].Current == nil || len(v[0].Differing) != 1 {
		t.Errorf("once more: %s", answer)
	}
}

// TestAnswersAboutLargeItems: what answers about several edits tell has an end.
func TestAnswersAboutLargeItems(t *testing.T) {
	if testing.Short() {
		t.Skip("it is about sizes")
	}
	f := newFixture(t)
	f.edit(201, "POST", "/api/collections", `{"id":"huts"}`)
	large := `{"note":"` + strings.Repeat("x", 1<<20-100) + `"}`
	var patches []string
	for i := range 10 {
		id := fmt.Sprint(i)
		f.edit(201, "POST", huts+"/items", hut(id, large))
		patches = append(patches, `{"op":"patch","id":"`+id+`","if_match":"*","patch":{"properties":{"n":1}}}`)
	}
	_, answer := f.edit(200, "POST", huts+"/changes", `{"edits":[`+strings.Join(patches, ",")+`]}`)
	var done api.Edits
	if err := json.Unmarshal([]byte(answer), &done); err != nil {
		t.Fatal(err)
	}
	if len(done.Edits) != 10 || done.Edits[6].Item == nil || done.Edits[9].Item != nil || done.Edits[9].ID != "9" {
		t.Errorf("%d edits, %d bytes", len(done.Edits), len(answer))
	}
	stale := strings.ReplaceAll(strings.Join(patches, ","), `"*"`, `"\"x\""`)
	_, answer = f.edit(412, "POST", huts+"/changes", `{"edits":[`+stale+`]}`)
	v := f.problem(answer).Edits
	if len(v) != 10 || v[6].Current == nil || v[9].Current != nil || v[9].CurrentTag == "" {
		t.Errorf("%d verdicts, %d bytes", len(v), len(answer))
	}
}

// TestARequestSentAgain sends requests several times, to two processes, and finds each done once.
func TestARequestSentAgain(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	f, other := newFixtureOn(t, dsn), newFixtureOn(t, dsn)
	f.edit(201, "POST", "/api/collections", `{"id":"huts"}`)
	other.edit(404, "GET", hutA, "") // waits until it knows of the collection, or not yet
	body := `{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{"n":1}}`
	once, first := f.edit(201, "POST", huts+"/items", body, retryKey(`"one"`))
	twice, again := f.edit(201, "POST", huts+"/items", body, retryKey("one"))
	if first != again || once.Get("ETag") != twice.Get("ETag") || twice.Get("Location") == "" {
		t.Errorf("the first time:\n%s\nthe second:\n%s", first, again)
	}
	f.want(200, `"numberMatched":1`, "GET", huts+"/items", "")
	f.edit(422, "POST", huts+"/items", strings.Replace(body, "1,2", "2,1", 1), retryKey("one"))
	var made api.Item
	if err := json.Unmarshal([]byte(first), &made); err != nil {
		t.Fatal(err)
	}
	item := huts + "/items/" + made.ID
	_, patched := f.edit(200, "PATCH", item, `{"properties":{"n":2}}`, ifMatch(made.ETag), retryKey("two"))
	f.edit(200, "PATCH", item, `{"properties":{"n":3}}`, ifMatch("*"))
	// By now it is another item; the answer is that of the first time all the same.
	_, again = f.edit(200, "PATCH", item, `{"properties":{"n":2}}`, ifMatch(made.ETag), retryKey("two"))
	if again != patched {
		t.Errorf("the first time:\n%s\nthe second:\n%s", patched, again)
	}
	if _, again := f.edit(201, "POST", huts+"/items", body, retryKey("one")); again != first {
		t.Errorf("after changes: %s, want %s", again, first)
	}
	f.want(200, `"n":3`, "GET", item, "")
	// What failed was not done, and may be sent again.
	f.edit(404, "DELETE", hutA, "", ifMatch("*"), retryKey("three"))
	f.edit(201, "POST", huts+"/items", hut("a", `{}`))
	gone, _ := f.edit(204, "DELETE", hutA, "", ifMatch("*"), retryKey("three"))
	f.edit(201, "POST", huts+"/items", hut("a", `{"n":9}`))
	again2, _ := f.edit(204, "DELETE", hutA, "", ifMatch("*"), retryKey("three"))
	if gone.Get(changeHeader) != again2.Get(changeHeader) {
		t.Errorf("deleted as %s, then as %s", gone.Get(changeHeader), again2.Get(changeHeader))
	}
	f.want(200, `"n":9`, "GET", hutA, "")
	edits := `{"edits":[{"op":"create","feature":` + hut("x", `{}`) + `},{"op":"patch","id":"a","if_match":"*","patch":` +
		`{"properties":{"n":9}}}]}`
	_, many := f.edit(200, "POST", huts+"/changes", edits, retryKey("four"))
	if _, again := f.edit(200, "POST", huts+"/changes", edits, retryKey("four")); again != many {
		t.Errorf("the first time:\n%s\nthe second:\n%s", many, again)
	}
	if status, _, _ := other.call("GET", huts, "", ""); status == 200 {
		if _, elsewhere := other.edit(201, "POST", huts+"/items", body, retryKey("one")); elsewhere != first {
			t.Errorf("in another process: %s, want %s", elsewhere, first)
		}
	}
}
