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
	"gneiss/core/sqltype"
	"gneiss/source"
	"gneiss/source/corpus"
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

// TestTreatmentsOfAllTypes: on PostgreSQL a treatment keeps the type of any column that it fits,
// but for pseudonyms of whole numbers, and fails on no value.
func TestTreatmentsOfAllTypes(t *testing.T) {
	src, m := onPostgreSQL(t, corpus.Tables+nasty)
	st := rights(t, m, "flint")
	tried := 0
	for _, c := range m.Object(m.Child(m.Object(m.Child(m.Object(access.PlatformID), "src").Children[0]), "typed").ID).Children {
		column := m.Object(c)
		for kind, args := range map[string][]policy.Treatment{"mask": {{KeepFirst: 1}, {KeepLast: 2, Keep: "a%"}}, "pseudonym": {{}}, "suppress": {{}}, "withhold blank": {{}}, "constant": {{Value: "7"}, {Value: "x"}, {Value: "2024-01-01"}, {Value: "true"}},
			"generalize": {{Bucket: 10}, {Bucket: 0.25}, {Unit: "month"}, {Prefix: 2}, {Mapping: policy.NewMapping(map[string]string{"Alder": "tree", "*": "other"})}}, "round": {{Decimals: 1}, {Decimals: -2}, {Multiple: 50}, {Multiple: 0.5}}, "noise": {{Range: 5, Stable: true}, {Range: 0.5}, {Range: 1e15}}} {
			for _, a := range args {
				set, err := (&policy.Set{}).Apply(policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "p"}, Columns: []string{m.Path(c)}, Treat: kind, Treatment: a}, m)
				if err != nil {
					continue // it does not fit the type
				}
				tried++
				plan, err := emit.Make("SELECT "+column.Name+" FROM src.s.typed ORDER BY id", nil, st, set)
				if err != nil {
					t.Fatalf("%s of %s: %v", kind, column.Name, err)
				}
				facts := source.Bind(plan.Args, source.Facts{Key: testKey, Nonce: testNonce})
				if _, err := collectValues(src, plan.SQL, facts, plan.Columns); err != nil {
					t.Errorf("%s %+v of %s fails: %v\n%s", kind, a, column.Name, err, plan.SQL)
					continue
				}
				given, err := collectValues(src, "SELECT DISTINCT pg_typeof(t.v)::text FROM ("+strings.Replace(plan.SQL, `AS "`+column.Name+`"`, `AS "v"`, 1)+") AS t", facts, nil)
				want := column.Type
				if t := sqltype.Parse(want); t != nil {
					want = t.Name
				}
				whole := kind == "pseudonym" && (want == "integer" || want == "smallint")
				if got := fmt.Sprint(given); err == nil && !strings.Contains(got, "["+strings.TrimPrefix(want, "enum ")) && !whole && !strings.Contains(strings.ReplaceAll(got, " without time zone", ""), want) {
					t.Errorf("%s of %s gives %s, and the column is %s", kind, column.Name, got, column.Type)
				}
			}
		}
	}
	t.Logf("%d treatments were tried", tried)
	if tried < 150 {
		t.Errorf("only %d treatments fit a column", tried)
	}
}

// TestDocuments holds what treatments make of values within documents.
func TestDocuments(t *testing.T) {
	src, m := onPostgreSQL(t, `CREATE TABLE d (id integer PRIMARY KEY, doc jsonb, plain json);
		INSERT INTO d VALUES (1, '{"contact": {"phone": "+44 20", "email": "a@b"}, "n": 1.50}', '{"contact": {"phone": "123"}}'), (2, '[{"contact": {"phone": "11"}}, {"contact": [{"phone": "22"}, {"phone": {"deep": "33"}}]}, 5]', '{"n": 1}'),
		(3, '"text"', 'null'), (4, NULL, NULL), (5, '{"contact": null}', '{"contact": {"phone": ["44", 55, true, null]}}'), (6, (repeat('[', 2000) || repeat(']', 2000))::jsonb, NULL);`)
	st := rights(t, m, "flint")
	read := func(column, kind string, a policy.Treatment) string {
		t.Helper()
		set, err := (&policy.Set{}).Apply(policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "p"}, Columns: []string{"src.s.d." + column}, Treat: kind, Treatment: a}, m)
		if err != nil {
			t.Fatal(err)
		}
		plan, err := emit.Make("SELECT "+column+" FROM src.s.d WHERE id < 6 ORDER BY id", nil, st, set)
		if err != nil {
			t.Fatal(err)
		}
		values, err := collectValues(src, plan.SQL, source.Bind(plan.Args, source.Facts{Key: testKey}), plan.Columns)
		if err != nil {
			t.Fatal(err)
		}
		if plan, err = emit.Make("SELECT "+column+" FROM src.s.d", nil, st, set); err != nil {
			t.Fatal(err)
		}
		if _, err := collectValues(src, plan.SQL, source.Bind(plan.Args, source.Facts{Key: testKey}), plan.Columns); err != nil {
			t.Errorf("a deep document: %v", err)
		}
		return fmt.Sprint(values)
	}
	for _, c := range []struct {
		column, kind string
		a            policy.Treatment
		want         string
	}{
		{"doc", "mask", policy.Treatment{KeepFirst: 1, Paths: "contact.phone"}, `[{"n": 1.50, "contact": {"email": "a@b", "phone": "+*****"}} [{"contact": {"phone": "1*"}}, {"contact": [{"phone": "2*"}, {"phone": null}]}, 5] "text" <nil> {"contact": null}]`},
		{"doc", "suppress", policy.Treatment{Paths: "contact.phone, n"}, `[{"n": null, "contact": {"email": "a@b", "phone": null}} [{"contact": {"phone": null}}, {"contact": [{"phone": null}, {"phone": null}]}, 5] "text" <nil> {"contact": null}]`},
		{"doc", "constant", policy.Treatment{Value: "gone", Paths: "contact"}, `[{"n": 1.50, "contact": "gone"} [{"contact": "gone"}, {"contact": ["gone", "gone"]}, 5] "text" <nil> {"contact": "gone"}]`},
		{"plain", "mask", policy.Treatment{Paths: "contact.phone"}, `[{"contact": {"phone": "***"}} {"n": 1} null <nil> {"contact": {"phone": ["**", "**", "****", null]}}]`},
	} {
		if got := read(c.column, c.kind, c.a); got != c.want {
			t.Errorf("%s %+v of %s gives\n%s, want\n%s", c.kind, c.a, c.column, got, c.want)
		}
	}
	if a, b := read("doc", "pseudonym", policy.Treatment{Paths: "contact.phone"}), read("plain", "pseudonym", policy.Treatment{Paths: "contact.phone"}); strings.Contains(a, "+44") || strings.Contains(a, `"22"`) || strings.Contains(b, "123") {
		t.Errorf("pseudonyms leave %s %s", a, b)
	}
}
