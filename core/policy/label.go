package policy

import (
	"maps"
	"slices"

	"gneiss/core/access"
)

// Labels lists the labels that an object has: those put on it, and those put
// on what it stands in.
func (s *Set) Labels(m *access.Model, id access.ObjectID) []access.ObjectID {
	if len(s.placed) == 0 {
		return nil
	}
	var all []access.ObjectID
	seen := map[access.ObjectID]bool{}
	for ; id != access.PlatformID; id = m.Object(id).Parent {
		for _, label := range s.placed[id] {
			if !seen[label] {
				seen[label] = true
				all = append(all, label)
			}
		}
	}
	return all
}

// has reports whether an object has a label.
func (s *Set) has(m *access.Model, id, label access.ObjectID) bool {
	for ; id != access.PlatformID; id = m.Object(id).Parent {
		if slices.Contains(s.placed[id], label) {
			return true
		}
	}
	return false
}

// bearing lists the columns of a table by the labels that they have, all labels in one pass.
func (s *Set) bearing(m *access.Model, table access.ObjectID) map[access.ObjectID][]access.ObjectID {
	columns, whole := map[access.ObjectID][]access.ObjectID{}, map[access.ObjectID]bool{}
	for _, label := range s.Labels(m, table) {
		columns[label], whole[label] = m.Object(table).Children, true
	}
	for _, column := range m.Object(table).Children {
		for _, label := range s.placed[column] {
			if !whole[label] {
				columns[label] = append(columns[label], column)
			}
		}
	}
	return columns
}

// Own lists the labels that were put on the object itself.
func (s *Set) Own(id access.ObjectID) []access.ObjectID { return s.placed[id] }

// Placed lists the objects that the label was put on.
func (s *Set) Placed(label access.ObjectID) []access.ObjectID {
	var ids []access.ObjectID
	for id, labels := range s.placed {
		if slices.Contains(labels, label) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}

// Bearing lists the columns that have the label, present ones only.
func (s *Set) Bearing(m *access.Model, label access.ObjectID) []access.ObjectID {
	var columns []access.ObjectID
	for _, id := range s.Placed(label) {
		if o := m.Object(id); o.Kind == access.Column {
			if !o.Missing {
				columns = append(columns, id)
			}
			continue
		}
		m.Tables(id, func(table *access.Object) bool {
			for _, c := range table.Children {
				if !m.Object(c).Missing {
					columns = append(columns, c)
				}
			}
			return true
		})
	}
	slices.Sort(columns)
	return slices.Compact(columns)
}

// On lists the names of the policies that are about the label.
func (s *Set) On(label access.ObjectID) []string {
	var names []string
	for _, p := range s.rows {
		if p.Label == label {
			names = append(names, p.Name)
		}
	}
	for _, p := range s.columns {
		if p.Label == label {
			names = append(names, p.Name)
		}
	}
	return names
}

// Dismissed reports whether it was said that a column is not about a topic.
func (s *Set) Dismissed(column access.ObjectID, topic string) bool {
	return slices.Contains(s.dismissed[column], topic)
}

// PlaceLabel puts a label on an object, and takes back that it was dismissed
// there.
type PlaceLabel struct {
	Label  string `json:"label"`
	Object string `json:"object"` // a source, schema, table or column
}

// LiftLabel takes a label off an object.
type LiftLabel struct {
	Label  string `json:"label"`
	Object string `json:"object"`
}

// DismissTopic remembers that a column is not about a topic, so that no label on
// it is proposed there again.
type DismissTopic struct {
	Topic  string `json:"topic"`
	Object string `json:"object"`
}

func labelAndObject(m *access.Model, label, object string) (access.ObjectID, *access.Object, error) {
	l, err := m.FindLabel(label)
	if err != nil {
		return 0, nil, err
	}
	o, err := m.Lookup(object)
	if err != nil {
		return 0, nil, err
	}
	switch o.Kind {
	case access.Column:
		if m.Object(o.Parent).Kind == access.View {
			return 0, nil, invalid("wrong_level", "a view's columns have the labels of its tables' columns; put the label there")
		}
		return l.ID, o, nil
	case access.Source, access.Schema, access.Table:
		return l.ID, o, nil
	}
	return 0, nil, invalid("wrong_level", "a label goes on a source, schema, table or column; %s is a %s", object, o.Kind)
}

func (c PlaceLabel) apply(s *Set, m *access.Model) (*Set, error) {
	label, o, err := labelAndObject(m, c.Label, c.Object)
	if err != nil {
		return nil, err
	}
	next := *s
	next.placed = with(s.placed, o.ID, label)
	next.dismissed = lacking(s.dismissed, o.ID, m.Object(label).Topic)
	return &next, nil
}

func (c LiftLabel) apply(s *Set, m *access.Model) (*Set, error) {
	label, o, err := labelAndObject(m, c.Label, c.Object)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(s.placed[o.ID], label) {
		for _, up := range m.Above(o.ID) {
			if slices.Contains(s.placed[up], label) {
				return nil, invalid("inherited", "%s has %s from %s; lift it there", c.Object, m.Path(label), m.Path(up))
			}
		}
		return nil, invalid("not_labelled", "%s does not have %s", c.Object, m.Path(label))
	}
	next := *s
	next.placed = lacking(s.placed, o.ID, label)
	return &next, nil
}

func (c DismissTopic) apply(s *Set, m *access.Model) (*Set, error) {
	o, err := m.Lookup(c.Object)
	if err != nil {
		return nil, err
	}
	if o.Kind != access.Column || c.Topic == "" {
		return nil, invalid("wrong_level", "a topic is dismissed for a column; %s is a %s", c.Object, o.Kind)
	}
	for _, label := range s.Labels(m, o.ID) {
		if m.Object(label).Topic == c.Topic {
			return nil, invalid("labelled", "%s has %s; lift it instead", c.Object, m.Path(label))
		}
	}
	next := *s
	next.dismissed = with(s.dismissed, o.ID, c.Topic)
	return &next, nil
}

// with and lacking make a copy of a map of sets with one more member, or one less.
func with[T comparable](sets map[access.ObjectID][]T, id access.ObjectID, member T) map[access.ObjectID][]T {
	next := maps.Clone(sets)
	if next == nil {
		next = map[access.ObjectID][]T{}
	}
	if !slices.Contains(sets[id], member) {
		next[id] = append(slices.Clone(sets[id]), member)
	}
	return next
}

func lacking[T comparable](sets map[access.ObjectID][]T, id access.ObjectID, member T) map[access.ObjectID][]T {
	next := maps.Clone(sets)
	kept := slices.DeleteFunc(slices.Clone(sets[id]), func(x T) bool { return x == member })
	if len(kept) == 0 {
		delete(next, id)
	} else {
		next[id] = kept
	}
	return next
}
