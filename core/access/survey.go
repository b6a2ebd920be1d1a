package access

import (
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"github.com/bits-and-blooms/bitset"
)

// A Survey is what was found about all grants that somebody gave, at one moment in one model. Its sets
// are of grants, by id, and are not to be changed.
type Survey struct {
	Census  *Census
	Dormant *bitset.BitSet // they have no effect for anybody: see [Census.Dormant]
	Covered *bitset.BitSet // the subject has all that they give by another: see [Rights.Covering]

	// Whether grants have an effect is for nothing but the doors of one schema, and who may run queries, to
	// decide, or for several doors among other things. Of others the doors make no difference.
	plain, doored *bitset.BitSet
	places        []uint32 // see [Model.places]
}

// Survey looks at every grant.
func (c *Census) Survey() *Survey {
	s := &Survey{Census: c, Dormant: &bitset.BitSet{}, Covered: &bitset.BitSet{}, plain: &bitset.BitSet{}, doored: &bitset.BitSet{}, places: c.Model.places()}
	all := bitset.New(uint(c.Model.grants.size())).SetAll()
	s.look(all, &bitset.BitSet{})
	return s
}

// Next is the survey of another moment, in the same model or in another of its history. Only the grants
// whose verdict may be another there are looked at again, so that it costs what differs.
func (s *Survey) Next(c *Census) *Survey {
	d := Changed(s.Census.Model, c.Model)
	if d.Bundles || len(d.Grants) > c.Model.grants.size()/8 { // or more than is worth to follow up
		return c.Survey()
	}
	inherits := c.inherit(s.Census, &d)
	r := &resurvey{
		before: s.Census,
		after:  c,
		again:  bitset.New(uint(c.Model.grants.size())),
		behind: bitset.New(uint(c.Model.grants.size())),
		doors:  map[ObjectID]bool{},
		above:  map[SubjectID][]SubjectID{},
	}
	subjects, grants := r.endings()
	for _, id := range append(grants, d.Grants...) {
		r.grant(id)
	}
	r.subjects(append(subjects, d.Standing()...))
	for _, id := range d.Structure() {
		r.object(id)
	}
	if inherits && len(d.Structure()) == 0 {
		c.inheritDoors(s.Census, r.doors, r.lanes)
	}
	r.opened()
	r.behind.InPlaceIntersection(s.plain.Union(s.doored))
	next := &Survey{Census: c, Dormant: s.Dormant.Difference(r.again.Union(r.behind)), Covered: s.Covered.Difference(r.again),
		plain: s.plain.Difference(r.again), doored: s.doored.Difference(r.again), places: s.places}
	if len(d.Structure()) > 0 {
		next.places = c.Model.places()
	}
	next.look(r.again, r.behind)
	return next
}

// A judging judges grants, those of a subject together, since they share its rights.
type judging struct {
	*Survey
	due   *bitset.BitSet // grants to judge
	again *bitset.BitSet // those to judge fully; of the others only whether they have an effect
	known *bitset.BitSet // those already known to be plain
}

// verdicts collects what was found about grants, by kind.
type verdicts struct{ dormant, covered, plain, doored []GrantID }

func (s *Survey) look(again, behind *bitset.BitSet) {
	j := judging{Survey: s, due: again.Union(behind), again: again, known: s.plain.Clone()}
	subjects := s.whose(again, behind)
	var found sync.Mutex
	var hands sync.WaitGroup
	var at atomic.Int64
	for range min(runtime.GOMAXPROCS(0), len(subjects)) {
		hands.Go(func() {
			var v verdicts
			for i := int(at.Add(1)) - 1; i < len(subjects); i = int(at.Add(1)) - 1 {
				j.of(subjects[i], &v)
			}
			found.Lock()
			defer found.Unlock()
			for set, ids := range map[*bitset.BitSet][]GrantID{s.Dormant: v.dormant, s.Covered: v.covered, s.plain: v.plain, s.doored: v.doored} {
				for _, id := range ids {
					set.Set(uint(id))
				}
			}
		})
	}
	hands.Wait()
}

