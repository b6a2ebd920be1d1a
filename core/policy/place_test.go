package policy

import (
	"fmt"
	"math/bits"
	"reflect"
	"slices"
	"strings"
	"testing"

	"gneiss/core/access"
)

// related is a platform with boreholes, samples that belong to them, and results
// that belong to samples; and a label.
func related(t testing.TB) *access.Model {
	t.Helper()
	var more []access.Change
	for _, table := range []string{"boreholes", "samples", "results"} {
		more = append(more, access.AddObject{Path: "survey.licensing." + table, Kind: "table"}, access.AddObject{Path: "survey.licensing." + table + ".id", Kind: "column", Type: "bigint", Key: true},
			access.AddObject{Path: "survey.licensing." + table + ".of", Kind: "column", Type: "bigint"}, access.AddObject{Path: "survey.licensing." + table + ".also", Kind: "column", Type: "bigint"})
	}
	return model(t, append(more, access.PutLabel{Label: "contact", Topic: "contact"}, access.PutLabel{Label: "private"})...)
}

func link(from, to string) Change {
	return PutRelationship{From: []string{"survey.licensing." + from}, To: []string{"survey.licensing." + to}}
}

func follows(name, table, parent string, via ...string) Change {
	return PutRowPolicy{ScopeText: ScopeText{Name: name}, Table: "survey.licensing." + table, Follow: "survey.licensing." + parent, Via: via}
}

func TestFollow(t *testing.T) {
	m := related(t)
	ways := []Change{link("samples.of", "boreholes.id"), link("results.of", "samples.id"), link("boreholes.of", "results.id"), link("samples.also", "boreholes.id")}
	s := put(t, m, append(ways, follows("a", "samples", "boreholes", "of"), follows("b", "results", "samples"))...)
	if row, _ := s.Find("b"); row.Sentence(m, plain) != "Rows of survey.licensing.results are shown to everyone where their row of survey.licensing.samples is there (by of)" {
		t.Error(row.Sentence(m, plain))
	}
	for _, c := range []struct {
		name   string
		change Change
		says   string
	}{
		{"a loop over three tables", follows("c", "boreholes", "results"), "survey.licensing.boreholes → survey.licensing.results → survey.licensing.samples → survey.licensing.boreholes"},
		{"two ways, and none is named", follows("c", "samples", "boreholes"), "say by which columns: of; or also"},
		{"no way", follows("c", "results", "boreholes"), "no relationship leads"},
		{"a relationship that is followed cannot go", RemoveRelationship{From: []string{"survey.licensing.results.of"}, To: []string{"survey.licensing.samples.id"}}, "the row policy b follows it"},
		{"a relationship of two types", link("samples.of", "holders.email"), "related columns are of one type"},
		{"a relationship that is known", PutRelationship{From: []string{"survey.licensing.samples.of"}, To: []string{"survey.licensing.boreholes.id"}, Declared: true}, "is known already"},
		{"a relationship of a table", link("samples", "boreholes"), "is not"},
	} {
		if _, err := s.Apply(c.change, m); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", c.name, err, c.says)
		}
	}
	// A policy that is replaced does not stand in its own way.
	if _, err := s.Apply(follows("a", "samples", "boreholes", "also"), m); err != nil {
		t.Error(err)
	}
	// Drafts count for loops: they can be published.
	draft := put(t, m, append(ways, PutRowPolicy{ScopeText: ScopeText{Name: "a", Status: Draft}, Table: "survey.licensing.samples", Follow: "survey.licensing.boreholes", Via: []string{"of"}}, follows("b", "results", "samples"))...)
	if _, err := draft.Apply(follows("c", "boreholes", "results"), m); err == nil {
		t.Error("a loop through a draft is taken")
	}
}

