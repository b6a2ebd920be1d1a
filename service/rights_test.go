package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/admin"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

// signed signs an account in, and returns its caller and its secret.
func signed(t testing.TB, svc *service.Service, user, password string) (identity.Caller, string) {
	t.Helper()
	secret, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: user, Password: password, Token: true}, "test", "test")
	if err != nil {
		t.Fatal(err)
	}
	c, err := svc.Identity.Authenticate(ctx, secret, "test")
	if err != nil {
		t.Fatal(err)
	}
	return c, secret
}

func TestLanesBoundQueries(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint, marl := caller(t, svc, "opal"), caller(t, svc, "flint"), caller(t, svc, "marl")
	if _, err := svc.Admin.PutLane(ctx, opal, wire.LaneRequest{Name: "narrow", Limits: wire.Limits{Queries: 1, Seconds: 1, Rows: 3, Bytes: 1 << 20}}); err != nil {
		t.Fatal(err)
	}
	const lithology = "SELECT id FROM survey.drilling.lithology"
	_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: lithology, Lane: "narrow"})
	wants(t, err, fault.NotFound, "no lane narrow, or it is not yours to use")
	if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"usage"}, Objects: []string{"lane:narrow"}, Subjects: []string{"user:flint"}}, false); err != nil {
		t.Fatal(err)
	}
	r, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: lithology, Lane: "narrow"})
	if err != nil || len(r.Rows) != 3 || !r.Truncated || r.Lane != "narrow" {
		t.Errorf("on the narrow lane: %d rows, truncated %v, on %s, %v", len(r.Rows), r.Truncated, r.Lane, err)
	}
	if r, err = svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: lithology}); err != nil || r.Lane != "interactive" {
		t.Errorf("without a name: on %s, %v", r.Lane, err)
	}
	slow := "SELECT count(*) FROM survey.monitoring.readings a JOIN survey.monitoring.readings b ON a.level_m < b.level_m"
	started := time.Now()
	_, err = svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: slow, Lane: "narrow"})
	if wants(t, err, fault.Invalid, "took longer than its lane allows"); time.Since(started) > 5*time.Second {
		t.Errorf("a query of a one-second lane ran for %v", time.Since(started))
	}
	// One at a time: the second waits, and gives up when its own time is over.
	done := make(chan error, 2)
	for range 2 {
		go func() {
			_, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: slow, Lane: "narrow"})
			done <- err
		}()
	}
	for range 2 {
		wants(t, <-done, fault.Invalid, "took longer than its lane allows")
	}
	_, err = svc.Gateway.Query(ctx, marl, wire.QueryRequest{SQL: "SELECT 1"})
	if told := wants(t, err, fault.Refused, "a query needs a lane"); len(told.Missing) != 1 || told.Missing[0] != "USAGE on lane:interactive" {
		t.Errorf("marl is told %v", told.Missing)
	}
	why, err := svc.Review.Why(opal, "service:slag", "SELECT", "survey.assay.results", wire.Standpoint{})
	if err != nil || why.Allowed {
		t.Errorf("slag: %+v, %v", why, err)
	}
	if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"usage"}, Objects: []string{"survey", "survey.*"}, Subjects: []string{"service:slag"}}, false); err != nil {
		t.Fatal(err)
	}
	if why, err = svc.Review.Why(opal, "service:slag", "SELECT", "survey.assay.results", wire.Standpoint{}); err != nil || !why.Allowed || why.Lane || len(why.Fixes) == 0 || !strings.Contains(why.Says, "may use no lane") {
		t.Errorf("slag may read and has no lane: %+v, %v", why, err)
	}
	if _, err := svc.Admin.RemoveLane(ctx, opal, "narrow", wire.Change{}); err != nil {
		t.Error(err)
	}
	for _, err := range []error{
		second(svc.Admin.PutLane(ctx, marl, wire.LaneRequest{Name: "mine"})),
		second(svc.Admin.RemoveLane(ctx, flint, "batch", wire.Change{})),
		second(svc.Admin.PutBundle(ctx, marl, wire.BundleRequest{Name: "mine", Privileges: []string{"SELECT"}})),
		second(svc.Admin.SetOwner(ctx, flint, wire.OwnerRequest{Objects: []string{"survey.field"}, Owner: "user:flint"})),
	} {
		wants(t, err, fault.Refused, "needs MANAGE")
	}
	_, err = svc.Admin.SetOwner(ctx, marl, wire.OwnerRequest{Objects: []string{"survey.field"}, Owner: "user:marl"})
	wants(t, err, fault.NotFound, "is not yours to use")
	if list, err := svc.Review.Lanes(marl); err != nil || len(list.Items) != 0 {
		t.Errorf("marl sees the lanes %+v, %v", list.Items, err)
	}
}

