package service_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/store"
	"gneiss/wire"
)

func TestMain(m *testing.M) {
	code := demotest.Run(m)
	os.RemoveAll(largeMade)
	os.Exit(code)
}

var ctx = context.Background()

// caller signs in to an open service, past HTTP.
func caller(t testing.TB, svc *service.Service, user string) identity.Caller {
	t.Helper()
	secret, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: user, Password: "northmark", Token: true}, "test", "test")
	if err != nil {
		t.Fatal(err)
	}
	c, err := svc.Identity.Authenticate(ctx, secret, "test")
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func ask(t testing.TB, svc *service.Service, c identity.Caller, sql string, at wire.Standpoint) [][]any {
	t.Helper()
	r, err := svc.Gateway.Query(ctx, c, wire.QueryRequest{SQL: sql, Standpoint: at})
	if err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	return r.Rows
}

func wants(t testing.TB, err error, kind fault.Kind, says string) *fault.Error {
	t.Helper()
	if err == nil {
		t.Fatalf("no error; want %v %s", kind, says)
	}
	p := fault.Of(err)
	if p.Kind != kind || !strings.Contains(p.Detail, says) {
		t.Fatalf("got %v %s; want %v %s", p.Kind, p.Detail, kind, says)
	}
	return p
}

// TestWhoSeesWhat holds the demo's story in numbers.
func TestWhoSeesWhat(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	boreholes := "SELECT count(*), count(cost) FROM survey.drilling.boreholes"
	total := ask(t, svc, opal, boreholes, wire.Standpoint{})[0][0].(int64)
	if total != 2400 {
		t.Fatalf("the curator sees %d boreholes, want all 2400", total)
	}
	sum := int64(0)
	for _, geologist := range []string{"flint", "jasper", "slate"} {
		row := ask(t, svc, caller(t, svc, geologist), boreholes, wire.Standpoint{})[0]
		sum += row[0].(int64)
		if row[0] == int64(0) || row[1] != int64(0) {
			t.Errorf("%s sees %d boreholes, %d with a cost; want some, none with a cost", geologist, row[0], row[1])
		}
	}
	chert := ask(t, svc, caller(t, svc, "chert"), boreholes, wire.Standpoint{})[0]
	if chert[0] != sum || chert[1] == int64(0) {
		t.Errorf("the lead sees %v boreholes, with %v costs; want the %d of the three geologists, with costs", chert[0], chert[1], sum)
	}
	for _, c := range []struct {
		user, sql string
		want      string
	}{
		{"tuff", "SELECT count(DISTINCT licence_id) <= 10, count(*) > 0 FROM survey.drilling.boreholes", "[true true]"},
		{"service:pumice", "SELECT count(*) FILTER (WHERE release_on > CURRENT_DATE OR release_on IS NULL), count(*) > 0 FROM survey.drilling.boreholes", "[0 true]"},
		{"garnet", "SELECT count(bank_account) FROM survey.licensing.holders", "[120]"},
		{"flint", "SELECT count(bank_account), count(DISTINCT contact_name) > 10, max(email) LIKE '_%*%@%*%' FROM survey.licensing.holders", "[0 true true]"},
		{"flint", "SELECT count(*) FROM survey.licensing.holders WHERE bank_account LIKE 'ZZ%' OR tax_number IS NOT NULL", "[0]"},
		{"flint", "SELECT min(district), max(district) FROM survey.monitoring.readings", "[north north]"},
	} {
		if got := fmt.Sprint(ask(t, svc, caller(t, svc, c.user), c.sql, wire.Standpoint{})[0]); got != c.want {
			t.Errorf("%s: %s\ngot %s, want %s", c.user, c.sql, got, c.want)
		}
	}
	// One contact has one pseudonym, whoever of the readers looks.
	names := "SELECT contact_name FROM survey.licensing.holders ORDER BY id"
	if a, b := fmt.Sprint(ask(t, svc, caller(t, svc, "flint"), names, wire.Standpoint{})), fmt.Sprint(ask(t, svc, caller(t, svc, "jasper"), names, wire.Standpoint{})); a != b {
		t.Error("the pseudonyms differ between two readers")
	}
}

func TestAChangeCountsFromTheNextQuery(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	count := func() int64 {
		return ask(t, svc, flint, "SELECT count(*) FROM survey.drilling.boreholes", wire.Standpoint{})[0][0].(int64)
	}
	before := count()
	do := func(_ wire.Changed, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	do(svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:flint", Attributes: map[string][]string{"districts": {"north", "coast"}}}, true))
	more := count()
	if more <= before {
		t.Errorf("another district shows %d boreholes, then %d", before, more)
	}
	do(svc.Admin.SetPolicyStatus(ctx, opal, "boreholes-of-districts", wire.PolicyStatus{Status: "off"}))
	if got := count(); got != 0 {
		t.Errorf("with the policy stopped no allow policy applies, yet flint sees %d rows", got)
	}
	do(svc.Admin.SetPolicyStatus(ctx, opal, "boreholes-of-districts", wire.PolicyStatus{Status: "live"}))
	do(svc.Admin.Join(ctx, opal, wire.Member{Member: "user:flint", Of: "group:geologists"}, true))
	_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT count(*) FROM survey.drilling.boreholes"})
	wants(t, err, fault.NotFound, "does not exist or is not yours to use")
	do(svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:flint", Disabled: new(true)}, true))
	if _, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT 1"}); err == nil {
		t.Error("a disabled user still queries")
	}
}

func TestStaleChangesAreRefused(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	opal.IfMatch = svc.Revision()
	if _, err := svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "role:first"}, false); err != nil {
		t.Fatal(err)
	}
	_, err := svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "role:second"}, false)
	wants(t, err, fault.Stale, fmt.Sprintf("revision %d by user:opal", opal.IfMatch+1))
}

