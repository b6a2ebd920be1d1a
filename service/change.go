package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
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
	ifMatch int64 // the revision that the caller saw; zero: any
}

// make works an order out on the next state, checks that the caller may, and
// unless it is a dry run makes it current. Orders are made one at a time.
func (s *Service) make(ctx context.Context, o order) (wire.Changed, error) {
	s.change.Lock()
	defer s.change.Unlock()
	before, now := s.current.Load(), s.now().UTC()
	if err := s.stale(ctx, before, o.ifMatch); err != nil {
		return wire.Changed{}, err
	}
	after := before
	for _, c := range o.changes {
		if err := s.mayChange(after, o.caller, c); err != nil {
			return wire.Changed{}, s.refuse(o.caller, "change", strings.Join(o.says, "; "), err)
		}
		next, err := after.apply(c, now)
		if err != nil {
			return wire.Changed{}, err
		}
		after = next
	}
	if err := s.checkPolicies(before, after, o.changes); err != nil {
		return wire.Changed{}, err
	}
	out := wire.Changed{Revision: before.revision, Says: o.says, Notes: append([]string{}, o.notes...), Effects: s.effects(before, after, o, now)}
	out.Notes = append(out.Notes, s.dormantNotes(after, o.changes)...)
	if o.DryRun || len(o.changes) == 0 {
		return out, nil
	}
	if err := s.append(ctx, before, after, o, now); err != nil {
		return wire.Changed{}, err
	}
	out.Revision, out.Done = after.revision, true
	return out, nil
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
	entry, err := s.store.Append(ctx, store.Entry{Revision: before.revision + 1, At: now.Format(time.RFC3339Nano),
		Actor: actor(before.model, o.caller), Reason: o.Reason, Changes: text, Previous: before.hash}, also)
	if err != nil {
		return err
	}
	after.revision, after.hash = entry.Revision, entry.Hash
	s.current.Store(after)
	return s.record(&store.Record{Actor: actor(before.model, o.caller), Action: "change", Decision: "allowed",
		Text: strings.Join(o.says, "; "), Reason: o.Reason, Address: o.caller.Address, Objects: jsonList(objectsOf(o.changes))})
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
	var between []string
	err := s.store.Replay(ctx, func(e store.Entry) error {
		if e.Revision > seen {
			between = append(between, fmt.Sprintf("revision %d by %s", e.Revision, e.Actor))
		}
		return nil
	})
	if err != nil {
		return err
	}
	return problem(412, "stale", "Changed meanwhile", "the model has changed since you looked (%s); look again, then repeat the change", strings.Join(between, ", "))
}

// mayChange refuses changes that the caller has no right to make. Changes are
// the caller's own: a standpoint gives no rights.
func (s *Service) mayChange(st *state, c Caller, what change) error {
	if c.User == 0 {
		return nil // the service itself: the making of a platform
	}
	own, err := s.own(st, c)
	if err != nil {
		return err
	}
	object := access.PlatformID
	switch what := what.(type) {
	case access.AddObject, access.MissObject:
		return nil // a scan's, which has asked
	case access.AddGrant:
		target, err := st.model.LookupTarget(what.Object)
		if err != nil {
			return err
		}
		if passesOn(own, what.Privilege, target) {
			return nil
		}
		object = target.Object
	case access.RemoveGrant:
		target, err := st.model.LookupTarget(what.Object)
		if err != nil {
			return err
		}
		object = target.Object
	case policy.PutRowPolicy:
		o, err := st.model.Lookup(what.Table)
		if err != nil {
			return err
		}
		if err := s.managesOld(st, own, what.Name); err != nil {
			return err
		}
		object = o.ID
	case policy.PutColumnPolicy:
		if err := s.managesOld(st, own, what.Name); err != nil {
			return err
		}
		for _, path := range what.Columns {
			o, err := st.model.Lookup(path)
			if err != nil {
				return err
			}
			if !own.Resolve(o.ID).Allowed.Has(access.Manage) {
				return wants(st, access.Manage, o.Parent)
			}
		}
		return nil
	case policy.SetPolicyStatus:
		return s.managesOld(st, own, what.Name)
	case policy.RemovePolicy:
		return s.managesOld(st, own, what.Name)
	}
	if !own.Resolve(object).Allowed.Has(access.Manage) {
		return wants(st, access.Manage, object)
	}
	return nil
}

