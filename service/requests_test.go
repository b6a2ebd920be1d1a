package service_test

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

// refusal is the reference of what somebody is refused.
func refusal(t testing.TB, svc *service.Service, c identity.Caller, text string) string {
	t.Helper()
	_, err := svc.Gateway.Query(ctx, c, wire.QueryRequest{SQL: text})
	if fault.Of(err).Reference == "" {
		t.Fatalf("%s: %v", text, err)
	}
	return fault.Of(err).Reference
}

var numbersIn = regexp.MustCompile(`[0-9]+`)

// TestAskingTellsNothing: who asks for what is hidden is answered as who asks for what is not there, by
// name and from a refusal, when asking, when looking, and once it is decided.
func TestAskingTellsNothing(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, marl := caller(t, svc, "opal"), caller(t, svc, "marl")
	told := func(hidden, gone any, err, err2 error) {
		t.Helper()
		texts := [2]string{}
		for i, x := range []any{hidden, gone} {
			text, encodeErr := json.Marshal([]any{x, fmt.Sprint([]error{err, err2}[i])})
			if encodeErr != nil {
				t.Fatal(encodeErr)
			}
			texts[i] = numbersIn.ReplaceAllString(strings.NewReplacer("survey.assay.results", "X", "survey.nowhere.things", "X").Replace(string(text)), "0")
		}
		if texts[0] != texts[1] {
			t.Errorf("what is hidden:\n%s\nwhat is not there:\n%s", texts[0], texts[1])
		}
	}
	a, err := svc.Admin.Ask(ctx, marl, wire.AccessRequest{Object: "survey.assay.results", Reason: "the report"})
	b, err2 := svc.Admin.Ask(ctx, marl, wire.AccessRequest{Object: "survey.nowhere.things", Reason: "the report"})
	told(a, b, err, err2)
	r1, r2 := refusal(t, svc, marl, "SELECT * FROM survey.assay.results"), refusal(t, svc, marl, "SELECT * FROM survey.nowhere.things")
	c, err := svc.Admin.Ask(ctx, marl, wire.AccessRequest{Reference: r1, Reason: "the report"})
	d, err2 := svc.Admin.Ask(ctx, marl, wire.AccessRequest{Reference: r2, Reason: "the report"})
	told(c, d, err, err2)
	for _, pair := range [][2]wire.Requested{{a, b}, {c, d}} {
		for _, r := range pair {
			done(t)(svc.Admin.Decide(ctx, opal, r.Number, wire.RequestDecision{Decision: "decline", Word: "no"}))
		}
		hidden, err := svc.Review.Request(ctx, marl, pair[0].Number)
		gone, err2 := svc.Review.Request(ctx, marl, pair[1].Number)
		told(hidden, gone, err, err2)
	}
	if _, err := svc.Admin.Ask(ctx, caller(t, svc, "flint"), wire.AccessRequest{Reference: r1, Reason: "curious"}); fault.Of(err).Kind != fault.NotFound {
		t.Errorf("flint asks for what marl was refused: %v", err)
	}
}

