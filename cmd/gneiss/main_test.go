package main

import (
	"bufio"
	"bytes"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/wire"
)

// The tests run the command itself: this binary, started again as gneiss.
func TestMain(m *testing.M) {
	if os.Getenv("GNEISS_TEST_AS_MAIN") == "1" {
		main()
		return
	}
	os.Exit(demotest.Run(m))
}

// gneiss makes a command line of the binary, with an environment of its own.
func gneiss(t testing.TB, env []string, args ...string) *exec.Cmd {
	t.Helper()
	c := exec.Command(os.Args[0], args...)
	c.Env = append([]string{"GNEISS_TEST_AS_MAIN=1", "PATH=" + os.Getenv("PATH"), "HOME=" + t.TempDir()}, env...)
	return c
}

// shell is one person's command line.
type shell struct {
	t   testing.TB
	env []string
}

func signedIn(t testing.TB, server, user string) shell {
	t.Helper()
	return signedInWith(t, server, user, "northmark\n")
}

// signedInWith signs in with what it types: a password, and behind one that was given, one of one's own.
func signedInWith(t testing.TB, server, user, passwords string) shell {
	t.Helper()
	c := gneiss(t, []string{"GNEISS_SERVER=" + server}, "sign-in", "--user", user, "--password-stdin", "--print-token")
	c.Stdin = strings.NewReader(passwords)
	token, err := c.Output()
	if err != nil {
		t.Fatalf("%s cannot sign in: %v", user, err)
	}
	return shell{t, []string{"GNEISS_SERVER=" + server, "GNEISS_TOKEN=" + strings.TrimSpace(string(token))}}
}

// run runs a command line and returns its output, its errors and its exit code.
func (s shell) run(args ...string) (out, errs string, code int) {
	s.t.Helper()
	c := gneiss(s.t, s.env, args...)
	var stdout, stderr bytes.Buffer
	c.Stdout, c.Stderr = &stdout, &stderr
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		s.t.Fatal(err)
	}
	return stdout.String(), stderr.String(), c.ProcessState.ExitCode()
}

// must runs a command that has to succeed.
func (s shell) must(args ...string) string {
	s.t.Helper()
	out, errs, code := s.run(args...)
	if code != 0 {
		s.t.Fatalf("gneiss %s: exit code %d\n%s%s", strings.Join(args, " "), code, out, errs)
	}
	return out
}

