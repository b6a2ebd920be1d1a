package web_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"gneiss/demo/demotest"
)

// says waits until what a change would do, in the open dialog, has a text.
func says(text string) chromedp.Action {
	return chromedp.WaitVisible(`//*[@role="dialog"]//section[@aria-label="What this would do"][contains(normalize-space(.), `+quote(text)+`)]`, chromedp.BySearch)
}

func refused(text string) chromedp.Action {
	return chromedp.WaitVisible(`//*[@role="dialog"]//*[@role="alert"][contains(normalize-space(.), `+quote(text)+`)]`, chromedp.BySearch)
}

func field(name, text string) chromedp.Action {
	return chromedp.SendKeys(`//*[@role="dialog"]//input[@name=`+quote(name)+`]`, text, chromedp.BySearch)
}

func box(label string) chromedp.Action {
	return chromedp.Click(`//*[@role="dialog"]//label[starts-with(normalize-space(.), `+quote(label)+`)]/input`, chromedp.BySearch)
}

func rowButton(row, text string) chromedp.Action {
	return chromedp.Click(`//tr[contains(normalize-space(.), `+quote(row)+`)]//button[normalize-space(.)=`+quote(text)+`]`, chromedp.BySearch, chromedp.NodeVisible)
}

// TestRightsInConsole changes what grants are made of by clicking: each change
// says first what it would do.
func TestRightsInConsole(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	run(t, ctx, signIn(server, "opal"))

	// Several tables in one grant, of a bundle.
	run(t, ctx, link("Tables"), treeItem("assay"), button("Select several"),
		chromedp.Click(`input[aria-label="Mark survey.assay.batches"]`, chromedp.ByQuery, chromedp.NodeVisible), chromedp.Click(`input[aria-label="Mark survey.assay.samples"]`, chromedp.ByQuery),
		button("Grant …"), box("SELECT"), box("writer"), choose("Grant to", "user:marl"), says("SELECT, INSERT, UPDATE, DELETE, DESCRIBE on survey.assay.batches"), inDialog("Grant"),
		noticed("granted writer on survey.assay.samples to user:marl"))
	// Both taken back together, and that undone.
	run(t, ctx, chromedp.Navigate(server+"/subjects/user:marl?tab=grants"), chromedp.Click(`input[aria-label="Mark writer on survey.assay.batches to user:marl"]`, chromedp.ByQuery, chromedp.NodeVisible),
		chromedp.Click(`input[aria-label="Mark writer on survey.assay.samples to user:marl"]`, chromedp.ByQuery), chromedp.Click(`//button[normalize-space(.)="Revoke 2"]`, chromedp.BySearch),
		says("loses user:marl"), inDialog("Revoke"), noticed("revoked writer on survey.assay.samples from user:marl"),
		chromedp.Click(`(//*[@role="status"]//button[normalize-space(.)="Undo"])[last()]`, chromedp.BySearch), noticed("granted writer on survey.assay.batches to user:marl"))

	// A grant on which others rest.
	run(t, ctx, chromedp.Navigate(server+"/tables/survey.licensing?tab=grants"), rowButton("grant option GS-23", "Revoke"), refused("2 grants depend on it"), box("Also revoke the grants"), says("also revoked: SELECT on survey.licensing.licences.id to user:tuff"), inDialog("Revoke"),
		noticed("revoked SELECT on survey.licensing.licences from role:licensing_officer"))

	// From a role's page: a grant on objects that are picked there.
	run(t, ctx, chromedp.Navigate(server+"/roles/role:partner"), button("Grant …"), chromedp.SendKeys(`input[aria-label="Grant on"]`, "survey.field.crews", chromedp.ByQuery), chromedp.WaitReady(`datalist option[value="survey.field.crews"]`, chromedp.ByQuery), chromedp.SendKeys(`input[aria-label="Grant on"]`, kb.Enter, chromedp.ByQuery),
		chromedp.WaitVisible(`//*[@role="dialog"]//span[contains(@class, "chip")][contains(., "survey.field.crews")]`, chromedp.BySearch), says("user:tuff"), inDialog("Grant"), noticed("granted SELECT on survey.field.crews to role:partner"))
	// A dormant grant is woken where it is seen.
	run(t, ctx, chromedp.Navigate(server+"/roles/role:lab_analyst?tab=grants"), rowButton("dormant", "grant USAGE on survey.licensing to role:lab_analyst"), says("user:beryl"), inDialog("Grant"), noticed("granted USAGE on survey.licensing to role:lab_analyst"))

	// An owner, and back.
	run(t, ctx, chromedp.Navigate(server+"/tables/survey.field"), button("Owner"), choose("Owner", "role:lab_keeper"), says("user:beryl"), inDialog("Change the owner"), noticed("made role:lab_keeper the owner of survey.field"),
		chromedp.WaitVisible(`//p[contains(., "owned by") and contains(., "role:lab_keeper")]`, chromedp.BySearch))

	// A person: name, attribute; then away.
	run(t, ctx, chromedp.Navigate(server+"/subjects/user:slate"), button("Edit"), chromedp.SendKeys(`//*[@role="dialog"]//input[@aria-label="Values of districts"]`, ", north", chromedp.BySearch),
		says("What this would change"), inDialog("Save"), noticed("set the attribute districts of user:slate to basin, highland, north"))
	run(t, ctx, button("Remove"), says("user:slate"), inDialog("Remove"), noticed("removed user:slate"))
}

