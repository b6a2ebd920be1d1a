package web_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/wire"
)

// button clicks the button with the text, once it is there.
func button(text string) chromedp.Action {
	return chromedp.Click(`//button[starts-with(normalize-space(.), `+quote(text)+`) and not(@disabled)]`, chromedp.BySearch, chromedp.NodeVisible)
}

// inDialog clicks a button of the open dialog.
func inDialog(text string) chromedp.Action {
	return chromedp.Click(`//*[@role="dialog"]//button[normalize-space(.)=`+quote(text)+` and not(@disabled)]`, chromedp.BySearch, chromedp.NodeVisible)
}

// choose types into a picker of subjects and takes the one offered.
func choose(label, ref string) chromedp.Tasks {
	input := `input[aria-label="` + label + `"]`
	return chromedp.Tasks{
		chromedp.Click(input, chromedp.ByQuery, chromedp.NodeVisible),
		chromedp.SendKeys(input, ref, chromedp.ByQuery),
		take(ref),
	}
}

// take clicks an option until its list is gone: the list can be drawn again, with other
// subjects, between the mouse's way down and up.
func take(ref string) chromedp.Action {
	option := `//*[@role="option"][contains(., ` + quote(ref) + `)]`
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for {
			if err := chromedp.Click(option, chromedp.BySearch, chromedp.NodeVisible).Do(ctx); err != nil {
				return err
			}
			if err := chromedp.Sleep(200 * time.Millisecond).Do(ctx); err != nil {
				return err
			}
			var open bool
			if err := chromedp.Evaluate(`!!document.querySelector('[role=option]')`, &open).Do(ctx); err != nil || !open {
				return err
			}
		}
	})
}

func link(text string) chromedp.Action {
	return chromedp.Click(`//a[normalize-space(.)=`+quote(text)+`]`, chromedp.BySearch, chromedp.NodeVisible)
}

// treeItem opens what is called so in the tree of tables.
func treeItem(name string) chromedp.Action {
	return chromedp.Click(`//*[@role="tree"]//a[span[normalize-space(.)=`+quote(name)+`]]`, chromedp.BySearch, chromedp.NodeVisible)
}

func noticed(text string) chromedp.Action {
	return chromedp.WaitVisible(`//*[@role="status"]//p[contains(normalize-space(.), `+quote(text)+`)]`, chromedp.BySearch)
}

// texts returns the text of every element that a selector finds.
func texts(t *testing.T, ctx context.Context, selector string) []string {
	t.Helper()
	var out []string
	run(t, ctx, chromedp.Evaluate(`[...document.querySelectorAll(`+"`"+selector+"`"+`)].map((e) => e.innerText.trim())`, &out))
	return out
}

