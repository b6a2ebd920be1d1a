package access

import (
	"slices"
	"time"
)

// A Session is a standpoint to answer from: a subject, acting with all the
// roles it holds or narrowed to one of them (ISO SQL SET ROLE), with a declared
// purpose or none.
type Session struct {
	Subject SubjectID
	Role    SubjectID // zero: all roles held
	Purpose string
}

// A Standing is what a session holds at one moment in one model.
type Standing struct {
	Model   *Model
	Session Session
	At      time.Time
	// Until is when the standing stops being true by itself, because a
	// membership or grant in it ends. Zero: it holds while the model does.
	Until time.Time

	reach    map[SubjectID][]SubjectID // each subject that counts, and from where it is reached
	holds    map[SubjectID][]SubjectID // the same, not narrowed to one role
	byObject map[ObjectID][]*Grant     // grants in force, by their object
	columns  map[ObjectID][]*Grant     // grants on columns, by their table
	patterns map[ObjectID][]*Grant     // grants on patterns, by the object whose children they name
}

// Stand works out what a session holds at the moment now. It is refused for a
// subject that is disabled or removed, and for a role that is not held.
func (m *Model) Stand(s Session, now time.Time) (*Standing, error) {
	subject := m.Subject(s.Subject)
	if subject.Disabled || subject.Removed {
		return nil, invalid("disabled", "%s is disabled", subject.Ref())
	}
	st := &Standing{Model: m, Session: s, At: now, reach: map[SubjectID][]SubjectID{s.Subject: nil}}
	st.climb(s.Subject, func(SubjectID) bool { return true })
	st.reach[PublicID] = []SubjectID{s.Subject}
	st.holds = st.reach
	if s.Role != 0 {
		if _, held := st.reach[s.Role]; !held {
			return nil, invalid("role_not_held", "%s does not hold %s; to see what the role alone gives, take the role itself as the standpoint", subject.Ref(), m.Ref(s.Role))
		}
		st.narrow()
	}
	st.collect()
	return st, nil
}

// climb follows memberships up from a subject, as far as the filter lets it.
func (st *Standing) climb(from SubjectID, follow func(SubjectID) bool) {
	for queue := []SubjectID{from}; len(queue) > 0; queue = queue[1:] {
		for _, e := range st.Model.Subject(queue[0]).Memberships {
			if ended(e.Until, st.At) || !follow(e.Of) {
				continue
			}
			st.ends(e.Until)
			if _, seen := st.reach[e.Of]; !seen {
				queue = append(queue, e.Of)
			}
			st.reach[e.Of] = append(st.reach[e.Of], queue[0])
		}
	}
}

// narrow starts again with groups only, and adds the one role and what it
// includes.
func (st *Standing) narrow() {
	subject := st.Session.Subject
	st.reach = map[SubjectID][]SubjectID{subject: nil}
	st.climb(subject, func(id SubjectID) bool { return st.Model.Subject(id).Kind == Group })
	st.reach[PublicID] = []SubjectID{subject}
	st.reach[st.Session.Role] = []SubjectID{subject}
	st.climb(st.Session.Role, func(SubjectID) bool { return true })
}

func (st *Standing) collect() {
	st.byObject, st.columns, st.patterns = map[ObjectID][]*Grant{}, map[ObjectID][]*Grant{}, map[ObjectID][]*Grant{}
	for id := range st.reach {
		for _, g := range st.Model.GrantsTo(id) {
			if ended(g.Until, st.At) {
				continue
			}
			st.ends(g.Until)
			if g.Pattern != "" {
				st.patterns[g.Object] = append(st.patterns[g.Object], g)
				continue
			}
			st.byObject[g.Object] = append(st.byObject[g.Object], g)
			if o := st.Model.Object(g.Object); o.Kind == Column {
				st.columns[o.Parent] = append(st.columns[o.Parent], g)
			}
		}
	}
	for _, list := range st.byObject {
		slices.SortFunc(list, func(a, b *Grant) int { return int(a.ID) - int(b.ID) })
	}
}

func (st *Standing) ends(until time.Time) {
	if !until.IsZero() && (st.Until.IsZero() || until.Before(st.Until)) {
		st.Until = until
	}
}

