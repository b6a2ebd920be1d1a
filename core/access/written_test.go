package access

import (
	"strings"
	"testing"
	"time"
)

// TestWrittenForms reads back what needs and standpoints are written as.
func TestWrittenForms(t *testing.T) {
	m := New()
	for _, c := range []Change{AddObject{Path: "survey", Kind: "source"}, AddObject{Path: `survey."on site"`, Kind: "schema"},
		AddObject{Path: `survey."on site".visits`, Kind: "table"}, AddSubject{Subject: "user:flint"}, AddSubject{Subject: "role:reader"}} {
		next, err := m.Apply(time.Unix(1, 0), c)
		if err != nil {
			t.Fatal(err)
		}
		m = next
	}
	visits, err := m.Lookup(`survey."on site".visits`)
	if err != nil {
		t.Fatal(err)
	}
	for p := Usage; p <= All; p++ {
		need := Need{p, visits.ID}
		if got, err := m.ParseNeed(m.NeedText(need)); err != nil || got != need {
			t.Errorf("%s is read as %v, %v", m.NeedText(need), got, err)
		}
	}
	for _, text := range []string{"", "SELECT", "SELECT on", "SELECT on survey.nothing", "READ on survey", "on survey"} {
		if got, err := m.ParseNeed(text); err == nil {
			t.Errorf("%q is read as %v", text, got)
		}
	}
	flint, _ := m.FindSubject("user:flint")
	reader, _ := m.FindSubject("role:reader")
	for _, want := range []Standpoint{{Subject: flint.ID}, {Subject: flint.ID, Role: reader.ID}, {Subject: reader.ID, Purpose: "audit"},
		{Subject: flint.ID, Role: reader.ID, Purpose: "a search for gold in the north"}} {
		if got, err := m.ParseStandpoint(m.StandpointText(want)); err != nil || got != want {
			t.Errorf("%s is read as %v, %v", m.StandpointText(want), got, err)
		}
	}
	for _, text := range []string{"", "user:nobody", "user:flint in role:none", "gneiss"} {
		if got, err := m.ParseStandpoint(text); err == nil {
			t.Errorf("%q is read as %v", text, got)
		}
	}
}

// TestPatternsAreCut takes patterns off paths in one way for all who read them.
func TestPatternsAreCut(t *testing.T) {
	for _, c := range []struct{ path, within, pattern string }{
		{"survey.assay.res*", "survey.assay", "res*"},
		{"survey.*", "survey", "*"},
		{"survey.licensing.holders.*_NUMBER", "survey.licensing.holders", "*_number"},
		{"survey.assay.results", "survey.assay.results", ""},
		{`survey."a*b"`, `survey."a*b"`, ""},
		{`survey."a.*b".c`, `survey."a.*b".c`, ""},
		{"res*", "", "res*"},
		{"", "", ""},
	} {
		if within, pattern := CutPattern(c.path); within != c.within || pattern != c.pattern {
			t.Errorf("%s is %q within %q, want %q within %q", c.path, pattern, within, c.pattern, c.within)
		}
	}
	if _, err := New().LookupTarget("res*"); err == nil || !strings.Contains(err.Error(), "within a source or a schema") {
		t.Errorf("a pattern within nothing: %v", err)
	}
}

// TestPrivilegesAreTold: each has words, and levels that it applies to.
func TestPrivilegesAreTold(t *testing.T) {
	for p := Usage; p <= All; p++ {
		if p.Says() == "" || len(p.Levels()) == 0 {
			t.Errorf("%s says %q on %v", p, p.Says(), p.Levels())
		}
		for _, kind := range p.Levels() {
			if !p.AppliesTo(kind) {
				t.Errorf("%s does not apply to a %s that it lists", p, kind)
			}
		}
	}
}
