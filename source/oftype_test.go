package source_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/source"
)

// ofOtherTypes are, for each type, constants of SQLite's that are of it and constants that are not, a constant of the
// language that is compared with, and more conditions on a column v.
var ofOtherTypes = []struct {
	declared, constant string
	fits, others, more []string
}{
	{"BIGINT", "4", []string{"5", "-3"}, []string{"'abc'", "''", "9.5", "x'01'"}, nil},
	{"DOUBLE PRECISION", "3.5", []string{"1.5", "7"}, []string{"'abc'", "''", "x'01'"}, nil},
	{"TEXT", "'b'", []string{"'abc'", "''", "'z'"}, []string{"x'616263'", "x'7a'"}, []string{"@ LIKE '%'", "@ NOT LIKE 'q%'", "length(@) >= 0"}},
	{"BOOLEAN", "true", []string{"1", "0"}, []string{"2", "-1", "0.5", "'yes'", "''"}, []string{"@", "NOT @", "@ IS TRUE", "@ IS NOT TRUE", "@ IS NOT FALSE"}},
	{"DATE", "DATE '2010-01-01'", []string{"'2024-02-29'", "'1999-12-31'"}, []string{"''", "'05/17/1981'", "'01/01/2099'", "'2024-02-30'", "'2024-1-5'", "20240105",
		"2460315.5", "'2024-01-05 00:00:00'", "' 2024-01-05'", "'now'", "x'323032342d30312d3035'"}, []string{"@ <= CURRENT_DATE", "@ > CURRENT_DATE", "extract(year from @) <> 2010"}},
	{"TIMESTAMP", "TIMESTAMP '2010-01-01 00:00:00'", []string{"'2024-02-29 10:00:00'", "'1999-12-31 23:59:59.5'", "'2024-02-29 10:00:00.000001'"},
		[]string{"''", "'2024-01-05'", "'2024-01-05T10:00:00'", "'2024-01-05 10:00:00.500'", "'2024-01-05 10:00:00.1234567'", "1704448800", "'2024-01-05 24:00:00'",
			"'2024-01-05 10:00'", "'2024-01-05 10:00:00Z'", "'2024-01-05 10:00:00.'", "'2024-01-05 10:00:00.-1'", "'01.01.2099 00:00:00'"}, []string{"v <= CURRENT_TIMESTAMP"}},
}

// tablesOfOtherTypes makes for each type a table t with all values, a table f with those that are of it, and a table p with a
// row for each row of t.
func tablesOfOtherTypes() string {
	var b strings.Builder
	for i, c := range ofOtherTypes {
		fmt.Fprintf(&b, "CREATE TABLE t%d (id BIGINT PRIMARY KEY, v %s, name TEXT); CREATE TABLE f%d (id BIGINT PRIMARY KEY, v %s, name TEXT); CREATE TABLE p%d (id BIGINT PRIMARY KEY);",
			i, c.declared, i, c.declared, i)
		for n, v := range append([]string{"NULL"}, c.fits...) {
			fmt.Fprintf(&b, "INSERT INTO t%d VALUES (%d, %s, 'fits'); INSERT INTO f%d VALUES (%d, %s, 'fits');", i, n, v, i, n, v)
		}
		for n, v := range c.others {
			fmt.Fprintf(&b, "INSERT INTO t%d VALUES (%d, %s, 'other');", i, 100+n, v)
		}
		fmt.Fprintf(&b, "INSERT INTO p%d SELECT id FROM t%d;", i, i)
	}
	return b.String()
}

