package policy

import (
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
)

// A ColumnPolicy says how the values of some columns appear.
type ColumnPolicy struct {
	Scope
	Label     access.ObjectID   // the columns that have it; or
	Table     access.ObjectID   // those of this table
	Columns   []access.ObjectID // that are named, or
	Pattern   string            // whose names match
	When      string            // a SQL condition: the rows whose values are treated; empty: all
	Treatment Treatment
}

// At is the object that the policy is about: a label or a table.
func (p *ColumnPolicy) At() access.ObjectID {
	if p.Label != 0 {
		return p.Label
	}
	return p.Table
}

// Treats reports whether the policy is about the column.
func (s *Set) Treats(p *ColumnPolicy, m *access.Model, column access.ObjectID) bool {
	switch {
	case p.Label != 0:
		return s.has(m, column, p.Label)
	case p.Pattern != "":
		o := m.Object(column)
		return o.Parent == p.Table && access.Restricts(p.Pattern, o.Name)
	default:
		return slices.Contains(p.Columns, column)
	}
}

// Treated lists the columns that the policy is about now.
func (s *Set) Treated(p *ColumnPolicy, m *access.Model) []access.ObjectID {
	if p.Label == 0 && p.Pattern == "" {
		return p.Columns
	}
	var ids []access.ObjectID
	look := func(table *access.Object) bool {
		for _, column := range table.Children {
			if !m.Object(column).Missing && s.Treats(p, m, column) {
				ids = append(ids, column)
			}
		}
		return true
	}
	if p.Label == 0 {
		look(m.Object(p.Table))
		return ids
	}
	return s.Bearing(m, p.Label)
}

// subject says what the policy treats, as the start of a sentence.
func (p *ColumnPolicy) subject(m *access.Model) (what string, many bool) {
	switch {
	case p.Label != 0:
		return "Every column that has " + m.Path(p.Label), false
	case p.Pattern != "":
		return fmt.Sprintf("Every column %s of %s", p.Pattern, m.Path(p.Table)), false
	}
	return fmt.Sprintf("%s of %s", list(columnNames(m, p.Columns), "and"), m.Path(p.Table)), len(p.Columns) > 1
}

// Sentence says what the policy does, in words; words says a condition.
func (p *ColumnPolicy) Sentence(m *access.Model, words func(rule string) string) string {
	what, many := p.subject(m)
	verb := "is"
	if many {
		verb = "are"
	}
	when := ""
	if p.When != "" {
		when = " where " + words(p.When)
	}
	return fmt.Sprintf("%s %s %s for %s%s%s", what, verb, p.Treatment.Says(), p.whom(m), when, p.tail(m))
}

// PutColumnPolicy adds a column policy, or replaces the one of that name.
type PutColumnPolicy struct {
	ScopeText
	Label   string   `json:"label,omitempty"`   // the columns that have it; or
	Columns []string `json:"columns,omitempty"` // of one table: their paths, or one path that ends in a pattern
	When    string   `json:"when,omitempty"`
	Treat   string   `json:"treat"`
	Treatment
}

func (c PutColumnPolicy) apply(s *Set, m *access.Model) (*Set, error) {
	p := &ColumnPolicy{When: strings.TrimSpace(c.When)}
	var err error
	if p.Scope, err = c.ScopeText.resolve(m); err != nil {
		return nil, err
	}
	if p.Treatment, err = NewTreatment(c.Treat, c.Treatment); err != nil {
		return nil, err
	}
	if err := p.place(m, c); err != nil {
		return nil, err
	}
	if p.When != "" && p.Treatment.Kind.Withheld() {
		return nil, invalid(
			"bad_treatment",
			"%s takes no condition: a column is there for all rows or for none; use withhold blank",
			p.Treatment.Kind,
		)
	}
	for _, column := range s.Treated(p, m) {
		if err := p.Treatment.Fits(m.Object(column).Type); err != nil {
			return nil, invalid("treatment_type", "%s: %v", m.Path(column), err)
		}
	}
	if taken, _ := s.Find(c.Name); taken != nil {
		return nil, invalid("exists", "%s is a row policy already", c.Name)
	}
	return s.withColumn(p), nil
}

// place finds what the policy is about.
func (p *ColumnPolicy) place(m *access.Model, c PutColumnPolicy) error {
	if c.Label != "" {
		if len(c.Columns) > 0 {
			return invalid("two_places", "a column policy is for columns or for a label, not for both")
		}
		label, err := m.FindLabel(c.Label)
		if err != nil {
			return err
		}
		p.Label = label.ID
		return nil
	}
	for _, path := range c.Columns {
		if within, pattern := access.CutPattern(path); pattern != "" {
			table, err := m.Lookup(within)
			if err != nil {
				return err
			}
			if table.Kind != access.Table || len(c.Columns) > 1 {
				return invalid("bad_pattern", "a pattern of columns stands alone, behind its table: survey.licensing.holders.*_number")
			}
			p.Table, p.Pattern = table.ID, pattern
			return nil
		}
		column, err := m.Lookup(path)
		if err != nil {
			return err
		}
		if column.Kind != access.Column {
			return invalid("wrong_level", "a column policy belongs to columns; %s is a %s", path, column.Kind)
		}
		if m.Object(column.Parent).Kind == access.View {
			return invalid(
				"wrong_level",
				"a column policy belongs to a table's columns; %s is a view's, and shows what its tables' policies leave",
				path,
			)
		}
		if p.Table != 0 && column.Parent != p.Table {
			return invalid(
				"two_tables",
				"one column policy treats columns of one table; write another for %s, or put a label on the columns and write one for the label",
				m.Path(column.Parent),
			)
		}
		p.Table = column.Parent
		p.Columns = append(p.Columns, column.ID)
	}
	if p.Table == 0 {
		return invalid("no_columns", "a column policy needs a column or a label")
	}
	return nil
}

// columnNames lists the names of columns, as they are written in SQL.
func columnNames(m *access.Model, ids []access.ObjectID) []string {
	names := make([]string, len(ids))
	for i, id := range ids {
		names[i] = access.Quote(m.Object(id).Name)
	}
	return names
}
