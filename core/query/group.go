package query

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/reflect/protoreflect"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// groupItem binds an item of GROUP BY: a column of FROM, else an output column
// by name or number, else an expression.
func (b *binder) groupItem(n *pg.Node, sel *Select, s *scope) Expr {
	if i, ok := b.position(n, len(sel.Items), "GROUP BY"); ok {
		return b.groupable(sel.Items[i-1], n)
	}
	if name := plainName(n); name != "" && b.plainColumn(&scope{relations: s.relations, columns: s.columns}, name, locate(n)) == nil {
		if e := b.aliased(s, name, n); e != nil {
			return b.groupable(e, n)
		}
	}
	if e := b.asWritten(n, s); e != nil {
		return b.groupable(e, n)
	}
	return b.groupable(b.expr(n, s), n)
}

// asWritten finds the item of the select list that is written as the expression is, where a
// sub-query in it keeps two of the kind from being seen as one.
func (b *binder) asWritten(n *pg.Node, s *scope) Expr {
	for _, m := range s.made {
		if b.exact && AnyExpr(m.expr, IsSubquery) && sameSyntax(n.ProtoReflect(), m.node.ProtoReflect()) {
			return m.expr
		}
	}
	return nil
}

// sameSyntax reports whether two parts of a syntax tree are written the same, wherever they
// stand.
func sameSyntax(a, b protoreflect.Message) bool {
	if a.Descriptor() != b.Descriptor() {
		return false
	}
	fields := a.Descriptor().Fields()
	for i := range fields.Len() {
		f := fields.Get(i)
		if strings.HasSuffix(string(f.Name()), "location") {
			continue
		}
		switch {
		case f.IsList():
			l, r := a.Get(f).List(), b.Get(f).List()
			if l.Len() != r.Len() {
				return false
			}
			for j := range l.Len() {
				if f.Message() == nil && !l.Get(j).Equal(r.Get(j)) || f.Message() != nil && !sameSyntax(l.Get(j).Message(), r.Get(j).Message()) {
					return false
				}
			}
		case f.Message() != nil:
			if a.Has(f) != b.Has(f) || a.Has(f) && !sameSyntax(a.Get(f).Message(), b.Get(f).Message()) {
				return false
			}
		case a.Has(f) != b.Has(f) || !a.Get(f).Equal(b.Get(f)):
			return false
		}
	}
	return true
}

func (b *binder) groupable(e Expr, n *pg.Node) Expr {
	b.plain(e, locate(n), "GROUP BY")
	return e
}

// aliased finds the output column of the name, or returns nil.
func (b *binder) aliased(s *scope, name string, n *pg.Node) Expr {
	var found Expr
	for _, a := range s.aliases {
		if a.name == name {
			if found != nil && !Same(found, a.expr) {
				b.fail(locate(n), Ambiguous, "two output columns are called %s", access.Quote(name))
			}
			found = a.expr
		}
	}
	return found
}

// plainName returns the name when the node is a column's name without more.
func plainName(n *pg.Node) string {
	if ref := n.GetColumnRef(); ref != nil && len(ref.Fields) == 1 {
		return ref.Fields[0].GetString_().GetSval()
	}
	return ""
}

// position reads a number that stands for an output column.
func (b *binder) position(n *pg.Node, most int, what string) (int, bool) {
	c := n.GetAConst()
	if c == nil {
		return 0, false
	}
	if _, isInt := c.Val.(*pg.A_Const_Ival); !isInt {
		b.failAs(c.Location, Mismatch, "42601", "%s takes a name, an expression or the number of an output column", what)
	}
	i := int(c.GetIval().GetIval())
	if i < 1 || i > most {
		b.failAs(c.Location, Mismatch, "42P10", "%s %d: there is no output column %d", what, i, i)
	}
	return i, true
}

// checkGrouping refuses columns that are neither grouped nor aggregated, as ISO
// SQL does; SQLite would take any row's value.
func (b *binder) checkGrouping(q *Query, sel *Select, s *scope, more []Expr) {
	grouped := len(sel.GroupBy) > 0 || sel.Having != nil || sel.Sets != nil
	all := append(append(slices.Clone(sel.Items), sel.Having), more...)
	for _, o := range q.OrderBy {
		if o.Expr != nil {
			all = append(all, o.Expr)
			b.ungrouped(o.Expr, "ORDER BY")
		}
	}
	for _, e := range all {
		grouped = grouped || AnyExpr(e, IsAggregate)
	}
	if !grouped || len(b.needs) > 0 {
		return
	}
	for _, e := range all {
		b.groupedOnly(e, sel, s)
	}
}

func (b *binder) groupedOnly(e Expr, sel *Select, s *scope) {
	if e == nil || IsAggregate(e) || slices.ContainsFunc(sel.GroupBy, func(g Expr) bool { return Same(g, e) }) {
		return
	}
	if isGrouping(e) && b.exact {
		return // whose operands are what is grouped by, or the database refuses them
	}
	if c, ok := e.(*ColumnRef); ok && owns(sel.From, c.Rel) {
		if b.exact && sel.Sets == nil && b.keyed(sel, c.Rel) {
			sel.GroupBy = append(sel.GroupBy, c) // it follows from the key
			return
		}
		b.fail(-1, Grouping, "column %s must be in GROUP BY or inside an aggregate function", access.Quote(c.Rel.Columns[c.Col].Name))
	}
	if q := Subquery(e); q != nil {
		b.groupedSubquery(q, sel, s)
	}
	for _, c := range children(e) {
		b.groupedOnly(c, sel, s)
	}
}

// keyed reports whether a query is grouped by the whole primary key of a table, so that all
// its columns follow from that.
func (b *binder) keyed(sel *Select, r *Relation) bool {
	if r.Table == nil || r.Table.Kind != access.Table {
		return false
	}
	key := false
	for i, c := range r.Columns {
		if !b.model.Object(c.ID).Key {
			continue
		}
		key = true
		if r.governance.Columns[c.ID].Treatment.Kind != policy.Clear || !among(sel.GroupBy, &ColumnRef{r, i}) {
			return false
		}
	}
	return key
}

// groupedSubquery looks for columns of a grouped query inside a sub-query of
// its select list.
func (b *binder) groupedSubquery(q *Query, sel *Select, s *scope) {
	EachExpr(q, func(e Expr) {
		if c, ok := e.(*ColumnRef); ok && owns(sel.From, c.Rel) &&
			!slices.ContainsFunc(sel.GroupBy, func(g Expr) bool { return Same(g, e) }) {
			b.fail(-1, Grouping, "column %s, used in a sub-query, must be in GROUP BY", access.Quote(c.Rel.Columns[c.Col].Name))
		}
	})
}

// owns reports whether the relation is one of the FROM items.
func owns(items []From, r *Relation) bool {
	return slices.ContainsFunc(items, func(f From) bool {
		if j, ok := f.(*Join); ok {
			return owns([]From{j.L, j.R}, r)
		}
		return f == From(r)
	})
}
