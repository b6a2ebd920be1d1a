package service_test

import (
	"fmt"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

// TestWithholding: one report over the boreholes, read by somebody from whom the
// cost is withheld in each of the three ways.
func TestWithholding(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint, chert := caller(t, svc, "opal"), caller(t, svc, "flint"), caller(t, svc, "chert")
	withhold := func(kind string) {
		t.Helper()
		_, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "borehole-cost", Table: "survey.drilling.boreholes", Columns: []string{"cost"},
			Treatment: &wire.Treatment{Kind: kind}, Except: []string{"role:regional_lead"}}, Replace: true})
		if err != nil {
			t.Fatal(err)
		}
	}
	const report = "SELECT district, count(*) AS n, sum(cost) AS cost FROM survey.drilling.boreholes GROUP BY district ORDER BY district"
	const all = "SELECT * FROM survey.drilling.boreholes ORDER BY id LIMIT 1"
	width := func(who identity.Caller) int {
		t.Helper()
		r, err := svc.Gateway.Query(ctx, who, wire.QueryRequest{SQL: all})
		if err != nil {
			t.Fatal(err)
		}
		return len(r.Columns)
	}
	whole := width(chert)

	withhold("withhold blank")
	if got := fmt.Sprint(ask(t, svc, flint, report, wire.Standpoint{})); got != "[[north 1310 <nil>]]" || width(flint) != whole {
		t.Errorf("blank: the report gives %s", got)
	}
	if got := ask(t, svc, chert, report, wire.Standpoint{}); len(got) != 4 || got[0][2] == nil {
		t.Errorf("who is excepted sees %v", got)
	}

	withhold("withhold absent")
	_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: report})
	gone := wants(t, err, fault.NotFound, "there is no column cost here")
	_, err = svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: strings.Replace(report, "cost)", "coat)", 1)})
	if never := wants(t, err, fault.NotFound, "there is no column coat here"); strings.Contains(fmt.Sprint(never.Near), "cost") || fmt.Sprint(gone.Near) == "" && len(gone.Missing) > 0 {
		t.Errorf("a column that is absent is suggested: %v", never.Near)
	}
	if width(flint) != whole-1 {
		t.Errorf("* gives %d columns of %d", width(flint), whole)
	}
	page, err := svc.Review.Object(flint, "survey.drilling.boreholes", wire.Standpoint{})
	if err != nil || strings.Contains(fmt.Sprintf("%+v", page), "cost") {
		t.Errorf("the table's page tells flint of the column: %v", err)
	}
	_, err = svc.Review.Object(flint, "survey.drilling.boreholes.cost", wire.Standpoint{})
	wants(t, err, fault.NotFound, "does not exist or is not yours to use")
	list, err := svc.Review.AccessOf(flint, review.AccessSearch{Of: "user:flint", Below: "survey.drilling.boreholes", Columns: true})
	if err != nil || strings.Contains(fmt.Sprintf("%+v", list), "cost") {
		t.Errorf("effective access tells flint of the column: %v", err)
	}
	tree, err := svc.Review.Tree(opal, "survey.drilling.boreholes", 1, wire.Standpoint{As: "user:flint"})
	if err != nil || strings.Contains(fmt.Sprintf("%+v", tree.Children), "cost") {
		t.Errorf("from flint's standpoint the column is there: %v", err)
	}
	if page, err = svc.Review.Object(opal, "survey.drilling.boreholes", wire.Standpoint{As: "user:flint"}); err != nil || !strings.Contains(fmt.Sprintf("%+v", page.Columns), "withhold absent") {
		t.Errorf("who reviews is not told how flint gets the column: %v", err)
	}
	if _, err := svc.Review.Preview(ctx, opal, wire.PreviewRequest{Table: "survey.drilling.boreholes", Standpoints: []wire.PreviewPoint{{Standpoint: wire.Standpoint{As: "user:flint"}}, {Standpoint: wire.Standpoint{As: "user:chert"}}}}); err != nil {
		t.Errorf("side by side: %v", err)
	}

	withhold("withhold refuse")
	_, err = svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: report})
	wants(t, err, fault.Refused, "column cost is withheld from you")
	_, err = svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT id FROM survey.drilling.boreholes ORDER BY cost"})
	wants(t, err, fault.Refused, "column cost is withheld from you")
	if width(flint) != whole-1 {
		t.Errorf("* gives %d columns of %d", width(flint), whole)
	}
}

