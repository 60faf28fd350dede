package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/polltest"
)

// hutsFile is a small collection of huts.
const hutsFile = "id,name,category,beds,lat,lon\na,Gull Hut,hut,4,-38.5,-22\nb,Seal Hut,hut,6,-38.52,-22.05\n"

// withHuts starts a service with them.
func withHuts(t *testing.T) *process {
	t.Helper()
	p := start(t, t.TempDir(), "serve")
	if _, errs, status := command(t, nil, strings.NewReader(hutsFile), "import", "-", "--into", "huts",
		"--name-property", "name", "--category-property", "category", "--server", p.url); status != 0 {
		t.Fatalf("import: status %d\n%s", status, errs)
	}
	return p
}

func TestEditsByCommandLine(t *testing.T) {
	t.Parallel() // it has a service of its own
	p := withHuts(t)
	c := &commands{t: t, server: p.url}
	c.contains(c.run(0, "add", "--lat", "-38.50003", "--lon", "-22", "--id", "c", "--set", "name=Gul Hut", "--set",
		"beds=7", "--set", "code=007"), "Item c added", "Warning: there is one like it 3 m away")
	c.contains(c.run(0, "items", "--filter", "id = 'c'", "--json"), `"beds": 7`, `"code": "007"`)
	c.contains(c.run(0, "edit", "c", "--set", "name=Tern Hut", "--unset", "code"), "Item c changed")
	c.contains(c.run(0, "move", "c", "--lat", "-38.6", "--lon", "-22"), "moved by 11.1", "km")
	c.contains(c.run(2, "edit", "--category", "hut", "--set", "checked=true"), "2 items", "--yes")
	c.contains(c.run(0, "edit", "--category", "hut", "--set", "checked=true", "--yes"), "2 items changed")
	history := c.run(0, "history", "c")
	c.contains(history, "added", "name: \"Gul Hut\" → \"Tern Hut\"", "code: \"007\" (taken out)", "moved by", "command")

	var changes api.Changes
	if err := json.Unmarshal([]byte(c.run(0, "history", "--json", "--limit", "1")), &changes); err != nil {
		t.Fatal(err)
	}
	last := strconv.FormatUint(changes.Changes[0].Number, 10)
	c.contains(c.run(0, "undo", last, "--together"), "2 items put back")
	c.contains(c.run(1, "undo", last), "These came later", "nothing was taken back")
	c.contains(c.run(0, "undo", last, "--force"), "Nothing was to be taken back")
	c.contains(c.run(0, "remove", "c"), "1 item taken out")
	c.contains(c.run(1, "remove", "c"), "there is no item")
	c.contains(c.run(0, "items", "--at", last), "Tern Hut", "\"checked\":true", "3 items.")
	c.contains(c.run(2, "items", "--at", last, "--sort", "name"), "--at goes with")
	c.contains(c.run(0, "undo", "--actor", changes.Changes[0].Actor, "--since", "2001-01-01", "--until", "2001-01-02"),
		"Nothing was to be taken back")
	for _, wrong := range [][]string{
		{"add"}, {"add", "--lat", "1"}, {"add", "--lat", "91", "--lon", "1"}, {"edit"}, {"edit", "a", "--set", "x"},
		{"edit", "a", "--set", "x=1", "--unset", "x"}, {"edit", "a", "--merge", "{"}, {"move", "a"}, {"remove"},
		{"undo"}, {"undo", "x"}, {"undo", "--actor", "a"}, {"history", "--bbox", "1"},
	} {
		c.run(2, wrong...)
	}
}

