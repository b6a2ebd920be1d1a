package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/store"
	"gneiss/wire"
)

// An order is a change that a caller asks for.
type order struct {
	caller  Caller
	changes []change
	says    []string // what it does, in sentences
	notes   []string
	also    also // what is written with it
	wire.Change
}

// make works an order out on the next state, checks that the caller may, and
// unless it is a dry run makes it current. Orders are made one at a time.
func (s *Service) make(ctx context.Context, o order) (wire.Changed, error) {
	if !o.DryRun { // a dry run looks at the state that it finds
		s.lock()
		defer s.unlock()
	}
	before, now := s.state(), s.now().UTC()
	err := s.stale(ctx, before, o.caller.IfMatch)
	if err != nil {
		return wire.Changed{}, err
	}
	after := before
	for _, c := range o.changes {
		if err := s.mayChange(after, o.caller, c); err != nil {
			return wire.Changed{}, s.refuse(o.caller, "change", strings.Join(o.says, "; "), err)
		}
		next, err := after.apply(c, now)
		if err != nil {
			return wire.Changed{}, s.dependentsTold(before, o.caller, err)
		}
		after = next
		if err := s.mayLend(after, o.caller, c); err != nil {
			return wire.Changed{}, s.refuse(o.caller, "change", strings.Join(o.says, "; "), err)
		}
	}
	if err := s.checkPolicies(before, after, o.changes); err != nil {
		return wire.Changed{}, err
	}
	out := wire.Changed{Revision: before.revision, DryRun: o.DryRun, Says: o.says, Notes: append([]string{}, o.notes...)}
	out.Effects, out.More = s.effects(before, after, o.changes, o.caller, now)
	out.Notes = append(out.Notes, s.dormantNotes(before, after, o.changes)...)
	if o.DryRun || len(o.changes) == 0 {
		return out, nil
	}
	var also []store.Write
	if o.also != nil {
		if also, err = o.also(after); err != nil {
			return wire.Changed{}, err
		}
	}
	if err := s.commit(ctx, before, after, commit{changes: o.changes, actor: actor(before.model, o.caller), says: o.says, reason: o.Reason,
		address: o.caller.Address, objects: objectsOf(o.changes), also: also}, now); err != nil {
		return wire.Changed{}, err
	}
	out.Revision, out.Done = after.revision, true
	return out, nil
}

// dependentsTold keeps from who may not review grants whose rest on theirs.
func (s *Service) dependentsTold(st *state, c Caller, err error) error {
	var rest *access.Dependents
	if errors.As(err, &rest) && c.User != 0 && !s.reviews(st, c) {
		return problem(409, "dependents", "Others rest on it", "others have passed it on; ask an administrator to revoke it")
	}
	return err
}

// A commit is what is written of a change.
type commit struct {
	changes []change
	actor   string
	says    []string
	reason  string
	address string
	objects []string
	also    []store.Write // what is written with it
}

// lock lets one change be made at a time, until unlock.
func (s *Service) lock()   { s.change.Lock() }
func (s *Service) unlock() { s.change.Unlock() }

// commit writes the journal and makes the next state current. What cannot be recorded
// is not done.
func (s *Service) commit(ctx context.Context, before, after *state, c commit, now time.Time) error {
	text, err := encodeChanges(c.changes)
	if err != nil {
		return err
	}
	record := &store.Record{Actor: c.actor, Action: "change", Decision: "allowed",
		Text: strings.Join(c.says, "; "), Reason: c.reason, Address: c.address, Objects: jsonList(c.objects)}
	if err := s.record(record); err != nil {
		return err
	}
	entry, err := s.store.Append(ctx, store.Entry{Revision: before.revision + 1, At: now.Format(time.RFC3339Nano),
		Actor: c.actor, Reason: c.reason, Changes: text, Previous: before.hash}, c.also...)
	if err != nil {
		undone := *record
		undone.Decision, undone.Reason = "failed", "it was not made: "+err.Error()
		return errors.Join(err, s.record(&undone))
	}
	after.revision, after.hash = entry.Revision, entry.Hash
	s.current.Store(after)
	s.keepSometimes(after)
	return nil
}

// actor names who made a change: the service itself where there is no caller.
func actor(m *access.Model, c Caller) string {
	if c.User == 0 {
		return "gneiss"
	}
	return m.Ref(c.User)
}

// objectsOf lists the objects that changes are about, for the record.
func objectsOf(changes []change) []string {
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

// mostBetween is how many revisions a stale change is told of.
const mostBetween = 20

// stale refuses a change made from a state that is no longer current, and says
// what came in between.
func (s *Service) stale(ctx context.Context, now *state, seen int64) error {
	if seen == 0 || seen == now.revision {
		return nil
	}
	entries, err := s.store.Entries(ctx, seen, mostBetween)
	if err != nil {
		return err
	}
	var between []string
	for _, e := range entries {
		between = append(between, fmt.Sprintf("revision %d by %s", e.Revision, e.Actor))
	}
	return problem(412, "stale", "Changed meanwhile", "the model has changed since you looked (%s); look again, then repeat the change", strings.Join(between, ", "))
}

// checkPolicies refuses changes after which a live rule would not bind, or a
// policy would name a subject that is gone.
func (s *Service) checkPolicies(before, after *state, changes []change) error {
	for _, c := range changes {
		switch c := c.(type) {
		case access.RenameSubject:
			if err := namedInRules(before, c.Subject); err != nil {
				return err
			}
		case policy.PutRowPolicy:
			row, _ := after.policies.Find(c.Name)
			if err := after.checkRow(row); err != nil {
				return err
			}
		case policy.PutColumnPolicy:
			_, column := after.policies.Find(c.Name)
			if err := after.checkColumn(column); err != nil {
				return err
			}
		case access.RemoveSubject:
			subject, err := before.model.FindSubject(c.Subject)
			if err != nil {
				return err
			}
			if names := after.policies.Naming(subject.ID); len(names) > 0 {
				return problem(409, "in_use", "In use", "%s is named by the policies %s; edit or remove them first", subject.Ref(), strings.Join(names, ", "))
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
func namedInRules(st *state, ref string) error {
	subject, err := st.model.FindSubject(ref)
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
	for _, p := range st.policies.AllRows() {
		compares(p.Name, p.Rule)
	}
	for _, p := range st.policies.AllColumns() {
		compares(p.Name, p.When+" "+p.Treatment.SQL)
	}
	if len(names) > 0 {
		return problem(409, "in_use", "In use", "the rules of the policies %s compare with the name %s; edit them first", strings.Join(names, ", "), subject.Name)
	}
	return nil
}
