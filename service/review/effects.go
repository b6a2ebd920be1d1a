package review

import (
	"maps"
	"slices"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// Limits of a comparison of two states: how many subjects, and how many pairs of a subject and a table, which the
// subjects share equally.
const (
	mostSubjects = 500
	mostCompared = 50_000
)

// Effects says who gains and who loses what: for every user and service that
// the changes can touch, the relations they can touch whose bands differ. Who
// passes on a right without reviewing its object is not told what others have.
// More says that there was more to compare than is bearable.
func (s *Service) Effects(
	before, after *platform.State,
	changes []platform.Change,
	caller identity.Caller,
	now time.Time,
) (effects []wire.Effect, more bool) {
	all, more := s.comparisons(before, after, changes, caller, now)
	effects = []wire.Effect{}
	for _, c := range all {
		effects = append(effects, wire.Effect{Subject: after.Model.Ref(c.subject), Gains: gathered(c.gains), Loses: gathered(c.loses)})
	}
	return effects, more
}

// comparisons are of everyone for whom changes make a difference.
func (s *Service) comparisons(
	before, after *platform.State,
	changes []platform.Change,
	caller identity.Caller,
	now time.Time,
) (all []*comparison, more bool) {
	touched := map[access.SubjectID][]access.ObjectID{}
	seen := map[touch]bool{}
	for _, t := range touches(before, after, changes) {
		if seen[t] {
			continue
		}
		seen[t] = true
		for _, subject := range append(before.Actors(t.subject, now), after.Actors(t.subject, now)...) {
			if places := touched[subject]; len(places) == 0 || places[len(places)-1] != t.object {
				touched[subject] = append(places, t.object)
			}
		}
	}
	subjects := slices.Sorted(maps.Keys(touched))
	left := len(subjects) > mostSubjects
	if left {
		subjects = subjects[:mostSubjects]
	}
	reviewed := map[access.ObjectID]bool{}
	lanes := caller.User == 0 || s.identity.Reviews(after, caller)
	for _, subject := range subjects {
		c := &comparison{subject: subject, before: before, after: after, was: atOrNobody(before, subject, now), is: atOrNobody(after, subject, now)}
		relations := map[access.ObjectID]bool{}
		for _, place := range touched[subject] {
			after.Model.Relations(place, func(r *access.Object) bool {
				may, known := reviewed[r.ID]
				if !known {
					may = caller.User == 0 || s.identity.ReviewsObject(after, caller, r.ID)
					reviewed[r.ID] = may
				}
				if !may || relations[r.ID] {
					return true
				}
				if len(relations) >= mostCompared/len(subjects) {
					more = true
					return false
				}
				relations[r.ID] = true
				return true
			})
		}
		for _, id := range slices.Sorted(maps.Keys(relations)) {
			c.relation(after.Model.Object(id))
		}
		more = more || left && (lanes || len(relations) > 0) // tells that many are affected, which only reviewers may know
		if lanes {
			c.lanes()
		}
		if len(c.gains)+len(c.loses) > 0 {
			all = append(all, c)
		}
	}
	return all, more
}

// a touch is whom and what a change can make a difference to: who has the
// rights of a subject, at and below an object. Without a subject it touches
// nobody.
type touch struct {
	subject access.SubjectID
	object  access.ObjectID
}

// touches works out what changes from s to after can make a difference to.
func touches(s *platform.State, after *platform.State, changes []platform.Change) []touch {
	var all []touch
	for _, c := range changes {
		all = append(all, touched(s, after, c)...)
	}
	return append(all, lapsed(s, after)...)
}

// lapsed is what grants touch that have ended or lost their basis.
func lapsed(s *platform.State, after *platform.State) []touch {
	var all []touch
	for _, g := range append(lapsedGrants(s, after), access.Ended(s.Model, after.Model)...) {
		all = append(all, touch{g.Subject, g.Object})
	}
	return all
}

func touched(s *platform.State, after *platform.State, c platform.Change) []touch {
	subject := func(ref string) access.SubjectID {
		for _, st := range []*platform.State{after, s} {
			if found, err := st.Model.FindSubject(ref); err == nil {
				return found.ID
			}
		}
		return 0
	}
	object := func(path string) access.ObjectID {
		target, err := after.Model.LookupTarget(path)
		if err != nil {
			return access.PlatformID
		}
		return target.Object
	}
	about := func(name string) (on []touch) { // an edit can move a policy to another table
		for _, st := range []*platform.State{after, s} {
			if row, column := st.Policies.Find(name); row != nil {
				for _, table := range st.Covered(row) {
					on = append(on, touch{access.PublicID, table.ID})
				}
			} else if column != nil {
				on = append(on, treatedTables(st, st.Policies.Treated(column, st.Model))...)
			}
		}
		return on
	}
	everywhere := func(ref string) []touch { return []touch{{subject(ref), access.PlatformID}} }
	onwards := func(ref string) []touch { // with those that a member has given on to
		all := everywhere(ref)
		for _, id := range access.PassedOn(s.Model, after.Model) {
			all = append(all, touch{id, access.PlatformID})
		}
		return all
	}
	switch c := c.(type) {
	case access.AddGrant:
		return []touch{{subject(c.Subject), object(c.Object)}}
	case access.RemoveGrant:
		return []touch{{subject(c.Subject), object(c.Object)}}
	case access.SetOwner:
		on := object(c.Object)
		return []touch{{ownerIn(s, on), on}, {ownerIn(after, on), on}}
	case access.PutView:
		on := object(c.Path)
		return []touch{{ownerIn(after, on), on}, {access.PublicID, on}}
	case access.DropView:
		on := object(c.Path)
		return []touch{{ownerIn(s, on), on}, {access.PublicID, on}}
	case access.PutBundle:
		var all []touch
		if b, err := after.Model.FindBundle(c.Bundle); err == nil {
			for _, g := range after.Model.GrantsOf(b) {
				all = append(all, touch{g.Subject, g.Object})
			}
		}
		return all
	case access.RemoveLane:
		var all []touch
		if o, err := s.Model.FindLane(c.Lane); err == nil {
			for _, g := range s.Model.GrantsOn(o.ID) {
				all = append(all, touch{g.Subject, o.ID})
			}
		}
		return all
	case access.Join:
		return onwards(c.Member)
	case access.Leave:
		return onwards(c.Member)
	case access.SetSubject:
		if c.Disabled == nil && c.Lead == nil {
			return nil
		}
		return everywhere(c.Subject)
	case access.SetAttribute:
		return everywhere(c.Subject)
	case access.RenameSubject:
		return everywhere(c.Subject)
	case access.RemoveSubject:
		return onwards(c.Subject)
	case policy.PlaceLabel:
		return []touch{{access.PublicID, object(c.Object)}}
	case policy.LiftLabel:
		return []touch{{access.PublicID, object(c.Object)}}
	case policyNamed:
		return about(c.PolicyName())
	}
	return nil
}

// ownerIn is the owner of an object of its own, in a state that may not have the object.
func ownerIn(st *platform.State, id access.ObjectID) access.SubjectID {
	if o := st.Model.ObjectOf(id); o != nil {
		return o.Owner
	}
	return 0
}

// treatedTables are what policies on columns touch.
func treatedTables(s *platform.State, columns []access.ObjectID) []touch {
	tables := map[access.ObjectID]bool{}
	for _, id := range columns {
		tables[s.Model.Object(id).Parent] = true
	}
	var on []touch
	for _, id := range slices.Sorted(maps.Keys(tables)) {
		on = append(on, touch{access.PublicID, id})
	}
	return on
}

// lapsedGrants lists the grants that depended on something before and depend on
// nothing after. Few changes can do that, and only those look at all grants.
func lapsedGrants(before, after *platform.State) []*access.Grant {
	if before.Model == after.Model {
		return nil
	}
	return access.Lapsed(before.Model, after.Model)
}

// policyNamed is what changes of policies have in common.
type policyNamed interface{ PolicyName() string }

// DormantNotes warns of new grants without effect, and says what would change that. People who review are told, too,
// of grants of others: those that have no effect for a new member, and those that have lost theirs.
func (s *Service) DormantNotes(c identity.Caller, before, after *platform.State, changes []platform.Change) []string {
	reviews := c.User == 0 || s.identity.Reviews(before, c)
	var notes []string
	joins := 0
	for _, c := range changes {
		if join, ok := c.(access.Join); ok {
			if joins++; reviews && joins <= mostJoinsNoted {
				notes = append(notes, joinNotes(after, join)...)
			}
			continue
		}
		add, ok := c.(access.AddGrant)
		if !ok {
			continue
		}
		g := after.Model.FindGrant(add)
		if g == nil {
			continue // a later change of the same order has removed it
		}
		if w := s.grant(after, g); w.Dormant != "" {
			note := say.NoEffectYet.With(add.Subject, w.Dormant)
			if w.Fix != nil {
				note += say.ToChangeThat.With(w.Fix.Says)
			}
			notes = append(notes, note)
		}
	}
	slices.Sort(notes)
	if !reviews {
		return slices.Compact(notes)
	}
	for _, g := range lapsedGrants(before, after) {
		notes = append(notes, say.NoLongerEffective.With(
			after.Model.GrantName(g), after.Model.Target(g.Target), after.Model.Ref(g.Subject), after.Model.Ref(g.Grantor)))
	}
	notes = append(notes, takenAlong(before, after, changes)...)
	slices.Sort(notes)
	return slices.Compact(notes)
}

// How many new memberships are looked at for grants that they leave without effect, how many of these are named of
// each, and how many of its grants are looked at.
const (
	mostJoinsNoted  = 50
	mostShutOfAJoin = 5
	mostJoinGrants  = 2000
)

// joinNotes says which grants of a role or group have no effect for its new member, who lacks USAGE on the
// way to what they are on.
func joinNotes(after *platform.State, join access.Join) []string {
	m, now := after.Model, time.Now()
	member, err := m.FindSubject(join.Member)
	of, oerr := m.FindSubject(join.Of)
	if err != nil || oerr != nil || !member.Acts() {
		return nil
	}
	if !join.Until.IsZero() && join.Until.Before(now) {
		return []string{say.MembershipEnded.With(member.Ref(), of.Ref())}
	}
	rights, err := after.Rights(access.Standpoint{Subject: member.ID}, now)
	if err != nil {
		return nil
	}
	given, err := after.Rights(access.Standpoint{Subject: of.ID}, now)
	if err != nil {
		return nil
	}
	var notes []string
	reads, looked := false, 0
	for _, id := range given.Subjects() {
		for _, g := range m.GrantsTo(id) {
			if looked++; looked > mostJoinGrants {
				break
			}
			gives := m.Gives(g) & forData
			reads = reads || gives&^access.Set(access.Usage) != 0
			if id == access.PublicID || gives == 0 || m.Object(g.Object).Missing {
				continue
			}
			if shut := rights.Resolve(g.Object).Shut; len(shut) > 0 && len(notes) < mostShutOfAJoin {
				notes = append(notes, say.NoEffectForMember.With(m.GrantName(g), m.Target(g.Target), member.Ref(), m.Path(shut[0])))
			}
		}
	}
	if reads && len(rights.MayRun()) == 0 {
		notes = append(notes, say.RunsNothing.With(member.Ref()))
	}
	return notes
}

// takenAlong says which grants a cascade has ended beside those that are named.
func takenAlong(before, after *platform.State, changes []platform.Change) []string {
	named, cascade := map[string]bool{}, false
	for _, c := range changes {
		if c, ok := c.(access.RemoveGrant); ok {
			named[c.Privilege+" "+c.Object+" "+c.Subject] = true
			cascade = cascade || c.Cascade
		}
	}
	if !cascade {
		return nil
	}
	var notes []string
	m := after.Model
	for _, g := range access.Ended(before.Model, m) {
		what, on, to := m.GrantName(g), m.Target(g.Target), m.Ref(g.Subject)
		if !named[what+" "+on+" "+to] {
			notes = append(notes, say.AlsoRevoked.With(what, on, to, m.Ref(g.Grantor)))
		}
	}
	return notes
}
