package pgbox

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// chooseSocketDir decides where the socket goes: into the cluster's directory
// or, if that cannot be told as the path of a socket, a temporary one.
func (s *Server) chooseSocketDir() error {
	s.socketDir = s.dir
	// To the server and to clients a comma separates several directories.
	if len(s.dir)+len("/"+socketName) <= maxSocketPath && !strings.Contains(s.dir, ",") {
		return nil
	}
	var errs []error
	for _, parent := range []string{os.TempDir(), "/tmp", "/var/tmp", "/dev/shm"} {
		temp, err := s.makeSocketDir(parent)
		if err == nil {
			s.tempDir, s.socketDir = temp, temp
			return nil
		}
		errs = append(errs, err)
	}
	return fmt.Errorf(
		"the path %s is too long, or has a comma, and there is no temporary directory for the database's socket "+
			"instead: use another directory with --data: %w",
		s.dir,
		errors.Join(errs...),
	)
}

// makeSocketDir makes a directory for the socket that the server can enter.
func (s *Server) makeSocketDir(parent string) (string, error) {
	if len(parent)+len("/idlebeacon-1234567890/"+socketName) > maxSocketPath || strings.Contains(parent, ",") {
		return "", fmt.Errorf("%s is no better", parent)
	}
	if s.who != nil {
		for dir := parent; ; dir = filepath.Dir(dir) {
			info, err := os.Stat(dir)
			if err != nil {
				return "", err
			}
			if info.Mode().Perm()&0o001 == 0 {
				return "", fmt.Errorf("user %s cannot go to %s", s.who.name, dir)
			}
			if dir == filepath.Dir(dir) {
				break
			}
		}
	}
	removeStaleSocketDirs(parent)
	temp, err := os.MkdirTemp(parent, "idlebeacon-")
	if err == nil && s.who != nil {
		err = os.Chown(temp, s.who.uid, s.who.gid)
	}
	return temp, err
}

// removeStaleSocketDirs removes directories of sockets whose services were killed.
func removeStaleSocketDirs(parent string) {
	sockets, _ := filepath.Glob(filepath.Join(parent, "idlebeacon-*", socketName)) // the pattern is well formed
	for _, socket := range sockets {
		connection, err := net.DialTimeout("unix", socket, time.Second)
		if err == nil {
			connection.Close()
		} else if errors.Is(err, syscall.ECONNREFUSED) {
			_ = os.RemoveAll(filepath.Dir(socket)) // what cannot be removed is another user's
		}
	}
}
