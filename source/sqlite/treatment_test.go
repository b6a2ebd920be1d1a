package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
)

// extremes has a table with a column of each type: an ordinary row, one of NULLs,
// one of the least and emptiest values, one of the greatest and longest.
func extremes(t *testing.T) (*Source, *access.Model) {
	t.Helper()
	dir := t.TempDir()
	db, err := sql.Open("sqlite3", filepath.Join(dir, "s.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`CREATE TABLE v (id INTEGER PRIMARY KEY, whole INTEGER, x REAL, name TEXT, truth BOOLEAN, d DATE, at TIMESTAMP)`); err != nil {
		t.Fatal(err)
	}
	for _, row := range [][]any{
		{1, 12345, 123.456, "Alder Brook", true, "2024-02-29", "2024-02-29 13:45:10"}, {2, nil, nil, nil, nil, nil, nil},
		{3, int64(-1 << 63), -1.7e308, "", false, "0001-01-01", "0001-01-01 00:00:00"}, {4, int64(1<<63 - 1), 1.7e308, strings.Repeat("ž😀x", 60_000), true, "9999-12-31", "9999-12-31 23:59:59"},
	} {
		if _, err := db.Exec("INSERT INTO v VALUES (?, ?, ?, ?, ?, ?, ?)", row...); err != nil {
			t.Fatal(err)
		}
	}
	src, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { src.Close() })
	tables, err := src.Scan(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	changes := []access.Change{access.AddObject{Path: "src", Kind: "source"}, access.AddObject{Path: "src.s", Kind: "schema"}, access.AddObject{Path: "src.s.v", Kind: "table"},
		access.AddSubject{Subject: "user:flint"}, access.AddGrant{Privilege: "ALL", Object: "src", Subject: "user:flint"}}
	for _, c := range tables[0].Columns {
		changes = append(changes, access.AddObject{Path: "src.s.v." + c.Name, Kind: "column", Type: c.Type, NotNull: c.NotNull, Key: c.Key})
	}
	m, err := access.New().Apply(time.Unix(1, 0), changes...)
	if err != nil {
		t.Fatal(err)
	}
	return src, m
}

// TestEveryTreatmentOfEveryType reads a column of each type under each treatment:
// one that fits works on every value, gives the column's type, and leaves nothing
// as it was; one that does not is refused when it is written.
func TestEveryTreatmentOfEveryType(t *testing.T) {
	src, m := extremes(t)
	flint, err := m.FindSubject("user:flint")
	if err != nil {
		t.Fatal(err)
	}
	st, err := m.Stand(access.Session{Subject: flint.ID}, time.Unix(2, 0))
	if err != nil {
		t.Fatal(err)
	}
	columns := []string{"whole", "x", "name", "truth", "d", "at"}
	for _, c := range []struct {
		kind string
		args policy.Treatment
		fits string // what becomes of the first row, by column; - where it is refused
	}{
		{"suppress", policy.Treatment{}, "<nil>|<nil>|<nil>|<nil>|<nil>|<nil>"},
		{"withhold blank", policy.Treatment{}, "<nil>|<nil>|<nil>|<nil>|<nil>|<nil>"},
		{"mask", policy.Treatment{KeepFirst: 2, KeepLast: 1}, "-|-|Al********k|-|-|-"},
		{"pseudonym", policy.Treatment{}, "?|-|?|-|-|-"},
		{"round", policy.Treatment{Decimals: 1}, "-|123.5|-|-|-|-"},
		{"round", policy.Treatment{Multiple: 1000}, "12000|0|-|-|-|-"},
		{"generalize", policy.Treatment{Bucket: 100}, "12300|100|-|-|-|-"},
		{"generalize", policy.Treatment{Unit: "quarter"}, "-|-|-|-|2024-01-01|2024-01-01 00:00:00"},
		{"generalize", policy.Treatment{Prefix: 3}, "-|-|Ald|-|-|-"},
		{"generalize", policy.Treatment{Mapping: policy.NewMapping(map[string]string{"Alder Brook": "a brook", "*": "elsewhere"})}, "-|-|a brook|-|-|-"},
		{"noise", policy.Treatment{Range: 10}, "?|?|-|-|?|?"},
		{"noise", policy.Treatment{Range: 10, Stable: true}, "?|?|-|-|?|?"},
		{"constant", policy.Treatment{Value: "7"}, "7|7|7|-|-|-"},
		{"constant", policy.Treatment{Value: "2024-05-05"}, "-|-|2024-05-05|-|2024-05-05|-"},
		{"constant", policy.Treatment{Value: "true"}, "-|-|true|true|-|-"},
		{"expression", policy.Treatment{SQL: "NULL"}, "<nil>|<nil>|<nil>|<nil>|<nil>|<nil>"},
	} {
		for i, column := range columns {
			want := strings.Split(c.fits, "|")[i]
			t.Run(fmt.Sprintf("%s of %s", c.kind, column), func(t *testing.T) {
				put := policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "p"}, Columns: []string{"src.s.v." + column}, Treat: c.kind, Treatment: c.args}
				set, err := (&policy.Set{}).Apply(put, m)
				if want == "-" {
					if err == nil {
						t.Errorf("%v of %s is taken", c.args, column)
					}
					return
				}
				if err != nil {
					t.Fatal(err)
				}
				plan, err := query.Make("SELECT v."+column+" FROM src.s.v ORDER BY v.id", nil, st, set)
				if err != nil {
					t.Fatal(err)
				}
				raw, err := collectValues(src, "SELECT "+column+" FROM s.v ORDER BY id", nil, plan.Columns)
				if err != nil {
					t.Fatal(err)
				}
				got, err := collectValues(src, plan.SQL, source.Bind(plan.Args, source.Facts{Key: testKey, Nonce: testNonce}), plan.Columns)
				if err != nil {
					t.Fatalf("%v\n%s", err, plan.SQL)
				}
				if shown := fmt.Sprint(got[0]); shown != want && want != "?" {
					t.Errorf("%v becomes %v, want %s", raw[0], got[0], want)
				}
				if got[1] != nil && c.kind != "constant" {
					t.Errorf("NULL becomes %v", got[1])
				}
				for i := range got {
					if got[i] != nil && raw[i] != nil && fmt.Sprintf("%T", got[i]) != fmt.Sprintf("%T", raw[i]) {
						t.Errorf("a %T becomes a %T", raw[i], got[i])
					}
				}
				if c.kind != "constant" && got[0] == raw[0] || column == "name" && got[3] == raw[3] {
					t.Errorf("a value is as it was: %.60v", got[0])
				}
			})
		}
	}
}

func collectValues(s *Source, text string, args []any, columns []query.Column) ([]any, error) {
	var out []any
	err := s.Run(context.Background(), text, args, columns, func(row []any) error {
		out = append(out, row[0])
		return nil
	})
	return out, err
}

// TestPseudonymsMatch: equal values have equal pseudonyms in every column, table
// and source; texts and numbers are apart, and so are keys.
func TestPseudonymsMatch(t *testing.T) {
	for _, c := range []struct {
		a, b       any
		keyA, keyB string
		same       bool
	}{
		{"flint", "flint", "k", "k", true}, {"flint", "Flint", "k", "k", false}, {int64(7), int64(7), "k", "k", true}, {"7", int64(7), "k", "k", false}, {"flint", "flint", "k", "l", false}, {"", "", "k", "k", true},
	} {
		if got := pseudonym(c.a, c.keyA) == pseudonym(c.b, c.keyB); got != c.same {
			t.Errorf("%v under %s and %v under %s: %v", c.a, c.keyA, c.b, c.keyB, got)
		}
	}
}
