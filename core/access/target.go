package access

import "strings"

// A Target is what a grant is on: an object with all below it, or a pattern
// over the children of one. The pattern res* on the schema survey.assay is
// written survey.assay.res* and covers every table so named, present and
// future; * on a source every schema.
type Target struct {
	Object  ObjectID
	Pattern string // empty: the object itself; else over its children's names
}

// kind is the level that the target stands on.
func (m *Model) kind(t Target) ObjectKind {
	k := m.Object(t.Object).Kind
	switch {
	case t.Pattern == "":
		return k
	case k == Platform:
		return Source
	case k == Source:
		return Schema
	default:
		return Table
	}
}

// Target writes the target of a grant as a path.
func (m *Model) Target(t Target) string {
	if t.Pattern == "" {
		return m.Path(t.Object)
	}
	return m.Path(t.Object) + "." + t.Pattern
}

// CutPattern takes a pattern at the end of a path off it: survey.assay.res* is the
// pattern res* within survey.assay. Without a pattern the path is as it was.
func CutPattern(path string) (within, pattern string) {
	dot := strings.LastIndexByte(path, '.')
	last := path[dot+1:]
	if !strings.Contains(last, "*") || strings.Contains(last, `"`) {
		return path, ""
	}
	return path[:max(dot, 0)], strings.ToLower(last)
}

// LookupTarget reads a path whose last part may be a pattern.
func (m *Model) LookupTarget(path string) (Target, error) {
	within, pattern := CutPattern(path)
	if pattern == "" {
		o, err := m.Lookup(path)
		if err != nil {
			return Target{}, err
		}
		return Target{Object: o.ID}, nil
	}
	if within == "" {
		return Target{}, invalid("bad_pattern", "a pattern stands within a source or a schema: survey.*, survey.assay.res*")
	}
	if !isPlain("x" + strings.ReplaceAll(pattern, "*", "")) {
		return Target{}, invalid("bad_pattern", "%q is no pattern: use a-z, 0-9, _ and *", pattern)
	}
	o, err := m.Lookup(within)
	if err != nil {
		return Target{}, err
	}
	if o.Kind != Source && o.Kind != Schema {
		return Target{}, invalid("bad_pattern", "a pattern stands within a source or a schema; %s is a %s", m.Path(o.ID), o.Kind)
	}
	return Target{o.ID, pattern}, nil
}

// Covers reports whether the target takes in the object: it is the object, lies
// above it, or its pattern matches the object or one above it.
func (m *Model) Covers(t Target, id ObjectID) bool {
	if t.Pattern == "" {
		return m.Within(t.Object, id)
	}
	named := m.named(t, id)
	return named != 0
}

// Restricts is Covers for the target of a policy, whose pattern fits names in any case.
func (m *Model) Restricts(t Target, id ObjectID) bool {
	if t.Pattern == "" {
		return m.Within(t.Object, id)
	}
	return m.namedAs(t, id, Restricts) != 0
}

// named returns the child that the target's pattern matches on the way up from
// the object, or zero.
func (m *Model) named(t Target, id ObjectID) ObjectID { return m.namedAs(t, id, Matches) }

func (m *Model) namedAs(t Target, id ObjectID, fits func(pattern, name string) bool) ObjectID {
	for ; id != PlatformID; id = m.Object(id).Parent {
		if o := m.Object(id); o.Parent == t.Object {
			if fits(t.Pattern, o.Name) {
				return id
			}
			return 0
		}
	}
	return 0
}

// Matched lists the objects that a target stands for now: itself, or the
// children that its pattern matches.
func (m *Model) Matched(t Target) []ObjectID {
	if t.Pattern == "" {
		return []ObjectID{t.Object}
	}
	var ids []ObjectID
	for _, id := range m.Object(t.Object).Children {
		if Matches(t.Pattern, m.Object(id).Name) {
			ids = append(ids, id)
		}
	}
	return ids
}

// Restricts reports whether a name fits the pattern of a policy: in upper or lower case, since a
// policy on *_number must not leave "Card_Number" in clear. What gives takes names as they are.
func Restricts(pattern, name string) bool { return Matches(pattern, strings.ToLower(name)) }

// Matches reports whether a name fits a pattern, in which * stands for any
// characters, none included.
func Matches(pattern, name string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == name
	}
	first, last := parts[0], parts[len(parts)-1]
	if len(name) < len(first)+len(last) || !strings.HasPrefix(name, first) || !strings.HasSuffix(name, last) {
		return false
	}
	name = name[len(first) : len(name)-len(last)]
	for _, part := range parts[1 : len(parts)-1] {
		i := strings.Index(name, part)
		if i < 0 {
			return false
		}
		name = name[i+len(part):]
	}
	return true
}
