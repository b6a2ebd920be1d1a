package service_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/demo/demotest"
	"gneiss/service/events"
	"gneiss/wire"
)

// TestChecksAreWatched: what the service finds when it runs the checks by itself is told once when a
// check comes to fail and once when it holds again, and what fails is a finding until then.
func TestChecksAreWatched(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "user:opal")
	told := func(what string, want ...string) {
		t.Helper()
		if err := svc.Review.RunChecks(t.Context()); err != nil {
			t.Fatal(err)
		}
		var got []string
		for range 100 {
			got = nil
			happened, _ := svc.Events.After(0)
			for _, e := range happened {
				if events.Kind(e.Kind).Topic() == "check" {
					got = append(got, e.Kind+" "+e.About)
				}
			}
			if len(got) >= len(want) {
				break
			}
			time.Sleep(10 * time.Millisecond) // the feed reads after what happened
		}
		if !slices.Equal(got, want) {
			t.Errorf("of %s is told %v", what, got)
		}
	}
	findings := func() (out []string) {
		t.Helper()
		list, err := svc.Review.Findings(t.Context(), opal, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range list.Items {
			if f.Kind == "test" {
				out = append(out, f.Says)
			}
		}
		return out
	}
	before := []string{"check.failed no-whole-source"} // which the demo leaves failing
	told("the demo", before...)
	if got := findings(); len(got) > 0 {
		t.Errorf("of the demo is found %v", got)
	}
	if _, err := svc.Admin.PutTest(t.Context(), opal, wire.AccessTestRequest{AccessTest: wire.AccessTest{Name: "marl-reads", Subject: "user:marl",
		Table: "survey.drilling.boreholes", May: []string{"SELECT"}}}); err != nil {
		t.Fatal(err)
	}
	failed := append(before, "check.failed marl-reads")
	told("a test that fails", failed...)
	told("one that still fails", failed...)
	if got := findings(); len(got) != 1 || !strings.Contains(got[0], "marl-reads") {
		t.Errorf("of a test that fails is found %v", got)
	}
	// Who reviews, and may not look as others, hears that a test fails and not what was counted.
	done(t)(svc.Admin.PutTest(t.Context(), opal, wire.AccessTestRequest{AccessTest: wire.AccessTest{Name: "tuff-none", Subject: "user:tuff",
		Table: "survey.drilling.boreholes", Rows: new(int64)}}))
	failed = append(failed, "check.failed tuff-none")
	told("a test that counts", failed...)
	for _, who := range []string{"opal", "agate", "opal"} { // whoever asks first, and after another
		list, err := svc.Review.Findings(t.Context(), caller(t, svc, who), 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range list.Items {
			if counted := strings.Contains(f.Says, "expected 0 rows, got"); f.Kind == "test" && strings.Contains(f.Says, "tuff-none") && counted != (who == "opal") {
				t.Errorf("%s is told: %s", who, f.Says)
			}
		}
	}
	done(t)(svc.Admin.RemoveTest(t.Context(), opal, "tuff-none", wire.Change{}))
	for _, right := range []wire.GrantRequest{{Privileges: []string{"SELECT"}, Object: "survey.drilling.boreholes", Subjects: []string{"user:marl"}},
		{Privileges: []string{"USAGE"}, Object: "survey.drilling", Subjects: []string{"user:marl"}},
		{Privileges: []string{"USAGE"}, Object: "survey", Subjects: []string{"user:marl"}}} {
		if _, err := svc.Admin.Grant(t.Context(), opal, right, false); err != nil {
			t.Fatal(err)
		}
	}
	told("one that holds again, and one that does not", append(failed, "check.failed marl-nothing-yet", "check.holds marl-reads")...)
	if got := findings(); len(got) != 1 || !strings.Contains(got[0], "the access test marl-nothing-yet fails: expected not to have SELECT") {
		t.Errorf("when it holds again is found %v", got)
	}
}
