package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"

	"gneiss/core/query"
)

// TestFunctions holds what the registered functions give, NULL included.
func TestFunctions(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite3", filepath.Join(dir, "s.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("CREATE TABLE t (x TEXT); INSERT INTO t VALUES (NULL)"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	s, err := Open(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for _, c := range []struct{ expr, want string }{
		{"gneiss_bigint(' 42 ')", "42"}, {"gneiss_bigint('4.2')", "<nil>"}, {"gneiss_bigint(NULL)", "<nil>"}, {"gneiss_bigint('')", "<nil>"},
		{"gneiss_double('1e3')", "1000"}, {"gneiss_double('NaN')", "<nil>"}, {"gneiss_double('0x10')", "<nil>"}, {"gneiss_double('1_000')", "<nil>"},
		{"gneiss_boolean('Yes')", "1"}, {"gneiss_boolean('perhaps')", "<nil>"}, {"gneiss_boolean('off')", "0"},
		{"gneiss_date('2024-02-30')", "<nil>"}, {"gneiss_date('2024-02-29 10:00:00')", "2024-02-29"}, {"gneiss_timestamp('2024-02-29')", "2024-02-29 00:00:00"},
		{"gneiss_mask('secret', 1, 1, '*', '')", "s****t"}, {"gneiss_mask(NULL, 1, 1, '*', '')", "<nil>"}, {"gneiss_mask('', 0, 0, '*', '')", ""},
		{"gneiss_pseudonym(NULL, 'k')", "<nil>"}, {"length(gneiss_pseudonym('', 'k'))", "32"}, {"gneiss_pseudonym('a', 'k') = gneiss_pseudonym('a', 'k')", "1"},
		{"gneiss_pseudonym('a', 'k') = gneiss_pseudonym('a', 'l')", "0"}, {"gneiss_pseudonym(7, 'k') BETWEEN 0 AND 9007199254740991", "1"}, {"typeof(gneiss_pseudonym(7, 'k'))", "integer"},
	} {
		err := s.Run(context.Background(), "SELECT "+c.expr, nil, []query.Column{{}}, func(row []any) error {
			if got := fmt.Sprint(row[0]); got != c.want {
				t.Errorf("%s is %s, want %s", c.expr, got, c.want)
			}
			return nil
		})
		if err != nil {
			t.Errorf("%s: %v", c.expr, err)
		}
	}
	if err := s.Run(context.Background(), "INSERT INTO s.t VALUES ('x')", nil, nil, func([]any) error { return nil }); err == nil {
		t.Error("a source takes a write")
	}
	if err := s.Run(context.Background(), "ATTACH '"+filepath.Join(t.TempDir(), "other.db")+"' AS other", nil, nil, func([]any) error { return nil }); err == nil {
		t.Error("another file can be attached")
	}
}

// TestYearZeroIsNoAnswer: ISO 8601 has a year 0, and PostgreSQL does not.
func TestYearZeroIsNoAnswer(t *testing.T) {
	s, err := Open(t.TempDir(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for text, of := range map[string]query.Type{"0000-01-01": query.Date, "0000-12-31 10:00:00": query.Timestamp} {
		err := s.Run(context.Background(), "SELECT '"+text+"'", nil, []query.Column{{Name: "d", Type: of}}, func(row []any) error {
			t.Errorf("%s is given as %v", text, row[0])
			return nil
		})
		if err == nil {
			t.Errorf("%s is no error", text)
		}
	}
}
