package admin

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/store"
	"gneiss/wire"
)

// An order is a change that a caller asks for.
type order struct {
	caller  identity.Caller
	changes []platform.Change
	says    []string // what it does, in sentences
	notes   []string
	also    also     // what is written with it
	draft   int64    // that it publishes; zero: none
	makers  []uint32 // who put its changes into that draft
	wire.Change
}

// carryOut works an order out on the next state, checks that the caller may, and
// unless it is a dry run makes it current, or puts it into the draft that the caller's
// changes go into. Orders are made one at a time.
func (s *Service) carryOut(ctx context.Context, o order) (wire.Changed, error) {
	switch {
	case o.caller.Past():
		return wire.Changed{}, fault.New(fault.Invalid, "past", "what was cannot be changed: leave out the moment, or undo a revision")
	case o.caller.Draft() != nil:
		return s.intoDraft(ctx, o, o.caller.Draft())
	}
	if !o.DryRun { // a dry run looks at the state that it finds
		s.platform.Lock()
		defer s.platform.Unlock()
	}
	before, now := s.platform.Current(), s.platform.Now().UTC()
	if !o.DryRun {
		now = s.platform.Time().UTC()
	}
	err := s.platform.Stale(ctx, before, o.caller.IfMatch)
	if err != nil {
		return wire.Changed{}, err
	}
	after, out, err := s.workOut(before, o, now)
	if err == nil {
		err = s.secondPerson(before, after, o, o.makers, now)
	}
	if err != nil || o.DryRun || len(o.changes) == 0 {
		return out, err
	}
	also := accountsOf(before, o.changes)
	if o.also != nil {
		more, err := o.also(after)
		if err != nil {
			return wire.Changed{}, err
		}
		also = append(also, more...)
	}
	note, err := noteOf(after.Revision+1, o, out)
	if err != nil {
		return wire.Changed{}, err
	}
	also = append(also, note)
	if err := s.platform.Commit(ctx, before, after, platform.Commit{Changes: o.changes, Actor: identity.Actor(before.Model, o.caller), Says: o.says,
		Reason: reasonOf(o), Address: o.caller.Address, Client: o.caller.Client, Objects: objectsOf(o.changes), Also: also}, now); err != nil {
		return wire.Changed{}, err
	}
	out.Revision, out.Done, out.Revised = after.Revision, true, true
	return out, nil
}

// reasonOf is an order's reason, with the guardrails that it sets aside.
func reasonOf(o order) string {
	if o.caller.SetAside == "" {
		return o.Reason
	}
	return o.Reason + " (guardrails set aside: " + o.caller.SetAside + ")"
}

// workOut is the state that an order comes to, where its caller may make each of its changes, and
// what it does to whom.
func (s *Service) workOut(before *platform.State, o order, now time.Time) (after *platform.State, out wire.Changed, err error) {
	after = before
	for _, c := range o.changes {
		if err := s.mayChange(after, o.caller, c); err != nil {
			return nil, out, s.identity.Refuse(o.caller, audit.Change, strings.Join(o.says, "; "), err)
		}
		next, err := after.Apply(c, now)
		if err != nil {
			return nil, out, s.dependentsTold(before, o.caller, err)
		}
		after = next
		if err := s.mayLend(after, o.caller, c); err != nil {
			return nil, out, s.identity.Refuse(o.caller, audit.Change, strings.Join(o.says, "; "), err)
		}
	}
	if err := s.checkPolicies(before, after, o.changes); err != nil {
		return nil, out, err
	}
	out = wire.Changed{Revision: before.Revision, DryRun: o.DryRun, Says: o.says, Notes: append([]string{}, o.notes...)}
	out.Effects, out.More = s.review.Effects(before, after, o.changes, o.caller, now)
	out.Notes = append(out.Notes, s.review.DormantNotes(o.caller, before, after, o.changes)...)
	notes, err := s.guarded(before, after, o, now)
	out.Notes = append(out.Notes, notes...)
	return after, out, err
}

// mostNoted bounds the effects that are kept with a revision.
const mostNoted = 200

// noteOf is what is kept of a revision in words.
func noteOf(revision int64, o order, out wire.Changed) (store.Write, error) {
	says, err := json.Marshal(out.Says)
	if err != nil {
		return store.Write{}, err
	}
	effects, err := json.Marshal(out.Effects[:min(len(out.Effects), mostNoted)])
	return store.NoteRevision(store.RevisionNote{Revision: revision, Says: string(says), Effects: string(effects), Draft: o.draft}), err
}

