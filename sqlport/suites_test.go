package sqlport_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gneiss/sqlport"
)

var suites = flag.Bool("suites", false, "run the drivers' own tests against the port and a server")

// TestOthersSuites runs pgx's own tests against a PostgreSQL server and against the port in front of it. What passes on
// the server and not on the port is testdata/suites/pgx.txt, each with the reason: a test that passes by now is to be
// taken out of it, and one that is not in it fails.
func TestOthersSuites(t *testing.T) {
	known := reasons(t, "testdata/suites/pgx.txt")
	if !*suites {
		return // the list has a reason for each
	}
	p := opened(t, true, sqlport.Limits{})
	dir := module(t, "github.com/jackc/pgx/v5")
	server, port := suite(t, dir, p.url), suite(t, dir, p.to("opal", "survey_pg")+"?sslmode=disable")
	passed, both := 0, 0
	for _, name := range slices.Sorted(maps.Keys(server)) {
		if server[name].Action != "pass" {
			continue
		}
		passed++
		_, listed := known[name]
		delete(known, name)
		switch {
		case port[name].Action == "pass":
			both++
			if listed {
				t.Errorf("%s passes by now: take it out of the list", name)
			}
		case !listed:
			t.Errorf("%s\t%s", name, port[name].why())
		}
	}
	for name := range known {
		t.Errorf("%s is listed, and does not pass on the server", name)
	}
	t.Logf("%d of %d that pass on the server pass on the port", both, passed)
}

// module copies the module of a package, with its tests, where it can be built.
func module(t *testing.T, name string) string {
	t.Helper()
	from, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", name).Output()
	if err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(t.TempDir(), "module")
	if err := os.CopyFS(to, os.DirFS(strings.TrimSpace(string(from)))); err != nil {
		t.Fatal(err)
	}
	return to
}

// A testRun is what became of one test, and what it printed.
type testRun struct {
	Action string
	said   []string
}

// suite runs the tests of a module with a database, but for one that waits for ever where there is no NOTIFY.
func suite(t *testing.T, dir, url string) map[string]testRun {
	t.Helper()
	c := exec.Command("go", "test", "-p", "1", "-json", "-timeout", "10m", "-skip", "TestListenNotifyWhileBusyIsSafe", ".", "./pgconn", "./pgtype/...", "./pgxpool", "./stdlib")
	c.Dir, c.Env = dir, append(os.Environ(), "PGX_TEST_DATABASE="+url, "GOFLAGS=-mod=mod", "PGTZ=")
	out, err := c.Output()
	if len(out) == 0 {
		t.Fatal(err)
	}
	runs := map[string]testRun{}
	lines := bufio.NewScanner(bytes.NewReader(out))
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var e struct{ Action, Package, Test, Output string }
		if json.Unmarshal(lines.Bytes(), &e) != nil || e.Test == "" || strings.Contains(e.Test, "/") {
			continue
		}
		name := "." + strings.TrimPrefix(e.Package, "github.com/jackc/pgx/v5") + " " + e.Test
		r := runs[name]
		switch e.Action {
		case "pass", "fail", "skip":
			r.Action = e.Action
		case "output":
			r.said = append(r.said, strings.TrimSpace(e.Output))
		}
		runs[name] = r
	}
	return runs
}

// why is the first thing of what a test says that tells why it fails.
func (r testRun) why() string {
	if r.Action == "" {
		return "it does not come to an end"
	}
	for _, line := range r.said {
		if strings.Contains(line, "SQLSTATE") {
			return line
		}
	}
	return fmt.Sprintf("%.300q", strings.Join(r.said, " | "))
}

// reasons reads a list of tests with their reasons: a line of its own is a reason, for the tests below it.
func reasons(t *testing.T, path string) map[string]string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	out, reason := map[string]string{}, ""
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\n")
		switch name, indented := strings.CutPrefix(line, "\t"); {
		case indented:
			if _, twice := out[name]; twice || reason == "" {
				t.Errorf("%s: %s stands there twice, or without a reason", path, name)
			}
			out[name] = reason
		case line != "" && line[0] != '#':
			reason = line
		}
	}
	return out
}
