// Package tempfile makes room for what is too large for memory: files that nobody finds
// and that are gone when they are closed or the process ends, however it ends.
package tempfile

import (
	"errors"
	"fmt"
	"os"
)

// New returns an empty file without a name, for reading and writing.
func New() (*os.File, error) {
	file, err := os.CreateTemp("", "idlebeacon-*")
	if err != nil {
		return nil, fmt.Errorf("making a temporary file, in the directory that TMPDIR names: %w", err)
	}
	if err := os.Remove(file.Name()); err != nil {
		return nil, errors.Join(
			fmt.Errorf("making a temporary file, in the directory that TMPDIR names: %w", err),
			file.Close(),
		)
	}
	return file, nil
}
