package gateway

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"gneiss/source"
	"gneiss/store"
)

// Facts are what a plan takes from the moment it runs.
func (s *Service) Facts(start time.Time) source.Facts {
	return source.Facts{Start: start, Key: *s.key.Load()}
}

func (s *Service) keyFile() string { return filepath.Join(s.store.Dir, "pseudonym.key") }

// pseudonymKey reads the key of pseudonyms, or makes it: for a new platform, or where
// an operator accepts that the pseudonyms handed out before match none from now on. It is kept in a file
// of its own, outside the databases.
func pseudonymKey(path string, mayMake bool) (string, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && !mayMake {
		return "", fmt.Errorf("the key of pseudonyms %s is gone; restore it, or start once with --accept-loss true, and pseudonyms change", path)
	}
	if errors.Is(err, fs.ErrNotExist) {
		key = []byte(newKey())
		err = writeKey(path, key)
	}
	if err == nil && len(key) < 32 {
		err = fmt.Errorf("the key of pseudonyms in %s is shorter than 32 characters", path)
	}
	return string(key), err
}

func newKey() string { return rand.Text() + rand.Text() }

// writeKey puts the file in place whole, so that a kill leaves the old key or the
// new one.
func writeKey(path string, key []byte) error {
	return store.WriteFile(path, func(w io.Writer) error {
		_, err := w.Write(key)
		return err
	})
}

// RenewKey makes another key and uses it from the next query on.
func (s *Service) RenewKey() error {
	key := newKey()
	if err := writeKey(s.keyFile(), []byte(key)); err != nil {
		return err
	}
	s.key.Store(&key)
	return nil
}
