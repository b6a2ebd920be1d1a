package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"gneiss/api"
	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/wire"
)

func TestMain(m *testing.M) { os.Exit(demotest.Run(m)) }

func request(t testing.TB, ctx context.Context, server, token, method, path, body string) (int, string, error) {
	t.Helper()
	r, err := http.NewRequestWithContext(ctx, method, server+path, strings.NewReader(body))
	if err != nil {
		return 0, "", err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, "", err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	return answer.StatusCode, string(text), err
}

// TestRequestsAreBound: a field comes from one place, what is unknown is refused, and
// nothing that a request says ends the service.
func TestRequestsAreBound(t *testing.T) {
	server := demotest.Start(t)
	opal := demotest.SignIn(t, server, "opal").Token
	long := strings.Repeat("x", 3_900_000)
	for _, c := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"DELETE", "/api/v1/policies/nosuch?Name=notes-in-short", "", 400, "no parameter"},
		{"DELETE", "/api/v1/policies/nosuch?name=notes-in-short", "", 400, "no parameter"},
		{"DELETE", "/api/v1/policies/nosuch?dry_run=maybe", "", 400, "dry_run cannot be"},
		{"POST", "/api/v1/queries?sql=select+1", `{"sql":"SELECT 2"}`, 400, "no parameter"},
		{"POST", "/api/v1/queries?as=user:flint", `{"sql":"SELECT CURRENT_USER"}`, 400, "no parameter"},
		{"GET", "/api/v1/records?action=juggle", "", 400, "action is one of"},
		{"GET", "/api/v1/records?limit=ten", "", 400, "limit cannot be"},
		{"GET", "/api/v1/tree?Path=survey", "", 400, "no parameter"},
		{"GET", "/api/v1/tree?path=survey&as=user:flint", "", 200, "drilling"},
		{"GET", "/api/v1/tree?path=" + long[:5000], "", 400, "path is longer than 4096 bytes"},
		{"GET", "/api/v1/tree?path=" + long[:20_000], "", 431, "Too Large"},
		{"POST", "/api/v1/queries", `{"sql":"SELECT 1","nosuch":1}`, 400, "unknown field"},
		{"POST", "/api/v1/queries", `{"sql":"SELECT $1 + 0","params":[9007199254740993]}`, 200, "9007199254740993"},
		{"POST", "/api/v1/queries", `{"sql":"SELECT $1","params":[{"a":1}]}`, 422, "parameters are numbers"},
		{"POST", "/api/v1/queries", `{"sql":"SELECT $1","params":["` + long[:2_000_000] + `"]}`, 422, "a parameter may have"},
		{"POST", "/api/v1/queries", `{"sql":"SELECT 1e308 * 10"}`, 200, "[null]"},
		{"POST", "/api/v1/queries", `{"sql":"SELECT 1","purpose":"` + long + `"}`, 422, "a purpose can have up to"},
		{"POST", "/api/v1/queries", `{"sql":"SELECT 1 FROM survey.x.` + long[:90_000] + `"}`, 404, "does not exist"},
		{"POST", "/api/v1/roster", `{"subjects":[],"memberships":[],"files":[{"name":"a.csv","content":"subject,title\nuser:a,b\n\"user\"x:b,c"}]}`, 422, "nothing was imported"},
		{"POST", "/api/v1/roster", `{"subjects":[],"memberships":[],"files":[{"name":"a.csv","content":"a\"b,title\n"}]}`, 422, "nothing was imported"},
		{"POST", "/api/v1/session", `{"user":"` + long + `","password":"x"}`, 422, "a name can have up to"},
	} {
		status, text, err := request(t, t.Context(), server, opal, c.method, c.path, c.body)
		if err != nil || status != c.status || !strings.Contains(text, c.says) {
			t.Errorf("%s %.80s %.80s: %d %.200s, %v; want %d %q", c.method, c.path, c.body, status, text, err, c.status, c.says)
		}
	}
	if status, text, _ := request(t, t.Context(), server, opal, "GET", "/API/V1/session", ""); status == 200 && text == "" {
		t.Error("another spelling of the path")
	}
	answer, err := http.Get(server + "/API/V1/session")
	if err != nil || answer.Header.Get("Cache-Control") != "no-store" {
		t.Errorf("an answer behind another spelling of the path may be stored: %v, %v", answer.Header, err)
	}
}