func second[T any](_ T, err error) error { return err }

func TestChainsInTheService(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, garnet := caller(t, svc, "opal"), caller(t, svc, "garnet")
	licences := wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.licences", Subjects: []string{"role:licensing_officer"}}
	_, err := svc.Admin.Grant(ctx, opal, licences, true)
	wants(t, err, fault.Conflict, "2 grants depend on it: SELECT on survey.licensing.licences.id to user:tuff by user:garnet")
	page, err := svc.Review.Subject(opal, "user:tuff")
	if err != nil || page.Own[0].Basis != "SELECT on survey.licensing.licences to role:licensing_officer" {
		t.Errorf("tuff's grant says of its basis %q, %v", page.Own[0].Basis, err)
	}
	licences.Cascade = true
	out, err := svc.Admin.Grant(ctx, opal, licences, true)
	if err != nil || !strings.Contains(fmt.Sprint(out.Notes), "also revoked: SELECT on survey.licensing.licences.id to user:tuff by user:garnet") || len(out.Effects) == 0 {
		t.Errorf("cascade: %+v, %v", out, err)
	}
	// garnet may take back what garnet gave, and nothing else.
	if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.licences", Subjects: []string{"user:garnet", "user:marl"}, Option: true}, false); err != nil {
		t.Fatal(err)
	}
	mine := wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.licences", Subjects: []string{"user:tuff"}}
	if _, err := svc.Admin.Grant(ctx, garnet, mine, false); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Admin.Grant(ctx, garnet, mine, true); err != nil {
		t.Errorf("what garnet gave: %v", err)
	}
	theirs := mine
	theirs.Subjects = []string{"user:marl"}
	_, err = svc.Admin.Grant(ctx, garnet, theirs, true)
	wants(t, err, fault.Refused, "you have granted no SELECT")
	// Who passed on is not told by whom it went further.
	if _, err := svc.Admin.Grant(ctx, garnet, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.licences", Subjects: []string{"user:tuff"}, Option: true}, false); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Admin.Grant(ctx, caller(t, svc, "tuff"), wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.licences", Subjects: []string{"user:jasper"}}, false); err != nil {
		t.Fatal(err)
	}
	_, err = svc.Admin.Grant(ctx, garnet, mine, true)
	if told := wants(t, err, fault.Conflict, "others were granted it from there"); strings.Contains(told.Detail, "jasper") {
		t.Errorf("garnet is told of jasper: %s", told.Detail)
	}
	// A bundle that is edited says for whom.
	out, err = svc.Admin.PutBundle(ctx, opal, wire.BundleRequest{Name: "writer", Privileges: []string{"USAGE", "SELECT", "DESCRIBE"}, Replace: true, Change: wire.Change{DryRun: true}})
	if err != nil || out.Done || !strings.Contains(fmt.Sprint(out.Effects), "user:flint [] [INSERT, UPDATE, DELETE on survey.field.visits]") {
		t.Errorf("the effect of editing a bundle: %+v, %v", out, err)
	}
}

