package source_test

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
	"gneiss/source/postgres"
)

// values tell databases apart.
const values = `
	CREATE TABLE v (id INTEGER NOT NULL, n INTEGER, x DOUBLE PRECISION, s TEXT, d DATE, at TIMESTAMP, b BOOLEAN);
	INSERT INTO v VALUES (1, 7, 2.5, 'Alder', '2024-02-29', '2024-02-29 13:45:10', true), (2, -7, -2.5, 'birch', '2023-12-31', '2023-12-31 23:59:59', false), (3, NULL, NULL, NULL, NULL, NULL, NULL), (4, 0, 0.0, '', '2024-03-01', '2024-03-01 00:00:00', true);
	CREATE TABLE w (id INTEGER NOT NULL, v_id INTEGER, t TEXT);
	CREATE TABLE k (id INTEGER PRIMARY KEY, t TEXT);
	INSERT INTO k VALUES (1, 'one'), (2, 'two');
	INSERT INTO w VALUES (10, 1, 'a'), (11, 1, 'b'), (12, 2, 'a'), (13, 9, 'z'), (14, NULL, 'n')`

// rowsOf runs a query as a reader's and writes its rows in one line.
func rowsOf(t *testing.T, src source.Source, st *access.Rights, text string, params ...any) string {
	t.Helper()
	plan, err := emit.Make(text, params, st, &policy.Set{})
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	start := time.Date(2026, 11, 23, 10, 30, 0, 0, time.UTC)
	out, err := answerOf(src, plan.SQL, source.Bind(plan.Args, source.Facts{Start: start, Key: testKey, Nonce: testNonce}), plan.Columns)
	if err != nil {
		t.Fatalf("%s: %v\n%s", text, err, plan.SQL)
	}
	return out
}

// answerOf runs a statement and writes its rows in one line.
func answerOf(src source.Source, text string, args []any, columns []query.Column) (string, error) {
	var out []string
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	err := src.Run(ctx, text, args, columns, func(row []any) error {
		cells := make([]string, len(row))
		for i, v := range row {
			cells[i] = fmt.Sprint(v)
			if v == nil {
				cells[i] = "∅"
			}
		}
		out = append(out, strings.Join(cells, ","))
		return nil
	})
	return strings.Join(out, " "), err
}

// theServers is what a PostgreSQL server itself answers to a text, or its error by its
// SQLSTATE; ok is false for another source, and for a text that is not the server's.
func theServers(src source.Source, text string) (answer string, ok bool) {
	if _, onServer := src.(*postgres.Source); !onServer || facts.MatchString(text) {
		return "", false
	}
	answer, err := answerOf(src, strings.ReplaceAll(text, "src.", ""), nil, nil)
	return answer + stateOf(err), true
}

var facts = regexp.MustCompile(`(?i)current_|purpose|in_group|localtime`)

// stateOf is the SQLSTATE of an error.
func stateOf(err error) string {
	var unfit *source.Unfit
	var q *query.Error
	var c *source.Constraint
	switch {
	case errors.As(err, &c):
		return "error " + map[string]string{"NOT NULL": "23502", "FOREIGN KEY": "23503", "UNIQUE": "23505", "PRIMARY KEY": "23505", "CHECK": "23514"}[c.Kind]
	case err == nil:
		return ""
	case errors.As(err, &unfit):
		return "error " + unfit.SQLState
	case errors.As(err, &q) && q.SQLState != "":
		return "error " + q.SQLState
	}
	return "error " + err.Error()
}

// ours is what Gneiss answers to a text without policies, in the form of theServers.
func ours(src source.Source, st *access.Rights, text string) string {
	plan, err := emit.Make(text, nil, st, &policy.Set{})
	if err != nil {
		return stateOf(err)
	}
	answer, err := answerOf(src, plan.SQL, source.Bind(plan.Args, source.Facts{Start: time.Now(), Key: testKey, Nonce: testNonce}), plan.Columns)
	return answer + stateOf(err)
}