// TestLargeFiles: files may be larger than other requests, from an administrator's program alone.
func TestLargeFiles(t *testing.T) {
	server := demotest.Start(t)
	opal, marl := demotest.SignIn(t, server, "opal").Token, demotest.SignIn(t, server, "marl").Token
	body := `{"dry_run":true,"files":[{"path":"roles/nosuch.yaml","text":"role: nosuch\n` + strings.Repeat("# a remark\\n", 700_000) + `"}]}`
	for _, c := range []struct {
		token, path string
		taken       bool
	}{
		{opal, "/api/v1/files/comparison", true},
		{opal, "/api/v1/files", true},
		{marl, "/api/v1/files/comparison", false},
		{"", "/api/v1/files/comparison", false},
		{"nosuch", "/api/v1/files", false},
		{opal, "/api/v1/queries", false},
		{opal, "/api/v1/files/schemas", false},
	} {
		status, answer, err := request(t, t.Context(), server, c.token, "POST", c.path, body)
		taken := err == nil && status == 200
		if taken != c.taken || !taken && err == nil && status != 413 {
			t.Errorf("%s: %d %.200s, %v", c.path, status, answer, err)
		}
	}
}

// TestWhoGoesAwayEndsTheirQuery: the lane is free again soon after a connection is
// closed.
func TestWhoGoesAwayEndsTheirQuery(t *testing.T) {
	server := demotest.Start(t)
	opal := demotest.SignIn(t, server, "opal").Token
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	_, _, err := request(t, ctx, server, opal, "POST", "/api/v1/queries", `{"sql":"SELECT count(*) FROM survey.monitoring.readings a, survey.monitoring.readings b WHERE a.level_m + b.level_m > 1"}`)
	if err == nil {
		t.Fatal("the query was answered")
	}
	running := func() int {
		_, text, err := request(t, t.Context(), server, opal, "GET", "/api/v1/lanes", "")
		var list struct{ Items []struct{ Running int } }
		if err := errorsJoin(err, json.Unmarshal([]byte(text), &list)); err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, lane := range list.Items {
			n += lane.Running
		}
		return n
	}
	for end := time.Now().Add(5 * time.Second); running() > 0; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the query of who went away runs on")
		}
	}
}

func errorsJoin(a, b error) error {
	if a != nil {
		return a
	}
	return b
}

// TestTrustedProxies: the address in the record is the last that a trusted proxy saw,
// and nobody else is believed.
func TestTrustedProxies(t *testing.T) {
	for _, c := range []struct {
		proxies   []string
		forwarded string
		want      string
	}{
		{nil, "203.0.113.9", "127.0.0.1"},
		{[]string{"127.0.0.0/8"}, "203.0.113.9", "203.0.113.9"},
		{[]string{"127.0.0.1"}, "198.51.100.1, 203.0.113.9", "203.0.113.9"},
		{[]string{"127.0.0.1", "203.0.113.0/24"}, "198.51.100.1, 203.0.113.9", "198.51.100.1"},
		{[]string{"127.0.0.1"}, "nonsense", "127.0.0.1"},
	} {
		svc := demotest.Open(t, demotest.Folder(t))
		srv := api.New(svc, slog.New(slog.DiscardHandler), false, c.proxies...)
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go srv.Serve(l)
		server := "http://" + l.Addr().String()
		r, _ := http.NewRequest("POST", server+"/api/v1/session", bytes.NewReader([]byte(`{"user":"agate","password":"northmark","token":true}`)))
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("X-Forwarded-For", c.forwarded)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		var session struct{ Token string }
		if err := json.NewDecoder(answer.Body).Decode(&session); err != nil {
			t.Fatal(err)
		}
		_, text, err := request(t, t.Context(), server, session.Token, "GET", "/api/v1/records?action=sign-in&limit=1", "")
		if err != nil || !strings.Contains(text, fmt.Sprintf("%q:%q", "address", c.want)) {
			t.Errorf("behind %v, %s is recorded in %s, %v; want %s", c.proxies, c.forwarded, text, err, c.want)
		}
		srv.Shutdown(t.Context())
	}
}

