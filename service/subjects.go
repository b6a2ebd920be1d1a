package service

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/store"
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
func (s *Service) Subjects(c Caller, q SubjectSearch) (wire.List[wire.Subject], error) {
	st := s.state()
	out := wire.List[wire.Subject]{Items: []wire.Subject{}}
	own, err := s.own(st, c)
	if err != nil {
		return out, err
	}
	reviews := s.reviews(st, c)
	most := pageOf(q.Limit)
	for _, subject := range st.model.Subjects(0) {
		if q.Kind != "" && subject.Kind.String() != q.Kind || !reviews && !own.Holds(subject.ID) || q.After != "" && access.CompareRefs(subject.Ref(), q.After) <= 0 {
			continue
		}
		if len(out.Items) == most {
			out.Next = out.Items[most-1].Ref
			break
		}
		out.Items = append(out.Items, s.subject(st, subject))
	}
	return out, nil
}

// Subject is the page of one subject.
func (s *Service) Subject(c Caller, ref string) (wire.SubjectPage, error) {
	st := s.state()
	subject, err := s.reviewable(st, c, ref)
	if err != nil {
		return wire.SubjectPage{}, err
	}
	page := wire.SubjectPage{Subject: s.subject(st, subject), Own: []wire.Grant{}, Inherited: []wire.Grant{},
		Policies: append([]string{}, st.policies.Naming(subject.ID)...), Revision: st.revision}
	own, err := s.standAt(st, c, wire.Standpoint{})
	if err != nil {
		return wire.SubjectPage{}, err
	}
	if !own.review {
		page.Policies = []string{}
	}
	list := func(id access.SubjectID, into *[]wire.Grant) {
		for _, g := range st.model.GrantsTo(id) {
			if own.review || own.Sees(g.Object) {
				*into = append(*into, s.grant(st, g))
			}
		}
	}
	list(subject.ID, &page.Own)
	if standing, err := st.stand(access.Session{Subject: subject.ID}, s.now()); err == nil {
		for _, id := range standing.Subjects() {
			if id != subject.ID {
				list(id, &page.Inherited)
			}
		}
	}
	return page, nil
}

