package source_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
)

// extremes is a table with a column of each type: an ordinary row, one of NULLs,
// one of the least and emptiest values, one of the greatest and longest.
var extremes = `
	CREATE TABLE v (id BIGINT PRIMARY KEY, whole BIGINT, x DOUBLE PRECISION, name TEXT, truth BOOLEAN, d DATE, at TIMESTAMP);
	INSERT INTO v VALUES (1, 12345, 123.456, 'Alder Brook', true, '2024-02-29', '2024-02-29 13:45:10'), (2, NULL, NULL, NULL, NULL, NULL, NULL),
		(3, -9223372036854775808, -1.7e308, '', false, '0001-01-01', '0001-01-01 00:00:00'),
		(4, 9223372036854775807, 1.7e308, '` + strings.Repeat("ž😀x", 60_000) + `', true, '9999-12-31', '9999-12-31 23:59:59')`

// TestEveryTreatmentOfEveryType reads a column of each type under each treatment:
// one that fits works on every value, gives the column's type, and leaves nothing
// as it was; one that does not is refused when it is written.
func TestEveryTreatmentOfEveryType(t *testing.T) {
	engines(t, func(t *testing.T, made maker) {
		src, m := made(t, extremes)
		everyTreatment(t, src, m, rights(t, m, "flint"))
	})
}

func everyTreatment(t *testing.T, src source.Source, m *access.Model, st *access.Rights) {
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
				plan, err := emit.Make("SELECT v."+column+" FROM src.s.v ORDER BY v.id", nil, st, set)
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

func collectValues(s source.Source, text string, args []any, columns []query.Column) ([]any, error) {
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
	given := map[string][]string{}
	engines(t, func(t *testing.T, made maker) {
		src, m := made(t, "CREATE TABLE a (id INTEGER PRIMARY KEY, name TEXT, n INTEGER); CREATE TABLE b (n BIGINT, code VARCHAR(9));"+
			"INSERT INTO a VALUES (1, 'žula', 7), (2, '', -1), (3, '7', 0); INSERT INTO b VALUES (7, 'žula'), (-1, ''), (0, '7')")
		var set *policy.Set = &policy.Set{}
		for i, column := range []string{"a.name", "a.n", "b.code", "b.n"} {
			next, err := set.Apply(policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: fmt.Sprint("p", i)}, Columns: []string{"src.s." + column}, Treat: "pseudonym"}, m)
			if err != nil {
				t.Fatal(err)
			}
			set = next
		}
		read := func(text, key string) (values []any) {
			t.Helper()
			plan, err := emit.Make(text, nil, rights(t, m, "flint"), set)
			if err != nil {
				t.Fatal(err)
			}
			if values, err = collectValues(src, plan.SQL, source.Bind(plan.Args, source.Facts{Key: key}), plan.Columns); err != nil {
				t.Fatal(err)
			}
			return values
		}
		for _, key := range []string{testKey, strings.Repeat("longer than a block ", 9)} {
			names, numbers := read("SELECT name FROM src.s.a ORDER BY id", key), read("SELECT n FROM src.s.a ORDER BY id", key)
			if joined := read("SELECT count(*) FROM src.s.a JOIN src.s.b ON a.name = b.code AND a.n = b.n", key); joined[0] != int64(3) {
				t.Errorf("%v rows of the two tables match", joined[0])
			}
			if fmt.Sprint(names[2]) == fmt.Sprint(numbers[0]) {
				t.Error("a text and a number have one pseudonym")
			}
			given[t.Name()] = append(given[t.Name()], fmt.Sprint(names), fmt.Sprint(numbers))
		}
	})
	lite, server := given["TestPseudonymsMatch/SQLite"], given["TestPseudonymsMatch/PostgreSQL"]
	if len(lite) != 4 || !slices.Equal(lite, server) || lite[0] == lite[2] {
		t.Errorf("SQLite gives %v and PostgreSQL %v", lite, server)
	}
}