func TestADryRunChangesNothing(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	before := svc.Revision()
	out, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.payments", Subjects: []string{"user:marl"}, Change: wire.Change{DryRun: true}}, false)
	if err != nil || out.Done || svc.Revision() != before {
		t.Fatalf("%+v, %v, revision %d after %d", out, err, svc.Revision(), before)
	}
	if len(out.Notes) != 1 || !strings.Contains(out.Notes[0], "has no effect yet: user:marl can't enter survey: USAGE is missing") {
		t.Errorf("a grant without its door should say so: %v", out.Notes)
	}
	out, err = svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.payments", Subjects: []string{"user:marl"}, WithEntry: true, Change: wire.Change{DryRun: true}}, false)
	if err != nil || len(out.Notes) != 0 || len(out.Effects) != 1 || out.Effects[0].Subject != "user:marl" {
		t.Errorf("with entry it takes effect: %+v, %v", out, err)
	}
}

func TestEffectsSayWhoLoses(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	out, err := svc.Admin.PutPolicy(ctx, caller(t, svc, "opal"), wire.PolicyRequest{Policy: wire.Policy{Name: "p", Kind: "rows", Table: "survey.field.visits", Rule: "crew_id = 1", For: []string{"role:regional_lead"}}, Change: wire.Change{DryRun: true}})
	if err != nil {
		t.Fatal(err)
	}
	lost := map[string]string{}
	for _, e := range out.Effects {
		lost[e.Subject] = strings.Join(e.Loses, " ")
	}
	if !strings.Contains(lost["user:flint"], "no rows") || !strings.Contains(lost["user:chert"], "some rows, by p") {
		t.Errorf("a first allow policy closes the table to others, and that should be said first: %v", lost)
	}
}

func TestTrialCounts(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	trial, err := svc.Admin.TryPolicy(ctx, caller(t, svc, "opal"), wire.PolicyTrial{Policy: wire.Policy{Kind: "rows", Table: "survey.field.visits", Rule: "crew_id <= 10"},
		Standpoints: []wire.Standpoint{{As: "user:flint"}, {As: "user:marl"}}})
	if err != nil {
		t.Fatal(err)
	}
	records, err := svc.Review.Records(ctx, caller(t, svc, "agate"), review.RecordSearch{Action: "trial"})
	if err != nil || len(records.Items) != 1 || !strings.Contains(records.Items[0].Text, "crew_id <= 10") {
		t.Errorf("a trial counts by hidden values and is not on record: %+v, %v", records.Items, err)
	}
	flint := trial.Counts[0]
	if flint.Total != 3000 || flint.Now != 3000 || flint.Then == 0 || flint.Then >= 3000 || trial.Counts[1].Problem == "" {
		t.Errorf("%+v", trial)
	}
	if _, err := svc.Admin.TryPolicy(ctx, caller(t, svc, "flint"), wire.PolicyTrial{Policy: wire.Policy{Kind: "rows", Table: "survey.field.visits", Rule: "true"}}); err == nil {
		t.Error("a trial counts hidden rows, so it needs MANAGE")
	}
}

func TestPreviewSideBySide(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	p, err := svc.Review.Preview(ctx, caller(t, svc, "opal"), wire.PreviewRequest{Table: "survey.drilling.boreholes", Limit: 40, Standpoints: []wire.PreviewPoint{{Standpoint: wire.Standpoint{As: "user:flint"}}, {Standpoint: wire.Standpoint{As: "user:chert"}}, {Standpoint: wire.Standpoint{As: "user:marl"}}}})
	if err != nil {
		t.Fatal(err)
	}
	if !p.Matched || p.Key != "id" || p.Sides[2].Problem == "" || p.Sides[0].Count >= p.Sides[1].Count {
		t.Fatalf("%+v", p.Sides)
	}
	cost, missing := -1, 0
	for i, c := range p.Columns {
		if c.Name == "cost" {
			cost = i
		}
	}
	last := int64(0)
	for _, row := range p.Rows {
		if row.Sides[1] == nil {
			t.Fatal("a row that the geologist has and their lead has not")
		}
		if id := row.Sides[1][0].(int64); id <= last {
			t.Errorf("rows are out of order: %d after %d", id, last)
		} else {
			last = id
		}
		if row.Sides[0] == nil {
			missing++
			continue
		}
		if row.Sides[0][0] != row.Sides[1][0] || row.Sides[0][cost] != nil {
			t.Errorf("rows are not matched, or a cost shows: %v beside %v", row.Sides[0], row.Sides[1])
		}
	}
	if missing == 0 {
		t.Error("no row is the lead's alone among the first")
	}
}

func TestTheRecord(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, marl, agate := caller(t, svc, "opal"), caller(t, svc, "marl"), caller(t, svc, "agate")
	_, err := svc.Gateway.Query(ctx, marl, wire.QueryRequest{SQL: "SELECT ppm FROM survey.assay.results"})
	told := wants(t, err, fault.NotFound, "is not yours to use")
	if len(told.Missing) != 0 || len(told.Fixes) != 0 || told.Reference == "" {
		t.Errorf("marl stands outside and is told %v, %v, %q", told.Missing, told.Fixes, told.Reference)
	}
	full, err := svc.Review.Record(ctx, agate, told.Reference)
	if err != nil || len(full.Missing) != 4 || full.Actor != "user:marl" || len(full.Fixes) == 0 {
		t.Errorf("the auditor reads %+v, %v", full, err)
	}
	own, err := svc.Review.Record(ctx, marl, told.Reference)
	if err != nil || len(own.Missing) != 0 || own.Reason != "" {
		t.Errorf("marl's own line tells what marl was not told: %+v, %v", own, err)
	}
	ask(t, svc, opal, "SELECT email FROM survey.licensing.holders LIMIT 1", wire.Standpoint{As: "user:flint", Purpose: "audit"})
	list, err := svc.Review.Records(ctx, agate, review.RecordSearch{Actor: "user:flint", Action: "query", Limit: 1})
	if err != nil || len(list.Items) != 1 || list.Items[0].Actor != "user:opal" || list.Items[0].Standpoint != "user:flint for audit" || list.Items[0].Objects[0] != "survey.licensing.holders.email" {
		t.Errorf("standing in for flint should carry both names: %+v, %v", list.Items, err)
	}
	// Page by page flint hears of no line that is another's, not by the cursor either.
	for before := ""; ; {
		page, err := svc.Review.Records(ctx, caller(t, svc, "flint"), review.RecordSearch{Before: before, Limit: 40})
		if err != nil {
			t.Fatal(err)
		}
		if page.Next == "" {
			break
		}
		if before = page.Next; len(page.Items) != 40 || page.Items[39].Reference != before || page.Items[39].Actor != "user:flint" {
			t.Fatalf("a page of flint's ends with %s, which is not the last of its %d lines", before, len(page.Items))
		}
	}
	flints, err := svc.Review.Records(ctx, caller(t, svc, "flint"), review.RecordSearch{})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range flints.Items {
		if r.Actor != "user:flint" {
			t.Errorf("flint reads a line of %s", r.Actor)
		}
	}
	if _, err := svc.Review.Record(ctx, marl, "R-1"); fault.Of(err).Kind != fault.NotFound {
		t.Errorf("marl reads another's line: %v", err)
	}
}

