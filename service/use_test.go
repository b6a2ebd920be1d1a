package service_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

// used are the items of a report that have been used, with how often, and those that have not.
func used(t testing.TB, svc *service.Service, c identity.Caller, of string) (was map[string]int64, never []string) {
	t.Helper()
	out, err := svc.Review.Use(ctx, c, of, 90, false)
	if err != nil {
		t.Fatal(err)
	}
	was = map[string]int64{}
	for _, i := range out.Items {
		if i.Queries > 0 {
			was[i.Says] = i.Queries
		} else {
			never = append(never, i.Says)
		}
	}
	return was, never
}

// TestUseIsWhatBreaks: what queries are said to have needed is what they need. Each grant and membership
// that nobody used is taken away in turn, with all others of the kind, and everything that people asked
// still gives the same; of what was used, each on its own is missed by some query unless another way is
// counted beside it.
func TestUseIsWhatBreaks(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	texts := map[string][]string{
		"flint":  {"SELECT count(*), max(depth_m) FROM survey.drilling.boreholes", "SELECT well_id FROM survey.monitoring.readings LIMIT 3", "SELECT count(*) FROM survey.assay.results"},
		"garnet": {"SELECT max(bank_account), count(*) FROM survey.licensing.holders", "SELECT sum(amount) FROM survey.licensing.payments"},
		"tuff":   {"SELECT count(*), sum(depth_m) FROM survey.drilling.boreholes"},
		"chert":  {"SELECT count(*), sum(cost) FROM survey.drilling.boreholes", "SELECT count(*), max(latitude) FROM survey.drilling.boreholes"},
		"beryl":  {"SELECT count(*), sum(ppm) FROM survey.assay.results"},
		"slate":  {"SELECT count(*), max(phone) FROM survey.licensing.holders", "SELECT well_id FROM survey.monitoring.readings LIMIT 3"},
	}
	answers := func() map[string]string {
		out := map[string]string{}
		for who, list := range texts {
			for _, text := range list {
				got, err := svc.Gateway.Query(ctx, caller(t, svc, who), wire.QueryRequest{SQL: text})
				out[who+": "+text] = fmt.Sprint(got.Rows, err)
			}
		}
		return out
	}
	before := answers()
	report, err := svc.Review.Use(ctx, opal, "", 90, true)
	if err != nil {
		t.Fatal(err)
	}
	taken := 0
	for _, i := range report.Items {
		for _, fix := range i.Fixes {
			switch {
			case i.Queries > 0:
			case fix.Revoke != nil:
				done(t)(svc.Admin.Grant(ctx, opal, *fix.Revoke, true))
				taken++
			case fix.Take != nil:
				done(t)(svc.Admin.Join(ctx, opal, *fix.Take, true))
				taken++
			}
		}
	}
	if taken < 10 {
		t.Errorf("only %d were taken back", taken)
	}
	after := answers()
	for text, want := range before {
		if got := after[text]; got != want {
			t.Errorf("without what nobody used, %s gives %s, not %s", text, got, want)
		}
	}
	if _, never := used(t, svc, opal, "user:garnet"); len(never) > 0 {
		t.Errorf("of garnet's is still unused: %v", never)
	}
	missed := 0
	for _, of := range []string{"user:garnet", "user:flint"} {
		out, err := svc.Review.Use(ctx, opal, of, 90, false)
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range out.Items {
			if i.Kind != "grant" || i.Queries == 0 {
				continue
			}
			what, rest, _ := strings.Cut(i.Says, " on ")
			on, to, _ := strings.Cut(rest, " to ")
			grant := wire.GrantRequest{Privileges: []string{what}, Object: on, Subjects: []string{to}}
			done(t)(svc.Admin.Grant(ctx, opal, grant, true))
			if now := answers(); fmt.Sprint(now) != fmt.Sprint(before) {
				missed++
			} else {
				t.Logf("%s is missed by none of these queries", i.Says)
			}
			done(t)(svc.Admin.Grant(ctx, opal, grant, false))
		}
	}
	if missed < 6 {
		t.Errorf("only %d of what was used are missed", missed)
	}
}

// TestUseIsCountedOnce: what many ask at once is counted once each, and again by no other counting; what
// is asked as somebody else, through a draft, or is refused is no use.
func TestUseIsCountedOnce(t *testing.T) {
	dir := demotest.Folder(t)
	svc, err := service.Open(ctx, dir, quiet)
	if err != nil {
		t.Fatal(err)
	}
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	const grant = "SELECT on survey.drilling to role:survey_reader"
	count := func() int64 {
		was, _ := used(t, svc, opal, "user:flint")
		return was[grant]
	}
	before := count()
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for i := range 25 {
				if _, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT id FROM survey.drilling.boreholes LIMIT 3"}); err != nil {
					t.Error(err)
				}
				if i%10 == 0 {
					count()
				}
			}
		})
	}
	all.Wait()
	if got := count() - before; got != 200 {
		t.Errorf("of 200 queries %d are counted", got)
	}
	svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "SELECT id FROM survey.drilling.boreholes", Standpoint: wire.Standpoint{As: "user:flint"}})
	svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT id FROM survey.drilling.boreholes, survey.licensing.payments"})
	through, err := svc.Identity.Looking(ctx, flint, wire.Moment{Draft: "portal-2027"})
	if err == nil {
		svc.Review.Preview(ctx, through, wire.PreviewRequest{Table: "survey.drilling.boreholes"})
	}
	if got := count() - before; got != 200 {
		t.Errorf("what is no use is counted: %d", got)
	}
	if err := svc.Close(ctx); err != nil {
		t.Fatal(err)
	}
	svc = demotest.Open(t, dir)
	if got := count() - before; got != 200 {
		t.Errorf("after a restart %d are counted", got)
	}
}