func TestRolesAreGivenOnByWhoMay(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, marl, tuff := caller(t, svc, "opal"), caller(t, svc, "marl"), caller(t, svc, "tuff")
	if _, err := svc.Admin.Join(ctx, opal, wire.Member{Member: "user:marl", Of: "role:lab_analyst", Option: true}, false); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Admin.Join(ctx, marl, wire.Member{Member: "user:tuff", Of: "role:lab_analyst"}, false); err != nil {
		t.Errorf("marl may give it on: %v", err)
	}
	_, err := svc.Admin.Join(ctx, marl, wire.Member{Member: "user:tuff", Of: "role:lab_analyst", Option: true}, false)
	wants(t, err, fault.Refused, "needs MANAGE on platform")
	_, err = svc.Admin.Join(ctx, tuff, wire.Member{Member: "user:jasper", Of: "role:lab_analyst"}, false)
	wants(t, err, fault.Refused, "needs MANAGE on platform")
	_, err = svc.Admin.Join(ctx, marl, wire.Member{Member: "user:beryl", Of: "role:lab_analyst"}, true)
	wants(t, err, fault.Refused, "needs MANAGE on platform")
	if _, err := svc.Admin.Join(ctx, marl, wire.Member{Member: "user:tuff", Of: "role:lab_analyst"}, true); err != nil {
		t.Errorf("marl may take back what marl gave: %v", err)
	}
	r, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "REVOKE ADMIN OPTION FOR lab_analyst FROM marl"})
	if err != nil || !strings.Contains(fmt.Sprint(r.Rows), "revoked the admin option for role:lab_analyst from user:marl") {
		t.Errorf("%v, %v", r.Rows, err)
	}
	_, err = svc.Admin.Join(ctx, marl, wire.Member{Member: "user:tuff", Of: "role:lab_analyst"}, false)
	wants(t, err, fault.Refused, "needs MANAGE on platform")
}

func TestSetRole(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	_, secret := signed(t, svc, "flint", "northmark")
	do := func(sql string) (wire.Result, error) {
		t.Helper()
		c, err := svc.Identity.Authenticate(ctx, secret, "test")
		if err != nil {
			t.Fatal(err)
		}
		return svc.Gateway.Query(ctx, c, wire.QueryRequest{SQL: sql})
	}
	visits := "UPDATE survey.field.visits SET note = note WHERE id = 0"
	if r, err := do("SET ROLE survey_reader"); err != nil || r.Standpoint != "user:flint in role:survey_reader" {
		t.Fatalf("%+v, %v", r, err)
	}
	_, err := do(visits)
	wants(t, err, fault.Refused, "UPDATE on survey.field.visits")
	if r, err := do("SELECT count(*) FROM survey.drilling.boreholes"); err != nil || r.Rows[0][0].(int64) != 0 {
		t.Errorf("as survey_reader alone, no row policy lets a borehole through: %v, %v", r.Rows, err)
	}
	_, err = do("SET ROLE licensing_officer")
	wants(t, err, fault.Invalid, "you do not have a role licensing_officer")
	for _, all := range []string{"SET ROLE NONE", "SET ROLE survey_reader", "RESET ROLE"} {
		if _, err := do(all); err != nil {
			t.Fatalf("%s: %v", all, err)
		}
	}
	if r, err := do("SELECT count(*) FROM survey.drilling.boreholes"); err != nil || r.Rows[0][0].(int64) != 1310 {
		t.Errorf("in all roles again: %v, %v", r.Rows, err)
	}
	_, err = do("SET search_path TO survey")
	wants(t, err, fault.Invalid, "SET of anything but ROLE")
}

