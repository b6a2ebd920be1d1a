package query

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// A text for a source that has PostgreSQL's types and routines means what it means there:
// operators and calls are found by package sqltype, and written as they are. No value is
// cast but a literal without a type, which gets the one that its place gives it.

// unresolved stops with why an operator or routine is not found.
func (b *binder) unresolved(err error, at int32) {
	var e *sqltype.Error
	if errors.As(err, &e) {
		b.failAs(at, Mismatch, e.SQLState, "%s", e.Text)
	}
	b.fail(at, Mismatch, "%v", err)
}

// operation binds an operator of the source's; l is nil where it stands before its operand.
func (b *binder) operation(op string, l, r Expr, at int32) Expr {
	if l == nil {
		m, err := b.prefix(op, r.Type(), at)
		if err != nil {
			b.unresolved(err, at)
		}
		r = b.convertLiteral(r, m.Args[0], at)
		if n, ok := r.(*Literal); ok && op == "-" {
			switch v := n.Value.(type) {
			case int64:
				if least := map[Type]int64{sqltype.Int2: math.MinInt16, sqltype.Int4: math.MinInt32}[n.T]; v != math.MinInt64 && v != least {
					return &Literal{n.T, -v}
				}
			case string:
				if n.T == sqltype.Numeric && v != "" && v[0] >= '0' && v[0] <= '9' {
					return &Literal{n.T, "-" + v}
				}
			}
		}
		return &Operation{m.Operator, nil, r, m.Result}
	}
	m, err := b.infix(op, l.Type(), r.Type(), at)
	if err != nil {
		b.unresolved(err, at)
	}
	return &Operation{m.Operator, b.convertLiteral(l, m.Args[0], at), b.convertLiteral(r, m.Args[1], at), m.Result}
}

// infix finds the operator that stands between two operands.
func (b *binder) infix(op string, l, r Type, at int32) (*sqltype.Match, error) {
	return b.anyOperator(op, ofExtension(l) || ofExtension(r), at, func(own ...*sqltype.Operator) (*sqltype.Match, error) {
		return sqltype.Binary(op, l, r, own...)
	})
}

// prefix finds the operator that stands before an operand.
func (b *binder) prefix(op string, x Type, at int32) (*sqltype.Match, error) {
	return b.anyOperator(op, ofExtension(x), at, func(own ...*sqltype.Operator) (*sqltype.Match, error) {
		return sqltype.Prefix(op, x, own...)
	})
}

// anyOperator finds an operator among PostgreSQL's and, where an operand is of an extension's type or there is none, among the
// source's own as well. So nothing that is made in a database changes what an operator of PostgreSQL's types, enums, ranges
// or composites means.
func (b *binder) anyOperator(op string, ofExtension bool, at int32, find func(own ...*sqltype.Operator) (*sqltype.Match, error)) (*sqltype.Match, error) {
	if !ofExtension {
		if m, err := find(); err == nil {
			return m, nil
		}
	}
	own, by := b.ownOperators(op)
	m, err := find(own...)
	if err != nil || !m.Operator.Own() {
		return m, err
	}
	for _, o := range own {
		if o != m.Operator && o.Left == m.Operator.Left && o.Right == m.Operator.Right {
			b.failAs(at, Mismatch, "42725", "operator is not unique: %s is in several schemas", op)
		}
	}
	if routine := by[m.Operator]; routine != nil {
		b.callsOwn(routine)
	}
	return m, nil
}

// ofExtension reports whether a type, or that of an array's elements, is one that an extension has made.
func ofExtension(t Type) bool {
	if t != nil && t.Elem != nil {
		t = t.Elem
	}
	return t != nil && t.OID == 0 && t.Kind == sqltype.Base
}

// ownOperators are the operators of a name that are the source's own.
type ownOperators struct {
	list []*sqltype.Operator
	by   map[*sqltype.Operator]*access.Object
}

