package access

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"
)

var day = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

// survey is a small platform: two schemas, three tables, a group, and roles
// that build on each other.
func survey(t testing.TB, more ...Change) *Model {
	t.Helper()
	return apply(t, New(), append([]Change{
		AddObject{Path: "survey", Kind: "source"},
		AddObject{Path: "survey.drilling", Kind: "schema"},
		AddObject{Path: "survey.drilling.boreholes", Kind: "table"},
		AddObject{Path: "survey.drilling.boreholes.name", Kind: "column", Type: "text"},
		AddObject{Path: "survey.drilling.boreholes.depth_m", Kind: "column", Type: "double precision"},
		AddObject{Path: "survey.drilling.lithology", Kind: "table"},
		AddObject{Path: "survey.drilling.lithology.rock", Kind: "column", Type: "text"},
		AddObject{Path: "survey.assay", Kind: "schema"},
		AddObject{Path: "survey.assay.results", Kind: "table"},
		AddObject{Path: "survey.assay.results.ppm", Kind: "column", Type: "double precision"},
		AddSubject{Subject: "user:opal"}, AddSubject{Subject: "user:flint"}, AddSubject{Subject: "user:marl"},
		AddSubject{Subject: "group:field-north"},
		AddSubject{Subject: "role:survey_reader"}, AddSubject{Subject: "role:district_geologist"},
		Join{Member: "user:opal", Of: Administrator},
		Join{Member: "user:flint", Of: "group:field-north"},
		Join{Member: "group:field-north", Of: "role:district_geologist"},
		Join{Member: "role:district_geologist", Of: "role:survey_reader"},
	}, more...)...)
}

func apply(t testing.TB, m *Model, changes ...Change) *Model {
	t.Helper()
	for _, c := range changes {
		next, err := m.Apply(day, c)
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		m = next
	}
	return m
}

func stand(t testing.TB, m *Model, ref string, role ...string) *Rights {
	t.Helper()
	s, err := m.FindSubject(ref)
	if err != nil {
		t.Fatal(err)
	}
	session := Standpoint{Subject: s.ID}
	for _, r := range role {
		found, err := m.FindSubject(r)
		if err != nil {
			t.Fatal(err)
		}
		session.Role = found.ID
	}
	st, err := m.Rights(session, day)
	if err != nil {
		t.Fatal(err)
	}
	return st
}

func object(t testing.TB, m *Model, path string) ObjectID {
	t.Helper()
	o, err := m.Lookup(path)
	if err != nil {
		t.Fatal(err)
	}
	return o.ID
}

func grant(privilege, object, subject string) Change {
	return AddGrant{Privilege: privilege, Object: object, Subject: subject, Grantor: "user:opal"}
}

var entry = []Change{
	grant("USAGE", "survey", "role:survey_reader"),
	grant("USAGE", "survey.drilling", "role:survey_reader"),
}

// everything is what ALL gives on a table behind open doors.
const everything = "SELECT, INSERT, UPDATE, DELETE, REFERENCES, DESCRIBE, MANAGE, AUDIT, ALL"