func TestPasswordsAndTokens(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	marl, kept := signed(t, svc, "marl", "northmark")
	_, other := signed(t, svc, "marl", "northmark")
	_, err := svc.Identity.ChangePassword(ctx, marl, wire.PasswordRequest{Old: "wrong", New: "northmark2"})
	wants(t, err, fault.Refused, "the old password is wrong")
	_, err = svc.Identity.ChangePassword(ctx, marl, wire.PasswordRequest{Old: "northmark", New: "short"})
	wants(t, err, fault.Invalid, "at least 8 characters")
	token, err := svc.Identity.NewToken(ctx, marl, wire.TokenRequest{Name: "export"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Identity.ChangePassword(ctx, marl, wire.PasswordRequest{Old: "northmark", New: "northmark2"}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, secret string
		works        bool
	}{{"the session that changed it", kept, true}, {"another session", other, false}, {"a named token", token.Secret, true}} {
		if _, err := svc.Identity.Authenticate(ctx, c.secret, "test"); (err == nil) != c.works {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	_, err = svc.Identity.NewToken(ctx, marl, wire.TokenRequest{Name: "export"})
	wants(t, err, fault.Conflict, "has a token named export already")
	year, past := time.Now().AddDate(2, 0, 0), time.Now().Add(-time.Hour)
	_, err = svc.Identity.NewToken(ctx, marl, wire.TokenRequest{Name: "long", Expires: &year})
	wants(t, err, fault.Invalid, "up to a year")
	_, err = svc.Identity.NewToken(ctx, marl, wire.TokenRequest{Name: "gone", Expires: &past})
	wants(t, err, fault.Invalid, "has passed already")
	_, err = svc.Identity.NewToken(ctx, marl, wire.TokenRequest{Name: "x", Subject: "user:opal"})
	wants(t, err, fault.Refused, "needs MANAGE")
	_, err = svc.Identity.Tokens(ctx, marl, "all")
	wants(t, err, fault.Refused, "needs MANAGE")
	// A token passes on no more time than it has.
	lent, err := svc.Identity.Authenticate(ctx, token.Secret, "test")
	if err != nil {
		t.Fatal(err)
	}
	later := time.Now().AddDate(0, 6, 0)
	if again, err := svc.Identity.NewToken(ctx, lent, wire.TokenRequest{Name: "again", Expires: &later}); err != nil || again.Expires.After(token.Expires) {
		t.Errorf("a token made one that lasts until %v, itself until %v, %v", again.Expires, token.Expires, err)
	}
	portal, err := svc.Identity.NewToken(ctx, opal, wire.TokenRequest{Name: "portal", Subject: "service:pumice"})
	if err != nil {
		t.Fatal(err)
	}
	_, err = svc.Identity.EndToken(ctx, lent, portal.ID)
	wants(t, err, fault.NotFound, "you may not end it")
	if _, err := svc.Identity.EndToken(ctx, opal, portal.ID); err != nil {
		t.Error(err)
	}
	_, err = svc.Identity.Authenticate(ctx, portal.Secret, "test")
	wants(t, err, fault.NotSignedIn, "sign in first")
	// Disabling ends everything, and enabling brings nothing back.
	for _, disabled := range []bool{true, false} {
		if _, err := svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:marl", Disabled: &disabled}, true); err != nil {
			t.Fatal(err)
		}
	}
	for _, secret := range []string{kept, token.Secret} {
		if _, err := svc.Identity.Authenticate(ctx, secret, "test"); err == nil {
			t.Error("a session outlived the disabling of its account")
		}
	}
}

const people = `subject,title,disabled,lead,attribute:districts
user:schist,a new geologist,no,user:chert,north; coast
user:flint,geologist of the north,no,user:chert,north
group:field-crews,those who go out,,,
`

const places = `member,of,until,option,reason,ticket
user:schist,group:geologists,2027-01-31,no,new,GS-50
user:schist,group:field-crews,,,,
group:field-crews,role:field_scribe,,,,
`

func TestRosters(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, agate, marl := caller(t, svc, "opal"), caller(t, svc, "agate"), caller(t, svc, "marl")
	request := func(dry bool, contents ...string) wire.RosterRequest {
		in := wire.RosterRequest{Change: wire.Change{DryRun: dry}}
		for i, content := range contents {
			in.Files = append(in.Files, wire.RosterFile{Name: fmt.Sprintf("file%d.csv", i+1), Content: content})
		}
		return in
	}
	before := svc.Revision()
	out, err := svc.Admin.TakeRoster(ctx, opal, request(true, people, places))
	if err != nil || out.Done || !strings.Contains(fmt.Sprint(out.Effects), "user:schist") || svc.Revision() != before {
		t.Errorf("a dry run: %+v, %v", out, err)
	}
	if out, err = svc.Admin.TakeRoster(ctx, opal, request(false, people, places)); err != nil || fmt.Sprint(out.Says) != "[imported 1 attribute, 3 memberships, 2 new subjects, 1 reporting line]" {
		t.Errorf("taken in: %+v, %v", out.Says, err)
	}
	page, err := svc.Review.Subject(opal, "user:schist")
	if err != nil || fmt.Sprint(page.Attributes) != "map[districts:[coast north]]" || page.Lead != "user:chert" || len(page.Memberships) != 2 || page.Memberships[0].Ticket != "GS-50" {
		t.Errorf("schist: %+v, %v", page, err)
	}
	if out, err = svc.Admin.TakeRoster(ctx, opal, request(false, people, places)); err != nil || out.Done {
		t.Errorf("the second time changes something: %+v, %v", out, err)
	}
	_, err = svc.Admin.TakeRoster(ctx, marl, request(false, people))
	wants(t, err, fault.Refused, "needs MANAGE")
	_, err = svc.Review.Roster(marl)
	wants(t, err, fault.Refused, "needs DESCRIBE")

	thousand := "subject,title\n"
	for i := range 1000 {
		name := fmt.Sprintf("user:p%d", i)
		if i == 700 {
			name = "user:two words"
		}
		thousand += name + ",x\n"
	}
	at := svc.Revision()
	for _, c := range []struct{ name, content, says string }{
		{"a thousand lines with one bad", thousand, `line 702: "two words" cannot name a user`},
		{"a loop", "member,of\nrole:survey_reader,role:regional_lead\n", "line 2: role:regional_lead cannot be given to role:survey_reader"},
		{"an unknown group", "member,of\nuser:flint,group:nobodies\n", "line 2: no group nobodies"},
		{"a bad day", "member,of,until\nuser:flint,group:north,tomorrow\n", `file1.csv line 2: until: "tomorrow" is not a date`},
		{"neither yes nor no", "subject,disabled\nuser:flint,maybe\n", `line 2: disabled: "maybe" is neither yes nor no`},
		{"a column that is none", "subject,colour\nuser:flint,red\n", `there is no column "colour"`},
		{"no head", "user:flint,x\n", "the first line names neither subject, nor member and of"},
		{"an open quote", "subject,title\nuser:flint,\"x\n", "line 2"},
		{"a row too short", "subject,title\nuser:flint\n", "line 2: wrong number of fields"},
		{"nothing", "", "the first line must name the columns"},
		{"bad JSON", "{\"subjects\": 7}", "file1.csv: json"},
		{"the last administrator", "subject,disabled\nuser:opal,yes\n", "without an administrator"},
	} {
		_, err := svc.Admin.TakeRoster(ctx, opal, request(false, c.content))
		if p := fault.Of(err); p.Kind != fault.Invalid && p.Kind != fault.NotFound || !strings.Contains(p.Detail, c.says) || !strings.Contains(p.Detail, "nothing was imported") {
			t.Errorf("%s: %v, want %q", c.name, err, c.says)
		}
	}
	if svc.Revision() != at {
		t.Error("a refused import made a revision")
	}

	// What is taken out can be taken in on another platform.
	roster, err := svc.Review.Roster(agate)
	if err != nil {
		t.Fatal(err)
	}
	var files []string
	for _, memberships := range []bool{false, true} {
		rows, err := admin.RosterCSV(roster, memberships)
		if err != nil {
			t.Fatal(err)
		}
		var b strings.Builder
		for _, row := range rows {
			for i, field := range row {
				row[i] = `"` + strings.ReplaceAll(field, `"`, `""`) + `"`
			}
			b.WriteString(strings.Join(row, ",") + "\r\n")
		}
		files = append(files, b.String())
	}
	other := demotest.Open(t, demotest.Folder(t))
	if _, err := other.Admin.TakeRoster(ctx, caller(t, other, "opal"), request(false, files...)); err != nil {
		t.Fatal(err)
	}
	again, err := other.Review.Roster(caller(t, other, "opal"))
	if err != nil {
		t.Fatal(err)
	}
	a, _ := json.Marshal(roster)
	b, _ := json.Marshal(again)
	if string(a) != string(b) {
		t.Errorf("after out and in, the roster is\n%s\nwas\n%s", b, a)
	}
}

func TestRenaming(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	_, secret := signed(t, svc, "jasper", "northmark")
	out, err := svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:jasper", Rename: "onyx"}, true)
	if err != nil || !strings.Contains(fmt.Sprint(out.Notes), "CURRENT_USER compare with the name") {
		t.Fatalf("%+v, %v", out, err)
	}
	c, err := svc.Identity.Authenticate(ctx, secret, "test")
	if err != nil {
		t.Fatal(err)
	}
	if who, err := svc.Identity.Whoami(c, wire.Standpoint{}); err != nil || who.User != "user:onyx" || !slices.Contains(who.Groups, "group:coast") {
		t.Errorf("the session goes on as %+v, %v", who, err)
	}
	// A rule compares with the name data_curator: it would turn false unseen.
	_, err = svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "role:data_curator", Rename: "curator"}, true)
	wants(t, err, fault.Conflict, "readings-of-groups compare with the name data_curator")
	_, err = svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:onyx", Rename: "flint"}, true)
	wants(t, err, fault.Conflict, "user:flint exists already")
}

// TestPages walks lists page by page, and finds each item once.
func TestPages(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	whole, err := svc.Review.Grants(opal, review.GrantSearch{})
	if err != nil || whole.Next != "" {
		t.Fatal(whole.Next, err)
	}
	var grants []wire.Grant
	for after := ""; ; {
		page, err := svc.Review.Grants(opal, review.GrantSearch{After: after, Limit: 7})
		if err != nil || len(page.Items) > 7 {
			t.Fatal(len(page.Items), err)
		}
		grants = append(grants, page.Items...)
		if after = page.Next; after == "" {
			break
		}
	}
	if len(grants) != len(whole.Items) || grants[len(grants)-1].At != whole.Items[len(grants)-1].At {
		t.Errorf("%d grants by pages, %d at once", len(grants), len(whole.Items))
	}
	all, err := svc.Review.Subjects(opal, review.SubjectSearch{})
	if err != nil {
		t.Fatal(err)
	}
	var refs []string
	for after := ""; ; {
		page, err := svc.Review.Subjects(opal, review.SubjectSearch{After: after, Limit: 4})
		if err != nil {
			t.Fatal(err)
		}
		for _, subject := range page.Items {
			refs = append(refs, subject.Ref)
		}
		if after = page.Next; after == "" {
			break
		}
	}
	var want []string
	for _, subject := range all.Items {
		want = append(want, subject.Ref)
	}
	if !slices.Equal(refs, want) {
		t.Errorf("by pages %v, at once %v", refs, want)
	}
	_, err = svc.Review.Grants(opal, review.GrantSearch{After: "x"})
	wants(t, err, fault.Invalid, "is not a cursor")
}

// TestColumnByColumn: a grant on columns shows at each, by its own path.
func TestColumnByColumn(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	list, err := svc.Review.AccessOf(caller(t, svc, "opal"), review.AccessSearch{Of: "user:tuff", Below: "survey.licensing.licences", Paths: true, Columns: true})
	if err != nil {
		t.Fatal(err)
	}
	var paths []string
	for _, a := range list.Items {
		paths = append(paths, a.Object)
		if a.Kind == "column" && (len(a.Paths) != 1 || !strings.Contains(a.Paths[0].Says, "SELECT on "+a.Object+" by user:garnet")) {
			t.Errorf("%s: %+v", a.Object, a.Paths)
		}
	}
	if fmt.Sprint(paths) != "[survey.licensing.licences survey.licensing.licences.id survey.licensing.licences.district]" {
		t.Errorf("tuff has rights on %v", paths)
	}
}

// TestAStartFromACheckpointIsTheSame makes enough changes for a checkpoint, and
// compares what the service says before a stop and after the start.
func TestAStartFromACheckpointIsTheSame(t *testing.T) {
	dir := demotest.Folder(t)
	svc, err := service.Open(ctx, dir, quiet)
	if err != nil {
		t.Fatal(err)
	}
	opal := caller(t, svc, "opal")
	for i := range 520 {
		title := fmt.Sprintf("the %d. title", i)
		if _, err := svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:marl", Title: &title}, true); err != nil {
			t.Fatal(err)
		}
	}
	all := func(svc *service.Service) string {
		t.Helper()
		var said []any
		for _, subject := range []string{"user:flint", "user:garnet", "service:pumice", "role:lab_keeper"} {
			access, err := svc.Review.AccessOf(opal, review.AccessSearch{Of: subject, Paths: true})
			if err != nil {
				t.Fatal(err)
			}
			said = append(said, access)
		}
		policies, err := svc.Review.Policies(opal, "")
		if err != nil {
			t.Fatal(err)
		}
		roster, err := svc.Review.Roster(opal)
		if err != nil {
			t.Fatal(err)
		}
		bundles, err := svc.Review.Bundles(opal)
		if err != nil {
			t.Fatal(err)
		}
		text, err := json.Marshal(append(said, policies, roster, bundles, svc.Revision()))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	before := all(svc)
	if err := svc.Close(context.Background()); err != nil {
		t.Fatal(err)
	}
	files := checkpoints(t, dir)
	if len(files) != 1 {
		t.Fatalf("the stop left the checkpoints %v", files)
	}
	again := demotest.Open(t, dir)
	if after := all(again); after != before {
		t.Errorf("after the start the service says\n%s\nbefore the stop\n%s", after, before)
	}
	title := "the last title"
	if _, err := again.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:marl", Title: &title}, true); err != nil {
		t.Error(err)
	}
}

