package query

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
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
	if anyExpr(e, isAggregate) {
		b.fail(at, Grouping, "an aggregate function cannot stand in %s", what)
	}
	if anyExpr(e, isWindow) {
		b.fail(at, Grouping, "a window function cannot stand in %s", what)
	}
	b.ungrouped(e, what)
}

// expr binds an expression in which no window function may stand.
func (b *binder) expr(n *pg.Node, s *scope) Expr { return b.exprIn(n, s, nil) }

func (b *binder) exprIn(n *pg.Node, s *scope, w windows) Expr {
	defer b.deeper(locate(n))()
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
		if v.NullTest.Argisrow {
			b.unsupported(locate(n), "a row")
		}
		return &IsNull{b.exprIn(v.NullTest.Arg, s, w), v.NullTest.Nulltesttype == pg.NullTestType_IS_NOT_NULL}
	case *pg.Node_BooleanTest:
		return b.truth(v.BooleanTest, s, w)
	case *pg.Node_CaseExpr:
		return b.caseOf(v.CaseExpr, s, w)
	case *pg.Node_CoalesceExpr:
		return b.call(functions["coalesce"], b.exprs(v.CoalesceExpr.Args, s, w), v.CoalesceExpr.Location)
	case *pg.Node_MinMaxExpr:
		name := strings.ToLower(strings.TrimPrefix(v.MinMaxExpr.Op.String(), "IS_"))
		return b.call(functions[name], b.exprs(v.MinMaxExpr.Args, s, w), v.MinMaxExpr.Location)
	case *pg.Node_TypeCast:
		return b.cast(v.TypeCast, s, w)
	case *pg.Node_SubLink:
		return b.subquery(v.SubLink, s, w)
	case *pg.Node_FuncCall:
		return b.function(v.FuncCall, s, w)
	case *pg.Node_SqlvalueFunction:
		return b.valueFunction(v.SqlvalueFunction)
	case *pg.Node_GroupingFunc:
		return &Call{Fn: grouping, Args: b.exprs(v.GroupingFunc.Args, s, nil), T: Bigint}
	case *pg.Node_RowExpr:
		b.unsupported(locate(n), "a row value")
	case *pg.Node_AArrayExpr:
		b.unsupported(locate(n), "an array")
	}
	b.unsupported(locate(n), fmt.Sprintf("this kind of expression (%s)", statementName(n)))
	return nil
}

func (b *binder) exprs(nodes []*pg.Node, s *scope, w windows) []Expr {
	out := make([]Expr, len(nodes))
	for i, n := range nodes {
		out[i] = b.exprIn(n, s, w)
	}
	return out
}

// column binds a name with one part, or with the alias before it.
func (b *binder) column(ref *pg.ColumnRef, s *scope) Expr {
	names := texts(ref.Fields)
	if ref.Fields[len(names)-1].GetAStar() != nil {
		b.fail(ref.Location, Unsupported, "* cannot stand here")
	}
	if len(names) > 2 {
		// A table's full path before the column: taken where the table is here.
		r := b.relationOf(s, names[:len(names)-1], ref.Location)
		return b.columnOf(r, names[len(names)-1], ref.Location)
	}
	if len(names) == 2 {
		r := b.relationNamed(s, names[0], ref.Location)
		return b.columnOf(r, names[1], ref.Location)
	}
	for at := s; at != nil; at = at.outer {
		if e := b.plainColumn(at, names[0], ref.Location); e != nil {
			b.useAll(e)
			return e
		}
	}
	for at := s; at != nil; at = at.outer {
		if opaque(at) {
			return &Literal{}
		}
		for _, r := range at.relations {
			b.refuseWithheld(r, names[0], ref.Location)
		}
	}
	b.unknownColumn(names[0], s, ref.Location)
	return nil
}

// plainColumn finds a column by its name alone, or returns nil.
func (b *binder) plainColumn(s *scope, name string, at int32) Expr {
	var found Expr
	for _, c := range s.columns {
		if c.name == name {
			if found != nil {
				b.fail(at, Ambiguous, "column %s is in more than one table; write the table's alias before it", access.Quote(name))
			}
			found = c.expr
		}
	}
	return found
}

func (b *binder) relationNamed(s *scope, alias string, at int32) *Relation {
	for scope := s; scope != nil; scope = scope.outer {
		for _, r := range scope.relations {
			if r.Alias == alias {
				return r
			}
		}
	}
	b.fail(at, Unknown, "no table is called %s here; name it in FROM", access.Quote(alias))
	return nil
}

