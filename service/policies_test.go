package service_test

import (
	"database/sql"
	"fmt"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/wire"
)

// done makes a change that must succeed.
func done(t testing.TB) func(wire.Changed, error) wire.Changed {
	return func(out wire.Changed, err error) wire.Changed {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
}

// TestTheDemosPolicies has one reader after another ask for what a policy of
// each kind is about.
func TestTheDemosPolicies(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	const report = "SELECT count(*), count(cost) FROM survey.field.reports"
	const positions = "SELECT count(*) FILTER (WHERE latitude <> round(latitude, 1) AND (release_on > CURRENT_DATE OR release_on IS NULL)) > 0, count(*) FILTER (WHERE latitude <> round(latitude, 1) AND release_on <= CURRENT_DATE) > 0 FROM survey.drilling.boreholes"
	for _, c := range []struct{ what, who, sql, want string }{
		{"a lead sees the team's reports, with costs", "chert", report, "[1200 1200]"},
		{"a geologist sees their own, with costs blank, by the same query", "flint", report, "[275 0]"},
		{"a curator sees all", "opal", report, "[1200 1200]"},
		{"a sample is there when its borehole is", "flint", "SELECT count(*) = (SELECT count(*) FROM survey.assay.samples s JOIN survey.drilling.boreholes b ON b.id = s.borehole_id) FROM survey.assay.samples", "[true]"},
		{"a result is there when its sample is", "flint", "SELECT count(*) = (SELECT count(*) FROM survey.assay.results r JOIN survey.assay.samples s ON s.id = r.sample_id), count(*) < 90000 FROM survey.assay.results", "[true true]"},
		{"the laboratory sees all samples, so all results", "beryl", "SELECT count(*) FROM survey.assay.results", "[90000]"},
		{"a partner's positions are blurred until the release", "tuff", positions, "[false true]"},
		{"a geologist's are not", "flint", positions, "[true true]"},
		{"a label hides accounts", "flint", "SELECT count(bank_account), count(tax_number), count(*) FROM survey.licensing.holders", "[0 0 120]"},
		{"but not from the licensing office", "garnet", "SELECT count(bank_account), count(tax_number) FROM survey.licensing.holders", "[120 120]"},
		{"a draft has no effect", "flint", "SELECT max(length(note)) > 6 FROM survey.field.visits", "[true]"},
	} {
		if got := fmt.Sprint(ask(t, svc, caller(t, svc, c.who), c.sql, wire.Standpoint{})[0]); got != c.want {
			t.Errorf("%s: %s gives %s, want %s", c.what, c.who, got, c.want)
		}
	}
}

func TestADraftIsTriedAsIfItWereLive(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	try := func(p wire.Policy) wire.TrialResult {
		t.Helper()
		before := svc.Revision()
		out, err := svc.Admin.TryPolicy(ctx, opal, wire.PolicyTrial{Policy: p})
		if err != nil {
			t.Fatal(err)
		}
		if svc.Revision() != before {
			t.Fatal("a trial changes the model")
		}
		return out
	}
	wells := try(wire.Policy{Kind: "rows", Table: "survey.monitoring.wells", Phrases: []wire.Phrase{{Kind: "attribute", Column: "district", Attribute: "districts"}}})
	if wells.Rule != "district IN (attribute('districts'))" || len(wells.Phrases) != 1 || !strings.Contains(wells.Sentence, "where district is one of the reader's districts") {
		t.Errorf("the sentence and the condition are not in step: %+v", wells)
	}
	then := map[string]string{}
	for _, n := range wells.Counts {
		then[n.Standpoint] = fmt.Sprintf("%d → %d of %d", n.Now, n.Then, n.Total)
	}
	if len(then) != 5 || then["user:flint"] != "300 → 60 of 300" || then["user:slate"] != "300 → 120 of 300" || then["user:opal"] != "300 → 0 of 300" {
		t.Errorf("whom it touches: %v", then)
	}
	if free := try(wire.Policy{Kind: "rows", Table: "survey.monitoring.wells", Rule: "depth_m > 10 AND length(district) = 5"}); len(free.Phrases) != 0 || !strings.Contains(free.Sentence, "where depth_m > 10 AND") {
		t.Errorf("where the sentence does not reach it says the condition: %+v", free)
	}
	notes := try(wire.Policy{Kind: "columns", Table: "survey.field.visits", Columns: []string{"note"}, Treatment: &wire.Treatment{Kind: "suppress"}, Except: []string{"role:regional_lead"}})
	if len(notes.Counts) != 4 || notes.Counts[0].Now != notes.Counts[0].Then || fmt.Sprint(notes.Counts[0].Columns) != "[note suppressed]" {
		t.Errorf("a column policy touches columns, not rows: %+v", notes.Counts)
	}
	nobody := done(t)(svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: "for-marl", Table: "survey.monitoring.wells", Rule: "true", For: []string{"user:marl"}}, Change: wire.Change{DryRun: true}}))
	if len(nobody.Notes) != 1 || !strings.Contains(nobody.Notes[0], "nobody will see any row of survey.monitoring.wells: 5 subjects may") {
		t.Errorf("a table without a reader is not said: %v", nobody.Notes)
	}
}

