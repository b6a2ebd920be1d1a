package catalog

import (
	"math"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

// operator compiles an operator, and what the grammar writes as one.
func (c *compiler) operator(x *pg.A_Expr, s *scope) *expr {
	at := x.Location
	op := ""
	if len(x.Name) > 0 {
		op = x.Name[len(x.Name)-1].GetString_().GetSval()
	}
	switch x.Kind {
	case pg.A_Expr_Kind_AEXPR_OP:
		if x.Lexpr == nil {
			arg := c.expr(x.Rexpr, s)
			return over(arg.t, func(v *env) value {
				switch n := arg.at(v).(type) {
				case int64:
					if op == "-" {
						return -n
					}
					return n
				case float64:
					if op == "-" {
						return -n
					}
					return n
				}
				return nil
			}, arg)
		}
		return c.binary(op, c.expr(x.Lexpr, s), c.expr(x.Rexpr, s), at)
	case pg.A_Expr_Kind_AEXPR_LIKE, pg.A_Expr_Kind_AEXPR_ILIKE:
		return c.binary(op, c.expr(x.Lexpr, s), c.expr(x.Rexpr, s), at)
	case pg.A_Expr_Kind_AEXPR_OP_ANY, pg.A_Expr_Kind_AEXPR_OP_ALL:
		return c.anyOf(op, c.expr(x.Lexpr, s), c.expr(x.Rexpr, s), x.Kind == pg.A_Expr_Kind_AEXPR_OP_ALL, at)
	case pg.A_Expr_Kind_AEXPR_IN:
		l := c.expr(x.Lexpr, s)
		var out *expr
		for _, n := range x.Rexpr.GetList().GetItems() {
			same := c.binary("=", l, c.expr(n, s), at)
			if out == nil {
				out = same
			} else {
				out = either(out, same)
			}
		}
		if op == "<>" {
			return negated(out)
		}
		return out
	case pg.A_Expr_Kind_AEXPR_DISTINCT, pg.A_Expr_Kind_AEXPR_NOT_DISTINCT:
		l, r := c.expr(x.Lexpr, s), c.expr(x.Rexpr, s)
		same := c.binary("=", l, r, at)
		not := x.Kind == pg.A_Expr_Kind_AEXPR_DISTINCT
		return over(tBool, func(v *env) value {
			switch a, b := l.at(v) == nil, r.at(v) == nil; {
			case a && b:
				return !not
			case a || b:
				return not
			}
			return (same.at(v) == true) != not
		}, l, r)
	case pg.A_Expr_Kind_AEXPR_NULLIF:
		l, r := c.expr(x.Lexpr, s), c.expr(x.Rexpr, s)
		same := c.binary("=", l, r, at)
		return over(l.t, func(v *env) value {
			if same.at(v) == true {
				return nil
			}
			return l.at(v)
		}, l, r)
	case pg.A_Expr_Kind_AEXPR_BETWEEN, pg.A_Expr_Kind_AEXPR_NOT_BETWEEN:
		l := c.expr(x.Lexpr, s)
		bounds := x.Rexpr.GetList().GetItems()
		within := both(c.binary(">=", l, c.expr(bounds[0], s), at), c.binary("<=", l, c.expr(bounds[1], s), at))
		if x.Kind == pg.A_Expr_Kind_AEXPR_NOT_BETWEEN {
			return negated(within)
		}
		return within
	}
	fail("0A000", at, "this form of an operator is not there in questions about the catalog")
	return nil
}

func either(l, r *expr) *expr {
	return over(tBool, func(v *env) value {
		a := l.at(v)
		if a == true {
			return true
		}
		b := r.at(v)
		if b == true {
			return true
		}
		if a == nil || b == nil {
			return nil
		}
		return false
	}, l, r)
}

func both(l, r *expr) *expr { return negated(either(negated(l), negated(r))) }

func negated(e *expr) *expr {
	return over(tBool, func(v *env) value {
		if b, ok := e.at(v).(bool); ok {
			return !b
		}
		return nil
	}, e)
}

// anyOf compiles an operator with ANY or ALL of an array.
func (c *compiler) anyOf(op string, l, r *expr, all bool, at int32) *expr {
	if r.t == nil && l.t != nil {
		r = c.typed(r, l.t.Array, at)
	}
	if r.t != nil && l.t == nil {
		l = c.typed(l, r.t.Elem, at)
	}
	return over(tBool, func(v *env) value {
		x := l.at(v)
		list, ok := r.at(v).(*array)
		if !ok {
			return nil
		}
		unknown := false
		for _, item := range list.items {
			switch got := v.q.operate(op, x, item); {
			case got == nil:
				unknown = true
			case got.(bool) != all:
				return !all
			}
		}
		if unknown {
			return nil
		}
		return all
	}, l, r)
}

// binary compiles an operator between two operands.
func (c *compiler) binary(op string, l, r *expr, at int32) *expr {
	switch op {
	case "~", "!~", "~*", "!~*", "~~", "!~~", "~~*", "!~~*", "^@":
		l, r = c.typed(l, tText, at), c.typed(r, tText, at)
		return over(tBool, func(v *env) value { return v.q.operate(op, asText(v, l), asText(v, r)) }, l, r)
	}
	if l.t == nil && r.t != nil {
		l = c.typed(l, r.t, at)
	} else if r.t == nil && l.t != nil {
		r = c.typed(r, l.t, at)
	}
	l, r = c.alike(l, r, at)
	t := tBool
	switch op {
	case "=", "<>", "!=", "<", "<=", ">", ">=", "@>", "<@", "&&", "?":
	case "||":
		if t = tText; l.t != nil && l.t.Elem != nil {
			t = l.t
		} else if r.t != nil && r.t.Elem != nil {
			t = r.t
		} else {
			return over(t, func(v *env) value { return v.q.operate(op, asText(v, l), asText(v, r)) }, l, r)
		}
	case "+", "-", "*", "/", "%", "&", "|", "#", "<<", ">>", "^":
		t = wider(l.t, r.t)
	case "->>", "#>>":
		t = tText
	default:
		fail("42883", at, "operator does not exist: %s %s %s", l.t, op, r.t)
	}
	return over(t, func(v *env) value { return v.q.operate(op, l.at(v), r.at(v)) }, l, r)
}

// alike takes a text and what is none to one type, where they are compared.
func (c *compiler) alike(l, r *expr, at int32) (*expr, *expr) {
	if l.t == nil || r.t == nil {
		return l, r
	}
	texty := func(t *sqltype.Type) bool { return t.Textual() || t.OID == 18 }
	switch {
	case texty(l.t) && registered(r.t):
		to := r.t
		return over(to, func(v *env) value { return v.q.cast(l.at(v), tText, to, at) }, l), r
	case registered(l.t) && texty(r.t):
		to := l.t
		return l, over(to, func(v *env) value { return v.q.cast(r.at(v), tText, to, at) }, r)
	}
	return l, r
}

func asText(v *env, e *expr) value {
	x := e.at(v)
	if x == nil {
		return nil
	}
	if text, ok := x.(string); ok {
		return text
	}
	return v.q.cast(x, e.t, tText, -1)
}

func wider(l, r *sqltype.Type) *sqltype.Type {
	rank := func(t *sqltype.Type) int {
		switch t {
		case tInt2:
			return 1
		case tInt4:
			return 2
		case tInt8, tOID:
			return 3
		case tNumeric:
			return 4
		}
		return 5
	}
	if l == nil || r == nil {
		return tInt8
	}
	if rank(l) >= rank(r) {
		return l
	}
	return r
}

// operate works an operator out.
func (q *run) operate(op string, a, b value) value {
	q.step()
	if a == nil || b == nil {
		return nil
	}
	switch op {
	case "=":
		return q.compare(a, b) == 0
	case "<>", "!=":
		return q.compare(a, b) != 0
	case "<":
		return q.compare(a, b) < 0
	case "<=":
		return q.compare(a, b) <= 0
	case ">":
		return q.compare(a, b) > 0
	case ">=":
		return q.compare(a, b) >= 0
	}
	switch x := a.(type) {
	case string:
		if y, ok := b.(string); ok {
			return q.textual(op, x, y)
		}
	case *array:
		return q.lists(op, x, b)
	case int64:
		if y, ok := b.(int64); ok {
			return q.whole(op, x, y)
		}
		if y, ok := b.(float64); ok {
			return q.floating(op, float64(x), y)
		}
	case float64:
		switch y := b.(type) {
		case float64:
			return q.floating(op, x, y)
		case int64:
			return q.floating(op, x, float64(y))
		}
	}
	if y, ok := b.(*array); ok && op == "||" {
		return listOf(append([]value{a}, y.items...)...)
	}
	fail("42883", -1, "operator does not exist for these operands: %s", op)
	return nil
}

func (q *run) textual(op, x, y string) value {
	switch op {
	case "||":
		if len(x)+len(y) > mostText {
			fail("54000", -1, "a text is longer than %d bytes", mostText)
		}
		return x + y
	case "~", "!~", "~*", "!~*":
		return q.pattern(y, strings.HasSuffix(op, "*")).MatchString(x) != (op[0] == '!')
	case "~~", "!~~", "~~*", "!~~*":
		return like(x, y, strings.HasSuffix(op, "*")) != (op[0] == '!')
	case "^@":
		return strings.HasPrefix(x, y)
	}
	fail("42883", -1, "operator does not exist: text %s text", op)
	return nil
}

func (q *run) whole(op string, x, y int64) value {
	switch op {
	case "+":
		return x + y
	case "-":
		return x - y
	case "*":
		return x * y
	case "/", "%":
		if y == 0 {
			fail("22012", -1, "division by zero")
		}
		if op == "/" {
			return x / y
		}
		return x % y
	case "&":
		return x & y
	case "|":
		return x | y
	case "#":
		return x ^ y
	case "<<":
		return x << (uint64(y) & 63)
	case ">>":
		return x >> (uint64(y) & 63)
	}
	return q.floating(op, float64(x), float64(y))
}

func (q *run) floating(op string, x, y float64) value {
	switch op {
	case "+":
		return x + y
	case "-":
		return x - y
	case "*":
		return x * y
	case "/":
		if y == 0 {
			fail("22012", -1, "division by zero")
		}
		return x / y
	case "^":
		return math.Pow(x, y)
	}
	fail("42883", -1, "operator does not exist for numbers: %s", op)
	return nil
}

func (q *run) lists(op string, x *array, b value) value {
	y, ok := b.(*array)
	has := func(list *array, item value) bool {
		for _, one := range list.items {
			if one != nil && item != nil && q.compare(one, item) == 0 {
				return true
			}
		}
		return false
	}
	switch {
	case op == "||" && ok:
		return listOf(append(append([]value{}, x.items...), y.items...)...)
	case op == "||":
		return listOf(append(append([]value{}, x.items...), b)...)
	case ok && op == "@>", ok && op == "<@":
		if op == "<@" {
			x, y = y, x
		}
		for _, item := range y.items {
			if !has(x, item) {
				return false
			}
		}
		return true
	case ok && op == "&&":
		for _, item := range y.items {
			if has(x, item) {
				return true
			}
		}
		return false
	}
	fail("42883", -1, "operator does not exist for arrays: %s", op)
	return nil
}
