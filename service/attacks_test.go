package service_test

import (
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gneiss/demo"
	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/wire"
)

// TestPlansTellNoSecret: the database folds constants into the plans that it shows, so it plans
// with secrets that are made up. Its estimates are not shown of what is treated.
func TestPlansTellNoSecret(t *testing.T) {
	svc, _, _, dir := onBothIn(t)
	opal := caller(t, svc, "opal")
	const holders = demo.Second + ".licensing.holders"
	content, err := os.ReadFile(filepath.Join(dir, "pseudonym.key"))
	if err != nil {
		t.Fatal(err)
	}
	key := strings.TrimSpace(string(content))
	blocks := []string{hex.EncodeToString([]byte(key))}
	for _, pad := range []byte{0x36, 0x5c} {
		block := []byte(key)
		for i := range block {
			block[i] ^= pad
		}
		blocks = append(blocks, hex.EncodeToString(block[:16]))
	}
	// flint sees all rows, and no value of the two columns in clear.
	for _, p := range []wire.Policy{
		{Name: "names", Kind: "columns", Table: holders, Columns: []string{"contact_name"}, Treatment: &wire.Treatment{Kind: "pseudonym"}, For: []string{"user:flint"}},
		{Name: "companies", Kind: "columns", Table: holders, Columns: []string{"company"}, Treatment: &wire.Treatment{Kind: "mask"}, For: []string{"user:flint"}},
	} {
		if _, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: p}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"reader"}, Objects: []string{holders}, Subjects: []string{"user:flint"}, WithEntry: true}, false); err != nil {
		t.Fatal(err)
	}
	flint := caller(t, svc, "flint")
	for _, text := range []string{
		"SELECT DISTINCT contact_name FROM " + holders, "SELECT contact_name FROM " + holders + " ORDER BY contact_name",
		"SELECT contact_name, count(*) FROM " + holders + " GROUP BY contact_name", "SELECT company FROM " + holders + " GROUP BY company",
	} {
		shown := []string{}
		for _, c := range []wire.QueryRequest{{SQL: "EXPLAIN " + text}, {SQL: text, Plan: true}} {
			result, err := svc.Gateway.Query(ctx, flint, c)
			if err != nil {
				t.Fatalf("%s: %v", c.SQL, err)
			}
			shown = append(shown, fmt.Sprint(result.Rows, result.Plan))
			if result.Plan != nil {
				shown = append(shown, fmt.Sprint(*result.Plan))
			}
		}
		for _, plan := range shown {
			for _, block := range blocks {
				if strings.Contains(plan, block) || strings.Contains(plan, key) {
					t.Errorf("%s: a plan has the key:\n%s", text, plan)
				}
			}
			if strings.Contains(plan, "rows=") {
				t.Errorf("%s: a plan estimates what is treated:\n%s", text, plan)
			}
		}
	}
	// Who sees all in clear is shown the database's plan of what another gets, pseudonyms made in it: with
	// secrets that are made up.
	const visits = demo.Second + ".field.visits"
	if _, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{
		Name: "notes", Kind: "columns", Table: visits, Columns: []string{"note"}, Treatment: &wire.Treatment{Kind: "pseudonym"}, For: []string{"user:flint"},
	}}); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"reader"}, Objects: []string{visits}, Subjects: []string{"user:flint"}, WithEntry: true}, false); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"SELECT DISTINCT note FROM " + visits, "SELECT note FROM " + visits + " ORDER BY note"} {
		result, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: text, Plan: true, Standpoint: wire.Standpoint{As: "user:flint"}})
		if err != nil {
			t.Fatal(err)
		}
		shown := strings.Join(result.Plan.Database, "\n")
		if !strings.Contains(shown, "rows=") || !strings.Contains(shown, "gneiss_hmac") {
			t.Errorf("%s: the database's plan, which makes pseudonyms, is not shown:\n%s", text, shown)
		}
		for _, block := range append(blocks, key) {
			if strings.Contains(shown, block) {
				t.Errorf("%s: the database's plan has the key:\n%s", text, shown)
			}
		}
	}
	result, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "EXPLAIN SELECT id FROM " + demo.Second + ".drilling.boreholes ORDER BY id"})
	if err != nil || !strings.Contains(fmt.Sprint(result.Rows), "database:") {
		t.Errorf("%v, %v", result.Rows, err)
	}
}

