package service_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"gneiss/demo"
	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/source/pgtest"
	"gneiss/wire"
)

// onBoth is the demo platform with the survey's tables in PostgreSQL as well.
func onBoth(t testing.TB) (*service.Service, *pgtest.Server, string) {
	t.Helper()
	svc, server, url, _ := onBothIn(t)
	return svc, server, url
}

// onBothIn is onBoth with the data folder.
func onBothIn(t testing.TB) (*service.Service, *pgtest.Server, string, string) {
	t.Helper()
	dir, server, url := demotest.OnServer(t)
	return demotest.Open(t, dir), server, url, dir
}

// TestSameAnswersOnBothSources asks the same of the survey's tables on SQLite and
// on PostgreSQL, under the same policies, as everybody.
func TestSameAnswersOnBothSources(t *testing.T) {
	svc, _, _ := onBoth(t)
	ctx := context.Background()
	answered, refused := 0, 0
	for _, a := range demo.Accounts {
		c, err := svc.Admin.ActAs(a.Ref)
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range []string{
			"SELECT * FROM survey.drilling.boreholes ORDER BY id LIMIT 300",
			"SELECT district, count(*), round(avg(depth_m)::numeric, 3)::double precision AS depth, sum(cost) IS NULL AS blank FROM survey.drilling.boreholes GROUP BY district ORDER BY district",
			"SELECT b.name, s.id, s.mass_g FROM survey.drilling.boreholes AS b JOIN survey.assay.samples AS s ON s.borehole_id = b.id WHERE b.status = 'logged' ORDER BY s.id LIMIT 200",
			"SELECT r.element, count(*), max(r.ppm) FROM survey.assay.results AS r GROUP BY r.element ORDER BY count(*) DESC, r.element",
			"SELECT company, contact_name, email, phone, bank_account FROM survey.licensing.holders ORDER BY id",
			"SELECT author, date_trunc('month', written_on)::date AS month, round(sum(hours)::numeric, 6)::double precision, count(cost) FROM survey.field.reports GROUP BY author, date_trunc('month', written_on)::date ORDER BY 1, 2",
			"SELECT extract(year from day) AS y, district, round(avg(level_m)::numeric, 6)::double precision FROM survey.monitoring.readings GROUP BY 1, 2 ORDER BY 1, 2",
			"WITH deep AS (SELECT id, name, rank() OVER (PARTITION BY district ORDER BY depth_m DESC, id) AS place FROM survey.drilling.boreholes) SELECT name, place FROM deep WHERE place <= 3 ORDER BY place, name",
			"SELECT id, note FROM survey.field.visits WHERE note ILIKE '%core%' ORDER BY visited_on DESC NULLS LAST, id LIMIT 50",
		} {
			lite, errLite := svc.Gateway.Query(ctx, c, wire.QueryRequest{SQL: text})
			server, errServer := svc.Gateway.Query(ctx, c, wire.QueryRequest{SQL: strings.ReplaceAll(text, "survey.", demo.Second+".")})
			switch {
			case (errLite == nil) != (errServer == nil):
				t.Errorf("%s: %s\nSQLite: %v\nPostgreSQL: %v", a.Ref, text, errLite, errServer)
			case errLite != nil:
				refused++
			default:
				if got, want := fmt.Sprint(server.Rows), fmt.Sprint(lite.Rows); got != want {
					t.Errorf("%s: %s\nSQLite: %.900s\nPostgreSQL: %.900s", a.Ref, text, want, got)
				}
				answered++
			}
		}
	}
	if answered < 40 || refused < 15 {
		t.Errorf("%d were answered and %d refused; that proves little", answered, refused)
	}
	t.Logf("%d answered alike, %d refused alike", answered, refused)
}

