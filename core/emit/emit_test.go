package emit

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
)

// platform is two sources with a few tables, and flint, who may read some of
// them.
func platform(t testing.TB, more ...access.Change) (*access.Model, *policy.Set) {
	t.Helper()
	m, set := access.New(), &policy.Set{}
	object := func(kind, path, typ string) access.Change {
		typ, notNull := strings.CutSuffix(typ, "!")
		collation := map[bool]string{true: "default"}[typ == "text"]
		return access.AddObject{Path: path, Kind: kind, Type: typ, NotNull: notNull, Key: strings.HasSuffix(path, ".id"), Collation: collation}
	}
	changes := []access.Change{object("source", "survey", ""), object("schema", "survey.drilling", ""), object("schema", "survey.assay", ""), object("schema", "survey.licensing", ""),
		object("source", "other", ""), object("schema", "other.drilling", "")}
	for table, columns := range map[string][]string{
		"survey.drilling.boreholes": {"id bigint!", "name text!", "district text!", "depth_m double precision", "drilled_on date", "at timestamp", "released boolean", "odd point"},
		"survey.drilling.lithology": {"id bigint!", "borehole_id bigint!", "rock text"},
		"survey.assay.results":      {"id bigint!", "ppm double precision"},
		"survey.licensing.holders":  {"id bigint!", "email text"},
		"other.drilling.wells":      {"id bigint!"},
	} {
		changes = append(changes, object("table", table, ""))
		for _, c := range columns {
			name, typ, _ := strings.Cut(c, " ")
			changes = append(changes, object("column", table+"."+name, typ))
		}
	}
	grant := func(p, o string) access.Change {
		return access.AddGrant{Privilege: p, Object: o, Subject: "user:flint"}
	}
	changes = append(changes, access.AddSubject{Subject: "user:flint"}, access.AddSubject{Subject: "group:north"}, access.Join{Member: "user:flint", Of: "group:north"},
		access.SetAttribute{Subject: "user:flint", Name: "districts", Values: []string{"north", "coast"}},
		grant("USAGE", "survey"), grant("USAGE", "survey.drilling"), grant("USAGE", "survey.assay"), grant("USAGE", "other"), grant("USAGE", "other.drilling"),
		grant("SELECT", "survey.drilling.boreholes"), grant("SELECT", "survey.drilling.lithology"), grant("SELECT", "survey.assay.results.id"), grant("SELECT", "other.drilling.wells"))
	for _, c := range append(changes, more...) {
		next, err := m.Apply(time.Unix(1, 0), c)
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		m = next
	}
	return m, set
}

func with(t testing.TB, m *access.Model, set *policy.Set, changes ...policy.Change) *policy.Set {
	t.Helper()
	for _, c := range changes {
		next, err := set.Apply(c, m)
		if err != nil {
			t.Fatal(err)
		}
		set = next
	}
	return set
}

func flint(t testing.TB, m *access.Model) *access.Rights {
	t.Helper()
	s, err := m.FindSubject("user:flint")
	if err != nil {
		t.Fatal(err)
	}
	st, err := m.Rights(access.Standpoint{Subject: s.ID}, time.Unix(2, 0))
	if err != nil {
		t.Fatal(err)
	}
	return st
}

// oneLine folds white space, for comparing SQL.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