// managesOld wants MANAGE on the table that a policy is on now, if it is there.
func (s *Service) managesOld(st *state, own *access.Standing, name string) error {
	table := access.ObjectID(0)
	if row, column := st.policies.Find(name); row != nil {
		table = row.Table
	} else if column != nil {
		table = st.model.Object(column.Columns[0]).Parent
	}
	if table != 0 && !own.Resolve(table).Allowed.Has(access.Manage) {
		return wants(st, access.Manage, table)
	}
	return nil
}

// passesOn reports whether the standing holds the privilege with grant option
// at or above the target: on all of it. A pattern takes MANAGE.
func passesOn(own *access.Standing, privilege string, target access.Target) bool {
	p, err := access.ParsePrivilege(privilege)
	if err != nil || target.Pattern != "" {
		return false
	}
	return slices.ContainsFunc(own.Paths(p, target.Object), func(path access.Path) bool {
		return path.Grant.Option && own.Model.Covers(path.Grant.Target, target.Object)
	})
}

func wants(st *state, p access.Privilege, id access.ObjectID) error {
	return &query.Error{Code: query.Refused, Text: fmt.Sprintf("this needs %s on %s", p, st.model.Path(id)),
		Needs: []access.Need{{Privilege: p, Object: id}}}
}

// checkPolicies refuses changes after which a live rule would not bind, or a
// policy would name a subject that is gone.
func (s *Service) checkPolicies(before, after *state, changes []change) error {
	for _, c := range changes {
		switch c := c.(type) {
		case policy.PutRowPolicy:
			if err := checkRule(after, c.Table, c.Rule); err != nil {
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
		}
	}
	return nil
}

// checkRule binds a rule from the standpoint of PUBLIC, whose facts are empty.
func checkRule(st *state, table, rule string) error {
	o, err := st.model.Lookup(table)
	if err != nil {
		return err
	}
	standing, err := st.stand(access.Session{Subject: access.PublicID}, time.Time{})
	if err != nil {
		return err
	}
	return query.CheckRule(standing, o, rule)
}

// mostCompared bounds the comparison of two states: subjects times relations.
const mostCompared = 400_000

// effects says who gains and who loses what: for every user and service that
// the changes can touch, the relations they can touch whose bands differ. Who
// passes on a right without reviewing its object is not told what others have.
func (s *Service) effects(before, after *state, o order, now time.Time) []wire.Effect {
	touched := map[access.SubjectID]map[access.ObjectID]bool{}
	compared := 0
	for _, c := range o.changes {
		for _, t := range before.touches(after, c) {
			for _, subject := range append(before.actors(t.subject, now), after.actors(t.subject, now)...) {
				if touched[subject] == nil {
					touched[subject] = map[access.ObjectID]bool{}
				}
				after.model.Relations(t.object, func(r *access.Object) bool {
					if o.caller.User == 0 || s.reviewsObject(after, o.caller, r.ID) {
						touched[subject][r.ID] = true
					}
					compared++
					return compared < mostCompared
				})
			}
		}
	}
	effects := []wire.Effect{}
	for _, subject := range slices.Sorted(maps.Keys(touched)) {
		var relations []*access.Object
		for _, id := range slices.Sorted(maps.Keys(touched[subject])) {
			relations = append(relations, after.model.Object(id))
		}
		if e := compareSubject(before, after, subject, relations, now); len(e.Gains)+len(e.Loses) > 0 {
			effects = append(effects, e)
		}
	}
	return effects
}

// a touch is whom and what a change can make a difference to: who has the
// rights of a subject, at and below an object. Without a subject it touches
// nobody.
type touch struct {
	subject access.SubjectID
	object  access.ObjectID
}

// touches works out what a change from s to after can make a difference to.
func (s *state) touches(after *state, c change) []touch {
	subject := func(ref string) access.SubjectID {
		for _, st := range []*state{after, s} {
			if found, err := st.model.FindSubject(ref); err == nil {
				return found.ID
			}
		}
		return 0
	}
	object := func(path string) access.ObjectID {
		target, err := after.model.LookupTarget(path)
		if err != nil {
			return access.PlatformID
		}
		return target.Object
	}
	policy := func(name string) (on []touch) { // an edit can move a policy to another table
		for _, st := range []*state{after, s} {
			if row, column := st.policies.Find(name); row != nil {
				on = append(on, touch{access.PublicID, row.Table})
			} else if column != nil {
				on = append(on, touch{access.PublicID, st.model.Object(column.Columns[0]).Parent})
			}
		}
		return on
	}
	switch c := c.(type) {
	case access.AddGrant:
		return []touch{{subject(c.Subject), object(c.Object)}}
	case access.RemoveGrant:
		return []touch{{subject(c.Subject), object(c.Object)}}
	case access.Join:
		return []touch{{subject(c.Member), access.PlatformID}}
	case access.Leave:
		return []touch{{subject(c.Member), access.PlatformID}}
	case access.SetSubject:
		return []touch{{subject(c.Subject), access.PlatformID}}
	case access.SetAttribute:
		return []touch{{subject(c.Subject), access.PlatformID}}
	case access.RemoveSubject:
		return []touch{{subject(c.Subject), access.PlatformID}}
	case policyNamed:
		return policy(c.PolicyName())
	}
	return nil
}

// policyNamed is what changes of policies have in common.
type policyNamed interface{ PolicyName() string }

// actors lists the users and services that have the rights of a subject.
func (s *state) actors(id access.SubjectID, now time.Time) []access.SubjectID {
	var ids []access.SubjectID
	if id != 0 && s.model.HasSubject(id) {
		s.model.Actors(id, now, func(subject *access.Subject) bool {
			ids = append(ids, subject.ID)
			return true
		})
	}
	return ids
}

func compareSubject(before, after *state, id access.SubjectID, relations []*access.Object, now time.Time) wire.Effect {
	e := wire.Effect{Subject: after.model.Ref(id), Gains: []string{}, Loses: []string{}}
	was, is := atOrNobody(before, id, now), atOrNobody(after, id, now)
	for _, o := range relations {
		var old, next wire.Bands
		if was != nil && was.Model.HasObject(o.ID) {
			old = was.relationBands(o)
		}
		if is != nil {
			next = is.relationBands(o)
		}
		reads, read := next.Verbs == hatched, old.Verbs == hatched
		path := after.model.Path(o.ID)
		switch {
		case reads && !read:
			gain := "SELECT on " + path
			if next.Rows != full || next.Columns != full {
				gain += " (" + strings.TrimPrefix(next.Says, "reads; ") + ")"
			}
			e.Gains = append(e.Gains, gain)
		case read && !reads:
			e.Loses = append(e.Loses, "SELECT on "+path)
		case reads && old.Says != next.Says && (less(next.Rows, old.Rows) || less(next.Columns, old.Columns)):
			e.Loses = append(e.Loses, fmt.Sprintf("%s: %s", path, strings.TrimPrefix(next.Says, "reads; ")))
		case reads && old.Says != next.Says:
			e.Gains = append(e.Gains, fmt.Sprintf("%s: %s", path, strings.TrimPrefix(next.Says, "reads; ")))
		}
	}
	return e
}

// less reports whether a stratum is smaller than another.
func less(a, b string) bool {
	order := []string{empty, hatched, full}
	return slices.Index(order, a) < slices.Index(order, b)
}

// atOrNobody is a subject's standpoint in a state; nil where it is not there or
// disabled.
func atOrNobody(st *state, id access.SubjectID, now time.Time) *standpoint {
	if !st.model.HasSubject(id) {
		return nil
	}
	standing, err := st.stand(access.Session{Subject: id}, now)
	if err != nil {
		return nil
	}
	return &standpoint{Standing: standing, state: st, review: true}
}

// dormantNotes warns of new grants that give nothing yet, and says what would
// wake them.
func (s *Service) dormantNotes(after *state, changes []change) []string {
	var notes []string
	for _, c := range changes {
		add, ok := c.(access.AddGrant)
		if !ok {
			continue
		}
		subject, err := after.model.FindSubject(add.Subject)
		if err != nil {
			continue // a later change of the same order has removed it
		}
		for _, g := range after.model.GrantsTo(subject.ID) {
			if after.model.Target(g.Target) != add.Object || !strings.EqualFold(g.Privilege.String(), add.Privilege) {
				continue
			}
			if w := s.grant(after, g); w.Dormant != "" {
				note := fmt.Sprintf("what was granted to %s gives nothing yet: %s", add.Subject, w.Dormant)
				if w.Wake != "" {
					note += ". To wake it: " + w.Wake
				}
				notes = append(notes, note)
			}
		}
	}
	slices.Sort(notes)
	return slices.Compact(notes)
}
