package review

import (
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/wire"
)

// The states of a stratum of the band glyph.
const (
	full    = "full"
	hatched = "hatched"
	empty   = "empty"
)

// bandsOf says how a standpoint stands to an object. Of a container, a stratum is
// full when it is so for all relations below, and empty when it is so for all.
func bandsOf(p *identity.Viewer, id access.ObjectID) wire.Bands {
	o := p.Model.Object(id)
	if o.Kind == access.Column {
		return columnBands(p, o)
	}
	if o.Kind.IsRelation() {
		return relationBands(p, o)
	}
	if o.Kind == access.Lane {
		if p.Resolve(id).Allowed.Has(access.Usage) {
			return wire.Bands{Door: full, Verbs: empty, Rows: empty, Columns: empty, Says: say.LaneOpen.With()}
		}
		return wire.Bands{Door: empty, Verbs: empty, Rows: empty, Columns: empty, Says: say.LaneShut.With()}
	}
	if o.Kind == access.Routine {
		b := wire.Bands{Door: full, Verbs: empty, Rows: empty, Columns: empty, Says: say.Callable.With()}
		switch {
		case p.ShutDoor(id) != 0:
			b.Door, b.Says = empty, say.DoorAboveShut.With()
		case !p.Resolve(id).Allowed.Has(access.Execute):
			b.Says = say.NotCallable.With()
		default:
			b.Verbs = full
		}
		return b
	}
	if o.Kind == access.Label {
		says := say.About.With(o.Topic, o.Level)
		if p.Reviews {
			says += say.OnColumns.With(say.Count(len(p.State.Policies.Bearing(p.Model, id)), "column"))
		}
		return wire.Bands{Door: empty, Verbs: empty, Rows: empty, Columns: empty, Says: says}
	}
	all := wire.Bands{}
	n, readable := 0, 0
	add := func(b wire.Bands) {
		n++
		if b.Rows != empty || b.Columns != empty {
			readable++
		}
		if n == 1 {
			all = b
			return
		}
		all.Door, all.Verbs = blend(all.Door, b.Door), blend(all.Verbs, b.Verbs)
		all.Rows, all.Columns = blend(all.Rows, b.Rows), blend(all.Columns, b.Columns)
	}
	if touched, wide := p.Touched(id); p.Reviews && !wide && o.Kind != access.Platform {
		for _, r := range touched {
			if r := p.Model.Object(r); !r.Missing {
				add(relationBands(p, r))
			}
		}
		if others := p.State.CountRelations(id) - n; others > 0 { // on which nothing is held
			add(wire.Bands{Door: empty, Verbs: empty, Rows: empty, Columns: empty})
			n += others - 1
		}
	} else {
		p.Model.Relations(id, func(r *access.Object) bool {
			if p.Reviews || p.Sees(r.ID) { // how many others there are is not to be told either
				add(relationBands(p, r))
			}
			return true
		})
	}
	if n == 0 {
		all = wire.Bands{Door: empty, Verbs: empty, Rows: empty, Columns: empty}
		if p.ShutDoor(id) == 0 && p.Resolve(id).Allowed.Has(access.Usage) {
			all.Door = full
		}
	} else if o.Kind != access.Platform {
		all.Door = full
		if p.ShutDoor(id) != 0 {
			all.Door = empty
		}
	}
	doors := map[string]say.Sentence{full: say.Enters, hatched: say.EntersSome, empty: say.CannotEnter}[all.Door].With()
	all.Says = say.Readable.With(doors, readable, n)
	return all
}

// blend joins the states of two objects: what they share, else hatched.
func blend(a, b string) string {
	if a == b {
		return a
	}
	return hatched
}

func relationBands(p *identity.Viewer, o *access.Object) wire.Bands {
	v := p.Resolve(o.ID)
	b := wire.Bands{Door: full, Verbs: empty, Rows: empty, Columns: empty}
	if len(v.Shut) > 0 {
		b.Door = empty
	}
	writes := v.Allowed & access.Set(access.Insert, access.Update, access.Delete)
	if o.Kind == access.View {
		writes = 0 // nothing is written through a view
	}
	if !v.Allowed.Has(access.Select) {
		switch {
		case writes != 0:
			b.Verbs, b.Says = hatched, say.WritesOnly.With(writes)
		case len(v.Shut) > 0 && v.Held.Has(access.Select):
			b.Says = say.SelectBehindDoor.With(p.Model.Path(v.Shut[0]))
		case len(v.Shut) > 0:
			b.Says = say.NeitherDoorNorSelect.With()
		default:
			b.Says = say.NoSelect.With()
		}
		return b
	}
	b.Verbs, b.Says = hatched, say.Reads.With()
	if writes != 0 {
		b.Verbs, b.Says = full, say.ReadsAndWrites.With(writes)
	}
	l := leftBy(p, o)
	b.Rows, b.Columns = l.rows, l.columns
	b.Says += "; " + l.says
	return b
}

