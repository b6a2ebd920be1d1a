package access

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
	found, seen := map[ObjectID]*touched{}, map[ObjectID]bool{}
	for _, subject := range st.ids {
		for _, ref := range m.Subject(subject).grants {
			g := m.Grant(ref.grant)
			if !g.inForce(st.At) {
				continue
			}
			at := g.Object
			if m.Object(at).Kind == Column {
				at = m.Object(at).Parent
			}
			relation := m.Object(at).Kind.IsRelation()
			if relation && seen[at] || !relation && m.passed(g) == 0 && g.Pattern == "" {
				continue
			}
			seen[at] = true
			from := at // a container is touched itself
			if relation {
				from = m.Object(at).Parent
			}
			for up := from; up != PlatformID; up = m.Object(up).Parent {
				t := found[up]
				if t == nil {
					t = &touched{}
					found[up] = t
				}
				if relation {
					t.relations = append(t.relations, at)
				} else {
					t.wide = true
				}
			}
		}
	}
	return found
}
