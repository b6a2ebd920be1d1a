package postgres_test

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/source"
	"gneiss/source/pgtest"
)

// TestShards: a table whose partitions are on other servers is one table, a policy's conditions
// reach those servers, and a server that no row can come from is not asked.
func TestShards(t *testing.T) {
	front := pgtest.Start(t)
	shards := map[string]*pgtest.Server{"north": pgtest.Start(t), "coast": pgtest.Start(t)}
	setup := `CREATE EXTENSION postgres_fdw; CREATE SCHEMA s;
		CREATE TABLE s.cores (id bigint NOT NULL, district text COLLATE "C" NOT NULL, depth numeric(8,2) NOT NULL, taken date NOT NULL, holder varchar(20)) PARTITION BY LIST (district);`
	for _, name := range []string{"north", "coast"} {
		at, err := url.Parse(shards[name].URL)
		if err != nil {
			t.Fatal(err)
		}
		exec(t, shards[name], shards[name].URL, `CREATE TABLE cores (id bigint NOT NULL, district text COLLATE "C" NOT NULL, depth numeric(8,2) NOT NULL, taken date NOT NULL, holder varchar(20));
			INSERT INTO cores SELECT i, '`+name+`', i * 1.25, DATE '2024-01-01' + i, 'holder ' || i % 5 FROM generate_series(1, 500) AS i`)
		setup += fmt.Sprintf(`CREATE SERVER %[1]s FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host '%[2]s', port '%[3]s', dbname 'postgres');
			CREATE USER MAPPING FOR postgres SERVER %[1]s OPTIONS (user 'postgres', password_required 'false');
			CREATE FOREIGN TABLE s.cores_%[1]s PARTITION OF s.cores FOR VALUES IN ('%[1]s') SERVER %[1]s OPTIONS (schema_name 'public', table_name 'cores');`, name, at.Hostname(), at.Port())
	}
	exec(t, front, front.URL, setup)
	src := open(t, front.URL)
	st := rights(t, src)
	set := &policy.Set{}
	put := func(c policy.Change) {
		t.Helper()
		next, err := set.Apply(c, st.Model)
		if err != nil {
			t.Fatal(err)
		}
		set = next
	}
	put(policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: "src.s.cores", Mode: policy.Allow, Rule: "district IN (attribute('districts'))"})
	put(policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "c"}, Columns: []string{"src.s.cores.holder"}, Treat: "mask", Treatment: policy.Treatment{KeepFirst: 1}})
	m, err := st.Model.Apply(st.At, access.SetAttribute{Subject: "user:flint", Name: "districts", Values: []string{"north"}})
	if err != nil {
		t.Fatal(err)
	}
	flint, err := m.Rights(st.Standpoint, st.At)
	if err != nil {
		t.Fatal(err)
	}
	if n := len(m.Object(m.Child(m.Object(access.PlatformID), "src").Children[0]).Children); n != 1 {
		t.Fatalf("%d tables were found", n)
	}
	ask := func(text string) (answer, remote string) {
		t.Helper()
		plan, err := emit.Make(text, nil, flint, set)
		if err != nil {
			t.Fatal(err)
		}
		args := source.Bind(plan.Args, source.Facts{})
		lines, err := src.Explain(context.Background(), "(VERBOSE) "+plan.SQL, args)
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range lines {
			if _, sql, ok := strings.Cut(line, "Remote SQL: "); ok {
				remote += sql + "\n"
			}
		}
		var out []string
		err = src.Run(context.Background(), plan.SQL, args, plan.Columns, func(row []any) error { out = append(out, fmt.Sprint(row)); return nil })
		if err != nil {
			t.Fatalf("%s: %v\n%s", text, err, plan.SQL)
		}
		return strings.Join(out, " "), remote
	}
	shards["coast"].Stop() // whose rows are not flint's
	for _, c := range []struct{ text, want, remote string }{
		{"SELECT count(*), sum(depth) FROM src.s.cores", "[500 156562.50]", "WHERE ((district = 'north'"},
		{"SELECT id, depth FROM src.s.cores WHERE depth > 620.5 AND taken < DATE '2030-01-01' - INTERVAL '1 day' ORDER BY id", "[497 621.25] [498 622.50] [499 623.75] [500 625.00]", "(depth > 620.5)"},
		{"SELECT holder FROM src.s.cores WHERE id = 7", "[h*******]", "(id = 7)"},
		{"SELECT id FROM src.s.cores WHERE 1000 / (depth - 1.25) > 700", "", "district = 'north'"},
	} {
		if c.want == "" { // which fails on a row that is there
			if plan, err := emit.Make(c.text, nil, flint, set); err != nil || src.Run(context.Background(), plan.SQL, source.Bind(plan.Args, source.Facts{}), plan.Columns, func([]any) error { return nil }) == nil {
				t.Errorf("%s does not fail (%v)", c.text, err)
			}
			continue
		}
		answer, remote := ask(c.text)
		if answer != c.want || !strings.Contains(remote, c.remote) || strings.Count(remote, "SELECT") != 1 {
			t.Errorf("%s\ngives %s, want %s\nasks the servers\n%s", c.text, answer, c.want, remote)
		}
	}
}