// TestADraftIsPreviewed: the rows as they are, beside what they would be.
func TestADraftIsPreviewed(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	in := wire.PreviewRequest{Table: "survey.field.visits", Standpoints: []wire.PreviewPoint{{Standpoint: wire.Standpoint{As: "user:flint"}}}, Drafts: []string{"notes-in-short"}, Plan: true, Limit: 20}
	p, err := svc.Review.Preview(ctx, caller(t, svc, "opal"), in)
	if err != nil || len(p.Sides) != 2 || p.Sides[1].Standpoint != "user:flint with notes-in-short live" {
		t.Fatalf("%+v, %v", p.Sides, err)
	}
	longer := 0
	for _, row := range p.Rows {
		now, then := row.Sides[0][4], row.Sides[1][4]
		if now != nil && (len(fmt.Sprint(then)) > 6 || !strings.HasPrefix(fmt.Sprint(now), fmt.Sprint(then))) {
			t.Errorf("%v would be %v", now, then)
		}
		if now != then {
			longer++
		}
	}
	if longer == 0 || !strings.Contains(p.Sides[1].Plan.SQL, "substr") || strings.Contains(p.Sides[0].Plan.SQL, "substr") {
		t.Errorf("the draft changes nothing: %d rows differ", longer)
	}
	if _, err := svc.Review.Preview(ctx, caller(t, svc, "opal"), wire.PreviewRequest{Table: "survey.field.nothing", Standpoints: in.Standpoints, Drafts: in.Drafts}); fault.Of(err).Kind != fault.NotFound {
		t.Errorf("a draft, and a table that is not there: %v", err)
	}
	if _, err := svc.Review.Preview(ctx, caller(t, svc, "flint"), wire.PreviewRequest{Table: in.Table, Standpoints: []wire.PreviewPoint{{}}, Drafts: in.Drafts}); fault.Of(err).Kind != fault.Refused {
		t.Errorf("a reader looks at drafts: %v", err)
	}
}