func TestRefused(t *testing.T) {
	m, set := platform(t)
	st := flint(t, m)
	for _, c := range []struct{ name, text, code, says string }{
		{"no SQL", "selec 1", query.Syntax, `line 1, column 1: syntax error at or near "selec"`},
		{"an empty text", "", query.Unsupported, "one statement at a time"},
		{"two statements", "select 1; select 2", query.Unsupported, "one statement at a time"},
		{"another statement", "TRUNCATE survey.drilling.boreholes", query.Unsupported, "can be run here; TRUNCATE"},
		{"a statement that writes inside WITH", "with x as (delete from survey.drilling.boreholes returning id) select * from x", query.Unsupported, "no SELECT"},
		{"an unknown table", "select 1 from survey.drilling.nope", query.Unknown, "survey.drilling.nope does not exist or is not yours to use"},
		{"a table behind a shut door, in the same words", "select 1 from survey.licensing.holders", query.Unknown, "survey.licensing.holders does not exist or is not yours to use"},
		{"the database's own catalog", "select * from sqlite_schema", query.Unknown, "does not exist"},
		{"PostgreSQL's catalog", "select * from pg_catalog.pg_class", query.Unknown, "does not exist"},
		{"a table without its schema", "select 1 from boreholes", query.Unknown, "write the table with its source and schema: survey.drilling.boreholes"},
		{"an unknown column, with its place", "select id,\n  nope from survey.drilling.boreholes", query.Unknown, "line 2, column 3: there is no column nope here"},
		{"a column of a type that the language lacks", "select odd from survey.drilling.boreholes", query.Unknown, "no column odd"},
		{"the row's hidden number", "select rowid from survey.drilling.boreholes", query.Unknown, "no column rowid"},
		{"an ambiguous column", "select id from survey.drilling.boreholes a, survey.drilling.lithology b", query.Ambiguous, "more than one table"},
		{"one alias twice", "select 1 from survey.drilling.boreholes a, survey.drilling.lithology a", query.Ambiguous, "given twice"},
		{"an alias of an inner query", "select x.id from (select id from survey.drilling.boreholes x) y", query.Unknown, "no table is called x"},
		{"a function that is not listed", "select pg_sleep(1)", query.Unknown, "there is no function pg_sleep"},
		{"a function that reads files", "select readfile('/etc/passwd')", query.Unknown, "there is no function readfile"},
		{"a function of a schema", "select pg_catalog.lower('x')", query.Unsupported, "a function of a schema"},
		{"an operator that is not listed", "select 1 # 2", query.Unsupported, "the operator #"},
		{"a regular expression", "select 'a' ~ 'b'", query.Unsupported, "the operator ~"},
		{"a type that is not supported", "select cast(1 as json)", query.Unsupported, "the type json"},
		{"a sub-query with two columns", "select (select 1, 2)", query.Mismatch, "one column, not 2"},
		{"WHERE without a truth value", "select 1 from survey.drilling.boreholes where name", query.Mismatch, "needs a truth value, not text"},
		{"apples and pears", "select 1 from survey.drilling.boreholes where id = name", query.Mismatch, "= cannot take bigint and text"},
		{"a date that is none", "select 1 from survey.drilling.boreholes where drilled_on > 'soon'", query.Mismatch, "'soon' is no date"},
		{"a column that is not grouped", "select name, count(*) from survey.drilling.boreholes", query.Grouping, "name must be in GROUP BY"},
		{"a column in ORDER BY that is not grouped", "select count(*) from survey.drilling.boreholes order by name", query.Grouping, "name must be in GROUP BY"},
		{"an aggregate in WHERE", "select 1 from survey.drilling.boreholes where count(*) > 1", query.Grouping, "cannot stand in WHERE"},
		{"an aggregate of an aggregate", "select sum(count(*)) from survey.drilling.boreholes", query.Grouping, "cannot stand in an aggregate"},
		{"a window function in WHERE", "select 1 from survey.drilling.boreholes where row_number() over () = 1", query.Grouping, "select list"},
		{"sides of a different width", "select 1 union select 1, 2", query.Mismatch, "1 and 2"},
		{"INTERSECT ALL", "select 1 intersect all select 1", query.Unsupported, "INTERSECT ALL"},
		{"locking", "select id from survey.drilling.boreholes for update", query.Unsupported, "FOR UPDATE"},
		{"INTO", "select 1 into x", query.Unsupported, "INTO"},
		{"LATERAL", "select 1 from survey.drilling.boreholes b, lateral (select b.id) x", query.Unsupported, "LATERAL"},
		{"a recursive part with an aggregate", "with recursive x (n) as (select 1 union all select max(n) from x) select * from x", query.Unsupported, "aggregate"},
		{"a recursive part that reads itself twice", "with recursive x (n) as (select 1 union all select a.n from x a, x b) select * from x", query.Unsupported, "just once"},
		{"a recursive part that reads itself in a sub-query", "with recursive x (n) as (select 1 union all select 2 where exists (select 1 from x)) select * from x", query.Unsupported, "just once"},
		{"a recursive part of another type", "with recursive x (n) as (select 1 union all select n + 0.5 from x) select * from x", query.Mismatch, "add a cast"},
		{"a query that names itself without RECURSIVE", "with x as (select 1 union all select 2 from x) select * from x", query.Unknown, "x does not exist"},
		{"rows of VALUES that differ in length", "values (1), (1, 2)", query.Mismatch, "as many values each"},
		{"DISTINCT ON in another order", "select distinct on (district) id from survey.drilling.boreholes order by id", query.Grouping, "DISTINCT ON"},
		{"a column that no grouping set has", "select name from survey.drilling.boreholes group by rollup (district)", query.Grouping, "name must be in GROUP BY"},
		{"GROUPING of what is not grouped", "select grouping(name) from survey.drilling.boreholes group by district", query.Grouping, "GROUP"},
		{"GROUPING in WHERE", "select 1 from survey.drilling.boreholes where grouping(district) = 0", query.Grouping, "GROUPING cannot stand in WHERE"},
		{"a window over grouping sets", "select rank() over (order by count(*)) from survey.drilling.boreholes group by cube (district)", query.Unsupported, "window function"},
		{"too many grouping sets", "select 1 from survey.drilling.boreholes group by cube (id, name, district), cube (id, name, district), cube (id, name)", query.Unsupported, "more than 64 sets"},
		{"grouping sets within grouping sets", "select count(*) from (select count(*) as n from (select count(*) as n from (select id, name, district, 1 as a, 2 as b, 3 as c from survey.drilling.boreholes) x group by cube (id, name, district, a, b, c)) y group by cube (n, n, n, n, n, n)) z group by cube (n, n, n, n, n, n)", query.Unsupported, "more than 256 sets"},
		{"ON CONFLICT on a table that is not there", "insert into survey.licensing.holders (id) values (1) on conflict do nothing", query.Unknown, "does not exist"},
		{"a table sample", "select 1 from survey.drilling.boreholes tablesample system (1)", query.Unsupported, "this kind of FROM item"},
		{"a function as a table", "select * from generate_series(1, 9)", query.Unsupported, "this kind of FROM item"},
		{"an array", "select array[1]", query.Unsupported, "an array"},
		{"a row", "select (1, 2)", query.Unsupported, "a row"},
		{"a parameter without a value", "select $1", query.Syntax, "$1 has no value"},
		{"a LIMIT that is no number", "select 1 limit 1 + 1", query.Mismatch, "LIMIT takes a whole number"},
		{"tables of two sources", "select 1 from survey.drilling.boreholes, other.drilling.wells", query.Unsupported, "one query reads one source"},
		{"a set of attribute values outside a list", "select attribute('districts')", query.Mismatch, "stands in a list"},
	} {
		t.Run(c.name, func(t *testing.T) {
			plan, err := Make(c.text, nil, st, set)
			var e *query.Error
			if !errors.As(err, &e) {
				t.Fatalf("planned: %v, %+v", err, plan)
			}
			if e.Code != c.code || !strings.Contains(e.Error(), c.says) {
				t.Errorf("got %s: %v\nwant %s with %q", e.Code, e, c.code, c.says)
			}
		})
	}
}

