package source_test

import (
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/source"
)

// TestTableRows: a table's name for its row has the rows and values that are there for the
// session, and no column that is not.
func TestTableRows(t *testing.T) {
	src, m := onPostgreSQL(t, `CREATE TABLE a (id integer PRIMARY KEY, name text, gone text, shut text, pay text, odd text);
		INSERT INTO a VALUES (1, 'one', 'gone1', 'shut1', 'pay1', 'odd1'), (2, 'two', 'gone2', 'shut2', 'pay2', 'odd2')`)
	set := setOf(t, m,
		policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "rows"}, Table: "src.s.a", Rule: "id = 1"},
		policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "gone"}, Columns: []string{"src.s.a.gone"}, Treat: "withhold absent"},
		policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "shut"}, Columns: []string{"src.s.a.shut"}, Treat: "withhold refuse"},
		policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "pay"}, Columns: []string{"src.s.a.pay"}, Treat: "suppress"},
	)
	st := rights(t, m, "flint")
	const row = `{"id":1,"name":"one","pay":null,"odd":"odd1"}`
	for text, want := range map[string]string{
		"SELECT row_to_json(a) FROM src.s.a":                                 row,
		"SELECT row_to_json(x) FROM (SELECT * FROM src.s.a) x":               row,
		"SELECT json_agg(a) FROM src.s.a":                                    "[" + row + "]",
		"SELECT a FROM src.s.a":                                              `(1,one,,odd1)`,
		"SELECT (a).name FROM src.s.a":                                       "one",
		"SELECT count(a) FROM src.s.a WHERE row_to_json(a)::text LIKE '%2%'": "0",
		"SELECT count(*) FROM src.s.a WHERE to_jsonb(a) ? 'gone'":            "0",
	} {
		plan, err := emit.Make(text, nil, st, set)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		if got, err := answerOf(src, plan.SQL, source.Bind(plan.Args, source.Facts{}), plan.Columns); err != nil || got != want {
			t.Errorf("%s\ngives %s, want %s (%v)", text, got, want, err)
		}
	}
	for _, text := range []string{"SELECT (a).gone FROM src.s.a", "SELECT (a).shut FROM src.s.a", "SELECT row_to_json(b) FROM (VALUES (1)) v (n) LEFT JOIN src.s.a b ON b.id = v.n"} {
		if plan, err := emit.Make(text, nil, st, set); err == nil {
			t.Errorf("%s is planned:\n%s", text, plan.SQL)
		}
	}

	// Who may read some columns is told of the others, and not given them.
	m, err := m.Apply(time.Unix(3, 0), access.AddSubject{Subject: "user:marl"}, access.AddGrant{Privilege: "USAGE", Object: "src", Subject: "user:marl"},
		access.AddGrant{Privilege: "USAGE", Object: "src.s", Subject: "user:marl"}, access.AddGrant{Privilege: "SELECT", Object: "src.s.a.id", Subject: "user:marl"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := emit.Make("SELECT row_to_json(a) FROM src.s.a", nil, rights(t, m, "marl"), set); err == nil || !strings.Contains(err.Error(), "SELECT on src.s.a.name") {
		t.Errorf("columns that are not granted: %v", err)
	}
}
