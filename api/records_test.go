package api_test

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"gneiss/api"
	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/wire"
)

// TestRecordsAreExported: as CSV and as JSON lines comes all that pages come to, of what is searched for;
// what is wrong is told before anything comes.
func TestRecordsAreExported(t *testing.T) {
	server := demotest.Start(t)
	opal, flint := demotest.SignIn(t, server, "opal"), demotest.SignIn(t, server, "flint")
	if _, err := client.Send[wire.Result](t.Context(), flint, "POST", "/queries", wire.QueryRequest{SQL: "SELECT '=1+1' AS a"}); err != nil {
		t.Fatal(err)
	}
	raw := func(c *client.Client, accept string, q url.Values) (string, error) {
		body, err := c.Raw(t.Context(), "GET", "/records", q, nil, accept)
		if err != nil {
			return "", err
		}
		defer body.Close()
		text, err := io.ReadAll(body)
		return string(text), err
	}
	for _, q := range []url.Values{{}, {"actor": {"user:garnet"}}, {"label": {"finance"}, "decision": {"allowed"}}, {"role": {"role:licensing_officer"}},
		{"role": {"role:survey_reader"}, "from": {"2026-10-01"}}, {"purpose": {"nothing"}}, {"limit": {"7"}}, {"limit": {"1000"}}} {
		var want []string
		for page := q; ; {
			list, err := client.Get[wire.List[wire.Record]](t.Context(), opal, "/records", page)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range list.Items {
				want = append(want, r.Reference)
				if q.Get("role") == "role:licensing_officer" && r.Actor != "user:garnet" {
					t.Errorf("%s of %s is allowed by role:licensing_officer", r.Reference, r.Actor)
				}
			}
			if list.Next == "" || q.Has("limit") {
				break
			}
			page = url.Values{"before": {list.Next}}
			for k, v := range q {
				page[k] = v
			}
		}
		lines, err := raw(opal, "application/jsonl", q)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for d := json.NewDecoder(strings.NewReader(lines)); d.More(); {
			var r wire.Record
			if err := d.Decode(&r); err != nil {
				t.Fatal(err)
			}
			got = append(got, r.Reference)
		}
		if strings.Join(got, " ") != strings.Join(want, " ") {
			t.Errorf("%v: %d lines, and pages have %d records", q, len(got), len(want))
		}
		text, err := raw(opal, "text/csv", q)
		if err != nil {
			t.Fatal(err)
		}
		rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		if err != nil || len(rows) != max(1, len(want)+1) && len(want) > 0 {
			t.Errorf("%v: %d lines of CSV, %v; pages have %d records", q, len(rows), err, len(want))
		}
		if len(want) == 0 && !q.Has("purpose") {
			t.Errorf("%v finds nothing", q)
		}
	}
	if text, err := raw(opal, "text/csv", url.Values{"actor": {"user:flint"}, "limit": {"1"}, "csv_safe": {"true"}}); err != nil || !strings.Contains(text, "SELECT '=1+1'") {
		t.Errorf("flint's last record is %s, %v", text, err)
	}
	if _, err := raw(opal, "text/csv", url.Values{"role": {"role:nobody"}}); err == nil || !strings.Contains(err.Error(), "nobody") {
		t.Errorf("of a role that is not there: %v", err)
	}
	if _, err := raw(flint, "application/jsonl", url.Values{"role": {"role:survey_reader"}}); err == nil || !strings.Contains(err.Error(), "AUDIT") {
		t.Errorf("who does not audit searches by role: %v", err)
	}
	own, err := raw(flint, "application/jsonl", nil)
	if err != nil || strings.Contains(own, `"actor":"user:opal"`) || strings.Contains(own, `"address"`) || !strings.Contains(own, `"actor":"user:flint"`) {
		t.Errorf("flint exports %.300s, %v", own, err)
	}
}

