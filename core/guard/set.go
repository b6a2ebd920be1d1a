package guard

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"gneiss/core/access"
)

// A Set has the guardrails and tests of a platform, by name. It never changes: each change makes
// another.
type Set struct {
	rails []*Guardrail
	tests []*Test
}

// Guardrails lists the guardrails by name.
func (s *Set) Guardrails() []*Guardrail { return s.rails }

// Tests lists the access tests by name.
func (s *Set) Tests() []*Test { return s.tests }

// Test is the access test of a name; nil: there is none.
func (s *Set) Test(name string) *Test {
	for _, t := range s.tests {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// A Change is one step from a set to the next. It names objects and subjects by path and reference,
// which m resolves.
type Change interface {
	apply(s *Set, m *access.Model) (*Set, error)
}

// Apply returns the set after the change and leaves s as it is.
func (s *Set) Apply(c Change, m *access.Model) (*Set, error) { return c.apply(s, m) }

// A Mode says what comes of a change that would break a guardrail.
type Mode string

const (
	Warn  Mode = "warn"  // it is said
	Block Mode = "block" // it is refused
)

// A Kind is what a guardrail is about.
type Kind string

const (
	Clear          Kind = "clear"          // nobody but these sees the object, or what has the label, in clear
	Treated        Kind = "treated"        // what has the label is treated for everyone
	Apart          Kind = "apart"          // nobody holds both roles
	ToPublic       Kind = "to-public"      // no grant to PUBLIC at or below the object
	ToUsers        Kind = "to-users"       // no grant straight to a user or service
	WithoutEnd     Kind = "without-end"    // no grant without an end
	WholeSource    Kind = "whole-source"   // no grant of more than USAGE on a source as a whole
	Administrators Kind = "administrators" // no more administrators than these
	Owned          Kind = "owned"          // every table at or below the object has an owner
	SecondPerson   Kind = "second-person"  // what is drafted at or below the object is published by somebody else
)

// Kinds lists the kinds of guardrails with what each states.
func Kinds() []Kind {
	return []Kind{Clear, Treated, Apart, ToPublic, ToUsers, WithoutEnd, WholeSource, Administrators, Owned, SecondPerson}
}

// A Guardrail states what must hold for everyone.
type Guardrail struct {
	Name    string
	Kind    Kind
	Mode    Mode
	Comment string
	Object  access.ObjectID    // what it is about: a label, a column or a place; the platform where nothing is said
	Except  []access.SubjectID // of Clear: who may
	Roles   []access.SubjectID // of Apart: the two
	Most    int                // of Administrators
}

// PutGuardrail adds a guardrail, or replaces the one of that name.
type PutGuardrail struct {
	Name    string   `json:"name"`
	Kind    Kind     `json:"kind"`
	Mode    Mode     `json:"mode"`
	Comment string   `json:"comment,omitempty"`
	Object  string   `json:"object,omitempty"`
	Except  []string `json:"except,omitempty"`
	Roles   []string `json:"roles,omitempty"`
	Most    int      `json:"most,omitempty"`
}

var plainName = regexp.MustCompile(`^[a-z0-9][a-z0-9_.-]{0,62}$`)

func checkName(name, what string) error {
	if !plainName.MatchString(name) {
		return invalid("bad_name", "%.80q cannot name %s: use up to 63 of a-z, 0-9 and _ - ., starting with a letter or digit", name, what)
	}
	return nil
}

func invalid(code, format string, args ...any) error {
	return &access.Invalid{Code: code, Text: fmt.Sprintf(format, args...)}
}

func (c PutGuardrail) apply(s *Set, m *access.Model) (*Set, error) {
	g := &Guardrail{Name: c.Name, Kind: c.Kind, Mode: c.Mode, Comment: c.Comment, Object: access.PlatformID, Most: c.Most}
	if err := checkName(c.Name, "a guardrail"); err != nil {
		return nil, err
	}
	if !slices.Contains(Kinds(), c.Kind) {
		return nil, &access.NotFound{Kind: "kind of guardrail", Name: string(c.Kind), Known: words(Kinds())}
	}
	if c.Mode != Warn && c.Mode != Block {
		return nil, &access.NotFound{Kind: "mode", Name: string(c.Mode), Known: []string{string(Warn), string(Block)}}
	}
	if c.Object != "" {
		o, err := m.Lookup(c.Object)
		if err != nil {
			return nil, err
		}
		g.Object = o.ID
	}
	var err error
	if g.Except, err = subjects(m, c.Except, 0); err != nil {
		return nil, err
	}
	if g.Roles, err = subjects(m, c.Roles, access.Role); err != nil {
		return nil, err
	}
	if err := g.check(m); err != nil {
		return nil, err
	}
	return s.withRail(g), nil
}

// check refuses what a kind has no use for.
func (g *Guardrail) check(m *access.Model) error {
	o := m.Object(g.Object)
	switch g.Kind {
	case Clear:
		if o.Kind != access.Label && o.Kind != access.Column && o.Kind != access.Table {
			return invalid("bad_guardrail", "%s states who sees a label, a table or a column in clear; %s is a %s", g.Kind, m.Path(o.ID), o.Kind)
		}
	case Treated:
		if o.Kind != access.Label {
			return invalid("bad_guardrail", "%s is about a label; %s is a %s", g.Kind, m.Path(o.ID), o.Kind)
		}
	case Apart:
		if len(g.Roles) != 2 || g.Roles[0] == g.Roles[1] {
			return invalid("bad_guardrail", "%s names two roles", g.Kind)
		}
	case Administrators:
		if g.Most < 1 {
			return invalid("bad_guardrail", "%s takes how many there may be, from 1", g.Kind)
		}
	default:
		if o.Kind == access.Label || o.Kind == access.Lane || o.Kind == access.Column {
			return invalid("bad_guardrail", "%s is about the platform, a source, a schema or a table; %s is a %s", g.Kind, m.Path(o.ID), o.Kind)
		}
	}
	switch {
	case len(g.Except) > 0 && g.Kind != Clear:
		return invalid("bad_guardrail", "only %s has exceptions", Clear)
	case len(g.Roles) > 0 && g.Kind != Apart:
		return invalid("bad_guardrail", "only %s names roles", Apart)
	case g.Most != 0 && g.Kind != Administrators:
		return invalid("bad_guardrail", "only %s has a number", Administrators)
	}
	return nil
}

func words(kinds []Kind) []string {
	var out []string
	for _, k := range kinds {
		out = append(out, string(k))
	}
	return out
}

func subjects(m *access.Model, refs []string, kind access.SubjectKind) ([]access.SubjectID, error) {
	var ids []access.SubjectID
	for _, ref := range refs {
		s, err := m.FindSubject(ref)
		if err != nil {
			return nil, err
		}
		if kind != 0 && s.Kind != kind {
			return nil, invalid("wrong_kind", "%s is a %s, not a %s", s.Ref(), s.Kind, kind)
		}
		ids = append(ids, s.ID)
	}
	return ids, nil
}

// RemoveGuardrail takes a guardrail away.
type RemoveGuardrail struct {
	Name string `json:"name"`
}

func (c RemoveGuardrail) apply(s *Set, _ *access.Model) (*Set, error) {
	i := slices.IndexFunc(s.rails, func(g *Guardrail) bool { return g.Name == c.Name })
	if i < 0 {
		return nil, &access.NotFound{Kind: "guardrail", Name: c.Name, Known: railNames(s.rails)}
	}
	return &Set{slices.Delete(slices.Clone(s.rails), i, i+1), s.tests}, nil
}

func railNames(list []*Guardrail) []string {
	var out []string
	for _, g := range list {
		out = append(out, g.Name)
	}
	return out
}

func (s *Set) withRail(g *Guardrail) *Set {
	next := &Set{slices.Clone(s.rails), s.tests}
	i, found := slices.BinarySearchFunc(next.rails, g.Name, func(x *Guardrail, name string) int { return strings.Compare(x.Name, name) })
	if found {
		next.rails[i] = g
	} else {
		next.rails = slices.Insert(next.rails, i, g)
	}
	return next
}

// Again is the change that puts the guardrail as it is.
func (g *Guardrail) Again(m *access.Model) PutGuardrail {
	c := PutGuardrail{Name: g.Name, Kind: g.Kind, Mode: g.Mode, Comment: g.Comment, Most: g.Most}
	if g.Object != access.PlatformID {
		c.Object = m.Path(g.Object)
	}
	for _, id := range g.Except {
		c.Except = append(c.Except, m.Ref(id))
	}
	for _, id := range g.Roles {
		c.Roles = append(c.Roles, m.Ref(id))
	}
	return c
}

// Sentence is the guardrail in words.
func (g *Guardrail) Sentence(m *access.Model) string {
	where := ""
	if g.Object != access.PlatformID {
		where = " at or below " + m.Path(g.Object)
	}
	switch g.Kind {
	case Clear:
		who := "nobody"
		if len(g.Except) > 0 {
			who += " but " + list(refs(m, g.Except), "and")
		}
		what := m.Path(g.Object)
		if m.Object(g.Object).Kind == access.Label {
			what = "what has " + what
		}
		return who + " sees " + what + " in clear"
	case Treated:
		return "what has " + m.Path(g.Object) + " is treated for everyone"
	case Apart:
		return "nobody holds both " + list(refs(m, g.Roles), "and")
	case ToPublic:
		return "nothing" + where + " is granted to PUBLIC"
	case ToUsers:
		return "nothing" + where + " is granted straight to a user or service"
	case WithoutEnd:
		return "nothing" + where + " is granted without an end"
	case WholeSource:
		return "nothing but USAGE is granted on a whole source" + where
	case Administrators:
		return fmt.Sprintf("there are at most %d administrators", g.Most)
	case Owned:
		return "every table" + where + " has an owner"
	}
	return "changes" + where + " are published by a second person"
}

func refs(m *access.Model, ids []access.SubjectID) []string {
	var out []string
	for _, id := range ids {
		out = append(out, m.Ref(id))
	}
	return out
}

func list(words []string, last string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " " + last + " " + words[len(words)-1]
}

// A Snapshot is a set in plain values, for keeping it in a file.
type Snapshot struct {
	Guardrails []Guardrail
	Tests      []Test
}

// Snapshot takes the set apart.
func (s *Set) Snapshot() *Snapshot {
	out := &Snapshot{}
	for _, g := range s.rails {
		out.Guardrails = append(out.Guardrails, *g)
	}
	for _, t := range s.tests {
		out.Tests = append(out.Tests, *t)
	}
	return out
}

// Restore puts a set together again.
func Restore(s *Snapshot) *Set {
	out := &Set{}
	for i := range s.Guardrails {
		out.rails = append(out.rails, &s.Guardrails[i])
	}
	for i := range s.Tests {
		out.tests = append(out.tests, &s.Tests[i])
	}
	return out
}