// TestStory is the first thing an administrator does, on the command line.
func TestStory(t *testing.T) {
	server := demotest.Start(t)
	opal := signedIn(t, server, "opal")

	tree := opal.must("tree", "survey", "--as", "user:flint")
	for _, want := range []string{"boreholes", "holders", "█▒▒▒", "14 of 16 tables readable"} {
		if !strings.Contains(tree, want) {
			t.Errorf("flint's tree lacks %q:\n%s", want, tree)
		}
	}
	if strings.Contains(tree, "payments") {
		t.Errorf("flint's tree shows payments, which flint may not read:\n%s", tree)
	}
	byDistrict := "select district, count(*) from survey.drilling.boreholes group by district"
	if got := opal.must("query", byDistrict, "--as", "user:flint", "-o", "csv"); got != "district,count\r\nnorth,1310\r\n" {
		t.Errorf("flint counts %q", got)
	}
	// What the administrator sees as flint is what flint gets.
	flint := signedIn(t, server, "flint")
	if got := flint.must("query", byDistrict, "-o", "csv"); got != "district,count\r\nnorth,1310\r\n" {
		t.Errorf("flint's own count is %q", got)
	}
	preview := opal.must("preview", "survey.licensing.holders", "--as", "user:flint", "--beside", "user:garnet")
	for _, want := range []string{"user:flint", "user:garnet", "≠ ZZ", "∅", "rows are matched by id"} {
		if !strings.Contains(preview, want) {
			t.Errorf("the preview lacks %q:\n%s", want, preview)
		}
	}

	marl := signedIn(t, server, "marl")
	if _, errs, code := marl.run("query", "select count(*) from survey.drilling.lithology"); code != 1 || !strings.Contains(errs, "does not exist or is not yours to use") {
		t.Errorf("marl got exit code %d: %s", code, errs)
	}
	opal.must("role", "add", "core_archivist")
	if out := opal.must("grant", "select", "on", "survey.drilling", "to", "role:core_archivist", "--with-entry"); !strings.Contains(out, "Granted USAGE on survey to role:core_archivist") {
		t.Errorf("--with-entry opened no door:\n%s", out)
	}
	if out := opal.must("role", "give", "core_archivist", "to", "user:marl"); !strings.Contains(out, "user:marl gains SELECT on survey.drilling.lithology") {
		t.Errorf("giving the role says nothing of what marl gains:\n%s", out)
	}
	if got := marl.must("query", "select count(*) as n from survey.drilling.lithology", "-o", "csv"); got != "n\r\n7200\r\n" {
		t.Errorf("marl counts %q after the grant", got)
	}

	out, _, code := opal.run("why", "user:marl", "select", "survey.assay.results")
	if code != 3 || !strings.Contains(out, "Missing: USAGE on survey.assay, SELECT on survey.assay.results") || !strings.Contains(out, "gneiss role give lab_analyst to user:marl") {
		t.Errorf("why: exit code %d\n%s", code, out)
	}

	opal.must("policy", "rows", "add", "lithology-of-granite", "--on", "survey.drilling.lithology", "--for", "role:core_archivist", "--where", "rock = 'granite'")
	opal.must("policy", "columns", "add", "lithology-depths", "--on", "survey.drilling.lithology", "--columns", "from_m,to_m", "--treat", "suppress", "--for", "user:marl")
	got := marl.must("query", "select count(*) as n, count(distinct rock) as rocks, count(from_m) as depths from survey.drilling.lithology", "-o", "csv")
	rows, err := csv.NewReader(strings.NewReader(got)).ReadAll()
	if err != nil || len(rows) != 2 || rows[1][1] != "1" || rows[1][2] != "0" || rows[1][0] == "0" || rows[1][0] == "7200" {
		t.Errorf("marl's lithology under both policies: %q, %v", got, err)
	}
	if out := opal.must("--yes", "policy", "remove", "lithology-of-granite"); !strings.Contains(out, "Removed the policy lithology-of-granite") {
		t.Errorf("policy remove: %s", out)
	}

	var list wire.AccessList
	if err := json.Unmarshal([]byte(opal.must("access", "--of", "user:flint", "-o", "json")), &list); err != nil || len(list.Items) < 15 {
		t.Errorf("access --of gives %d items, %v", len(list.Items), err)
	}
	if out := opal.must("access", "--to", "survey.drilling.boreholes"); !strings.Contains(out, "user:tuff") || strings.Contains(out, "user:beryl") {
		t.Errorf("access --to:\n%s", out)
	}
	if out := opal.must("audit", "--decision", "refused"); !strings.Contains(out, "user:marl") || !strings.Contains(out, "missing: USAGE on lane:interactive, USAGE on survey") {
		t.Errorf("the record lacks marl's refusal:\n%s", out)
	}
}

// TestBadInput holds the messages and exit codes of mistakes.
func TestBadInput(t *testing.T) {
	opal := signedIn(t, demotest.Start(t), "opal")
	for _, c := range []struct {
		name string
		args string
		code int
		says string
	}{
		{"a mistyped object", "tree survey.drillin", 1, "did you mean survey.drilling?"},
		{"a mistyped subject", "role give survey_reader to user:marlo", 1, "did you mean user:marl?"},
		{"a mistyped privilege", "grant slect on survey.drilling to user:marl", 1, "did you mean SELECT?"},
		{"a role loop", "role give district_geologist to role:survey_reader", 1, "role:survey_reader → role:district_geologist → role:survey_reader"},
		{"a role to itself", "role give partner to role:partner", 1, "loop"},
		{"a privilege at the wrong level", "grant usage on survey.assay.results to user:marl", 1, "applies to source, schema or lane"},
		{"a policy that does not bind", "policy rows add p --on survey.field.visits --where nope=1", 1, "there is no column nope"},
		{"a policy that is no truth value", "policy rows add p --on survey.field.visits --where note", 1, "needs a truth value"},
		{"a policy that is more than a condition", "policy rows add p --on survey.field.visits --where true;select", 1, "statement"},
		{"a treatment that does not fit", "policy columns add p --on survey.field.visits --columns visited_on --treat mask", 1, "mask works on text, character varying, character, name; not on date"},
		{"an unknown treatment", "policy columns add p --on survey.field.visits --columns note --treat blur", 1, "no treatment blur"},
		{"a policy twice", "policy rows add boreholes-curated --on survey.drilling.boreholes --where true", 1, "exists already"},
		{"SQL outside the language", "query VACUUM", 1, "can be run here; VACUUM"},
		{"no SQL at all", "query selec", 1, "line 1, column 1"},
		{"an unknown command", "frobnicate", 2, "unknown command"},
		{"an unknown flag", "tree --nope", 2, "unknown flag"},
		{"too few words", "grant select", 2, "usage:"},
		{"an unknown output", "tree -o pdf", 2, "table, json, yaml and csv"},
		{"a service that is not there", "tree --server http://127.0.0.1:1", 5, "no service answers"},
		{"a revoke that nobody confirms", "revoke select on survey.assay from role:lab_analyst", 1, "Nothing was changed"},
		{"a bad date", "role give partner to user:marl --until tomorrow", 2, "--until takes a day"},
		{"the last administrator", "--yes role take administrator from user:opal", 1, "without an administrator"},
		{"a subject that policies name", "--yes role remove regional_lead", 1, "is named by the policies"},
	} {
		t.Run(c.name, func(t *testing.T) {
			out, errs, code := opal.run(strings.Fields(c.args)...)
			if code != c.code || !strings.Contains(out+errs, c.says) {
				t.Errorf("gneiss %s: exit code %d, want %d with %q\n%s%s", c.args, code, c.code, c.says, out, errs)
			}
		})
	}
	if grants := opal.must("grants", "--to", "role:lab_analyst", "-o", "csv"); !strings.Contains(grants, "SELECT,survey.assay,") {
		t.Errorf("an unconfirmed revoke took the grant:\n%s", grants)
	}
}