func TestWhatIsMissing(t *testing.T) {
	m, set := platform(t, access.AddObject{Path: "survey.drilling.cores", Kind: "table"}, access.AddObject{Path: "survey.drilling.boxes", Kind: "table"})
	st := flint(t, m)
	_, err := Make("select c.x, b.y from survey.drilling.cores c join survey.drilling.boxes b on b.nope = c.id where c.z > 3", nil, st, set)
	var e *query.Error
	if !errors.As(err, &e) || e.Code != query.Refused || e.Text != "you lack SELECT on survey.drilling.cores, SELECT on survey.drilling.boxes" || len(e.Needs) != 2 {
		t.Errorf("all that is missing should be named at once: %+v", e)
	}
	_, err = Make("select r.* from survey.assay.results r where r.id > 1", nil, st, set)
	if !errors.As(err, &e) || !strings.HasSuffix(e.Text, "select r.id from survey.assay.results r where r.id > 1") || len(e.Needs) != 1 {
		t.Errorf("a * past the granted columns should give the text to paste: %v", err)
	}
	_, err = Make("select id from survey.assay.results where ppm > 1", nil, st, set)
	if !errors.As(err, &e) || e.Text != "you lack SELECT on survey.assay.results.ppm" {
		t.Errorf("a column in WHERE needs SELECT too: %v", err)
	}
	if _, err = Make("select id from survey.assay.results order by id", nil, st, set); err != nil {
		t.Errorf("the granted column can be read: %v", err)
	}
	_, err = Make("select 1 from survey.licensing.holders", nil, st, set)
	if !errors.As(err, &e) || !e.Hidden || len(e.Needs) != 2 {
		t.Errorf("the record should have the reason behind a shut door: %+v", e)
	}
}