// of judges the grants to a subject.
func (j *judging) of(subject *Subject, v *verdicts) {
	c, m := j.Census, j.Census.Model
	if len(subject.grants) == 0 {
		return
	}
	open := c.open(subject.ID)
	var rights *Rights
	var err error
	for _, ref := range subject.grants {
		if !j.due.Test(uint(ref.grant)) {
			continue
		}
		place := j.places[ref.at]
		if j.known.Test(uint(ref.grant)) { // the common case, up to a million times: decide without reading the grant
			if !open.Test(uint(place)) {
				v.dormant = append(v.dormant, ref.grant)
			}
			continue
		}
		g := m.Grant(ref.grant)
		if g.Grantor == 0 {
			continue
		}
		dormant := false
		switch {
		case place != 0 && c.plain(g):
			v.plain = append(v.plain, g.ID)
			dormant = !open.Test(uint(place))
		case c.needsDoors(g):
			v.doored = append(v.doored, g.ID)
			fallthrough
		default:
			dormant = c.Dormant(g) != nil
		}
		if dormant {
			v.dormant = append(v.dormant, g.ID)
		}
		if !j.again.Test(uint(ref.grant)) || g.Option {
			continue
		}
		if rights == nil && err == nil {
			rights, err = m.stand(Standpoint{Subject: subject.ID}, c.At)
		}
		if err == nil && rights.Covering(g) != nil {
			v.covered = append(v.covered, g.ID)
		}
	}
}

// whose lists the subjects that the grants of some sets are to, and more where these are many.
func (s *Survey) whose(sets ...*bitset.BitSet) (subjects []*Subject) {
	m, n := s.Census.Model, 0
	for _, set := range sets {
		n += int(set.Count())
	}
	if n > m.grants.size()/8 {
		m.EachSubject(func(s *Subject) { subjects = append(subjects, s) })
		return subjects
	}
	to := m.noSubjects()
	for _, set := range sets {
		for i, ok := set.NextSet(0); ok; i, ok = set.NextSet(i + 1) {
			if g := m.GrantOf(GrantID(i)); g != nil {
				to.Set(uint(g.Subject))
			}
		}
	}
	return s.Census.Each(to)
}

// A resurvey works out whose verdicts may be others after than before.
type resurvey struct {
	before, after *Census
	again         *bitset.BitSet // grants to be looked at again
	behind        *bitset.BitSet // grants of which only the doors before them, or who may run queries, may differ
	doors         map[ObjectID]bool
	lanes         bool // who may run queries may be others too
	above         map[SubjectID][]SubjectID
}

// both calls f with the one moment and with the other.
func (r *resurvey) both(f func(*Census)) {
	f(r.before)
	f(r.after)
}

// endings lists what has ended between the two moments by itself, and of whom.
func (r *resurvey) endings() (subjects []SubjectID, grants []GrantID) {
	a, b, m := r.before.At, r.after.At, r.after.Model
	if a.Equal(b) {
		return nil, nil
	}
	for i := 1; i < m.subjects.size(); i++ {
		s := m.subjects.at(i)
		if slices.ContainsFunc(s.Memberships, func(e Membership) bool { return ended(e.Until, a) != ended(e.Until, b) }) {
			subjects = append(subjects, s.ID)
		}
		for _, id := range s.ending {
			if g := m.Grant(id); ended(g.ends, a) != ended(g.ends, b) || ended(g.Until, a) != ended(g.Until, b) {
				grants = append(grants, id)
			}
		}
	}
	return subjects, grants
}

// grant looks at what differs about one grant: itself, what it covers, and the doors it opens.
func (r *resurvey) grant(id GrantID) {
	r.again.Set(uint(id))
	r.both(func(c *Census) {
		g := c.Model.GrantOf(id)
		if g == nil {
			return
		}
		r.opens(c.Model, g)
		gives := c.Model.Gives(g)
		r.both(func(at *Census) {
			if !at.Model.HasSubject(g.Subject) || !at.Model.HasObject(g.Object) {
				return
			}
			holders := at.Holders(g.Subject)
			covers := func(h *Grant) {
				if has := at.Model.Gives(h); has&gives == has {
					r.again.Set(uint(h.ID))
				}
			}
			// What opens doors and does nothing else can only cover what opens the same.
			if where := at.Model.Object(at.Model.countsAt(g.Object)); where.Kind.IsRelation() || gives == Set(Usage) && g.Privilege != All {
				for _, id := range where.grants {
					if h := at.Model.Grant(id); holders.Test(uint(h.Subject)) {
						covers(h)
					}
				}
				return
			}
			below := r.below(at.Model, g.Object)
			for _, s := range at.Each(holders) {
				below.each(s, func(id GrantID) { covers(at.Model.Grant(id)) })
			}
		})
	})
}