func TestPoliciesThatAreRefused(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	rows := func(table, rule string) wire.Policy {
		return wire.Policy{Kind: "rows", Name: "p", Table: table, Rule: rule}
	}
	columns := func(table, column, kind string, t wire.Treatment, when string) wire.Policy {
		t.Kind = kind
		p := wire.Policy{Kind: "columns", Name: "p", Table: table, Treatment: &t, When: when}
		if column != "" {
			p.Columns = []string{column}
		}
		return p
	}
	follow := func(table, parent string, via ...string) wire.Policy {
		return wire.Policy{Kind: "rows", Name: "p", Table: table, Follow: parent, Via: via}
	}
	done(t)(svc.Admin.Relate(ctx, opal, wire.RelationshipRequest{From: []string{"survey.drilling.boreholes.id"}, To: []string{"survey.assay.results.id"}}))
	boreholes, visits, samples := "survey.drilling.boreholes", "survey.field.visits", "survey.assay.samples"
	for _, c := range []struct {
		name   string
		policy wire.Policy
		says   string
	}{
		{"a condition that does not bind", rows(visits, "nope = 1"), "there is no column nope"},
		{"one that is no truth value", rows(visits, "note"), "needs a truth value"},
		{"one that calls what is not listed", rows(visits, "pg_sleep(1) = 1"), "there is no function pg_sleep"},
		{"two conditions", rows(visits, "true; select 1"), "one statement"},
		{"a condition that closes its parenthesis", rows(visits, "true) or (true"), "syntax"},
		{"no condition", rows(visits, " "), "the rule is empty"},
		{"team() that stands alone", rows(visits, "note = team()"), "stands in a list"},
		{"a pattern where the condition fits one table only", rows("survey.field.*", "crew_id = 1"), "survey.field.crews: there is no column crew_id here"},
		{"a pattern of schemas", rows("survey.f*", "true"), "names schemas"},
		{"a label that is not there", rows("label:nope", "true"), "label:nope does not exist"},
		{"a follow without a relationship", follow(visits, boreholes), "no relationship leads from survey.field.visits to survey.drilling.boreholes; declare one"},
		{"a follow by a column that does not lead there", follow(samples, boreholes, "id"), "no relationship leads from survey.assay.samples by id"},
		{"a follow that comes back", follow(boreholes, "survey.assay.results"), "survey.drilling.boreholes → survey.assay.results → survey.assay.samples → survey.drilling.boreholes"},
		{"a follow with a condition", wire.Policy{Kind: "rows", Name: "p", Table: samples, Follow: boreholes, Rule: "true"}, "write two policies"},
		{"commands that are none", wire.Policy{Kind: "rows", Name: "p", Table: visits, Rule: "true", Commands: "delete"}, "no kind of commands delete"},
		{"a treatment that does not fit", columns(boreholes, "depth_m", "mask", wire.Treatment{}, ""), "mask works on text"},
		{"a treatment that fits not every column of a label", columns("label:commercial", "", "mask", wire.Treatment{}, ""), "mask works on text"},
		{"columns of a label", columns("label:contact", "email", "suppress", wire.Treatment{}, ""), "leave the columns out"},
		{"a when that does not bind", columns(boreholes, "depth_m", "suppress", wire.Treatment{}, "nope"), "there is no column nope"},
		{"a when for a column that is not there", columns(boreholes, "depth_m", "withhold absent", wire.Treatment{}, "true"), "use withhold blank"},
		{"an expression of another type", columns(boreholes, "depth_m", "expression", wire.Treatment{Expression: "name"}, ""), "gives text and the column is double precision"},
		{"an expression that is two", columns(boreholes, "name", "expression", wire.Treatment{Expression: "name, district"}, ""), "one expression"},
		{"an expression with a FROM", columns(boreholes, "name", "expression", wire.Treatment{Expression: "name FROM licensing.holders"}, ""), "more than one condition"},
		{"an expression that aggregates", columns(boreholes, "name", "expression", wire.Treatment{Expression: "max(name)"}, ""), "aggregate"},
		{"noise without a range", columns(boreholes, "depth_m", "noise", wire.Treatment{}, ""), "needs a range"},
		{"noise of a text", columns(boreholes, "name", "noise", wire.Treatment{Range: 1}, ""), "noise works on"},
		{"a mapping of numbers", columns(boreholes, "depth_m", "generalize", wire.Treatment{Mapping: map[string]string{"1": "2"}}, ""), "needs a bucket"},
		{"a pattern that stands for tables", columns("survey.drilling.*", "cost", "suppress", wire.Treatment{}, ""), "survey.drilling.*"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if _, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: c.policy}); err == nil || !strings.Contains(fault.Of(err).Detail, c.says) {
				t.Errorf("got %v, want %q", err, c.says)
			}
		})
	}
}

