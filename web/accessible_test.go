package web_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"gneiss/demo/demotest"
)

// accessiblePages are looked at by an automated check, signed in as an administrator.
var accessiblePages = []string{
	"/overview", "/tables", "/tables/survey.drilling", "/tables/survey.drilling.boreholes", "/tables/survey.drilling.boreholes?tab=columns",
	"/tables/survey.drilling.boreholes?tab=who", "/tables/survey.drilling.boreholes?tab=matrix", "/tables/survey.drilling.boreholes?tab=policies",
	"/tables/survey.drilling.boreholes?tab=grants", "/tables/survey.licensing.holders?as=user:flint&beside=user:garnet", "/labels", "/labels/columns",
	"/labels/suggestions", "/query?sql=SELECT+1", "/subjects", "/subjects/user:flint", "/subjects/user:flint?tab=why", "/roles", "/roles/role:survey_reader",
	"/policies", "/compare?a=user:flint&b=user:garnet", "/audit", "/access", "/use?of=user:garnet", "/requests?request=1", "/reviews", "/reviews/autumn-2026",
	"/settings/webhooks", "/settings", "/settings/lanes", "/settings/bundles", "/settings/sources", "/settings/roster",
}

// TestAccessible finds no page that an automated check of accessibility (axe-core) says
// anything against: light and dark, wide and narrow.
func TestAccessible(t *testing.T) {
	check, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal("npm ci installs the check: ", err)
	}
	server := demotest.Start(t)
	for _, as := range []struct {
		dark  bool
		width int64
		rules string // all are tried once; what is dark is tried for contrast, what is narrow for the rest
	}{{false, 1280, ""}, {true, 1280, ", runOnly: ['color-contrast']"}, {false, 768, ", rules: {'color-contrast': {enabled: false}}"}} {
		t.Run(fmt.Sprintf("dark %t, %d wide", as.dark, as.width), func(t *testing.T) {
			ctx, check := browser(t, as.dark), axe{string(check), as.rules}
			run(t, ctx, chromedp.EmulateViewport(as.width, 900))
			accessible(t, ctx, check, "the sign-in", chromedp.Navigate(server), chromedp.WaitVisible(`input[name=user]`, chromedp.ByQuery))
			run(t, ctx, signIn(server, "opal"))
			for _, page := range accessiblePages {
				accessible(t, ctx, check, page, chromedp.Navigate(server+page), titled, settled)
			}
			accessible(t, ctx, check, "a policy's dialog", chromedp.Navigate(server+"/policies"), button("Row policy"), chromedp.WaitVisible(`[role=dialog] input`, chromedp.ByQuery), settled)
			accessible(t, ctx, check, "a grant's dialog", chromedp.Navigate(server+"/tables/survey.field"), button("Grant"), chromedp.WaitVisible(`[role=dialog] input`, chromedp.ByQuery), settled)
			accessible(t, ctx, check, "the account's menu", chromedp.Navigate(server+"/overview"), chromedp.Click(`//button[starts-with(@aria-label, "Account")]`, chromedp.BySearch), chromedp.WaitVisible(`[role=menu]`, chromedp.ByQuery), settled)
		})
	}
}

// titled waits until the page shows a heading.
var titled = chromedp.Poll(`[...document.querySelectorAll('main h1')].some((h) => h.offsetParent)`, nil)

// settled waits until nothing is loading any more.
var settled = chromedp.Poll(`!document.querySelector('[aria-busy=true], .animate-pulse')`, nil)

// axe is the check's code, and which of its rules are tried.
type axe struct{ code, rules string }

func accessible(t *testing.T, ctx context.Context, check axe, what string, actions ...chromedp.Action) {
	t.Helper()
	var found []string
	look := chromedp.Tasks(append(actions, chromedp.Evaluate(check.code+";0", nil),
		chromedp.Evaluate(`axe.run(document, {resultTypes: ['violations']`+check.rules+`}).then(r => r.violations.flatMap(v => v.nodes.slice(0, 3).map(n => v.id + ': ' + n.target.join(' ') + ': ' + (n.any[0] ?? n.all[0] ?? n.none[0])?.message)))`,
			&found, func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) })))
	run(t, ctx, chromedp.ActionFunc(func(ctx context.Context) error {
		err := look.Do(ctx)
		if err != nil && strings.Contains(err.Error(), "Cannot find context") {
			err = look.Do(ctx) // the driver still knew the page before this one
		}
		return err
	}))
	for _, f := range found {
		t.Errorf("%s: %s", what, f)
	}
}
