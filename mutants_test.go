package gneiss

import (
	"encoding/json"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

var mutating = flag.Bool("mutants", false, "put each mutant in the place of the code, and see that its test fails")

// A mutant is the product without one of its mechanisms: a text of a file that another stands for, and the
// test that must fail of it.
var mutants = []struct{ name, file, from, to, in, test string }{
	{"collations are not compared",
		"core/emit/compare.go", "\treturn len(names)+unknown <= 1\n",
		"\treturn len(names)+unknown <= 9\n",
		"./source", "TestCollationsTellNothing"},
	{"every width is bounded",
		"core/emit/compare.go", "func (b *barriers) wide(x query.Expr) bool {\n",
		"func (b *barriers) wide(x query.Expr) bool {\n	if b != nil {\n		return false\n	}\n",
		"./source", "TestWidthsTellNothing"},
	{"policies' patterns do not fold case",
		"core/access/target.go", "Matches(pattern, strings.ToLower(name)) }",
		"Matches(pattern, name+strings.ToLower(\"\")) }",
		"./source", "TestPoliciesOnPatternsFoldCase"},
	{"all keys are seen",
		"core/query/keys.go", "g *policy.Governance) bool {\n",
		"g *policy.Governance) bool {\n\tif g != nil {\n\t\treturn true\n\t}\n",
		"./source", "TestKeysOfTablesThatAreNotSeen"},
	{"all is plain",
		"core/emit/barrier.go", "func (b *barriers) plain(x query.Expr) bool {\n",
		"func (b *barriers) plain(x query.Expr) bool {\n\tif b != nil {\n\t\treturn true\n\t}\n",
		"./core/emit", "Test"},
	{"two treatments do not suppress",
		"core/policy/decide.go", "\tif d.suppressTwo(alike) {",
		"\tif len(alike) > 99 && d.suppressTwo(alike) {",
		"./core/policy", "TestTwoTreatmentsSuppress"},
	{"the gentlest treatment wins",
		"core/policy/decide.go", "return int(b.Treatment.Kind) - int(a.Treatment.Kind) })",
		"return int(a.Treatment.Kind) - int(b.Treatment.Kind) })",
		"./core/policy", "TestTheStrictestWins|TestStepsByRow"},
	{"what has ended holds",
		"core/access/subject.go", "!now.Before(until) }",
		"now.IsZero() }",
		"./core/access", "Test"},
	{"the end itself is within",
		"core/access/subject.go", "!until.IsZero() && !now.Before(until) }",
		"!until.IsZero() && now.After(until) }",
		"./core/access", "Test"},
	{"an operand is not walked",
		"core/query/walk.go", "\t\treturn &FieldOf{in(e.X), e.Name, e.T}",
		"\t\treturn &FieldOf{e.X, e.Name, e.T}",
		"./core/query", "Test"},
	{"an array of char(n) is one of char(1)",
		"core/emit/postgres.go", "\tif t.Elem != nil {\n\t\treturn typeName(t.Elem) + \"[]\"\n\t}\n",
		"",
		"./source", "TestTheServersOwnAnswers"},
	{"names are never given free",
		"core/emit/emit.go", "\tdefer e.leave(len(e.names))\n",
		"",
		"./source", "TestTheServersOwnAnswers"},
	{"a role that administers is a fix",
		"core/access/why.go", " && !other.held(PlatformID).Has(Manage)",
		"",
		"./core/access", "TestMissingAndFixes"},
	{"the key travels with a plan",
		"service/gateway/explain.go", "Key: rand.Text()}",
		"Key: s.Facts(time.Now()).Key + rand.Text()[:0]}",
		"./service", "TestPlansTellNoSecret"},
	{"the database's plan is shown to all",
		"service/gateway/explain.go", "hidden != 0 {",
		"hidden != 0 && false {",
		"./service", "TestPlansTellNoSecret"},
	{"everybody publishes policies",
		"service/admin/authority.go", "if err := s.mayPublish(st, c, own, read, scope); err != nil {",
		"if err := s.mayPublish(st, c, own, read, scope); err != nil && false {",
		"./service", "TestPoliciesPublishNothing"},
	{"REVOKE tells of grants",
		"service/admin/grants.go", "if revoke && !s.mayAskToRevoke(st, c, in) {",
		"if revoke && false && !s.mayAskToRevoke(st, c, in) {",
		"./service", "TestRevokingTellsNothing"},
	{"notes of a membership are for all",
		"service/review/effects.go", "reviews && joins <=",
		"joins <=",
		"./service", "TestWhatAMembership"},
	{"rights to administer are judged by use",
		"service/review/use.go", "&& gives&toAdminister == 0",
		"",
		"./service", "TestRightsToAdminister"},
	{"a token sets passwords",
		"service/identity/tokens.go", "\tif c.token.Kind == store.NamedToken {\n\t\treturn wire.Changed{}, errByToken",
		"\tif c.token.Kind == store.NamedToken && false {\n\t\treturn wire.Changed{}, errByToken",
		"./service", "TestTokensDoNotBecome"},
	{"a given password counts",
		"service/identity/caller.go", "\t\tif in.NewPassword == \"\" {",
		"\t\tif in.NewPassword == \"\" && false {",
		"./service", "TestGivenPasswords"},
	{"somebody reviews themself",
		"service/admin/reviews.go", "items[i].Subject == actor {",
		"items[i].Subject == actor && false {",
		"./service", "TestNobodyReviews"},
	{"time runs back",
		"service/platform/platform.go", "\treturn p.last\n}\n\n// Changed",
		"\treturn p.Now()\n}\n\n// Changed",
		"./service/platform", "TestTimeDoesNot"},
	{"one account takes every writer",
		"service/gateway/holds.go", "own > 1 && s.by[one.who] >= own {",
		"own > 1 && false {",
		"./sqlport", "TestNobodyStops"},
	{"who waits is not told of",
		"service/gateway/holds.go", "\tfor _, f := range hurry {\n\t\tf()",
		"\tfor _, f := range hurry {\n\t\t_ = f",
		"./sqlport", "TestNobodyStops"},
	{"what rests keeps its place on the lane",
		"service/gateway/pausing.go", "	again := p.traffic.rest(p.entry)\n",
		"	again := func() error { return nil }\n",
		"./sqlport", "TestNobodyStopsOthers"},
	{"what rests is not counted",
		"service/gateway/pausing.go", "	if p.own && p.leave == nil {",
		"	if p.own && p.leave != nil {",
		"./sqlport", "TestNobodyStopsOthers"},
	{"changes of settings are kept without an end",
		"sqlport/settings.go", "	if len(s.undone) >= mostUndone {",
		"	if len(s.undone) >= 1<<30 {",
		"./sqlport", "TestSessionsKeepLittle"},
	{"rows before an error are lost",
		"service/gateway/answer.go", "takes && o.err == nil && len(o.b) > 0 {",
		"takes && o.err == nil && len(o.b) < 0 {",
		"./sqlport", "TestRandomSessionsInLockstep"},
	{"a policy's list is an array in any place",
		"core/emit/postgres.go", "if slices.Contains(e.policies.searched, x) {",
		"if slices.Contains(e.policies.searched, x) || !x.All {",
		"./source", "TestListsOfPoliciesAreLookedUp"},
	{"webhooks without an end",
		"service/admin/webhooks.go", "store.Bound{All: mostWebhooks}",
		"store.Bound{}",
		"./service", "TestBoundsHoldAtOnce"},
	{"SQLite does not wait for the disk",
		"store/store.go", "_synchronous=FULL",
		"_synchronous=OFF",
		"./store", "TestWhatIsAcknowledgedIsOnDisk"},
	{"what was set stays after ROLLBACK",
		"sqlport/settings.go", "\t\tif rolledBack || u.local && !lasts[u.of] {",
		"\t\tif u.local && !lasts[u.of] {",
		"./sqlport", "TestSessionsInLockstep"},
	{"what was set stays after ROLLBACK TO",
		"sqlport/settings.go", "\tfor _, u := range slices.Backward(s.undone[n:]) {\n\t\tu.back()\n\t}\n",
		"",
		"./sqlport", "TestSessionsInLockstep"},
	{"SET after SET LOCAL is lost",
		"sqlport/settings.go", "u.local && !lasts[u.of] {",
		"u.local {",
		"./sqlport", "TestSessionsInLockstep"},
	{"cursors end with a savepoint",
		"sqlport/transaction.go", "if p.number > at.Portals {",
		"if p != nil {",
		"./sqlport", "TestSessionsInLockstep"},
	{"cursors begin as they are read",
		"sqlport/cursor.go", "\t\t_, err = c.fetch(cursor, none, false)\n",
		"\t\t_ = none\n",
		"./sqlport", "TestSessionsInLockstep"},
	{"COPY FROM in a transaction that reads",
		"sqlport/copyin.go", "\tif in.ReadOnly {",
		"\tif in.ReadOnly && false {",
		"./sqlport", "TestRandomSessionsInLockstep"},
	{"the limit of rows is not known of a change",
		"sqlport/execute.go", "p.of.givesWhole() && (most > 0",
		"p.of.givesWhole() && (most > 1<<30",
		"./sqlport", "TestRandomSessionsInLockstep"},
	{"numbers are not looked at when they are bound",
		"sqlport/prepared.go", "return string(raw), checkNumber(t, string(raw))",
		"return string(raw), checkNumber(nil, string(raw))",
		"./sqlport", "TestRandomSessionsInLockstep"},
	{"released savepoints are kept",
		"sqlport/transaction.go", "\tc.saves = there\n",
		"",
		"./sqlport", "TestSavepointsThatAreReleased"},
	{"a role outlives its transaction",
		"sqlport/own.go", "undo{\"role\", func() { c.stand(was, words) }, local})",
		"undo{\"role\", func() { _, _ = was, words }, local})",
		"./sqlport", "TestRolesEndWithTheirTransaction"},
	{"a session keeps what it likes",
		"sqlport/budget.go", "func (c *session) keeps(bytes int64) error {\n",
		"func (c *session) keeps(bytes int64) error {\n	if bytes < 1<<60 {\n		return nil\n	}\n",
		"./sqlport", "TestSessionsKeepLittle"},
	{"strangers take every door",
		"peer/places.go", "p.by[of] >= p.each {",
		"p.each < 0 {",
		"./sqlport", "TestStrangersShutNoDoor"},
	{"a page that is gone keeps its stream",
		"api/events.go", "case <-ctx.Done():",
		"case <-make(chan struct{}):\n\t\t\t\t_ = ctx",
		"./api", "TestEvents$"},
	{"no CSRF token is asked for",
		"api/route.go", "(caller.CSRF() == \"\" || c.Get(\"X-CSRF-Token\") != caller.CSRF()) {",
		"caller.CSRF() == \"\" && c.Get(\"X-CSRF-Token\") == \"none\" {",
		"./api", "Test"},
	{"unknown fields are taken",
		"api/bind.go", "\td.DisallowUnknownFields()\n",
		"",
		"./api", "Test"},
}

// TestMutants holds that each mechanism has a test that fails without it. Without -mutants only the texts are looked
// for: a mutant that no longer fits the code is to be written again.
func TestMutants(t *testing.T) {
	for _, m := range mutants {
		t.Run(strings.ReplaceAll(m.name, " ", "-"), func(t *testing.T) {
			code, err := os.ReadFile(m.file)
			if err != nil {
				t.Fatal(err)
			}
			if n := strings.Count(string(code), m.from); n != 1 {
				t.Fatalf("%s has %q %d times", m.file, m.from, n)
			}
			if !*mutating {
				return
			}
			dir := t.TempDir()
			mutant, overlay := filepath.Join(dir, "mutant.go"), filepath.Join(dir, "overlay.json")
			if err := os.WriteFile(mutant, []byte(strings.Replace(string(code), m.from, m.to, 1)), 0o600); err != nil {
				t.Fatal(err)
			}
			path, err := filepath.Abs(m.file)
			if err != nil {
				t.Fatal(err)
			}
			replace, err := json.Marshal(map[string]map[string]string{"Replace": {path: mutant}})
			if err == nil {
				err = os.WriteFile(overlay, replace, 0o600)
			}
			if err != nil {
				t.Fatal(err)
			}
			out, err := exec.Command("go", "test", "-overlay", overlay, "-run", m.test, "-count", "1", m.in).CombinedOutput()
			if err == nil || !strings.Contains(string(out), "--- FAIL") {
				t.Errorf("nothing fails in %s of %s\n%.2000s", m.in, m.test, out)
			}
		})
	}
}
