package guard

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"gneiss/core/access"
)

// A Test states what one standpoint gets of one table, or view.
type Test struct {
	Name    string
	Subject access.SubjectID
	Role    access.SubjectID // acting in this one only; zero: in all
	Purpose string
	Table   access.ObjectID
	May     access.Privileges
	MayNot  access.Privileges
	Counted bool // Rows says how many rows there are for it
	Rows    int64
	Where   string            // of those for which this SQL condition is true
	Columns map[string]string // by name, how columns appear: "clear", "not granted", or the treatment in words
	Comment string
}

// PutTest adds an access test, or replaces the one of that name.
type PutTest struct {
	Name    string            `json:"name"`
	Subject string            `json:"subject"`
	Role    string            `json:"role,omitempty"`
	Purpose string            `json:"purpose,omitempty"`
	Table   string            `json:"table"`
	May     []string          `json:"may,omitempty"`
	MayNot  []string          `json:"may_not,omitempty"`
	Rows    *int64            `json:"rows,omitempty"`
	Where   string            `json:"where,omitempty"`
	Columns map[string]string `json:"columns,omitempty"`
	Comment string            `json:"comment,omitempty"`
}

func (c PutTest) apply(s *Set, m *access.Model) (*Set, error) {
	t := &Test{Name: c.Name, Purpose: c.Purpose, Where: strings.TrimSpace(c.Where), Columns: maps.Clone(c.Columns), Comment: c.Comment}
	if err := checkName(c.Name, "an access test"); err != nil {
		return nil, err
	}
	subject, err := m.FindSubject(c.Subject)
	if err != nil {
		return nil, err
	}
	t.Subject = subject.ID
	if c.Role != "" {
		roles, err := subjects(m, []string{c.Role}, access.Role)
		if err != nil {
			return nil, err
		}
		t.Role = roles[0]
	}
	o, err := m.Lookup(c.Table)
	if err != nil {
		return nil, err
	}
	if !o.Kind.IsRelation() {
		return nil, invalid("wrong_level", "an access test is about a table or view; %s is a %s", m.Path(o.ID), o.Kind)
	}
	t.Table = o.ID
	for _, list := range []struct {
		names []string
		into  *access.Privileges
	}{{c.May, &t.May}, {c.MayNot, &t.MayNot}} {
		for _, name := range list.names {
			p, err := access.ParsePrivilege(name)
			if err != nil {
				return nil, err
			}
			*list.into |= access.Set(p)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.Columns)) {
		if m.Child(o, name) == nil {
			return nil, &access.NotFound{Kind: "column", Name: m.Path(o.ID) + "." + name}
		}
	}
	if c.Rows != nil {
		t.Counted, t.Rows = true, *c.Rows
	}
	switch {
	case t.May&t.MayNot != 0:
		return nil, invalid("bad_test", "it says of %s both that it may and that it may not", t.May&t.MayNot)
	case t.Rows < 0:
		return nil, invalid("bad_test", "a number of rows is not below zero")
	case t.Where != "" && !t.Counted:
		return nil, invalid("bad_test", "a condition goes with a number of rows")
	case t.May|t.MayNot == 0 && !t.Counted && len(t.Columns) == 0:
		return nil, invalid("bad_test", "it states nothing yet: rows, columns, or what the subject may")
	}
	next := &Set{s.rails, slices.Clone(s.tests)}
	i, found := slices.BinarySearchFunc(next.tests, t.Name, func(x *Test, name string) int { return strings.Compare(x.Name, name) })
	if found {
		next.tests[i] = t
	} else {
		next.tests = slices.Insert(next.tests, i, t)
	}
	return next, nil
}

// RemoveTest takes an access test away.
type RemoveTest struct {
	Name string `json:"name"`
}

func (c RemoveTest) apply(s *Set, _ *access.Model) (*Set, error) {
	i := slices.IndexFunc(s.tests, func(t *Test) bool { return t.Name == c.Name })
	if i < 0 {
		var known []string
		for _, t := range s.tests {
			known = append(known, t.Name)
		}
		return nil, &access.NotFound{Kind: "access test", Name: c.Name, Known: known}
	}
	return &Set{s.rails, slices.Delete(slices.Clone(s.tests), i, i+1)}, nil
}

// Standpoint is as whom the test looks.
func (t *Test) Standpoint() access.Standpoint {
	return access.Standpoint{Subject: t.Subject, Role: t.Role, Purpose: t.Purpose}
}

// Again is the change that puts the test as it is.
func (t *Test) Again(m *access.Model) PutTest {
	c := PutTest{Name: t.Name, Subject: m.Ref(t.Subject), Role: m.Ref(t.Role), Purpose: t.Purpose, Table: m.Path(t.Table), May: names(t.May),
		MayNot: names(t.MayNot),
		Where:  t.Where, Columns: t.Columns, Comment: t.Comment}
	if t.Counted {
		c.Rows = &t.Rows
	}
	return c
}

func names(p access.Privileges) []string {
	var out []string
	for _, p := range p.Each() {
		out = append(out, p.String())
	}
	return out
}

// Sentence is the test in words.
func (t *Test) Sentence(m *access.Model) string {
	var parts []string
	if t.May != 0 {
		parts = append(parts, "may "+list(names(t.May), "and"))
	}
	if t.MayNot != 0 {
		parts = append(parts, "may not "+list(names(t.MayNot), "or"))
	}
	if t.Counted {
		rows := fmt.Sprintf("sees %d rows", t.Rows)
		if t.Where != "" {
			rows += " where " + t.Where
		}
		parts = append(parts, rows)
	}
	alike := map[string][]string{}
	for _, name := range slices.Sorted(maps.Keys(t.Columns)) {
		alike[t.Columns[name]] = append(alike[t.Columns[name]], name)
	}
	for _, how := range slices.Sorted(maps.Keys(alike)) {
		parts = append(parts, "sees "+list(alike[how], "and")+" "+how)
	}
	return m.StandpointText(t.Standpoint()) + ", of " + m.Path(t.Table) + ": " + strings.Join(parts, "; ")
}

// SignReview puts the digest of a closed review into the journal's chain, and changes nothing.
type SignReview struct {
	Review string
	Digest string // SHA-256 of its content, in hexadecimal
}

func (c SignReview) apply(s *Set, _ *access.Model) (*Set, error) { return s, nil }