// TestStory does what an administrator does first, by clicking and typing: make
// a role, grant it, write a row policy and a column policy, view as another
// user beside the own view, find out why somebody is refused and mend it. Then
// the other user's own query gives exactly what was shown.
func TestStory(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	run(t, ctx, signIn(server, "opal"))

	// Look round.
	run(t, ctx, sees("SELECT on survey.licensing.payments to role:lab_analyst has no effect"), link("Tables"), treeItem("field"), treeItem("visits"), sees("survey.field.visits"), chromedp.WaitVisible(`[data-testid=rows] td`, chromedp.ByQuery))

	// A role, given to marl.
	run(t, ctx, link("Roles"), button("Add"), chromedp.SendKeys(`input[name=name]`, "core_archivist", chromedp.ByQuery), inDialog("Add"), noticed("added role:core_archivist"))
	run(t, ctx, chromedp.WaitVisible(`//h1[normalize-space(.)="core_archivist"]`, chromedp.BySearch), button("Add member …"), choose("Members", "user:marl"), inDialog("Add"), noticed("granted role:core_archivist to user:marl"))

	// A grant on the table, doors included; its effect is shown first.
	run(t, ctx, link("Tables"), treeItem("field"), treeItem("visits"), sees("survey.field.visits"), button("Grant"), choose("Grant to", "role:core_archivist"),
		chromedp.WaitVisible(`//section[@aria-label="What this would do"]//*[contains(., "user:marl")]`, chromedp.BySearch), inDialog("Grant"), noticed("granted SELECT on survey.field.visits to role:core_archivist"))

	// A row policy, with live counts while typing.
	run(t, ctx, button("Row policy"), chromedp.SendKeys(`//*[@role="dialog"]//input[@placeholder="boreholes-of-districts"]`, "visits-of-crew-one", chromedp.BySearch),
		choose("For", "role:core_archivist"), button("In SQL"), chromedp.SendKeys(`textarea`, "crew_id = 1", chromedp.ByQuery),
		chromedp.WaitVisible(`//section[@aria-label="Live counts"]//tr[contains(., "user:marl")][contains(., "▼")]`, chromedp.BySearch), inDialog("Publish"), noticed("added the row policy visits-of-crew-one"))

	// A column policy: notes masked for the role.
	run(t, ctx, button("Column policy"), chromedp.SendKeys(`//*[@role="dialog"]//input[@placeholder="holder-contacts"]`, "visit-notes", chromedp.BySearch),
		chromedp.Click(`//*[@role="dialog"]//label[normalize-space(.)="note"]/input`, chromedp.BySearch), chromedp.SetValue(`//select[@aria-label="Treatment"]`, "mask", chromedp.BySearch),
		chromedp.Evaluate(`document.querySelector('select[aria-label=Treatment]').dispatchEvent(new Event('change', {bubbles: true}))`, nil),
		choose("For", "role:core_archivist"), chromedp.WaitVisible(`//section[@aria-label="Live counts"]//td[contains(., "user:marl")][contains(., "note masked")]`, chromedp.BySearch), inDialog("Publish"), noticed("added the column policy visit-notes"))

	// View as marl, compared with oneself.
	run(t, ctx, choose("View as", "user:marl"), sees("Back to yourself"), choose("Compare with", "user:opal"), sees("only what differs"),
		chromedp.WaitVisible(`//*[@data-testid="rows"]//th[contains(., "mask")]`, chromedp.BySearch))
	var address string
	run(t, ctx, chromedp.Location(&address))
	if !strings.Contains(address, "as=user%3Amarl") || !strings.Contains(address, "beside=user%3Aopal") {
		t.Errorf("the standpoint is not in the address: %s", address)
	}
	shown := texts(t, ctx, `[data-testid=rows] tr`)
	if !strings.Contains(strings.Join(shown, "\n"), "not there") {
		t.Errorf("rows that marl does not see are not marked:\n%s", strings.Join(shown[:min(8, len(shown))], "\n"))
	}
	marlSees := texts(t, ctx, `main span.text-muted`)
	run(t, ctx, chromedp.KeyEvent("x"), chromedp.WaitNotPresent(`//button[contains(., "Back to yourself")]`, chromedp.BySearch))

	// Why is beryl refused? One click mends it, one undoes it.
	run(t, ctx, link("Subjects"), chromedp.Click(`//a[contains(@href, "/subjects/user:beryl")]`, chromedp.BySearch, chromedp.NodeVisible),
		chromedp.Click(`//button[@role="tab"][normalize-space(.)="Why"]`, chromedp.BySearch, chromedp.NodeVisible),
		chromedp.SendKeys(`input[aria-label=Object]`, "survey.licensing.payments"+kb.Enter, chromedp.ByQuery), sees("⊘ no"),
		chromedp.Click(`//section[@aria-label="Answer"]//li[1]/button`, chromedp.BySearch, chromedp.NodeVisible), inDialog("Grant"), sees("● yes"),
		noticed("granted USAGE on survey.licensing to role:lab_analyst"), chromedp.Click(`(//*[@role="status"]//button[normalize-space(.)="Undo"])[last()]`, chromedp.BySearch), noticed("revoked USAGE on survey.licensing from role:lab_analyst"))

	// What marl's own query gives is what was shown.
	run(t, ctx, signOut, chromedp.WaitVisible(`input[name=user]`, chromedp.ByQuery), signIn(server, "marl"), link("Query"),
		chromedp.Click(`.cm-content`, chromedp.ByQuery, chromedp.NodeVisible), chromedp.KeyEvent("a", chromedp.KeyModifiers(2)), chromedp.KeyEvent(kb.Delete))
	sql := "SELECT count(*) AS n, count(DISTINCT crew_id) AS crews, min(note) AS note FROM survey.field.visits"
	run(t, ctx, chromedp.SendKeys(`.cm-content`, sql, chromedp.ByQuery), chromedp.KeyEvent(kb.Escape), button("Run"), chromedp.WaitVisible(`[data-testid=result] td`, chromedp.ByQuery))
	got := texts(t, ctx, `[data-testid=result] td`)
	if len(got) != 3 || got[1] != "1" || strings.Trim(got[2], "*") != "" {
		t.Fatalf("marl's query gives %v, want one crew and masked notes", got)
	}
	if !strings.Contains(strings.Join(marlSees, "|"), got[0]+" rows") {
		t.Errorf("marl counts %s rows; the preview said %v", got[0], marlSees)
	}
	result, err := client.Send[wire.Result](context.Background(), demotest.SignIn(t, server, "marl"), "POST", "/queries", wire.QueryRequest{SQL: sql})
	if err != nil || fmt.Sprint(result.Rows[0][0]) != got[0] {
		t.Errorf("the API gives marl %v, %v; the console showed %s", result.Rows, err, got[0])
	}
	// marl is no administrator: no standpoints, no buttons for changes.
	var pickers int
	run(t, ctx, link("Tables"), treeItem("field"), treeItem("visits"), sees("survey.field.visits"),
		chromedp.Evaluate(`document.querySelectorAll('input[aria-label="View as"], main button.btn-main').length`, &pickers))
	if pickers != 0 {
		t.Errorf("marl is offered %d controls of an administrator", pickers)
	}
}