// TestGovernedSQL holds the form of what is sent to the database.
func TestGovernedSQL(t *testing.T) {
	m, set := platform(t)
	row := func(rule string, more ...string) policy.Change {
		return policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "rows", Except: more}, Table: "survey.drilling.boreholes", Rule: rule}
	}
	column := func(treat string, columns ...string) policy.Change {
		c := policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "columns"}, Treat: treat}
		for _, name := range columns {
			c.Columns = append(c.Columns, "survey.drilling.boreholes."+name)
		}
		return c
	}
	const text = "select name from survey.drilling.boreholes where depth_m > 9"
	for _, c := range []struct {
		name     string
		policies []policy.Change
		text     string
		want     string
		args     string
	}{
		{"an untouched table is a plain reference", nil, text,
			`SELECT "boreholes"."name" AS "name" FROM "drilling"."boreholes" AS "boreholes" WHERE ("boreholes"."depth_m" > ?1)`, "9"},
		{"facts are folded into constants", []policy.Change{row("district IN (attribute('districts')) OR in_group(district) OR has_role('none') OR district = CURRENT_USER")}, text,
			`SELECT "boreholes"."name" AS "name" FROM ( SELECT "boreholes_2"."name" AS "name", "boreholes_2"."depth_m" AS "depth_m" FROM "drilling"."boreholes" AS "boreholes_2" WHERE ((("boreholes_2"."district" COLLATE BINARY IN (?1, ?2)) OR ("boreholes_2"."district" COLLATE BINARY IN (?2))) OR ("boreholes_2"."district" COLLATE BINARY = ?3)) ) AS "boreholes" WHERE ("boreholes"."depth_m" > ?4)`, "coast north flint 9"},
		{"a rule that is true for all rows costs nothing", []policy.Change{row("true")}, "select name from survey.drilling.boreholes",
			`SELECT "boreholes"."name" AS "name" FROM "drilling"."boreholes" AS "boreholes"`, ""},
		{"who is excepted from all allow policies sees no rows", []policy.Change{row("true", "user:flint")}, "select name from survey.drilling.boreholes",
			`SELECT "boreholes"."name" AS "name" FROM ( SELECT "boreholes_2"."name" AS "name" FROM "drilling"."boreholes" AS "boreholes_2" WHERE FALSE ) AS "boreholes"`, ""},
		{"filters see the treated value", []policy.Change{column("suppress", "name")}, "select id from survey.drilling.boreholes where name = 'x'",
			`SELECT "boreholes"."id" AS "id" FROM ( SELECT "boreholes_2"."id" AS "id", NULL AS "name" FROM "drilling"."boreholes" AS "boreholes_2" ) AS "boreholes" WHERE ("boreholes"."name" COLLATE BINARY = ?1)`, "x"},
		{"a rule sees the value as it is", []policy.Change{column("suppress", "district"), row("district = 'north'")}, "select district from survey.drilling.boreholes",
			`SELECT "boreholes"."district" AS "district" FROM ( SELECT NULL AS "district" FROM "drilling"."boreholes" AS "boreholes_2" WHERE ("boreholes_2"."district" COLLATE BINARY = ?1) ) AS "boreholes"`, "north"},
		{"only the columns that the query uses are computed", []policy.Change{column("pseudonym", "name", "district")}, "select count(*) from survey.drilling.boreholes",
			`SELECT count(*) AS "count" FROM "drilling"."boreholes" AS "boreholes"`, ""},
		{"an expression that can fail is kept behind the filter", []policy.Change{row("id > 1")}, "select id from survey.drilling.boreholes where replace(name, 'a', 'b') = 'x'",
			`SELECT "rows"."id" AS "id" FROM ( SELECT "boreholes"."id" AS "id", "boreholes"."name" AS "name" FROM ( SELECT "boreholes_2"."id" AS "id", "boreholes_2"."name" AS "name" FROM "drilling"."boreholes" AS "boreholes_2" WHERE (("boreholes_2"."id" > ?1) AND (typeof("boreholes_2"."id") IN ('integer', 'null'))) ) AS "boreholes" LIMIT -1 OFFSET 0 ) AS "rows" WHERE (gneiss_replace("rows"."name" COLLATE BINARY, ?2, ?3) = ?4)`, "1 a b x"},
		{"NULLs sort as in PostgreSQL, and nothing is said where none occur", nil, "select id, depth_m from survey.drilling.boreholes order by id, depth_m desc, name || 'x'",
			`SELECT "boreholes"."id" AS "id", "boreholes"."depth_m" AS "depth_m" FROM "drilling"."boreholes" AS "boreholes" ORDER BY 1, 2 DESC NULLS FIRST, ("boreholes"."name" COLLATE BINARY || ?1) NULLS LAST`, "x"},
		{"a suppressed column can be NULL whatever the table says", []policy.Change{column("suppress", "name")}, "select name from survey.drilling.boreholes order by name",
			`SELECT "boreholes"."name" AS "name" FROM ( SELECT NULL AS "name" FROM "drilling"."boreholes" AS "boreholes_2" ) AS "boreholes" ORDER BY 1 COLLATE BINARY NULLS LAST`, ""},
		{"an outer join makes NULLs", nil, "select b.id from survey.drilling.lithology l left join survey.drilling.boreholes b using (id) order by b.id",
			`SELECT "b"."id" AS "id" FROM "drilling"."lithology" AS "l" LEFT JOIN "drilling"."boreholes" AS "b" ON ("l"."id" = "b"."id") ORDER BY 1 NULLS LAST`, ""},
		{"a name that would be captured gets another", nil, "select (select count(*) from survey.drilling.boreholes b where b.id = a.id) from survey.drilling.boreholes a join survey.drilling.boreholes b on a.id = b.id",
			`SELECT ( SELECT count(*) AS "count" FROM "drilling"."boreholes" AS "b_2" WHERE ("b_2"."id" = "a"."id") ) AS "count" FROM "drilling"."boreholes" AS "a" INNER JOIN "drilling"."boreholes" AS "b" ON ("a"."id" = "b"."id")`, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			plan, err := Make(c.text, nil, flint(t, m), with(t, m, set, c.policies...))
			if err != nil {
				t.Fatal(err)
			}
			if got := oneLine(plan.SQL); got != c.want {
				t.Errorf("got\n%s\nwant\n%s", got, c.want)
			}
			var args []string
			for _, a := range plan.Args {
				args = append(args, fmt.Sprint(a.Value))
			}
			if got := strings.Join(args, " "); got != c.args {
				t.Errorf("arguments %q, want %q", got, c.args)
			}
		})
	}
}