func (b *binder) relationOf(s *scope, parts []string, at int32) *Relation {
	for scope := s; scope != nil; scope = scope.outer {
		for _, r := range scope.relations {
			if r.Table != nil && r.Alias == r.Table.Name && strings.HasSuffix("."+b.model.Path(r.Table.ID), "."+access.JoinPath(parts...)) {
				return r
			}
		}
	}
	b.fail(at, Unknown, "no table is called %s here; name it in FROM", access.JoinPath(parts...))
	return nil
}

func (b *binder) columnOf(r *Relation, name string, at int32) Expr {
	i := -1
	for j, c := range r.Columns {
		if c.Name == name && c.Withheld == policy.Clear {
			if i >= 0 {
				b.fail(at, Ambiguous, "%s has two columns called %s", access.Quote(r.Alias), access.Quote(name))
			}
			i = j
		}
	}
	if i < 0 && r.opaque {
		return &Literal{}
	}
	if i < 0 {
		b.refuseWithheld(r, name, at)
		b.unknownColumn(name, &scope{relations: []*Relation{r}, columns: columnsOf(r)}, at)
	}
	e := &ColumnRef{r, i}
	b.use(e)
	return e
}

// refuseWithheld stops where a name is that of a column which may not be named.
func (b *binder) refuseWithheld(r *Relation, name string, at int32) {
	for _, c := range r.Columns {
		if c.Name == name && c.Withheld == policy.Refuse {
			b.fail(at, Refused, "column %s is withheld from you", access.Quote(name))
		}
	}
}

func (b *binder) unknownColumn(name string, s *scope, at int32) {
	line, col := place(b.text, at)
	e := &Error{Code: Unknown, Text: "there is no column " + access.Quote(name) + " here", Line: line, Col: col, Name: access.Quote(name)}
	for _, c := range s.columns {
		if ref, ok := c.expr.(*ColumnRef); !ok || b.readable(ref) {
			e.Near = append(e.Near, access.Quote(c.name))
		}
	}
	panic(e)
}

func (b *binder) constant(c *pg.A_Const) Expr {
	if c.Isnull {
		return &Literal{}
	}
	switch v := c.Val.(type) {
	case *pg.A_Const_Ival:
		return &Literal{Bigint, int64(v.Ival.Ival)}
	case *pg.A_Const_Fval:
		// The grammar gives whole numbers past 32 bits as text, too.
		if n, err := strconv.ParseInt(v.Fval.Fval, 10, 64); err == nil {
			return &Literal{Bigint, n}
		}
		if x, err := strconv.ParseFloat(v.Fval.Fval, 64); err == nil && !math.IsInf(x, 0) {
			return &Literal{Double, x}
		}
		b.fail(c.Location, Mismatch, "the number %s is too large", v.Fval.Fval)
	case *pg.A_Const_Boolval:
		return &Literal{Boolean, v.Boolval.Boolval}
	case *pg.A_Const_Sval:
		if strings.IndexByte(v.Sval.Sval, 0) >= 0 {
			b.unsupported(c.Location, "a NUL character in a text")
		}
		return &Literal{Untyped, v.Sval.Sval}
	}
	b.unsupported(c.Location, "this kind of constant")
	return nil
}

func (b *binder) param(p *pg.ParamRef) Expr {
	if p.Number < 1 || int(p.Number) > len(b.params) {
		b.fail(p.Location, Unknown, "$%d has no value: %d were given", p.Number, len(b.params))
	}
	switch v := b.params[p.Number-1].(type) {
	case nil:
		return &Literal{}
	case bool:
		return &Literal{Boolean, v}
	case int64:
		return &Literal{Bigint, v}
	case float64:
		if v == math.Trunc(v) && math.Abs(v) < 1<<53 {
			return &Literal{Bigint, int64(v)} // JSON has one kind of number
		}
		return &Literal{Double, v}
	case string:
		return &Literal{Untyped, v}
	}
	b.fail(p.Location, Mismatch, "$%d must be a text, a number, a truth value or null", p.Number)
	return nil
}

// convertLiteral gives an untyped literal the type; other expressions stay.
func (b *binder) convertLiteral(e Expr, to Type, at int32) Expr {
	l, ok := e.(*Literal)
	if !ok || l.T != Untyped {
		return e
	}
	if l.Value == nil || to == Untyped {
		return &Literal{to, l.Value}
	}
	value, ok := parseLiteral(l.Value.(string), to)
	if !ok {
		b.fail(at, Mismatch, "'%s' is no %s", l.Value, to)
	}
	return &Literal{to, value}
}

// convert takes an expression to a type that unify found for it.
func (b *binder) convert(e Expr, to Type, at int32) Expr {
	e = b.convertLiteral(e, to, at)
	if e.Type() == to || e.Type() == Untyped || to == Untyped {
		return e
	}
	if l, ok := e.(*Literal); ok && to == Double {
		if n, isInt := l.Value.(int64); isInt {
			return &Literal{Double, float64(n)}
		}
	}
	return &Cast{e, to}
}

