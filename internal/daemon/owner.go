package daemon

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"idlebeacon/internal/access"
	"idlebeacon/internal/pgbox"
	"idlebeacon/internal/store"
)

// The files of a data directory that commands on the same machine look at.
const (
	// OwnerKeyFile has an owner key and nothing else. Only its owner may read it.
	OwnerKeyFile = "owner.key"
	// AddressFile says where the service of the directory answers, as long as it runs.
	AddressFile = "service.url"
)

// firstOwner makes an owner key if there is no key yet. It is written to its file first, so
// that it cannot get lost on the way.
func firstOwner(ctx context.Context, st *store.Store, data string, log *slog.Logger) error {
	if has, err := st.HasKeys(ctx); has || err != nil {
		return err
	}
	made := false
	path, err := withOwnerKey(data, "First owner key", func(key *access.OwnerKey) (bool, error) {
		var err error
		made, err = key.KeepFirst(ctx, st)
		return made, err
	})
	if err != nil {
		return fmt.Errorf("making the first owner key: %w", err)
	}
	if made {
		log.Info("the first owner key was made; commands on this machine find it there by themselves", "file", path)
	}
	return nil
}

// withOwnerKey makes an owner key, lets keep do that, and leaves it in its file if keep
// reports true.
func withOwnerKey(data, name string, keep func(*access.OwnerKey) (bool, error)) (path string, err error) {
	if err := os.MkdirAll(data, 0o755); err != nil {
		return "", err
	}
	path = filepath.Join(data, OwnerKeyFile)
	key := access.NewOwnerKey(name)
	f, err := os.CreateTemp(data, OwnerKeyFile+".*") // its mode is 0600
	if err != nil {
		return "", err
	}
	_, err = fmt.Fprintln(f, key.Secret)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", errors.Join(err, os.Remove(f.Name()))
	}
	kept, err := keep(&key)
	if err != nil || !kept {
		return "", errors.Join(err, os.Remove(f.Name()))
	}
	return path, os.Rename(f.Name(), path)
}

// NewOwnerKey makes another owner key for the service of a data directory, which must not
// run, or of a database of the operator's own. It returns the file that the key is in.
func NewOwnerKey(ctx context.Context, config Config, log *slog.Logger) (path string, err error) {
	dsn := config.DSN
	if dsn == "" {
		if _, err := os.Stat(filepath.Join(config.Data, "pg")); err != nil {
			return "", fmt.Errorf("there is no database in %s; name the data directory with --data", config.Data)
		}
		lock, err := lockDirectory(config.Data)
		if err != nil {
			return "", err
		}
		defer lock.Close()
		box, err := pgbox.Start(ctx, filepath.Join(config.Data, "pg"), log, func(string) {})
		if err != nil {
			return "", err
		}
		defer func() { err = errors.Join(err, box.Stop(context.WithoutCancel(ctx))) }()
		dsn = box.DSN()
	}
	st, err := store.Open(ctx, store.Options{DSN: dsn, Schema: config.Schema, Log: log})
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	return withOwnerKey(config.Data, "Owner key from the data directory", func(key *access.OwnerKey) (bool, error) {
		return true, key.Keep(ctx, st)
	})
}

// noteAddress writes where the service answers, so that commands find its owner key.
func (d *Daemon) noteAddress(data string) {
	path := filepath.Join(data, AddressFile)
	if _, err := os.Stat(data); errors.Is(err, fs.ErrNotExist) { // with a database of the operator's own
		return
	}
	if err := os.WriteFile(path, []byte(d.URL()+"\n"), 0o644); err != nil {
		d.log.Warn("commands on this machine will not find the owner key by themselves", "error", err)
		return
	}
	d.address = path
}

// Runs reports whether the service of a data directory still runs, as far as that can be told:
// if it was killed, something else may answer at its address by now.
func Runs(data string) bool {
	text, err := os.ReadFile(filepath.Join(data, lockFile))
	if err != nil { // it has a database of the operator's own
		return true
	}
	process, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return false
	}
	err = syscall.Kill(process, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
