package access

import "slices"

// A Use is what of a standpoint's rights something needed: every grant that gave one of its privileges,
// or opened a door to it, and every membership on the way to one. Where two grants give the same, both
// are in it: taking either away leaves the other.
type Use struct {
	Grants      []GrantID
	Memberships []Taken
	Subjects    []SubjectID // the groups and roles on the way
}

// A Taken is one membership that was taken: of a subject in a group or role.
type Taken struct{ Member, Of SubjectID }

// Used works out what of the rights was needed for some privileges on objects, and for counting as
// some subjects, whom policies name.
func (st *Rights) Used(needs []Need, named []SubjectID) Use {
	m := st.Model
	var use Use
	ends := map[SubjectID]bool{}
	for _, id := range named {
		if id != st.Standpoint.Subject && id != PublicID && st.Counts(id) {
			ends[id] = true
		}
	}
	seen := map[GrantID]bool{}
	granting := func(p Privilege, object ObjectID) {
		for _, g := range st.Granting(p, object) {
			if !seen[g.ID] {
				seen[g.ID] = true
				use.Grants = append(use.Grants, g.ID)
				ends[g.Subject] = true
			}
		}
	}
	doors := map[ObjectID]bool{}
	for _, n := range needs {
		granting(n.Privilege, n.Object)
		on, count := m.doors(n.Object)
		for _, door := range on[:count] {
			if door != 0 && !doors[door] {
				doors[door] = true
				granting(Usage, door)
			}
		}
	}
	// What leads to them, walking the memberships backwards.
	for grown := true; grown; {
		grown = false
		for _, s := range st.steps {
			taken := Taken{s.from, s.to}
			if ends[s.to] && !slices.Contains(use.Memberships, taken) && s.to != PublicID {
				use.Memberships = append(use.Memberships, taken)
				grown = true
				ends[s.from] = true
			}
		}
	}
	for id := range ends {
		if id != st.Standpoint.Subject && id != PublicID {
			use.Subjects = append(use.Subjects, id)
		}
	}
	slices.Sort(use.Grants)
	slices.Sort(use.Subjects)
	slices.SortFunc(use.Memberships, func(a, b Taken) int {
		if a.Member != b.Member {
			return int(a.Member) - int(b.Member)
		}
		return int(a.Of) - int(b.Of)
	})
	return use
}
