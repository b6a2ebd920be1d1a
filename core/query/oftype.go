package query

import (
	"maps"
	"slices"
)

// A SQLite table can hold values that are not of their column's type: an empty text in a column of dates, a date as
// 05/17/1981, a word in a column of numbers. SQLite compares and cuts them as the texts or numbers that they are, so that
// a date written in another way may count as past. No policy decides by such a value: where its condition reads one, it
// does not hold for the row, and where a treatment reads one, it gives NULL. A view that lends its owner's rights decides by no
// such value, either, what rows it has.

// readsOfType is the condition that the columns of a table that a policy's expression reads hold values of their types;
// nil: there is nothing to check. In sub-queries of the expression, it leaves out the rows that do not meet this.
func (b *binder) readsOfType(e Expr, inner *Relation) Expr {
	if speaksExactly(b.model.Object(b.model.Object(inner.Table.Parent).Parent)) {
		return nil
	}
	read := map[int]bool{}
	note := func(x Expr) {
		if c, ok := x.(*ColumnRef); ok && c.Rel == inner {
			read[c.Col] = true
		}
	}
	AnyExpr(e, func(x Expr) bool {
		note(x)
		if q := Subquery(x); q != nil {
			rowsOfType(q)
			EachExpr(q, note)
		}
		return false
	})
	return ofType(inner, read, e)
}

// rowsOfType leaves out of a query, and of its sub-queries, the rows of tables in which a column that it uses holds a value
// that is not of its type.
func rowsOfType(q *Query) {
	eachSelect(q, func(s *Select) {
		EachItem(s.From, func(item From) {
			if r, ok := item.(*Relation); ok && r.Table != nil && r.Query == nil {
				used := map[int]bool{}
				for i, is := range r.Used {
					if is {
						used[i] = true
					}
				}
				s.Where = Conjoin("AND", s.Where, ofType(r, used, s.Where))
			}
		})
	})
}

// decidesOfType leaves out of a query, and of its sub-queries, the rows for which a condition reads a value that is not of its
// column's type.
func decidesOfType(q *Query) {
	eachSelect(q, func(s *Select) {
		var relations []*Relation
		read := map[*Relation]map[int]bool{}
		note := func(x Expr) bool {
			if c, ok := x.(*ColumnRef); ok {
				if read[c.Rel] == nil {
					relations, read[c.Rel] = append(relations, c.Rel), map[int]bool{}
				}
				read[c.Rel][c.Col] = true
			}
			return false
		}
		AnyExpr(s.Where, note)
		AnyExpr(s.Having, note)
		EachItem(s.From, func(item From) {
			if join, ok := item.(*Join); ok {
				AnyExpr(join.On, note)
			}
		})
		where := s.Where
		for _, r := range relations {
			s.Where = Conjoin("AND", s.Where, ofType(r, read[r], where))
		}
	})
}

// eachSelect calls f for every SELECT of a query, sub-queries included.
func eachSelect(q *Query, f func(*Select)) {
	var from func(q *Query)
	from = func(q *Query) {
		for _, c := range q.With {
			from(c.Query)
		}
		switch body := q.Body.(type) {
		case *SetOp:
			from(body.L)
			from(body.R)
		case *Select:
			EachItem(body.From, func(item From) {
				if r, ok := item.(*Relation); ok && r.Query != nil && !r.Lends { // one that lends has been here
					from(r.Query)
				}
			})
			f(body)
		}
	}
	from(q)
	EachExpr(q, func(x Expr) {
		if sub := Subquery(x); sub != nil {
			from(sub)
		}
	})
}

// ofType is the condition that columns of a relation hold values of their types, but for those of which the condition
// beside it says as much, by equality with a constant.
func ofType(r *Relation, columns map[int]bool, beside Expr) (all Expr) {
	for _, x := range Conjuncts(beside) {
		if c := equalToConstant(x); c != nil && c.Rel == r {
			delete(columns, c.Col)
		}
	}
	for _, i := range slices.Sorted(maps.Keys(columns)) {
		all = Conjoin("AND", all, &OfType{&ColumnRef{r, i}})
	}
	return all
}

// equalToConstant returns the column that a condition says to equal a constant, or one of a list; nil: none.
func equalToConstant(x Expr) *ColumnRef {
	constant := func(x Expr) bool {
		_, now := x.(*Now)
		return now || isConstant(x)
	}
	switch x := x.(type) {
	case *Binary:
		if x.Op == "OR" { // either of which says so of one column
			l, r := equalToConstant(x.L), equalToConstant(x.R)
			if l != nil && r != nil && *l == *r {
				return l
			}
		}
		if x.Op != "=" {
			return nil
		}
		if c, ok := x.L.(*ColumnRef); ok && constant(x.R) {
			return c
		}
		if c, ok := x.R.(*ColumnRef); ok && constant(x.L) {
			return c
		}
	case *InList:
		if c, ok := x.X.(*ColumnRef); ok && !x.Not && !slices.ContainsFunc(x.List, func(x Expr) bool { return !constant(x) }) {
			return c
		}
	}
	return nil
}
