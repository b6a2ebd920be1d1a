package web_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/wire"
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

// TestFormsDoNotOverwrite: what somebody has changed since a form was opened stays as they left it.
func TestFormsDoNotOverwrite(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	opal := demotest.SignIn(t, server, "opal")
	change := func(method, path string, body any) {
		t.Helper()
		if _, err := client.Send[wire.Changed](t.Context(), opal, method, path, body); err != nil {
			t.Fatal(err)
		}
	}
	policies := func() map[string]wire.Policy {
		t.Helper()
		list, err := client.Get[wire.List[wire.Policy]](t.Context(), opal, "/policies", nil)
		if err != nil {
			t.Fatal(err)
		}
		by := map[string]wire.Policy{}
		for _, p := range list.Items {
			by[p.Name] = p
		}
		return by
	}
	const name = "holder-contact"
	described := chromedp.Evaluate(`(() => {
		const input = [...document.querySelectorAll("[role=dialog] label")].find((l) => l.textContent.includes("Description")).querySelector("input")
		input.value = "of the form"
		input.dispatchEvent(new Event("input", {bubbles: true}))
	})()`, nil)
	was := policies()[name]
	run(t, ctx, signIn(server, "opal"), chromedp.Navigate(server+"/policies?name="+name), sees("Column policy "+name), described)
	other := was
	other.Comment = "of somebody else"
	change("POST", "/policies", wire.PolicyRequest{Policy: other, Replace: true})
	change("PATCH", "/subjects/user:flint", wire.SubjectRequest{Subject: "user:flint", Attributes: map[string][]string{"rank": {"7"}}})
	run(t, ctx, inDialog("Save"), sees("Somebody has changed "+name))
	if now := policies()[name]; now.Comment != other.Comment {
		t.Errorf("the form has overwritten it: %q", now.Comment)
	}

	// What others change elsewhere is no reason to refuse.
	run(t, ctx, inDialog("Cancel"), chromedp.Navigate(server+"/policies?name="+name), sees("Column policy "+name), described)
	change("PATCH", "/subjects/user:flint", wire.SubjectRequest{Subject: "user:flint", Attributes: map[string][]string{"rank": {"8"}}})
	run(t, ctx, inDialog("Save"), noticed("the column policy "+name))
	if now := policies()[name]; now.Comment != "of the form" {
		t.Errorf("it is not saved: %q", now.Comment)
	}
}