// TestExpressions holds what expressions give: on PostgreSQL what the server itself gives, and
// elsewhere the same but for the differences that docs/sql.md lists. Each is taken over the four rows of
// v, in the order of their ids.
func TestExpressions(t *testing.T) {
	engines(t, func(t *testing.T, made maker) {
		src, m := made(t, values)
		st := rights(t, m, "flint")
		for _, c := range expressionCases {
			t.Run(c.expr, func(t *testing.T) {
				text := "SELECT " + c.expr + " FROM src.s.v ORDER BY v.id"
				if want, ok := theServers(src, text); ok {
					if got := ours(src, st, text); got != want {
						t.Errorf("got %s, the server itself gives %s", got, want)
					}
					return
				}
				if c.want == "error" {
					if _, err := emit.Make(text, nil, st, &policy.Set{}); err == nil {
						t.Error("it should be refused")
					}
					return
				}
				if got := rowsOf(t, src, st, text); got != c.want {
					t.Errorf("got %s, want %s", got, c.want)
				}
			})
		}
	})
}

var expressionCases = []struct{ expr, want string }{
	// Numbers.
	{"n + 1", "8 -6 ∅ 1"}, {"n - 0.5", "6.5 -7.5 ∅ -0.5"}, {"n * x", "17.5 17.5 ∅ 0"}, {"n / 2", "3 -3 ∅ 0"}, {"n % 3", "1 -1 ∅ 0"},
	{"n / 2.0", "3.5 -3.5 ∅ 0"}, {"1 / n", "0 0 ∅ ∅"}, {"x / 0", "∅ ∅ ∅ ∅"}, {"n % 0", "∅ ∅ ∅ ∅"}, {"- n", "-7 7 ∅ 0"}, {"+ n", "7 -7 ∅ 0"},
	{"abs(n)", "7 7 ∅ 0"}, {"abs(x)", "2.5 2.5 ∅ 0"}, {"floor(x)", "2 -3 ∅ 0"}, {"ceil(x)", "3 -2 ∅ 0"}, {"ceiling(n)", "7 -7 ∅ 0"},
	{"round(x * 1.1, 1)", "2.8 -2.8 ∅ 0"}, {"round(n)", "7 -7 ∅ 0"}, {"mod(n, 4)", "3 -3 ∅ 0"}, {"9223372036854775807", "9223372036854775807 9223372036854775807 9223372036854775807 9223372036854775807"},
	// Texts.
	{"upper(s)", "ALDER BIRCH ∅ "}, {"lower(s)", "alder birch ∅ "}, {"length(s)", "5 5 ∅ 0"}, {"char_length(s)", "5 5 ∅ 0"}, {"s || '!'", "Alder! birch! ∅ !"}, {"s || n", "Alder7 birch-7 ∅ 0"},
	{"substring(s from 2 for 3)", "lde irc ∅ "}, {"substr(s, 3)", "der rch ∅ "}, {"left(s, 2)", "Al bi ∅ "}, {"right(s, 2)", "er ch ∅ "}, {"right(s, 0)", "  ∅ "},
	{"trim('  x ')", "x x x x"}, {"trim(both 'A' from s)", "lder birch ∅ "}, {"ltrim(s, 'bA')", "lder irch ∅ "}, {"rtrim(s, 'rh')", "Alde birc ∅ "}, {"replace(s, 'i', 'ii')", "Alder biirch ∅ "},
	{"position('r' in s)", "5 3 ∅ 0"}, {"strpos(s, 'x')", "0 0 ∅ 0"}, {"concat(s, '-', n)", "error"}, {"concat(s, '-', n::text)", "Alder-7 birch--7 - -0"},
	{"s LIKE 'a%'", "false false ∅ false"}, {"s ILIKE 'a%'", "true false ∅ false"}, {"s LIKE '_irch'", "false true ∅ false"}, {"s NOT LIKE '%r'", "false true ∅ true"}, {`'a%b' LIKE 'a\%b'`, "true true true true"}, {`'axb' LIKE 'a\%b'`, "false false false false"},
	// Truth.
	{"b", "true false ∅ true"}, {"NOT b", "false true ∅ false"}, {"b IS TRUE", "true false false true"}, {"b IS NOT TRUE", "false true true false"}, {"b IS FALSE", "false true false false"}, {"b IS UNKNOWN", "false false true false"},
	{"b AND n > 0", "true false ∅ false"}, {"b OR n IS NULL", "true false true true"}, {"n IS NULL", "false false true false"}, {"n IS NOT NULL", "true true false true"},
	{"n = 7", "true false ∅ false"}, {"n <> 7", "false true ∅ true"}, {"n IS DISTINCT FROM 7", "false true true true"}, {"n IS NOT DISTINCT FROM NULL", "false false true false"},
	{"n BETWEEN 0 AND 7", "true false ∅ true"}, {"n NOT BETWEEN 0 AND 7", "false true ∅ false"}, {"n IN (7, 0)", "true false ∅ true"}, {"n NOT IN (7, NULL)", "false ∅ ∅ ∅"}, {"s < 'b'", "true false ∅ true"},
	{"CASE WHEN n > 0 THEN 'up' WHEN n < 0 THEN 'down' END", "up down ∅ ∅"}, {"CASE n WHEN 7 THEN 1 ELSE 2.5 END", "1 2.5 2.5 2.5"},
	{"coalesce(n, 99)", "7 -7 99 0"}, {"nullif(n, 7)", "∅ -7 ∅ 0"}, {"greatest(n, 1)", "7 1 1 1"}, {"least(n, x, 1)", "1 -7 1 0"}, {"greatest(NULL, s, 'M')", "M birch M M"},
	// Casts.
	{"CAST(x AS integer)", "3 -3 ∅ 0"}, {"n::text", "7 -7 ∅ 0"}, {"b::text", "true false ∅ true"}, {"b::int", "1 0 ∅ 1"}, {"n::boolean", "true true ∅ false"}, {"'12'::int + n", "19 5 ∅ 12"},
	{"TIMESTAMP '2024-01-05 10:00:00.50' < TIMESTAMP '2024-01-05 10:00:00.6'", "true true true true"}, {"TIMESTAMP '2024-01-05 10:00' = TIMESTAMP '2024-01-05T10:00:00Z'", "true true true true"},
	{"(TIMESTAMP '2024-01-31T10:00:00.1200000' + INTERVAL '1 month')::text", "2024-02-29 10:00:00.12 2024-02-29 10:00:00.12 2024-02-29 10:00:00.12 2024-02-29 10:00:00.12"}, {"DATE '2024-01-05 10:00:00'", "2024-01-05 2024-01-05 2024-01-05 2024-01-05"},
	{"('2024-01-05T23:59:59.9' || '')::timestamp::text", "2024-01-05 23:59:59.9 2024-01-05 23:59:59.9 2024-01-05 23:59:59.9 2024-01-05 23:59:59.9"}, {"('2024-01-05 23:59:59.9999999' || '')::date", "2024-01-05 2024-01-05 2024-01-05 2024-01-05"},
	{"s::int", "∅ ∅ ∅ ∅"}, {"(n::text || '0')::int", "70 -70 ∅ 0"}, {"s::date", "∅ ∅ ∅ ∅"}, {"d::text", "2024-02-29 2023-12-31 ∅ 2024-03-01"}, {"at::date", "2024-02-29 2023-12-31 ∅ 2024-03-01"}, {"d::timestamp", "2024-02-29 00:00:00 2023-12-31 00:00:00 ∅ 2024-03-01 00:00:00"},
	// Dates.
	{"d + 1", "2024-03-01 2024-01-01 ∅ 2024-03-02"}, {"d - 60", "2023-12-31 2023-11-01 ∅ 2024-01-01"}, {"d - DATE '2024-01-01'", "59 -1 ∅ 60"}, {"d > '2024-01-01'", "true false ∅ true"}, {"d = at", "false false ∅ true"},
	{"extract(year from d)", "2024 2023 ∅ 2024"}, {"extract(month from at)", "2 12 ∅ 3"}, {"extract(day from d)", "29 31 ∅ 1"}, {"extract(quarter from d)", "1 4 ∅ 1"}, {"extract(dow from d)", "4 0 ∅ 5"},
	{"date_trunc('month', d)", "2024-02-01 2023-12-01 ∅ 2024-03-01"}, {"date_trunc('quarter', d)", "2024-01-01 2023-10-01 ∅ 2024-01-01"}, {"date_trunc('year', at)", "2024-01-01 00:00:00 2023-01-01 00:00:00 ∅ 2024-01-01 00:00:00"}, {"date_trunc('day', at)", "2024-02-29 00:00:00 2023-12-31 00:00:00 ∅ 2024-03-01 00:00:00"},
	{"extract(isodow from d)", "4 7 ∅ 5"}, {"extract(doy from d)", "60 365 ∅ 61"}, {"extract(week from d)", "9 52 ∅ 9"}, {"extract(hour from at)", "13 23 ∅ 0"}, {"date_part('second', at)", "10 59 ∅ 0"}, {"extract(minute from d)", "0 0 ∅ 0"},
	{"date_trunc('week', d)", "2024-02-26 2023-12-25 ∅ 2024-02-26"}, {"date_trunc('week', at)", "2024-02-26 00:00:00 2023-12-25 00:00:00 ∅ 2024-02-26 00:00:00"}, {"date_trunc('hour', at)", "2024-02-29 13:00:00 2023-12-31 23:00:00 ∅ 2024-03-01 00:00:00"}, {"date_trunc('minute', at)", "2024-02-29 13:45:00 2023-12-31 23:59:00 ∅ 2024-03-01 00:00:00"},
	{"d + INTERVAL '1 month'", "2024-03-29 00:00:00 2024-01-31 00:00:00 ∅ 2024-04-01 00:00:00"}, {"d - INTERVAL '1 year 1 day'", "2023-02-27 00:00:00 2022-12-30 00:00:00 ∅ 2023-02-28 00:00:00"}, {"d + INTERVAL '2 months'", "2024-04-29 00:00:00 2024-02-29 00:00:00 ∅ 2024-05-01 00:00:00"}, {"at + INTERVAL '15 minutes'", "2024-02-29 14:00:10 2024-01-01 00:14:59 ∅ 2024-03-01 00:15:00"}, {"n + INTERVAL '1 day'", "error"}, {"d + INTERVAL 'P1D'", "error"},
	{"to_char(d, 'YYYY-MM')", "2024-02 2023-12 ∅ 2024-03"}, {"to_char(at, 'Month')", "error"}, {"to_char(at, 'DD.MM HH24:MI:SS')", "29.02 13:45:10 31.12 23:59:59 ∅ 01.03 00:00:00"}, {"make_date(2024, n + 8, 31)", "∅ 2024-01-31 ∅ 2024-08-31"},
	// More numbers and texts.
	{"sign(n)", "1 -1 ∅ 0"}, {"sqrt(n)", "2.6457513110645907 ∅ ∅ 0"}, {"ln(x)", "0.9162907318741551 ∅ ∅ ∅"}, {"power(n, 2)", "49 49 ∅ 0"}, {"exp(n - n)", "1 1 ∅ 1"}, {"log(100)", "2 2 2 2"}, {"trunc(x)", "2 -2 ∅ 0"}, {"trunc(x * 1.01, 1)", "2.5 -2.5 ∅ 0"}, {"trunc(n)", "7 -7 ∅ 0"},
	{"lpad(s, 9, 'äb')", "äbäbAlder äbäbbirch ∅ äbäbäbäbä"}, {"lpad(s, 7, '*')", "**Alder **birch ∅ *******"}, {"rpad(s, 3)", "Ald bir ∅    "}, {"reverse(s)", "redlA hcrib ∅ "}, {"initcap('old SLATE-pit')", "Old Slate-Pit Old Slate-Pit Old Slate-Pit Old Slate-Pit"}, {"starts_with(s, 'b')", "false true ∅ false"},
	{"split_part(s, 'r', 1)", "Alde bi ∅ "}, {"split_part('a-b-c', '-', 2)", "b b b b"}, {"split_part(s, 'r', 9)", "  ∅ "}, {"concat_ws('-', s, NULL, 'x')", "Alder-x birch-x x -x"}, {"lpad(s, 5000)", "error"},
	// Facts.
	{"CURRENT_USER", "flint flint flint flint"}, {"CURRENT_DATE", "2026-11-23 2026-11-23 2026-11-23 2026-11-23"}, {"now() = CURRENT_TIMESTAMP", "true true true true"}, {"CURRENT_TIMESTAMP::timestamp", strings.TrimSpace(strings.Repeat("2026-11-23 10:30:00 ", 4))}, {"purpose()", "audit audit audit audit"}, {"in_group('north')", "false false false false"},
	// Sub-queries.
	{"(SELECT count(*) FROM src.s.w WHERE v_id = v.id)", "2 1 0 0"}, {"EXISTS (SELECT 1 FROM src.s.w WHERE v_id = v.id AND t = 'b')", "true false false false"}, {"id IN (SELECT v_id FROM src.s.w)", "true true ∅ ∅"}, {"id = ANY (SELECT v_id FROM src.s.w WHERE v_id IS NOT NULL)", "true true false false"},
	{"(SELECT max(t) FROM src.s.w WHERE v_id = id)", "∅ ∅ ∅ ∅"},
}

