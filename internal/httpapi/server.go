package httpapi

import (
	"cmp"
	"context"
	"encoding/json"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"regexp"
	"runtime/debug"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/klauspost/compress/gzhttp"
	"go.yaml.in/yaml/v3"

	"idlebeacon/api"
	"idlebeacon/internal/answers"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/service"
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
	// Policy decides who may do what; nil for everyone everything.
	Policy Policy
	// Patience is how long a client may send or read nothing; 0 for half a minute.
	Patience time.Duration
	// Stopping ends when the service begins to stop: downloads, which may go on for long, end
	// with it. It may be nil.
	Stopping context.Context
}

type server struct {
	service  Service
	options  Options
	contract []byte // the contract as JSON
	backdrop []byte
	tag      string                            // the ETag of backdrop
	answers  *answers.Cache                    // of what is drawn
	squares  *answers.Squares[*service.Marker] // that they are put together from
	metrics  *metrics
	routes   chi.Router
	files    consoleFiles
}

// How many bytes of answers and of squares of the map are kept.
const (
	keptAnswers = 64 << 20
	keptSquares = 96 << 20
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
	h := &server{service: s, options: options, contract: contractJSON, backdrop: options.Backdrop}
	if h.options.Policy == nil {
		h.options.Policy = everyone
	}
	if h.backdrop == nil {
		h.backdrop = []byte(`{"type":"FeatureCollection","features":[]}`)
	}
	h.tag = tagOf(string(h.backdrop))
	if h.answers, err = answers.New(keptAnswers); err != nil {
		return nil, err
	}
	h.squares = answers.NewSquares[*service.Marker](keptSquares)
	h.metrics = newMetrics(h)
	h.routes = h.Routes()

	compress, err := gzhttp.NewWrapper(gzhttp.MinSize(512), gzhttp.SuffixETag(compressedSuffix)) // gzip and zstd
	if err != nil {
		return nil, err
	}
	sameOrigin := http.NewCrossOriginProtection()
	sameOrigin.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, http.StatusForbidden, "", "a page of another site may not change data here")
	}))
	compressed := func(next http.Handler) http.Handler { return compress(next) }
	patience := paced(cmp.Or(options.Patience, usualPatience))
	chain := chi.Chain(h.logged, patience, h.recovered, careful, loopbackHosts, wellFormed, sameOrigin.Handler,
		unpacked, compressed)
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
	// About the service itself: no data.
	r.Get("/healthz", h.bare(h.health))
	r.Get("/readyz", h.bare(h.ready))
	r.Get("/metrics", h.serveMetrics)
	r.Get("/api", h.handle(h.landingPage))
	r.Get("/api/conformance", h.bare(h.conformance))
	r.Get("/api/openapi.json", h.bare(h.openAPI))
	h.seeing(h.needing(r, ToSee))
	h.changing(h.needing(r, ToChange))
	h.managing(h.needing(r, ToManage))
	h.pages(r)
	return r
}

// one is the path of a collection. Each route has its whole path: what a path allows is then
// known of it.
const one = "/api/collections/{collection}"

// seeing are the routes that show data.
func (h *server) seeing(r chi.Router) {
	r.Get("/api/backdrop", h.bare(h.getBackdrop))
	r.Get("/api/icons", h.handle(h.listIcons))
	r.Get("/api/icons/{icon}", h.bare(h.getIcon))
	r.Get("/api/icon-sheet", h.handle(h.iconSheet))
	r.Get("/api/markers", h.handle(h.allMarkers))
	r.Get("/api/members", h.handle(h.allMembers))
	r.Get("/api/shapes", h.handle(h.allShapes))
	r.Get("/api/collections", h.handle(h.listCollections))
	r.Get(one, h.handle(h.getCollection))
	r.Get(one+"/items", h.handle(h.listItems))
	r.Get(one+"/items/{item}", h.handle(h.getItem))
	h.drawn(r, one+"/items/{item}/popup", h.getPopup)
	h.drawn(r, one+"/markers", h.markers)
	h.drawn(r, one+"/density", h.density)
	r.Get(one+"/members", h.handle(h.members))
	h.drawn(r, one+"/shapes", h.shapes)
	r.Get(one+"/categories", h.handle(h.categories))
	r.Get(one+"/style", h.handle(h.getStyle))
	h.drawn(r, one+"/legend", h.legend)
	r.Get(one+"/near", h.handle(h.near))
	r.Get(one+"/export", h.download(h.exportFile))
}

