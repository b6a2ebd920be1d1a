package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/wire"
)

// sees fails unless a text has all that it should.
func sees(t testing.TB, what, text string, wants ...string) {
	t.Helper()
	for _, want := range wants {
		if !strings.Contains(text, want) {
			t.Errorf("%s lacks %q:\n%s", what, want, text)
		}
	}
}

// TestRightsOnTheCommandLine is an administrator's day with what grants are made
// of: bundles, lanes, owners, chains of grants.
func TestRightsOnTheCommandLine(t *testing.T) {
	server := demotest.Start(t)
	opal, marl := signedIn(t, server, "opal"), signedIn(t, server, "marl")

	sees(t, "the tree of roles", opal.must("role", "tree"), "regional_lead", "  district_geologist", "    survey_reader", "EMPTY: it has no members", "as above")
	if _, errs, code := opal.run("role", "tree", "survey_raeder"); code != 1 || !strings.Contains(errs, "did you mean role:survey_reader?") {
		t.Errorf("an unknown role: %d, %s", code, errs)
	}
	sees(t, "the bundles", opal.must("bundle", "list"), "reader", "USAGE, SELECT, DESCRIBE", "sampler", "built in")
	sees(t, "a new bundle", opal.must("bundle", "add", "carrier", "select,describe", "insert"), "Added the bundle carrier: SELECT, INSERT, DESCRIBE.")
	sees(t, "a grant of it", opal.must("grant", "carrier", "on", "survey.assay.batches,survey.assay.samples", "to", "user:marl", "--with-entry"),
		"Granted carrier on survey.assay.batches to user:marl", "Granted USAGE on lane:interactive to user:marl", "user:marl gains SELECT, INSERT, DESCRIBE on survey.assay.samples")
	out := opal.must("bundle", "set", "carrier", "select", "--dry-run")
	sees(t, "a dry run", out, "user:marl loses INSERT, DESCRIBE on survey.assay.batches", "Nothing was changed.")
	sees(t, "the bundle's end", opal.must("bundle", "set", "carrier", "select", "--yes"), "loses INSERT, DESCRIBE on survey.assay.samples")
	if _, errs, code := opal.run("bundle", "remove", "carrier", "--yes"); code != 1 || !strings.Contains(errs, "still granted (2 times)") {
		t.Errorf("a bundle in use: %d, %s", code, errs)
	}

	sees(t, "a new lane", opal.must("lane", "add", "night", "--queries", "1", "--seconds", "600", "--rows", "2"), "lane:night: 1 at once, 600 s, 2 rows", "nobody may use it yet")
	opal.must("grant", "usage", "on", "lane:night", "to", "user:marl")
	sees(t, "the lanes", opal.must("lane", "list"), "lane:interactive", "lane:night")
	narrow := []string{"query", "select id from survey.assay.batches order by id", "--lane", "night"}
	if got := marl.must(append(narrow, "-o", "csv", "--limit", "2")...); got != "id\r\n1\r\n2\r\n" {
		t.Errorf("on the narrow lane: %q", got)
	}
	sees(t, "on the narrow lane", marl.must(narrow...), "2", "the lane lets no more through")
	if out, errs, code := marl.run(append(narrow, "-o", "csv")...); code != 1 || !strings.Contains(errs, "more than the 2 rows that the lane night allows") {
		t.Errorf("more than the narrow lane allows: %d, %q, %s", code, out, errs)
	}
	if _, errs, code := marl.run("query", "select 1", "--lane", "batch"); code != 1 || !strings.Contains(errs, "not yours to use") {
		t.Errorf("a lane that is not open: %d, %s", code, errs)
	}
	if _, errs, code := opal.run("lane", "set", "night", "--rows", "0"); code != 2 || !strings.Contains(errs, "whole number from 1") {
		t.Errorf("a bad limit: %d, %s", code, errs)
	}
	sees(t, "the lane's end", opal.must("lane", "remove", "night", "--yes"), "user:marl loses USAGE on lane:night")

	sees(t, "an owner", opal.must("owner", "set", "survey.field", "to", "role:lab_keeper", "--yes"), "Made role:lab_keeper the owner of survey.field, which was role:data_curator's", "user:beryl gains")
	sees(t, "the object", opal.must("show", "survey.field"), "Owned by role:lab_keeper.", "as the owner of survey.field")
	sees(t, "the owner's end", opal.must("owner", "drop", "survey.field", "--yes"), "user:beryl loses")

	if _, errs, code := opal.run("revoke", "select", "on", "survey.licensing.licences", "from", "role:licensing_officer", "--yes"); code != 1 || !strings.Contains(errs, "2 grants depend on it") {
		t.Errorf("a revocation on which others rest: %d, %s", code, errs)
	}
	_, errs, code := opal.run("revoke", "select", "on", "survey.licensing.licences", "from", "role:licensing_officer", "--cascade")
	if code != 1 || !strings.Contains(errs, "also revoked: SELECT on survey.licensing.licences.id to user:tuff by user:garnet") || !strings.Contains(errs, "user:tuff loses") {
		t.Errorf("without an answer: %d, %s", code, errs)
	}
	sees(t, "cascade", opal.must("revoke", "select", "on", "survey.licensing.licences", "from", "role:licensing_officer", "--cascade", "--yes"), "user:tuff loses SELECT on survey.licensing.licences")

	sees(t, "writing", signedIn(t, server, "flint").must("query", "update survey.field.visits set note = 'x' where id < 0"), "changed 0 rows", "on lane:interactive")
	sees(t, "a statement", opal.must("query", "grant sampler on survey.assay.results to marl with grant option"), "granted sampler on survey.assay.results to user:marl with grant option")
	sees(t, "the findings", opal.must("findings"), "no_sign_in", "service:slag has 1 right, and neither a password nor a token", "alike_names")
}

