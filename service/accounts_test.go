package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

// race calls f n times at once and returns the errors.
func race(n int, f func(i int) error) []error {
	errs := make([]error, n)
	var ready, done sync.WaitGroup
	ready.Add(1)
	for i := range n {
		done.Go(func() {
			ready.Wait()
			errs[i] = f(i)
		})
	}
	ready.Done()
	done.Wait()
	return errs
}

func passed(t testing.TB, errs []error) (n int) {
	t.Helper()
	for _, err := range errs {
		if err == nil {
			n++
		}
	}
	return n
}

// bearing is a caller with the secret of a token.
func bearing(t testing.TB, svc interface {
	Authenticate(ctx context.Context, secret, address string) (identity.Caller, error)
}, secret string) identity.Caller {
	t.Helper()
	c, err := svc.Authenticate(ctx, secret, "test")
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// TestTokensDoNotBecomeTheirAccount: a token sets no password, and makes no token that lasts
// longer than it, or that is a person's who is not its own.
func TestTokensDoNotBecomeTheirAccount(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, _ := signed(t, svc, "opal", "northmark")
	until := time.Now().Add(24 * time.Hour)
	short, err := svc.Identity.NewToken(ctx, opal, wire.TokenRequest{Name: "short", Expires: &until})
	if err != nil {
		t.Fatal(err)
	}
	by := bearing(t, svc.Identity, short.Secret)
	_, err = svc.Identity.ChangePassword(ctx, by, wire.PasswordRequest{Old: "northmark", New: "stolen for good"})
	wants(t, err, fault.Refused, "a token cannot set a password")
	_, err = svc.Identity.SetOwnPassword(ctx, by, "", "stolen for good")
	wants(t, err, fault.Refused, "a token cannot set a password")
	_, err = svc.Identity.SetOwnPassword(ctx, opal, "", "stolen for good")
	wants(t, err, fault.Refused, "a token cannot set a password")
	later := time.Now().Add(300 * 24 * time.Hour)
	for _, who := range []string{"", "service:pumice"} {
		made, err := svc.Identity.NewToken(ctx, by, wire.TokenRequest{Name: "longer", Subject: who, Expires: &later})
		if err != nil || made.Token.Expires.After(until) {
			t.Errorf("for %q: until %v, %v", who, made.Token.Expires, err)
		}
	}
	for _, c := range []identity.Caller{opal, by} {
		_, err = svc.Identity.NewToken(ctx, c, wire.TokenRequest{Name: "theirs", Subject: "user:flint"})
		wants(t, err, fault.Refused, "is a person, who alone")
	}
}

// TestGivenPasswordsDoNotCount: a password that an administrator has set opens nothing until its
// owner has chosen another.
func TestGivenPasswordsDoNotCount(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, _ := signed(t, svc, "opal", "northmark")
	out, err := svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:flint", Password: "from the office"}, true)
	if err != nil || !strings.Contains(fmt.Sprint(out.Notes), "chooses their own password") {
		t.Fatal(out.Notes, err)
	}
	in := wire.SignIn{User: "flint", Password: "from the office"}
	_, _, err = svc.Identity.SignIn(ctx, in, "test", "test")
	wants(t, err, fault.NotSignedIn, "choose your own")
	for text, says := range map[string]string{"short": "at least 8", "from the office": "is the old one", strings.Repeat("x", 2000): "up to 1024"} {
		in.NewPassword = text
		_, _, err = svc.Identity.SignIn(ctx, in, "test", "test")
		wants(t, err, fault.Invalid, says)
	}
	in.NewPassword = "known to flint alone"
	if _, _, err := svc.Identity.SignIn(ctx, in, "test", "test"); err != nil {
		t.Fatal(err)
	}
	signed(t, svc, "flint", "known to flint alone")
	_, _, err = svc.Identity.SignIn(ctx, wire.SignIn{User: "flint", Password: "from the office"}, "test", "test")
	wants(t, err, fault.NotSignedIn, "is wrong")
	// A service's counts, and so does one's own; too long a one is refused before it locks the account.
	for ref, password := range map[string]string{"service:pumice": "for a machine", "user:opal": "opal's own one"} {
		if _, err := svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: ref, Password: password}, true); err != nil {
			t.Fatal(err)
		}
		signed(t, svc, strings.TrimPrefix(ref, "user:"), password)
	}
	_, err = svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:flint", Password: strings.Repeat("x", 1025)}, true)
	wants(t, err, fault.Invalid, "up to 1024 bytes")
}

// TestGuessesAtOnceWait: many guesses at once are as slow as one after the other, and many who are
// right at once all come in.
func TestGuessesAtOnceWait(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	guessed := race(60, func(int) error {
		_, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "marl", Password: "a guess", Token: true}, "203.0.113.1", "test")
		return err
	})
	tried := 0
	for _, err := range guessed {
		if p := fault.Of(err); p.Code == "wrong_password" {
			tried++
		} else if p.Kind != fault.TooMany || p.Wait <= 0 {
			t.Errorf("a guess comes to %v", err)
		}
	}
	if tried > 10 {
		t.Errorf("%d guesses at once were looked at", tried)
	}
	right := race(20, func(int) error {
		_, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "flint", Password: "northmark", Token: true}, "203.0.113.2", "test")
		return err
	})
	if n := passed(t, right); n != 20 {
		t.Errorf("%d of 20 who are right come in: %v", n, right)
	}
}