func TestWithoutRights(t *testing.T) {
	server := demotest.Start(t)
	flint, agate := signedIn(t, server, "flint"), signedIn(t, server, "agate")
	for _, c := range []struct {
		name  string
		who   shell
		args  string
		code  int
		holds string
	}{
		{"viewing as somebody else", flint, "query select(1) --as user:garnet", 3, "needs MANAGE on platform"},
		{"granting", flint, "grant select on survey.assay to user:marl", 3, "needs MANAGE"},
		{"writing a policy", flint, "policy rows add p --on survey.field.visits --where true", 3, "needs MANAGE"},
		{"asking about others", flint, "why user:garnet select survey.licensing.holders", 3, "you need DESCRIBE"},
		{"asking about oneself", flint, "why user:flint select survey.licensing.payments", 1, "does not exist or is not"},
		{"a role that is not held", flint, "query select(1) --role licensing_officer", 1, "do not have"},
		{"the auditor reads no rows", agate, "query select(1)from(survey.assay.results)", 1, ""},
		{"the auditor sees who can", agate, "access --to survey.assay.results", 0, "role:lab_analyst"},
		{"the auditor reads the record", agate, "audit", 0, "user:opal"},
	} {
		t.Run(c.name, func(t *testing.T) {
			out, errs, code := c.who.run(strings.Fields(c.args)...)
			if code != c.code || !strings.Contains(out+errs, c.holds) {
				t.Errorf("exit code %d, want %d with %q\n%s%s", code, c.code, c.holds, out, errs)
			}
		})
	}
	if out := flint.must("audit"); strings.Contains(out, "user:opal") || strings.Contains(out, "MANAGE on platform") {
		t.Errorf("flint reads more of the record than flint's own lines:\n%s", out)
	}
}

func TestSignIn(t *testing.T) {
	server := demotest.Start(t)
	c := gneiss(t, []string{"GNEISS_SERVER=" + server}, "sign-in", "--user", "opal", "--password-stdin")
	c.Stdin = strings.NewReader("wrong\n")
	if out, err := c.CombinedOutput(); err == nil || !strings.Contains(string(out), "the name or the password is wrong") {
		t.Errorf("a wrong password: %v %s", err, out)
	}
	home := t.TempDir()
	env := []string{"GNEISS_SERVER=" + server, "HOME=" + home, "XDG_CONFIG_HOME=" + home}
	c = gneiss(t, env, "sign-in", "--user", "opal", "--password-stdin")
	c.Stdin = strings.NewReader("northmark\n")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	info, err := os.Stat(filepath.Join(home, "gneiss", "tokens.json"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the token file: %v %v, want mode 0600", info, err)
	}
	if out, err := gneiss(t, env, "whoami").CombinedOutput(); err != nil || !strings.Contains(string(out), "user:opal") {
		t.Errorf("whoami: %v %s", err, out)
	}
	if out, err := gneiss(t, env, "sign-out").CombinedOutput(); err != nil {
		t.Errorf("sign-out: %v %s", err, out)
	}
	if out, err := gneiss(t, env, "whoami").CombinedOutput(); err == nil || !strings.Contains(string(out), "sign in") {
		t.Errorf("whoami after sign-out: %v %s", err, out)
	}
}

// started is a service as a process of its own.
type started struct {
	cmd    *exec.Cmd
	server string
}

var atAddress = regexp.MustCompile(`http://127\.0\.0\.1:\d+`)

func startServe(t testing.TB, dir string, more ...string) started {
	t.Helper()
	c := gneiss(t, []string{"GNEISS_ADMIN=opal", "GNEISS_ADMIN_PASSWORD=northmark"}, "serve", "--data", dir, "--listen", "127.0.0.1:0", "--source-roots", filepath.Join(dir, "sources")+":"+os.TempDir())
	c.Args = append(c.Args, more...)
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	c.Stderr = os.Stderr
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if address := atAddress.FindString(lines.Text()); address != "" {
			return started{c, address}
		}
	}
	t.Fatal("the service said no address")
	return started{}
}

