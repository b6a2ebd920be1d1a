package access

import (
	"slices"
	"strings"
	"time"
)

// A Change is one step from a model to the next. Changes name things by path
// and reference, so that the journal can be read; they are applied whole or not
// at all.
type Change interface {
	apply(m *Model, at time.Time) error
}

// Apply returns the model after the change; at is the time of the revision. It
// leaves m as it is. Errors are a [*NotFound] or an [*Invalid].
func (m *Model) Apply(c Change, at time.Time) (*Model, error) {
	next := *m
	if err := c.apply(&next, at); err != nil {
		return nil, err
	}
	return &next, nil
}

// AddObject puts an object in the tree, or finds it again: an object that was
// missing is there again under the same id, and a column takes the type given.
type AddObject struct {
	Path    string `json:"path"`
	Kind    string `json:"kind"`
	Type    string `json:"type,omitempty"`
	NotNull bool   `json:"not_null,omitempty"`
}

func (c AddObject) apply(m *Model, _ time.Time) error {
	parts, err := ParsePath(c.Path)
	if err != nil {
		return err
	}
	parent := m.Object(PlatformID)
	if len(parts) > 1 {
		if parent, err = m.Lookup(JoinPath(parts[:len(parts)-1]...)); err != nil {
			return err
		}
	}
	kind, name := parseObjectKind(c.Kind), parts[len(parts)-1]
	if kind <= Platform || childKind(parent.Kind) != kind.String() && !(parent.Kind == Schema && kind == View) || parent.Kind == Column {
		return invalid("bad_object", "a %s cannot stand below the %s %s", c.Kind, parent.Kind, m.Path(parent.ID))
	}
	if old := m.Child(parent, name); old != nil {
		if old.Kind != kind {
			return invalid("bad_object", "%s is a %s already", c.Path, old.Kind)
		}
		found := *old
		found.Missing, found.Type, found.NotNull = false, c.Type, c.NotNull
		m.setObject(found)
		return nil
	}
	o := &Object{ID: ObjectID(m.objects.len()), Kind: kind, Name: name, Parent: parent.ID, Type: c.Type, NotNull: c.NotNull}
	m.objects = m.objects.push(o)
	up := *parent
	at := len(up.Children)
	if !up.Kind.IsRelation() {
		at, _ = m.searchChild(parent, name)
	}
	up.Children = slices.Insert(slices.Clip(up.Children), at, o.ID)
	m.setObject(up)
	return nil
}

// MissObject marks an object that a scan no longer finds.
type MissObject struct {
	Path string `json:"path"`
}

func (c MissObject) apply(m *Model, _ time.Time) error {
	o, err := m.Lookup(c.Path)
	if err != nil {
		return err
	}
	if o.ID == PlatformID {
		return invalid("bad_object", "the platform cannot be missing")
	}
	gone := *o
	gone.Missing = true
	m.setObject(gone)
	return nil
}

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
	s := &Subject{ID: SubjectID(m.subjects.len()), Kind: kind, Name: name, Title: c.Title}
	if _, taken := m.byRef.get(s.Ref()); taken {
		return invalid("exists", "%s exists already", s.Ref())
	}
	m.subjects = m.subjects.push(s)
	m.byRef = m.byRef.with(s.Ref(), s.ID)
	return nil
}

// SetSubject changes what a subject is; nil leaves a field as it is.
type SetSubject struct {
	Subject  string  `json:"subject"`
	Title    *string `json:"title,omitempty"`
	Disabled *bool   `json:"disabled,omitempty"`
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
	return m.checkAdministrator()
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
// memberships in it, and the grants to it.
type RemoveSubject struct {
	Subject string `json:"subject"`
}

func (c RemoveSubject) apply(m *Model, at time.Time) error {
	s, err := m.FindSubject(c.Subject)
	if err != nil {
		return err
	}
	if s.Kind == Public || s.Ref() == Administrator || s.Ref() == "role:auditor" {
		return invalid("built_in", "%s is built in and stays", s.Ref())
	}
	for _, e := range s.Memberships {
		if err := (Leave{s.Ref(), m.Ref(e.Of)}).apply(m, at); err != nil {
			return err
		}
	}
	for _, member := range s.Members {
		if err := (Leave{m.Ref(member), s.Ref()}).apply(m, at); err != nil {
			return err
		}
	}
	for _, g := range m.GrantsTo(s.ID) {
		m.dropGrant(g)
	}
	next := *m.Subject(s.ID)
	next.Removed = true
	m.setSubject(next)
	m.byRef = m.byRef.without(s.Ref())
	return m.checkAdministrator()
}

// Join puts a member in a group or gives it a role. Joining again replaces the
// end date, the reason and the ticket.
type Join struct {
	Member string    `json:"member"`
	Of     string    `json:"of"`
	By     string    `json:"by,omitempty"`
	Until  time.Time `json:"until,omitzero"`
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
		return invalid("wrong_kind", "PUBLIC is everyone and holds no roles; grant the privilege to public instead")
	case of.Kind == Group && member.Kind == Role:
		return invalid("wrong_kind", "a role cannot be in a group; give %s to %s instead", member.Ref(), of.Ref())
	case of.Kind != Group && of.Kind != Role:
		return invalid("wrong_kind", "%s is no group and no role", of.Ref())
	}
	if loop := m.chain(of.ID, member.ID); loop != nil {
		names := []string{member.Ref()}
		for _, id := range loop {
			names = append(names, m.Ref(id))
		}
		return invalid("role_loop", "%s cannot be given to %s, for that would close a loop: %s", of.Ref(), member.Ref(), arrow(names))
	}
	e := Membership{of.ID, by, at, c.Until, c.Reason, c.Ticket}
	up := *member
	up.Memberships = slices.Clone(member.Memberships)
	if i := slices.IndexFunc(up.Memberships, func(x Membership) bool { return x.Of == of.ID }); i >= 0 {
		up.Memberships[i] = e
	} else {
		up.Memberships = append(up.Memberships, e)
		down := *of
		down.Members = append(slices.Clip(of.Members), member.ID)
		m.setSubject(down)
	}
	m.setSubject(up)
	return m.checkAdministrator()
}

