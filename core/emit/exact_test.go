package emit

import (
	"errors"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// served is the platform with its sources in PostgreSQL, a routine of the database's own and
// views that lend their owner's rights.
func served(t testing.TB) (*access.Model, *policy.Set) {
	routine := sqltype.Signature{Schema: "drilling", Name: "gross", Kind: "f", Args: []string{"numeric"}, Result: "numeric", Volatility: "i"}
	return platform(t, access.AddObject{Path: "survey", Kind: "source", Type: Postgres}, access.AddObject{Path: "other", Kind: "source", Type: Postgres},
		access.AddObject{Path: `survey.drilling."gross(numeric)"`, Kind: "routine", Type: "numeric", Declared: routine.String()},
		access.AddObject{Path: "survey.drilling.notes", Kind: "table"}, access.AddObject{Path: "survey.drilling.notes.note", Kind: "column", Type: "text"},
		access.AddGrant{Privilege: "EXECUTE", Object: "survey.drilling", Subject: "user:flint"},
		access.AddGrant{Privilege: "ALL", Object: "survey", Subject: "user:flint"},
		access.PutView{Path: "survey.drilling.seen", Text: "SELECT id, name::integer AS n FROM drilling.boreholes", Rights: access.OwnerRights, Owner: "user:flint",
			Columns: []access.ViewColumn{{Name: "id", Type: "bigint"}, {Name: "n", Type: "integer"}}},
		access.PutView{Path: "survey.drilling.read", Text: "SELECT id FROM drilling.boreholes", Rights: access.ReaderRights, Owner: "user:flint", Columns: []access.ViewColumn{{Name: "id", Type: "bigint"}}})
}

// TestWordless: the database's words for an error are told where no value can be in them that
// is hidden from the reader.
func TestWordless(t *testing.T) {
	m, none := served(t)
	rows := func(rule string) *policy.Set {
		return with(t, m, none, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: "survey.drilling.boreholes", Mode: policy.Allow, Rule: rule})
	}
	treated := with(t, m, none, policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "c"}, Columns: []string{"survey.drilling.boreholes.name"}, Treat: "expression", Treatment: policy.Treatment{SQL: "(name::integer)::text"}})
	masked := with(t, m, none, policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "c"}, Columns: []string{"survey.drilling.boreholes.name"}, Treat: "mask"})
	const one = "SELECT name::integer FROM survey.drilling.boreholes"
	for _, c := range []struct {
		name, text string
		set        *policy.Set
		wordless   bool
	}{
		{"no policy", one, none, false}, {"a policy that never fails", one, rows("district = 'north' AND lower(name) LIKE 'a%'"), false}, {"a treatment that never fails", one, masked, false},
		{"a policy with a cast", one, rows("name::integer > 5"), true}, {"a policy with a division", one, rows("10 / id > 1"), true},
		{"a policy whose comparison is of other types", one, rows("depth_m = 1e400"), true}, {"a policy with one row's value", one, rows("id = (SELECT borehole_id FROM lithology)"), true},
		{"a policy with an aggregate", one, rows("id = (SELECT max(borehole_id) FROM lithology)"), false}, {"a policy with a list", one, rows("id IN (SELECT borehole_id FROM lithology)"), false},
		{"a treatment that fails", one, treated, true}, {"a view that lends", "SELECT n FROM survey.drilling.seen", none, true}, {"a view that does not", "SELECT 1 / id FROM survey.drilling.read", none, false},
		{"a routine of the database's own", "SELECT drilling.gross(id) FROM survey.drilling.boreholes", none, true}, {"what writes", "UPDATE survey.drilling.boreholes SET depth_m = 1 / id", none, true},
	} {
		plan, err := Make(c.text, nil, flint(t, m), c.set)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
		} else if plan.Wordless != c.wordless {
			t.Errorf("%s: wordless %v\n%s", c.name, plan.Wordless, plan.SQL)
		}
	}
}

