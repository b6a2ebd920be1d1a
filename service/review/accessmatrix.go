package review

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/wire"
)

// A MatrixSearch selects a window of the matrix.
type MatrixSearch struct {
	In      string // whose parts are across: the platform's when empty
	Level   string // schemas: of all sources, whatever In is
	Kind    string // of the subjects; users when empty
	Within  string // only members of this group, or holders of this role
	Text    string // only subjects whose name or title has it
	Label   string // only who sees a column of this label in clear
	Writes  bool   // only who can write somewhere in the window
	Has     bool   // only who has anything in the window
	Direct  bool   // only who has a grant of their own
	Unused  int    // only who used nothing within so many days
	Differs bool   // only rows that differ from what is compared with
	Beside  wire.Moment
	Other   string // a standpoint that each row is compared with; empty: each with itself
	After   string // a cursor
	Limit   int
	From    int // the first column
	Columns int
}

// What bounds a window of the matrix.
const (
	usualRows    = 100
	mostRows     = 1000
	usualColumns = 60
	mostColumns  = 500
)

// AccessMatrix answers one window of who has what on what, for who reviews.
func (s *Service) AccessMatrix(ctx context.Context, c identity.Caller, q MatrixSearch) (wire.AccessMatrix, error) {
	st := s.identity.State(c)
	out := wire.AccessMatrix{Columns: []wire.MatrixObject{}, Rows: []wire.AccessRow{}, Revision: st.Revision, About: strings.TrimSpace(c.About())}
	if !s.identity.Reviews(st, c) {
		return out, identity.Wants(st.Authority(), access.Describe, access.PlatformID)
	}
	m := &accessMatrix{st: st, q: q, now: time.Now()}
	if q.Beside != (wire.Moment{}) {
		beside, err := s.identity.Looking(ctx, c, q.Beside)
		if err != nil {
			return out, err
		}
		m.beside, out.Beside = s.identity.State(beside), strings.TrimSpace(beside.About())
		if out.Beside == "" {
			out.Beside = "now"
		}
	}
	if q.Other != "" {
		if err := m.compareWith(&out); err != nil {
			return out, err
		}
	}
	if err := m.across(&out); err != nil {
		return out, err
	}
	if err := m.filters(ctx, s, c); err != nil {
		return out, err
	}
	return out, m.down(&out)
}

// compareWith has every row compared with what one standpoint has, now or where the rows are compared
// with.
func (m *accessMatrix) compareWith(out *wire.AccessMatrix) error {
	if m.beside == nil {
		m.beside = m.st
	}
	at, err := m.beside.Model.ParseStandpoint(m.q.Other)
	if err != nil {
		return err
	}
	if m.other, err = m.beside.Rights(at, m.now); err != nil {
		return err
	}
	out.Beside = strings.TrimSpace("from " + m.beside.Model.StandpointText(at) + " " + out.Beside)
	return nil
}

// An accessMatrix is being put together.
type accessMatrix struct {
	st     *platform.State
	beside *platform.State // nil: nothing is compared with
	other  *access.Rights  // what every row is compared with; nil: each with its own
	q      MatrixSearch
	now    time.Time

	columns []*access.Object
	clear   []access.ObjectID // the columns of the label
	used    map[access.SubjectID]*tally
	members map[access.SubjectID]bool // nil: all
}

// across finds the objects of the window.
func (m *accessMatrix) across(out *wire.AccessMatrix) error {
	model := m.st.Model
	in, err := model.Lookup(orPlatform(m.q.In))
	if err != nil {
		return err
	}
	out.In = model.Path(in.ID)
	var all []access.ObjectID
	switch {
	case m.q.Level == "schemas":
		for _, source := range model.Object(access.PlatformID).Children {
			if model.Object(source).Kind == access.Source {
				all = append(all, model.Object(source).Children...)
			}
		}
	case in.Kind == access.Column:
		return fault.New(fault.Invalid, "wrong_level", "%s is a column; name what has parts: a table, a schema or a source", m.q.In)
	default:
		all = in.Children
	}
	all = slices.DeleteFunc(slices.Clone(all), func(id access.ObjectID) bool {
		o := model.Object(id)
		return o.Missing || o.Kind == access.Lane || o.Kind == access.Label || o.Kind == access.Routine
	})
	from := min(max(m.q.From, 0), len(all))
	until := min(from+bounded(m.q.Columns, usualColumns, mostColumns), len(all))
	out.Before, out.Behind = from, len(all)-until
	for _, id := range all[from:until] {
		o := model.Object(id)
		m.columns = append(m.columns, o)
		column := wire.MatrixObject{Path: model.Path(id), Name: o.Name, Kind: o.Kind.String()}
		if m.q.Level == "schemas" {
			column.Name = column.Path
		}
		if o.Kind < access.Table {
			model.Relations(id, func(*access.Object) bool { column.Below++; return true })
		}
		out.Columns = append(out.Columns, column)
	}
	return nil
}