// TestUseTellsOnesOwn: who does not review asks about themself alone, and hears of nobody else.
func TestUseTellsOnesOwn(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	flint := caller(t, svc, "flint")
	for _, of := range []string{"", "user:slate", "role:survey_reader", "user:nobody"} {
		if _, err := svc.Review.Use(ctx, flint, of, 90, of == ""); err == nil {
			t.Errorf("flint asks about %q", of)
		}
	}
	out, err := svc.Review.Use(ctx, flint, "user:flint", 90, false)
	if err != nil {
		t.Fatal(err)
	}
	if len(out.Tables) == 0 || slices.ContainsFunc(out.Items, func(i wire.UseItem) bool { return i.People > 1 || len(i.Fixes) > 0 }) {
		t.Errorf("of flint's own use is told %+v", out)
	}
}

// TestUseOfRandomPlatforms: after random changes, and everybody's questions, what nobody used can be taken
// away, all of it, and everybody gets the same answers.
func TestUseOfRandomPlatforms(t *testing.T) {
	tables := []string{"survey.drilling.boreholes", "survey.drilling.lithology", "survey.assay.results", "survey.assay.samples", "survey.licensing.holders",
		"survey.licensing.licences", "survey.field.visits", "survey.monitoring.stations"}
	for seed := range uint64(3) {
		svc := demotest.Open(t, demotest.Folder(t))
		opal := caller(t, svc, "opal")
		r := rand.New(rand.NewPCG(seed, 9))
		for _, d := range deeds(r, 30, false) {
			d.do(svc, opal) // some are refused
		}
		var asked [][2]string
		for _, who := range []string{"flint", "jasper", "slate", "chert", "garnet", "tuff", "marl", "beryl"} {
			for _, table := range tables {
				if r.IntN(2) == 0 {
					asked = append(asked, [2]string{who, "SELECT * FROM (SELECT * FROM " + table + " LIMIT 40) AS some ORDER BY 1"})
				}
			}
		}
		answers := func() (out []string) {
			for _, q := range asked {
				c, err := svc.Admin.ActAs("user:" + q[0])
				if err != nil {
					out = append(out, "gone")
					continue
				}
				got, err := svc.Gateway.Query(ctx, c, wire.QueryRequest{SQL: q[1]})
				if err != nil {
					out = append(out, "refused") // in words that name the record
					continue
				}
				out = append(out, fmt.Sprint(len(got.Columns), got.Rows))
			}
			return out
		}
		before := answers()
		report, err := svc.Review.Use(ctx, opal, "", 1, false) // of today alone: what the demo's past needed counts for nothing
		if err != nil {
			t.Fatal(err)
		}
		taken := 0
		for _, i := range report.Items {
			for _, fix := range i.Fixes {
				switch {
				case i.Queries > 0:
				case fix.Revoke != nil:
					if _, err := svc.Admin.Grant(ctx, opal, *fix.Revoke, true); err == nil {
						taken++
					}
				case fix.Take != nil && fix.Take.Of != "role:administrator":
					if _, err := svc.Admin.Join(ctx, opal, *fix.Take, true); err == nil {
						taken++
					}
				}
			}
		}
		after := answers()
		for i, q := range asked {
			if before[i] != after[i] {
				t.Errorf("seed %d: without %d rights that nobody used %s gets for %s\n%.200s\nand not\n%.200s", seed, taken, q[0], q[1], after[i], before[i])
			}
		}
		if taken < 8 {
			t.Errorf("seed %d: only %d were taken away", seed, taken)
		}
	}
}

// TestRevealIsUsed: what lifts a policy from what somebody read is used, though they could read without.
func TestRevealIsUsed(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	done(t)(svc.Admin.RemoveGuardrail(ctx, opal, "finance-in-office", wire.Change{})) // which would refuse it
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"REVEAL"}, Object: "label:finance", Subjects: []string{"user:chert"}}, false))
	const grant = "REVEAL on label:finance to user:chert"
	for i, text := range []string{"SELECT company FROM survey.licensing.holders", "SELECT max(bank_account) FROM survey.licensing.holders"} {
		if _, err := svc.Gateway.Query(ctx, caller(t, svc, "chert"), wire.QueryRequest{SQL: text}); err != nil {
			t.Fatal(err)
		}
		if was, _ := used(t, svc, opal, "user:chert"); was[grant] != int64(i) {
			t.Errorf("after %s it is used %d times", text, was[grant])
		}
	}
}

