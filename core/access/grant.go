package access

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// A GrantID names a grant for as long as the platform exists.
type GrantID uint32

// A Grant gives one privilege, or a bundle of them, on one target to one
// subject. Grants by two grantors are two grants. The owner of an object has
// grants of its own making: ALL on the object, and USAGE on the doors to it.
type Grant struct {
	ID        GrantID
	Privilege Privilege // zero where Bundle is given
	Bundle    BundleID
	Target
	Subject SubjectID
	Grantor SubjectID // zero: built in, or the owner's
	Owned   ObjectID  // of the owner's grants: what is owned
	Basis   GrantID   // what the grantor was entitled by; zero: it needs none
	Option  bool      // WITH GRANT OPTION
	Lapsed  bool      // the basis is gone, and nothing took its place
	Revoked bool      // kept so that ids stay what they were
	At      time.Time
	Until   time.Time // zero: without end
	Reason  string
	Ticket  string

	ends time.Time // the earliest end of this grant and what it depends on
}

// inForce reports whether the grant and all it depends on hold at a moment.
func (g *Grant) inForce(now time.Time) bool {
	return !g.Revoked && !g.Lapsed && !ended(g.ends, now)
}

// sameKey reports whether two grants are one: granting the second again changes
// the first.
func (g *Grant) sameKey(h *Grant) bool {
	return g.Privilege == h.Privilege && g.Bundle == h.Bundle && g.Target == h.Target && g.Subject == h.Subject && g.Owned == h.Owned
}

// Gives is what a grant brings where its privileges apply.
func (m *Model) Gives(g *Grant) Privileges {
	if g.Bundle != 0 {
		return m.bundles[g.Bundle].Privileges
	}
	return carried(g.Privilege)
}

// GrantName is the privilege or the bundle that a grant gives, as it is written.
func (m *Model) GrantName(g *Grant) string {
	if g.Bundle != 0 {
		return m.bundles[g.Bundle].Name
	}
	return g.Privilege.String()
}

// Grant returns the grant with the id, which must be one of this model's.
func (m *Model) Grant(id GrantID) *Grant { return m.grants.at(int(id)) }

// GrantsOn lists the grants on the object itself, and on patterns that stand in
// it, oldest first.
func (m *Model) GrantsOn(id ObjectID) []*Grant {
	var out []*Grant
	for _, g := range m.Object(m.countsAt(id)).grants {
		if g := m.Grant(g); g.Object == id {
			out = append(out, g)
		}
	}
	return out
}

// countsAt is where a grant on the object counts: at the object, and for a
// column at its relation.
func (m *Model) countsAt(id ObjectID) ObjectID {
	if o := m.Object(id); o.Kind == Column {
		return o.Parent
	}
	return id
}

// GrantsTo lists the grants to the subject itself, oldest first.
func (m *Model) GrantsTo(id SubjectID) []*Grant {
	refs := m.Subject(id).grants
	out := make([]*Grant, len(refs))
	for i, r := range refs {
		out[i] = m.Grant(r.grant)
	}
	slices.SortFunc(out, func(a, b *Grant) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

// CountGrantsTo counts the grants to the subject itself.
func (m *Model) CountGrantsTo(id SubjectID) int { return len(m.Subject(id).grants) }

// EachGrant calls f for every grant, oldest first.
func (m *Model) EachGrant(f func(*Grant)) {
	for i := 1; i < m.grants.size(); i++ {
		if g := m.grants.at(i); !g.Revoked {
			f(g)
		}
	}
}

// GrantsAfter calls f for every grant after the one with the id, oldest first,
// until f returns false.
func (m *Model) GrantsAfter(id GrantID, f func(*Grant) bool) {
	for i := int(id) + 1; i < m.grants.size(); i++ {
		if g := m.grants.at(i); !g.Revoked && !f(g) {
			return
		}
	}
}

// Grants lists all grants, oldest first.
func (m *Model) Grants() []*Grant {
	out := make([]*Grant, 0, m.grants.size())
	m.EachGrant(func(g *Grant) { out = append(out, g) })
	return out
}

// A grantRef finds a subject's grants by where they count: at their object, and
// for a column at its relation.
type grantRef struct {
	at    ObjectID
	grant GrantID
}

func compareRefs(a, b grantRef) int {
	return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.grant, b.grant))
}