// TestLive has another make a change: the page shows it without being loaded again.
func TestLive(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	run(t, ctx, signIn(server, "opal"), link("Roles"), sees("district_geologist"), chromedp.Sleep(300*time.Millisecond))
	if _, err := client.Send[wire.Changed](t.Context(), demotest.SignIn(t, server, "opal"), "POST", "/subjects", wire.SubjectRequest{Subject: "role:made_elsewhere"}); err != nil {
		t.Fatal(err)
	}
	run(t, ctx, sees("made_elsewhere"))
}

// TestFirstSteps follows the list of a new platform: a step that is taken is marked.
func TestFirstSteps(t *testing.T) {
	server := demotest.StartEmpty(t)
	ctx := browser(t, false)
	done := func(step string) chromedp.Action {
		return chromedp.WaitVisible(`//section[@aria-label="First steps"]//li[contains(., "`+step+`")][contains(., "done")]`, chromedp.BySearch)
	}
	run(t, ctx, signIn(server, "opal"), sees("First steps"), sees("a folder of SQLite files, or a PostgreSQL database"))
	if got := strings.Join(texts(t, ctx, `section[aria-label="First steps"] li`), "|"); strings.Contains(got, "done") || strings.Count(got, "|") != 6 {
		t.Errorf("on an empty platform: %s", got)
	}
	opal := demotest.SignIn(t, server, "opal")
	for _, subject := range []string{"user:flint", "role:reader"} {
		if _, err := client.Send[wire.Changed](t.Context(), opal, "POST", "/subjects", wire.SubjectRequest{Subject: subject}); err != nil {
			t.Fatal(err)
		}
	}
	run(t, ctx, done("Add people"), done("Make a role"))
	if _, err := client.Send[wire.Changed](t.Context(), opal, "POST", "/memberships", wire.Member{Member: "user:flint", Of: "role:reader"}); err != nil {
		t.Fatal(err)
	}
	run(t, ctx, done("Give it to somebody"))
	// The demo is past them.
	run(t, ctx, chromedp.Navigate(demotest.Start(t)), chromedp.SendKeys(`input[name=user]`, "opal", chromedp.ByQuery), chromedp.SendKeys(`input[name=password]`, "northmark\n", chromedp.ByQuery),
		sees("Findings"), sees("can't enter survey.licensing"), chromedp.WaitNotPresent(`section[aria-label="First steps"]`, chromedp.ByQuery))
}

