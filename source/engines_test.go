package source_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/source"
	"gneiss/source/pgtest"
	"gneiss/source/postgres"
	"gneiss/source/sqlite"
)

// typeOf is the language's type for what the tests' tables declare.
func typeOf(declared string) string {
	return map[string]string{"INTEGER": "bigint", "REAL": "double precision", "TEXT": "text", "DATE": "date", "BOOLEAN": "boolean", "TIMESTAMP": "timestamp"}[declared]
}

// onServer is the model of a platform whose source is a PostgreSQL database.
func onServer(t *testing.T, m *access.Model) *access.Model {
	t.Helper()
	m, err := m.Apply(time.Unix(1, 0), access.AddObject{Path: "src", Kind: "source", Type: "postgresql"})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// postgresql is the server of all tests here, which starts when the first asks.
var postgresql = sync.OnceValues(pgtest.Run)

var databases atomic.Int64 // made so far

func TestMain(m *testing.M) {
	code := m.Run()
	if databases.Load() > 0 {
		if s, err := postgresql(); err == nil {
			s.Stop()
		}
	}
	os.Exit(code)
}

// database makes an empty one and returns its URL.
func database(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("made%d", databases.Add(1))
	s, err := postgresql()
	if err != nil {
		t.Fatal(err)
	}
	url, err := s.Database(name)
	if err != nil {
		t.Fatal(err)
	}
	return url
}

// A server is a PostgreSQL server with the tables of the random worlds.
type server struct {
	*postgres.Source
	db    *sql.DB
	spell *strings.Replacer // of column types
}

// newServer makes one whose texts are in the order of a language, or with byCodePoint in that
// which SQLite has.
func newServer(t *testing.T, byCodePoint bool) *server {
	t.Helper()
	url := database(t)
	db, err := sql.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	src, err := postgres.Open(url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { src.Close() })
	s := &server{src, db, strings.NewReplacer("INTEGER", "BIGINT", "REAL", "DOUBLE PRECISION")}
	if byCodePoint {
		s.spell = strings.NewReplacer("INTEGER", "BIGINT", "REAL", "DOUBLE PRECISION", "TEXT", `TEXT COLLATE "C"`)
	}
	s.tables(t, columnNames)
	return s
}

// tables makes the tables, in place of those that are there, with some of their columns.
func (s *server) tables(t *testing.T, columns func(tableDef) []string) {
	t.Helper()
	text := "DROP SCHEMA IF EXISTS s1 CASCADE; DROP SCHEMA IF EXISTS s2 CASCADE; CREATE SCHEMA s1; CREATE SCHEMA s2"
	for _, def := range tables {
		var kept []string
		for _, c := range def.columns {
			if name, _, _ := strings.Cut(c, " "); slices.Contains(columns(def), name) {
				kept = append(kept, c)
			}
		}
		if len(kept) == 0 {
			kept = []string{"no_column INTEGER"}
		}
		text += "; CREATE TABLE " + def.name + " (" + s.spell.Replace(strings.Join(kept, ", ")) + ")"
	}
	if _, err := s.db.Exec(text); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
}

// copyFor makes the tables a user's own copy of a world's.
func (s *server) copyFor(t *testing.T, w *world, user string) {
	t.Helper()
	there := func(d tableDef) []string { return w.there(user, d.name) }
	rows := map[string][]map[string]any{}
	nullable(func() {
		s.tables(t, there)
		for _, def := range tables {
			rows[def.name] = w.visible(user, def.name)
		}
		s.put(t, rows, there)
	})
}

// fill puts rows in the place of all that the tables hold.
func (s *server) fill(t *testing.T, rows map[string][]map[string]any) {
	t.Helper()
	s.put(t, rows, columnNames)
}

func (s *server) put(t *testing.T, rows map[string][]map[string]any, columns func(tableDef) []string) {
	t.Helper()
	tx, err := s.db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	for _, def := range tables {
		text := "TRUNCATE " + def.name
		for i, row := range rows[def.name] {
			var values []string
			for _, c := range columns(def) {
				values = append(values, quoted(row[c]))
			}
			if len(values) == 0 {
				values = []string{"NULL"}
			}
			text += map[bool]string{true: "; INSERT INTO " + def.name + " VALUES ", false: ", "}[i == 0] + "(" + strings.Join(values, ", ") + ")"
		}
		if _, err := tx.Exec(text); err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
}

func quoted(v any) string {
	switch v := v.(type) {
	case nil:
		return "NULL"
	case string:
		return "'" + strings.ReplaceAll(v, "'", "''") + "'"
	}
	return fmt.Sprint(v)
}

// A maker makes a source of the statements that set up its schema s; each call
// gives tables of its own.
type maker func(t testing.TB, setup string) (source.Source, *access.Model)

// engines runs a test on each kind of source.
func engines(t *testing.T, f func(*testing.T, maker)) {
	t.Run("SQLite", func(t *testing.T) { f(t, onSQLite) })
	t.Run("PostgreSQL", func(t *testing.T) { f(t, onPostgreSQL) })
}

func onSQLite(t testing.TB, setup string) (source.Source, *access.Model) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite3", filepath.Join(dir, "s.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(setup); err != nil {
		t.Fatal(err)
	}
	src, err := sqlite.Open(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	return scanned(t, src, "sqlite")
}

func onPostgreSQL(t testing.TB, setup string) (source.Source, *access.Model) {
	return onDatabase(t, database(t), setup)
}

// onDatabase is onPostgreSQL in a database that was made before.
func onDatabase(t testing.TB, url, setup string) (source.Source, *access.Model) {
	own, err := sql.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	defer own.Close()
	if _, err := own.Exec("CREATE SCHEMA s; SET search_path = s; " + setup); err != nil {
		t.Fatal(err)
	}
	src, err := postgres.Open(url)
	if err != nil {
		t.Fatal(err)
	}
	return scanned(t, src, "postgresql")
}

// setOf are the policies that changes come to.
func setOf(t testing.TB, m *access.Model, changes ...policy.Change) *policy.Set {
	t.Helper()
	set := &policy.Set{}
	for _, c := range changes {
		next, err := set.Apply(c, m)
		if err != nil {
			t.Fatal(err)
		}
		set = next
	}
	return set
}

// scanned is a source with the model of what a scan of it finds, where flint may
// do all.
func scanned(t testing.TB, src source.Source, kind string) (source.Source, *access.Model) {
	t.Helper()
	t.Cleanup(func() { src.Close() })
	found, err := src.Scan(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	changes := []access.Change{access.AddObject{Path: "src", Kind: "source", Type: kind}, access.AddObject{Path: "src.s", Kind: "schema"}, access.AddSubject{Subject: "user:flint"},
		access.AddGrant{Privilege: "ALL", Object: "src", Subject: "user:flint"}}
	for _, table := range found {
		path := "src.s." + access.Quote(table.Name)
		changes = append(changes, access.AddObject{Path: path, Kind: "table"})
		for _, c := range table.Columns {
			changes = append(changes, c.Object(path))
		}
	}
	m, err := access.New().Apply(time.Unix(1, 0), changes...)
	if err != nil {
		t.Fatal(err)
	}
	return src, m
}

// standing is that of a user in a session for an audit.
func rights(t testing.TB, m *access.Model, user string) *access.Rights {
	t.Helper()
	subject, err := m.FindSubject("user:" + user)
	if err != nil {
		t.Fatal(err)
	}
	st, err := m.Rights(access.Standpoint{Subject: subject.ID, Purpose: "audit"}, time.Unix(2, 0))
	if err != nil {
		t.Fatal(err)
	}
	return st
}
