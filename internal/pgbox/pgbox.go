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
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

const (
	database = "idlebeacon"
	// maxSocketPath is the longest path of a Unix socket on Linux, sun_path less
	// its closing zero.
	maxSocketPath = 107
	socketName    = ".s.PGSQL.5432"
	startTimeout  = 60 * time.Second
	stopTimeout   = 60 * time.Second
)

// A Server is a running PostgreSQL server.
type Server struct {
	dir       string
	socketDir string
	tempDir   string // to remove on Stop, or ""
	process   *os.Process
	exited    chan struct{} // closed when the server has ended, after exitErr is set
	exitErr   error
	log       *slog.Logger
}

// Start starts the server of the cluster in dir, making the cluster if there is
// none, and waits until it takes connections. Only one process at a time may use
// a dir; the caller sees to that. A server left over from an owner that was
// killed is stopped first. What the server prints goes to dir + ".log".
func Start(ctx context.Context, dir string, log *slog.Logger) (*Server, error) {
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
	dir = filepath.Join(parent, filepath.Base(dir))
	who, err := account()
	if err != nil {
		return nil, err
	}
	programs, err := findPrograms(dir)
	if err != nil {
		return nil, err
	}
	if err := stopLeftover(ctx, dir, log); err != nil {
		return nil, err
	}
	if err := create(ctx, dir, programs, who, log); err != nil {
		return nil, err
	}
	s := &Server{dir: dir, exited: make(chan struct{}), log: log}
	if err := s.chooseSocketDir(who); err != nil {
		return nil, err
	}
	if err := s.launch(programs, who); err != nil {
		s.removeTemp()
		return nil, err
	}
	if err := s.waitReady(ctx); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

// DSN returns the connection string of the server's database.
func (s *Server) DSN() string { return s.dsn(database) }

func (s *Server) dsn(name string) string {
	return fmt.Sprintf("host='%s' port=5432 user=%s dbname=%s",
		strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s.socketDir), database, name)
}

// Exited is closed when the server has ended, by Stop or by itself.
func (s *Server) Exited() <-chan struct{} { return s.exited }

// Stop ends the server, rolling back what has not been committed, and waits for
// it. It may be called more than once.
func (s *Server) Stop() error {
	defer s.removeTemp()
	select {
	case <-s.exited:
		return nil
	default:
	}
	if err := s.process.Signal(syscall.SIGINT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return fmt.Errorf("stopping the database: %w", err)
	}
	select {
	case <-s.exited:
		return s.exitErr
	case <-time.After(stopTimeout):
		return fmt.Errorf("the database (process %d) has not stopped within %v", s.process.Pid, stopTimeout)
	}
}

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
		return nil, errors.New("PostgreSQL does not run as root, and there is no user \"postgres\" to run it as: install PostgreSQL with 'apt-get install postgresql', or start as another user")
	}
	uid, errUID := strconv.Atoi(u.Uid)
	gid, errGID := strconv.Atoi(u.Gid)
	return &identity{name: u.Username, uid: uid, gid: gid}, errors.Join(errUID, errGID)
}

// command makes a command that works on the directory open as dir, as who. The
// name by which the command knows dir is returned too.
func command(ctx context.Context, who *identity, dir *os.File, program string, args func(dir string) []string) *exec.Cmd {
	var cmd *exec.Cmd
	if who == nil {
		cmd = exec.CommandContext(ctx, program, args(dir.Name())...)
	} else {
		// setpriv is part of util-linux, which every Debian system has.
		drop := []string{"--reuid", strconv.Itoa(who.uid), "--regid", strconv.Itoa(who.gid), "--clear-groups", "--pdeathsig", "INT", "--", program}
		cmd = exec.CommandContext(ctx, "setpriv", append(drop, args("/proc/self/fd/3")...)...)
		cmd.ExtraFiles = []*os.File{dir} // descriptor 3
		cmd.Dir = "/"
	}
	// A group of its own, so that Ctrl-C in a terminal reaches the owner alone,
	// which then stops the server in order.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGINT}
	cmd.Env = append(os.Environ(), "LC_ALL=C", "TZ=UTC")
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
		return []string{"-D", dir, "--username=" + database, "--encoding=UTF8", "--locale=C", "--auth=trust", "--data-checksums"}
	})
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("making the database with initdb: %w\n%s", err, bytes.TrimSpace(out))
	}
	if err := os.Rename(making, dir); err != nil {
		return fmt.Errorf("making the database: %w", err)
	}
	return nil
}

// chooseSocketDir decides where the socket goes: into the cluster's directory
// or, where that path is too long for a socket, a temporary one.
func (s *Server) chooseSocketDir(who *identity) error {
	s.socketDir = s.dir
	if len(s.dir)+len("/"+socketName) <= maxSocketPath {
		return nil
	}
	temp, err := os.MkdirTemp("", "idlebeacon-")
	if err != nil {
		return err
	}
	s.tempDir, s.socketDir = temp, temp
	if who != nil {
		return os.Chown(temp, who.uid, who.gid)
	}
	return nil
}

// launch starts the server process. The process is told to stop if its parent
// dies, which to Linux means the thread that started it, so one goroutine keeps
// that thread until the process has ended.
func (s *Server) launch(programs string, who *identity) error {
	dir, err := os.Open(s.dir)
	if err != nil {
		return err
	}
	defer dir.Close()
	output, err := os.OpenFile(s.dir+".log", os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer output.Close()
	socketDir := "." // the server's working directory is its own directory
	if s.tempDir != "" {
		socketDir = s.tempDir
	}
	cmd := command(context.Background(), who, dir, filepath.Join(programs, "postgres"), func(dir string) []string {
		return []string{
			"-D", dir, "-p", "5432", "-c", "listen_addresses=", "-c", "unix_socket_directories=" + socketDir,
			"-c", "unix_socket_permissions=0700", "-c", "logging_collector=off", "-c", "max_wal_size=2GB",
		}
	})
	cmd.Stdout, cmd.Stderr = output, output
	started := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		if err := cmd.Start(); err != nil {
			started <- err
			return
		}
		started <- nil
		s.exitErr = cmd.Wait()
		close(s.exited)
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("starting the database: %w", err)
	}
	s.process = cmd.Process
	return nil
}

// waitReady waits until the server takes connections and has the database.
func (s *Server) waitReady(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, startTimeout)
	defer cancel()
	retry := time.NewTicker(20 * time.Millisecond)
	defer retry.Stop()
	for {
		err := s.ensureDatabase(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-s.exited:
			return fmt.Errorf("the database ended while starting (%v); the end of its log %s.log:\n%s", s.exitErr, s.dir, s.logEnd())
		case <-ctx.Done():
			return fmt.Errorf("the database does not answer: %w", err)
		case <-retry.C:
		}
	}
}

func (s *Server) ensureDatabase(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, s.dsn("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", database).Scan(&there); err != nil || there {
		return err
	}
	_, err = conn.Exec(ctx, "CREATE DATABASE "+database)
	return err
}

// logEnd returns the last lines of the server's log.
func (s *Server) logEnd() string {
	all, err := os.ReadFile(s.dir + ".log")
	if err != nil {
		return err.Error()
	}
	lines := strings.Split(strings.TrimSpace(string(all)), "\n")
	return strings.Join(lines[max(0, len(lines)-8):], "\n")
}
