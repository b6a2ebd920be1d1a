package access

import (
	"errors"
	"fmt"
	"slices"
	"time"
)

// A Snapshot is all of a model in plain values, for keeping it in a file: what
// the model works out from them is not in it. The objects and grants, of which there
// may be a million, follow it in parts.
type Snapshot struct {
	Objects, Grants int      // how many there are
	Others          []Object // that have more than the columns: lanes, labels and views
	Subjects        []Subject
	Bundles         []Bundle // without a name: removed
	Lanes           []ObjectID
	Labels          []ObjectID
	Administered    bool
}

// A SnapshotPart is some of the objects, by ObjectID, or some of the grants, by GrantID. They stand
// in columns, which are read and written many times as fast as structures.
type SnapshotPart struct {
	Objects ObjectColumns
	Grants  GrantColumns
	Texts   []string // that no part before had; columns name texts by their place among all
}

// partSize is how many objects or grants a part has, but the last of them.
const partSize = 1 << 15

// ObjectColumns are objects, each field in a list of its own.
type ObjectColumns struct {
	Kind, Flags                   []byte
	Parent, Owner, Children       []uint32 // how many children; who they are is in Below
	Name, Type, Declared, Comment []uint32 // places in the snapshot's texts
	Collation                     []uint32
	Below                         []uint32 // the children of all, one object after another
}

// GrantColumns are grants, each field in a list of its own.
type GrantColumns struct {
	Privilege, Flags                               []byte
	Bundle, Object, Subject, Grantor, Owned, Basis []uint32
	Pattern, Reason, Ticket                        []uint32 // places in the snapshot's texts
	Seconds                                        []int64  // of the time it was given at, since 1970
	Nanoseconds                                    []int32
	Ending                                         []uint32 // the grants that have an end, and when
	EndSeconds                                     []int64
	EndNanoseconds                                 []int32
}

// flags packs answers to yes-or-no questions, and flagged reads one.
func flags(answers ...bool) (packed byte) {
	for i, yes := range answers {
		if yes {
			packed |= 1 << i
		}
	}
	return packed
}

func flagged(packed byte, i int) bool { return packed&(1<<i) != 0 }

// texts gives each text its place.
type texts struct {
	places map[string]uint32
	list   []string
	taken  int
}

func (t *texts) place(text string) uint32 {
	at, known := t.places[text]
	if !known {
		at = uint32(len(t.list))
		t.places[text] = at
		t.list = append(t.list, text)
	}
	return at
}

// take returns the texts that were placed since it was called last.
func (t *texts) take() []string {
	list := t.list[t.taken:]
	t.taken = len(t.list)
	return list
}

// Snapshot takes the model apart: put is given a [*Snapshot], then each [*SnapshotPart].
func (m *Model) Snapshot(put func(any) error) error {
	s := &Snapshot{
		Objects:      m.objects.size() - 1,
		Grants:       m.grants.size() - 1,
		Lanes:        m.lanes,
		Labels:       m.labels,
		Administered: m.administered,
	}
	for i := 1; i <= s.Objects; i++ {
		if o := *m.objects.at(i); o.besideTree() || o.Kind == View {
			o.grants, o.edit = nil, nil
			s.Others = append(s.Others, o)
		}
	}
	for i := 1; i < m.subjects.size(); i++ {
		subject := *m.subjects.at(i)
		subject.grants, subject.ending, subject.edit = nil, nil, nil
		s.Subjects = append(s.Subjects, subject)
	}
	for _, b := range m.bundles[1:] {
		if b == nil {
			b = &Bundle{}
		}
		s.Bundles = append(s.Bundles, *b)
	}
	if err := put(s); err != nil {
		return err
	}
	t := &texts{places: map[string]uint32{}}
	for i := 1; i <= s.Objects; {
		part := &SnapshotPart{}
		for end := min(i+partSize, s.Objects+1); i < end; i++ {
			part.Objects.add(m.objects.at(i), t)
		}
		part.Texts = t.take()
		if err := put(part); err != nil {
			return err
		}
	}
	for i := 1; i <= s.Grants; {
		part := &SnapshotPart{}
		for end := min(i+partSize, s.Grants+1); i < end; i++ {
			part.Grants.add(m.grants.at(i), t)
		}
		part.Texts = t.take()
		if err := put(part); err != nil {
			return err
		}
	}
	return nil
}