func TestResolve(t *testing.T) {
	boreholes := "survey.drilling.boreholes"
	for _, c := range []struct {
		name    string
		grants  []Change
		subject string
		object  string
		allowed string
		shut    string
	}{
		{"nothing granted is nothing allowed", nil, "user:flint", boreholes, "", "survey survey.drilling"},
		{"a grant through a group and two roles", append([]Change{grant("SELECT", boreholes, "role:survey_reader")}, entry...), "user:flint", boreholes, "SELECT", ""},
		{"a grant on the schema covers its tables", append([]Change{grant("SELECT", "survey.drilling", "role:survey_reader")}, entry...), "user:flint", boreholes, "SELECT", ""},
		{"a grant on the source covers its tables", append([]Change{grant("SELECT", "survey", "role:survey_reader")}, entry...), "user:flint", boreholes, "SELECT", ""},
		{"a grant on the platform covers its tables", append([]Change{grant("SELECT", "platform", "role:survey_reader")}, entry...), "user:flint", boreholes, "SELECT", ""},
		{"SELECT without the doors is nothing", []Change{grant("SELECT", boreholes, "user:flint")}, "user:flint", boreholes, "", "survey survey.drilling"},
		{"SELECT with one door of two is nothing", []Change{grant("SELECT", boreholes, "user:flint"), grant("USAGE", "survey.drilling", "user:flint")}, "user:flint", boreholes, "", "survey"},
		{"USAGE opens the one object it names", []Change{grant("USAGE", "survey", "user:flint"), grant("SELECT", "survey", "user:flint")}, "user:flint", boreholes, "", "survey.drilling"},
		{"ALL on a schema opens its own door", []Change{grant("ALL", "survey.drilling", "user:flint"), grant("USAGE", "survey", "user:flint")}, "user:flint", boreholes, everything, ""},
		{"ALL on a schema leaves the source's door shut", []Change{grant("ALL", "survey.drilling", "user:flint")}, "user:flint", boreholes, "DESCRIBE, MANAGE, AUDIT, ALL", "survey"},
		{"ALL on the platform opens all doors", nil, "user:opal", boreholes, everything, ""},
		{"PUBLIC counts for everyone", []Change{grant("SELECT", boreholes, "public"), grant("USAGE", "survey", "public"), grant("USAGE", "survey.drilling", "public")}, "user:marl", boreholes, "SELECT", ""},
		{"a pattern opens every door it names", []Change{grant("USAGE", "survey", "user:flint"), grant("USAGE", "survey.*", "user:flint"), grant("SELECT", "survey", "user:flint")}, "user:flint", boreholes, "SELECT", ""},
		{"a pattern of tables covers those so named", append([]Change{grant("SELECT", "survey.drilling.bore*", "user:flint")}, entry...), "user:flint", boreholes, "SELECT", ""},
		{"a pattern of tables covers their columns", append([]Change{grant("SELECT", "survey.drilling.*holes", "user:flint")}, entry...), "user:flint", boreholes + ".name", "SELECT", ""},
		{"a pattern of tables covers no other", append([]Change{grant("SELECT", "survey.drilling.*log*", "user:flint")}, entry...), "user:flint", boreholes, "", ""},
		{"a pattern of schemas covers their tables", append([]Change{grant("SELECT", "survey.d*g", "user:flint")}, entry...), "user:flint", boreholes, "SELECT", ""},
		{"what one role gives another does not have", append([]Change{grant("SELECT", boreholes, "role:district_geologist")}, entry...), "role:survey_reader", boreholes, "", ""},
		{"a role that nobody signs in as can be a standpoint", append([]Change{grant("SELECT", boreholes, "role:survey_reader")}, entry...), "role:district_geologist", boreholes, "SELECT", ""},
		{"DESCRIBE needs no door", []Change{grant("DESCRIBE", "survey", "user:marl")}, "user:marl", boreholes, "DESCRIBE", "survey survey.drilling"},
		{"the auditor has the structure and no data", []Change{Join{Member: "user:marl", Of: "role:auditor"}}, "user:marl", boreholes, "DESCRIBE, AUDIT", "survey survey.drilling"},
		{"a column grant allows SELECT on its table", append([]Change{grant("SELECT", boreholes+".name", "user:flint")}, entry...), "user:flint", boreholes, "SELECT", ""},
		{"a column grant allows that column", append([]Change{grant("SELECT", boreholes+".name", "user:flint")}, entry...), "user:flint", boreholes + ".name", "SELECT", ""},
		{"a column grant allows no other column", append([]Change{grant("SELECT", boreholes+".name", "user:flint")}, entry...), "user:flint", boreholes + ".depth_m", "", ""},
		{"a grant that has ended has no effect", append([]Change{AddGrant{Privilege: "SELECT", Object: boreholes, Subject: "user:flint", Until: day}}, entry...), "user:flint", boreholes, "", ""},
		{"a membership that has ended has no effect", append([]Change{grant("SELECT", boreholes, "role:survey_reader"), Join{Member: "user:flint", Of: "group:field-north", Until: day.Add(-time.Hour)}}, entry...), "user:flint", boreholes, "", "survey survey.drilling"},
		{"a missing table cannot be read", append([]Change{grant("SELECT", boreholes, "user:flint"), MissObject{boreholes}}, entry...), "user:flint", boreholes, "", ""},
		{"a table in a missing schema cannot be read", append([]Change{grant("SELECT", boreholes, "user:flint"), MissObject{"survey.drilling"}}, entry...), "user:flint", boreholes, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := survey(t, c.grants...)
			v := stand(t, m, c.subject).Resolve(object(t, m, c.object))
			if got := v.Allowed.String(); got != c.allowed {
				t.Errorf("allowed %q, want %q", got, c.allowed)
			}
			var shut []string
			for _, id := range v.Shut {
				shut = append(shut, m.Path(id))
			}
			if got := strings.Join(shut, " "); got != c.shut {
				t.Errorf("shut doors %q, want %q", got, c.shut)
			}
		})
	}
}