// ownOperators lists the operators of a name that are the source's own, with the routines that they call: which takes EXECUTE,
// unless it is code of an extension that reads no tables. Of those behind a shut door there are none.
func (b *binder) ownOperators(op string) (list []*sqltype.Operator, by map[*sqltype.Operator]*access.Object) {
	if b.source == 0 {
		return nil, nil
	}
	if known, ok := b.operators[op]; ok {
		return known.list, known.by
	}
	if b.operators == nil {
		b.operators = map[string]ownOperators{}
	}
	defer func() { b.operators[op] = ownOperators{list, by} }()
	by = map[*sqltype.Operator]*access.Object{}
	for _, schema := range b.model.Object(b.source).Children {
		for _, id := range b.model.Object(schema).Children {
			o := b.model.Object(id)
			if o.Kind != access.Routine || o.Missing || !strings.Contains(o.Declared, `"operators":[`) {
				continue
			}
			signature, err := sqltype.ReadSignature(o.Declared)
			if err != nil || !signature.Extension && !b.own && len(b.rights.Resolve(id).Shut) > 0 {
				continue
			}
			if one := signature.Operator(op, b.types.named); one != nil {
				if list = append(list, one); !signature.Extension {
					by[one] = o
				}
			}
		}
	}
	return list, by
}

// native refuses an operator of the source's own where the language has no place for its name.
func (b *binder) native(o *sqltype.Operator, what string, at int32) {
	if o.Own() {
		b.unsupported(at, what+" by an operator of the database's own")
	}
}

// comparison is operation for rows, too.
func (b *binder) comparison(op string, l, r Expr, at int32) Expr {
	left, isRow := l.(*Row)
	right, both := r.(*Row)
	if !isRow || !both {
		return b.operation(op, l, r, at)
	}
	if len(left.List) != len(right.List) {
		b.failAs(at, Mismatch, "42601", "rows that are compared have as many values each: here are %d and %d", len(left.List), len(right.List))
	}
	if !slices.Contains([]string{"=", "<>", "<", "<=", ">", ">="}, op) {
		b.unsupported(at, "the operator "+op+" of rows")
	}
	out := &RowsCompared{op, &Row{}, &Row{}}
	for i := range left.List {
		one, ok := b.comparison(op, left.List[i], right.List[i], at).(*Operation)
		if !ok {
			b.unsupported(at, "a row within a row")
		}
		b.native(one.Op, "a comparison of rows", at)
		out.L.(*Row).List = append(out.L.(*Row).List, one.L)
		out.R.(*Row).List = append(out.R.(*Row).List, one.R)
	}
	return out
}

