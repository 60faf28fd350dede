package httpapi

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"regexp"
	"runtime/debug"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/klauspost/compress/gzhttp"
	"go.yaml.in/yaml/v3"

	"idlebeacon/api"
	"idlebeacon/internal/access"
	"idlebeacon/internal/answers"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/hooks"
	"idlebeacon/internal/service"
	"idlebeacon/internal/watching"
)

// Options are what a Server needs beside the service.
type Options struct {
	Version   string
	Console   fs.FS  // the built web console
	Pictures  fs.FS  // pictures that popups may show, or nil
	Backdrop  []byte // GeoJSON land outlines drawn below the markers, or nil
	Log       *slog.Logger
	AccessLog bool // writes a line for each request
	// BaseURL is where clients reach the service, "" for where their requests go to. Links
	// begin with it.
	BaseURL string
	// Access knows who callers are.
	Access *access.Register
	// Everyone is who all callers are, in measurements and tests: then nobody is asked. It is nil
	// otherwise.
	Everyone *policy.Actor
	// Network is how callers reach the service.
	Network
	// Fleet has the devices; without it there are none.
	Fleet *fleet.Fleet
	// Watching has the watches, and Hooks who is told of what they notice; without them there are none.
	Watching *watching.Watching
	Hooks    *hooks.Hooks
	// Patience is how long a client may send or read nothing; 0 for half a minute.
	Patience time.Duration
	// Stopping ends when the service begins to stop: downloads, which may go on for long, end
	// with it. It may be nil.
	Stopping context.Context
}

// A Network says how callers reach the service.
type Network struct {
	Hosts           []string       // names in small letters that it answers to beside this machine's own and BaseURL's
	TrustedProxies  []netip.Prefix // those whose word counts on where requests come from
	FrameAncestors  []string       // origins of the pages that may show the console in a frame; none for nobody
	GuestsPerMinute int            // the most requests of guests from one address; 0 for any number
}

type server struct {
	service  Service
	options  Options
	contract []byte // the contract as JSON
	backdrop []byte
	tag      string                            // the ETag of backdrop
	answers  *answers.Cache                    // of what is drawn
	squares  *answers.Squares[*service.Marker] // that they are put together from
	// deviceSquares are those of devices.
	deviceSquares *answers.Squares[*fleet.Marker]
	metrics       *metrics
	routes        chi.Router
	files         consoleFiles
	rates         *rates
	hosts         []string // that it answers to
}

// How many bytes of answers and of squares of the map are kept.
const (
	keptAnswers = 64 << 20
	keptSquares = 96 << 20
	// keptDeviceSquares is for squares of devices, which are of use for a moment only.
	keptDeviceSquares = 16 << 20
)

// New returns the handler of all routes.
func New(s Service, options Options) (http.Handler, error) {
	var contract any
	if err := yaml.Unmarshal(api.OpenAPI, &contract); err != nil {
		return nil, err
	}
	contractJSON, err := json.Marshal(contract)
	if err != nil {
		return nil, err
	}
	h := &server{
		service:  s,
		options:  options,
		contract: contractJSON,
		backdrop: options.Backdrop,
		hosts:    hostsOf(&options),
	}
	if options.Access == nil && options.Everyone == nil {
		return nil, errors.New("httpapi: nobody knows who callers are")
	}
	if h.rates, err = newRates(options.GuestsPerMinute); err != nil {
		return nil, err
	}
	if h.backdrop == nil {
		h.backdrop = []byte(`{"type":"FeatureCollection","features":[]}`)
	}
	h.tag = tagOf(string(h.backdrop))
	if h.answers, err = answers.New(keptAnswers); err != nil {
		return nil, err
	}
	h.squares = answers.NewSquares[*service.Marker](keptSquares)
	h.deviceSquares = answers.NewSquares[*fleet.Marker](keptDeviceSquares)
	h.metrics = newMetrics(h)
	h.routes = h.Routes()

	compress, err := gzhttp.NewWrapper(gzhttp.MinSize(512), gzhttp.SuffixETag(compressedSuffix)) // gzip and zstd
	if err != nil {
		return nil, err
	}
	compressed := func(next http.Handler) http.Handler { return compress(next) }
	patience := paced(cmp.Or(options.Patience, usualPatience))
	chain := chi.Chain(h.logged, patience, h.recovered, h.reached, careful, h.knownHosts, wellFormed, h.shared,
		h.identified, h.sameSite, unpacked, compressed)
	return chain.Handler(h.routes), nil
}

