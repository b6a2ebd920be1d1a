package service_test

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/review"
	"gneiss/wire"
)

// viewing runs statements as users, for short.
type viewing struct {
	*testing.T
	svc *service.Service
}

func (v viewing) ask(user, text string) (wire.Result, error) {
	v.Helper()
	return v.svc.Gateway.Query(ctx, caller(v, v.svc, user), wire.QueryRequest{SQL: text})
}

func (v viewing) must(user, text string) string {
	v.Helper()
	out, err := v.ask(user, text)
	if err != nil {
		v.Fatalf("%s: %s: %v", user, text, fault.Of(err).Detail)
	}
	return fmt.Sprint(out.Rows)
}

// refused wants a refusal that says something, and nothing else that it must not.
func (v viewing) refused(user, text string, kind fault.Kind, says string, never ...string) {
	v.Helper()
	_, err := v.ask(user, text)
	p := wants(v, err, kind, says)
	for _, secret := range never {
		if strings.Contains(fmt.Sprint(p.Detail, p.Missing, p.Fixes), secret) {
			v.Errorf("%s: %s: the refusal tells of %s: %+v", user, text, secret, p)
		}
	}
}

// TestViewsShowWhatPoliciesLeave: a view with its owner's rights needs no SELECT
// on what it reads, and shows each reader the rows and values that are theirs.
func TestViewsShowWhatPoliciesLeave(t *testing.T) {
	v := viewing{t, demotest.Open(t, demotest.Folder(t))}
	v.must("opal", "SET ROLE NONE")
	if says := v.must("opal", "CREATE VIEW survey.drilling.deep (id, place, price) AS SELECT b.id, b.district, b.cost FROM drilling.boreholes AS b WHERE b.depth_m > 300 -- the deep ones\n"); !strings.Contains(says, "made the view survey.drilling.deep") || !strings.Contains(says, "consider a role as the owner") {
		t.Errorf("making a view says %s", says)
	}
	v.must("opal", "GRANT SELECT ON survey.drilling.deep TO tuff, garnet, flint, chert")
	for user, want := range map[string]string{
		"flint":  "SELECT count(*), min(district), max(cost) FROM survey.drilling.boreholes WHERE depth_m > 300",
		"chert":  "SELECT count(*), min(district), max(cost) FROM survey.drilling.boreholes WHERE depth_m > 300",
		"tuff":   "SELECT count(*), min(district), max(cost) FROM survey.drilling.boreholes WHERE depth_m > 300",
		"garnet": "SELECT count(*), min(district), max(cost) FROM survey.drilling.boreholes WHERE depth_m > 300",
	} {
		if got, want := v.must(user, "SELECT count(*), min(place), max(price) FROM survey.drilling.deep"), v.must(user, want); got != want {
			t.Errorf("%s gets %s from the view and %s from its table", user, got, want)
		}
	}
	if flint, chert := v.must("flint", "SELECT max(price) FROM survey.drilling.deep"), v.must("chert", "SELECT max(price) FROM survey.drilling.deep"); flint != "[[<nil>]]" || chert == flint {
		t.Errorf("flint sees costs through the view: %s, %s", flint, chert)
	}
	v.refused("marl", "SELECT * FROM survey.drilling.deep", fault.NotFound, "does not exist or is not yours to use")
	v.refused("beryl", "SELECT id FROM survey.drilling.deep", fault.NotFound, "does not exist or is not yours to use")
	if table, err := v.svc.Review.Object(caller(t, v.svc, "opal"), "survey.drilling.boreholes", wire.Standpoint{}); err != nil || fmt.Sprint(table.ReadBy) != "[survey.drilling.deep]" {
		t.Errorf("boreholes are read by %v (%v)", table.ReadBy, err)
	}
	// In joins, sub-queries and other views, as a table.
	v.must("opal", "CREATE VIEW survey.drilling.by_place AS SELECT place, count(*) AS n FROM drilling.deep GROUP BY place")
	v.must("opal", "GRANT SELECT ON survey.drilling.by_place TO flint")
	if got, want := v.must("flint", "SELECT sum(n) FROM survey.drilling.by_place"), v.must("flint", "SELECT count(*) FROM survey.drilling.deep AS d JOIN survey.drilling.boreholes AS b USING (id)"); got != want {
		t.Errorf("a view of a view gives %s, want %s", got, want)
	}
	v.refused("garnet", "SELECT count(*) FROM survey.drilling.by_place", fault.Refused, "you lack SELECT on survey.drilling.by_place")
	v.refused("opal", "INSERT INTO survey.drilling.deep (id) VALUES (1)", fault.Invalid, "writing to a view")
	// The record names the view and what it read.
	found, err := v.svc.Review.Records(ctx, caller(t, v.svc, "agate"), review.RecordSearch{Actor: "user:tuff", Action: "query"})
	if err != nil || len(found.Items) == 0 || !strings.Contains(fmt.Sprint(found.Items), "survey.drilling.deep.price") || !strings.Contains(fmt.Sprint(found.Items), "survey.drilling.boreholes.cost") {
		t.Errorf("the record of a view: %+v (%v)", found.Items, err)
	}
	// Its columns can be granted apart.
	v.must("opal", "REVOKE SELECT ON survey.drilling.deep FROM tuff")
	v.must("opal", "GRANT SELECT (id) ON survey.drilling.deep TO tuff")
	v.must("tuff", "SELECT count(id) FROM survey.drilling.deep")
	v.refused("tuff", "SELECT price FROM survey.drilling.deep", fault.Refused, "you lack SELECT on survey.drilling.deep.price")
	v.refused("tuff", "SELECT * FROM survey.drilling.deep", fault.Refused, "* takes in columns that are not granted")
}

