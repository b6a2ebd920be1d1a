package api_test

import (
	"bufio"
	"net/http"
	"strings"
	"testing"
	"time"

	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/wire"
)

// TestEvents reads the stream of revisions: the current one at once, the next when there
// is a change, and no more streams than are bearable.
func TestEvents(t *testing.T) {
	server := demotest.Start(t)
	opal := demotest.SignIn(t, server, "opal")
	open := func(token string) *http.Response {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), "GET", server+"/api/v1/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { answer.Body.Close() })
		return answer
	}
	if answer := open("nobody's"); answer.StatusCode != 401 {
		t.Errorf("without a session: %d", answer.StatusCode)
	}
	answer := open(opal.Token)
	lines := bufio.NewScanner(answer.Body)
	next := func() string {
		for lines.Scan() {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				return data
			}
		}
		return ""
	}
	first := next()
	if first == "" || answer.Header.Get("Content-Type") != "text/event-stream" {
		t.Fatalf("the stream begins with %q as %s", first, answer.Header.Get("Content-Type"))
	}
	started := time.Now()
	if _, err := client.Send[wire.Changed](t.Context(), opal, "POST", "/subjects", wire.SubjectRequest{Subject: "role:heard"}); err != nil {
		t.Fatal(err)
	}
	if second := next(); second == "" || second == first || time.Since(started) > 5*time.Second {
		t.Errorf("after a change the stream says %q behind %q, after %s", second, first, time.Since(started))
	}
	refused := 0
	for range 20 {
		if open(opal.Token).StatusCode == 429 {
			refused++
		}
	}
	if refused == 0 {
		t.Error("twenty streams of one account are let in")
	}
}