// TestRecordsAreFollowed: what comes is told as it comes, behind what was told; everybody hears what they may
// read in the record, and who may not any more hears no more.
func TestRecordsAreFollowed(t *testing.T) {
	server := demotest.Start(t)
	opal, flint, agate := demotest.SignIn(t, server, "opal"), demotest.SignIn(t, server, "flint"), demotest.SignIn(t, server, "agate")
	follow := func(c *client.Client, q string, last string) chan wire.Record {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), "GET", server+"/api/v1/records?"+q, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+c.Token)
		r.Header.Set("Accept", "text/event-stream")
		if last != "" {
			r.Header.Set("Last-Event-ID", last)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil || answer.StatusCode != 200 {
			t.Fatalf("%v, %v", answer, err)
		}
		t.Cleanup(func() { answer.Body.Close() })
		out := make(chan wire.Record, 100)
		lines := bufio.NewScanner(answer.Body)
		for lines.Scan() && lines.Text() != "" { // the head, behind which everything is told
		}
		go func() {
			for lines.Scan() {
				if data, is := strings.CutPrefix(lines.Text(), "data: "); is {
					var r wire.Record
					if err := json.Unmarshal([]byte(data), &r); err != nil {
						t.Error(err)
					}
					out <- r
				}
			}
		}()
		return out
	}
	next := func(from chan wire.Record) wire.Record {
		select {
		case r := <-from:
			return r
		case <-time.After(2 * time.Second):
			return wire.Record{Text: "nothing"}
		}
	}
	ask := func(c *client.Client, text string) {
		t.Helper()
		if _, err := client.Send[wire.Result](t.Context(), c, "POST", "/queries", wire.QueryRequest{SQL: text}); err != nil {
			t.Fatal(err)
		}
	}
	all, own, audited, refused := follow(opal, "", ""), follow(flint, "", ""), follow(agate, "actor=user:flint", ""), follow(opal, "decision=refused", "")
	ask(opal, "SELECT 1")
	ask(flint, "SELECT 2")
	first := next(all)
	if second := next(all); first.Text != "SELECT 1" || second.Text != "SELECT 2" || first.Address == "" {
		t.Errorf("who audits hears %q, %q", first.Text, second.Text)
	}
	if r := next(own); r.Text != "SELECT 2" || r.Address != "" {
		t.Errorf("flint hears %q from %q", r.Text, r.Address)
	}
	if r := next(audited); r.Text != "SELECT 2" {
		t.Errorf("who follows flint hears %q", r.Text)
	}
	if r := next(follow(opal, "", first.Reference)); r.Text != "SELECT 2" {
		t.Errorf("behind %s comes %q", first.Reference, r.Text)
	}
	if _, err := client.Send[wire.Changed](t.Context(), opal, "POST", "/memberships/end", wire.Member{Member: "user:agate", Of: "role:auditor"}); err != nil {
		t.Fatal(err)
	}
	ask(flint, "SELECT 3")
	if r := next(audited); r.Text != "nothing" {
		t.Errorf("who does not audit any more hears %q", r.Text)
	}
	if r := next(refused); r.Text != "nothing" {
		t.Errorf("among refusals is %q", r.Text)
	}
	for path, says := range map[string]string{"actor=user:flint": "AUDIT", "before=R-7": "behind"} {
		who := agate
		if says == "behind" {
			who = opal
		}
		query, _ := url.ParseQuery(path)
		if _, err := who.Raw(t.Context(), "GET", "/records", query, nil, "text/event-stream"); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s is followed: %v", path, err)
		}
	}
}

// TestLongAnswersAreWhole: who reads slowly gets all of an answer, however long it takes; who does not read is
// cut off.
func TestLongAnswersAreWhole(t *testing.T) {
	const patience = 800 * time.Millisecond
	api.PatienceOf(patience)
	defer api.PatienceOf(30 * time.Second)
	server := demotest.Start(t)
	opal := demotest.SignIn(t, server, "opal")
	many := wire.QueryRequest{Lane: "batch", SQL: "SELECT a.id, '" + strings.Repeat("long ", 100) + "' AS text FROM survey.drilling.boreholes a " +
		"JOIN survey.drilling.boreholes b ON a.id < b.id LIMIT 100000"} // more than what lies between the two holds
	ask := func() io.ReadCloser {
		t.Helper()
		body, err := opal.Raw(t.Context(), "POST", "/queries", nil, many, "text/csv")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { body.Close() })
		return body
	}
	body, began, lines, b := ask(), time.Now(), 0, make([]byte, 256<<10)
	for {
		n, err := io.ReadFull(body, b)
		lines += strings.Count(string(b[:n]), "\n")
		if err == io.EOF || err == io.ErrUnexpectedEOF && n > 0 && lines > 100_000 {
			break
		} else if err != nil {
			t.Fatalf("it breaks off after %d lines and %s: %v", lines, time.Since(began), err)
		}
		time.Sleep(patience / 60)
	}
	if took := time.Since(began); lines != 100_001 || took < 2*patience {
		t.Errorf("%d lines took %s, which proves nothing", lines, took)
	}
	body = ask()
	time.Sleep(5 * patience)
	if text, err := io.ReadAll(body); err == nil {
		t.Errorf("who did not read gets all %d bytes", len(text))
	}
}