func TestColumnGrantsAddUp(t *testing.T) {
	m := survey(t, append([]Change{
		grant("SELECT", "survey.drilling.boreholes.name", "user:flint"),
		grant("SELECT", "survey.drilling.boreholes.depth_m", "role:survey_reader"),
	}, entry...)...)
	v := stand(t, m, "user:flint").Resolve(object(t, m, "survey.drilling.boreholes"))
	if v.Whole.Has(Select) || len(v.ColumnsWith(Select)) != 2 {
		t.Errorf("got all=%v columns=%v, want two columns", v.Whole.Has(Select), v.Columns)
	}
	v = stand(t, m, "user:marl").Resolve(object(t, m, "survey.drilling.boreholes"))
	if v.Allowed != 0 || v.Columns != nil {
		t.Errorf("marl got %v %v, want nothing", v.Allowed, v.Columns)
	}
}

func TestPresentAndFuture(t *testing.T) {
	m := survey(t, append([]Change{grant("SELECT", "survey.drilling", "role:survey_reader")}, entry...)...)
	m = apply(t, m, AddObject{Path: "survey.drilling.core_boxes", Kind: "table"}, grant("SELECT", "survey.assay.b*", "user:marl"), grant("USAGE", "survey", "user:marl"), grant("USAGE", "survey.assay", "user:marl"),
		AddObject{Path: "survey.assay.batches", Kind: "table"})
	if !stand(t, m, "user:marl").Resolve(object(t, m, "survey.assay.batches")).Whole.Has(Select) {
		t.Error("a table found later is not covered by a pattern")
	}
	v := stand(t, m, "user:flint").Resolve(object(t, m, "survey.drilling.core_boxes"))
	if !v.Allowed.Has(Select) || !v.Whole.Has(Select) {
		t.Errorf("a table found later is not covered: %v", v.Allowed)
	}
}

