package api_test

import (
	"bufio"
	"encoding/json"
	"fmt"
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
	var many []*http.Response
	for range 20 {
		many = append(many, open(opal.Token))
		if many[len(many)-1].StatusCode == 429 {
			refused++
		}
	}
	if refused == 0 {
		t.Error("twenty streams of one account are let in")
	}
	for _, answer := range many {
		answer.Body.Close()
	}
	for started = time.Now(); open(opal.Token).StatusCode != 200; time.Sleep(50 * time.Millisecond) {
		if time.Since(started) > 5*time.Second {
			t.Fatal("the streams of pages that are gone still count")
		}
	}
}

// TestEventsOfDrafts: whoever reviews hears of every draft, its opener of their own, and others of none.
func TestEventsOfDrafts(t *testing.T) {
	server := demotest.Start(t)
	heard, ids := map[string]chan string{}, map[string]chan string{}
	callers := map[string]*client.Client{}
	for _, name := range []string{"opal", "flint", "marl"} {
		c := demotest.SignIn(t, server, name)
		request, err := http.NewRequestWithContext(t.Context(), "GET", server+"/api/v1/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+c.Token)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { answer.Body.Close() })
		lines, told, numbers := bufio.NewScanner(answer.Body), make(chan string, 100), make(chan string, 100)
		callers[name], heard[name], ids[name] = c, told, numbers
		go func() {
			for lines.Scan() {
				if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
					numbers <- id
				}
				if topic, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
					told <- topic
				}
			}
		}()
		if first := <-told; first != "revision" { // which every stream begins with
			t.Fatalf("%s hears of %s first", name, first)
		}
	}
	hears := func(name string) string {
		select {
		case topic := <-heard[name]:
			return topic
		case <-time.After(700 * time.Millisecond):
			return "nothing"
		}
	}
	for _, c := range []struct{ opener, opal, flint, marl string }{
		{"flint", "draft", "draft", "nothing"},
		{"opal", "draft", "nothing", "nothing"},
	} {
		if _, err := client.Send[wire.Changed](t.Context(), callers[c.opener], "POST", "/drafts", wire.DraftRequest{Name: "of-" + c.opener}); err != nil {
			t.Fatal(err)
		}
		if opal, flint, marl := hears("opal"), hears("flint"), hears("marl"); opal != c.opal || flint != c.flint || marl != c.marl {
			t.Errorf("of a draft of %s's opal hears %s, flint %s, marl %s", c.opener, opal, flint, marl)
		}
	}
	// Nor do the numbers of events tell that there was something between two revisions.
	if _, err := client.Send[wire.Changed](t.Context(), callers["opal"], "POST", "/subjects", wire.SubjectRequest{Subject: "role:after"}); err != nil {
		t.Fatal(err)
	}
	hears("marl")
	for len(ids["marl"]) > 0 {
		if id := <-ids["marl"]; !strings.HasSuffix(id, ".0") {
			t.Errorf("marl's event has the id %s", id)
		}
	}
}

// TestETagsAreOfWhatWasRead: while others change the model, an answer's ETag is the revision that it says it is of.
func TestETagsAreOfWhatWasRead(t *testing.T) {
	server := demotest.Start(t)
	opal := demotest.SignIn(t, server, "opal")
	ended := make(chan error)
	go func() {
		for i := range 120 {
			if _, err := client.Send[wire.Changed](t.Context(), opal, "POST", "/subjects", wire.SubjectRequest{Subject: fmt.Sprint("role:made", i)}); err != nil {
				ended <- err
				return
			}
		}
		ended <- nil
	}()
	differ, read := 0, map[string]bool{}
	for going := true; going; {
		select {
		case err := <-ended:
			if going = false; err != nil {
				t.Fatal(err)
			}
		default:
		}
		request, err := http.NewRequestWithContext(t.Context(), "GET", server+"/api/v1/access-matrix", nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+opal.Token)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		var body struct{ Revision int64 }
		err = json.NewDecoder(answer.Body).Decode(&body)
		answer.Body.Close()
		if err != nil || body.Revision == 0 {
			t.Fatalf("%d: %v", answer.StatusCode, err)
		}
		tag := answer.Header.Get("ETag")
		if read[tag] = true; tag != fmt.Sprintf("%q", fmt.Sprint(body.Revision)) {
			differ++
		}
	}
	if differ > 0 || len(read) < 10 {
		t.Errorf("%d answers have another ETag than their revision; %d revisions were read", differ, len(read))
	}
}
