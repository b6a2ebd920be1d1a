package corpus

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// A Questioner writes whole statements at random over typed and other: joins, sub-queries of each
// kind, groups, windows, set operations of other types, functions in FROM.
type Questioner struct {
	r      *rand.Rand
	n      int
	steady bool
	scope  []string // aliases that columns can be named of
}

// NewQuestioner makes one; a steady one leaves out what depends on the order of rows that are alike.
func NewQuestioner(r *rand.Rand, steady bool) *Questioner { return &Questioner{r: r, steady: steady} }

// kindsOfColumns are columns of typed and other by a rough kind.
var kindsOfColumns = map[string][]string{
	"number": {"t.int2", "t.int4", "t.int8", "t.numeric", "t.money2", "t.float8", "t.id"},
	"text":   {"t.text", "t.varchar", "t.bpchar", "t.name"},
	"time":   {"t.date", "t.timestamp", "t.timestamptz"},
	"truth":  {"t.bool"},
	"json":   {"t.jsonb"},
	"array":  {"t._int4", "t._numeric"},
	"other":  {"t.uuid", "t.rock", "t.interval", "t.bytea", "t.inet", "t.int4range"},
}

var ofOther = map[string][]string{"number": {"o.id", "o.typed_id", "o.amount"}, "text": {"o.note"}}

func (q *Questioner) pick(list ...string) string { return list[q.r.IntN(len(list))] }

func (q *Questioner) column(kind string) string {
	alias := q.scope[q.r.IntN(len(q.scope))]
	list := kindsOfColumns[kind]
	if strings.HasPrefix(alias, "o") {
		if list = ofOther[kind]; list == nil {
			return q.constant(kind)
		}
	}
	_, name, _ := strings.Cut(q.pick(list...), ".")
	return alias + "." + name
}

func (q *Questioner) constant(kind string) string {
	switch kind {
	case "number":
		return q.pick("1", "2.50", "-3", "9000000000", "'4'", "NULL", "0.5::real", "7::smallint", "1e2")
	case "text":
		return q.pick("'a'", "'Alder'::varchar", "NULL", "'ab'::char(5)", "'o''x'", "'n'::name")
	case "time":
		return q.pick("DATE '2024-02-29'", "'2024-01-01'::timestamp", "'2024-03-01 12:00+02'::timestamptz", "NULL::date")
	case "truth":
		return q.pick("true", "false", "NULL::boolean")
	case "json":
		return q.pick(`'{"a": 1}'::jsonb`, "'[]'::jsonb")
	case "array":
		return q.pick("ARRAY[1, 2]", "'{3}'::integer[]", "ARRAY[1.5]")
	}
	return q.pick("NULL", "'slate'::s.rock", "INTERVAL '1 day'")
}

