package access

import (
	"slices"
	"sort"
	"strings"
)

// An ObjectID names an object for as long as the platform exists. Zero is no
// object.
type ObjectID uint32

// PlatformID is the object at the root of the tree.
const PlatformID ObjectID = 1

// An ObjectKind is the level of an object in the tree.
type ObjectKind uint8

const (
	Platform ObjectKind = iota + 1
	Source
	Schema
	Table
	View
	Routine
	Column
	Lane  // beside the tree: where queries run
	Label // beside the tree: what data are about
)

var objectKindNames = [...]string{Platform: "platform", Source: "source", Schema: "schema",
	Table: "table", View: "view", Routine: "routine", Column: "column", Lane: "lane", Label: "label"}

func (k ObjectKind) String() string { return objectKindNames[k] }

// IsRelation reports whether rows can be read from objects of kind k.
func (k ObjectKind) IsRelation() bool { return k == Table || k == View }

// parseObjectKind is the inverse of String; it returns zero for another text.
func parseObjectKind(s string) ObjectKind {
	return ObjectKind(max(slices.Index(objectKindNames[:], s), 0))
}

// An Object is one node of the tree. Objects that a scan no longer finds are
// Missing: what is about them stays and takes no effect.
type Object struct {
	ID       ObjectID
	Kind     ObjectKind
	Name     string
	Parent   ObjectID
	Children []ObjectID // by name; columns in the order of the table
	Type     string     // of a column: its data type, an ISO SQL name; of a source: its kind of database
	Declared string     // of a column: the database's own type, where Type is another that holds its values
	Comment  string     // what the database says of a table or column
	NotNull  bool       // of a column
	Missing  bool
	Owner    SubjectID // zero: that of the object above
	Limits   Limits    // of a lane
	Topic    string    // of a label
	Level    Level     // of a label
	Key      bool      // of a column: it is part of the table's primary key
	Unique   bool      // of a column: it is part of another unique key, or of an exclusion
	Indexed  bool      // of a column: an index over all rows begins with it
	// Collation is that by which a column's texts are compared: "default" for the database's own,
	// else its name with its schema; ~ before it says that equal texts can have other bytes. It is
	// empty where the column has none, or where the scan did not say.
	Collation string
	View      *Definition // of a view that is there

	grants []GrantID // on it, on patterns that stand in it, and on a relation's columns
	edit   *edit     // under which it was made by [Model.ownObject]
}

// besideTree reports whether no door stands before the object.
func (o *Object) besideTree() bool { return o.Kind == Lane || o.Kind == Label }

// Object returns the object with the id, which must be one of this model's.
func (m *Model) Object(id ObjectID) *Object { return m.objects.at(int(id)) }

// HasObject reports whether the id is that of an object of this model.
func (m *Model) HasObject(id ObjectID) bool { return id > 0 && int(id) < m.objects.size() }

// Path returns the dotted path of the object; of the platform, "platform".
func (m *Model) Path(id ObjectID) string {
	switch o := m.Object(id); o.Kind {
	case Platform:
		return "platform"
	case Lane:
		return lanePrefix + o.Name
	case Label:
		return labelPrefix + o.Name
	}
	var parts []string
	for ; id != PlatformID; id = m.Object(id).Parent {
		parts = append(parts, Quote(m.Object(id).Name))
	}
	slices.Reverse(parts)
	return strings.Join(parts, ".")
}

// PathsOf lists the paths of objects, in their order.
func (m *Model) PathsOf(ids []ObjectID) []string {
	paths := make([]string, len(ids))
	for i, id := range ids {
		paths[i] = m.Path(id)
	}
	return paths
}

// Lookup finds the object that a path names. Its error is a [*NotFound] that
// says how far the path is good.
func (m *Model) Lookup(path string) (*Object, error) {
	if strings.EqualFold(strings.TrimSpace(path), "platform") {
		return m.Object(PlatformID), nil
	}
	if lane, ok := cutLane(path); ok {
		return m.FindLane(lane)
	}
	if label, ok := cutLabel(path); ok {
		return m.FindLabel(label)
	}
	if m.edit != nil && m.edit.paths != nil {
		if id, ok := m.edit.paths[path]; ok {
			return m.Object(id), nil
		}
	}
	parts, err := ParsePath(path)
	if err != nil {
		return nil, err
	}
	o := m.Object(PlatformID)
	for i, part := range parts {
		child := m.Child(o, part)
		if child == nil {
			known := []string{}
			for _, c := range o.Children {
				known = append(known, JoinPath(append(parts[:i:i], m.Object(c).Name)...))
			}
			return nil, &NotFound{Kind: childKind(o.Kind), Name: JoinPath(parts[:i+1]...), Known: known}
		}
		o = child
	}
	if m.edit != nil && m.edit.paths != nil {
		m.edit.paths[path] = o.ID
	}
	return o, nil
}

