package policy

import (
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
)

// A Mode says how a row policy combines with others.
type Mode string

const (
	Allow Mode = "allow"
	Limit Mode = "limit"
)

// Commands says for which statements a row policy counts.
type Commands string

const (
	Both  Commands = "both"
	Read  Commands = "read"  // which rows a statement sees
	Write Commands = "write" // which rows it may change, and leave
)

// A RowPolicy says which rows of a table exist for whom: those that its rule is
// true for, or those whose parent row exists.
type RowPolicy struct {
	Scope
	Place
	Mode     Mode
	Commands Commands
	Rule     string        // a SQL condition over the table's columns; or
	Follow   *Relationship // the rows whose parent row is there
}

// A Place is what a row policy is about: a table, a pattern of tables, or a
// label, which stands for the tables that have it.
type Place struct {
	access.Target // zero where it is a label
	Label         access.ObjectID
}

func (p Place) path(m *access.Model) string {
	if p.Label != 0 {
		return m.Path(p.Label)
	}
	return m.Target(p.Target)
}

// At is the object that the place stands at: the table, what the pattern stands
// in, or the label.
func (p Place) At() access.ObjectID {
	if p.Label != 0 {
		return p.Label
	}
	return p.Object
}

// wide reports whether the place can take in more than one table.
func (p Place) wide() bool { return p.Label != 0 || p.Pattern != "" }

// Path writes what the policy is about.
func (p *RowPolicy) Path(m *access.Model) string { return p.path(m) }

// Covers reports whether the policy is about the table.
func (s *Set) Covers(p *RowPolicy, m *access.Model, table access.ObjectID) bool {
	if p.Label != 0 {
		return slices.Contains(s.Labels(m, table), p.Label)
	}
	return m.Restricts(p.Target, table)
}

func (p *RowPolicy) reads() bool  { return p.Commands != Write }
func (p *RowPolicy) writes() bool { return p.Commands != Read }

// Sentence says what the policy does, in words; words says a condition.
func (p *RowPolicy) Sentence(m *access.Model, words func(rule string) string) string {
	verb := map[Commands]string{Both: "are shown to", Read: "are shown for reading to", Write: "can be written by"}[p.Commands]
	if p.Mode == Limit {
		verb = map[Commands]string{Both: "are limited for", Read: "are limited, for reading, for", Write: "are limited, for writing, for"}[p.Commands]
	}
	return fmt.Sprintf("Rows of %s %s %s%s%s", p.path(m), verb, p.whom(m), p.condition(m, words), p.tail(m))
}

func (p *RowPolicy) condition(m *access.Model, words func(string) string) string {
	if p.Follow == nil {
		if said := words(p.Rule); said != "" {
			return " where " + said
		}
		return ", all of them"
	}
	return fmt.Sprintf(" where their row of %s is there (by %s)", m.Path(p.Follow.Parent), p.Follow.By(m))
}

// PutRowPolicy adds a row policy, or replaces the one of that name.
type PutRowPolicy struct {
	ScopeText
	Table    string   `json:"table"` // a path, a pattern, or label:NAME
	Mode     Mode     `json:"mode,omitempty"`
	Commands Commands `json:"commands,omitempty"` // both when empty
	Rule     string   `json:"rule,omitempty"`
	Follow   string   `json:"follow,omitempty"` // the path of the parent table, in place of a rule
	Via      []string `json:"via,omitempty"`    // the columns that lead there, where there are several ways
}

func (c PutRowPolicy) apply(s *Set, m *access.Model) (*Set, error) {
	p := &RowPolicy{Mode: c.Mode, Commands: c.Commands, Rule: c.Rule}
	var err error
	if p.Scope, err = c.ScopeText.resolve(m); err != nil {
		return nil, err
	}
	if p.Place, err = findPlace(m, c.Table); err != nil {
		return nil, err
	}
	if p.Mode == "" {
		p.Mode = Allow
	}
	if p.Mode != Allow && p.Mode != Limit {
		return nil, &access.NotFound{Kind: "mode", Name: string(p.Mode), Known: []string{"allow", "limit"}}
	}
	if p.Commands == "" {
		p.Commands = Both
	}
	if p.Commands != Both && p.Commands != Read && p.Commands != Write {
		return nil, &access.NotFound{Kind: "kind of commands", Name: string(p.Commands), Known: []string{"read", "write", "both"}}
	}
	if _, taken := s.Find(c.Name); taken != nil {
		return nil, invalid("exists", "%s is a column policy already", c.Name)
	}
	if c.Follow != "" {
		if err := s.follow(m, p, c); err != nil {
			return nil, err
		}
	}
	return s.withRow(p), nil
}