// Routes returns the routes alone.
func (h *server) Routes() chi.Router {
	r := chi.NewRouter()
	router := r
	r.Use(options(r), middleware.GetHead)
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, http.StatusNotFound, "", "there is nothing at "+r.URL.Path+"; /api lists what there is")
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		allow := allowed(router, r.URL.EscapedPath())
		w.Header().Set("Allow", allow)
		writeProblem(w, http.StatusMethodNotAllowed, "", r.Method+" is not possible on "+r.URL.Path+", only "+allow)
	})
	g := guarded{r, h}
	h.itself(g)
	h.seeing(g)
	h.changing(g)
	h.managing(g)
	h.admitting(g)
	h.following(g)
	h.watches(g)
	h.hooking(g)
	h.pages(g)
	return r
}

// one is the path of a collection. Each route has its whole path: what a path allows is then
// known of it.
const one = "/api/collections/{collection}"

// itself are the routes about the service itself: no data.
func (h *server) itself(g guarded) {
	g.get("/healthz", h.bare(h.health))
	g.get("/readyz", h.bare(h.ready))
	g.get("/metrics", h.serveMetrics)
	g.get("/api", h.handle(h.landingPage))
	g.get("/api/conformance", h.bare(h.conformance))
	g.get("/api/openapi.json", h.bare(h.openAPI))
}

// seeing are the routes that show data.
func (h *server) seeing(g guarded) {
	g.get("/api/backdrop", h.bare(h.getBackdrop))
	g.get("/api/icons", h.handle(h.listIcons))
	g.get("/api/icons/{icon}", h.bare(h.getIcon))
	g.get("/api/icon-sheet", h.handle(h.iconSheet))
	g.get("/api/markers", h.handle(h.allMarkers))
	g.get("/api/members", h.handle(h.allMembers))
	g.get("/api/shapes", h.handle(h.allShapes))
	g.get("/api/collections", h.handle(h.listCollections))
	g.get(one, h.handle(h.getCollection))
	g.get(one+"/items", h.handle(h.listItems))
	g.get(one+"/items/{item}", h.handle(h.getItem))
	g.get("/api/live", h.download(h.listen))
	g.put("/api/live/{listener}", h.bare(h.lookAt))
	g.get("/api/changes", h.handle(h.listChanges))
	g.get(one+"/changes", h.handle(h.collectionChanges))
	g.get(one+"/items/{item}/history", h.handle(h.itemHistory))
	h.drawn(g, one+"/items/{item}/popup", h.getPopup)
	h.drawn(g, one+"/markers", h.markers)
	h.drawn(g, one+"/density", h.density)
	g.get(one+"/members", h.handle(h.members))
	h.drawn(g, one+"/shapes", h.shapes)
	g.get(one+"/categories", h.handle(h.categories))
	g.get(one+"/style", h.handle(h.getStyle))
	h.drawn(g, one+"/legend", h.legend)
	g.get(one+"/schema", h.handle(h.getSchema))
	g.get(one+"/near", h.handle(h.near))
	g.get(one+"/export", h.download(h.exportFile))
}

// changing are the routes that change items.
func (h *server) changing(g guarded) {
	g.post(one+"/items", h.stream(h.alone(h.createItem)))
	g.put(one+"/items/{item}", h.stream(h.alone(h.putItem)))
	g.patch(one+"/items/{item}", h.stream(h.alone(h.patchItem)))
	g.delete(one+"/items/{item}", h.bare(h.deleteItem))
	g.post(one+"/changes", h.stream(h.alone(h.changeItems)))
	g.post("/api/changes/{change}/undo", h.bare(h.undoChange))
	g.post(one+"/changes/undo", h.bare(h.undoChanges))
	g.post(one+"/pictures", h.stream(h.alone(h.addPicture)))
	g.get(one+"/pictures/{picture}", h.handle(h.getPicture))
	g.delete(one+"/pictures/{picture}", h.bare(h.deletePicture))
	g.get(one+"/suggestions", h.handle(h.listSuggestions))
	g.post(one+"/suggestions", h.handle(h.suggest))
	g.get(one+"/suggestions/{suggestion}", h.handle(h.getSuggestion))
	g.put(one+"/suggestions/{suggestion}", h.handle(h.changeSuggestion))
	g.delete(one+"/suggestions/{suggestion}", h.handle(h.withdrawSuggestion))
	g.post(one+"/suggestions/{suggestion}/accept", h.bare(h.acceptSuggestion))
	g.post(one+"/suggestions/{suggestion}/decline", h.bare(h.declineSuggestion))
}