func TestSignInIsLimited(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	var last error
	for range 12 {
		_, _, last = svc.Identity.SignIn(ctx, wire.SignIn{User: "opal", Password: "guess"}, "198.51.100.7", "test")
	}
	wants(t, last, fault.TooMany, "too many attempts")
	_, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "nobody-of-that-name", Password: "guess"}, "198.51.100.8", "test")
	wants(t, err, fault.NotSignedIn, "the name or the password is wrong")
}

func TestSourceFiles(t *testing.T) {
	dir := demotest.Folder(t)
	svc := demotest.Open(t, dir)
	opal := caller(t, svc, "opal")
	field := filepath.Join(dir, "sources", "survey", "field.db")
	if err := os.Rename(field, field+".away"); err != nil {
		t.Fatal(err)
	}
	out, err := svc.Admin.Scan(ctx, opal, "survey", wire.Change{})
	if err != nil || !out.Done {
		t.Fatalf("a scan without the field's file: %+v, %v", out, err)
	}
	_, err = svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "SELECT 1 FROM survey.field.crews"})
	wants(t, err, fault.Refused, "SELECT on survey.field.crews")
	if err := os.Rename(field+".away", field); err != nil {
		t.Fatal(err)
	}
	if out, err = svc.Admin.Scan(ctx, opal, "survey", wire.Change{}); err != nil || !out.Done {
		t.Fatalf("a scan with the file again: %+v, %v", out, err)
	}
	if n := ask(t, svc, opal, "SELECT count(*) FROM survey.field.crews", wire.Standpoint{})[0][0]; n != int64(20) {
		t.Errorf("%v crews after the file came back", n)
	}
	checked := func() map[string]string {
		t.Helper()
		out, err := svc.Review.Check(ctx, opal, nil)
		if err != nil {
			t.Fatal(err)
		}
		by := map[string]string{}
		for _, r := range out.Results {
			by[r.Name] = r.Status
		}
		return by
	}
	held := checked()
	if err := os.Rename(filepath.Join(dir, "sources", "survey"), filepath.Join(dir, "elsewhere")); err != nil {
		t.Fatal(err)
	}
	_, err = svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "SELECT count(*) FROM survey.field.crews"})
	wants(t, err, fault.Unavailable, "is not there")
	unknown := 0
	for name, status := range checked() {
		if status == "unknown" {
			unknown++
		} else if status != held[name] {
			t.Errorf("without its source the check %s comes to %s, and came to %s", name, status, held[name])
		}
	}
	if unknown == 0 {
		t.Error("access tests know how many rows there are without their source")
	}
	_, err = svc.Gateway.Query(ctx, caller(t, svc, "flint"), wire.QueryRequest{SQL: "SELECT count(*) FROM survey.field.visits"})
	if p := wants(t, err, fault.Unavailable, "is not available now"); strings.Contains(p.Detail, dir) {
		t.Errorf("a reader is told where the files are: %s", p.Detail)
	}
}

func TestALockedSourceFile(t *testing.T) {
	dir := demotest.Folder(t)
	svc := demotest.Open(t, dir)
	opal := caller(t, svc, "opal")
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, "sources", "survey", "field.db")+"?_busy_timeout=100")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	c, err := db.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.ExecContext(ctx, "BEGIN EXCLUSIVE"); err != nil {
		t.Fatal(err)
	}
	_, err = svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "SELECT count(*) FROM survey.field.visits"})
	p := wants(t, err, fault.Unavailable, "then try again")
	if p.Reference == "" {
		t.Error("a failed query is on record, too")
	}
	if _, err := c.ExecContext(ctx, "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	ask(t, svc, opal, "SELECT count(*) FROM survey.field.visits", wire.Standpoint{})
}

