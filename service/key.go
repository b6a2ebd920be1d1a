package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"gneiss/core/access"
	"gneiss/source"
	"gneiss/store"
	"gneiss/wire"
)

// facts are what a plan takes from the moment it runs.
func (s *Service) facts(start time.Time) source.Facts {
	return source.Facts{Start: start, Key: *s.key.Load(), Nonce: rand.Text()}
}

func (s *Service) keyFile() string { return filepath.Join(s.store.Dir, "pseudonym.key") }

// pseudonymKey reads the key of pseudonyms, or makes it: for a new platform, or where
// an operator accepts that the pseudonyms handed out before match none from now on. It is kept in a file
// of its own, outside the databases.
func pseudonymKey(path string, mayMake bool) (string, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && !mayMake {
		return "", fmt.Errorf("the key of pseudonyms %s is gone; restore it, or start once with --accept-loss, and pseudonyms change", path)
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

// renewKey makes another key and uses it from the next query on.
func (s *Service) renewKey() error {
	key := newKey()
	if err := writeKey(s.keyFile(), []byte(key)); err != nil {
		return err
	}
	s.key.Store(&key)
	return nil
}

// RotateKey puts a new key in the place of that of pseudonyms and stable noise.
// From the next query on every pseudonym is another: those handed out before
// match each other, and none of those handed out after. The old key is gone.
func (s *Service) RotateKey(ctx context.Context, c Caller, in wire.Change) (wire.Changed, error) {
	s.lock()
	defer s.unlock()
	st := s.state()
	out := wire.Changed{Revision: st.revision, DryRun: in.DryRun, Says: []string{"put a new key in the place of that of pseudonyms"}, Effects: []wire.Effect{},
		Notes: []string{"pseudonyms and stable noise that were handed out before do not match those of the next query on; joins within a query still work"}}
	if err := s.administers(st, c, "the key of pseudonyms"); err != nil {
		return wire.Changed{}, err
	}
	if in.DryRun {
		return out, nil
	}
	if err := s.record(&store.Record{Actor: actor(st.model, c), Action: "change", Decision: "allowed", Text: out.Says[0], Reason: in.Reason, Address: c.Address,
		Objects: jsonList([]string{st.model.Path(access.PlatformID)})}); err != nil {
		return wire.Changed{}, err
	}
	if err := s.renewKey(); err != nil {
		return wire.Changed{}, err
	}
	out.Done = true
	return out, nil
}
