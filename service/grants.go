package service

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"gneiss/core/access"
	"gneiss/wire"
)

// grant is a grant as callers see it, with why it gives nothing where it does.
func (s *Service) grant(st *state, g *access.Grant) wire.Grant {
	m := st.model
	w := wire.Grant{Privilege: m.GrantName(g), Object: m.Target(g.Target), Subject: m.Ref(g.Subject), Grantor: m.Ref(g.Grantor),
		Option: g.Option, At: g.At, Until: optionalTime(g.Until), Reason: g.Reason, Ticket: g.Ticket}
	if g.Bundle != 0 {
		w.Gives = privilegeNames(m.Gives(g))
	}
	if g.Owned != 0 {
		w.Owns = m.Path(g.Owned)
	}
	if g.Basis != 0 {
		b := m.Grant(g.Basis)
		w.Basis = fmt.Sprintf("%s on %s to %s", m.GrantName(b), m.Target(b.Target), m.Ref(b.Subject))
	}
	if d := st.census(s.now()).Dormant(g); d != nil {
		s.wake(m, &w, g, d)
	}
	return w
}

// wake says why a grant gives nothing, and what would wake it.
func (s *Service) wake(m *access.Model, w *wire.Grant, g *access.Grant, d *access.Dormancy) {
	grant := func(privilege, object string) {
		w.Wake = grantCommand(privilege, object, w.Subject, "")
		w.Fix = &wire.Fix{Says: fmt.Sprintf("grant %s on %s to %s", privilege, object, w.Subject), Commands: []string{w.Wake},
			Grants: []wire.GrantRequest{{Privileges: []string{privilege}, Objects: []string{object}, Subjects: []string{w.Subject}}}}
	}
	switch d.Cause {
	case access.CauseExpired:
		w.Dormant = "its end date has passed"
		grant(w.Privilege, w.Object)
	case access.CauseBasis:
		w.Dormant = "what it rested on has ended (" + w.Basis + ")"
		grant(w.Privilege, w.Object)
	case access.CauseMissing:
		w.Dormant = w.Object + " is no longer in its source"
	case access.CauseNoMatch:
		w.Dormant = "no name matches its pattern yet"
	case access.CauseNoHolders:
		w.Dormant = "nobody has " + w.Subject
		switch subject := m.Subject(g.Subject); {
		case subject.Kind == access.Role:
			w.Wake = fmt.Sprintf("gneiss role give %s to SUBJECT", subject.Name)
		case subject.Kind == access.Group:
			w.Wake = fmt.Sprintf("gneiss group put SUBJECT in %s", subject.Name)
		case subject.Disabled:
			w.Dormant, w.Wake = w.Subject+" is disabled", fmt.Sprintf("gneiss %s set %s --enable", subject.Kind, subject.Name)
		}
	case access.CauseNoLane:
		w.Dormant = "no lane is open to who has it, so no query of theirs can run"
		grant("USAGE", m.Path(m.Lanes()[0].ID))
		if lane, err := m.FindLane(access.FirstLane); err == nil {
			grant("USAGE", m.Path(lane.ID))
		}
	case access.CauseDoorShut:
		w.Dormant = fmt.Sprintf("the door of %s is shut: USAGE is wanting", m.Path(d.Door))
		grant("USAGE", m.Path(d.Door))
	}
}

func grantCommand(privilege, object, subject, more string) string {
	return fmt.Sprintf("gneiss grant %s on %s to %s%s", strings.ToLower(privilege), object, subject, more)
}

// A GrantSearch selects grants.
type GrantSearch struct {
	Object  string // at and below it
	Subject string // to it itself
	Dormant bool   // only those that give nothing now
	After   string // a cursor
	Limit   int
}

// pageOf bounds a page of a list: a thousand when nothing is asked.
func pageOf(limit int) int {
	if limit < 1 || limit > 5000 {
		return 1000
	}
	return limit
}

