package web_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"gneiss/demo/demotest"
)

// change makes a select take a value, as a person does.
func change(label, value string) chromedp.Action {
	query := `select[aria-label="` + label + `"]`
	return chromedp.Tasks{chromedp.SetValue(query, value, chromedp.ByQuery),
		chromedp.Evaluate("document.querySelector('"+query+"').dispatchEvent(new Event('change', {bubbles: true}))", nil)}
}

// TestPolicies writes a policy in words, sees the condition follow, changes the
// condition, sees the words follow, and tries a draft before it is published.
func TestPolicies(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	var rule string
	run(t, ctx, signIn(server, "opal"), link("Policies"), sees("Rows of survey.assay.samples are shown to everyone where their row of survey.drilling.boreholes is there"),
		button("Row policy"), chromedp.SendKeys(`input[name=on]`, "survey.monitoring.wells", chromedp.ByQuery), chromedp.Evaluate(`document.querySelector('input[name=on]').dispatchEvent(new Event('change', {bubbles: true}))`, nil),
		chromedp.SendKeys(`input[name=name]`, "wells-of-districts", chromedp.ByQuery), change("Column", "district"),
		chromedp.WaitVisible(`//section[@aria-label="Live counts"]//tr[contains(., "user:flint")][contains(., "▼")][contains(., "60")]`, chromedp.BySearch),
		button("In SQL"), chromedp.Value(`textarea`, &rule, chromedp.ByQuery))
	if rule != "district IN (attribute('districts'))" {
		t.Errorf("the words make the condition %q", rule)
	}
	var compared string
	run(t, ctx, chromedp.Evaluate(`(() => { const t = document.querySelector("textarea"); t.value = "in_group(district)"; t.dispatchEvent(new Event("input", {bubbles: true})) })()`, nil),
		chromedp.WaitVisible(`//section[@aria-label="Live counts"]//p[contains(., "one of the reader's groups")]`, chromedp.BySearch),
		button("In words"), chromedp.Value(`select[aria-label="Compared with"]`, &compared, chromedp.ByQuery), button("In SQL"))
	if compared != "group" {
		t.Errorf("the condition makes the words %q", compared)
	}
	run(t, ctx, chromedp.SendKeys(`textarea`, " AND depth_m > 20", chromedp.ByQuery), sees("Only SQL can say this condition"),
		chromedp.Click(`//label[contains(., "Keep it as a draft")]/input`, chromedp.BySearch), inDialog("Save draft"), noticed("added the row policy wells-of-districts"))

	// A draft takes no effect; what it would do is shown before it is published.
	run(t, ctx, chromedp.Navigate(server+"/policies?status=draft"), chromedp.Click(`//li[contains(., "wells-of-districts")]//button[normalize-space(.)="Try"]`, chromedp.BySearch, chromedp.NodeVisible),
		chromedp.WaitVisible(`//section[@aria-label="Live counts"]//tr[contains(., "user:flint")][contains(., "300")]`, chromedp.BySearch), button("Publish …"), inDialog("Publish"), noticed("published the policy wells-of-districts"),
		chromedp.Navigate(server+"/tables/survey.monitoring.wells?tab=matrix"), chromedp.WaitVisible(`//tr[contains(., "user:flint")]`, chromedp.BySearch))
	if rows := strings.Join(texts(t, ctx, `main tbody tr`), "|"); strings.Contains(rows, "user:flint\t300") || !strings.Contains(rows, "user:flint") {
		t.Errorf("the matrix after publishing: %s", rows)
	}
}

// TestLabels accepts a suggestion, writes a policy on the label and sees the
// column treated.
func TestLabels(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	run(t, ctx, signIn(server, "opal"), link("Labels"), sees("label:finance"), chromedp.Click(`//button[@role="tab"][normalize-space(.)="Suggestions"]`, chromedp.BySearch),
		rowButton("survey.drilling.boreholes.latitude", "Accept"), inDialog("Accept"), noticed("put label:position on survey.drilling.boreholes.latitude"),
		rowButton("survey.licensing.holders.tax_number", "Dismiss"), noticed("dismissed identity for survey.licensing.holders.tax_number"),
		chromedp.WaitNotPresent(`//td[contains(., "tax_number")]`, chromedp.BySearch),
		chromedp.Click(`//button[@role="tab"][normalize-space(.)="Labels"]`, chromedp.BySearch), rowButton("label:position", "Policy"),
		chromedp.SendKeys(`input[name=name]`, "positions", chromedp.ByQuery), change("Treatment", "suppress"),
		chromedp.WaitVisible(`//section[@aria-label="Live counts"]//td[contains(., "user:flint")][contains(., "latitude suppressed")]`, chromedp.BySearch),
		inDialog("Publish"), noticed("added the column policy positions"), sees("positions"),
		chromedp.Navigate(server+"/labels/columns?uncovered=true"), sees("survey.licensing.payments.amount"),
		chromedp.Navigate(server+"/tables/survey.drilling.boreholes?tab=columns&as=user:flint"), chromedp.WaitVisible(`//tr[contains(., "latitude")][contains(., "suppress")]`, chromedp.BySearch))
}