func TestNarrowToOneRole(t *testing.T) {
	m := survey(t, append([]Change{
		AddSubject{Subject: "role:assay_reader"}, Join{Member: "user:flint", Of: "role:assay_reader"},
		grant("SELECT", "survey.drilling", "role:survey_reader"),
		grant("SELECT", "survey.assay", "role:assay_reader"), grant("USAGE", "survey.assay", "role:assay_reader"),
		grant("USAGE", "survey", "public"),
	}, entry...)...)
	all, narrow := stand(t, m, "user:flint"), stand(t, m, "user:flint", "role:assay_reader")
	results, boreholes := object(t, m, "survey.assay.results"), object(t, m, "survey.drilling.boreholes")
	if !all.Resolve(boreholes).Allowed.Has(Select) || !all.Resolve(results).Allowed.Has(Select) {
		t.Error("with all roles, both tables should be readable")
	}
	if narrow.Resolve(boreholes).Allowed.Has(Select) {
		t.Error("narrowed to assay_reader, boreholes should be closed")
	}
	if !narrow.Resolve(results).Allowed.Has(Select) {
		t.Error("narrowed to assay_reader, results should be open; PUBLIC counts")
	}
	group, _ := m.FindSubject("group:field-north")
	if !narrow.Counts(group.ID) {
		t.Error("groups count when narrowed")
	}
	marl, _ := m.FindSubject("user:marl")
	if _, err := m.Rights(Standpoint{Subject: marl.ID, Role: narrow.Standpoint.Role}, day); err == nil {
		t.Error("a role that is not held cannot be narrowed to")
	}
}

func TestPathsSayWhy(t *testing.T) {
	m := survey(t, append([]Change{
		AddGrant{Privilege: "SELECT", Object: "survey.drilling", Subject: "role:survey_reader", Grantor: "user:opal", Ticket: "GS-14"},
		Join{Member: "user:flint", Of: "role:survey_reader"},
	}, entry...)...)
	var got []string
	for _, p := range stand(t, m, "user:flint").Paths(Select, object(t, m, "survey.drilling.boreholes")) {
		var names []string
		for _, id := range p.Subjects {
			names = append(names, m.Ref(id))
		}
		got = append(got, fmt.Sprintf("%s → %s on %s, ticket %s", arrow(names), p.Grant.Privilege, m.Path(p.Grant.Object), p.Grant.Ticket))
	}
	want := []string{
		"user:flint → role:survey_reader → SELECT on survey.drilling, ticket GS-14",
		"user:flint → group:field-north → role:district_geologist → role:survey_reader → SELECT on survey.drilling, ticket GS-14",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestMissingAndFixes(t *testing.T) {
	m := survey(t, append([]Change{grant("USAGE", "lane:interactive", "public"), grant("SELECT", "survey.drilling.lithology", "role:survey_reader"),
		grant("SELECT", "survey.assay", "role:district_geologist")}, entry...)...)
	describe := func(f Fix) string {
		if f.Give != 0 {
			return "give " + m.Ref(f.Give) + " to " + m.Ref(f.To)
		}
		var needs []string
		for _, n := range f.Grants {
			needs = append(needs, n.Privilege.String()+" on "+m.Path(n.Object))
		}
		return "grant " + strings.Join(needs, ", ") + " to " + m.Ref(f.To)
	}
	for _, c := range []struct{ name, subject, object, want string }{
		{"a role that has it comes before a grant", "user:marl", "survey.drilling.lithology",
			"give role:survey_reader to user:marl\ngive group:field-north to user:marl\ngive role:district_geologist to user:marl\ngrant USAGE on survey, USAGE on survey.drilling, SELECT on survey.drilling.lithology to user:marl"},
		{"only the door is missing: open it for the role that carries the right", "user:flint", "survey.assay.results",
			"grant USAGE on survey.assay to role:district_geologist\ngrant USAGE on survey.assay to user:flint"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []string
			for _, f := range stand(t, m, c.subject).Fixes(Select, object(t, m, c.object), m.TakeCensus(day)) {
				got = append(got, describe(f))
			}
			if strings.Join(got, "\n") != c.want {
				t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), c.want)
			}
		})
	}
	if fixes := stand(t, m, "user:opal").Fixes(Select, object(t, m, "survey.assay.results"), m.TakeCensus(day)); fixes != nil {
		t.Errorf("nothing is missing, yet: %v", fixes)
	}
}

