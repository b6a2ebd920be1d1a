package store

import (
	"errors"
	"io"
	"os"
	"path/filepath"
)

// WriteFile puts a file in place whole and lastingly: a kill leaves the old content or
// the new one, and what was written survives a failure of power.
func WriteFile(path string, write func(io.Writer) error) error {
	next := path + ".new"
	f, err := os.OpenFile(next, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	err = write(f)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(next)
		return err
	}
	if err := os.Rename(next, path); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
