package web_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"gneiss/demo/demotest"
)

// TestLateAnswer: an answer that comes after a newer question does not overwrite the newer
// one's, even where the browser cannot cancel it any more.
func TestLateAnswer(t *testing.T) {
	server := demotest.Start(t)
	ctx := browser(t, false)
	slow := page.AddScriptToEvaluateOnNewDocument(`
		const fetch = window.fetch
		window.late = 0
		window.fetch = async (request) => {
			if (!request.url.includes('previews') || !(await request.clone().text()).includes('user:flint')) return fetch(request)
			const answer = await fetch(new Request(request, { signal: null }))
			await new Promise((done) => setTimeout(done, 1000))
			window.late++
			return answer
		}`)
	run(t, ctx, chromedp.ActionFunc(func(ctx context.Context) error { _, err := slow.Do(ctx); return err }),
		signIn(server, "opal"), chromedp.Navigate(server+"/tables/survey.drilling.boreholes"), sees("2,400 rows"),
		choose("View as", "user:flint"), button("Back to yourself"),
		chromedp.Poll(`window.late > 0`, nil), chromedp.Sleep(500*time.Millisecond))
	if head := texts(t, ctx, "main")[0]; strings.Contains(head, "user:flint") || !strings.Contains(head, "2,400 rows") {
		t.Errorf("the rows are those of an older question: %s", head)
	}
}
