package query

import (
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

// condition binds an expression that must be a truth value.
func (b *binder) condition(n *pg.Node, s *scope, what string) Expr {
	e := b.convertLiteral(b.expr(n, s), Boolean, locate(n))
	if e.Type() != Boolean && e.Type() != Untyped {
		b.fail(locate(n), Mismatch, "%s needs a truth value, not %s", what, e.Type())
	}
	return e
}

// plain refuses aggregates and window functions where rows are not grouped yet.
func (b *binder) plain(e Expr, at int32, what string) {
	if AnyExpr(e, IsAggregate) {
		b.fail(at, Grouping, "an aggregate function cannot stand in %s", what)
	}
	if AnyExpr(e, IsWindow) {
		b.failAs(at, Grouping, "42P20", "a window function cannot stand in %s", what)
	}
	b.ungrouped(e, what)
}

// expr binds an expression in which no window function may stand.
func (b *binder) expr(n *pg.Node, s *scope) Expr { return b.exprIn(n, s, nil) }

func (b *binder) exprIn(n *pg.Node, s *scope, w windows) Expr {
	defer b.deeper(locate(n))()
	b.costs(1)
	switch v := n.GetNode().(type) {
	case *pg.Node_ColumnRef:
		return b.column(v.ColumnRef, s)
	case *pg.Node_AConst:
		return b.constant(v.AConst)
	case *pg.Node_ParamRef:
		return b.param(v.ParamRef)
	case *pg.Node_AExpr:
		return b.operator(v.AExpr, s, w)
	case *pg.Node_BoolExpr:
		return b.boolean(v.BoolExpr, s, w)
	case *pg.Node_NullTest:
		if v.NullTest.Argisrow && !b.exact {
			b.unsupported(locate(n), "a row")
		}
		return &IsNull{b.exprIn(v.NullTest.Arg, s, w), v.NullTest.Nulltesttype == pg.NullTestType_IS_NOT_NULL}
	case *pg.Node_BooleanTest:
		return b.truth(v.BooleanTest, s, w)
	case *pg.Node_CaseExpr:
		return b.caseOf(v.CaseExpr, s, w)
	case *pg.Node_CoalesceExpr:
		if b.exact {
			args, t := b.common(b.exprs(v.CoalesceExpr.Args, s, w), "COALESCE", v.CoalesceExpr.Location)
			return &Call{Fn: Functions["coalesce"], Args: args, T: t}
		}
		return b.call(Functions["coalesce"], b.exprs(v.CoalesceExpr.Args, s, w), v.CoalesceExpr.Location)
	case *pg.Node_MinMaxExpr:
		name, before := strings.ToLower(strings.TrimPrefix(v.MinMaxExpr.Op.String(), "IS_")), b.cost
		args := b.exprs(v.MinMaxExpr.Args, s, w)
		if b.exact {
			args, t := b.common(args, strings.ToUpper(name), v.MinMaxExpr.Location)
			return &Call{Fn: Functions[name], Args: args, T: t}
		}
		b.copies(written[name], before)
		return b.call(Functions[name], args, v.MinMaxExpr.Location)
	case *pg.Node_TypeCast:
		return b.cast(v.TypeCast, s, w)
	case *pg.Node_SubLink:
		return b.subquery(v.SubLink, s, w)
	case *pg.Node_FuncCall:
		return b.function(v.FuncCall, s, w)
	case *pg.Node_SqlvalueFunction:
		return b.valueFunction(v.SqlvalueFunction)
	case *pg.Node_GroupingFunc:
		if b.exact {
			return &Call{Fn: grouping, Args: b.exprs(v.GroupingFunc.Args, s, nil), T: sqltype.Int4}
		}
		return &Call{Fn: grouping, Args: b.exprs(v.GroupingFunc.Args, s, nil), T: Bigint}
	case *pg.Node_RowExpr:
		if b.exact {
			return &Row{b.exprs(v.RowExpr.Args, s, w)}
		}
		b.unsupported(locate(n), "a row value")
	case *pg.Node_AArrayExpr:
		if b.exact {
			return b.array(v.AArrayExpr, nil, s, w)
		}
		b.unsupported(locate(n), "an array")
	case *pg.Node_AIndirection:
		if b.exact {
			return b.indirection(v.AIndirection, s, w)
		}
	case *pg.Node_CollateClause:
		if b.exact {
			x := b.convertText(b.exprIn(v.CollateClause.Arg, s, w), v.CollateClause.Location)
			return &Collated{x, texts(v.CollateClause.Collname)}
		}
	}
	b.unsupported(locate(n), fmt.Sprintf("this kind of expression (%s)", nodeName(n)))
	return nil
}

// volatile reports whether an expression can be another value each time it is worked out.
func volatile(e Expr) bool {
	return anyDeep(e, func(x Expr) bool {
		c, ok := x.(*Call)
		return ok && (c.Fn.Routine != nil && c.Fn.Routine.Volatility == 'v' || c.Fn.Name == "random")
	})
}

func (b *binder) exprs(nodes []*pg.Node, s *scope, w windows) []Expr {
	out := make([]Expr, len(nodes))
	for i, n := range nodes {
		out[i] = b.exprIn(n, s, w)
	}
	return out
}

func (b *binder) caseOf(c *pg.CaseExpr, s *scope, w windows) Expr {
	out := &Case{}
	var operand Expr
	if c.Arg != nil {
		before := b.cost
		operand = b.exprIn(c.Arg, s, w)
		if b.exact {
			operand = b.convertText(operand, c.Location) // a text, whatever it is compared with
		}
		if len(c.Args) > 1 && volatile(operand) {
			b.unsupported(c.Location, "CASE of what is another value each time it is worked out; select it in a sub-query, and write CASE around that")
		}
		b.copies(len(c.Args), before)
	}
	var results []Expr
	for _, n := range c.Args {
		when := n.GetCaseWhen()
		var test Expr
		if operand != nil {
			test = b.compare("=", operand, b.exprIn(when.Expr, s, w), when.Location)
		} else {
			test = b.convertLiteral(b.exprIn(when.Expr, s, w), Boolean, when.Location)
			if test.Type() != Boolean && test.Type() != Untyped {
				b.fail(locate(when.Expr), Mismatch, "WHEN needs a truth value, not %s", test.Type())
			}
		}
		out.Whens = append(out.Whens, When{If: test})
		results = append(results, b.exprIn(when.Result, s, w))
	}
	if c.Defresult != nil {
		results = append(results, b.exprIn(c.Defresult, s, w))
	}
	results, out.T = b.common(results, "CASE", c.Location)
	for i := range out.Whens {
		out.Whens[i].Then = results[i]
	}
	if c.Defresult != nil {
		out.Else = results[len(results)-1]
	}
	return out
}

// common takes expressions to the one type that all can have.
func (b *binder) common(list []Expr, what string, at int32) ([]Expr, Type) {
	if b.exact {
		types := make([]Type, len(list))
		for i, e := range list {
			types[i] = e.Type()
		}
		t := sqltype.Common(types)
		if t == nil {
			b.unresolved(&sqltype.Error{SQLState: "42804", Text: what + " types " + typeList(types) + " cannot be matched; add a cast"}, at)
		}
		for i, e := range list {
			list[i] = b.convertLiteral(e, t, at)
		}
		return list, t
	}
	t := Untyped
	for _, e := range list {
		next, ok := b.unify(t, e.Type())
		if !ok {
			b.fail(at, Mismatch, "%s has both %s and %s; add a cast", what, t, e.Type())
		}
		t = next
	}
	if t == Untyped {
		t = Text
	}
	for i, e := range list {
		list[i] = b.convert(e, t, at)
	}
	return list, t
}

// typeList writes the different types of a list.
func typeList(types []Type) string {
	var names []string
	for _, t := range types {
		if t != nil && !slices.Contains(names, t.String()) {
			names = append(names, t.String())
		}
	}
	return strings.Join(names, " and ")
}

func (b *binder) cast(c *pg.TypeCast, s *scope, w windows) Expr {
	if b.exact {
		return b.exactCast(c, s, w)
	}
	at := locate(c.Arg)
	names := texts(c.TypeName.Names)
	name := names[len(names)-1]
	to, ok := castNames[name]
	if !ok || len(c.TypeName.ArrayBounds) > 0 || c.TypeName.Setof || c.TypeName.PctType {
		b.fail(
			c.TypeName.Location,
			Unsupported,
			"the type %s is not supported; there are boolean, bigint, double precision, text, date and timestamp",
			name,
		)
	}
	if len(c.TypeName.Typmods) > 0 {
		b.unsupported(c.TypeName.Location, "a length or precision of a type")
	}
	x := b.exprIn(c.Arg, s, w)
	if l, isLiteral := x.(*Literal); isLiteral && l.T == Untyped {
		return b.convertLiteral(l, to, at)
	}
	if !castable(x.Type(), to) {
		b.fail(at, Mismatch, "%s cannot be cast to %s", x.Type(), to)
	}
	if x.Type() == to {
		return x
	}
	return &Cast{X: x, To: to}
}

func castable(from, to Type) bool {
	switch {
	case from == to, to == Text, from == Text, from == Untyped:
		return true
	case from.Number() && to.Number():
		return true
	case from == Boolean && to == Bigint, from == Bigint && to == Boolean:
		return true
	case from == Date && to == Timestamp, from == Timestamp && to == Date:
		return true
	}
	return false
}

func (b *binder) subquery(l *pg.SubLink, s *scope, w windows) Expr {
	q := b.query(l.Subselect.GetSelectStmt(), s)
	if l.SubLinkType == pg.SubLinkType_EXISTS_SUBLINK {
		return &Exists{Query: q}
	}
	if len(b.needs) > 0 && len(q.Columns) == 0 {
		return &Literal{}
	}
	if b.exact {
		return b.exactSubquery(l, q, s, w)
	}
	if len(q.Columns) != 1 && len(b.needs) == 0 {
		b.failAs(l.Location, Mismatch, "42601", "a sub-query here gives one column, not %d", len(q.Columns))
	}
	switch l.SubLinkType {
	case pg.SubLinkType_EXPR_SUBLINK:
		if len(q.Columns) == 0 {
			return &Literal{}
		}
		return &Scalar{q}
	case pg.SubLinkType_ANY_SUBLINK:
		if op := texts(l.OperName); len(op) > 0 && op[0] != "=" {
			b.unsupported(l.Location, op[0]+" ANY")
		}
		x := b.exprIn(l.Testexpr, s, w)
		if len(q.Columns) == 0 {
			return &Literal{T: Boolean}
		}
		t, ok := b.unify(x.Type(), q.Columns[0].Type)
		if !ok {
			b.fail(l.Location, Mismatch, "IN cannot take %s and %s; add a cast", x.Type(), q.Columns[0].Type)
		}
		if t != Double {
			b.coerceOutput(q, []Column{{Type: t}})
			x = b.convert(x, t, l.Location)
		}
		return &InQuery{X: b.convertLiteral(x, t, l.Location), Query: q}
	}
	b.unsupported(l.Location, "this kind of sub-query")
	return nil
}
