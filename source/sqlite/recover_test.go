package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gneiss/core/query"
	"gneiss/source"
)

func makeFile(t *testing.T, path, setup string) {
	t.Helper()
	db, err := sql.Open("sqlite3", path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(setup); err != nil {
		t.Fatal(err)
	}
}

func count(s *Source, table string) (int64, error) {
	n := int64(-1)
	err := s.Run(context.Background(), "SELECT count(*) FROM "+table, nil, []query.Column{{Type: query.Bigint}}, func(row []any) error { n = row[0].(int64); return nil })
	return n, err
}

// TestHotJournal: what a writer that was killed left half done is rolled back by the
// first reader.
func TestHotJournal(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "s.db")
	makeFile(t, file, "PRAGMA cache_size = 5; CREATE TABLE t (x TEXT); INSERT INTO t SELECT hex(randomblob(400)) FROM (WITH RECURSIVE n (i) AS (VALUES (1) UNION ALL SELECT i + 1 FROM n WHERE i < 500) SELECT i FROM n)")
	hot := func() {
		t.Helper()
		// A transaction that has spilled to the file, copied while it is open: as a kill leaves it.
		db, err := sql.Open("sqlite3", file)
		if err != nil {
			t.Fatal(err)
		}
		db.SetMaxOpenConns(1)
		for _, text := range []string{"PRAGMA cache_size = 5", "PRAGMA cache_spill = 1", "BEGIN", "UPDATE t SET x = 'half'", "DELETE FROM t WHERE rowid > 3"} {
			if _, err := db.Exec(text); err != nil {
				t.Fatal(err)
			}
		}
		main, err1 := os.ReadFile(file)
		journal, err2 := os.ReadFile(file + "-journal")
		if err := errors.Join(err1, err2); err != nil {
			t.Fatal(err)
		}
		if _, err := db.Exec("ROLLBACK"); err != nil {
			t.Fatal(err)
		}
		db.Close()
		if err := errors.Join(os.WriteFile(file, main, 0o600), os.WriteFile(file+"-journal", journal, 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	hot()
	s, err := Open(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if n, err := count(s, "s.t WHERE x <> 'half'"); n != 500 || err != nil {
		t.Errorf("with a hot journal at the start: %d rows, %v", n, err)
	}
	hot()
	if n, err := count(s, "s.t WHERE x <> 'half'"); n != 500 || err != nil {
		t.Errorf("with a hot journal later: %d rows, %v", n, err)
	}
}

// TestOneBrokenFile leaves the other schemas of the source as they are.
func TestOneBrokenFile(t *testing.T) {
	dir := t.TempDir()
	makeFile(t, filepath.Join(dir, "good.db"), "CREATE TABLE t (x TEXT); INSERT INTO t VALUES ('a')")
	if err := os.WriteFile(filepath.Join(dir, "bad.db"), []byte(strings.Repeat("no database at all ", 200)), 0o600); err != nil {
		t.Fatal(err)
	}
	s, err := Open(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if n, err := count(s, "good.t"); n != 1 || err != nil {
		t.Errorf("a good file beside a broken one: %d rows, %v", n, err)
	}
	if _, err := count(s, "bad.t"); !errors.Is(err, source.ErrUnavailable) || !strings.Contains(err.Error(), "the schema bad") {
		t.Errorf("a table of a broken file: %v", err)
	}
	if _, err := s.Scan(context.Background()); !errors.Is(err, source.ErrUnavailable) {
		t.Errorf("a scan with a broken file would lose its tables: %v", err)
	}
}

// TestFilesOfOneName: a file that SQLite takes for another is the trouble of its own schema, and of the other, whose rows
// nobody gets in place of its own.
func TestFilesOfOneName(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"kept", "notes", "main", "Temp"} {
		makeFile(t, filepath.Join(dir, name+".db"), "CREATE TABLE t (x TEXT); INSERT INTO t VALUES ('"+name+"')")
	}
	s, err := Open(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if n, err := count(s, "notes.t"); n != 1 || err != nil {
		t.Errorf("notes: %d rows, %v", n, err)
	}
	makeFile(t, filepath.Join(dir, "NOTES.db"), "CREATE TABLE t (x TEXT); INSERT INTO t VALUES ('a'), ('b')")
	if n, err := count(s, "kept.t"); n != 1 || err != nil {
		t.Errorf("a schema that no other is taken for: %d rows, %v", n, err)
	}
	for _, schema := range []string{"notes", "NOTES", "main", "Temp"} {
		if n, err := count(s, schema+".t"); n != -1 || !errors.Is(err, source.ErrUnavailable) || !strings.Contains(err.Error(), "rename the file") {
			t.Errorf("%s: %d rows, %v", schema, n, err)
		}
	}
	if err := os.Remove(filepath.Join(dir, "NOTES.db")); err != nil {
		t.Fatal(err)
	}
	if n, err := count(s, "notes.t"); n != 1 || err != nil {
		t.Errorf("notes, alone again: %d rows, %v", n, err)
	}
}
