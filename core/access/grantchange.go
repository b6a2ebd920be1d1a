package access

import (
	"slices"
	"time"
)

// AddGrant grants a privilege or a bundle. The same grantor granting the same
// again replaces the earlier grant's end date, reason and ticket, and adds the
// grant option; to take that back alone is [RemoveGrant]'s. A grantor needs a
// grant that entitles; without a grantor the grant is the platform's own.
type AddGrant struct {
	Privilege string    `json:"privilege"` // or a bundle
	Object    string    `json:"object"`
	Subject   string    `json:"subject"`
	Grantor   string    `json:"grantor,omitempty"`
	Option    bool      `json:"option,omitempty"`
	Until     time.Time `json:"until,omitzero"`
	Reason    string    `json:"reason,omitempty"`
	Ticket    string    `json:"ticket,omitempty"`
}

func (c AddGrant) apply(m *Model, at time.Time) error {
	g, err := m.grantKey(c.Privilege, c.Object, c.Subject, c.Grantor)
	if err != nil {
		return err
	}
	if err := m.checkLevel(&g); err != nil {
		return err
	}
	g.At, g.Option, g.Until, g.Reason, g.Ticket = at, c.Option, c.Until.UTC(), c.Reason, c.Ticket
	old := m.findGrant(&g)
	if old != nil {
		g.ID, g.Option = old.ID, g.Option || old.Option
	}
	var basis *Grant
	if g.Grantor != 0 {
		basis = m.basisFor(&g, old, at)
		if basis == nil {
			return invalid(
				"no_basis",
				"%s can't grant %s on %s: that takes MANAGE at or above it, or the privilege with grant option",
				c.Grantor,
				m.GrantName(&g),
				m.Target(g.Target),
			)
		}
	}
	m.rest(&g, basis)
	if old == nil {
		m.addGrant(g)
		return nil
	}
	m.setGrant(g)
	if !g.ends.Equal(old.ends) && m.canEntitle(&g) {
		m.rebase(at, func(x *Grant) bool { return x.ID == g.ID })
	}
	return m.checkAdministrator()
}

// basisFor finds what entitles the grantor of a grant. One that is granted again
// keeps what it depends on while that lasts, and never depends on itself.
func (m *Model) basisFor(g, old *Grant, at time.Time) *Grant {
	gives := m.Gives(g)
	if old != nil && old.Basis != 0 && !old.Lapsed {
		if b := m.Grant(old.Basis); b.inForce(at) && m.entitles(b, gives, g.Target) {
			return b
		}
	}
	return m.entitling(g.Grantor, gives, g.Target, at, func(b *Grant) bool { return old == nil || !m.restsOn(b, old.ID) })
}

// checkLevel refuses rights that mean nothing on the target.
func (m *Model) checkLevel(g *Grant) error {
	kind := m.kind(g.Target)
	if g.Bundle == 0 {
		if !g.Privilege.AppliesTo(kind) {
			return invalid(
				"wrong_level",
				"%s cannot be granted on the %s %s: it applies to %s",
				g.Privilege,
				kind,
				m.Target(g.Target),
				kindList(levels[g.Privilege]),
			)
		}
		return nil
	}
	for _, p := range m.Gives(g).Each() {
		if p.AppliesTo(kind) || kind != Lane && kind != Label && kind != Column && p != Usage {
			return nil
		}
	}
	return invalid("wrong_level", "the bundle %s has nothing that applies to the %s %s", m.GrantName(g), kind, m.Target(g.Target))
}

// RemoveGrant revokes a grant. Without a grantor it takes all grantors' grants.
// A grant on which others rest is refused with a [*Dependents] unless Cascade
// takes those along.
type RemoveGrant struct {
	Privilege  string `json:"privilege"`
	Object     string `json:"object"`
	Subject    string `json:"subject"`
	Grantor    string `json:"grantor,omitempty"`
	OptionOnly bool   `json:"option_only,omitempty"` // GRANT OPTION FOR: the right itself stays
	Cascade    bool   `json:"cascade,omitempty"`
}

func (c RemoveGrant) apply(m *Model, at time.Time) error {
	key, err := m.grantKey(c.Privilege, c.Object, c.Subject, c.Grantor)
	if err != nil {
		return err
	}
	var gone []*Grant
	for _, ref := range refsAt(m.Subject(key.Subject).grants, m.refOf(&key).at) {
		if g := m.Grant(ref.grant); g.sameKey(&key) && (c.Grantor == "" || g.Grantor == key.Grantor) && (!c.OptionOnly || g.Option) {
			gone = append(gone, g)
		}
	}
	if len(gone) == 0 {
		return m.nothingToRevoke(&key, c)
	}
	for _, g := range gone {
		if !c.OptionOnly {
			m.dropGrant(g)
			continue
		}
		next := *g
		next.Option = false
		m.setGrant(next)
	}
	if err := m.restrict(gone, c.Cascade, at); err != nil {
		return err
	}
	return m.checkAdministrator()
}

