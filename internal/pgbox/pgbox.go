// Package pgbox keeps a private PostgreSQL server in a directory: it makes the
// database cluster the first time, starts the server, and stops it with its
// owner. The server listens on a Unix socket inside its own directory only, so
// nobody but the directory's owner can reach it.
//
// PostgreSQL does not run as root. Started by root, the server runs as the user
// "postgres" of the Debian package, and reaches its directory through a file
// descriptor handed to it, so that the directory may lie where that user could
// not go by its path.
package pgbox

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

const (
	database = "idlebeacon"
	// maxSocketPath is the longest path of a Unix socket on Linux, sun_path less
	// its closing zero.
	maxSocketPath = 107
	socketName    = ".s.PGSQL.5432"
	// silentTimeout is how long a server that is being started may say nothing at all. One
	// that says that it is starting, because it recovers, is waited for.
	silentTimeout = 60 * time.Second
	stopTimeout   = 60 * time.Second
	// giveUpTimeout is how long a server may take to stop whose start has failed.
	giveUpTimeout = 10 * time.Second
	// leastRoom is how many bytes have to be free on the disk for the server to start.
	leastRoom = 64 << 20
	// maxLog is the size beyond which the server's log is put aside, in bytes.
	maxLog = 16 << 20
)

// A Server is a running PostgreSQL server.
type Server struct {
	dir       string
	programs  string
	who       *identity
	socketDir string
	tempDir   string // to remove on Stop, or ""
	log       *slog.Logger
	silence   time.Duration // how long it may say nothing while it starts

	mu  sync.Mutex // guards run
	run *run
}

// A run is one process of the server.
type run struct {
	process *os.Process
	exited  chan struct{} // closed when the process has ended, after err is set
	err     error
}

// Start starts the server of the cluster in dir, making the cluster if there is
// none, and waits until it takes connections; progress is told what it waits for. Only one
// process at a time may use a dir; the caller sees to that. A server left over from an owner
// that was killed is stopped first. What the server prints goes to dir + ".log".
//
// The PG... variables of the environment, which are for servers of an operator's own, are
// taken out of it.
func Start(ctx context.Context, dir string, log *slog.Logger, progress func(what string)) (*Server, error) {
	if err := clearEnvironment(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return nil, err
	}
	parent, err := filepath.EvalSymlinks(filepath.Dir(dir))
	if err != nil {
		return nil, err
	}
	if parent, err = filepath.Abs(parent); err != nil {
		return nil, err
	}
	s := &Server{dir: filepath.Join(parent, filepath.Base(dir)), log: log, silence: silentTimeout}
	if s.who, err = account(); err != nil {
		return nil, err
	}
	if s.programs, err = findPrograms(s.dir); err != nil {
		return nil, err
	}
	if err := stopLeftover(ctx, s.dir, log); err != nil {
		return nil, err
	}
	if err := s.checkRoom(); err != nil {
		return nil, err
	}
	if err := create(ctx, s.dir, s.programs, s.who, log); err != nil {
		return nil, err
	}
	if err := s.chooseSocketDir(); err != nil {
		return nil, err
	}
	if err := s.launch(); err != nil {
		s.removeTemp()
		return nil, err
	}
	if err := s.waitReady(ctx, progress); err != nil {
		stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), giveUpTimeout)
		defer cancel()
		return nil, errors.Join(err, s.Stop(stopping))
	}
	return s, nil
}

// Restart starts the server again after it has ended by itself, and waits until it takes
// connections.
func (s *Server) Restart(ctx context.Context) error {
	if err := stopLeftover(ctx, s.dir, s.log); err != nil {
		return err
	}
	if err := s.checkRoom(); err != nil {
		return err
	}
	if err := s.launch(); err != nil {
		return err
	}
	return s.waitReady(ctx, func(string) {})
}

// clearEnvironment takes out of the environment what clients and servers of PostgreSQL read.
func clearEnvironment() error {
	var errs []error
	for _, variable := range os.Environ() {
		if name, _, _ := strings.Cut(variable, "="); strings.HasPrefix(name, "PG") && name == strings.ToUpper(name) {
			errs = append(errs, os.Unsetenv(name))
		}
	}
	return errors.Join(errs...)
}

// Free returns how many bytes are free on the disk of the server's directory.
func (s *Server) Free() (free int64, known bool) {
	var disk syscall.Statfs_t
	if syscall.Statfs(filepath.Dir(s.dir), &disk) != nil {
		return 0, false
	}
	return int64(disk.Bavail) * disk.Bsize, true
}

// Place tells the files of the server from a copy of them, wherever that is.
func (s *Server) Place() string {
	info, err := os.Stat(filepath.Join(s.dir, "PG_VERSION")) // which is never written again
	if err != nil {
		return ""
	}
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprintf("file %d", stat.Ino)
	}
	return ""
}