func TestDormantGrants(t *testing.T) {
	for _, c := range []struct {
		name   string
		more   []Change
		grant  AddGrant
		cause  Cause
		awaken []Change
	}{
		{"a door is shut", nil, AddGrant{Privilege: "SELECT", Object: "survey.assay", Subject: "role:survey_reader"}, CauseDoorShut,
			[]Change{grant("USAGE", "survey", "public"), grant("USAGE", "survey.assay", "public"), grant("USAGE", "lane:interactive", "public")}},
		{"nobody who has it may run a query", []Change{grant("USAGE", "survey", "public"), grant("USAGE", "survey.assay", "public")}, AddGrant{Privilege: "SELECT", Object: "survey.assay", Subject: "role:survey_reader"}, CauseNoLane,
			[]Change{grant("USAGE", "lane:interactive", "role:district_geologist")}},
		{"nobody who may enter one of its schemas may run a query", []Change{grant("USAGE", "survey", "public"), grant("USAGE", "survey.assay", "public")}, AddGrant{Privilege: "SELECT", Object: "survey", Subject: "role:survey_reader"}, CauseNoLane,
			[]Change{grant("USAGE", "lane:interactive", "role:district_geologist")}},
		{"a door behind a shut door", nil, AddGrant{Privilege: "USAGE", Object: "survey.assay", Subject: "user:marl"}, CauseDoorShut,
			[]Change{grant("USAGE", "survey", "user:marl")}},
		{"the basis has ended", []Change{AddGrant{Privilege: "DESCRIBE", Object: "survey", Subject: "user:flint", Option: true, Until: day}}, AddGrant{Privilege: "DESCRIBE", Object: "survey.assay", Subject: "user:marl", Grantor: "user:flint"}, CauseBasis,
			[]Change{AddGrant{Privilege: "DESCRIBE", Object: "survey", Subject: "user:flint", Option: true}}},
		{"nobody holds the role", []Change{AddSubject{Subject: "role:core_archivist"}}, AddGrant{Privilege: "USAGE", Object: "survey", Subject: "role:core_archivist"}, CauseNoHolders,
			[]Change{Join{Member: "user:marl", Of: "role:core_archivist"}}},
		{"the only holder is disabled", []Change{SetSubject{Subject: "user:marl", Disabled: new(true)}}, AddGrant{Privilege: "USAGE", Object: "survey", Subject: "user:marl"}, CauseNoHolders,
			[]Change{SetSubject{Subject: "user:marl", Disabled: new(false)}}},
		{"the object is missing", []Change{MissObject{"survey.assay.results"}}, AddGrant{Privilege: "DESCRIBE", Object: "survey.assay.results", Subject: "user:marl"}, CauseMissing,
			[]Change{AddObject{Path: "survey.assay.results", Kind: "table"}}},
		{"the pattern matches nothing yet", nil, AddGrant{Privilege: "USAGE", Object: "survey.geo*", Subject: "user:marl"}, CauseNoMatch,
			[]Change{AddObject{Path: "survey.geophysics", Kind: "schema"}, grant("USAGE", "survey", "user:marl")}},
		{"the date has passed", nil, AddGrant{Privilege: "USAGE", Object: "survey", Subject: "user:marl", Until: day.Add(-time.Second)}, CauseExpired,
			[]Change{AddGrant{Privilege: "USAGE", Object: "survey", Subject: "user:marl"}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := survey(t)
			for _, change := range append(c.more, c.grant) {
				next, err := m.Apply(day.Add(-time.Minute), change)
				if err != nil {
					t.Fatal(err)
				}
				m = next
			}
			all := m.Grants()
			g := all[len(all)-1]
			d := m.TakeCensus(day).Dormant(g)
			if d == nil || d.Cause != c.cause {
				t.Fatalf("got %+v, want %s", d, c.cause)
			}
			m = apply(t, m, c.awaken...)
			if d := m.TakeCensus(day).Dormant(m.Grant(g.ID)); d != nil {
				t.Errorf("still dormant after the fix: %+v", d)
			}
		})
	}
}