func (b *binder) exactOperator(e *pg.A_Expr, op string, s *scope, w windows) Expr {
	at := e.Location
	one := func(n *pg.Node) Expr { return b.exprIn(n, s, w) }
	switch e.Kind {
	case pg.A_Expr_Kind_AEXPR_OP:
		if e.Lexpr == nil {
			return b.operation(op, nil, one(e.Rexpr), at)
		}
		if sub := e.Rexpr.GetSubLink(); sub != nil && sub.SubLinkType == pg.SubLinkType_EXPR_SUBLINK && e.Lexpr.GetRowExpr() != nil {
			return b.rowOfQuery(op, one(e.Lexpr), sub, s)
		}
		return b.comparison(op, one(e.Lexpr), one(e.Rexpr), at)
	case pg.A_Expr_Kind_AEXPR_LIKE, pg.A_Expr_Kind_AEXPR_ILIKE, pg.A_Expr_Kind_AEXPR_SIMILAR:
		return b.operation(op, one(e.Lexpr), one(e.Rexpr), at)
	case pg.A_Expr_Kind_AEXPR_OP_ANY, pg.A_Expr_Kind_AEXPR_OP_ALL:
		return b.quantified(op, one(e.Lexpr), one(e.Rexpr), e.Kind == pg.A_Expr_Kind_AEXPR_OP_ALL, at)
	case pg.A_Expr_Kind_AEXPR_DISTINCT:
		return b.distinct("IS NOT", one(e.Lexpr), one(e.Rexpr), at)
	case pg.A_Expr_Kind_AEXPR_NOT_DISTINCT:
		return b.distinct("IS", one(e.Lexpr), one(e.Rexpr), at)
	case pg.A_Expr_Kind_AEXPR_NULLIF:
		l, r := one(e.Lexpr), one(e.Rexpr)
		same, ok := b.operation("=", l, r, at).(*Operation)
		if !ok {
			b.unsupported(at, "this NULLIF")
		}
		b.native(same.Op, "NULLIF", at)
		// The first is taken to what the comparison takes it to, and is of that type.
		given := same.L.Type()
		if to := same.Op.Left; to.Kind != sqltype.Pseudo {
			given = to
		}
		return &Call{Fn: Functions["nullif"], Args: []Expr{same.L, same.R}, T: given}
	case pg.A_Expr_Kind_AEXPR_IN:
		return b.exactList(one(e.Lexpr), e.Rexpr.GetList().GetItems(), op == "<>", s, w, at)
	case pg.A_Expr_Kind_AEXPR_BETWEEN, pg.A_Expr_Kind_AEXPR_NOT_BETWEEN, pg.A_Expr_Kind_AEXPR_BETWEEN_SYM, pg.A_Expr_Kind_AEXPR_NOT_BETWEEN_SYM:
		before := b.cost
		x := one(e.Lexpr)
		bounds := b.exprs(e.Rexpr.GetList().GetItems(), s, w)
		b.copies(4, before)
		within := func(low, high Expr) Expr {
			return logic("AND", b.comparison(">=", x, low, at), b.comparison("<=", x, high, at))
		}
		out := within(bounds[0], bounds[1])
		if e.Kind == pg.A_Expr_Kind_AEXPR_BETWEEN_SYM || e.Kind == pg.A_Expr_Kind_AEXPR_NOT_BETWEEN_SYM {
			out = logic("OR", out, within(bounds[1], bounds[0]))
		}
		if e.Kind == pg.A_Expr_Kind_AEXPR_NOT_BETWEEN || e.Kind == pg.A_Expr_Kind_AEXPR_NOT_BETWEEN_SYM {
			return &Unary{"NOT", out}
		}
		return out
	}
	b.unsupported(at, "this form of "+op)
	return nil
}

// distinct binds IS [NOT] DISTINCT FROM.
func (b *binder) distinct(op string, l, r Expr, at int32) Expr {
	switch same := b.comparison("=", l, r, at).(type) {
	case *Operation:
		b.native(same.Op, "IS DISTINCT FROM", at)
		return &Binary{op, same.L, same.R, Boolean}
	case *RowsCompared:
		return &Binary{op, same.L, same.R, Boolean}
	}
	return nil
}

// quantified binds an operator with ANY or ALL of an array's elements.
func (b *binder) quantified(op string, x, array Expr, all bool, at int32) Expr {
	if array.Type() == nil && x.Type() != nil {
		array = b.convertLiteral(array, x.Type().Array, at)
	}
	if array.Type() == nil || array.Type().Elem == nil {
		b.failAs(at, Mismatch, "42809", "ANY and ALL take an array, not %s", array.Type())
	}
	m, err := b.infix(op, x.Type(), array.Type().Elem, at)
	if err != nil {
		b.unresolved(err, at)
	}
	if m.Result != Boolean {
		b.failAs(at, Mismatch, "42809", "ANY and ALL take an operator that gives a truth value")
	}
	return &Quantified{b.convertLiteral(x, m.Args[0], at), m.Operator, array, all}
}

