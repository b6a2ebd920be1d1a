package source_test

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/sqltype"

	"github.com/jackc/pgx/v5"
)

// The sentence under test: on a PostgreSQL source without policies, a query gives what the
// server itself gives for it, value by value and error by error.

// typed is a table with a column of each type, by the type's name in the catalog.
const typed = `
	CREATE TYPE rock AS ENUM ('gneiss', 'slate', 'chert');
	CREATE TABLE typed (id INTEGER PRIMARY KEY, bool BOOLEAN, int2 SMALLINT, int4 INTEGER, int8 BIGINT, numeric NUMERIC, money2 NUMERIC(15,2), float4 REAL, float8 DOUBLE PRECISION,
		text TEXT, varchar VARCHAR(20), bpchar CHAR(5), name NAME, bytea BYTEA, date DATE, time TIME, timetz TIMETZ, timestamp TIMESTAMP, timestamptz TIMESTAMPTZ, interval INTERVAL,
		uuid UUID, json JSON, jsonb JSONB, jsonpath JSONPATH, inet INET, cidr CIDR, macaddr MACADDR, macaddr8 MACADDR8, bit BIT(8), varbit VARBIT, point POINT, box BOX, circle CIRCLE, lseg LSEG, line LINE, path PATH, polygon POLYGON,
		tsvector TSVECTOR, tsquery TSQUERY, int4range INT4RANGE, int8range INT8RANGE, numrange NUMRANGE, daterange DATERANGE, tsrange TSRANGE, tstzrange TSTZRANGE,
		int4multirange INT4MULTIRANGE, int8multirange INT8MULTIRANGE, nummultirange NUMMULTIRANGE, datemultirange DATEMULTIRANGE, tsmultirange TSMULTIRANGE, tstzmultirange TSTZMULTIRANGE,
		_int4 INTEGER[], _text TEXT[], _numeric NUMERIC[], _jsonb JSONB[], _float8 FLOAT8[], _bool BOOLEAN[], _int8 BIGINT[], _date DATE[], rock rock, _rock rock[], plain JSONB);
	INSERT INTO typed VALUES (1, true, 7, 42, 9000000000, 12345678901234567890.123456789, 1234.50, 0.5, 2.718281828459045,
		'Alder', 'Ash', 'ab', 'Oak', '\x00ff41', '2024-02-29', '13:45:10.25', '13:45:10+02', '2024-02-29 13:45:10.125', '2024-02-29 13:45:10.125+00', '1 year 2 mons 3 days 04:05:06.7',
		'0f8fad5b-d9cb-469f-a165-70867728950e', '{"a": [1, 2.50, null], "b": {"c": "x"}}', '{"a": [1, 2.50, null], "b": {"c": "x"}}', '$.a[*]', '192.168.1.5/24', '10.1.0.0/16', '08:00:2b:01:02:03', '08:00:2b:01:02:03:04:05', '10101010', '101', '(1,2)', '(3,4),(1,1)', '<(1,2),3>', '[(0,0),(3,4)]', '{1,2,3}', '((0,0),(1,1),(2,0))', '((0,0),(1,1),(2,0))',
		'''fat'' ''cat'':2', 'fat & rat', '[1,10)', '[1,10)', '[1.5,9.5)', '[2024-01-01,2024-12-31)', '[2024-01-01,2024-06-01)', '[2024-01-01 00:00+00,2024-06-01 00:00+00)',
		'{[1,5),[7,9)}', '{[1,5),[7,9)}', '{[1.5,2.5)}', '{[2024-01-01,2024-02-01)}', '{[2024-01-01,2024-02-01)}', '{[2024-01-01 00:00+00,2024-02-01 00:00+00)}',
		'{3,1,2}', '{b,NULL,"a c"}', '{1.50,2}', '{"{\"k\": 1}"}', '{1.5,2}', '{t,f}', '{9000000000}', '{2024-02-29}', 'slate', '{slate,gneiss}', '{"n": 1}');
	INSERT INTO typed VALUES (2, false, -3, -1, -5, -0.10, -0.10, -1.25, -3.5, 'birch %', 'Beech', 'z', 'elm', '\x', '1999-12-31', '00:00:00', '00:00:00-05', '1999-12-31 23:59:59', '1999-12-31 23:59:59+00', '-3 days',
		'7c9e6679-7425-40de-944b-e07fc1f90ae7', '[]', '[]', 'strict $', '::1', '::/0', '00:00:00:00:00:00', '00:00:00:00:00:00:00:00', '00000001', '', '(0,0)', '(1,1),(0,0)', '<(0,0),1>', '[(1,1),(1,1)]', '{0,-1,0}', '[(0,0),(1,1)]', '((5,5),(6,6),(7,5))',
		'', '!cat', 'empty', '(,5]', '(,)', '[1999-01-01,)', 'empty', 'empty', '{}', '{}', '{}', '{}', '{}', '{}', '{}', '{}', '{NULL}', '{}', '{}', '{}', '{}', '{}', 'gneiss', '{}', '[1, "n"]');
	INSERT INTO typed (id) VALUES (3);
	CREATE TABLE other (id INTEGER PRIMARY KEY, typed_id INTEGER, amount NUMERIC(12,3), note TEXT);
	INSERT INTO other SELECT i, i % 4, i * 1.125, 'note ' || i FROM generate_series(1, 12) AS i;`

