package access

import "github.com/bits-and-blooms/bitset"

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

// plain reports whether a grant on a schema, or on an object in one, is dormant exactly when no holder of its subject
// can enter the schema, at any time: see [Census.Dormant].
func (c *Census) plain(g *Grant) bool {
	return g.Pattern == "" && c.Model.Gives(g)&^behindDoors == 0 && g.Until.IsZero() && g.ends.IsZero() && !g.Lapsed && !c.Model.missing(g.Object)
}
