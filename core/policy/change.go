package policy

import (
	"regexp"
	"slices"

	"gneiss/core/access"
)

// A Change is one step from a set of policies to the next. It names objects and
// subjects by path and reference, which m resolves.
type Change interface {
	apply(s *Set, m *access.Model) (*Set, error)
}

// Apply returns the set after the change and leaves s as it is. It checks all
// but the conditions and expressions of policies, which package query binds.
func (s *Set) Apply(c Change, m *access.Model) (*Set, error) { return c.apply(s, m) }

// ScopeText is the part that both kinds of policy share, as text.
type ScopeText struct {
	Name     string   `json:"name"`
	For      []string `json:"for,omitempty"`
	Except   []string `json:"except,omitempty"`
	Purposes []string `json:"purposes,omitempty"`
	Status   Status   `json:"status,omitempty"` // live when empty
	Comment  string   `json:"comment,omitempty"`
	Writer   string   `json:"writer,omitempty"`
	Bound    bool     `json:"bound,omitempty"` // Reads says which tables the texts name
	Reads    []string `json:"reads,omitempty"`
}

// PolicyName is the name of the policy that a change is about.
func (t ScopeText) PolicyName() string { return t.Name }

// PolicyName is the name of the policy that a change is about.
func (c SetPolicyStatus) PolicyName() string { return c.Name }

// PolicyName is the name of the policy that a change is about.
func (c RemovePolicy) PolicyName() string { return c.Name }

var policyName = regexp.MustCompile(`^[a-z0-9][a-z0-9_.-]{0,62}$`)

func (t ScopeText) resolve(m *access.Model) (Scope, error) {
	s := Scope{Name: t.Name, Purposes: slices.Clone(t.Purposes), Status: t.Status, Comment: t.Comment}
	if !policyName.MatchString(t.Name) {
		return s, invalid("bad_name", "%q cannot name a policy: use up to 63 of a-z, 0-9 and _ - ., starting with a letter or digit", t.Name)
	}
	if s.Status == "" {
		s.Status = Live
	}
	if err := s.Status.check(); err != nil {
		return s, err
	}
	var err error
	if s.For, err = resolveAll(m, t.For); err != nil {
		return s, err
	}
	// PUBLIC is what an empty For means; one way of saying it is enough.
	if slices.Contains(s.For, access.PublicID) {
		s.For = nil
	}
	if s.Except, err = resolveAll(m, t.Except); err != nil {
		return s, err
	}
	s.Bound = t.Bound
	if t.Writer != "" {
		writer, err := m.FindSubject(t.Writer)
		if err != nil {
			return s, err
		}
		s.Writer = writer.ID
	}
	for _, path := range t.Reads {
		o, err := m.Lookup(path)
		if err != nil {
			return s, err
		}
		s.Reads = append(s.Reads, o.ID)
	}
	return s, nil
}

func resolveAll(m *access.Model, names []string) ([]access.SubjectID, error) {
	var ids []access.SubjectID
	for _, name := range names {
		s, err := m.FindSubject(name)
		if err != nil {
			return nil, err
		}
		ids = append(ids, s.ID)
	}
	return ids, nil
}

// SetPolicyStatus publishes a draft, stops a policy or starts it again.
type SetPolicyStatus struct {
	Name   string `json:"name"`
	Status Status `json:"status"`
}

func (c SetPolicyStatus) apply(s *Set, _ *access.Model) (*Set, error) {
	if err := c.Status.check(); err != nil {
		return nil, err
	}
	row, column := s.Find(c.Name)
	switch {
	case row != nil:
		next := *row
		next.Status = c.Status
		return s.withRow(&next), nil
	case column != nil:
		next := *column
		next.Status = c.Status
		return s.withColumn(&next), nil
	}
	return nil, &access.NotFound{Kind: "policy", Name: c.Name, Known: s.Names()}
}

// RemovePolicy takes a policy away.
type RemovePolicy struct {
	Name string `json:"name"`
}

func (c RemovePolicy) apply(s *Set, _ *access.Model) (*Set, error) {
	if row, column := s.Find(c.Name); row == nil && column == nil {
		return nil, &access.NotFound{Kind: "policy", Name: c.Name, Known: s.Names()}
	}
	return s.without(c.Name).indexed(), nil
}
