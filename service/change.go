package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

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
	also    func(*state) func(*sqlx.Tx) error // what is written with it
	wire.Change
}

// make works an order out on the next state, checks that the caller may, and
// unless it is a dry run makes it current. Orders are made one at a time.
func (s *Service) make(ctx context.Context, o order) (wire.Changed, error) {
	if !o.DryRun { // a dry run looks at the state that it finds
		s.change.Lock()
		defer s.change.Unlock()
	}
	before, now := s.current.Load(), s.now().UTC()
	if err := s.stale(ctx, before, o.caller.IfMatch); err != nil {
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
	out.Effects, out.More = s.effects(before, after, o, now)
	out.Notes = append(out.Notes, s.dormantNotes(before, after, o.changes)...)
	if o.DryRun || len(o.changes) == 0 {
		return out, nil
	}
	if err := s.append(ctx, before, after, o, now); err != nil {
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

// append writes the journal and makes the next state current.
func (s *Service) append(ctx context.Context, before, after *state, o order, now time.Time) error {
	text, err := encodeChanges(o.changes)
	if err != nil {
		return err
	}
	var also func(*sqlx.Tx) error
	if o.also != nil {
		also = o.also(after)
	}
	record := &store.Record{Actor: actor(before.model, o.caller), Action: "change", Decision: "allowed",
		Text: strings.Join(o.says, "; "), Reason: o.Reason, Address: o.caller.Address, Objects: jsonList(objectsOf(o.changes))}
	if err := s.record(record); err != nil { // what cannot be recorded is not done
		return err
	}
	entry, err := s.store.Append(ctx, store.Entry{Revision: before.revision + 1, At: now.Format(time.RFC3339Nano),
		Actor: actor(before.model, o.caller), Reason: o.Reason, Changes: text, Previous: before.hash}, also)
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

// stale refuses a change made from a state that is no longer current, and says
// what came in between.
func (s *Service) stale(ctx context.Context, now *state, seen int64) error {
	if seen == 0 || seen == now.revision {
		return nil
	}
	entries, err := s.store.Entries(ctx, seen, mostNamed)
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
