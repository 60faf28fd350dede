// Package daemon runs the whole service: the database, a private one or the
// operator's own; the collections in memory; and the HTTP interface. It starts
// them in that order and stops them in the opposite one.
package daemon

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"idlebeacon/internal/access"
	"idlebeacon/internal/admission"
	"idlebeacon/internal/bus"
	"idlebeacon/internal/core/loopback"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/hooks"
	"idlebeacon/internal/httpapi"
	"idlebeacon/internal/mqtt"
	"idlebeacon/internal/pgbox"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
	"idlebeacon/internal/watching"
)

// A Config says what to run and where.
type Config struct {
	Listen      string // host:port; port 0 takes a free one
	DSN         string // PostgreSQL connection string; "" for a private database in Data
	Schema      string // of the tables, made if it is not there; "" for the first of the search path
	Connections int    // the most to the database
	Data        string // directory of the private database and of the owner key
	Backdrop    string // file with GeoJSON land outlines, or ""
	Version     string
	BaseURL     string // where clients reach the service, "" for where their requests go to
	Console     fs.FS
	Pictures    fs.FS         // served below /pictures/, or nil
	AccessLog   bool          // writes a line for each request
	StopTimeout time.Duration // how long a stop may take, the database's included; 0 for DefaultStopTimeout
	WorkMemory  int           // MiB that dear work may take together; 0 for the usual
	KeepHistory time.Duration // how long changes are kept; 0 for good
	KeepDeleted time.Duration // how long deleted collections can be brought back; 0 for the usual
	// KeepPositions is how long positions of devices are kept if their group does not say; 0 for the usual, less
	// for good.
	KeepPositions time.Duration
	Bus           string // URL of a NATS server that reaches the other processes on the database; "" for none
	MQTT          string // host:port to take positions on over MQTT; "" for not at all
	HooksPrivate  bool   // hooks may be at addresses that are not on the public Internet
	Certificate   string // file with a certificate and those that lead to it, in PEM; "" for no TLS
	PrivateKey    string // file with its key
	httpapi.Network
}

// DefaultKeepDeleted is how long deleted collections can be brought back.
const DefaultKeepDeleted = service.DefaultKeepDeleted

// DefaultKeepPositions is how long positions of devices are kept.
const DefaultKeepPositions = fleet.DefaultKeepPositions

// DefaultStopTimeout is how long a stop may usually take.
const DefaultStopTimeout = 25 * time.Second

// A Daemon is a running service. While it starts it answers that it does.
type Daemon struct {
	log         *slog.Logger
	listener    net.Listener
	server      *http.Server
	served      chan error // the end of server
	service     *service.Service
	fleet       *fleet.Fleet
	watching    *watching.Watching
	hooks       *hooks.Hooks
	bus         bus.Bus
	mqtt        *mqtt.Door // nil if positions are not taken over MQTT
	access      *access.Register
	store       *store.Store
	certificate *certificate       // nil without TLS
	address     string             // the file that says where the service answers; "" before it is written
	box         *pgbox.Server      // nil with a database of the operator's own
	lock        *os.File           // nil likewise
	stopping    context.CancelFunc // ends downloads; nil likewise
	keeping     func()             // ends keepDatabase, and waits for it; nil likewise

	stopTimeout time.Duration
}

const (
	readHeaderTimeout = 10 * time.Second
	idleTimeout       = 2 * time.Minute
	logProgressEvery  = 5 * time.Second
)

// Start starts the service and returns when it answers requests.
func Start(ctx context.Context, config Config, log *slog.Logger) (*Daemon, error) {
	d := &Daemon{log: log, served: make(chan error, 1), stopTimeout: cmp.Or(config.StopTimeout, DefaultStopTimeout)}
	if err := d.start(ctx, config); err != nil {
		return nil, errors.Join(err, d.Stop())
	}
	return d, nil
}

