package access

import (
	"iter"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/bits-and-blooms/bitset"
)

// A Census is who holds what at one moment in one model, for questions about
// many subjects at once. It works with sets of subjects, and keeps what it has
// worked out. It may be used from many goroutines.
type Census struct {
	Model *Model
	At    time.Time
	// Until is when the census stops being true by itself; zero: it holds
	// while the model does.
	Until time.Time

	holding sync.Mutex // of holders; it may be taken while mu is held
	holders map[SubjectID]*bitset.BitSet

	mu     sync.Mutex
	direct map[ObjectID][]SubjectID    // of doors and lanes, to whom USAGE is granted
	using  map[ObjectID]*bitset.BitSet // who may use them
	runs   *bitset.BitSet              // who may run queries on some lane
	active *bitset.BitSet              // enabled users and services

	reaching sync.Mutex // of reached; holding and mu may be taken while it is held
	reached  *reach
}

// TakeCensus prepares a census for the moment now.
func (m *Model) TakeCensus(now time.Time) *Census {
	c := &Census{Model: m, At: now, holders: map[SubjectID]*bitset.BitSet{}, direct: map[ObjectID][]SubjectID{}, using: map[ObjectID]*bitset.BitSet{},
		active: m.noSubjects()}
	for i := 1; i < m.subjects.size(); i++ {
		s := m.subjects.at(i)
		if s.Acts() && !s.Removed && !s.Disabled {
			c.active.Set(uint(i))
		}
		for _, e := range s.Memberships {
			if !ended(e.Until, now) {
				c.Until = earliest(c.Until, e.Until)
			}
		}
		for _, id := range s.ending {
			if end := m.Grant(id).ends; !ended(end, now) {
				c.Until = earliest(c.Until, end)
			}
		}
	}
	return c
}

// inherit takes over who holds what from the census before, where that is of another model of the same history,
// from which this one's differs by d, and cannot be otherwise here. It reports whether anything can be taken over.
func (c *Census) inherit(before *Census, d *Delta) bool {
	if c.At.Before(before.At) || !before.Until.IsZero() && !c.At.Before(before.Until) || c.Subjects() < before.Subjects() {
		return false
	}
	before.holding.Lock()
	holders := maps.Clone(before.holders)
	before.holding.Unlock()
	for _, id := range d.Standing() {
		for _, at := range []*Census{before, c} {
			if at.Model.KnowsSubject(id) {
				at.Model.upward(id, at.At, func(s *Subject) { delete(holders, s.ID) })
			}
		}
	}
	c.holding.Lock()
	defer c.holding.Unlock()
	maps.Copy(holders, c.holders)
	c.holders = holders
	return true
}

// inheritDoors takes over who may use doors and who gets where, where holders could be taken over, and nobody uses
// others than before but, maybe, some doors, and lanes.
func (c *Census) inheritDoors(before *Census, but map[ObjectID]bool, lanes bool) {
	before.mu.Lock()
	direct, using, runs := maps.Clone(before.direct), maps.Clone(before.using), before.runs
	before.mu.Unlock()
	for door := range but {
		delete(direct, door)
		delete(using, door)
	}
	if lanes {
		lane := func(id ObjectID) bool { return c.Model.Object(id).Kind == Lane }
		maps.DeleteFunc(direct, func(id ObjectID, _ []SubjectID) bool { return lane(id) })
		maps.DeleteFunc(using, func(id ObjectID, _ *bitset.BitSet) bool { return lane(id) })
		runs = nil
	}
	c.mu.Lock()
	maps.Copy(direct, c.direct)
	maps.Copy(using, c.using)
	if c.direct, c.using = direct, using; c.runs == nil {
		c.runs = runs
	}
	c.mu.Unlock()
	c.inheritReach(before, but)
}

// inheritReach takes over who gets where, but of those who may use other doors than before, or may begin or cease to
// run queries. Where these are many, it is worked out when it is asked for.
func (c *Census) inheritReach(before *Census, but map[ObjectID]bool) {
	before.reaching.Lock()
	was := before.reached
	before.reaching.Unlock()
	if was == nil {
		return
	}
	r := &reach{readers: c.runners().Intersection(c.active)}
	others := r.readers.SymmetricDifference(was.readers)
	for door := range but {
		if c.Model.HasObject(door) {
			others.InPlaceUnion(c.users(door).SymmetricDifference(before.users(door)))
		}
	}
	if int(others.Count()) > c.Subjects()/8 {
		return
	}
	r.open = append(slices.Clone(was.open), make([]*bitset.BitSet, c.Subjects()-len(was.open))...)
	for i, ok := others.NextSet(0); ok; i, ok = others.NextSet(i + 1) {
		r.open[i] = nil
	}
	c.fill(r, others)
	c.reaching.Lock()
	c.reached = r
	c.reaching.Unlock()
}

