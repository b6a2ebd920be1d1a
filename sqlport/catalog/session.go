package catalog

import (
	"fmt"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// A Session is whom the catalog is shown to: what they may not know is not in it.
type Session struct {
	*access.Rights
	Policies *policy.Set
	Source   access.ObjectID
	Database string
	User     string // as whom it looks
	PID      int64
	Path     []string // of schemas in which names without one are looked up
	Now      time.Time
	// Setting is the value of a parameter of the session.
	Setting func(name string) (string, bool)
	// Set sets one; its error is what the client is told.
	Set func(name, value string, local bool) (string, error)
	// Settings lists them all: name, value, description.
	Settings func() [][3]string
	// Reviews reports whether the session may be told who else holds what on an object.
	Reviews func(access.ObjectID) bool
	// ReviewsAll reports whether it may know of all subjects.
	ReviewsAll bool
	// As works out the rights of another subject, for who may know them.
	As func(access.SubjectID) (*access.Rights, error)
	// Activity lists the connections that the session may know of.
	Activity func() []Activity

	kept map[*relation][][]value
	keys []foreignKey // once they are looked for
}

// Activity is a connection to the SQL port.
type Activity struct {
	PID                                          int64
	User, Client, Address, Database, State, Text string
	Since, Changed                               time.Time
}

// Objects have their number here from that of the model, subjects from one further up.
const (
	firstObject  = 16384
	firstSubject = 1 << 29
	firstKey     = 1 << 28 // the index and the constraint of a primary key
	firstForeign = 3 << 27 // constraints of foreign keys
	somebody     = 10      // the owner of what the session does not know the owner of
)

func numberOf(id access.ObjectID) int64 { return firstObject + int64(id) }

// object is the one of a number, if the session sees it.
func (s *Session) object(n int64) *access.Object {
	id := access.ObjectID(n - firstObject)
	if n <= firstObject || n >= firstKey || !s.Model.HasObject(id) || !s.there(id) {
		return nil
	}
	return s.Model.Object(id)
}

// there reports whether an object of the database is there for the session.
func (s *Session) there(id access.ObjectID) bool {
	o := s.Model.Object(id)
	if o.Missing || !s.Model.Within(s.Source, id) {
		return false
	}
	if o.Kind == access.Column {
		parent := s.Model.Object(o.Parent)
		return s.there(parent.ID) && !s.Policies.Govern(s.Rights, parent.ID).Columns[id].Treatment.Kind.Withheld()
	}
	return s.Sees(id) && len(s.Resolve(id).Shut) == 0
}

// schemas lists those that the session sees.
func (s *Session) schemas() []*access.Object {
	var out []*access.Object
	for _, id := range s.Model.Object(s.Source).Children {
		if o := s.Model.Object(id); o.Kind == access.Schema && s.there(id) {
			out = append(out, o)
		}
	}
	return out
}

// relations lists the tables and views of a schema that the session sees.
func (s *Session) relationsOf(schema *access.Object) []*access.Object {
	var out []*access.Object
	for _, id := range schema.Children {
		if o := s.Model.Object(id); o.Kind.IsRelation() && s.there(id) && (o.Kind == access.Table || o.View != nil) {
			out = append(out, o)
		}
	}
	return out
}

// An attribute is a column with its number within its table.
type attribute struct {
	*access.Object
	number   int64
	t        *sqltype.Type // as clients know it: policies can give values of another
	declared string        // with its length or precision
	notNull  bool
}

// attributes lists the columns of a table that exist for the session. Their numbers are their places
// among these, so that one that does not exist leaves no gap.
func (s *Session) attributes(table *access.Object) []attribute {
	var out []attribute
	governed := s.Policies.Govern(s.Rights, table.ID)
	for _, id := range table.Children {
		o := s.Model.Object(id)
		d := governed.Columns[id]
		if o.Missing || d.Treatment.Kind.Withheld() {
			continue
		}
		a := attribute{Object: o, number: int64(len(out) + 1), notNull: o.NotNull}
		a.t, a.declared = typeOf(o)
		if d.Treatment.Kind != policy.Clear {
			a.t, a.declared, a.notNull = query.TypeAfter(d, a.t), "", false
		}
		out = append(out, a)
	}
	return out
}

// typeOf is a column's type as clients know it; one of the source's own making is a text.
func typeOf(column *access.Object) (*sqltype.Type, string) {
	t := sqltype.Parse(column.Type)
	if t == nil || t.OID == 0 {
		t = tText
		if strings.HasSuffix(column.Type, "[]") {
			t = tText.Array
		}
		return t, ""
	}
	return t, column.Type
}

// searched lists the schemas of the path that are there.
func (s *Session) searched() []string {
	var out []string
	for _, name := range s.Path {
		if _, ok := s.schemaNumber(name); ok {
			out = append(out, name)
		}
	}
	return out
}

func (s *Session) currentSchema() value {
	for _, name := range s.searched() {
		if name != "pg_catalog" && name != "information_schema" {
			return name
		}
	}
	return nil
}

func (s *Session) schemaNumber(name string) (int64, bool) {
	name = unquote(name)
	switch name {
	case "pg_catalog":
		return catalogSchema, true
	case "information_schema":
		return informationSchema, true
	}
	o := s.Model.Child(s.Model.Object(s.Source), name)
	if o == nil || o.Kind != access.Schema || !s.there(o.ID) {
		return 0, false
	}
	return numberOf(o.ID), true
}

// classNumber finds a relation by its name, with or without the schema.
func (s *Session) classNumber(text string) (int64, bool) {
	parts, err := access.ParsePath(lowered(text))
	if err != nil {
		return 0, false
	}
	if len(parts) == 3 && parts[0] == s.Database {
		parts = parts[1:]
	}
	switch len(parts) {
	case 1:
		if r := find("", parts[0]); r != nil {
			return int64(r.oid), true
		}
		for _, schema := range s.searched() {
			if n, ok := s.classNumber(access.JoinPath(schema, parts[0])); ok {
				return n, true
			}
		}
	case 2:
		if r := find(parts[0], parts[1]); r != nil {
			return int64(r.oid), true
		}
		schema := s.Model.Child(s.Model.Object(s.Source), parts[0])
		if schema == nil {
			return 0, false
		}
		if o := s.Model.Child(schema, parts[1]); o != nil && o.Kind.IsRelation() && s.there(o.ID) {
			return numberOf(o.ID), true
		}
	}
	return 0, false
}

// lowered folds the parts of a name that are not in quotes.
func lowered(text string) string {
	parts := strings.Split(text, `"`)
	for i := 0; i < len(parts); i += 2 {
		parts[i] = strings.ToLower(parts[i])
	}
	return strings.Join(parts, `"`)
}

// registeredNumber reads the name of a type, relation, role and so on as its number.
func (s *Session) registeredNumber(text string, t *sqltype.Type, at int32) value {
	if text == "-" {
		return int64(0)
	}
	if n := strings.Trim(text, "0123456789"); n == "" && text != "" {
		return num(text)
	}
	switch t.OID {
	case 2205:
		if n, ok := s.classNumber(text); ok {
			return n
		}
		fail("42P01", at, "relation %q does not exist", text)
	case 2206:
		if found := typeOfName(strings.TrimPrefix(lowered(text), "pg_catalog.")); found != nil {
			return int64(found.OID)
		}
		fail("42704", at, "type %q does not exist", text)
	case 4089:
		if n, ok := s.schemaNumber(text); ok {
			return n
		}
		fail("3F000", at, "schema %q does not exist", text)
	case 4096:
		if n := s.roleNumber(unquote(text)); n != nil {
			return n
		}
		fail("42704", at, "role %q does not exist", text)
	case 24, 2202:
		name, _, _ := strings.Cut(strings.TrimPrefix(text, "pg_catalog."), "(")
		if n, ok := laidOut().routines[name]; ok {
			return n
		}
		for _, r := range sqltype.Routines(name) {
			return int64(r.OID)
		}
		fail("42883", at, "function %q does not exist", text)
	}
	fail("42704", at, "%q does not exist", text)
	return nil
}

// registeredName is the name of a number of such a type.
func (s *Session) registeredName(n int64, t *sqltype.Type) string {
	if n == 0 {
		return "-"
	}
	switch t.OID {
	case 2205:
		if r := laidOut().byNumber[n]; r != nil {
			if r.schema == "pg_catalog" {
				return r.name
			}
			return r.schema + "." + r.name
		}
		if o := s.object(n); o != nil {
			name := quoteIdent(o.Name)
			if s.visible(n) != true {
				name = quoteIdent(s.Model.Object(o.Parent).Name) + "." + name
			}
			return name
		}
		if o := s.keyed(n); o != nil {
			return quoteIdent(o.Name + "_pkey")
		}
	case 2206:
		if t := typeOfNumber(uint32(n)); t != nil {
			return t.Name
		}
	case 4089:
		switch n {
		case catalogSchema:
			return "pg_catalog"
		case informationSchema:
			return "information_schema"
		}
		if o := s.object(n); o != nil {
			return quoteIdent(o.Name)
		}
	case 4096:
		return fmt.Sprint(s.roleName(n))
	case 24, 2202:
		if name, ok := laidOut().names[n]; ok {
			return name
		}
		if o := s.object(n); o != nil {
			name, _, _ := strings.Cut(o.Name, "(")
			return name
		}
	}
	return fmt.Sprint(n)
}

// visible reports whether the name of a relation or routine alone finds it; nil: it is not there.
func (s *Session) visible(n int64) value {
	if r := laidOut().byNumber[n]; r != nil {
		return r.schema == "pg_catalog"
	}
	o := s.object(n)
	if o == nil {
		if o = s.keyed(n); o == nil {
			return nil
		}
	}
	for _, schema := range s.searched() {
		at := s.Model.Child(s.Model.Object(s.Source), schema)
		if at == nil {
			continue
		}
		if found := s.Model.Child(at, o.Name); found != nil && s.there(found.ID) {
			return found.ID == o.ID
		}
	}
	return false
}

// keyed is the table whose primary key has a number.
func (s *Session) keyed(n int64) *access.Object {
	if n < firstKey || n >= firstForeign {
		return nil
	}
	o := s.object(n - firstKey + firstObject)
	if o == nil || o.Kind != access.Table || len(s.primaryKey(o)) == 0 {
		return nil
	}
	return o
}

func keyNumber(id access.ObjectID) int64 { return firstKey + int64(id) }

// primaryKey lists the columns of a table's primary key; nil: there is none, or not all are there.
func (s *Session) primaryKey(table *access.Object) []attribute {
	whole := 0
	for _, id := range table.Children {
		if o := s.Model.Object(id); o.Key && !o.Missing {
			whole++
		}
	}
	if whole == 0 {
		return nil
	}
	var out []attribute
	for _, a := range s.attributes(table) {
		if a.Key {
			out = append(out, a)
		}
	}
	if len(out) != whole {
		return nil
	}
	return out
}

// comment is what the database says of an object, or of a column of it.
func (s *Session) comment(n, column int64) value {
	o := s.object(n)
	if o == nil {
		return nil
	}
	if column != 0 {
		for _, a := range s.attributes(o) {
			if a.number == column && a.Comment != "" {
				return a.Comment
			}
		}
		return nil
	}
	if o.Comment == "" {
		return nil
	}
	return o.Comment
}

// viewText is the text of a view, for who may know it.
func (s *Session) viewText(n int64) value {
	o := s.object(n)
	if o == nil || o.View == nil {
		return nil
	}
	v := s.Resolve(o.ID)
	if !v.Allowed.Has(access.Describe) && (o.View.Sealed || !v.Allowed.Has(access.Select)) {
		return nil
	}
	return " " + o.View.Text + ";"
}

// The names of subjects as roles: users by their own, others with their kind where that is needed.
func (s *Session) nameOf(subject *access.Subject) string {
	switch subject.Kind {
	case access.Public:
		return "public"
	case access.User, access.Role:
		return subject.Name
	}
	return subject.Ref()
}

// knows reports whether the session may know of a subject.
func (s *Session) knows(id access.SubjectID) bool {
	return s.ReviewsAll || id == s.Standpoint.Subject || s.Holds(id)
}

// roles lists the subjects that the session may know of.
func (s *Session) roles() []*access.Subject {
	var out []*access.Subject
	for _, kind := range []access.SubjectKind{access.User, access.Service, access.Group, access.Role} {
		for _, subject := range s.Model.Subjects(kind) {
			if !subject.Removed && s.knows(subject.ID) {
				out = append(out, subject)
			}
		}
	}
	return out
}

func (s *Session) roleName(n int64) value {
	if n == somebody {
		return "gneiss"
	}
	id := access.SubjectID(n - firstSubject)
	if n > firstSubject && s.Model.HasSubject(id) && s.knows(id) {
		return s.nameOf(s.Model.Subject(id))
	}
	return fmt.Sprintf("unknown (OID=%d)", n)
}

func (s *Session) roleNumber(name string) value {
	switch name {
	case "", "public":
		return int64(0)
	case "gneiss":
		return int64(somebody)
	}
	for _, subject := range s.roles() {
		if s.nameOf(subject) == name || subject.Ref() == name {
			return firstSubject + int64(subject.ID)
		}
	}
	return nil
}

// ownerOf is the number of the owner of an object, for who may know it.
func (s *Session) ownerOf(id access.ObjectID) int64 {
	if owner := s.Model.Owner(id); owner != 0 && s.Reviews(id) && s.knows(owner) {
		return firstSubject + int64(owner)
	}
	return somebody
}