// TestViewsLendNoMoreThanTheirOwnerMay holds each way in which a view could pass on
// a right that nobody gave.
func TestViewsLendNoMoreThanTheirOwnerMay(t *testing.T) {
	v := viewing{t, demotest.Open(t, demotest.Folder(t))}
	v.must("opal", "GRANT CREATE ON SCHEMA \"survey.drilling\" TO flint, garnet, marl")
	v.must("opal", "GRANT USAGE ON DATABASE survey TO marl")
	v.must("opal", "GRANT USAGE ON SCHEMA \"survey.drilling\" TO marl")
	v.must("opal", "GRANT USAGE ON SCHEMA \"survey.licensing\" TO marl")
	v.must("opal", "CREATE ROLE geologist_of_views")

	// Who may not read it makes no view of it; nor for another who may.
	v.refused("flint", "CREATE VIEW survey.drilling.v AS SELECT amount FROM survey.licensing.payments", fault.Refused, "SELECT on survey.licensing.payments")
	v.refused("marl", "CREATE VIEW survey.drilling.v AS SELECT id FROM survey.drilling.boreholes", fault.Refused, "SELECT on survey.drilling.boreholes")
	_, err := v.svc.Admin.PutView(ctx, caller(t, v.svc, "flint"), wire.ViewRequest{Path: "survey.drilling.v", Text: "SELECT amount FROM survey.licensing.payments", Owner: "role:licensing_officer"})
	wants(t, err, fault.Refused, "you do not hold role:licensing_officer")
	_, err = v.svc.Admin.PutView(ctx, caller(t, v.svc, "flint"), wire.ViewRequest{Path: "survey.drilling.v", Text: "SELECT no_such_column FROM survey.licensing.payments", Owner: "role:licensing_officer"})
	wants(t, err, fault.Refused, "you do not hold role:licensing_officer") // whatever the text would tell of what that role may read
	_, err = v.svc.Admin.PutView(ctx, caller(t, v.svc, "beryl"), wire.ViewRequest{Path: "survey.assay.v", Text: "SELECT no_such_column FROM survey.licensing.payments", Owner: "role:licensing_officer"})
	wants(t, err, fault.Refused, "you do not hold role:licensing_officer")
	v.refused("garnet", "CREATE VIEW survey.licensing.v AS SELECT id FROM survey.licensing.holders", fault.Refused, "CREATE on survey.licensing")

	// Who may read and not pass on can make one; nobody else reads it.
	v.must("flint", "CREATE VIEW survey.drilling.own AS SELECT id FROM survey.drilling.boreholes")
	v.must("flint", "GRANT SELECT ON survey.drilling.own TO marl")
	if _, err := v.svc.Admin.Grant(ctx, caller(t, v.svc, "opal"), wire.GrantRequest{Privileges: []string{"USAGE"}, Object: "lane:interactive", Subjects: []string{"user:marl"}}, false); err != nil {
		t.Fatal(err)
	}
	v.must("flint", "SELECT count(*) FROM survey.drilling.own")
	v.refused("marl", "SELECT count(*) FROM survey.drilling.own", fault.Conflict, "a view that this reads is closed", "boreholes", "flint")
	v.refused("opal", "SELECT count(*) FROM survey.drilling.own", fault.Conflict, "its owner user:flint may read survey.drilling.boreholes and not pass it on")
	v.must("opal", "GRANT SELECT ON survey.drilling.boreholes TO flint WITH GRANT OPTION")
	if got := v.must("marl", "SELECT count(*) FROM survey.drilling.own"); got != "[[0]]" { // no row policy lets any through
		t.Errorf("marl sees %s rows through the view", got)
	}
	// A view of the owner's view is no way round that either.
	v.must("opal", "REVOKE GRANT OPTION FOR SELECT ON survey.drilling.boreholes FROM flint")
	v.must("flint", "CREATE VIEW survey.drilling.again WITH (rights = reader) AS SELECT id FROM survey.drilling.own")
	v.must("flint", "GRANT SELECT ON survey.drilling.again TO marl")
	v.refused("marl", "SELECT id FROM survey.drilling.again", fault.Conflict, "is closed")

	// Nobody replaces another's view, or makes one another's who has more.
	v.must("opal", "GRANT MANAGE ON survey.drilling.own TO marl")
	v.refused("marl", "CREATE OR REPLACE VIEW survey.drilling.own AS SELECT id FROM survey.drilling.lithology", fault.Refused, "")
	_, err = v.svc.Admin.SetOwner(ctx, caller(t, v.svc, "marl"), wire.OwnerRequest{Owner: "role:data_curator", Objects: []string{"survey.drilling.own"}})
	wants(t, err, fault.Refused, "you do not hold role:data_curator")
	v.refused("flint", "CREATE VIEW survey.drilling.own AS SELECT 1 AS x", fault.Conflict, "there is a view survey.drilling.own already")
	v.refused("flint", "CREATE VIEW survey.drilling.boreholes AS SELECT 1 AS x", fault.Conflict, "is a table already")
	v.refused("marl", "SELECT note FROM survey.drilling.own", fault.Conflict, "is closed")

	// Rights that end, end in the view; an owner that is gone lends nothing.
	soon := time.Now().Add(3 * time.Second)
	if _, err := v.svc.Admin.Grant(ctx, caller(t, v.svc, "opal"), wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.drilling.boreholes", Subjects: []string{"user:flint"}, Option: true, Until: &soon}, false); err != nil {
		t.Fatal(err)
	}
	if _, err := v.svc.Admin.Grant(ctx, caller(t, v.svc, "opal"), wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.payments", Subjects: []string{"user:flint"}, Until: &soon}, false); err != nil {
		t.Fatal(err)
	}
	v.must("flint", "CREATE VIEW survey.drilling.paid AS SELECT amount FROM survey.licensing.payments")
	v.must("flint", "SELECT count(*) FROM survey.drilling.paid")
	v.must("marl", "SELECT id FROM survey.drilling.own")
	time.Sleep(time.Until(soon) + 20*time.Millisecond)
	v.refused("marl", "SELECT id FROM survey.drilling.own", fault.Conflict, "is closed")
	v.refused("flint", "SELECT count(*) FROM survey.drilling.paid", fault.Conflict, "is closed")
	off := true
	if _, err := v.svc.Admin.PutSubject(ctx, caller(t, v.svc, "opal"), wire.SubjectRequest{Subject: "user:flint", Disabled: &off}, true); err != nil {
		t.Fatal(err)
	}
	v.refused("opal", "SELECT id FROM survey.drilling.own", fault.Conflict, "user:flint is disabled")
}

