package service

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/wire"
)

// mostCompared bounds the comparison of two states: subjects times relations.
const mostCompared = 50_000

// effects says who gains and who loses what: for every user and service that
// the changes can touch, the relations they can touch whose bands differ. Who
// passes on a right without reviewing its object is not told what others have.
// More says that there was more to compare than is bearable.
func (s *Service) effects(before, after *state, changes []change, caller Caller, now time.Time) (effects []wire.Effect, more bool) {
	touched := map[access.SubjectID]map[access.ObjectID]bool{}
	reviewed := map[access.ObjectID]bool{}
	compared := 0
	for _, t := range before.touches(after, changes) {
		for _, subject := range append(before.actors(t.subject, now), after.actors(t.subject, now)...) {
			if touched[subject] == nil {
				touched[subject] = map[access.ObjectID]bool{}
			}
			after.model.Relations(t.object, func(r *access.Object) bool {
				may, known := reviewed[r.ID]
				if !known {
					may = caller.User == 0 || s.reviewsObject(after, caller, r.ID)
					reviewed[r.ID] = may
				}
				if may && !touched[subject][r.ID] {
					touched[subject][r.ID] = true
					compared++
				}
				more = compared >= mostCompared
				return !more
			})
		}
	}
	effects = []wire.Effect{}
	lanes := caller.User == 0 || s.reviews(after, caller)
	for _, subject := range slices.Sorted(maps.Keys(touched)) {
		c := &comparison{before: before, after: after, was: atOrNobody(before, subject, now), is: atOrNobody(after, subject, now)}
		for _, id := range slices.Sorted(maps.Keys(touched[subject])) {
			c.relation(after.model.Object(id))
		}
		if lanes {
			c.lanes()
		}
		if e := (wire.Effect{Subject: after.model.Ref(subject), Gains: gathered(c.gains), Loses: gathered(c.loses)}); len(e.Gains)+len(e.Loses) > 0 {
			effects = append(effects, e)
		}
	}
	return effects, more
}

// a touch is whom and what a change can make a difference to: who has the
// rights of a subject, at and below an object. Without a subject it touches
// nobody.
type touch struct {
	subject access.SubjectID
	object  access.ObjectID
}

// touches works out what changes from s to after can make a difference to.
func (s *state) touches(after *state, changes []change) []touch {
	var all []touch
	for _, c := range changes {
		all = append(all, s.touched(after, c)...)
	}
	return append(all, s.lapsed(after)...)
}

// lapsed is what grants touch that have ended or lost their basis.
func (s *state) lapsed(after *state) []touch {
	var all []touch
	for _, g := range append(lapsedGrants(s, after), access.Ended(s.model, after.model)...) {
		all = append(all, touch{g.Subject, g.Object})
	}
	return all
}

