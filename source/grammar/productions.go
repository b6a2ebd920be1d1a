package grammar

import "strings"

// A Production is a way to write an expression: what it is called, what it makes, and its text, in which <number>
// stands for an expression of that kind, <any> for one of some kind, <relation> for one of the tables, <fact> for what the
// database says of the moment and the reader, and <parameter number> for a parameter.
type Production struct {
	Name  string
	Makes string
	Text  string
}

// Productions are the expressions. Each stands for itself in the coverage of the grammar and in the cost of nesting.
var Productions = []Production{
	{Name: "operator", Makes: "number", Text: "(<number> + <number>)"},
	{Name: "operator", Makes: "number", Text: "(<number> * <number>)"},
	{Name: "operator", Makes: "number", Text: "(<number> - <number>)"},
	{Name: "minus", Makes: "number", Text: "(- <number>)"},
	{Name: "coalesce", Makes: "number", Text: "coalesce(<number>, <number>)"},
	{Name: "case", Makes: "number", Text: "CASE WHEN <truth> THEN <number> WHEN <truth> THEN <number> ELSE <number> END"},
	{Name: "case of a value", Makes: "text", Text: "CASE <number> WHEN <number> THEN <text> ELSE 'x' END"},
	{Name: "call", Makes: "number", Text: "length(<text>)"},
	{Name: "call", Makes: "number", Text: "abs(<number>)"},
	{Name: "named argument", Makes: "time", Text: "make_interval(days => least(<integer>, 9), hours => 2) + DATE '2024-01-01'"},
	{Name: "variadic", Makes: "text", Text: "concat_ws('-', VARIADIC ARRAY[<text>, <text>])"},
	{Name: "greatest", Makes: "number", Text: "greatest(<number>, <number>)"},
	{Name: "least", Makes: "time", Text: "least(<time>, <time>)"},
	{Name: "extract", Makes: "number", Text: "extract(year FROM <time>)"},
	{Name: "nullif", Makes: "number", Text: "nullif(<number>, <number>)"},
	{Name: "subscript", Makes: "number", Text: "(<array>)[1]"},
	{Name: "slice", Makes: "array", Text: "(<array>)[1:2]"},
	{Name: "cast", Makes: "number", Text: "(<number>)::numeric(20,4)"},
	{Name: "cast", Makes: "text", Text: "(<number>)::text"},
	{Name: "cast", Makes: "time", Text: "CAST(<time> AS date)"},
	{Name: "scalar query", Makes: "number", Text: "(SELECT max(ou.amount + <number>) FROM src.s.other AS ou WHERE <truth>)"},
	{Name: "correlated query", Makes: "number", Text: "(SELECT count(*) FROM src.s.other AS oc WHERE oc.typed_id = <number>)"},
	{Name: "array query", Makes: "array", Text: "ARRAY(SELECT oa.id FROM src.s.other AS oa WHERE oa.typed_id = <number> ORDER BY 1)"},
	{Name: "array", Makes: "array", Text: "ARRAY[<number>, <number>]"},
	{Name: "operator", Makes: "array", Text: "(<array> || <array>)"},
	{Name: "operator", Makes: "text", Text: "(<text> || <text>)"},
	{Name: "operator", Makes: "text", Text: "(<json> ->> 'a')"},
	{Name: "collate", Makes: "text", Text: `(<text> COLLATE "C")`},
	{Name: "substring", Makes: "text", Text: "substring(<text> FROM 2 FOR 3)"},
	{Name: "trim", Makes: "text", Text: "trim(BOTH 'a' FROM <text>)"},
	{Name: "overlay", Makes: "text", Text: "overlay(<text> PLACING 'zz' FROM 1 FOR 1)"},
	{Name: "position", Makes: "number", Text: "position('a' IN <text>)"},
	{Name: "call", Makes: "text", Text: "upper(<text>)"},
	{Name: "call", Makes: "text", Text: "regexp_replace(<text>, '[aeiou]', '-')"},
	{Name: "call", Makes: "text", Text: "to_char((<time>)::timestamp, 'YYYY-MM')"},
	{Name: "comparison", Makes: "truth", Text: "(<number> = <number>)"},
	{Name: "comparison", Makes: "truth", Text: "(<number> < <number>)"},
	{Name: "comparison", Makes: "truth", Text: "(<number> <> <number>)"},
	{Name: "comparison", Makes: "truth", Text: "(<text> >= <text>)"},
	{Name: "comparison with COLLATE", Makes: "truth", Text: `(<text> COLLATE "C" < <text>)`},
	{Name: "comparison", Makes: "truth", Text: "(<time> < <time>)"},
	{Name: "like", Makes: "truth", Text: "(<text> LIKE 'a%')"},
	{Name: "not like", Makes: "truth", Text: "(<text> NOT LIKE <text>)"},
	{Name: "ilike", Makes: "truth", Text: "(<text> ILIKE '%A_')"},
	{Name: "similar", Makes: "truth", Text: "(<text> SIMILAR TO '(a|b)%')"},
	{Name: "regular expression", Makes: "truth", Text: "(<text> ~ '[a-e]')"},
	{Name: "between", Makes: "truth", Text: "(<number> BETWEEN <number> AND <number>)"},
	{Name: "not between", Makes: "truth", Text: "(<number> NOT BETWEEN <number> AND <number>)"},
	{Name: "between symmetric", Makes: "truth", Text: "(<number> BETWEEN SYMMETRIC <number> AND <number>)"},
	{Name: "not between symmetric", Makes: "truth", Text: "(<text> NOT BETWEEN SYMMETRIC <text> AND <text>)"},
	{Name: "distinct", Makes: "truth", Text: "(<number> IS DISTINCT FROM <number>)"},
	{Name: "not distinct", Makes: "truth", Text: "(<text> IS NOT DISTINCT FROM <text>)"},
	{Name: "in", Makes: "truth", Text: "(<number> IN (<number>, <number>, 3))"},
	{Name: "not in", Makes: "truth", Text: "(<text> NOT IN ('a', <text>))"},
	{Name: "any of an array", Makes: "truth", Text: "(<number> = ANY (<array>))"},
	{Name: "all of an array", Makes: "truth", Text: "(<number> < ALL (<array>))"},
	{Name: "any of a query", Makes: "truth", Text: "(<number> = ANY (SELECT oq.id FROM src.s.other AS oq))"},
	{Name: "all of a query", Makes: "truth", Text: "(<number> > ALL (SELECT 1 UNION SELECT 2.5))"},
	{Name: "in a query", Makes: "truth", Text: "(<number> IN (SELECT on1.id + <number> FROM src.s.other AS on1))"},
	{Name: "not in a query", Makes: "truth", Text: "(<number> NOT IN (SELECT oi.typed_id FROM src.s.other AS oi WHERE oi.typed_id IS NOT NULL))"},
	{Name: "row in a query", Makes: "truth", Text: "((<integer>, <text>) IN (SELECT oi.typed_id, oi.note FROM src.s.other AS oi))"},
	{Name: "row with a query", Makes: "truth", Text: "((<integer>, 1) = (SELECT oi.typed_id, oi.id FROM src.s.other AS oi WHERE oi.id = 5))"},
	{Name: "rows compared", Makes: "truth", Text: "((<number>, <text>) < (<number>, <text>))"},
	{Name: "rows equal", Makes: "truth", Text: "(ROW(<number>, <text>) = ROW(<number>, <text>))"},
	{Name: "exists", Makes: "truth", Text: "EXISTS (SELECT 1 FROM src.s.other AS oe WHERE oe.typed_id = <number>)"},
	{Name: "not exists", Makes: "truth", Text: "(NOT EXISTS (SELECT FROM src.s.other AS on2 WHERE on2.id = 99 OR <truth>))"},
	{Name: "and", Makes: "truth", Text: "(<truth> AND <truth>)"},
	{Name: "or", Makes: "truth", Text: "(<truth> OR <truth>)"},
	{Name: "not", Makes: "truth", Text: "(NOT <truth>)"},
	{Name: "is null", Makes: "truth", Text: "(<any> IS NULL)"},
	{Name: "is not null", Makes: "truth", Text: "(<any> IS NOT NULL)"},
	{Name: "is true", Makes: "truth", Text: "(<truth> IS TRUE)"},
	{Name: "is not true", Makes: "truth", Text: "(<truth> IS NOT TRUE)"},
	{Name: "is false", Makes: "truth", Text: "(<truth> IS FALSE)"},
	{Name: "is not false", Makes: "truth", Text: "(<truth> IS NOT FALSE)"},
	{Name: "is unknown", Makes: "truth", Text: "(<truth> IS UNKNOWN)"},
	{Name: "is not unknown", Makes: "truth", Text: "(<truth> IS NOT UNKNOWN)"},
	{Name: "fact", Makes: "truth", Text: "(<fact> IS NOT NULL)"},
	{Name: "fact", Makes: "truth", Text: "(coalesce(<fact>::text, <fact>::text, <fact>::text) IS NULL)"},
	{Name: "fact", Makes: "number", Text: "length(nullif(<fact>::text, <fact>::text)) * 0"},
	{Name: "fact", Makes: "truth", Text: "(<time> <= CURRENT_DATE)"},
	{Name: "overlaps", Makes: "truth", Text: "((DATE '2024-01-01', DATE '2024-06-01') OVERLAPS (<day>, INTERVAL '9 days'))"},
	{Name: "at time zone", Makes: "time", Text: "(<time>)::timestamp AT TIME ZONE 'UTC'"},
	{Name: "operator", Makes: "truth", Text: "(<json> @> '{}')"},
	{Name: "operator", Makes: "truth", Text: "(<array> && <array>)"},
	{Name: "operator", Makes: "time", Text: "(<time> + INTERVAL '1 day')"},
	{Name: "call", Makes: "time", Text: "date_trunc('month', <time>)"},
	{Name: "call", Makes: "json", Text: "jsonb_build_object('k', <any>)"},
	{Name: "operator", Makes: "json", Text: `(<json> || '{"z": 1}')`},
	{Name: "call", Makes: "json", Text: "to_jsonb(<number>)"},
	{Name: "whole row", Makes: "json", Text: "to_jsonb(<relation>)"},
	{Name: "field of a row", Makes: "number", Text: "(<relation>).id"},
	{Name: "row", Makes: "json", Text: "to_jsonb(ROW(<number>, <text>))"},
	{Name: "parameter", Makes: "number", Text: "(<parameter number> + <number>)"},
	{Name: "parameter", Makes: "text", Text: "(<parameter text> || <text>)"},
}

