package service_test

import (
	"fmt"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// TestAPolicyLendsNothingOfOthers: the texts of policies are run with the
// service's authority, so beryl, who owns the laboratory's tables alone, must not
// write one that reads a table of somebody else.
func TestAPolicyLendsNothingOfOthers(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	beryl, opal := caller(t, svc, "beryl"), caller(t, svc, "opal")
	const samples = "survey.assay.samples"
	rule := func(text string) wire.Policy {
		return wire.Policy{Kind: "rows", Name: "p", Table: samples, Rule: text}
	}
	masks := func(when, expression string) wire.Policy {
		return wire.Policy{Kind: "columns", Name: "p", Table: "survey.assay.results", Columns: []string{"method"}, When: when,
			Treatment: &wire.Treatment{Kind: "expression", Expression: expression}}
	}
	ask := func(c identity.Caller, p wire.Policy) (put, try error) {
		_, put = svc.Admin.PutPolicy(ctx, c, wire.PolicyRequest{Policy: p, Change: wire.Change{DryRun: true}})
		_, try = svc.Admin.TryPolicy(ctx, c, wire.PolicyTrial{Policy: p})
		return put, try
	}
	const there, gone = "survey.licensing.payments", "survey.licensing.nothing"
	for _, c := range []struct {
		what   string
		reads  string // a table
		policy func(table string) wire.Policy
	}{
		{"a row rule", there, func(n string) wire.Policy { return rule("EXISTS (SELECT 1 FROM " + n + ")") }},
		{"a rule in two layers", there, func(n string) wire.Policy {
			return rule("id IN (SELECT id FROM samples WHERE id IN (SELECT count(*) FROM " + n + "))")
		}},
		{"a rule with WITH", there, func(n string) wire.Policy {
			return rule("id IN (WITH w AS (SELECT count(*) AS n FROM " + n + ") SELECT n FROM w)")
		}},
		{"a set operation", there, func(n string) wire.Policy {
			return rule("id IN (SELECT id FROM samples UNION SELECT count(*) FROM " + n + ")")
		}},
		{"when a column is treated", there, func(n string) wire.Policy { return masks("EXISTS (SELECT 1 FROM "+n+")", "'x'") }},
		{"what stands in its place", there, func(n string) wire.Policy {
			return masks("", "(SELECT CAST(count(*) AS text) FROM "+n+")")
		}},
	} {
		put, try := ask(beryl, c.policy(there))
		wants(t, put, fault.NotFound, "does not exist or is not yours")
		wants(t, try, fault.NotFound, "does not exist or is not yours")
		noPut, noTry := ask(beryl, c.policy(gone))
		if a, b := fault.Of(put), fault.Of(noPut); a.Detail != b.Detail || a.Code != b.Code || a.Kind != b.Kind || len(b.Near) > 0 {
			t.Errorf("%s tells what is there: %v, %v", c.what, put, noPut)
		}
		if a, b := fault.Of(try), fault.Of(noTry); a.Detail != b.Detail || a.Code != b.Code || a.Kind != b.Kind || len(b.Near) > 0 {
			t.Errorf("a trial of %s tells what is there: %v, %v", c.what, try, noTry)
		}
		if put, try := ask(opal, c.policy(there)); put != nil || try != nil {
			t.Errorf("%s by who manages both: %v, %v", c.what, put, try)
		}
	}
	// A table of one's own is lent freely; one that is only read, is not.
	if put, try := ask(beryl, rule("id IN (SELECT sample_id FROM survey.assay.results)")); put != nil || try != nil {
		t.Errorf("a rule over the writer's own tables: %v, %v", put, try)
	}
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: there, Subjects: []string{"user:beryl"}}, false))
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"USAGE"}, Object: "survey.licensing", Subjects: []string{"user:beryl"}}, false))
	put, try := ask(beryl, rule("EXISTS (SELECT 1 FROM "+there+")"))
	wants(t, put, fault.Refused, "this needs MANAGE on "+there)
	wants(t, try, fault.Refused, "this needs MANAGE on "+there)

	// To follow a relationship asks whether the parent's rows are there.
	follow := wire.Policy{Kind: "rows", Name: "p", Table: samples, Follow: "survey.drilling.boreholes"}
	put, try = ask(beryl, follow)
	wants(t, put, fault.NotFound, "does not exist or is not yours")
	wants(t, try, fault.NotFound, "does not exist or is not yours")
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"USAGE"}, Object: "survey.drilling", Subjects: []string{"user:beryl"}}, false))
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.drilling.boreholes", Subjects: []string{"user:beryl"}}, false))
	put, try = ask(beryl, follow)
	wants(t, put, fault.Refused, "this needs REFERENCES on survey.drilling.boreholes.id")
	wants(t, try, fault.Refused, "this needs REFERENCES on survey.drilling.boreholes.id")
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"REFERENCES"}, Object: "survey.drilling.boreholes", Subjects: []string{"user:beryl"}}, false))
	if put, try := ask(beryl, follow); put != nil || try != nil {
		t.Errorf("following with REFERENCES: %v, %v", put, try)
	}
}