func (q *Questioner) value(kind string, depth int) string {
	if depth <= 0 {
		if q.r.IntN(4) == 0 {
			return q.constant(kind)
		}
		return q.column(kind)
	}
	v := func(kind string) string { return q.value(kind, depth-1) }
	switch kind {
	case "number":
		return q.pick(
			"("+v("number")+q.pick(" + ", " - ", " * ")+v("number")+")",
			"coalesce("+v("number")+", "+v("number")+")",
			"CASE WHEN "+v("truth")+" THEN "+v("number")+" ELSE "+v("number")+" END",
			"length("+v("text")+")",
			"round(("+v("number")+")::numeric, 2)",
			"abs("+v("number")+")",
			"greatest("+v("number")+", "+v("number")+")",
			"extract(year FROM "+v("time")+")",
			"nullif("+v("number")+", "+v("number")+")",
			"array_length("+v("array")+", 1)",
			"(SELECT max(o9.id) FROM src.s.other AS o9 WHERE o9.typed_id = "+v("number")+")",
			"("+v("array")+")[1]",
			"sign("+v("number")+")",
			"("+v("time")+")::date - DATE '2020-01-01'",
		)
	case "text":
		return q.pick(
			"("+v("text")+" || "+v(q.pick("text", "number"))+")",
			"upper("+v("text")+")",
			"substr("+v("text")+", 2, 3)",
			"concat("+v("text")+", "+v("number")+")",
			"to_char(("+v("time")+")::timestamp, 'YYYY-MM')",
			"coalesce("+v("text")+", 'none')",
			"("+v("json")+" ->> 'a')",
			"("+v("number")+")::text",
			"CASE "+v("number")+" WHEN "+v("number")+" THEN "+v("text")+" ELSE 'x' END",
			"regexp_replace("+v("text")+", '[aeiou]', '-')",
		)
	case "truth":
		return q.pick(
			"("+v("number")+q.pick(" = ", " < ", " >= ", " <> ")+v("number")+")",
			"("+v("text")+q.pick(" = ", " < ", " LIKE ", " ~ ")+v("text")+")",
			"("+v("time")+q.pick(" = ", " < ", " >= ")+v("time")+")",
			"("+v("truth")+q.pick(" AND ", " OR ")+v("truth")+")",
			"("+v("number")+" IS NOT DISTINCT FROM "+v("number")+")",
			"("+v("number")+" IN ("+v("number")+", "+v("number")+"))",
			"("+v("number")+" = ANY ("+v("array")+"))",
			"(("+v("number")+", "+v("text")+") = ("+v("number")+", "+v("text")+"))",
			"EXISTS (SELECT 1 FROM src.s.other AS o8 WHERE o8.typed_id = "+v("number")+")",
			"("+v("number")+" NOT IN (SELECT o7.typed_id FROM src.s.other AS o7 WHERE o7.typed_id IS NOT NULL))",
			"("+v("number")+" BETWEEN "+v("number")+" AND "+v("number")+")",
			"("+v("json")+" @> '{}')",
			"("+v("text")+" IS NULL)",
			"(NOT "+v("truth")+")",
			"("+v("array")+" && "+v("array")+")",
			"("+v("number")+" > ALL (SELECT 1 UNION SELECT 2.5))",
			"(("+v("number")+" > 1) IS NOT TRUE)",
		)
	case "time":
		return q.pick(
			"("+v("time")+" + INTERVAL '1 day')",
			"date_trunc('month', "+v("time")+")",
			"coalesce("+v("time")+", "+v("time")+")",
			"least("+v("time")+", "+v("time")+")",
			"("+v("time")+")::date",
		)
	case "array":
		return q.pick(
			"ARRAY["+v("number")+", "+v("number")+"]",
			"("+v("array")+" || "+v("array")+")",
			"ARRAY(SELECT o6.id FROM src.s.other AS o6 WHERE o6.typed_id = "+v("number")+" ORDER BY 1)",
		)
	case "json":
		return q.pick(
			"("+v("json")+" || '{\"z\": 1}')",
			"jsonb_build_object('k', "+v(q.pick("number", "text", "truth", "time"))+")",
			"to_jsonb("+v("number")+")",
		)
	}
	return q.constant(kind)
}

func (q *Questioner) anyKind() string {
	return q.pick("number", "number", "text", "text", "time", "truth", "json", "array", "other")
}

func (q *Questioner) item() string {
	kind := q.anyKind()
	return q.value(kind, q.r.IntN(3))
}

