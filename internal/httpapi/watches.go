package httpapi

import (
	"math"
	"net/http"
	"strconv"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/watching"
)

// watches are the routes about watches and notices.
func (h *server) watches(g guarded) {
	if h.options.Watching == nil {
		return
	}
	g.get("/api/watches", h.bare(h.listWatches))
	g.post("/api/watches", h.bare(h.createWatch))
	g.post("/api/watches/try", h.bare(h.tryWatch))
	g.get("/api/watches/{watch}", h.bare(h.getWatch))
	g.patch("/api/watches/{watch}", h.bare(h.updateWatch))
	g.delete("/api/watches/{watch}", h.bare(h.deleteWatch))
	g.get("/api/notices", h.handle(h.listNotices))
}

// readerOf returns which collections the caller of a request may read.
func (h *server) readerOf(r *http.Request) watching.MayRead {
	return func(collection string) error { return h.mayRead(r, collection) }
}

// orUsual returns what a pointer leads to, or something else if it is nil.
func orUsual(given *float64, usual float64) float64 {
	if given == nil {
		return usual
	}
	return *given
}

// seconds returns a time of so many seconds. What is out of range stays out of it.
func seconds(s float64) time.Duration {
	const most = math.MaxInt64 / float64(time.Second)
	return time.Duration(min(max(s, -1), most/2) * float64(time.Second))
}

// ruleOf reads a rule.
func ruleOf(r *api.WatchRule) (*watch.Rule, error) {
	out := &watch.Rule{
		Groups: r.Groups, Devices: r.Devices, StayedFor: seconds(r.StayedFor), SilentFor: seconds(r.SilentFor),
		FasterThan: r.FasterThan, NearerThan: r.NearerThan, Margin: orUsual(r.Margin, watch.DefaultMargin),
		WorstAccuracy: orUsual(r.WorstAccuracy, watch.DefaultWorstAccuracy),
	}
	for _, k := range r.Notices {
		out.Notices = append(out.Notices, watch.Kind(k))
	}
	for _, name := range r.State {
		s, err := motion.ParseState(name)
		if err != nil {
			return nil, err
		}
		out.States = append(out.States, s)
	}
	if w := r.Where; w != nil {
		out.Where = &watch.Where{Collection: w.Collection, Item: w.Item, Device: w.Device, Radius: w.Radius}
		if (w.Longitude == nil) != (w.Latitude == nil) {
			return nil, invalid.New("where", "has only one of longitude and latitude").Wanted("both")
		}
		if w.Longitude != nil {
			out.Where.At = &geo.Point{Lon: *w.Longitude, Lat: *w.Latitude}
		}
	}
	if r.Filter != "" {
		f, err := filter.Parse(r.Filter)
		if err != nil {
			return nil, invalid.In("filter", err)
		}
		out.Filter = f
	}
	if t := r.Hours; t != nil {
		hours, err := watch.ParseHours(t.From, t.To, t.Days, t.Zone)
		if err != nil {
			return nil, err
		}
		out.Hours = hours
	}
	return out, nil
}

func describeRule(r *watch.Rule) api.WatchRule {
	out := api.WatchRule{
		Groups: r.Groups, Devices: r.Devices, StayedFor: r.StayedFor.Seconds(), SilentFor: r.SilentFor.Seconds(),
		FasterThan: r.FasterThan, NearerThan: r.NearerThan, Margin: &r.Margin, WorstAccuracy: &r.WorstAccuracy,
	}
	for _, k := range r.Notices {
		out.Notices = append(out.Notices, string(k))
	}
	for _, s := range r.States {
		out.State = append(out.State, s.String())
	}
	if w := r.Where; w != nil {
		out.Where = &api.WatchWhere{Collection: w.Collection, Item: w.Item, Device: w.Device, Radius: w.Radius}
		if w.At != nil {
			out.Where.Longitude, out.Where.Latitude = &w.At.Lon, &w.At.Lat
		}
	}
	if r.Filter != nil {
		out.Filter = r.Filter.String()
	}
	if t := r.Hours; t != nil {
		clock := func(minutes int) string { return time.Time{}.Add(time.Duration(minutes) * time.Minute).Format("15:04") }
		out.Hours = &api.WatchHours{From: clock(t.From), To: clock(t.To), Days: t.DayNames(), Zone: t.Zone.String()}
	}
	return out
}

func (h *server) describeWatch(r *http.Request, w *watching.Watch) api.Watch {
	return api.Watch{
		ID: w.ID, Title: w.Title, Description: w.Description, Rule: describeRule(&w.Rule), Off: w.Off, Problem: w.Problem,
		MadeBy: w.MadeBy, CreatedAt: w.CreatedAt,
		Links: []api.Link{
			h.site(r).link("self", "/api/watches/"+w.ID, plainJSON, ""),
			h.site(r).link("related", "/api/notices?watches="+w.ID, plainJSON, "what it noticed"),
		},
	}
}

