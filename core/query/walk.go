package query

import (
	"fmt"
	"slices"
)

// Conjuncts lists the conditions that all must hold for a condition to hold.
func Conjuncts(x Expr) []Expr {
	if x == nil {
		return nil
	}
	if and, ok := x.(*Binary); ok && and.Op == "AND" {
		return append(Conjuncts(and.L), Conjuncts(and.R)...)
	}
	return []Expr{x}
}

// children lists the direct operands of an expression. Sub-queries are scopes
// of their own and are not entered.
func children(e Expr) []Expr {
	switch e := e.(type) {
	case *Unary:
		return []Expr{e.X}
	case *Binary:
		return []Expr{e.L, e.R}
	case *IsNull:
		return []Expr{e.X}
	case *IsTrue:
		return []Expr{e.X}
	case *OfType:
		return []Expr{e.X}
	case *InList:
		return append([]Expr{e.X}, e.List...)
	case *InQuery:
		return []Expr{e.X}
	case *Operation:
		if e.L == nil {
			return []Expr{e.R}
		}
		return []Expr{e.L, e.R}
	case *Quantified:
		return []Expr{e.X, e.Array}
	case *Array:
		return e.List
	case *Row:
		return e.List
	case *TableRow:
		return e.List
	case *RowsCompared:
		return []Expr{e.L, e.R}
	case *Subscript:
		out := []Expr{e.X}
		for _, at := range e.At {
			if at != nil {
				out = append(out, at)
			}
		}
		return out
	case *FieldOf:
		return []Expr{e.X}
	case *Collated:
		return []Expr{e.X}
	case *Cast:
		return []Expr{e.X}
	case *Like:
		return []Expr{e.X, e.Pattern}
	case *Treated:
		return append([]Expr{e.X}, e.Row...)
	case *Case:
		var out []Expr
		for _, w := range e.Whens {
			out = append(out, w.If, w.Then)
		}
		if e.Else != nil {
			out = append(out, e.Else)
		}
		return out
	case *Call:
		out := append([]Expr(nil), e.Args...)
		if e.Filter != nil {
			out = append(out, e.Filter)
		}
		for _, o := range e.Order {
			out = append(out, o.Expr)
		}
		if e.Over != nil {
			out = append(out, e.Over.Partition...)
			for _, o := range e.Over.Order {
				out = append(out, o.Expr)
			}
			if f := e.Over.Frame; f != nil {
				for _, bound := range []Bound{f.From, f.To} {
					if bound.Distance != nil {
						out = append(out, bound.Distance)
					}
				}
			}
		}
		return out
	case *ColumnRef, *Literal, *Now, *Exists, *Scalar, *ArrayQuery, *Default:
		return nil
	}
	panic(fmt.Sprintf("query: no case for %T", e))
}

// Subquery returns the query of an expression that has one, or nil.
func Subquery(e Expr) *Query {
	switch e := e.(type) {
	case *InQuery:
		return e.Query
	case *Exists:
		return e.Query
	case *Scalar:
		return e.Query
	case *ArrayQuery:
		return e.Query
	}
	return nil
}

// AnyExpr reports whether f holds for e or an operand of it.
func AnyExpr(e Expr, f func(Expr) bool) bool {
	if e == nil {
		return false
	}
	if f(e) {
		return true
	}
	for _, c := range children(e) {
		if AnyExpr(c, f) {
			return true
		}
	}
	return false
}

