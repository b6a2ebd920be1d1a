package access

import (
	"slices"
	"strings"
	"time"
)

// A Change is one step from a model to the next. Changes name things by path
// and reference, so that the journal can be read; they are applied whole or not
// at all.
type Change interface {
	apply(m *Model, at time.Time) error
}

// Apply returns the model after the changes; at is the time of the revision. It
// leaves m as it is. Errors are a [*NotFound], an [*Invalid] or a
// [*Dependents].
func (m *Model) Apply(at time.Time, changes ...Change) (*Model, error) {
	return m.within(func(next *Model) error {
		for _, c := range changes {
			if err := c.apply(next, at); err != nil {
				return err
			}
		}
		return nil
	})
}

// A Replay makes many changes one after another, as a journal has them. It is quicker than
// [Model.Apply] for each of them.
type Replay struct{ m Model }

// Replay begins with the model, which stays as it is.
func (m *Model) Replay() *Replay {
	r := &Replay{*m}
	r.m.edit = &edit{paths: map[string]ObjectID{}}
	return r
}

// Apply makes the next change; at is the time of its revision. After an error nothing is as it
// should be.
func (r *Replay) Apply(at time.Time, c Change) error { return c.apply(&r.m, at) }

// Current is the model as it is now, to be looked at until the next change is made, and not kept.
func (r *Replay) Current() *Model { return &r.m }

// Model is the model after the changes so far. It may be kept, and more changes be made.
func (r *Replay) Model() *Model {
	m, paths := r.m, r.m.edit.paths
	r.m.edit.paths, r.m.edit = nil, &edit{paths: paths}
	m.edit = nil
	return &m
}

// within makes a copy of the model that f may write to.
func (m *Model) within(f func(*Model) error) (*Model, error) {
	next := *m
	next.edit = new(edit)
	if err := f(&next); err != nil {
		return nil, err
	}
	next.edit = nil
	return &next, nil
}

// AddObject puts an object in the tree, or finds it again: an object that was
// missing is there again under the same id, and a column takes the type given.
type AddObject struct {
	Path    string `json:"path"`
	Kind    string `json:"kind"`
	Type    string `json:"type,omitempty"` // of a column; of a source, what kind of database it is
	NotNull bool   `json:"not_null,omitempty"`
	Key     bool   `json:"key,omitempty"`     // of a column: part of the primary key
	Unique  bool   `json:"unique,omitempty"`  // of a column: part of another unique key
	Indexed bool   `json:"indexed,omitempty"` // of a column: an index over all rows begins with it
	// Declared is the database's own type of a column, where Type is another that
	// holds its values.
	Declared string `json:"declared,omitempty"`
	Comment  string `json:"comment,omitempty"` // what the database says of a table or column
	// Collation is that of a column: see [Object].
	Collation string `json:"collation,omitempty"`
}

func (c AddObject) apply(m *Model, _ time.Time) error {
	parts, err := ParsePath(c.Path)
	if err != nil {
		return err
	}
	parent := m.Object(PlatformID)
	if len(parts) > 1 {
		if parent, err = m.Lookup(JoinPath(parts[:len(parts)-1]...)); err != nil {
			return err
		}
	}
	kind, name := parseObjectKind(c.Kind), parts[len(parts)-1]
	if kind <= Platform || childKind(parent.Kind) != kind.String() && !(parent.Kind == Schema && (kind == View || kind == Routine)) ||
		parent.Kind == Column {
		return invalid("bad_object", "a %s cannot stand below the %s %s", c.Kind, parent.Kind, m.Path(parent.ID))
	}
	if old := m.Child(parent, name); old != nil {
		if old.Kind != kind {
			return invalid("bad_object", "%s is a %s already", c.Path, old.Kind)
		}
		found := *old
		found.Missing, found.Declared, found.Comment, found.Collation = false, c.Declared, c.Comment, c.Collation
		found.Type, found.NotNull, found.Key, found.Unique, found.Indexed = c.Type, c.NotNull, c.Key, c.Unique, c.Indexed
		m.setObject(found)
		return nil
	}
	o := &Object{
		ID:       ObjectID(m.objects.size()),
		Kind:     kind,
		Name:     name,
		Parent:   parent.ID,
		Type:     c.Type,
		NotNull:  c.NotNull,
		Key:      c.Key,
		Unique:   c.Unique,
		Indexed:  c.Indexed,
		Declared: c.Declared,
		Comment:  c.Comment,

		Collation: c.Collation,
	}
	m.objects.push(m.edit, o)
	if kind == View {
		m.views = append(m.views[:len(m.views):len(m.views)], o.ID)
	}
	up := m.ownObject(parent.ID)
	at := len(up.Children)
	if !up.Kind.IsRelation() {
		at, _ = m.searchChild(up, name)
	}
	up.Children = slices.Insert(up.Children, at, o.ID)
	return nil
}

// MissObject marks an object that a scan no longer finds.
type MissObject struct {
	Path string `json:"path"`
}

func (c MissObject) apply(m *Model, _ time.Time) error {
	o, err := m.Lookup(c.Path)
	if err != nil {
		return err
	}
	if o.ID == PlatformID {
		return invalid("bad_object", "the platform cannot be missing")
	}
	gone := *o
	gone.Missing = true
	m.setObject(gone)
	return nil
}

func kindList(kinds []ObjectKind) string {
	names := make([]string, len(kinds))
	for i, k := range kinds {
		names[i] = k.String()
	}
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}
