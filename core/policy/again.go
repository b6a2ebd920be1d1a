package policy

import "gneiss/core/access"

// Again is the change that puts the policy as it is.
func (p *RowPolicy) Again(m *access.Model) PutRowPolicy {
	c := PutRowPolicy{ScopeText: p.text(m), Table: p.path(m), Mode: p.Mode, Commands: p.Commands, Rule: p.Rule}
	if p.Follow != nil {
		c.Follow = m.Path(p.Follow.Parent)
		for _, id := range p.Follow.From {
			c.Via = append(c.Via, m.Object(id).Name)
		}
	}
	return c
}

// Again is the change that puts the policy as it is.
func (p *ColumnPolicy) Again(m *access.Model) PutColumnPolicy {
	c := PutColumnPolicy{ScopeText: p.text(m), When: p.When, Treat: p.Treatment.Kind.String(), Treatment: p.Treatment}
	switch {
	case p.Label != 0:
		c.Label = m.Path(p.Label)
	case p.Pattern != "":
		c.Columns = []string{m.Path(p.Table) + "." + p.Pattern}
	default:
		for _, id := range p.Columns {
			c.Columns = append(c.Columns, m.Path(id))
		}
	}
	return c
}

func (s *Scope) text(m *access.Model) ScopeText {
	t := ScopeText{Name: s.Name, Purposes: s.Purposes, Status: s.Status, Comment: s.Comment, Bound: s.Bound}
	if len(s.For) > 0 {
		t.For = refs(m, s.For)
	}
	if len(s.Except) > 0 {
		t.Except = refs(m, s.Except)
	}
	if s.Writer != 0 {
		t.Writer = m.Ref(s.Writer)
	}
	for _, id := range s.Reads {
		t.Reads = append(t.Reads, m.Path(id))
	}
	return t
}

// Again is the change that puts the relationship as it is.
func (r *Relationship) Again(m *access.Model) PutRelationship {
	c := PutRelationship{Declared: r.Declared}
	for i := range r.From {
		c.From, c.To = append(c.From, m.Path(r.From[i])), append(c.To, m.Path(r.To[i]))
	}
	return c
}

// Placements are the labels by the objects that they were put on.
func (s *Set) Placements() map[access.ObjectID][]access.ObjectID { return s.placed }

// Dismissals are the topics that columns are not about.
func (s *Set) Dismissals() map[access.ObjectID][]string { return s.dismissed }