// TestPoliciesReadNoValueOfAnotherType: a row policy lets see the rows that it would let see if those in which it reads a
// value that is not of its column's type were not there. A column policy gives NULL for such a value, and beside it.
func TestPoliciesReadNoValueOfAnotherType(t *testing.T) {
	src, m := onSQLite(t, tablesOfOtherTypes())
	own := rights(t, m, "flint")
	read := func(text string, set *policy.Set, st *access.Rights) []string {
		t.Helper()
		plan, err := emit.Make(text, nil, st, set)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		got, err := collect(src, plan.SQL, source.Bind(plan.Args, source.Facts{Key: testKey, Nonce: testNonce}), plan.Columns)
		if err != nil {
			t.Fatalf("%v\n%s", err, plan.SQL)
		}
		return got
	}
	for i, c := range ofOtherTypes {
		conditions := append(c.more, "@ > #", "@ < #", "@ <> #", "NOT (@ > #)", "NOT (@ < #)", "@ = # OR @ <> #", "@ NOT IN (#)", "@ IN (#)", "@ = #", "@ IS NULL OR @ > #", "@ IS NULL OR @ < #",
			"@ IS NULL", "@ IS NOT NULL", "coalesce(@, #) = # OR @ IS NOT NULL", "CASE WHEN @ > # THEN true ELSE true END", "@ IS DISTINCT FROM #",
			"(SELECT max(f.v) FROM src.s.f"+fmt.Sprint(i)+" f WHERE f.id = 1) <> @")
		for _, condition := range conditions {
			if c.declared == "BOOLEAN" && strings.ContainsAny(condition, "><") && !strings.Contains(condition, "@ <> #") || c.declared == "BOOLEAN" && strings.Contains(condition, "max(") {
				continue // truth values have no order here
			}
			condition = strings.ReplaceAll(condition, "#", c.constant)
			nested := strings.ReplaceAll(condition, "@", "o.v")
			condition = strings.ReplaceAll(condition, "@", "v")
			name, on := fmt.Sprintf("%s: %s", c.declared, condition), fmt.Sprintf("src.s.t%d", i)
			want := read(fmt.Sprintf("SELECT id FROM src.s.f%d WHERE %s ORDER BY id", i, condition), &policy.Set{}, own)
			rows := policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: on, Rule: condition}
			if got := read("SELECT id FROM "+on+" ORDER BY id", setOf(t, m, rows), own); !slices.Equal(got, want) {
				t.Errorf("%s: the rows %v are there, want %v", name, got, want)
			}
			through := policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: fmt.Sprintf("src.s.p%d", i),
				Rule: fmt.Sprintf("EXISTS (SELECT 1 FROM src.s.t%d o WHERE o.id = p%d.id AND (%s))", i, i, nested)}
			if got := read(fmt.Sprintf("SELECT id FROM src.s.p%d ORDER BY id", i), setOf(t, m, through), own); !slices.Equal(got, want) {
				t.Errorf("%s: through a sub-query the rows %v are there, want %v", name, got, want)
			}
			lent, err := m.Apply(time.Unix(1, 0), access.PutView{Path: "src.s.lent", Text: fmt.Sprintf("SELECT id FROM src.s.t%d o WHERE %s", i, nested), Rights: access.OwnerRights,
				Owner: "user:flint", Columns: []access.ViewColumn{{Name: "id", Type: "bigint"}}})
			if err != nil {
				t.Fatal(err)
			}
			if got := read("SELECT id FROM src.s.lent ORDER BY id", &policy.Set{}, rights(t, lent, "flint")); !slices.Equal(got, want) {
				t.Errorf("%s: a view that lends rights has the rows %v, want %v", name, got, want)
			}
			values := policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "c"}, Columns: []string{on + ".name"}, Treat: "constant", Treatment: policy.Treatment{Value: "treated"}, When: condition}
			for _, line := range read("SELECT id, name FROM "+on+" WHERE id >= 100", setOf(t, m, values), own) {
				if strings.Contains(line, "other") {
					t.Errorf("%s: where a value of another type decides whether it is treated, a value is as it was: %s", name, line)
				}
			}
		}
		for _, treatment := range []policy.PutColumnPolicy{{Treat: "mask", Treatment: policy.Treatment{KeepFirst: 2, KeepLast: 2}}, {Treat: "generalize", Treatment: policy.Treatment{Unit: "year"}},
			{Treat: "generalize", Treatment: policy.Treatment{Bucket: 10}}, {Treat: "generalize", Treatment: policy.Treatment{Prefix: 2}}, {Treat: "round", Treatment: policy.Treatment{Decimals: 1}},
			{Treat: "pseudonym"}, {Treat: "noise", Treatment: policy.Treatment{Range: 1}}, {Treat: "expression", Treatment: policy.Treatment{SQL: "v"}},
			{Treat: "suppress", When: "v IS NULL"}} {
			treatment.Name, treatment.Columns = "c", []string{fmt.Sprintf("src.s.t%d.v", i)}
			set, err := (&policy.Set{}).Apply(treatment, m)
			if err != nil {
				continue // which does not fit the type
			}
			for _, line := range read(fmt.Sprintf("SELECT CAST(v AS text) FROM src.s.t%d WHERE id >= 100", i), set, own) {
				if !strings.Contains(line, "(nil)") {
					t.Errorf("%s: %s gives %s of a value that is not of the type", c.declared, treatment.Treat, line)
				}
			}
		}
	}
}