// Leave takes a member out of a group or a role from it.
type Leave struct {
	Member string `json:"member"`
	Of     string `json:"of"`
}

func (c Leave) apply(m *Model, _ time.Time) error {
	member, of, err := m.pair(c.Member, c.Of)
	if err != nil {
		return err
	}
	if !slices.Contains(of.Members, member.ID) {
		return invalid("no_membership", "%s does not have %s itself", member.Ref(), of.Ref())
	}
	up, down := *member, *of
	up.Memberships = slices.DeleteFunc(slices.Clone(member.Memberships), func(e Membership) bool { return e.Of == of.ID })
	down.Members = slices.DeleteFunc(slices.Clone(of.Members), func(id SubjectID) bool { return id == member.ID })
	m.setSubject(up)
	m.setSubject(down)
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

// AddGrant grants a privilege. The same grantor granting the same again
// replaces the earlier grant's option, end date, reason and ticket.
type AddGrant struct {
	Privilege string    `json:"privilege"`
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
	o, kind := m.Object(g.Object), m.kind(g.Target)
	if !g.Privilege.AppliesTo(kind) {
		return invalid("wrong_level", "%s cannot be granted on the %s %s: it applies to %s", g.Privilege, kind, m.Target(g.Target), kindList(levels[g.Privilege]))
	}
	g.At, g.Option, g.Until, g.Reason, g.Ticket = at, c.Option, c.Until, c.Reason, c.Ticket
	if old := m.findGrant(g); old != nil {
		g.ID = old.ID
		m.setGrant(g)
		return m.checkAdministrator()
	}
	g.ID = GrantID(m.grants.len())
	m.grants = m.grants.push(&g)
	on, to := *o, *m.Subject(g.Subject)
	on.grants = append(slices.Clip(on.grants), g.ID)
	to.grants = append(slices.Clip(to.grants), g.ID)
	m.setObject(on)
	m.setSubject(to)
	return nil
}

// RemoveGrant revokes a grant. Without a grantor it takes all grantors' grants.
type RemoveGrant struct {
	Privilege string `json:"privilege"`
	Object    string `json:"object"`
	Subject   string `json:"subject"`
	Grantor   string `json:"grantor,omitempty"`
}

func (c RemoveGrant) apply(m *Model, _ time.Time) error {
	key, err := m.grantKey(c.Privilege, c.Object, c.Subject, c.Grantor)
	if err != nil {
		return err
	}
	found := false
	for _, g := range m.GrantsTo(key.Subject) {
		if g.Privilege == key.Privilege && g.Target == key.Target && (c.Grantor == "" || g.Grantor == key.Grantor) {
			m.dropGrant(g)
			found = true
		}
	}
	if !found {
		return invalid("no_grant", "%s has no grant of %s on %s itself", m.Ref(key.Subject), key.Privilege, m.Target(key.Target))
	}
	return m.checkAdministrator()
}

func (m *Model) grantKey(privilege, object, subject, grantor string) (g Grant, err error) {
	if g.Privilege, err = ParsePrivilege(privilege); err != nil {
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

func (m *Model) findGrant(key Grant) *Grant {
	for _, g := range m.GrantsTo(key.Subject) {
		if g.Privilege == key.Privilege && g.Target == key.Target && g.Grantor == key.Grantor {
			return g
		}
	}
	return nil
}

func (m *Model) dropGrant(g *Grant) {
	gone, on, to := *g, *m.Object(g.Object), *m.Subject(g.Subject)
	gone.Revoked = true
	is := func(id GrantID) bool { return id == g.ID }
	on.grants = slices.DeleteFunc(slices.Clone(on.grants), is)
	to.grants = slices.DeleteFunc(slices.Clone(to.grants), is)
	m.setGrant(gone)
	m.setObject(on)
	m.setSubject(to)
}

// checkAdministrator refuses a model in which nobody could set things right
// again. Once a user has been administrator, some enabled user stays it,
// without an end date, and the role keeps ALL on the platform.
func (m *Model) checkAdministrator() error {
	id, _ := m.byRef.get(Administrator)
	all := slices.ContainsFunc(m.GrantsTo(id), func(g *Grant) bool {
		return g.Privilege == All && g.Target == (Target{Object: PlatformID}) && g.Until.IsZero()
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
	return invalid("last_administrator", "that would leave the platform without an administrator; give %s to another user first, without an end date", Administrator)
}

// endOfTime lies past every end date that can be given.
var endOfTime = time.Unix(1<<40, 0)

func kindList(kinds []ObjectKind) string {
	names := make([]string, len(kinds))
	for i, k := range kinds {
		names[i] = k.String()
	}
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}
