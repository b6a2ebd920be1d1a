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

func (s Status) check() error {
	if s != Draft && s != Live && s != Off {
		return &access.NotFound{Kind: "status", Name: string(s), Known: []string{string(Draft), string(Live), string(Off)}}
	}
	return nil
}

// Scope is what both kinds of policy share: a name, whom it is about, and
// whether it takes effect.
type Scope struct {
	Name     string
	For      []access.SubjectID // empty: PUBLIC
	Except   []access.SubjectID
	Purposes []string // when not empty, only sessions that declare one of them
	Status   Status
	Comment  string
	// Writer wrote the policy's texts: zero is the service itself. Where Bound is set,
	// Reads are the tables that the texts named when they were written, and they read
	// no others.
	Writer access.SubjectID
	Bound  bool
	Reads  []access.ObjectID
}

// gives reports whether the session is given what the policy gives to whom it
// is for: an allow policy's rows.
func (s *Scope) gives(st *access.Rights) bool {
	return s.covers(st.Counts, st.Holds) && s.serves(st)
}

// takes reports whether the session is subject to what the policy takes from
// whom it is for.
func (s *Scope) takes(st *access.Rights) bool {
	return s.covers(st.Holds, st.Counts) && s.serves(st)
}

func (s *Scope) covers(in, out func(access.SubjectID) bool) bool {
	return (len(s.For) == 0 || slices.ContainsFunc(s.For, in)) && !slices.ContainsFunc(s.Except, out)
}

func (s *Scope) serves(st *access.Rights) bool {
	return len(s.Purposes) == 0 || slices.Contains(s.Purposes, st.Standpoint.Purpose)
}

func (s *Scope) names(id access.SubjectID) bool {
	return slices.Contains(s.For, id) || slices.Contains(s.Except, id)
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

// Names lists the names of column policies.
func Names(list []*ColumnPolicy) []string {
	names := []string{}
	for _, p := range list {
		names = append(names, p.Name)
	}
	return names
}