// TestKeys reaches the console by keyboard alone.
func TestKeys(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, true)
	run(t, ctx, signIn(server, "opal"), chromedp.KeyEvent("t"), treeItem("assay"))
	run(t, ctx, chromedp.KeyEvent("/"), chromedp.WaitVisible(`input[aria-label="Search for"]`, chromedp.ByQuery),
		chromedp.SendKeys(`input[aria-label="Search for"]`, "results", chromedp.ByQuery), sees("survey.assay.results"), chromedp.KeyEvent(kb.Enter), chromedp.WaitVisible(`[data-testid=rows] td`, chromedp.ByQuery))
	run(t, ctx, chromedp.KeyEvent("?"), sees("back to your own view"), chromedp.KeyEvent(kb.Escape), chromedp.WaitNotPresent(`[role=dialog]`, chromedp.ByQuery))
	run(t, ctx, chromedp.KeyEvent("a"), sees("R-5"), chromedp.KeyEvent("r"), sees("district_geologist"))
	run(t, ctx, chromedp.KeyEvent("c"), choose("First", "user:flint"), choose("Second", "user:jasper"), sees("They differ on 5 objects"), sees("for north"))
	// The graph of roles leads to each, and lights what the chosen one reaches.
	run(t, ctx, chromedp.KeyEvent("r"), chromedp.Click(`//*[@data-testid="graph"]//*[local-name()="a"][contains(@href, "/roles/role:regional_lead")]`, chromedp.BySearch, chromedp.NodeVisible),
		chromedp.Click(`//button[@role="tab"][normalize-space(.)="Hierarchy"]`, chromedp.BySearch, chromedp.NodeVisible), chromedp.WaitVisible(`[data-testid=graph] path[stroke="var(--garnet)"]`, chromedp.ByQuery))
	var fits bool
	for _, page := range []string{"/tables/survey.drilling.boreholes", "/roles/role:regional_lead", "/audit", "/access", "/use?of=user:garnet", "/reviews/autumn-2026", "/requests?request=1", "/policies", "/labels", "/labels/suggestions", "/query", "/overview", "/compare?a=user:flint&b=user:garnet"} {
		run(t, ctx, chromedp.Navigate(server+page), chromedp.WaitVisible(`nav`, chromedp.ByQuery), chromedp.Evaluate(`document.documentElement.scrollWidth <= innerWidth`, &fits))
		if !fits {
			t.Errorf("%s scrolls sideways at 1280", page)
		}
	}
}

// TestRefusedInConsole shows a refusal with its fix, and a wrong password.
func TestRefusedInConsole(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	run(t, ctx, chromedp.Navigate(server), chromedp.SendKeys(`input[name=user]`, "opal", chromedp.ByQuery), chromedp.SendKeys(`input[name=password]`, "nonsense\n", chromedp.ByQuery),
		sees("the name or the password is wrong"), chromedp.SendKeys(`input[name=password]`, "northmark\n", chromedp.ByQuery), chromedp.WaitVisible(`nav[aria-label=Pages]`, chromedp.ByQuery))
	run(t, ctx, chromedp.Navigate(server+"/query?as=user:marl&sql=SELECT+element+FROM+survey.assay.results"), chromedp.WaitVisible(`.cm-content`, chromedp.ByQuery), button("Run"),
		sees("does not exist or is not yours to use"), chromedp.Click(`//*[@role="alert"]//li[1]/button`, chromedp.BySearch, chromedp.NodeVisible), inDialog("Add"), chromedp.WaitVisible(`[data-testid=result] td`, chromedp.ByQuery))
	run(t, ctx, chromedp.Navigate(server+"/audit"), sees("⊘ refused"))
}
