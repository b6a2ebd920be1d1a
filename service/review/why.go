package review

import (
	"errors"
	"strings"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/fault"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/wire"
)

// Why answers why a subject may use a privilege on an object, or what is
// missing and how to give it.
func (s *Service) Why(c identity.Caller, ref, privilege, path string, at wire.Standpoint) (wire.Why, error) {
	st := s.identity.State(c)
	subject, err := s.identity.Reviewable(st, c, ref)
	if err != nil {
		return wire.Why{}, err
	}
	want, err := access.ParsePrivilege(privilege)
	if err != nil {
		return wire.Why{}, err
	}
	p, err := s.identity.ViewerOf(st, c, subject.ID, at)
	if err != nil {
		return wire.Why{}, err
	}
	o, err := st.Model.Lookup(path)
	if err != nil || !s.identity.Reviews(st, c) && !p.Shows(o.ID) {
		if o, err = s.identity.Seen(p, path); err != nil {
			return wire.Why{}, err
		}
	}
	if !want.AppliesTo(o.Kind) {
		return wire.Why{}, fault.New(fault.Invalid, "wrong_level", "%s does not apply to the %s %s", want, o.Kind, st.Model.Path(o.ID))
	}
	out := wire.Why{Subject: p.Words, Privilege: want.String(), Object: st.Model.Path(o.ID), Paths: s.paths(p, want, o.ID),
		Missing: p.NeedNames(p.Missing(want, o.ID)), Fixes: []wire.Fix{}, Policies: []string{}, Bands: bandsOf(p, o.ID)}
	out.Allowed = p.Resolve(o.ID).Allowed.Has(want)
	switch {
	case out.Allowed:
		out.Lane = len(p.MayRun()) > 0 || !st.Model.Subject(subject.ID).Acts()
		out.Says = say.Has.With(out.Subject, want, out.Object)
		if o.Kind.IsRelation() && want == access.Select {
			out.Says = say.ColonHow.With(out.Says, leftBy(p, o).says)
			if p.Reviews {
				out.Policies = gateway.PolicySentences(p, o.ID)
			}
		}
		if o.View != nil && want == access.Select {
			s.whyNotView(c, p, o, &out)
		}
	case st.Model.Object(o.ID).Missing:
		out.Says = say.GoneFromSource.With(out.Object)
	default:
		out.Says = say.HasNot.With(out.Subject, want, out.Object, strings.Join(out.Missing, ", "))
		if s.identity.Reviews(st, c) {
			out.Fixes = s.identity.Fixes(p, want, o.ID)
		}
	}
	if out.Allowed && !out.Lane && o.Kind.IsRelation() {
		out.Says += say.ButNoLane.With()
		if lane, err := st.Model.FindLane(access.FirstLane); err == nil && s.identity.Reviews(st, c) {
			out.Fixes = s.identity.Fixes(p, access.Usage, lane.ID)
		}
	}
	return out, nil
}

// whyNotView adds why a view cannot be read by who holds SELECT on it.
func (s *Service) whyNotView(c identity.Caller, p *identity.Viewer, o *access.Object, out *wire.Why) {
	err := viewTrouble(p, o)
	if err == nil {
		return
	}
	told := s.identity.ToldIn(p.State, c, err)
	out.Says = say.HoldsAndCannotRead.With(out.Subject, out.Object, told.Detail)
	var q *query.Error
	if errors.As(err, &q) && len(q.Needs) > 0 && s.identity.Reviews(p.State, c) {
		out.Missing, out.Fixes = p.NeedNames(q.Needs), s.identity.FixesFor(p, q.Needs)
	}
}