// A place is an object with all below it but columns, on whose relations grants on them count.
type place struct {
	objects     *bitset.BitSet
	first, last ObjectID
}

// below is the place of an object in a model.
func (r *resurvey) below(m *Model, id ObjectID) *place {
	p := &place{objects: bitset.New(uint(m.objects.size())), first: id, last: id}
	var add func(ObjectID)
	add = func(id ObjectID) {
		p.objects.Set(uint(id))
		p.first, p.last = min(p.first, id), max(p.last, id)
		if o := m.Object(id); !o.Kind.IsRelation() {
			for _, child := range o.Children {
				add(child)
			}
		}
	}
	add(id)
	if id == PlatformID { // lanes and labels are children of nothing
		p.objects.SetAll()
		p.last = ObjectID(m.objects.size())
	}
	return p
}

// each calls f for the grants to a subject that count in the place.
func (p *place) each(s *Subject, f func(GrantID)) {
	at, _ := slices.BinarySearchFunc(s.grants, grantRef{at: p.first}, compareRefs)
	for ; at < len(s.grants) && s.grants[at].at <= p.last; at++ {
		if p.objects.Test(uint(s.grants[at].at)) {
			f(s.grants[at].grant)
		}
	}
}

// opens notes the doors and lanes that a grant opens.
func (r *resurvey) opens(m *Model, g *Grant) {
	if !m.Gives(g).Has(Usage) {
		return
	}
	for _, id := range m.Matched(g.Target) {
		o := m.Object(id)
		r.door(m, o)
		if g.Privilege != All {
			continue
		}
		r.lanes = r.lanes || o.Kind == Platform
		if o.Kind == Platform || o.Kind == Source {
			for _, id := range o.Children {
				r.door(m, m.Object(id))
				if m.Object(id).Kind == Source {
					for _, id := range m.Object(id).Children {
						r.door(m, m.Object(id))
					}
				}
			}
		}
	}
}

func (r *resurvey) door(m *Model, o *Object) {
	switch o.Kind {
	case Lane:
		r.lanes = true
	case Source, Schema:
		r.doors[o.ID] = true
	}
}

// subjects looks at who has other groups and roles, has come or gone, or may sign in or not: at all
// that they have, and that those have who have them.
func (r *resurvey) subjects(ids []SubjectID) {
	up := &bitset.BitSet{}
	for _, id := range ids {
		a, b := r.before.Model.SubjectOf(id), r.after.Model.SubjectOf(id)
		switch {
		case a == nil && b == nil:
			continue
		case a == nil || b == nil || a.Disabled != b.Disabled:
			up.Set(uint(PublicID)) // whose holders are everybody
		}
		for _, id := range r.upward(id) {
			if id != PublicID {
				up.Set(uint(id))
			}
		}
		r.both(func(c *Census) {
			if c.Model.HasSubject(id) {
				for _, s := range c.Each(c.Holders(id)) {
					for _, ref := range s.grants {
						r.again.Set(uint(ref.grant))
					}
				}
			}
		})
	}
	for i, ok := up.NextSet(0); ok; i, ok = up.NextSet(i + 1) {
		r.both(func(c *Census) {
			if s := c.Model.SubjectOf(SubjectID(i)); s != nil {
				for _, ref := range s.grants {
					r.again.Set(uint(ref.grant))
					r.opens(c.Model, c.Model.Grant(ref.grant))
				}
			}
		})
	}
}