// TestRequests: who manages what is asked for sees it with the ways to grant it, and decides once; a
// grant comes with its end and its request; the asker is told; nobody decides their own.
func TestRequests(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, marl, flint := caller(t, svc, "opal"), caller(t, svc, "marl"), caller(t, svc, "flint")
	r, err := svc.Admin.Ask(ctx, marl, wire.AccessRequest{Reference: refusal(t, svc, marl, "SELECT * FROM survey.assay.results"), Reason: "the report"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Review.Request(ctx, flint, r.Number); fault.Of(err).Kind != fault.NotFound {
		t.Errorf("flint sees marl's request: %v", err)
	}
	for _, decision := range []string{"grant", "decline"} {
		if _, err := svc.Admin.Decide(ctx, marl, r.Number, wire.RequestDecision{Decision: decision, Word: "yes"}); fault.Of(err).Kind != fault.Refused {
			t.Errorf("marl decides to %s: %v", decision, err)
		}
	}
	seen, err := svc.Review.Request(ctx, opal, r.Number)
	if err != nil || !seen.Decides || len(seen.Fixes) < 2 || len(seen.Nearest) == 0 || !strings.Contains(seen.Asks, "SELECT on survey.assay.results") {
		t.Fatalf("opal sees %+v, %v", seen, err)
	}
	end := seen.At.AddDate(0, 1, 0)
	out := done(t)(svc.Admin.Decide(ctx, opal, r.Number, wire.RequestDecision{Decision: "grant", Fix: len(seen.Fixes), Until: &end, Word: "until the report is out"}))
	if !out.Revised || len(out.Effects) == 0 {
		t.Errorf("granting did %+v", out)
	}
	if _, err := svc.Gateway.Query(ctx, marl, wire.QueryRequest{SQL: "SELECT count(*) FROM survey.assay.results"}); err != nil {
		t.Errorf("marl still may not: %v", err)
	}
	grants, err := svc.Review.Grants(opal, review.GrantSearch{Subject: "user:marl"})
	if err != nil || len(grants.Items) == 0 || grants.Items[0].Until == nil || !strings.Contains(grants.Items[0].Reason, fmt.Sprintf("request %d", r.Number)) {
		t.Errorf("the grants are %+v, %v", grants.Items, err)
	}
	if told, err := svc.Review.Request(ctx, marl, r.Number); err != nil || told.Status != "granted" || told.DecidedBy != "user:opal" || told.Word == "" || len(told.Fixes) > 0 {
		t.Errorf("marl is told %+v, %v", told, err)
	}
	if _, err := svc.Admin.Decide(ctx, opal, r.Number, wire.RequestDecision{Decision: "decline", Word: "no"}); fault.Of(err).Kind != fault.Conflict {
		t.Errorf("it is decided twice: %v", err)
	}
	if _, err := svc.Admin.Ask(ctx, marl, wire.AccessRequest{Object: "survey.assay.results", Reason: "again"}); fault.Of(err).Code != "have_it" {
		t.Errorf("marl asks for what marl has: %v", err)
	}
	for i := range 25 {
		_, err = svc.Admin.Ask(ctx, flint, wire.AccessRequest{Object: fmt.Sprintf("survey.licensing.table%d", i), Reason: "many"})
	}
	if fault.Of(err).Kind != fault.TooMany {
		t.Errorf("flint asks for 25 things: %v", err)
	}
}

// TestOwnUseHidesWhatIsHidden: beryl holds SELECT on a table behind a door that is shut, and is not told
// of it by asking for her own use.
func TestOwnUseHidesWhatIsHidden(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	out, err := svc.Review.Use(ctx, caller(t, svc, "beryl"), "user:beryl", 90, false)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(out)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(text), "licensing") || strings.Contains(string(text), `"of":`) && !strings.Contains(string(text), `"of":"user:beryl"`) || len(out.Items) < 3 {
		t.Errorf("beryl is told %s", text)
	}
}

// TestManagersOfOneObject: who manages one schema decides what is asked for there, and learns of no role,
// and of nothing above.
func TestManagersOfOneObject(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, garnet, marl := caller(t, svc, "opal"), caller(t, svc, "garnet"), caller(t, svc, "marl")
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"MANAGE"}, Object: "survey.licensing", Subjects: []string{"user:garnet"}}, false))
	r, err := svc.Admin.Ask(ctx, marl, wire.AccessRequest{Object: "survey.licensing.payments", Reason: "the books"})
	if err != nil {
		t.Fatal(err)
	}
	seen, err := svc.Review.Request(ctx, garnet, r.Number)
	if err != nil || !seen.Decides || len(seen.Fixes) != 1 {
		t.Fatalf("garnet sees %+v, %v", seen, err)
	}
	text, err := json.Marshal([]any{seen.Fixes, seen.Missing})
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(text), "role:") || strings.Contains(string(text), `USAGE on survey"`) {
		t.Errorf("garnet is told %s", text)
	}
	out := done(t)(svc.Admin.Decide(ctx, garnet, r.Number, wire.RequestDecision{Decision: "grant"}))
	if !out.Revised {
		t.Errorf("garnet granted nothing: %+v", out)
	}
	other, err := svc.Admin.Ask(ctx, marl, wire.AccessRequest{Object: "survey.drilling.boreholes", Reason: "the books"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Review.Request(ctx, garnet, other.Number); fault.Of(err).Kind != fault.NotFound {
		t.Errorf("garnet sees what is asked for elsewhere: %v", err)
	}
}
