package access

import (
	"slices"
	"time"
)

// A Definition is what a view is made of.
type Definition struct {
	Text   string // one SELECT
	Rights ViewRights
	Sealed bool       // the text is shown to nobody without DESCRIBE on the view
	Reads  []ObjectID // the tables and views that the text names
}

// ViewRights are whose privileges a view reads its tables with. Row and column
// policies are always those of who reads.
type ViewRights string

const (
	OwnerRights  ViewRights = "owner"
	ReaderRights ViewRights = "reader"
)

// PutView makes a view in a schema, or replaces one: columns of the same name
// keep their grants. Owner is a subject; empty, the view keeps the one it has.
type PutView struct {
	Path    string       `json:"path"`
	Text    string       `json:"text"`
	Rights  ViewRights   `json:"rights"`
	Sealed  bool         `json:"sealed,omitempty"`
	Owner   string       `json:"owner,omitempty"`
	Columns []ViewColumn `json:"columns"`
	Reads   []string     `json:"reads,omitempty"` // paths of the tables and views that the text names
}

// A ViewColumn is a column that a view gives.
type ViewColumn struct {
	Name string `json:"name"`
	Type string `json:"type"`
}

func (c PutView) apply(m *Model, at time.Time) error {
	if c.Rights != OwnerRights && c.Rights != ReaderRights {
		return invalid("bad_view", "a view reads its tables with the rights of its owner or of its reader, not of %q", c.Rights)
	}
	if c.Text == "" || len(c.Columns) == 0 {
		return invalid("bad_view", "a view is one SELECT with columns")
	}
	if err := (AddObject{Path: c.Path, Kind: View.String()}).apply(m, at); err != nil {
		return err
	}
	view, err := m.Lookup(c.Path)
	if err != nil {
		return err
	}
	for _, id := range view.Children {
		gone := *m.Object(id)
		gone.Missing = true
		m.setObject(gone)
	}
	for _, column := range c.Columns {
		if err := (AddObject{Path: c.Path + "." + Quote(column.Name), Kind: Column.String(), Type: column.Type}).apply(m, at); err != nil {
			return err
		}
	}
	next := *m.Object(view.ID)
	var order []ObjectID // as the text gives them, then those that are gone
	for _, column := range c.Columns {
		order = append(order, m.Child(&next, column.Name).ID)
	}
	for _, id := range next.Children {
		if m.Object(id).Missing {
			order = append(order, id)
		}
	}
	next.Children = order
	next.View = &Definition{Text: c.Text, Rights: c.Rights, Sealed: c.Sealed}
	for _, path := range c.Reads {
		o, err := m.Lookup(path)
		if err != nil {
			return err
		}
		next.View.Reads = append(next.View.Reads, o.ID)
	}
	m.setObject(next)
	if c.Owner == "" {
		return nil
	}
	return SetOwner{Object: c.Path, Owner: c.Owner}.apply(m, at)
}

// DropView takes a view away. Grants on it stay and take no effect.
type DropView struct {
	Path string `json:"path"`
}

func (c DropView) apply(m *Model, at time.Time) error {
	view, err := m.Lookup(c.Path)
	if err != nil {
		return err
	}
	if view.Kind != View || view.Missing {
		return &NotFound{Kind: "view", Name: c.Path}
	}
	if err := (SetOwner{Object: c.Path}).apply(m, at); err != nil {
		return err
	}
	gone := *m.Object(view.ID)
	gone.View, gone.Missing = nil, true
	m.setObject(gone)
	return nil
}

// Views lists the views that are there at or below an object.
func (m *Model) Views(id ObjectID) []*Object {
	var views []*Object
	m.Relations(id, func(o *Object) bool {
		if o.Kind == View {
			views = append(views, o)
		}
		return true
	})
	return views
}

// ReadBy lists the views that read an object, themselves or through other views,
// with their owners' rights: whom SELECT on them gives what the object holds, as far
// as policies let them.
func (m *Model) ReadBy(id ObjectID) []*Object {
	views, read := m.Views(PlatformID), []ObjectID{id}
	var found []*Object
	for i := 0; i < len(read); i++ {
		for _, o := range views {
			if o.View.Rights == OwnerRights && slices.Contains(o.View.Reads, read[i]) && !slices.Contains(read, o.ID) {
				read, found = append(read, o.ID), append(found, o)
			}
		}
	}
	return found
}

// OwnersRights works out what the owner of a view holds, at the moment that a
// standing is of: it is true as long as the standing is. A view without an owner of
// its own, or whose owner cannot act, has nobody's rights.
func (st *Rights) OwnersRights(view *Object) (*Rights, error) {
	if view.Owner == 0 {
		return nil, invalid("bad_view", "%s has no owner of its own", st.Model.Path(view.ID))
	}
	return st.Model.stand(Standpoint{Subject: view.Owner}, st.At)
}

// ownersUntil is when what the owners of views hold first changes by itself.
func (m *Model) ownersUntil(now time.Time) time.Time {
	var until time.Time
	asked := map[SubjectID]bool{}
	for _, id := range m.views {
		view := m.Object(id)
		if view.Missing || view.View == nil || view.View.Rights != OwnerRights || view.Owner == 0 || asked[view.Owner] {
			continue
		}
		asked[view.Owner] = true
		if owner, err := m.stand(Standpoint{Subject: view.Owner}, now); err == nil && !owner.Until.IsZero() {
			until = earliest(until, owner.Until)
		}
	}
	return until
}
