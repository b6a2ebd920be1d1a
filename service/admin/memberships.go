package admin

import (
	"cmp"
	"context"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// Join puts a member in a group or gives it a role; with leave, the reverse.
func (s *Service) Join(ctx context.Context, c identity.Caller, in wire.Member, leave bool) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.mayJoin(st, c, in, leave); err != nil {
		return wire.Changed{}, err
	}
	o, err := s.joinOrder(st, c, in, leave)
	if err != nil {
		return wire.Changed{}, err
	}
	o.caller, o.Change = c, in.Change
	return s.carryOut(ctx, o)
}

// named finds the subject that something is given to. Who may give it on and
// reviews nobody has to know the name: none is suggested.
func (s *Service) named(st *platform.State, c identity.Caller, ref string) (*access.Subject, error) {
	subject, err := st.Model.FindSubject(ref)
	if err != nil && c.User != 0 && !s.identity.Reviews(st, c) {
		return nil, fault.New(fault.NotFound, "not_found", "there is no subject %s", ref)
	}
	return subject, err
}

// mayJoin refuses who neither administers the platform nor may give the role on,
// before any name is looked up.
func (s *Service) mayJoin(st *platform.State, c identity.Caller, in wire.Member, leave bool) error {
	of, err := st.Model.FindSubject(in.Of)
	if err == nil && c.User != 0 {
		if !leave && !in.Option && st.Model.MayGive(c.User, of.ID, time.Now()) ||
			leave && mayTake(st, c, access.Leave{Member: in.Member, Of: of.Ref()}) {
			return nil
		}
	}
	return s.identity.Administers(st, c, in.Of+" for "+in.Member)
}

// optionOrder takes the right to give a role on from one of its holders, who
// keeps the role.
func (s *Service) optionOrder(st *platform.State, in wire.Member) (order, error) {
	member, err := st.Model.FindSubject(in.Member)
	if err != nil {
		return order{}, err
	}
	o := order{says: []string{say.RevokedAdminOption.With(in.Of, member.Ref())}}
	for _, e := range member.Memberships {
		if st.Model.Ref(e.Of) == in.Of && e.Option {
			o.changes = append(
				o.changes,
				access.Join{Member: member.Ref(), Of: in.Of, By: st.Model.Ref(e.By), Until: e.Until, Reason: e.Reason, Ticket: e.Ticket},
			)
		}
	}
	if len(o.changes) > 0 {
		return o, nil
	}
	return order{}, fault.New(fault.Invalid, "no_option", "%s does not have the admin option for %s", member.Ref(), in.Of)
}

// noteMemberships says what a membership adds to those that are there from others,
// and when one that is passed on ends.
func (s *Service) noteMemberships(st *platform.State, o *order, member, of *access.Subject, what access.Join) {
	reviews := !what.Passed
	for _, e := range member.Memberships {
		if by := st.Model.Ref(e.By); e.Of == of.ID && by != what.By && reviews {
			until := say.WithoutEnd.With()
			if !e.Until.IsZero() {
				until = say.UntilDay.With(e.Until.Format("2006-01-02"))
			}
			o.notes = append(
				o.notes,
				say.AlsoHas.With(member.Ref(), of.Ref(), cmp.Or(by, "gneiss"), until),
			)
		}
	}
	if !what.Passed {
		return
	}
	after, err := st.Apply(what, time.Now())
	if err != nil {
		return
	}
	for _, e := range after.Model.Subject(member.ID).Memberships {
		if e.Of == of.ID && st.Model.Ref(e.By) == what.By && !e.Until.IsZero() && !e.Until.Equal(what.Until) {
			o.notes = append(o.notes, say.EndsWithGivers.With(e.Until.Format("2006-01-02")))
		}
	}
}

func (s *Service) joinOrder(st *platform.State, c identity.Caller, in wire.Member, leave bool) (order, error) {
	member, err := s.named(st, c, in.Member)
	if err != nil {
		return order{}, err
	}
	of, err := st.Model.FindSubject(in.Of)
	if err != nil {
		return order{}, err
	}
	verbs := map[bool][2]say.Sentence{false: {say.PutIn, say.Gave}, true: {say.TookOut, say.Took}}[leave]
	verb := verbs[0]
	if of.Kind == access.Role {
		verb = verbs[1]
	}
	o := order{says: []string{verb.With(member.Ref(), of.Ref())}}
	if leave {
		what := access.Leave{Member: member.Ref(), Of: of.Ref(), By: in.By, Cascade: in.Cascade}
		if in.By == "" && c.User != 0 && !s.identity.Manages(st, c, access.PlatformID) {
			what.By = st.Model.Ref(c.User) // what others gave is not theirs to take
		}
		if what.By != "" {
			o.says[0] += say.AsGrantedBy.With(what.By)
		}
		o.changes = append(o.changes, what)
		return o, nil
	}
	what := access.Join{
		Member: member.Ref(),
		Of:     of.Ref(),
		By:     st.Model.Ref(c.User),
		Passed: c.User != 0 && !s.identity.Manages(st, c, access.PlatformID),
		Until:  givenTime(in.Until),
		Option: in.Option,
		Reason: in.Reason,
		Ticket: in.Ticket,
	}
	o.changes = append(o.changes, what)
	s.noteMemberships(st, &o, member, of, what)
	if in.Option {
		o.says[0] += say.WithAdminOption.With()
	}
	return o, nil
}