func (d *Daemon) start(ctx context.Context, config Config) (err error) {
	if d.listener, err = listen(ctx, config.Listen); err != nil {
		return err
	}
	if host, _, err := net.SplitHostPort(config.Listen); err == nil && !loopback.Is(host) &&
		config.Certificate == "" && len(config.TrustedProxies) == 0 {
		d.log.Warn("others on the network can read keys on their way: use --tls-certificate and --tls-key, or a proxy " +
			"that does TLS and is named with --trusted-proxies")
	}
	if config.Certificate != "" {
		if d.certificate, err = openCertificate(config.Certificate, config.PrivateKey, d.log); err != nil {
			return err
		}
	}
	var gate httpapi.Gate
	d.server = &http.Server{
		Handler: &gate, ReadHeaderTimeout: readHeaderTimeout, IdleTimeout: idleTimeout,
		ErrorLog: slog.NewLogLogger(d.log.Handler(), slog.LevelWarn),
	}
	if d.certificate != nil {
		d.server.TLSConfig = d.tls()
		go func() { d.served <- d.server.ServeTLS(d.listener, "", "") }()
	} else {
		go func() { d.served <- d.server.Serve(d.listener) }()
	}
	var backdrop []byte
	if config.Backdrop != "" {
		if backdrop, err = os.ReadFile(config.Backdrop); err != nil {
			return fmt.Errorf("reading the backdrop: %w", err)
		}
	}
	dsn, place := config.DSN, ""
	if dsn == "" {
		if d.lock, err = lockDirectory(config.Data); err != nil {
			return err
		}
		if d.box, err = pgbox.Start(ctx, filepath.Join(config.Data, "pg"), d.log, gate.Progress); err != nil {
			return err
		}
		dsn, place = d.box.DSN(), d.box.Place()
	}
	if d.store, err = store.Open(ctx, store.Options{DSN: dsn, Schema: config.Schema,
		Connections: config.Connections, Place: place, Log: d.log}); err != nil {
		return err
	}
	options := service.Options{
		Log:         d.log,
		Progress:    d.progress(&gate),
		Work:        admission.Limits{Bytes: int64(config.WorkMemory) << 20},
		KeepHistory: config.KeepHistory,
		KeepDeleted: config.KeepDeleted,
	}
	if d.box != nil {
		options.Room = d.box.Free
	}
	if d.service, err = service.Open(ctx, d.store, options); err != nil {
		return err
	}
	if d.box != nil {
		d.keeping = d.keepDatabase()
	}
	if d.bus, err = bus.Open(config.Bus, d.log); err != nil {
		return err
	}
	devices := fleet.Options{Log: d.log, KeepPositions: config.KeepPositions, Touched: d.service.Live().Move}
	if config.Bus != "" {
		devices.Bus = d.bus
	}
	if d.fleet, err = fleet.Open(ctx, d.store, devices); err != nil {
		return err
	}
	d.watching, err = watching.Open(ctx, d.store, watching.Options{Fleet: d.fleet, Items: d.service, Log: d.log})
	if err != nil {
		return err
	}
	d.hooks = hooks.Open(d.store, hooks.Options{
		Watching: d.watching, Log: d.log, Private: config.HooksPrivate, Agent: "idlebeacon/" + config.Version,
	})
	if err := firstOwner(ctx, d.store, config.Data, d.log); err != nil {
		return err
	}
	if d.access, err = access.Open(ctx, d.store, access.Options{Log: d.log}); err != nil {
		return err
	}
	stopping, stop := context.WithCancel(context.Background())
	d.stopping = stop
	handler, err := httpapi.New(d.service, httpapi.Options{
		Stopping: stopping,
		Version:  config.Version, Console: config.Console, Pictures: config.Pictures, Backdrop: backdrop, Log: d.log,
		AccessLog: config.AccessLog,
		BaseURL:   config.BaseURL,
		Access:    d.access,
		Fleet:     d.fleet,
		Watching:  d.watching,
		Hooks:     d.hooks,
		Network:   config.Network,
	})
	if err != nil {
		return err
	}
	if config.MQTT != "" {
		options := mqtt.Options{Listen: config.MQTT, Who: d.access, Fleet: d.fleet, Log: d.log}
		if d.certificate != nil {
			options.TLS = d.tls()
		}
		if d.mqtt, err = mqtt.Open(options); err != nil {
			return err
		}
		d.log.Info("taking positions over MQTT", "address", d.mqtt.Address(), "tls", options.TLS != nil)
	}
	gate.Open(handler)
	d.noteAddress(config.Data)
	d.log.Info("serving", "url", d.URL())
	return nil
}

// tls returns how connections are encrypted.
func (d *Daemon) tls() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: d.certificate.get}
}

// keepDatabase starts the private database again whenever it ends by itself, until stop is
// called. Meanwhile what is in memory is served.
func (d *Daemon) keepDatabase() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		const firstPause, longestPause = time.Second, 30 * time.Second
		pause := firstPause
		for {
			select {
			case <-ctx.Done():
				return
			case <-d.box.Exited():
			}
			d.log.Error(
				"the database ended, and is started again; its log is pg.log in the data directory. Nothing that was " +
					"acknowledged is lost",
			)
			if err := d.box.Restart(ctx); err == nil {
				d.log.Info("the database runs again")
				pause = firstPause
				continue
			} else if ctx.Err() == nil {
				d.log.Error("the database does not start", "error", err, "next_try_in", pause)
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(pause):
				pause = min(2*pause, longestPause)
			}
		}
	}()
	return func() { cancel(); <-ended }
}

// progress returns a function that shows clients how many places are loaded, and
// the log now and then.
func (d *Daemon) progress(gate *httpapi.Gate) func(places int) {
	var mu sync.Mutex
	logged, most := time.Now(), 0
	return func(places int) {
		mu.Lock()
		defer mu.Unlock()
		if places < most {
			return // told late
		}
		most = places
		gate.Progress(fmt.Sprintf("%d places loaded so far", places))
		if time.Since(logged) > logProgressEvery {
			logged = time.Now()
			d.log.Info("loading", "places", places)
		}
	}
}

