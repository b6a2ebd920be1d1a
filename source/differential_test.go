package source_test

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"

	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
	"gneiss/source/corpus"

	"github.com/jackc/pgx/v5"
)

// The sentence under test: on a PostgreSQL source without policies, a query gives what the
// server itself gives for it, value by value and error by error.

type tally struct {
	same, refused, failing int
	reasons                map[string]int
}

func (c *tally) String() string {
	return fmt.Sprintf("%d the same (%d of them errors), %d refused, for %v", c.same, c.failing, c.refused, c.reasons)
}

// TestTheServersOwnAnswers asks for each operator, routine and cast that is allowed, over
// columns of all types, and for a list of statements.
func TestTheServersOwnAnswers(t *testing.T) {
	url := database(t)
	src, m := onDatabase(t, url, corpus.Tables)
	st := rights(t, m, "flint")
	var count *tally
	described := describer(t, url)
	ask := func(s corpus.Statement) {
		text := s.Text
		want, ok := theServers(src, text)
		if !ok {
			return
		}
		plan, err := emit.Make(text, nil, st, &policy.Set{})
		got := ours(src, st, text)
		if s.Unordered {
			got, want = sortedRows(got), sortedRows(want)
		}
		switch {
		case got == want:
			count.same++
			if plan != nil && !strings.HasPrefix(got, "error") {
				if ours, theirs := columnsOf(plan), described(text); ours != theirs {
					t.Errorf("%s\nhas the columns %s\nthe server's are %s", text, ours, theirs)
				}
			}
			if strings.HasPrefix(got, "error") {
				count.failing++
			}
		case err != nil && stateOf(err) != want:
			count.refused++
			reason := err.Error()
			if len(reason) > 60 {
				reason = reason[strings.LastIndex(reason[:60], ": ")+1:]
			}
			count.reasons[reason[:min(len(reason), 50)]]++
			if !strings.HasPrefix(want, "error") && !s.Gap && refusable[refusal(err)] == 0 {
				t.Errorf("%s\nis refused: %v\nthe server gives %.300s", text, err, want)
			}
		default:
			sql := ""
			if plan != nil {
				sql = plan.SQL
			}
			t.Errorf("%s\ngives %.300s\nthe server %.300s\n%s", text, got, want, sql)
		}
	}
	parts := []string{corpus.Calls, corpus.Written, corpus.Nested, corpus.Questions}
	counts := map[string]*tally{}
	for _, part := range parts {
		counts[part] = &tally{reasons: map[string]int{}}
	}
	for s := range corpus.Statements(*leakSeed, *questions) {
		count = counts[s.Part]
		ask(s)
	}
	for _, part := range parts {
		t.Logf("%s: %v", part, counts[part])
	}
	if n := counts[corpus.Calls].same; n < 3000 {
		t.Errorf("only %d answers of calls were compared", n)
	}
}

// sortedRows puts the rows of an answer in order.
func sortedRows(answer string) string {
	if strings.HasPrefix(answer, "error") {
		return answer
	}
	rows := strings.Split(answer, " ")
	slices.Sort(rows)
	return strings.Join(rows, " ")
}

var questions = flag.Int("questions", 600, "how many random statements TestTheServersOwnAnswers asks")

// columnsOf writes the names and types of a plan's columns; types of the database's own are
// left out.
func columnsOf(plan *emit.Plan) string {
	var out []string
	for _, c := range plan.Columns {
		oid := uint32(0)
		if c.Type != nil {
			oid = c.Type.OID
		}
		out = append(out, fmt.Sprintf("%s/%d", c.Name, oid))
	}
	return strings.Join(out, ", ")
}

// describer describes the columns of a text as the server does.
func describer(t *testing.T, url string) func(text string) string {
	conn, err := pgx.Connect(context.Background(), url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(context.Background()) })
	return func(text string) string {
		s, err := conn.Prepare(context.Background(), "", strings.ReplaceAll(text, "src.", ""))
		if err != nil {
			return err.Error()
		}
		var out []string
		for _, f := range s.Fields {
			oid := f.DataTypeOID
			if oid >= 16384 {
				oid = 0
			}
			out = append(out, fmt.Sprintf("%s/%d", f.Name, oid))
		}
		return strings.Join(out, ", ")
	}
}

