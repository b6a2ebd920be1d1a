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
			e.plainDef[columnKey{once, 0}] = true // it is there as a constant is
			made = append([]query.From{once}, made...)
			return &query.ColumnRef{Rel: once, Col: 0}
		})
		if len(made) > len(next.From) && e.plain(taken) {
			c, next.From = taken, made
		}
		next.Where = query.And(next.Where, c)
	}
	return &next
}