func TestDataFolderOfANewerVersion(t *testing.T) {
	dir := demotest.Folder(t)
	db, err := sql.Open("sqlite3", filepath.Join(dir, "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, 1)"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	if _, err := store.Open(dir, false); !errors.Is(err, store.ErrNewer) {
		t.Errorf("got %v", err)
	}
}

func TestAnAlteredJournalIsNoticed(t *testing.T) {
	dir := demotest.Folder(t)
	db, err := sql.Open("sqlite3", filepath.Join(dir, "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("UPDATE journal SET actor = 'user:garnet' WHERE revision = 40"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	_, err = service.Open(ctx, dir, nil)
	if err == nil || !strings.Contains(err.Error(), "altered at revision 40") {
		t.Errorf("got %v", err)
	}
}

func TestBrowserSessionsNeedTheCSRFToken(t *testing.T) {
	server := demotest.Start(t)
	jar := map[string]string{}
	call := func(method, path, body string, headers map[string]string) *http.Response {
		r, err := http.NewRequest(method, server+"/api/v1"+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		for k, v := range headers {
			r.Header.Set(k, v)
		}
		for k, v := range jar {
			r.AddCookie(&http.Cookie{Name: k, Value: v})
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer
	}
	answer := call("POST", "/session", `{"user": "opal", "password": "northmark"}`, nil)
	for _, c := range answer.Cookies() {
		jar[c.Name] = c.Value
		if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode {
			t.Errorf("the cookie %+v can be read by scripts or sent by other sites", c)
		}
	}
	if answer = call("GET", "/session", "", nil); answer.StatusCode != 200 {
		t.Fatalf("the cookie does not sign in: %d", answer.StatusCode)
	}
	if answer = call("POST", "/subjects", `{"subject": "role:forged"}`, nil); answer.StatusCode != 403 {
		t.Errorf("a change without the CSRF token: %d, want 403", answer.StatusCode)
	}
	if answer = call("POST", "/subjects", `{"subject": "role:forged"}`, map[string]string{"X-CSRF-Token": "guess"}); answer.StatusCode != 403 {
		t.Errorf("a change with a guessed CSRF token: %d, want 403", answer.StatusCode)
	}
	jar = map[string]string{}
	for path, want := range map[string]int{"/tree": 401, "/nope": 404} {
		if answer = call("GET", path, "", nil); answer.StatusCode != want {
			t.Errorf("%s without signing in: %d, want %d", path, answer.StatusCode, want)
		}
	}
	opal := demotest.SignIn(t, server, "opal")
	headers := map[string]string{"Authorization": "Bearer " + opal.Token}
	for body, want := range map[string]int{`{"subject": "role:x", "color": "red"}`: 400, `{`: 400, `{"subject": "role:x"} {}`: 400, `{"subject": "role:ok"}`: 200} {
		if answer = call("POST", "/subjects", body, headers); answer.StatusCode != want {
			t.Errorf("%s: %d, want %d", body, answer.StatusCode, want)
		}
	}
	headers["If-Match"] = `"1"`
	if answer = call("POST", "/subjects", `{"subject": "role:late"}`, headers); answer.StatusCode != 412 {
		t.Errorf("a stale change: %d, want 412", answer.StatusCode)
	}
}

func TestRowsInOtherForms(t *testing.T) {
	flint := demotest.SignIn(t, demotest.Start(t), "flint")
	in := wire.QueryRequest{SQL: `SELECT district, release_on > '2000-01-01' AS "a,b", cost FROM survey.drilling.boreholes WHERE release_on IS NOT NULL ORDER BY id LIMIT 1`}
	for accept, want := range map[string]string{"text/csv": "district,\"a,b\",cost\r\nnorth,true,\r\n", "application/jsonl": `{"district":"north","a,b":true,"cost":null}` + "\n"} {
		body, err := flint.Raw(ctx, "POST", "/queries", nil, in, accept)
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(body)
		body.Close()
		if err != nil || string(got) != want {
			t.Errorf("%s: got %q, want %q, %v", accept, got, want, err)
		}
	}
	limited, err := client.Send[wire.Result](ctx, flint, "POST", "/queries", wire.QueryRequest{SQL: "SELECT id FROM survey.assay.samples", Limit: 7})
	if err != nil || len(limited.Rows) != 7 || !limited.Truncated {
		t.Errorf("a limit of 7 gives %d rows, truncated %v, %v", len(limited.Rows), limited.Truncated, err)
	}
}

// TestOutsidersLearnNothing asks for things that are there and for things that
// are not, as somebody who has no business with either: the answers are alike.
func TestOutsidersLearnNothing(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	flint, slate := caller(t, svc, "flint"), caller(t, svc, "slate")
	done(t)(svc.Admin.Grant(ctx, caller(t, svc, "opal"), wire.GrantRequest{Privileges: []string{"MANAGE"}, Object: "survey.field", Subjects: []string{"user:slate"}}, false))
	for _, c := range []struct {
		name        string
		there, gone string
		ask         func(name string) error
	}{
		{"a table", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Gateway.Query(ctx, caller(t, svc, "marl"), wire.QueryRequest{SQL: "SELECT 1 FROM " + n})
			return err
		}},
		{"the tree", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error { _, err := svc.Review.Tree(flint, n, 1, wire.Standpoint{}); return err }},
		{"an object's page", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error { _, err := svc.Review.Object(flint, n, wire.Standpoint{}); return err }},
		{"who can", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error { _, err := svc.Review.AccessTo(flint, review.AccessSearch{To: n}); return err }},
		{"what one can below", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Review.AccessOf(flint, review.AccessSearch{Of: "user:flint", Below: n})
			return err
		}},
		{"why", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Review.Why(flint, "user:flint", "select", n, wire.Standpoint{})
			return err
		}},
		{"a grant", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Admin.Grant(ctx, flint, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: n, Subjects: []string{"user:flint"}}, false)
			return err
		}},
		{"a policy on a table", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Admin.PutPolicy(ctx, flint, wire.PolicyRequest{Policy: wire.Policy{Name: "p", Kind: "rows", Table: n, Rule: "true"}})
			return err
		}},
		{"the policies of a table", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error { _, err := svc.Review.Policies(flint, n); return err }},
		{"a policy's status", "holder-email", "holder-emails", func(n string) error {
			_, err := svc.Admin.SetPolicyStatus(ctx, flint, n, wire.PolicyStatus{Status: "off"})
			return err
		}},
		{"a policy's removal", "holder-email", "holder-emails", func(n string) error { _, err := svc.Admin.RemovePolicy(ctx, flint, n, wire.Change{}); return err }},
		{"a draft", "portal-2027", "portal-2028", func(n string) error { _, err := svc.Review.Draft(ctx, flint, n); return err }},
		{"a draft's impact", "portal-2027", "portal-2028", func(n string) error { _, err := svc.Review.Impact(ctx, slate, n); return err }},
		{"putting something into a draft", "portal-2027", "portal-2028", func(n string) error { _, err := svc.Identity.Drafting(ctx, slate, n); return err }},
		{"publishing a draft", "portal-2027", "portal-2028", func(n string) error { _, err := svc.Admin.PublishDraft(ctx, slate, n, wire.Change{}); return err }},
		{"dropping a draft", "portal-2027", "portal-2028", func(n string) error { _, err := svc.Admin.DropDraft(ctx, slate, n, wire.Change{}); return err }},
		{"looking through a draft", "portal-2027", "portal-2028", func(n string) error {
			_, err := svc.Identity.Looking(ctx, slate, wire.Moment{Draft: n})
			return err
		}},
		{"a moment by its name", "as-opened", "as-closed", func(n string) error { _, err := svc.Identity.Looking(ctx, slate, wire.Moment{At: n}); return err }},
		{"history of something", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error { _, err := svc.Review.History(ctx, flint, n, 0, 0); return err }},
		{"what differs", "as-opened", "as-closed", func(n string) error { _, err := svc.Review.CompareMoments(ctx, flint, n, "now", ""); return err }},
		{"a check", "finance-in-office", "finance-in-house", func(n string) error { _, err := svc.Review.Check(ctx, slate, []string{n}); return err }},
		{"setting a guardrail aside", "finance-in-office", "finance-in-house", func(n string) error {
			c := slate
			c.SetAside = n
			_, err := svc.Admin.Grant(ctx, c, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.field", Subjects: []string{"user:slate"}, Change: wire.Change{Reason: "why not"}}, false)
			return err
		}},
		{"removing a guardrail", "finance-in-office", "finance-in-house", func(n string) error { _, err := svc.Admin.RemoveGuardrail(ctx, flint, n, wire.Change{}); return err }},
		{"undoing a revision", "5", "99999", func(n string) error {
			revision, _ := strconv.ParseInt(n, 10, 64)
			_, err := svc.Admin.Undo(ctx, slate, wire.UndoRequest{Revisions: []int64{revision}})
			return err
		}},
		{"recording a test", "user:garnet", "user:granite", func(n string) error {
			_, err := svc.Admin.RecordTest(ctx, slate, wire.BaselineRequest{Subject: n, Table: "survey.field.visits"})
			return err
		}},
		{"a subject", "user:garnet", "user:granite", func(n string) error { _, err := svc.Review.Subject(flint, n); return err }},
		{"a standpoint", "user:garnet", "user:granite", func(n string) error { _, err := svc.Identity.Whoami(flint, wire.Standpoint{As: n}); return err }},
		{"a role to act in", "partner", "parting", func(n string) error { _, err := svc.Identity.Whoami(flint, wire.Standpoint{Role: n}); return err }},
		{"adding a subject", "user:garnet", "user:granite", func(n string) error {
			_, err := svc.Admin.PutSubject(ctx, flint, wire.SubjectRequest{Subject: n}, false)
			return err
		}},
		{"removing a subject", "role:partner", "role:parting", func(n string) error { _, err := svc.Admin.RemoveSubject(ctx, flint, n, wire.Change{}); return err }},
		{"a membership", "role:partner", "role:parting", func(n string) error {
			_, err := svc.Admin.Join(ctx, flint, wire.Member{Member: "user:flint", Of: n}, false)
			return err
		}},
		{"writing to a table", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Gateway.Query(ctx, caller(t, svc, "marl"), wire.QueryRequest{SQL: "DELETE FROM " + n})
			return err
		}},
		{"a table in a statement", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "GRANT SELECT ON " + n + " TO flint"})
			return err
		}},
		{"a column of a table", "survey.licensing.payments.id", "survey.licensing.payments.no", func(n string) error {
			_, err := svc.Gateway.Query(ctx, caller(t, svc, "marl"), wire.QueryRequest{SQL: "UPDATE survey.licensing.payments SET " + n[strings.LastIndexByte(n, '.')+1:] + " = NULL"})
			return err
		}},
		{"a revocation", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Admin.Grant(ctx, flint, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: n, Subjects: []string{"user:flint"}}, true)
			return err
		}},
		{"an owner", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Admin.SetOwner(ctx, flint, wire.OwnerRequest{Objects: []string{n}, Owner: "user:flint"})
			return err
		}},
		{"a lane to run on", "batch", "bathos", func(n string) error {
			_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT 1", Lane: n})
			return err
		}},
		{"a lane's limits", "batch", "bathos", func(n string) error {
			_, err := svc.Admin.PutLane(ctx, flint, wire.LaneRequest{Name: n, Replace: true})
			return err
		}},
		{"a lane's removal", "batch", "bathos", func(n string) error { _, err := svc.Admin.RemoveLane(ctx, flint, n, wire.Change{}); return err }},
		{"USAGE on a lane", "lane:batch", "lane:bathos", func(n string) error {
			_, err := svc.Admin.Grant(ctx, flint, wire.GrantRequest{Privileges: []string{"USAGE"}, Object: n, Subjects: []string{"user:flint"}}, false)
			return err
		}},
		{"an account's tokens", "user:garnet", "user:granite", func(n string) error { _, err := svc.Identity.Tokens(ctx, flint, n); return err }},
		{"a token for an account", "user:garnet", "user:granite", func(n string) error {
			_, err := svc.Identity.NewToken(ctx, flint, wire.TokenRequest{Name: "x", Subject: n})
			return err
		}},
		{"SET ROLE", "partner", "parting", func(n string) error {
			_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SET ROLE " + n})
			return err
		}},
		{"a role in a statement", "partner", "parting", func(n string) error {
			_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "GRANT " + n + " TO flint"})
			return err
		}},
		{"the relationships of a table", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error { _, err := svc.Review.Relationships(flint, n); return err }},
		{"a relationship", "survey.licensing.payments.id", "survey.licensing.payments.no", func(n string) error {
			_, err := svc.Admin.Relate(ctx, flint, wire.RelationshipRequest{From: []string{"survey.field.visits.id"}, To: []string{n}})
			return err
		}},
		{"a label on nothing", "contact", "nothing", func(n string) error {
			_, err := svc.Admin.PlaceLabel(ctx, flint, n, wire.LabelPlacement{Do: "put"})
			return err
		}},
		{"a label on another's table", "contact", "nothing", func(n string) error {
			_, err := svc.Admin.PlaceLabel(ctx, flint, n, wire.LabelPlacement{Do: "put", Objects: []string{"survey.field.visits"}})
			return err
		}},
		{"a label's page", "label:contact", "label:nothing", func(n string) error { _, err := svc.Review.Object(flint, n, wire.Standpoint{}); return err }},
		{"the policies of a label", "label:contact", "label:nothing", func(n string) error { _, err := svc.Review.Policies(flint, n); return err }},
		{"a policy on a label", "label:contact", "label:nothing", func(n string) error {
			_, err := svc.Admin.PutPolicy(ctx, flint, wire.PolicyRequest{Policy: wire.Policy{Name: "p", Kind: "rows", Table: n, Rule: "true"}})
			return err
		}},
		{"REVEAL on a label", "label:contact", "label:nothing", func(n string) error {
			_, err := svc.Admin.Grant(ctx, flint, wire.GrantRequest{Privileges: []string{"REVEAL"}, Object: n, Subjects: []string{"user:flint"}}, false)
			return err
		}},
		{"the columns of a label", "contact", "nothing", func(n string) error { _, err := svc.Review.LabelledColumns(flint, n, false); return err }},
		{"the records of another", "user:opal", "user:opa", func(n string) error {
			_, err := svc.Review.Records(ctx, flint, review.RecordSearch{Actor: n})
			return err
		}},
		{"what a manager's policy follows", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Admin.PutPolicy(ctx, slate, wire.PolicyRequest{Policy: wire.Policy{Name: "p", Kind: "rows", Table: "survey.field.visits", Follow: n}})
			return err
		}},
		{"what a manager relates", "survey.licensing.payments.id", "survey.licensing.nothing.id", func(n string) error {
			_, err := svc.Admin.Relate(ctx, slate, wire.RelationshipRequest{From: []string{"survey.field.visits.id"}, To: []string{n}})
			return err
		}},
		{"a revocation by a manager", "survey.licensing.payments", "survey.licensing.nothing", func(n string) error {
			_, err := svc.Admin.Grant(ctx, slate, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: n, Subjects: []string{"user:flint"}}, true)
			return err
		}},
		{"a scan", "survey", "nothing", func(n string) error {
			_, err := svc.Admin.Scan(ctx, caller(t, svc, "marl"), n, wire.Change{})
			return err
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			said := func(name string) string {
				err := c.ask(name)
				if err == nil {
					t.Fatalf("%s was answered", name)
				}
				p := svc.Identity.Told(flint, err)
				return fmt.Sprintf("%d %s %s near %v missing %v fixes %v", p.Kind, p.Code, strings.ReplaceAll(p.Detail, name, "NAME"), p.Near, p.Missing, p.Fixes)
			}
			there, gone := said(c.there), said(c.gone)
			if there != gone {
				t.Errorf("what is there and what is not are told apart:\n%s\n%s", there, gone)
			}
		})
	}
	// A name that is nearly right suggests only what its asker sees.
	for name, err := range map[string]error{
		"a policy's kind of person": func() error {
			_, err := svc.Admin.PutPolicy(ctx, slate, wire.PolicyRequest{Policy: wire.Policy{Name: "p", Kind: "rows", Table: "survey.field.visits", Rule: "true", For: []string{"role:partnr"}}})
			return err
		}(),
		"a label": func() error {
			_, err := svc.Admin.PlaceLabel(ctx, slate, "financ", wire.LabelPlacement{Do: "put", Objects: []string{"survey.field.visits"}})
			return err
		}(),
		"an owner": func() error {
			_, err := svc.Admin.SetOwner(ctx, slate, wire.OwnerRequest{Objects: []string{"survey.field.visits"}, Owner: "role:licensing_oficer"})
			return err
		}(),
	} {
		if err == nil {
			t.Errorf("%s that is not there was taken", name)
		} else if p := svc.Identity.Told(slate, err); len(p.Near) > 0 || strings.Contains(p.Detail, "mean") {
			t.Errorf("%s: others' names are suggested: %+v", name, p)
		}
	}
	tree, err := svc.Review.Tree(flint, "survey", 1, wire.Standpoint{})
	if err != nil || tree.Bands.Says != "can enter; 14 of 14 tables readable" {
		t.Errorf("the tree counts what flint may not know of: %q, %v", tree.Bands.Says, err)
	}
	sources, err := svc.Review.Sources(ctx, flint)
	if err != nil || len(sources.Items) != 1 || sources.Items[0].Tables != 14 || sources.Items[0].Location != "" {
		t.Errorf("the list of sources counts what flint may not know of: %+v, %v", sources, err)
	}
	opal := caller(t, svc, "opal")
	pass := wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.assay.results", Subjects: []string{"user:flint"}, Option: true}
	if _, err := svc.Admin.Grant(ctx, opal, pass, false); err != nil {
		t.Fatal(err)
	}
	pass.Subjects, pass.Option, pass.WithEntry, pass.DryRun = []string{"role:sample_courier", "role:licensing_officer", "role:partner"}, false, false, true
	if out, err := svc.Admin.Grant(ctx, flint, pass, false); err != nil || len(out.Effects) != 0 {
		t.Errorf("who may pass a right on is told who holds which role: %+v, %v", out.Effects, err)
	}
	r, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT count(*) FROM survey.drilling.boreholes", Plan: true})
	if err != nil || r.Plan != nil {
		t.Errorf("a reader is shown the policies behind the query: %+v, %v", r.Plan, err)
	}
	o, err := svc.Review.Object(flint, "survey.drilling.boreholes", wire.Standpoint{})
	if err != nil || len(o.Policies) != 0 || len(o.Grants) != 0 || strings.Contains(fmt.Sprint(o), "boreholes-of-districts") {
		t.Errorf("a reader is shown policies or grants: %+v, %v", o, err)
	}
	page, err := svc.Review.Subject(caller(t, svc, "beryl"), "user:beryl")
	if err != nil || strings.Contains(fmt.Sprint(page), "payments") {
		t.Errorf("beryl's own page names a table behind a shut door: %+v, %v", page, err)
	}
}

