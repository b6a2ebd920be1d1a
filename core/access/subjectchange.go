package access

import (
	"slices"
	"strings"
	"time"
)

// AddSubject adds a user, service, group or role.
type AddSubject struct {
	Subject string `json:"subject"`
	Title   string `json:"title,omitempty"`
}

func (c AddSubject) apply(m *Model, _ time.Time) error {
	prefix, name, _ := strings.Cut(strings.ToLower(c.Subject), ":")
	kind := SubjectKind(max(slices.Index(subjectKindNames[:], prefix), 0))
	if kind < User {
		return &NotFound{Kind: "kind of subject", Name: prefix, Known: subjectKindNames[User:]}
	}
	if err := checkName(kind, name); err != nil {
		return err
	}
	s := &Subject{ID: SubjectID(m.subjects.size()), Kind: kind, Name: name, Title: c.Title}
	if _, taken := m.byRef.get(s.Ref()); taken {
		return invalid("exists", "%s exists already", s.Ref())
	}
	m.subjects.push(m.edit, s)
	m.byRef = m.byRef.with(m.edit, s.Ref(), s.ID)
	return nil
}

// SetSubject changes what a subject is; nil leaves a field as it is.
type SetSubject struct {
	Subject  string  `json:"subject"`
	Title    *string `json:"title,omitempty"`
	Disabled *bool   `json:"disabled,omitempty"`
	Lead     *string `json:"lead,omitempty"` // of a user; empty: nobody
}

func (c SetSubject) apply(m *Model, _ time.Time) error {
	s, err := m.FindSubject(c.Subject)
	if err != nil {
		return err
	}
	next := *s
	if c.Title != nil {
		next.Title = *c.Title
	}
	if c.Disabled != nil {
		if !s.Acts() {
			return invalid("wrong_kind", "%s cannot be disabled: only users and services sign in", s.Ref())
		}
		next.Disabled = *c.Disabled
	}
	m.setSubject(next)
	if c.Lead != nil {
		if err := m.setLead(s.ID, *c.Lead); err != nil {
			return err
		}
	}
	return m.checkAdministrator()
}

// setLead changes whom a user reports to. A loop is refused.
func (m *Model) setLead(id SubjectID, ref string) error {
	lead, err := m.optional(ref)
	if err != nil {
		return err
	}
	s := *m.Subject(id)
	if s.Kind != User || lead != 0 && m.Subject(lead).Kind != User {
		return invalid("wrong_kind", "only users report to users; %s cannot report to %s", s.Ref(), m.Ref(lead))
	}
	way := []string{s.Ref()}
	for up := lead; up != 0; up = m.Subject(up).Lead {
		way = append(way, m.Ref(up))
		if up == id {
			return invalid("lead_loop", "%s cannot report to %s: that would close a loop: %s", s.Ref(), m.Ref(lead), arrow(way))
		}
	}
	if s.Lead != 0 {
		old := *m.Subject(s.Lead)
		old.Reports = lacking(old.Reports, func(r SubjectID) bool { return r == id })
		m.setSubject(old)
	}
	s.Lead = lead
	m.setSubject(s)
	if lead != 0 {
		next := *m.Subject(lead)
		next.Reports = inserted(next.Reports, len(next.Reports), id)
		m.setSubject(next)
	}
	return nil
}

// RenameSubject gives a subject another name. It stays who it is: what it has,
// what it gave and what policies say of it.
type RenameSubject struct {
	Subject string `json:"subject"`
	Name    string `json:"name"`
}

