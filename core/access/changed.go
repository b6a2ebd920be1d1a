package access

import "reflect"

// A Delta is what differs between two models, of which the second was made from the first by
// changes, or the first from the second.
type Delta struct {
	Objects  []ObjectID
	Subjects []SubjectID
	Grants   []GrantID
	Bundles  bool

	a, b *Model
}

// Structure lists the objects that differ otherwise than by the grants on them.
func (d *Delta) Structure() []ObjectID {
	return differ(d.Objects, d.a.ObjectOf, d.b.ObjectOf, func(o Object) Object {
		o.grants, o.edit = nil, nil
		return o
	})
}

// Standing lists the subjects that differ otherwise than by their grants, and by who is in them.
func (d *Delta) Standing() []SubjectID {
	return differ(d.Subjects, d.a.SubjectOf, d.b.SubjectOf, func(s Subject) Subject {
		s.Members, s.grants, s.ending, s.edit = nil, nil, nil, nil
		return s
	})
}

// differ lists the ids of what differs once it is bared.
func differ[ID, T any](ids []ID, a, b func(ID) *T, bare func(T) T) []ID {
	var out []ID
	for _, id := range ids {
		before, after := a(id), b(id)
		if before != after && (before == nil || after == nil || !reflect.DeepEqual(bare(*before), bare(*after))) {
			out = append(out, id)
		}
	}
	return out
}

// Changed finds what differs between two models of one history. Parts that they share are passed
// over, so that it costs what differs.
func Changed(a, b *Model) Delta {
	d := Delta{a: a, b: b}
	differing(&a.objects, &b.objects, func(i int) { d.Objects = append(d.Objects, ObjectID(i)) })
	differing(&a.subjects, &b.subjects, func(i int) { d.Subjects = append(d.Subjects, SubjectID(i)) })
	differing(&a.grants, &b.grants, func(i int) { d.Grants = append(d.Grants, GrantID(i)) })
	d.Bundles = len(a.bundles) != len(b.bundles)
	for i := range min(len(a.bundles), len(b.bundles)) {
		d.Bundles = d.Bundles || a.bundles[i] != b.bundles[i]
	}
	return d
}

// differing calls f for the places, from 1, at which two vectors have different items.
func differing[T comparable](a, b *vector[T], f func(int)) {
	var none T
	for at := 0; at < max(a.n, b.n); at += pageSize {
		n := at / pageSize
		if n < len(a.pages) && n < len(b.pages) && a.pages[n] == b.pages[n] && min(a.n, b.n) >= at+pageSize {
			continue
		}
		for i := max(at, 1); i < min(at+pageSize, max(a.n, b.n)); i++ {
			left, right := none, none
			if i < a.n {
				left = a.at(i)
			}
			if i < b.n {
				right = b.at(i)
			}
			if left != right {
				f(i)
			}
		}
	}
}

// GrantOf is the grant of an id where the model has it and it is not revoked; else nil.
func (m *Model) GrantOf(id GrantID) *Grant {
	if int(id) >= m.grants.size() || m.grants.at(int(id)).Revoked {
		return nil
	}
	return m.grants.at(int(id))
}

// SubjectOf is the subject of an id where the model has it; else nil.
func (m *Model) SubjectOf(id SubjectID) *Subject {
	if !m.HasSubject(id) {
		return nil
	}
	return m.Subject(id)
}

// ObjectOf is the object of an id where the model has it; else nil.
func (m *Model) ObjectOf(id ObjectID) *Object {
	if !m.HasObject(id) {
		return nil
	}
	return m.Object(id)
}

// KnowsSubject reports whether the id is, or was, that of a subject of this model.
func (m *Model) KnowsSubject(id SubjectID) bool { return id > 0 && int(id) < m.subjects.size() }
