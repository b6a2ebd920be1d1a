package admin

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

func givenTime(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// PutSubject adds a subject, or with exists changes one.
func (s *Service) PutSubject(ctx context.Context, c identity.Caller, in wire.SubjectRequest, exists bool) (wire.Changed, error) {
	if err := s.identity.Administers(s.identity.State(c), c, "a change of "+in.Subject); err != nil {
		return wire.Changed{}, err
	}
	o := order{caller: c, Change: in.Change}
	if in.Password != "" {
		if err := identity.FitPassword(in.Password); err != nil {
			return wire.Changed{}, err
		}
	}
	ref := strings.ToLower(strings.TrimSpace(in.Subject))
	if !exists {
		title := ""
		if in.Title != nil {
			title = *in.Title
		}
		o.changes = append(o.changes, access.AddSubject{Subject: ref, Title: title})
		o.says = append(o.says, say.Added.With(ref))
	} else {
		subject, err := s.identity.State(c).Model.FindSubject(in.Subject)
		if err != nil {
			return wire.Changed{}, err
		}
		ref = subject.Ref()
		if in.Title != nil {
			o.says = append(o.says, say.SetDescription.With(ref, *in.Title))
		}
	}
	if in.Lead != nil {
		if *in.Lead == "" {
			o.says = append(o.says, say.ReportsToNobody.With(ref))
		} else {
			o.says = append(o.says, say.ReportsTo.With(ref, *in.Lead))
		}
	}
	if in.Disabled != nil && *in.Disabled {
		o.says = append(o.says, say.Disabled.With(ref))
	} else if in.Disabled != nil {
		o.says = append(o.says, say.Enabled.With(ref))
	}
	if exists && in.Title != nil || in.Disabled != nil || in.Lead != nil {
		o.changes = append(o.changes, access.SetSubject{Subject: ref, Title: in.Title, Disabled: in.Disabled, Lead: in.Lead})
	}
	for _, name := range slices.Sorted(maps.Keys(in.Attributes)) {
		values := in.Attributes[name]
		o.changes = append(o.changes, access.SetAttribute{Subject: ref, Name: name, Values: values})
		if len(values) == 0 {
			o.says = append(o.says, say.TookAttribute.With(name, ref))
		} else {
			o.says = append(o.says, say.SetAttribute.With(name, ref, strings.Join(values, ", ")))
		}
	}
	if in.Password != "" {
		o.says = append(o.says, say.SetPassword.With(ref))
		if c.Connected() && ref != s.identity.State(c).Model.Ref(c.User) && strings.HasPrefix(ref, "user:") {
			o.notes = append(o.notes, say.PasswordGiven.With(ref))
		}
		if len(o.changes) == 0 { // a password alone makes a revision, too
			o.changes = append(o.changes, access.SetSubject{Subject: ref})
		}
		password, err := store.NewPassword(ctx, in.Password)
		if err != nil {
			return wire.Changed{}, err
		}
		o.also = func(after *platform.State) ([]store.Write, error) {
			if in.Rename != "" {
				ref = ref[:strings.IndexByte(ref, ':')+1] + strings.ToLower(in.Rename)
			}
			subject, err := after.Model.FindSubject(ref)
			if err != nil || !subject.Acts() {
				return nil, fault.New(fault.Invalid, "wrong_kind", "%s cannot have a password: only users and services sign in", ref)
			}
			if c.Connected() && subject.ID != c.User && subject.Kind == access.User {
				password = password.Given()
			}
			return []store.Write{store.SetPassword(uint32(subject.ID), password)}, nil
		}
	}
	if in.Rename != "" {
		s.orderRename(&o, ref, in.Rename)
	}
	if len(o.changes) == 0 {
		return wire.Changed{}, fault.New(fault.Invalid, "nothing", "nothing to change was named")
	}
	return s.carryOut(ctx, o)
}

// orderRename adds the change of a name to an order.
func (s *Service) orderRename(o *order, ref, name string) {
	kind, _, _ := strings.Cut(ref, ":")
	next := kind + ":" + strings.TrimPrefix(strings.ToLower(name), kind+":")
	o.changes = append(o.changes, access.RenameSubject{Subject: ref, Name: name})
	o.says = append(o.says, say.Renamed.With(ref, next))
	fact := map[string]string{"user": "CURRENT_USER", "service": "CURRENT_USER", "group": "in_group", "role": "has_role"}[kind]
	o.notes = append(o.notes, say.RulesCompareNames.With(fact))
}

// RemoveSubject takes a subject away, with its memberships and the grants to it.
func (s *Service) RemoveSubject(ctx context.Context, c identity.Caller, ref string, in wire.Change) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "the removal of "+ref); err != nil {
		return wire.Changed{}, err
	}
	o, err := s.removalOrder(st, ref)
	if err != nil {
		return wire.Changed{}, err
	}
	o.caller, o.Change = c, in
	return s.carryOut(ctx, o)
}

func (s *Service) removalOrder(st *platform.State, ref string) (order, error) {
	subject, err := st.Model.FindSubject(ref)
	if err != nil {
		return order{}, err
	}
	o := order{
		changes: []platform.Change{access.RemoveSubject{Subject: subject.Ref()}},
		says: []string{say.RemovedSubject.With(subject.Ref(),
			say.Count(len(st.Model.GrantsTo(subject.ID)), "grant"), say.Count(len(subject.Memberships)+len(subject.Members), "membership"))},
	}
	for _, g := range st.Model.GrantsTo(subject.ID) {
		if g.Owned != 0 && g.Owned == g.Object {
			o.notes = append(o.notes, say.LosesOwner.With(st.Model.Path(g.Owned)))
		}
	}
	for _, id := range subject.Reports {
		o.notes = append(o.notes, say.ReportsFromNow.With(st.Model.Ref(id), orNobody(st.Model.Ref(subject.Lead))))
	}
	return o, nil
}

func orNobody(ref string) string {
	if ref == "" {
		return "nobody"
	}
	return ref
}
