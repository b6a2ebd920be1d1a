package policy

import (
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
)

// A Status says whether a policy takes effect.
type Status string

const (
	Draft Status = "draft" // no effect yet
	Live  Status = "live"
	Off   Status = "off" // stopped
)

// A Mode says how a row policy combines with others.
type Mode string

const (
	Allow Mode = "allow"
	Limit Mode = "limit"
)

// Scope is what both kinds of policy share: a name, whom it is about, and
// whether it takes effect.
type Scope struct {
	Name     string
	For      []access.SubjectID // empty: PUBLIC
	Except   []access.SubjectID
	Purposes []string // when not empty, only sessions that declare one of them
	Status   Status
	Comment  string
}

// A RowPolicy says which rows of a table exist for whom.
type RowPolicy struct {
	Scope
	Table access.ObjectID
	Mode  Mode
	Rule  string // a SQL condition over the table's columns
}

// A ColumnPolicy says how the values of some columns of a table appear.
type ColumnPolicy struct {
	Scope
	Columns   []access.ObjectID
	Treatment Treatment
}

// gives reports whether the session is given what the policy gives to whom it
// is for: an allow policy's rows.
func (s *Scope) gives(st *access.Standing) bool {
	return s.covers(st.Counts, st.Holds) && (len(s.Purposes) == 0 || slices.Contains(s.Purposes, st.Session.Purpose))
}

// takes reports whether the session is subject to what the policy takes from
// whom it is for.
func (s *Scope) takes(st *access.Standing) bool {
	return s.covers(st.Holds, st.Counts) && (len(s.Purposes) == 0 || slices.Contains(s.Purposes, st.Session.Purpose))
}

func (s *Scope) covers(in, out func(access.SubjectID) bool) bool {
	return (len(s.For) == 0 || slices.ContainsFunc(s.For, in)) && !slices.ContainsFunc(s.Except, out)
}

// Sentence says what the policy does, in words.
func (p *RowPolicy) Sentence(m *access.Model) string {
	verb := "are shown to"
	if p.Mode == Limit {
		verb = "are limited for"
	}
	return fmt.Sprintf("Rows of %s %s %s where %s%s", m.Path(p.Table), verb, p.whom(m), p.Rule, p.tail(m))
}

// Sentence says what the policy does, in words.
func (p *ColumnPolicy) Sentence(m *access.Model) string {
	names := make([]string, len(p.Columns))
	for i, c := range p.Columns {
		names[i] = access.Quote(m.Object(c).Name)
	}
	table := m.Path(m.Object(p.Columns[0]).Parent)
	does := p.Treatment.Says()
	verb := "is"
	if len(names) > 1 {
		verb = "are"
	}
	return fmt.Sprintf("%s of %s %s %s for %s%s", list(names, "and"), table, verb, does, p.whom(m), p.tail(m))
}

func (s *Scope) whom(m *access.Model) string {
	if len(s.For) == 0 {
		return "everyone"
	}
	return list(refs(m, s.For), "and")
}

func (s *Scope) tail(m *access.Model) string {
	var b strings.Builder
	if len(s.Except) > 0 {
		b.WriteString(", except " + list(refs(m, s.Except), "and"))
	}
	if len(s.Purposes) > 0 {
		b.WriteString(", when the purpose is " + list(s.Purposes, "or"))
	}
	return b.String()
}

func refs(m *access.Model, ids []access.SubjectID) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = m.Ref(id)
	}
	return out
}

func list(words []string, last string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " " + last + " " + words[len(words)-1]
}

func invalid(code, format string, args ...any) error {
	return &access.Invalid{Code: code, Text: fmt.Sprintf(format, args...)}
}
