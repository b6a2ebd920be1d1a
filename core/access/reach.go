package access

import (
	"iter"

	"github.com/bits-and-blooms/bitset"
)

// A reach says which schemas people can enter and run queries in. It answers for a million grants at once whether their
// holders get through the doors. It may be used from many goroutines.
type reach struct {
	readers *bitset.BitSet   // enabled users and services that may run queries
	open    []*bitset.BitSet // by subject: the schemas that it can enter itself, by place; nil: none
}

// places numbers the schemas from 1, and gives for each object the number of the schema that it is or is in; zero: none.
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

// schemas yields all schemas, source by source.
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

// reach computes the census's reach on the first call.
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

// fill adds to r which schemas the people in who can enter; r has nothing about them yet.
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

// open is the set of schemas, by place, that at least one holder of the subject can enter and run queries in.
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
