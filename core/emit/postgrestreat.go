package emit

import (
	"gneiss/core/policy"
	"gneiss/core/query"
)

// The blocks of HMAC (RFC 2104) that a key is joined with, byte by byte.
const (
	innerPad = 0x36
	outerPad = 0x5c
)

// treated writes a treatment of ISO/IEC 20889. Keys travel as the two blocks that
// HMAC makes of them.
func (e postgres) treated(x *query.Treated) {
	t := x.Treatment
	switch t.Kind {
	case policy.Mask:
		e.operands(own+"mask(", x.X, int64(t.KeepFirst), int64(t.KeepLast), t.Fill, t.Keep)
	case policy.Pseudonym:
		e.operands(own+"pseudonym(", x.X, Arg{Key: true, Pad: innerPad}, Arg{Key: true, Pad: outerPad})
	case policy.Round:
		e.operands(own+"rounded(", x.X, int64(t.Decimals), t.Multiple)
	case policy.Generalize:
		e.generalized(x)
	case policy.Noise:
		e.operands(
			own+"noise(",
			x.X,
			t.Range,
			Arg{Key: t.Stable, Nonce: !t.Stable, Pad: innerPad},
			Arg{Key: t.Stable, Nonce: !t.Stable, Pad: outerPad},
			int64(x.Of),
			x.Row,
		)
	default:
		e.null(x.Type())
	}
}

// operands writes a call: a value, then arguments.
func (e postgres) operands(head string, x query.Expr, args ...any) {
	e.write(head)
	e.expr(x)
	for _, a := range args {
		e.write(", ")
		switch a := a.(type) {
		case Arg:
			e.arg(a)
		case []query.Expr:
			e.write("concat_ws('|', ''")
			for _, k := range a {
				e.write(", ")
				e.expr(&query.Cast{X: k, To: query.Text})
			}
			e.write(")")
		default:
			e.arg(Arg{Value: a})
		}
	}
	e.write(")")
}

// generalized writes a value by its bucket, its period, or its beginning.
func (e postgres) generalized(x *query.Treated) {
	t := x.Treatment
	switch x.Type() {
	case query.Date, query.Timestamp:
		e.expr(&query.Call{Fn: query.Functions["date_trunc"], Args: []query.Expr{&query.Literal{T: query.Text, Value: t.Unit}, x.X}, T: x.Type()})
	case query.Text:
		if t.Mapping != "" {
			e.mapped(x)
			return
		}
		e.expr(
			&query.Call{Fn: query.Functions["left"], Args: []query.Expr{x.X, &query.Literal{T: query.Bigint, Value: int64(t.Prefix)}}, T: query.Text},
		)
	default:
		e.operands(own+"bucket(", x.X, t.Bucket)
	}
}