func (s *state) touched(after *state, c change) []touch {
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
	about := func(name string) (on []touch) { // an edit can move a policy to another table
		for _, st := range []*state{after, s} {
			if row, column := st.policies.Find(name); row != nil {
				for _, table := range st.covered(row) {
					on = append(on, touch{access.PublicID, table.ID})
				}
			} else if column != nil {
				on = append(on, st.treatedTables(st.policies.Treated(column, st.model))...)
			}
		}
		return on
	}
	everywhere := func(ref string) []touch { return []touch{{subject(ref), access.PlatformID}} }
	onwards := func(ref string) []touch { // with those that a member has given on to
		all := everywhere(ref)
		for _, id := range access.PassedOn(s.model, after.model) {
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
		return []touch{{s.model.Object(on).Owner, on}, {after.model.Object(on).Owner, on}}
	case access.PutView:
		on := object(c.Path)
		return []touch{{after.model.Object(on).Owner, on}, {access.PublicID, on}}
	case access.DropView:
		on := object(c.Path)
		return []touch{{s.model.Object(on).Owner, on}, {access.PublicID, on}}
	case access.PutBundle:
		var all []touch
		if b, err := after.model.FindBundle(c.Bundle); err == nil {
			for _, g := range after.model.GrantsOf(b) {
				all = append(all, touch{g.Subject, g.Object})
			}
		}
		return all
	case access.RemoveLane:
		var all []touch
		if o, err := s.model.FindLane(c.Lane); err == nil {
			for _, g := range s.model.GrantsOn(o.ID) {
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

// treatedTables are what policies on columns touch.
func (s *state) treatedTables(columns []access.ObjectID) []touch {
	tables := map[access.ObjectID]bool{}
	for _, id := range columns {
		tables[s.model.Object(id).Parent] = true
	}
	var on []touch
	for _, id := range slices.Sorted(maps.Keys(tables)) {
		on = append(on, touch{access.PublicID, id})
	}
	return on
}

// lapsedGrants lists the grants that rested on something before and rest on
// nothing after. Few changes can do that, and only those look at all grants.
func lapsedGrants(before, after *state) []*access.Grant {
	if before.model == after.model {
		return nil
	}
	return access.Lapsed(before.model, after.model)
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

// a comparison is of what one subject can do before and after a change.
type comparison struct {
	before, after *state
	was, is       *standpoint // nil: not there, or disabled
	gains, loses  []difference
}

// a difference is one right, on one object, in words.
type difference struct{ what, on, within, how string }

// onRelations are the privileges that effects are told of, relation by relation.
var onRelations = access.Set(access.Select, access.Insert, access.Update, access.Delete, access.References, access.Describe, access.Reveal, access.Manage)

// onViews are those of them that come to something on a view.
var onViews = access.Set(access.Select, access.Describe, access.Manage)

func (c *comparison) relation(o *access.Object) {
	var next wire.Bands
	var had, has access.Privileges
	if c.was != nil && c.was.Model.HasObject(o.ID) {
		had = c.was.Resolve(o.ID).Allowed & onRelations
	}
	if c.is != nil {
		next, has = c.is.relationBands(o), c.is.Resolve(o.ID).Allowed&onRelations
	}
	if o.Kind == access.View {
		had, has = had&onViews, has&onViews
	}
	m := c.after.model
	d := difference{on: m.Path(o.ID), within: m.Path(o.Parent)}
	if gained := has &^ had; gained != 0 {
		gain := d
		gain.what = gained.String()
		if gained.Has(access.Select) && (next.Rows != full || next.Columns != full) {
			gain.how = "(" + afterVerbs(next.Says) + ")"
		}
		c.gains = append(c.gains, gain)
	}
	if lost := had &^ has; lost != 0 {
		loss := d
		loss.what = lost.String()
		c.loses = append(c.loses, loss)
	}
	if (had & has).Has(access.Select) {
		c.governed(o, d)
	}
}

// governed compares what policies and column grants leave of a relation that is
// read before and after. What gets stricter is a loss, whatever else there is.
func (c *comparison) governed(o *access.Object, d difference) {
	was, is := c.was.state.policies.Govern(c.was.Standing, o.ID), c.is.state.policies.Govern(c.is.Standing, o.ID)
	tell := func(list *[]difference, parts []string) {
		if len(parts) > 0 {
			d.how = strings.Join(parts, ", ")
			*list = append(*list, d)
		}
	}
	var loses, gains []string
	fewer, more := rowsDiffer(&was.Rules, &is.Rules)
	if fewer {
		loses = append(loses, c.is.rowsSay(is))
	}
	if more && !fewer {
		gains = append(gains, c.is.rowsSay(is))
	}
	if c.was.mayWrite(o) && c.is.mayWrite(o) {
		fewer, more := rowsDiffer(&was.Write, &is.Write)
		if says := "to write: " + c.is.rulesSay(&is.Write); fewer {
			loses = append(loses, says)
		} else if more {
			gains = append(gains, says)
		}
	}
	vWas, vIs := c.was.Resolve(o.ID), c.is.Resolve(o.ID)
	for _, id := range o.Children {
		name := c.is.Model.Object(id).Name
		was, is := was.Columns[id], is.Columns[id]
		before, after := was.Treatment, is.Treatment
		switch read, reads := vWas.Covers(access.Select, id), vIs.Covers(access.Select, id); {
		case read && !reads:
			loses = append(loses, "the column "+name)
		case reads && !read:
			gains = append(gains, "the column "+name)
		case !read || before == after && was.Partly() == is.Partly():
		case before == after && is.Partly():
			gains = append(gains, name+" "+treatmentSays(is))
		case before == after:
			loses = append(loses, name+" "+after.String())
		case after.Kind > before.Kind:
			loses = append(loses, name+" "+treatmentSays(is))
		case after.Kind < before.Kind:
			gains = append(gains, name+" "+inClear(is))
		default: // of one kind: which of the two hides more cannot be told
			loses = append(loses, name+" "+treatmentSays(is)+" instead of "+before.String())
		}
	}
	tell(&c.loses, loses)
	tell(&c.gains, gains)
}

func inClear(d policy.Decision) string {
	if d.Treatment.Kind == policy.Clear {
		return "in clear"
	}
	return treatmentSays(d)
}

// mayWrite reports whether rows of a table can be written from the standpoint.
func (p *standpoint) mayWrite(o *access.Object) bool {
	return p.Resolve(o.ID).Allowed.Any(access.Set(access.Insert, access.Update, access.Delete))
}

// rowsDiffer says which way the row policies that apply have changed: a limit
// more or an allowance less shows fewer rows, the reverse more.
func rowsDiffer(was, is *policy.Rules) (fewer, more bool) {
	open := func(r *policy.Rules) bool { return !r.Closed && len(r.Allow) == 0 }
	lacks := func(list []*policy.RowPolicy, p *policy.RowPolicy) bool {
		return !slices.ContainsFunc(list, func(x *policy.RowPolicy) bool { return x.Name == p.Name })
	}
	switch {
	case open(was) && !open(is):
		fewer = true
	case !open(was) && open(is):
		more = true
	default:
		for _, p := range was.Allow {
			fewer = fewer || lacks(is.Allow, p)
		}
		for _, p := range is.Allow {
			more = more || lacks(was.Allow, p)
		}
	}
	for _, p := range is.Limit {
		fewer = fewer || lacks(was.Limit, p)
	}
	for _, p := range was.Limit {
		more = more || lacks(is.Limit, p)
	}
	return fewer, more
}

// lanes compares where queries may run.
func (c *comparison) lanes() {
	open := func(p *standpoint) map[string]bool {
		paths := map[string]bool{}
		if p != nil {
			for _, o := range p.MayRun() {
				paths[p.Model.Path(o.ID)] = true
			}
		}
		return paths
	}
	was, is := open(c.was), open(c.is)
	for _, path := range slices.Sorted(maps.Keys(is)) {
		if !was[path] {
			c.gains = append(c.gains, difference{what: "USAGE", on: path})
		}
	}
	for _, path := range slices.Sorted(maps.Keys(was)) {
		if !is[path] {
			c.loses = append(c.loses, difference{what: "USAGE", on: path})
		}
	}
}

// mostAlike is how many differences of one kind in one schema are told one by
// one.
const mostAlike = 4

// gathered says differences in words; many of one kind in one schema become one.
func gathered(list []difference) []string {
	type kind struct{ what, within, how string }
	count := map[kind]int{}
	for _, d := range list {
		count[kind{d.what, d.within, d.how}]++
	}
	said := []string{}
	for _, d := range list {
		k := kind{d.what, d.within, d.how}
		on := d.on
		if n := count[k]; d.within != "" && n > mostAlike {
			on = fmt.Sprintf("%d tables of %s", n, d.within)
			count[k] = -1
		} else if n < 0 {
			continue
		}
		switch {
		case d.what == "":
			said = append(said, on+": "+d.how)
		case d.how == "":
			said = append(said, d.what+" on "+on)
		default:
			said = append(said, d.what+" on "+on+" "+d.how)
		}
	}
	return said
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

// dormantNotes warns of new grants that give nothing yet, and of older ones that
// give nothing any more, and says what would wake them.
func (s *Service) dormantNotes(before, after *state, changes []change) []string {
	var notes []string
	for _, c := range changes {
		add, ok := c.(access.AddGrant)
		if !ok {
			continue
		}
		g := after.model.FindGrant(add)
		if g == nil {
			continue // a later change of the same order has removed it
		}
		if w := s.grant(after, g); w.Dormant != "" {
			note := fmt.Sprintf("what was granted to %s gives nothing yet: %s", add.Subject, w.Dormant)
			if w.Wake != "" {
				note += ". To wake it: " + w.Wake
			}
			notes = append(notes, note)
		}
	}
	for _, g := range lapsedGrants(before, after) {
		notes = append(notes, fmt.Sprintf("%s on %s to %s, granted by %s, gives nothing any more: what it rested on has ended",
			after.model.GrantName(g), after.model.Target(g.Target), after.model.Ref(g.Subject), after.model.Ref(g.Grantor)))
	}
	notes = append(notes, takenAlong(before, after, changes)...)
	slices.Sort(notes)
	return slices.Compact(notes)
}

// takenAlong says which grants a cascade has ended beside those that are named.
func takenAlong(before, after *state, changes []change) []string {
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
	m := after.model
	for _, g := range access.Ended(before.model, m) {
		what, on, to := m.GrantName(g), m.Target(g.Target), m.Ref(g.Subject)
		if !named[what+" "+on+" "+to] {
			notes = append(notes, fmt.Sprintf("revoked along with it: %s on %s to %s by %s", what, on, to, m.Ref(g.Grantor)))
		}
	}
	return notes
}