// managing are the routes that change what collections are like, and bring files.
func (h *server) managing(g guarded) {
	g.post("/api/collections", h.bare(h.createCollection))
	g.patch(one, h.bare(h.updateCollection))
	g.delete(one, h.bare(h.deleteCollection))
	g.get("/api/deleted", h.handle(h.listDeleted))
	g.post("/api/deleted/{change}/restore", h.bare(h.restoreDeleted))
	g.delete("/api/deleted/{change}", h.bare(h.purgeDeleted))
	g.put(one+"/style", h.stream(h.alone(h.putStyle)))
	g.delete(one+"/style", h.bare(h.deleteStyle))
	g.put(one+"/schema", h.stream(h.alone(h.putSchema)))
	g.delete(one+"/schema", h.bare(h.deleteSchema))
	g.post(one+"/schema/check", h.stream(h.alone(h.checkSchema)))
	g.put("/api/icons/{icon}", h.stream(h.alone(h.putIcon)))
	g.delete("/api/icons/{icon}", h.bare(h.deleteIcon))
	g.post("/api/inspect", h.stream(h.inspectFile))
	g.post(one+"/import", h.stream(h.importFile))
	g.get("/api/imports", h.handle(h.listImports))
	g.get("/api/imports/{import}", h.handle(h.getImport))
	g.delete("/api/imports/{import}", h.bare(h.dismissImport))
	g.get("/api/imports/{import}/rejected", h.download(h.rejectedRows))
}

// admitting are the routes about who may do what.
func (h *server) admitting(g guarded) {
	if h.options.Access == nil {
		return
	}
	g.get("/api/session", h.bare(h.getSession))
	g.post("/api/session", h.bare(h.signIn))
	g.delete("/api/session", h.handle(h.signOut))
	g.post("/api/session/codes", h.bare(h.makeCode))
	g.post("/api/tickets", h.bare(h.makeTicket))
	g.get("/sign-in/{issuer}", h.handle(h.leadToIssuer))
	g.get("/sign-in/{issuer}/back", h.handle(h.backFromIssuer))
	g.get("/api/keys", h.handle(h.listKeys))
	g.post("/api/keys", h.handle(h.makeKey))
	g.get("/api/keys/{key}", h.bare(h.getKey))
	g.patch("/api/keys/{key}", h.bare(h.changeKey))
	g.delete("/api/keys/{key}", h.bare(h.revokeKey))
	g.get("/api/issuers", h.bare(h.listIssuers))
	g.post("/api/issuers", h.bare(h.addIssuer))
	g.post("/api/issuers/check", h.bare(h.tryIssuer))
	g.get("/api/issuers/{issuer}", h.bare(h.getIssuer))
	g.put("/api/issuers/{issuer}", h.bare(h.changeIssuer))
	g.delete("/api/issuers/{issuer}", h.bare(h.deleteIssuer))
}

// pages are the routes of the web console, and of the pictures that popups show.
func (h *server) pages(g guarded) {
	if h.options.Console != nil {
		for _, page := range []string{"/", "/data", "/data/*", "/access", "/changes", "/devices", "/suggestions/*"} {
			g.get(page, h.page)
		}
		g.get("/assets/*", h.pageFile)
		g.get("/favicon.svg", h.pageFile)
	}
	if h.options.Pictures != nil {
		g.get("/pictures/{picture}", h.picture)
	}
}

// drawn serves what depends on a style: GET answers in the collection's own, POST in the one
// of its body, to try it.
func (h *server) drawn(g guarded, path string, answer func(w http.ResponseWriter, r *http.Request,
	draft string) error) {
	g.get(path, h.handle(func(w http.ResponseWriter, r *http.Request) error { return answer(w, r, "") }))
	g.post(path, h.handle(func(w http.ResponseWriter, r *http.Request) error {
		draft, release, err := h.styleBody(w, r)
		if err != nil {
			return err
		}
		defer release()
		return answer(w, r, string(draft))
	}))
}

// picture serves a picture. An SVG picture may not run anything.
func (h *server) picture(w http.ResponseWriter, r *http.Request) {
	name := chi.URLParam(r, "picture")
	if !isFile(h.options.Pictures, name) {
		writeProblem(w, http.StatusNotFound, "", "there is no picture "+name)
		return
	}
	w.Header().Set("Cache-Control", "public, max-age=3600")
	pictureHeaders(w)
	http.ServeFileFS(w, r, h.options.Pictures, name)
}

func isFile(files fs.FS, name string) bool {
	info, err := fs.Stat(files, name)
	return err == nil && info.Mode().IsRegular()
}

// A handler answers a request or returns what is wrong.
type handler func(w http.ResponseWriter, r *http.Request) error