// TestEditingInAnEditor has an editor change an item, while somebody else does or does not.
func TestEditingInAnEditor(t *testing.T) {
	t.Parallel() // it has a service of its own
	p := withHuts(t)
	write := func(script string) []string {
		file := filepath.Join(t.TempDir(), "editor")
		if err := os.WriteFile(file, []byte("#!/bin/sh\n"+script+"\n"), 0o700); err != nil {
			t.Fatal(err)
		}
		return []string{"EDITOR=" + file, "VISUAL="}
	}
	edit := func(want int, env []string) string {
		t.Helper()
		out, errs, status := command(t, env, nil, "edit", "a", "--server", p.url)
		if status != want {
			t.Errorf("status %d, want %d:\n%s%s", status, want, out, errs)
		}
		return out + errs
	}
	if out := edit(0, write("sed -i 's/Gull Hut/Tern Hut/' $1")); !strings.Contains(out, "Item a changed") {
		t.Error(out)
	}
	if out := edit(0, write("true")); !strings.Contains(out, "Nothing was changed") {
		t.Error(out)
	}
	if out := edit(1, write("echo nonsense > $1")); !strings.Contains(out, "What you wrote is in ") {
		t.Error(out)
	}
	c := connect(t, p.url)
	// Somebody else is faster: the editor waits for it.
	ready, done := filepath.Join(t.TempDir(), "ready"), filepath.Join(t.TempDir(), "done")
	slow := write("sed -i 's/Tern Hut/Mine/' $1; touch " + ready + "; while [ ! -e " + done + " ]; do sleep 0.05; done")
	said := make(chan string, 1)
	go func() { said <- edit(1, slow) }()
	polltest.Until(t, "the editor has the item", func() bool { _, err := os.Stat(ready); return err == nil })
	beds := json.RawMessage(`{"properties":{"beds":9}}`)
	if _, err := c.PatchItem(t.Context(), "huts", "a", beds, client.AnyTag); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(done, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if out := <-said; !strings.Contains(out, "Somebody else has changed it meanwhile") ||
		!strings.Contains(out, "beds: 4 → 9") || !strings.Contains(out, "What you wrote is in ") {
		t.Error(out)
	}
}

// askedFor is an expression for the answers about the map that a page has asked for.
const askedFor = "performance.getEntriesByType('resource').map(e => e.name)" +
	".filter(n => /api\\/(markers|shapes|collections)/.test(n))"

// field is an expression for the input of a property in the form.
func field(name string) string {
	return "(() => { const l = [...document.querySelectorAll('.edit .field label')].find(l => l.innerText == '" + name +
		"'); return document.getElementById(l.htmlFor) })()"
}

// fillIn types into a property of the form.
func (p *page) fillIn(name, value string) {
	p.t.Helper()
	p.until(field(name))
	text, err := json.Marshal(value)
	if err != nil {
		p.t.Fatal(err)
	}
	eval[any](p, "(() => { const i = "+field(name)+"; i.value = "+string(text)+
		"; i.dispatchEvent(new Event('input', { bubbles: true })) })()")
}

// pressText clicks a button by what stands on it.
func (p *page) pressText(text string) {
	p.t.Helper()
	button := "[...document.querySelectorAll('button')].find(b => b.innerText.trim() == '" + text + "' && !b.disabled)"
	p.until(button)
	eval[any](p, button+".click()")
}

// leaveUnsaved closes the form with what has a text in it not saved, as when the page goes.
func (p *page) leaveUnsaved(text string) {
	p.t.Helper()
	p.until("localStorage.getItem('idlebeacon-unsaved-2')?.includes('" + text + "')")
	unsaved := eval[string](p, "localStorage.getItem('idlebeacon-unsaved-2')")
	p.pressText("Cancel")
	p.pressText("Drop it")
	p.until("!document.querySelector('.edit') && localStorage.getItem('idlebeacon-unsaved-2') === null")
	eval[any](p, "localStorage.setItem('idlebeacon-unsaved-2', "+strconv.Quote(unsaved)+")")
}

// TestTwoPages has one page edit, and another see it without asking; both change the same place,
// and a conflict is settled.
func TestTwoPages(t *testing.T) {
	t.Parallel() // it has a service of its own
	service := withHuts(t)
	view := service.url + "/?lat=-38.5&lon=-22&zoom=15"
	one, two := browse(t, 1280, 800, view), browse(t, 1280, 800, view)
	for _, p := range []*page{one, two} {
		p.until("total() == 1 && buttons()[0].innerText.includes('Gull Hut')")
		p.rested()
		x, y := p.spot(-38.5, -22)
		p.click(x, y-20)
		p.until("details().includes('Gull Hut') && details().includes('Edit')")
	}
	before := len(eval[[]string](two, askedFor))
	one.pressText("Edit")
	one.fillIn("name", "Tern Hut")
	one.pressText("Save")
	two.until("buttons()[0].innerText.includes('Tern Hut') && details().includes('Tern Hut')")
	if after := len(eval[[]string](two, askedFor)); after != before {
		t.Errorf("the other page has asked %d times: %v", after-before, eval[[]string](two, askedFor)[before:])
	}
	// Both edit now.
	one.until("!document.querySelector('.edit')")
	x, y := one.spot(-38.5, -22)
	one.click(x, y-20)
	one.until("details().includes('Tern Hut')")
	for _, p := range []*page{one, two} {
		p.pressText("Edit")
		p.until(field("beds"))
	}
	two.fillIn("name", "Skua Hut")
	two.fillIn("beds", "8")
	two.pressText("Save")
	one.until("buttons().some(b => b.innerText.includes('Skua Hut'))")
	one.fillIn("name", "Petrel Hut")
	one.pressText("Save")
	one.until("document.querySelector('.conflict')?.innerText.includes('Theirs: Skua Hut')")
	one.until("document.querySelector('.conflict').innerText.includes('beds: now 8')")
	eval[any](one, "document.querySelector('.conflict input[value=mine]').click()")
	one.pressText("Save")
	two.until("buttons().some(b => b.innerText.includes('Petrel Hut'))")
	item, err := connect(t, service.url).Item(t.Context(), "huts", "a")
	if err != nil || !strings.Contains(string(item.Properties), `"name":"Petrel Hut"`) ||
		!strings.Contains(string(item.Properties), `"beds":8`) {
		t.Errorf("the place is %s, %v", item.Properties, err)
	}
	// What is deleted goes from the other page, which says so.
	one.until("!document.querySelector('.edit')")
	two.until("!document.querySelector('.edit')")
	two.click(two.spot(-38.5, -22))
	x, y = two.spot(-38.5, -22)
	two.click(x, y-20)
	two.until("details().includes('Petrel Hut')")
	x, y = one.spot(-38.5, -22)
	one.click(x, y-20)
	one.pressText("Edit")
	one.pressText("Delete")
	one.pressText("Really delete")
	two.until("total() == 0 && details() == '' && text().includes('Petrel Hut is not there any more')")

	// The page Changes brings it back.
	one.do(chromedp.Navigate(service.url + "/changes"))
	one.until("document.querySelector('[data-change]')?.innerText.includes('Petrel Hut taken out')")
	one.do(chromedp.Click(chromedp.CSS("[data-change] .line")))
	one.pressText("Take back")
	one.until("document.querySelector('[data-change]')?.innerText.includes('Petrel Hut added')")
	two.until("total() == 1")
}

// TestUnsavedBesideOthers leaves an edit, and saves it after somebody else has changed the place. What
// is taken out of an object goes.
func TestUnsavedBesideOthers(t *testing.T) {
	t.Parallel() // it has a service of its own
	service := withHuts(t)
	through := connect(t, service.url)
	set := func(properties string) {
		item, now, err := through.ItemTagged(t.Context(), "huts", "a")
		if err != nil {
			t.Fatal(err)
		}
		item.Properties = json.RawMessage(properties)
		if _, err := through.PutItem(t.Context(), "huts", item, now); err != nil {
			t.Fatal(err)
		}
	}
	set(`{"name":"Gull Hut","beds":4,"open":{"may":1,"june":2}}`)
	p := browse(t, 1280, 800, service.url+"/?lat=-38.5&lon=-22&zoom=15")
	edit := func(name string) {
		p.until("total() == 1 && buttons()[0].innerText.includes('" + name + "')")
		p.rested()
		x, y := p.spot(-38.5, -22)
		p.click(x, y-20)
		p.until("details().includes('Edit')")
		p.pressText("Edit")
		p.until(field("open"))
	}
	edit("Gull Hut")
	p.fillIn("name", "Petrel Hut")
	p.fillIn("open", `{"may":1}`)
	p.leaveUnsaved("Petrel Hut")
	set(`{"name":"Skua Hut","beds":4,"open":{"may":1,"june":2}}`)
	edit("Skua Hut")
	p.until(field("name") + ".value == 'Petrel Hut'")
	p.pressText("Save")
	p.until("document.querySelector('.conflict')?.innerText.includes('Theirs: Skua Hut')")
	eval[any](p, "document.querySelector('.conflict input[value=mine]').click()")
	p.pressText("Save")
	p.until("buttons().some(b => b.innerText.includes('Petrel Hut'))")
	item, err := through.Item(t.Context(), "huts", "a")
	if err != nil || !strings.Contains(string(item.Properties), `"open":{"may":1}`) {
		t.Errorf("the place is %s, %v", item.Properties, err)
	}
}

// TestAddingByKeyboard adds a place without a pointer, and keeps what is not saved through a reload.
func TestAddingByKeyboard(t *testing.T) {
	t.Parallel() // it has a service of its own
	service := withHuts(t)
	p := browse(t, 1280, 800, service.url+"/?lat=-38.51&lon=-22.02&zoom=15")
	p.until("total() >= 0 && document.querySelector('.add')")
	p.rested()
	eval[any](p, "document.querySelector('.add').focus()")
	p.key(kb.Enter)
	p.until("document.activeElement.closest('.edit') && document.querySelector('.edit .pair input').value == '-38.51'")
	eval[any](p, "document.activeElement.select()")
	p.key("-38.5123, -22.0111" + kb.Tab) // pasted into the first field
	p.until("document.querySelectorAll('.edit .pair input')[1].value == '-22.0111'")
	p.until(field("name"))
	eval[any](p, field("name")+".focus()")
	p.key("Puffin Hut")
	p.until("localStorage.getItem('idlebeacon-unsaved-2')?.includes('Puffin Hut')")
	p.key(kb.Enter) // in a field of the form: saves
	p.until("!document.querySelector('.edit') && buttons().some(b => b.innerText.includes('Puffin Hut'))")
	page, err := connect(t, service.url).Items(t.Context(), "huts", client.ItemsOptions{
		Selection: client.Selection{Filter: "name = 'Puffin Hut'"},
	})
	if err != nil || len(page.Features) != 1 {
		t.Fatalf("%d places were added, %v", len(page.Features), err)
	}
	if at, _ := page.Features[0].Geometry.Position(); at.Lat != -38.5123 || at.Lon != -22.0111 {
		t.Errorf("it is at %v", at)
	}
	// What was not saved is there again.
	p.do(chromedp.Click(chromedp.CSS(".add")))
	p.fillIn("name", "Fulmar Hut")
	p.leaveUnsaved("Fulmar Hut")
	p.do(chromedp.Reload())
	p.until("document.querySelector('.add')")
	p.do(chromedp.Click(chromedp.CSS(".add")))
	p.until(field("name") + ".value == 'Fulmar Hut'")
}
