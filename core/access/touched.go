package access

import (
	"cmp"
	"slices"

	"github.com/bits-and-blooms/bitset"
)

// Touched lists the relations below a container that grants in effect are on, or on whose columns they
// are; on the others nothing is held. Wide says that this is no answer: something is held on a container
// there, or comes from above, and reaches what is below.
func (st *Rights) Touched(id ObjectID) (relations []ObjectID, wide bool) {
	if f := st.flow(id); f.below != 0 || len(f.patterns) > 0 {
		return nil, true
	}
	places := st.places.Load()
	if places == nil {
		found := st.touch()
		places = &found
		st.places.Store(places)
	}
	if at := (*places)[id]; at != nil {
		return at.relations, at.wide
	}
	return nil, false
}

// touched is what grants touch below one container.
type touched struct {
	relations []ObjectID
	wide      bool
}

// touch works out what grants touch, container by container.
func (st *Rights) touch() map[ObjectID]*touched {
	m := st.Model
	found := map[ObjectID]*touched{}
	above := func(from ObjectID, f func(*touched)) {
		for up := from; up != PlatformID; up = m.Object(up).Parent {
			if found[up] == nil {
				found[up] = &touched{}
			}
			f(found[up])
		}
	}
	type place struct{ within, relation ObjectID }
	var places []place
	seen := bitset.New(uint(m.objects.size()))
	for _, subject := range st.ids {
		for _, ref := range m.Subject(subject).grants {
			g := m.Grant(ref.grant)
			if seen.Test(uint(ref.at)) || !g.inForce(st.At) {
				continue
			}
			o := m.Object(ref.at)
			if o.Kind.IsRelation() {
				places = append(places, place{o.Parent, o.ID})
			} else if m.passed(g) != 0 || g.Pattern != "" {
				above(o.ID, func(t *touched) { t.wide = true }) // a container is touched itself
			} else {
				continue
			}
			seen.Set(uint(ref.at))
		}
	}
	slices.SortFunc(places, func(a, b place) int { return cmp.Compare(a.within, b.within) })
	relations := make([]ObjectID, len(places))
	for i, p := range places {
		relations[i] = p.relation
	}
	for from := 0; from < len(places); { // those of one container together
		end := from + 1
		for end < len(places) && places[end].within == places[from].within {
			end++
		}
		above(places[from].within, func(t *touched) {
			if t.relations == nil {
				t.relations = relations[from:end:end]
			} else {
				t.relations = append(t.relations, relations[from:end]...)
			}
		})
		from = end
	}
	return found
}
