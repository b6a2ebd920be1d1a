package emit

import (
	"gneiss/core/policy"
	"gneiss/core/query"
)

// treated writes a treatment of ISO/IEC 20889. The functions are registered on
// every connection; the key of pseudonyms travels as an argument.
func (e sqlite) treated(x *query.Treated) {
	switch x.Treatment.Kind {
	case policy.Mask:
		e.write("gneiss_mask(")
		e.expr(x.X)
		for _, v := range []any{int64(x.Treatment.KeepFirst), int64(x.Treatment.KeepLast), x.Treatment.Fill, x.Treatment.Keep} {
			e.write(", ")
			e.arg(Arg{Value: v})
		}
		e.write(")")
	case policy.Pseudonym:
		e.write("gneiss_pseudonym(")
		e.expr(x.X)
		e.write(", ")
		e.arg(Arg{Key: true})
		e.write(")")
	case policy.Round:
		e.write("gneiss_round(")
		e.number(x.X)
		e.write(", ")
		e.arg(Arg{Value: int64(x.Treatment.Decimals)})
		e.write(", ")
		e.arg(Arg{Value: x.Treatment.Multiple})
		e.write(")")
	case policy.Generalize:
		e.generalized(x)
	case policy.Noise:
		e.noise(x)
	default:
		e.write("NULL")
	}
}

// number writes a value so that the database gives it as what its type says: a
// column of numerics can hold whole numbers.
func (e sqlite) number(x query.Expr) {
	if x.Type() != query.Double {
		e.expr(x)
		return
	}
	e.write("CAST(")
	e.expr(x)
	e.write(" AS REAL)")
}

// generalized writes a value by its bucket, its period, or its beginning.
func (e sqlite) generalized(x *query.Treated) {
	switch x.Type() {
	case query.Date, query.Timestamp:
		e.expr(
			&query.Call{
				Fn:   query.Functions["date_trunc"],
				Args: []query.Expr{&query.Literal{T: query.Text, Value: x.Treatment.Unit}, x.X},
				T:    x.Type(),
			},
		)
	case query.Text:
		if x.Treatment.Mapping != "" {
			e.mapped(x)
			return
		}
		e.write("substr(")
		e.expr(x.X)
		e.write(", 1, ")
		e.arg(Arg{Value: int64(x.Treatment.Prefix)})
		e.write(")")
	default:
		e.write("gneiss_bucket(")
		e.number(x.X)
		e.write(", ")
		e.arg(Arg{Value: x.Treatment.Bucket})
		e.write(")")
	}
}

// noise writes a value moved by an amount that the row, the column and a secret
// make: the key, or what only this query knows.
func (e sqlite) noise(x *query.Treated) {
	e.write("gneiss_noise(")
	e.number(x.X)
	e.write(", ")
	e.arg(Arg{Value: x.Treatment.Range})
	e.write(", ")
	e.arg(Arg{Key: x.Treatment.Stable, Nonce: !x.Treatment.Stable})
	e.write(", ")
	e.arg(Arg{Value: int64(x.Of)})
	for _, k := range x.Row {
		e.write(", ")
		e.expr(k)
	}
	e.write(")")
}
