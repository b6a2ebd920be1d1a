package access

import (
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

	holding sync.Mutex // guards holders; it may be taken while mu is held
	holders map[SubjectID]*bitset.BitSet

	mu     sync.Mutex
	direct map[ObjectID][]SubjectID    // by door or lane: the subjects that grants of USAGE name
	using  map[ObjectID]*bitset.BitSet // by door or lane: everyone with USAGE
	runs   *bitset.BitSet              // who may run queries on some lane
	active *bitset.BitSet              // enabled users and services

	reaching sync.Mutex // guards reached; holding and mu may be taken while it is held
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

// granted lists the subjects that grants of p on the object name, without those who have them.
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

// having is the set of subjects that have at least one of ids.
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

// meet reports whether the sets have a member in common. An inherited set can be shorter than the others, because
// subjects were added since.
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
