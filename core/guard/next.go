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
	case len(old) >= MostBreaches, d.Bundles, len(d.Structure()) > 0,
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
		pairs := differing(before, after, d)
		kept := slices.DeleteFunc(slices.Clone(old), func(b Breach) bool {
			table := before.Model.Object(b.Object).Parent // tables are looked at as wholes
			return slices.ContainsFunc(pairs, func(p Pair) bool {
				return places{p.Object}.concern(before.Model, table) && after.has(b.Subject, p.Subject)
			})
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

// differing lists the subjects that differ between two states, each with the object at or below which that matters.
// Those who have such a subject need not be listed: where a membership changed, its member is.
func differing(before, after State, d *access.Delta) []Pair {
	pairs := []Pair{} // not nil, which would mean everything
	put := func(p Pair) {
		if !slices.Contains(pairs, p) {
			pairs = append(pairs, p)
		}
	}
	for _, id := range d.Standing() {
		put(Pair{id, access.PlatformID})
	}
	for _, id := range d.Grants {
		for _, m := range []*access.Model{before.Model, after.Model} {
			if grant := m.GrantOf(id); grant != nil {
				put(Pair{grant.Subject, grant.Object})
			}
		}
	}
	return pairs
}

// has reports whether one subject is, or is a member or holder of, another.
func (st *State) has(one, other access.SubjectID) bool {
	return st.Model.HasSubject(one) && st.Model.HasSubject(other) && st.Census.Holders(other).Test(uint(one))
}

// places are objects at which something differs, each with all that is below it.
type places []access.ObjectID

// concern reports whether what is given at one of the places can make a difference to an object.
func (p places) concern(m *access.Model, object access.ObjectID) bool {
	return slices.ContainsFunc(p, func(place access.ObjectID) bool {
		return m.Object(place).Kind == access.Label || m.Within(place, object) || m.Within(object, place)
	})
}
