package service_test

import (
	"fmt"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/wire"
)

// TestNothingIsInferred has flint, who sees the boreholes of the north and masked
// addresses, try each way to learn of a row or a value that is not there for
// flint. Each attempt is made twice, once at what is hidden and once at what does
// not exist: the two must not differ.
func TestNothingIsInferred(t *testing.T) {
	svc := demotest.Open(t, demotest.OwnFolder(t, "drilling"))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"INSERT", "UPDATE", "DELETE"}, Object: "survey.drilling.boreholes", Subjects: []string{"user:flint"}}, false))
	hidden := ask(t, svc, opal, "SELECT id, name FROM survey.drilling.boreholes WHERE district = 'coast' ORDER BY id LIMIT 1", wire.Standpoint{})[0]
	garnet := caller(t, svc, "garnet")
	address := ask(t, svc, garnet, "SELECT email, contact_name FROM survey.licensing.holders WHERE id = 1", wire.Standpoint{})[0]
	shown := ask(t, svc, flint, "SELECT email FROM survey.licensing.holders WHERE id = 1", wire.Standpoint{})[0][0]
	if shown == address[0] {
		t.Fatal("the address is not masked")
	}
	attempts := map[string]bool{}
	for _, c := range []struct{ way, at, instead, sql string }{
		{"a filter on a hidden key", fmt.Sprint(hidden[0]), "987654", "SELECT count(*) FROM survey.drilling.boreholes WHERE id = $X"},
		{"a filter on a hidden name", hidden[1].(string), "XX-0000", "SELECT count(*) FROM survey.drilling.boreholes WHERE name = '$X'"},
		{"a filter on a treated value", address[0].(string), "nobody@nowhere.example", "SELECT count(*) FROM survey.licensing.holders WHERE email = '$X'"},
		{"LIKE on a treated value", address[0].(string)[:6], "qqqqqq", "SELECT count(*) FROM survey.licensing.holders WHERE email LIKE '$X%'"},
		{"a join with hidden rows", fmt.Sprint(hidden[0]), "987654", "SELECT count(*) FROM survey.drilling.boreholes b JOIN (VALUES ($X)) AS v (id) ON v.id = b.id"},
		{"a join by a treated value", address[0].(string), "nobody@nowhere.example", "SELECT count(*) FROM survey.licensing.holders h JOIN (VALUES ('$X')) AS v (e) ON v.e = h.email"},
		{"an outer join", fmt.Sprint(hidden[0]), "987654", "SELECT b.name FROM (VALUES ($X)) AS v (id) LEFT JOIN survey.drilling.boreholes b ON b.id = v.id"},
		{"groups", "coast", "nowhere", "SELECT count(*) FROM (SELECT district FROM survey.drilling.boreholes GROUP BY district) d WHERE d.district = '$X'"},
		{"grouping sets", "coast", "nowhere", "SELECT count(*) FROM (SELECT district AS d, count(*) FROM survey.drilling.boreholes GROUP BY ROLLUP (district)) x WHERE x.d = '$X'"},
		{"a sort by a treated value", address[1].(string), "Nobody At All", "SELECT id FROM survey.licensing.holders ORDER BY contact_name = '$X' DESC, id LIMIT 1"},
		{"a division by zero at a hidden row", fmt.Sprint(hidden[0]), "987654", "SELECT max(1 / (CASE WHEN id = $X THEN 0 ELSE 1 END)) FROM survey.drilling.boreholes"},
		{"a cast that fails on a treated value", address[0].(string), "nobody@nowhere.example", "SELECT count(*) FROM survey.licensing.holders WHERE CASE WHEN email = '$X' THEN CAST(email AS bigint) END IS NULL"},
		{"an expression that can fail, at a hidden row", hidden[1].(string), "XX-0000", "SELECT count(replace(name, '$X', 'x')) FROM survey.drilling.boreholes WHERE replace(name, '$X', '') = ''"},
		{"set operations", fmt.Sprint(hidden[0]), "987654", "SELECT $X AS id INTERSECT SELECT id FROM survey.drilling.boreholes"},
		{"EXCEPT", fmt.Sprint(hidden[0]), "987654", "SELECT count(*) FROM (SELECT $X AS id EXCEPT SELECT id FROM survey.drilling.boreholes) x"},
		{"a correlated sub-query", fmt.Sprint(hidden[0]), "987654", "SELECT (SELECT count(*) FROM survey.drilling.boreholes b WHERE b.id = v.id) FROM (VALUES ($X)) AS v (id)"},
		{"a table that follows", fmt.Sprint(hidden[0]), "987654", "SELECT count(*) FROM survey.assay.samples WHERE borehole_id = $X"},
		{"a recursive query", fmt.Sprint(hidden[0]), "987654", "WITH RECURSIVE w (id) AS (SELECT $X UNION SELECT b.id + 1 FROM survey.drilling.boreholes b JOIN w ON w.id = b.id) SELECT count(*) FROM w"},
		{"an UPDATE of a hidden row", fmt.Sprint(hidden[0]), "987654", "UPDATE survey.drilling.boreholes SET status = 'x' WHERE id = $X RETURNING id"},
		{"an UPDATE … FROM", fmt.Sprint(hidden[0]), "987654", "UPDATE survey.drilling.boreholes SET status = 'x' FROM (VALUES ($X)) AS v (id) WHERE v.id = boreholes.id RETURNING name"},
		{"a DELETE … USING", fmt.Sprint(hidden[0]), "987654", "DELETE FROM survey.drilling.boreholes USING (VALUES ($X)) AS v (id) WHERE v.id = boreholes.id"},
		{"ON CONFLICT", fmt.Sprint(hidden[0]), "987654", "INSERT INTO survey.drilling.boreholes (id, name, district, licence_id, latitude, longitude, depth_m, drilled_on, status) VALUES ($X, 'n', 'north', 1, 1, 1, 1, '2026-01-01', 'x') ON CONFLICT DO NOTHING RETURNING id"},
		{"a key that is taken, where the row is barred anyway", fmt.Sprint(hidden[0]), "987654", "INSERT INTO survey.drilling.boreholes (id, name, district, licence_id, latitude, longitude, depth_m, drilled_on, status) VALUES ($X, 'n', 'coast', 1, 1, 1, 1, '2026-01-01', 'x')"},
		{"EXPLAIN", fmt.Sprint(hidden[0]), "987654", "EXPLAIN SELECT name FROM survey.drilling.boreholes WHERE id = $X"},
	} {
		answer := func(value string) string {
			r, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: strings.ReplaceAll(c.sql, "$X", value)})
			if err != nil {
				p := fault.Of(err)
				_, detail, _ := strings.Cut(p.Detail, ": ") // behind the place, which moves with the value's length
				return fmt.Sprint(p.Kind, p.Code, detail)
			}
			return fmt.Sprint(r.Rows, r.Changed)
		}
		at, instead := answer(c.at), answer(c.instead)
		if at != instead {
			t.Errorf("%s tells what is hidden from what is not there:\n%s\n%s", c.way, at, instead)
		}
		attempts[c.way] = true
	}
	if len(attempts) != 24 {
		t.Errorf("%d ways were tried", len(attempts))
	}
}