func (b *binder) together(l, r Expr, op string, at int32) (Expr, Expr, Type) {
	t, ok := unify(l.Type(), r.Type())
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
	l, r, _ = b.together(l, r, op, at)
	return &Binary{op, l, r, Boolean}
}

func (b *binder) operator(e *pg.A_Expr, s *scope, w windows) Expr {
	names := texts(e.Name)
	op, at := names[len(names)-1], e.Location
	if len(names) > 1 {
		b.unsupported(at, "an operator of a schema")
	}
	switch e.Kind {
	case pg.A_Expr_Kind_AEXPR_IN:
		return b.inList(b.exprIn(e.Lexpr, s, w), e.Rexpr.GetList().GetItems(), op == "<>", s, w, at)
	case pg.A_Expr_Kind_AEXPR_BETWEEN, pg.A_Expr_Kind_AEXPR_NOT_BETWEEN:
		x := b.exprIn(e.Lexpr, s, w)
		bounds := b.exprs(e.Rexpr.GetList().GetItems(), s, w)
		between := &Binary{"AND", b.compare(">=", x, bounds[0], at), b.compare("<=", x, bounds[1], at), Boolean}
		if e.Kind == pg.A_Expr_Kind_AEXPR_NOT_BETWEEN {
			return &Unary{"NOT", between}
		}
		return between
	case pg.A_Expr_Kind_AEXPR_NULLIF:
		return b.call(functions["nullif"], []Expr{b.exprIn(e.Lexpr, s, w), b.exprIn(e.Rexpr, s, w)}, at)
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
	if op != "-" && op != "+" || !x.Type().numeric() && x.Type() != Untyped {
		b.fail(at, Mismatch, "the sign %s cannot stand before %s", op, x.Type())
	}
	if op == "+" {
		return x
	}
	if l, ok := x.(*Literal); ok {
		switch v := l.Value.(type) {
		case int64:
			return &Literal{Bigint, -v}
		case float64:
			return &Literal{Double, -v}
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
			if !to.numeric() {
				to = Double
			}
			e = b.convertLiteral(e, to, at)
		}
		if !e.Type().numeric() && e.Type() != Untyped {
			b.fail(at, Mismatch, "%s cannot take %s", op, e.Type())
		}
		return e
	}
	l, r = numeric(l, r), numeric(r, l)
	t, _ := unify(l.Type(), r.Type())
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
			return &Cast{e, Text}
		}
		b.fail(at, Mismatch, "|| cannot take %s; add a cast", e.Type())
		return nil
	}
	b.growth += 2
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
		common, ok := unify(t, item.Type())
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
	if !fixed {
		b.fenced = true // a pattern that is too long is an error
	} else if s, ok := pattern.Value.(string); ok && (len(s)-len(strings.TrimRight(s, `\`)))%2 == 1 {
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
		all = logic(op, all, x)
	}
	return all
}

// logic joins two conditions by AND or OR. Constants, into which facts are
// folded, are worked out here, so that they cost the database nothing; that
// x OR TRUE is TRUE and x AND TRUE is x holds for an unknown x too.
func logic(op string, l, r Expr) Expr {
	for _, pair := range [][2]Expr{{l, r}, {r, l}} {
		if c, ok := pair[0].(*Literal); ok && c.Value != nil {
			if c.Value == (op == "OR") {
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

func (b *binder) caseOf(c *pg.CaseExpr, s *scope, w windows) Expr {
	out := &Case{}
	var operand Expr
	if c.Arg != nil {
		operand = b.exprIn(c.Arg, s, w)
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
	t := Untyped
	for _, e := range list {
		next, ok := unify(t, e.Type())
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

func (b *binder) cast(c *pg.TypeCast, s *scope, w windows) Expr {
	at := locate(c.Arg)
	names := texts(c.TypeName.Names)
	name := names[len(names)-1]
	to, ok := castNames[name]
	if !ok || len(c.TypeName.ArrayBounds) > 0 || c.TypeName.Setof || c.TypeName.PctType {
		b.fail(c.TypeName.Location, Unsupported, "the type %s is not supported; there are boolean, bigint, double precision, text, date and timestamp", name)
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
	return &Cast{x, to}
}

func castable(from, to Type) bool {
	switch {
	case from == to, to == Text, from == Text, from == Untyped:
		return true
	case from.numeric() && to.numeric():
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
	if len(q.Columns) != 1 && len(b.needs) == 0 {
		b.fail(l.Location, Mismatch, "a sub-query here gives one column, not %d", len(q.Columns))
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
		t, ok := unify(x.Type(), q.Columns[0].Type)
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
