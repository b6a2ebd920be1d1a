package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/wire"
)

// TestBeforeAndAfter works through drafts, checks, history, undo and files as an administrator does, and
// reads what each command says and ends with.
func TestBeforeAndAfter(t *testing.T) {
	opal := signedIn(t, demotest.Start(t), "opal")
	dir := t.TempDir()
	report := filepath.Join(dir, "report.xml")
	for _, c := range []struct {
		args, says string
		code       int
	}{
		{"draft open spring --reason trial", "Opened the draft spring.", 0},
		{"draft open spring", "there is an open draft spring already", 1},
		{"draft show sprng", "did you mean spring?", 1},
		{"draft show spring", "Nothing is in it yet", 0},
		{"draft publish spring -y", "has no change in it yet", 1},
		{"grant select on survey.drilling to role:partner --draft spring", "In the draft: granted SELECT", 0},
		{"policy stop finance-data --draft spring", "the guardrail finance-in-office", 1},
		{"policy stop notes-in-short --draft spring", "Go on?", 1},
		{"access --of user:tuff --below survey.drilling.lithology --draft spring", "survey.drilling.lithology", 0},
		{"why user:tuff select survey.drilling.lithology", "Missing: SELECT", 3},
		{"why user:tuff select survey.drilling.lithology --draft spring", "role:partner", 0},
		{"preview survey.drilling.lithology --as user:tuff --draft spring --beside user:tuff --limit 1", "user:tuff through the draft spring", 0},
		{"test add partners user:tuff survey.drilling.lithology --may-not select", "Added the access test partners", 0},
		{"draft impact spring", "It breaks the access test partners", 0},
		{"check partners", "1 of 1 hold", 0},
		{"check partners --draft spring --junit " + report, "expected not to have SELECT", 4},
		{"check nosuch", "no check nosuch", 1},
		{"draft remove spring 9", "has no change 9", 1},
		{"draft publish spring -y", "the access test partners", 0},
		{"check partners", "expected not to have SELECT", 4},
		{"history --of role:partner --limit 1", "published the draft spring of user:opal", 0},
		{"history name 1 first-day", "Named revision 1 first-day", 0},
		{"tree survey --at first-day", "does not exist", 1},
		{"tree survey --at yesterday", "is not a moment", 1},
		{"compare user:tuff --at as-opened", "user:tuff gains SELECT on survey.drilling.lithology", 0},
		{"undo 99999", "there is no revision 99999", 1},
		{"guardrail add few administrators --most 5", "Added the guardrail few", 0},
		{"guardrail add few administrators --most 5", "already", 1},
		{"guardrail set few administrators --most 4 --mode block", "Changed the guardrail few", 0},
		{"guardrail list", "there are at most 4 administrators", 0},
		{"guardrail remove few -y", "Removed the guardrail few", 0},
		{"check record user:flint survey.drilling.core_boxes --name cores", "Added the access test cores", 0},
		{"test list", "cores", 0},
		{"test remove cores -y", "Removed the access test cores", 0},
		{"files compare " + filepath.Join(dir, "none"), "there is no folder", 2},
		{"files write " + dir, "Wrote ", 0},
		{"files compare " + dir, "is as the ", 0},
		{"grant insert on survey.drilling to role:partner --with-entry", "granted INSERT", 0},
		{"files compare " + dir, "INSERT on survey.drilling to role:partner", 4},
		{"files load " + dir + " --at-once -y --only roles/partner.yaml", "loses INSERT", 0},
		{"files compare " + dir, "is as the ", 0},
		{"files load " + dir, "nothing to load", 0},
	} {
		out, errs, code := opal.run(strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(strings.ToLower(out+errs), strings.ToLower(c.says)) {
			t.Errorf("gneiss %s: exit code %d, want %d with %q\n%s%s", c.args, code, c.code, c.says, out, errs)
		}
	}
	if text, err := os.ReadFile(report); err != nil || !strings.Contains(string(text), `tests="1" failures="1"`) || !strings.Contains(string(text), "expected not to have SELECT, got it") {
		t.Errorf("the report is %s, %v", text, err)
	}
	// What stands at the head of a file stays, and so does what others put into the folder.
	path := filepath.Join(dir, "roles", "partner.yaml")
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, append([]byte("# agreed in spring\n"), text...), 0o600); err != nil {
		t.Fatal(err)
	}
	if out := opal.must("files", "write", dir); !strings.Contains(out, "0 of them changed") {
		t.Errorf("a comment is no change: %s", out)
	}
	if again, err := os.ReadFile(path); err != nil || !strings.HasPrefix(string(again), "# agreed in spring\nrole: partner\n") {
		t.Errorf("the comment is gone: %s, %v", again, err)
	}
}

// TestGuardrailsKeepWhatIsNotNamed: set changes what is named of a guardrail, and weakens nothing else.
func TestGuardrailsKeepWhatIsNotNamed(t *testing.T) {
	opal := signedIn(t, demotest.Start(t), "opal")
	of := func() wire.Guardrail {
		t.Helper()
		var list []wire.Guardrail
		if err := json.Unmarshal([]byte(opal.must("guardrail", "list", "-o", "json")), &list); err != nil {
			t.Fatal(err)
		}
		return list[slices.IndexFunc(list, func(g wire.Guardrail) bool { return g.Name == "finance-in-office" })]
	}
	before := of()
	if before.Mode != "block" || len(before.Except) == 0 {
		t.Fatalf("the demo's guardrail is %+v", before)
	}
	opal.must("guardrail", "set", "finance-in-office", "clear", "--comment", "the office only")
	after := of()
	if after.Comment != "the office only" || after.Mode != before.Mode || after.Object != before.Object || !slices.Equal(after.Except, before.Except) {
		t.Errorf("it was %+v, and is %+v", before, after)
	}
	opal.must("guardrail", "set", "finance-in-office", "clear", "--comment", "", "--mode", "warn", "--except", "")
	if after = of(); after.Comment != "" || after.Mode != "warn" || after.Object != before.Object || len(after.Except) != 0 {
		t.Errorf("with all taken away it is %+v", after)
	}
}
