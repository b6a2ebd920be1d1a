package service_test

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// TestRevealTakesTheRightToStop: who manages a schema does not lift what comes from a
// label above it.
func TestRevealTakesTheRightToStop(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"MANAGE"}, Object: "survey.licensing", Subjects: []string{"user:flint"}}, false))
	grant := func(who identity.Caller, privilege, object string) error {
		_, err := svc.Admin.Grant(ctx, who, wire.GrantRequest{Privileges: []string{privilege}, Object: object, Subjects: []string{"user:flint"}, Change: wire.Change{DryRun: true}}, false)
		return err
	}
	for _, object := range []string{"survey.licensing", "survey.licensing.holders", "survey.licensing.holders.bank_account", "survey.licensing.hold*"} {
		wants(t, grant(flint, "REVEAL", object), fault.Refused, "would lift a policy that you may not stop")
		wants(t, grant(flint, "keeper", object), fault.Refused, "would lift a policy that you may not stop")
	}
	if err := grant(flint, "REVEAL", "survey.licensing.holders.phone"); err != nil {
		t.Errorf("a policy on the schema's own table is the manager's to lift: %v", err)
	}
	done(t)(svc.Admin.RemoveGuardrail(ctx, opal, "finance-in-office", wire.Change{})) // which is in its way
	if err := grant(opal, "REVEAL", "survey.licensing"); err != nil {
		t.Errorf("who manages the label as well may lift it: %v", err)
	}
	wants(t, grant(flint, "REVEAL", "label:finance"), fault.NotFound, "does not exist or is not yours")
	// A policy that comes later says whom REVEAL lets past it.
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"REVEAL"}, Object: "survey.field", Subjects: []string{"user:marl"}}, false))
	out, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "notes", Table: "survey.field.visits", Columns: []string{"note"}, Treatment: &wire.Treatment{Kind: "suppress"}}})
	if err != nil || !strings.Contains(strings.Join(out.Notes, " "), "in clear to user:marl") {
		t.Errorf("the notes do not say who sees it all the same: %v, %v", out.Notes, err)
	}
}

// TestSourcesKeepAway: by no path, link or name does a source hold the service's own
// files, and all lie below the folders that the operator names.
func TestSourcesKeepAway(t *testing.T) {
	dir := demotest.Folder(t)
	elsewhere := t.TempDir()
	sources := filepath.Join(dir, "sources")
	try := func(err error) {
		if err != nil {
			t.Helper()
			t.Fatal(err)
		}
	}
	try(os.Symlink(dir, filepath.Join(sources, "link")))
	try(os.MkdirAll(filepath.Join(sources, "hard"), 0o700))
	try(os.Link(filepath.Join(dir, "records.db"), filepath.Join(sources, "hard", "records.db")))
	try(os.MkdirAll(filepath.Join(sources, "soft"), 0o700))
	try(os.Symlink(filepath.Join(dir, "audit.db"), filepath.Join(sources, "soft", "audit.db")))
	try(os.Symlink(elsewhere, filepath.Join(sources, "away")))
	svc := demotest.Open(t, dir)
	opal := caller(t, svc, "opal")
	for _, location := range []string{".", "..", "../", dir, dir + "/", dir + "/.", filepath.Dir(dir), "link", "hard", "soft", "away", elsewhere, "/"} {
		_, err := svc.Admin.AddSource(ctx, opal, wire.SourceRequest{Name: "own", Location: location})
		if err == nil {
			t.Errorf("the location %s was taken", location)
			continue
		}
		if p := svc.Identity.Told(opal, err); p.Kind != fault.Invalid || !strings.Contains(p.Detail, "inside a folder for sources") && !strings.Contains(p.Detail, "own data folder") {
			t.Errorf("the location %s: %v", location, p)
		}
	}
	// A link that comes later is refused, too, where files are looked at again.
	try(os.Link(filepath.Join(dir, "records.db"), filepath.Join(sources, "survey", "records.db")))
	if _, err := svc.Admin.Scan(ctx, opal, "survey", wire.Change{}); err == nil || !strings.Contains(svc.Identity.Told(opal, err).Detail, "own data folder") {
		t.Errorf("a file of the service's own that came later: %v", err)
	}
}

// TestServicesAreNotUsers: CURRENT_USER tells a service from a user of its name.
func TestServicesAreNotUsers(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	done(t)(svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "service:tuff"}, false))
	done(t)(svc.Admin.Join(ctx, opal, wire.Member{Member: "service:tuff", Of: "role:partner"}, false))
	who := func(ref string) any { return ask(t, svc, opal, "SELECT CURRENT_USER", wire.Standpoint{As: ref})[0][0] }
	if who("service:tuff") != "service:tuff" || who("user:tuff") != "tuff" {
		t.Errorf("CURRENT_USER is %v and %v", who("service:tuff"), who("user:tuff"))
	}
	const count = "SELECT count(*) FROM survey.drilling.boreholes"
	if n := ask(t, svc, opal, count, wire.Standpoint{As: "service:tuff"})[0][0]; n != int64(0) {
		t.Errorf("the service reads %v of the user's boreholes", n)
	}
}