func TestRules(t *testing.T) {
	m, set := platform(t)
	table, err := m.Lookup("survey.drilling.boreholes")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ rule, says string }{
		{"district = 'north'", ""},
		{"name LIKE 'N%' AND id IN (SELECT borehole_id FROM lithology)", ""},
		{"id IN (SELECT id FROM licensing.holders WHERE email = CURRENT_USER)", ""},
		{"EXISTS (SELECT 1 FROM survey.drilling.lithology l WHERE l.borehole_id = boreholes.id)", ""},
		{"drilled_on <= CURRENT_DATE", ""},
		{"purpose() = 'audit'", ""},
		{"true) OR (true", "syntax error"},
		{"true UNION SELECT 1", "more than one condition"},
		{"true LIMIT 1", "more than one condition"},
		{"true; DROP TABLE x", "one statement"},
		{"", "the rule is empty"},
		{"name", "needs a truth value"},
		{"count(*) > 1", "an aggregate function cannot stand in a rule"},
		{"nope = 1", "line 1, column 1: there is no column nope"},
		{"id IN (SELECT id FROM other.drilling.wells)", "one query reads one source"},
		{"id IN (SELECT id FROM nowhere)", "there is no table nowhere"},
		{"unknown_function(id)", "there is no function"},
	} {
		err := query.CheckRule(flint(t, m), table, c.rule)
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%q: got %v, want %q", c.rule, err, c.says)
		}
	}
	// A column that goes closes the table, and opens nothing.
	set = with(t, m, set, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "of-district"}, Table: "survey.drilling.boreholes", Rule: "district = 'north'"})
	m, err = m.Apply(time.Unix(3, 0), access.MissObject{Path: "survey.drilling.boreholes.district"})
	if err != nil {
		t.Fatal(err)
	}
	_, err = Make("select id from survey.drilling.boreholes", nil, flint(t, m), set)
	var e *query.Error
	if !errors.As(err, &e) || e.Code != query.Broken || !strings.Contains(e.Text, "is closed: its row policy of-district") {
		t.Errorf("a policy that no longer fits must close its table: %v", err)
	}
}