func (h *server) listWatches(w http.ResponseWriter, r *http.Request) error {
	all, err := h.options.Watching.List(r.Context(), h.readerOf(r))
	if err != nil {
		return err
	}
	out := api.Watches{Watches: []api.Watch{}, Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}}}
	for i := range all {
		out.Watches = append(out.Watches, h.describeWatch(r, &all[i]))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) getWatch(w http.ResponseWriter, r *http.Request) error {
	found, err := h.options.Watching.Get(r.Context(), pathValue(r, "watch"), h.readerOf(r))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeWatch(r, &found))
}

func watchEdit(u *api.WatchUpdate) (e watching.Edit, err error) {
	e = watching.Edit{Title: u.Title, Description: u.Description, Off: u.Off}
	if u.Rule != nil {
		if e.Rule, err = ruleOf(u.Rule); err != nil {
			err = invalid.At("rule", err)
		}
	}
	return e, err
}

func (h *server) createWatch(w http.ResponseWriter, r *http.Request) error {
	var n api.NewWatch
	if err := h.readJSON(w, r, &n); err != nil {
		return err
	}
	edit, err := watchEdit(&n.WatchUpdate)
	if err != nil {
		return err
	}
	made, err := h.options.Watching.Create(r.Context(), n.ID, edit, h.readerOf(r))
	if err != nil {
		return err
	}
	w.Header().Set("Location", string(h.site(r))+"/api/watches/"+made.ID)
	return writeJSON(w, http.StatusCreated, plainJSON, h.describeWatch(r, &made))
}

func (h *server) updateWatch(w http.ResponseWriter, r *http.Request) error {
	var u api.WatchUpdate
	if err := h.readJSON(w, r, &u); err != nil {
		return err
	}
	edit, err := watchEdit(&u)
	if err != nil {
		return err
	}
	changed, err := h.options.Watching.Update(r.Context(), pathValue(r, "watch"), edit, h.readerOf(r))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeWatch(r, &changed))
}

func (h *server) deleteWatch(w http.ResponseWriter, r *http.Request) error {
	if err := h.options.Watching.Delete(r.Context(), pathValue(r, "watch"), h.readerOf(r)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// tryWatch tells what a rule would have noticed.
func (h *server) tryWatch(w http.ResponseWriter, r *http.Request) error {
	var ask api.WatchTrial
	if err := h.readJSON(w, r, &ask); err != nil {
		return err
	}
	rule, err := ruleOf(&ask.Rule)
	if err != nil {
		return invalid.At("rule", err)
	}
	to := time.Now()
	if ask.To != nil {
		to = *ask.To
	}
	release, err := h.service.Work(r.Context())
	if err != nil {
		return err
	}
	defer release()
	tried, err := h.options.Watching.Try(r.Context(), rule, motion.MomentOf(ask.From), motion.MomentOf(to), h.readerOf(r))
	if err != nil {
		return err
	}
	out := api.WatchTried{
		Positions: tried.Positions, Devices: tried.Devices, More: tried.More, Notices: make([]api.Notice, len(tried.Notices)),
	}
	for i := range tried.Notices {
		out.Notices[i] = watching.Describe(&tried.Notices[i])
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) listNotices(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "groups", "devices", "watches", "kinds", "from", "to", "before", "after", "limit")
	ask := watching.Query{
		Groups: q.list("groups"), Devices: q.list("devices"), Watches: q.list("watches"),
		Before: int64(q.whole("before", 0, 0, maxNumber)), After: int64(q.whole("after", 0, 0, maxNumber)),
		Limit: q.clamped("limit", 100, watching.MaxNotices),
	}
	for _, name := range q.list("kinds") {
		ask.Kinds = append(ask.Kinds, watch.Kind(name))
	}
	if at := q.time("from"); !at.IsZero() {
		ask.From = motion.MomentOf(at)
	}
	if at := q.time("to"); !at.IsZero() {
		ask.To = motion.MomentOf(at)
	}
	if q.err != nil {
		return q.err
	}
	all, more, err := h.options.Watching.Notices(r.Context(), ask)
	if err != nil {
		return err
	}
	out := api.Notices{
		Notices: make([]api.Notice, len(all)), Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for i := range all {
		out.Notices[i] = watching.Describe(&all[i])
	}
	if more {
		further, name := r.URL.Query(), "before"
		if ask.After != 0 {
			name = "after"
		}
		further.Set(name, strconv.FormatInt(all[len(all)-1].Number, 10))
		out.Links = append(out.Links, h.nextLink(r, further, plainJSON))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}
