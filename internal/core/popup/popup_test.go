package popup

import (
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/style"
)

// of returns the popup of a feature with properties in JSON, as JSON.
func of(t *testing.T, template Template, properties string) string {
	t.Helper()
	f := feature.Feature{ID: "m 7"}
	if err := f.Read([]byte(`{"type":"Feature","id":"m `+
		`7","geometry":{"type":"Point","coordinates":[1,2]},"properties":`+properties+
		`}`), func(*geometry.Geometry) {}); err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(template.Of(&f)); err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(b.String())
}

func TestWithoutTemplate(t *testing.T) {
	template := Template{Name: "name", Category: "kind"}
	got := of(
		t,
		template,
		`{"name":"North Quay","kind":"mooring","picture":"/pictures/mooring.svg","depth_m":2.50,`+
			`"public":true,"web":"https://example.org/a?b","since":"2019-04-01",
		"phone":"+44 (0)1 23","address":"1 Quay Road; Brindle","note":"<b>bold</b>","none":null,"empty":"","list":[1]}`,
	)
	want := `{"title":"North Quay","category":"mooring","image":"/pictures/mooring.svg","fields":[` +
		`{"property":"depth_m","label":"Depth m","format":"number","text":"2.50","number":2.5},` +
		`{"property":"public","label":"Public","format":"text","text":"yes"},` +
		`{"property":"web","label":"Web","format":"link","text":"example.org/a?b","href":"https://example.org/a?b"},` +
		`{"property":"since","label":"Since","format":"date","text":"2019-04-01"},` +
		`{"property":"phone","label":"Phone","format":"phone","text":"+44 (0)1 23","href":"tel:+440123"},` +
		`{"property":"address","label":"Address","format":"lines","text":"1 Quay Road; Brindle","lines":["1 Quay ` +
		`Road","Brindle"]},` +
		`{"property":"note","label":"Note","format":"text","text":"<b>bold</b>"},` +
		`{"property":"list","label":"List","format":"text","text":"[1]"}],"actions":[]}`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	// A picture from elsewhere than https or the service is no picture, but a property like others.
	for _, url := range []string{"//example.org/x.png", `/\\example.org/x.png`, "http://example.org/x.png",
		"data:image/png;base64,xx", "x.png"} {
		if got := of(t, template, `{"image":"`+url+`"}`); strings.Contains(got, `"image":"`) ||
			!strings.Contains(got, `"property":"image"`) {
			t.Errorf("%s: %s", url, got)
		}
	}
}

func TestTemplate(t *testing.T) {
	template := Template{Name: "name", Category: "kind", Sanitise: strings.ToUpper, Style: &style.Popup{
		Title: "title", Subtitle: "near", Image: "photo",
		Fields: []style.Field{
			{
				Property: "depth",
				Label:    "Depth",
				Format:   "number",
				Unit:     "m",
			}, {Property: "about", Format: "html"}, {Property: "missing"},
			{
				Property: "code",
				Format:   "number",
			}, {Property: "when", Format: "date"}, {Property: "script", Format: "link"},
		},
		Actions: []style.Action{
			{
				Label: "Reserve",
				URL:   "https://example.org/r/{id}?n={title}&k=1",
			}, {Label: "Call", URL: "tel:{phone}"}, {Label: "Plain", URL: "/log"},
		},
	}}
	got := of(
		t,
		template,
		`{"title":"A&B ü","near":"Inner `+
			`Bay","photo":"https://example.org/x.png","depth":3,"about":"<i>a</i>","code":"x7","when":"soon",`+
			`"script":"javascript:alert(1)","other":1}`,
	)
	want := `{"title":"A&B ü","subtitle":"Inner Bay","image":"https://example.org/x.png","fields":[` +
		`{"property":"depth","label":"Depth","format":"number","text":"3","number":3,"unit":"m"},` +
		`{"property":"about","label":"About","format":"html","text":"<i>a</i>","html":"<I>A</I>"},` +
		`{"property":"code","label":"Code","format":"text","text":"x7"},` +
		`{"property":"when","label":"When","format":"text","text":"soon"},` +
		`{"property":"script","label":"Script","format":"text","text":"javascript:alert(1)"}],` +
		`"actions":[{"label":"Reserve","href":"https://example.org/r/m%207?n=A%26B%20%C3%BC&k=1"},{"label":"Plain",` +
		`"href":"/log"}]}`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	template.Sanitise = nil
	if got := of(t, template, `{"about":"<i>a</i>"}`); strings.Contains(got, `"html":`) {
		t.Errorf("without a sanitiser there is HTML: %s", got)
	}
}

