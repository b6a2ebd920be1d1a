package policy

import (
	"slices"

	"gneiss/core/access"
)

// Rules are the row policies of a table that apply to one session's statements of
// one kind.
type Rules struct {
	// Closed says that the table has allow policies and none applies: no rows.
	Closed bool
	Allow  []*RowPolicy // a row must pass one of these, if there are any
	Limit  []*RowPolicy // and all of these
}

// Open reports whether the rules let all rows through.
func (r *Rules) Open() bool { return !r.Closed && len(r.Allow) == 0 && len(r.Limit) == 0 }

// All lists the policies that apply to the rows.
func (r *Rules) All() []*RowPolicy { return append(r.Allow[:len(r.Allow):len(r.Allow)], r.Limit...) }

// Governance is what the live policies of one table mean for one session.
type Governance struct {
	Rules       // which rows there are
	Write Rules // which of them may be changed, and which may be left
	// Columns has the treated columns; the others are clear.
	Columns map[access.ObjectID]Decision
	// Gone are columns that policies treat and that the source no longer has. What
	// they held may stand under another name now, so the table is closed until an
	// administrator edits or stops the policy, or lifts the label.
	Gone []GoneColumn
}

// A GoneColumn is a column that is missing, and the policy that treats it.
type GoneColumn struct {
	Column access.ObjectID
	Policy *ColumnPolicy
}

// Untouched reports whether the policies leave the table as it is.
func (g *Governance) Untouched() bool {
	return g.Open() && g.Write.Open() && len(g.Columns) == 0 && len(g.Gone) == 0
}

// Govern works out what the live policies of a table mean for a session.
func (s *Set) Govern(st *access.Rights, table access.ObjectID) Governance {
	var g Governance
	allows, writes := false, false
	for _, p := range s.Rows(st.Model, table) {
		if p.Status != Live {
			continue
		}
		allow := p.Mode == Allow
		allows, writes = allows || allow && p.reads(), writes || allow && p.writes()
		if allow && !p.gives(st) || !allow && !p.takes(st) {
			continue
		}
		if p.reads() {
			g.Rules.add(p)
		}
		if p.writes() {
			g.Write.add(p)
		}
	}
	g.Closed = allows && len(g.Allow) == 0
	g.Write.Closed = writes && len(g.Write.Allow) == 0
	s.treatments(&g, st, table)
	return g
}

func (r *Rules) add(p *RowPolicy) {
	if p.Mode == Allow {
		r.Allow = append(r.Allow, p)
	} else {
		r.Limit = append(r.Limit, p)
	}
}

// treatments decides for each column that live policies are about.
func (s *Set) treatments(g *Governance, st *access.Rights, table access.ObjectID) {
	asked := map[access.ObjectID][]*ColumnPolicy{}
	bearing := s.bearing(st.Model, table)
	for _, p := range s.ColumnPolicies(st.Model, table) {
		if p.Status != Live || !p.takes(st) {
			continue
		}
		for _, column := range s.treatedOf(p, st.Model, table, bearing) {
			asked[column] = append(asked[column], p)
		}
	}
	for column, policies := range asked {
		if g.Columns == nil {
			g.Columns = make(map[access.ObjectID]Decision, len(asked))
		}
		d := decide(st, column, policies)
		g.Columns[column] = d
		if st.Model.Object(column).Missing && d.Treatment.Kind != Clear {
			g.Gone = append(g.Gone, GoneColumn{column, d.By[0]})
		}
	}
	slices.SortFunc(g.Gone, func(a, b GoneColumn) int { return int(a.Column) - int(b.Column) })
}

// treatedOf lists the columns of a table that a policy is about, with those that
// are gone and were named, by the policy or by a label of their own.
func (s *Set) treatedOf(
	p *ColumnPolicy,
	m *access.Model,
	table access.ObjectID,
	bearing map[access.ObjectID][]access.ObjectID,
) []access.ObjectID {
	if p.Label == 0 && p.Pattern == "" {
		return p.Columns
	}
	var ids []access.ObjectID
	columns := m.Object(table).Children
	if p.Label != 0 {
		columns = bearing[p.Label]
	}
	for _, column := range columns {
		if (p.Label != 0 || s.Treats(p, m, column)) &&
			(!m.Object(column).Missing || p.Pattern != "" || slices.Contains(s.placed[column], p.Label)) {
			ids = append(ids, column)
		}
	}
	return ids
}
