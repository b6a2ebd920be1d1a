package query

import "slices"

// point reports whether a query gives one row of one table at the most, since it names its whole
// key: the database's plan for it is the same for all values.
func (b *binder) point(q *Query) bool {
	s, ok := q.Body.(*Select)
	if !ok || len(q.With) > 0 || len(s.From) != 1 || s.Where == nil {
		return false
	}
	r, ok := s.From[0].(*Relation)
	if !ok || r.Table == nil {
		return false
	}
	var named []int
	var look func(Expr)
	look = func(x Expr) {
		var l, right Expr
		switch x := x.(type) {
		case *Binary:
			if x.Op == "AND" {
				look(x.L)
				look(x.R)
			}
			return
		case *Operation:
			if x.Op.Name != "=" {
				return
			}
			l, right = x.L, x.R
		default:
			return
		}
		for _, pair := range [][2]Expr{{l, right}, {right, l}} {
			ref, isColumn := pair[0].(*ColumnRef)
			if _, fixed := pair[1].(*Literal); isColumn && fixed && ref.Rel == r {
				named = append(named, ref.Col)
			}
		}
	}
	look(s.Where)
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