// TestBoundsHoldAtOnce: no bound of an account is crossed by sixty at once.
func TestBoundsHoldAtOnce(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	flint, opal := caller(t, svc, "flint"), caller(t, svc, "opal")
	webhook := func(name string) error {
		_, err := svc.Admin.PutWebhook(ctx, opal, wire.WebhookRequest{Name: name, URL: "http://127.0.0.1:9/", Topics: []string{"draft"}})
		return err
	}
	for _, c := range []struct {
		name string
		most int
		make func(i int) error
	}{
		{"drafts", 20, func(i int) error {
			_, err := svc.Admin.OpenDraft(ctx, flint, wire.DraftRequest{Name: fmt.Sprint("d", i)})
			return err
		}},
		{"requests", 20, func(i int) error {
			_, err := svc.Admin.Ask(ctx, flint, wire.AccessRequest{Privilege: "SELECT", Object: fmt.Sprint("survey.assay.t", i), Reason: "work"})
			return err
		}},
		{"webhooks of a name", 1, func(int) error { return webhook("one") }},
		{"webhooks", 49, func(i int) error { return webhook(fmt.Sprint("w", i)) }},
		{"reviews", 50, func(i int) error {
			_, err := svc.Admin.OpenReview(ctx, opal, wire.ReviewRequest{Name: fmt.Sprint("r", i), Scope: wire.ReviewScope{Subjects: []string{"user:flint"}},
				Due: time.Now().AddDate(0, 1, 0).Format(time.DateOnly)})
			return err
		}},
		{"tokens of a name", 1, func(int) error {
			_, err := svc.Identity.NewToken(ctx, flint, wire.TokenRequest{Name: "one"})
			return err
		}},
	} {
		all := race(60, c.make)
		if n := passed(t, all); n > c.most || n == 0 {
			t.Errorf("%d %s were made, of %d: %v", n, c.name, c.most, all[0])
		}
	}
}

// TestNobodyReviewsThemself: what somebody has is kept by somebody else.
func TestNobodyReviewsThemself(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	due := time.Now().AddDate(0, 1, 0).Format(time.DateOnly)
	if _, err := svc.Admin.OpenReview(ctx, opal, wire.ReviewRequest{Name: "own", Due: due, Scope: wire.ReviewScope{Subjects: []string{"user:flint"}}, Reviewer: "user:flint"}); err != nil {
		t.Fatal(err)
	}
	page, err := svc.Review.Review(ctx, flint, "own", "", false)
	if err != nil || len(page.List) == 0 {
		t.Fatal(err)
	}
	own := 0
	for _, item := range page.List {
		if item.Subject == "user:flint" {
			own = item.Number
		}
	}
	for _, in := range []wire.ReviewDecision{{Items: []int{own}, Decision: "keep"}, {Items: []int{own}, Decision: "until", Until: due}} {
		_, err = svc.Admin.DecideReview(ctx, flint, "own", in)
		wants(t, err, fault.Refused, "about your own rights")
	}
	if _, err = svc.Admin.DecideReview(ctx, flint, "own", wire.ReviewDecision{Items: []int{own}, Decision: "revoke"}); err != nil {
		t.Error(err)
	}
}

// TestWhoElseHasARole: who does not review the platform is not told who else has a role or a group.
func TestWhoElseHasARole(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	flint, opal := caller(t, svc, "flint"), caller(t, svc, "opal")
	list, err := svc.Review.Subjects(flint, review.SubjectSearch{})
	if err != nil || len(list.Items) < 3 {
		t.Fatal(list.Items, err)
	}
	for _, s := range list.Items {
		if s.Ref != "user:flint" && s.Ref != "public" && (len(s.Members) > 0 || s.Holders > 0) {
			t.Errorf("flint is told of %s: %v, %d", s.Ref, s.Members, s.Holders)
		}
	}
	page, err := svc.Review.Subject(opal, "role:survey_reader")
	if err != nil || len(page.Members) == 0 {
		t.Errorf("opal sees %v, %v", page.Members, err)
	}
}

// TestGrantorsAreNotMadeUp: what somebody puts into a draft is granted by them, whoever it names.
func TestGrantorsAreNotMadeUp(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	done(t)(svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "mine"}))
	into, err := svc.Identity.Drafting(ctx, opal, "mine")
	if err != nil {
		t.Fatal(err)
	}
	done(t)(svc.Admin.Grant(ctx, into, wire.GrantRequest{Privileges: []string{"SELECT"}, Objects: []string{"survey.assay"}, Subjects: []string{"user:marl"}}, false))
	out, err := svc.Admin.ExportDraft(ctx, opal, "mine")
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(out.Steps)
	if err != nil {
		t.Fatal(err)
	}
	forged := strings.ReplaceAll(string(text), "user:opal", "user:flint")
	var steps []wire.DraftStepText
	if err := json.Unmarshal([]byte(forged), &steps); err != nil || !strings.Contains(forged, "user:flint") {
		t.Fatal(forged, err)
	}
	done(t)(svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "forged", Steps: steps}))
	done(t)(svc.Admin.PublishDraft(ctx, opal, "forged", wire.Change{}))
	page, err := svc.Review.Subject(opal, "user:marl")
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range page.Own {
		if g.Object == "survey.assay" && g.Grantor != "user:opal" {
			t.Errorf("it is granted by %s", g.Grantor)
		}
	}
}