// TestServerThroughTheGateway writes and reads as its users do, and loses the server.
func TestServerThroughTheGateway(t *testing.T) {
	svc, server, url := onBoth(t)
	ctx := context.Background()
	ask := func(user, text string) (wire.Result, error) {
		t.Helper()
		c, err := svc.Admin.ActAs("user:" + user)
		if err != nil {
			t.Fatal(err)
		}
		return svc.Gateway.Query(ctx, c, wire.QueryRequest{SQL: text})
	}
	code := func(err error) string {
		if err == nil {
			return ""
		}
		return fault.Of(err).Code
	}
	out, err := ask("flint", "INSERT INTO survey_pg.field.visits (id, crew_id, borehole_id, visited_on, note) VALUES (9001, 1, 1, '2024-05-05', 'cores boxed') RETURNING id, note")
	if err != nil || fmt.Sprint(out.Rows) != "[[9001 cores boxed]]" || out.Changed != 1 || out.Record == "" {
		t.Errorf("an insert gives %+v (%v)", out, err)
	}
	for _, c := range []struct{ user, text, code string }{
		{"flint", "INSERT INTO survey_pg.field.visits (id, crew_id, borehole_id, visited_on) VALUES (9001, 1, 1, '2024-05-05')", "constraint"},
		{"flint", "INSERT INTO survey_pg.field.visits (id, crew_id, borehole_id, visited_on) VALUES (9002, 777, 1, '2024-05-05')", "constraint"},
		{"flint", "DELETE FROM survey_pg.drilling.boreholes", "refused"},
		{"marl", "SELECT * FROM survey_pg.drilling.boreholes", "unknown_name"},
		{"flint", "SELECT 9223372036854775807 + id FROM survey_pg.drilling.boreholes", "query_failed"},
		{"flint", "SELECT b.id FROM survey_pg.drilling.boreholes b JOIN survey.assay.samples s ON s.borehole_id = b.id", "unsupported"},
		{"flint", "SELECT 1 FROM survey_pg.drilling.boreholes a FULL JOIN survey_pg.drilling.lithology b ON a.id < b.id", "query_failed"},
		{"flint", "SELECT pg_temp.gneiss_pseudonym('x', 'a', 'b')", "unknown_name"},
		{"flint", "SELECT * FROM pg_catalog.pg_class", "unknown_name"},
	} {
		if _, err := ask(c.user, c.text); code(err) != c.code {
			t.Errorf("%s: %s\nis refused as %q, want %q (%v)", c.user, c.text, code(err), c.code, err)
		}
	}
	// What the server's tables become is found by a scan.
	if err := server.Exec(url, "ALTER TABLE licensing.holders RENAME COLUMN email TO mail; CREATE TABLE field.notes (id uuid PRIMARY KEY, body varchar(80))"); err != nil {
		t.Fatal(err)
	}
	opal := caller(t, svc, "opal")
	changed, err := svc.Admin.Scan(ctx, opal, demo.Second, wire.Change{})
	if notes := fmt.Sprint(changed.Notes); err != nil || !strings.Contains(notes, "survey_pg.licensing.holders.email is missing") || !strings.Contains(notes, "treated it") || !strings.Contains(notes, "there is now survey_pg.field.notes.id") {
		t.Errorf("the scan says %s (%v)", notes, err)
	}
	if _, err := ask("flint", "SELECT company FROM survey_pg.licensing.holders"); code(err) != "policy_broken" {
		t.Errorf("a table whose treated column is gone is not closed: %v", err)
	}
	if out, err := ask("opal", "INSERT INTO survey_pg.field.notes (id, body) VALUES ('6f9619ff-8b86-d011-b42d-00c04fc964ff', 'x') RETURNING id"); err != nil || fmt.Sprint(out.Rows) != "[[6f9619ff-8b86-d011-b42d-00c04fc964ff]]" {
		t.Errorf("the new table: %v (%v)", out.Rows, err)
	}
	server.Kill()
	_, err = ask("flint", "SELECT count(*) FROM survey_pg.drilling.boreholes")
	if p := fault.Of(err); p.Code != "source_unavailable" || p.Reference == "" || strings.Contains(p.Detail, "127.0.0.1") {
		t.Errorf("without the server: %+v", p)
	}
	if _, err := ask("flint", "SELECT count(*) FROM survey.drilling.boreholes"); err != nil {
		t.Errorf("the other source: %v", err)
	}
	list, err := svc.Review.Sources(ctx, opal)
	if err != nil || len(list.Items) != 2 || list.Items[1].Available || list.Items[1].Problem == "" || !list.Items[0].Available {
		t.Errorf("the sources: %+v (%v)", list.Items, err)
	}
}