// TestWhatIsNotPlainIsFenced: a condition that can fail, or take long, must not see
// rows that a policy leaves out; what is plain goes inside with the policy.
func TestWhatIsNotPlainIsFenced(t *testing.T) {
	m, set := platform(t)
	set = with(t, m, set, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "north"}, Table: "survey.drilling.boreholes", Rule: "district = 'north'"})
	for _, c := range []struct {
		where  string
		fenced bool
	}{
		{"b.id = 7 and b.name >= 'a' and not b.released and b.depth_m between 1 and 2 * 3", false},
		{"b.id in (1, 2) or b.name like 'ab%' or b.drilled_on is null", false},
		{"b.drilled_on < date '2026-01-01' - interval '90 days'", false},
		{"case when b.released then true else false end", true},
		{"b.name like '%x'", true},
		{"b.name like 'a%b%c'", true},
		{"b.name ilike 'a%'", true},
		{"b.name like b.district", true},
		{"b.id * 2 > 3", true},
		{"length(b.name) > 3", true},
		{"b.id in (select borehole_id from survey.drilling.lithology)", true},
		{"exists (select 1 from survey.drilling.lithology l where l.borehole_id = b.id)", true},
		{"b.id > (select count(*) from survey.drilling.lithology)", true},
		{"b.name = '" + strings.Repeat("x", 5000) + "'", true},
	} {
		for _, text := range []string{
			"select b.id from survey.drilling.boreholes b where " + c.where,
			"select b.id from survey.drilling.boreholes b join survey.drilling.lithology x on x.borehole_id = b.id and " + c.where,
			"select x.id from survey.drilling.lithology x left join survey.drilling.boreholes b on " + c.where,
			"with b as (select * from survey.drilling.boreholes) select id from b where " + c.where,
			"select id from (select * from survey.drilling.boreholes) b where " + c.where,
			"select b.id, b.name, b.district, b.released, b.depth_m, b.drilled_on from survey.drilling.boreholes b group by b.id, b.name, b.district, b.released, b.depth_m, b.drilled_on having " + c.where,
		} {
			plan, err := Make(text, nil, flint(t, m), set)
			if err != nil {
				t.Errorf("%s: %v", text, err)
			} else if strings.Contains(plan.SQL, "LIMIT -1 OFFSET 0") != c.fenced {
				t.Errorf("%s: fenced must be %v:\n%s", text, c.fenced, plan.SQL)
			}
		}
		if plan, err := Make("select b.id from survey.drilling.lithology b join (select 1 as name) x on b.id = x.name", nil, flint(t, m), set); err != nil || strings.Contains(plan.SQL, "OFFSET") {
			t.Errorf("a table that no policy touches pays nothing: %v", err)
		}
	}
}