// TestSetRoleHoldsWithAPurpose: a purpose does not widen a session that acts in one
// role.
func TestSetRoleHoldsWithAPurpose(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	session, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "chert", Password: "northmark", Token: true}, "127.0.0.1", "test")
	if err != nil {
		t.Fatal(err)
	}
	acting := func() identity.Caller {
		c, err := svc.Identity.Authenticate(ctx, session, "127.0.0.1")
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	ask(t, svc, acting(), "SET ROLE survey_reader", wire.Standpoint{})
	for _, at := range []wire.Standpoint{{}, {Purpose: "audit"}} {
		me, err := svc.Identity.Whoami(acting(), at)
		if err != nil || !strings.Contains(me.Standpoint, "in role:survey_reader") {
			t.Errorf("with %+v the session is %s, %v", at, me.Standpoint, err)
		}
	}
}

// TestSignInWaits: each wrong guess makes the next wait longer; one's own success buys
// nothing elsewhere, and nobody is locked out of where they have signed in.
func TestSignInWaits(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	try := func(user, password, address string) error {
		_, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: user, Password: password, Token: true}, address, "test")
		return err
	}
	const home, foe = "192.0.2.1", "198.51.100.1"
	if err := try("opal", "northmark", home); err != nil {
		t.Fatal(err)
	}
	// A foe guesses from many addresses, until the account waits for all strangers.
	waits := 0
	for i := range 80 {
		if p := svc.Identity.Told(identity.Caller{}, try("opal", "guess", "203.0.113."+strconv.Itoa(i))); p.Kind == fault.TooMany {
			waits++
		}
	}
	if waits == 0 {
		t.Error("an account is guessed at from many addresses without a wait")
	}
	wants(t, try("opal", "northmark", "203.0.113.200"), fault.TooMany, "too many attempts")
	if err := try("opal", "northmark", home); err != nil {
		t.Errorf("who has signed in from an address before is locked out there: %v", err)
	}
	// Spraying: one's own success between guesses at others' accounts forgives nothing.
	stopped := false
	for i := range 60 {
		if i%5 == 4 {
			try("marl", "northmark", foe)
		}
		err := try("nobody"+strconv.Itoa(i), "guess", foe)
		if p := svc.Identity.Told(identity.Caller{}, err); p.Kind == fault.TooMany {
			stopped = true
			break
		}
	}
	if !stopped {
		t.Error("accounts are guessed at from one address for ever")
	}
}

// TestARosterThatDisablesEndsSessions: as disabling one account does.
func TestARosterThatDisablesEndsSessions(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	secret, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "marl", Password: "northmark", Token: true}, "192.0.2.1", "test")
	if err != nil {
		t.Fatal(err)
	}
	roster := func(disabled bool) {
		t.Helper()
		done(t)(svc.Admin.TakeRoster(ctx, opal, wire.RosterRequest{Roster: wire.Roster{Subjects: []wire.RosterSubject{{Ref: "user:marl", Disabled: disabled}}}}))
	}
	roster(true)
	roster(false)
	if _, err := svc.Identity.Authenticate(ctx, secret, "192.0.2.1"); err == nil {
		t.Error("a token outlives its account's disabling by a roster")
	}
}

// TestADisabledAccountHasNoWayIn: however it came to be disabled, and whatever it held until then.
func TestADisabledAccountHasNoWayIn(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, on, off := caller(t, svc, "opal"), false, true
	set := func(disabled *bool) {
		t.Helper()
		done(t)(svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:marl", Disabled: disabled}, true))
	}
	set(&off)
	set(&on)
	secret, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "marl", Password: "northmark", Token: true}, "192.0.2.1", "test")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Identity.Authenticate(ctx, secret, "192.0.2.1"); err != nil {
		t.Fatal(err)
	}
	done(t)(svc.Admin.Undo(ctx, opal, wire.UndoRequest{Revisions: []int64{svc.Revision()}}))
	if _, err := svc.Identity.Authenticate(ctx, secret, "192.0.2.1"); fault.Of(err).Kind != fault.NotSignedIn {
		t.Errorf("a token of an account that an undo has disabled: %v", err)
	}
	if _, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "marl", Password: "northmark"}, "192.0.2.1", "test"); err == nil {
		t.Error("a disabled account signs in")
	}
}

// TestTakingAlongIsShown: who loses what was given on to them is named, before it is
// done.
func TestTakingAlongIsShown(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, marl := caller(t, svc, "opal"), caller(t, svc, "marl")
	done(t)(svc.Admin.Join(ctx, opal, wire.Member{Member: "user:marl", Of: "role:survey_reader", Option: true}, false))
	done(t)(svc.Admin.Join(ctx, marl, wire.Member{Member: "user:tuff", Of: "role:survey_reader"}, false))
	take := wire.Member{Member: "user:marl", Of: "role:survey_reader", Change: wire.Change{DryRun: true}}
	if _, err := svc.Admin.Join(ctx, opal, take, true); err == nil || !strings.Contains(err.Error(), "role:survey_reader to user:tuff by user:marl") {
		t.Errorf("what depends on it is not named: %v", err)
	}
	take.Cascade = true
	out, err := svc.Admin.Join(ctx, opal, take, true)
	losers := ""
	for _, e := range out.Effects {
		if len(e.Loses) > 0 {
			losers += e.Subject + " "
		}
	}
	if err != nil || !strings.Contains(losers, "user:marl") || !strings.Contains(losers, "user:tuff") {
		t.Errorf("%s lose by it, %v", losers, err)
	}
}
