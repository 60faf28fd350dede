package pgbox

import (
	"errors"
	"fmt"
	"os"
	"sync"
)

// A logFile is the log of the server. When it is large it is put aside, under its name with
// ".old" behind it, and a new one begun.
type logFile struct {
	name string

	mu   sync.Mutex
	file *os.File
	size int64
}

func openLog(name string) (*logFile, error) {
	l := &logFile{name: name}
	return l, l.open()
}

func (l *logFile) open() (err error) {
	l.file, err = os.OpenFile(l.name, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("opening the log of the database: %w", err)
	}
	info, err := l.file.Stat()
	if err != nil {
		return errors.Join(err, l.file.Close())
	}
	l.size = info.Size()
	return nil
}

// Write implements io.Writer. It always takes what it is given: a server that cannot write
// its log would stop.
func (l *logFile) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.size > maxLog {
		_ = l.file.Close()
		_ = os.Rename(l.name, l.name+".old") // if it cannot, the log goes on
		if l.open() != nil {
			l.file, l.size = nil, 0
		}
	}
	if l.file != nil {
		n, _ := l.file.Write(p)
		l.size += int64(n)
	}
	return len(p), nil
}

// Close closes the file.
func (l *logFile) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file == nil {
		return nil
	}
	return l.file.Close()
}
