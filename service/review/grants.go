package review

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// grant is a grant as callers see it, with why it has no effect where it does.
func (s *Service) grant(st *platform.State, g *access.Grant) wire.Grant {
	m := st.Model
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
		w.Basis = say.GrantSays.With(m.GrantName(b), m.Target(b.Target), m.Ref(b.Subject))
	}
	if d := st.Census(time.Now()).Dormant(g); d != nil {
		s.wake(m, &w, g, d)
	}
	return w
}

// wake says why a grant has no effect, and what would give it one.
func (s *Service) wake(m *access.Model, w *wire.Grant, g *access.Grant, d *access.Dormancy) {
	grant := func(privilege, object string) {
		w.Fix = &wire.Fix{Says: say.DoGrant.With(privilege, object, w.Subject),
			Grants: []wire.GrantRequest{{Privileges: []string{privilege}, Objects: []string{object}, Subjects: []string{w.Subject}}}}
	}
	switch d.Cause {
	case access.CauseExpired:
		w.Dormant = say.Expired.With()
		grant(w.Privilege, w.Object)
	case access.CauseBasis:
		w.Dormant = say.BasisEnded.With(w.Basis)
		grant(w.Privilege, w.Object)
	case access.CauseMissing:
		w.Dormant = say.NoLongerInSource.With(w.Object)
	case access.CauseNoMatch:
		w.Dormant = say.NoMatch.With()
	case access.CauseNoHolders:
		w.Dormant = say.NoMembers.With(w.Subject)
		switch subject := m.Subject(g.Subject); {
		case subject.Kind == access.Role:
			w.Fix = &wire.Fix{Says: say.DoGive.With(w.Subject), Give: &wire.Member{Of: w.Subject}}
		case subject.Kind == access.Group:
			w.Fix = &wire.Fix{Says: say.DoAddMember.With(w.Subject), Give: &wire.Member{Of: w.Subject}}
		case subject.Disabled:
			w.Dormant, w.Fix = say.IsDisabled.With(w.Subject), &wire.Fix{Says: say.DoEnable.With(w.Subject), Enable: w.Subject}
		}
	case access.CauseNoLane:
		w.Dormant = say.NoLane.With()
		grant("USAGE", m.Path(m.Lanes()[0].ID))
		if lane, err := m.FindLane(access.FirstLane); err == nil {
			grant("USAGE", m.Path(lane.ID))
		}
	case access.CauseDoorShut:
		w.Dormant = say.DoorShut.With(w.Subject, m.Path(d.Door))
		grant("USAGE", m.Path(d.Door))
	}
}

// A GrantSearch selects grants.
type GrantSearch struct {
	Object  string // at and below it
	Subject string // to it itself
	Dormant bool   // only those that have no effect now
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
func (s *Service) Grants(c identity.Caller, q GrantSearch) (wire.List[wire.Grant], error) {
	st := s.identity.State(c)
	out := wire.List[wire.Grant]{Items: []wire.Grant{}}
	if !s.identity.Reviews(st, c) {
		return out, fault.New(fault.Refused, "refused", "the list of grants needs DESCRIBE on platform")
	}
	var only func(*access.Grant) bool
	if q.Object != "" {
		o, err := st.Model.Lookup(q.Object)
		if err != nil {
			return out, err
		}
		only = func(g *access.Grant) bool { return st.Model.Within(o.ID, g.Object) }
	}
	each := st.Model.GrantsAfter
	if q.Subject != "" {
		subject, err := st.Model.FindSubject(q.Subject)
		if err != nil {
			return out, err
		}
		each = func(after access.GrantID, f func(*access.Grant) bool) {
			for _, g := range st.Model.GrantsTo(subject.ID) {
				if g.ID > after && !f(g) {
					return
				}
			}
		}
	}
	after, err := strconv.ParseUint("0"+strings.TrimPrefix(q.After, "g"), 10, 32)
	if err != nil {
		return out, fault.New(fault.Invalid, "bad_cursor", "%q is not a cursor of this list", q.After)
	}
	last, most := access.GrantID(0), pageOf(q.Limit)
	each(access.GrantID(after), func(g *access.Grant) bool {
		if only != nil && !only(g) || q.Dormant && st.Census(time.Now()).Dormant(g) == nil {
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
