package web_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	cdpbrowser "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"gneiss/demo/demotest"
)

// column is what a column of a grid shows, from the top.
func column(t *testing.T, ctx context.Context, n string) []string {
	t.Helper()
	return texts(t, ctx, `[data-testid=result] td[data-cell$=":`+n+`"]`)
}

// TestGrid sorts, filters, walks, copies, widens, hides and downloads, as a reader of a result does.
func TestGrid(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	downloads := t.TempDir()
	sql := "SELECT id, name, depth_m, cost FROM survey.drilling.boreholes WHERE id <= 200 ORDER BY id"
	run(t, ctx, signIn(server, "opal"),
		cdpbrowser.GrantPermissions([]cdpbrowser.PermissionType{cdpbrowser.PermissionTypeClipboardReadWrite, cdpbrowser.PermissionTypeClipboardSanitizedWrite}).WithOrigin(server),
		cdpbrowser.SetDownloadBehavior(cdpbrowser.SetDownloadBehaviorBehaviorAllow).WithDownloadPath(downloads),
		chromedp.Navigate(server+"/query?sql="+strings.ReplaceAll(sql, " ", "%20")), chromedp.WaitVisible(`.cm-content`, chromedp.ByQuery), button("Run"), sees("200 rows"))
	settle := chromedp.Sleep(150 * time.Millisecond)

	// Only what is in view is drawn, at the end as at the beginning.
	if drawn := column(t, ctx, "0"); len(drawn) > 80 || drawn[0] != "1" {
		t.Errorf("%d rows are drawn, from %v", len(drawn), drawn[0])
	}
	run(t, ctx, chromedp.Focus(`[data-testid=result] [data-cell="-1:0"]`, chromedp.ByQuery), chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(2)), settle)
	if drawn := column(t, ctx, "0"); drawn[len(drawn)-1] != "200" || len(drawn) > 80 {
		t.Errorf("at the end %d rows are drawn, the last %v", len(drawn), drawn[len(drawn)-1])
	}

	// Enter on a heading sorts: least first, most first, not at all.
	heading := func(n string) chromedp.Action {
		return chromedp.Focus(`[data-testid=result] [data-cell="-1:`+n+`"]`, chromedp.ByQuery)
	}
	for _, way := range []string{"ascending", "descending", ""} {
		run(t, ctx, heading("2"), chromedp.KeyEvent(kb.Enter), chromedp.KeyEvent(kb.Home, chromedp.KeyModifiers(2)), settle)
		var said string
		run(t, ctx, chromedp.Evaluate(`document.querySelector('[data-testid=result] [data-cell="-1:2"]').getAttribute('aria-sort') ?? ''`, &said))
		first, depths := column(t, ctx, "0")[0], column(t, ctx, "2")
		if said != way || (way == "") != (first == "1") {
			t.Errorf("sorted %q, wanted %q; the first row is %s with %s", said, way, first, depths[0])
		}
	}

	// Cells are marked with Shift, and copied with tabs between.
	run(t, ctx, heading("0"), chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(8)), chromedp.KeyEvent(kb.ArrowDown, chromedp.KeyModifiers(8)), settle, chromedp.KeyEvent("c", chromedp.KeyModifiers(2)), sees("copied 2 rows of 2 columns"))
	var copied string
	run(t, ctx, chromedp.Evaluate(`navigator.clipboard.readText()`, &copied, func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }))
	if copied != "1\tNO-0001\n2\tBA-0002" {
		t.Errorf("copied %q", copied)
	}

	// A heading is made wider with Shift and an arrow; a column is hidden, and filtered by.
	var before, after float64
	wide := `document.querySelector('[data-testid=result] [data-cell="-1:1"]').getBoundingClientRect().width`
	run(t, ctx, chromedp.Evaluate(wide, &before), heading("1"), chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(8)), chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(8)), settle, chromedp.Evaluate(wide, &after))
	if after <= before {
		t.Errorf("the column was %v wide, and is %v", before, after)
	}
	menu := func(column, item string) chromedp.Tasks {
		return chromedp.Tasks{chromedp.Click(`//button[@aria-label="More on `+column+`"]`, chromedp.BySearch), chromedp.Click(`//*[@role="menuitem"][normalize-space(.)="`+item+`"]`, chromedp.BySearch, chromedp.NodeVisible)}
	}
	run(t, ctx, menu("depth_m", "Hide"), settle, chromedp.WaitNotPresent(`//button[@aria-label="Sort by depth_m"]`, chromedp.BySearch),
		chromedp.Click(`//button[@aria-label="More on name"]`, chromedp.BySearch), chromedp.SendKeys(`input[aria-label="Only where name has"]`, "hi-01", chromedp.ByQuery), chromedp.KeyEvent(kb.Escape), sees("name: hi-01"), settle)
	for _, name := range column(t, ctx, "1") {
		if !strings.HasPrefix(name, "HI-01") {
			t.Errorf("%s is shown, too", name)
		}
	}

	// What is shown is what is downloaded.
	run(t, ctx, chromedp.Click(`//button[@aria-label="Table of result"]`, chromedp.BySearch), chromedp.Click(`//*[@role="menuitem"][normalize-space(.)="Download as CSV"]`, chromedp.BySearch, chromedp.NodeVisible))
	var file []byte
	for range 50 {
		time.Sleep(100 * time.Millisecond)
		if file, _ = os.ReadFile(filepath.Join(downloads, "result.csv")); len(file) > 0 {
			break
		}
	}
	lines := strings.Split(strings.TrimSpace(string(file)), "\r\n")
	if lines[0] != "id,name,cost" || len(lines) != len(column(t, ctx, "1"))+1 || !strings.Contains(lines[1], ",HI-01") {
		t.Errorf("the file has %q", lines)
	}
	run(t, ctx, chromedp.Click(`//button[@aria-label="Table of result"]`, chromedp.BySearch), chromedp.Click(`//*[@role="menuitem"][normalize-space(.)="As it was at first"]`, chromedp.BySearch, chromedp.NodeVisible), sees("200 rows"))
}
