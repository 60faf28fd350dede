package httpapi

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/klauspost/compress/gzhttp"

	"idlebeacon/api"
	"idlebeacon/internal/answers"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/live"
	"idlebeacon/internal/store"
	"idlebeacon/internal/watching"
)

// beatEvery is how often a listener hears that the stream is alive, if there is nothing else.
const beatEvery = 15 * time.Second

// listen is a stream of server-sent events (WHATWG HTML, section 9.2).
func (h *server) listen(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "collections", "groups", "bbox", "after", "notices")
	after := uint64(q.whole("after", 0, 0, maxNumber))
	box, collections := q.box("bbox"), q.collections()
	notices := h.options.Watching != nil && q.flag("notices") && actorOf(r).Role.Includes(policy.Reader)
	if q.err != nil {
		return q.err
	}
	if last := r.Header.Get("Last-Event-ID"); last != "" {
		var err error
		if after, err = strconv.ParseUint(last, 10, 53); err != nil {
			return invalid.New("Last-Event-ID", "is not the number of a change")
		}
	}
	var follow *followed
	if collections != nil {
		follow = &followed{collections: collections, box: box}
		if err := h.mayFollow(r, follow); err != nil {
			return err
		}
	}
	moves, err := h.moves(r, q, box)
	if err != nil {
		return err
	}
	l, err := h.service.Live().Listen(partyOf(r))
	if err == nil && moves != nil {
		moves.listener, err = h.service.Live().Listen(partyOf(r))
	}
	if err != nil {
		if l != nil {
			l.Leave()
		}
		return &fault.UnavailableError{Reason: err.Error() + "; try again in a while"}
	}
	defer l.Leave()
	if moves != nil {
		defer moves.listener.Leave()
	}
	if around, ok := w.(*gzhttp.GzipResponseWriter); ok { // which would keep some of it to look at
		w = around.Unwrap()
	}
	header := w.Header()
	header.Set("Content-Type", "text/event-stream")
	header.Set("Cache-Control", "private, no-store, no-transform")
	header.Set("X-Accel-Buffering", "no") // proxies are to pass on at once what they get
	w.WriteHeader(http.StatusOK)
	s := &stream{server: h, request: r, listener: l, follow: follow, moves: moves, notices: notices, out: w,
		connection: http.NewResponseController(w)}
	if r.Method == http.MethodHead {
		return nil
	}
	s.run(after)
	return nil
}

