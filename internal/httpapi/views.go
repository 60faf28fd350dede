package httpapi

import (
	"context"
	"fmt"
	"hash/maphash"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"idlebeacon/api"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/live"
	"idlebeacon/internal/service"
)

const (
	// maxViewPath is how long the path of a view may be, in bytes.
	maxViewPath = 8 << 10
	// longestViewName is how long its name and its tag may be, in bytes.
	longestViewName = 200
)

// liveRoutes are the routes whose answers are kept up to date for listeners.
var liveRoutes = []string{
	"/api/collections", one, one + "/items/{item}", one + "/items/{item}/popup", one + "/markers", one + "/shapes",
	one + "/density", one + "/categories", one + "/style", one + "/legend", "/api/markers", "/api/shapes", "/api/changes",
	one + "/suggestions", "/api/devices/markers", "/api/devices", device, "/api/groups",
}

// slowRoutes are those of them that change with every edit, wherever it is. They are sent once in
// slowlyTold at most.
var slowRoutes = []string{"/api/collections", one, one + "/categories", one + "/legend", "/api/changes",
	one + "/suggestions", "/api/devices", "/api/groups"}

const (
	slowlyTold = 500 * time.Millisecond
	// movesEvery is the shortest time between two answers about devices.
	movesEvery = 100 * time.Millisecond
)

// lookAt says what a listener looks at from now on.
func (h *server) lookAt(w http.ResponseWriter, r *http.Request) error {
	var asked api.Views
	if err := h.readJSON(w, r, &asked); err != nil {
		return err
	}
	l := h.service.Live().Find(pathValue(r, "listener"), partyOf(r))
	if l == nil {
		return &fault.NotFoundError{What: "listener", ID: pathValue(r, "listener")}
	}
	if n := len(asked.Views); n > live.MaxViews {
		return invalid.New("views", "has %d views", n).Wanted("at most %d", live.MaxViews)
	}
	views := make([]live.View, len(asked.Views))
	for i, v := range asked.Views {
		var err error
		if views[i], err = h.viewOf(v); err != nil {
			return invalid.At(fmt.Sprintf("views[%d]", i), err)
		}
		if slices.ContainsFunc(views[:i], func(other live.View) bool { return other.Name == v.Name }) {
			return invalid.New(fmt.Sprintf("views[%d].name", i), "is that of another view")
		}
	}
	l.Look(views)
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// viewOf reads what a listener wants to look at.
func (h *server) viewOf(v api.View) (live.View, error) {
	out := live.View{Name: v.Name, Path: v.Path, Tag: v.ETag, Squares: v.Squares}
	for _, m := range []struct {
		name, text string
		longest    int
	}{{"path", v.Path, maxViewPath}, {"name", v.Name, longestViewName}, {"etag", v.ETag, longestViewName}} {
		if len(m.text) > m.longest {
			return out, invalid.New(m.name, "is too long").Wanted("at most %d bytes", m.longest)
		}
	}
	u, err := url.ParseRequestURI(v.Path)
	if err != nil || u.Host != "" || !strings.HasPrefix(v.Path, "/") {
		return out, invalid.New("path", "is not a path").Wanted("one such as /api/markers?collections=huts&zoom=4&bbox=...")
	}
	match := chi.NewRouteContext()
	if !h.routes.Match(match, http.MethodGet, u.EscapedPath()) || !slices.Contains(liveRoutes, match.RoutePattern()) {
		return out, invalid.New("path", "is not that of an answer that is kept up to date")
	}
	if v.Squares && match.RoutePattern() != "/api/markers" && match.RoutePattern() != "/api/devices/markers" {
		return out, invalid.New("squares", "are for markers").Wanted("the path /api/markers or /api/devices/markers")
	}
	if v.Squares {
		out.Tag = "" // of the whole answer
	}
	query := u.Query()
	out.State, out.Region = h.stateOf(match, v.Path)
	if slices.Contains(slowRoutes, match.RoutePattern()) {
		out.Every = slowlyTold
	}
	if h.aboutDevices(match.RoutePattern()) {
		out.Every = max(out.Every, movesEvery)
		out.Collections = groupsOf(query)
		return out, nil
	}
	filtered := false
	for name := range query {
		filtered = filtered || strings.HasSuffix(name, "filter")
	}
	switch {
	case filtered:
		// A condition may name areas of any collection.
	case match.URLParam("collection") != "":
		out.Collections = []string{match.URLParam("collection")}
	case query.Get("collections") != "":
		out.Collections = strings.Split(query.Get("collections"), ",")
	}
	return out, nil
}

// stateOf returns what tells the state of the answer of a path, and the part of the map that it depends on;
// nil if the answer itself has to, or if it may depend on all.
func (h *server) stateOf(match *chi.Context, path string) (func(context.Context) live.State, []geo.SpotBox) {
	r, err := http.NewRequest(http.MethodGet, path, nil)
	switch {
	case err != nil:
		return nil, nil
	case match.RoutePattern() == "/api/devices/markers":
		return h.stateOfDevices(r)
	case match.RoutePattern() != "/api/markers":
		return nil, nil
	}
	q, asked := layers(r, []string{"numbers"}, slices.Concat(viewNames, gatherNames)...)
	ask := q.viewport()
	if q.err != nil || slices.ContainsFunc(asked, func(l service.Layer) bool { return l.Selection.Filter != nil }) {
		return nil, nil // a condition may name areas, whose state is another
	}
	region := ask.Options.Reach(ask.Box.SpotBoxes(), ask.Zoom)
	return func(ctx context.Context) live.State {
		views, err := h.service.Viewports(ctx, asked, ask)
		if err != nil {
			return live.State{}
		}
		of := maphash.String(stateSeed, h.service.Identity())
		state := live.State{All: of, Near: of}
		for _, v := range views {
			state.All = (state.All*31+v.Change)*31 + v.Looks
			state.Near = (state.Near*31+v.NearChange())*31 + v.Looks
		}
		return state
	}, region
}

// stateSeed is that of the states of this process.
var stateSeed = maphash.MakeSeed()
