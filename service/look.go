package service

import (
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/wire"
)

// Tree lists what a standpoint sees at and below a path, to the depth given; 1
// is the object's own children.
func (s *Service) Tree(c Caller, path string, depth int, at wire.Standpoint) (wire.Node, error) {
	st := s.state()
	p, err := s.standAt(st, c, at)
	if err != nil {
		return wire.Node{}, err
	}
	o, err := s.seen(p, path)
	if err != nil {
		return wire.Node{}, err
	}
	return p.node(o, depth), nil
}

// seen finds an object that the standpoint sees. What it does not see is
// refused in the words for what is not there.
func (s *Service) seen(p *standpoint, path string) (*access.Object, error) {
	if path == "" {
		path = "platform"
	}
	o, err := p.Model.Lookup(path)
	if err == nil && p.sees(o.ID) {
		return o, nil
	}
	if _, bad := err.(*access.Invalid); bad {
		return nil, err
	}
	var known []string
	p.each(access.PlatformID, func(o *access.Object) { known = append(known, p.Model.Path(o.ID)) })
	near := nearest(path, known)
	problem := problem(404, "not_found", "Not found", "%s does not exist or is not %s to use%s", path, p.whose(), didYouMean(near))
	problem.Near = near
	return nil, problem
}

// sees is Sees, and for columns whether a policy makes them absent. Who reviews
// may look at what their standpoint has not.
func (p *standpoint) sees(id access.ObjectID) bool {
	return p.Sees(id) && (p.review && !p.other || !p.absent(id))
}

// absent reports whether a column does not exist for the standpoint.
func (p *standpoint) absent(id access.ObjectID) bool {
	o := p.Model.Object(id)
	return o.Kind == access.Column && p.state.policies.Govern(p.Standing, o.Parent).Columns[id].Treatment.Kind == policy.Absent
}

func (p *standpoint) whose() string {
	if p.other {
		return p.words + "'s"
	}
	return "yours"
}

// each calls f for all that the standpoint sees below an object, columns left
// out.
func (p *standpoint) each(id access.ObjectID, f func(*access.Object)) {
	for _, child := range p.Model.Object(id).Children {
		if o := p.Model.Object(child); o.Kind != access.Column && p.Sees(child) {
			f(o)
			p.each(child, f)
		}
	}
}

func (p *standpoint) node(o *access.Object, depth int) wire.Node {
	n := wire.Node{Path: p.Model.Path(o.ID), Name: o.Name, Kind: o.Kind.String(), Type: o.Type, Declared: o.Declared, NotNull: o.NotNull,
		Missing: o.Missing, Bands: p.bands(o.ID)}
	if depth <= 0 {
		return n
	}
	for _, id := range o.Children {
		child := p.Model.Object(id)
		if child.Kind == access.Column && (child.Missing || p.absent(id)) || !p.Sees(id) {
			continue
		}
		n.Children = append(n.Children, p.node(child, depth-1))
	}
	return n
}

// Object is the page of one object from a standpoint. Grants and policies are
// for who may review them.
func (s *Service) Object(c Caller, path string, at wire.Standpoint) (wire.Object, error) {
	st := s.state()
	p, err := s.standAt(st, c, at)
	if err != nil {
		return wire.Object{}, err
	}
	o, err := s.seen(p, path)
	if err != nil {
		return wire.Object{}, err
	}
	v := p.Resolve(o.ID)
	page := wire.Object{Node: p.node(o, 0), Privileges: privilegeNames(v.Allowed), Missing: p.needs(p.Standing.Missing(access.Select, o.ID)),
		Columns: []wire.ColumnView{}, Policies: []wire.Policy{}, Grants: []wire.Grant{}, Manage: s.manages(st, c, o.ID), Revision: st.revision}
	if o.Kind == access.Label {
		page.Missing = []string{}
	}
	if o.Kind == access.Lane {
		page.Missing = p.needs(p.Standing.Missing(access.Usage, o.ID))
		limits := wire.Limits(o.Limits)
		page.Limits = &limits
	}
	if o.Kind.IsRelation() {
		page.Columns = p.columnViews(o)
	}
	if o.View != nil {
		page.View = p.viewOf(o)
	}
	if !s.reviewsObject(st, c, o.ID) {
		return page, nil
	}
	page.Owner, page.OwnOwner = st.model.Ref(st.model.Owner(o.ID)), o.Owner != 0
	page.Policies = append(page.Policies, st.policiesAt(o)...)
	for _, view := range st.model.ReadBy(o.ID) {
		page.ReadBy = append(page.ReadBy, st.model.Path(view.ID))
	}
	for _, id := range append([]access.ObjectID{o.ID}, st.model.Above(o.ID)...) {
		for _, g := range st.model.GrantsOn(id) {
			page.Grants = append(page.Grants, s.grant(st, g))
		}
	}
	s.grantsBelow(st, o, &page.Grants)
	return page, nil
}