func TestExpiredAndForeignTokens(t *testing.T) {
	dir := demotest.Folder(t)
	svc := demotest.Open(t, dir)
	secret, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "opal", Password: "northmark", Token: true}, "test", "test")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Identity.Authenticate(ctx, secret+"x", "test"); fault.Of(err).Code != "not_signed_in" {
		t.Errorf("a token that was never given: %v", err)
	}
	flint := caller(t, svc, "flint")
	flints, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "flint", Password: "northmark", Token: true}, "test", "test")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Admin.PutSubject(ctx, caller(t, svc, "opal"), wire.SubjectRequest{Subject: "user:flint", Password: "another-one"}, true); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Identity.Authenticate(ctx, flints, "test"); fault.Of(err).Kind != fault.NotSignedIn {
		t.Errorf("a session outlives its password: %v", err)
	}
	if _, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT 1"}); err != nil {
		t.Errorf("the account itself goes on: %v", err)
	}
	db, err := sql.Open("sqlite3", filepath.Join(dir, "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("UPDATE token SET expires = '2020-01-01T00:00:00Z'"); err != nil {
		t.Fatal(err)
	}
	_, err = svc.Identity.Authenticate(ctx, secret, "test")
	wants(t, err, fault.NotSignedIn, "the session has expired; sign in again")
	var kept string
	if err := db.QueryRow("SELECT group_concat(hash) FROM token").Scan(&kept); err != nil || strings.Contains(kept, strings.TrimPrefix(secret, "gneiss_")) {
		t.Errorf("the records keep the token itself: %v", err)
	}
}