// TestUseIsTheRecords: who reviews the platform and does not read the record asks about themself alone.
func TestUseIsTheRecords(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"DESCRIBE"}, Object: "platform", Subjects: []string{"user:flint"}}, false))
	for _, of := range []string{"", "user:slate", "role:survey_reader"} {
		if _, err := svc.Review.Use(ctx, flint, of, 90, of == ""); fault.Of(err).Kind != fault.Refused {
			t.Errorf("flint, who reviews, asks about %q: %v", of, err)
		}
	}
	if _, err := svc.Review.AccessMatrix(ctx, flint, review.MatrixSearch{Unused: 90}); fault.Of(err).Kind != fault.Refused {
		t.Errorf("flint asks the matrix who used nothing: %v", err)
	}
	if _, err := svc.Review.Use(ctx, flint, "user:flint", 90, false); err != nil {
		t.Errorf("flint asks about flint: %v", err)
	}
}

// TestRightsToAdministerAreNotJudged: counts of queries tell nothing of rights that serve to administer, so
// that neither a report of what nobody used, nor a finding, nor a review calls them unused.
func TestRightsToAdministerAreNotJudged(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	admin := svc.Admin
	must := func(_ wire.Changed, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, role := range []string{"role:governs", "role:reads"} {
		must(admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: role}, false))
		must(admin.Join(ctx, opal, wire.Member{Member: "user:marl", Of: role}, false))
	}
	must(admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"keeper"}, Object: "survey.field", Subjects: []string{"role:governs"}}, false))
	must(admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"reader"}, Object: "survey.field", Subjects: []string{"role:reads"}}, false))
	report, err := svc.Review.Use(ctx, opal, "user:marl", 90, false)
	if err != nil {
		t.Fatal(err)
	}
	noted := map[string]bool{}
	for _, i := range report.Items {
		noted[i.Says] = strings.Contains(i.Note, "not counted")
		if noted[i.Says] && len(i.Fixes) > 0 {
			t.Errorf("%s is not counted, and to be revoked", i.Says)
		}
	}
	for says, want := range map[string]bool{"keeper on survey.field to role:governs": true, "reader on survey.field to role:reads": false,
		"user:marl is in role:governs": true, "user:marl is in role:reads": false} {
		if got, there := noted[says]; !there || got != want {
			t.Errorf("%q: listed %t, not counted %t, want %t (%v)", says, there, got, want, noted)
		}
	}
	must(admin.OpenReview(ctx, opal, wire.ReviewRequest{Name: "field", Due: time.Now().AddDate(0, 0, 9).Format(time.DateOnly),
		Scope: wire.ReviewScope{Objects: []string{"survey.field"}}}))
	page, err := svc.Review.Review(ctx, opal, "field", "", true)
	if err != nil {
		t.Fatal(err)
	}
	said := map[string]string{}
	for _, i := range page.List {
		if i.Subject == "user:marl" {
			said[i.Via] = strings.Join(i.Findings, " ")
		}
	}
	if !strings.Contains(said["role:governs"], "not_counted") || strings.Contains(said["role:governs"], "unused") || !strings.Contains(said["role:reads"], "unused") {
		t.Errorf("the review says %v", said)
	}
}

// TestWhatAMembershipLeavesWithoutEffect: giving a role says which of its grants the member cannot use, and an
// end date that has passed.
func TestWhatAMembershipLeavesWithoutEffect(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	for _, c := range []wire.SubjectRequest{{Subject: "role:assays"}, {Subject: "user:newcomer"}} {
		if _, err := svc.Admin.PutSubject(ctx, opal, c, false); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.assay", Subjects: []string{"role:assays"}}, false); err != nil {
		t.Fatal(err)
	}
	past := time.Now().AddDate(0, 0, -3)
	for _, c := range []struct {
		in   wire.Member
		want string
	}{
		{wire.Member{Member: "user:newcomer", Of: "role:assays"}, "SELECT on survey.assay has no effect yet for user:newcomer: USAGE on survey is missing"},
		{wire.Member{Member: "user:newcomer", Of: "role:assays"}, "user:newcomer can run no query yet: USAGE on a lane is missing"},
		{wire.Member{Member: "user:newcomer", Of: "role:assays", Until: &past}, "the end date has passed, so user:newcomer does not have role:assays"},
	} {
		c.in.Change.DryRun = true
		out, err := svc.Admin.Join(ctx, opal, c.in, false)
		if err != nil || !slices.Contains(out.Notes, c.want) {
			t.Errorf("the notes are %q, without %q (%v)", out.Notes, c.want, err)
		}
	}
	// Who gives it on is told nothing of what they may not see.
	if _, err := svc.Admin.Join(ctx, opal, wire.Member{Member: "user:tuff", Of: "role:assays", Option: true}, false); err != nil {
		t.Fatal(err)
	}
	out, err := svc.Admin.Join(ctx, caller(t, svc, "tuff"), wire.Member{Member: "user:newcomer", Of: "role:assays", Change: wire.Change{DryRun: true}}, false)
	if err != nil || len(out.Notes) > 0 {
		t.Errorf("tuff, who gives it on, is told %q (%v)", out.Notes, err)
	}
}