// TestPoliciesPublishNothing: who manages a schema reads by no policy's text what a label above
// it hides, neither whole nor one bit at a time, in a trial or live.
func TestPoliciesPublishNothing(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	const holders = "survey.licensing.holders"
	for _, right := range []string{"USAGE", "SELECT", "MANAGE"} {
		if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{right}, Objects: []string{"survey.licensing"}, Subjects: []string{"user:slate"}, WithEntry: true}, false); err != nil {
			t.Fatal(err)
		}
	}
	slate := caller(t, svc, "slate")
	expression := func(text, when string) wire.Policy {
		return wire.Policy{Name: "p", Kind: "columns", Table: holders, Columns: []string{"company"}, When: when, For: []string{"user:slate"}, Treatment: &wire.Treatment{Kind: "expression", Expression: text}}
	}
	rows := func(rule string) wire.Policy {
		return wire.Policy{Name: "p", Kind: "rows", Mode: "limit", Table: holders, Rule: rule}
	}
	other := rows("holder_id IN (SELECT id FROM survey.licensing.holders WHERE bank_account LIKE 'ZZ5%')")
	other.Table = "survey.licensing.licences"
	for name, p := range map[string]wire.Policy{
		"whole": expression("bank_account", ""), "in part": expression("left(bank_account, 4)", ""), "by when": expression("'x'", "bank_account LIKE 'ZZ5%'"),
		"by rows": rows("bank_account LIKE 'ZZ5%'"), "by rows of another table": other,
	} {
		_, put := svc.Admin.PutPolicy(ctx, slate, wire.PolicyRequest{Policy: p})
		told := wants(t, put, fault.Refused, "which another policy hides")
		if strings.Contains(told.Detail, "finance") {
			t.Errorf("%s names the policy: %s", name, told.Detail)
		}
		_, try := svc.Admin.TryPolicy(ctx, slate, wire.PolicyTrial{Policy: p})
		wants(t, try, fault.Refused, "which another policy hides")
	}
	// What nothing hides can be read, and who manages the label may do all.
	for _, p := range []wire.Policy{expression("upper(company)", "id > 3"), rows("id < 1000")} {
		if _, err := svc.Admin.PutPolicy(ctx, slate, wire.PolicyRequest{Policy: p, Change: wire.Change{DryRun: true}}); err != nil {
			t.Errorf("%+v: %v", p, err)
		}
	}
	if _, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: expression("bank_account", ""), Change: wire.Change{DryRun: true}}); err != nil {
		t.Error(err)
	}
}

// TestRevokingTellsNothing: who has granted nothing is told the same, whatever is there.
func TestRevokingTellsNothing(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	for _, who := range []string{"marl", "tuff", "flint"} {
		c := caller(t, svc, who)
		said := map[string]string{}
		for _, object := range []string{"survey", "survey.licensing", "survey.licensing.licences", "survey.licensing.payments.amount", "label:finance", "lane:interactive", "nosuch", "survey.nosuch", "survey.licensing.nosuch", "label:nosuch", "survey.assay"} {
			for _, subject := range []string{"user:opal", "user:nobody", "role:licensing_officer", "role:lab_analyst", "service:pumice", "user:bob", "role:lab_keeper"} {
				for _, right := range []string{"SELECT", "ALL"} {
					_, err := svc.Admin.Grant(ctx, c, wire.GrantRequest{Privileges: []string{right}, Objects: []string{object}, Subjects: []string{subject}}, true)
					p := fault.Of(err)
					says := strings.NewReplacer(object, "OBJECT", subject, "SUBJECT", right, "RIGHT").Replace(fmt.Sprint(p.Kind, p.Code, p.Detail))
					said[says] = object + " " + subject
				}
			}
		}
		if len(said) != 1 {
			t.Errorf("%s is told %d things: %v", who, len(said), said)
		}
	}
	// What somebody has granted, they take back.
	opal := caller(t, svc, "opal")
	give := wire.GrantRequest{Privileges: []string{"SELECT"}, Objects: []string{"survey.field.visits"}, Subjects: []string{"user:tuff"}, Option: true, WithEntry: true}
	if _, err := svc.Admin.Grant(ctx, opal, give, false); err != nil {
		t.Fatal(err)
	}
	tuff := caller(t, svc, "tuff")
	on := wire.GrantRequest{Privileges: []string{"SELECT"}, Objects: []string{"survey.field.visits"}, Subjects: []string{"user:marl"}}
	for _, revoke := range []bool{false, true} {
		if _, err := svc.Admin.Grant(ctx, tuff, on, revoke); err != nil {
			t.Errorf("revoke %v: %v", revoke, err)
		}
	}
	_, err := svc.Admin.Grant(ctx, tuff, on, true)
	wants(t, err, fault.Refused, "you have granted no SELECT")
}