// columnsOf finds the columns of a type, as operands.
var typedColumns = strings.Fields(`bool int2 int4 int8 numeric float4 float8 text varchar bpchar name bytea date time timetz timestamp timestamptz interval uuid json jsonb jsonpath inet cidr macaddr macaddr8 bit varbit
	point box circle lseg line path polygon tsvector tsquery int4range int8range numrange daterange tsrange tstzrange int4multirange int8multirange nummultirange datemultirange tsmultirange tstzmultirange
	_int4 _text _numeric _jsonb _float8 _bool _int8 _date`)

// operandsOf lists what can stand for an operand that is declared so.
func operandsOf(declared *sqltype.Type) []string {
	switch declared.Internal {
	case "any", "anyelement", "anycompatible":
		return []string{"int4", "text", "numeric", "_int4", "date"}
	case "anynonarray", "anycompatiblenonarray":
		return []string{"int4", "text", "numeric"}
	case "anyarray", "anycompatiblearray":
		return []string{"_int4", "_text", "_numeric"}
	case "anyrange", "anycompatiblerange":
		return []string{"int4range", "numrange"}
	case "anymultirange", "anycompatiblemultirange":
		return []string{"int4multirange", "nummultirange"}
	case "anyenum":
		return []string{"rock"}
	}
	if slices.Contains(typedColumns, declared.Internal) {
		return []string{declared.Internal}
	}
	return nil
}