func TestRefusedChanges(t *testing.T) {
	for _, c := range []struct {
		name   string
		change Change
		want   string
	}{
		{"a role loop shows the loop", Join{Member: "role:survey_reader", Of: "role:district_geologist"}, "role:survey_reader → role:district_geologist → role:survey_reader"},
		{"a role cannot be given to itself", Join{Member: "role:survey_reader", Of: "role:survey_reader"}, "loop"},
		{"a loop through a group", AddGroupLoop, "loop"},
		{"a role in a group", Join{Member: "role:survey_reader", Of: "group:field-north"}, "cannot be in a group"},
		{"a role for everyone", Join{Member: "public", Of: "role:survey_reader"}, "grant the privilege to public"},
		{"a user is no container", Join{Member: "user:flint", Of: "user:marl"}, "no group and no role"},
		{"USAGE on a table", grant("USAGE", "survey.assay.results", "user:flint"), "applies to source, schema or lane"},
		{"USAGE on a pattern of tables", grant("USAGE", "survey.assay.*", "user:flint"), "applies to source, schema or lane"},
		{"a pattern within a table", grant("SELECT", "survey.assay.results.p*", "user:flint"), "stands within a source or a schema"},
		{"a pattern of sources", grant("SELECT", "*", "user:flint"), "stands within a source or a schema"},
		{"a pattern that is none", grant("SELECT", "survey.a?*", "user:flint"), "is no pattern"},
		{"MANAGE on a column", grant("MANAGE", "survey.assay.results.ppm", "user:flint"), "cannot be granted on the column"},
		{"an unknown privilege", grant("SELEKT", "survey", "user:flint"), "no privilege or bundle SELEKT"},
		{"an unknown table", grant("SELECT", "survey.assay.resluts", "user:flint"), "no table survey.assay.resluts"},
		{"an unknown subject", grant("SELECT", "survey", "user:flynt"), "no user flynt"},
		{"a grant that is not there", RemoveGrant{Privilege: "SELECT", Object: "survey", Subject: "user:flint"}, "no grant of SELECT on survey"},
		{"a membership that is not there", Leave{Member: "user:marl", Of: "role:survey_reader"}, "does not have role:survey_reader"},
		{"a subject twice", AddSubject{Subject: "user:flint"}, "exists already"},
		{"a name that cannot be written", AddSubject{Subject: "role:two words"}, "cannot name a role"},
		{"a kind that is none", AddSubject{Subject: "robot:x"}, "no kind of subject robot"},
		{"the last administrator leaves", Leave{Member: "user:opal", Of: Administrator}, "without an administrator"},
		{"the last administrator is disabled", SetSubject{Subject: "user:opal", Disabled: new(true)}, "without an administrator"},
		{"the last administrator is removed", RemoveSubject{"user:opal"}, "without an administrator"},
		{"the last administrator gets an end date", Join{Member: "user:opal", Of: Administrator, Until: day.AddDate(1, 0, 0)}, "without an administrator"},
		{"the administrator role loses its right", RemoveGrant{Privilege: "ALL", Object: "platform", Subject: Administrator}, "without an administrator"},
		{"a built-in role is removed", RemoveSubject{Administrator}, "built in"},
		{"a column below a schema", AddObject{Path: "survey.assay.x", Kind: "column"}, "cannot stand below"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := survey(t, AddSubject{Subject: "group:all-field"}, Join{Member: "group:field-north", Of: "group:all-field"})
			_, err := m.Apply(day, c.change)
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("got %v, want an error with %q", err, c.want)
			}
		})
	}
}

// AddGroupLoop would put a group into a group of its own.
var AddGroupLoop = Join{Member: "group:all-field", Of: "group:field-north"}

