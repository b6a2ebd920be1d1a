package access

import (
	"fmt"
	"slices"
)

// A Snapshot is all of a model in plain values, for keeping it in a file: what
// the model works out from them is not in it.
type Snapshot struct {
	Objects      []Object // from ObjectID 1
	Subjects     []Subject
	Grants       []Grant
	Bundles      []Bundle // without a name: removed
	Lanes        []ObjectID
	Labels       []ObjectID
	Administered bool
}

// Snapshot takes the model apart.
func (m *Model) Snapshot() *Snapshot {
	s := &Snapshot{Lanes: m.lanes, Labels: m.labels, Administered: m.administered}
	for i := 1; i < m.objects.size(); i++ {
		o := *m.objects.at(i)
		o.grants = nil
		s.Objects = append(s.Objects, o)
	}
	for i := 1; i < m.subjects.size(); i++ {
		subject := *m.subjects.at(i)
		subject.grants, subject.ending = nil, nil
		s.Subjects = append(s.Subjects, subject)
	}
	for i := 1; i < m.grants.size(); i++ {
		s.Grants = append(s.Grants, *m.grants.at(i))
	}
	for _, b := range m.bundles[1:] {
		if b == nil {
			b = &Bundle{}
		}
		s.Bundles = append(s.Bundles, *b)
	}
	return s
}

// Restore puts a model together again. It is refused where the parts do not fit
// each other.
func Restore(s *Snapshot) (m *Model, err error) {
	defer func() {
		if r := recover(); r != nil {
			m, err = nil, fmt.Errorf("the snapshot does not fit together: %v", r)
		}
	}()
	e := new(edit)
	m = &Model{edit: e, byRef: &index[SubjectID]{}, bundles: []*Bundle{nil}, lanes: s.Lanes, labels: s.Labels, administered: s.Administered}
	m.objects.push(e, nil)
	for i := range s.Objects {
		m.objects.push(e, &s.Objects[i])
		if o := &s.Objects[i]; o.Kind == View {
			m.views = append(m.views, o.ID)
		}
	}
	m.subjects.push(e, nil)
	for i := range s.Subjects {
		subject := &s.Subjects[i]
		m.subjects.push(e, subject)
		if slices.ContainsFunc(subject.Memberships, func(x Membership) bool { return x.Passed }) {
			m.givenOn = append(m.givenOn, subject.ID)
		}
		if !subject.Removed {
			m.byRef = m.byRef.with(e, subject.Ref(), subject.ID)
		}
	}
	for i := range s.Bundles {
		b := &s.Bundles[i]
		if b.Name == "" {
			b = nil
		}
		m.bundles = append(m.bundles, b)
	}
	m.grants.push(e, nil)
	for i := range s.Grants {
		m.grants.push(e, &s.Grants[i])
	}
	for i := range s.Grants {
		m.replace(&s.Grants[i])
	}
	for i := range s.Subjects {
		slices.SortFunc(s.Subjects[i].grants, compareRefs)
	}
	m.edit = nil
	return m, nil
}

// replace puts a grant of a snapshot back in its places.
func (m *Model) replace(g *Grant) {
	g.ends = g.Until
	for b := g.Basis; b != 0; b = m.Grant(b).Basis {
		g.ends = earliest(g.ends, m.Grant(b).Until)
	}
	if g.Revoked {
		return
	}
	on, to := m.Object(m.countsAt(g.Object)), m.Subject(g.Subject)
	on.grants = append(on.grants, g.ID)
	to.grants = append(to.grants, m.refOf(g))
	if !g.ends.IsZero() {
		to.ending = append(to.ending, g.ID)
	}
}