// TestAnswersHaveValuesOfTheirTypes: what SQLite holds is given as it is, where PostgreSQL would write it so. All else is an
// error, which names the column and no value, and can be read as a text.
func TestAnswersHaveValuesOfTheirTypes(t *testing.T) {
	src, m := onSQLite(t, tablesOfOtherTypes())
	st := rights(t, m, "flint")
	answer := func(text string) ([]string, error) {
		plan, err := emit.Make(text, nil, st, &policy.Set{})
		if err != nil {
			t.Fatal(err)
		}
		var texts []string
		err = src.Stream(t.Context(), source.Request{SQL: plan.SQL, Args: source.Bind(plan.Args, source.Facts{}), Columns: plan.Columns}, func(row [][]byte) error {
			if row[0] == nil {
				texts = append(texts, "∅")
			} else {
				texts = append(texts, string(row[0]))
			}
			return nil
		})
		return texts, err
	}
	if got, err := answer("SELECT '' FROM src.s.t0 WHERE id = 1"); err != nil || !slices.Equal(got, []string{""}) {
		t.Errorf("an empty text is %q, %v", got, err)
	}
	for i, c := range ofOtherTypes {
		want := make([]string, len(c.fits))
		for n, v := range c.fits {
			want[n] = strings.Trim(v, "'")
			if c.declared == "BOOLEAN" {
				want[n] = map[string]string{"1": "t", "0": "f"}[v]
			}
		}
		got, err := answer(fmt.Sprintf("SELECT v FROM src.s.t%d WHERE id BETWEEN 1 AND 99 ORDER BY id", i))
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: %q and %v, want %q", c.declared, got, err, want)
		}
		for n, v := range c.others {
			var unfit *source.Unfit
			_, err := answer(fmt.Sprintf("SELECT v FROM src.s.t%d WHERE id = %d", i, 100+n))
			if !errors.As(err, &unfit) || unfit.SQLState != "22P02" || !strings.Contains(unfit.Text, `"v"`) {
				t.Errorf("%s: %s as a value gives %v", c.declared, v, err)
			}
			if c.declared == "TEXT" {
				continue
			}
			if _, err := answer(fmt.Sprintf("SELECT CAST(v AS text) FROM src.s.t%d WHERE id = %d", i, 100+n)); err != nil {
				t.Errorf("%s: %s as a text: %v", c.declared, v, err)
			}
		}
		notes, err := src.Check(t.Context())
		told := fmt.Sprintf("s.t%d.v: %d rows hold a value that is not of type %s", i, len(c.others), strings.ToLower(c.declared))
		if err != nil || !slices.ContainsFunc(notes, func(n source.Note) bool { return strings.HasPrefix(n.Says, told) }) {
			t.Errorf("a check says %v and %v, and not: %s", notes, err, told)
		}
	}
}

