package store

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// TestEachCellIsProved alters each column of each row of both logs, deletes each row, and lets two rows change places: a verification
// finds it, or the folder is not opened.
func TestEachCellIsProved(t *testing.T) {
	whole := t.TempDir()
	s := opened(t, whole)
	journal(t, s, 4)
	for round := range 3 { // lines that are written together are one page
		var wait sync.WaitGroup
		for i := range 4 {
			wait.Go(func() {
				r := &Record{At: "2026-03-02T09:00:00Z", Actor: fmt.Sprint("user:u", i), Action: "query", Decision: "allowed", Text: fmt.Sprint("SELECT ", round, i), Objects: `["survey.a"]`, Rows: 3, TookUS: 9, Address: "10.0.0.1"}
				if err := s.Audit().Add(r); err != nil {
					t.Error(err)
				}
			})
		}
		wait.Wait()
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	found := func(dir string) bool {
		s, err := Open(dir, false)
		if err != nil {
			return true
		}
		defer s.Close()
		_, _, journal := s.VerifyJournal(ctx)
		_, _, record := s.VerifyRecord(ctx, 0)
		return journal != nil || record != nil
	}
	if found(whole) {
		t.Fatal("what nobody has altered is said to be altered")
	}
	tried := 0
	for _, log := range []struct{ file, table, key string }{{"journal.db", "journal", "revision"}, {"audit.db", "record", "id"}, {"audit.db", "page", "first"}} {
		db, _, err := open(filepath.Join(whole, log.file), map[string]string{"journal.db": "migrations", "audit.db": "auditmigrations"}[log.file])
		if err != nil {
			t.Fatal(err)
		}
		var columns []string
		var keys []int64
		if err := db.Select(&columns, "SELECT name FROM pragma_table_info(?)", log.table); err != nil {
			t.Fatal(err)
		}
		if err := db.Select(&keys, "SELECT "+log.key+" FROM "+log.table+" ORDER BY 1"); err != nil {
			t.Fatal(err)
		}
		db.Close()
		alter := func(what, statement string, args ...any) {
			t.Helper()
			dir := t.TempDir()
			if err := os.CopyFS(dir, os.DirFS(whole)); err != nil {
				t.Fatal(err)
			}
			db, _, err := open(filepath.Join(dir, log.file), map[string]string{"journal.db": "migrations", "audit.db": "auditmigrations"}[log.file])
			if err != nil {
				t.Fatal(err)
			}
			for part := range strings.SplitSeq(statement, ";") {
				if _, err = db.Exec(part, args[:strings.Count(part, "?")]...); err != nil {
					break
				}
			}
			db.Close()
			if err != nil {
				return // the database itself does not take it
			}
			if tried++; !found(dir) {
				t.Errorf("%s of %s: nobody notices", what, log.table)
			}
		}
		for i, key := range keys {
			for _, column := range columns {
				alter(fmt.Sprintf("another %s in row %d", column, i), fmt.Sprintf("UPDATE %[1]s SET %[2]s = CASE typeof(%[2]s) WHEN 'integer' THEN %[2]s + 1000 WHEN 'blob' THEN zeroblob(length(%[2]s)) WHEN 'null' THEN 1 ELSE %[2]s || 'x' END WHERE %[3]s = ?", log.table, column, log.key), key)
			}
			alter(fmt.Sprintf("row %d without its place", i), fmt.Sprintf("DELETE FROM %s WHERE %s = ?", log.table, log.key), key)
			if i > 0 {
				alter(fmt.Sprintf("rows %d and %d in each other's place", i-1, i), fmt.Sprintf("UPDATE %[1]s SET %[2]s = -%[2]s WHERE %[2]s IN (?, ?); UPDATE %[1]s SET %[2]s = %[3]d WHERE %[2]s = -%[4]d; UPDATE %[1]s SET %[2]s = %[4]d WHERE %[2]s = -%[3]d", log.table, log.key, key, keys[i-1]), key, keys[i-1])
			}
		}
	}
	if t.Logf("%d ways to alter", tried); tried < 60 {
		t.Errorf("only %d ways were tried", tried)
	}
}