// Replace makes a copy of an expression in which f's result stands in place of
// what it takes; where f returns nil, the operands are looked at. Sub-queries
// stay as they are.
func Replace(e Expr, f func(Expr) Expr) Expr {
	if e == nil {
		return nil
	}
	if by := f(e); by != nil {
		return by
	}
	in := func(x Expr) Expr { return Replace(x, f) }
	all := func(list []Expr) []Expr {
		out := make([]Expr, len(list))
		for i, x := range list {
			out[i] = in(x)
		}
		return out
	}
	orders := func(list []Order) []Order {
		out := slices.Clone(list)
		for i := range out {
			out[i].Expr = in(out[i].Expr)
		}
		return out
	}
	switch e := e.(type) {
	case *ColumnRef, *Literal, *Now, *Exists, *Scalar:
		return e
	case *Unary:
		return &Unary{e.Op, in(e.X)}
	case *Binary:
		return &Binary{e.Op, in(e.L), in(e.R), e.T}
	case *IsNull:
		return &IsNull{in(e.X), e.Not}
	case *IsTrue:
		return &IsTrue{in(e.X)}
	case *InList:
		return &InList{in(e.X), all(e.List), e.Not}
	case *InQuery:
		return &InQuery{in(e.X), e.Query, e.Op, e.All}
	case *Cast:
		return &Cast{in(e.X), e.To, e.Modifier}
	case *Like:
		return &Like{in(e.X), in(e.Pattern), e.Not, e.Fold}
	case *Case:
		next := &Case{Else: in(e.Else), T: e.T}
		for _, w := range e.Whens {
			next.Whens = append(next.Whens, When{in(w.If), in(w.Then)})
		}
		return next
	case *Call:
		next := *e
		next.Args, next.Filter = all(e.Args), in(e.Filter)
		next.Order = orders(e.Order)
		if e.Over != nil {
			over := Window{Partition: all(e.Over.Partition), Order: orders(e.Over.Order)}
			if e.Over.Frame != nil {
				frame := *e.Over.Frame
				frame.From.Distance, frame.To.Distance = in(frame.From.Distance), in(frame.To.Distance)
				over.Frame = &frame
			}
			next.Over = &over
		}
		return &next
	case *Operation:
		return &Operation{e.Op, in(e.L), in(e.R), e.T}
	case *Quantified:
		return &Quantified{in(e.X), e.Op, in(e.Array), e.All}
	case *Array:
		return &Array{all(e.List), e.T}
	case *Row:
		return &Row{all(e.List)}
	case *TableRow:
		return &TableRow{all(e.List), e.Names}
	case *RowsCompared:
		return &RowsCompared{e.Op, in(e.L), in(e.R)}
	case *Subscript:
		return &Subscript{in(e.X), e.Part, all(e.At), e.T}
	case *FieldOf:
		return &FieldOf{in(e.X), e.Name, e.T}
	case *Collated:
		return &Collated{in(e.X), e.Name}
	case *OfType:
		if ref, ok := in(e.X).(*ColumnRef); ok {
			return &OfType{ref}
		}
		panic("query: no column stands in the place of one whose type is asked")
	case *Treated:
		next := *e
		next.X, next.Row = in(e.X), all(e.Row)
		return &next
	case *ArrayQuery, *Default:
		return e
	}
	panic(fmt.Sprintf("query: no case for %T", e))
}

// IsAggregate reports whether an expression is a call of an aggregate function.
func IsAggregate(e Expr) bool {
	c, ok := e.(*Call)
	return ok && c.Fn.Kind == AggregateFunction && c.Over == nil
}

// IsWindow reports whether an expression is a call of a window function.
func IsWindow(e Expr) bool {
	c, ok := e.(*Call)
	return ok && c.Over != nil
}

// Same reports whether two expressions are one, so that a selected expression
// can be found in GROUP BY. Expressions with sub-queries, and calls that may give another
// value each time, are the same as themselves only. It stops at the first difference, so it
// takes no longer than to walk the smaller of the two once.
func Same(a, b Expr) bool {
	if a == nil || b == nil {
		return a == nil && b == nil
	}
	if !sameNode(a, b) {
		return false
	}
	return slices.EqualFunc(children(a), children(b), Same)
}

