package access

import (
	"fmt"
	"time"
)

// Whoever holds a privilege with grant option may grant it on, at or below
// where it is held; whoever holds MANAGE at or above may grant there. The grant
// that entitles is the basis of the one that is made, and a grant depends on its
// basis: as in ISO/IEC 9075-2 4.42 (authorization identifiers and privileges),
// it is what was granted to the role that counts, not who is in the role, so
// that grants outlive their grantor's changing desks.

// Entitling returns the grant by which a subject may give the right on the
// target at a moment, the most lasting one; nil where there is none.
func (m *Model) Entitling(grantor SubjectID, gives Privileges, t Target, now time.Time) *Grant {
	return m.entitling(grantor, gives, t, now, func(*Grant) bool { return true })
}

// entitling looks among the grants that are usable.
func (m *Model) entitling(grantor SubjectID, gives Privileges, t Target, now time.Time, usable func(*Grant) bool) *Grant {
	if m.Subject(grantor).Removed {
		return nil
	}
	var best *Grant
	m.upward(grantor, now, func(s *Subject) {
		for at := t.Object; ; at = m.Object(at).Parent {
			for _, ref := range refsAt(s.grants, at) {
				g := m.Grant(ref.grant)
				if g.inForce(now) && m.entitles(g, gives, t) && usable(g) && (best == nil || lasts(g, best)) {
					best = g
				}
			}
			if at == PlatformID {
				return
			}
		}
	})
	return best
}

// lasts prefers what has no end, then what came with the platform or an owner,
// then the older one.
func lasts(a, b *Grant) bool {
	if a.ends.IsZero() != b.ends.IsZero() {
		return a.ends.IsZero()
	}
	if (a.Basis == 0) != (b.Basis == 0) {
		return a.Basis == 0
	}
	return a.ID < b.ID
}

// entitles reports whether g lets its holder give a set of privileges on a
// target.
func (m *Model) entitles(g *Grant, gives Privileges, t Target) bool {
	has := m.Gives(g)
	if !m.coversTarget(g, t) {
		return false
	}
	if has.Has(Manage) {
		return true
	}
	if !g.Option || has&gives != gives {
		return false
	}
	return !gives.Has(Usage) || g.Privilege == All || g.Target == t
}

// coversTarget reports whether all that t can stand for is covered by g.
func (m *Model) coversTarget(g *Grant, t Target) bool {
	return g.Target == t || m.Covers(g.Target, t.Object)
}

// restsOn reports whether g is or depends on the grant with the id.
func (m *Model) restsOn(g *Grant, id GrantID) bool {
	for ; ; g = m.Grant(g.Basis) {
		if g.ID == id {
			return true
		}
		if g.Basis == 0 {
			return false
		}
	}
}

// earliest is the sooner of two ends; zero is never.
func earliest(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// rest puts a grant on its basis.
func (m *Model) rest(g *Grant, basis *Grant) {
	g.Basis, g.Lapsed, g.ends = 0, false, g.Until
	if basis != nil {
		g.Basis, g.ends = basis.ID, earliest(g.Until, basis.ends)
	}
}

// canEntitle reports whether others can depend on the grant.
func (m *Model) canEntitle(g *Grant) bool { return g.Option || m.Gives(g).Has(Manage) }

// rebase looks again at every grant that depends on a changed one, at any depth.
// Where the basis no longer entitles, another grant to the same subject takes
// its place, or one to the grantor; else the grant lapses. It returns those.
// What is in question itself is no basis until it has found one, so that two
// grants never hold each other up.
func (m *Model) rebase(now time.Time, changed func(*Grant) bool) (lapsed []*Grant) {
	pending, order := m.resting(changed)
	grounded := func(g *Grant) bool { return !pending[g.ID] }
	for found := true; found; {
		found = false
		for _, id := range order {
			if !pending[id] {
				continue
			}
			g := *m.Grant(id)
			gives, basis := m.Gives(&g), m.Grant(g.Basis)
			if basis.Revoked || basis.Lapsed || pending[basis.ID] || !m.entitles(basis, gives, g.Target) {
				old := basis.Subject
				if basis = m.entitling(old, gives, g.Target, now, grounded); basis == nil {
					basis = m.entitling(g.Grantor, gives, g.Target, now, grounded)
				}
			}
			if basis != nil {
				m.rest(&g, basis)
				m.setGrant(g)
				delete(pending, id)
				found = true
			}
		}
	}
	for _, id := range order {
		if pending[id] {
			g := *m.Grant(id)
			g.Lapsed = true
			m.setGrant(g)
			lapsed = append(lapsed, &g)
		}
	}
	return lapsed
}

// resting collects the grants that depend on changed ones, at any depth.
func (m *Model) resting(changed func(*Grant) bool) (pending map[GrantID]bool, order []GrantID) {
	pending = map[GrantID]bool{}
	above := map[GrantID][]GrantID{} // the grants that depend on one, by that one
	for i := 1; i < m.grants.size(); i++ {
		g := m.grants.at(i)
		if g.Revoked || g.Lapsed || g.Basis == 0 {
			continue
		}
		above[g.Basis] = append(above[g.Basis], g.ID)
		if changed(m.Grant(g.Basis)) {
			pending[g.ID] = true
			order = append(order, g.ID)
		}
	}
	for next := 0; next < len(order); next++ {
		for _, id := range above[order[next]] {
			if !pending[id] {
				pending[id] = true
				order = append(order, id)
			}
		}
	}
	return pending, order
}

// restrict refuses to end grants that others depend on, or with cascade ends
// those too.
func (m *Model) restrict(gone []*Grant, cascade bool, now time.Time) error {
	entitled := false
	ids := map[GrantID]bool{}
	for _, g := range gone {
		ids[g.ID] = true
		entitled = entitled || m.canEntitle(g)
	}
	if !entitled {
		return nil
	}
	lapsed := m.rebase(now, func(g *Grant) bool { return ids[g.ID] })
	if len(lapsed) == 0 {
		return nil
	}
	if !cascade {
		return &Dependents{Grants: lapsed, says: m.describeAll(lapsed)}
	}
	for _, g := range lapsed {
		m.dropGrant(g)
	}
	return nil
}

// Lapsed lists the grants whose basis is gone in one model and was there in the
// one before, of which it is a successor.
func Lapsed(before, after *Model) []*Grant {
	return newly(before, after, func(g *Grant) bool { return g.Lapsed && !g.Revoked })
}

// Ended lists the grants that are revoked in one model and were not in the one
// before, of which it is a successor.
func Ended(before, after *Model) []*Grant {
	return newly(before, after, func(g *Grant) bool { return g.Revoked })
}

// newly lists the grants for which is holds after, and did not before.
func newly(before, after *Model, is func(*Grant) bool) []*Grant {
	var out []*Grant
	for i, page := range after.grants.pages {
		if i < len(before.grants.pages) && before.grants.pages[i] == page {
			continue // shared: nothing in it has changed
		}
		for j, g := range page.items {
			if g == nil || !is(g) {
				continue
			}
			if n := i*pageSize + j; n < before.grants.size() && !is(before.grants.at(n)) {
				out = append(out, g)
			}
		}
	}
	return out
}

// Dependents is the error of a revocation on which other grants rest.
type Dependents struct {
	Grants []*Grant
	says   string
}

func (e *Dependents) Error() string {
	what := "1 grant depends"
	if len(e.Grants) > 1 {
		what = fmt.Sprintf("%d grants depend", len(e.Grants))
	}
	return what + " on it: " + e.says + ". Revoke them first, or all of them with cascade"
}
