package web_test

import (
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"

	"gneiss/demo/demotest"
)

// rewrite puts another text in the place of a view's.
func rewrite(text string) chromedp.Action {
	return chromedp.Evaluate(`(() => { const e = document.querySelector('textarea[name=text]'); e.value = `+strconv.Quote(text)+`; e.dispatchEvent(new Event('input', { bubbles: true })) })()`, nil)
}

// TestViews makes a view in the console, reads it, looks at it as somebody else,
// changes its text and takes it away.
func TestViews(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	tab := func(name string) chromedp.Action {
		return chromedp.Click(`//button[@role="tab"][starts-with(normalize-space(.), "`+name+`")]`, chromedp.BySearch)
	}
	run(t, ctx, signIn(server, "opal"), chromedp.Navigate(server+"/tables/survey.drilling"), button("View"),
		chromedp.SendKeys(`input[name=name]`, "deep", chromedp.ByQuery),
		chromedp.SendKeys(`textarea[name=text]`, "SELECT * FROM drilling.boreholes", chromedp.ByQuery), sees("write them in the place of *"),
		rewrite("SELECT id, district, cost FROM drilling.boreholes WHERE depth_m > 500"),
		chromedp.WaitVisible(`//section[@aria-label="What this would do"][contains(., "user:flint")]`, chromedp.BySearch),
		inDialog("Create"), noticed("made the view survey.drilling.deep"),
		chromedp.WaitVisible(`//h1[.="survey.drilling.deep"]`, chromedp.BySearch), chromedp.WaitVisible(`[data-testid=rows] td`, chromedp.ByQuery),
		tab("Text"), sees("with the rights of its owner"), chromedp.WaitVisible(`//pre[@data-testid="view-text"][contains(., "depth_m > 500")]`, chromedp.BySearch),
		chromedp.Navigate(server+"/tables/survey.drilling.boreholes"), sees("also read through"),
		// Costs are blank to a geologist, in the view as in the table.
		chromedp.Navigate(server+"/tables/survey.drilling.deep?as=user:flint&beside=user:chert"), chromedp.WaitVisible(`[data-testid=rows] td`, chromedp.ByQuery), sees("∅"),
		chromedp.Navigate(server+"/tables/survey.drilling.deep?tab=text"), button("Change the text"),
		chromedp.WaitVisible(`textarea[name=text]`, chromedp.ByQuery), rewrite("SELECT id FROM drilling.boreholes WHERE depth_m > 600"),
		inDialog("Replace"), noticed("replaced the view survey.drilling.deep"),
		chromedp.Navigate(server+"/tables/survey.drilling.deep?tab=text"), chromedp.WaitVisible(`//pre[@data-testid="view-text"][contains(., "depth_m > 600")]`, chromedp.BySearch),
		button("Remove it"), inDialog("Remove it"), noticed("removed the view survey.drilling.deep"),
		chromedp.WaitVisible(`//h1[.="survey.drilling"]`, chromedp.BySearch))
}

// TestVerifying checks both chains from the audit page.
func TestVerifying(t *testing.T) {
	ctx := browser(t, false)
	server := demotest.Start(t)
	run(t, ctx, signIn(server, "agate"), chromedp.Navigate(server+"/audit"), sees("R-"), verified)
}