// TestRoutines: a source's own routines are called by who holds EXECUTE on them, and by
// nobody else; what may read past the policies is found.
func TestRoutines(t *testing.T) {
	svc, server, url := onBoth(t)
	ctx := context.Background()
	if err := server.Exec(url, `CREATE FUNCTION drilling.deeper(depth double precision, by numeric DEFAULT 1) RETURNS numeric LANGUAGE sql IMMUTABLE AS 'SELECT round(depth::numeric + by, 2)';
		CREATE FUNCTION drilling.deeper(depth integer) RETURNS integer LANGUAGE sql IMMUTABLE AS 'SELECT depth + 1';
		CREATE FUNCTION drilling.peek(k integer) RETURNS text LANGUAGE sql STABLE SECURITY DEFINER AS 'SELECT contractor FROM drilling.boreholes WHERE id = k';
		CREATE FUNCTION drilling.near(k integer) RETURNS TABLE (id bigint, name text) LANGUAGE sql STABLE AS 'SELECT id, name FROM drilling.boreholes WHERE id < k';
		CREATE TABLE field.marks (n bigint PRIMARY KEY, borehole integer REFERENCES drilling.boreholes (id), label varchar(9));
		COMMENT ON TABLE drilling.boreholes IS 'holes in the ground'; COMMENT ON COLUMN drilling.boreholes.depth_m IS 'in metres'`); err != nil {
		t.Fatal(err)
	}
	as := func(user string) identity.Caller {
		t.Helper()
		c, err := svc.Admin.ActAs("user:" + user)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	if _, err := svc.Admin.Scan(ctx, as("opal"), demo.Second, wire.Change{}); err != nil {
		t.Fatal(err)
	}
	ask := func(user, text string) string {
		t.Helper()
		out, err := svc.Gateway.Query(ctx, as(user), wire.QueryRequest{SQL: text})
		if err != nil {
			return fault.Of(err).Code
		}
		return fmt.Sprint(out.Rows)
	}
	grant := func(object, subject string) {
		t.Helper()
		if _, err := svc.Admin.Grant(ctx, as("opal"), wire.GrantRequest{Privileges: []string{"EXECUTE"}, Object: object, Subjects: []string{subject}}, false); err != nil {
			t.Fatal(err)
		}
	}
	const one = "SELECT drilling.deeper(2.5::double precision, 0.25), drilling.deeper(7), survey_pg.drilling.deeper(by => 2, depth => 1.0) FROM survey_pg.drilling.boreholes LIMIT 1"
	if got := ask("opal", one); got != "[[2.75 8 3.00]]" {
		t.Errorf("calls of overloaded routines give %s", got)
	}
	for _, c := range []struct{ user, text, want string }{
		{"flint", one, "refused"}, {"marl", "SELECT drilling.deeper(1)", "unknown_name"}, {"opal", "SELECT drilling.nosuch(1)", "unknown_name"},
		{"opal", "SELECT drilling.deeper('x', 'y', 'z')", "type_mismatch"}, {"opal", "SELECT deeper(1)", "unknown_name"}, {"flint", "SELECT drilling.peek(1)", "refused"},
		{"opal", "SELECT count(*) FROM drilling.near(4) AS n WHERE n.name IS NOT NULL", "[[3]]"},
	} {
		if got := ask(c.user, c.text); got != c.want {
			t.Errorf("%s: %s gives %s, want %s", c.user, c.text, got, c.want)
		}
	}
	grant(`survey_pg.drilling."deeper(double precision,numeric)"`, "user:flint")
	if got := ask("flint", "SELECT drilling.deeper(2.5::double precision)"); got != "[[3.50]]" {
		t.Errorf("with EXECUTE: %s", got)
	}
	if got := ask("flint", "SELECT drilling.deeper(7)"); got != "refused" {
		t.Errorf("the other of the name: %s", got)
	}
	findings, err := svc.Review.Findings(ctx, as("opal"), 0)
	definers := 0
	for _, f := range findings.Items {
		if f.Kind == "past_policies" {
			definers++
			if f.Object != `survey_pg.drilling."peek(integer)"` && f.Object != `survey_pg.drilling."near(integer)"` {
				t.Errorf("a finding about %s", f.Object)
			}
		}
	}
	if err != nil || definers != 2 {
		t.Errorf("%d findings of routines that may read past policies (%v)", definers, err)
	}
	relationships, err := svc.Review.Relationships(as("opal"), "")
	if err != nil || !slices.ContainsFunc(relationships.Items, func(r wire.Relationship) bool { return strings.Contains(fmt.Sprint(r.From), "field.marks.borehole") }) {
		t.Errorf("a foreign key between whole numbers of other sizes is not found (%v)", err)
	}
	page, err := svc.Review.Object(as("opal"), "survey_pg.drilling.boreholes", wire.Standpoint{})
	if err != nil || page.Comment != "holes in the ground" || !slices.ContainsFunc(page.Columns, func(c wire.ColumnView) bool { return c.Name == "depth_m" && c.Comment == "in metres" }) {
		t.Errorf("comments: %q (%v)", page.Comment, err)
	}
	if _, err := svc.Admin.PutPolicy(ctx, as("opal"), wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: "by-routine", Table: "survey_pg.drilling.boreholes", Mode: "allow", Rule: "drilling.peek(1) = 'x'"}}); err == nil || !strings.Contains(err.Error(), "in a policy") {
		t.Errorf("a policy that calls a routine: %v", err)
	}
	// A routine that is gone is not called, and what is granted on it stays for its return.
	if err := server.Exec(url, "DROP FUNCTION drilling.deeper(double precision, numeric)"); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Admin.Scan(ctx, as("opal"), demo.Second, wire.Change{}); err != nil {
		t.Fatal(err)
	}
	if got := ask("flint", "SELECT drilling.deeper(2.5::double precision)"); got != "type_mismatch" && got != "refused" && got != "unknown_name" {
		t.Errorf("a routine that is gone: %s", got)
	}
}