// TestAPolicyThatMatchesNothingYetLendsNothing: what a text names is looked at when it
// is written, also where the policy is about nothing yet; and it names the same when
// it comes to a table later.
func TestAPolicyThatMatchesNothingYetLendsNothing(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	beryl, opal := caller(t, svc, "beryl"), caller(t, svc, "opal")
	put := func(c identity.Caller, p wire.Policy) error {
		_, err := svc.Admin.PutPolicy(ctx, c, wire.PolicyRequest{Policy: p})
		return err
	}
	columns := wire.Policy{Kind: "columns", Name: "later", Table: "survey.assay.results", Columns: []string{"zz*"},
		Treatment: &wire.Treatment{Kind: "expression", Expression: "(SELECT CAST(max(amount) AS text) FROM survey.licensing.payments)"}}
	wants(t, put(beryl, columns), fault.NotFound, "does not exist or is not yours")
	columns.Treatment.Expression = "(SELECT CAST(max(amount) AS text) FROM survey.licensing.nothing)"
	wants(t, put(beryl, columns), fault.NotFound, "does not exist or is not yours")
	columns.Treatment.Expression = "(WITH payments AS (SELECT 1) SELECT CAST(max(amount) AS text) FROM licensing.payments)"
	wants(t, put(beryl, columns), fault.NotFound, "does not exist or is not yours")
	rows := wire.Policy{Kind: "rows", Name: "later", Table: "survey.assay.zz*", Rule: "EXISTS (SELECT 1 FROM licensing.payments WHERE amount > 6000)"}
	wants(t, put(beryl, rows), fault.NotFound, "does not exist or is not yours")
	when := wire.Policy{Kind: "columns", Name: "later", Table: "survey.assay.results", Columns: []string{"zz*"}, When: "EXISTS (SELECT 1 FROM licensing.payments)", Treatment: &wire.Treatment{Kind: "suppress"}}
	wants(t, put(beryl, when), fault.NotFound, "does not exist or is not yours")
	rows.Rule = "EXISTS (SELECT 1 FROM batches)"
	if err := put(beryl, rows); err != nil {
		t.Errorf("a pattern whose rule reads the writer's own: %v", err)
	}
	// On a label the name must mean the same anywhere.
	done(t)(svc.Admin.PutLabel(ctx, opal, wire.LabelRequest{Name: "rocks"}))
	label := wire.Policy{Kind: "columns", Name: "short", Table: "label:rocks", When: "EXISTS (SELECT 1 FROM payments)", Treatment: &wire.Treatment{Kind: "suppress"}}
	wants(t, put(opal, label), fault.Invalid, "write the table payments with its source and schema")

	// Whose writer loses the right is found.
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"MANAGE"}, Object: "survey.field", Subjects: []string{"user:flint"}}, false))
	flint := caller(t, svc, "flint")
	if err := put(flint, wire.Policy{Kind: "rows", Name: "visits-of-crews", Table: "survey.field.visits", Mode: "limit", Rule: "crew_id IN (SELECT id FROM crews)"}); err != nil {
		t.Fatal(err)
	}
	lent := func() int {
		n := 0
		list, err := svc.Review.Findings(ctx, opal, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range list.Items {
			if f.Kind == "lent" && strings.Contains(f.Says, "visits-of-crews reads survey.field.crews") {
				n++
			}
		}
		return n
	}
	before := lent()
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"MANAGE"}, Object: "survey.field", Subjects: []string{"user:flint"}}, true))
	if after := lent(); before != 0 || after != 1 {
		t.Errorf("findings of what is lent: %d before, %d after", before, after)
	}
}

