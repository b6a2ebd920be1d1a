package service_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

// TestWriting holds that each privilege to write can be seen to work, and no
// more than it.
func TestWriting(t *testing.T) {
	svc := demotest.Open(t, demotest.OwnFolder(t, "field", "assay", "licensing"))
	opal, flint, beryl, marl := caller(t, svc, "opal"), caller(t, svc, "flint"), caller(t, svc, "beryl"), caller(t, svc, "marl")
	do := func(who identity.Caller, sql string) wire.Result {
		t.Helper()
		r, err := svc.Gateway.Query(ctx, who, wire.QueryRequest{SQL: sql})
		if err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
		return r
	}
	grant := func(subject, privilege, object string, columns ...string) {
		t.Helper()
		if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{privilege}, Object: object, Columns: columns, Subjects: []string{subject}, WithEntry: true}, false); err != nil {
			t.Fatal(err)
		}
	}
	if r := do(flint, "INSERT INTO survey.field.visits (id, crew_id, borehole_id, visited_on, note) VALUES (900001, 1, 2, '2026-11-01', 'capped'), (900002, 1, 2, '2026-11-02', NULL) RETURNING id, note"); fmt.Sprint(r.Rows) != "[[900001 capped] [900002 <nil>]]" || r.Changed != 2 {
		t.Errorf("INSERT gave %v, %d rows", r.Rows, r.Changed)
	}
	if r := do(flint, "UPDATE survey.field.visits AS v SET note = coalesce(v.note, 'none') || ' ' || id WHERE id > 900000 RETURNING note"); fmt.Sprint(r.Rows) != "[[capped 900001] [none 900002]]" {
		t.Errorf("UPDATE gave %v", r.Rows)
	}
	if r := do(flint, "WITH last AS (SELECT max(id) AS id FROM survey.field.visits) DELETE FROM survey.field.visits WHERE id IN (SELECT id FROM last)"); fmt.Sprint(r.Rows) != "[[removed 1 row]]" {
		t.Errorf("DELETE gave %v", r.Rows)
	}
	if r := do(flint, "INSERT INTO survey.field.visits (id, crew_id, borehole_id, visited_on) SELECT id + 1000000, crew_id, borehole_id, visited_on FROM survey.field.visits WHERE id < 4"); r.Changed != 3 {
		t.Errorf("INSERT of a query's rows gave %v", r.Rows)
	}
	grant("user:marl", "UPDATE", "survey.licensing.holders", "company")
	grant("user:marl", "SELECT", "survey.licensing.holders")
	if r := do(marl, "UPDATE survey.licensing.holders SET company = company || '!' WHERE id = 1 RETURNING id, email"); strings.Contains(fmt.Sprint(r.Rows[0][1]), "@gneiss") || !strings.Contains(fmt.Sprint(r.Rows[0][1]), "*") {
		t.Errorf("RETURNING is not governed: %v", r.Rows)
	}
	clear := do(opal, "SELECT count(*) FROM survey.licensing.holders").Rows
	for _, c := range []struct {
		name string
		who  identity.Caller
		sql  string
		kind fault.Kind
		says string
	}{
		{"without any right", marl, "DELETE FROM survey.field.visits", fault.NotFound, "is not yours to use"},
		{"reading is not writing", beryl, "DELETE FROM survey.assay.results", 0, ""},
		{"INSERT is not DELETE", flint, "DELETE FROM survey.field.crews", fault.Refused, "DELETE on survey.field.crews"},
		{"INSERT is not UPDATE", beryl, "UPDATE survey.assay.batches SET id = id", 0, ""},
		{"a column that is not granted", marl, "UPDATE survey.licensing.holders SET company = 'x', email = 'y' WHERE id = 1", fault.Refused, "UPDATE on survey.licensing.holders.email"},
		{"a treated column", opal, "UPDATE survey.licensing.holders SET email = 'y' WHERE id = 1", fault.Invalid, "cannot be written by who sees it treated"},
		{"a treated column by INSERT", opal, "INSERT INTO survey.licensing.holders (id, company, email) VALUES (99999, 'a', 'b')", fault.Invalid, "cannot be written by who sees it treated"},
		{"INSERT with a row too many", flint, "INSERT INTO survey.field.crews (id) VALUES (1, 2)", fault.Refused, "INSERT on survey.field.crews"},
		{"a value that does not fit", flint, "INSERT INTO survey.field.visits (id, crew_id) VALUES ('x', 1)", fault.Invalid, "bigint"},
		{"a value too many", flint, "INSERT INTO survey.field.visits (id, crew_id) VALUES (1, 2, 3)", fault.Invalid, "2 columns are to be set, but there are 3 values"},
		{"a fraction into a whole number", flint, "UPDATE survey.field.visits SET crew_id = 1.5", fault.Invalid, "add a cast"},
		{"an unknown column", flint, "UPDATE survey.field.visits SET nota = 'x'", fault.NotFound, "did you mean note?"},
		{"a column twice", flint, "UPDATE survey.field.visits SET note = 'x', note = 'y'", fault.Invalid, "set twice"},
		{"defaults where there are none", beryl, "INSERT INTO survey.assay.batches DEFAULT VALUES", fault.Conflict, "NOT NULL constraint"},
		{"a key that is taken", flint, "INSERT INTO survey.field.visits (id, crew_id, borehole_id, visited_on) VALUES (1, 1, 1, '2026-01-01')", fault.Conflict, "PRIMARY KEY constraint"},
		{"NULL where none may be", flint, "UPDATE survey.field.visits SET visited_on = NULL", fault.Conflict, "NOT NULL constraint"},
		{"a key of nothing", flint, "UPDATE survey.field.visits SET crew_id = 424242 WHERE id = 1", fault.Conflict, "FOREIGN KEY constraint"},
		{"ON CONFLICT does not help a NULL", flint, "INSERT INTO survey.field.visits (id) VALUES (1) ON CONFLICT DO NOTHING", fault.Conflict, "NOT NULL constraint"},
		{"ON CONFLICT without a key", flint, "INSERT INTO survey.field.visits (id) VALUES (1) ON CONFLICT DO UPDATE SET note = 'x'", fault.Invalid, "needs the columns of the key"},
		{"ON CONFLICT that changes without UPDATE", beryl, "INSERT INTO survey.field.visits (id) VALUES (1) ON CONFLICT (id) DO UPDATE SET note = 'x'", fault.NotFound, "not yours"},
		{"UPDATE … FROM a table that is not granted", flint, "UPDATE survey.field.visits SET note = company FROM survey.licensing.payments", fault.Refused, "SELECT on survey.licensing.payments"},
		{"DELETE … USING a table that is not granted", flint, "DELETE FROM survey.field.visits USING survey.licensing.payments AS p WHERE p.id = visits.id", fault.Refused, "SELECT on survey.licensing.payments"},
		{"an aggregate as a value", flint, "UPDATE survey.field.visits SET crew_id = max(id)", fault.Invalid, "aggregate"},
		{"a query in RETURNING", flint, "DELETE FROM survey.field.visits WHERE id = 1 RETURNING (SELECT 1)", fault.Invalid, "sub-query in RETURNING"},
		{"writing inside a query", flint, "WITH x AS (DELETE FROM survey.field.visits RETURNING id) SELECT * FROM x", fault.Invalid, "is not supported"},
		{"reading what may only be written", flint, "UPDATE survey.field.visits SET note = (SELECT max(email) FROM survey.licensing.licences)", fault.Refused, "SELECT on survey.licensing.licences"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := svc.Gateway.Query(ctx, c.who, wire.QueryRequest{SQL: c.sql})
			if c.kind == 0 { // beryl keeps the laboratory's tables through a role that owns them
				if err != nil {
					t.Error(err)
				}
				return
			}
			wants(t, err, c.kind, c.says)
		})
	}
	_, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "DELETE FROM survey.field.visits", Standpoint: wire.Standpoint{As: "user:flint"}})
	wants(t, err, fault.Invalid, "rows are changed as yourself")
	_, err = svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "DELETE FROM survey.field.visits", Standpoint: wire.Standpoint{Role: "survey_reader"}})
	wants(t, err, fault.Refused, "DELETE on survey.field.visits")
	if again := do(opal, "SELECT count(*) FROM survey.licensing.holders").Rows; fmt.Sprint(again) != fmt.Sprint(clear) {
		t.Errorf("refused statements changed the table: %v, was %v", again, clear)
	}
	found, err := svc.Review.Records(ctx, caller(t, svc, "agate"), review.RecordSearch{Action: "write", Actor: "user:flint", Decision: "allowed"})
	if err != nil || len(found.Items) == 0 || found.Items[len(found.Items)-1].Rows != 2 {
		t.Errorf("the record of writes: %+v, %v", found.Items, err)
	}
}

