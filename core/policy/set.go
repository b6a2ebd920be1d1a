package policy

import (
	"slices"
	"strings"
	"sync"

	"gneiss/core/access"
)

// A Set is all policies of a platform at one revision, with what they are about:
// where labels are, and how tables are related. It never changes. The zero value
// has none.
type Set struct {
	rows    []*RowPolicy    // by name
	columns []*ColumnPolicy // by name

	// What is about one table, by the table; and what can be about several.
	rowsOf      map[access.ObjectID][]*RowPolicy
	columnsOf   map[access.ObjectID][]*ColumnPolicy
	wideRows    []*RowPolicy
	wideColumns []*ColumnPolicy

	placed        map[access.ObjectID][]access.ObjectID // labels, by the object they were put on
	dismissed     map[access.ObjectID][]string          // topics that it is not about, by column
	relationships []*Relationship

	read *sync.Map // what Once keeps
}

// Once returns what make gives for a text of a policy, and keeps it for as long
// as there are policies: texts are parsed once, and not for each plan. Errors are
// not kept. It may be called concurrently; make may then run more than once.
func (s *Set) Once(text string, make func() (any, error)) (any, error) {
	if s == nil || s.read == nil {
		return make()
	}
	if kept, ok := s.read.Load(text); ok {
		return kept, nil
	}
	made, err := make()
	if err == nil {
		s.read.Store(text, made)
	}
	return made, err
}

// AllRows lists all row policies by name.
func (s *Set) AllRows() []*RowPolicy { return s.rows }

// AllColumns lists all column policies by name.
func (s *Set) AllColumns() []*ColumnPolicy { return s.columns }

// Rows lists the row policies that are about a table, whatever their status, by
// name.
func (s *Set) Rows(m *access.Model, table access.ObjectID) []*RowPolicy {
	if m.Object(table).Kind == access.View {
		return nil // its tables have policies
	}
	own := s.rowsOf[table]
	if len(s.wideRows) == 0 {
		return own
	}
	all := slices.Clone(own)
	for _, p := range s.wideRows {
		if s.Covers(p, m, table) {
			all = append(all, p)
		}
	}
	slices.SortFunc(all, func(a, b *RowPolicy) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// ColumnPolicies lists the column policies that are about a column of the table,
// whatever their status, by name.
func (s *Set) ColumnPolicies(m *access.Model, table access.ObjectID) []*ColumnPolicy {
	if m.Object(table).Kind == access.View {
		return nil
	}
	own := s.columnsOf[table]
	if len(s.wideColumns) == 0 {
		return own
	}
	all := slices.Clone(own)
	bearing := s.bearing(m, table)
	for _, p := range s.wideColumns {
		if len(bearing[p.Label]) > 0 {
			all = append(all, p)
		}
	}
	slices.SortFunc(all, func(a, b *ColumnPolicy) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Find returns the policy with the name, one of the two or neither.
func (s *Set) Find(name string) (*RowPolicy, *ColumnPolicy) {
	if i, ok := slices.BinarySearchFunc(s.rows, name, func(p *RowPolicy, name string) int { return strings.Compare(p.Name, name) }); ok {
		return s.rows[i], nil
	}
	if i, ok := slices.BinarySearchFunc(s.columns, name, func(p *ColumnPolicy, name string) int { return strings.Compare(p.Name, name) }); ok {
		return nil, s.columns[i]
	}
	return nil, nil
}

// Names lists the names of all policies.
func (s *Set) Names() []string {
	var names []string
	for _, p := range s.rows {
		names = append(names, p.Name)
	}
	for _, p := range s.columns {
		names = append(names, p.Name)
	}
	slices.Sort(names)
	return names
}

// Naming lists the names of the policies that name the subject.
func (s *Set) Naming(id access.SubjectID) []string {
	var names []string
	for _, p := range s.rows {
		if p.Scope.names(id) {
			names = append(names, p.Name)
		}
	}
	for _, p := range s.columns {
		if p.Scope.names(id) {
			names = append(names, p.Name)
		}
	}
	slices.Sort(names)
	return names
}

// without returns a copy that lacks the policy with the name, and is not indexed yet.
func (s *Set) without(name string) *Set {
	next := *s
	next.rows = slices.DeleteFunc(slices.Clone(s.rows), func(p *RowPolicy) bool { return p.Name == name })
	next.columns = slices.DeleteFunc(slices.Clone(s.columns), func(p *ColumnPolicy) bool { return p.Name == name })
	return &next
}

func (s *Set) withRow(p *RowPolicy) *Set {
	next := s.without(p.Name)
	next.rows = append(next.rows, p)
	slices.SortFunc(next.rows, func(a, b *RowPolicy) int { return strings.Compare(a.Name, b.Name) })
	return next.indexed()
}

func (s *Set) withColumn(p *ColumnPolicy) *Set {
	next := s.without(p.Name)
	next.columns = append(next.columns, p)
	slices.SortFunc(next.columns, func(a, b *ColumnPolicy) int { return strings.Compare(a.Name, b.Name) })
	return next.indexed()
}

// indexed sorts the policies by what they are about.
func (s *Set) indexed() *Set {
	s.read = new(sync.Map)
	s.rowsOf, s.columnsOf = map[access.ObjectID][]*RowPolicy{}, map[access.ObjectID][]*ColumnPolicy{}
	s.wideRows, s.wideColumns = nil, nil
	for _, p := range s.rows {
		if p.wide() {
			s.wideRows = append(s.wideRows, p)
		} else {
			s.rowsOf[p.Object] = append(s.rowsOf[p.Object], p)
		}
	}
	for _, p := range s.columns {
		if p.Label != 0 {
			s.wideColumns = append(s.wideColumns, p)
		} else {
			s.columnsOf[p.Table] = append(s.columnsOf[p.Table], p)
		}
	}
	return s
}