// TestStatementsThatChange holds that GRANT and its like do what the requests
// do, with the same refusals.
func TestStatementsThatChange(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint, marl := caller(t, svc, "opal"), caller(t, svc, "flint"), caller(t, svc, "marl")
	do := func(sql, want string) {
		t.Helper()
		r, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: sql})
		if err != nil || !strings.Contains(fmt.Sprint(r.Rows), want) {
			t.Fatalf("%s: %v, %v; want %q", sql, r.Rows, err, want)
		}
	}
	before := svc.Revision()
	do("CREATE ROLE core_archivist", "added role:core_archivist")
	do("GRANT core_archivist TO marl", "granted role:core_archivist to user:marl")
	do("GRANT USAGE ON SCHEMA drilling TO core_archivist", "granted USAGE on survey.drilling to role:core_archivist")
	do(`GRANT USAGE ON SCHEMA "lane:interactive" TO core_archivist`, "granted USAGE on lane:interactive to role:core_archivist")
	do("GRANT USAGE ON DATABASE survey TO core_archivist", "granted USAGE on survey to role:core_archivist")
	do("grant select (id, rock), describe on survey.drilling.lithology to core_archivist, beryl with grant option", "user:marl gains SELECT, DESCRIBE on survey.drilling.lithology")
	if got := svc.Revision() - before; got != 6 {
		t.Errorf("six statements made %d revisions", got)
	}
	if got := fmt.Sprint(ask(t, svc, marl, "SELECT id, rock FROM survey.drilling.lithology ORDER BY id LIMIT 1", wire.Standpoint{})); !strings.HasPrefix(got, "[[1 ") {
		t.Errorf("marl reads %s", got)
	}
	_, err := svc.Gateway.Query(ctx, marl, wire.QueryRequest{SQL: "SELECT * FROM survey.drilling.lithology"})
	wants(t, err, fault.Refused, "SELECT id, rock FROM survey.drilling.lithology")
	do("REVOKE SELECT (rock) ON drilling.lithology FROM core_archivist, beryl", "revoked SELECT on survey.drilling.lithology.rock from role:core_archivist")
	_, err = svc.Gateway.Query(ctx, marl, wire.QueryRequest{SQL: "SELECT rock FROM survey.drilling.lithology"})
	wants(t, err, fault.Refused, "SELECT on survey.drilling.lithology.rock")
	do("REVOKE core_archivist FROM marl", "revoked role:core_archivist from user:marl")
	do("DROP ROLE core_archivist", "removed role:core_archivist")
	for _, c := range []struct {
		name string
		who  identity.Caller
		sql  string
		at   wire.Standpoint
		kind fault.Kind
		says string
	}{
		{"by who may not", flint, "GRANT SELECT ON survey.field.visits TO flint", wire.Standpoint{}, fault.Refused, "needs MANAGE on survey.field.visits"},
		{"on what one does not see", marl, "GRANT SELECT ON survey.field.visits TO marl", wire.Standpoint{}, fault.NotFound, "does not exist or is not yours"},
		{"a role by who may not", flint, "CREATE ROLE mine", wire.Standpoint{}, fault.Refused, "needs MANAGE on platform"},
		{"as somebody else", opal, "CREATE ROLE mine", wire.Standpoint{As: "user:flint"}, fault.Invalid, "changes are made as yourself"},
		{"an unknown privilege", opal, "GRANT TRUNCATE ON survey.field.visits TO marl", wire.Standpoint{}, fault.NotFound, "no privilege"},
		{"an unknown subject", opal, "GRANT SELECT ON survey.field.visits TO marlo", wire.Standpoint{}, fault.NotFound, "did you mean user:marl?"},
		{"all tables at once", opal, "GRANT SELECT ON ALL TABLES IN SCHEMA field TO marl", wire.Standpoint{}, fault.Invalid, "a grant on the schema covers them, present and future"},
		{"a table", opal, "CREATE TABLE x (y int)", wire.Standpoint{}, fault.Invalid, "is not supported"},
		{"a loop", opal, "GRANT district_geologist TO survey_reader", wire.Standpoint{}, fault.Invalid, "would close a loop"},
		{"half of a statement", opal, "GRANT SELECT, USAGE ON survey.field.visits TO marl", wire.Standpoint{}, fault.Invalid, "USAGE cannot be granted on the table"},
	} {
		t.Run(c.name, func(t *testing.T) {
			before := svc.Revision()
			_, err := svc.Gateway.Query(ctx, c.who, wire.QueryRequest{SQL: c.sql, Standpoint: c.at})
			wants(t, err, c.kind, c.says)
			if svc.Revision() != before {
				t.Error("a refused statement made a revision")
			}
		})
	}
}