func (c RenameSubject) apply(m *Model, _ time.Time) error {
	s, err := m.FindSubject(c.Subject)
	if err != nil {
		return err
	}
	if s.Kind == Public || s.Ref() == Administrator || s.Ref() == Auditor {
		return invalid("built_in", "%s is built in and keeps its name", s.Ref())
	}
	next := *s
	next.Name = strings.TrimPrefix(strings.ToLower(c.Name), s.Kind.String()+":")
	if err := checkName(s.Kind, next.Name); err != nil {
		return err
	}
	if next.Name == s.Name {
		return nil
	}
	if _, taken := m.byRef.get(next.Ref()); taken {
		return invalid("exists", "%s exists already", next.Ref())
	}
	m.byRef = m.byRef.without(m.edit, s.Ref()).with(m.edit, next.Ref(), s.ID)
	m.setSubject(next)
	return nil
}

// SetAttribute gives a user, service or role-to-test an attribute's set of
// values; no values take the attribute away.
type SetAttribute struct {
	Subject string   `json:"subject"`
	Name    string   `json:"name"`
	Values  []string `json:"values"`
}

func (c SetAttribute) apply(m *Model, _ time.Time) error {
	s, err := m.FindSubject(c.Subject)
	if err != nil {
		return err
	}
	if !s.Acts() {
		return invalid("wrong_kind", "%s cannot have attributes: only users and services have them", s.Ref())
	}
	if !isPlain(c.Name) {
		return invalid("bad_name", "%q cannot name an attribute: use a-z, 0-9 and _, starting with a letter", c.Name)
	}
	next := *s
	next.Attributes = map[string][]string{}
	for name, values := range s.Attributes {
		next.Attributes[name] = values
	}
	values := slices.Clone(c.Values)
	slices.Sort(values)
	next.Attributes[c.Name] = slices.Compact(values)
	if len(values) == 0 {
		delete(next.Attributes, c.Name)
	}
	m.setSubject(next)
	return nil
}

// RemoveSubject takes a subject away, with its memberships, its members'
// memberships in it, and the grants to it. What it owned is its upper object's
// owner's; who reported to it reports to its lead. Grants that depend on those to
// it lapse.
type RemoveSubject struct {
	Subject string `json:"subject"`
}

func (c RemoveSubject) apply(m *Model, at time.Time) error {
	s, err := m.FindSubject(c.Subject)
	if err != nil {
		return err
	}
	if s.Kind == Public || s.Ref() == Administrator || s.Ref() == Auditor {
		return invalid("built_in", "%s is built in and stays", s.Ref())
	}
	for _, e := range slices.CompactFunc(slices.Clone(s.Memberships), func(a, b Membership) bool { return a.Of == b.Of }) {
		if !slices.ContainsFunc(m.Subject(s.ID).Memberships, func(x Membership) bool { return x.Of == e.Of }) {
			continue
		}
		if err := (Leave{Member: s.Ref(), Of: m.Ref(e.Of), Cascade: true}).apply(m, at); err != nil {
			return err
		}
	}
	for _, member := range s.Members {
		if err := (Leave{Member: m.Ref(member), Of: s.Ref(), Cascade: true}).apply(m, at); err != nil {
			return err
		}
	}
	for _, report := range s.Reports {
		if err := m.setLead(report, m.Ref(s.Lead)); err != nil {
			return err
		}
	}
	if s.Lead != 0 {
		if err := m.setLead(s.ID, ""); err != nil {
			return err
		}
	}
	gone := map[GrantID]bool{}
	for _, g := range m.GrantsTo(s.ID) {
		m.dropGrant(g)
		gone[g.ID] = true
		if g.Owned == g.Object {
			o := *m.Object(g.Object)
			o.Owner = 0
			m.setObject(o)
		}
	}
	next := *m.Subject(s.ID)
	next.Removed = true
	m.setSubject(next)
	m.rebase(at, func(g *Grant) bool { return gone[g.ID] })
	m.byRef = m.byRef.without(m.edit, s.Ref())
	return m.checkAdministrator()
}