func bounded(asked, usual, most int) int { return min(cmp.Or(max(asked, 0), usual), most) }

// filters looks up what rows are filtered by.
func (m *accessMatrix) filters(ctx context.Context, s *Service, c identity.Caller) error {
	model := m.st.Model
	if m.q.Label != "" {
		label, err := model.FindLabel(m.q.Label)
		if err != nil {
			return err
		}
		m.clear = m.st.Policies.Bearing(model, label.ID)
	}
	if m.q.Within != "" {
		of, err := model.FindSubject(m.q.Within)
		if err != nil {
			return err
		}
		m.members = map[access.SubjectID]bool{}
		for _, id := range of.Members {
			m.members[id] = true
		}
		for _, id := range m.st.Actors(of.ID, m.now) {
			m.members[id] = true
		}
	}
	if m.q.Unused > 0 {
		if err := s.audits(c, "use of rights"); err != nil {
			return err
		}
		u, err := s.uses(ctx, m.now.UTC().AddDate(0, 0, -m.q.Unused).Format(time.DateOnly), 0, nil)
		if err != nil {
			return err
		}
		m.used = map[access.SubjectID]*tally{}
		for _, by := range u.tables {
			for id := range by.people {
				m.used[id] = by
			}
		}
		for id, by := range u.subjects {
			m.used[id] = by
		}
	}
	return nil
}

// down finds the subjects of the window.
func (m *accessMatrix) down(out *wire.AccessMatrix) error {
	kinds := map[string]access.SubjectKind{"": access.User, "user": access.User, "service": access.Service, "group": access.Group, "role": access.Role}
	kind, ok := kinds[m.q.Kind]
	if !ok {
		return fault.New(fault.Invalid, "bad_kind", "the subjects of a matrix are users, services, groups or roles, not %.40q", m.q.Kind)
	}
	subjects := m.st.Model.Subjects(kind)
	if m.q.Within != "" && m.q.Kind == "" { // whoever is in it
		subjects = slices.DeleteFunc(m.st.Model.Subjects(0), func(s *access.Subject) bool { return !m.members[s.ID] })
	}
	out.Subjects = len(subjects)
	limit := bounded(m.q.Limit, usualRows, mostRows)
	text := strings.ToLower(m.q.Text)
	subjects = slices.DeleteFunc(subjects, func(s *access.Subject) bool {
		before := m.q.After != "" && access.CompareRefs(s.Ref(), m.q.After) <= 0
		return before || m.members != nil && !m.members[s.ID] || text != "" && !strings.Contains(strings.ToLower(s.Ref()+" "+s.Title), text) ||
			m.q.Direct && m.st.Model.CountGrantsTo(s.ID) == 0 || m.used != nil && m.used[s.ID] != nil
	})
	for len(subjects) > 0 { // as many as are missing are worked out side by side
		part := subjects[:min(len(subjects), limit+1-len(out.Rows))]
		subjects = subjects[len(part):]
		for _, row := range m.rows(part) {
			if row == nil {
				continue
			}
			if len(out.Rows) == limit {
				out.Next = out.Rows[limit-1].Subject
				return nil
			}
			out.Rows = append(out.Rows, *row)
		}
	}
	return nil
}