// exactList binds x IN (…).
func (b *binder) exactList(x Expr, nodes []*pg.Node, not bool, s *scope, w windows, at int32) Expr {
	in := &InList{X: x, Not: not}
	if row, ok := x.(*Row); ok {
		for _, n := range nodes {
			same, ok := b.comparison("=", row, b.exprIn(n, s, w), at).(*RowsCompared)
			if !ok {
				b.fail(locate(n), Mismatch, "a row is compared with rows")
			}
			in.X, in.List = same.L, append(in.List, same.R)
		}
		return in
	}
	kinds := []Type{x.Type()}
	for _, n := range nodes {
		if values, ok := b.setOf(n); ok {
			for _, v := range values {
				in.List = append(in.List, &Literal{Value: v})
			}
			continue
		}
		item := b.exprIn(n, s, w)
		kinds, in.List = append(kinds, item.Type()), append(in.List, item)
	}
	t := sqltype.Common(kinds)
	if t == nil || t.Array == nil {
		t = nil
	}
	if x.Type() == nil {
		in.X = b.convertLiteral(x, pick(t, Text), at)
	}
	isFact := func(n *pg.Node) bool { _, ok := b.setOf(n); return ok }
	return b.fitting(in, slices.ContainsFunc(nodes, isFact), t, at)
}

// fitting gives the values of a list their type. Those of facts that are none of the type
// cannot equal anything and are left out.
func (b *binder) fitting(in *InList, facts bool, t Type, at int32) Expr {
	if facts && t != nil {
		if _, _, known := valueOf("", t); !known {
			in.X, t = &Cast{X: in.X, To: Text}, Text // only the database can read such values
		}
	}
	if t != nil && t.Array != nil && !facts {
		if m, err := b.infix("=", pick(in.X.Type(), t), t, at); err == nil && m.Operator.Own() {
			return b.anyOf(in, m.Operator, at)
		}
	}
	var list []Expr
	for _, item := range in.List {
		if l, ok := item.(*Literal); ok && facts && t != nil && l.T == nil && l.Value != nil {
			if value, fits, _ := valueOf(l.Value.(string), t); fits {
				list = append(list, &Literal{t, value})
			}
			continue
		}
		if t == nil {
			same, ok := b.operation("=", in.X, item, at).(*Operation)
			if !ok {
				b.unsupported(at, "this list")
			}
			b.native(same.Op, "IN", at)
			item = same.R
		}
		list = append(list, b.convertLiteral(item, t, at))
	}
	if t != nil {
		same, ok := b.operation("=", &Literal{T: in.X.Type()}, &Literal{T: t}, at).(*Operation) // or it is refused
		if ok {
			b.native(same.Op, "IN", at)
		}
	}
	in.List = list
	return in
}

// anyOf is IN by an operator of the source's own, for which the language has ANY.
func (b *binder) anyOf(in *InList, equal *sqltype.Operator, at int32) Expr {
	list := make([]Expr, len(in.List))
	for i, item := range in.List {
		list[i] = b.convertLiteral(item, equal.Right, at)
	}
	var out Expr = &Quantified{b.convertLiteral(in.X, equal.Left, at), equal, &Array{list, equal.Right.Array}, false}
	if in.Not {
		out = &Unary{"NOT", out}
	}
	return out
}

var otherDigits = regexp.MustCompile(`^-?\s*([0-9]*_|0[xXoObB])`)

// inDigits refuses a number that is written as servers before version 16 do not read it.
func (b *binder) inDigits(at int32) {
	if at >= 0 && int(at) < len(b.text) && otherDigits.MatchString(b.text[at:]) {
		b.failAs(at, Unsupported, "42601", "a number in another base, or with _ between its digits, is not supported; write it in decimal digits")
	}
}

