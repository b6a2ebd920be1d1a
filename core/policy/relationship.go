package policy

import (
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// A Relationship says that rows of one table belong to rows of another: those
// whose columns To equal the columns From. It is found from a foreign key, or
// declared.
type Relationship struct {
	Child, Parent access.ObjectID
	From, To      []access.ObjectID // columns, in pairs
	Declared      bool
}

// Same reports whether two relationships pair the same columns.
func (r *Relationship) Same(o *Relationship) bool { return r.same(o) }

func (r *Relationship) same(o *Relationship) bool {
	return slices.Equal(r.From, o.From) && slices.Equal(r.To, o.To)
}

// By names the columns of the child that lead to the parent.
func (r *Relationship) By(m *access.Model) string { return strings.Join(columnNames(m, r.From), ", ") }

// Relationships lists all of them, in the order they became known.
func (s *Set) Relationships() []*Relationship { return s.relationships }

// PutRelationship makes a relationship known. One that a foreign key states
// stays so when it is declared again.
type PutRelationship struct {
	From     []string `json:"from"` // paths of columns of one table
	To       []string `json:"to"`   // paths of columns of another, or the same, in pairs with From
	Declared bool     `json:"declared,omitempty"`
}

func (c PutRelationship) apply(s *Set, m *access.Model) (*Set, error) {
	r, err := c.resolve(m)
	if err != nil {
		return nil, err
	}
	next := *s
	next.relationships = slices.Clone(s.relationships)
	if i := slices.IndexFunc(next.relationships, r.same); i >= 0 {
		if c.Declared {
			return nil, invalid("exists", "the relationship from %s is known already", strings.Join(c.From, ", "))
		}
		next.relationships[i] = r
	} else {
		next.relationships = append(next.relationships, r)
	}
	return &next, nil
}

func (c PutRelationship) resolve(m *access.Model) (*Relationship, error) {
	if len(c.From) == 0 || len(c.From) != len(c.To) {
		return nil, invalid(
			"bad_relationship",
			"a relationship pairs each column of one table with a column of another; here are %d and %d",
			len(c.From),
			len(c.To),
		)
	}
	r := &Relationship{Declared: c.Declared}
	side := func(paths []string) (table access.ObjectID, columns []access.ObjectID, err error) {
		for _, path := range paths {
			o, err := m.Lookup(path)
			if err != nil {
				return 0, nil, err
			}
			if o.Kind != access.Column || m.Object(o.Parent).Kind != access.Table || table != 0 && o.Parent != table {
				return 0, nil, invalid("bad_relationship", "each side of a relationship is columns of one table; %s is not", path)
			}
			table, columns = o.Parent, append(columns, o.ID)
		}
		return table, columns, nil
	}
	var err error
	if r.Child, r.From, err = side(c.From); err != nil {
		return nil, err
	}
	if r.Parent, r.To, err = side(c.To); err != nil {
		return nil, err
	}
	if source := m.Above(r.Child)[1]; !m.Within(source, r.Parent) {
		return nil, invalid("bad_relationship", "a relationship stays in one source; %s is not of %s", m.Path(r.Parent), m.Path(source))
	}
	for i, from := range r.From {
		if a, b := m.Object(from).Type, m.Object(r.To[i]).Type; !sqltype.Alike(a, b) {
			return nil, invalid("bad_relationship", "%s is %s and %s is %s; related columns are of one type", m.Path(from), a, m.Path(r.To[i]), b)
		}
	}
	return r, nil
}

// RemoveRelationship forgets a relationship. It is refused while a policy
// follows it.
type RemoveRelationship struct {
	From []string `json:"from"`
	To   []string `json:"to"`
}

func (c RemoveRelationship) apply(s *Set, m *access.Model) (*Set, error) {
	r, err := PutRelationship{From: c.From, To: c.To}.resolve(m)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(s.relationships, r.same)
	if i < 0 {
		known := make([]string, len(s.relationships))
		for i, k := range s.relationships {
			known[i] = m.Path(k.From[0])
		}
		return nil, &access.NotFound{Kind: "relationship from", Name: strings.Join(c.From, ", "), Known: known}
	}
	for _, p := range s.rows {
		if p.Follow != nil && p.Follow.same(r) {
			return nil, invalid("in_use", "the row policy %s follows it; edit or remove the policy first", p.Name)
		}
	}
	next := *s
	next.relationships = slices.Delete(slices.Clone(s.relationships), i, i+1)
	return &next, nil
}