func TestApplyLeavesTheOldModelAlone(t *testing.T) {
	m := survey(t)
	before := fmt.Sprint(stand(t, m, "user:flint").Resolve(object(t, m, "survey.drilling.boreholes")))
	apply(t, m, append([]Change{grant("ALL", "survey", "user:flint"), RemoveSubject{"role:survey_reader"}}, AddObject{Path: "survey.drilling.new", Kind: "table"})...)
	after := fmt.Sprint(stand(t, m, "user:flint").Resolve(object(t, m, "survey.drilling.boreholes")))
	if before != after {
		t.Errorf("the model changed under its reader: %s, then %s", before, after)
	}
	if _, err := m.Lookup("survey.drilling.new"); !errors.As(err, new(*NotFound)) {
		t.Errorf("a later table shows in the old model: %v", err)
	}
}

func TestRemoveSubjectTakesItsGrantsAlong(t *testing.T) {
	m := survey(t, append([]Change{grant("SELECT", "survey.drilling", "role:survey_reader")}, entry...)...)
	m = apply(t, m, RemoveSubject{"role:survey_reader"}, AddSubject{Subject: "role:survey_reader"})
	if v := stand(t, m, "user:flint").Resolve(object(t, m, "survey.drilling.boreholes")); v.Held != 0 {
		t.Errorf("a role added under an old name has the old rights: %v", v.Held)
	}
}

func TestStandingSaysWhenItEnds(t *testing.T) {
	end := day.Add(48 * time.Hour)
	m := survey(t, Join{Member: "user:flint", Of: "role:survey_reader", Until: end},
		AddGrant{Privilege: "USAGE", Object: "survey", Subject: "user:flint", Until: end.Add(-time.Hour)})
	if got := stand(t, m, "user:flint").Until; !got.Equal(end.Add(-time.Hour)) {
		t.Errorf("until %v, want the earlier of the two ends", got)
	}
}

func TestPaths(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"survey.drilling.boreholes", "survey.drilling.boreholes"},
		{"Survey.Drilling", "survey.drilling"},
		{`survey."Odd Name"."a""b"`, `survey."Odd Name"."a""b"`},
		{`survey."plain"`, "survey.plain"},
		{"survey..x", "error"}, {"", "error"}, {"a b", "error"}, {`"open`, "error"}, {`"a"b`, "error"}, {`""`, "error"}, {"a.", "error"},
	} {
		parts, err := ParsePath(c.in)
		got := JoinPath(parts...)
		if err != nil {
			got = "error"
		}
		if got != c.want {
			t.Errorf("%q: got %s (%v), want %s", c.in, got, err, c.want)
		}
	}
}

func FuzzParsePath(f *testing.F) {
	f.Add(`survey."x.y".z`)
	f.Fuzz(func(t *testing.T, s string) {
		parts, err := ParsePath(s)
		if err != nil {
			return
		}
		again, err := ParsePath(JoinPath(parts...))
		if err != nil || strings.Join(again, "\x00") != strings.Join(parts, "\x00") {
			t.Errorf("%q → %q → %q, %v", s, parts, again, err)
		}
	})
}

func BenchmarkResolve(b *testing.B) {
	m := survey(b, append([]Change{grant("SELECT", "survey.drilling", "role:survey_reader")}, entry...)...)
	st := stand(b, m, "user:flint")
	id := object(b, m, "survey.drilling.boreholes")
	b.ReportAllocs()
	for b.Loop() {
		if !st.Resolve(id).Allowed.Has(Select) {
			b.Fatal("refused")
		}
	}
}

func TestNarrowingShedsNoRestriction(t *testing.T) {
	m := survey(t, AddSubject{Subject: "role:assay_reader"}, Join{Member: "user:flint", Of: "role:assay_reader"})
	reader, _ := m.FindSubject("role:survey_reader")
	st := stand(t, m, "user:flint", "role:assay_reader")
	if st.Counts(reader.ID) || !st.Holds(reader.ID) {
		t.Error("a session narrowed to assay_reader does not act in survey_reader, but still holds it")
	}
}

