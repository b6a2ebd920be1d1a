package review

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/wire"
)

// Compare lists where two subjects differ in what they can do, at and below an
// object, with the grants that make the difference.
func (s *Service) Compare(c identity.Caller, a, b, below string) (wire.Comparison, error) {
	st := s.identity.State(c)
	out := wire.Comparison{Items: []wire.Compared{}, Grants: []wire.Grant{}, Revision: st.Revision}
	var sides [2]*identity.Viewer
	for i, ref := range []string{a, b} {
		subject, err := s.identity.Reviewable(st, c, ref)
		if err != nil {
			return out, err
		}
		if sides[i], err = s.identity.ViewerOf(st, c, subject.ID, wire.Standpoint{}); err != nil {
			return out, err
		}
	}
	out.A, out.B = sides[0].Words, sides[1].Words
	root, err := st.Model.Lookup(orPlatform(below))
	if err != nil || !sides[0].Reviews && !sides[0].Sees(root.ID) {
		if root, err = s.identity.Seen(sides[0], below); err != nil {
			return out, err
		}
	}
	told := &toldGrants{places: map[access.GrantID]int{}, list: &out.Grants}
	var visit func(o *access.Object)
	visit = func(o *access.Object) {
		if o.Kind == access.Column || !sides[0].Reviews && !sides[0].Sees(o.ID) && !sides[1].Sees(o.ID) {
			return
		}
		if item, used := s.compared(sides, o, told); used && len(item.OnlyA)+len(item.OnlyB) > 0 {
			out.Items = append(out.Items, item)
		} else if used {
			out.Alike++
		}
		for _, child := range o.Children {
			visit(st.Model.Object(child))
		}
	}
	visit(root)
	return out, nil
}

// compared is one object from both sides; used says that one side has a right.
func (s *Service) compared(sides [2]*identity.Viewer, o *access.Object, told *toldGrants) (item wire.Compared, used bool) {
	va, vb := sides[0].Resolve(o.ID), sides[1].Resolve(o.ID)
	if va.Held|vb.Held == 0 {
		return item, false
	}
	item = wire.Compared{
		Object: sides[0].Model.Path(o.ID),
		Kind:   o.Kind.String(),
		A:      s.access(sides[0], o, false),
		B:      s.access(sides[1], o, false),
		Grants: []int{},
	}
	item.OnlyA = privilegeNames(va.Allowed &^ vb.Allowed)
	item.OnlyB = privilegeNames(vb.Allowed &^ va.Allowed)
	item.Grants = append(s.making(sides[0], va.Allowed&^vb.Allowed, o.ID, told), s.making(sides[1], vb.Allowed&^va.Allowed, o.ID, told)...)
	if both := va.Allowed & vb.Allowed; o.Kind.IsRelation() && both.Has(access.Select) {
		if facts := [2]string{factsOf(sides[0], o), factsOf(sides[1], o)}; item.A.Rows == item.B.Rows && facts[0] != facts[1] {
			item.A.Rows, item.B.Rows = item.A.Rows+facts[0], item.B.Rows+facts[1]
		}
		for _, pair := range [][2]string{{item.A.Rows, item.B.Rows}, {item.A.Columns, item.B.Columns}} {
			if pair[0] != pair[1] {
				item.OnlyA, item.OnlyB = append(item.OnlyA, pair[0]), append(item.OnlyB, pair[1])
			}
		}
	}
	return item, true
}

// factsOf tells what a table's rules come to for a side: the constants that its
// facts are folded into. Two readers under one policy can see different rows.
// That is for who reviews: the constants of the rules are among them.
func factsOf(p *identity.Viewer, o *access.Object) string {
	if !p.Reviews {
		return ""
	}
	plan, err := p.State.Plan(context.Background(), p.Rights, query.Statement{SQL: "SELECT count(*) FROM " + p.Model.Path(o.ID)})
	if err != nil {
		return say.TableClosed.With(fault.Of(err).Detail)
	}
	var values []string
	for _, a := range plan.Args {
		values = append(values, fmt.Sprint(a.Value))
	}
	if len(values) == 0 {
		return say.ForNoValues.With()
	}
	return say.ForValues.With(strings.Join(values, ", "))
}

// toldGrants is a list of grants in which each stands once.
type toldGrants struct {
	places map[access.GrantID]int
	list   *[]wire.Grant
}

// making lists the grants by which a side has privileges, by their places among
// those told.
func (s *Service) making(p *identity.Viewer, privileges access.Privileges, id access.ObjectID, told *toldGrants) []int {
	places := []int{}
	for _, privilege := range privileges.Each() {
		for _, g := range p.Granting(privilege, id) {
			place, known := told.places[g.ID]
			if !known {
				place = len(*told.list)
				told.places[g.ID] = place
				*told.list = append(*told.list, s.grant(p.State, g))
			}
			if !slices.Contains(places, place) {
				places = append(places, place)
			}
		}
	}
	return places
}