// upward lists what a subject has at the one moment or the other, itself and PUBLIC among it.
func (r *resurvey) upward(id SubjectID) []SubjectID {
	if known, ok := r.above[id]; ok {
		return known
	}
	var all []SubjectID
	r.both(func(c *Census) {
		if c.Model.HasSubject(id) {
			c.Model.upward(id, c.At, func(s *Subject) { all = append(all, s.ID) })
		}
	})
	r.above[id] = all
	return all
}

// object looks at one that has come or gone, or has other children: at the grants on it, on what is
// above, and where it has gone or come back on what is below.
func (r *resurvey) object(id ObjectID) {
	a, b := r.before.Model.ObjectOf(id), r.after.Model.ObjectOf(id)
	r.both(func(c *Census) {
		o := c.Model.ObjectOf(id)
		if o == nil {
			return
		}
		below := a == nil || b == nil || a.Missing != b.Missing
		r.on(c.Model, o, below)
		for _, up := range c.Model.Above(id) {
			r.on(c.Model, c.Model.Object(up), false)
		}
	})
}

// on notes the grants on an object, or on all below it too.
func (r *resurvey) on(m *Model, o *Object, below bool) {
	for _, id := range m.Object(m.countsAt(o.ID)).grants {
		r.again.Set(uint(id))
	}
	if below && !o.Kind.IsRelation() {
		for _, id := range o.Children {
			r.on(m, m.Object(id), true)
		}
	}
}

// opened looks behind the doors that are open to others after than before: at all that those have
// there; and at all that those have who may, or may not any more, run a query somewhere.
func (r *resurvey) opened() {
	users := func(c *Census, door ObjectID) *bitset.BitSet {
		if !c.Model.HasObject(door) {
			return &bitset.BitSet{}
		}
		return c.users(door)
	}
	for door := range r.doors {
		r.past(door, users(r.before, door).SymmetricDifference(users(r.after, door)))
	}
	if r.lanes {
		r.past(PlatformID, r.before.runners().SymmetricDifference(r.after.runners()))
	}
}

// perPerson is about how many grants can be judged in the time that it takes to find those of one person. Tests
// change it.
var perPerson = 256

// past notes what some subjects have at a door, below it, and above, which may lead through it. Where these are
// many, it notes what anybody has there.
func (r *resurvey) past(door ObjectID, who *bitset.BitSet) {
	if who.None() {
		return
	}
	if m := r.after.Model; m.HasObject(door) {
		most := perPerson * int(who.Count())
		if kind := m.Object(door).Kind; (kind == Platform || kind == Source) && m.grants.size() < most {
			r.behind.SetAll() // which is quicker than to find them
			return
		}
		if ids, ok := m.grantsThrough(door, most); ok {
			for _, id := range ids {
				r.behind.Set(uint(id))
			}
			return
		}
	}
	has := &bitset.BitSet{}
	for i, ok := who.NextSet(0); ok; i, ok = who.NextSet(i + 1) {
		for _, id := range r.upward(SubjectID(i)) {
			has.Set(uint(id))
		}
	}
	r.both(func(c *Census) {
		m := c.Model
		if !m.HasObject(door) {
			return
		}
		above := m.Above(door)
		for i, ok := has.NextSet(0); ok; i, ok = has.NextSet(i + 1) {
			s := m.SubjectOf(SubjectID(i))
			if s == nil {
				continue
			}
			for _, ref := range s.grants {
				if door == PlatformID || m.Within(door, ref.at) || slices.Contains(above, ref.at) {
					r.behind.Set(uint(ref.grant))
				}
			}
		}
	})
}

// grantsThrough lists the grants on an object, on what is below it but columns, whose grants count on their
// tables, and on what is above; ok is false where they are more than most.
func (m *Model) grantsThrough(id ObjectID, most int) (ids []GrantID, ok bool) {
	for _, up := range m.Above(id) {
		ids = append(ids, m.Object(up).grants...)
	}
	var add func(*Object) bool
	add = func(o *Object) bool {
		if ids = append(ids, o.grants...); len(ids) > most {
			return false
		}
		if o.Kind.IsRelation() {
			return true
		}
		for _, child := range o.Children {
			if !add(m.Object(child)) {
				return false
			}
		}
		return true
	}
	return ids, add(m.Object(id))
}
