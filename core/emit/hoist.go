package emit

import (
	"slices"

	"gneiss/core/query"
)

// hoisted takes values that one row of another query gives, and that do not depend on the row,
// out of a SELECT's condition into its FROM, where they have a row of their own:
//
//	WHERE price = (SELECT max(price) FROM t)  →  FROM (SELECT (SELECT max(price) FROM t)) AS once … WHERE price = once.value
//
// What is left of the condition can be plain, so that it needs no fence. Only values that
// cannot fail are taken out: the database may work them out where it would not have before.
func (e *emitter) hoisted(s *query.Select) *query.Select {
	barred := false
	query.EachItem(s.From, func(item query.From) {
		if r, ok := item.(*query.Relation); ok {
			barred = barred || e.barrier(r)
		}
	})
	if !barred || !e.overflows || s.Where == nil {
		return s
	}
	next := *s
	next.Where, next.From = nil, slices.Clone(s.From)
	for _, c := range query.Conjuncts(s.Where) {
		made := next.From
		taken := query.Replace(c, func(x query.Expr) query.Expr {
			scalar, ok := x.(*query.Scalar)
			if !ok || correlated(scalar.Query) || !oneRow(scalar.Query) || e.fails(scalar) {
				return nil
			}
			value := query.Column{Name: "value", Type: scalar.Type()}
			once := &query.Relation{Alias: "once", Columns: []query.Column{value},
				Query: &query.Query{Body: &query.Select{Items: []query.Expr{scalar}}, Columns: []query.Column{value}}}
			made = append([]query.From{once}, made...)
			return &query.ColumnRef{Rel: once, Col: 0}
		})
		if len(made) > len(next.From) && e.plainOnce(taken) {
			c, next.From = taken, made
		}
		next.Where = query.Conjoin("AND", next.Where, c)
	}
	return &next
}

// plainOnce is plain where a column of a row of its own counts as a constant.
func (e *emitter) plainOnce(x query.Expr) bool {
	for _, r := range columnsIn(x) {
		if r.Rel.Alias == "once" && r.Rel.Table == nil {
			e.plainDef[columnKey{r.Rel, r.Col}] = true
		}
	}
	return e.plain(x)
}

// columnsIn lists the columns that an expression names.
func columnsIn(x query.Expr) []*query.ColumnRef {
	var out []*query.ColumnRef
	query.AnyExpr(x, func(x query.Expr) bool {
		if c, ok := x.(*query.ColumnRef); ok {
			out = append(out, c)
		}
		return false
	})
	return out
}