// TestSettings covers lanes, bundles, accounts, sources and rosters.
func TestSettings(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	run(t, ctx, signIn(server, "opal"), link("Settings"), chromedp.Click(`//button[@role="tab"][normalize-space(.)="Lanes"]`, chromedp.BySearch))
	run(t, ctx, button("Add a lane"), field("name", "night"), says("nobody may use it yet"), inDialog("Add"), noticed("added lane:night"),
		rowButton("lane:night", "Grant"), choose("Grant to", "user:marl"), says("USAGE on lane:night"), inDialog("Grant"), noticed("granted USAGE on lane:night to user:marl"))
	run(t, ctx, chromedp.Click(`//button[@role="tab"][normalize-space(.)="Bundles"]`, chromedp.BySearch), rowButton("writer", "Edit"), box("DELETE"), says("DELETE on survey.field.visits"), inDialog("Save"),
		noticed("changed the bundle writer"))
	run(t, ctx, chromedp.Click(`//button[@role="tab"][normalize-space(.)="Sources"]`, chromedp.BySearch), rowButton("survey", "Scan again"), noticed("scanned survey: 16 tables"))
	run(t, ctx, chromedp.Click(`//button[@role="tab"][normalize-space(.)="Your account"]`, chromedp.BySearch), button("New token"), field("name", "export"), inDialog("Make it"),
		chromedp.WaitVisible(`//*[@role="dialog"]//p[starts-with(normalize-space(.), "gneiss_")]`, chromedp.BySearch), inDialog("Done"), rowButton("export", "End"), noticed("ended the token"))

	file := filepath.Join(t.TempDir(), "people.csv")
	if err := os.WriteFile(file, []byte("subject,title\nuser:schist,new\nuser:two words,bad\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	upload := chromedp.SetUploadFiles(`input[type=file]`, []string{file}, chromedp.ByQuery)
	run(t, ctx, chromedp.Click(`//button[@role="tab"][normalize-space(.)="Import and export"]`, chromedp.BySearch), chromedp.WaitReady(`input[type=file]`, chromedp.ByQuery), upload, refused(`line 3`), inDialog("Cancel"))
	if err := os.WriteFile(file, []byte("subject,title\nuser:schist,new\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	run(t, ctx, upload, says("Nobody gains or loses a right by it"), inDialog("Import"), noticed("imported 1 new subject"))

	// The session narrowed by a statement, and wide again.
	run(t, ctx, link("Query"), chromedp.Click(`.cm-content`, chromedp.ByQuery, chromedp.NodeVisible), chromedp.KeyEvent("a", chromedp.KeyModifiers(2)), chromedp.KeyEvent(kb.Delete),
		chromedp.SendKeys(`.cm-content`, "SET ROLE data_curator", chromedp.ByQuery), chromedp.KeyEvent(kb.Escape), button("Run"), sees("acting in role:data_curator until SET ROLE NONE"),
		chromedp.Click(`//header//button[normalize-space(.)="All roles"]`, chromedp.BySearch, chromedp.NodeVisible), chromedp.WaitNotPresent(`//header//button[normalize-space(.)="All roles"]`, chromedp.BySearch))
	var wide bool
	for _, page := range []string{"account", "lanes", "bundles", "sources", "roster"} {
		run(t, ctx, chromedp.Navigate(server+"/settings/"+page), chromedp.WaitVisible(`[role=tabpanel]:not([hidden])`, chromedp.ByQuery), chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`, &wide))
		if wide {
			t.Errorf("the settings of %s scroll sideways at 1280", page)
		}
	}
	// Who is no administrator is offered nothing to change.
	run(t, ctx, signOut, chromedp.WaitVisible(`input[name=user]`, chromedp.ByQuery), signIn(server, "flint"), chromedp.Navigate(server+"/settings/lanes"), sees("lane:interactive"))
	if got := strings.Join(texts(t, ctx, "main button"), "|"); strings.Contains(got, "Limits") || strings.Contains(got, "Import") {
		t.Errorf("flint is offered %s", got)
	}
}
