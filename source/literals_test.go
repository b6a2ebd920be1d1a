package source_test

import (
	"strings"
	"testing"

	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/source"
)

// plainly writes the rows of [collect] without Go's signs.
var plainly = strings.NewReplacer("[]interface {}{", "", "}", "", ",", "", `"`, "")

// TestAnswersOfSQLite: what SQLite itself would give another answer for is what PostgreSQL says.
func TestAnswersOfSQLite(t *testing.T) {
	src, m := onSQLite(t, "CREATE TABLE t (id INTEGER PRIMARY KEY, x REAL, d DATE); INSERT INTO t VALUES (1, 1e300, '2026-01-31'), (2, -2.5, '2026-03-01')")
	for text, want := range map[string]string{
		"SELECT 0.06 - 0.01":                                                             "0.05",
		"SELECT 0.1 + 0.2":                                                               "0.3",
		"SELECT 0.1 + 0.2 - 0.3":                                                         "0",
		"SELECT 1 - 0.9, -(0.3 - 0.2), 3 * 0.1":                                          "0.1 -0.1 0.3",
		"SELECT 1.0 / 8, 0.7 / 0.1":                                                      "0.125 7",
		"SELECT count(*) FROM src.s.t WHERE x < 0.1+0.2":                                 "1",
		"SELECT floor(1e300), ceil(-1e300)":                                              "1e+300 -1e+300",
		"SELECT floor(x), ceil(x) FROM src.s.t ORDER BY id DESC":                         "-3 -2; 1e+300 1e+300",
		"SELECT d + INTERVAL '3' MONTH FROM src.s.t WHERE id = 1":                        "2026-04-30 00:00:00",
		"SELECT d - INTERVAL '1' YEAR, d + INTERVAL '36' HOUR FROM src.s.t WHERE id = 1": "2025-01-31 00:00:00 2026-02-01 12:00:00",
	} {
		plan, err := emit.Make(text, nil, rights(t, m, "flint"), &policy.Set{})
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		rows, err := collect(src, plan.SQL, source.Bind(plan.Args, source.Facts{}), plan.Columns)
		if got := plainly.Replace(strings.Join(rows, "; ")); err != nil || got != want {
			t.Errorf("%s gives %s, want %s (%v)\n%s", text, got, want, err, plan.SQL)
		}
	}
}