func TestWhatAPolicyCovers(t *testing.T) {
	m := related(t)
	row := func(name, on string, commands Commands) Change {
		return PutRowPolicy{ScopeText: ScopeText{Name: name}, Table: on, Rule: "true", Commands: commands}
	}
	s := put(t, m, row("one", "survey.licensing.samples", Both), row("pattern", "survey.licensing.s*", Read), row("label", "label:private", Write),
		PlaceLabel{"private", "survey.licensing.samples"}, PlaceLabel{"contact", "survey.licensing"}, PlaceLabel{"contact", "survey.licensing.holders.email"},
		PutColumnPolicy{ScopeText: ScopeText{Name: "ids"}, Columns: []string{"survey.licensing.samples.*d"}, Treat: "suppress"}, PutColumnPolicy{ScopeText: ScopeText{Name: "all"}, Label: "contact", Treat: "suppress"})
	samples, err := m.Lookup("survey.licensing.samples")
	if err != nil {
		t.Fatal(err)
	}
	st, err := m.Rights(access.Standpoint{Subject: find(t, m, "user:flint")}, at)
	if err != nil {
		t.Fatal(err)
	}
	g := s.Govern(st, samples.ID)
	if names(g.Allow) != "one,pattern" || names(g.Write.Allow) != "label,one" {
		t.Errorf("for reading %s, for writing %s", names(g.Allow), names(g.Write.Allow))
	}
	if len(g.Columns) != 3 {
		t.Errorf("%d columns have the schema's label", len(g.Columns))
	}
	id, _ := m.Lookup("survey.licensing.samples.id")
	if d := g.Columns[id.ID]; len(d.By) != 2 {
		t.Errorf("a pattern and a label meet in %d policies", len(d.By))
	}
	if n := len(s.Bearing(m, find2(t, m, "label:contact"))); n != 13 {
		t.Errorf("%d columns have label:contact", n)
	}
	if kept := Restore(s.Snapshot()); !reflect.DeepEqual(kept.Govern(st, samples.ID), g) {
		t.Error("a set that was kept says something else")
	}
}

func find2(t testing.TB, m *access.Model, path string) access.ObjectID {
	t.Helper()
	o, err := m.Lookup(path)
	if err != nil {
		t.Fatal(err)
	}
	return o.ID
}

// TestStepsByRow: where conditions say so, rows are treated one by one, the
// strictest first.
func TestStepsByRow(t *testing.T) {
	on := func(name, treat, when string, args Treatment) Change {
		return PutColumnPolicy{ScopeText: ScopeText{Name: name}, Columns: []string{"survey.licensing.holders.email"}, Treat: treat, When: when, Treatment: args}
	}
	first, last := Treatment{KeepFirst: 1}, Treatment{KeepLast: 1}
	for _, c := range []struct {
		name     string
		policies []Change
		want     string // treatment(any|and) …
		lost     int
		conflict bool
	}{
		{"one for some rows", []Change{on("a", "suppress", "id > 1", Treatment{})}, "suppress(a)", 0, false},
		{"a stricter one for some rows", []Change{on("a", "suppress", "id > 1", Treatment{}), on("b", "mask", "", first)}, "suppress(a) mask keep-first 1(*)", 0, false},
		{"a gentler one for some rows is lost", []Change{on("a", "suppress", "", Treatment{}), on("b", "mask", "id > 1", first)}, "suppress(*)", 1, false},
		{"two that agree, one for all rows", []Change{on("a", "mask", "id > 1", first), on("b", "mask", "", first)}, "mask keep-first 1(*)", 0, false},
		{"two that conflict where both hold", []Change{on("a", "mask", "id > 1", first), on("b", "mask", "id > 2", last)}, "suppress(a&b) mask keep-first 1(a) mask keep-last 1(b)", 0, true},
		{"two that conflict where one holds", []Change{on("a", "mask", "id > 1", first), on("b", "mask", "", last)}, "suppress(a&*) mask keep-first 1(a) mask keep-last 1(*)", 0, true},
		{"two that conflict everywhere", []Change{on("a", "mask", "", first), on("b", "mask", "", last), on("c", "round", "", Treatment{})}, "", 0, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := model(t)
			if c.want == "" { // round does not fit a text
				c.policies = c.policies[:2]
				c.want = "suppress(*&*)"
			}
			d := govern(t, m, put(t, m, c.policies...), access.Standpoint{}).Columns[find2(t, m, "survey.licensing.holders.email")]
			var got []string
			who := func(list []*ColumnPolicy) string {
				if len(Conditions(list)) == 0 {
					return "*"
				}
				return list[0].Name
			}
			for _, step := range d.Steps {
				text := fmt.Sprintf("%s(%s", step.Treatment, who(step.Any))
				if len(step.And) > 0 {
					text += "&" + who(step.And)
				}
				got = append(got, text+")")
			}
			if strings.Join(got, " ") != c.want || len(d.Lost) != c.lost || d.Conflict != c.conflict {
				t.Errorf("%s, %d lost, conflict %v; want %s, %d, %v", strings.Join(got, " "), len(d.Lost), d.Conflict, c.want, c.lost, c.conflict)
			}
		})
	}
}