// Subjects is one more than the highest id of a subject.
func (c *Census) Subjects() int { return c.Model.subjects.size() }

func (m *Model) noSubjects() *bitset.BitSet { return bitset.New(uint(m.subjects.size())) }

// everybody is the set of all subjects: who has PUBLIC.
func (c *Census) everybody() *bitset.BitSet {
	set := c.Model.noSubjects()
	for i := 1; i < c.Model.subjects.size(); i++ {
		if !c.Model.subjects.at(i).Removed {
			set.Set(uint(i))
		}
	}
	return set
}

// Holders is the set of all subjects that have the subject, itself among them: members of groups, holders of
// roles, at any depth; of PUBLIC everybody. The caller must not change it.
func (c *Census) Holders(id SubjectID) *bitset.BitSet {
	c.holding.Lock()
	defer c.holding.Unlock()
	set := c.holders[id]
	if set != nil {
		return set
	}
	if id == PublicID {
		set = c.everybody()
	} else {
		set = c.Model.noSubjects()
		set.Set(uint(id))
		for queue := []SubjectID{id}; len(queue) > 0; queue = queue[1:] {
			for _, member := range c.Model.Subject(queue[0]).Members {
				if !set.Test(uint(member)) && c.Model.memberNow(member, queue[0], c.At) {
					set.Set(uint(member))
					queue = append(queue, member)
				}
			}
		}
	}
	c.holders[id] = set
	return set
}

// Actors calls f with every enabled user and service that has the subject.
func (c *Census) Actors(id SubjectID, f func(SubjectID)) {
	set := c.Holders(id).Intersection(c.active)
	for i, ok := set.NextSet(0); ok; i, ok = set.NextSet(i + 1) {
		f(SubjectID(i))
	}
}

// CountHolders counts the enabled users and services that have the subject.
func (c *Census) CountHolders(id SubjectID) int {
	return int(c.Holders(id).IntersectionCardinality(c.active))
}

// Laneless reports whether an enabled user or service has the subject and may
// run queries on no lane.
func (c *Census) Laneless(id SubjectID) bool {
	return c.Holders(id).Intersection(c.active).Difference(c.runners()).Any()
}

// CountUsing counts the enabled users and services with USAGE on a door or lane.
func (c *Census) CountUsing(id ObjectID) int {
	return int(c.users(id).IntersectionCardinality(c.active))
}

// Each lists the members of a set of subjects.
func (c *Census) Each(set *bitset.BitSet) []*Subject {
	var out []*Subject
	for i, ok := set.NextSet(0); ok; i, ok = set.NextSet(i + 1) {
		out = append(out, c.Model.Subject(SubjectID(i)))
	}
	return out
}

// Held is the set of subjects to which grants give p on the object, whether or
// not doors are open. For a relation a column is enough.
func (c *Census) Held(p Privilege, object ObjectID) *bitset.BitSet {
	return c.having(c.granted(p, object))
}

// granted lists the subjects to which grants give p on the object themselves.
func (c *Census) granted(p Privilege, object ObjectID) (to []SubjectID) {
	m := c.Model
	for at := object; ; at = m.Object(at).Parent {
		for _, id := range m.Object(at).grants {
			g := m.Grant(id)
			if g.inForce(c.At) && (m.reaches(g, p, object) || at == object && m.onColumn(g, p, object)) {
				to = append(to, g.Subject)
			}
		}
		if at == PlatformID {
			break
		}
	}
	slices.Sort(to)
	return slices.Compact(to)
}

// having is the set of subjects that have one of some.
func (c *Census) having(ids []SubjectID) *bitset.BitSet {
	if slices.Contains(ids, PublicID) {
		return c.everybody()
	}
	set := c.Model.noSubjects()
	for _, id := range ids {
		if len(c.Model.Subject(id).Members) > 0 {
			set.InPlaceUnion(c.Holders(id))
		} else {
			set.Set(uint(id))
		}
	}
	return set
}