// Grants lists grants, oldest first, page by page.
func (s *Service) Grants(c Caller, q GrantSearch) (wire.List[wire.Grant], error) {
	st := s.state()
	out := wire.List[wire.Grant]{Items: []wire.Grant{}}
	if !s.reviews(st, c) {
		return out, problem(403, "refused", "Refused", "the list of grants needs DESCRIBE on platform")
	}
	var only func(*access.Grant) bool
	if q.Object != "" {
		o, err := st.model.Lookup(q.Object)
		if err != nil {
			return out, err
		}
		only = func(g *access.Grant) bool { return st.model.Within(o.ID, g.Object) }
	}
	each := st.model.GrantsAfter
	if q.Subject != "" {
		subject, err := st.model.FindSubject(q.Subject)
		if err != nil {
			return out, err
		}
		each = func(after access.GrantID, f func(*access.Grant) bool) {
			for _, g := range st.model.GrantsTo(subject.ID) {
				if g.ID > after && !f(g) {
					return
				}
			}
		}
	}
	after, err := strconv.ParseUint("0"+strings.TrimPrefix(q.After, "g"), 10, 32)
	if err != nil {
		return out, problem(422, "bad_cursor", "Not possible", "%q is no cursor of this list", q.After)
	}
	last, most := access.GrantID(0), pageOf(q.Limit)
	each(access.GrantID(after), func(g *access.Grant) bool {
		if only != nil && !only(g) || q.Dormant && st.census(s.now()).Dormant(g) == nil {
			return true
		}
		if len(out.Items) == most {
			out.Next = fmt.Sprintf("g%d", last)
			return false
		}
		last = g.ID
		out.Items = append(out.Items, s.grant(st, g))
		return true
	})
	return out, nil
}

// targets are what a request names: objects, patterns, or columns of tables.
func targets(m *access.Model, in wire.GrantRequest) ([]access.Target, error) {
	var out []access.Target
	for _, path := range paths(in) {
		target, err := m.LookupTarget(path)
		if err != nil {
			return nil, err
		}
		o := m.Object(target.Object)
		switch {
		case len(in.Columns) == 0:
			out = append(out, target)
			continue
		case target.Pattern != "":
			return nil, problem(422, "bad_pattern", "Not possible", "columns belong to one table, not to the pattern %s", path)
		case !o.Kind.IsRelation():
			return nil, problem(422, "wrong_level", "Not possible", "columns belong to a table; %s is a %s", m.Path(o.ID), o.Kind)
		}
		for _, name := range in.Columns {
			column, err := m.Lookup(m.Path(o.ID) + "." + name)
			if err != nil {
				return nil, err
			}
			out = append(out, access.Target{Object: column.ID})
		}
	}
	return out, nil
}

// paths are all the objects that a request names.
func paths(in wire.GrantRequest) []string {
	if in.Object == "" {
		return in.Objects
	}
	return append([]string{in.Object}, in.Objects...)
}

// Grant grants privileges; with revoke, it takes them back.
func (s *Service) Grant(ctx context.Context, c Caller, in wire.GrantRequest, revoke bool) (wire.Changed, error) {
	o, err := s.grantOrder(s.state(), c, in, revoke)
	if err != nil {
		return wire.Changed{}, err
	}
	return s.make(ctx, o)
}

// grantOrder is the order that a request for grants comes to.
func (s *Service) grantOrder(st *state, c Caller, in wire.GrantRequest, revoke bool) (order, error) {
	if len(in.Privileges) == 0 || len(in.Subjects) == 0 || len(paths(in)) == 0 {
		return order{}, problem(422, "nothing", "Not possible", "name at least one privilege, one object and one subject")
	}
	asked := fmt.Sprintf("a grant of %s on %s", strings.Join(in.Privileges, ", "), strings.Join(paths(in), ", "))
	objects, err := targets(st.model, in)
	if err != nil {
		return order{}, s.notTold(st, c, in, err)
	}
	if revoke && in.Grantor == "" && c.User != 0 && !s.managesAll(st, c, objects) {
		in.Grantor = st.model.Ref(c.User) // what others granted is not theirs to revoke
	}
	for _, object := range objects {
		for _, right := range in.Privileges {
			var what change = access.AddGrant{Privilege: right, Object: st.model.Target(object)}
			if revoke {
				what = access.RemoveGrant{Object: st.model.Target(object), Grantor: in.Grantor, Cascade: in.Cascade}
			}
			if err := s.mayChange(st, c, what); err != nil {
				return order{}, s.notTold(st, c, in, s.refuse(c, "change", asked, err))
			}
		}
	}
	o := order{caller: c, Change: in.Change}
	for _, ref := range in.Subjects {
		subject, err := s.named(st, c, ref)
		if err != nil {
			return order{}, err
		}
		for _, object := range objects {
			for _, right := range in.Privileges {
				if err := s.orderGrant(st, &o, in, right, object, subject, revoke); err != nil {
					return order{}, err
				}
			}
		}
		if in.WithEntry && !revoke {
			s.orderEntry(st, &o, in, objects, subject)
		}
	}
	if revoke && in.Grantor != "" {
		// Whether there is such a grant is told only of objects that are seen.
		if _, err := st.applyAll(o.changes, s.now()); err != nil {
			return order{}, s.notTold(st, c, in, s.dependentsTold(st, c, err))
		}
	}
	return o, nil
}

