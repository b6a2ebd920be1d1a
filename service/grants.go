package service

import (
	"context"
	"fmt"
	"strings"

	"gneiss/core/access"
	"gneiss/wire"
)

// grant is a grant as callers see it, with why it gives nothing where it does.
func (s *Service) grant(st *state, g *access.Grant) wire.Grant {
	w := wire.Grant{Privilege: g.Privilege.String(), Object: st.model.Target(g.Target), Subject: st.model.Ref(g.Subject), Grantor: st.model.Ref(g.Grantor),
		Option: g.Option, At: g.At, Until: optionalTime(g.Until), Reason: g.Reason, Ticket: g.Ticket}
	d := st.model.Dormant(g, s.now())
	if d == nil {
		return w
	}
	switch d.Cause {
	case access.CauseExpired:
		w.Dormant = "its end date has passed"
		w.Wake = grantCommand(w.Privilege, w.Object, w.Subject, "")
	case access.CauseMissing:
		w.Dormant = w.Object + " is no longer in its source"
	case access.CauseNoMatch:
		w.Dormant = "no name matches its pattern yet"
	case access.CauseNoHolders:
		w.Dormant = "nobody has " + w.Subject
		if kind := st.model.Subject(g.Subject).Kind; kind == access.Role {
			w.Wake = fmt.Sprintf("gneiss role give %s to SUBJECT", st.model.Subject(g.Subject).Name)
		}
	case access.CauseDoorShut:
		w.Dormant = fmt.Sprintf("the door of %s is shut: USAGE is wanting", st.model.Path(d.Door))
		w.Wake = grantCommand("usage", st.model.Path(d.Door), w.Subject, "")
	}
	return w
}

func grantCommand(privilege, object, subject, more string) string {
	return fmt.Sprintf("gneiss grant %s on %s to %s%s", strings.ToLower(privilege), object, subject, more)
}

// Grants lists grants on an object or to a subject, or all.
func (s *Service) Grants(c Caller, object, subject string, dormantOnly bool) (wire.List[wire.Grant], error) {
	st := s.current.Load()
	out := wire.List[wire.Grant]{Items: []wire.Grant{}}
	if !s.reviews(st, c) {
		return out, problem(403, "refused", "Refused", "the list of grants needs DESCRIBE on platform")
	}
	var onObject *access.Object
	var toSubject *access.Subject
	var err error
	if object != "" {
		if onObject, err = st.model.Lookup(object); err != nil {
			return out, err
		}
	}
	if subject != "" {
		if toSubject, err = st.model.FindSubject(subject); err != nil {
			return out, err
		}
	}
	for _, g := range st.model.Grants() {
		if onObject != nil && !st.model.Within(onObject.ID, g.Object) || toSubject != nil && g.Subject != toSubject.ID {
			continue
		}
		if w := s.grant(st, g); !dormantOnly || w.Dormant != "" {
			out.Items = append(out.Items, w)
		}
	}
	return out, nil
}

// targets are what a request names: an object, a pattern, or columns of a table.
func targets(m *access.Model, in wire.GrantRequest) ([]access.Target, error) {
	target, err := m.LookupTarget(in.Object)
	if err != nil {
		return nil, err
	}
	o := m.Object(target.Object)
	if len(in.Columns) == 0 {
		return []access.Target{target}, nil
	}
	if target.Pattern != "" {
		return nil, problem(422, "bad_pattern", "Not possible", "columns belong to one table, not to the pattern %s", in.Object)
	}
	if !o.Kind.IsRelation() {
		return nil, problem(422, "wrong_level", "Not possible", "columns belong to a table; %s is a %s", m.Path(o.ID), o.Kind)
	}
	var out []access.Target
	for _, name := range in.Columns {
		column, err := m.Lookup(m.Path(o.ID) + "." + name)
		if err != nil {
			return nil, err
		}
		out = append(out, access.Target{Object: column.ID})
	}
	return out, nil
}

// Grant grants privileges; with revoke, it takes them back.
func (s *Service) Grant(ctx context.Context, c Caller, in wire.GrantRequest, revoke bool, ifMatch int64) (wire.Changed, error) {
	o, err := s.grantOrder(s.current.Load(), c, in, revoke)
	if err != nil {
		return wire.Changed{}, err
	}
	o.ifMatch = ifMatch
	return s.make(ctx, o)
}

