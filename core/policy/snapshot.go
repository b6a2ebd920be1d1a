package policy

import "gneiss/core/access"

// A Snapshot is all policies in plain values, for keeping them in a file.
type Snapshot struct {
	Rows    []RowPolicy
	Columns []TableColumns
}

// TableColumns is a column policy with its table.
type TableColumns struct {
	Table  access.ObjectID
	Policy ColumnPolicy
}

// Snapshot takes the set apart.
func (s *Set) Snapshot() *Snapshot {
	out := &Snapshot{}
	for _, table := range s.Tables() {
		for _, p := range s.rows[table] {
			out.Rows = append(out.Rows, *p)
		}
		for _, p := range s.columns[table] {
			out.Columns = append(out.Columns, TableColumns{table, *p})
		}
	}
	return out
}

// Restore puts a set together again.
func Restore(s *Snapshot) *Set {
	out := &Set{rows: map[access.ObjectID][]*RowPolicy{}, columns: map[access.ObjectID][]*ColumnPolicy{}}
	for i := range s.Rows {
		p := &s.Rows[i]
		out.rows[p.Table] = append(out.rows[p.Table], p)
	}
	for i := range s.Columns {
		c := &s.Columns[i]
		out.columns[c.Table] = append(out.columns[c.Table], &c.Policy)
	}
	return out
}
