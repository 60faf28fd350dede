package httpapi

import (
	"strings"
	"time"

	"idlebeacon/internal/service"
)

// interval reads a moment or an interval of time as OGC API - Features has it: moments in
// RFC 3339, or dates, two of them with a slash between; nothing or .. for no end. It returns
// nil if the parameter is absent.
func (q *query) interval(name string) *service.Interval {
	if !q.has(name) {
		return nil
	}
	from, to, two := strings.Cut(q.text(name), "/")
	if !two {
		to = from
	}
	open := func(s string) bool { return s == "" || s == ".." }
	if !two && open(from) {
		q.fail(name, "%q is neither a moment nor an interval", q.text(name))
	}
	var i service.Interval
	if !open(from) {
		i.From, _ = q.moment(name, from)
	}
	if !open(to) {
		var whole bool
		if i.To, whole = q.moment(name, to); whole {
			i.To = i.To.Add(24*time.Hour - time.Nanosecond)
		}
	}
	if !i.From.IsZero() && !i.To.IsZero() && i.To.Before(i.From) {
		q.fail(name, "%q ends before it begins", q.text(name))
	}
	return &i
}

// moment reads a moment or a date, and reports whether it is a date.
func (q *query) moment(name, text string) (at time.Time, date bool) {
	if at, err := time.Parse(time.DateOnly, text); err == nil {
		return at, true
	}
	// A plus sign that is not escaped is a space by the time it gets here.
	at, err := time.Parse(time.RFC3339, strings.ToUpper(strings.ReplaceAll(text, " ", "+")))
	if err != nil {
		q.fail(name, "%.60q is not a moment such as 2026-04-12T06:30:00Z, or a date", text)
	}
	return at, false
}