// TestReadersCannotWrite holds that the connections of queries are read-only,
// whatever a plan would say.
func TestReadersCannotWrite(t *testing.T) {
	dir := demotest.OwnFolder(t, "field")
	svc := demotest.Open(t, dir)
	before, err := os.ReadFile(filepath.Join(dir, "sources", "survey", "field.db"))
	if err != nil {
		t.Fatal(err)
	}
	opal := caller(t, svc, "opal")
	ask(t, svc, opal, "SELECT count(*) FROM survey.field.visits", wire.Standpoint{})
	after, err := os.ReadFile(filepath.Join(dir, "sources", "survey", "field.db"))
	if err != nil || string(before) != string(after) {
		t.Errorf("a query changed the file: %v", err)
	}
}

// TestWritingUnderRowPolicies: only rows that are there are touched, and none is
// left that the policies would not let through.
func TestWritingUnderRowPolicies(t *testing.T) {
	svc := demotest.Open(t, demotest.OwnFolder(t, "drilling", "monitoring"))
	opal, flint, chert, jasper := caller(t, svc, "opal"), caller(t, svc, "flint"), caller(t, svc, "chert"), caller(t, svc, "jasper")
	if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"writer"}, Objects: []string{"survey.drilling.boreholes", "survey.monitoring.readings"}, Subjects: []string{"role:district_geologist"}}, false); err != nil {
		t.Fatal(err)
	}
	do := func(who identity.Caller, sql string) wire.Result {
		t.Helper()
		r, err := svc.Gateway.Query(ctx, who, wire.QueryRequest{SQL: sql})
		if err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
		return r
	}
	everything := func() string {
		t.Helper()
		return fmt.Sprint(do(opal, "SELECT district, count(*), sum(depth_m), min(status), max(status) FROM survey.drilling.boreholes GROUP BY district ORDER BY district").Rows)
	}
	insert := "INSERT INTO survey.drilling.boreholes (name, district, licence_id, latitude, longitude, depth_m, drilled_on, release_on, status, contractor) VALUES ('NX-1', '%s', 1, 55, -2, 10, '2026-01-01', '2027-01-01', 'logged', 'x') RETURNING name, cost"
	if r := do(flint, "UPDATE survey.drilling.boreholes SET status = 'checked' RETURNING district"); r.Changed != 1310 || len(r.Rows) != 1310 || r.Rows[0][0] != "north" {
		t.Errorf("flint changed %d rows, of %v", r.Changed, r.Rows[0])
	}
	if got := do(opal, "SELECT DISTINCT district FROM survey.drilling.boreholes WHERE status = 'checked'").Rows; fmt.Sprint(got) != "[[north]]" {
		t.Errorf("rows of %v were touched", got)
	}
	if r := do(flint, fmt.Sprintf(insert, "north")); fmt.Sprint(r.Rows) != "[[NX-1 <nil>]]" {
		t.Errorf("a row of the own district: %v", r.Rows)
	}
	if r := do(flint, "DELETE FROM survey.drilling.boreholes WHERE name = 'NX-1' OR district = 'coast'"); r.Changed != 1 {
		t.Errorf("flint removed %d rows", r.Changed)
	}
	before := everything()
	for _, c := range []struct {
		name string
		who  identity.Caller
		sql  string
		says string
	}{
		{"a row of another district", flint, fmt.Sprintf(insert, "coast"), "is not yours to write"},
		{"moving a row away", flint, "UPDATE survey.drilling.boreholes SET district = 'coast' WHERE id = (SELECT min(id) FROM survey.drilling.boreholes)", "is not yours to write"},
		{"one row of many", flint, "UPDATE survey.drilling.boreholes SET district = CASE WHEN id % 100 = 0 THEN 'coast' ELSE district END", "is not yours to write"},
		{"a row without a district", jasper, fmt.Sprintf(insert, ""), "is not yours to write"},
		{"an entitlement that is not there", chert, fmt.Sprintf(insert, "islands"), "is not yours to write"},
		{"a key by hand, which would tell of hidden rows", flint, "INSERT INTO survey.drilling.boreholes (id, name, district, licence_id, latitude, longitude, depth_m, drilled_on, status) VALUES (1, 'n', 'north', 1, 1, 1, 1, '2026-01-01', 'x')", "column id is part of a key"},
		{"a key that is changed", flint, "UPDATE survey.drilling.boreholes SET id = id + 100000", "column id is part of a key"},
		{"ON CONFLICT, which would tell of hidden keys", flint, strings.Replace(fmt.Sprintf(insert, "north"), " RETURNING", " ON CONFLICT (id) DO NOTHING RETURNING", 1), "it would tell of them"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := svc.Gateway.Query(ctx, c.who, wire.QueryRequest{SQL: c.sql})
			if p := fault.Of(err); err == nil || !strings.Contains(p.Detail, c.says) {
				t.Errorf("%v, want %q", err, c.says)
			}
			if after := everything(); after != before {
				t.Errorf("a refused statement changed the table:\n%s\nwas\n%s", after, before)
			}
		})
	}
	// By an entitlement table, which the check reads for each row.
	if r := do(chert, fmt.Sprintf(insert, "basin")); r.Changed != 1 {
		t.Errorf("chert covers the basin: %v", r.Rows)
	}
	// By a group in a column.
	if r := do(flint, "UPDATE survey.monitoring.readings SET level_m = level_m WHERE id < 2000"); r.Changed == 0 || r.Changed >= 1999 {
		t.Errorf("flint changed %d readings", r.Changed)
	}
	_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "UPDATE survey.monitoring.readings SET district = 'basin' WHERE id < 2000"})
	wants(t, err, fault.Refused, "is not yours to write")
	// What one is told is one's own: another's refusal puts no reference into it.
	first := fault.Of(err)
	_, err = svc.Gateway.Query(ctx, jasper, wire.QueryRequest{SQL: fmt.Sprintf(insert, "")})
	if second := wants(t, err, fault.Refused, "is not yours to write"); first.Reference == "" || first.Reference == second.Reference || first == second {
		t.Errorf("two refusals are one: %s and %s", first.Reference, second.Reference)
	}
	if records, err := svc.Review.Records(ctx, caller(t, svc, "agate"), review.RecordSearch{Action: "write", Decision: "refused", Actor: "user:flint"}); err != nil || len(records.Items) < 3 {
		t.Errorf("refusals on record: %d, %v", len(records.Items), err)
	}
}

