package review

import (
	"fmt"
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
			return wire.Bands{Door: full, Verbs: empty, Rows: empty, Columns: empty, Says: "open: queries may run here"}
		}
		return wire.Bands{Door: empty, Verbs: empty, Rows: empty, Columns: empty, Says: "not open: no query may run here"}
	}
	if o.Kind == access.Routine {
		b := wire.Bands{Door: full, Verbs: empty, Rows: empty, Columns: empty, Says: "may be called"}
		switch {
		case p.ShutDoor(id) != 0:
			b.Door, b.Says = empty, "cannot be reached: a door above it is shut"
		case !p.Resolve(id).Allowed.Has(access.Execute):
			b.Says = "may not be called"
		default:
			b.Verbs = full
		}
		return b
	}
	if o.Kind == access.Label {
		says := fmt.Sprintf("about %s, %s", o.Topic, o.Level)
		if p.Reviews {
			says += "; on " + say.Count(len(p.State.Policies.Bearing(p.Model, id)), "column")
		}
		return wire.Bands{Door: empty, Verbs: empty, Rows: empty, Columns: empty, Says: says}
	}
	all := wire.Bands{}
	n, readable := 0, 0
	p.Model.Relations(id, func(r *access.Object) bool {
		if !p.Reviews && !p.Sees(r.ID) {
			return true // how many there are is not to be told either
		}
		b := relationBands(p, r)
		n++
		if b.Rows != empty || b.Columns != empty {
			readable++
		}
		if n == 1 {
			all = b
			return true
		}
		all.Door, all.Verbs = blend(all.Door, b.Door), blend(all.Verbs, b.Verbs)
		all.Rows, all.Columns = blend(all.Rows, b.Rows), blend(all.Columns, b.Columns)
		return true
	})
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
	doors := map[string]string{full: "can enter", hatched: "can enter some of it", empty: "can't enter"}[all.Door]
	all.Says = fmt.Sprintf("%s; %d of %d tables readable", doors, readable, n)
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
			b.Verbs, b.Says = hatched, "may "+writes.String()+"; does not read"
		case len(v.Shut) > 0 && v.Held.Has(access.Select):
			b.Says = "has SELECT, but can't enter " + p.Model.Path(v.Shut[0]) + ": USAGE is missing"
		case len(v.Shut) > 0:
			b.Says = "can't enter; no SELECT"
		default:
			b.Says = "can enter; no SELECT"
		}
		return b
	}
	b.Verbs, b.Says = hatched, "reads"
	if writes != 0 {
		b.Verbs, b.Says = full, "reads, and may "+writes.String()
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
			return left{empty, empty, "no rows: the view reads what may not be read"}
		}
		return left{hatched, hatched, "rows and columns as the policies of its tables allow"}
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
		return wire.Bands{Door: b.Door, Verbs: b.Verbs, Rows: empty, Columns: empty, Says: "not readable"}
	}
	d := p.State.Policies.Govern(p.Rights, o.Parent).Columns[o.ID]
	b.Columns, b.Says = full, "in clear"
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
		return "no rows: a column that a policy treats is gone from the source"
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
		return "no rows: no row policy allows any"
	case len(names) > 0 && !p.Reviews:
		return "some rows"
	case len(names) > 0:
		return "some rows, by " + strings.Join(names, ", ")
	}
	return "all rows"
}

func columnsSay(p *identity.Viewer, v access.Verdict, g policy.Governance) string {
	says := "all columns"
	if !v.Whole.Has(access.Select) {
		says = "columns " + strings.Join(shortNames(p, v.ColumnsWith(access.Select)), ", ")
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
		return says + " in clear"
	}
	return says + ", treated: " + strings.Join(parts, ", ")
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
		says += " for some rows"
	}
	return says
}