// TestCSVForSpreadsheets: on request, no text is a formula; numbers stay numbers.
func TestCSVForSpreadsheets(t *testing.T) {
	server := demotest.Start(t)
	opal := demotest.SignIn(t, server, "opal").Token
	csv := func(body string) string {
		r, _ := http.NewRequest("POST", server+"/api/v1/queries", strings.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+opal)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Accept", "text/csv")
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, _ := io.ReadAll(answer.Body)
		return string(text)
	}
	const sql = `"sql":"SELECT '=1+1' AS a, '-x' AS b, -5 AS c, 'plain' AS d"`
	if got := csv(`{` + sql + `}`); got != "a,b,c,d\r\n=1+1,-x,-5,plain\r\n" {
		t.Errorf("CSV: %q", got)
	}
	if got := csv(`{` + sql + `,"csv_safe":true}`); got != "a,b,c,d\r\n'=1+1,'-x,-5,plain\r\n" {
		t.Errorf("CSV for a spreadsheet: %q", got)
	}
}

// TestUnderTLS: browsers are told to stay with it.
func TestUnderTLS(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	srv := api.New(svc, slog.New(slog.DiscardHandler), true)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go srv.Serve(l)
	defer srv.Shutdown(t.Context())
	answer, err := http.Get("http://" + l.Addr().String() + "/healthz")
	if err != nil || !strings.HasPrefix(answer.Header.Get("Strict-Transport-Security"), "max-age=") {
		t.Errorf("no HSTS: %v, %v", answer, err)
	}
}

// TestEachRecordNamesTheClient: whatever is put on record says with which program it was done.
func TestEachRecordNamesTheClient(t *testing.T) {
	server := demotest.Start(t)
	opal := demotest.SignIn(t, server, "opal")
	for _, c := range []struct{ method, path, body string }{
		{"POST", "/api/v1/subjects", `{"subject":"role:made_here"}`},
		{"POST", "/api/v1/grants", `{"privileges":["SELECT"],"object":"survey.drilling","subjects":["role:made_here"]}`},
		{"POST", "/api/v1/queries", `{"sql":"SELECT count(*) FROM survey.drilling.boreholes"}`},
		{"POST", "/api/v1/tokens", `{"name":"loader"}`},
		{"GET", "/api/v1/matrix?object=survey.drilling.boreholes", ""},
		{"GET", "/api/v1/label-suggestions", ""},
	} {
		if status, text, err := request(t, t.Context(), server, opal.Token, c.method, c.path, c.body); err != nil || status/100 != 2 {
			t.Errorf("%s %s: %d %s %v", c.method, c.path, status, text, err)
		}
	}
	records, err := client.Send[wire.List[wire.Record]](t.Context(), opal, "GET", "/records?limit=200&actor=user:opal", nil)
	if err != nil {
		t.Fatal(err)
	}
	actions := map[string]bool{}
	for _, r := range records.Items {
		if r.Client != "gneiss" && r.Client != "Go-http-client" && r.Client != "the service itself" {
			t.Errorf("%s %s (%s) was done with %q", r.Reference, r.Action, r.Text, r.Client)
		}
		actions[r.Action] = true
	}
	for _, action := range []string{"sign-in", "change", "query", "token", "matrix", "sample"} {
		if !actions[action] {
			t.Errorf("nothing on record as %s, only %v", action, actions)
		}
	}
}