func (c *ObjectColumns) add(o *Object, t *texts) {
	c.Kind = append(c.Kind, byte(o.Kind))
	c.Flags = append(c.Flags, flags(o.NotNull, o.Missing, o.Key, o.Unique, o.Indexed))
	c.Parent = append(c.Parent, uint32(o.Parent))
	c.Owner = append(c.Owner, uint32(o.Owner))
	c.Name = append(c.Name, t.place(o.Name))
	c.Type = append(c.Type, t.place(o.Type))
	c.Declared = append(c.Declared, t.place(o.Declared))
	c.Comment = append(c.Comment, t.place(o.Comment))
	c.Collation = append(c.Collation, t.place(o.Collation))
	c.Children = append(c.Children, uint32(len(o.Children)))
	for _, id := range o.Children {
		c.Below = append(c.Below, uint32(id))
	}
}

func (c *GrantColumns) add(g *Grant, t *texts) {
	c.Privilege = append(c.Privilege, byte(g.Privilege))
	c.Flags = append(c.Flags, flags(g.Option, g.Lapsed, g.Revoked))
	c.Bundle = append(c.Bundle, uint32(g.Bundle))
	c.Object = append(c.Object, uint32(g.Object))
	c.Subject = append(c.Subject, uint32(g.Subject))
	c.Grantor = append(c.Grantor, uint32(g.Grantor))
	c.Owned = append(c.Owned, uint32(g.Owned))
	c.Basis = append(c.Basis, uint32(g.Basis))
	c.Pattern = append(c.Pattern, t.place(g.Pattern))
	c.Reason = append(c.Reason, t.place(g.Reason))
	c.Ticket = append(c.Ticket, t.place(g.Ticket))
	c.Seconds = append(c.Seconds, g.At.Unix())
	c.Nanoseconds = append(c.Nanoseconds, int32(g.At.Nanosecond()))
	if !g.Until.IsZero() {
		c.Ending = append(c.Ending, uint32(g.ID))
		c.EndSeconds = append(c.EndSeconds, g.Until.Unix())
		c.EndNanoseconds = append(c.EndNanoseconds, int32(g.Until.Nanosecond()))
	}
}

// Restore puts a model together again; get fills what Snapshot has put, in the same order. It is
// refused where the parts do not fit each other.
func Restore(get func(any) error) (m *Model, err error) {
	defer func() {
		if r := recover(); r != nil {
			m, err = nil, fmt.Errorf("the snapshot does not fit together: %v", r)
		}
	}()
	s := &Snapshot{}
	if err := get(s); err != nil {
		return nil, err
	}
	e := new(edit)
	m = &Model{edit: e, byRef: &index[SubjectID]{}, bundles: []*Bundle{nil}, lanes: s.Lanes, labels: s.Labels, administered: s.Administered}
	m.subjects.push(e, nil)
	for i := range s.Subjects {
		subject := &s.Subjects[i]
		m.subjects.push(e, subject)
		if slices.ContainsFunc(subject.Memberships, func(x Membership) bool { return x.Passed }) {
			m.givenOn = append(m.givenOn, subject.ID)
		}
		if !subject.Removed {
			m.byRef = m.byRef.with(e, subject.Ref(), subject.ID)
		}
	}
	for i := range s.Bundles {
		b := &s.Bundles[i]
		if b.Name == "" {
			b = nil
		}
		m.bundles = append(m.bundles, b)
	}
	r := restoring{m: m, get: get}
	if err := r.objects(s); err != nil {
		return nil, err
	}
	if err := r.grants(s.Grants); err != nil {
		return nil, err
	}
	m.edit = nil
	return m, nil
}

// restoring reads the parts of a snapshot.
type restoring struct {
	m     *Model
	get   func(any) error
	texts []string
}

func (r *restoring) part() (*SnapshotPart, error) {
	part := &SnapshotPart{}
	err := r.get(part)
	r.texts = append(r.texts, part.Texts...)
	return part, err
}

func (r *restoring) objects(s *Snapshot) error {
	r.m.objects.push(r.m.edit, nil)
	for r.m.objects.size() <= s.Objects {
		part, err := r.part()
		if err != nil {
			return err
		}
		c := &part.Objects
		if len(c.Kind) == 0 {
			return errors.New("a part of the snapshot has no objects")
		}
		objects := make([]Object, len(c.Kind))
		below := make([]ObjectID, len(c.Below))
		for i, id := range c.Below {
			below[i] = ObjectID(id)
		}
		for i := range objects {
			o := &objects[i]
			*o = Object{
				ID:       ObjectID(r.m.objects.size()),
				Kind:     ObjectKind(c.Kind[i]),
				Name:     r.texts[c.Name[i]],
				Parent:   ObjectID(c.Parent[i]),
				Type:     r.texts[c.Type[i]],
				Declared: r.texts[c.Declared[i]],
				Comment:  r.texts[c.Comment[i]],

				Collation: r.texts[c.Collation[i]],
				Owner:     SubjectID(c.Owner[i]),
				NotNull:   flagged(c.Flags[i], 0),
				Missing:   flagged(c.Flags[i], 1),
				Key:       flagged(c.Flags[i], 2),
				Unique:    flagged(c.Flags[i], 3),
				Indexed:   flagged(c.Flags[i], 4),
			}
			if n := c.Children[i]; n > 0 {
				o.Children, below = below[:n:n], below[n:]
			}
			r.m.objects.push(r.m.edit, o)
		}
	}
	for _, o := range s.Others {
		*r.m.Object(o.ID) = o
		if o.Kind == View {
			r.m.views = append(r.m.views, o.ID)
		}
	}
	return nil
}

