package access

import (
	"maps"
	"slices"

	"github.com/bits-and-blooms/bitset"
)

// inherit copies from an earlier census who holds what, except for subjects whose holders may have changed. The two
// models belong to one history and differ by d. It reports false when nothing can be copied.
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

// inheritDoors copies who may use which door and who can enter which schema, after inherit has succeeded. Access may
// have changed for the doors in changed, and for the lanes if lanes is true; those are left out.
func (c *Census) inheritDoors(before *Census, changed map[ObjectID]bool, lanes bool) {
	before.mu.Lock()
	direct, using, runs := maps.Clone(before.direct), maps.Clone(before.using), before.runs
	before.mu.Unlock()
	for door := range changed {
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
	c.inheritReach(before, changed)
}

// inheritReach copies who can enter which schema, and computes it again for the people whose doors or lanes changed.
// When there are many of them it copies nothing, and [Census.reach] computes it when asked.
func (c *Census) inheritReach(before *Census, changed map[ObjectID]bool) {
	before.reaching.Lock()
	was := before.reached
	before.reaching.Unlock()
	if was == nil {
		return
	}
	r := &reach{readers: c.runners().Intersection(c.active)}
	affected := r.readers.SymmetricDifference(was.readers)
	for door := range changed {
		if c.Model.HasObject(door) {
			affected.InPlaceUnion(c.users(door).SymmetricDifference(before.users(door)))
		}
	}
	if int(affected.Count()) > c.Subjects()/8 {
		return
	}
	r.open = append(slices.Clone(was.open), make([]*bitset.BitSet, c.Subjects()-len(was.open))...)
	for i, ok := affected.NextSet(0); ok; i, ok = affected.NextSet(i + 1) {
		r.open[i] = nil
	}
	c.fill(r, affected)
	c.reaching.Lock()
	c.reached = r
	c.reaching.Unlock()
}