// changing are the routes that change items.
func (h *server) changing(r chi.Router) {
	r.Post(one+"/items", h.stream(h.alone(h.createItem)))
	r.Delete(one+"/items/{item}", h.bare(h.deleteItem))
}

// managing are the routes that change what collections are like, and bring files.
func (h *server) managing(r chi.Router) {
	r.Post("/api/collections", h.bare(h.createCollection))
	r.Patch(one, h.bare(h.updateCollection))
	r.Delete(one, h.bare(h.deleteCollection))
	r.Put(one+"/style", h.stream(h.alone(h.putStyle)))
	r.Delete(one+"/style", h.bare(h.deleteStyle))
	r.Put("/api/icons/{icon}", h.stream(h.alone(h.putIcon)))
	r.Delete("/api/icons/{icon}", h.bare(h.deleteIcon))
	r.Post("/api/inspect", h.stream(h.inspectFile))
	r.Post(one+"/import", h.stream(h.importFile))
	r.Get("/api/imports", h.handle(h.listImports))
	r.Get("/api/imports/{import}", h.handle(h.getImport))
	r.Delete("/api/imports/{import}", h.bare(h.dismissImport))
	r.Get("/api/imports/{import}/rejected", h.download(h.rejectedRows))
}

// pages are the routes of the web console, and of the pictures that popups show.
func (h *server) pages(r chi.Router) {
	if h.options.Console != nil {
		r.Get("/", h.page)
		r.Get("/data", h.page)
		r.Get("/data/*", h.page)
		r.Get("/assets/*", h.pageFile)
		r.Get("/favicon.svg", h.pageFile)
	}
	if h.options.Pictures != nil {
		h.needing(r, ToSee).Get("/pictures/{picture}", h.picture)
	}
}

// drawn serves what depends on a style: GET answers in the collection's own, POST in the one
// of its body, to try it.
func (h *server) drawn(r chi.Router, path string, answer func(w http.ResponseWriter, r *http.Request,
	draft string) error) {
	r.Get(path, h.handle(func(w http.ResponseWriter, r *http.Request) error { return answer(w, r, "") }))
	r.Post(path, h.handle(func(w http.ResponseWriter, r *http.Request) error {
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
		ctx, cancel := context.WithTimeout(r.Context(), answerTimeout)
		defer cancel()
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
		ended := context.AfterFunc(h.options.Stopping, func() {
			cancel(fault.ErrClosing)
			// A client that does not read is not waited for.
			_ = http.NewResponseController(w).SetWriteDeadline(time.Now())
		})
		defer ended()
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
				r.RemoteAddr,
			)
			if problem != nil {
				panic(problem)
			}
		}()
		next.ServeHTTP(ww, r.WithContext(context.WithValue(r.Context(), chi.RouteCtxKey, route)))
	})
}

// secrets are the parameters whose values are not written to the log.
var secrets = regexp.MustCompile(`(?i)(^|&)([^=&]*(?:key|token|secret|password|signature)[^=&]*)=[^&]*`)

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

// loopbackHosts refuses requests that came to this machine by another name than
// its own: without access keys, a page anywhere could otherwise have its own name
// point here and read all data.
func loopbackHosts(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		if !IsLoopback(host) {
			writeProblem(
				w,
				http.StatusForbidden,
				"",
				"this service answers only to localhost and loopback addresses, not to "+host,
			)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// IsLoopback reports whether host, a name or an address, is this machine's own.
func IsLoopback(host string) bool {
	host = strings.Trim(host, "[]")
	if strings.EqualFold(host, "localhost") {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// careful sets what every answer has: browsers take it for what it says it is, and tell
// nobody where their users came from.
func careful(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Referrer-Policy", "no-referrer")
		next.ServeHTTP(w, r)
	})
}