// TestATrialIsNoWayAround: what a trial tells, its maker could have had.
func TestATrialIsNoWayAround(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	beryl, opal := caller(t, svc, "beryl"), caller(t, svc, "opal")
	own := wire.Policy{Kind: "rows", Table: "survey.assay.samples", Rule: "true"}
	other := own
	other.Name = "reports-of-team" // which is on another table
	_, err := svc.Admin.TryPolicy(ctx, beryl, wire.PolicyTrial{Policy: other})
	wants(t, err, fault.NotFound, "does not exist or is not yours")

	out, err := svc.Admin.TryPolicy(ctx, beryl, wire.PolicyTrial{Policy: own})
	if err != nil || len(out.Counts) != 1 || out.Counts[0].Standpoint != "user:beryl" || out.More != 0 {
		t.Errorf("a table's manager counts as others: %+v, %v", out, err)
	}
	_, err = svc.Admin.TryPolicy(ctx, beryl, wire.PolicyTrial{Policy: own, Standpoints: []wire.Standpoint{{As: "user:flint"}}})
	wants(t, err, fault.Refused, "viewing as somebody else")
	_, err = svc.Review.Matrix(ctx, beryl, "survey.assay.samples")
	wants(t, err, fault.Refused, "this needs MANAGE on platform")
	all, err := svc.Admin.TryPolicy(ctx, opal, wire.PolicyTrial{Policy: own})
	if err != nil || len(all.Counts) < 3 {
		t.Errorf("an administrator counts as all: %+v, %v", all, err)
	}

	_, err = svc.Admin.PutPolicy(ctx, beryl, wire.PolicyRequest{Policy: wire.Policy{Name: "holder-emial", Kind: "rows", Table: own.Table, Rule: "true"}, Replace: true})
	if p := wants(t, err, fault.NotFound, "you may not change it"); len(p.Near) > 0 || strings.Contains(p.Detail, "mean") {
		t.Errorf("a wrong name tells others': %+v", p)
	}
}

// TestLabelsAreForReviewers: a label says what a column holds, also one that is
// withheld.
func TestLabelsAreForReviewers(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	on := map[string]string{}
	for _, who := range []string{"opal", "flint", "agate"} {
		page, err := svc.Review.Object(caller(t, svc, who), "survey.licensing.holders", wire.Standpoint{})
		if err != nil {
			t.Fatal(who, err)
		}
		for _, c := range page.Columns {
			if len(c.Labels) > 0 {
				on[who] += fmt.Sprint(c.Name, c.Labels)
			}
		}
	}
	hang, err := svc.Review.Policies(caller(t, svc, "opal"), "label:finance")
	if err != nil || len(hang.Items) != 1 || hang.Items[0].Name != "finance-data" {
		t.Errorf("what is about a label: %+v, %v", hang, err)
	}
	if on["flint"] != "" || !strings.Contains(on["opal"], "bank_account[finance]") || on["agate"] != on["opal"] {
		t.Errorf("who is told of labels: %v", on)
	}
}

// TestWhatIsBehindAPlan: the governed statement names the tables that policies
// read and the constants of their rules, which a reader of the table may not know.
func TestWhatIsBehindAPlan(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	describe := func(object string) {
		done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"DESCRIBE"}, Object: object, Subjects: []string{"user:flint"}}, false))
	}
	const text = "SELECT count(*) FROM survey.assay.samples"
	describe("survey.assay.samples")
	_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "EXPLAIN " + text})
	wants(t, err, fault.Refused, "and on those that the policies read")
	describe("survey.drilling.boreholes") // which the samples' policy follows
	if plan := fmt.Sprint(ask(t, svc, flint, "EXPLAIN "+text, wire.Standpoint{})); !strings.Contains(plan, "boreholes") {
		t.Error(plan)
	}
	done(t)(svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: "behind", Mode: "limit", Table: "survey.assay.samples",
		Rule: "NOT EXISTS (SELECT 1 FROM licensing.payments WHERE amount < 0)"}}))
	_, err = svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "EXPLAIN " + text})
	wants(t, err, fault.Refused, "and on those that the policies read")

	c, err := svc.Review.Compare(flint, "user:flint", "role:district_geologist", "survey.drilling.boreholes")
	if err != nil || strings.Contains(fmt.Sprintf("%+v", c), "for no values") || strings.Contains(fmt.Sprintf("%+v", c), "north") {
		t.Errorf("a reader is told the constants of rules: %+v, %v", c, err)
	}
	c, err = svc.Review.Compare(opal, "user:flint", "role:district_geologist", "survey.drilling.boreholes")
	if err != nil || !strings.Contains(fmt.Sprintf("%+v", c), "north") {
		t.Errorf("a reviewer is not: %+v, %v", c, err)
	}
}
