package query

import (
	"fmt"
	"strings"
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
	case *ArrayQuery, *Default, *Treated, *OfType:
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
// can be found in GROUP BY.
func Same(a, b Expr) bool { return key(a) == key(b) }

// key writes an expression so that equal expressions, and only they, have equal
// keys. Expressions with sub-queries are equal to themselves only.
func key(e Expr) string {
	var b strings.Builder
	switch e := e.(type) {
	case *ColumnRef:
		return fmt.Sprintf("%p.%d", e.Rel, e.Col)
	case *Literal:
		return fmt.Sprintf("%v:%T:%v", e.T, e.Value, e.Value)
	case *Now:
		return fmt.Sprintf("now%v", e.T)
	case *InQuery, *Exists, *Scalar, *ArrayQuery, *Default:
		return fmt.Sprintf("%p", e)
	case *Unary:
		b.WriteString(e.Op)
	case *Binary:
		b.WriteString(e.Op)
	case *IsNull:
		fmt.Fprintf(&b, "null%v", e.Not)
	case *IsTrue:
		b.WriteString("istrue")
	case *OfType:
		b.WriteString("oftype")
	case *InList:
		fmt.Fprintf(&b, "in%v", e.Not)
	case *Cast:
		b.WriteString("cast" + e.To.String() + "/" + e.Modifier)
	case *Operation:
		fmt.Fprintf(&b, "op%s %v %v", e.Op.Name, e.Op.Left, e.Op.Right)
	case *Quantified:
		fmt.Fprintf(&b, "any%s%v", e.Op.Name, e.All)
	case *Array:
		fmt.Fprintf(&b, "array%v", e.T)
	case *Row:
		b.WriteString("row")
	case *TableRow:
		fmt.Fprintf(&b, "tablerow%q", e.Names)
	case *RowsCompared:
		b.WriteString("rows" + e.Op)
	case *Subscript:
		fmt.Fprintf(&b, "at%v", e.Part)
		for _, at := range e.At {
			fmt.Fprintf(&b, "%v", at == nil)
		}
	case *FieldOf:
		fmt.Fprintf(&b, "field %q", e.Name)
	case *Collated:
		fmt.Fprintf(&b, "collate %q", e.Name)
	case *Like:
		fmt.Fprintf(&b, "like%v%v", e.Not, e.Fold)
	case *Treated:
		fmt.Fprintf(&b, "%s of %d", e.Treatment, e.Of)
	case *Case:
		fmt.Fprintf(&b, "case%d%v", len(e.Whens), e.Else != nil)
	case *Call:
		if e.Over != nil {
			return fmt.Sprintf("%p", e)
		}
		if e.Fn.Routine != nil && e.Fn.Routine.Volatility == 'v' {
			return fmt.Sprintf("%p", e)
		}
		fmt.Fprintf(&b, "%s%v%v%v%v%v", e.Fn.Name, e.Star, e.Distinct, e.Filter != nil, e.Within, e.Spread)
		for _, o := range e.Order {
			fmt.Fprintf(&b, "%v%v", o.Desc, o.NullsFirst)
		}
	}
	b.WriteByte('(')
	for _, c := range children(e) {
		fmt.Fprintf(&b, "%q,", key(c))
	}
	b.WriteByte(')')
	return b.String()
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
func EachRelation(q *Query, f func(*Relation)) {
	for _, c := range q.With {
		EachRelation(c.Query, f)
	}
	switch body := q.Body.(type) {
	case *SetOp:
		EachRelation(body.L, f)
		EachRelation(body.R, f)
	case *Values: // its expressions come below
	case *Select:
		EachItem(body.From, func(item From) {
			if r, ok := item.(*Relation); ok {
				f(r)
				if r.Query != nil {
					EachRelation(r.Query, f)
				}
			}
		})
	}
	EachExpr(q, func(e Expr) {
		if sub := Subquery(e); sub != nil {
			EachRelation(sub, f)
		}
	})
}

// EachExpr calls f for every expression of a query, sub-queries included.
func EachExpr(q *Query, f func(Expr)) {
	var visit func(Expr)
	visit = func(e Expr) {
		if e == nil {
			return
		}
		f(e)
		if sub := Subquery(e); sub != nil {
			EachExpr(sub, f)
		}
		for _, c := range children(e) {
			visit(c)
		}
	}
	for _, c := range q.With {
		EachExpr(c.Query, f)
	}
	switch body := q.Body.(type) {
	case *SetOp:
		EachExpr(body.L, f)
		EachExpr(body.R, f)
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
				if item.Query != nil {
					EachExpr(item.Query, f)
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
}
