package sqlite

import (
	"path/filepath"
	"strings"
	"testing"
)

// TestKeysFound: what is said of unique keys takes in the columns that a key's condition or
// expression is about.
func TestKeysFound(t *testing.T) {
	dir := t.TempDir()
	makeFile(t, filepath.Join(dir, "s.db"), `
		CREATE TABLE plain (id INTEGER PRIMARY KEY, a INTEGER UNIQUE, b INTEGER);
		CREATE TABLE partial (id INTEGER PRIMARY KEY, slot INTEGER, active BOOLEAN, "odd name" TEXT, note TEXT);
		CREATE UNIQUE INDEX one ON partial (slot) WHERE Active AND "odd name" IS NULL;
		CREATE TABLE computed (id INTEGER PRIMARY KEY, a TEXT, b TEXT);
		CREATE UNIQUE INDEX two ON computed (lower(a));`)
	src, err := Open(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer src.Close()
	tables, err := src.Scan(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]string{"plain": "a", "partial": "slot,active,odd name", "computed": "id,a,b"}
	for _, table := range tables {
		var unique []string
		for _, c := range table.Columns {
			if c.Unique {
				unique = append(unique, c.Name)
			}
		}
		if got := strings.Join(unique, ","); got != want[table.Name] {
			t.Errorf("%s has unique keys of %s, want %s", table.Name, got, want[table.Name])
		}
	}
	if len(tables) != len(want) {
		t.Errorf("%d tables were found", len(tables))
	}
}
