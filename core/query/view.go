package query

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
)

// A view is bound where it is named, as if its text stood there: for each reader
// afresh, so that policies are the reader's. Its tables are read with the rights of
// its owner, or of its reader, as the view says; to read the view itself takes
// SELECT on it.

// view binds a reference to a view.
func (b *binder) view(v *pg.RangeVar, o *access.Object) *Relation {
	r := b.relation(o)
	b.authoriseTable(r)
	if !r.opaque {
		r.Lends = o.View.Rights == access.OwnerRights
		r.Query = b.definition(o, r.Columns)
		for i, c := range r.Query.Columns[:min(len(r.Columns), len(r.Query.Columns))] {
			r.Columns[i].NotNull = c.NotNull
			if b.exact {
				r.Columns[i].Type, r.Columns[i].Declared = c.Type, c.Declared
			}
		}
	}
	b.views = append(b.views, r)
	b.alias(r, v.Alias)
	return r
}

// definition binds a view's text.
func (b *binder) definition(o *access.Object, columns []Column) *Query {
	defer b.deeper(-1)()
	path := b.model.Path(o.ID)
	closed := func(why string, args ...any) *Error {
		return &Error{Code: ViewClosed, Text: fmt.Sprintf("%s is closed: %s. Its owner has to replace it", path, fmt.Sprintf(why, args...))}
	}
	if slices.Contains(b.within, o.ID) {
		panic(closed("the view reads itself"))
	}
	inner := &binder{ctx: b.ctx, text: o.View.Text,
		reader: b.reader, rights: b.rights, model: b.model, policies: b.policies, source: b.source, exact: b.exact, types: b.types,
		depth: b.depth, groups: b.groups, cost: b.cost, within: append(slices.Clone(b.within), o.ID), lends: b.lends}
	lends := o.View.Rights == access.OwnerRights
	if lends {
		owner, err := b.reader.OwnersRights(o)
		if err != nil {
			panic(closed("%v", err))
		}
		inner.rights, inner.lends = owner, o.Owner
	}
	q, err := inner.bindView()
	var e *Error
	switch {
	case errors.As(err, &e) && (e.Code == Broken || e.Code == ViewClosed):
		panic(e)
	case lends && len(inner.needs) > 0:
		panic(closed("its owner %s lacks what it reads: %v", b.model.Ref(o.Owner), refusal(b.model, inner.needs)))
	case lends && len(inner.kept) > 0:
		panic(
			closed(
				"its owner %s may read %s and not pass it on; it lacks SELECT with grant option, or MANAGE, there",
				b.model.Ref(o.Owner),
				b.model.Path(inner.kept[0]),
			),
		)
	case len(inner.needs) > 0 && b.hides(o):
		panic(
			&Error{
				Code:   Refused,
				Hidden: true,
				Needs:  inner.needs,
				Text:   "you lack what the sealed view " + path + " reads; its owner or an administrator can tell what that is",
			},
		)
	case len(inner.needs) > 0:
		b.needs = append(b.needs, inner.needs...)
		return &Query{Columns: columns} // what is missing is refused before it is written
	case e != nil && e.Hidden && !lends:
		panic(&Error{Code: Refused, Hidden: true, Needs: e.Needs, Text: "you lack what the view " + path + " reads"})
	case err != nil:
		panic(closed("%v", err))
	case !gives(q, columns):
		panic(closed("its text no longer gives the columns that it was made with"))
	}
	b.tables, b.views, b.behind = append(b.tables, inner.tables...), append(b.views, inner.views...), append(b.behind, inner.behind...)
	b.routines = append(b.routines, inner.routines...)
	b.kept = append(b.kept, inner.kept...)
	b.groups, b.cost = inner.groups, inner.cost
	if lends && !b.exact {
		decidesOfType(q)
	}
	return q
}

// hides reports whether a view's text is not for the session to see.
func (b *binder) hides(o *access.Object) bool {
	return o.View.Sealed && !b.rights.Resolve(o.ID).Allowed.Has(access.Describe)
}