// TestSourceLifecycle checks, moves, removes and connects a source again.
func TestSourceLifecycle(t *testing.T) {
	svc, _, url := onBoth(t)
	ctx := context.Background()
	opal := caller(t, svc, "opal")
	flint := caller(t, svc, "flint")
	count := func() string {
		out, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT count(*) > 0 FROM survey_pg.drilling.boreholes"})
		if err != nil {
			return fault.Of(err).Code
		}
		return fmt.Sprint(out.Rows)
	}
	check, err := svc.Review.CheckSource(ctx, opal, demo.Second)
	if says := fmt.Sprint(check.Notes); err != nil || !strings.Contains(says, "PostgreSQL 1") || !strings.Contains(says, "{bad postgres is a superuser") {
		t.Errorf("the check says %s (%v)", says, err)
	}
	if check, err := svc.Review.CheckSource(ctx, opal, "survey"); err != nil || !strings.Contains(fmt.Sprint(check.Notes), "tables") {
		t.Errorf("the check of a folder says %v (%v)", check.Notes, err)
	}
	if _, err := svc.Review.CheckSource(ctx, flint, demo.Second); err == nil {
		t.Error("who does not administer the platform checked a source")
	}
	for _, location := range []string{"/tmp", strings.Replace(url, "/survey?", "/nosuch?", 1), strings.Replace(url, "/survey?", "/postgres?", 1)} {
		if _, err := svc.Admin.SetSource(ctx, opal, demo.Second, wire.SourceSettings{Location: location}); err == nil {
			t.Errorf("the source was moved to %s", location)
		}
	}
	if count() != "[[true]]" {
		t.Error("a move that failed left the source unusable")
	}
	if _, err := svc.Admin.SetSource(ctx, opal, demo.Second, wire.SourceSettings{Location: url + "&application_name=moved"}); err != nil || count() != "[[true]]" {
		t.Errorf("after the move: %s (%v)", count(), err)
	}
	if _, err := svc.Admin.RemoveSource(ctx, flint, demo.Second, wire.Change{}); err == nil {
		t.Error("who does not administer the platform removed a source")
	}
	if out, err := svc.Admin.RemoveSource(ctx, opal, demo.Second, wire.Change{DryRun: true}); err != nil || out.Done || count() != "[[true]]" {
		t.Errorf("a dry run: %+v (%v)", out, err)
	}
	if _, err := svc.Admin.RemoveSource(ctx, opal, demo.Second, wire.Change{}); err != nil || count() != "unknown_name" {
		t.Errorf("after the removal: %s (%v)", count(), err)
	}
	if _, err := svc.Admin.RemoveSource(ctx, opal, demo.Second, wire.Change{}); fault.Of(err).Code != "not_found" {
		t.Errorf("the second removal: %v", err)
	}
	if _, err := svc.Admin.AddSource(ctx, opal, wire.SourceRequest{Name: demo.Second, Location: url}); err != nil || count() != "[[true]]" {
		t.Errorf("connected again: %s (%v)", count(), err)
	}
}