// TestQueries holds what whole queries give.
func TestQueries(t *testing.T) {
	engines(t, func(t *testing.T, made maker) {
		src, m := made(t, values)
		st := rights(t, m, "flint")
		for _, c := range queries {
			t.Run(c.name, func(t *testing.T) {
				if want, ok := theServers(src, c.text); ok {
					c.want = want
				}
				if got := rowsOf(t, src, st, c.text); got != c.want {
					t.Errorf("%s\ngot  %s\nwant %s", c.text, got, c.want)
				}
			})
		}
		if got := rowsOf(t, src, st, "SELECT id FROM src.s.v WHERE n = $1 OR s = $2 OR d = $3 OR b = $4 ORDER BY id", int64(7), "birch", "2024-03-01", nil); got != "1 2 4" {
			t.Errorf("parameters: %s", got)
		}
	})
}

var queries = []struct{ name, text, want string }{
	{"NULLs last when ascending", "SELECT n FROM src.s.v ORDER BY n", "-7 0 7 ∅"},
	{"NULLs first when descending", "SELECT n FROM src.s.v ORDER BY n DESC", "∅ 7 0 -7"},
	{"NULLs where they are asked for", "SELECT n FROM src.s.v ORDER BY n NULLS FIRST", "∅ -7 0 7"},
	{"an order by an expression", "SELECT id FROM src.s.v ORDER BY abs(n) DESC NULLS LAST, id", "1 2 4 3"},
	{"an order by a number", "SELECT s, id FROM src.s.v ORDER BY 2 DESC LIMIT 2", ",4 ∅,3"},
	{"LIMIT and OFFSET", "SELECT id FROM src.s.v ORDER BY id LIMIT 2 OFFSET 1", "2 3"},
	{"OFFSET alone", "SELECT id FROM src.s.v ORDER BY id OFFSET 3", "4"},
	{"LIMIT ALL", "SELECT count(*) FROM (SELECT 1 FROM src.s.v LIMIT ALL) x", "4"},
	{"an inner join", "SELECT v.id, w.id FROM src.s.v JOIN src.s.w ON w.v_id = v.id ORDER BY 2", "1,10 1,11 2,12"},
	{"a left join", "SELECT v.id, w.id FROM src.s.v LEFT JOIN src.s.w ON w.v_id = v.id AND w.t = 'a' ORDER BY 1", "1,10 2,12 3,∅ 4,∅"},
	{"a right join", "SELECT v.id, w.id FROM src.s.v RIGHT JOIN src.s.w ON w.v_id = v.id ORDER BY 2", "1,10 1,11 2,12 ∅,13 ∅,14"},
	{"a full join", "SELECT count(*), count(v.id), count(w.id) FROM src.s.v FULL JOIN src.s.w ON w.v_id = v.id", "7,5,5"},
	{"a join of a join", "SELECT count(*) FROM src.s.v a LEFT JOIN (src.s.w b JOIN src.s.v c ON b.v_id = c.id) ON b.v_id = a.id", "5"},
	{"a comma", "SELECT count(*) FROM src.s.v, src.s.w WHERE w.v_id = v.id", "3"},
	{"a comma before a right join", "SELECT count(*) FROM src.s.v a, src.s.v b RIGHT JOIN src.s.w c ON c.v_id = b.id", "20"},
	{"USING names the column once", "SELECT * FROM (SELECT id, n FROM src.s.v) a JOIN (SELECT v_id AS id, t FROM src.s.w) b USING (id) ORDER BY t, id", "1,7,a 2,-7,a 1,7,b"},
	{"a full join with USING", "SELECT id, t FROM (SELECT id FROM src.s.v) a FULL JOIN (SELECT v_id AS id, t FROM src.s.w) b USING (id) ORDER BY id, t", "1,a 1,b 2,a 3,∅ 4,∅ 9,z ∅,n"},
	{"NATURAL JOIN", "SELECT count(*) FROM (SELECT id FROM src.s.v) a NATURAL JOIN (SELECT v_id AS id FROM src.s.w) b", "3"},
	{"groups", "SELECT b, count(*), sum(n), min(s), max(d) FROM src.s.v GROUP BY b ORDER BY b", "false,1,-7,birch,2023-12-31 true,2,7,,2024-03-01 ∅,1,∅,∅,∅"},
	{"groups by an output column", "SELECT n > 0 AS up, count(*) FROM src.s.v GROUP BY up ORDER BY up", "false,2 true,1 ∅,1"},
	{"groups by a number, with HAVING", "SELECT b, count(*) FROM src.s.v GROUP BY 1 HAVING count(*) > 1", "true,2"},
	{"HAVING without GROUP BY", "SELECT count(*) FROM src.s.v HAVING count(*) > 10", ""},
	{"aggregates of nothing", "SELECT count(*), sum(n), avg(n), min(s), bool_and(b) FROM src.s.v WHERE false", "0,∅,∅,∅,∅"},
	{"truth aggregates", "SELECT bool_and(b), bool_or(b), every(n > 100), avg(n) FROM src.s.v", "false,true,false,0"},
	{"DISTINCT in an aggregate, and FILTER", "SELECT count(DISTINCT t), count(*) FILTER (WHERE t = 'a') FROM src.s.w", "4,2"},
	{"DISTINCT", "SELECT DISTINCT t FROM src.s.w WHERE t IN ('a', 'b') ORDER BY t", "a b"},
	{"UNION takes duplicates out", "SELECT t FROM src.s.w UNION SELECT 'a' ORDER BY 1", "a b n z"},
	{"UNION ALL keeps them", "SELECT count(*) FROM (SELECT t FROM src.s.w UNION ALL SELECT 'a') x", "6"},
	{"INTERSECT binds before UNION", "SELECT 1 AS c UNION SELECT 2 INTERSECT SELECT 3 ORDER BY c", "1"},
	{"EXCEPT", "SELECT id FROM src.s.v EXCEPT SELECT v_id FROM src.s.w ORDER BY 1", "3 4"},
	{"sides with an order of their own", "(SELECT id FROM src.s.v ORDER BY id DESC LIMIT 1) UNION ALL (SELECT id FROM src.s.w ORDER BY id LIMIT 1) ORDER BY id", "4 10"},
	{"sides of other types", "SELECT 1 AS c UNION ALL SELECT 2.5 ORDER BY c", "1 2.5"},
	{"WITH, twice", "WITH a AS (SELECT id AS k FROM src.s.v WHERE n IS NOT NULL), b (m) AS (SELECT k + 1 FROM a) SELECT a.k FROM a JOIN b ON a.k = b.m ORDER BY 1", "2"},
	{"WITH within a sub-query", "SELECT (WITH x AS (SELECT max(id) AS m FROM src.s.w) SELECT m FROM x)", "14"},
	{"an inner WITH hides an outer", "WITH x AS (SELECT 1 AS k) SELECT * FROM (WITH x AS (SELECT 2 AS k) SELECT k FROM x) y, x", "2,1"},
	{"columns of one name", "SELECT * FROM (SELECT a.id, b.id FROM src.s.v a JOIN src.s.v b ON a.id = b.id) x ORDER BY 1 LIMIT 1", "1,1"},
	{"an alias that is quoted", `SELECT "A B"."id" AS "Odd ""name""" FROM src.s.v AS "A B" ORDER BY "Odd ""name""" LIMIT 1`, "1"},
	{"alias lists", "SELECT q.b FROM (SELECT 1, 2) AS q (a, b)", "2"},
	{"row_number", "SELECT id, row_number() OVER (PARTITION BY b ORDER BY id) FROM src.s.v ORDER BY id", "1,1 2,1 3,1 4,2"},
	{"a running sum", "SELECT id, sum(n) OVER (ORDER BY id) FROM src.s.v ORDER BY id", "1,7 2,0 3,0 4,0"},
	{"a frame", "SELECT id, count(*) OVER (ORDER BY id ROWS BETWEEN 1 PRECEDING AND CURRENT ROW) FROM src.s.v ORDER BY id", "1,1 2,2 3,2 4,2"},
	{"lag and lead", "SELECT id, lag(id) OVER w, lead(id, 1, 0) OVER w FROM src.s.v WINDOW w AS (ORDER BY id) ORDER BY id", "1,∅,2 2,1,3 3,2,4 4,3,0"},
	{"windows built on others", "SELECT id, sum(id) OVER (w ORDER BY id DESC), count(*) OVER v, sum(id) OVER (v ROWS BETWEEN 1 PRECEDING AND CURRENT ROW) FROM src.s.v WINDOW w AS (PARTITION BY b), v AS (w ORDER BY id) ORDER BY id", "1,5,1,1 2,2,1,2 3,3,1,3 4,4,2,5"},
	{"rank sorts NULLs as PostgreSQL", "SELECT id, rank() OVER (ORDER BY n) FROM src.s.v ORDER BY id", "1,3 2,1 3,4 4,2"},
	{"a window over groups", "SELECT b, rank() OVER (ORDER BY count(*) DESC, b) FROM src.s.v GROUP BY b ORDER BY 2", "true,1 false,2 ∅,3"},
	{"VALUES", "VALUES (1, 'a'), (2, NULL) ORDER BY 1 DESC", "2,∅ 1,a"},
	{"VALUES as a table", "SELECT v.b, v.a FROM (VALUES (1, 'x'), (2.5, 'y')) AS v (a, b) WHERE a > 1", "y,2.5"},
	{"VALUES in a WITH query", "WITH w (k, t) AS (VALUES (1, 'one'), (7, 'seven')) SELECT v.id, w.t FROM src.s.v JOIN w ON w.k = v.n", "1,seven"},
	{"IN (VALUES …)", "SELECT id FROM src.s.w WHERE id IN (VALUES (10), (12)) ORDER BY 1", "10 12"},
	{"VALUES in a union", "SELECT n FROM (SELECT n FROM src.s.v UNION ALL VALUES (99)) AS x ORDER BY n NULLS FIRST", "∅ -7 0 7 99"},
	{"WITH RECURSIVE counts", "WITH RECURSIVE c (n) AS (VALUES (1) UNION ALL SELECT n + 1 FROM c WHERE n < 5) SELECT sum(n), max(n) FROM c", "15,5"},
	{"WITH RECURSIVE over a table ends where nothing is new", "WITH RECURSIVE c AS (SELECT id, v_id FROM src.s.w WHERE id = 10 UNION SELECT w.id, w.v_id FROM src.s.w AS w JOIN c ON w.v_id = c.v_id) SELECT * FROM c ORDER BY id", "10,1 11,1"},
	{"DISTINCT ON keeps the first by the order", "SELECT DISTINCT ON (v_id) v_id, id FROM src.s.w ORDER BY v_id, id DESC", "1,11 2,12 9,13 ∅,14"},
	{"DISTINCT ON with an order that is not selected", "SELECT DISTINCT ON (t) t FROM src.s.w ORDER BY t, id DESC LIMIT 2", "a b"},
	{"DISTINCT ON of groups", "SELECT DISTINCT ON (v_id) v_id, count(*) AS n FROM src.s.w GROUP BY v_id, t ORDER BY v_id, n DESC", "1,1 2,1 9,1 ∅,1"},
	{"GROUPING SETS", "SELECT v_id, t, count(*) FROM src.s.w GROUP BY GROUPING SETS ((v_id), (t), ()) ORDER BY 1, 2, 3", "1,∅,2 2,∅,1 9,∅,1 ∅,a,2 ∅,b,1 ∅,n,1 ∅,z,1 ∅,∅,1 ∅,∅,5"},
	{"ROLLUP and GROUPING", "SELECT v_id, t, count(*), grouping(v_id, t) AS g FROM src.s.w GROUP BY ROLLUP (v_id, t) ORDER BY g, 1, 2", "1,a,1,0 1,b,1,0 2,a,1,0 9,z,1,0 ∅,n,1,0 1,∅,2,1 2,∅,1,1 9,∅,1,1 ∅,∅,1,1 ∅,∅,5,3"},
	{"CUBE of no rows has the row of all", "SELECT v_id, t, count(*) FROM src.s.w WHERE id > 99 GROUP BY CUBE (v_id, t)", "∅,∅,0"},
	{"ROLLUP with HAVING and an expression", "SELECT t, coalesce(t, 'all') || '!' FROM src.s.w GROUP BY ROLLUP (t) HAVING count(*) > 1 ORDER BY 2", "a,a! ∅,all!"},
	{"GROUPING of a plain group", "SELECT v_id, grouping(v_id) FROM src.s.w GROUP BY v_id ORDER BY 1 LIMIT 1", "1,0"},
	{"HAVING makes one group of nothing", "SELECT 1 FROM src.s.w WHERE id > 99 HAVING true", "1"},
	{"string_agg", "SELECT string_agg(t, '-' ORDER BY t DESC), string_agg(t, ',' ORDER BY id) FILTER (WHERE v_id = 1) FROM src.s.w", "z-n-b-a-a,a,b"},
	{"spreads", "SELECT var_pop(n), stddev_pop(n - n), var_samp(n), stddev(id) > 1.29 FROM src.s.v", "32.666666666666664,0,49,true"},
	{"a spread of one value", "SELECT variance(n), var_pop(n) FROM src.s.v WHERE id = 1", "∅,0"},
	{"ntile and nth_value", "SELECT id, ntile(2) OVER (ORDER BY id), nth_value(id, 2) OVER (ORDER BY id) FROM src.s.v ORDER BY id", "1,1,∅ 2,1,2 3,2,2 4,2,2"},
	{"no table at all", "SELECT 1 + 1 AS two, 'x' AS x", "2,x"},
	{"a correlated derived table in a sub-query", "SELECT id, (SELECT max(q.k) FROM (SELECT w.id AS k FROM src.s.w WHERE w.v_id = v.id) q) FROM src.s.v ORDER BY id LIMIT 2", "1,11 2,12"},
}
