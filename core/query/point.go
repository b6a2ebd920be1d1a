package query

import (
	"slices"

	"gneiss/core/sqltype"
)

// point reports whether a query is a point read: it returns at most one row, because it names the whole key of its one
// table or has no table, and the database can use one plan for all values of its constants. Such a generic plan
// evaluates expressions of constants only when it has found a row, and that could be a hidden one. So a point read
// contains no expressions, only columns, constants, and conditions that a column equals a constant.
func (b *binder) point(q *Query) bool {
	s, ok := q.Body.(*Select)
	if !ok || len(q.With) > 0 || q.Ties || s.Distinct || len(s.On) > 0 || len(s.GroupBy) > 0 || s.Having != nil || len(s.From) > 1 {
		return false
	}
	var r *Relation
	if len(s.From) == 1 {
		if r, ok = s.From[0].(*Relation); !ok || r.Table == nil {
			return false
		}
	}
	for _, x := range append(sortKeys(q), s.Items...) {
		if ref, ok := x.(*ColumnRef); (!ok || ref.Rel != r) && !isConstant(x) {
			return false
		}
	}
	if q.Limit != nil && !isConstant(q.Limit) || q.Offset != nil && !isConstant(q.Offset) {
		return false
	}
	if r == nil {
		return s.Where == nil
	}
	named, ok := equalities(s.Where, r)
	if !ok {
		return false
	}
	keys := 0
	for i, c := range r.Columns {
		if !b.model.Object(c.ID).Key {
			continue
		}
		if keys++; !slices.Contains(named, i) {
			return false
		}
	}
	return keys > 0
}

// sortKeys lists the expressions in ORDER BY, without those that refer to result columns.
func sortKeys(q *Query) (list []Expr) {
	for _, o := range q.OrderBy {
		if o.Expr != nil {
			list = append(list, o.Expr)
		}
	}
	return list
}

func isConstant(x Expr) bool {
	_, ok := x.(*Literal)
	return ok
}

// equalities lists the columns of a table that a condition says to equal constants; ok is false
// where it says anything else.
func equalities(x Expr, r *Relation) (columns []int, ok bool) {
	switch x := x.(type) {
	case *Binary:
		if x.Op != "AND" {
			return nil, false
		}
		left, ok := equalities(x.L, r)
		right, both := equalities(x.R, r)
		return append(left, right...), ok && both
	case *Operation:
		ref, isColumn := x.L.(*ColumnRef)
		if x.Op.Name != "=" || !isColumn || !isConstant(x.R) || ref.Rel != r || !sqltype.Ordered(ref.Type()) {
			return nil, false
		}
		return []int{ref.Col}, true
	}
	return nil, false
}