// calls writes calls of a routine over the table's columns.
func callsOf(r *sqltype.Routine) []string {
	var out []string
	for n := len(r.Args) - r.Defaults; n <= len(r.Args); n++ {
		for shift := range 3 {
			var args []string
			for _, a := range r.Args[:n] {
				list := operandsOf(a)
				if list == nil {
					break
				}
				args = append(args, list[shift%len(list)])
			}
			if len(args) < n {
				continue
			}
			if text := strings.Join(args, ", "); !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
	}
	return out
}

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
	src, m := onDatabase(t, url, typed)
	st := rights(t, m, "flint")
	count := &tally{reasons: map[string]int{}}
	described := describer(t, url)
	unordered := false
	ask := func(text string) {
		want, ok := theServers(src, text)
		if !ok {
			return
		}
		plan, err := emit.Make(text, nil, st, &policy.Set{})
		got := ours(src, st, text)
		if unordered {
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
			if !strings.HasPrefix(want, "error") && !strings.HasPrefix(text, "-- gap") {
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
	from := " FROM src.s.typed WHERE id <> 2 ORDER BY id"
	ask = both(ask)
	for _, name := range slices.Sorted(sqltype.OperatorNames()) {
		for _, o := range sqltype.Operators(name) {
			for _, r := range operandsOf(o.Right) {
				if o.Left == nil {
					ask("SELECT " + name + " " + r + from)
					continue
				}
				for _, l := range operandsOf(o.Left) {
					ask("SELECT " + l + " " + name + " " + r + from)
				}
			}
		}
	}
	random := map[string]bool{"random": true, "gen_random_uuid": true, "clock_timestamp": true, "now": true, "transaction_timestamp": true, "statement_timestamp": true, "hash_record": true, "hash_record_extended": true, "age": true}
	for _, name := range slices.Sorted(sqltype.Names()) {
		for _, r := range sqltype.Routines(name) {
			for _, args := range callsOf(r) {
				call := `"` + name + `"(` + args + ")"
				switch {
				case random[name]:
				case r.Kind == sqltype.Aggregate && r.Ordered != 'n':
				case r.Kind == sqltype.Aggregate:
					ask("SELECT " + call + " FROM src.s.typed WHERE id < 3")
				case r.Kind == sqltype.Window:
					ask("SELECT " + call + " OVER (ORDER BY id)" + from)
				case r.Result == sqltype.Record || len(r.Out) > 1:
					ask("SELECT f.* FROM src.s.typed, " + call + " AS f ORDER BY id")
				default:
					ask("SELECT " + call + from)
				}
			}
		}
	}
	for _, from := range typedColumns {
		for _, to := range typedColumns {
			if !strings.HasPrefix(to, "_") {
				ask("SELECT " + from + "::" + to + " FROM src.s.typed WHERE id = 1")
			}
		}
	}
	t.Logf("operators, routines and casts: %v", count)
	if count.same < 3000 {
		t.Errorf("only %d answers were compared", count.same)
	}
	count = &tally{reasons: map[string]int{}}
	corpus, err := os.ReadFile("testdata/statements.sql")
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range strings.Split(string(corpus), ";\n") {
		if text = strings.TrimSpace(text); text != "" && (!strings.HasPrefix(text, "--") || strings.HasPrefix(text, "-- gap")) {
			ask(text)
		}
	}
	t.Logf("statements: %v", count)
	count = &tally{reasons: map[string]int{}}
	r := rand.New(rand.NewPCG(3, 5))
	for range 400 {
		ask(randomStatement(r))
	}
	t.Logf("random expressions: %v", count)
	count = &tally{reasons: map[string]int{}}
	unordered = true
	for n := range *questions {
		q := &questioner{r: rand.New(rand.NewPCG(*leakSeed, uint64(n)))}
		ask(q.statement())
	}
	t.Logf("random questions: %v", count)
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

// both asks for all rows, too: of those some values fail.
func both(ask func(string)) func(string) {
	return func(text string) {
		ask(text)
		if all := strings.Replace(text, " WHERE id <> 2", "", 1); all != text {
			ask(all)
		}
	}
}

// randomStatement nests operators and routines over the table at random.
func randomStatement(r *rand.Rand) string {
	var value func(t *sqltype.Type, depth int) string
	value = func(want *sqltype.Type, depth int) string {
		if depth > 0 {
			for range 6 {
				names := slices.Sorted(sqltype.OperatorNames())
				list := sqltype.Operators(names[r.IntN(len(names))])
				o := list[r.IntN(len(list))]
				if o.Result == want && o.Left != nil && operandsOf(o.Left) != nil && operandsOf(o.Right) != nil && o.Left.Kind != sqltype.Pseudo && o.Right.Kind != sqltype.Pseudo {
					return "(" + value(o.Left, depth-1) + " " + o.Name + " " + value(o.Right, depth-1) + ")"
				}
			}
		}
		if list := operandsOf(want); list != nil {
			return list[0]
		}
		return "NULL"
	}
	kinds := []*sqltype.Type{sqltype.Numeric, sqltype.Int4, sqltype.Float8, sqltype.Text, sqltype.Boolean, sqltype.Date, sqltype.Timestamp, sqltype.Interval, sqltype.JSONB}
	k := kinds[r.IntN(len(kinds))]
	return fmt.Sprintf("SELECT %s, CASE WHEN %s THEN %s ELSE %s END FROM src.s.typed WHERE %s IS NOT NULL OR id < 4 ORDER BY id",
		value(k, 3), value(sqltype.Boolean, 2), value(k, 2), value(k, 1), value(sqltype.Boolean, 2))
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
		src, m := onPostgreSQL(t, typed+nasty+more+"ANALYZE")
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
			for _, r := range operandsOf(o.Right) {
				if o.Left == nil {
					conditions = append(conditions, "("+name+" "+r+") IS NULL")
					continue
				}
				for _, l := range operandsOf(o.Left) {
					conditions = append(conditions, "("+l+" "+name+" "+r+") IS NULL")
				}
			}
		}
	}
	for _, name := range slices.Sorted(sqltype.Names()) {
		for _, r := range sqltype.Routines(name) {
			if r.Kind == sqltype.Function && !r.Set {
				for _, args := range callsOf(r) {
					conditions = append(conditions, `"`+name+`"(`+args+`) IS NULL`)
				}
			}
		}
	}
	for _, from := range typedColumns {
		for _, to := range typedColumns {
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
