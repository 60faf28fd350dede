package httpapi

import (
	"bytes"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
	"sync"

	"github.com/klauspost/compress/gzip"

	"idlebeacon/internal/answers"
)

// consolePolicy lets the console's pages load nothing but what the service has and pictures.
const consolePolicy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' https: data: blob:; " +
	"font-src 'self' data:; base-uri 'none'; form-action 'self'; object-src 'none'; frame-ancestors "

// page serves the pages of the web console, which finds out by itself which one the address
// stands for.
func (h *server) page(w http.ResponseWriter, r *http.Request) {
	const name = "index.html"
	if !isFile(h.options.Console, name) {
		writeProblem(w, http.StatusNotFound, "",
			"this build of the service has no console: it was compiled without the web part; use 'make build'")
		return
	}
	h.serveConsole(w, r, name, alwaysAsk)
}

// pageFile serves what the pages consist of.
func (h *server) pageFile(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(r.URL.Path, "/")
	if !isFile(h.options.Console, name) {
		writeProblem(w, http.StatusNotFound, "", "there is nothing at "+r.URL.Path)
		return
	}
	caching := alwaysAsk
	if strings.HasPrefix(name, "assets/") {
		caching = "public, max-age=31536000, immutable" // their names change with their content
	}
	h.serveConsole(w, r, name, caching)
}

func (h *server) serveConsole(w http.ResponseWriter, r *http.Request, name, caching string) {
	if len(h.options.FrameAncestors) == 0 {
		w.Header().Set("Content-Security-Policy", consolePolicy+"'none'")
		w.Header().Set("X-Frame-Options", "DENY")
	} else {
		w.Header().Set("Content-Security-Policy", consolePolicy+strings.Join(h.options.FrameAncestors, " "))
	}
	file, err := h.files.get(h.options.Console, name)
	if err != nil {
		h.fail(w, r, err)
		return
	}
	if err := writeCoded(w, r, file.tag, file.mediaType, caching, file.bytes, answers.Gzip); err != nil {
		h.fail(w, r, err)
	}
}

// A consoleFile is a file of the console. Compressing it as far as it goes takes long, and is done once.
// Other codings would make it hardly smaller, and their encoders take much more memory.
type consoleFile struct {
	mediaType string
	tag       string
	plain     []byte
	gzip      func() ([]byte, error)
}

// bytes returns the file as it is, or in gzip.
func (f *consoleFile) bytes(coding answers.Coding) ([]byte, error) {
	if coding == answers.Gzip {
		return f.gzip()
	}
	return f.plain, nil
}

// consoleFiles keeps the files that were asked for. There are few: those that were built in.
type consoleFiles struct {
	mu    sync.Mutex
	known map[string]func() (*consoleFile, error)
}

func (c *consoleFiles) get(files fs.FS, name string) (*consoleFile, error) {
	c.mu.Lock()
	read := c.known[name]
	if read == nil {
		read = sync.OnceValues(func() (*consoleFile, error) { return readConsoleFile(files, name) })
		if c.known == nil {
			c.known = map[string]func() (*consoleFile, error){}
		}
		c.known[name] = read
	}
	c.mu.Unlock()
	return read()
}

func readConsoleFile(files fs.FS, name string) (*consoleFile, error) {
	plain, err := fs.ReadFile(files, name)
	if err != nil {
		return nil, err
	}
	return &consoleFile{
		mediaType: mime.TypeByExtension(path.Ext(name)), tag: tagOf(string(plain)), plain: plain,
		gzip: sync.OnceValues(func() ([]byte, error) { return gzipped(plain) }),
	}, nil
}

func gzipped(plain []byte) ([]byte, error) {
	var out bytes.Buffer
	z, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := z.Write(plain); err != nil {
		return nil, err
	}
	err = z.Close()
	return out.Bytes(), err
}
