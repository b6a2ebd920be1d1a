package web_test

import (
	"context"
	"flag"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"gneiss/demo/demotest"
)

func TestMain(m *testing.M) {
	flag.Parse()
	os.Exit(demotest.Run(m))
}

// browser starts headless Chromium with one page at 1280×800.
func browser(t *testing.T, dark bool) context.Context {
	t.Helper()
	if _, err := os.Stat("dist/index.html"); err != nil {
		t.Fatal("the console is not built; run make build first")
	}
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Fatal("there is no chromium; make test installs it")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-quic", true))
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(stop)
	ctx, cancel := chromedp.NewContext(allocator)
	t.Cleanup(cancel)
	ctx, cancelTime := context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(cancelTime)
	noErrors(t, ctx)
	if err := chromedp.Run(ctx, log.Enable()); err != nil { // the browser lives as long as this context
		t.Fatal(err)
	}
	scheme := "light"
	if dark {
		scheme = "dark"
	}
	run(t, ctx, chromedp.EmulateViewport(1280, 800), emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{
		{Name: "prefers-color-scheme", Value: scheme}, {Name: "prefers-reduced-motion", Value: "reduce"}}))
	return ctx
}

// noErrors fails the test for each error that a page gives the browser, such as one of
// its script or of its content policy. An answer of the service that refuses is none.
func noErrors(t *testing.T, ctx context.Context) {
	t.Helper()
	chromedp.ListenTarget(ctx, func(event any) {
		switch e := event.(type) {
		case *log.EventEntryAdded:
			if e.Entry.Level == log.LevelError && e.Entry.Source != log.SourceNetwork {
				t.Errorf("the browser says: %s (%s)", e.Entry.Text, e.Entry.URL)
			}
		case *runtime.EventExceptionThrown:
			t.Errorf("a page's script broke: %s", e.ExceptionDetails.Error())
		case *runtime.EventConsoleAPICalled:
			if e.Type == runtime.APITypeError {
				t.Errorf("a page's script says: %v", e.Args)
			}
		}
	})
}

// run does things in the browser. Where they do not come to an end it leaves a
// picture of what the page showed.
func run(t *testing.T, ctx context.Context, actions ...chromedp.Action) {
	t.Helper()
	step, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if err := chromedp.Run(step, actions...); err != nil {
		path := filepath.Join(os.TempDir(), "gneiss-console-"+filepath.Base(t.Name())+".png")
		shoot(ctx, path)
		t.Fatalf("%v; the page is in %s", err, path)
	}
}

func shoot(ctx context.Context, path string) error {
	var picture []byte
	if err := chromedp.Run(ctx, chromedp.CaptureScreenshot(&picture)); err != nil {
		return err
	}
	return os.WriteFile(path, picture, 0o644)
}

// signIn types an account's name and password.
func signIn(server, user string) chromedp.Tasks {
	return chromedp.Tasks{
		chromedp.Navigate(server),
		chromedp.SendKeys(`input[name=user]`, user, chromedp.ByQuery),
		chromedp.SendKeys(`input[name=password]`, "northmark\n", chromedp.ByQuery),
		chromedp.WaitVisible(`nav[aria-label=Pages]`, chromedp.ByQuery),
	}
}

// signOut chooses it in the account's menu.
var signOut = chromedp.Tasks{chromedp.Click(`//button[starts-with(@aria-label, "Account")]`, chromedp.BySearch), chromedp.Click(`//*[@role="menuitem"][normalize-space(.)="Sign out"]`, chromedp.BySearch)}

// verified presses Verify on the audit page, and waits for what both chains come to.
var verified = chromedp.Tasks{chromedp.Click(`//button[normalize-space(.)="Verify"]`, chromedp.BySearch), sees("The record is intact"), sees("The journal is intact")}

// sees waits until the page shows a text somewhere.
func sees(text string) chromedp.Action {
	return chromedp.Poll(`(() => {
		const found = document.evaluate(`+"`//*[contains(normalize-space(text()), "+quote(text)+")][not(self::option)]`"+`, document, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null)
		for (let i = 0; i < found.snapshotLength; i++) if (found.snapshotItem(i).getClientRects().length > 0) return true
		return false
	})()`, nil)
}

func quote(s string) string { return `"` + s + `"` }

var shots = flag.String("shots", "", "a folder to write pictures of the pages into")

// commands are those of the README whose output is kept as a picture.
var commands = map[string][]string{
	"preview": {"preview", "survey.licensing.holders", "--as", "user:flint", "--beside", "user:garnet", "--limit", "5"},
	"chart":   {"audit", "chart"},
	"query":   {"query", "select district, count(*) from survey.drilling.boreholes group by district", "--as", "user:flint", "--show-plan"},
}

