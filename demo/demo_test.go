package demo

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
)

// contents is a digest of all rows of a table.
func contents(t *testing.T, dir, schema, table string) (digest string, rows int) {
	t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, schema+".db")+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	found, err := db.Query("SELECT * FROM " + table + " ORDER BY rowid")
	if err != nil {
		t.Fatal(err)
	}
	defer found.Close()
	columns, err := found.Columns()
	if err != nil {
		t.Fatal(err)
	}
	h := sha256.New()
	row, into := make([]any, len(columns)), make([]any, len(columns))
	for i := range row {
		into[i] = &row[i]
	}
	for found.Next() {
		if err := found.Scan(into...); err != nil {
			t.Fatal(err)
		}
		fmt.Fprintln(h, row...)
		rows++
	}
	return hex.EncodeToString(h.Sum(nil)), rows
}

// TestEveryRunGivesTheSameRows makes the survey twice.
func TestEveryRunGivesTheSameRows(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	for _, dir := range []string{a, b} {
		if err := WriteData(dir); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		schema, table string
		rows          int
	}{
		{"drilling", "boreholes", Boreholes}, {"drilling", "core_boxes", 9600}, {"drilling", "lithology", 7200}, {"assay", "samples", Samples}, {"assay", "results", Results}, {"assay", "batches", batches},
		{"licensing", "holders", Holders}, {"licensing", "licences", licences}, {"licensing", "payments", payments}, {"monitoring", "wells", wells}, {"monitoring", "readings", Readings}, {"monitoring", "stations", stations},
		{"field", "crews", crews}, {"field", "visits", visits}, {"field", "reports", Reports}, {"field", "district_officers", 8},
	} {
		first, rows := contents(t, a, c.schema, c.table)
		second, _ := contents(t, b, c.schema, c.table)
		if rows != c.rows || first != second {
			t.Errorf("%s.%s has %d rows, want %d; the same twice: %v", c.schema, c.table, rows, c.rows, first == second)
		}
	}
}

func TestMakeLeavesWhatIsThere(t *testing.T) {
	dir := t.TempDir()
	kept := filepath.Join(dir, "letter.txt")
	if err := os.WriteFile(kept, []byte("dear"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Make(t.Context(), dir, Password, io.Discard); err == nil {
		t.Error("the demo was made in a folder of somebody's")
	}
	if content, err := os.ReadFile(kept); err != nil || string(content) != "dear" {
		t.Errorf("the letter: %q, %v", content, err)
	}
}