// TestExactRefusals: what is not there, or never called, is refused with its place and in words
// that say what is wrong.
func TestExactRefusals(t *testing.T) {
	m, none := served(t)
	for _, c := range []struct{ text, says, state string }{
		{"SELECT pg_sleep(1)", "cannot be called here: it sleeps", ""}, {"SELECT pg_read_file('/etc/passwd')", "reads files", ""}, {"SELECT query_to_xml('select 1', true, true, '')", "runs a text as SQL", ""},
		{"SELECT nextval('s')", "sequence", ""}, {"SELECT current_setting('x')", "session", ""}, {"SELECT pg_advisory_lock(1)", "it locks", ""}, {"SELECT lo_import('/x')", "large objects", ""},
		{"SELECT has_table_privilege('x', 'y')", "catalog", ""}, {"SELECT 'pg_class'::regclass", "no type regclass", ""}, {"SELECT * FROM pg_catalog.pg_class", "does not exist", "42P01"},
		{"SELECT lowr('x')", "no function lowr", "42883"}, {"SELECT lower(1)", "function lower(integer) does not exist", "42883"}, {"SELECT 1 + 'x'::text", "operator does not exist", "42883"},
		{"SELECT '1' + '2'", "not unique", "42725"}, {"SELECT true::date", "cannot cast type boolean to date", "42846"}, {"SELECT coalesce(1, true)", "cannot be matched", "42804"},
		{"SELECT 'x'::integer", "invalid input syntax", "22P02"}, {"SELECT drilling.nosuch(1)", "does not exist or is not yours", "42883"}, {"SELECT survey.drilling.gross('x'::date)", "does not exist", "42883"},
		{"SELECT ARRAY[]", "needs a type", "42P18"}, {"SELECT count()", "takes * or a value", "42809"}, {"SELECT sum(*) FROM survey.drilling.boreholes", "does not exist", "42883"}, {"SELECT percentile_cont(0.5)", "does not exist", "42883"},
		{"SELECT rank()", "needs OVER", "42809"}, {"SELECT * FROM json_to_record('{}')", "write their columns", "42601"}, {"SELECT (1, 2) = (1, 2, 3)", "as many values", "42601"}, {"SELECT 1 = ANY (2)", "take an array", "42809"},
	} {
		_, err := Make(c.text, nil, flint(t, m), none)
		var e *query.Error
		state := ""
		if errors.As(err, &e) {
			state = e.SQLState
		}
		if err == nil || !strings.Contains(err.Error(), c.says) || state != c.state {
			t.Errorf("%s\nis refused with %v (%s), want %q (%s)", c.text, err, state, c.says, c.state)
		}
	}
}

// TestOldScans: a database that was scanned before its types were kept is read by those types.
func TestOldScans(t *testing.T) {
	m, none := served(t)
	for path, typ := range map[string]string{"survey.drilling.boreholes.depth_m": "numeric", "survey.drilling.boreholes.id": "integer", "survey.drilling.boreholes.name": "character varying"} {
		next, err := m.Apply(time.Unix(1, 0), access.AddObject{Path: path, Kind: "column", Type: map[string]string{"numeric": "double precision", "integer": "bigint"}[typ] + map[bool]string{true: "text"}[typ == "character varying"], Declared: typ})
		if err != nil {
			t.Fatal(err)
		}
		m = next
	}
	plan, err := Make("SELECT depth_m, id, name, depth_m * 2 FROM survey.drilling.boreholes", nil, flint(t, m), none)
	if err != nil {
		t.Fatal(err)
	}
	var types []string
	for _, c := range plan.Columns {
		types = append(types, c.Type.String())
	}
	if got := strings.Join(types, ", "); got != "numeric, integer, character varying, numeric" {
		t.Errorf("the columns are %s", got)
	}
}