// terminal runs a command and makes a page of what it prints.
func terminal(t *testing.T, server string, args []string) string {
	t.Helper()
	c := exec.Command("../bin/gneiss", args...)
	c.Env = append(os.Environ(), "GNEISS_SERVER="+server, "COLUMNS=170", "GNEISS_TOKEN="+demotest.SignIn(t, server, "opal").Token)
	out, _ := c.CombinedOutput() // why ends with 3 where the answer is no
	shown := "$ gneiss"
	for _, a := range args {
		if strings.Contains(a, " ") {
			a = strconv.Quote(a)
		}
		shown += " " + a
	}
	page := `<meta charset="utf-8"><body style="margin:0;background:#1b1b1a;color:#ece7de"><pre style="margin:16px;white-space:pre-wrap;font:12px/1.4 'DejaVu Sans Mono',monospace">` +
		`<b style="color:#e78598">` + html.EscapeString(shown) + "</b>\n" + html.EscapeString(string(out)) + "</pre>"
	path := filepath.Join(t.TempDir(), "terminal.html")
	if err := os.WriteFile(path, []byte(page), 0o600); err != nil {
		t.Fatal(err)
	}
	return "file://" + path
}

// TestShots writes pictures of the main pages, for people to look at.
func TestShots(t *testing.T) {
	if *shots == "" {
		t.Skip("only with -shots DIR")
	}
	for _, dark := range []bool{false, true} {
		server := demotest.Start(t)
		ctx := browser(t, dark)
		suffix := map[bool]string{false: "", true: "-dark"}[dark]
		picture := func(name string, actions ...chromedp.Action) {
			run(t, ctx, append(actions, chromedp.Sleep(700*time.Millisecond))...)
			if err := shoot(ctx, filepath.Join(*shots, "console-"+name+suffix+".png")); err != nil {
				t.Fatal(err)
			}
		}
		if !dark {
			for name, args := range commands {
				run(t, ctx, chromedp.Navigate(terminal(t, server, args)), chromedp.Sleep(200*time.Millisecond))
				if err := shoot(ctx, filepath.Join(*shots, "cli-"+name+".png")); err != nil {
					t.Fatal(err)
				}
			}
		}
		run(t, ctx, signIn(server, "opal"))
		if dark {
			picture("query", chromedp.Navigate(server+"/query?as=user:flint"), chromedp.WaitVisible(`.cm-content`, chromedp.ByQuery), chromedp.Sleep(500*time.Millisecond),
				chromedp.Click(`//button[contains(., "Run")]`, chromedp.BySearch), chromedp.WaitVisible(`[data-testid=result] td`, chromedp.ByQuery))
			continue
		}
		picture("roles", chromedp.Navigate(server+"/roles"), chromedp.WaitVisible(`[data-testid=graph] rect`, chromedp.ByQuery))
		picture("matrix", chromedp.Navigate(server+"/access?against=draft:portal-2027"), sees("user:tuff"))
		picture("use", chromedp.Navigate(server+"/use?of=user:garnet"), sees("What was used"))
		picture("review", chromedp.Navigate(server+"/reviews/autumn-2026"), sees("service:slag"))
		picture("request", chromedp.Navigate(server+"/requests?request=1"), sees("Ways to grant it"))
		picture("draft", chromedp.Navigate(server+"/drafts/portal-2027"), sees("Rows and columns, by table"))
		picture("checks", chromedp.Navigate(server+"/checks"), sees("does not hold"))
		picture("overview", chromedp.Navigate(server+"/overview"), sees("Findings"))
		picture("compare", chromedp.Navigate(server+"/compare?a=user:flint&b=user:garnet"), sees("They differ on"))
		picture("rows", chromedp.Navigate(server+"/tables/survey.licensing.holders?as=user:flint&beside=user:garnet"), chromedp.WaitVisible(`[data-testid=rows] td`, chromedp.ByQuery))
		picture("policies", chromedp.Navigate(server+"/policies"), sees("is generalized (first 6 characters)"))
		picture("labels", chromedp.Navigate(server+"/labels/suggestions"), sees("name of a person"))
		picture("subject", chromedp.Navigate(server+"/subjects/user:beryl?tab=why"), chromedp.SendKeys(`input[aria-label=Object]`, "survey.licensing.payments\n", chromedp.ByQuery), sees("Ways to give it"))
		picture("policy", chromedp.Navigate(server+"/tables/survey.monitoring.wells"), chromedp.Click(`//button[text()="Row policy"]`, chromedp.BySearch),
			chromedp.SendKeys(`input[name=name]`, "wells-of-districts", chromedp.ByQuery), chromedp.WaitVisible(`section[aria-label="Live counts"] td`, chromedp.ByQuery))
		picture("audit", chromedp.Navigate(server+"/audit"), sees("R-"), sees("What stands out"))
	}
}