// TestReadersRightsAndSeals: a view with its reader's rights needs theirs on what it
// reads, and a sealed one tells nothing of its text.
func TestReadersRightsAndSeals(t *testing.T) {
	dir := demotest.Folder(t)
	open := func() *service.Service {
		svc, err := service.Open(ctx, dir, slog.New(slog.DiscardHandler))
		if err != nil {
			t.Fatal(err)
		}
		return svc
	}
	v := viewing{t, open()}
	v.must("opal", "CREATE VIEW survey.licensing.paid WITH (rights = reader) AS SELECT licence_id, amount FROM licensing.payments")
	v.must("opal", "CREATE VIEW survey.licensing.quiet WITH (rights = reader, sealed) AS SELECT licence_id, amount FROM licensing.payments WHERE amount < 12345")
	v.must("opal", "GRANT SELECT ON survey.licensing.paid TO flint, garnet")
	v.must("opal", "GRANT SELECT ON survey.licensing.quiet TO flint, garnet")
	v.must("garnet", "SELECT sum(amount) FROM survey.licensing.paid")
	v.must("garnet", "SELECT sum(amount) FROM survey.licensing.quiet")
	v.refused("flint", "SELECT amount FROM survey.licensing.paid", fault.Refused, "you lack SELECT on survey.licensing.payments")
	v.refused("flint", "SELECT amount FROM survey.licensing.quiet", fault.Refused, "you lack what the sealed view survey.licensing.quiet reads", "payments", "12345")
	why, err := v.svc.Review.Why(caller(t, v.svc, "opal"), "user:flint", "select", "survey.licensing.paid", wire.Standpoint{})
	if err != nil || !strings.Contains(why.Says, "holds SELECT on survey.licensing.paid, and cannot read it: you lack SELECT on survey.licensing.payments") || !strings.Contains(fmt.Sprint(why.Missing), "SELECT on survey.licensing.payments") || why.Bands.Rows != "empty" {
		t.Errorf("why flint cannot read a view: %+v (%v)", why, err)
	}
	who, err := v.svc.Review.AccessTo(caller(t, v.svc, "opal"), review.AccessSearch{To: "survey.licensing.paid"})
	if err != nil || strings.Contains(fmt.Sprint(who.Items), "in clear") {
		t.Errorf("a view is said to show all in clear: %+v (%v)", who.Items, err)
	}
	read, err := v.svc.Review.Object(caller(t, v.svc, "opal"), "survey.licensing.payments", wire.Standpoint{})
	if err != nil || len(read.ReadBy) != 0 { // with readers' rights it gives nobody what they have not
		t.Errorf("payments are read by %v (%v)", read.ReadBy, err)
	}
	text := func(user, path string) string {
		o, err := v.svc.Review.Object(caller(t, v.svc, user), path, wire.Standpoint{})
		if err != nil || o.View == nil {
			t.Fatalf("%s: %+v (%v)", path, o.View, err)
		}
		return o.View.Text
	}
	if open, sealed, opal := text("flint", "survey.licensing.paid"), text("flint", "survey.licensing.quiet"), text("opal", "survey.licensing.quiet"); open == "" || sealed != "" || !strings.Contains(opal, "12345") {
		t.Errorf("the texts: %q, sealed %q, to its owner %q", open, sealed, opal)
	}
	list, err := v.svc.Review.Views(caller(t, v.svc, "flint"), "survey.licensing")
	if err != nil || len(list.Items) != 2 || strings.Contains(fmt.Sprint(list.Items), "12345") {
		t.Errorf("flint's list: %+v (%v)", list.Items, err)
	}
	if _, err := v.ask("garnet", "EXPLAIN SELECT amount FROM survey.licensing.quiet"); err == nil {
		t.Error("EXPLAIN tells a reader of a sealed view's text")
	}

	// What no longer fits is closed; a scan leaves views be; a restart keeps them.
	v.must("opal", "CREATE OR REPLACE VIEW survey.licensing.paid AS SELECT licence_id, amount, settled FROM licensing.payments")
	v.must("garnet", "SELECT settled FROM survey.licensing.quiet AS q JOIN survey.licensing.paid AS p USING (licence_id)")
	if _, err := v.svc.Admin.Scan(ctx, caller(t, v.svc, "opal"), "survey", wire.Change{}); err != nil {
		t.Fatal(err)
	}
	v.must("garnet", "SELECT settled FROM survey.licensing.paid")
	if err := v.svc.Close(context.Background()); err != nil {
		t.Fatal(err)
	}
	v.svc = open()
	defer v.svc.Close(ctx)
	v.must("garnet", "SELECT settled FROM survey.licensing.paid")
	// Dropped, it is gone, and grants on it take no effect.
	if says := v.must("opal", "DROP VIEW survey.licensing.paid"); !strings.Contains(says, "grants on it stay") {
		t.Errorf("dropping says %s", says)
	}
	v.refused("garnet", "SELECT settled FROM survey.licensing.paid", fault.NotFound, "")
	v.refused("opal", "DROP VIEW survey.licensing.paid", fault.NotFound, "gone already")
	v.refused("opal", "DROP VIEW survey.licensing.holders", fault.Invalid, "is a table, not a view")
	v.refused("garnet", "DROP VIEW survey.licensing.quiet", fault.Refused, "MANAGE")
}

