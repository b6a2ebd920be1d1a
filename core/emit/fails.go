package emit

import (
	"slices"

	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// fails reports whether a condition of a policy's can fail on a value. It is then
// worked out on every row of its table, whatever else is asked.
func (b *barriers) fails(x query.Expr) bool {
	return query.AnyExpr(x, func(x query.Expr) bool {
		if sub := query.Subquery(x); sub != nil {
			found := b.canFail(x)
			query.EachExpr(sub, func(x query.Expr) { found = found || b.canFail(x) })
			return found
		}
		return b.canFail(x)
	})
}

// canFail reports whether an operation can fail for what a row holds.
func (b *barriers) canFail(x query.Expr) bool {
	switch x := x.(type) {
	case *query.Binary:
		switch x.Op {
		case "+", "-", "*", "/", "%":
			return b.overflows && !constant(x)
		case "=", "<>", "<", "<=", ">", ">=", "IS", "IS NOT":
			return b.overflows && !(safelyCompared(x.L, x.R) && pairs(x.L, x.R, func(l, r query.Expr) bool { return b.collates(l, r) }))
		}
	case *query.RowsCompared:
		_, both := x.R.(*query.Row)
		return b.overflows && (!both || !safelyCompared(x.L, x.R) || !pairs(x.L, x.R, func(l, r query.Expr) bool { return b.collates(l, r) }))
	case *query.InQuery:
		return b.overflows && !safelyGiven(x)
	case *query.Unary:
		return x.Op == "-" && b.overflows && !constant(x)
	case *query.Like:
		_, fixed := x.Pattern.(*query.Literal)
		return !fixed
	case *query.Operation:
		if likes[x.Op.Name] {
			return !wholePattern(x.R) || !b.collationOf(x.L).deterministic
		}
		return !(x.Op.Total() && safelyTaken(x) && (x.L == nil || x.Op.Name == "||" || b.collates(x.L, x.R))) && !constant(x)
	case *query.Quantified:
		return !x.Op.Total() || !safelyQuantified(x) || !b.collates(append([]query.Expr{x.X}, elements(x.Array)...)...)
	case *query.InList:
		return b.overflows && !(b.safelyListed(x) && b.collates(append([]query.Expr{x.X}, x.List...)...))
	case *query.Case:
		return b.overflows && slices.ContainsFunc(x.Whens, func(w query.When) bool { return !sqltype.SafeCast(w.Then.Type(), x.T) }) ||
			x.Else != nil && b.overflows && !sqltype.SafeCast(x.Else.Type(), x.T)
	case *query.Cast:
		safe := sqltype.SafeCast(x.X.Type(), x.To) && x.Modifier == "" || sqltype.TextOf(x.X.Type(), x.To)
		return b.overflows && !safe && !constant(x)
	case *query.Scalar:
		return b.overflows && !oneRow(x.Query)
	case *query.Call:
		if r := x.Fn.Routine; r != nil {
			taken := func(i int) bool { return i >= len(r.Args) || sqltype.SafeCast(x.Args[i].Type(), r.Args[i]) }
			for i := range x.Args {
				if !taken(i) {
					return true
				}
			}
			return !(r.Total() && b.collates(x.Args...)) && !constant(x)
		}
		switch x.Fn.Name {
		case "sum", "avg", "replace", "string_agg":
			return true
		}
		return x.Fn.Kind == query.AggregateFunction && x.Fn.Own
	}
	return false
}

// safelyGiven reports whether what is compared with a sub-query's rows is so without failing.
func safelyGiven(x *query.InQuery) bool {
	row, isRow := x.X.(*query.Row)
	if !isRow {
		row = &query.Row{List: []query.Expr{x.X}}
	}
	for i, l := range row.List {
		if i >= len(x.Query.Columns) || !safelyCompared(l, &query.Literal{T: x.Query.Columns[i].Type}) {
			return false
		}
	}
	return true
}

// oneRow reports whether a query gives one row, whatever the tables hold.
func oneRow(q *query.Query) bool {
	s, ok := q.Body.(*query.Select)
	return ok && len(s.GroupBy) == 0 && s.Sets == nil && slices.ContainsFunc(s.Items, func(x query.Expr) bool { return query.AnyExpr(x, query.IsAggregate) })
}