// grants makes the grants, and puts each back in its places.
func (r *restoring) grants(n int) error {
	m := r.m
	m.grants.push(m.edit, nil)
	for m.grants.size() <= n {
		part, err := r.part()
		if err != nil {
			return err
		}
		c := &part.Grants
		if len(c.Object) == 0 {
			return errors.New("a part of the snapshot has no grants")
		}
		grants := make([]Grant, len(c.Object))
		for i := range grants {
			grants[i] = Grant{
				ID:        GrantID(m.grants.size()),
				Privilege: Privilege(c.Privilege[i]),
				Bundle:    BundleID(c.Bundle[i]),
				Target:    Target{ObjectID(c.Object[i]), r.texts[c.Pattern[i]]},
				Subject:   SubjectID(c.Subject[i]),
				Grantor:   SubjectID(c.Grantor[i]),
				Owned:     ObjectID(c.Owned[i]),
				Basis:     GrantID(c.Basis[i]),
				Option:    flagged(c.Flags[i], 0),
				Lapsed:    flagged(c.Flags[i], 1),
				Revoked:   flagged(c.Flags[i], 2),
				At:        time.Unix(c.Seconds[i], int64(c.Nanoseconds[i])).UTC(),
				Reason:    r.texts[c.Reason[i]],
				Ticket:    r.texts[c.Ticket[i]],
			}
			m.grants.push(m.edit, &grants[i])
		}
		for i, id := range c.Ending {
			m.Grant(GrantID(id)).Until = time.Unix(c.EndSeconds[i], int64(c.EndNanoseconds[i])).UTC()
		}
	}
	for i := 1; i < m.grants.size(); i++ {
		g := m.grants.at(i)
		g.ends = g.Until
		for b := g.Basis; b != 0; b = m.Grant(b).Basis {
			g.ends = earliest(g.ends, m.Grant(b).Until)
		}
		if !g.ends.IsZero() && !g.Revoked {
			subject := m.Subject(g.Subject)
			subject.ending = append(subject.ending, g.ID)
		}
	}
	m.placeGrants()
	return nil
}

// placeGrants gives objects and subjects their lists of grants, all of which lie in two arrays.
func (m *Model) placeGrants() {
	counts := make([]ObjectID, m.objects.size()) // where a grant on the object counts
	for id := range counts[1:] {
		counts[id+1] = m.countsAt(ObjectID(id + 1))
	}
	on, to := make([]int, m.objects.size()+1), make([]int, m.subjects.size()+1)
	m.EachGrant(func(g *Grant) {
		on[counts[g.Object]+1]++
		to[g.Subject+1]++
	})
	begins := func(counts []int) (total int) { // makes counts the places where each begins
		for i, n := range counts {
			total += n
			counts[i] = total
		}
		return total
	}
	ids, refs := make([]GrantID, begins(on)), make([]grantRef, begins(to))
	subjects := make([]SubjectID, m.grants.size())
	next := slices.Clone(on)
	m.EachGrant(func(g *Grant) {
		at := counts[g.Object]
		ids[next[at]] = g.ID
		next[at]++
		subjects[g.ID] = g.Subject
	})
	next = slices.Clone(to)
	for id := 1; id < m.objects.size(); id++ { // in the order in which subjects have them
		from, end := on[id], on[id+1]
		if from == end {
			continue
		}
		m.Object(ObjectID(id)).grants = ids[from:end:end]
		for _, g := range ids[from:end] {
			subject := subjects[g]
			refs[next[subject]] = grantRef{ObjectID(id), g}
			next[subject]++
		}
	}
	for id := 1; id < m.subjects.size(); id++ {
		if from, end := to[id], to[id+1]; from < end {
			m.Subject(SubjectID(id)).grants = refs[from:end:end]
		}
	}
}
