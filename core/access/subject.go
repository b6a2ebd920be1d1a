package access

import (
	"slices"
	"strings"
	"time"

	"github.com/bits-and-blooms/bitset"
)

// A SubjectID names a subject for as long as the platform exists; it is never
// given to another. Zero is no subject.
type SubjectID uint32

// PublicID is the subject that stands for everyone.
const PublicID SubjectID = 1

// A SubjectKind says what a subject is.
type SubjectKind uint8

const (
	Public  SubjectKind = iota + 1
	User                // a person
	Service             // an account that no person signs in with
	Group               // of users, services and groups
	Role                // a named set of grants
)

var subjectKindNames = [...]string{Public: "public", User: "user", Service: "service",
	Group: "group", Role: "role"}

func (k SubjectKind) String() string { return subjectKindNames[k] }

// A Membership is one step up from a subject: a group that it is in, or a role
// that it holds. Two givers make two, and each takes back their own.
type Membership struct {
	Of     SubjectID
	By     SubjectID // who gave it
	At     time.Time
	Until  time.Time // zero: without end
	Option bool      // of a role: the holder may give it on
	Passed bool      // given by such a right of the giver's, on which it rests
	Reason string
	Ticket string
}

// ended reports whether an end date, if any, is at or before now.
func ended(until, now time.Time) bool { return !until.IsZero() && !now.Before(until) }

// A Subject is somebody or something that rights are given to.
type Subject struct {
	ID          SubjectID
	Kind        SubjectKind
	Name        string
	Title       string              // description
	Attributes  map[string][]string // sets of values, sorted; never changed in place
	Disabled    bool
	Removed     bool         // kept so that the record can still name it
	Memberships []Membership // groups and roles, in the order they were given
	Members     []SubjectID  // who is in the group or holds the role directly
	Lead        SubjectID    // of a user: whom they report to; zero: nobody
	Reports     []SubjectID  // of a user: who reports to them

	grants []grantRef // sorted by where they count
	ending []GrantID  // those of them that end, or depend on what ends
	edit   *edit      // under which it was made by [Model.ownSubject]
}

// Ref returns the subject's name as it is written everywhere: user:flint,
// role:survey_reader, public.
func (s *Subject) Ref() string {
	if s.Kind == Public {
		return "public"
	}
	return s.Kind.String() + ":" + s.Name
}

// Acts reports whether sessions can be the subject's own.
func (s *Subject) Acts() bool { return s.Kind == User || s.Kind == Service }

// Subject returns the subject with the id, which must be one of this model's.
func (m *Model) Subject(id SubjectID) *Subject { return m.subjects.at(int(id)) }

// Ref returns the name of the subject with the id; of zero, "".
func (m *Model) Ref(id SubjectID) string {
	if id == 0 {
		return ""
	}
	return m.Subject(id).Ref()
}

// FindSubject finds the subject that ref names. A name without its kind is
// taken where one subject only has it.
func (m *Model) FindSubject(ref string) (*Subject, error) {
	ref = strings.ToLower(strings.TrimSpace(ref))
	kind, name, full := strings.Cut(ref, ":")
	if full || ref == "public" {
		if id, ok := m.byRef.get(ref); ok {
			return m.Subject(id), nil
		}
		if !full || !slices.Contains(subjectKindNames[:], kind) {
			return nil, &NotFound{Kind: "subject", Name: ref, Known: m.refs(0)}
		}
		return nil, &NotFound{Kind: kind, Name: name, Known: m.refs(SubjectKind(slices.Index(subjectKindNames[:], kind)))}
	}
	var found *Subject
	for kind := User; kind <= Role; kind++ {
		if id, ok := m.byRef.get(kind.String() + ":" + ref); ok {
			if found != nil {
				return nil, invalid("ambiguous_subject", "%s is both %s and %s; write the kind before the name", ref, found.Ref(), m.Ref(id))
			}
			found = m.Subject(id)
		}
	}
	if found == nil {
		return nil, &NotFound{Kind: "subject", Name: ref, Known: m.refs(0)}
	}
	return found, nil
}

func (m *Model) refs(kind SubjectKind) []string {
	var refs []string
	for _, s := range m.Subjects(kind) {
		refs = append(refs, s.Ref())
	}
	return refs
}

// Subjects lists the subjects of one kind, or of all for zero, by kind and
// name, without the removed.
func (m *Model) Subjects(kind SubjectKind) []*Subject {
	var out []*Subject
	m.EachSubject(func(s *Subject) {
		if kind == 0 || s.Kind == kind {
			out = append(out, s)
		}
	})
	slices.SortFunc(out, CompareSubjects)
	return out
}

// EachSubject calls f for every subject that is not removed, oldest first.
func (m *Model) EachSubject(f func(*Subject)) {
	for i := 1; i < m.subjects.size(); i++ {
		if s := m.subjects.at(i); !s.Removed {
			f(s)
		}
	}
}

// CompareSubjects orders subjects by kind and name.
func CompareSubjects(a, b *Subject) int {
	if a.Kind != b.Kind {
		return int(a.Kind) - int(b.Kind)
	}
	return strings.Compare(a.Name, b.Name)
}