// TestActionsStayWhereTheyLead fills templates in with values that try to lead
// elsewhere.
func TestActionsStayWhereTheyLead(t *testing.T) {
	values := []string{
		"@evil.example",
		"//evil.example/",
		`\\evil.example`,
		"?x=1#y",
		"a b/ü&=%2F",
		"javascript:alert(1)",
		"\x00\r\n",
		"{id}",
		"..",
		"%",
	}
	for _, template := range []string{
		"https://example.org/{v}", "https://example.org/a?b={v}&c={v}", "https://example.org/{v}/{w}#{v}", "/log/{v}",
		"/{v}", "mailto:moorings@brindlemere.example?subject={v}", "tel:{v}",
	} {
		if _, err := style.Parse([]byte(`{"popup":{"actions":[{"label":"x","url":"` + template + `"}]}}`)); err != nil {
			t.Fatal(err)
		}
		plain, all := Expand(template, func(string) string { return "x" })
		want, err := url.Parse(plain)
		if err != nil || !all {
			t.Fatalf("%s: %v", plain, err)
		}
		for _, v := range values {
			filled, all := Expand(
				template,
				func(name string) string { return map[string]string{"v": v, "w": "w"}[name] },
			)
			got, err := url.Parse(filled)
			if err != nil || !all {
				t.Errorf("%s with %q is %s, %v", template, v, filled, err)
				continue
			}
			if got.Scheme != want.Scheme || got.Host != want.Host || got.User != nil ||
				len(got.Query()) != len(want.Query()) ||
				strings.Count(got.EscapedPath(), "/") != strings.Count(want.EscapedPath(), "/") {
				t.Errorf("%s with %q leads to %s", template, v, filled)
			}
		}
	}
	if _, all := Expand("/{a}/{b}", func(name string) string { return strings.Trim(name, "b") }); all {
		t.Error("an action without one of its values is there")
	}
}

// TestLines puts several properties into one line, some of which are not there.
func TestLines(t *testing.T) {
	const address = "{street}, {postcode} {town}"
	for properties, want := range map[string][2]string{
		`{"street":"Quay 1","postcode":"417","town":"Brindle"}`: {address, "Quay 1, 417 Brindle"},
		`{"postcode":"417","town":"Brindle"}`:                   {address, "417 Brindle"},
		`{"street":"Quay 1","town":"Brindle"}`:                  {address, "Quay 1, Brindle"},
		`{"street":"Quay 1"}`:                                   {address, "Quay 1"},
		`{"street":"Quay 1","postcode":null,"town":""}`:         {address, "Quay 1"},
		`{"town":"Brindle"}`:                                    {address, "Brindle"},
		`{"other":1}`:                                           {address, ""},
		`{"depth":2.50}`:                                        {"Depth {depth} m", "Depth 2.50 m"},
		`{"depth":2,"at":"low water"}`:                          {"Depth {depth} m at {at}", "Depth 2 m at low water"},
		`{"depth":3}`:                                           {"Depth {depth} m at {at}", "Depth 3"},
		`{"a":"x"}`:                                             {"{a} ({id})", "x (m 7)"},
	} {
		template := Template{Style: &style.Popup{Fields: []style.Field{{Template: want[0], Label: "Where"}}}}
		got := of(t, template, properties)
		field := `[{"property":"","label":"Where","format":"text","text":"` + want[1] + `"}]`
		if want[1] == "" {
			field = "[]"
		}
		if !strings.Contains(got, `"fields":`+field) {
			t.Errorf("%s of %s: %s, want %q", want[0], properties, got, want[1])
		}
	}
}