// nasty makes row 2 hold what the most operators and routines fail on.
const nasty = `
	UPDATE typed SET int2 = -32768, int4 = 2147483647, int8 = 9223372036854775807, numeric = '1e131000', money2 = 9999999999999.99, float4 = 3e38, float8 = 1e308,
		text = '([%\', varchar = '{', bpchar = '([', name = '%\', date = '294276-12-31', timestamp = '294276-12-31 23:00', timestamptz = '294276-12-31 23:00+00', interval = '170000000 years',
		json = '"x"', jsonb = '"x"', jsonpath = 'strict $.nosuch', _int4 = '{2147483647,NULL}', _numeric = '{1e131000}', _float8 = '{1e308,1e308}', int4range = '[1,2147483647)', time = '24:00:00', bit = '00000000' WHERE id = 2;
	DELETE FROM other WHERE id > 1;`

// TestPairsOfTheServersOwn: nothing that is called over hidden rows fails or tells of them,
// on two databases of which one has no such rows at all.
func TestPairsOfTheServersOwn(t *testing.T) {
	var pair [2]twin
	for i, more := range []string{"", "DELETE FROM typed WHERE id <> 1;"} {
		src, m := onPostgreSQL(t, corpus.Tables+nasty+more+"ANALYZE")
		set, err := (&policy.Set{}).Apply(policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: "src.s.typed", Mode: policy.Allow,
			Rule: "EXISTS (SELECT 1 FROM s.other WHERE other.typed_id = typed.id AND position('o' in lower(note || 'o')) > 0)"}, m)
		if err != nil {
			t.Fatal(err)
		}
		pair[i] = twin{src, rights(t, m, "flint"), set}
	}
	conditions := []string{}
	for _, name := range slices.Sorted(sqltype.OperatorNames()) {
		for _, o := range sqltype.Operators(name) {
			for _, r := range corpus.OperandsOf(o.Right) {
				if o.Left == nil {
					conditions = append(conditions, "("+name+" "+r+") IS NULL")
					continue
				}
				for _, l := range corpus.OperandsOf(o.Left) {
					conditions = append(conditions, "("+l+" "+name+" "+r+") IS NULL")
				}
			}
		}
	}
	for _, name := range slices.Sorted(sqltype.Names()) {
		for _, r := range sqltype.Routines(name) {
			if r.Kind == sqltype.Function && !r.Set {
				for _, args := range corpus.CallsOf(r) {
					conditions = append(conditions, `"`+name+`"(`+args+`) IS NULL`)
				}
			}
		}
	}
	for _, from := range corpus.Columns {
		for _, to := range corpus.Columns {
			if !strings.HasPrefix(to, "_") {
				conditions = append(conditions, from+"::"+to+" IS NULL", "CASE WHEN bool THEN "+from+" END::text::"+to+" IS NOT NULL")
			}
		}
	}
	// Operands of two types, which the server takes to one unasked.
	for _, l := range []string{"int2", "int4", "int8", "numeric", "float4", "float8", "date", "timestamp", "timestamptz", "text", "varchar", "bpchar", "name", "json", "jsonb"} {
		for _, r := range []string{"int2", "int4", "int8", "numeric", "float4", "float8", "date", "timestamp", "timestamptz", "text", "varchar", "bpchar", "name"} {
			conditions = append(conditions, l+` LIKE 'a\'`, l+" = "+r, l+" IN ("+r+", "+l+")", "("+l+", 1) = ("+r+", 1)", "coalesce("+l+", "+r+") IS NULL", l+" IS DISTINCT FROM "+r, "greatest("+l+", "+r+") = "+l, l+" BETWEEN "+r+" AND "+r)
		}
	}
	conditions = append(conditions, `bytea LIKE '\x5c'`, `bytea LIKE '\x255c'`, `bytea NOT LIKE '\x5c'::bytea`) // patterns that end in an escape
	tried, refused := 0, 0
	for _, c := range conditions {
		text := "SELECT count(*) FROM src.s.typed WHERE id = 2 AND " + c
		if _, err := emit.Make(text, nil, pair[0].st, pair[0].set); err != nil {
			refused++
			continue
		}
		if tried++; !*allPairs && tried%4 != 0 {
			continue
		}
		for _, text := range []string{text, "SELECT o.id FROM src.s.other AS o LEFT JOIN src.s.typed ON typed.id = o.id + 1 AND " + c,
			"SELECT u.id FROM (SELECT id, " + c + " AS hit FROM src.s.typed WHERE id > 1 UNION ALL SELECT id, false FROM src.s.other) AS u WHERE u.hit"} {
			there, _ := pair[0].answer(t, text)
			gone, _ := pair[1].answer(t, text)
			if there != gone {
				t.Errorf("%s\ntells of the hidden row:\n%.300s\n%.300s", text, there, gone)
			}
		}
	}
	t.Logf("%d conditions were tried, %d are not of the language", tried, refused)
	if tried < 4000 {
		t.Errorf("only %d conditions were tried", tried)
	}
}
