package httpapi

import (
	"encoding/json"
	"reflect"
	"testing"

	"idlebeacon/api"
	"idlebeacon/internal/core/popup"
	"idlebeacon/internal/core/style"
)

// TestDocumentsAreMirrored compares the documents of the core with the types of the contract
// that stand for them: they have the same members, with the same names in JSON.
func TestDocumentsAreMirrored(t *testing.T) {
	same(t, "style", reflect.TypeFor[style.Style](), reflect.TypeFor[api.StyleDocument]())
	same(t, "legend", reflect.TypeFor[style.Legend](), reflect.TypeFor[api.Legend]())
	fields := map[string]bool{"ID": true, "Change": true} // that a popup has beside
	core, wire := reflect.TypeFor[popup.Popup](), reflect.TypeFor[api.Popup]()
	for _, f := range reflect.VisibleFields(wire) {
		if fields[f.Name] {
			continue
		}
		of, there := core.FieldByName(f.Name)
		if !there || of.Tag != f.Tag {
			t.Errorf("popup.%s: %q, want %q", f.Name, f.Tag, of.Tag)
			continue
		}
		same(t, "popup."+f.Name, of.Type, f.Type)
	}
	if core.NumField()+len(fields) != wire.NumField() {
		t.Errorf("a popup has %d members, %d of the core's", wire.NumField(), core.NumField())
	}
}

func same(t *testing.T, path string, core, wire reflect.Type) {
	t.Helper()
	if core.Kind() != wire.Kind() {
		t.Errorf("%s is a %v, want a %v", path, wire, core)
		return
	}
	switch core.Kind() {
	case reflect.Pointer, reflect.Slice:
		same(t, path, core.Elem(), wire.Elem())
	case reflect.Struct:
		if core.NumField() != wire.NumField() {
			t.Errorf("%s has %d members, want %d", path, wire.NumField(), core.NumField())
			return
		}
		for i := range core.NumField() {
			a, b := core.Field(i), wire.Field(i)
			if a.Name != b.Name && a.Tag == b.Tag && a.Anonymous == b.Anonymous || a.Tag != b.Tag {
				t.Errorf("%s.%s is %s `%s`, want `%s`", path, a.Name, b.Name, b.Tag, a.Tag)
				continue
			}
			same(t, path+"."+a.Name, a.Type, b.Type)
		}
	}
}

// TestMirroredKeepsEverything sends a document with every member through.
func TestMirroredKeepsEverything(t *testing.T) {
	const text = `{"default":{"icon":"info","colour":"#112233","line":{"colour":"#445566","width":0,"dash":"dotted",` +
		`"opacity":0.5},"fill":{"colour":"#778899","opacity":0}},
		"categories":[{"value":"","label":"none","icon":"x"}],"rules":[{"when":"a > ` +
		`1","label":"b"}],"size":{"property":"n","from":0,"to":1e9,"least":3,"most":9.5},
		"shade":{"property":"n","method":"manual","breaks":[0.1,2],"colours":["#000000"]},"circle":{"metres":0.25},` +
		`"labels":true,"zooms":{"from":0,"to":24},"order":-3,
		"tooltip":[{"property":"p","unit":"m"}],"popup":{"title":"t","subtitle":"s","image":"i",` +
		`"fields":[{"property":"","template":"{a} {b}"}],"actions":[{"label":"l","url":"/x"}]}}`
	var core style.Style
	if err := json.Unmarshal([]byte(text), &core); err != nil {
		t.Fatal(err)
	}
	wire, err := mirrored[api.StyleDocument](&core)
	if err != nil {
		t.Fatal(err)
	}
	want, _ := json.Marshal(&core)
	got, _ := json.Marshal(&wire)
	if string(got) != string(want) {
		t.Errorf("%s, want\n%s", got, want)
	}
}