func (s *Service) subject(st *state, subject *access.Subject) wire.Subject {
	out := wire.Subject{Ref: subject.Ref(), Kind: subject.Kind.String(), Name: subject.Name, Title: subject.Title, Disabled: subject.Disabled,
		Attributes: subject.Attributes, Memberships: []wire.Membership{}, Members: []string{}, Lead: st.model.Ref(subject.Lead), Reports: []string{}}
	if out.Attributes == nil {
		out.Attributes = map[string][]string{}
	}
	for _, e := range subject.Memberships {
		out.Memberships = append(out.Memberships, wire.Membership{Of: st.model.Ref(e.Of), By: st.model.Ref(e.By), At: e.At,
			Until: optionalTime(e.Until), Option: e.Option, Reason: e.Reason, Ticket: e.Ticket})
	}
	for _, id := range subject.Members {
		out.Members = append(out.Members, st.model.Ref(id))
	}
	slices.Sort(out.Members)
	for _, id := range subject.Reports {
		out.Reports = append(out.Reports, st.model.Ref(id))
	}
	slices.Sort(out.Reports)
	out.Holders = st.census(s.now()).CountHolders(subject.ID)
	for _, g := range st.model.GrantsTo(subject.ID) {
		out.Grants++
		if st.census(s.now()).Dormant(g) != nil {
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

func givenTime(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// PutSubject adds a subject, or with exists changes one.
func (s *Service) PutSubject(ctx context.Context, c Caller, in wire.SubjectRequest, exists bool) (wire.Changed, error) {
	if err := s.administers(s.state(), c, "a change of "+in.Subject); err != nil {
		return wire.Changed{}, err
	}
	o := order{caller: c, Change: in.Change}
	if in.Password != "" && len(in.Password) < shortestPassword {
		return wire.Changed{}, weakPassword()
	}
	ref := strings.ToLower(strings.TrimSpace(in.Subject))
	if !exists {
		title := ""
		if in.Title != nil {
			title = *in.Title
		}
		o.changes = append(o.changes, access.AddSubject{Subject: ref, Title: title})
		o.says = append(o.says, "added "+ref)
	} else {
		subject, err := s.state().model.FindSubject(in.Subject)
		if err != nil {
			return wire.Changed{}, err
		}
		ref = subject.Ref()
		if in.Title != nil {
			o.says = append(o.says, fmt.Sprintf("titled %s %q", ref, *in.Title))
		}
	}
	if in.Lead != nil {
		if *in.Lead == "" {
			o.says = append(o.says, ref+" reports to nobody")
		} else {
			o.says = append(o.says, ref+" reports to "+*in.Lead)
		}
	}
	if in.Disabled != nil && *in.Disabled {
		o.says = append(o.says, "disabled "+ref)
	} else if in.Disabled != nil {
		o.says = append(o.says, "enabled "+ref)
	}
	if exists && in.Title != nil || in.Disabled != nil || in.Lead != nil {
		o.changes = append(o.changes, access.SetSubject{Subject: ref, Title: in.Title, Disabled: in.Disabled, Lead: in.Lead})
	}
	for _, name := range slices.Sorted(maps.Keys(in.Attributes)) {
		values := in.Attributes[name]
		o.changes = append(o.changes, access.SetAttribute{Subject: ref, Name: name, Values: values})
		if len(values) == 0 {
			o.says = append(o.says, fmt.Sprintf("took the attribute %s from %s", name, ref))
		} else {
			o.says = append(o.says, fmt.Sprintf("set the attribute %s of %s to %s", name, ref, strings.Join(values, ", ")))
		}
	}
	if in.Password != "" {
		o.says = append(o.says, "set the password of "+ref)
		if len(o.changes) == 0 { // a password alone makes a revision, too
			o.changes = append(o.changes, access.SetSubject{Subject: ref})
		}
		hash := store.HashPassword(in.Password)
		o.also = func(after *state) ([]store.Write, error) {
			if in.Rename != "" {
				ref = ref[:strings.IndexByte(ref, ':')+1] + strings.ToLower(in.Rename)
			}
			subject, err := after.model.FindSubject(ref)
			if err != nil || !subject.Acts() {
				return nil, problem(422, "wrong_kind", "Not possible", "%s cannot have a password: only users and services sign in", ref)
			}
			return []store.Write{store.SetPassword(uint32(subject.ID), hash)}, nil
		}
	}
	if in.Rename != "" {
		s.orderRename(&o, ref, in.Rename)
	}
	if len(o.changes) == 0 {
		return wire.Changed{}, problem(422, "nothing", "Not possible", "nothing to change was named")
	}
	if in.Disabled != nil && *in.Disabled {
		o.also = both(o.also, endSessions(ref, s.state()))
	}
	return s.make(ctx, o)
}

// orderRename adds the change of a name to an order.
func (s *Service) orderRename(o *order, ref, name string) {
	kind, _, _ := strings.Cut(ref, ":")
	next := kind + ":" + strings.TrimPrefix(strings.ToLower(name), kind+":")
	o.changes = append(o.changes, access.RenameSubject{Subject: ref, Name: name})
	o.says = append(o.says, fmt.Sprintf("renamed %s to %s; it is who it was", ref, next))
	fact := map[string]string{"user": "CURRENT_USER", "service": "CURRENT_USER", "group": "in_group", "role": "has_role"}[kind]
	o.notes = append(o.notes, "rules with "+fact+" go by the name: columns and entitlement tables that have the old one no longer mean it")
}

// also is what is written in one transaction with a change, once the state is known.
type also func(*state) ([]store.Write, error)

// both does one after the other; the first may be nil.
func both(a, b also) also {
	if a == nil {
		return b
	}
	return func(after *state) ([]store.Write, error) {
		first, err := a(after)
		if err != nil {
			return nil, err
		}
		second, err := b(after)
		return append(first, second...), err
	}
}

// endSessions ends the sessions and tokens of an account.
func endSessions(ref string, before *state) also {
	return func(*state) ([]store.Write, error) {
		subject, err := before.model.FindSubject(ref)
		if err != nil {
			return nil, nil // it is new and has none
		}
		return []store.Write{store.DropTokens(uint32(subject.ID))}, nil
	}
}

// RemoveSubject takes a subject away, with its memberships and the grants to it.
func (s *Service) RemoveSubject(ctx context.Context, c Caller, ref string, in wire.Change) (wire.Changed, error) {
	st := s.state()
	if err := s.administers(st, c, "the removal of "+ref); err != nil {
		return wire.Changed{}, err
	}
	o, err := s.removalOrder(st, ref)
	if err != nil {
		return wire.Changed{}, err
	}
	o.caller, o.Change = c, in
	return s.make(ctx, o)
}

func (s *Service) removalOrder(st *state, ref string) (order, error) {
	subject, err := st.model.FindSubject(ref)
	if err != nil {
		return order{}, err
	}
	o := order{changes: []change{access.RemoveSubject{Subject: subject.Ref()}}, says: []string{fmt.Sprintf("removed %s, with %s to it and %s", subject.Ref(),
		count(len(st.model.GrantsTo(subject.ID)), "grant"), count(len(subject.Memberships)+len(subject.Members), "membership"))},
		also: func(*state) ([]store.Write, error) { return []store.Write{store.DropAccount(uint32(subject.ID))}, nil }}
	for _, g := range st.model.GrantsTo(subject.ID) {
		if g.Owned != 0 && g.Owned == g.Object {
			o.notes = append(o.notes, st.model.Path(g.Owned)+" loses its owner")
		}
	}
	for _, id := range subject.Reports {
		o.notes = append(o.notes, fmt.Sprintf("%s reports to %s from now on", st.model.Ref(id), orNobody(st.model.Ref(subject.Lead))))
	}
	return o, nil
}

func orNobody(ref string) string {
	if ref == "" {
		return "nobody"
	}
	return ref
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Join puts a member in a group or gives it a role; with leave, the reverse.
func (s *Service) Join(ctx context.Context, c Caller, in wire.Member, leave bool) (wire.Changed, error) {
	st := s.state()
	if err := s.mayJoin(st, c, in, leave); err != nil {
		return wire.Changed{}, err
	}
	o, err := s.joinOrder(st, c, in, leave)
	if err != nil {
		return wire.Changed{}, err
	}
	o.caller, o.Change = c, in.Change
	return s.make(ctx, o)
}

// named finds the subject that something is given to. Who may give it on and
// reviews nobody has to know the name: none is suggested.
func (s *Service) named(st *state, c Caller, ref string) (*access.Subject, error) {
	subject, err := st.model.FindSubject(ref)
	if err != nil && c.User != 0 && !s.reviews(st, c) {
		return nil, problem(404, "not_found", "Not found", "there is no subject %s", ref)
	}
	return subject, err
}

// mayJoin refuses who neither administers the platform nor may give the role on,
// before any name is looked up.
func (s *Service) mayJoin(st *state, c Caller, in wire.Member, leave bool) error {
	of, err := st.model.FindSubject(in.Of)
	if err == nil && c.User != 0 {
		if !leave && !in.Option && st.model.MayGive(c.User, of.ID, s.now()) || leave && mayTake(st, c, access.Leave{Member: in.Member, Of: of.Ref()}) {
			return nil
		}
	}
	return s.administers(st, c, in.Of+" for "+in.Member)
}

// optionOrder takes the right to give a role on from one of its holders, who
// keeps the role.
func (s *Service) optionOrder(st *state, in wire.Member) (order, error) {
	member, err := st.model.FindSubject(in.Member)
	if err != nil {
		return order{}, err
	}
	o := order{says: []string{fmt.Sprintf("took the right to give %s on from %s", in.Of, member.Ref())}}
	for _, e := range member.Memberships {
		if st.model.Ref(e.Of) == in.Of && e.Option {
			o.changes = append(o.changes, access.Join{Member: member.Ref(), Of: in.Of, By: st.model.Ref(e.By), Until: e.Until, Reason: e.Reason, Ticket: e.Ticket})
		}
	}
	if len(o.changes) > 0 {
		return o, nil
	}
	return order{}, problem(422, "no_option", "Not possible", "%s has no right to give %s on", member.Ref(), in.Of)
}

// noteMemberships says what a membership adds to those that are there from others,
// and when one that is passed on ends.
func (s *Service) noteMemberships(st *state, o *order, member, of *access.Subject, what access.Join) {
	reviews := !what.Passed
	for _, e := range member.Memberships {
		if by := st.model.Ref(e.By); e.Of == of.ID && by != what.By && reviews {
			until := "without end"
			if !e.Until.IsZero() {
				until = "until " + e.Until.Format("2006-01-02")
			}
			o.notes = append(o.notes, fmt.Sprintf("%s has %s from %s too, %s; that stays as it is", member.Ref(), of.Ref(), cmp.Or(by, "gneiss"), until))
		}
	}
	if !what.Passed {
		return
	}
	after, err := st.apply(what, s.now())
	if err != nil {
		return
	}
	for _, e := range after.model.Subject(member.ID).Memberships {
		if e.Of == of.ID && st.model.Ref(e.By) == what.By && !e.Until.IsZero() && !e.Until.Equal(what.Until) {
			o.notes = append(o.notes, fmt.Sprintf("it ends on %s, when the giver's own right to pass it on ends", e.Until.Format("2006-01-02")))
		}
	}
}

func (s *Service) joinOrder(st *state, c Caller, in wire.Member, leave bool) (order, error) {
	member, err := s.named(st, c, in.Member)
	if err != nil {
		return order{}, err
	}
	of, err := st.model.FindSubject(in.Of)
	if err != nil {
		return order{}, err
	}
	verbs := map[bool][2]string{false: {"put %s in %s", "gave %[2]s to %[1]s"}, true: {"took %s out of %s", "took %[2]s from %[1]s"}}[leave]
	verb := verbs[0]
	if of.Kind == access.Role {
		verb = verbs[1]
	}
	o := order{says: []string{fmt.Sprintf(verb, member.Ref(), of.Ref())}}
	if leave {
		what := access.Leave{Member: member.Ref(), Of: of.Ref(), By: in.By, Cascade: in.Cascade}
		if in.By == "" && c.User != 0 && !s.manages(st, c, access.PlatformID) {
			what.By = st.model.Ref(c.User) // what others gave is not theirs to take
		}
		if what.By != "" {
			o.says[0] += ", as given by " + what.By
		}
		o.changes = append(o.changes, what)
		return o, nil
	}
	what := access.Join{Member: member.Ref(), Of: of.Ref(), By: st.model.Ref(c.User), Passed: c.User != 0 && !s.manages(st, c, access.PlatformID),
		Until: givenTime(in.Until), Option: in.Option, Reason: in.Reason, Ticket: in.Ticket}
	o.changes = append(o.changes, what)
	s.noteMemberships(st, &o, member, of, what)
	if in.Option {
		o.says[0] += " with the right to give it on"
	}
	return o, nil
}