func (s *Server) checkRoom() error {
	if free, known := s.Free(); known && free < leastRoom {
		return fmt.Errorf(
			"the disk with %s has only %.0f MB free, and the database needs at least %d MB to start: make room "+
				"there, for example by deleting %s.log.old, files of other programs, or old backups",
			filepath.Dir(s.dir),
			float64(free)/(1<<20),
			leastRoom>>20,
			s.dir,
		)
	}
	return nil
}

// DSN returns the connection string of the server's database.
func (s *Server) DSN() string { return s.dsn(database) }

func (s *Server) dsn(name string) string {
	return fmt.Sprintf("host='%s' port=5432 user=%s dbname=%s sslmode=disable",
		strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s.socketDir), database, name)
}

func (s *Server) current() *run {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.run
}

// Exited is closed when the process that runs now has ended, by Stop or by itself. After
// Restart there is another.
func (s *Server) Exited() <-chan struct{} { return s.current().exited }

// Stop ends the server, rolling back what has not been committed, and waits for it. If
// ctx ends first, or a minute has passed, it is ended at once, as a power cut would: it
// recovers at its next start. It may be called more than once.
func (s *Server) Stop(ctx context.Context) error {
	defer s.removeTemp()
	r := s.current()
	select {
	case <-r.exited:
		return nil
	default:
	}
	if err := r.process.Signal(syscall.SIGINT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return fmt.Errorf("stopping the database: %w", err)
	}
	select {
	case <-r.exited:
		return r.err
	case <-ctx.Done():
	case <-time.After(stopTimeout):
	}
	s.log.Warn(
		"the database does not stop in time, and is ended at once; it recovers at its next start",
		"process",
		r.process.Pid,
	)
	if err := r.process.Signal(syscall.SIGQUIT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return fmt.Errorf("stopping the database: %w", err)
	}
	select {
	case <-r.exited:
		return nil
	case <-time.After(quitTimeout):
		return errors.Join(fmt.Errorf("the database (process %d) has to be killed", r.process.Pid), r.process.Kill())
	}
}

const quitTimeout = 5 * time.Second

func (s *Server) removeTemp() {
	if s.tempDir != "" {
		if err := os.RemoveAll(s.tempDir); err != nil {
			s.log.Warn("could not remove a temporary directory", "error", err)
		}
	}
}

// An identity is who the server runs as; the zero value is the current user.
type identity struct {
	name     string
	uid, gid int
}

func account() (*identity, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, errors.New(
			"PostgreSQL does not run as root, and there is no user \"postgres\" to run it as: install PostgreSQL " +
				"with 'apt-get install postgresql', or start as another user",
		)
	}
	uid, errUID := strconv.Atoi(u.Uid)
	gid, errGID := strconv.Atoi(u.Gid)
	return &identity{name: u.Username, uid: uid, gid: gid}, errors.Join(errUID, errGID)
}

// command makes a command that works on the directory open as dir, as who. The
// name by which the command knows dir is returned too.
func command(
	ctx context.Context,
	who *identity,
	dir *os.File,
	program string,
	args func(dir string) []string,
) *exec.Cmd {
	var cmd *exec.Cmd
	if who == nil {
		cmd = exec.CommandContext(ctx, program, args(dir.Name())...)
	} else {
		// setpriv is part of util-linux, which every Debian system has.
		drop := []string{"--reuid", strconv.Itoa(who.uid), "--regid", strconv.Itoa(who.gid), "--clear-groups",
			"--pdeathsig", "INT", "--", program}
		cmd = exec.CommandContext(ctx, "setpriv", append(drop, args("/proc/self/fd/3")...)...)
		cmd.ExtraFiles = []*os.File{dir} // descriptor 3
		cmd.Dir = "/"
	}
	// A group of its own, so that Ctrl-C in a terminal reaches the owner alone,
	// which then stops the server in order.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGINT}
	cmd.Env = append(os.Environ(), "LC_ALL=C", "TZ=UTC") // without PG...: see Start
	return cmd
}