func TestServeRefusals(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	busy := t.TempDir()
	startServe(t, busy)
	for _, c := range []struct{ name, args, says string }{
		{"a port in use", "serve --data " + t.TempDir() + " --listen " + l.Addr().String(), "is in use; stop what listens there"},
		{"a data folder in use", "serve --data " + busy + " --listen 127.0.0.1:0", "in use by another service"},
		{"a demo for everybody", "demo --data " + t.TempDir() + " --listen 0.0.0.0:0", "GNEISS_DEMO_PASSWORD"},
		{"a bad setting", "serve --data " + t.TempDir() + " --log-level loud", "log-level is debug, info, warn or error"},
		{"a folder with other files", "demo --listen 127.0.0.1:0 --data " + filepath.Dir(os.Args[0]), "has other files in it"},
	} {
		t.Run(c.name, func(t *testing.T) {
			out, err := gneiss(t, nil, strings.Fields(c.args)...).CombinedOutput()
			if err == nil || !strings.Contains(string(out), c.says) {
				t.Errorf("%v, want %q:\n%s", err, c.says, out)
			}
		})
	}
	out, err := gneiss(t, []string{"GNEISS_LOG_LEVEL=warn"}, "serve", "--print-config", "--data", "x").CombinedOutput()
	if err != nil || !regexp.MustCompile(`log-level: +warn +GNEISS_LOG_LEVEL`).Match(out) || !regexp.MustCompile(`data: +x +--data`).Match(out) {
		t.Errorf("--print-config: %v\n%s", err, out)
	}
}