// TestForeignKeysTellNothing: what a foreign key leads to is looked at as the session
// sees it, and what leads to a row may not tell that it is there.
func TestForeignKeysTellNothing(t *testing.T) {
	svc := demotest.Open(t, demotest.OwnFolder(t, "drilling"))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"writer"}, Objects: []string{"survey.drilling"}, Subjects: []string{"user:flint"}}, false))
	one := func(district string) string {
		return fmt.Sprint(ask(t, svc, opal, "SELECT min(id) FROM survey.drilling.boreholes WHERE district = '"+district+"'", wire.Standpoint{})[0][0])
	}
	try := func(sql, id string) string {
		r, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: strings.ReplaceAll(sql, "$X", id)})
		if err != nil {
			p := fault.Of(err)
			return fmt.Sprint(p.Kind, p.Code, p.Detail)
		}
		return fmt.Sprint(r.Rows)
	}
	insert := "INSERT INTO survey.drilling.core_boxes (borehole_id, box_no, shelf, from_m, to_m) VALUES ($X, 1, 'a', 0, 1)"
	update := "UPDATE survey.drilling.core_boxes SET borehole_id = $X WHERE id = (SELECT min(id) FROM survey.drilling.core_boxes)"
	copies := "INSERT INTO survey.drilling.core_boxes (borehole_id, box_no, shelf, from_m, to_m) SELECT $X, box_no, shelf, from_m, to_m FROM survey.drilling.core_boxes LIMIT 3"
	for _, sql := range []string{insert, update, copies} {
		hidden, absent := try(sql, one("coast")), try(sql, "987654")
		if hidden != absent || !strings.Contains(hidden, "the row that it refers to is not there") {
			t.Errorf("%s\ntells a hidden borehole from none:\n%s\n%s", sql, hidden, absent)
		}
	}
	if got := try(insert, one("north")); got != "[[inserted 1 row]]" {
		t.Errorf("a box of a borehole that is there: %s", got)
	}
	// Lithology is made to hide rows, which lead to boreholes.
	done(t)(svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: "basalt", Table: "survey.drilling.lithology", Rule: "rock = 'basalt'"}}))
	if got := try("DELETE FROM survey.drilling.boreholes WHERE id = $X", one("north")); !strings.Contains(got, "rows of survey.drilling.lithology can refer to") {
		t.Errorf("a row that hidden rows may lead to: %s", got)
	}
}

// TestEstimatesAreForWhoSeesAll: the database's own plan tells how many rows it
// expects, hidden ones among them.
func TestEstimatesAreForWhoSeesAll(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"reader"}, Object: "survey.drilling.boreholes", Subjects: []string{"user:flint"}}, false))
	shown := func(who identity.Caller) string {
		r, err := svc.Gateway.Query(ctx, who, wire.QueryRequest{SQL: "EXPLAIN SELECT name FROM survey.drilling.boreholes WHERE id = 7"})
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(r.Rows)
	}
	if got := shown(flint); strings.Contains(got, "SEARCH") || !strings.Contains(got, "those who see all rows of survey.drilling.boreholes") {
		t.Errorf("flint is told %s", got)
	}
	if got := shown(opal); !strings.Contains(got, "SEARCH") {
		t.Errorf("opal, who sees all rows, is told %s", got)
	}
}