// answerTimeout is how long an answer may take to be worked out, if what it is about has
// no size of its own.
const answerTimeout = 30 * time.Second

// handle answers with f, within answerTimeout.
func (h *server) handle(f handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		ctx, end := withDeadline(r.Context(), answerTimeout)
		defer end()
		if err := f(w, r.WithContext(ctx)); err != nil {
			h.fail(w, r, err)
		}
	}
}

// stream is handle for what takes as long as what the client sends, or is sent, is large.
func (h *server) stream(f handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if err := f(w, r); err != nil {
			h.fail(w, r, err)
		}
	}
}

// download is stream for what only goes out, as long as the service does not stop.
func (h *server) download(f handler) http.HandlerFunc {
	if h.options.Stopping == nil {
		return h.stream(f)
	}
	return h.stream(func(w http.ResponseWriter, r *http.Request) error {
		ctx, cancel := context.WithCancelCause(r.Context())
		defer cancel(nil)
		cutOff := make(chan struct{})
		goesOn := context.AfterFunc(h.options.Stopping, func() {
			defer close(cutOff)
			cancel(fault.ErrClosing)
			// A client that does not read is not waited for.
			_ = http.NewResponseController(w).SetWriteDeadline(time.Now())
		})
		defer func() {
			if !goesOn() { // w is not to be used once this has returned
				<-cutOff
			}
		}()
		return f(w, r.WithContext(ctx))
	})
}

// logged counts each request, and writes a line for it if that is wanted.
func (h *server) logged(next http.Handler) http.Handler {
	level := slog.LevelDebug
	if h.options.AccessLog {
		level = slog.LevelInfo
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		started := time.Now()
		by := &caller{}
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		route := chi.NewRouteContext() // is filled in by the router
		route.Routes = h.routes
		defer func() {
			status, took := ww.Status(), time.Since(started)
			problem := recover()
			if problem != nil { // the connection is cut off
				status = 0
			}
			h.metrics.note(r.Method, route.RoutePattern(), status, took)
			h.options.Log.Log(
				r.Context(),
				level,
				"request",
				"method",
				r.Method,
				"path",
				r.URL.Path,
				"query",
				loggedQuery(r.URL.RawQuery),
				"status",
				status,
				"bytes",
				ww.BytesWritten(),
				"took",
				took,
				"from",
				by.from(r),
				"by",
				by.actor,
			)
			if problem != nil {
				panic(problem)
			}
		}()
		ctx := context.WithValue(context.WithValue(r.Context(), chi.RouteCtxKey, route), callerKey{}, by)
		next.ServeHTTP(ww, r.WithContext(ctx))
	})
}

// A caller is what is found out on the way about who makes a request.
type caller struct {
	peer  peer
	actor string // its id
}

type callerKey struct{}

// callerOf returns what is known so far of who makes a request.
func callerOf(r *http.Request) *caller {
	if by, _ := r.Context().Value(callerKey{}).(*caller); by != nil {
		return by
	}
	return &caller{} // nobody has begun to find out
}

// from returns where a request comes from, for the log.
func (c *caller) from(r *http.Request) string {
	if c.peer.address.IsValid() {
		return c.peer.address.String()
	}
	return r.RemoteAddr
}

// secrets are the parameters whose values are not written to the log.
var secrets = regexp.MustCompile(
	`(?i)(^|&)([^=&]*(?:key|token|ticket|secret|password|signature|code|state)[^=&]*)=[^&]*`,
)

// A loggedQuery is a query, written to a log with what is nobody else's business left out.
type loggedQuery string

// LogValue implements slog.LogValuer: the work is only done if the line is written.
func (q loggedQuery) LogValue() slog.Value {
	return slog.StringValue(secrets.ReplaceAllString(string(q), "$1$2=..."))
}

// wellFormed refuses requests whose address has what is no text.
func wellFormed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := wellformed.Text(r.URL.Path); err != nil {
			writeProblem(w, http.StatusBadRequest, "path", "the path "+err.Error())
			return
		}
		next.ServeHTTP(w, r)
	})
}

// recovered turns a panic in a handler into a problem and a log entry.
func (h *server) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if p := recover(); p != nil {
				if p == http.ErrAbortHandler {
					panic(p)
				}
				h.options.Log.Error("panic", "path", r.URL.Path, "panic", p, "stack", string(debug.Stack()))
				writeProblem(w, http.StatusInternalServerError, "", "the service has a fault; its log has more")
			}
		}()
		next.ServeHTTP(w, r)
	})
}