// TestADamagedCheckpointIsLeftAside replays the journal instead.
func TestADamagedCheckpointIsLeftAside(t *testing.T) {
	dir := demotest.Folder(t)
	svc, err := service.Open(ctx, dir, quiet)
	if err != nil {
		t.Fatal(err)
	}
	opal := caller(t, svc, "opal")
	for i := range 520 {
		title := fmt.Sprint(i)
		if _, err := svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:marl", Title: &title}, true); err != nil {
			t.Fatal(err)
		}
	}
	revision := svc.Revision()
	if err := svc.Close(context.Background()); err != nil {
		t.Fatal(err)
	}
	damage(t, checkpoints(t, dir)[0])
	again := demotest.Open(t, dir)
	page, err := again.Review.Subject(opal, "user:marl")
	if err != nil || page.Title != "519" || again.Revision() != revision {
		t.Errorf("marl is titled %q at revision %d, %v", page.Title, again.Revision(), err)
	}
	if left := checkpoints(t, dir); len(left) > 0 {
		t.Errorf("it is there still: %v", left)
	}
}

var quiet = slog.New(slog.DiscardHandler)

func checkpoints(t testing.TB, dir string) []string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, "checkpoint-*"))
	if err != nil {
		t.Fatal(err)
	}
	return files
}