// exactConstant binds a number, or a bit string, in PostgreSQL's types.
func (b *binder) exactConstant(c *pg.A_Const) Expr {
	switch v := c.Val.(type) {
	case *pg.A_Const_Ival:
		b.inDigits(c.Location)
		return &Literal{sqltype.Int4, int64(v.Ival.Ival)}
	case *pg.A_Const_Fval:
		b.inDigits(c.Location)
		if n, err := strconv.ParseInt(v.Fval.Fval, 10, 64); err == nil {
			if n == math.MinInt32 { // the sign is read with the number
				return &Literal{sqltype.Int4, n}
			}
			return &Literal{sqltype.Int8, n}
		}
		return &Literal{sqltype.Numeric, v.Fval.Fval}
	case *pg.A_Const_Bsval:
		text := v.Bsval.Bsval
		if hex, ok := strings.CutPrefix(strings.ToLower(text), "x"); ok {
			bits := ""
			for _, digit := range hex {
				n, err := strconv.ParseUint(string(digit), 16, 4)
				if err != nil {
					b.failAs(c.Location, Syntax, "22P02", "%q is no hexadecimal digit", string(digit))
				}
				bits += fmt.Sprintf("%04b", n)
			}
			return &Literal{sqltype.Bit, bits}
		}
		bits := strings.TrimPrefix(text, "b")
		if wrong := strings.Trim(bits, "01"); wrong != "" {
			b.failAs(c.Location, Syntax, "22P02", "%q is no binary digit", wrong[:1])
		}
		return &Literal{sqltype.Bit, bits}
	}
	return nil
}

// rowOfQuery binds a comparison of a row with the one row of a sub-query.
func (b *binder) rowOfQuery(op string, x Expr, l *pg.SubLink, s *scope) Expr {
	q := b.query(l.Subselect.GetSelectStmt(), s)
	like := &Row{}
	for _, c := range q.Columns {
		like.List = append(like.List, &Literal{T: c.Type})
	}
	same, ok := b.comparison(op, x, like, l.Location).(*RowsCompared)
	if !ok {
		b.unsupported(l.Location, "this comparison with a sub-query")
	}
	return &RowsCompared{op, same.L, &Scalar{q}}
}

// exactSubquery binds a sub-query in an expression; x is what it is compared with.
func (b *binder) exactSubquery(l *pg.SubLink, q *Query, s *scope, w windows) Expr {
	at := l.Location
	kinds := func() Expr {
		row := &Row{}
		for _, c := range q.Columns {
			row.List = append(row.List, &Literal{T: pick(c.Type, Text)})
		}
		if len(row.List) == 1 {
			return row.List[0]
		}
		return row
	}
	switch l.SubLinkType {
	case pg.SubLinkType_EXPR_SUBLINK:
		if len(q.Columns) != 1 {
			b.failAs(at, Mismatch, "42601", "a sub-query here gives one column, not %d", len(q.Columns))
		}
		return &Scalar{q}
	case pg.SubLinkType_ARRAY_SUBLINK:
		if len(q.Columns) != 1 {
			b.failAs(at, Mismatch, "42601", "a sub-query here gives one column, not %d", len(q.Columns))
		}
		t := pick(q.Columns[0].Type, Text)
		if t.Elem == nil {
			t = t.Array
		}
		return &ArrayQuery{q, t}
	case pg.SubLinkType_ANY_SUBLINK, pg.SubLinkType_ALL_SUBLINK, pg.SubLinkType_ROWCOMPARE_SUBLINK:
		op := "="
		if names := texts(l.OperName); len(names) > 0 {
			op = names[len(names)-1]
		}
		x := b.exprIn(l.Testexpr, s, w)
		if row, ok := x.(*Row); len(q.Columns) == 1 && ok || ok && len(row.List) != len(q.Columns) || !ok && len(q.Columns) != 1 {
			b.failAs(at, Mismatch, "42601", "what is compared with a sub-query has as many values as that has columns: here are %d columns", len(q.Columns))
		}
		switch same := b.comparison(op, x, kinds(), at).(type) {
		case *Operation:
			if x = same.L; same.Op.Own() {
				return &InQuery{x, q, same.Op.Name, l.SubLinkType == pg.SubLinkType_ALL_SUBLINK}
			}
		case *RowsCompared:
			x = same.L
		}
		if l.SubLinkType == pg.SubLinkType_ROWCOMPARE_SUBLINK {
			return &RowsCompared{op, x, &Scalar{q}}
		}
		if op == "=" && l.SubLinkType == pg.SubLinkType_ANY_SUBLINK {
			op = ""
		}
		return &InQuery{x, q, op, l.SubLinkType == pg.SubLinkType_ALL_SUBLINK}
	}
	b.unsupported(at, "this kind of sub-query")
	return nil
}