// Join puts a member in a group or gives it a role, with Option with the right
// to give it on. Joining again replaces what the same giver said of it. Passed is
// set where the giver gives by a right to give the role on: the membership depends on
// it, and ends no later.
type Join struct {
	Member string    `json:"member"`
	Of     string    `json:"of"`
	By     string    `json:"by,omitempty"`
	Until  time.Time `json:"until,omitzero"`
	Option bool      `json:"option,omitempty"`
	Passed bool      `json:"passed,omitempty"`
	Reason string    `json:"reason,omitempty"`
	Ticket string    `json:"ticket,omitempty"`
}

func (c Join) apply(m *Model, at time.Time) error {
	member, of, err := m.pair(c.Member, c.Of)
	if err != nil {
		return err
	}
	by, err := m.optional(c.By)
	if err != nil {
		return err
	}
	switch {
	case member.Kind == Public:
		return invalid("wrong_kind", "PUBLIC is everyone and has no roles; grant the privilege to public instead")
	case of.Kind == Group && member.Kind == Role:
		return invalid("wrong_kind", "a role cannot be in a group; give %s to %s instead", member.Ref(), of.Ref())
	case of.Kind != Group && of.Kind != Role:
		return invalid("wrong_kind", "%s is no group and no role", of.Ref())
	}
	if c.Option && of.Kind != Role {
		return invalid("wrong_kind", "only a role can be held with admin option; %s is a group", of.Ref())
	}
	if loop := m.chain(of.ID, member.ID); loop != nil {
		names := []string{member.Ref()}
		for _, id := range loop {
			names = append(names, m.Ref(id))
		}
		return invalid("role_loop", "%s cannot be given to %s: that would close a loop: %s", of.Ref(), member.Ref(), arrow(names))
	}
	if c.Passed {
		until, ok := m.givesUntil(by, of.ID, at)
		if !ok || c.Option {
			return invalid("no_option", "%s does not have the admin option for %s", m.Ref(by), of.Ref())
		}
		c.Until = earliest(c.Until, until)
	}
	gives := m.givesOn(member, of.ID, by)
	m.putMembership(
		member,
		Membership{Of: of.ID, By: by, At: at, Until: c.Until, Option: c.Option, Passed: c.Passed, Reason: c.Reason, Ticket: c.Ticket},
	)
	if gives { // what is new takes nothing away
		if err := m.settlePassed(at, false); err != nil {
			return err
		}
	}
	return m.checkAdministrator()
}

// Leave takes a member out of a group or a role from it: what one giver gave, or
// with an empty By what anybody gave. What the member has given on by it is refused
// to end, or with Cascade taken along.
type Leave struct {
	Member  string `json:"member"`
	Of      string `json:"of"`
	By      string `json:"by,omitempty"`
	Cascade bool   `json:"cascade,omitempty"`
}

func (c Leave) apply(m *Model, at time.Time) error {
	member, of, err := m.pair(c.Member, c.Of)
	if err != nil {
		return err
	}
	by, err := m.optional(c.By)
	if err != nil {
		return err
	}
	gone := func(e Membership) bool { return e.Of == of.ID && (c.By == "" || e.By == by) }
	if !slices.ContainsFunc(member.Memberships, gone) {
		if c.By != "" {
			return invalid("no_membership", "%s does not have %s from %s", member.Ref(), of.Ref(), m.Ref(by))
		}
		return invalid("no_membership", "%s does not have %s itself", member.Ref(), of.Ref())
	}
	m.dropMemberships(member, gone)
	if err := m.settlePassed(at, c.Cascade); err != nil {
		return err
	}
	return m.checkAdministrator()
}

func (m *Model) pair(a, b string) (*Subject, *Subject, error) {
	first, err := m.FindSubject(a)
	if err != nil {
		return nil, nil, err
	}
	second, err := m.FindSubject(b)
	return first, second, err
}

func (m *Model) optional(ref string) (SubjectID, error) {
	if ref == "" {
		return 0, nil
	}
	s, err := m.FindSubject(ref)
	if err != nil {
		return 0, err
	}
	return s.ID, nil
}