func TestCompare(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	var told []wire.Grant
	got := func(a, b string) map[string]wire.Compared {
		t.Helper()
		c, err := svc.Review.Compare(opal, a, b, "")
		if err != nil {
			t.Fatal(err)
		}
		items := map[string]wire.Compared{}
		told = c.Grants
		for _, item := range c.Items {
			items[item.Object] = item
		}
		return items
	}
	items := got("user:flint", "user:garnet")
	if x := items["survey.licensing.payments"]; fmt.Sprint(x.OnlyA, x.OnlyB) != "[] [SELECT]" || len(x.Grants) != 1 || told[x.Grants[0]].Subject != "role:licensing_officer" {
		t.Errorf("payments: %+v", x)
	}
	if x := items["survey.licensing.holders"]; len(x.OnlyB) != 1 || x.OnlyB[0] != "all columns in clear" {
		t.Errorf("holders: %+v", x)
	}
	// Under one policy two readers differ by what the policy looks at.
	items = got("user:flint", "user:jasper")
	if x := items["survey.drilling.boreholes"]; len(items) != 5 || fmt.Sprint(x.OnlyA, x.OnlyB) != "[some rows, by boreholes-of-districts, for north] [some rows, by boreholes-of-districts, for coast]" {
		t.Errorf("flint and jasper: %+v", items)
	}
	if items = got("user:flint", "user:flint"); len(items) != 0 {
		t.Errorf("flint differs from flint: %+v", items)
	}
	if _, err := svc.Review.Compare(caller(t, svc, "flint"), "user:flint", "user:garnet", ""); fault.Of(err).Kind != fault.Refused {
		t.Errorf("a reader compares themself with others: %v", err)
	}
}