// damage changes one byte in the middle of a file.
func damage(t testing.TB, path string) {
	t.Helper()
	content, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	content[len(content)/2] ^= 0xff
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
}

// TestWhoIsToldOfMany grants something to more people than effects list: 500 are listed, each with an effect, and the
// answer says that there are more. Someone who may not review them does not learn that.
func TestWhoIsToldOfMany(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	var people []wire.RosterSubject
	for i := range 520 {
		people = append(people, wire.RosterSubject{Ref: fmt.Sprintf("user:x%d", i)})
	}
	done(t)(svc.Admin.TakeRoster(ctx, opal, wire.RosterRequest{Roster: wire.Roster{Subjects: people}}))
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.assay.results", Subjects: []string{"user:flint"}, Option: true}, false))
	in := wire.GrantRequest{Privileges: []string{"DESCRIBE"}, Object: "survey", Subjects: []string{"public"}, Change: wire.Change{DryRun: true}}
	out, err := svc.Admin.Grant(ctx, opal, in, false)
	if err != nil || !out.More || len(out.Effects) < 400 || len(out.Effects) > 500 {
		t.Fatalf("%d people are told of, more: %v, %v", len(out.Effects), out.More, err)
	}
	for _, e := range out.Effects {
		if strings.HasPrefix(e.Subject, "user:x") && len(e.Gains) == 0 {
			t.Errorf("%s is said to gain nothing", e.Subject)
		}
	}
	in = wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.assay.results", Subjects: []string{"public"}, Change: wire.Change{DryRun: true}}
	if out, err = svc.Admin.Grant(ctx, flint, in, false); err != nil || out.More || len(out.Effects) > 0 {
		t.Errorf("who passes on a right is told: %v, more: %v, %v", out.Effects, out.More, err)
	}
}