// notTold puts the words for what is not there in place of an error about
// objects that the caller does not see.
func (s *Service) notTold(st *state, c Caller, in wire.GrantRequest, err error) error {
	p, perr := s.standAt(st, c, wire.Standpoint{})
	if perr != nil || p.review {
		return err
	}
	for _, path := range paths(in) {
		if _, serr := s.seen(p, plainPath(path)); serr != nil {
			return serr
		}
	}
	return err
}

func (s *Service) managesAll(st *state, c Caller, objects []access.Target) bool {
	for _, t := range objects {
		if !s.manages(st, c, t.Object) {
			return false
		}
	}
	return true
}

// orderGrant adds one grant or revocation to an order.
func (s *Service) orderGrant(st *state, o *order, in wire.GrantRequest, right string, target access.Target, subject *access.Subject, revoke bool) error {
	p, b, err := st.model.ParseRight(right)
	if err != nil {
		return err
	}
	name, path := st.model.GrantName(&access.Grant{Privilege: p, Bundle: b}), st.model.Target(target)
	if revoke {
		o.changes = append(o.changes, access.RemoveGrant{Privilege: name, Object: path, Subject: subject.Ref(), Grantor: in.Grantor, OptionOnly: in.OptionOnly, Cascade: in.Cascade})
		says := "revoked %s on %s from %s"
		if in.OptionOnly {
			says = "revoked the grant option for %s on %s from %s"
		}
		o.says = append(o.says, fmt.Sprintf(says, name, path, subject.Ref()))
		return nil
	}
	o.changes = append(o.changes, access.AddGrant{Privilege: name, Object: path, Subject: subject.Ref(),
		Grantor: st.model.Ref(o.caller.User), Option: in.Option, Until: givenTime(in.Until), Reason: in.Reason, Ticket: in.Ticket})
	says := fmt.Sprintf("granted %s on %s to %s", name, path, subject.Ref())
	if in.Option {
		says += " with grant option"
	}
	o.says = append(o.says, says)
	return nil
}

// orderEntry adds the doors that are shut for the subject on the way to the
// targets, the targets' own among them, and a lane where it has none. Below a
// source, or a pattern of schemas, it opens the doors of those schemas, also of
// those that come.
func (s *Service) orderEntry(st *state, o *order, in wire.GrantRequest, objects []access.Target, subject *access.Subject) {
	standing, err := st.model.Stand(access.Session{Subject: subject.ID}, s.now())
	if err != nil {
		o.notes = append(o.notes, subject.Ref()+" is disabled; no doors were opened for it")
		return
	}
	in.Option = false
	opened := map[access.Target]bool{}
	open := func(door access.Target) {
		if !opened[door] {
			opened[door] = true
			s.orderGrant(st, o, in, access.Usage.String(), door, subject, false) // USAGE is a privilege
		}
	}
	for _, target := range objects {
		for _, door := range standing.Resolve(target.Object).Shut {
			open(access.Target{Object: door})
		}
		if st.model.Object(target.Object).Kind != access.Source || len(standing.Paths(access.All, target.Object)) > 0 {
			continue
		}
		schemas := access.Target{Object: target.Object, Pattern: target.Pattern}
		if schemas.Pattern == "" {
			schemas.Pattern = "*"
		}
		open(schemas)
	}
	if lane, err := st.model.FindLane(access.FirstLane); err == nil && len(standing.MayRun()) == 0 && s.needsLane(st, subject.ID) {
		open(access.Target{Object: lane.ID})
	}
	if len(opened) == 0 {
		o.notes = append(o.notes, "all doors were open to "+subject.Ref()+" already")
	}
}

// needsLane reports whether some holder of a subject has no lane open.
func (s *Service) needsLane(st *state, id access.SubjectID) bool {
	c := st.census(s.now())
	return c.CountHolders(id) == 0 || c.Laneless(id)
}

// plainPath is a path without the pattern at its end.
func plainPath(path string) string {
	if dot := strings.LastIndexByte(path, '.'); dot > 0 && strings.Contains(path[dot:], "*") {
		return path[:dot]
	}
	return path
}
