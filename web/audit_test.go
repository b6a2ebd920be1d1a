package web_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/wire"
)

// TestAuditInTheConsole narrows the record by what the chart counts, follows it while somebody asks, and finds
// the matrix beside a standpoint.
func TestAuditInTheConsole(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	by := func(name string) chromedp.Action {
		return chromedp.Click(`//section[@aria-label="Sensitive access"]//button[@role="tab"][normalize-space(.)="`+name+`"]`, chromedp.BySearch)
	}
	counted := func(name string) chromedp.Action {
		return chromedp.Click(`//section[@aria-label="Sensitive access"]//button[contains(., "`+name+`")]`, chromedp.BySearch)
	}
	run(t, ctx, signIn(server, "opal"), chromedp.Navigate(server+"/audit"), sees("What stands out"), by("Table"), counted("survey.licensing.payments"),
		chromedp.WaitVisible(`//button[contains(., "of survey.licensing.payments")]`, chromedp.BySearch), sees("sum(amount)"))
	if got := strings.Join(texts(t, ctx, `[aria-label=Records] tbody`), " "); !strings.Contains(got, "user:garnet") || strings.Contains(got, "user:flint") {
		t.Errorf("of payments it has %.300s", got)
	}
	var links []string
	run(t, ctx, chromedp.Evaluate(`[...document.querySelectorAll('a[download]')].map((a) => a.getAttribute('href'))`, &links))
	if len(links) != 2 || !strings.Contains(links[0], "object=survey.licensing.payments") || !strings.Contains(links[0], "format=csv") {
		t.Errorf("it is exported by %v", links)
	}
	run(t, ctx, button("Clear"), by("Role"), counted("role:regional_lead"), chromedp.WaitVisible(`//button[contains(., "by role:regional_lead")]`, chromedp.BySearch),
		button("Clear"), chromedp.Click(`//label[contains(., "follow")]`, chromedp.BySearch), chromedp.WaitVisible(`//label[contains(., "follow")]/input`, chromedp.BySearch))
	flint := demotest.SignIn(t, server, "flint")
	for _, text := range []string{"SELECT 'heard once'", "SELECT 'heard twice'"} {
		if _, err := client.Send[wire.Result](t.Context(), flint, "POST", "/queries", wire.QueryRequest{SQL: text}); err != nil {
			t.Fatal(err)
		}
		run(t, ctx, sees(strings.Trim(strings.TrimPrefix(text, "SELECT "), "'")))
	}
	run(t, ctx, chromedp.Navigate(server+"/access?beside=user:garnet"), chromedp.WaitVisible(`td.lit`, chromedp.ByQuery))
}