// TestADroppedColumnClosesTheTable: what a treated column held may stand under
// another name now.
func TestADroppedColumnClosesTheTable(t *testing.T) {
	dir := demotest.OwnFolder(t, "licensing")
	svc := demotest.Open(t, dir)
	opal, flint, garnet := caller(t, svc, "opal"), caller(t, svc, "flint"), caller(t, svc, "garnet")
	db, err := sql.Open("sqlite3", filepath.Join(dir, "sources", "survey", "licensing.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	const count = "SELECT count(*) FROM survey.licensing.holders"
	for _, c := range []struct {
		column, by string
		decide     func() (wire.Changed, error)
	}{
		{"email", "holder-email", func() (wire.Changed, error) {
			return svc.Admin.SetPolicyStatus(ctx, opal, "holder-email", wire.PolicyStatus{Status: "off"})
		}},
		{"bank_account", "finance-data", func() (wire.Changed, error) {
			return svc.Admin.PlaceLabel(ctx, opal, "finance", wire.LabelPlacement{Do: "lift", Objects: []string{"survey.licensing.holders.bank_account"}})
		}},
	} {
		if _, err := db.Exec("ALTER TABLE holders RENAME COLUMN " + c.column + " TO " + c.column + "_2"); err != nil {
			t.Fatal(err)
		}
		out := done(t)(svc.Admin.Scan(ctx, opal, "survey", wire.Change{}))
		if !strings.Contains(strings.Join(out.Notes, " "), c.by+" treated it") {
			t.Errorf("the scan does not warn: %v", out.Notes)
		}
		_, err = svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: count})
		told := wants(t, err, fault.Conflict, "is closed because one of its policies no longer fits it")
		if strings.Contains(told.Detail, c.by) || strings.Contains(told.Detail, c.column) || told.Reference == "" || len(told.Near) > 0 {
			t.Errorf("a reader is told which policy: %+v", told)
		}
		_, err = svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: count, Standpoint: wire.Standpoint{As: "user:flint"}})
		wants(t, err, fault.Conflict, "is closed: the column policy "+c.by+" treats its column "+c.column+", which is gone")
		_, err = svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT " + c.column + "_2 FROM survey.licensing.holders"})
		wants(t, err, fault.Conflict, "is closed")
		ask(t, svc, garnet, count, wire.Standpoint{}) // whom the policy leaves out
		done(t)(c.decide())
		ask(t, svc, flint, count, wire.Standpoint{})
	}
}

func TestAMatrix(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	m, err := svc.Review.Matrix(ctx, caller(t, svc, "opal"), "survey.drilling.boreholes")
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, r := range m.Rows {
		got[r.Subject] = fmt.Sprint(r.Rows, r.Cells)
	}
	if m.Total != 2400 || fmt.Sprint(m.Columns) != "[latitude longitude cost]" || len(m.Rows) != 8 || got["user:flint"] != "1310 [in clear in clear withheld (blank)]" || got["user:chert"] != "2352 [in clear in clear in clear]" ||
		got["user:tuff"] != "53 [rounded to 1 decimal for some rows rounded to 1 decimal for some rows withheld (blank)]" {
		t.Errorf("%+v", m)
	}
	column, err := svc.Review.Matrix(ctx, caller(t, svc, "opal"), "survey.licensing.holders.email")
	if err != nil {
		t.Fatal(err)
	}
	how := map[string]int{}
	for _, r := range column.Rows {
		how[r.Cells[0]]++
	}
	if how["in clear"] != 1 || how[`masked (first character kept, "@.-" kept)`] != 5 || how["not readable"] != 6 {
		t.Errorf("who sees email how: %v", how)
	}
	if _, err := svc.Review.Matrix(ctx, caller(t, svc, "flint"), "survey.drilling.boreholes"); fault.Of(err).Kind != fault.Refused {
		t.Errorf("a reader sees who else reads: %v", err)
	}
}

