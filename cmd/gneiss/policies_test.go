package main

import (
	"strings"
	"testing"

	"gneiss/demo/demotest"
)

// TestPoliciesOnTheCommandLine writes policies in words, tries a draft, labels a
// column and treats it by its label.
func TestPoliciesOnTheCommandLine(t *testing.T) {
	server := demotest.Start(t)
	opal := signedIn(t, server, "opal")

	sees(t, "a trial", opal.must("policy", "rows", "add", "wells", "--on", "survey.monitoring.wells", "--column", "district", "--is-attribute", "districts", "--try"),
		"where district is one of the reader's districts", "user:slate", "120", "Nothing was changed.")
	sees(t, "a draft", opal.must("policy", "rows", "add", "wells", "--on", "survey.monitoring.wells", "--column", "district", "--listed-in", "field.district_officers.district", "--listed-for", "officer", "--status", "draft"),
		"district is listed for the reader in field.district_officers (district, by officer)", "a draft takes no effect until it is published")
	sees(t, "what it would do", opal.must("policy", "try", "wells"), "user:flint   survey.monitoring.wells       300    60  300")
	sees(t, "an edit in SQL, said in words", opal.must("policy", "rows", "edit", "wells", "--where", "in_group(district)", "--commands", "read"), "are shown for reading to everyone where district is one of the reader's groups")
	sees(t, "publishing", opal.must("policy", "publish", "wells", "--yes"), "Published the policy wells", "user:flint loses survey.monitoring.wells: all rows (left: some rows, by wells)")
	sees(t, "following", opal.must("policy", "rows", "add", "boxes", "--on", "survey.drilling.core_boxes", "--follow", "survey.drilling.boreholes", "--dry-run"), "where their row of survey.drilling.boreholes is there (by borehole_id)")
	sees(t, "noise for some rows", opal.must("policy", "columns", "add", "depths", "--on", "survey.drilling.boreholes", "--columns", "depth_m", "--treat", "noise", "--range", "5", "--when", "release_on > CURRENT_DATE", "--dry-run"),
		"blurred by up to 5", "depth_m (left: blurred by up to 5 for some rows)", "add: OR release_on IS NULL")
	sees(t, "a draft's rows", opal.must("preview", "survey.field.visits", "--as", "user:flint", "--with-policy", "notes-in-short"), "user:flint with notes-in-short live")
	sees(t, "the matrix", opal.must("policy", "matrix", "survey.drilling.boreholes"), "1310 of 2400", "withheld (blank)", "rounded to 1 decimal for some rows")

	sees(t, "suggestions", opal.must("label", "suggest"), "survey.drilling.boreholes.latitude", "200 sampled values can be a latitude", "gneiss label accept")
	sees(t, "accepting", opal.must("label", "accept", "position", "for", "survey.drilling.boreholes.latitude"), "Added label:position", "Put label:position on survey.drilling.boreholes.latitude")
	sees(t, "dismissing", opal.must("label", "dismiss", "identity", "for", "survey.licensing.holders.tax_number"), "is not suggested there again")
	sees(t, "what no policy covers", opal.must("label", "columns", "--uncovered"), "survey.licensing.payments.amount", "no policy")
	sees(t, "a policy on a label", opal.must("policy", "columns", "add", "hide", "--on", "label:position", "--treat", "suppress", "--except", "role:data_curator"), "Every column that has label:position is suppressed for everyone", "user:flint loses survey.drilling.boreholes: latitude (left: suppressed)")
	if _, errs, code := opal.run("label", "remove", "position", "--yes"); code != 1 || !strings.Contains(errs, "policies use it: hide") {
		t.Errorf("a label is removed under a policy: %d, %s", code, errs)
	}
	sees(t, "lifting", opal.must("label", "lift", "position", "from", "survey.drilling.boreholes.latitude", "--yes"), "user:flint gains survey.drilling.boreholes: latitude in clear")

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"policy", "rows", "add", "p", "--on", "survey.monitoring.wells"}, 2, "a row policy needs --on TABLE, and --where CONDITION"},
		{[]string{"policy", "rows", "add", "p", "--on", "survey.monitoring.wells", "--column", "district"}, 2, "--is-attribute NAME"},
		{[]string{"policy", "rows", "add", "p", "--on", "survey.monitoring.wells", "--column", "district", "--is-group", "--is-team"}, 2, "give one condition"},
		{[]string{"policy", "rows", "add", "p", "--on", "survey.monitoring.wells", "--follow", "survey.monitoring.stations", "--where", "true"}, 2, "for both, write two policies"},
		{[]string{"policy", "columns", "add", "p", "--on", "survey.monitoring.wells", "--treat", "suppress"}, 2, "with --columns or --on label:NAME"},
		{[]string{"policy", "try", "nothing"}, 2, "there is no policy nothing"},
		{[]string{"label", "put", "contat", "on", "survey.licensing.holders.company"}, 1, "did you mean label:contact?"},
		{[]string{"label", "accept", "contact", "for", "survey.licensing.holders.company"}, 2, "no such suggestion"},
	} {
		if _, errs, code := opal.run(c.args...); code != c.code || !strings.Contains(errs, c.says) {
			t.Errorf("gneiss %s: exit code %d, want %d with %q\n%s", strings.Join(c.args, " "), code, c.code, c.says, errs)
		}
	}
}

// TestTheLastServer: commands go where their user signed in last.
func TestTheLastServer(t *testing.T) {
	first, second := demotest.Start(t), demotest.Start(t)
	env := []string{"XDG_CONFIG_HOME=" + t.TempDir()}
	for _, server := range []string{first, second} {
		c := gneiss(t, env, "sign-in", "--server", server, "--user", "flint", "--password-stdin")
		c.Stdin = strings.NewReader("northmark\n")
		if out, err := c.CombinedOutput(); err != nil || !strings.Contains(string(out), "Signed in to "+server) {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	at := func(args ...string) string {
		out, _ := gneiss(t, env, args...).CombinedOutput()
		return string(out)
	}
	sees(t, "where commands go", at("whoami", "--help"), second)
	sees(t, "a command without a server", at("whoami"), "user:flint")
	sees(t, "signing out", at("sign-out"), "Signed out")
	if help := at("whoami", "--help"); strings.Contains(help, second) {
		t.Errorf("signed out, and commands still go to %s", second)
	}
}
