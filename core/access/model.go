package access

import "time"

// A Model is the state of the access model at one revision. It never changes.
type Model struct {
	objects  vector[*Object] // by ObjectID; slot 0 is empty
	subjects vector[*Subject]
	grants   vector[*Grant]
	byRef    *index[SubjectID]

	administered bool // a user has been administrator; see checkAdministrator
}

// New returns a platform on which nothing is shared yet: the root object,
// PUBLIC, and the two built-in roles. The administrator role holds ALL on the
// platform with the right to grant it on; the auditor role reads the record and
// the structure, and no data.
func New() *Model {
	m := &Model{byRef: &index[SubjectID]{}}
	m.objects = m.objects.push(nil).push(&Object{ID: PlatformID, Kind: Platform, Name: "platform"})
	m.subjects = m.subjects.push(nil).push(&Subject{ID: PublicID, Kind: Public, Title: "everyone"})
	m.byRef = m.byRef.with("public", PublicID)
	m.grants = m.grants.push(nil)
	for _, c := range []Change{
		AddSubject{Subject: Administrator, Title: "everything on the platform"},
		AddSubject{Subject: "role:auditor", Title: "the record and the structure, no data"},
		AddGrant{Privilege: "ALL", Object: "platform", Subject: Administrator, Option: true},
		AddGrant{Privilege: "AUDIT", Object: "platform", Subject: "role:auditor"},
		AddGrant{Privilege: "DESCRIBE", Object: "platform", Subject: "role:auditor"},
	} {
		next, err := m.Apply(c, time.Time{})
		if err != nil {
			panic("access: the built-in roles do not apply: " + err.Error())
		}
		m = next
	}
	return m
}

// Administrator is the built-in role that the last administrator cannot lose.
const Administrator = "role:administrator"

// setObject, setSubject and setGrant put a changed copy in place of an entry.
// They are called on a model that nobody else has yet.
func (m *Model) setObject(o Object)   { m.objects = m.objects.set(int(o.ID), &o) }
func (m *Model) setSubject(s Subject) { m.subjects = m.subjects.set(int(s.ID), &s) }
func (m *Model) setGrant(g Grant)     { m.grants = m.grants.set(int(g.ID), &g) }