func TestHealth(t *testing.T) {
	server := demotest.Start(t)
	// The metrics come last: there is none before the first request.
	for _, c := range [][2]string{{"/healthz", "ok"}, {"/readyz", "ready"}, {"/api/v1/openapi.json", `"openapi": "3.1.0"`}, {"/metrics", "gneiss_request_duration_seconds"}} {
		path, want := c[0], c[1]
		request, err := http.NewRequest("GET", server+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		if path == "/metrics" { // which asks for a token
			bare, err := http.Get(server + path)
			if err != nil || bare.StatusCode != 401 {
				t.Errorf("the metrics without a token: %v, %v", bare, err)
			}
			request.Header.Set("Authorization", "Bearer "+demotest.SignIn(t, server, "agate").Token)
		}
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		b.ReadFrom(answer.Body)
		answer.Body.Close()
		if answer.StatusCode != 200 || !strings.Contains(b.String(), want) {
			t.Errorf("%s: %d, lacks %q", path, answer.StatusCode, want)
		}
	}
}

// TestDemo makes the demo in a folder with a relative name, and pastes what it
// says to try.
func TestDemo(t *testing.T) {
	dir := t.TempDir()
	for _, round := range []string{"made", "found again"} {
		t.Run(round, func(t *testing.T) {
			c := gneiss(t, nil, "demo", "--data", "survey data", "--listen", "127.0.0.1:0")
			c.Dir = dir
			out, err := c.StdoutPipe()
			if err != nil {
				t.Fatal(err)
			}
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			defer func() {
				c.Process.Signal(os.Interrupt)
				if err := c.Wait(); err != nil {
					t.Errorf("Ctrl-C ends it with %v", err)
				}
			}()
			var try []string
			trying := false
			for lines := bufio.NewScanner(out); lines.Scan(); {
				line := strings.TrimSpace(lines.Text())
				if trying && line == "" {
					break
				}
				if trying {
					try = append(try, line)
				}
				trying = trying || strings.HasPrefix(line, "Try")
			}
			if len(try) != 3 {
				t.Fatalf("it offers %d commands, want 3: %q", len(try), try)
			}
			home := t.TempDir()
			for i, want := range []string{"Signed in", "rows are matched by id", "Ways to give it"} {
				paste := exec.Command("bash", "-c", try[i])
				paste.Env = []string{"GNEISS_TEST_AS_MAIN=1", "PATH=" + os.Getenv("PATH"), "HOME=" + home}
				if got, _ := paste.CombinedOutput(); !strings.Contains(string(got), want) {
					t.Errorf("%s\nwant %q in\n%s", try[i], want, got)
				}
			}
		})
	}
}

// TestFirstSteps takes a new, empty platform to the first governed query.
func TestFirstSteps(t *testing.T) {
	files := t.TempDir()
	for name, text := range map[string]string{"shop.db": "CREATE TABLE orders (id INTEGER PRIMARY KEY, buyer TEXT, total REAL); INSERT INTO orders VALUES (1, 'ann', 3.5), (2, 'bea', 4)", "empty.txt": ""} {
		path := filepath.Join(files, name)
		if text == "" {
			if err := os.WriteFile(path, nil, 0o600); err != nil {
				t.Fatal(err)
			}
			continue
		}
		db, err := sql.Open("sqlite3", path)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := db.Exec(text); err != nil {
			t.Fatal(err)
		}
		db.Close()
	}
	s := startServe(t, t.TempDir())
	opal := signedIn(t, s.server, "opal")
	if out := opal.must("tree"); !strings.Contains(out, "platform") {
		t.Errorf("the tree of an empty platform: %s", out)
	}
	if out := opal.must("source", "list"); !strings.Contains(out, "gneiss source add NAME LOCATION") {
		t.Errorf("an empty list says nothing to do: %s", out)
	}
	for _, c := range []struct{ args, says string }{
		{"source add trade " + filepath.Join(files, "nowhere"), "is not there"},
		{"source add trade " + t.TempDir(), "there are no tables in"},
		{"source scan trade", "does not exist or is not yours"},
		{"query select(1)", "no source is connected"},
	} {
		if out, errs, code := opal.run(strings.Fields(c.args)...); code != 1 || !strings.Contains(errs, c.says) {
			t.Errorf("%s: exit code %d, want %q\n%s%s", c.args, code, c.says, out, errs)
		}
	}
	if out := opal.must("source", "add", "trade", files); !strings.Contains(out, "Connected the source trade: 1 table") {
		t.Errorf("source add: %s", out)
	}
	if _, errs, code := opal.run("source", "add", "trade", files); code != 1 || !strings.Contains(errs, "there is a source trade already") {
		t.Errorf("the same source again: %d %s", code, errs)
	}
	c := gneiss(t, opal.env, "user", "add", "ann", "--password-stdin")
	c.Stdin = strings.NewReader("northmark\n")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	opal.must("grant", "select", "on", "trade", "to", "user:ann", "--with-entry")
	opal.must("policy", "rows", "add", "own-orders", "--on", "trade.shop.orders", "--where", "buyer = CURRENT_USER")
	ann := signedInWith(t, s.server, "ann", "northmark\nof my own choice\n")
	if got := ann.must("query", "select * from trade.shop.orders", "-o", "csv"); got != "id,buyer,total\r\n1,ann,3.5\r\n" {
		t.Errorf("ann reads %q", got)
	}
	db, err := sql.Open("sqlite3", filepath.Join(files, "shop.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE items (id INTEGER PRIMARY KEY); ALTER TABLE orders DROP COLUMN total"); err != nil {
		t.Fatal(err)
	}
	out := opal.must("source", "scan", "trade")
	for _, want := range []string{"there is now trade.shop.items", "trade.shop.orders.total is missing"} {
		if !strings.Contains(out, want) {
			t.Errorf("the scan does not say %q:\n%s", want, out)
		}
	}
	if got := ann.must("query", "select count(*) as n from trade.shop.items", "-o", "csv"); got != "n\r\n0\r\n" {
		t.Errorf("a table that the scan found is not covered: %q", got)
	}
	if got := ann.must("query", "select * from trade.shop.orders", "-o", "csv"); got != "id,buyer\r\n1,ann\r\n" {
		t.Errorf("after a column went: %q", got)
	}
	if out := ann.must("source", "list", "-o", "csv"); strings.Contains(out, files) {
		t.Errorf("a reader is told where the files are: %s", out)
	}
}