func childKind(k ObjectKind) string {
	switch k {
	case Platform:
		return "source"
	case Source:
		return "schema"
	case Schema:
		return "table"
	default:
		return "column"
	}
}

// Child returns the child of o with the name, or nil.
func (m *Model) Child(o *Object, name string) *Object {
	if o.Kind.IsRelation() {
		for _, c := range o.Children {
			if child := m.Object(c); child.Name == name {
				return child
			}
		}
		return nil
	}
	i, found := m.searchChild(o, name)
	if !found {
		return nil
	}
	return m.Object(o.Children[i])
}

func (m *Model) searchChild(o *Object, name string) (int, bool) {
	return sort.Find(len(o.Children), func(i int) int {
		return strings.Compare(name, m.Object(o.Children[i]).Name)
	})
}

// Tables is Relations without views.
func (m *Model) Tables(id ObjectID, f func(*Object) bool) bool {
	return m.Relations(id, func(o *Object) bool { return o.Kind == View || f(o) })
}

// Relations calls f for every table and view at or below id that is not
// missing, until f returns false.
func (m *Model) Relations(id ObjectID, f func(*Object) bool) bool {
	o := m.Object(id)
	switch {
	case o.Missing:
		return true
	case o.Kind == Column:
		return f(m.Object(o.Parent))
	case o.Kind.IsRelation():
		return f(o)
	}
	for _, c := range o.Children {
		if !m.Relations(c, f) {
			return false
		}
	}
	return true
}

// Above lists the object's ancestors, nearest first, ending with the platform.
func (m *Model) Above(id ObjectID) []ObjectID {
	var up []ObjectID
	for id != PlatformID {
		id = m.Object(id).Parent
		up = append(up, id)
	}
	return up
}

// Within reports whether id is inner or lies above it.
func (m *Model) Within(id, inner ObjectID) bool {
	for inner != id {
		if inner == PlatformID {
			return false
		}
		inner = m.Object(inner).Parent
	}
	return true
}

// doors lists the objects whose USAGE a reader of id needs, outermost first.
func (m *Model) doors(id ObjectID) (doors [2]ObjectID, n int) {
	for ; id != PlatformID; id = m.Object(id).Parent {
		switch m.Object(id).Kind {
		case Schema:
			doors[1] = id
			n++
		case Source:
			doors[0] = id
			n++
		}
	}
	return doors, n
}

// ParsePath splits a dotted path into its parts.
func ParsePath(path string) ([]string, error) {
	var parts []string
	rest := path
	for {
		part, tail, err := parsePart(rest)
		if err != nil {
			return nil, invalid(
				"bad_path",
				"%q is not a path: %s; write source.schema.table, with \"double quotes\" round a part that is no plain name",
				path,
				err,
			)
		}
		parts = append(parts, part)
		if tail == "" {
			return parts, nil
		}
		rest = tail[1:]
	}
}

// parsePart reads one part and returns what follows it: nothing, or a dot.
func parsePart(s string) (part, tail string, err error) {
	if strings.HasPrefix(s, `"`) {
		var b strings.Builder
		for i := 1; i < len(s); i++ {
			switch {
			case s[i] != '"':
				b.WriteByte(s[i])
			case i+1 < len(s) && s[i+1] == '"':
				b.WriteByte('"')
				i++
			case b.Len() == 0:
				return "", "", invalid("bad_path", "an empty name")
			case i+1 < len(s) && s[i+1] != '.':
				return "", "", invalid("bad_path", "a dot is missing after the quoted name")
			default:
				return b.String(), s[i+1:], nil
			}
		}
		return "", "", invalid("bad_path", "a quote is not closed")
	}
	part, _, _ = strings.Cut(s, ".")
	tail = s[len(part):]
	if !isPlain(strings.ToLower(part)) {
		if part == "" {
			return "", "", invalid("bad_path", "a name is empty")
		}
		return "", "", invalid("bad_path", "%q is no plain name", part)
	}
	return strings.ToLower(part), tail, nil
}

// isPlain reports whether s is a regular identifier in its folded form.
func isPlain(s string) bool {
	for i := 0; i < len(s); i++ {
		c := s[i]
		if !(c == '_' || c >= 'a' && c <= 'z' || i > 0 && c >= '0' && c <= '9') {
			return false
		}
	}
	return s != ""
}

// Quote writes one part of a path, in double quotes where it needs them.
func Quote(name string) string {
	if isPlain(name) {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// JoinPath writes a path from its parts.
func JoinPath(parts ...string) string {
	quoted := make([]string, len(parts))
	for i, p := range parts {
		quoted[i] = Quote(p)
	}
	return strings.Join(quoted, ".")
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
