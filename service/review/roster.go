package review

import (
	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// Roster gives out all subjects but PUBLIC with their attributes and
// memberships, as [Service.TakeRoster] takes them in.
func (s *Service) Roster(c identity.Caller) (wire.Roster, error) {
	st := s.identity.State(c)
	out := wire.Roster{Subjects: []wire.RosterSubject{}, Memberships: []wire.RosterMembership{}}
	if !s.identity.Reviews(st, c) {
		return out, fault.New(fault.Refused, "refused", "the roster needs DESCRIBE on platform")
	}
	for _, subject := range st.Model.Subjects(0) {
		if subject.Kind == access.Public {
			continue
		}
		out.Subjects = append(out.Subjects, wire.RosterSubject{Ref: subject.Ref(), Title: subject.Title, Disabled: subject.Disabled,
			Lead: st.Model.Ref(subject.Lead), Attributes: subject.Attributes})
		for _, e := range subject.Memberships {
			out.Memberships = append(out.Memberships, wire.RosterMembership{Member: subject.Ref(), Of: st.Model.Ref(e.Of),
				Until: optionalTime(e.Until), Option: e.Option, Reason: e.Reason, Ticket: e.Ticket})
		}
	}
	return out, nil
}
