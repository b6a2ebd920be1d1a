package guard

import (
	"slices"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// Next lists what breaks the guardrail in a state, where old is what breaks it in another of the same
// history, from which it differs by d. It costs what differs, as far as that can be told.
func (g *Guardrail) Next(old []Breach, before, after State, d *access.Delta) []Breach {
	until := before.Census.Until
	switch {
	case len(old) >= mostBreaches, d.Bundles, len(d.Structure()) > 0,
		!until.IsZero() && !after.Now.Before(until), after.Now.Before(before.Now):
		return g.Broken(after, nil, nil)
	case before.Policies != after.Policies && (g.Kind == Clear || g.Kind == Treated):
		return g.governed(old, before, after, d)
	}
	switch g.Kind {
	case Treated, Owned:
		return old
	case ToPublic, ToUsers, WithoutEnd, WholeSource:
		var grants []*access.Grant
		for _, id := range d.Grants {
			if grant := after.Model.GrantOf(id); grant != nil {
				grants = append(grants, grant)
			}
		}
		kept := slices.DeleteFunc(slices.Clone(old), func(b Breach) bool { return slices.Contains(d.Grants, b.Grant.ID) })
		return append(kept, g.Broken(after, []Pair{}, grants)...)
	case Clear:
		touched := reached(before, after, d)
		pairs := []Pair{}
		for id, all := range touched {
			for _, place := range all {
				pairs = append(pairs, Pair{id, place})
			}
		}
		kept := slices.DeleteFunc(slices.Clone(old), func(b Breach) bool {
			table := before.Model.Object(b.Object).Parent // tables are looked at as wholes
			return touched[b.Subject].concern(before.Model, table)
		})
		return append(kept, g.Broken(after, pairs, nil)...)
	}
	return g.Broken(after, nil, nil)
}

// governed is Next of states that differ in policies, where these matter.
func (g *Guardrail) governed(old []Breach, before, after State, d *access.Delta) []Breach {
	tables, known := policy.Changed(before.Policies, after.Policies)
	if !known || g.Kind == Treated || len(d.Grants)+len(d.Standing()) > 0 {
		return g.Broken(after, nil, nil)
	}
	about := func(table access.ObjectID) bool { return slices.Contains(tables, table) }
	kept := slices.DeleteFunc(slices.Clone(old), func(b Breach) bool { return about(before.Model.Object(b.Object).Parent) })
	c := &check{g: g, State: after, whole: true, about: about}
	c.clear()
	return append(kept, c.found...)
}

// reached is who, in the one state or the other, has something that differs, and at which places.
func reached(before, after State, d *access.Delta) map[access.SubjectID]places {
	states := []State{before, after}
	differ := map[access.SubjectID]places{}
	for _, id := range d.Standing() {
		differ[id] = differ[id].with(access.PlatformID)
	}
	for _, id := range d.Grants {
		for _, at := range states {
			if grant := at.Model.GrantOf(id); grant != nil {
				differ[grant.Subject] = differ[grant.Subject].with(grant.Object)
			}
		}
	}
	all := map[access.SubjectID]places{}
	for id, at := range differ {
		for _, st := range states {
			if st.Model.HasSubject(id) {
				st.Model.Actors(id, st.Now, func(s *access.Subject) bool {
					all[s.ID] = all[s.ID].with(at...)
					return true
				})
			}
		}
	}
	return all
}

// places are objects at which something differs, each with all that is below it.
type places []access.ObjectID

// concern reports whether what is given at one of the places can make a difference to an object.
func (p places) concern(m *access.Model, object access.ObjectID) bool {
	return slices.ContainsFunc(p, func(place access.ObjectID) bool {
		return m.Object(place).Kind == access.Label || m.Within(place, object) || m.Within(object, place)
	})
}

func (p places) with(ids ...access.ObjectID) places {
	for _, id := range ids {
		if !slices.Contains(p, id) {
			p = append(p, id)
		}
	}
	return p
}
