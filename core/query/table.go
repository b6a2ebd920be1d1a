package query

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
)

// table binds a table's name: a WITH query, or an object of the catalog.
func (b *binder) table(v *pg.RangeVar) *Relation {
	b.costs(tableCost)
	if !v.Inh {
		b.unsupported(v.Location, "ONLY")
	}
	if v.Schemaname == "" {
		for i := len(b.withs) - 1; i >= 0; i-- {
			if cte := b.withs[i]; cte.Name == v.Relname {
				if cte.Query == nil { // one of WITH RECURSIVE that is not bound yet
					b.failAs(
						v.Location,
						Unsupported,
						"42P19",
						"the WITH query %s is read before it is written, or reads itself without UNION; that is not supported",
						access.Quote(v.Relname),
					)
				}
				cte.uses++
				r := &Relation{Alias: cte.Name, CTE: cte, Columns: slices.Concat(cte.Query.Columns, cte.More)}
				b.alias(r, v.Alias)
				return r
			}
		}
	}
	o := b.resolve(v)
	source := b.model.Object(b.model.Object(o.Parent).Parent)
	if b.source != 0 && b.source != source.ID {
		b.fail(
			v.Location,
			Unsupported,
			"one query reads one source; %s is of %s, the others are of %s",
			b.model.Path(o.ID),
			source.Name,
			b.model.Object(b.source).Name,
		)
	}
	b.source = source.ID
	if exact := speaksExactly(source); exact != b.exact {
		panic(otherLanguage{exact})
	}
	if o.Kind == access.View {
		return b.view(v, o)
	}
	r := b.relation(o)
	b.tables = append(b.tables, r)
	if !b.own {
		b.authoriseTable(r)
		r.governance = b.governance(o)
		for i, c := range r.Columns {
			if d := r.governance.Columns[c.ID]; d.Treatment.Kind != policy.Clear {
				r.Columns[i].NotNull, r.Columns[i].Declared = false, ""
				for _, step := range d.Steps {
					r.Columns[i].Type = treatedType(step.Treatment, r.Columns[i].Type)
				}
				if d.Treatment.Kind.Withheld() {
					r.Columns[i].Withheld = d.Treatment.Kind
				}
			}
		}
	}
	b.alias(r, v.Alias)
	return r
}

// relation makes the entry for a base table, with the columns that are there.
func (b *binder) relation(o *access.Object) *Relation {
	r := &Relation{Alias: o.Name, Table: o}
	exact := speaksExactly(b.model.Object(b.model.Object(o.Parent).Parent))
	for _, id := range o.Children {
		c := b.model.Object(id)
		if c.Missing {
			continue
		}
		t := b.types.column(c, exact)
		if t == nil {
			continue // a type that the language does not have cannot be read
		}
		column := Column{Name: c.Name, Type: t, NotNull: c.NotNull, ID: c.ID, Collation: c.Collation, Indexed: c.Indexed}
		if exact && sqltype.Modifier(c.Type, t.OID) >= 0 {
			column.Declared = c.Type
		}
		r.Columns = append(r.Columns, column)
	}
	r.Used = make([]bool, len(r.Columns))
	return r
}

// resolve finds the table of a name with two or three parts. In the rule of a
// policy, missing parts are those of the policy's own table.
func (b *binder) resolve(v *pg.RangeVar) *access.Object {
	parts := slices.DeleteFunc([]string{v.Catalogname, v.Schemaname, v.Relname}, func(s string) bool { return s == "" })
	name := access.JoinPath(parts...)
	var found []*access.Object
	for _, schema := range b.schemas(v) {
		if o := b.model.Child(schema, v.Relname); o != nil && (o.Kind == access.Table || o.View != nil && !b.own) && b.exists(o) {
			found = append(found, o)
		}
	}
	switch {
	case len(parts) == 1 && !b.own && len(found) > 0 && b.searched(found) != nil:
		return b.searched(found)
	case len(parts) == 1 && !b.own && len(found) > 0:
		b.fail(v.Location, Unknown, "write the table with its source and schema: %s", b.model.Path(found[0].ID))
	case len(found) > 1:
		b.fail(v.Location, Ambiguous, "%s is in more than one source: write %s or %s", name, b.model.Path(found[0].ID), b.model.Path(found[1].ID))
	case len(found) == 0:
		b.notThere(v, name)
	}
	return found[0]
}

// searched is the first of some tables of one name along the path of schemas in which names
// without one are looked up.
func (b *binder) searched(found []*access.Object) *access.Object {
	if b.names.Path == "" || b.within != nil {
		return nil
	}
	path, err := access.ParsePath(b.names.Path)
	if err != nil {
		return nil
	}
	for _, name := range path {
		for _, o := range found {
			if b.model.Object(o.Parent).Name == name {
				return o
			}
		}
	}
	return nil
}

