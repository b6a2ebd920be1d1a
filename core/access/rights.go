package access

import (
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/bits-and-blooms/bitset"
)

// A Standpoint is as whom to look: a subject, acting with all the roles it holds or
// narrowed to one of them (ISO SQL SET ROLE), with a declared purpose or none.
type Standpoint struct {
	Subject SubjectID
	Role    SubjectID // zero: all roles held
	Purpose string
}

// StandpointText writes a standpoint: "user:flint in role:survey_reader for audit".
func (m *Model) StandpointText(s Standpoint) string {
	text := m.Ref(s.Subject)
	if s.Role != 0 {
		text += " in " + m.Ref(s.Role)
	}
	if s.Purpose != "" {
		text += " for " + s.Purpose
	}
	return text
}

// ParseStandpoint reads what StandpointText has written, of subjects that are there.
func (m *Model) ParseStandpoint(text string) (Standpoint, error) {
	var s Standpoint
	text, s.Purpose, _ = strings.Cut(text, " for ")
	who, role, narrowed := strings.Cut(text, " in ")
	subject, err := m.FindSubject(who)
	if err != nil {
		return Standpoint{}, err
	}
	s.Subject = subject.ID
	if narrowed {
		if subject, err = m.FindSubject(role); err != nil {
			return Standpoint{}, err
		}
		s.Role = subject.ID
	}
	return s, nil
}

// Rights are what a standpoint holds at one moment in one model.
type Rights struct {
	Model      *Model
	Standpoint Standpoint
	Words      string // for people: "user:flint in role:x for audit"
	At         time.Time
	// Until is when the standing stops being true by itself, because a
	// membership or grant in it ends. Zero: it holds while the model does.
	Until time.Time

	counts *bitset.BitSet // the subjects that count
	holds  *bitset.BitSet // the same, not narrowed to one role
	ids    []SubjectID    // the members of counts, in the order they were reached
	steps  []step         // by which they were reached

	flows      sync.Map                   // ObjectID → flow, of containers
	asked      atomic.Int32               // how often grants were looked up
	mergeAfter int32                      // how often in each subject's list, before it is worth its while to merge the lists
	merged     atomic.Pointer[[]grantRef] // the grants of all ids, sorted
	places     atomic.Pointer[map[ObjectID]*touched]
}

// A step is one membership on the way from a session to what it has.
type step struct{ from, to SubjectID }

// Rights works out what a session holds at the moment now. It is refused for a
// subject that is disabled or removed, and for a role that is not held.
func (m *Model) Rights(s Standpoint, now time.Time) (*Rights, error) {
	st, err := m.stand(s, now)
	if err == nil {
		if until := m.ownersUntil(now); !until.IsZero() { // views lend their owners' rights
			st.Until = earliest(st.Until, until)
		}
	}
	return st, err
}

func (m *Model) stand(s Standpoint, now time.Time) (*Rights, error) {
	subject := m.Subject(s.Subject)
	if subject.Disabled || subject.Removed {
		return nil, invalid("disabled", "%s is disabled", subject.Ref())
	}
	st := &Rights{Model: m, Standpoint: s, Words: m.StandpointText(s), At: now}
	st.begin()
	st.climb(s.Subject, func(SubjectID) bool { return true })
	st.holds = st.counts
	if s.Role != 0 {
		if !st.Counts(s.Role) {
			return nil, invalid(
				"role_not_held",
				"%s does not have %s; to see what the role alone gives, use the role itself as the standpoint",
				subject.Ref(),
				m.Ref(s.Role),
			)
		}
		st.begin()
		st.climb(s.Subject, func(id SubjectID) bool { return m.Subject(id).Kind == Group })
		st.step(s.Subject, s.Role)
		st.climb(s.Role, func(SubjectID) bool { return true })
	}
	st.step(s.Subject, PublicID)
	grants := 0
	for _, id := range st.ids {
		grants += len(m.Subject(id).grants)
		for _, g := range m.Subject(id).ending {
			if end := m.Grant(g).ends; !ended(end, now) {
				st.Until = earliest(st.Until, end)
			}
		}
	}
	st.mergeAfter = fewLooks + int32(2*grants/len(st.ids))
	return st, nil
}