// accountsOf is what changes of subjects do to their accounts: whoever is removed has none any more,
// and whoever is disabled is signed out.
func accountsOf(before *platform.State, changes []platform.Change) []store.Write {
	var writes []store.Write
	for _, c := range changes {
		switch c := c.(type) {
		case access.RemoveSubject:
			if subject, err := before.Model.FindSubject(c.Subject); err == nil {
				writes = append(writes, store.DropAccount(uint32(subject.ID)))
			}
		case access.SetSubject:
			if subject, err := before.Model.FindSubject(c.Subject); err == nil && c.Disabled != nil && *c.Disabled {
				writes = append(writes, store.DropTokens(uint32(subject.ID)))
			}
		}
	}
	return writes
}

// dependentsTold keeps from who may not review grants whose depend on theirs.
func (s *Service) dependentsTold(st *platform.State, c identity.Caller, err error) error {
	var rest *access.Dependents
	if errors.As(err, &rest) && c.User != 0 && !s.identity.Reviews(st, c) {
		return fault.New(fault.Conflict, "dependents", "others were granted it from there; ask an administrator to revoke it")
	}
	return err
}

// objectsOf lists the objects that changes are about, for the record.
func objectsOf(changes []platform.Change) []string {
	var paths []string
	for _, c := range changes {
		switch c := c.(type) {
		case access.AddGrant:
			paths = append(paths, c.Object)
		case access.RemoveGrant:
			paths = append(paths, c.Object)
		case access.PutView:
			paths = append(paths, c.Path)
		case access.DropView:
			paths = append(paths, c.Path)
		case policy.PutRowPolicy:
			paths = append(paths, c.Table)
		case policy.PutColumnPolicy:
			paths = append(paths, c.Columns...)
		}
	}
	return paths
}

// checkPolicies refuses changes after which a live rule would not bind, or a
// policy would name a subject that is gone.
func (s *Service) checkPolicies(before, after *platform.State, changes []platform.Change) error {
	for _, c := range changes {
		switch c := c.(type) {
		case access.RenameSubject:
			if _, err := before.Model.FindSubject(c.Subject); err != nil {
				continue // it is new in the same order: no rule of before has its name
			}
			if err := namedInRules(before, c.Subject); err != nil {
				return err
			}
		case policy.PutRowPolicy:
			row, _ := after.Policies.Find(c.Name)
			if err := after.CheckRow(row); err != nil {
				return err
			}
		case policy.PutColumnPolicy:
			_, column := after.Policies.Find(c.Name)
			if err := after.CheckColumn(column); err != nil {
				return err
			}
		case access.RemoveSubject:
			subject, err := before.Model.FindSubject(c.Subject)
			if err != nil {
				continue // it came and went in the same order
			}
			if names := after.Policies.Naming(subject.ID); len(names) > 0 {
				return fault.New(fault.Conflict, "in_use", "%s is named by the policies %s; edit or remove them first", subject.Ref(), strings.Join(names, ", "))
			}
			if err := namedInRules(before, c.Subject); err != nil {
				return err
			}
		}
	}
	return nil
}

// namedInRules refuses to rename or remove a subject whose name the rules of
// policies compare with: has_role('intern') would turn false unseen.
func namedInRules(st *platform.State, ref string) error {
	subject, err := st.Model.FindSubject(ref)
	if err != nil {
		return err
	}
	fact := map[access.SubjectKind]string{access.Group: "in_group", access.Role: "has_role"}[subject.Kind]
	if fact == "" {
		fact = "user"
	}
	var names []string
	compares := func(name, text string) {
		if text = strings.ToLower(text); strings.Contains(text, fact) && strings.Contains(text, "'"+subject.Name+"'") {
			names = append(names, name)
		}
	}
	for _, p := range st.Policies.AllRows() {
		compares(p.Name, p.Rule)
	}
	for _, p := range st.Policies.AllColumns() {
		compares(p.Name, p.When+" "+p.Treatment.SQL)
	}
	if len(names) > 0 {
		return fault.New(
			fault.Conflict,
			"in_use",
			"the conditions of the policies %s compare with the name %s; edit those first",
			strings.Join(names, ", "),
			subject.Name,
		)
	}
	return nil
}

// also is what is written in one transaction with a change, once the state is known.
type also func(*platform.State) ([]store.Write, error)

// both does one after the other; the first may be nil.
func both(a, b also) also {
	if a == nil {
		return b
	}
	return func(after *platform.State) ([]store.Write, error) {
		first, err := a(after)
		if err != nil {
			return nil, err
		}
		second, err := b(after)
		return append(first, second...), err
	}
}
