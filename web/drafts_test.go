package web_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"gneiss/demo/demotest"
)

// picked chooses an option of a select by its value.
func picked(label, value string) chromedp.Action {
	return chromedp.Tasks{
		chromedp.WaitReady(`//select[@aria-label=`+quote(label)+`]/option[@value=`+quote(value)+`]`, chromedp.BySearch),
		chromedp.Evaluate(`(() => { const s = document.querySelector('select[aria-label="`+label+`"]'); s.value = '`+value+`'; s.dispatchEvent(new Event('change', {bubbles: true})) })()`, nil),
	}
}

// TestDraftsInTheConsole: an administrator opens a draft in the bar, changes something on a page, looks
// at it through the draft, reads its impact, publishes it, and takes it back from history.
func TestDraftsInTheConsole(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, os.Getenv("DARK") != "")
	look := func(name string) chromedp.Action {
		return chromedp.Tasks{chromedp.Sleep(400 * time.Millisecond), chromedp.ActionFunc(func(c context.Context) error {
			if dir := os.Getenv("LOOK"); dir != "" {
				return shoot(c, filepath.Join(dir, name+".png"))
			}
			return nil
		})}
	}
	run(t, ctx, signIn(server, "opal"),
		chromedp.Navigate(server+"/tables/survey.assay"), sees("survey.assay"),
		picked("As of", "+"),
		chromedp.SendKeys(`//*[@role="dialog"]//input[@placeholder="portal-2027"]`, "spring", chromedp.BySearch),
		chromedp.SendKeys(`//*[@role="dialog"]//input[@placeholder="partners see depths"]`, "marl samples in spring", chromedp.BySearch),
		look("open"), inDialog("Open"), sees("changes go into the draft"),
		button("Grant"), choose("Grant to", "user:marl"), chromedp.WaitVisible(`section[aria-label="What this would do"]`, chromedp.ByQuery),
		inDialog("Grant"), sees("In the draft spring"), chromedp.WaitNotPresent(`//*[@role="status"]//button[normalize-space(.)="Undo"]`, chromedp.BySearch), look("filled"),
		chromedp.Navigate(server+"/subjects/user:marl?tab=grants&draft=spring"), chromedp.WaitVisible(`[aria-label="Own grants"] tbody tr`, chromedp.ByQuery), look("through"),
		chromedp.Navigate(server+"/subjects/user:marl?tab=grants"), sees("new, with no rights yet"),
		chromedp.Sleep(300*time.Millisecond))
	if found := texts(t, ctx, `[aria-label="Own grants"] td`); strings.Contains(strings.Join(found, " "), "survey.assay") {
		t.Errorf("what is in a draft is shown as if it were in force: %v", found)
	}
	var published string
	run(t, ctx, chromedp.Navigate(server+"/drafts/spring"), sees("Who would gain and who would lose what"), sees("user:marl"), look("draft"),
		button("Publish"), chromedp.WaitVisible(`section[aria-label="What this would do"]`, chromedp.ByQuery), look("publish"), inDialog("Publish"),
		sees("published the draft spring"),
		chromedp.Navigate(server+"/history"), sees("published the draft spring of user:opal"), look("history"),
		chromedp.SendKeys(`input[aria-label="From"]`, "112", chromedp.ByQuery), button("Compare"), sees("From revision 112 to"), look("between"),
		rowOf("published the draft spring", "Undo"), chromedp.WaitVisible(`section[aria-label="What this would do"]`, chromedp.ByQuery), look("undo"), inDialog("Undo"),
		noticed("undid revision"),
		chromedp.ActionFunc(func(c context.Context) error {
			return chromedp.Evaluate(`(document.querySelector("[role=status]").innerText.match(/undid revision (\d+)/i) || ["", ""])[1]`, &published).Do(c)
		}),
	)
	run(t, ctx, chromedp.Navigate(server+"/subjects/user:marl?tab=history&at="+published), sees("granted USAGE"), sees("Grants 4 + 0"), look("past"))
	noErrors(t, ctx)
}

// rowOf clicks a button in the item of a list that has a text.
func rowOf(text, label string) chromedp.Action {
	return chromedp.Click(`//li[contains(., `+quote(text)+`)]//button[starts-with(normalize-space(.), `+quote(label)+`)]`, chromedp.BySearch, chromedp.NodeVisible)
}
