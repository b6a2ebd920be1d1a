package access

import (
	"bytes"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

func by(grantor, privilege, object, subject string, option bool) Change {
	return AddGrant{Privilege: privilege, Object: object, Subject: subject, Grantor: grantor, Option: option}
}

// held says what a subject holds on an object.
func held(t testing.TB, m *Model, subject, path string) string {
	t.Helper()
	return stand(t, m, subject).Resolve(object(t, m, path)).Held.String()
}

func TestBundles(t *testing.T) {
	m := survey(t, grant("reader", "survey.drilling", "user:marl"))
	if got := held(t, m, "user:marl", "survey.drilling"); got != "USAGE, SELECT, DESCRIBE" {
		t.Errorf("reader on a schema gives %q", got)
	}
	if got := held(t, m, "user:marl", "survey.drilling.boreholes"); got != "SELECT, DESCRIBE" {
		t.Errorf("reader on a schema gives %q on its tables", got)
	}
	m = apply(t, m, PutBundle{Bundle: "courier", Privileges: []string{"reader", "INSERT"}}, grant("courier", "survey.assay.results", "user:marl"))
	if got := held(t, m, "user:marl", "survey.assay.results"); got != "SELECT, INSERT, DESCRIBE" {
		t.Errorf("an own bundle gives %q", got)
	}
	m = apply(t, m, PutBundle{Bundle: "courier", Privileges: []string{"INSERT"}})
	if got := held(t, m, "user:marl", "survey.assay.results"); got != "INSERT" {
		t.Errorf("after the bundle was edited, its grant gives %q", got)
	}
	if _, err := m.Apply(day, RemoveBundle{"courier"}); err == nil {
		t.Error("a bundle that is granted was removed")
	}
	m = apply(t, m, RemoveGrant{Privilege: "courier", Object: "survey.assay.results", Subject: "user:marl"}, RemoveBundle{"courier"})
	if _, err := m.FindBundle("courier"); err == nil {
		t.Error("the bundle is still there")
	}
	for _, c := range []Change{PutBundle{Bundle: "select", Privileges: []string{"USAGE"}}, PutBundle{Bundle: "x", Privileges: nil},
		PutBundle{Bundle: "x", Privileges: []string{"ALL"}}, PutBundle{Bundle: "x y", Privileges: []string{"USAGE"}}, RemoveBundle{"reader"},
		grant("reader", "lane:interactive", "nobody")} {
		if _, err := m.Apply(day, c); err == nil {
			t.Errorf("%+v was not refused", c)
		}
	}
}

func TestOwners(t *testing.T) {
	m := survey(t, SetOwner{Object: "survey.drilling", Owner: "role:survey_reader"})
	v := stand(t, m, "user:flint").Resolve(object(t, m, "survey.drilling.boreholes"))
	if got := v.Allowed.String(); got != everything {
		t.Errorf("the owner of the schema may %q on its tables", got)
	}
	if got := held(t, m, "user:flint", "survey"); got != "USAGE" {
		t.Errorf("the owner of a schema has %q on its source, want the door alone", got)
	}
	if got := m.Ref(m.Owner(object(t, m, "survey.drilling.boreholes"))); got != "role:survey_reader" {
		t.Errorf("the table's owner is %s, want the schema's", got)
	}
	if _, err := m.Apply(day, RemoveGrant{Privilege: "ALL", Object: "survey.drilling", Subject: "role:survey_reader"}); err == nil || !strings.Contains(err.Error(), "as the owner") {
		t.Errorf("an owner's right was revoked: %v", err)
	}
	m = apply(t, m, by("user:flint", "SELECT", "survey.drilling", "user:marl", false), SetOwner{Object: "survey.drilling", Owner: "user:opal"})
	if got := held(t, m, "user:flint", "survey.drilling.boreholes"); got != "" {
		t.Errorf("who no longer owns has %q", got)
	}
	if got := held(t, m, "user:marl", "survey.drilling.boreholes"); got != "" {
		t.Errorf("what the former owner granted depends on nothing, and gives %q", got)
	}
	m = apply(t, m, RemoveSubject{"role:district_geologist"}, SetOwner{Object: "survey.drilling"}, SetOwner{Object: "survey.assay", Owner: "role:survey_reader"}, RemoveSubject{"role:survey_reader"})
	if owner := m.Owner(object(t, m, "survey.assay")); owner != 0 {
		t.Errorf("a removed role owns still: %s", m.Ref(owner))
	}
}

// TestGrantsRestOnTheirBasis walks through chains of grants: what each ends.
func TestGrantsRestOnTheirBasis(t *testing.T) {
	boreholes := "survey.drilling.boreholes"
	passed := []Change{
		by("user:opal", "SELECT", "survey.drilling", "user:flint", true),
		by("user:flint", "SELECT", boreholes, "user:marl", true),
		AddSubject{Subject: "user:slate"},
		by("user:marl", "SELECT", boreholes, "user:slate", false),
	}
	revoke := RemoveGrant{Privilege: "SELECT", Object: "survey.drilling", Subject: "user:flint"}
	cascade := revoke
	cascade.Cascade = true
	option := revoke
	option.OptionOnly = true
	for _, c := range []struct {
		name  string
		then  []Change
		err   string
		marl  string
		slate string
	}{
		{"a chain gives", nil, "", "SELECT", "SELECT"},
		{"revoking the first link is refused, with the list", []Change{revoke}, "SELECT on survey.drilling.boreholes to user:marl by user:flint; SELECT on survey.drilling.boreholes to user:slate by user:marl", "", ""},
		{"taking the option alone is refused as well", []Change{option}, "2 grants depend on it", "", ""},
		{"cascade takes the chain along", []Change{cascade}, "", "", ""},
		{"another grantor's grant keeps the chain", []Change{by("user:opal", "SELECT", "survey", "user:flint", true), revoke}, "", "SELECT", "SELECT"},
		{"another grantor's grant of the same keeps the grant", []Change{by("user:opal", "SELECT", boreholes, "user:slate", false), cascade}, "", "", "SELECT"},
		{"what the chain's middle is given by another does not keep its end's option", []Change{by("user:opal", "SELECT", boreholes, "user:marl", false), cascade}, "", "SELECT", ""},
		{"the grantor may be disabled", []Change{SetSubject{Subject: "user:flint", Disabled: new(true)}}, "", "SELECT", "SELECT"},
		{"a grantor who is removed takes the basis along", []Change{RemoveSubject{"user:flint"}}, "", "", ""},
		{"an administrator who leaves does not", []Change{Join{Member: "user:jet", Of: Administrator}, Leave{Member: "user:opal", Of: Administrator}}, "", "SELECT", "SELECT"},
		{"an end date on the basis ends the chain", []Change{AddGrant{Privilege: "SELECT", Object: "survey.drilling", Subject: "user:flint", Grantor: "user:opal", Until: day}}, "", "", ""},
		{"a circle does not hold itself up", []Change{by("user:marl", "SELECT", boreholes, "user:jet", true), by("user:jet", "SELECT", boreholes, "user:marl", true), cascade}, "", "", ""},
		{"one of a circle who is given it otherwise keeps it", []Change{by("user:marl", "SELECT", boreholes, "user:jet", true), by("user:jet", "SELECT", boreholes, "user:marl", true), by("user:opal", "SELECT", boreholes, "user:jet", true), cascade}, "", "SELECT", "SELECT"},
		{"without the option nothing can be passed on", []Change{by("user:slate", "SELECT", boreholes, "user:jet", false)}, "can't grant SELECT", "", ""},
		{"nor beyond where it is held", []Change{by("user:flint", "SELECT", "survey", "user:marl", false)}, "can't grant SELECT", "", ""},
		{"nor another privilege", []Change{by("user:flint", "UPDATE", boreholes, "user:marl", false)}, "can't grant UPDATE", "", ""},
		{"nor a bundle that has more", []Change{by("user:flint", "reader", boreholes, "user:marl", false)}, "can't grant reader", "", ""},
		{"MANAGE grants anything at or below it", []Change{by("user:opal", "MANAGE", "survey.drilling", "user:jet", false), by("user:jet", "REVEAL", boreholes, "user:jet", false)}, "", "SELECT", "SELECT"},
		{"MANAGE grants nothing beside it", []Change{by("user:opal", "MANAGE", "survey.drilling", "user:jet", false), by("user:jet", "SELECT", "survey.assay", "user:jet", false)}, "can't grant SELECT", "", ""},
		{"a bundle that loses MANAGE ends what depends on it", []Change{by("user:opal", "keeper", "survey.drilling", "user:jet", false), by("user:jet", "UPDATE", boreholes, "user:marl", false),
			PutBundle{Bundle: "keeper", Privileges: []string{"SELECT"}}}, "", "SELECT", "SELECT"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := survey(t, append([]Change{AddSubject{Subject: "user:jet"}}, passed...)...)
			before := fmt.Sprint(m.Len())
			next, err := m.Apply(day, c.then...)
			if c.err != "" {
				if err == nil || !strings.Contains(err.Error(), c.err) {
					t.Fatalf("got %v, want an error with %q", err, c.err)
				}
				if fmt.Sprint(m.Len()) != before {
					t.Error("a refused change left a trace")
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			if got := held(t, next, "user:marl", boreholes); got != c.marl {
				t.Errorf("marl holds %q, want %q", got, c.marl)
			}
			if got := held(t, next, "user:slate", boreholes); got != c.slate {
				t.Errorf("slate holds %q, want %q", got, c.slate)
			}
		})
	}
}

func TestADependentsErrorListsThem(t *testing.T) {
	m := survey(t, by("user:opal", "SELECT", "survey", "user:flint", true), by("user:flint", "SELECT", "survey", "user:marl", false))
	_, err := m.Apply(day, RemoveGrant{Privilege: "SELECT", Object: "survey", Subject: "user:flint"})
	var d *Dependents
	if !errors.As(err, &d) || len(d.Grants) != 1 || m.Ref(d.Grants[0].Subject) != "user:marl" {
		t.Errorf("got %v", err)
	}
}

func TestGrantsByTwoGrantorsAreTwo(t *testing.T) {
	m := survey(t, by("user:opal", "SELECT", "survey", "user:flint", true), AddSubject{Subject: "user:jet"}, Join{Member: "user:jet", Of: Administrator},
		by("user:opal", "SELECT", "survey.assay", "user:marl", false), by("user:jet", "SELECT", "survey.assay", "user:marl", false))
	marl, _ := m.FindSubject("user:marl")
	if n := len(m.GrantsTo(marl.ID)); n != 2 {
		t.Fatalf("%d grants, want 2", n)
	}
	m = apply(t, m, RemoveGrant{Privilege: "SELECT", Object: "survey.assay", Subject: "user:marl", Grantor: "user:jet"})
	if got := held(t, m, "user:marl", "survey.assay"); got != "SELECT" {
		t.Errorf("with the other grantor's grant left, marl holds %q", got)
	}
	if _, err := m.Apply(day, RemoveGrant{Privilege: "SELECT", Object: "survey.assay", Subject: "user:marl", Grantor: "user:jet"}); err == nil || !strings.Contains(err.Error(), "by another grantor") {
		t.Errorf("got %v", err)
	}
}

func TestGrantingAgainKeepsTheOption(t *testing.T) {
	m := survey(t, by("user:opal", "SELECT", "survey", "user:flint", true), by("user:opal", "SELECT", "survey", "user:flint", false))
	flint, _ := m.FindSubject("user:flint")
	if grants := m.GrantsTo(flint.ID); len(grants) != 1 || !grants[0].Option {
		t.Errorf("got %+v, want one grant that can be passed on", grants)
	}
	m = apply(t, m, RemoveGrant{Privilege: "SELECT", Object: "survey", Subject: "user:flint", OptionOnly: true})
	if grants := m.GrantsTo(flint.ID); len(grants) != 1 || grants[0].Option {
		t.Errorf("got %+v, want one grant without option", grants)
	}
}

func TestLanes(t *testing.T) {
	batch := Limits{Queries: 2, Seconds: 600, Rows: 1_000_000, Bytes: 1 << 30}
	m := survey(t, PutLane{Lane: "batch", Limits: batch}, grant("USAGE", "lane:batch", "user:flint"))
	lanes := stand(t, m, "user:flint").MayRun()
	if len(lanes) != 1 || lanes[0].Limits != batch || m.Path(lanes[0].ID) != "lane:batch" {
		t.Errorf("flint may run on %+v", lanes)
	}
	if lanes := stand(t, m, "user:marl").MayRun(); len(lanes) != 0 {
		t.Errorf("marl may run on %+v", lanes)
	}
	if lanes := stand(t, m, "user:opal").MayRun(); len(lanes) != 2 || lanes[0].Name != FirstLane {
		t.Errorf("ALL on the platform opens %d lanes", len(lanes))
	}
	m = apply(t, m, RemoveLane{"batch"}, PutLane{Lane: "batch", Limits: batch})
	if lanes := stand(t, m, "user:flint").MayRun(); len(lanes) != 0 {
		t.Error("a lane added under an old name has the old grants")
	}
	for _, c := range []Change{PutLane{Lane: "x", Limits: Limits{Queries: 0, Seconds: 1, Rows: 1, Bytes: 1}}, PutLane{Lane: "a b", Limits: batch}, RemoveLane{"fast"},
		grant("SELECT", "lane:batch", "user:flint"), grant("USAGE", "lane:fast", "user:flint")} {
		if _, err := m.Apply(day, c); err == nil {
			t.Errorf("%+v was not refused", c)
		}
	}
	if _, err := apply(t, m, RemoveLane{"batch"}).Apply(day, RemoveLane{FirstLane}); err == nil {
		t.Error("the last lane was removed")
	}
}

func TestRenameKeepsIdentity(t *testing.T) {
	m := survey(t, append([]Change{grant("SELECT", "survey.drilling", "role:survey_reader")}, entry...)...)
	m = apply(t, m, RenameSubject{"role:survey_reader", "reader_of_surveys"}, AddSubject{Subject: "role:survey_reader"})
	if got := held(t, m, "user:flint", "survey.drilling.boreholes"); got != "SELECT" {
		t.Errorf("after the rename, flint holds %q", got)
	}
	if got := held(t, m, "role:survey_reader", "survey.drilling.boreholes"); got != "" {
		t.Errorf("who takes the old name holds %q", got)
	}
	for _, c := range []Change{RenameSubject{"user:flint", "marl"}, RenameSubject{Administrator, "boss"}, RenameSubject{"user:flint", "a b"}, RenameSubject{"public", "all"}} {
		if _, err := m.Apply(day, c); err == nil {
			t.Errorf("%+v was not refused", c)
		}
	}
}

func TestReportingLine(t *testing.T) {
	lead := func(who, lead string) Change { return SetSubject{Subject: who, Lead: &lead} }
	m := survey(t, lead("user:marl", "user:flint"), lead("user:flint", "user:opal"))
	team := func(ref string) string {
		s, err := m.FindSubject(ref)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, id := range m.Team(s.ID) {
			names = append(names, m.Subject(id).Name)
		}
		return strings.Join(names, " ")
	}
	if got := team("user:opal"); got != "opal flint marl" {
		t.Errorf("opal's team is %q", got)
	}
	_, err := m.Apply(day, lead("user:opal", "user:marl"))
	if err == nil || !strings.Contains(err.Error(), "user:opal → user:marl → user:flint → user:opal") {
		t.Errorf("a loop: %v", err)
	}
	if _, err := m.Apply(day, lead("user:marl", "role:survey_reader")); err == nil {
		t.Error("a role was made a lead")
	}
	m = apply(t, m, RemoveSubject{"user:flint"})
	if got := team("user:opal"); got != "opal marl" {
		t.Errorf("after the middle left, opal's team is %q", got)
	}
}

func TestRolesAreGivenOn(t *testing.T) {
	m := survey(t, Join{Member: "user:marl", Of: "role:survey_reader", Option: true})
	id := func(ref string) SubjectID {
		s, err := m.FindSubject(ref)
		if err != nil {
			t.Fatal(err)
		}
		return s.ID
	}
	if !m.MayGive(id("user:marl"), id("role:survey_reader"), day) || m.MayGive(id("user:flint"), id("role:survey_reader"), day) || m.MayGive(id("user:marl"), id("role:district_geologist"), day) {
		t.Error("marl alone may give survey_reader on, and no other role")
	}
	if _, err := m.Apply(day, Join{Member: "user:marl", Of: "group:field-north", Option: true}); err == nil {
		t.Error("a group was held with admin option")
	}
}

// TestSnapshotsKeepEverything compares a model with itself after a snapshot.
func TestSnapshotsKeepEverything(t *testing.T) {
	m := survey(t, append(slices.Clone(entry), grant("reader", "survey.drilling", "role:survey_reader"), SetOwner{Object: "survey.assay", Owner: "user:marl"},
		by("user:opal", "SELECT", "survey", "user:flint", true), AddGrant{Privilege: "SELECT", Object: "survey.assay.results.ppm", Subject: "role:district_geologist", Grantor: "user:flint", Until: day.Add(time.Hour)},
		PutBundle{Bundle: "courier", Privileges: []string{"INSERT"}}, RemoveBundle{"courier"}, RemoveGrant{Privilege: "USAGE", Object: "survey", Subject: "role:survey_reader"})...)
	again, err := Restore(taken(t, m).get)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range m.Subjects(0) {
		a, b := stand(t, m, s.Ref()), stand(t, again, s.Ref())
		if !a.Until.Equal(b.Until) {
			t.Errorf("%s: ends %v, was %v", s.Ref(), b.Until, a.Until)
		}
		m.Relations(PlatformID, func(o *Object) bool {
			if x, y := fmt.Sprint(a.Resolve(o.ID)), fmt.Sprint(b.Resolve(o.ID)); x != y {
				t.Errorf("%s on %s: %s, was %s", s.Ref(), m.Path(o.ID), y, x)
			}
			return true
		})
	}
	more := []Change{AddSubject{Subject: "user:new"}, RemoveGrant{Privilege: "SELECT", Object: "survey", Subject: "user:flint", Cascade: true}, AddObject{Path: "survey.assay.new", Kind: "table"}}
	x, y := taken(t, apply(t, m, more...)), taken(t, apply(t, again, more...))
	if x.String() != y.String() {
		t.Errorf("the restored model changes in another way:\n%v\n%v", x, y)
	}
	for i := range x.parts { // that is not there
		short := taken(t, m)
		short.parts = short.parts[:i]
		if _, err := Restore(short.get); err == nil {
			t.Errorf("a snapshot of %d parts was restored", i)
		}
	}
}

// TestDamagedSnapshots: whatever byte of a snapshot is another, it is restored or refused.
func TestDamagedSnapshots(t *testing.T) {
	var file bytes.Buffer
	m := survey(t, append(slices.Clone(entry), grant("reader", "survey.drilling", "role:survey_reader"), AddGrant{Privilege: "SELECT", Object: "survey.assay", Subject: "user:marl", Until: day.Add(time.Hour)})...)
	if err := m.Snapshot(gob.NewEncoder(&file).Encode); err != nil {
		t.Fatal(err)
	}
	refused := 0
	for i := range file.Len() {
		content := bytes.Clone(file.Bytes())
		content[i] ^= 0x55
		if _, err := Restore(gob.NewDecoder(bytes.NewReader(content)).Decode); err != nil {
			refused++
		}
	}
	if refused < file.Len()/4 {
		t.Errorf("of %d damaged snapshots, %d were refused", file.Len(), refused)
	}
}

// parts are what a model was taken apart into, as a file would keep them.
type parts struct{ parts []any }

func taken(t *testing.T, m *Model) *parts {
	t.Helper()
	p := &parts{}
	if err := m.Snapshot(func(part any) error { p.parts = append(p.parts, part); return nil }); err != nil {
		t.Fatal(err)
	}
	return p
}

func (p *parts) get(into any) error {
	if len(p.parts) == 0 {
		return io.EOF
	}
	reflect.ValueOf(into).Elem().Set(reflect.ValueOf(p.parts[0]).Elem())
	p.parts = p.parts[1:]
	return nil
}

func (p *parts) String() string {
	var b strings.Builder
	for _, part := range p.parts {
		fmt.Fprintf(&b, "%+v\n", part)
	}
	return b.String()
}