// FuzzMake looks for panics, and for tables that reach the database ungoverned.
func FuzzMake(f *testing.F) {
	for _, seed := range []string{"select name, count(*) over (partition by district) from survey.drilling.boreholes b where exists (select 1 from survey.drilling.lithology l where l.borehole_id = b.id)",
		"with x as (select * from survey.drilling.boreholes) select a.name from x a full join x b using (id) union select 'a' order by 1 limit 3",
		"select case when released then extract(year from drilled_on) end from survey.drilling.boreholes where name ilike 'a%' group by 1 having count(*) > 1",
		"with recursive w (n) as (values (1) union all select n + 1 from w where n < 3) select distinct on (b.district) b.id from survey.drilling.boreholes b join w on w.n = b.id order by b.district, 1",
		"select district, grouping(district), string_agg(name, ',' order by id) from survey.drilling.boreholes group by grouping sets (rollup (district), ()) having count(*) > 1",
		"explain select to_char(drilled_on + interval '1 month', 'YYYY') from survey.drilling.boreholes where id in (values (1), (2))",
		"update survey.drilling.boreholes set name = v.n from (values (1, 'a')) as v (id, n) where v.id = boreholes.id returning name",
		"insert into survey.drilling.boreholes (id) values (1) on conflict (id) do update set name = excluded.name", "delete from survey.drilling.boreholes b using survey.drilling.lithology l where l.borehole_id = b.id",
		"select s.name, b.at - interval '2 days' from survey.drilling.seen s join survey.drilling.boreholes b using (id) where s.depth_m * 2 > 3 order by s.name desc nulls first offset 1"} {
		f.Add(seed)
	}
	m, set := platform(f)
	set = with(f, m, set, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "none"}, Table: "survey.drilling.boreholes", Rule: "district = 'the fence'"})
	m, err := m.Apply(time.Unix(1, 0), access.PutView{Path: "survey.drilling.seen", Text: "SELECT id, name, depth_m FROM drilling.boreholes", Rights: access.OwnerRights, Owner: "user:flint",
		Columns: []access.ViewColumn{{Name: "id", Type: "bigint"}, {Name: "name", Type: "text"}, {Name: "depth_m", Type: "double precision"}}})
	if err != nil {
		f.Fatal(err)
	}
	served, err := m.Apply(time.Unix(1, 0), access.AddObject{Path: "survey", Kind: "source", Type: Postgres}, access.AddObject{Path: "other", Kind: "source", Type: Postgres},
		access.AddObject{Path: "survey.drilling.boreholes.id", Kind: "column", Type: "bigint", NotNull: true, Declared: "integer"})
	if err != nil {
		f.Fatal(err)
	}
	st, onServer := flint(f, m), flint(f, served)
	f.Fuzz(func(t *testing.T, text string) {
		started := time.Now()
		plan, err := Make(text, nil, st, set)
		there, errThere := Make(text, nil, onServer, set)
		if took := time.Since(started); took > 5*time.Second {
			t.Fatalf("%q takes %v to plan", text, took)
		}
		for _, err := range []error{err, errThere} {
			if err != nil && strings.Contains(err.Error(), "please report it") {
				t.Fatalf("%q: %v", text, err)
			}
		}
		for _, p := range []*Plan{plan, there} {
			if p == nil {
				continue
			}
			governed := strings.Count(p.SQL, `FROM "drilling"."boreholes"`)
			if strings.Count(p.SQL, `"drilling"."boreholes"`) != governed || strings.Count(strings.ReplaceAll(p.SQL, " COLLATE BINARY", ""), `"district" = `+p.Mark) < governed {
				t.Fatalf("%q reaches the table ungoverned:\n%s", text, p.SQL)
			}
			if strings.Contains(p.SQL, "licensing") || strings.Contains(p.SQL, "sqlite_") || strings.Contains(p.SQL, `"pg_`) || strings.Contains(p.SQL, "FROM pg_") {
				t.Fatalf("%q reaches another table:\n%s", text, p.SQL)
			}
		}
	})
}

func BenchmarkPlanCold(b *testing.B) {
	m, set := platform(b)
	set = with(b, m, set, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "rows"}, Table: "survey.drilling.boreholes", Rule: "district IN (attribute('districts'))"},
		policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "rocks"}, Table: "survey.drilling.lithology", Rule: "borehole_id IN (SELECT id FROM boreholes WHERE in_group(district))"})
	exact, err := m.Apply(time.Unix(1, 0), access.AddObject{Path: "survey", Kind: "source", Type: Postgres})
	if err != nil {
		b.Fatal(err)
	}
	b.Run("shared", func(b *testing.B) { planCold(b, flint(b, m), set) })
	b.Run("exact", func(b *testing.B) { planCold(b, flint(b, exact), set) })
}

func planCold(b *testing.B, st *access.Rights, set *policy.Set) {
	const text = `select b.district, count(*) as n, avg(b.depth_m) from survey.drilling.boreholes b join survey.drilling.lithology l on l.borehole_id = b.id
		join survey.assay.results r on r.id = b.id where b.drilled_on >= '2020-01-01' and l.rock <> 'slate' group by b.district order by n desc`
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Make(text, nil, st, set); err != nil {
			b.Fatal(err)
		}
	}
}