// TestDatabaseViews: a view of the database's own is there once an administrator, who is told
// what it reads, has taken it in, and has policies of its own.
func TestDatabaseViews(t *testing.T) {
	svc, server, url := onBoth(t)
	ctx := context.Background()
	if err := server.Exec(url, "CREATE VIEW drilling.deep AS SELECT b.id, b.name, b.district, h.company FROM drilling.boreholes b JOIN licensing.holders h ON h.id = b.licence_id WHERE b.depth_m > 500"); err != nil {
		t.Fatal(err)
	}
	opal := caller(t, svc, "opal")
	flint := caller(t, svc, "flint")
	ask := func(c identity.Caller) string {
		out, err := svc.Gateway.Query(ctx, c, wire.QueryRequest{SQL: "SELECT count(*) > 3 FROM survey_pg.drilling.deep"})
		if err != nil {
			return fault.Of(err).Code
		}
		return fmt.Sprint(out.Rows)
	}
	if _, err := svc.Admin.Scan(ctx, opal, demo.Second, wire.Change{}); err != nil || ask(opal) != "unknown_name" {
		t.Errorf("a scan took the view in: %s (%v)", ask(opal), err)
	}
	list, err := svc.Admin.DatabaseViews(ctx, opal, demo.Second)
	if err != nil || len(list.Items) != 1 || list.Items[0].Adopted || !strings.Contains(list.Items[0].Says, "drilling.boreholes, licensing.holders with the rights of its owner postgres") {
		t.Errorf("the views: %+v (%v)", list.Items, err)
	}
	if _, err := svc.Admin.Adopt(ctx, flint, demo.Second, wire.AdoptRequest{View: "drilling.deep"}); err == nil {
		t.Error("who does not administer the platform took a view in")
	}
	for _, name := range []string{"drilling.nosuch", "drilling.boreholes", "deep", "a.b.c"} {
		if _, err := svc.Admin.Adopt(ctx, opal, demo.Second, wire.AdoptRequest{View: name}); err == nil {
			t.Errorf("%s was taken in", name)
		}
	}
	out, err := svc.Admin.Adopt(ctx, opal, demo.Second, wire.AdoptRequest{View: "drilling.deep"})
	if err != nil || !strings.Contains(fmt.Sprint(out.Notes), "policies on these do not reach it") || ask(opal) != "[[true]]" {
		t.Errorf("taken in: %s, %v (%v)", ask(opal), out.Notes, err)
	}
	if _, err := svc.Admin.Adopt(ctx, opal, demo.Second, wire.AdoptRequest{View: "drilling.deep"}); fault.Of(err).Code != "exists" {
		t.Errorf("taken in twice: %v", err)
	}
	if _, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: "deep-north", Table: "survey_pg.drilling.deep", Mode: "allow", Rule: "district = 'nowhere'"}}); err != nil || ask(opal) != "[[false]]" {
		t.Errorf("with a policy of its own: %s (%v)", ask(opal), err)
	}
	if _, err := svc.Admin.Scan(ctx, opal, demo.Second, wire.Change{}); err != nil || ask(opal) != "[[false]]" {
		t.Errorf("after another scan: %s (%v)", ask(opal), err)
	}
	if _, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "DELETE FROM survey_pg.drilling.deep"}); err == nil || !strings.Contains(err.Error(), "writing to a view") {
		t.Errorf("writing through the view: %v", err)
	}
	if _, err := svc.Admin.Disown(ctx, opal, demo.Second, "drilling.boreholes", wire.Change{}); err == nil {
		t.Error("a table was left out")
	}
	if _, err := svc.Admin.Disown(ctx, opal, demo.Second, "drilling.deep", wire.Change{}); err != nil || ask(opal) != "unknown_name" {
		t.Errorf("left out: %s (%v)", ask(opal), err)
	}
	if _, err := svc.Admin.Scan(ctx, opal, demo.Second, wire.Change{}); err != nil || ask(opal) != "unknown_name" {
		t.Errorf("a scan took it in again: %s (%v)", ask(opal), err)
	}
}