// begin starts with the session's own subject.
func (st *Rights) begin() {
	st.counts, st.ids, st.steps = st.Model.noSubjects(), []SubjectID{st.Standpoint.Subject}, nil
	st.counts.Set(uint(st.Standpoint.Subject))
}

// step adds what one subject has, and reports whether it is new.
func (st *Rights) step(from, to SubjectID) bool {
	if from == to {
		return false
	}
	st.steps = append(st.steps, step{from, to})
	if st.counts.Test(uint(to)) {
		return false
	}
	st.counts.Set(uint(to))
	st.ids = append(st.ids, to)
	return true
}

// climb follows memberships up from a subject, as far as the filter lets it.
func (st *Rights) climb(from SubjectID, follow func(SubjectID) bool) {
	queue := append(make([]SubjectID, 0, 16), from)
	for i := 0; i < len(queue); i++ {
		for _, e := range st.Model.Subject(queue[i]).Memberships {
			if ended(e.Until, st.At) || !follow(e.Of) {
				continue
			}
			st.Until = earliest(st.Until, e.Until)
			if st.step(queue[i], e.Of) {
				queue = append(queue, e.Of)
			}
		}
	}
}

// Counts reports whether the standing is or has the subject: is that user, is
// in that group, acts in that role.
func (st *Rights) Counts(id SubjectID) bool { return st.counts.Test(uint(id)) }

// Holds is Counts without regard to narrowing: a session narrowed to one role
// still holds the others. What restricts goes by Holds, so that nobody sheds a
// restriction by choosing another role to act in.
func (st *Rights) Holds(id SubjectID) bool { return st.holds.Test(uint(id)) }

// Subjects lists all subjects that count: the session's own, its groups, the
// roles it acts in, and PUBLIC.
func (st *Rights) Subjects() []SubjectID { return slices.Sorted(slices.Values(st.ids)) }

// A Verdict is the answer for one object.
type Verdict struct {
	Object ObjectID
	// Held are the privileges that grants give on the object, whether or not
	// they can be used.
	Held Privileges
	// Allowed are those that can be used. For a relation, a privilege is among
	// them as soon as it holds for one column.
	Allowed Privileges
	// Whole are those that are held on the whole object, not on some of its
	// columns only.
	Whole Privileges
	// Columns are the columns of a relation that grants name, with what they
	// give there.
	Columns []ColumnRight
	// Shut are the objects on the way where USAGE is missing, outermost first.
	Shut []ObjectID
}

// A ColumnRight is what grants on a column itself give.
type ColumnRight struct {
	Column ObjectID
	Gives  Privileges
}

// Covers reports whether p can be used on the column of the verdict's relation.
func (v *Verdict) Covers(p Privilege, column ObjectID) bool {
	if !v.Allowed.Has(p) {
		return false
	}
	return v.Whole.Has(p) || slices.ContainsFunc(v.Columns, func(c ColumnRight) bool { return c.Column == column && c.Gives.Has(p) })
}

// ColumnsWith lists the columns that grants on columns give p for.
func (v *Verdict) ColumnsWith(p Privilege) []ObjectID {
	var ids []ObjectID
	for _, c := range v.Columns {
		if c.Gives.Has(p) {
			ids = append(ids, c.Column)
		}
	}
	return ids
}

