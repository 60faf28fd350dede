package pgbox

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// minVersion is the oldest major version of PostgreSQL that is supported.
const minVersion = 15

// ErrNotInstalled reports that there is no PostgreSQL server on this machine.
var ErrNotInstalled = errors.New(
	"no PostgreSQL server found on this machine: install one with 'apt-get install postgresql', or name a server of " +
		"your own with --dsn",
)

// findPrograms returns the directory of the server programs to use for the
// cluster in dir: those of its own version, or the newest for a new cluster.
func findPrograms(dir string) (string, error) {
	found := map[int]string{}
	newest := 0
	patterns := []string{"/usr/lib/postgresql/*/bin/initdb"} // where Debian puts them
	if path, err := exec.LookPath("initdb"); err == nil {
		if path, err = filepath.EvalSymlinks(path); err == nil {
			patterns = append(patterns, path)
		}
	}
	for _, pattern := range patterns {
		programs, err := filepath.Glob(pattern)
		if err != nil {
			return "", err
		}
		for _, initdb := range programs {
			bin := filepath.Dir(initdb)
			if version := versionOf(filepath.Join(bin, "postgres")); version >= minVersion && found[version] == "" {
				found[version] = bin
				newest = max(newest, version)
			}
		}
	}
	if newest == 0 {
		return "", ErrNotInstalled
	}
	made, err := os.ReadFile(filepath.Join(dir, "PG_VERSION"))
	if errors.Is(err, os.ErrNotExist) {
		return found[newest], nil
	}
	if err != nil {
		return "", err
	}
	text := strings.TrimSpace(string(made))
	version, err := strconv.Atoi(text)
	if err != nil || found[version] == "" {
		return "", fmt.Errorf(
			"the database in %s was made by PostgreSQL %s, but this machine has only PostgreSQL %d: install "+
				"postgresql-%s, or use another data directory with --data and import the data again",
			dir,
			text,
			newest,
			text,
		)
	}
	return found[version], nil
}

// versionOf returns the major version that a postgres program says it has, or 0.
func versionOf(postgres string) int {
	out, err := exec.Command(postgres, "--version").Output() // "postgres (PostgreSQL) 15.18 (...)"
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(out))
	if len(fields) < 3 {
		return 0
	}
	major, _, _ := strings.Cut(fields[2], ".")
	version, err := strconv.Atoi(major)
	if err != nil {
		return 0
	}
	return version
}

// stopLeftover stops a server that still runs on dir after its owner was killed,
// and waits for the last of its processes. The process number in the lock file it
// leaves behind may be another process by now, so it is not trusted: processes
// count that run a PostgreSQL program in dir.
func stopLeftover(ctx context.Context, dir string, log *slog.Logger) error {
	lock := filepath.Join(dir, "postmaster.pid")
	text, err := os.ReadFile(lock)
	if err != nil {
		return nil // no lock, no server
	}
	first, _, _ := strings.Cut(string(text), "\n")
	left := processesIn(dir)
	pid, err := strconv.Atoi(strings.TrimSpace(first))
	if err != nil || pid <= 0 {
		if len(left) > 0 {
			return fmt.Errorf(
				"database processes %v run in %s, and its lock file says nothing of them: stop them with 'kill -INT "+
					"%d'",
				left,
				dir,
				left[0],
			)
		}
		// It was written when the disk was full, or the machine lost power.
		log.Warn("removing a lock file of the database that says nothing", "file", lock)
		return removeLocks(dir)
	}
	if slices.Contains(left, pid) {
		log.Warn("stopping a database left over from a service that was killed", "process", pid, "directory", dir)
		if err := syscall.Kill(pid, syscall.SIGINT); err != nil && !errors.Is(err, syscall.ESRCH) {
			return fmt.Errorf(
				"a database still runs in %s as process %d and cannot be stopped: %w; stop it with 'kill -INT %d'",
				dir,
				pid,
				err,
				pid,
			)
		}
	} else {
		log.Warn("the database was killed; it recovers by itself", "directory", dir)
	}
	ctx, cancel := context.WithTimeout(ctx, stopTimeout)
	defer cancel()
	check := time.NewTicker(20 * time.Millisecond)
	defer check.Stop()
	for len(left) > 0 {
		select {
		case <-ctx.Done():
			return fmt.Errorf("database processes %v still run in %s: %w", left, dir, ctx.Err())
		case <-check.C:
			left = processesIn(dir)
		}
	}
	if _, err := os.Stat(fmt.Sprintf("/proc/%d", pid)); err == nil {
		// Another process has the number, or the dead one's parent has not yet
		// taken note. The server would take it for a server that runs.
		return removeLocks(dir)
	}
	return nil
}

func removeLocks(dir string) error {
	for _, name := range []string{"postmaster.pid", socketName + ".lock", socketName} {
		if err := os.Remove(filepath.Join(dir, name)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("removing the stale lock of the database: %w", err)
		}
	}
	return nil
}

// processesIn returns the processes that run a PostgreSQL program in dir.
func processesIn(dir string) []int {
	var pids []int
	links, _ := filepath.Glob("/proc/[0-9]*/cwd") // the pattern is well formed
	for _, link := range links {
		proc := filepath.Dir(link)
		name, err := os.ReadFile(filepath.Join(proc, "comm"))
		if err != nil || strings.TrimSpace(string(name)) != "postgres" {
			continue
		}
		if cwd, err := os.Readlink(link); err != nil || cwd != dir {
			continue
		}
		if pid, err := strconv.Atoi(filepath.Base(proc)); err == nil {
			pids = append(pids, pid)
		}
	}
	return pids
}