// rows are those of some subjects; nil for whom the filters do not want.
func (m *accessMatrix) rows(subjects []*access.Subject) []*wire.AccessRow {
	rows := make([]*wire.AccessRow, len(subjects))
	var all sync.WaitGroup
	for i, subject := range subjects {
		all.Go(func() {
			if row, wanted := m.row(subject); wanted {
				rows[i] = &row
			}
		})
	}
	all.Wait()
	return rows
}

// row is one subject's, and whether the filters want it.
func (m *accessMatrix) row(subject *access.Subject) (wire.AccessRow, bool) {
	row := wire.AccessRow{Subject: subject.Ref(), Title: subject.Title, Kind: subject.Kind.String(), Members: len(subject.Members)}
	var cells []cell
	if row.Cells, cells = m.cells(m.st, m.standing(m.st, subject.ID)); m.beside != nil {
		if row.Lit = m.lit(subject.ID); len(row.Lit) > 0 {
			row.Other, _ = m.cells(m.beside, m.there(subject.ID))
		} else if m.q.Differs {
			return row, false
		}
	}
	if m.q.Has && !slices.ContainsFunc(cells, func(c cell) bool { return c != cell{} }) ||
		m.q.Writes && !slices.ContainsFunc(m.columns, func(o *access.Object) bool { return writesIn(m.standing(m.st, subject.ID), o) }) {
		return row, false
	}
	if m.clear != nil {
		rights, err := m.st.Rights(access.Standpoint{Subject: subject.ID}, m.now)
		if err != nil || !slices.ContainsFunc(m.clear, func(id access.ObjectID) bool { return seesInClear(m.st, rights, id) }) {
			return row, false
		}
	}
	return row, true
}

// writesIn reports whether somebody can write an object, or anything below it.
func writesIn(rights *access.Rights, o *access.Object) bool {
	writes := access.Set(access.Insert, access.Update, access.Delete)
	if rights == nil || o.Kind == access.View {
		return false
	}
	if o.Kind >= access.Table {
		return rights.Resolve(o.ID).Allowed.Any(writes)
	}
	found := false
	rights.Model.Relations(o.ID, func(r *access.Object) bool {
		found = r.Kind != access.View && rights.Resolve(r.ID).Allowed.Any(writes)
		return !found
	})
	return found
}

// seesInClear reports whether somebody reads a column as it is.
func seesInClear(st *platform.State, rights *access.Rights, column access.ObjectID) bool {
	if !rights.Resolve(column).Allowed.Has(access.Select) {
		return false
	}
	return st.Policies.Govern(rights, st.Model.Object(column).Parent).Columns[column].Treatment.Kind == policy.Clear
}

// cells are those of some rights in a state. Who is not there has nothing.
func (m *accessMatrix) cells(st *platform.State, rights *access.Rights) ([]string, []cell) {
	cells := make([]cell, len(m.columns))
	for i, o := range m.columns {
		cells[i] = at(st, rights, o.ID)
	}
	texts := make([]string, len(cells))
	for i, c := range cells {
		texts[i] = c.text()
	}
	return texts, cells
}

// lit are the columns in which a subject's access differs between the two states, at the object or
// anywhere below it.
func (m *accessMatrix) lit(id access.SubjectID) []int {
	here, there := m.standing(m.st, id), m.there(id)
	var out []int
	for i, o := range m.columns {
		differs := false
		look := func(r *access.Object) bool {
			differs = differs || at(m.st, here, r.ID) != at(m.beside, there, r.ID)
			return !differs
		}
		if look(o); o.Kind < access.Table {
			m.st.Model.Relations(o.ID, look)
			if !differs && m.beside.Model.HasObject(o.ID) {
				m.beside.Model.Relations(o.ID, look) // what is there alone
			}
		}
		if differs {
			out = append(out, i)
		}
	}
	return out
}

// there is what a row is compared with.
func (m *accessMatrix) there(id access.SubjectID) *access.Rights {
	if m.other != nil {
		return m.other
	}
	return m.standing(m.beside, id)
}

// standing is what a subject holds in a state; nil: nothing.
func (m *accessMatrix) standing(st *platform.State, id access.SubjectID) *access.Rights {
	if !st.Model.HasSubject(id) {
		return nil
	}
	rights, err := st.Rights(access.Standpoint{Subject: id}, m.now)
	if err != nil {
		return nil // disabled
	}
	return rights
}