// from writes a FROM clause and notes its aliases.
func (q *Questioner) from() string {
	t, o := fmt.Sprintf("t%d", q.n), fmt.Sprintf("o%d", q.n)
	q.n++
	switch q.r.IntN(7) {
	case 0, 1:
		q.scope = append(q.scope, t)
		return "src.s.typed AS " + t
	case 2:
		q.scope = append(q.scope, o)
		return "src.s.other AS " + o
	case 3:
		q.scope = append(q.scope, t, o)
		return "src.s.typed AS " + t + q.pick(
			" JOIN ",
			" LEFT JOIN ",
			" RIGHT JOIN ",
		) + "src.s.other AS " + o + " ON " + t + ".id = " + o + ".typed_id" + q.pick(
			"",
			" AND "+q.value("truth", 1),
		)
	case 4:
		q.scope = append(q.scope, t)
		return "src.s.typed AS " + t + ", LATERAL (SELECT " + t + ".int4 AS k, count(*) AS c FROM src.s.other AS ox WHERE ox.typed_id = " + t + ".id) AS l" + t
	case 5:
		q.scope = append(q.scope, t)
		return "src.s.typed AS " + t + " LEFT JOIN LATERAL unnest(" + t + "._int4) WITH ORDINALITY AS u" + t + " (e, i) ON u" + t + ".e > 1"
	}
	q.scope = append(q.scope, t)
	return "(SELECT * FROM src.s.typed WHERE id < 3) AS " + t
}

// Statement writes one question.
func (q *Questioner) Statement() string {
	outer := q.scope
	q.scope = nil
	defer func() { q.scope = outer }()
	from := q.from()
	where := ""
	if q.r.IntN(2) == 0 {
		where = " WHERE " + q.value("truth", 2)
	}
	switch q.r.IntN(6) {
	case 0: // groups
		key := q.value(q.pick("number", "text", "truth"), 1)
		sets := q.pick("GROUP BY 1", "GROUP BY "+key, "GROUP BY ROLLUP ("+key+")", "GROUP BY GROUPING SETS (("+key+"), ())")
		return "SELECT " + key + " AS k, count(*), sum(" + q.value(
			"number",
			1,
		) + "), avg(" + q.value(
			"number",
			0,
		) + "), min(" + q.value(
			"text",
			0,
		) + "), bool_or(" + q.value(
			"truth",
			0,
		) + "), array_agg(DISTINCT " + q.value(
			"number",
			0,
		) + ") FROM " + from + where + " " + sets +
			q.pick(
				"",
				" HAVING count(*) > 0",
				" HAVING sum("+q.column("number")+") IS NOT NULL",
			)
	case 1: // windows
		functions := []string{"rank()", "sum(" + q.column("number") + ")", "count(*)", "dense_rank()"}
		if !q.steady {
			functions = append(functions, "row_number()", "lag("+q.column("text")+")", "first_value("+q.column("number")+")")
		}
		return "SELECT " + q.item() + ", " + q.pick(
			functions...) + " OVER (" + q.pick(
			"",
			"PARTITION BY "+q.value("truth", 1)+" ",
		) + "ORDER BY " + q.column(
			"number",
		) + ", " + q.column(
			"text",
		) + ") FROM " + from + where
	case 2: // set operations
		kind := q.pick("number", "text", "time")
		l := "SELECT " + q.value(kind, 1) + ", " + q.value("number", 1) + " FROM " + from + where
		q.scope = nil
		from := q.from()
		return l + q.pick(
			" UNION ",
			" UNION ALL ",
			" INTERSECT ",
			" EXCEPT ",
			" EXCEPT ALL ",
		) + "SELECT " + q.value(
			kind,
			1,
		) + ", " + q.value(
			"number",
			1,
		) + " FROM " + from
	case 3: // a WITH query
		a := q.scope[0]
		return "WITH w AS (SELECT " + a + ".id AS k, " + q.item() + " AS v FROM " + from + where + ") SELECT w.k, w.v, x.k FROM w LEFT JOIN w AS x ON x.k = w.k + 1"
	case 4: // a derived table
		return "SELECT s.a, s.b FROM (SELECT " + q.item() + " AS a, " + q.value(
			"number",
			1,
		) + " AS b FROM " + from + where + ") AS s WHERE s.b IS NOT NULL OR s.a IS NULL"
	}
	return "SELECT " + q.item() + ", " + q.item() + ", " + q.item() + " FROM " + from + where
}