// TestWhatIsPassedOnEndsWithItsRight: flint holds a role until a date and may give
// it on.
func TestWhatIsPassedOnEndsWithItsRight(t *testing.T) {
	start := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	ends := start.AddDate(0, 1, 0)
	m, err := New().Apply(start, AddSubject{Subject: "user:opal"}, AddSubject{Subject: "user:flint"}, AddSubject{Subject: "user:marl"}, AddSubject{Subject: "group:g"}, AddSubject{Subject: "role:r"},
		Join{Member: "group:g", Of: "role:r", By: "user:opal", Option: true}, Join{Member: "user:flint", Of: "group:g", By: "user:opal", Until: ends})
	if err != nil {
		t.Fatal(err)
	}
	do := func(m *Model, c Change) *Model {
		t.Helper()
		next, err := m.Apply(start.Add(time.Hour), c)
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		return next
	}
	until := func(m *Model, ref, by string) time.Time {
		t.Helper()
		s, err := m.FindSubject(ref)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range s.Memberships {
			if m.Ref(e.Of) == "role:r" && m.Ref(e.By) == by {
				return e.Until
			}
		}
		t.Fatalf("%s does not have the role from %s: %+v", ref, by, s.Memberships)
		return time.Time{}
	}
	given := do(m, Join{Member: "user:flint", Of: "role:r", By: "user:flint", Passed: true})
	given = do(given, Join{Member: "user:marl", Of: "role:r", By: "user:flint", Passed: true})
	if got := until(given, "user:marl", "user:flint"); !got.Equal(ends) {
		t.Errorf("what flint gives ends on %v, not with flint's right", got)
	}
	if got := until(given, "user:flint", "user:flint"); !got.Equal(ends) {
		t.Errorf("what flint takes ends on %v", got)
	}
	// Another's is another membership: neither replaces the other.
	both := do(given, Join{Member: "user:marl", Of: "role:r", By: "user:opal"})
	if until(both, "user:marl", "user:opal") != (time.Time{}) || !until(both, "user:marl", "user:flint").Equal(ends) {
		t.Error("two givers do not make two memberships")
	}
	left := do(both, Leave{Member: "user:marl", Of: "role:r", By: "user:flint"})
	if until(left, "user:marl", "user:opal") != (time.Time{}) {
		t.Error("taking back the own took another's")
	}
	if _, err := left.Apply(start, Leave{Member: "user:marl", Of: "role:r", By: "user:flint"}); err == nil {
		t.Error("what was not given was taken back")
	}
	// The right's end is refused while something depends on it, or takes it along.
	if _, err := given.Apply(start.Add(time.Hour), Leave{Member: "user:flint", Of: "group:g"}); err == nil || !strings.Contains(err.Error(), "role:r to user:marl by user:flint") {
		t.Errorf("the right to give on was taken from under what depends on it: %v", err)
	}
	gone := do(given, Leave{Member: "user:flint", Of: "group:g", Cascade: true})
	for _, ref := range []string{"user:marl", "user:flint"} {
		if s, _ := gone.FindSubject(ref); len(s.Memberships) != 0 {
			t.Errorf("%s keeps %+v", ref, s.Memberships)
		}
	}
	shorter := do(given, Join{Member: "user:flint", Of: "group:g", By: "user:opal", Until: ends.AddDate(0, 0, -7)})
	if got := until(shorter, "user:marl", "user:flint"); !got.Equal(ends.AddDate(0, 0, -7)) {
		t.Errorf("a right that ends sooner does not end what depends on it: %v", got)
	}
	if _, err := m.Apply(start, Join{Member: "user:marl", Of: "role:r", By: "user:marl", Passed: true}); err == nil {
		t.Error("who does not have the admin option for on gave")
	}
	restored, err := Restore(taken(t, given).get)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := restored.Apply(start.Add(time.Hour), Leave{Member: "user:flint", Of: "group:g"}); err == nil {
		t.Error("a restored model has forgotten what was given on")
	}
}
