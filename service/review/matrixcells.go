package review

import (
	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"slices"
)

// at is the cell of an object; of one that is not there it is empty.
func at(st *platform.State, rights *access.Rights, id access.ObjectID) cell {
	if rights == nil || !st.Model.HasObject(id) {
		return cell{}
	}
	return cellOf(st, rights, id)
}

// A stratum is the state of one of the four bands of a cell.
type stratum uint8

const (
	none stratum = iota
	part
	whole
)

// A cell is how a subject stands to an object, as the band glyph has it: see [bandsOf].
type cell struct {
	door, verbs, rows, columns stratum
}

func (c cell) text() string {
	return string([]byte{'0' + byte(c.door), '0' + byte(c.verbs), '0' + byte(c.rows), '0' + byte(c.columns)})
}

// cellOf works a cell out without saying it in words, which for many is quicker by far.
func cellOf(st *platform.State, rights *access.Rights, id access.ObjectID) cell {
	o := st.Model.Object(id)
	switch {
	case o.Kind == access.Column:
		return columnCell(st, rights, o)
	case o.Kind.IsRelation():
		return relationCell(st, rights, o)
	}
	var all cell
	n := 0
	entered := rights.ShutDoor(id) == 0
	add := func(c cell) bool {
		if n++; n == 1 {
			all = c
			return true
		}
		all.door, all.verbs = mixed(all.door, c.door), mixed(all.verbs, c.verbs)
		all.rows, all.columns = mixed(all.rows, c.rows), mixed(all.columns, c.columns)
		return all.verbs != part || all.rows != part || all.columns != part // else it stays as it is
	}
	touched, wide := rights.Touched(id)
	if wide || o.Kind == access.Platform {
		st.Model.Relations(id, func(r *access.Object) bool { return add(relationCell(st, rights, r)) })
	} else {
		for _, r := range touched {
			if o := st.Model.Object(r); !o.Missing {
				add(relationCell(st, rights, o))
			}
		}
		st.Model.Relations(id, func(r *access.Object) bool { // any of the others stands for all of them
			if slices.Contains(touched, r.ID) {
				return true
			}
			add(cell{})
			return false
		})
	}
	switch {
	case n == 0:
		all = cell{}
		if entered && rights.Resolve(id).Allowed.Has(access.Usage) {
			all.door = whole
		}
	case o.Kind != access.Platform:
		if all.door = none; entered {
			all.door = whole
		}
	}
	return all
}

func mixed(a, b stratum) stratum {
	if a == b {
		return a
	}
	return part
}

func relationCell(st *platform.State, rights *access.Rights, o *access.Object) cell {
	v := rights.Resolve(o.ID)
	var c cell
	if len(v.Shut) == 0 {
		c.door = whole
	}
	writes := v.Allowed & access.Set(access.Insert, access.Update, access.Delete)
	if o.Kind == access.View {
		writes = 0
	}
	switch reads := v.Allowed.Has(access.Select); {
	case !reads && writes != 0:
		c.verbs = part
		return c
	case !reads:
		return c
	case writes != 0:
		c.verbs = whole
	default:
		c.verbs = part
	}
	if o.Kind == access.View {
		l := leftBy(&identity.Viewer{Rights: rights, State: st, Reviews: true}, o)
		c.rows, c.columns = strata[l.rows], strata[l.columns]
		return c
	}
	g := st.Policies.Govern(rights, o.ID)
	c.rows, c.columns = whole, whole
	if g.Closed || len(g.Gone) > 0 {
		c.rows = none
	} else if len(g.Allow)+len(g.Limit) > 0 {
		c.rows = part
	}
	if !v.Whole.Has(access.Select) || slices.ContainsFunc(o.Children, func(id access.ObjectID) bool { return g.Columns[id].Treatment.Kind != policy.Clear }) {
		c.columns = part
	}
	return c
}

var strata = map[string]stratum{full: whole, hatched: part, empty: none}

func columnCell(st *platform.State, rights *access.Rights, o *access.Object) cell {
	c := relationCell(st, rights, st.Model.Object(o.Parent))
	v := rights.Resolve(o.ID)
	reads, writes := v.Allowed.Has(access.Select), v.Allowed.Any(access.Set(access.Insert, access.Update))
	c.verbs = none
	if reads && writes {
		c.verbs = whole
	} else if reads || writes {
		c.verbs = part
	}
	if !reads {
		c.rows, c.columns = none, none
		return c
	}
	c.columns = whole
	if st.Policies.Govern(rights, o.Parent).Columns[o.ID].Treatment.Kind != policy.Clear {
		c.columns = part
	}
	return c
}