// bindView binds the text of a view.
func (b *binder) bindView() (q *Query, err error) {
	defer caught(&err)
	if b.tried {
		tree, err := parse(b.text)
		if err != nil {
			return nil, err
		}
		return b.query(tree, nil), nil
	}
	tree, err := b.policies.Once(b.text, func() (any, error) { return parse(b.text) })
	if err != nil {
		return nil, err
	}
	return b.query(tree.(*pg.SelectStmt), nil), nil
}

// gives reports whether a query gives columns of the types, in their order.
func gives(q *Query, columns []Column) bool {
	return slices.EqualFunc(q.Columns, columns, func(a, b Column) bool {
		return a.Type == b.Type || a.Type == Untyped && b.Type == Text || sqltype.Simple(a.Type.String()) == sqltype.Simple(b.Type.String())
	})
}

// CheckView reports whether a text can be that of the view at a path, with the
// given rights, made by whom st is of: its tables are the schema's source's, and all
// of it binds. It returns the columns that the view gives, under their own names or
// those given, and the tables and views that it names. A * is refused, since a view keeps the columns that it is made with.
func CheckView(
	st, rights *access.Rights,
	policies *policy.Set,
	path, text string,
	names []string,
) (columns []access.ViewColumn, reads []string, err error) {
	parts, err := access.ParsePath(path)
	if err != nil || len(parts) != 3 {
		return nil, nil, &Error{Code: Mismatch, Text: "a view stands in a schema: write SOURCE.SCHEMA.NAME, not " + path}
	}
	schema, err := st.Model.Lookup(access.JoinPath(parts[:2]...))
	if err != nil {
		return nil, nil, err
	}
	b := &binder{
		text:     text,
		reader:   st,
		rights:   rights,
		model:    st.Model,
		policies: policies,
		source:   schema.Parent,
		exact:    speaksExactly(st.Model.Object(schema.Parent)),
		types:    owned{},
		tried:    true,
		within:   []access.ObjectID{schema.ID},
	}
	if old := st.Model.Child(schema, parts[2]); old != nil {
		b.within[0] = old.ID // it must not read itself
	}
	stmt, err := parse(text)
	if err != nil {
		return nil, nil, err
	}
	q, err := b.bindView()
	if len(b.needs) > 0 {
		return nil, nil, refusal(st.Model, b.needs)
	}
	if err != nil {
		return nil, nil, err
	}
	if len(names) > len(q.Columns) {
		return nil, nil, &Error{Code: Mismatch, Text: fmt.Sprintf("the view has %d columns, but %d names are given", len(q.Columns), len(names))}
	}
	taken := map[string]bool{}
	for i, c := range q.Columns {
		name := c.Name
		if i < len(names) {
			name = names[i]
		}
		if name == "?column?" || name == "" || taken[name] {
			return nil, nil, &Error{Code: Mismatch, Text: fmt.Sprintf("column %d of the view needs a name of its own: write AS behind it", i+1)}
		}
		taken[name] = true
		columns = append(columns, access.ViewColumn{Name: name, Type: typeName(c)})
	}
	for _, n := range stmt.TargetList {
		if ref := n.GetResTarget().GetVal().GetColumnRef(); ref != nil && ref.Fields[len(ref.Fields)-1].GetAStar() != nil {
			var all []string
			for _, c := range columns {
				all = append(all, access.Quote(c.Name))
			}
			return nil, nil, &Error{
				Code: Unsupported,
				Text: "a view keeps the columns that it is made with, so write them in the place of *: " + strings.Join(all, ", "),
			}
		}
	}
	for _, r := range append(b.tables, b.views...) {
		if path := st.Model.Path(r.Table.ID); !slices.Contains(reads, path) {
			reads = append(reads, path)
		}
	}
	slices.Sort(reads)
	return columns, reads, nil
}
