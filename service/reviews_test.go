package service_test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

func reviewOf(t testing.TB, svc *service.Service, c identity.Caller, name string) wire.ReviewPage {
	t.Helper()
	out, err := svc.Review.Review(ctx, c, name, "", true)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

var soon = time.Now().AddDate(0, 0, 20).Format(time.DateOnly)

// TestReviewsHaveAllThatPeopleHave: who can do something in a review's scope is in it, and where all of
// it is revoked, nobody can do anything there any more but by what was kept.
func TestReviewsHaveAllThatPeopleHave(t *testing.T) {
	for _, scope := range []string{"survey.licensing", "survey.drilling.boreholes", "survey.assay"} {
		t.Run(scope, func(t *testing.T) {
			svc := demotest.Open(t, demotest.Folder(t))
			opal := caller(t, svc, "opal")
			can := func() (out []string) {
				for _, s := range []string{"agate", "beryl", "chert", "flint", "garnet", "jasper", "marl", "slate", "tuff"} {
					list, err := svc.Review.AccessOf(opal, review.AccessSearch{Of: "user:" + s, Below: scope})
					if err != nil {
						t.Fatal(err)
					}
					for _, a := range list.Items {
						if slices.ContainsFunc(a.Privileges, func(p string) bool { return p != "USAGE" }) {
							out = append(out, "user:"+s)
							break
						}
					}
				}
				return out
			}
			before := can()
			done(t)(svc.Admin.OpenReview(ctx, opal, wire.ReviewRequest{Name: "all", Scope: wire.ReviewScope{Objects: []string{scope}}, Due: soon}))
			page := reviewOf(t, svc, opal, "all")
			var revoke, keep []int
			for _, i := range page.List {
				switch {
				case i.Subject == "user:opal": // who does not decide on themself
				case i.Via == "role:administrator" || i.Via == "role:data_curator":
					keep = append(keep, i.Number)
				default:
					revoke = append(revoke, i.Number)
				}
			}
			for _, who := range before {
				if !slices.ContainsFunc(page.List, func(i wire.ReviewItem) bool { return i.Subject == who }) {
					t.Errorf("%s can do something in %s, and is not in its review", who, scope)
				}
			}
			done(t)(svc.Admin.DecideReview(ctx, opal, "all", wire.ReviewDecision{Items: revoke, Decision: "revoke", Version: page.Version}))
			if len(keep) > 0 {
				done(t)(svc.Admin.DecideReview(ctx, opal, "all", wire.ReviewDecision{Items: keep, Decision: "keep", Version: page.Version}))
			}
			done(t)(svc.Admin.CloseReview(ctx, opal, "all", wire.ReviewClose{}))
			if left := can(); len(before) < 4 || len(left) > 0 {
				t.Errorf("of %v these can still do something: %v", before, left)
			}
		})
	}
}

// TestSignedReviews: a closed review is what was signed, until anything of it is altered, anywhere.
func TestSignedReviews(t *testing.T) {
	dir := demotest.Folder(t)
	svc, err := service.Open(ctx, dir, quiet)
	if err != nil {
		t.Fatal(err)
	}
	opal := caller(t, svc, "opal")
	done(t)(svc.Admin.OpenReview(ctx, opal, wire.ReviewRequest{Name: "q4", Scope: wire.ReviewScope{Roles: []string{"role:partner"}, Labels: []string{"finance"}}, Due: soon}))
	page := reviewOf(t, svc, opal, "q4")
	done(t)(svc.Admin.DecideReview(ctx, opal, "q4", wire.ReviewDecision{Items: []int{1}, Decision: "until", Until: soon, Word: "leaves", Version: page.Version}))
	_, err = svc.Admin.DecideReview(ctx, caller(t, svc, "garnet"), "q4", wire.ReviewDecision{Items: []int{2}, Decision: "keep", Version: page.Version})
	if fault.Of(err).Kind != fault.NotFound {
		t.Errorf("garnet decides what is not hers: %v", err)
	}
	if out := done(t)(svc.Admin.CloseReview(ctx, opal, "q4", wire.ReviewClose{Draft: "after-q4"})); !out.Revised {
		t.Error("closing made no revision")
	}
	verified := func() wire.ReviewVerified {
		t.Helper()
		out, err := svc.Review.VerifyReview(ctx, opal, "q4")
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	if out := verified(); !out.Holds {
		t.Errorf("as it was signed: %+v", out)
	}
	if d, err := svc.Review.Draft(ctx, opal, "after-q4"); err != nil || len(d.Steps) == 0 {
		t.Errorf("what was revoked is in no draft: %v", err)
	}
	db, err := sql.Open("sqlite3", filepath.Join(dir, "records.db")+"?_busy_timeout=5000")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, c := range []struct{ alter, back string }{
		{"UPDATE review_item SET decision = 'keep' WHERE n = 1", "UPDATE review_item SET decision = 'until' WHERE n = 1"},
		{"UPDATE review_item SET word = word || '.' WHERE n = 1", "UPDATE review_item SET word = rtrim(word, '.') WHERE n = 1"},
		{"UPDATE review_item SET content = replace(content, 'SELECT', 'INSERT')", "UPDATE review_item SET content = replace(content, 'INSERT', 'SELECT')"},
		{"UPDATE review SET due = due || ' '", "UPDATE review SET due = rtrim(due)"},
		{"UPDATE review_item SET n = n + 100 WHERE n = 2", "UPDATE review_item SET n = n - 100 WHERE n = 102"},
	} {
		if _, err := db.Exec(c.alter); err != nil {
			t.Fatal(err)
		}
		if out := verified(); out.Holds {
			t.Errorf("after %s it holds", c.alter)
		}
		if _, err := db.Exec(c.back); err != nil {
			t.Fatal(err)
		}
		if out := verified(); !out.Holds {
			t.Errorf("after %s it does not hold: %+v", c.back, out)
		}
	}
	if _, err := db.Exec("UPDATE journal SET changes = replace(changes, 'sign_review', 'sign_review ') WHERE revision = 120 OR changes LIKE '%sign_review%'"); err != nil {
		t.Fatal(err)
	}
	if out, err := svc.Review.VerifyReview(ctx, opal, "q4"); err == nil && out.Holds {
		t.Error("with an altered journal it holds")
	}
	if err := svc.Close(ctx); err != nil {
		t.Error(err)
	}
}

// TestReviewersSeeTheirOwn: who is handed items sees these and no others; who has none knows of no
// review; and what two decide at once is not overwritten unseen.
func TestReviewersSeeTheirOwn(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, garnet, flint := caller(t, svc, "opal"), caller(t, svc, "garnet"), caller(t, svc, "flint")
	done(t)(svc.Admin.OpenReview(ctx, opal, wire.ReviewRequest{Name: "q4", Scope: wire.ReviewScope{Objects: []string{"survey.licensing"}}, Due: soon, Reviewer: "user:opal"}))
	page := reviewOf(t, svc, opal, "q4")
	done(t)(svc.Admin.DecideReview(ctx, opal, "q4", wire.ReviewDecision{Items: []int{2, 3}, Decision: "hand", To: "role:licensing_officer", Version: page.Version}))
	own := reviewOf(t, svc, garnet, "q4")
	var numbers []string
	for _, i := range own.List {
		numbers = append(numbers, fmt.Sprint(i.Number))
	}
	if strings.Join(numbers, " ") != "2 3" || own.Yours != 2 {
		t.Errorf("garnet sees the items %v", numbers)
	}
	if list, err := svc.Review.Reviews(ctx, flint); err != nil || len(list.Items) > 0 {
		t.Errorf("flint knows of %+v, %v", list.Items, err)
	}
	if _, err := svc.Review.Review(ctx, flint, "q4", "", true); err == nil || err.Error() == "" {
		t.Error("flint reads a review")
	}
	_, there := svc.Review.Review(ctx, flint, "q4", "", true)
	if _, gone := svc.Review.Review(ctx, flint, "q5", "", true); strings.ReplaceAll(gone.Error(), "q5", "q4") != there.Error() {
		t.Errorf("a review that is there is told from one that is not: %v, %v", there, gone)
	}
	_, there = svc.Admin.DecideReview(ctx, flint, "q4", wire.ReviewDecision{Items: []int{1}, Decision: "keep"})
	if _, gone := svc.Admin.DecideReview(ctx, flint, "q5", wire.ReviewDecision{Items: []int{1}, Decision: "keep"}); strings.ReplaceAll(gone.Error(), "q5", "q4") != there.Error() {
		t.Errorf("deciding tells a review that is there from one that is not: %v, %v", there, gone)
	}
	done(t)(svc.Admin.DecideReview(ctx, garnet, "q4", wire.ReviewDecision{Items: []int{2}, Decision: "keep", Version: own.Version}))
	_, err := svc.Admin.DecideReview(ctx, opal, "q4", wire.ReviewDecision{Items: []int{2, 3}, Decision: "revoke", Version: own.Version})
	if fault.Of(err).Kind != fault.Stale {
		t.Errorf("opal overwrites what garnet decided meanwhile: %v", err)
	}
	if after := reviewOf(t, svc, opal, "q4"); after.List[1].Decision != "keep" || after.List[2].Decision != "" {
		t.Errorf("of a stale decision something was kept: %+v", after.List[1:3])
	}
}

// TestReviewsOfRandomPlatforms: after random changes, whoever can do something in a scope is in its review,
// with every group, role or grant of their own by which they can, as paths have it.
func TestReviewsOfRandomPlatforms(t *testing.T) {
	for seed := range uint64(3) {
		svc := demotest.Open(t, demotest.Folder(t))
		opal := caller(t, svc, "opal")
		for _, d := range deeds(rand.New(rand.NewPCG(seed, 13)), 40, false) {
			d.do(svc, opal) // some are refused
		}
		scope := []string{"survey.drilling", "survey.licensing.holders", "survey"}[seed%3]
		done(t)(svc.Admin.OpenReview(ctx, opal, wire.ReviewRequest{Name: "all", Scope: wire.ReviewScope{Objects: []string{scope}}, Due: soon}))
		items := map[string]bool{}
		for _, i := range reviewOf(t, svc, opal, "all").List {
			items[i.Subject+" by "+i.Via] = true
		}
		subjects, err := svc.Review.Subjects(opal, review.SubjectSearch{Kind: "user"})
		if err != nil {
			t.Fatal(err)
		}
		paths := 0
		for _, s := range subjects.Items {
			list, err := svc.Review.AccessOf(opal, review.AccessSearch{Of: "user:" + s.Name, Below: scope, Paths: true, Columns: true})
			if err != nil {
				continue // disabled
			}
			for _, a := range list.Items {
				for _, p := range a.Paths {
					name := "user:" + s.Name + " by "
					if len(p.Steps) > 1 {
						name += p.Steps[1]
					}
					if p.Grant.Privilege == "USAGE" && p.Grant.Object == "survey" && scope != "survey" || len(p.Steps) > 1 && p.Steps[1] == "public" {
						continue // a door above the scope, and what everybody has
					}
					if paths++; !items[name] {
						t.Errorf("seed %d: %s can by %s, and is not in the review of %s", seed, s.Name, p.Says, scope)
					}
				}
			}
		}
		if paths < 20 {
			t.Errorf("seed %d: only %d paths", seed, paths)
		}
	}
}
