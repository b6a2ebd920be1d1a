package admin

import (
	"context"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

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
			return nil, fault.New(fault.Invalid, "bad_pattern", "columns belong to one table, not to the pattern %s", path)
		case !o.Kind.IsRelation():
			return nil, fault.New(fault.Invalid, "wrong_level", "columns belong to a table; %s is a %s", m.Path(o.ID), o.Kind)
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
func (s *Service) Grant(ctx context.Context, c identity.Caller, in wire.GrantRequest, revoke bool) (wire.Changed, error) {
	o, err := s.grantOrder(s.identity.State(c), c, in, revoke)
	if err != nil {
		return wire.Changed{}, err
	}
	return s.carryOut(ctx, o)
}

// grantOrder is the order that a request for grants comes to.
func (s *Service) grantOrder(st *platform.State, c identity.Caller, in wire.GrantRequest, revoke bool) (order, error) {
	if len(in.Privileges) == 0 || len(in.Subjects) == 0 || len(paths(in)) == 0 {
		return order{}, fault.New(fault.Invalid, "nothing", "name at least one privilege, one object and one subject")
	}
	asked := say.AGrant.With(strings.Join(in.Privileges, ", "), strings.Join(paths(in), ", "))
	if revoke && !s.mayAskToRevoke(st, c, in) {
		return order{}, s.identity.Refuse(c, audit.Change, asked, fault.New(fault.Refused, "no_grant",
			"you have granted no %s on %s to %s; to revoke what others granted, you need MANAGE on the object",
			strings.Join(in.Privileges, ", "), strings.Join(paths(in), ", "), strings.Join(in.Subjects, ", ")))
	}
	for _, right := range in.Privileges {
		if _, _, err := st.Model.ParseRight(right); err != nil {
			return order{}, err // a typo is no refusal
		}
	}
	objects, err := targets(st.Model, in)
	if err != nil {
		return order{}, s.notTold(st, c, in, err)
	}
	if revoke && in.Grantor == "" && c.User != 0 && !s.managesAll(st, c, objects) {
		in.Grantor = st.Model.Ref(c.User) // what others granted is not theirs to revoke
	}
	for _, object := range objects {
		for _, right := range in.Privileges {
			var what platform.Change = access.AddGrant{Privilege: right, Object: st.Model.Target(object)}
			if revoke {
				what = access.RemoveGrant{Object: st.Model.Target(object), Grantor: in.Grantor, Cascade: in.Cascade}
			}
			if err := s.mayChange(st, c, what); err != nil {
				return order{}, s.notTold(st, c, in, s.identity.Refuse(c, audit.Change, asked, err))
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
		if _, err := st.ApplyAll(o.changes, time.Now()); err != nil {
			return order{}, s.notTold(st, c, in, s.dependentsTold(st, c, err))
		}
	}
	return o, nil
}

// mayAskToRevoke reports whether a caller may be told of the grants that are to be revoked: they
// manage all the objects, or have made each of the grants themself. Everybody else is told the
// same, whatever is there.
func (s *Service) mayAskToRevoke(st *platform.State, c identity.Caller, in wire.GrantRequest) bool {
	if c.User == 0 || s.identity.Manages(st, c, access.PlatformID) {
		return true
	}
	objects, err := targets(st.Model, in)
	if err != nil {
		return false
	}
	if s.managesAll(st, c, objects) {
		return true
	}
	if in.Grantor != "" && in.Grantor != st.Model.Ref(c.User) {
		return false
	}
	for _, ref := range in.Subjects {
		subject, err := st.Model.FindSubject(ref)
		if err != nil {
			return false
		}
		for _, right := range in.Privileges {
			p, b, err := st.Model.ParseRight(right)
			if err != nil {
				return false
			}
			for _, target := range objects {
				own := func(g *access.Grant) bool {
					return g.Grantor == c.User && g.Privilege == p && g.Bundle == b && g.Target == target && g.Owned == 0
				}
				if !slices.ContainsFunc(st.Model.GrantsTo(subject.ID), own) {
					return false
				}
			}
		}
	}
	return true
}

// notTold puts the words for what is not there in place of an error about
// objects that the caller does not see.
func (s *Service) notTold(st *platform.State, c identity.Caller, in wire.GrantRequest, err error) error {
	p, perr := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if perr != nil || p.Reviews {
		return err
	}
	for _, path := range paths(in) {
		within, _ := access.CutPattern(path)
		if _, serr := s.identity.Seen(p, within); serr != nil {
			return serr
		}
	}
	return err
}

func (s *Service) managesAll(st *platform.State, c identity.Caller, objects []access.Target) bool {
	for _, t := range objects {
		if !s.identity.Manages(st, c, t.Object) {
			return false
		}
	}
	return true
}

// orderGrant adds one grant or revocation to an order.
func (s *Service) orderGrant(
	st *platform.State,
	o *order,
	in wire.GrantRequest,
	right string,
	target access.Target,
	subject *access.Subject,
	revoke bool,
) error {
	p, b, err := st.Model.ParseRight(right)
	if err != nil {
		return err
	}
	name, path := st.Model.GrantName(&access.Grant{Privilege: p, Bundle: b}), st.Model.Target(target)
	if revoke {
		o.changes = append(
			o.changes,
			access.RemoveGrant{
				Privilege:  name,
				Object:     path,
				Subject:    subject.Ref(),
				Grantor:    in.Grantor,
				OptionOnly: in.OptionOnly,
				Cascade:    in.Cascade,
			},
		)
		says := say.Revoked
		if in.OptionOnly {
			says = say.RevokedOption
		}
		o.says = append(o.says, says.With(name, path, subject.Ref()))
		return nil
	}
	o.changes = append(o.changes, access.AddGrant{Privilege: name, Object: path, Subject: subject.Ref(),
		Grantor: st.Model.Ref(o.caller.User), Option: in.Option, Until: givenTime(in.Until), Reason: in.Reason, Ticket: in.Ticket})
	says := say.Granted.With(name, path, subject.Ref())
	if in.Option {
		says += say.WithGrantOption.With()
	}
	o.says = append(o.says, says)
	return nil
}

// orderEntry adds the doors that are shut for the subject on the way to the
// targets, the targets' own among them, and a lane where it has none. Below a
// source, or a pattern of schemas, it opens the doors of those schemas, also of
// those that come.
func (s *Service) orderEntry(st *platform.State, o *order, in wire.GrantRequest, objects []access.Target, subject *access.Subject) {
	rights, err := st.Model.Rights(access.Standpoint{Subject: subject.ID}, time.Now())
	if err != nil {
		o.notes = append(o.notes, say.DisabledNotEntered.With(subject.Ref()))
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
		for _, door := range rights.Resolve(target.Object).Shut {
			open(access.Target{Object: door})
		}
		if st.Model.Object(target.Object).Kind != access.Source || len(rights.Paths(access.All, target.Object)) > 0 {
			continue
		}
		schemas := access.Target{Object: target.Object, Pattern: target.Pattern}
		if schemas.Pattern == "" {
			schemas.Pattern = "*"
		}
		open(schemas)
	}
	if lane, err := st.Model.FindLane(access.FirstLane); err == nil && len(rights.MayRun()) == 0 && s.needsLane(st, subject.ID) {
		open(access.Target{Object: lane.ID})
	}
	if len(opened) == 0 {
		o.notes = append(o.notes, say.EntersAlready.With(subject.Ref()))
	}
}

// needsLane reports whether some holder of a subject has no lane open.
func (s *Service) needsLane(st *platform.State, id access.SubjectID) bool {
	c := st.Census(time.Now())
	return c.CountHolders(id) == 0 || c.Laneless(id)
}