// TestAccountsOnTheCommandLine covers passwords, tokens and rosters.
func TestAccountsOnTheCommandLine(t *testing.T) {
	server := demotest.Start(t)
	opal, marl := signedIn(t, server, "opal"), signedIn(t, server, "marl")

	c := gneiss(t, marl.env, "password")
	c.Stdin = strings.NewReader("northmark\nnorthmark2\n")
	if out, err := c.CombinedOutput(); err != nil || !strings.Contains(string(out), "Changed your password") {
		t.Errorf("the own password: %v, %s", err, out)
	}
	if _, errs, code := opal.run("token", "add", "nightly", "--of", "service:pumice", "--until", "2099-01-01"); code != 1 || !strings.Contains(errs, "up to a year") {
		t.Errorf("a token for ever: %d, %s", code, errs)
	}
	secret := strings.TrimSpace(opal.must("token", "add", "nightly", "--of", "service:pumice"))
	pumice := shell{t, []string{"GNEISS_SERVER=" + server, "GNEISS_TOKEN=" + secret}}
	sees(t, "the service", pumice.must("whoami"), "service:pumice")
	var list []wire.Token
	if err := json.Unmarshal([]byte(opal.must("token", "list", "--of", "service:pumice", "-o", "json")), &list); err != nil || len(list) != 1 || list[0].Name != "nightly" {
		t.Fatalf("pumice's tokens: %+v, %v", list, err)
	}
	opal.must("token", "end", list[0].ID)
	if _, errs, code := pumice.run("whoami"); code != 1 || !strings.Contains(errs, "sign in first") {
		t.Errorf("with a token that has ended: %d, %s", code, errs)
	}

	dir := t.TempDir()
	file := filepath.Join(dir, "people.csv")
	if err := os.WriteFile(file, []byte("subject,title,attribute:districts\nuser:schist,new,north\nuser:gabbro,new,\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	sees(t, "a dry run", opal.must("roster", "import", file, "--dry-run"), "Would have", "2 new subjects", "Nothing was changed.")
	sees(t, "the import", opal.must("roster", "import", file), "Imported 1 attribute, 2 new subjects", "Revision")
	sees(t, "the export", opal.must("roster", "export", "-o", "csv"), "subject,title,disabled,lead,attribute:districts", "user:schist,new,false,,north")
	sees(t, "the memberships", opal.must("roster", "export", "-o", "csv", "--memberships"), "member,of,until,option,reason,ticket", "user:beryl,role:lab_analyst")
	var roster wire.Roster
	if err := json.Unmarshal([]byte(opal.must("roster", "export", "-o", "json")), &roster); err != nil || len(roster.Subjects) < 20 {
		t.Errorf("as JSON: %d subjects, %v", len(roster.Subjects), err)
	}
	sees(t, "a user", opal.must("user", "set", "schist", "--rename", "shale", "--lead", "chert"), "Renamed user:schist to user:shale", "Had user:schist report to user:chert")
	sees(t, "the user's page", opal.must("show", "user:shale"), "reports to user:chert", "districts = {north}")
	sees(t, "a removal", opal.must("user", "remove", "chert", "--yes"), "user:shale reports to nobody from now on")
}