// nothingToRevoke says what there is instead of the grant that was named.
func (m *Model) nothingToRevoke(key *Grant, c RemoveGrant) error {
	what, on, to := m.GrantName(key), m.Target(key.Target), m.Ref(key.Subject)
	for _, g := range m.GrantsTo(key.Subject) {
		same := g.Privilege == key.Privilege && g.Bundle == key.Bundle && g.Target == key.Target
		switch {
		case same && g.Owned != 0:
			return invalid("owned", "%s has %s on %s as the owner of %s; give that another owner", to, what, on, m.Path(g.Owned))
		case same && c.OptionOnly:
			return invalid("no_grant", "%s has %s on %s without grant option", to, what, on)
		case same:
			return invalid("no_grant", "%s has %s on %s by another grantor: %s", to, what, on, m.Ref(g.Grantor))
		}
	}
	return invalid("no_grant", "%s has no grant of %s on %s itself", to, what, on)
}

// SetOwner gives an object another owner, who has ALL on it and below, and the
// doors on the way to it. Without an owner it is that of the object above.
type SetOwner struct {
	Object string `json:"object"`
	Owner  string `json:"owner,omitempty"`
}

func (c SetOwner) apply(m *Model, at time.Time) error {
	o, err := m.Lookup(c.Object)
	if err != nil {
		return err
	}
	owner, err := m.optional(c.Owner)
	if err != nil {
		return err
	}
	switch {
	case o.Kind == Platform || o.Kind == Column:
		return invalid("wrong_level", "a %s has no owner of its own", o.Kind)
	case owner == PublicID:
		return invalid("wrong_kind", "PUBLIC is everyone and owns nothing; grant the privilege to public instead")
	case owner == o.Owner:
		return nil
	}
	old := o.Owner
	next := *o
	next.Owner = owner
	m.setObject(next)
	if owner != 0 {
		m.addGrant(Grant{Privilege: All, Target: Target{Object: o.ID}, Subject: owner, Owned: o.ID, Option: true, At: at})
		doors, n := m.doors(o.ID)
		for _, door := range doors[:n] {
			if door != o.ID {
				m.addGrant(Grant{Privilege: Usage, Target: Target{Object: door}, Subject: owner, Owned: o.ID, At: at})
			}
		}
	}
	if old != 0 {
		m.disown(old, o.ID, at)
	}
	return nil
}

// disown ends the grants that a subject has as the owner of an object.
func (m *Model) disown(owner SubjectID, id ObjectID, now time.Time) {
	gone := map[GrantID]bool{}
	for _, g := range m.GrantsTo(owner) {
		if g.Owned == id {
			m.dropGrant(g)
			gone[g.ID] = true
		}
	}
	m.rebase(now, func(g *Grant) bool { return gone[g.ID] })
}

// Owner returns the owner of an object: its own, or that of the nearest object
// above that has one; zero where there is none.
func (m *Model) Owner(id ObjectID) SubjectID {
	for ; id != PlatformID; id = m.Object(id).Parent {
		if o := m.Object(id); o.Owner != 0 {
			return o.Owner
		}
	}
	return 0
}

func (m *Model) grantKey(right, object, subject, grantor string) (g Grant, err error) {
	if g.Privilege, g.Bundle, err = m.ParseRight(right); err != nil {
		return g, err
	}
	if g.Target, err = m.LookupTarget(object); err != nil {
		return g, err
	}
	s, err := m.FindSubject(subject)
	if err != nil {
		return g, err
	}
	g.Subject = s.ID
	g.Grantor, err = m.optional(grantor)
	return g, err
}

// FindGrant returns the grant that a change has made, or nil.
func (m *Model) FindGrant(c AddGrant) *Grant {
	key, err := m.grantKey(c.Privilege, c.Object, c.Subject, c.Grantor)
	if err != nil {
		return nil
	}
	return m.findGrant(&key)
}

// findGrant returns the grant of the same key by the same grantor, or nil.
func (m *Model) findGrant(key *Grant) *Grant {
	for _, ref := range refsAt(m.Subject(key.Subject).grants, m.refOf(key).at) {
		if g := m.Grant(ref.grant); g.sameKey(key) && g.Grantor == key.Grantor {
			return g
		}
	}
	return nil
}

// checkAdministrator refuses a model in which nobody could set things right
// again. Once a user has been administrator, some enabled user stays it,
// without an end date, and the role keeps ALL on the platform.
func (m *Model) checkAdministrator() error {
	id, _ := m.byRef.get(Administrator)
	all := slices.ContainsFunc(refsAt(m.Subject(id).grants, PlatformID), func(r grantRef) bool {
		g := m.Grant(r.grant)
		return g.Privilege == All && g.Pattern == "" && g.inForce(endOfTime)
	})
	held := false
	m.Actors(id, endOfTime, func(s *Subject) bool {
		held = s.Kind == User
		return !held
	})
	if all && held {
		m.administered = true
		return nil
	}
	if !m.administered {
		return nil
	}
	return invalid(
		"last_administrator",
		"that would leave the platform without an administrator; first give %s to another user, without an end date",
		Administrator,
	)
}

// endOfTime lies past every end date that can be given.
var endOfTime = time.Unix(1<<40, 0)