// May is the set of subjects that can use p on the object.
func (c *Census) May(p Privilege, object ObjectID) *bitset.BitSet {
	if !appliesTo[c.Model.Object(object).Kind].Has(p) && !c.Model.Object(object).Kind.IsRelation() {
		return c.Model.noSubjects()
	}
	set := c.Held(p, object)
	if c.Model.missing(object) && !Set(Describe, Manage, Audit).Has(p) {
		return c.Model.noSubjects()
	}
	doors, n := c.Model.doors(object)
	for _, door := range doors[:n] {
		if behindDoors.Has(p) || p == Usage && door != object {
			set.InPlaceIntersection(c.users(door))
		}
	}
	return set
}

// users is the set of subjects with USAGE on a door or lane.
func (c *Census) users(door ObjectID) *bitset.BitSet {
	c.mu.Lock()
	defer c.mu.Unlock()
	set := c.using[door]
	if set == nil {
		direct, known := c.direct[door]
		if !known {
			direct = c.granted(Usage, door)
			c.direct[door] = direct
		}
		set = c.having(direct)
		c.using[door] = set
	}
	return set
}

// meet reports whether the sets have a member in common. One that was taken over may be shorter than others.
func meet(a, b *bitset.BitSet, more ...*bitset.BitSet) bool {
	x, y := a.Words(), b.Words()
	n := min(len(x), len(y))
	for _, set := range more {
		n = min(n, len(set.Words()))
	}
	for i, word := range x[:n] {
		if word &= y[i]; word == 0 {
			continue
		}
		for _, set := range more {
			word &= set.Words()[i]
		}
		if word != 0 {
			return true
		}
	}
	return false
}