// Counts reports whether the standing is or has the subject: is that user, is
// in that group, acts in that role.
func (st *Standing) Counts(id SubjectID) bool {
	_, ok := st.reach[id]
	return ok
}

// Holds is Counts without regard to narrowing: a session narrowed to one role
// still holds the others. What restricts goes by Holds, so that nobody sheds a
// restriction by choosing another role to act in.
func (st *Standing) Holds(id SubjectID) bool {
	_, ok := st.holds[id]
	return ok
}

// Subjects lists all subjects that count: the session's own, its groups, the
// roles it acts in, and PUBLIC.
func (st *Standing) Subjects() []SubjectID {
	ids := make([]SubjectID, 0, len(st.reach))
	for id := range st.reach {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// A Verdict is the answer for one object.
type Verdict struct {
	Object ObjectID
	// Held are the privileges that grants give on the object, whether or not
	// they can be used.
	Held Privileges
	// Allowed are those that can be used. For a relation, SELECT is among them
	// as soon as one column can be read.
	Allowed Privileges
	// AllColumns says that SELECT covers the whole relation. Otherwise Columns
	// are those it covers.
	AllColumns bool
	Columns    []ObjectID
	// Shut are the doors that are wanting, outermost first.
	Shut []ObjectID
}

// Resolve answers what the session may do with an object. It is the one
// function that decides; every screen, command and query asks it. What is
// missing from the source can be described but not read.
func (st *Standing) Resolve(id ObjectID) Verdict {
	m := st.Model
	v := Verdict{Object: id, Held: st.held(id)}
	o := m.Object(id)
	v.AllColumns = v.Held.Has(Select)
	if o.Kind.IsRelation() {
		for _, g := range st.columns[id] {
			if g.Privilege == Select && !v.AllColumns && !m.Object(g.Object).Missing && !slices.Contains(v.Columns, g.Object) {
				v.Columns = append(v.Columns, g.Object)
				v.Held |= Set(Select)
			}
		}
	}
	v.Allowed = v.Held
	doors, n := m.doors(id)
	for _, door := range doors[:n] {
		if !st.held(door).Has(Usage) {
			v.Shut = append(v.Shut, door)
			v.Allowed &^= Set(Select, Reveal)
			if door != id {
				v.Allowed &^= Set(Usage)
			}
		}
	}
	if m.missing(id) {
		v.Allowed &= Set(Describe, Manage, Audit)
	}
	return v
}

// held collects what grants at and above the object give on it.
func (st *Standing) held(id ObjectID) Privileges {
	m := st.Model
	o := m.Object(id)
	var held Privileges
	for _, g := range st.byObject[id] {
		held |= carries(g.Privilege)
	}
	for at := o; at.ID != PlatformID; {
		for _, g := range st.patterns[at.Parent] {
			if (g.Privilege != Usage || at == o) && matches(g.Pattern, at.Name) {
				held |= carries(g.Privilege)
			}
		}
		at = m.Object(at.Parent)
		for _, g := range st.byObject[at.ID] {
			if g.Privilege != Usage {
				held |= carries(g.Privilege)
			}
		}
	}
	if held.Has(Usage) && o.Kind != Source && o.Kind != Schema {
		held &^= Set(Usage)
	}
	return held
}

// carries is what a grant of p brings. ALL leaves REVEAL out: nobody is exempt
// from a column policy by rank, so that exemptions can be reviewed by name.
func carries(p Privilege) Privileges {
	if p == All {
		return Set(Usage, Select, Describe, Manage, Audit, All)
	}
	return Set(p)
}

// ShutDoor returns the outermost door to the object that is shut, or zero.
func (st *Standing) ShutDoor(id ObjectID) ObjectID {
	doors, n := st.Model.doors(id)
	for _, door := range doors[:n] {
		if !st.held(door).Has(Usage) {
			return door
		}
	}
	return 0
}

// Sees reports whether the object exists for the session: it can enter it or
// use it, or may describe or manage it. Whatever else exists is not to be told
// from what does not.
func (st *Standing) Sees(id ObjectID) bool {
	if id == PlatformID {
		return true
	}
	v := st.Resolve(id)
	if v.Allowed&Set(Describe, Manage, Select, Usage) != 0 {
		return !st.Model.missing(id) || v.Allowed&Set(Describe, Manage) != 0
	}
	return false
}
