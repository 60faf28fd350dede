package daemon

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"
)

// lookAtCertificateEvery is how often it is looked whether the files have changed.
const lookAtCertificateEvery = 5 * time.Second

// A certificate is one with its key in two files, which are read again when they change.
type certificate struct {
	files   [2]string // of the certificate and of the key
	log     *slog.Logger
	current atomic.Pointer[tls.Certificate]
	written [2]time.Time // when the files were written that current is of

	stop  context.CancelFunc
	owned sync.WaitGroup
}

// openCertificate reads a certificate and begins to follow its files.
func openCertificate(chain, key string, log *slog.Logger) (*certificate, error) {
	c := &certificate{files: [2]string{chain, key}, log: log}
	if _, err := c.read(); err != nil {
		return nil, fmt.Errorf("reading the certificate: %w", err)
	}
	ctx, stop := context.WithCancel(context.Background())
	c.stop = stop
	c.owned.Go(func() { c.follow(ctx) })
	return c, nil
}

func (c *certificate) close() {
	c.stop()
	c.owned.Wait()
}

// get returns the certificate, for tls.Config.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	return c.current.Load(), nil
}

// follow reads the files again when they change. If they cannot be used, it says so, and the
// certificate stays as it was.
func (c *certificate) follow(ctx context.Context) {
	ticker := time.NewTicker(lookAtCertificateEvery)
	defer ticker.Stop()
	failing := false
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		switch changed, err := c.read(); {
		case err != nil && !failing:
			failing = true
			c.log.Error("the certificate cannot be read again, and the former stays in use", "error", err)
		case err == nil && changed:
			failing = false
			c.log.Info("the certificate was read again")
		}
	}
}

// read takes the certificate from its files, if they have changed.
func (c *certificate) read() (changed bool, err error) {
	var written [2]time.Time
	for i, name := range c.files {
		info, err := os.Stat(name)
		if err != nil {
			return false, err
		}
		written[i] = info.ModTime()
	}
	if written == c.written {
		return false, nil
	}
	fresh, err := tls.LoadX509KeyPair(c.files[0], c.files[1])
	if err != nil {
		return false, err
	}
	c.written = written
	c.current.Store(&fresh)
	return true, nil
}