// TestMerge: each part of a MERGE takes its own privilege, and what cannot be looked at row by
// row is refused.
func TestMerge(t *testing.T) {
	m, none := platform(t, access.AddObject{Path: "survey", Kind: "source", Type: Postgres}, access.AddGrant{Privilege: "UPDATE", Object: "survey.drilling.boreholes.name", Subject: "user:flint"})
	rows := with(t, m, none, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: "survey.drilling.boreholes", Mode: policy.Allow, Rule: "district = 'north'"})
	source := with(t, m, none, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: "survey.drilling.lithology", Mode: policy.Allow, Rule: "rock = 'slate'"})
	masked := with(t, m, none, policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "c"}, Columns: []string{"survey.drilling.boreholes.name"}, Treat: "mask"})
	const head = "MERGE INTO survey.drilling.boreholes AS b USING survey.drilling.lithology AS l ON b.id = l.borehole_id AND 10 / l.id > 1 "
	for _, c := range []struct {
		name, text string
		set        *policy.Set
		says       string
	}{
		{"an update", head + "WHEN MATCHED THEN UPDATE SET name = l.rock", none, ""}, {"a deletion", head + "WHEN MATCHED THEN DELETE", none, "you lack DELETE"},
		{"an insertion", head + "WHEN NOT MATCHED THEN INSERT (id) VALUES (l.id)", none, "you lack INSERT"}, {"another column", head + "WHEN MATCHED THEN UPDATE SET district = 'x'", none, "you lack UPDATE"},
		{"row policies of the table", head + "WHEN MATCHED THEN UPDATE SET name = l.rock", rows, "row policies"}, {"a treated column", head + "WHEN MATCHED THEN UPDATE SET name = l.rock", masked, "treated"},
		{"nothing to do", head + "WHEN MATCHED THEN DO NOTHING", none, "does nothing"}, {"row policies of the source", head + "WHEN MATCHED THEN UPDATE SET name = l.rock", source, ""},
	} {
		plan, err := Make(c.text, nil, flint(t, m), c.set)
		switch {
		case c.says == "" && err != nil:
			t.Errorf("%s: %v", c.name, err)
		case c.says == "" && c.set == source && (!strings.Contains(plan.SQL, "OFFSET 0") || !strings.Contains(plan.SQL, `"rock" = $`)):
			t.Errorf("%s has no fence:\n%s", c.name, plan.SQL)
		case c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)):
			t.Errorf("%s is refused with %v, want %q", c.name, err, c.says)
		}
	}
}

// TestPoint lists which queries are point reads, which the database may plan once for all values.
func TestPoint(t *testing.T) {
	m, none := served(t)
	const of = " FROM survey.drilling.boreholes"
	for _, c := range []struct {
		text  string
		point bool
	}{
		{"SELECT id, name" + of + " WHERE id = 1", true}, {"SELECT *" + of + " WHERE name = 'x' AND id = 1", true}, {"SELECT id, 1, 'x', NULL, true" + of + " WHERE id = 1", true},
		{"SELECT name" + of + " WHERE id = 1 ORDER BY depth_m DESC, 1 LIMIT 1 OFFSET 0", true}, {"SELECT 1", true}, {"SELECT 1, 'x' ORDER BY 1 LIMIT 1", true},
		{"SELECT name" + of, false}, {"SELECT name" + of + " WHERE name = 'x'", false}, {"SELECT name" + of + " WHERE id = 1 OR id = 2", false}, {"SELECT note FROM survey.drilling.notes WHERE note = 'x'", false}, {"SELECT name" + of + " WHERE id IN (1, 2)", false},
		{"SELECT name" + of + " WHERE id = 1 + 1", false}, {"SELECT name" + of + " WHERE id = 1 AND 1 / 0 = 1", false}, {"SELECT name" + of + " WHERE id = 1 AND depth_m > 1", false},
		{"SELECT lower(name)" + of + " WHERE id = 1", false}, {"SELECT 1 / 0" + of + " WHERE id = 1", false}, {"SELECT name" + of + " WHERE id = 1 ORDER BY 1 / depth_m", false},
		{"SELECT name" + of + " WHERE id = 1 LIMIT 1 + 1", false}, {"SELECT name" + of + " WHERE id = 1 OFFSET 1 / 1", false}, {"SELECT name" + of + " WHERE id = 1 ORDER BY 1 FETCH FIRST ROW WITH TIES", false},
		{"SELECT DISTINCT name" + of + " WHERE id = 1", false}, {"SELECT count(*)" + of + " WHERE id = 1", false}, {"SELECT name" + of + " WHERE id = 1 GROUP BY name", false},
		{"SELECT a.name" + of + " a, survey.drilling.boreholes b WHERE a.id = 1", false}, {"SELECT (SELECT name" + of + " WHERE id = 1)", false}, {"SELECT 1 WHERE 1 = 2", false}, {"SELECT now()", false},
		{"SELECT 1 UNION SELECT 2", false}, {"WITH x AS (SELECT 1 AS n) SELECT id" + of + " WHERE id = 1", false}, {"SELECT n FROM (SELECT name AS n" + of + " WHERE id = 1) s", false},
	} {
		plan, err := Make(c.text, nil, flint(t, m), none)
		if err != nil {
			t.Errorf("%s: %v", c.text, err)
		} else if plan.Point != c.point {
			t.Errorf("%s: a point %v\n%s", c.text, plan.Point, plan.SQL)
		}
	}
}
