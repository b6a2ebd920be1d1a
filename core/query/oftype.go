package query

import "slices"

// A SQLite table can hold values that are not of their column's type: an empty text in a column of dates, a date as
// 05/17/1981, a word in a column of numbers. SQLite compares and cuts them as the texts or numbers that they are, so that
// a date written in another way may count as past. No policy decides by such a value: where its condition reads one, it
// does not hold for the row, and where a treatment reads one, it gives NULL. A view that lends its owner's rights decides by no
// such value, either, what rows it has.

// readsOfType is the condition that the columns of a table that a policy's expression reads hold values of their types;
// nil: there is nothing to check. It makes sub-queries of the expression leave out the rows in which they read other values.
func (b *binder) readsOfType(e Expr, inner *Relation) Expr {
	if speaksExactly(b.model.Object(b.model.Object(inner.Table.Parent).Parent)) {
		return nil
	}
	var read []*ColumnRef
	note := func(x Expr) {
		if c, ok := x.(*ColumnRef); ok && c.Rel == inner {
			read = append(read, c)
		}
	}
	AnyExpr(e, func(x Expr) bool {
		note(x)
		if q := Subquery(x); q != nil {
			eachSelect(q, func(s *Select) { s.leaveOut(append(s.conditions(), s.Items...)) })
			EachExpr(q, note)
		}
		return false
	})
	return ofType(read, e)
}

// decidesOfType makes a query, and its sub-queries, leave out the rows for which a condition reads a value that is not of its
// column's type.
func decidesOfType(q *Query) { eachSelect(q, func(s *Select) { s.leaveOut(s.conditions()) }) }

// conditions are all that decide which rows a SELECT has.
func (s *Select) conditions() []Expr {
	list := []Expr{s.Where, s.Having}
	EachItem(s.From, func(item From) {
		if join, ok := item.(*Join); ok {
			list = append(list, join.On)
		}
	})
	return list
}

// leaveOut makes a SELECT leave out the rows for which one of the expressions reads a value that is not of its column's type.
func (s *Select) leaveOut(expressions []Expr) {
	var read []*ColumnRef
	for _, e := range expressions {
		AnyExpr(e, func(x Expr) bool {
			if c, ok := x.(*ColumnRef); ok {
				read = append(read, c)
			}
			return false
		})
	}
	s.Where = Conjoin("AND", s.Where, ofType(read, s.Where))
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

// ofType is the condition that columns hold values of their types, but for those of which the condition beside it says as
// much, by equality with a constant.
func ofType(columns []*ColumnRef, beside Expr) (all Expr) {
	var known []ColumnRef
	for _, x := range Conjuncts(beside) {
		if c := equalToConstant(x); c != nil {
			known = append(known, *c)
		}
	}
	for _, c := range columns {
		if !slices.Contains(known, *c) {
			known = append(known, *c)
			all = Conjoin("AND", all, &OfType{c})
		}
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