// TestTreatmentsOnTheDemo holds what the other treatments give on real rows.
func TestTreatmentsOnTheDemo(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, beryl := caller(t, svc, "opal"), caller(t, svc, "beryl")
	columns := []string{"ppm", "method", "element"}
	for i, treatment := range []wire.Treatment{{Kind: "round", Multiple: 10}, {Kind: "generalize", Prefix: 1}, {Kind: "constant", Value: "metal"}} {
		_, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "results-" + columns[i], Table: "survey.assay.results", Columns: columns[i : i+1], Treatment: &treatment}})
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, row := range ask(t, svc, beryl, "SELECT ppm / 10 = floor(ppm / 10), length(method), element FROM survey.assay.results WHERE ppm IS NOT NULL LIMIT 50", wire.Standpoint{}) {
		if fmt.Sprint(row) != "[true 1 metal]" {
			t.Fatalf("a result appears as %v", row)
		}
	}
	for _, c := range []struct {
		treatment wire.Treatment
		column    string
		says      string
	}{
		{wire.Treatment{Kind: "round", Decimals: 2}, "method", "round works on double precision"},
		{wire.Treatment{Kind: "generalize"}, "ppm", "generalize needs a bucket"},
		{wire.Treatment{Kind: "generalize", Unit: "month"}, "ppm", "needs a bucket"},
		{wire.Treatment{Kind: "generalize", Unit: "week"}, "ppm", "no period week"},
		{wire.Treatment{Kind: "constant", Value: "many"}, "ppm", `"many" is no double precision`},
		{wire.Treatment{Kind: "round", Decimals: 2, Multiple: 10}, "ppm", "not both"},
		{wire.Treatment{Kind: "suppress", Bucket: 5}, "ppm", "suppress takes no bucket"},
		{wire.Treatment{Kind: "blur"}, "ppm", "no treatment blur"},
	} {
		_, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "bad", Table: "survey.assay.results", Columns: []string{c.column}, Treatment: &c.treatment}})
		if p := fault.Of(err); err == nil || !strings.Contains(p.Detail, c.says) {
			t.Errorf("%+v: %v, want %q", c.treatment, err, c.says)
		}
	}
}

// TestEffectsSayWhichWay: what gets stricter is a loss, also for who sees part of
// the table treated already.
func TestEffectsSayWhichWay(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	try := func(kind string, treatment wire.Treatment, columns ...string) string {
		t.Helper()
		out, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: kind, Table: "survey.drilling.boreholes", Columns: columns, Treatment: &treatment},
			Replace: kind == "borehole-cost", Change: wire.Change{DryRun: true}})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range out.Effects {
			if e.Subject == "user:flint" {
				return fmt.Sprint("gains ", e.Gains, " loses ", e.Loses)
			}
		}
		return "nothing"
	}
	for _, c := range []struct{ got, want string }{
		{try("position", wire.Treatment{Kind: "round", Decimals: 1}, "latitude", "longitude"), "gains [] loses [survey.drilling.boreholes: latitude (left: rounded to 1 decimal), longitude (left: rounded to 1 decimal)]"},
		{try("borehole-cost", wire.Treatment{Kind: "round", Multiple: 1000}, "cost"), "gains [survey.drilling.boreholes: cost rounded to multiples of 1000] loses []"},
		{try("borehole-cost", wire.Treatment{Kind: "withhold refuse"}, "cost"), "gains [] loses [survey.drilling.boreholes: cost withheld (blank) (left: withheld (refused))]"},
		{try("borehole-cost", wire.Treatment{Kind: "withhold blank"}, "cost"), "nothing"},
	} {
		if c.got != c.want {
			t.Errorf("flint %s, want %s", c.got, c.want)
		}
	}
	rows, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: "deep", Table: "survey.drilling.boreholes", Mode: "limit", Rule: "depth_m > 100"}, Change: wire.Change{DryRun: true}})
	if err != nil || !strings.Contains(fmt.Sprint(rows.Effects), "user:flint [] [survey.drilling.boreholes: some rows, by boreholes-of-districts (left: some rows, by boreholes-of-districts, deep)") {
		t.Errorf("a limit more: %+v, %v", rows.Effects, err)
	}
	if rows, err = svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: "deep", Table: "survey.drilling.boreholes", Rule: "depth_m > 100"}, Change: wire.Change{DryRun: true}}); err != nil ||
		!strings.Contains(fmt.Sprint(rows.Effects), "user:flint [survey.drilling.boreholes: some rows, by boreholes-of-districts, deep] []") {
		t.Errorf("an allowance more: %+v, %v", rows.Effects, err)
	}
}