func TestBadViews(t *testing.T) {
	v := viewing{t, demotest.Open(t, demotest.Folder(t))}
	for text, says := range map[string]string{
		"CREATE VIEW survey.drilling.v AS SELECT * FROM drilling.lithology":                "write them in the place of *: id, borehole_id",
		"CREATE VIEW survey.drilling.v AS SELECT id, id FROM drilling.lithology":           "column 2 of the view needs a name of its own",
		"CREATE VIEW survey.drilling.v AS SELECT 1 + 1":                                    "column 1 of the view needs a name of its own",
		"CREATE VIEW survey.drilling.v (a, b, c) AS SELECT 1 AS x":                         "3 names are given",
		"CREATE VIEW survey.drilling.v AS SELECT id FROM drilling.nowhere":                 "nowhere",
		"CREATE VIEW survey.drilling.v AS SELECT id FROM drilling.lithology WHERE id = $1": "$1 has no value",
		"CREATE VIEW survey.drilling.v WITH (security = low) AS SELECT 1 AS x":             "security is none of these",
		"CREATE VIEW survey.drilling.v WITH (rights = everyone) AS SELECT 1 AS x":          "not of \"everyone\"",
		"CREATE TEMPORARY VIEW survey.drilling.v AS SELECT 1 AS x":                         "TEMPORARY",
		"CREATE VIEW v AS SELECT 1 AS x":                                                   "write SOURCE.SCHEMA.NAME",
		"CREATE VIEW survey.nowhere.v AS SELECT 1 AS x":                                    "nowhere",
		"CREATE VIEW survey.drilling.v AS SELECT pg_sleep(1) AS x":                         "no function pg_sleep",
		"CREATE VIEW survey.drilling.v AS DELETE FROM drilling.lithology":                  "",
		"CREATE MATERIALIZED VIEW survey.drilling.v AS SELECT 1 AS x":                      "",
		"DROP TABLE survey.drilling.boreholes":                                             "DROP of anything but a ROLE or a VIEW",
		"DROP VIEW survey.drilling.nothing":                                                "nothing",
	} {
		_, err := v.ask("opal", text)
		if err == nil || !strings.Contains(fault.Of(err).Detail, says) {
			t.Errorf("%s\ngives %v, want %q", text, err, says)
		}
	}
	v.must("opal", "CREATE VIEW drilling.a AS SELECT id FROM drilling.lithology")
	v.must("opal", "CREATE VIEW drilling.b AS SELECT id FROM drilling.a")
	v.must("opal", "CREATE OR REPLACE VIEW drilling.a AS SELECT id FROM drilling.lithology WHERE id > 1")
	v.refused("opal", "CREATE OR REPLACE VIEW drilling.a AS SELECT id FROM drilling.b", fault.Conflict, "reads itself")
	for _, put := range []wire.PolicyRequest{
		{Policy: wire.Policy{Kind: "rows", Name: "p", Table: "survey.drilling.a", Rule: "true"}},
		{Policy: wire.Policy{Kind: "columns", Name: "p", Table: "survey.drilling.a", Columns: []string{"id"}, Treatment: &wire.Treatment{Kind: "suppress"}}},
		{Policy: wire.Policy{Kind: "rows", Name: "p", Table: "survey.drilling.lithology", Rule: "id IN (SELECT id FROM drilling.a)"}},
	} {
		if _, err := v.svc.Admin.PutPolicy(ctx, caller(t, v.svc, "opal"), put); err == nil {
			t.Errorf("a policy can be about or read a view: %+v", put)
		}
	}
}