var facts = strings.Fields("CURRENT_DATE CURRENT_TIME CURRENT_TIMESTAMP CURRENT_TIME(2) CURRENT_TIMESTAMP(1) " +
	"LOCALTIME LOCALTIMESTAMP LOCALTIME(3) LOCALTIMESTAMP(0) CURRENT_USER USER")

var columnsOf = map[string]map[string][]string{
	"typed": {"number": {"int2", "int4", "int8", "numeric", "money2", "float8", "id"}, "integer": {"int4", "id"}, "text": {"text", "varchar", "bpchar",
		"name"}, "day": {"date"},
		"time": {"date", "timestamp", "timestamptz"}, "truth": {"bool"}, "json": {"jsonb"}, "array": {"_int4"}, "other": {"uuid", "rock", "interval",
			"bytea", "inet", "int4range"}},
	"other": {"number": {"id", "typed_id", "amount"}, "integer": {"id", "typed_id"}, "text": {"note"}},
	"kept": {"number": {"id", "code", "n", "twice"}, "integer": {"id", "code", "twice"}, "text": {"v", "name"}, "day": {"day"}, "time": {"day"},
		"array": {"tags"}},
}

var constants = map[string][]string{
	"number": {"1", "2.50", "-3", "9000000000", "'4'", "NULL", "0.5::real", "7::smallint", "1e2"}, "integer": {"1", "3", "42"},
	"day":  {"DATE '2024-02-29'", "DATE '2024-01-04'"},
	"text": {"'a'", "'Alder'::varchar", "NULL", "'ab'::char(5)", "'o''x'", "'n'::name"}, "time": {"DATE '2024-02-29'", "'2024-01-01'::timestamp",
		"'2024-03-01 12:00+02'::timestamptz", "NULL::date"},
	"truth": {"true", "false", "NULL::boolean"}, "json": {`'{"a": 1}'::jsonb`, "'[]'::jsonb"}, "array": {"ARRAY[1, 2]", "'{3}'::integer[]",
		"ARRAY[1, NULL]"}, "other": {"NULL", "'slate'::s.rock", "INTERVAL '1 day'", "B'101'"},
}

var byKind = func() map[string][]int {
	out := map[string][]int{}
	for i, p := range Productions {
		out[p.Makes] = append(out[p.Makes], i)
	}
	return out
}()
