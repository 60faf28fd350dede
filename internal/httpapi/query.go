package httpapi

import (
	"fmt"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/wellformed"
)

// A query reads the parameters of a request and keeps the first thing that is
// wrong with them.
type query struct {
	request *http.Request
	values  url.Values
	err     error
}

// parseQuery reads the parameters, of which only the named ones are allowed: a
// misspelt one should not be passed over in silence.
func parseQuery(r *http.Request, names ...string) *query {
	q := &query{request: r}
	takes := func(name string) bool {
		return slices.Contains(names, name) ||
			name == "f" && (r.Method == http.MethodGet || r.Method == http.MethodHead)
	}
	values, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		q.fail("", "the query string is not well formed: %v", err)
	}
	for name := range values {
		for _, value := range values[name] {
			if err := wellformed.Text(value); err != nil {
				q.fail(strings.ToValidUTF8(name, "\ufffd"), "%v", err)
			}
		}
		if !takes(name) {
			allowed := slices.Clone(names)
			if takes("f") {
				allowed = append(allowed, "f")
			}
			if len(allowed) == 0 {
				allowed = []string{"none"}
			}
			q.fail(name, "is not a parameter of %s; it takes %s", r.URL.Path, strings.Join(allowed, ", "))
		}
		if len(values[name]) > 1 {
			q.fail(name, "is given %d times", len(values[name]))
		}
	}
	q.values = values
	if f := values.Get("f"); f != "" && f != "json" && f != "geojson" && takes("f") {
		q.fail("f", "%q is not known: answers are JSON, so want json", f)
	}
	return q
}

func (q *query) fail(field, format string, args ...any) {
	if q.err == nil {
		q.err = invalid.New(field, format, args...)
	}
}

func (q *query) has(name string) bool { return q.values.Get(name) != "" }

func (q *query) text(name string) string { return q.values.Get(name) }

// number reads a number from least to most, and fallback if it is absent.
// A fallback that is not a number makes the parameter required.
func (q *query) number(name string, fallback, least, most float64) float64 {
	if !q.has(name) {
		if math.IsNaN(fallback) {
			q.fail(name, "is missing")
		}
		return fallback
	}
	v, err := strconv.ParseFloat(q.text(name), 64)
	if err != nil || math.IsNaN(v) {
		q.fail(name, "%q is not a number", q.text(name))
	} else if v < least || v > most {
		q.fail(name, "%v is outside %v to %v", v, least, most)
	}
	return v
}

// whole reads a whole number from least to most.
func (q *query) whole(name string, fallback, least, most int) int {
	v := q.number(name, float64(fallback), float64(least), float64(most))
	if v != math.Trunc(v) {
		q.fail(name, "%v is not a whole number", v)
	}
	return int(v)
}

// clamped reads a whole number of at least 1. More than most is taken for most, as OGC API -
// Features has it for the parameter limit.
func (q *query) clamped(name string, fallback, most int) int {
	return min(most, q.whole(name, fallback, 1, math.MaxInt32))
}

func (q *query) flag(name string) bool {
	switch q.text(name) {
	case "", "false":
		return false
	case "true":
		return true
	}
	q.fail(name, "%q is neither true nor false", q.text(name))
	return false
}

// box reads a bounding box, or nil if it is absent.
func (q *query) box(name string) *geo.Box {
	if !q.has(name) {
		return nil
	}
	b, err := geo.ParseBox(q.text(name))
	if err != nil {
		q.fail(name, "%v", err)
	}
	return &b
}

// selectionNames are the parameters that choose among places.
var selectionNames = []string{"category", "name", "filter"}

// selection reads which places are meant.
func (q *query) selection() places.Selection { return q.selectionOf("") }

// selectionOf is selection with a prefix before the names of parameters.
func (q *query) selectionOf(prefix string) places.Selection {
	s := places.Selection{Name: q.text(prefix + "name")}
	if q.values.Has(prefix + "category") {
		s.Categories = splitList(q.text(prefix + "category"))
	}
	s.Filter = q.condition(prefix + "filter")
	return s
}

// condition reads a condition, nil for none.
func (q *query) condition(name string) *filter.Filter {
	if !q.has(name) {
		return nil
	}
	f, err := filter.Parse(q.text(name))
	if err != nil {
		q.fail(name, "is not a condition: %v", err)
	}
	return f
}

// list reads a list; nil if it is not there or has nothing in it.
func (q *query) list(name string) []string {
	if !q.has(name) {
		return nil
	}
	return splitList(q.text(name))
}

// splitList cuts a list at its commas. A comma or backslash that belongs to an
// element has a backslash before it.
func splitList(s string) []string {
	list := []string{""}
	escaped := false
	for _, r := range s {
		last := &list[len(list)-1]
		switch {
		case escaped:
			*last += string(r)
			escaped = false
		case r == '\\':
			escaped = true
		case r == ',':
			list = append(list, "")
		default:
			*last += string(r)
		}
	}
	return list
}

// gatherNames are the parameters that say how places are gathered.
var gatherNames = []string{"spacing", "cluster_to"}

// gathering reads how places are gathered into markers.
func (q *query) gathering() cluster.Options {
	return cluster.Options{
		Spacing: q.whole("spacing", cluster.DefaultSpacing, cluster.MinSpacing, cluster.MaxSpacing),
		Deepest: q.whole("cluster_to", cluster.DefaultDeepest, 0, cluster.MaxZoom),
	}
}

// pathValue returns a part of the path as it was before it was escaped.
func pathValue(r *http.Request, name string) string {
	value := chi.URLParam(r, name)
	if r.URL.RawPath == "" {
		return value // the router saw the path unescaped
	}
	if plain, err := url.PathUnescape(value); err == nil {
		return plain
	}
	return value
}

func byteCount(n int64) string {
	if n >= 1<<20 {
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%d bytes", n)
}