// mayFollow returns why the caller may not be told of changes to some collections.
func (h *server) mayFollow(r *http.Request, f *followed) error {
	rule := policy.For(http.MethodGet, "/api/live")
	for _, id := range f.collections {
		opening, err := h.service.Opening(id)
		if err == nil {
			err = rule.Decide(actorOf(r), id, opening)
		}
		if err == nil {
			_, err = h.service.Collection(r.Context(), id)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// A stream is what one listener gets.
type stream struct {
	server     *server
	request    *http.Request
	listener   *live.Listener
	out        http.ResponseWriter
	connection *http.ResponseController
	follow     *followed // nil if it is not told of changes
	moves      *moves    // nil if it is not told of devices
	notices    bool      // it is told of what is noticed
	buffer     bytes.Buffer
}

// followed is which changes a listener is told of.
type followed struct {
	collections []string
	box         *geo.Box // nil for everywhere
}

// run sends events until the client has gone, or may not listen any more.
func (s *stream) run(after uint64) {
	now := s.server.service.Complete()
	ctx, cancel := context.WithCancel(s.request.Context())
	defer cancel()
	views := make(chan []*live.View)
	changes := make(chan live.Told)
	moved := make(chan struct{})
	noticed := make(chan []store.Notice)
	ended := make(chan struct{}, 4)
	go func() {
		defer func() { ended <- struct{}{} }()
		for {
			due, err := s.listener.Next(ctx)
			if err != nil || !handTo(ctx, views, due) {
				return
			}
		}
	}()
	go func() {
		defer func() { ended <- struct{}{} }()
		if s.follow != nil {
			hub := s.server.service.Live()
			hub.Follow(ctx, cmp.Or(after, now), func(t live.Told) bool { return handTo(ctx, changes, t) })
		}
	}()
	go func() {
		defer func() { ended <- struct{}{} }()
		if s.moves != nil {
			s.moves.wait(ctx, moved)
		}
	}()
	go func() {
		defer func() { ended <- struct{}{} }()
		if s.notices {
			s.server.options.Watching.Follow(ctx, func(some []store.Notice) bool { return handTo(ctx, noticed, some) })
		}
	}()
	defer func() {
		cancel()
		for range cap(ended) {
			<-ended
		}
	}()

	s.event("hello", "", api.Hello{Listener: s.listener.ID, Change: now})
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	for s.flush() {
		changed := s.server.accessChanged()
		select {
		case <-ctx.Done():
			return
		case due := <-views:
			for _, v := range due {
				s.view(ctx, v)
			}
		case t := <-changes:
			if !s.tell(t) {
				return
			}
		case <-moved:
			if !s.positions() {
				return
			}
		case some := <-noticed:
			s.tellNotices(some)
		case <-changed:
			if !s.server.still(s.request) {
				return
			}
		case <-beat.C:
			if !s.server.still(s.request) {
				return
			}
			s.buffer.WriteString(": still here\n\n")
		}
	}
}

// handTo hands a value on, unless ctx ends.
func handTo[T any](ctx context.Context, to chan<- T, value T) bool {
	select {
	case to <- value:
		return true
	case <-ctx.Done():
		return false
	}
}

// flush sends what was written, and reports whether the client is still there.
func (s *stream) flush() bool {
	defer s.buffer.Reset()
	if s.buffer.Len() > 0 {
		if _, err := s.out.Write(s.buffer.Bytes()); err != nil {
			return false
		}
	}
	return s.connection.Flush() == nil
}

// event writes an event.
func (s *stream) event(name, id string, data any) {
	text, err := json.Marshal(data)
	if err != nil {
		panic(err) // all that is sent can be encoded
	}
	s.begin(name, id)
	s.buffer.Write(text)
	s.buffer.WriteString("\n\n")
}

func (s *stream) begin(name, id string) {
	s.buffer.WriteString("event: " + name + "\n")
	if id != "" {
		s.buffer.WriteString("id: " + id + "\n")
	}
	s.buffer.WriteString("data: ")
}

// tellNotices tells of what was noticed, as far as the listener may see it.
func (s *stream) tellNotices(some []store.Notice) {
	var seen []api.Notice
	for i := range some {
		if s.server.options.Watching.Sees(s.request.Context(), &some[i]) {
			seen = append(seen, watching.Describe(&some[i]))
		}
	}
	if len(seen) > 0 {
		s.event("notices", "", api.NoticesEvent{Notices: seen})
	}
}

// view sends the answer of a view, if it is not the one that the listener has.
func (s *stream) view(ctx context.Context, v *live.View) {
	var state live.State
	if v.State != nil {
		state = v.State(ctx)
		if state.All != 0 && state.All == v.Known.All {
			return
		}
		if v.Pieces != nil && state.Near != 0 && state.Near == v.Known.Near && s.later(v, answers.Lag) {
			return
		}
	}
	v.Known = state // or one that is older than the answer: then it is looked at once more
	v.Due = time.Time{}
	var wanted *wantedSquares
	if v.Squares {
		wanted = &wantedSquares{}
		ctx = context.WithValue(ctx, wantedSquaresKey{}, wanted)
	}
	answer := s.server.answerTo(ctx, s.request, v)
	if wanted != nil && wanted.done {
		s.squares(v, wanted)
		if wanted.late > 0 {
			v.Known.All = 0
			s.later(v, max(wanted.late, answers.Lag/2)) // several are done with at once
		}
		return
	}
	v.Pieces = nil
	tag := answer.header.Get("ETag")
	if answer.status == http.StatusNotModified {
		return
	}
	if tag == "" { // such as that of an error, or of a listing
		tag = tagOf(string(answer.body))
		if tag == v.Tag {
			return
		}
	}
	v.Tag = tag
	s.begin("view", "")
	name := feature.AppendText(nil, v.Name)
	etag := feature.AppendText(nil, tag)
	fmt.Fprintf(&s.buffer, `{"name":%s,"status":%d,"etag":%s,"answer":`, name, answer.status, etag)
	s.answer(answer.body)
	s.buffer.WriteString("}\n\n")
}

// later leaves what has changed further away from a view until it is due, which is after so long if it was
// not left before. It reports whether there is time for that.
func (s *stream) later(v *live.View, after time.Duration) bool {
	now := time.Now()
	if v.Due.IsZero() {
		v.Due = now.Add(after)
	}
	left := v.Due.Sub(now)
	if left > 0 {
		s.listener.LookAgain(v, left)
	}
	return left > 0
}

// answer writes JSON without line breaks: these end the data of an event.
func (s *stream) answer(body []byte) {
	const large = 16 << 10
	switch {
	case len(body) == 0:
		s.buffer.WriteString("null")
	case bytes.IndexByte(body, '\n') >= 0:
		if err := json.Compact(&s.buffer, body); err != nil {
			s.buffer.WriteString("null")
		}
	case len(body) < large:
		s.buffer.Write(body)
	default: // it is not copied; if the client has gone, the next flush says so
		_, _ = s.out.Write(s.buffer.Bytes())
		s.buffer.Reset()
		_, _ = s.out.Write(body)
	}
}

// captured is an answer that goes into an event.
type captured struct {
	header http.Header
	status int
	body   []byte
}

func (c *captured) Header() http.Header { return c.header }

func (c *captured) WriteHeader(status int) {
	if c.status == 0 {
		c.status = status
	}
}

func (c *captured) Write(p []byte) (int, error) {
	c.WriteHeader(http.StatusOK)
	c.body = append(c.body, p...)
	return len(p), nil
}

// answerTo answers a view as its listener may see it.
func (h *server) answerTo(ctx context.Context, listening *http.Request, v *live.View) *captured {
	out := &captured{header: http.Header{}}
	// The router would take what it knows of the other request for its own.
	ctx = context.WithValue(ctx, chi.RouteCtxKey, (*chi.Context)(nil))
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, v.Path, nil)
	if err != nil {
		out.status = http.StatusBadRequest
		return out
	}
	r.Host, r.TLS, r.RemoteAddr = listening.Host, listening.TLS, listening.RemoteAddr
	if v.Tag != "" {
		r.Header.Set("If-None-Match", v.Tag)
	}
	defer func() {
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler { // the listener has gone
				out.status = http.StatusNotModified
				return
			}
			panic(p)
		}
	}()
	h.routes.ServeHTTP(out, r)
	return out
}

// tell tells of changes, and reports whether the listener may still hear of its collections.
func (s *stream) tell(t live.Told) bool {
	if t.Reload {
		s.event("reload", "", struct{}{})
		return true
	}
	for i := range t.Events {
		e := &t.Events[i]
		id, there := s.server.service.NameOf(e.Collection)
		if there && !slices.Contains(s.follow.collections, id) {
			continue
		}
		// With a change to a collection itself, who may see it can be others, or it is gone.
		if e.Feature == "" && s.server.mayFollow(s.request, s.follow) != nil {
			return false
		}
		if !there {
			continue
		}
		if box := s.follow.box; box != nil && e.Now != nil && !e.Now.In(*box) {
			continue
		}
		s.event("change", strconv.FormatUint(e.Change, 10), api.ChangeEvent{
			Number: e.Change, Collection: id, Item: e.Feature, Gone: e.Feature != "" && e.Now == nil,
		})
	}
	return true
}

// partyOf returns whose a request is.
func partyOf(r *http.Request) string {
	if a := actorOf(r); a.ID != "" {
		return a.ID
	}
	return "guest/" + peerOf(r).address.String()
}

// accessChanged returns what is closed when keys, sessions or issuers change.
func (h *server) accessChanged() <-chan struct{} {
	if h.options.Access == nil {
		return nil
	}
	return h.options.Access.Changed()
}

// still reports whether who makes a request may do so as when it came.
func (h *server) still(r *http.Request) bool {
	actor := actorOf(r)
	if h.options.Access == nil || h.options.Everyone != nil {
		return true
	}
	if actor.Ticket { // which was for the beginning
		return h.options.Access.Knows(actor)
	}
	now, err := h.caller(&captured{header: http.Header{}}, r)
	return err == nil && now.ID == actor.ID && now.Role == actor.Role && reflect.DeepEqual(now.Limits, actor.Limits)
}