// Resolve answers what the session may do with an object. It is the one
// function that decides; every screen, command and query asks it. What is
// missing from the source can be described but not read.
func (st *Rights) Resolve(id ObjectID) Verdict {
	m := st.Model
	v := Verdict{Object: id}
	if m.Object(id).Kind.IsRelation() {
		st.relation(&v)
	} else {
		v.Whole = st.held(id)
		v.Held = v.Whole
	}
	v.Allowed = v.Held
	doors, n := m.doors(id)
	for _, door := range doors[:n] {
		if !st.flow(door).open {
			v.Shut = append(v.Shut, door)
			v.Allowed &^= behindDoors
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

// byColumn are the privileges that a relation has as soon as one column has
// them, as ISO/IEC 9075-2 has it for SELECT, INSERT, UPDATE and REFERENCES.
var byColumn = Set(Select, Insert, Update, References)

// relation collects what is held on a relation and on its columns.
func (st *Rights) relation(v *Verdict) {
	m := st.Model
	v.Whole = st.fromAbove(m.Object(v.Object))
	st.each(v.Object, func(g *Grant) {
		gives := m.Gives(g)
		if g.Object == v.Object {
			v.Whole |= gives
			return
		}
		if m.Object(g.Object).Missing {
			return
		}
		gives &= appliesTo[Column]
		i, found := slices.BinarySearchFunc(v.Columns, g.Object, func(c ColumnRight, id ObjectID) int { return int(c.Column) - int(id) })
		if !found {
			v.Columns = slices.Insert(v.Columns, i, ColumnRight{Column: g.Object})
		}
		v.Columns[i].Gives |= gives
		v.Held |= gives & byColumn
	})
	v.Whole &= appliesTo[m.Object(v.Object).Kind]
	v.Held |= v.Whole
}

// onColumn reports whether a grant on one of the relation's columns gives the
// relation p in part.
func (m *Model) onColumn(g *Grant, p Privilege, relation ObjectID) bool {
	o := m.Object(g.Object)
	return o.Kind == Column && o.Parent == relation && !o.Missing && byColumn.Has(p) && m.Gives(g).Has(p)
}

// A flow is what an object passes on to those below it.
type flow struct {
	below    Privileges
	patterns []*Grant // that name some of its children
	open     bool     // its own door is
}

// appliesTo has for each kind of object the privileges that can be held there,
// by a grant on it or by one above.
var appliesTo = func() (out [Label + 1]Privileges) {
	all := carried(All) | Set(Reveal)
	rows := all &^ Set(Usage, Create, Execute)
	out[Platform], out[Source], out[Schema] = all&^Set(Usage), all, all
	out[Table], out[View], out[Column] = rows, rows, rows&^Set(Delete)
	out[Routine] = Set(Execute, Describe, Manage, Audit, All)
	out[Lane] = Set(Usage, Describe, Manage, Audit, All)
	out[Label] = Set(Reveal, Describe, Manage, Audit, All)
	return out
}()

// passed is what a grant on an object gives to what is below it. A door is no
// door to anything else, but ALL brings the doors along.
func (m *Model) passed(g *Grant) Privileges {
	gives := m.Gives(g)
	if g.Privilege != All {
		gives &^= Set(Usage)
	}
	return gives
}

// flow works out what a platform, source or schema passes down.
func (st *Rights) flow(id ObjectID) flow {
	if kept, ok := st.flows.Load(id); ok {
		return kept.(flow)
	}
	m := st.Model
	var f flow
	o := m.Object(id)
	if id != PlatformID {
		up := st.flow(o.Parent)
		f.below = up.below
		for _, g := range up.patterns {
			if Matches(g.Pattern, o.Name) {
				f.below |= m.passed(g)
				f.open = f.open || m.Gives(g).Has(Usage)
			}
		}
	}
	st.each(id, func(g *Grant) {
		if g.Pattern != "" {
			f.patterns = append(f.patterns, g)
		} else {
			f.below |= m.passed(g)
			f.open = f.open || m.Gives(g).Has(Usage)
		}
	})
	f.open = f.open || f.below.Has(Usage)
	st.flows.Store(id, f)
	return f
}

// each calls f for the grants in effect that count at the object, those on its
// columns and on patterns in it included.
func (st *Rights) each(id ObjectID, f func(*Grant)) {
	m := st.Model
	if merged := st.merge(); merged != nil {
		for _, ref := range refsAt(merged, id) {
			f(m.Grant(ref.grant))
		}
		return
	}
	if on := m.Object(id).grants; 2*len(on) < len(st.ids) { // it is quicker to ask the object
		for _, id := range on {
			if g := m.Grant(id); st.counts.Test(uint(g.Subject)) && g.inForce(st.At) {
				f(g)
			}
		}
		return
	}
	for _, subject := range st.ids {
		grants := m.Subject(subject).grants
		for _, ref := range refsAt(grants, id) {
			if g := m.Grant(ref.grant); g.inForce(st.At) {
				f(g)
			}
		}
	}
}

// fewLooks is for how many questions grants are never merged; the more grants there are, the more
// questions it takes until it pays.
const fewLooks = 32

// merge returns the grants in effect of all subjects in one sorted list, or nil
// while few questions were asked.
func (st *Rights) merge() []grantRef {
	if merged := st.merged.Load(); merged != nil {
		return *merged
	}
	if st.asked.Add(1) <= st.mergeAfter {
		return nil
	}
	m := st.Model
	n := 0
	for _, id := range st.ids {
		n += len(m.Subject(id).grants)
	}
	all := make([]grantRef, 0, n+1) // never nil
	for _, id := range st.ids {
		for _, ref := range m.Subject(id).grants {
			if m.Grant(ref.grant).inForce(st.At) {
				all = append(all, ref)
			}
		}
	}
	slices.SortFunc(all, compareRefs)
	st.merged.Store(&all)
	return all
}

// held collects what grants at and above the object give on all of it.
func (st *Rights) held(id ObjectID) Privileges {
	m := st.Model
	o := m.Object(id)
	var held Privileges
	switch {
	case id == PlatformID:
	case o.Kind == Column:
		held = st.held(o.Parent)
		st.each(o.Parent, func(g *Grant) {
			if g.Object == id {
				held |= m.Gives(g)
			}
		})
		return held & appliesTo[Column]
	default:
		held = st.fromAbove(o)
	}
	st.each(id, func(g *Grant) {
		if g.Object == id && g.Pattern == "" {
			held |= m.Gives(g)
		}
	})
	return held & appliesTo[o.Kind]
}

// fromAbove is what an object has from the grants above it, and from patterns
// that name it.
func (st *Rights) fromAbove(o *Object) Privileges {
	up := st.flow(o.Parent)
	held := up.below
	for _, g := range up.patterns {
		if Matches(g.Pattern, o.Name) {
			held |= st.Model.Gives(g)
		}
	}
	return held
}

// ShutDoor returns the outermost door to the object that is shut, or zero.
func (st *Rights) ShutDoor(id ObjectID) ObjectID {
	doors, n := st.Model.doors(id)
	for _, door := range doors[:n] {
		if !st.flow(door).open {
			return door
		}
	}
	return 0
}

// Sees reports whether the object exists for the session: it can enter it or
// use it, or may describe or manage it. Whatever else exists is not to be told
// from what does not.
func (st *Rights) Sees(id ObjectID) bool {
	if id == PlatformID {
		return true
	}
	v := st.Resolve(id)
	if v.Allowed.Any(Set(Describe, Manage, Select, Insert, Update, Delete, Usage)) {
		return !st.Model.missing(id) || v.Allowed.Any(Set(Describe, Manage))
	}
	return false
}

// Walk calls f for the object and all below it but columns, parents first, with
// the verdict of each; where f returns false, what is below is left out.
func (st *Rights) Walk(id ObjectID, f func(*Object, Verdict) bool) {
	o := st.Model.Object(id)
	if o.Kind == Column || !f(o, st.Resolve(id)) {
		return
	}
	if !o.Kind.IsRelation() {
		for _, child := range o.Children {
			st.Walk(child, f)
		}
	}
}