// TestTwoTreatmentsSuppress, whichever of many hold for a row, and with conditions that do not grow with the
// square of their number.
func TestTwoTreatmentsSuppress(t *testing.T) {
	decided := func(n int) Decision {
		m := model(t)
		var changes []Change
		for i := range n {
			changes = append(changes, PutColumnPolicy{ScopeText: ScopeText{Name: fmt.Sprint("p", i)}, Columns: []string{"survey.licensing.holders.email"}, Treat: "mask",
				When: fmt.Sprint("id > ", i), Treatment: Treatment{KeepFirst: i + 1}})
		}
		return govern(t, m, put(t, m, changes...), access.Standpoint{}).Columns[find2(t, m, "survey.licensing.holders.email")]
	}
	d := decided(7)
	for rows := range 1 << 7 { // which of the conditions hold
		holds := func(list []*ColumnPolicy) bool {
			return slices.ContainsFunc(list, func(p *ColumnPolicy) bool { return rows>>(p.Treatment.KeepFirst-1)&1 == 1 })
		}
		got := Treatment{}
		for _, s := range d.Steps {
			if holds(s.Any) && (len(s.And) == 0 || holds(s.And)) {
				got = s.Treatment
				break
			}
		}
		want := Treatment{}
		switch bits.OnesCount(uint(rows)) {
		case 0:
		case 1:
			want = Treatment{Kind: Mask, Fill: "*", KeepFirst: bits.TrailingZeros(uint(rows)) + 1}
		default:
			want = Treatment{Kind: Suppress}
		}
		if got != want {
			t.Fatalf("of the conditions %07b: %v, want %v", rows, got, want)
		}
	}
	conditions := 0
	for _, s := range decided(64).Steps {
		conditions += len(s.Any) + len(s.And)
	}
	if conditions > 64*6+64 {
		t.Errorf("64 treatments are told apart with %d conditions", conditions)
	}
}

// TestAGoneColumnClosesTheTable, unless REVEAL or an exception lifts the policy.
func TestAGoneColumnClosesTheTable(t *testing.T) {
	m := model(t)
	s := put(t, m, email("hide", "suppress", Treatment{}, nil, nil))
	gone, err := m.Apply(at, access.MissObject{Path: "survey.licensing.holders.email"})
	if err != nil {
		t.Fatal(err)
	}
	if g := govern(t, gone, s, access.Standpoint{}); len(g.Gone) != 1 || g.Untouched() {
		t.Errorf("a dropped column under a policy leaves the table open: %+v", g)
	}
	excepted := put(t, m, email("hide", "suppress", Treatment{}, nil, []string{"user:flint"}))
	if g := govern(t, gone, excepted, access.Standpoint{}); len(g.Gone) != 0 {
		t.Error("the table is closed to whom the policy leaves out")
	}
}
