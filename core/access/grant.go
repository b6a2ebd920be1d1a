package access

import "time"

// A GrantID names a grant for as long as the platform exists.
type GrantID uint32

// A Grant gives one privilege on one object to one subject. Grants by two
// grantors are two grants.
type Grant struct {
	ID        GrantID
	Privilege Privilege
	Target
	Subject SubjectID
	Grantor SubjectID
	Option  bool // WITH GRANT OPTION
	At      time.Time
	Until   time.Time // zero: without end
	Reason  string
	Ticket  string
	Revoked bool // kept so that ids stay what they were
}

// Grant returns the grant with the id, which must be one of this model's.
func (m *Model) Grant(id GrantID) *Grant { return m.grants.at(int(id)) }

// GrantsOn lists the grants on the object itself, oldest first.
func (m *Model) GrantsOn(id ObjectID) []*Grant { return m.grantList(m.Object(id).grants) }

// GrantsTo lists the grants to the subject itself, oldest first.
func (m *Model) GrantsTo(id SubjectID) []*Grant { return m.grantList(m.Subject(id).grants) }

// Grants lists all grants, oldest first.
func (m *Model) Grants() []*Grant {
	var out []*Grant
	for i := 1; i < m.grants.len(); i++ {
		if g := m.grants.at(i); !g.Revoked {
			out = append(out, g)
		}
	}
	return out
}

func (m *Model) grantList(ids []GrantID) []*Grant {
	out := make([]*Grant, len(ids))
	for i, id := range ids {
		out[i] = m.Grant(id)
	}
	return out
}

// Reaches reports whether g, were it in force, would give p on the object.
func (m *Model) reaches(g *Grant, p Privilege, object ObjectID) bool {
	if p == Usage && g.Privilege == Usage {
		return g.Pattern == "" && g.Object == object || g.Pattern != "" && m.named(g.Target, object) == object
	}
	return carries(g.Privilege).Has(p) && m.Covers(g.Target, object)
}

// A Cause says why a grant gives nothing now.
type Cause string

const (
	CauseExpired   Cause = "expired"    // its end date has passed
	CauseMissing   Cause = "missing"    // its object is gone from the source
	CauseNoMatch   Cause = "no_match"   // its pattern matches no name yet
	CauseNoHolders Cause = "no_holders" // nobody has what it was given to
	CauseDoorShut  Cause = "door_shut"  // USAGE is wanting on the way to the object
)

// Dormancy says why a grant gives nothing to anybody now.
type Dormancy struct {
	Cause Cause
	Door  ObjectID // the first door that is shut, for CauseDoorShut
}

// Dormant returns why g gives nothing at the moment, or nil when it gives
// somebody something. Only SELECT and REVEAL can stand before a shut door.
func (m *Model) Dormant(g *Grant, now time.Time) *Dormancy {
	switch {
	case ended(g.Until, now):
		return &Dormancy{Cause: CauseExpired}
	case m.missing(g.Object):
		return &Dormancy{Cause: CauseMissing}
	case len(m.Matched(g.Target)) == 0:
		return &Dormancy{Cause: CauseNoMatch}
	}
	holders, useful := false, g.Privilege != Select && g.Privilege != Reveal
	var shut ObjectID
	m.Actors(g.Subject, now, func(s *Subject) bool {
		holders = true
		if useful {
			return false
		}
		st, err := m.Stand(Session{Subject: s.ID}, now)
		if err != nil {
			return true
		}
		for _, id := range m.Matched(g.Target) {
			m.Relations(id, func(o *Object) bool {
				door := st.ShutDoor(o.ID)
				useful = useful || door == 0
				if shut == 0 {
					shut = door
				}
				return !useful
			})
		}
		return !useful
	})
	switch {
	case !holders:
		return &Dormancy{Cause: CauseNoHolders}
	case !useful && shut != 0:
		return &Dormancy{Cause: CauseDoorShut, Door: shut}
	}
	return nil
}

// missing reports whether the object or one above it is gone.
func (m *Model) missing(id ObjectID) bool {
	for ; id != PlatformID; id = m.Object(id).Parent {
		if m.Object(id).Missing {
			return true
		}
	}
	return false
}
