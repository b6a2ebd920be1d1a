package source_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/source"
)

// TestWrites holds what statements that change rows do, and give back.
func TestWrites(t *testing.T) {
	engines(t, func(t *testing.T, made maker) {
		for _, c := range writes {
			t.Run(c.name, func(t *testing.T) {
				src, m := made(t, values)
				st := rights(t, m, "flint")
				plan, err := emit.Make(c.text, nil, st, &policy.Set{})
				if err != nil {
					t.Fatal(err)
				}
				var got []string
				err = src.Write(context.Background(), source.Request{SQL: plan.SQL, Args: source.Bind(plan.Args, source.Facts{Start: time.Unix(2, 0)}), Columns: plan.Columns}, source.Values(plan.Columns, func(row []any) error {
					got = append(got, strings.Trim(strings.ReplaceAll(fmt.Sprint(row), " ", ","), "[]"))
					return nil
				}), func(int64) error { return nil })
				if err != nil {
					t.Fatalf("%v\n%s", err, plan.SQL)
				}
				if strings.Join(got, " ") != c.want {
					t.Errorf("gives %s, want %s", strings.Join(got, " "), c.want)
				}
				text, want := c.after[:strings.LastIndexByte(c.after, '=')], c.after[strings.LastIndexByte(c.after, '=')+1:]
				if after := rowsOf(t, src, st, text); after != want {
					t.Errorf("%s is %s then, want %s", text, after, want)
				}
			})
		}
	})
}

var writes = []struct{ name, text, want, after string }{
	{"UPDATE … FROM a table", "UPDATE src.s.v AS a SET s = w.t FROM src.s.w AS w WHERE w.v_id = a.id AND w.t = 'a' RETURNING a.id, s", "1,a 2,a", "SELECT count(*) FROM src.s.v WHERE s = 'a'=2"},
	{"UPDATE … FROM values", "UPDATE src.s.v SET n = x.k FROM (VALUES (1, 100), (2, 200)) AS x (id, k) WHERE x.id = v.id RETURNING id, n", "1,100 2,200", "SELECT sum(n) FROM src.s.v=300"},
	{"UPDATE … FROM a join", "UPDATE src.s.v SET n = 5 FROM src.s.w a JOIN src.s.w b ON b.v_id = a.v_id AND b.id > a.id WHERE a.v_id = v.id RETURNING id", "1", "SELECT count(*) FROM src.s.v WHERE n = 5=1"},
	{"DELETE … USING", "DELETE FROM src.s.w USING src.s.v WHERE w.v_id = v.id AND v.n = 7 RETURNING w.id", "10 11", "SELECT count(*) FROM src.s.w=3"},
	{"ON CONFLICT DO UPDATE", "INSERT INTO src.s.k (id, t) VALUES (1, 'new'), (5, 'five') ON CONFLICT (id) DO UPDATE SET t = k.t || '+' || excluded.t RETURNING id, t", "1,one+new 5,five", "SELECT count(*) FROM src.s.k=3"},
	{"ON CONFLICT DO UPDATE … WHERE", "INSERT INTO src.s.k (id, t) VALUES (1, 'z'), (2, 'z') ON CONFLICT (id) DO UPDATE SET t = excluded.t WHERE k.id > 1 RETURNING id", "2", "SELECT count(*) FROM src.s.k WHERE t = 'z'=1"},
	{"ON CONFLICT DO NOTHING, from a query", "INSERT INTO src.s.k (id, t) SELECT id, 'q' FROM src.s.v ON CONFLICT DO NOTHING RETURNING id", "3 4", "SELECT count(*) FROM src.s.k=4"},
	{"INSERT of VALUES with a WITH query", "WITH x (id) AS (VALUES (8), (9)) INSERT INTO src.s.k (id, t) SELECT id, 'w' FROM x RETURNING id", "8 9", "SELECT count(*) FROM src.s.k=4"},
}
