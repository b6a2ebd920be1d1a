package query

import pg "github.com/pganalyze/pg_query_go/v6"

// distinctOn binds the expressions of DISTINCT ON.
func (b *binder) distinctOn(s *pg.SelectStmt, sel *Select, names *scope) []Expr {
	out := []Expr{}
	for _, n := range s.DistinctClause {
		if i, ok := b.position(n, len(sel.Items), "DISTINCT ON"); ok {
			out = append(out, sel.Items[i-1])
			continue
		}
		e := b.aliasedOr(n, names)
		if AnyExpr(e, IsWindow) {
			b.failAs(locate(n), Grouping, "42P20", "a window function cannot stand in DISTINCT ON")
		}
		out = append(out, e)
	}
	return out
}

// aliasedOr binds an expression, or an output column by its name.
func (b *binder) aliasedOr(n *pg.Node, names *scope) Expr {
	if name := plainName(n); name != "" {
		if e := b.aliased(names, name, n); e != nil {
			return e
		}
	}
	return b.expr(n, names)
}

// firstOfEach makes a SELECT DISTINCT ON of a SELECT: rows are numbered within
// those that agree on the expressions, in the query's order, and the first of
// each are kept. The order must begin with the expressions, as PostgreSQL has it.
func (b *binder) firstOfEach(q *Query, sel *Select, on []Expr) {
	inner := &Query{Body: sel, Columns: append([]Column(nil), q.Columns...)}
	over := &Window{Partition: on}
	var sorts []Order
	for i, o := range q.OrderBy {
		key := o.Expr
		if o.Output > 0 {
			key = sel.Items[o.Output-1]
		}
		if i < len(on) && !among(on, key) {
			b.failAs(-1, Grouping, "42P10", "SELECT DISTINCT ON: the first of ORDER BY must be the same expressions")
		}
		over.Order = append(over.Order, Order{Expr: key, Desc: o.Desc, NullsFirst: o.NullsFirst, NotNull: o.NotNull})
		if o.Output == 0 {
			sel.Items = append(sel.Items, key)
			inner.Columns = append(inner.Columns, Column{Name: "?column?", Type: key.Type()})
			o.Output = len(sel.Items)
		}
		sorts = append(sorts, o)
	}
	sel.Items = append(sel.Items, &Call{Fn: Functions["row_number"], Over: over, T: Bigint})
	inner.Columns = append(inner.Columns, Column{Name: "?column?", Type: Bigint, NotNull: true})
	r := &Relation{Alias: "numbered", Query: inner, Columns: inner.Columns}
	outer := &Select{From: []From{r}, Where: &Binary{"=", &ColumnRef{r, len(inner.Columns) - 1}, &Literal{Bigint, int64(1)}, Boolean}}
	for i := range q.Columns {
		outer.Items = append(outer.Items, &ColumnRef{r, i})
	}
	q.Body, q.OrderBy = outer, nil
	for _, o := range sorts {
		if o.Output > len(q.Columns) {
			o.Expr, o.Output = &ColumnRef{r, o.Output - 1}, 0
		}
		q.OrderBy = append(q.OrderBy, o)
	}
}

func among(list []Expr, e Expr) bool {
	for _, x := range list {
		if Same(x, e) {
			return true
		}
	}
	return false
}
