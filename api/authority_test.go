package api_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/api"
	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/wire"
)

// An operation is a row of testdata/authority.txt.
type operation struct{ whom, method, path, body string }

func operations(t *testing.T) (out []operation) {
	t.Helper()
	text, err := os.ReadFile("testdata/authority.txt")
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line == "" || line[0] == '#' {
			continue
		}
		fields := strings.Fields(line)
		_, body, _ := strings.Cut(line, fields[2]+" ")
		out = append(out, operation{fields[0], fields[1], fields[2], body})
	}
	return out
}

// A proof is how somebody shows who they are.
type proof struct {
	name          string
	token, cookie string
	csrf          string
}

func (p proof) ask(t *testing.T, server string, o operation) (status int, code, text string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), o.method, server+"/api/v1"+o.path, strings.NewReader(o.body))
	if err != nil {
		t.Fatal(err)
	}
	if o.body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	if p.token != "" {
		r.Header.Set("Authorization", "Bearer "+p.token)
	}
	if p.cookie != "" {
		r.Header.Set("Cookie", "gneiss_session="+p.cookie)
	}
	if p.csrf != "" {
		r.Header.Set("X-CSRF-Token", p.csrf)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	var told struct{ Code string }
	json.Unmarshal(b, &told)
	return answer.StatusCode, told.Code, string(b)
}

// session signs in as a browser does.
func session(t *testing.T, server, user string) proof {
	t.Helper()
	answer, err := http.Post(server+"/api/v1/session", "application/json", strings.NewReader(`{"user":"`+user+`","password":"northmark"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	var got wire.Session
	if err := json.NewDecoder(answer.Body).Decode(&got); err != nil {
		t.Fatal(err)
	}
	for _, c := range answer.Cookies() {
		if c.Name == "gneiss_session" {
			return proof{name: user + "'s session", cookie: c.Value, csrf: got.CSRF}
		}
	}
	t.Fatal("signing in gives no session")
	return proof{}
}

// TestAuthority asks for each operation of the API with each kind of proof, and holds the answers against
// the table: what nobody proved, what has ended, what is disabled and what another page sent opens nothing; and who is no
// administrator gets nothing of what is for administrators, by whichever proof.
func TestAuthority(t *testing.T) {
	server := demotest.Start(t)
	opal := demotest.SignIn(t, server, "opal")
	all := operations(t)

	var document struct {
		Paths map[string]map[string]any
	}
	if err := json.Unmarshal(api.Document(), &document); err != nil {
		t.Fatal(err)
	}
	for path, methods := range document.Paths {
		pattern := strings.Split(strings.TrimPrefix(path, "/api/v1"), "/")
		for method := range methods {
			if !slices.Contains([]string{"get", "post", "put", "patch", "delete"}, method) {
				continue
			}
			if !slices.ContainsFunc(all, func(o operation) bool {
				bare, _, _ := strings.Cut(o.path, "?")
				parts := strings.Split(bare, "/")
				return strings.EqualFold(o.method, method) && slices.EqualFunc(parts, pattern, func(a, b string) bool { return a == b || strings.HasPrefix(b, "{") })
			}) {
				t.Errorf("%s %s has no row in testdata/authority.txt", strings.ToUpper(method), path)
			}
		}
	}

	send := func(c *client.Client, method, path string, body any) string {
		t.Helper()
		out, err := client.Send[map[string]any](t.Context(), c, method, path, body)
		if err != nil {
			t.Fatal(err)
		}
		token, _ := out["secret"].(string)
		return token
	}
	flint, tuff := session(t, server, "flint"), demotest.SignIn(t, server, "tuff")
	soon := time.Now().Add(1500 * time.Millisecond)
	short := proof{name: "a token that has ended", token: send(demotest.SignIn(t, server, "flint"), "POST", "/tokens", map[string]any{"name": "short", "expires": soon})}
	long := proof{name: "flint's token", token: send(demotest.SignIn(t, server, "flint"), "POST", "/tokens", map[string]any{"name": "long"})}
	disabled := proof{name: "a disabled account's token", token: send(tuff, "POST", "/tokens", map[string]any{"name": "gone"})}
	send(opal, "PATCH", "/subjects/user:tuff", map[string]any{"subject": "user:tuff", "disabled": true})
	time.Sleep(time.Until(soon.Add(100 * time.Millisecond)))
	outside := []proof{{name: "nothing"}, {name: "a token that is none", token: "gn_nosuch"}, {name: "a cookie that is none", cookie: "nosuch"}, short, disabled}

	revision := func() int64 {
		t.Helper()
		s, err := client.Get[wire.Session](t.Context(), opal, "/session", nil)
		if err != nil {
			t.Fatal(err)
		}
		return s.Revision
	}
	before := revision()
	for _, o := range all {
		about := o.method + " " + o.path
		if o.whom == "open" {
			continue
		}
		for _, p := range outside {
			if status, code, text := p.ask(t, server, o); status != 401 && code != "disabled" {
				t.Errorf("%s with %s gives %d: %.200s", about, p.name, status, text)
			}
		}
		if o.method != "GET" {
			forged := proof{name: "a session without its CSRF token", cookie: flint.cookie}
			if status, code, text := forged.ask(t, server, o); status != 403 || code != "csrf" {
				t.Errorf("%s with %s gives %d: %.200s", about, forged.name, status, text)
			}
		}
		ends := o.path == "/session" && o.method == "DELETE" || o.path == "/password"
		for _, p := range []proof{flint, long} {
			if ends {
				continue
			}
			status, _, text := p.ask(t, server, o)
			switch o.whom {
			case "admin", "right", "review":
				if status != 403 && status != 404 {
					t.Errorf("%s, which is for %s, gives %s %d: %.300s", about, o.whom, p.name, status, text)
				}
			case "own":
				if status/100 != 2 && status != 404 && status != 409 {
					t.Errorf("%s, which is for everybody, gives %s %d: %.300s", about, p.name, status, text)
				}
			default:
				t.Errorf("%s is for %q, which is nobody", about, o.whom)
			}
		}
	}
	if now := revision(); now != before {
		t.Errorf("what nobody may do has made %d revisions", now-before)
	}
	for _, o := range all { // a token changes no password
		if o.path == "/password" {
			if status, _, text := long.ask(t, server, o); status != 403 {
				t.Errorf("a token that sets a password gets %d: %.200s", status, text)
			}
		}
	}
	fmt.Fprintln(t.Output(), len(all), "operations")
}