// schemas lists the schemas that the name's first parts can mean.
func (b *binder) schemas(v *pg.RangeVar) []*access.Object {
	m := b.model
	var sources, schemas []*access.Object
	switch {
	case v.Catalogname != "":
		if o := m.Child(m.Object(access.PlatformID), v.Catalogname); o != nil {
			sources = append(sources, o)
		}
	case b.home != nil:
		sources = append(sources, m.Object(m.Object(b.home.Parent).Parent))
	case b.within != nil: // a view's text stays in its source
		sources = append(sources, m.Object(b.source))
	case b.names.Source != 0:
		sources = append(sources, m.Object(b.names.Source))
	default:
		for _, id := range m.Object(access.PlatformID).Children {
			sources = append(sources, m.Object(id))
		}
	}
	for _, source := range sources {
		switch {
		case v.Schemaname != "":
			if o := m.Child(source, v.Schemaname); o != nil {
				schemas = append(schemas, o)
			}
		case b.home != nil:
			schemas = append(schemas, m.Object(b.home.Parent))
		default:
			for _, id := range source.Children {
				schemas = append(schemas, m.Object(id))
			}
		}
	}
	return schemas
}

// exists reports whether the table is there for the reader: behind no shut
// door, and not gone.
func (b *binder) exists(o *access.Object) bool {
	if b.own {
		return !o.Missing && !b.model.Object(o.Parent).Missing
	}
	v := b.rights.Resolve(o.ID)
	return len(v.Shut) == 0 && (v.Allowed.Has(access.Select) || !o.Missing)
}

// notThere refuses a table in the one wording for what is not there and what is
// behind a shut door. The record gets the truth.
func (b *binder) notThere(v *pg.RangeVar, name string) {
	line, col := place(b.text, v.Location)
	e := &Error{Code: Unknown, Line: line, Col: col, Name: name, Hidden: true, SQLState: "42P01",
		Text: "table " + name + " does not exist or is not yours to use"}
	if b.own {
		e.Text = "there is no table " + name
		panic(e)
	}
	for _, schema := range b.schemas(v) {
		if o := b.model.Child(schema, v.Relname); o != nil && !o.Missing {
			e.Needs = b.rights.Missing(access.Select, o.ID)
		}
	}
	b.model.Relations(access.PlatformID, func(o *access.Object) bool {
		meant := strings.EqualFold(o.Name, v.Relname) || v.Schemaname != "" && resembles(o.Name, v.Relname)
		if meant && b.rights.Sees(o.ID) {
			e.Near = append(e.Near, b.model.Path(o.ID))
		}
		return len(e.Near) < mostNear
	})
	panic(e)
}

// mostNear bounds the names among which the one that was meant is looked for.
const mostNear = 200

// resembles reports whether two names can be one but for a typo or two: they have about the
// same letters, in any order.
func resembles(a, b string) bool {
	if d := len(a) - len(b); d < -3 || d > 3 {
		return false
	}
	var letters [256]int8
	for i := range len(a) {
		letters[a[i]|0x20]++
	}
	for i := range len(b) {
		letters[b[i]|0x20]--
	}
	off := 0
	for _, n := range letters {
		off += int(max(n, -n))
	}
	return off <= 4
}

// authoriseTable asks whether the session may read the table. Where it may not,
// the relation is opaque and binding goes on, to find all that is missing.
func (b *binder) authoriseTable(r *Relation) {
	if !b.rights.Resolve(r.Table.ID).Allowed.Has(access.Select) {
		b.need(access.Select, r.Table.ID)
		r.opaque, r.Columns = true, nil
		return
	}
	// Who lends a right passes it on, so it takes the right to (ISO/IEC 9075-2, 11.32:
	// privileges on a view are grantable where those beneath it are).
	if b.lends != 0 && !b.reader.Counts(b.lends) &&
		b.model.Entitling(b.lends, access.Set(access.Select), access.Target{Object: r.Table.ID}, b.reader.At) == nil {
		b.kept = append(b.kept, r.Table.ID)
	}
}

func (b *binder) need(p access.Privilege, id access.ObjectID) {
	if n := (access.Need{Privilege: p, Object: id}); !slices.Contains(b.needs, n) {
		b.needs = append(b.needs, n)
	}
}

// use marks a column as read, and asks whether the session may.
func (b *binder) use(e *ColumnRef) {
	r := e.Rel
	if r.Table == nil || r.Used[e.Col] {
		return
	}
	r.Used[e.Col] = true
	if b.own {
		return
	}
	v := b.rights.Resolve(r.Table.ID)
	switch id := r.Columns[e.Col].ID; {
	case v.Covers(access.Select, id):
	case v.Allowed.Has(access.Select):
		b.need(access.Select, id)
	default:
		b.need(access.Select, r.Table.ID)
	}
}
