package review

import (
	"slices"
	"time"

	"gneiss/core/access"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/wire"
)

// A SubjectSearch selects subjects.
type SubjectSearch struct {
	Kind  string // empty: of all kinds
	After string // a cursor
	Limit int
}

// Subjects lists the subjects that the caller may see, by kind and name, page by
// page.
func (s *Service) Subjects(c identity.Caller, q SubjectSearch) (wire.List[wire.Subject], error) {
	st := s.identity.State(c)
	out := wire.List[wire.Subject]{Items: []wire.Subject{}}
	own, err := s.identity.Own(st, c)
	if err != nil {
		return out, err
	}
	reviews := s.identity.Reviews(st, c)
	most := pageOf(q.Limit)
	for _, subject := range st.Model.Subjects(0) {
		if q.Kind != "" && subject.Kind.String() != q.Kind || !reviews && !own.Holds(subject.ID) ||
			q.After != "" && access.CompareRefs(subject.Ref(), q.After) <= 0 {
			continue
		}
		if len(out.Items) == most {
			out.Next = out.Items[most-1].Ref
			break
		}
		out.Items = append(out.Items, s.subject(st, subject, reviews))
	}
	return out, nil
}

// Subject is the page of one subject.
func (s *Service) Subject(c identity.Caller, ref string) (wire.SubjectPage, error) {
	st := s.identity.State(c)
	subject, err := s.identity.Reviewable(st, c, ref)
	if err != nil {
		return wire.SubjectPage{}, err
	}
	reviews := s.identity.Reviews(st, c)
	page := wire.SubjectPage{Subject: s.subject(st, subject, reviews), Own: []wire.Grant{}, Inherited: []wire.Grant{},
		Policies: append([]string{}, st.Policies.Naming(subject.ID)...), Revision: st.Revision}
	own, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return wire.SubjectPage{}, err
	}
	if !own.Reviews {
		page.Policies = []string{}
	}
	list := func(id access.SubjectID, into *[]wire.Grant) {
		for _, g := range st.Model.GrantsTo(id) {
			if own.Reviews || own.Sees(g.Object) {
				*into = append(*into, s.grant(st, g))
			}
		}
	}
	list(subject.ID, &page.Own)
	if rights, err := st.Rights(access.Standpoint{Subject: subject.ID}, time.Now()); err == nil {
		for _, id := range rights.Subjects() {
			if id != subject.ID {
				list(id, &page.Inherited)
			}
		}
	}
	return page, nil
}

// subject describes a subject. Who else has a group or a role is for who reviews: others see of it
// what they have themselves.
func (s *Service) subject(st *platform.State, subject *access.Subject, reviews bool) wire.Subject {
	out := wire.Subject{Ref: subject.Ref(), Kind: subject.Kind.String(), Name: subject.Name, Title: subject.Title, Disabled: subject.Disabled,
		Attributes: subject.Attributes, Memberships: []wire.Membership{}, Members: []string{}, Lead: st.Model.Ref(subject.Lead), Reports: []string{}}
	if out.Attributes == nil {
		out.Attributes = map[string][]string{}
	}
	for _, e := range subject.Memberships {
		out.Memberships = append(out.Memberships, wire.Membership{Of: st.Model.Ref(e.Of), By: st.Model.Ref(e.By), At: e.At,
			Until: optionalTime(e.Until), Option: e.Option, Reason: e.Reason, Ticket: e.Ticket})
	}
	shared := subject.Kind == access.Group || subject.Kind == access.Role
	for _, id := range subject.Members {
		if !reviews {
			break
		}
		out.Members = append(out.Members, st.Model.Ref(id))
	}
	slices.Sort(out.Members)
	for _, id := range subject.Reports {
		out.Reports = append(out.Reports, st.Model.Ref(id))
	}
	slices.Sort(out.Reports)
	if reviews || !shared {
		out.Holders = st.Census(time.Now()).CountHolders(subject.ID)
	}
	for _, g := range st.Model.GrantsTo(subject.ID) {
		out.Grants++
		if st.Census(time.Now()).Dormant(g) != nil {
			out.Dormant++
		}
	}
	return out
}

func optionalTime(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}
