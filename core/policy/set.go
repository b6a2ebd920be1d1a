package policy

import (
	"maps"
	"slices"
	"strings"

	"gneiss/core/access"
)

// A Set is all policies of a platform at one revision. It never changes. The
// zero value has none.
type Set struct {
	rows    map[access.ObjectID][]*RowPolicy    // by table, by name
	columns map[access.ObjectID][]*ColumnPolicy // by table
}

// Rows lists the row policies of the table, whatever their status, by name.
func (s *Set) Rows(table access.ObjectID) []*RowPolicy { return s.rows[table] }

// Columns lists the column policies of the table, whatever their status, by name.
func (s *Set) Columns(table access.ObjectID) []*ColumnPolicy { return s.columns[table] }

// Tables lists the tables that have policies.
func (s *Set) Tables() []access.ObjectID {
	ids := slices.Collect(maps.Keys(s.rows))
	for id := range s.columns {
		if _, both := s.rows[id]; !both {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}

// Find returns the policy with the name, one of the two or neither.
func (s *Set) Find(name string) (*RowPolicy, *ColumnPolicy) {
	for _, list := range s.rows {
		for _, p := range list {
			if p.Name == name {
				return p, nil
			}
		}
	}
	for _, list := range s.columns {
		for _, p := range list {
			if p.Name == name {
				return nil, p
			}
		}
	}
	return nil, nil
}

// Names lists the names of all policies.
func (s *Set) Names() []string {
	var names []string
	for _, list := range s.rows {
		for _, p := range list {
			names = append(names, p.Name)
		}
	}
	for _, list := range s.columns {
		for _, p := range list {
			names = append(names, p.Name)
		}
	}
	slices.Sort(names)
	return names
}

// Naming lists the names of the policies that name the subject.
func (s *Set) Naming(id access.SubjectID) []string {
	var names []string
	for _, name := range s.Names() {
		scope := s.scope(name)
		if slices.Contains(scope.For, id) || slices.Contains(scope.Except, id) {
			names = append(names, name)
		}
	}
	return names
}

func (s *Set) scope(name string) *Scope {
	row, column := s.Find(name)
	if row != nil {
		return &row.Scope
	}
	return &column.Scope
}

// without returns a set that lacks the policy with the name. The result shares
// no map with s, so that a caller may add to it.
func (s *Set) without(name string) *Set {
	next := &Set{map[access.ObjectID][]*RowPolicy{}, map[access.ObjectID][]*ColumnPolicy{}}
	for table, list := range s.rows {
		kept := slices.DeleteFunc(slices.Clone(list), func(p *RowPolicy) bool { return p.Name == name })
		if len(kept) > 0 {
			next.rows[table] = kept
		}
	}
	for table, list := range s.columns {
		kept := slices.DeleteFunc(slices.Clone(list), func(p *ColumnPolicy) bool { return p.Name == name })
		if len(kept) > 0 {
			next.columns[table] = kept
		}
	}
	return next
}

func (s *Set) withRow(p *RowPolicy) *Set {
	next := s.without(p.Name)
	list := append(next.rows[p.Table], p)
	slices.SortFunc(list, func(a, b *RowPolicy) int { return strings.Compare(a.Name, b.Name) })
	next.rows[p.Table] = list
	return next
}

func (s *Set) withColumn(p *ColumnPolicy, table access.ObjectID) *Set {
	next := s.without(p.Name)
	list := append(next.columns[table], p)
	slices.SortFunc(list, func(a, b *ColumnPolicy) int { return strings.Compare(a.Name, b.Name) })
	next.columns[table] = list
	return next
}
