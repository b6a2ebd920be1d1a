package web_test

import (
	"context"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/wire"
)

// TestReviewByKeyboard works through a review of more than 300 items: one by one, many alike at once,
// until a day, back again; then it is closed and verified.
func TestReviewByKeyboard(t *testing.T) {
	server := demotest.Start(t)
	opal := demotest.SignIn(t, server, "opal")
	var roster wire.Roster
	for i := range 300 {
		roster.Subjects = append(roster.Subjects, wire.RosterSubject{Ref: fmt.Sprintf("user:visitor%03d", i)})
		roster.Memberships = append(roster.Memberships, wire.RosterMembership{Member: fmt.Sprintf("user:visitor%03d", i), Of: "role:partner"})
	}
	must := func(_ wire.Changed, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(client.Send[wire.Changed](t.Context(), opal, "POST", "/roster", wire.RosterRequest{Roster: roster}))
	must(client.Send[wire.Changed](t.Context(), opal, "POST", "/reviews", wire.ReviewRequest{Name: "visitors", Due: time.Now().AddDate(0, 0, 9).Format(time.DateOnly),
		Scope: wire.ReviewScope{Roles: []string{"role:partner"}}}))
	decided := func(want int, decision string) chromedp.Action {
		return chromedp.ActionFunc(func(c context.Context) error {
			got := 0
			for range 100 {
				page, err := client.Get[wire.ReviewPage](c, opal, "/reviews/visitors", map[string][]string{"all": {"true"}})
				if err != nil {
					return err
				}
				got = 0
				for _, i := range page.List {
					if i.Decision == decision {
						got++
					}
				}
				if got == want {
					return nil
				}
				time.Sleep(50 * time.Millisecond)
			}
			return fmt.Errorf("%d items are decided as %q, not %d", got, decision, want)
		})
	}
	press := func(keys string) chromedp.Action { return chromedp.KeyEvent(keys) }
	ctx := browser(t, os.Getenv("DARK") != "")
	started := time.Now()
	run(t, ctx, signIn(server, "opal"), chromedp.Navigate(server+"/reviews/visitors"), sees("0 of 301 decided"))
	run(t, ctx, press("kkkkkk"), decided(6, "keep"), // each moves on to the next, and none waits
		press("r"), decided(1, "revoke"), press(kb.ArrowUp), press("z"), decided(0, "revoke"),
		press(kb.End), press("r"), decided(1, "revoke"), press(kb.Home),
		press(" "), press(" "), press(" "), press("r"), decided(4, "revoke"), // three that were kept
		press("a"), press("k"), decided(297, "keep"))
	t.Logf("decided in %s", time.Since(started).Round(time.Millisecond))
	run(t, ctx, sees("301 of 301 decided"), button("Close and sign"), sees("with 4 items to revoke or end"), inDialog("Close and sign"),
		sees("closed by user:opal"), button("Verify the signature"), sees("is what was signed by revision"))
	var printed int
	run(t, ctx, chromedp.Evaluate(`dispatchEvent(new Event("beforeprint")); document.querySelectorAll("[role=row][id]").length`, &printed))
	if printed != 301 {
		t.Errorf("%d items are printed, not 301", printed)
	}
	holders, err := client.Get[wire.SubjectPage](t.Context(), opal, "/subjects/role:partner", nil)
	if err != nil || len(holders.Members) != 297 {
		t.Errorf("%d hold the role after it, not 297 (%v)", len(holders.Members), err)
	}
	noErrors(t, ctx)
}