func TestFindings(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	do := func(_ wire.Changed, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	grant := func(privilege, object, subject string) {
		do(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{privilege}, Object: object, Subjects: []string{subject}}, false))
	}
	grant("DESCRIBE", "survey.field", "public")
	grant("SELECT", "survey.field.visits", "user:marl")
	grant("SELECT", "survey.drilling.lithology", "role:survey_reader") // the schema's grant covers it
	for _, u := range []string{"slate", "garnet", "agate"} {
		do(svc.Admin.Join(ctx, opal, wire.Member{Member: "user:" + u, Of: "role:administrator"}, false))
	}
	list, err := svc.Review.Findings(ctx, opal, 0)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"dormant|role:lab_analyst|survey.licensing.payments|grant USAGE on survey.licensing to role:lab_analyst",
		"uncovered||survey.licensing.payments|add a column policy for label:commercial",
		"dormant|role:sample_courier|survey.assay.samples|give role:sample_courier to somebody",
		"broad|service:slag|survey|revoke SELECT on survey from service:slag",
		"no_holders|group:geologits||remove group:geologits",
		"alike_names|group:geologits||remove group:geologits",
		"to_public|public|survey.field|revoke DESCRIBE on survey.field from public",
		"to_user|user:marl|survey.field.visits|revoke SELECT on survey.field.visits from user:marl",
		"redundant|role:survey_reader|survey.drilling.lithology|revoke SELECT on survey.drilling.lithology from role:survey_reader",
		"administrators|role:administrator|platform|take role:administrator from somebody",
	} {
		found := false
		for _, f := range list.Items {
			found = found || len(f.Fixes) > 0 && strings.Join([]string{f.Kind, f.Subject, f.Object, f.Fixes[0].Says}, "|") == want
		}
		if !found {
			t.Errorf("not found: %s", want)
		}
	}
	for _, f := range list.Items {
		if f.Kind == "redundant" && f.Object != "survey.drilling.lithology" {
			t.Errorf("a grant that does something is called redundant: %+v", f)
		}
	}
	if _, err := svc.Review.Findings(ctx, caller(t, svc, "flint"), 0); fault.Of(err).Kind != fault.Refused {
		t.Errorf("a reader sees findings: %v", err)
	}
}

func TestPatternsAndEntryToASource(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, marl := caller(t, svc, "opal"), caller(t, svc, "marl")
	grant := func(privilege, object string, entry bool) wire.Changed {
		t.Helper()
		out, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{privilege}, Object: object, Subjects: []string{"user:marl"}, WithEntry: entry}, false)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	out := grant("SELECT", "survey.assay.b*", true)
	if len(out.Effects) != 1 || fmt.Sprint(out.Effects[0].Gains) != "[SELECT on survey.assay.batches USAGE on lane:interactive]" {
		t.Errorf("a pattern with entry: %+v", out)
	}
	ask(t, svc, marl, "SELECT count(*) FROM survey.assay.batches", wire.Standpoint{})
	_, err := svc.Gateway.Query(ctx, marl, wire.QueryRequest{SQL: "SELECT count(*) FROM survey.assay.results"})
	wants(t, err, fault.Refused, "SELECT on survey.assay.results")
	if out = grant("SELECT", "survey.geo*", false); len(out.Notes) != 1 || !strings.Contains(out.Notes[0], "nothing matches its pattern yet") {
		t.Errorf("a pattern that matches nothing is allowed, and said: %+v", out)
	}
	if out = grant("SELECT", "survey", true); len(out.Effects) != 1 || strings.Count(fmt.Sprint(out.Effects[0].Gains), "SELECT on") != 15 {
		t.Errorf("entry to a source opens its schemas too: %+v", out.Effects)
	}
	if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"USAGE"}, Object: "survey.*", Subjects: []string{"user:marl"}}, true); err != nil {
		t.Errorf("revoking the pattern: %v", err)
	}
}

// TestGrantOptionCoversWhatIsHeld: who may pass on a column, or a door, passes
// on no more than that.
func TestGrantOptionCoversWhatIsHeld(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	pass := func(who identity.Caller, to, privilege, object string, columns ...string) error {
		_, err := svc.Admin.Grant(ctx, who, wire.GrantRequest{Privileges: []string{privilege}, Object: object, Columns: columns, Subjects: []string{to}, Option: who == opal}, false)
		return err
	}
	for _, err := range []error{pass(opal, "user:flint", "SELECT", "survey.field.visits", "id"), pass(opal, "user:flint", "USAGE", "survey"), pass(opal, "user:flint", "SELECT", "survey.assay")} {
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := pass(flint, "user:marl", "SELECT", "survey.field.visits", "id"); err != nil {
		t.Errorf("what is held with grant option can be passed on: %v", err)
	}
	if err := pass(flint, "user:marl", "SELECT", "survey.assay.results"); err != nil {
		t.Errorf("so can what lies below: %v", err)
	}
	if err := pass(flint, "user:marl", "SELECT", "survey.assay.r*"); err != nil {
		t.Errorf("and a pattern of it: %v", err)
	}
	for _, c := range [][]string{{"SELECT", "survey.field.visits"}, {"SELECT", "survey.field.visits", "note"}, {"SELECT", "survey.field"}, {"USAGE", "survey.*"}, {"USAGE", "survey.field"}, {"SELECT", "survey.*"}, {"MANAGE", "survey.assay"}} {
		wants(t, pass(flint, "user:marl", c[0], c[1], c[2:]...), fault.Refused, "needs MANAGE")
	}
}