// mostListed bounds lists on pages that have no cursor of their own.
const mostListed = 500

func (s *Service) grantsBelow(st *state, o *access.Object, into *[]wire.Grant) {
	for _, id := range o.Children {
		for _, g := range st.model.GrantsOn(id) {
			if len(*into) < mostListed {
				*into = append(*into, s.grant(st, g))
			}
		}
		s.grantsBelow(st, st.model.Object(id), into)
	}
}

// reviewsObject reports whether the caller may see who can do what there.
func (s *Service) reviewsObject(st *state, c Caller, id access.ObjectID) bool {
	own, err := s.own(st, c)
	return err == nil && own.Resolve(id).Allowed&access.Set(access.Manage, access.Describe) != 0
}

// columnViews lists a table's columns as the standpoint gets them.
func (p *standpoint) columnViews(o *access.Object) []wire.ColumnView {
	v := p.Resolve(o.ID)
	g := p.state.policies.Govern(p.Standing, o.ID)
	views := []wire.ColumnView{}
	for _, id := range o.Children {
		column := p.Model.Object(id)
		if column.Missing {
			continue
		}
		readable := v.Covers(access.Select, id)
		if !readable && !v.Allowed.Has(access.Describe) {
			continue
		}
		d := g.Columns[id]
		if d.Treatment.Kind == policy.Absent && !p.review {
			continue
		}
		readable = readable && !d.Treatment.Kind.Withheld()
		if !p.review {
			d.By, d.Lost, d.Lifted = nil, nil, nil
		}
		treatment := d.Treatment.String()
		if o.Kind == access.View {
			treatment = "as its tables have it"
		}
		views = append(views, wire.ColumnView{Name: column.Name, Type: column.Type, Declared: column.Declared, NotNull: column.NotNull, Readable: readable,
			Treatment: treatment, By: policy.Names(d.By), Lost: policy.Names(append(d.Lost, d.Lifted...)), Conflict: d.Conflict, Revealed: d.Revealed(), Partly: d.Partly(), Labels: p.labels(id)})
	}
	return views
}

// labels lists the labels that an object bears, for who may review them.
func (p *standpoint) labels(id access.ObjectID) []string {
	out := []string{}
	if !p.review && (p.other || !p.Resolve(id).Allowed.Any(access.Set(access.Manage, access.Describe))) {
		return out
	}
	for _, label := range p.state.policies.Labels(p.Model, id) {
		out = append(out, p.Model.Object(label).Name)
	}
	return out
}

func privilegeNames(set access.Privileges) []string {
	names := []string{}
	for _, p := range set.Each() {
		names = append(names, p.String())
	}
	return names
}

func (p *standpoint) needs(needs []access.Need) []string {
	out := []string{}
	for _, n := range needs {
		out = append(out, n.Privilege.String()+" on "+p.Model.Path(n.Object))
	}
	return out
}

// AccessOf lists what one subject can do, object by object: containers where a
// privilege is held or a door is open, and all relations that can be used; with
// columns those, too.
func (s *Service) AccessOf(c Caller, ref, below string, paths, columns bool, at wire.Standpoint) (wire.AccessList, error) {
	st := s.state()
	subject, err := s.reviewable(st, c, ref)
	if err != nil {
		return wire.AccessList{}, err
	}
	at.As = subject.Ref()
	p, err := s.standAs(st, c, subject.ID, at)
	if err != nil {
		return wire.AccessList{}, err
	}
	root, err := st.model.Lookup(orPlatform(below))
	if err != nil || !p.review && !p.Sees(root.ID) {
		if root, err = s.seen(p, below); err != nil {
			return wire.AccessList{}, err
		}
	}
	out := wire.AccessList{About: p.words, Items: []wire.Access{}, Revision: st.revision}
	var visit func(o *access.Object)
	visit = func(o *access.Object) {
		if o.Kind == access.Column && (!columns && o.ID != root.ID || o.Missing || !p.review && p.absent(o.ID)) {
			return
		}
		if v := p.Resolve(o.ID); v.Held != 0 && (p.review || p.Sees(o.ID)) {
			out.Items = append(out.Items, s.access(p, o, paths))
		}
		for _, id := range o.Children {
			visit(st.model.Object(id))
		}
	}
	visit(root)
	return out, nil
}