// left is what policies and grants of columns leave to who reads a relation.
type left struct {
	rows, columns string // states of their strata
	says          string
}

func leftBy(p *identity.Viewer, o *access.Object) left {
	if o.Kind == access.View {
		if err := viewTrouble(p, o); err != nil {
			return left{empty, empty, say.ViewTrouble.With()}
		}
		return left{hatched, hatched, say.AsTablesAllow.With()}
	}
	v, g := p.Resolve(o.ID), p.State.Policies.Govern(p.Rights, o.ID)
	out := left{full, full, rowsSay(p, g) + "; " + columnsSay(p, v, g)}
	if g.Closed || len(g.Gone) > 0 {
		out.rows = empty
	} else if len(g.Allow)+len(g.Limit) > 0 {
		out.rows = hatched
	}
	for _, id := range treated(g) {
		if p.Reviews || g.Columns[id].Treatment.Kind != policy.Absent {
			out.columns = hatched
		}
	}
	if !v.Whole.Has(access.Select) {
		out.columns = hatched
	}
	return out
}

func columnBands(p *identity.Viewer, o *access.Object) wire.Bands {
	b := relationBands(p, p.Model.Object(o.Parent))
	v := p.Resolve(o.ID)
	b.Verbs = empty
	switch writes := v.Allowed.Any(access.Set(access.Insert, access.Update)); {
	case v.Allowed.Has(access.Select) && writes:
		b.Verbs = full
	case v.Allowed.Has(access.Select) || writes:
		b.Verbs = hatched
	}
	if !v.Allowed.Has(access.Select) {
		return wire.Bands{Door: b.Door, Verbs: b.Verbs, Rows: empty, Columns: empty, Says: say.NotReadable.With()}
	}
	d := p.State.Policies.Govern(p.Rights, o.Parent).Columns[o.ID]
	b.Columns, b.Says = full, say.InClear.With()
	if d.Treatment.Kind != policy.Clear {
		b.Columns, b.Says = hatched, TreatmentSays(d)
	}
	return b
}

func treated(g policy.Governance) []access.ObjectID {
	var ids []access.ObjectID
	for id, d := range g.Columns {
		if d.Treatment.Kind != policy.Clear {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}

func rowsSay(p *identity.Viewer, g policy.Governance) string {
	if len(g.Gone) > 0 {
		return say.ColumnGone.With()
	}
	return rulesSay(p, &g.Rules)
}

func rulesSay(p *identity.Viewer, g *policy.Rules) string {
	var names []string
	for _, r := range g.All() {
		names = append(names, r.Name)
	}
	switch {
	case g.Closed:
		return say.NoRowAllowed.With()
	case len(names) > 0 && !p.Reviews:
		return say.SomeRows.With()
	case len(names) > 0:
		return say.SomeRowsBy.With(strings.Join(names, ", "))
	}
	return say.AllRows.With()
}

func columnsSay(p *identity.Viewer, v access.Verdict, g policy.Governance) string {
	says := say.AllColumns.With()
	if !v.Whole.Has(access.Select) {
		says = say.SomeColumns.With(strings.Join(shortNames(p, v.ColumnsWith(access.Select)), ", "))
	}
	ids := treated(g)
	var parts []string
	for _, id := range ids {
		if g.Columns[id].Treatment.Kind == policy.Absent && !p.Reviews {
			continue // it does not exist here
		}
		parts = append(parts, p.Model.Object(id).Name+" "+TreatmentSays(g.Columns[id]))
	}
	if len(parts) == 0 {
		return say.ColumnsInClear.With(says)
	}
	return say.ColumnsTreated.With(says, strings.Join(parts, ", "))
}

func shortNames(p *identity.Viewer, ids []access.ObjectID) []string {
	names := make([]string, len(ids))
	for i, id := range ids {
		names[i] = p.Model.Object(id).Name
	}
	return names
}

// TreatmentSays says how a column appears.
func TreatmentSays(d policy.Decision) string {
	says := d.Treatment.Says()
	if d.Partly() {
		says = say.ForSomeRows.With(says)
	}
	return says
}
