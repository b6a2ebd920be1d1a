package query

import (
	"slices"

	"gneiss/core/sqltype"
)

// point reports whether a query gives one row of one table at the most, since it names its whole
// key: the database's plan for it is the same for all values. Such a plan does not work expressions
// of constants out beforehand, but on the rows that it finds, hidden ones too. So there must be
// none: the query has columns, and conditions that a column equals a constant, and nothing else.
func (b *binder) point(q *Query) bool {
	s, ok := q.Body.(*Select)
	if !ok || len(q.With) > 0 || len(q.OrderBy) > 0 || q.Limit != nil || q.Offset != nil || len(s.From) != 1 || s.Where == nil ||
		s.Distinct || len(s.On) > 0 || len(s.GroupBy) > 0 || s.Having != nil {
		return false
	}
	r, ok := s.From[0].(*Relation)
	if !ok || r.Table == nil {
		return false
	}
	for _, item := range s.Items {
		if ref, ok := item.(*ColumnRef); !ok || ref.Rel != r {
			return false
		}
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
		_, fixed := x.R.(*Literal)
		if x.Op.Name != "=" || !isColumn || !fixed || ref.Rel != r || !sqltype.Ordered(ref.Type()) {
			return nil, false
		}
		return []int{ref.Col}, true
	}
	return nil, false
}
