package service

import (
	"strings"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

func TestSafeHTML(t *testing.T) {
	for html, want := range map[string]string{
		"plain & simple":                               "plain &amp; simple",
		"<p>One<br>two</p>":                            "<p>One<br>two</p>",
		"<b>bold <i>both":                              "<b>bold <i>both",
		"<script>alert(1)</script>after":               "after",
		"<style>p{}</style>after":                      "after",
		"<img src=x onerror=alert(1)>":                 "",
		"<p style='position:fixed' id=x class=y>a</p>": "<p>a</p>",
		"<a href='javascript:alert(1)'>a</a>":          "a",
		"<a href=' jAvAsCrIpT:alert(1)'>a</a>":         "a",
		"<a href='data:text/html,x'>a</a>":             "a",
		"<a href='//example.org'>a</a>":                "a",
		"<a href='mailto:a@brindlemere.example'>a</a>": `<a href="mailto:a@brindlemere.example" rel="nofollow ` +
			`noreferrer">a</a>`,
		"<iframe src='https://example.org'></iframe>": "",
		"<svg onload=alert(1)><p>a</p></svg>":         "<p>a</p>",
		"<form action=/x><input name=y></form>":       "",
		"<p onclick=alert(1)>a</p>":                   "<p>a</p>",
		"<!-- a --><ul><li>1</ul>":                    "<ul><li>1</ul>",
	} {
		if got := sanitise(html); got != want {
			t.Errorf("%s\nbecomes %s\nwant    %s", html, got, want)
		}
	}
	long := sanitise("<p>" + strings.Repeat("ü<b>", maxHTML))
	if len(long) > 2*maxHTML || strings.Contains(long, "&lt;") {
		t.Errorf("a long text becomes %d bytes", len(long))
	}
}

// TestDraftsAndTheirPopups tries styles without keeping them.
func TestDraftsAndTheirPopups(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c", NameProperty: "name"}))
	var b feature.Builder
	b.Set("name", "Able")
	b.Set("note", "bright")
	b.SetJSON("n", []byte("3"))
	if _, err := create(t.Context(), s, "c", feature.Feature{ID: "a", Properties: b.Properties()}); err != nil {
		t.Fatal(err)
	}
	own := must[Popup](t)(s.Popup(t.Context(), "c", "a", ""))
	tried := must[Popup](
		t,
	)(
		s.Popup(t.Context(), "c", "a", `{"popup":{"title":"note","fields":[{"property":"n","unit":"m"}]}}`),
	)
	if own.Title != "Able" || len(own.Fields) != 2 || tried.Title != "bright" || len(tried.Fields) != 1 ||
		tried.Fields[0].Unit != "m" ||
		own.Looks == tried.Looks {
		t.Errorf("by its own style %+v, by a draft %+v", own, tried)
	}
	if again := must[Popup](t)(s.Popup(t.Context(), "c", "a", "")); again.Title != "Able" || again.Looks != own.Looks {
		t.Errorf("a draft has stayed: %+v", again)
	}
	// More drafts than are kept: the first is resolved anew, and is the same.
	draft := `{"rules":[{"when":"n > 2","label":"Deep"}]}`
	for i := range 2 * keptDrafts {
		l, err := s.Legend(t.Context(), "c", strings.Replace(draft, "2", strings.Repeat("1", i+1), 1))
		if err != nil || len(l.Entries) == 0 {
			t.Fatal(l, err)
		}
	}
	l, err := s.Legend(t.Context(), "c", draft)
	if err != nil || l.Entries[0].Count != 1 {
		t.Errorf("%+v, %v", l, err)
	}
	if _, err := s.Legend(t.Context(), "c", `{"rules":[{"when":"n >"}]}`); err == nil ||
		!strings.HasPrefix(err.Error(), "rules[0].when: ") {
		t.Errorf("a draft that is wrong: %v", err)
	}
	if style := must[Style](t)(s.Style(t.Context(), "c")); !style.Proposed {
		t.Errorf("a draft has become the style: %+v", style)
	}
}