func orPlatform(path string) string {
	if path == "" {
		return "platform"
	}
	return path
}

// reviewable finds a subject that the caller may ask about: anyone for
// reviewers, for others themself and what they have.
func (s *Service) reviewable(st *state, c Caller, ref string) (*access.Subject, error) {
	subject, err := st.model.FindSubject(ref)
	if s.reviews(st, c) {
		return subject, err
	}
	own, ownErr := s.own(st, c)
	if err == nil && ownErr == nil && own.Holds(subject.ID) {
		return subject, nil
	}
	return nil, problem(403, "refused", "Refused", "asking about other subjects needs DESCRIBE on platform")
}

// access says what a standpoint can do with one object.
func (s *Service) access(p *standpoint, o *access.Object, paths bool) wire.Access {
	v := p.Resolve(o.ID)
	a := wire.Access{Subject: p.words, Object: p.Model.Path(o.ID), Kind: o.Kind.String(), Privileges: privilegeNames(v.Allowed), Bands: p.bands(o.ID)}
	if o.Kind == access.View && v.Allowed.Has(access.Select) {
		a.Rows = afterVerbs(a.Bands.Says)
	} else if o.Kind.IsRelation() && v.Allowed.Has(access.Select) {
		g := p.state.policies.Govern(p.Standing, o.ID)
		a.Rows, a.Columns = p.rowsSay(g), p.columnsSay(v, g)
	} else if o.Kind == access.Column && v.Allowed.Has(access.Select) {
		a.Columns = a.Bands.Says
		a.Rows = p.rowsSay(p.state.policies.Govern(p.Standing, o.Parent))
	} else if len(v.Shut) > 0 {
		a.Rows = "door shut: " + p.Model.Path(v.Shut[0])
	}
	if paths {
		for _, privilege := range v.Held.Each() {
			if privilege == access.All || !v.Held.Has(access.All) {
				a.Paths = append(a.Paths, s.paths(p, privilege, o.ID)...)
			}
		}
	}
	return a
}

// holding lists the subjects that hold a privilege on an object, by kind and
// name.
func (s *Service) holding(st *state, id access.ObjectID) []*access.Subject {
	census := st.census(s.now())
	set := census.Held(access.Usage, id)
	for p := access.Select; p < access.All; p++ {
		set.InPlaceUnion(census.Held(p, id))
	}
	subjects := census.Each(set)
	slices.SortFunc(subjects, access.CompareSubjects)
	return subjects
}

// AccessTo lists every subject that can do something with an object.
func (s *Service) AccessTo(c Caller, path string, paths bool) (wire.AccessList, error) {
	st := s.state()
	o, err := st.model.Lookup(orPlatform(path))
	if err != nil || !s.reviewsObject(st, c, o.ID) {
		own, ownErr := s.standAt(st, c, wire.Standpoint{})
		if ownErr != nil {
			return wire.AccessList{}, ownErr
		}
		if _, err := s.seen(own, path); err != nil {
			return wire.AccessList{}, err
		}
		return wire.AccessList{}, problem(403, "refused", "Refused", "asking who can use %s needs DESCRIBE or MANAGE on it", path)
	}
	out := wire.AccessList{About: st.model.Path(o.ID), Items: []wire.Access{}, Revision: st.revision}
	for _, subject := range s.holding(st, o.ID) {
		p, err := s.standAs(st, c, subject.ID, wire.Standpoint{})
		if err != nil {
			continue // disabled: can do nothing
		}
		out.Items = append(out.Items, s.access(p, o, paths))
	}
	return out, nil
}

func (s *Service) paths(p *standpoint, privilege access.Privilege, id access.ObjectID) []wire.Path {
	out := []wire.Path{}
	for _, path := range p.Paths(privilege, id) {
		var w wire.Path
		for _, subject := range path.Subjects {
			w.Steps = append(w.Steps, p.Model.Ref(subject))
		}
		g := path.Grant
		w.Grant = s.grant(p.state, g)
		w.Says = fmt.Sprintf("%s → %s on %s", strings.Join(w.Steps, " → "), g.Privilege, p.Model.Target(g.Target))
		if g.Grantor != 0 {
			w.Says += " by " + p.Model.Ref(g.Grantor)
		}
		if !g.At.IsZero() {
			w.Says += ", " + g.At.Format("2006-01-02")
		} else {
			w.Says += ", built in"
		}
		if g.Ticket != "" {
			w.Says += ", ticket " + g.Ticket
		}
		out = append(out, w)
	}
	return out
}