func (m *Model) refOf(g *Grant) grantRef {
	return grantRef{m.countsAt(g.Object), g.ID}
}

// refsAt returns the part of a sorted list that counts at the object.
func refsAt(refs []grantRef, at ObjectID) []grantRef {
	lo, hi := 0, len(refs)
	for lo < hi {
		if mid := int(uint(lo+hi) >> 1); refs[mid].at < at {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	for hi = lo; hi < len(refs) && refs[hi].at == at; hi++ {
	}
	return refs[lo:hi]
}

// reaches reports whether g, if it took effect, would give p on the object: at it,
// above it, or on the column itself.
func (m *Model) reaches(g *Grant, p Privilege, object ObjectID) bool {
	if !m.Gives(g).Has(p) {
		return false
	}
	if p == Usage && g.Privilege != All {
		return g.Pattern == "" && g.Object == object || g.Pattern != "" && m.named(g.Target, object) == object
	}
	return m.Covers(g.Target, object)
}

// ParseRight reads the name of a privilege or of a bundle.
func (m *Model) ParseRight(name string) (Privilege, BundleID, error) {
	p, err := ParsePrivilege(name)
	if err == nil {
		return p, 0, nil
	}
	if b, berr := m.FindBundle(name); berr == nil {
		return 0, b.ID, nil
	}
	known := PrivilegeNames()
	for _, b := range m.Bundles() {
		known = append(known, b.Name)
	}
	return 0, 0, &NotFound{Kind: "privilege or bundle", Name: name, Known: known}
}

// addGrant puts a new grant in its places.
func (m *Model) addGrant(g Grant) {
	g.ID = GrantID(m.grants.size())
	m.grants.push(m.edit, &g)
	on, to := m.ownObject(m.countsAt(g.Object)), m.ownSubject(g.Subject)
	on.grants = append(on.grants, g.ID)
	ref := m.refOf(&g)
	at, _ := slices.BinarySearchFunc(to.grants, ref, compareRefs)
	to.grants = slices.Insert(to.grants, at, ref)
	if !g.ends.IsZero() {
		to.ending = append(to.ending, g.ID)
	}
}

// setGrant puts a changed grant in place, and keeps the list of what ends.
func (m *Model) setGrant(g Grant) {
	m.grants.set(m.edit, int(g.ID), &g)
	s := m.Subject(g.Subject)
	ending := !g.Revoked && !g.ends.IsZero()
	if slices.Contains(s.ending, g.ID) == ending {
		return
	}
	next := *s
	if ending {
		next.ending = inserted(s.ending, len(s.ending), g.ID)
	} else {
		next.ending = lacking(s.ending, func(id GrantID) bool { return id == g.ID })
	}
	m.setSubject(next)
}

// dropGrant takes a grant out of its places.
func (m *Model) dropGrant(g *Grant) {
	on, to, ref := *m.Object(m.countsAt(g.Object)), *m.Subject(g.Subject), m.refOf(g)
	on.grants = lacking(on.grants, func(id GrantID) bool { return id == g.ID })
	to.grants = lacking(to.grants, func(r grantRef) bool { return r == ref })
	m.setObject(on)
	m.setSubject(to)
	gone := *g
	gone.Revoked = true
	m.setGrant(gone)
}

// describe writes a grant as it is read: SELECT on survey.drilling to role:x.
func (m *Model) describe(g *Grant) string {
	return m.GrantName(g) + " on " + m.Target(g.Target) + " to " + m.Ref(g.Subject)
}

func (m *Model) describeAll(grants []*Grant) string {
	const most = 10
	var parts []string
	for _, g := range grants[:min(len(grants), most)] {
		parts = append(parts, m.describe(g)+" by "+m.Ref(g.Grantor))
	}
	if len(grants) > most {
		parts = append(parts, "and more")
	}
	return strings.Join(parts, "; ")
}