// listen opens the port.
func listen(ctx context.Context, address string) (net.Listener, error) {
	if _, _, err := net.SplitHostPort(address); err != nil {
		return nil, fmt.Errorf("%q is not an address to listen on: want host:port, such as 127.0.0.1:8470", address)
	}
	var config net.ListenConfig
	listener, err := config.Listen(ctx, "tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf(
			"another program, maybe another Idle Beacon, already listens on %s: stop it, or choose another port with "+
				"--listen",
			address,
		)
	}
	if err != nil {
		return nil, fmt.Errorf("listening on %s: %w", address, err)
	}
	return listener, nil
}

// lockFile has the process that uses a data directory.
const lockFile = "lock"

// lockDirectory makes a data directory and keeps other services out of it until
// the file is closed, or this process ends however it ends.
func lockDirectory(dir string) (*os.File, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("making the data directory: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(dir, lockFile), os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return nil, fmt.Errorf("locking the data directory: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		owner, _ := os.ReadFile(f.Name())
		f.Close()
		return nil, fmt.Errorf(
			"another Idle Beacon (process %s) uses the data directory %s: stop it, or use another directory with "+
				"--data",
			strings.TrimSpace(string(owner)),
			dir,
		)
	}
	if err := errors.Join(f.Truncate(0), writeAt(f, fmt.Sprintln(os.Getpid()))); err != nil {
		f.Close()
		return nil, fmt.Errorf("locking the data directory: %w", err)
	}
	return f, nil
}

func writeAt(f *os.File, text string) error {
	_, err := f.WriteAt([]byte(text), 0)
	return err
}

// MQTT returns where positions are taken over MQTT, "" if they are not.
func (d *Daemon) MQTT() string {
	if d.mqtt == nil {
		return ""
	}
	return d.mqtt.Address()
}

// URL returns where the service answers on this machine.
func (d *Daemon) URL() string {
	scheme, address := "http", d.listener.Addr().String()
	if d.certificate != nil {
		scheme = "https"
	}
	if host, port, err := net.SplitHostPort(address); err == nil {
		if ip := net.ParseIP(host); ip != nil && ip.IsUnspecified() {
			address = net.JoinHostPort("127.0.0.1", port)
		}
	}
	return scheme + "://" + address
}

// Wait returns when ctx ends, or with an error when the service cannot go on.
func (d *Daemon) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-d.served:
		d.served <- err // for Stop
		return fmt.Errorf("the HTTP server ended: %w", err)
	}
}

// Stop lets running requests finish, for a while, and stops everything. All of it takes the
// time that the configuration allows, and a moment.
func (d *Daemon) Stop() error {
	var errs []error
	ctx, cancel := context.WithTimeout(context.Background(), d.stopTimeout)
	defer cancel()
	if d.stopping != nil {
		d.stopping()
	}
	if d.server != nil {
		// What is left of the time is for the edits in the queue, and for the database.
		draining, cancel := context.WithTimeout(ctx, d.stopTimeout/2)
		defer cancel()
		if err := d.server.Shutdown(draining); err != nil {
			d.log.Warn("requests were cut off", "error", err)
			errs = append(errs, d.server.Close())
		}
		if err := <-d.served; !errors.Is(err, http.ErrServerClosed) {
			errs = append(errs, err)
		}
	} else if d.listener != nil {
		errs = append(errs, d.listener.Close())
	}
	if d.address != "" {
		errs = append(errs, os.Remove(d.address))
	}
	if d.mqtt != nil {
		errs = append(errs, d.mqtt.Close())
	}
	if d.access != nil {
		d.access.Shutdown(ctx)
	}
	if d.certificate != nil {
		d.certificate.close()
	}
	if d.hooks != nil {
		d.hooks.Shutdown()
	}
	if d.watching != nil {
		d.watching.Shutdown(ctx)
	}
	if d.fleet != nil {
		writing, cancel := context.WithTimeout(ctx, d.stopTimeout/4)
		defer cancel()
		d.fleet.Shutdown(writing)
	}
	if d.bus != nil {
		d.bus.Close()
	}
	if d.service != nil {
		writing, cancel := context.WithTimeout(ctx, d.stopTimeout/4)
		defer cancel()
		d.service.Shutdown(writing)
	}
	if d.keeping != nil {
		d.keeping()
	}
	if d.store != nil {
		errs = append(errs, d.store.Close())
	}
	if d.box != nil {
		errs = append(errs, d.box.Stop(ctx))
	}
	if d.lock != nil {
		errs = append(errs, d.lock.Close())
	}
	return errors.Join(errs...)
}