// create makes a database cluster in dir unless there is one.
func create(ctx context.Context, dir string, programs string, who *identity, log *slog.Logger) error {
	if _, err := os.Stat(filepath.Join(dir, "PG_VERSION")); err == nil {
		return nil
	}
	// A cluster is made under another name, so that one cut short is never taken
	// for a whole one.
	making := dir + ".new"
	if err := os.RemoveAll(making); err != nil {
		return fmt.Errorf("making the database: %w", err)
	}
	if err := os.MkdirAll(making, 0o700); err != nil {
		return fmt.Errorf("making the database: %w", err)
	}
	if who != nil {
		if err := os.Chown(making, who.uid, who.gid); err != nil {
			return fmt.Errorf("giving the database directory to user %s: %w", who.name, err)
		}
	}
	f, err := os.Open(making)
	if err != nil {
		return fmt.Errorf("making the database: %w", err)
	}
	defer f.Close()
	log.Info("making a database", "directory", dir)
	cmd := command(ctx, who, f, filepath.Join(programs, "initdb"), func(dir string) []string {
		return []string{
			"-D",
			dir,
			"--username=" + database,
			"--encoding=UTF8",
			"--locale=C",
			"--auth=trust",
			"--data-checksums",
		}
	})
	if out, err := cmd.CombinedOutput(); ctx.Err() != nil {
		return fmt.Errorf("making the database: %w", ctx.Err())
	} else if err != nil {
		return fmt.Errorf("making the database with initdb: %w\n%s", err, bytes.TrimSpace(out))
	}
	if err := os.Rename(making, dir); err != nil {
		return fmt.Errorf("making the database: %w", err)
	}
	return nil
}

// launch starts the server process. The process is told to stop if its parent
// dies, which to Linux means the thread that started it, so one goroutine keeps
// that thread until the process has ended.
func (s *Server) launch() error {
	dir, err := os.Open(s.dir)
	if err != nil {
		return err
	}
	defer dir.Close()
	log, err := openLog(s.dir + ".log")
	if err != nil {
		return err
	}
	socketDir := "." // the server's working directory is its own directory
	if s.tempDir != "" {
		socketDir = s.tempDir
	}
	cmd := command(context.Background(), s.who, dir, filepath.Join(s.programs, "postgres"), func(dir string) []string {
		return []string{
			"-D", dir, "-p", "5432", "-c", "listen_addresses=", "-c", "unix_socket_directories=" + socketDir,
			"-c", "unix_socket_permissions=0700", "-c", "logging_collector=off", "-c", "max_wal_size=2GB",
			"-c", fmt.Sprintf("shared_buffers=%dMB", sharedBuffers()),
		}
	})
	cmd.Stdout, cmd.Stderr = log, log
	cmd.WaitDelay = time.Second // for what its processes still say
	r := &run{exited: make(chan struct{})}
	started := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		defer log.Close()
		if err := cmd.Start(); err != nil {
			started <- err
			return
		}
		started <- nil
		r.err = cmd.Wait()
		close(r.exited)
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("starting the database: %w", err)
	}
	r.process = cmd.Process
	s.mu.Lock()
	s.run = r
	s.mu.Unlock()
	return nil
}

// waitReady waits until the server takes connections and has the database: as long as it
// says that it is starting, and for a while if it says nothing.
func (s *Server) waitReady(ctx context.Context, progress func(what string)) error {
	retry := time.NewTicker(20 * time.Millisecond)
	defer retry.Stop()
	r, heard, told := s.current(), time.Now(), time.Now()
	for {
		attempt, cancel := context.WithTimeout(ctx, s.silence)
		err := s.ensureDatabase(attempt)
		cancel()
		if err == nil {
			return nil
		}
		if starting(err) {
			heard = time.Now()
			if time.Since(told) > min(2*time.Second, s.silence) {
				told = heard
				what := "the database recovers: " + s.lastLine()
				progress(what)
				s.log.Info(what)
			}
		}
		if time.Since(heard) > s.silence {
			return fmt.Errorf("the database does not answer: %w", err)
		}
		select {
		case <-r.exited:
			return fmt.Errorf(
				"the database ended while starting (%v); the end of its log %s.log:\n%s",
				r.err,
				s.dir,
				s.logEnd(),
			)
		case <-ctx.Done():
			return fmt.Errorf("the database was not ready yet: %w", context.Cause(ctx))
		case <-retry.C:
		}
	}
}

// starting reports whether the server says that it will take connections later.
func starting(err error) bool {
	var said *pgconn.PgError
	return errors.As(err, &said) && said.Code == "57P03" // cannot_connect_now
}

func (s *Server) ensureDatabase(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, s.dsn("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)",
		database).Scan(&there); err != nil ||
		there {
		return err
	}
	_, err = conn.Exec(ctx, "CREATE DATABASE "+database)
	return err
}

// logEnd returns the last lines of the server's log.
func (s *Server) logEnd() string {
	lines := s.logLines()
	return strings.Join(lines[max(0, len(lines)-8):], "\n")
}

// lastLine returns what the server said last.
func (s *Server) lastLine() string {
	lines := s.logLines()
	_, said, found := strings.Cut(lines[len(lines)-1], "LOG:")
	if !found {
		said = lines[len(lines)-1]
	}
	return strings.TrimSpace(said)
}

func (s *Server) logLines() []string {
	all, err := os.ReadFile(s.dir + ".log")
	if err != nil {
		return []string{err.Error()}
	}
	return strings.Split(strings.TrimSpace(string(all)), "\n")
}
