package query

import (
	"math/big"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
)

func (b *binder) together(l, r Expr, op string, at int32) (Expr, Expr, Type) {
	t, ok := b.unify(l.Type(), r.Type())
	if !ok {
		b.fail(at, Mismatch, "%s cannot take %s and %s; add a cast", op, l.Type(), r.Type())
	}
	if t == Untyped {
		t = Text
	}
	// Whole numbers and others compare as they are.
	if t == Double {
		return b.convertLiteral(l, t, at), b.convertLiteral(r, t, at), t
	}
	return b.convert(l, t, at), b.convert(r, t, at), t
}

func (b *binder) compare(op string, l, r Expr, at int32) Expr {
	if b.exact {
		return b.comparison(op, l, r, at)
	}
	l, r, _ = b.together(l, r, op, at)
	return &Binary{op, l, r, Boolean}
}

func (b *binder) operator(e *pg.A_Expr, s *scope, w windows) Expr {
	names := texts(e.Name)
	op, at := names[len(names)-1], e.Location
	if len(names) > 1 && (!b.exact || names[0] != "pg_catalog") {
		b.unsupported(at, "an operator of a schema")
	}
	if b.exact {
		return b.exactOperator(e, op, s, w)
	}
	switch e.Kind {
	case pg.A_Expr_Kind_AEXPR_IN:
		return b.inList(b.exprIn(e.Lexpr, s, w), e.Rexpr.GetList().GetItems(), op == "<>", s, w, at)
	case pg.A_Expr_Kind_AEXPR_BETWEEN, pg.A_Expr_Kind_AEXPR_NOT_BETWEEN:
		before := b.cost
		x := b.exprIn(e.Lexpr, s, w)
		b.copies(2, before)
		bounds := b.exprs(e.Rexpr.GetList().GetItems(), s, w)
		between := &Binary{"AND", b.compare(">=", x, bounds[0], at), b.compare("<=", x, bounds[1], at), Boolean}
		if e.Kind == pg.A_Expr_Kind_AEXPR_NOT_BETWEEN {
			return &Unary{"NOT", between}
		}
		return between
	case pg.A_Expr_Kind_AEXPR_NULLIF:
		return b.call(Functions["nullif"], []Expr{b.exprIn(e.Lexpr, s, w), b.exprIn(e.Rexpr, s, w)}, at)
	case pg.A_Expr_Kind_AEXPR_LIKE, pg.A_Expr_Kind_AEXPR_ILIKE:
		return b.like(e, strings.HasPrefix(op, "!"), s, w)
	case pg.A_Expr_Kind_AEXPR_DISTINCT:
		return b.compare("IS NOT", b.exprIn(e.Lexpr, s, w), b.exprIn(e.Rexpr, s, w), at)
	case pg.A_Expr_Kind_AEXPR_NOT_DISTINCT:
		return b.compare("IS", b.exprIn(e.Lexpr, s, w), b.exprIn(e.Rexpr, s, w), at)
	case pg.A_Expr_Kind_AEXPR_OP:
	default:
		b.unsupported(at, "this form of "+op)
	}
	if e.Lexpr == nil {
		return b.sign(op, b.exprIn(e.Rexpr, s, w), at)
	}
	if (op == "+" || op == "-") && isInterval(e.Rexpr) {
		return b.shift(b.exprIn(e.Lexpr, s, w), e.Rexpr, map[string]int64{"+": 1, "-": -1}[op], at)
	}
	l, r := b.exprIn(e.Lexpr, s, w), b.exprIn(e.Rexpr, s, w)
	switch op {
	case "=", "<>", "<", "<=", ">", ">=":
		return b.compare(op, l, r, at)
	case "+", "-", "*", "/", "%":
		return b.arithmetic(op, l, r, at)
	case "||":
		return b.concat(l, r, at)
	}
	b.unsupported(at, "the operator "+op)
	return nil
}

func (b *binder) sign(op string, x Expr, at int32) Expr {
	x = b.convertLiteral(x, Double, at)
	if op != "-" && op != "+" || !x.Type().Number() && x.Type() != Untyped {
		b.fail(at, Mismatch, "the sign %s cannot stand before %s", op, x.Type())
	}
	if op == "+" {
		return x
	}
	if l, ok := x.(*Literal); ok {
		if r := b.fraction(l); r != nil {
			return b.decimal(l.T, new(big.Rat).Neg(r))
		}
	}
	return &Unary{"-", x}
}

// arithmetic binds + - * / % of numbers, date ± days, and date - date in days.
func (b *binder) arithmetic(op string, l, r Expr, at int32) Expr {
	switch {
	case l.Type() == Date && r.Type() == Bigint && (op == "+" || op == "-"):
		return &Binary{"date" + op, l, r, Date}
	case l.Type() == Date && r.Type() == Date && op == "-":
		return &Binary{"days", l, r, Bigint}
	}
	numeric := func(e, other Expr) Expr {
		if e.Type() == Untyped {
			to := other.Type()
			if !to.Number() {
				to = Double
			}
			e = b.convertLiteral(e, to, at)
		}
		if !e.Type().Number() && e.Type() != Untyped {
			b.fail(at, Mismatch, "%s cannot take %s", op, e.Type())
		}
		return e
	}
	l, r = numeric(l, r), numeric(r, l)
	t, _ := b.unify(l.Type(), r.Type())
	if folded := b.folded(op, l, r, t); folded != nil {
		return folded
	}
	if op == "%" && t == Double {
		b.fail(at, Mismatch, "%% takes whole numbers")
	}
	return &Binary{op, l, r, t}
}