// CompareRefs orders references as CompareSubjects orders their subjects.
func CompareRefs(a, b string) int {
	split := func(ref string) (SubjectKind, string) {
		kind, name, _ := strings.Cut(ref, ":")
		return SubjectKind(max(slices.Index(subjectKindNames[:], kind), 0)), name
	}
	ka, na := split(a)
	kb, nb := split(b)
	if ka != kb {
		return int(ka) - int(kb)
	}
	return strings.Compare(na, nb)
}

// Actors calls f for every user and service that has the rights of id at the
// moment: id itself, or its members at any depth; of PUBLIC, all of them.
// Disabled ones are left out. It stops when f returns false.
func (m *Model) Actors(id SubjectID, now time.Time, f func(*Subject) bool) {
	if id == PublicID {
		for i := 1; i < m.subjects.size(); i++ {
			if s := m.subjects.at(i); s.Acts() && !s.Removed && !s.Disabled && !f(s) {
				return
			}
		}
		return
	}
	seen := map[SubjectID]bool{id: true}
	for queue := []SubjectID{id}; len(queue) > 0; queue = queue[1:] {
		s := m.Subject(queue[0])
		if s.Acts() {
			if !s.Disabled && !s.Removed && !f(s) {
				return
			}
			continue
		}
		for _, member := range s.Members {
			if !seen[member] && m.memberNow(member, s.ID, now) {
				seen[member] = true
				queue = append(queue, member)
			}
		}
	}
}

// Had is the set of all that some enabled user or service has at the moment, itself among it; PUBLIC is not
// in it.
func (m *Model) Had(now time.Time) *bitset.BitSet {
	set := m.noSubjects()
	var queue []SubjectID
	for i := 1; i < m.subjects.size(); i++ {
		if s := m.subjects.at(i); s.Acts() && !s.Removed && !s.Disabled {
			set.Set(uint(i))
			queue = append(queue, s.ID)
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		for _, e := range m.Subject(queue[0]).Memberships {
			if !set.Test(uint(e.Of)) && !ended(e.Until, now) {
				set.Set(uint(e.Of))
				queue = append(queue, e.Of)
			}
		}
	}
	return set
}

func (m *Model) memberNow(member, of SubjectID, now time.Time) bool {
	for _, e := range m.Subject(member).Memberships {
		if e.Of == of && !ended(e.Until, now) {
			return true
		}
	}
	return false
}

// upward calls f for a subject and all that it has at the moment: its groups
// and roles at any depth, and PUBLIC.
func (m *Model) upward(id SubjectID, now time.Time, f func(*Subject)) {
	seen := []SubjectID{id}
	for i := 0; i < len(seen); i++ {
		s := m.Subject(seen[i])
		f(s)
		for _, e := range s.Memberships {
			if !ended(e.Until, now) && !slices.Contains(seen, e.Of) {
				seen = append(seen, e.Of)
			}
		}
	}
	if id != PublicID {
		f(m.Subject(PublicID))
	}
}

// Team lists a user and all who report to them, at any depth, the nearest first.
func (m *Model) Team(id SubjectID) []SubjectID {
	team := []SubjectID{id}
	for i := 0; i < len(team); i++ {
		team = append(team, m.Subject(team[i]).Reports...)
	}
	return team
}

// chain returns a way up from one subject to another by memberships, both ends
// included, or nil when there is none. End dates are not looked at: a loop
// would be a loop on the day a holding is renewed.
func (m *Model) chain(from, to SubjectID) []SubjectID {
	if from == to {
		return []SubjectID{from}
	}
	came := map[SubjectID]SubjectID{from: 0}
	for queue := []SubjectID{from}; len(queue) > 0; queue = queue[1:] {
		for _, e := range m.Subject(queue[0]).Memberships {
			if _, seen := came[e.Of]; seen {
				continue
			}
			came[e.Of] = queue[0]
			if e.Of == to {
				var way []SubjectID
				for id := to; id != 0; id = came[id] {
					way = append(way, id)
				}
				slices.Reverse(way)
				return way
			}
			queue = append(queue, e.Of)
		}
	}
	return nil
}

// checkName refuses names that could not be written in a command or a
// statement without surprise.
func checkName(kind SubjectKind, name string) error {
	ok := name != "" && len(name) <= 63
	for i := 0; i < len(name) && ok; i++ {
		c := name[i]
		letter := c >= 'a' && c <= 'z' || c >= '0' && c <= '9'
		ok = letter || i > 0 && strings.IndexByte("_-.@", c) >= 0
	}
	if !ok {
		return invalid("bad_name", "%q cannot name a %s: use up to 63 of a-z, 0-9 and _ - . @, starting with a letter or digit", name, kind)
	}
	return nil
}

// HasSubject reports whether the id is that of a subject of this model that has
// not been removed.
func (m *Model) HasSubject(id SubjectID) bool {
	return id > 0 && int(id) < m.subjects.size() && !m.Subject(id).Removed
}
