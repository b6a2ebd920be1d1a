package policy

import "gneiss/core/access"

// A Snapshot is a set in plain values, for keeping it in a file.
type Snapshot struct {
	Rows          []RowPolicy
	Columns       []ColumnPolicy
	Placed        map[access.ObjectID][]access.ObjectID
	Dismissed     map[access.ObjectID][]string
	Relationships []Relationship
}

// Snapshot takes the set apart.
func (s *Set) Snapshot() *Snapshot {
	out := &Snapshot{Placed: s.placed, Dismissed: s.dismissed}
	for _, p := range s.rows {
		out.Rows = append(out.Rows, *p)
	}
	for _, p := range s.columns {
		out.Columns = append(out.Columns, *p)
	}
	for _, r := range s.relationships {
		out.Relationships = append(out.Relationships, *r)
	}
	return out
}

// Restore puts a set together again.
func Restore(s *Snapshot) *Set {
	out := &Set{placed: s.Placed, dismissed: s.Dismissed}
	for i := range s.Rows {
		out.rows = append(out.rows, &s.Rows[i])
	}
	for i := range s.Columns {
		out.columns = append(out.columns, &s.Columns[i])
	}
	for i := range s.Relationships {
		out.relationships = append(out.relationships, &s.Relationships[i])
	}
	return out.indexed()
}
