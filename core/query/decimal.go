package query

import (
	"math"
	"math/big"
	"strings"
)

// Numbers that are written in a text of the shared language are exact for as long as they meet
// each other alone: 0.06 - 0.01 is 0.05. Where they meet a column they are what the column is.

// mostDigits bounds the digits of a fraction that is kept exactly.
const mostDigits = 400

// fraction is the exact value of a number that is written, or of what was reckoned of such; nil:
// the literal is none.
func (b *binder) fraction(l *Literal) *big.Rat {
	if r, ok := b.fractions[l]; ok {
		return r
	}
	if n, ok := l.Value.(int64); ok && l.T == Bigint {
		return new(big.Rat).SetInt64(n)
	}
	return nil
}

// decimal is the literal of an exact value: a whole number where t is Bigint and it is one of
// 64 bits, else the nearest double.
func (b *binder) decimal(t Type, r *big.Rat) Expr {
	if t == Bigint && r.IsInt() && r.Num().IsInt64() {
		return &Literal{Bigint, r.Num().Int64()}
	}
	x, _ := r.Float64() // the nearest
	l := &Literal{Double, x}
	if b.fractions == nil {
		b.fractions = map[*Literal]*big.Rat{}
	}
	b.fractions[l] = r
	return l
}

// written is the literal of a number as it is written; nil: it is none, or too long.
func (b *binder) written(text string) Expr {
	if len(text) > mostDigits || strings.ContainsAny(text, "xXoO_") {
		return nil
	}
	if r, ok := new(big.Rat).SetString(text); ok && len(r.Num().String())+len(r.Denom().String()) <= 2*mostDigits {
		return b.decimal(Double, r)
	}
	return nil
}

// folded reckons with two numbers that are written, of which one is a fraction; nil: it is for
// the database to do.
func (b *binder) folded(op string, l, r Expr, t Type) Expr {
	left, ok := l.(*Literal)
	right, both := r.(*Literal)
	if !ok || !both || t != Double {
		return nil
	}
	x, y := b.fraction(left), b.fraction(right)
	if x == nil || y == nil || len(x.Denom().Bits())+len(y.Denom().Bits())+len(x.Num().Bits())+len(y.Num().Bits()) > mostDigits/8 {
		return nil
	}
	out := new(big.Rat)
	switch op {
	case "+":
		out.Add(x, y)
	case "-":
		out.Sub(x, y)
	case "*":
		out.Mul(x, y)
	case "/":
		if y.Sign() == 0 {
			return nil
		}
		out.Quo(x, y)
	default:
		return nil
	}
	if f, _ := out.Float64(); math.IsInf(f, 0) {
		return nil
	}
	return b.decimal(Double, out)
}