// findPlace reads what a row policy is about.
func findPlace(m *access.Model, path string) (Place, error) {
	target, err := m.LookupTarget(path)
	if err != nil {
		return Place{}, err
	}
	switch o := m.Object(target.Object); {
	case o.Kind == access.Label:
		return Place{Label: o.ID}, nil
	case target.Pattern == "" && o.Kind != access.Table:
		return Place{}, invalid(
			"wrong_level",
			"a row policy belongs to a table, a pattern such as %s, or a label; %s is a %s",
			"survey.drilling.*",
			path,
			o.Kind,
		)
	case o.Kind == access.Source:
		return Place{}, invalid(
			"wrong_level",
			"the pattern %s names schemas; a row policy takes a pattern of tables, such as survey.drilling.*",
			path,
		)
	}
	return Place{Target: target}, nil
}

// follow finds the relationship that a policy follows.
func (s *Set) follow(m *access.Model, p *RowPolicy, c PutRowPolicy) error {
	if p.wide() {
		return invalid("wrong_level", "a policy that follows a relationship belongs to one table")
	}
	if strings.TrimSpace(c.Rule) != "" {
		return invalid("rule_and_follow", "a row policy has a condition, or follows a relationship; for both, write two policies")
	}
	parent, err := m.Lookup(c.Follow)
	if err != nil {
		return err
	}
	var found []*Relationship
	for _, r := range s.Relationships() {
		if r.Child == p.Object && r.Parent == parent.ID && (len(c.Via) == 0 || slices.Equal(columnNames(m, r.From), c.Via)) {
			found = append(found, r)
		}
	}
	table := m.Path(p.Object)
	switch {
	case len(found) == 0 && len(c.Via) > 0:
		return invalid("no_relationship", "no relationship leads from %s by %s to %s", table, strings.Join(c.Via, ", "), c.Follow)
	case len(found) == 0:
		return invalid(
			"no_relationship",
			"no relationship leads from %s to %s; declare one: gneiss relationship add %s.COLUMN to %s.COLUMN",
			table,
			c.Follow,
			table,
			c.Follow,
		)
	case len(found) > 1:
		ways := make([]string, len(found))
		for i, r := range found {
			ways[i] = strings.Join(columnNames(m, r.From), ", ")
		}
		return invalid(
			"several_relationships",
			"%d relationships lead from %s to %s; say by which columns: %s",
			len(found),
			table,
			c.Follow,
			strings.Join(ways, "; or "),
		)
	}
	p.Follow = found[0]
	return s.checkLoop(m, p)
}

// checkLoop refuses a policy by which the rows of a table would depend on
// themselves, whatever the status of the policies in between.
func (s *Set) checkLoop(m *access.Model, p *RowPolicy) error {
	way := []access.ObjectID{p.Object, p.Follow.Parent}
	var walk func(table access.ObjectID) bool
	walk = func(table access.ObjectID) bool {
		if table == p.Object {
			return true
		}
		for _, q := range s.Rows(m, table) {
			if q.Follow == nil || q.Name == p.Name {
				continue
			}
			way = append(way, q.Follow.Parent)
			if walk(q.Follow.Parent) {
				return true
			}
			way = way[:len(way)-1]
		}
		return false
	}
	if !walk(p.Follow.Parent) {
		return nil
	}
	names := make([]string, len(way))
	for i, id := range way {
		names[i] = m.Path(id)
	}
	return invalid("follow_loop", "the rows would follow themselves: %s", strings.Join(names, " → "))
}