func (b *binder) concat(l, r Expr, at int32) Expr {
	text := func(e Expr) Expr {
		switch e.Type() {
		case Text, Untyped:
			return b.convertLiteral(e, Text, at)
		case Bigint, Date, Timestamp:
			return &Cast{X: e, To: Text}
		}
		b.fail(at, Mismatch, "|| cannot take %s; add a cast", e.Type())
		return nil
	}
	return &Binary{"||", text(l), text(r), Text}
}

// inList binds x IN (…). attribute(…) and team() in the list stand for all their
// values.
func (b *binder) inList(x Expr, nodes []*pg.Node, not bool, s *scope, w windows, at int32) Expr {
	in := &InList{Not: not}
	var items []Expr
	t := x.Type()
	for _, n := range nodes {
		if values, ok := b.setOf(n); ok {
			items = append(items, b.valueList(values, t)...)
			continue
		}
		item := b.exprIn(n, s, w)
		common, ok := b.unify(t, item.Type())
		if !ok {
			b.fail(locate(n), Mismatch, "IN cannot take %s and %s; add a cast", t, item.Type())
		}
		t = common
		items = append(items, item)
	}
	if t == Untyped {
		t = Text
	}
	convert := b.convert
	if t == Double {
		convert = b.convertLiteral
	}
	for i, item := range items {
		items[i] = convert(item, t, at)
	}
	in.X, in.List = convert(x, t, at), items
	return in
}

// MostPattern bounds the pattern of a LIKE, in bytes: one that is long is matched in a
// time that grows with the product of both lengths. One that is worked out for each
// row may have a quarter of that in characters; of a longer one the LIKE is NULL.
const MostPattern = 2000

func (b *binder) like(e *pg.A_Expr, not bool, s *scope, w windows) Expr {
	if e.Rexpr.GetFuncCall() != nil && slices.Contains(texts(e.Rexpr.GetFuncCall().Funcname), "like_escape") {
		b.unsupported(e.Location, "ESCAPE")
	}
	l := b.convertLiteral(b.exprIn(e.Lexpr, s, w), Text, e.Location)
	r := b.convertLiteral(b.exprIn(e.Rexpr, s, w), Text, e.Location)
	for _, x := range []Expr{l, r} {
		if x.Type() != Text && x.Type() != Untyped {
			b.fail(e.Location, Mismatch, "LIKE takes text, not %s", x.Type())
		}
	}
	pattern, fixed := r.(*Literal)
	if s, ok := ValueOf(pattern).(string); fixed && ok && len(s) > MostPattern {
		b.fail(e.Location, Unsupported, "the pattern of LIKE is longer than %d bytes", MostPattern)
	} else if fixed && ok && (len(s)-len(strings.TrimRight(s, `\`)))%2 == 1 {
		b.fail(e.Location, Mismatch, `the pattern of LIKE ends in \, which escapes the next character; write \\ for the sign itself`)
	}
	return &Like{l, r, not, e.Kind == pg.A_Expr_Kind_AEXPR_ILIKE}
}

func (b *binder) boolean(e *pg.BoolExpr, s *scope, w windows) Expr {
	var args []Expr
	for _, n := range e.Args {
		x := b.convertLiteral(b.exprIn(n, s, w), Boolean, locate(n))
		if x.Type() != Boolean && x.Type() != Untyped {
			b.fail(locate(n), Mismatch, "AND, OR and NOT take truth values, not %s", x.Type())
		}
		args = append(args, x)
	}
	if e.Boolop == pg.BoolExprType_NOT_EXPR {
		return &Unary{"NOT", args[0]}
	}
	op := "AND"
	if e.Boolop == pg.BoolExprType_OR_EXPR {
		op = "OR"
	}
	all := args[0]
	for _, x := range args[1:] {
		if b.exact && !b.own { // the server works both out, and an error in one of them counts
			all = &Binary{op, all, x, Boolean}
		} else {
			all = logic(op, all, x)
		}
	}
	return all
}

// logic joins two conditions by AND or OR. Constants, into which facts are
// folded, are worked out here, so that they cost the database nothing; that
// x OR TRUE is TRUE and x AND TRUE is x holds for an unknown x too.
func logic(op string, l, r Expr) Expr {
	for _, pair := range [][2]Expr{{l, r}, {r, l}} {
		c, ok := pair[0].(*Literal)
		if truth, known := ValueOf(c).(bool); ok && known {
			if truth == (op == "OR") {
				return c
			}
			return pair[1]
		}
	}
	return &Binary{op, l, r, Boolean}
}

// truth binds IS [NOT] TRUE, FALSE and UNKNOWN.
func (b *binder) truth(t *pg.BooleanTest, s *scope, w windows) Expr {
	x := b.convertLiteral(b.exprIn(t.Arg, s, w), Boolean, locate(t.Arg))
	if x.Type() != Boolean && x.Type() != Untyped {
		b.fail(locate(t.Arg), Mismatch, "IS TRUE takes a truth value, not %s", x.Type())
	}
	switch t.Booltesttype {
	case pg.BoolTestType_IS_TRUE:
		return &Binary{"IS", x, &Literal{Boolean, true}, Boolean}
	case pg.BoolTestType_IS_NOT_TRUE:
		return &Binary{"IS NOT", x, &Literal{Boolean, true}, Boolean}
	case pg.BoolTestType_IS_FALSE:
		return &Binary{"IS", x, &Literal{Boolean, false}, Boolean}
	case pg.BoolTestType_IS_NOT_FALSE:
		return &Binary{"IS NOT", x, &Literal{Boolean, false}, Boolean}
	case pg.BoolTestType_IS_UNKNOWN:
		return &IsNull{x, false}
	case pg.BoolTestType_IS_NOT_UNKNOWN:
		return &IsNull{x, true}
	}
	b.unsupported(locate(t.Arg), "this test")
	return nil
}