// TestTextsAreComparedByCodePoint: a SQLite column's own collation, by which NORTH is north and "a " is "a", changes no answer and
// no policy.
func TestTextsAreComparedByCodePoint(t *testing.T) {
	const rows = "(1, 'north', 'a'), (2, 'NORTH', 'a '), (3, 'South', 'b'), (4, NULL, NULL), (5, 'north', 'A')"
	made := func(first, second string) (source.Source, *access.Model) {
		return onSQLite(t, fmt.Sprintf("CREATE TABLE t (id BIGINT PRIMARY KEY, a TEXT %s, b TEXT %s); INSERT INTO t VALUES %s; CREATE INDEX t_a ON t (a)", first, second, rows))
	}
	plain, m := made("", "")
	other, _ := made("COLLATE NOCASE", "COLLATE RTRIM")
	st := rights(t, m, "flint")
	tenants := policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "p"}, Table: "src.s.t"}
	ask := func(text string, set *policy.Set) {
		t.Helper()
		plan, err := emit.Make(text, nil, st, set)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		var answers [2]string
		for i, src := range []source.Source{plain, other} {
			if answers[i], err = answerOf(src, plan.SQL, source.Bind(plan.Args, source.Facts{}), plan.Columns); err != nil {
				t.Fatalf("%v\n%s", err, plan.SQL)
			}
		}
		if answers[0] != answers[1] {
			t.Errorf("%s: %s, want %s\n%s", text, answers[1], answers[0], plan.SQL)
		}
	}
	for _, condition := range []string{"a = 'north'", "a IN ('north', 'x')", "a <> 'NORTH'", "a NOT IN ('NORTH')", "a < 'a'", "b = 'a'", "a BETWEEN 'a' AND 'o'", "a IS DISTINCT FROM 'NORTH'",
		"CASE a WHEN 'NORTH' THEN true ELSE false END", "nullif(a, 'NORTH') IS NULL", "'NORTH' IN (SELECT x.a FROM src.s.t x WHERE x.id = 1)", "a IN (SELECT upper(x.a) FROM src.s.t x)",
		"a = (SELECT max(x.a) FROM src.s.t x)", "EXISTS (SELECT 1 FROM src.s.t x WHERE x.a = t.a AND x.id <> t.id)", "a LIKE 'n%'", "a = 'no' || 'rth'", "CAST(a AS text) = 'NORTH'", "coalesce(a, 'x') = 'NORTH'",
		"(SELECT x.a FROM src.s.t x WHERE x.id = 1) = upper('north')", "a = ANY (SELECT y.a FROM (SELECT x.a FROM src.s.t x WHERE x.id = 2) y)", "greatest(a, 'O') = 'north'"} {
		ask("SELECT id FROM src.s.t WHERE "+condition+" ORDER BY id", &policy.Set{})
		tenants.Rule = condition
		if !strings.Contains(condition, "src.s.t ") && !strings.Contains(condition, "ANY") {
			ask("SELECT id, a FROM src.s.t ORDER BY id", setOf(t, m, tenants))
		}
	}
	for _, text := range []string{"SELECT DISTINCT a FROM src.s.t ORDER BY 1", "SELECT a, count(*) FROM src.s.t GROUP BY a ORDER BY 1", "SELECT count(DISTINCT a), count(DISTINCT b), min(a), max(a), max(b) FROM src.s.t",
		"SELECT a FROM src.s.t UNION SELECT 'SOUTH' ORDER BY 1", "SELECT a FROM src.s.t INTERSECT SELECT upper(a) FROM src.s.t ORDER BY 1", "SELECT a FROM src.s.t EXCEPT SELECT 'NORTH' ORDER BY 1",
		"SELECT id FROM src.s.t ORDER BY a, b, id", "SELECT a FROM src.s.t ORDER BY a DESC, id", "SELECT a AS x FROM src.s.t ORDER BY x, id", "SELECT x.id, y.id FROM src.s.t x JOIN src.s.t y USING (a) ORDER BY 1, 2",
		"SELECT x.id, y.id FROM src.s.t x NATURAL JOIN src.s.t y ORDER BY 1, 2", "SELECT id, rank() OVER (PARTITION BY a ORDER BY b) FROM src.s.t ORDER BY 1", "SELECT id, dense_rank() OVER (ORDER BY a) FROM src.s.t ORDER BY 1",
		"WITH q AS (SELECT a AS x, id FROM src.s.t) SELECT id FROM q WHERE x = 'NORTH'", "SELECT q.x FROM (SELECT a AS x FROM src.s.t UNION ALL SELECT b FROM src.s.t) q WHERE q.x = 'A' OR q.x = 'NORTH'",
		"SELECT string_agg(a, ',' ORDER BY a, id) FROM src.s.t", "SELECT DISTINCT ON (a) a, id FROM src.s.t ORDER BY a, id", "SELECT least(a, 'n'), greatest(a, 'n') FROM src.s.t ORDER BY id",
		"SELECT count(*) FROM src.s.t GROUP BY a HAVING a = 'NORTH'", "SELECT a, b, count(*) FROM src.s.t GROUP BY ROLLUP (a, b) ORDER BY 1, 2, 3", "SELECT DISTINCT x FROM (SELECT a AS x FROM src.s.t) q ORDER BY 1",
		"WITH RECURSIVE r (x, n) AS (SELECT a, 1 FROM src.s.t WHERE id = 1 UNION SELECT t.a, n + 1 FROM src.s.t t JOIN r ON t.a = upper(r.x) WHERE n < 4) SELECT * FROM r ORDER BY 2, 1"} {
		ask(text, &policy.Set{})
		tenants.Rule = "a = 'north' OR b = 'b'"
		ask(text, setOf(t, m, tenants))
	}
}

// TestNumericsAreFractions: a SQLite column of numerics keeps 3.0 as a whole number, and half of it is 1.5 all the same.
func TestNumericsAreFractions(t *testing.T) {
	src, m := onSQLite(t, "CREATE TABLE t (id BIGINT PRIMARY KEY, a DECIMAL(10, 2), b NUMERIC); INSERT INTO t VALUES (1, 3.0, 2), (2, 2.5, 0)")
	for text, want := range map[string]string{
		"a / 2": "1.5 1.25", "a / b": "1.5 ∅", "(a + b) / (b + 2)": "1.25 1.25", "-a / 2": "-1.5 -1.25", "7 / a": "2.3333333333333335 2.8", "sum(a) OVER () / 2": "2.75 2.75",
		"coalesce(b, a) / 4": "0.5 0", "CASE WHEN id = 1 THEN a ELSE b END / 2": "1.5 0", "max(b) OVER () / 4": "0.5 0.5", "a::bigint / 2": "1 1", "(SELECT max(x.b) FROM src.s.t x) / 4": "0.5 0.5",
	} {
		plan, err := emit.Make("SELECT "+text+" FROM src.s.t ORDER BY id", nil, rights(t, m, "flint"), &policy.Set{})
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		if got, err := answerOf(src, plan.SQL, source.Bind(plan.Args, source.Facts{}), plan.Columns); err != nil || got != want {
			t.Errorf("%s is %s and %v, want %s", text, got, err, want)
		}
	}
}