// grantOrder is the order that a request for grants comes to.
func (s *Service) grantOrder(st *state, c Caller, in wire.GrantRequest, revoke bool) (order, error) {
	if len(in.Privileges) == 0 || len(in.Subjects) == 0 {
		return order{}, problem(422, "nothing", "Not possible", "name at least one privilege and one subject")
	}
	objects, err := targets(st.model, in)
	if err != nil {
		// What the caller does not see is not told from what is not there.
		if p, perr := s.standAt(st, c, wire.Standpoint{}); perr == nil && !s.reviews(st, c) {
			if _, serr := s.seen(p, plainPath(in.Object)); serr != nil {
				err = serr
			}
		}
		return order{}, err
	}
	for _, object := range objects {
		var what change = access.AddGrant{Privilege: in.Privileges[0], Object: st.model.Target(object)}
		if revoke {
			what = access.RemoveGrant{Object: st.model.Target(object)}
		}
		if err := s.mayChange(st, c, what); err != nil {
			if p, perr := s.standAt(st, c, wire.Standpoint{}); perr == nil && !p.review {
				if _, serr := s.seen(p, plainPath(in.Object)); serr != nil {
					return order{}, serr
				}
			}
			return order{}, s.refuse(c, "change", fmt.Sprintf("a grant of %s on %s", strings.Join(in.Privileges, ", "), in.Object), err)
		}
	}
	o := order{caller: c, Change: in.Change}
	for _, ref := range in.Subjects {
		subject, err := st.model.FindSubject(ref)
		if err != nil {
			return order{}, err
		}
		for _, object := range objects {
			for _, name := range in.Privileges {
				privilege, err := access.ParsePrivilege(name)
				if err != nil {
					return order{}, err
				}
				s.orderGrant(st, &o, in, privilege, object, subject, revoke)
			}
		}
		if in.WithEntry && !revoke {
			s.orderEntry(st, &o, in, objects[0], subject)
		}
	}
	return o, nil
}

func (s *Service) orderGrant(st *state, o *order, in wire.GrantRequest, privilege access.Privilege, target access.Target, subject *access.Subject, revoke bool) {
	path := st.model.Target(target)
	if revoke {
		o.changes = append(o.changes, access.RemoveGrant{Privilege: privilege.String(), Object: path, Subject: subject.Ref()})
		o.says = append(o.says, fmt.Sprintf("revoked %s on %s from %s", privilege, path, subject.Ref()))
		return
	}
	o.changes = append(o.changes, access.AddGrant{Privilege: privilege.String(), Object: path, Subject: subject.Ref(),
		Grantor: st.model.Ref(o.caller.User), Option: in.Option, Until: givenTime(in.Until), Reason: in.Reason, Ticket: in.Ticket})
	says := fmt.Sprintf("granted %s on %s to %s", privilege, path, subject.Ref())
	if in.Option {
		says += " with grant option"
	}
	o.says = append(o.says, says)
}

// orderEntry adds the doors that are shut for the subject on the way to the
// target, the target's own among them. Below a source, or a pattern of schemas,
// it opens the doors of those schemas, also of those that come.
func (s *Service) orderEntry(st *state, o *order, in wire.GrantRequest, target access.Target, subject *access.Subject) {
	standing, err := st.model.Stand(access.Session{Subject: subject.ID}, s.now())
	if err != nil {
		o.notes = append(o.notes, subject.Ref()+" is disabled; no doors were opened for it")
		return
	}
	in.Option = false
	opened := 0
	open := func(door access.Target) {
		s.orderGrant(st, o, in, access.Usage, door, subject, false)
		opened++
	}
	for _, door := range standing.Resolve(target.Object).Shut {
		open(access.Target{Object: door})
	}
	if st.model.Object(target.Object).Kind == access.Source {
		schemas := access.Target{Object: target.Object, Pattern: target.Pattern}
		if schemas.Pattern == "" {
			schemas.Pattern = "*"
		}
		if len(standing.Paths(access.All, target.Object)) == 0 {
			open(schemas)
		}
	}
	if opened == 0 {
		o.notes = append(o.notes, "all doors to "+st.model.Target(target)+" were open to "+subject.Ref()+" already")
	}
}

// plainPath is a path without the pattern at its end.
func plainPath(path string) string {
	if dot := strings.LastIndexByte(path, '.'); dot > 0 && strings.Contains(path[dot:], "*") {
		return path[:dot]
	}
	return path
}
