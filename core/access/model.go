package access

import (
	"slices"
	"time"
)

// A Model is the state of the access model at one revision. It never changes.
type Model struct {
	objects  vector[*Object] // by ObjectID; slot 0 is empty
	subjects vector[*Subject]
	grants   vector[*Grant]
	byRef    *index[SubjectID]
	lanes    []ObjectID  // by name
	labels   []ObjectID  // by name
	views    []ObjectID  // all that ever were
	givenOn  []SubjectID // that have, or had, a role which was given on
	bundles  []*Bundle   // by BundleID; slot 0 is empty; removed ones are nil

	administered bool  // a user has been administrator; see checkAdministrator
	edit         *edit // while changes are applied
}

// The built-in subjects and lane.
const (
	Administrator = "role:administrator" // the last one cannot lose it
	Auditor       = "role:auditor"
	FirstLane     = "interactive"
)

// New returns a platform on which nothing is shared yet: the root object, a
// lane, PUBLIC, the built-in bundles and the two built-in roles. The
// administrator role holds ALL on the platform with the right to grant it on;
// the auditor role reads the record and the structure, and no data.
func New() *Model {
	m := &Model{byRef: &index[SubjectID]{}, edit: new(edit), bundles: []*Bundle{nil}}
	m.objects.push(m.edit, nil)
	m.objects.push(m.edit, &Object{ID: PlatformID, Kind: Platform, Name: "platform"})
	m.subjects.push(m.edit, nil)
	m.subjects.push(m.edit, &Subject{ID: PublicID, Kind: Public, Title: "everyone"})
	m.byRef = m.byRef.with(m.edit, "public", PublicID)
	m.grants.push(m.edit, nil)
	m.edit = nil
	m, err := m.Apply(time.Time{},
		AddSubject{Subject: Administrator, Title: "everything on the platform"},
		AddSubject{Subject: Auditor, Title: "the record and the structure, no data"},
		AddGrant{Privilege: "ALL", Object: "platform", Subject: Administrator, Option: true},
		AddGrant{Privilege: "AUDIT", Object: "platform", Subject: Auditor},
		AddGrant{Privilege: "DESCRIBE", Object: "platform", Subject: Auditor},
		PutLane{Lane: FirstLane, Limits: Limits{Queries: 16, Seconds: 30, Rows: 10_000, Bytes: 64 << 20}},
		PutBundle{Bundle: "reader", Privileges: []string{"USAGE", "SELECT", "DESCRIBE"}},
		PutBundle{Bundle: "writer", Privileges: []string{"USAGE", "SELECT", "DESCRIBE", "INSERT", "UPDATE", "DELETE"}},
		PutBundle{Bundle: "keeper", Privileges: []string{"USAGE", "SELECT", "DESCRIBE", "INSERT", "UPDATE", "DELETE", "CREATE", "MANAGE", "REVEAL"}},
	)
	if err != nil {
		panic("access: the built-in roles do not apply: " + err.Error())
	}
	return m
}

// setObject, setSubject and setGrant put a changed copy in place of an entry.
// They are called on a model that nobody else has yet.
func (m *Model) setObject(o Object)   { m.objects.set(m.edit, int(o.ID), &o) }
func (m *Model) setSubject(s Subject) { m.subjects.set(m.edit, int(s.ID), &s) }

// ownObject is an object that may be written to, and whose lists may grow, in place: nobody else
// has it. A list that others have as well is taken without its room, so that to grow copies it.
func (m *Model) ownObject(id ObjectID) *Object {
	if o := m.Object(id); o.edit == m.edit {
		return o
	}
	o := *m.Object(id)
	o.edit, o.Children, o.grants = m.edit, slices.Clip(o.Children), slices.Clip(o.grants)
	m.setObject(o)
	return m.Object(id)
}

// ownSubject is ownObject for a subject.
func (m *Model) ownSubject(id SubjectID) *Subject {
	if s := m.Subject(id); s.edit == m.edit {
		return s
	}
	s := *m.Subject(id)
	s.edit, s.Members, s.grants, s.ending = m.edit, slices.Clip(s.Members), slices.Clip(s.grants), slices.Clip(s.ending)
	m.setSubject(s)
	return m.Subject(id)
}

// Len counts the objects, subjects and grants that the model keeps, with those
// that are gone and whose ids stay taken.
func (m *Model) Len() (objects, subjects, grants int) {
	return m.objects.size() - 1, m.subjects.size() - 1, m.grants.size() - 1
}
