package query

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

func (b *binder) constant(c *pg.A_Const) Expr {
	if c.Isnull {
		return &Literal{}
	}
	if b.exact {
		if e := b.exactConstant(c); e != nil {
			return e
		}
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
			if l := b.written(v.Fval.Fval); l != nil {
				return l
			}
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

// A Decimal is a number as it is written, of which nothing is lost.
type Decimal string

func (b *binder) param(p *pg.ParamRef) Expr {
	if p.Number < 1 || int(p.Number) > len(b.params) {
		b.failAs(p.Location, Syntax, "42P02", "$%d has no value: %d were given", p.Number, len(b.params))
	}
	given := b.params[p.Number-1]
	if d, ok := given.(Deferred); ok {
		return b.deferred(d)
	}
	if g, ok := given.(Given); ok {
		return b.given(g, p.Location)
	}
	if b.exact { // the place gives it its type
		switch v := given.(type) {
		case int64:
			given = strconv.FormatInt(v, 10)
		case Decimal:
			given = string(v)
		case float64:
			given = strconv.FormatFloat(v, 'f', -1, 64)
		}
	}
	if v, ok := given.(Decimal); ok {
		x, err := strconv.ParseFloat(string(v), 64)
		if err != nil {
			b.fail(p.Location, Mismatch, "$%d is a number out of range", p.Number)
		}
		given = x
	}
	switch v := given.(type) {
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
	if d, ok := l.Value.(Deferred); ok {
		b.typed(d, to)
		return &Literal{to, d}
	}
	read := parseLiteral
	if b.exact {
		read = parseExact
	}
	value, ok := read(l.Value.(string), to)
	if !ok && b.exact {
		b.unresolved(&sqltype.Error{SQLState: "22P02", Text: fmt.Sprintf("invalid input syntax for type %s: %q", to, l.Value)}, at)
	}
	if !ok {
		b.fail(at, Mismatch, "'%s' is no %s", l.Value, to)
	}
	return &Literal{to, value}
}

// convert takes an expression to a type that unify found for it.
func (b *binder) convert(e Expr, to Type, at int32) Expr {
	e = b.convertLiteral(e, to, at)
	if b.exact {
		return e // the database takes it to the type as it would by itself
	}
	if e.Type() == to || e.Type() == Untyped || to == Untyped {
		return e
	}
	if l, ok := e.(*Literal); ok && to == Double {
		if n, isInt := l.Value.(int64); isInt {
			return &Literal{Double, float64(n)}
		}
	}
	return &Cast{X: e, To: to}
}