// sameNode compares what two expressions are, their operands aside.
func sameNode(a, b Expr) bool {
	switch a := a.(type) {
	case *ColumnRef:
		b, ok := b.(*ColumnRef)
		return ok && *a == *b
	case *Literal:
		b, ok := b.(*Literal)
		return ok && *a == *b
	case *Now:
		b, ok := b.(*Now)
		return ok && *a == *b
	case *InQuery, *Exists, *Scalar, *ArrayQuery, *Default:
		return a == b
	case *Unary:
		b, ok := b.(*Unary)
		return ok && a.Op == b.Op
	case *Binary:
		b, ok := b.(*Binary)
		return ok && a.Op == b.Op
	case *IsNull:
		b, ok := b.(*IsNull)
		return ok && a.Not == b.Not
	case *IsTrue:
		_, ok := b.(*IsTrue)
		return ok
	case *OfType:
		_, ok := b.(*OfType)
		return ok
	case *InList:
		b, ok := b.(*InList)
		return ok && a.Not == b.Not
	case *Cast:
		b, ok := b.(*Cast)
		return ok && a.To == b.To && a.Modifier == b.Modifier
	case *Operation:
		b, ok := b.(*Operation)
		return ok && a.Op == b.Op
	case *Quantified:
		b, ok := b.(*Quantified)
		return ok && a.Op == b.Op && a.All == b.All
	case *Array:
		b, ok := b.(*Array)
		return ok && a.T == b.T
	case *Row:
		_, ok := b.(*Row)
		return ok
	case *TableRow:
		b, ok := b.(*TableRow)
		return ok && slices.Equal(a.Names, b.Names)
	case *RowsCompared:
		b, ok := b.(*RowsCompared)
		return ok && a.Op == b.Op
	case *Subscript:
		b, ok := b.(*Subscript)
		return ok && a.Part == b.Part && slices.EqualFunc(a.At, b.At, func(x, y Expr) bool { return (x == nil) == (y == nil) })
	case *FieldOf:
		b, ok := b.(*FieldOf)
		return ok && a.Name == b.Name
	case *Collated:
		b, ok := b.(*Collated)
		return ok && slices.Equal(a.Name, b.Name)
	case *Like:
		b, ok := b.(*Like)
		return ok && a.Not == b.Not && a.Fold == b.Fold
	case *Treated:
		b, ok := b.(*Treated)
		return ok && a.Of == b.Of && a.Treatment.String() == b.Treatment.String()
	case *Case:
		b, ok := b.(*Case)
		return ok && len(a.Whens) == len(b.Whens) && (a.Else == nil) == (b.Else == nil)
	case *Call:
		b, ok := b.(*Call)
		return ok && (a == b || sameCall(a, b))
	}
	panic(fmt.Sprintf("query: no case for %T", a))
}

// sameCall is sameNode for two calls. A window is the same as itself only.
func sameCall(a, b *Call) bool {
	if a.Over != nil || b.Over != nil || a.Fn.Routine != nil && a.Fn.Routine.Volatility == 'v' {
		return false
	}
	sameSort := func(x, y Order) bool { return x.Desc == y.Desc && x.NullsFirst == y.NullsFirst }
	return a.Fn.Name == b.Fn.Name && a.Fn.Routine == b.Fn.Routine &&
		a.Star == b.Star && a.Distinct == b.Distinct && a.Within == b.Within && a.Spread == b.Spread &&
		(a.Filter == nil) == (b.Filter == nil) && slices.Equal(a.Named, b.Named) && slices.EqualFunc(a.Order, b.Order, sameSort)
}

// EachItem calls f for every join and relation of a FROM clause.
func EachItem(items []From, f func(From)) {
	for _, item := range items {
		if join, ok := item.(*Join); ok {
			EachItem([]From{join.L, join.R}, f)
		}
		f(item)
	}
}

// EachRelation calls f for every relation of a query, sub-queries included.
func EachRelation(q *Query, f func(*Relation)) { walk(q, f, func(Expr) {}) }

// EachExpr calls f for every expression of a query, sub-queries included.
func EachExpr(q *Query, f func(Expr)) { walk(q, func(*Relation) {}, f) }

// walk calls one function for each relation of a query and another for each expression, those
// of its sub-queries among them, and each of them once.
func walk(q *Query, relation func(*Relation), expr func(Expr)) {
	var visit func(Expr)
	visit = func(e Expr) {
		if e == nil {
			return
		}
		expr(e)
		if sub := Subquery(e); sub != nil {
			walk(sub, relation, expr)
		}
		for _, c := range children(e) {
			visit(c)
		}
	}
	for _, c := range q.With {
		walk(c.Query, relation, expr)
	}
	switch body := q.Body.(type) {
	case *SetOp:
		walk(body.L, relation, expr)
		walk(body.R, relation, expr)
	case *Values:
		for _, row := range body.Rows {
			for _, e := range row {
				visit(e)
			}
		}
	case *Select:
		for _, e := range body.Items {
			visit(e)
		}
		EachItem(body.From, func(item From) {
			switch item := item.(type) {
			case *Join:
				visit(item.On)
			case *Relation:
				relation(item)
				if item.Query != nil {
					walk(item.Query, relation, expr)
				}
				if item.Calls != nil {
					for _, c := range item.Calls.List {
						visit(c)
					}
				}
			}
		})
		for _, e := range body.On {
			visit(e)
		}
		visit(body.Where)
		for _, e := range body.GroupBy {
			visit(e)
		}
		visit(body.Having)
	}
	for _, o := range q.OrderBy {
		visit(o.Expr)
	}
	visit(q.Limit)
	visit(q.Offset)
}