// runners is the set of subjects that may run queries on some lane.
func (c *Census) runners() *bitset.BitSet {
	c.mu.Lock()
	kept := c.runs
	c.mu.Unlock()
	if kept != nil {
		return kept
	}
	all := c.Model.noSubjects()
	for _, lane := range c.Model.lanes {
		all.InPlaceUnion(c.users(lane))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.runs = all
	return all
}

// A Cause says why a grant has no effect now.
type Cause string

const (
	CauseExpired   Cause = "expired"    // its end date has passed
	CauseBasis     Cause = "basis_gone" // what its grantor was entitled by has ended
	CauseMissing   Cause = "missing"    // its object is gone from the source
	CauseNoMatch   Cause = "no_match"   // its pattern matches no name yet
	CauseNoHolders Cause = "no_holders" // the subject has no members
	CauseDoorShut  Cause = "door_shut"  // USAGE is missing on the way to the object
	CauseNoLane    Cause = "no_lane"    // no holder may run a query anywhere
)

// Dormancy says why a grant has no effect for anybody now.
type Dormancy struct {
	Cause Cause
	Door  ObjectID // the first door that is shut, for CauseDoorShut
}

// Dormant returns why g has no effect at the moment, or nil when it gives
// somebody something.
func (c *Census) Dormant(g *Grant) *Dormancy {
	m := c.Model
	switch {
	case ended(g.Until, c.At):
		return &Dormancy{Cause: CauseExpired}
	case g.Lapsed || ended(g.ends, c.At):
		return &Dormancy{Cause: CauseBasis}
	case m.missing(g.Object):
		return &Dormancy{Cause: CauseMissing}
	}
	matched := m.Matched(g.Target)
	if len(matched) == 0 {
		return &Dormancy{Cause: CauseNoMatch}
	}
	holders := c.Holders(g.Subject)
	if !meet(holders, c.active) {
		return &Dormancy{Cause: CauseNoHolders}
	}
	if !c.needsDoors(g) {
		return nil
	}
	if m.Gives(g).Has(Usage) {
		return c.dormantDoor(holders, matched)
	}
	runners := c.runners()
	shut, entered := ObjectID(0), false
	useful := c.anyReaches(matched, func(doors []ObjectID) bool {
		users := make([]*bitset.BitSet, 0, 3)
		for _, door := range doors {
			u := c.users(door)
			if users = append(users, u); shut == 0 && !meet(holders, c.active, u) {
				shut = door
			}
		}
		entered = entered || meet(holders, c.active, users...)
		return meet(holders, c.active, append(users, runners)...)
	})
	switch {
	case useful:
		return nil
	case (entered || shut == 0) && !meet(holders, c.active, runners):
		return &Dormancy{Cause: CauseNoLane}
	case shut != 0:
		return &Dormancy{Cause: CauseDoorShut, Door: shut}
	}
	// Each door is open to somebody, but all of them to none of the holders.
	c.anyReaches(matched, func(doors []ObjectID) bool {
		shut = doors[len(doors)-1]
		return true
	})
	return &Dormancy{Cause: CauseDoorShut, Door: shut}
}

// needsDoors reports whether nothing of what a grant gives can be used without going through doors.
func (c *Census) needsDoors(g *Grant) bool {
	return c.Model.Gives(g)&^behindDoors&^Set(Usage) == 0 && !c.Model.Object(g.Object).besideTree()
}

// dormantDoor looks at a grant of USAGE: a door that is open behind a shut one
// leads nowhere.
func (c *Census) dormantDoor(holders *bitset.BitSet, matched []ObjectID) *Dormancy {
	shut := ObjectID(0)
	for _, id := range matched {
		doors, n := c.Model.doors(id)
		if n < 2 || doors[1] != id || meet(holders, c.active, c.users(doors[0])) {
			return nil
		}
		shut = doors[0]
	}
	return &Dormancy{Cause: CauseDoorShut, Door: shut}
}

// anyReaches calls f with the doors of the schemas, or of the one schema, in
// which the objects have relations, until f returns true.
func (c *Census) anyReaches(ids []ObjectID, f func(doors []ObjectID) bool) bool {
	m := c.Model
	for _, id := range ids {
		o := m.Object(id)
		if o.Missing {
			continue
		}
		if o.Kind == Platform || o.Kind == Source {
			if c.anyReaches(o.Children, f) {
				return true
			}
			continue
		}
		doors, n := m.doors(id)
		if f(doors[:n]) {
			return true
		}
	}
	return false
}

// A reach is where enabled users and services that may run queries can get, for the verdict on many grants: into
// which schemas, through their doors and those before them. It may be used from many goroutines.
type reach struct {
	readers *bitset.BitSet
	open    []*bitset.BitSet // of each subject the places of the schemas that it can get into itself; nil: none
}

// places are of all objects those of the schemas that they are or stand in, counted from 1; zero: none.
func (m *Model) places() []uint32 {
	out, last := make([]uint32, m.objects.size()), uint32(0)
	for schema := range m.schemas() {
		last++
		out[schema] = last
		for _, id := range m.Object(schema).Children {
			out[id] = last
		}
	}
	return out
}

// schemas are all, those of a source after each other.
func (m *Model) schemas() iter.Seq[ObjectID] {
	return func(yield func(ObjectID) bool) {
		for _, source := range m.Object(PlatformID).Children {
			for _, id := range m.Object(source).Children {
				if m.Object(id).Kind == Schema && !yield(id) {
					return
				}
			}
		}
	}
}

// reach finds who can get where, once.
func (c *Census) reach() *reach {
	c.reaching.Lock()
	defer c.reaching.Unlock()
	if c.reached != nil {
		return c.reached
	}
	c.reached = &reach{readers: c.runners().Intersection(c.active), open: make([]*bitset.BitSet, c.Subjects())}
	c.fill(c.reached, c.reached.readers)
	return c.reached
}

// fill finds where some get, of whom nothing is known yet.
func (c *Census) fill(r *reach, who *bitset.BitSet) {
	who, place := who.Intersection(r.readers), uint(0)
	if who.None() {
		return
	}
	for schema := range c.Model.schemas() {
		place++
		into := who.Intersection(c.users(c.Model.Object(schema).Parent)).Intersection(c.users(schema))
		for i, ok := into.NextSet(0); ok; i, ok = into.NextSet(i + 1) {
			if r.open[i] == nil {
				r.open[i] = &bitset.BitSet{}
			}
			r.open[i].Set(place)
		}
	}
}

// open is the places of the schemas that one of a subject's holders can get into, to read what is there.
func (c *Census) open(id SubjectID) *bitset.BitSet {
	r, out := c.reach(), &bitset.BitSet{}
	readers := c.Holders(id).Intersection(r.readers)
	for i, ok := readers.NextSet(0); ok; i, ok = readers.NextSet(i + 1) {
		if r.open[i] != nil {
			out.InPlaceUnion(r.open[i])
		}
	}
	return out
}

// plain reports whether a grant on a schema, or on what stands in it, is dormant where none of the subject's holders
// can get into the schema, and else is not, whatever the time: see [Census.Dormant].
func (c *Census) plain(g *Grant) bool {
	return g.Pattern == "" && c.Model.Gives(g)&^behindDoors == 0 && g.Until.IsZero() && g.ends.IsZero() && !g.Lapsed && !c.Model.missing(g.Object)
}