func TestANewKeyMakesOtherPseudonyms(t *testing.T) {
	dir := demotest.Folder(t)
	svc, err := service.Open(ctx, dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	const names = "SELECT contact_name FROM survey.licensing.holders ORDER BY id"
	const same = "SELECT count(*) > 0 FROM survey.licensing.holders a JOIN survey.licensing.holders b ON a.contact_name = b.contact_name AND a.id < b.id"
	before, equal := fmt.Sprint(ask(t, svc, flint, names, wire.Standpoint{})), fmt.Sprint(ask(t, svc, flint, same, wire.Standpoint{}))
	if _, err := svc.Admin.RotateKey(ctx, flint, wire.Change{}); fault.Of(err).Kind != fault.Refused {
		t.Errorf("a reader changes the key: %v", err)
	}
	done(t)(svc.Admin.RotateKey(ctx, opal, wire.Change{}))
	after := fmt.Sprint(ask(t, svc, flint, names, wire.Standpoint{}))
	if after == before || fmt.Sprint(ask(t, svc, flint, same, wire.Standpoint{})) != equal {
		t.Error("the pseudonyms are the same under a new key, or equal values are no longer equal")
	}
	if err := svc.Close(ctx); err != nil {
		t.Fatal(err)
	}
	again := demotest.Open(t, dir)
	if fmt.Sprint(ask(t, again, caller(t, again, "flint"), names, wire.Standpoint{})) != after {
		t.Error("the new key is lost at a restart")
	}
}

func TestExplain(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	const text = "EXPLAIN SELECT count(*) FROM survey.assay.samples"
	plan := fmt.Sprint(ask(t, svc, caller(t, svc, "opal"), text, wire.Standpoint{As: "user:flint"}))
	for _, want := range []string{`"boreholes"."district" COLLATE BINARY IN`, "policy samples-of-boreholes", "database:"} {
		if !strings.Contains(plan, want) {
			t.Errorf("the plan lacks %q: %s", want, plan)
		}
	}
	_, err := svc.Gateway.Query(ctx, caller(t, svc, "tuff"), wire.QueryRequest{SQL: "EXPLAIN SELECT count(*) FROM survey.drilling.boreholes"})
	wants(t, err, fault.Refused, "it needs DESCRIBE or MANAGE")
	visits := "SELECT count(*) FROM survey.field.visits"
	before := fmt.Sprint(ask(t, svc, caller(t, svc, "opal"), visits, wire.Standpoint{}))
	ask(t, svc, caller(t, svc, "opal"), "EXPLAIN DELETE FROM survey.field.visits", wire.Standpoint{})
	if fmt.Sprint(ask(t, svc, caller(t, svc, "opal"), visits, wire.Standpoint{})) != before {
		t.Error("EXPLAIN of a DELETE deletes")
	}
}

// TestWhatPoliciesMadeOfAQuery: which shaped it, and which lost.
func TestWhatPoliciesMadeOfAQuery(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	done(t)(svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "contacts", Table: "label:contact", Treatment: &wire.Treatment{Kind: "suppress"}, For: []string{"user:flint"}}}))
	r, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "SELECT email, company FROM survey.licensing.holders", Plan: true, Standpoint: wire.Standpoint{As: "user:flint"}})
	if err != nil {
		t.Fatal(err)
	}
	if shaped := r.Plan.Tables[0]; len(shaped.Columns) != 1 || shaped.Columns[0].Treatment != "suppress" || fmt.Sprint(shaped.Columns[0].By, shaped.Columns[0].Lost) != "[contacts] [holder-email]" {
		t.Errorf("%+v", r.Plan.Tables)
	}
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"REVEAL"}, Object: "label:contact", Subjects: []string{"user:flint"}}, false))
	if got := fmt.Sprint(ask(t, svc, caller(t, svc, "flint"), "SELECT count(*), count(*) FILTER (WHERE email LIKE '%*%') FROM survey.licensing.holders", wire.Standpoint{})[0]); got != "[120 120]" {
		t.Errorf("REVEAL on a label lifts its policies and no others: %s", got)
	}
}

// TestNoiseIsFresh: noise is other noise at each query, and the same at each where the policy says so.
func TestNoiseIsFresh(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	for _, stable := range []bool{false, true} {
		done(t)(svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "depths", Table: "survey.drilling.boreholes",
			Columns: []string{"depth_m"}, Treatment: &wire.Treatment{Kind: "noise", Range: 500, Stable: stable}}}))
		const depths = "SELECT depth_m FROM survey.drilling.boreholes ORDER BY id LIMIT 20"
		seen := map[string]bool{}
		for range 5 {
			seen[fmt.Sprint(ask(t, svc, flint, depths, wire.Standpoint{}))] = true
		}
		if want := map[bool]int{false: 5, true: 1}[stable]; len(seen) != want {
			t.Errorf("stable %v: five queries give %d answers, want %d", stable, len(seen), want)
		}
		done(t)(svc.Admin.RemovePolicy(ctx, opal, "depths", wire.Change{}))
	}
}
