package review

import (
	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// Tree lists what a standpoint sees at and below a path, to the depth given; 1
// is the object's own children.
func (s *Service) Tree(c identity.Caller, path string, depth int, at wire.Standpoint) (wire.Node, error) {
	st := s.identity.State(c)
	p, err := s.identity.ViewerAt(st, c, at)
	if err != nil {
		return wire.Node{}, err
	}
	o, err := s.identity.Seen(p, path)
	if err != nil {
		return wire.Node{}, err
	}
	return nodeOf(p, o, depth), nil
}

func nodeOf(p *identity.Viewer, o *access.Object, depth int) wire.Node {
	n := wire.Node{
		Path:     p.Model.Path(o.ID),
		Name:     o.Name,
		Kind:     o.Kind.String(),
		Type:     sqltype.Shown(o.Type),
		Declared: o.Declared,
		Comment:  o.Comment,
		NotNull:  o.NotNull,
		Missing:  o.Missing,
		Bands:    bandsOf(p, o.ID),
	}
	if o.Kind == access.Routine {
		signature, err := sqltype.ReadSignature(o.Declared)
		n.Declared, n.PastPolicies = "", err != nil || signature.PastPolicies()
	}
	if depth <= 0 {
		return n
	}
	for _, id := range o.Children {
		child := p.Model.Object(id)
		if child.Kind == access.Column && (child.Missing || p.Absent(id)) || !p.Sees(id) {
			continue
		}
		n.Children = append(n.Children, nodeOf(p, child, depth-1))
	}
	return n
}

// usedBy is the privilege by which an object is used.
func usedBy(o *access.Object) access.Privilege {
	if o.Kind == access.Routine {
		return access.Execute
	}
	return access.Select
}

// Object is the page of one object from a standpoint. Grants and policies are
// for who may review them.
func (s *Service) Object(c identity.Caller, path string, at wire.Standpoint) (wire.Object, error) {
	st := s.identity.State(c)
	p, err := s.identity.ViewerAt(st, c, at)
	if err != nil {
		return wire.Object{}, err
	}
	o, err := s.identity.Seen(p, path)
	if err != nil {
		return wire.Object{}, err
	}
	v := p.Resolve(o.ID)
	page := wire.Object{Node: nodeOf(p, o, 0), Privileges: privilegeNames(v.Allowed), Missing: p.NeedNames(p.Rights.Missing(usedBy(o), o.ID)),
		Columns: []wire.ColumnView{}, Policies: []wire.Policy{}, Grants: []wire.Grant{}, Manage: s.identity.Manages(st, c, o.ID), Revision: st.Revision}
	if o.Kind == access.Label {
		page.Missing = []string{}
	}
	if o.Kind == access.Lane {
		page.Missing = p.NeedNames(p.Rights.Missing(access.Usage, o.ID))
		limits := wire.Limits(o.Limits)
		page.Limits = &limits
	}
	if o.Kind.IsRelation() {
		page.Columns = columnViews(p, o)
	}
	if o.View != nil {
		page.View = viewOf(p, o)
	}
	if !s.identity.ReviewsObject(st, c, o.ID) {
		return page, nil
	}
	page.Owner, page.OwnOwner = st.Model.Ref(st.Model.Owner(o.ID)), o.Owner != 0
	page.Policies = append(page.Policies, policiesAt(st, o)...)
	for _, view := range st.Model.ReadBy(o.ID) {
		page.ReadBy = append(page.ReadBy, st.Model.Path(view.ID))
	}
	for _, id := range append([]access.ObjectID{o.ID}, st.Model.Above(o.ID)...) {
		for _, g := range st.Model.GrantsOn(id) {
			page.Grants = append(page.Grants, s.grant(st, g))
		}
	}
	s.grantsBelow(st, o, &page.Grants)
	return page, nil
}

// mostListed bounds lists on pages that have no cursor of their own.
const mostListed = 500

func (s *Service) grantsBelow(st *platform.State, o *access.Object, into *[]wire.Grant) {
	for _, id := range o.Children {
		for _, g := range st.Model.GrantsOn(id) {
			if len(*into) < mostListed {
				*into = append(*into, s.grant(st, g))
			}
		}
		s.grantsBelow(st, st.Model.Object(id), into)
	}
}

// columnViews lists a table's columns as the standpoint gets them.
func columnViews(p *identity.Viewer, o *access.Object) []wire.ColumnView {
	v := p.Resolve(o.ID)
	g := p.State.Policies.Govern(p.Rights, o.ID)
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
		if d.Treatment.Kind == policy.Absent && !p.Reviews {
			continue
		}
		readable = readable && !d.Treatment.Kind.Withheld()
		if !p.Reviews {
			d.By, d.Lost, d.Lifted = nil, nil, nil
		}
		treatment, says := d.Treatment.String(), TreatmentSays(d)
		if o.Kind == access.View {
			treatment, says = say.AsInTables.With(), say.AsInTables.With()
		}
		views = append(
			views,
			wire.ColumnView{
				Name:      column.Name,
				Type:      sqltype.Shown(column.Type),
				Declared:  column.Declared,
				Comment:   column.Comment,
				NotNull:   column.NotNull,
				Readable:  readable,
				Treatment: treatment,
				Says:      says,
				By:        policy.Names(d.By),
				Lost:      policy.Names(append(d.Lost, d.Lifted...)),
				Conflict:  d.Conflict,
				Revealed:  d.Revealed(),
				Partly:    d.Partly(),
				Labels:    labelsOf(p, id),
			},
		)
	}
	return views
}

// labelsOf lists the labels that an object has, for who may review them.
func labelsOf(p *identity.Viewer, id access.ObjectID) []string {
	out := []string{}
	if !p.Reviews && (p.Other || !p.Resolve(id).Allowed.Any(access.Set(access.Manage, access.Describe))) {
		return out
	}
	for _, label := range p.State.Policies.Labels(p.Model, id) {
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
