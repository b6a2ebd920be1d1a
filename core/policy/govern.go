package policy

import (
	"slices"

	"gneiss/core/access"
)

// Governance is what the live policies of one table mean for one session.
type Governance struct {
	// Closed says that the table has allow policies and none applies: no rows.
	Closed bool
	Allow  []*RowPolicy // a row must pass one of these, if there are any
	Limit  []*RowPolicy // and all of these
	// Columns has the treated columns; the others are clear.
	Columns map[access.ObjectID]Decision
}

// Untouched reports whether the policies leave the table as it is.
func (g *Governance) Untouched() bool {
	return !g.Closed && len(g.Allow) == 0 && len(g.Limit) == 0 && len(g.Columns) == 0
}

// A Decision says how one column appears, and why.
type Decision struct {
	Treatment Treatment       // Clear when REVEAL lifts what the policies would do
	By        []*ColumnPolicy // the policies that ask for it
	Lost      []*ColumnPolicy // those that a stricter one overrules
	Revealed  bool            // a grant of REVEAL shows the column in clear
	// Conflict says that By ask for one kind with different arguments; the
	// column is then suppressed.
	Conflict bool
}

// Govern works out what the live policies of a table mean for a session.
func (s *Set) Govern(st *access.Standing, table access.ObjectID) Governance {
	var g Governance
	allows := false
	for _, p := range s.rows[table] {
		switch {
		case p.Status != Live:
		case p.Mode == Allow:
			allows = true
			if p.gives(st) {
				g.Allow = append(g.Allow, p)
			}
		case p.takes(st):
			g.Limit = append(g.Limit, p)
		}
	}
	g.Closed = allows && len(g.Allow) == 0
	for _, p := range s.columns[table] {
		if p.Status != Live || !p.takes(st) {
			continue
		}
		for _, column := range p.Columns {
			if g.Columns == nil {
				g.Columns = map[access.ObjectID]Decision{}
			}
			g.Columns[column] = g.Columns[column].add(p)
		}
	}
	for column, d := range g.Columns {
		if st.Resolve(column).Allowed.Has(access.Reveal) {
			g.Columns[column] = Decision{Revealed: true, Lost: append(d.By, d.Lost...)}
		}
	}
	return g
}

// add brings one more policy to bear on a column: the strictest wins.
func (d Decision) add(p *ColumnPolicy) Decision {
	switch {
	case len(d.By) == 0:
		d.Treatment, d.By = p.Treatment, []*ColumnPolicy{p}
	case p.Treatment.Kind > d.By[0].Treatment.Kind:
		d.Lost = append(d.Lost, d.By...)
		d.Treatment, d.By, d.Conflict = p.Treatment, []*ColumnPolicy{p}, false
	case p.Treatment.Kind < d.By[0].Treatment.Kind:
		d.Lost = append(d.Lost, p)
	default:
		d.By = append(slices.Clip(d.By), p)
		if p.Treatment != d.By[0].Treatment {
			d.Conflict, d.Treatment = true, Treatment{Kind: Suppress}
		}
	}
	return d
}
