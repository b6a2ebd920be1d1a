package sqlite

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/mattn/go-sqlite3"

	"gneiss/source"
)

// Each file is looked at before it is attached, so that one that is broken is the
// trouble of its own schema.

// probeEvery is how soon a file that could not be read is looked at again.
const probeEvery = 5 * time.Second

// probe reports whether the file of a schema can be read. What a process that was
// killed left half done in it is rolled back, which takes a connection that may write.
func (s *Source) probe(name string) error {
	mode := "ro"
	if info, err := os.Stat(filepath.Join(s.dir, name+extension+"-journal")); err == nil && info.Size() > 0 {
		mode = "rw"
	}
	db := sql.OpenDB(&connector{dir: s.dir, schemas: []string{name}, mode: mode})
	defer db.Close()
	var n int
	if err := db.QueryRow("SELECT count(*) FROM " + quote(name) + ".sqlite_schema").Scan(&n); err != nil {
		return unavailable(err)
	}
	return nil
}

// recovered rolls back what was left half done in the files, and reports whether a
// statement that failed of it is worth another try.
func (s *Source) recovered(err error) bool {
	var e sqlite3.Error
	if !errors.As(err, &e) || e.Code != sqlite3.ErrReadonly && e.Code != sqlite3.ErrCantOpen {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, name := range s.schemas {
		if s.probe(name) != nil {
			return false
		}
	}
	return true
}

// explained says of a statement that failed since the file of its schema is broken.
func (s *Source) explained(err error) error {
	if err == nil || !strings.HasPrefix(err.Error(), "no such table: ") {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	schema, _, _ := strings.Cut(strings.TrimPrefix(err.Error(), "no such table: "), ".")
	if why, ok := s.broken[schema]; ok {
		return fmt.Errorf("%w: the file of the schema %s cannot be read: %v", source.ErrUnavailable, schema, why)
	}
	return err
}
