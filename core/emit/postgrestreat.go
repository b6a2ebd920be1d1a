package emit

import (
	"strconv"
	"strings"

	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// The blocks of HMAC (RFC 2104) that a key is joined with, byte by byte.
const (
	innerPad = 0x36
	outerPad = 0x5c
)

// treated writes a treatment of ISO/IEC 20889. The functions of Gneiss's own are made for
// some types; the value is taken to one of these, and what they give back to the column's
// type, which it keeps. Keys travel as the two blocks that HMAC makes of them.
func (e postgres) treated(x *query.Treated) {
	t, of := x.Treatment, x.Type()
	switch {
	case t.Paths != "":
		e.within(x)
	case t.Kind == policy.Mask && of.Textual():
		e.as(of, sqltype.Text, "mask", x.X, int64(t.KeepFirst), int64(t.KeepLast), t.Fill, t.Keep)
	case t.Kind == policy.Pseudonym && of.Textual():
		e.as(of, sqltype.Text, "pseudonym", x.X, keyed(innerPad), keyed(outerPad))
	case t.Kind == policy.Pseudonym && of == sqltype.Int8:
		e.as(of, of, "pseudonym", &query.Cast{X: x.X, To: of}, keyed(innerPad), keyed(outerPad))
	case t.Kind == policy.Pseudonym:
		e.as(of, of, "pseudonym", x.X, keyed(innerPad), keyed(outerPad))
	case t.Kind == policy.Round:
		e.as(of, wide(of), "rounded", x.X, int64(t.Decimals), decimal(t.Multiple, wide(of)))
	case t.Kind == policy.Generalize && t.Mapping != "":
		e.mapped(x)
	case t.Kind == policy.Generalize && of.Textual():
		e.as(of, sqltype.Text, "beginning", x.X, int64(t.Prefix))
	case t.Kind == policy.Generalize && of.Number():
		e.as(of, wide(of), "bucket", x.X, decimal(t.Bucket, wide(of)))
	case t.Kind == policy.Generalize:
		e.as(of, of, "truncate", x.X, query.Expr(&query.Literal{T: query.Text, Value: t.Unit}))
	case t.Kind == policy.Noise:
		key := func(pad byte) Arg { return Arg{Key: t.Stable, Nonce: !t.Stable, Pad: pad} }
		e.as(of, wide(of), "noise", x.X, t.Range, key(innerPad), key(outerPad), int64(x.Of), x.Row)
	default:
		e.null(of)
	}
}

// within writes a treatment of values within a document, one path in the other.
func (e postgres) within(x *query.Treated) {
	t := x.Treatment
	paths := t.PathList()
	for range paths {
		e.write(own, "within(")
	}
	e.expr(x.X)
	for _, path := range paths {
		steps := make([]string, len(path))
		for i, step := range path {
			steps[i] = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(step) + `"`
		}
		e.write(", ")
		e.arg(Arg{Value: "{" + strings.Join(steps, ",") + "}", T: sqltype.Text.Array})
		for _, a := range []Arg{{Value: t.Kind.String()}, {Value: int64(t.KeepFirst)}, {Value: int64(t.KeepLast)}, {Value: t.Fill}, {Value: t.Keep},
			{Value: t.Value}, keyed(innerPad), keyed(outerPad)} {
			e.write(", ")
			e.arg(a)
		}
		e.write(")")
	}
}

func keyed(pad byte) Arg { return Arg{Key: true, Pad: pad} }

// wide is the type that Gneiss's functions take in place of a type of numbers.
func wide(t query.Type) query.Type {
	switch t {
	case sqltype.Int2, sqltype.Int4:
		return sqltype.Int8
	case sqltype.Float4:
		return sqltype.Float8
	}
	return t
}

// decimal is a number of a treatment, exact where the values are.
func decimal(x float64, of query.Type) any {
	if of == sqltype.Numeric {
		return Arg{Value: strconv.FormatFloat(x, 'f', -1, 64), T: sqltype.Numeric}
	}
	return x
}

// as writes a call of a function of Gneiss's own: the value as a type that it takes, then
// arguments. The result is of the value's own type again; what is out of its range is NULL.
func (e postgres) as(of, through query.Type, name string, x query.Expr, args ...any) {
	fitted := of != through && of.Number()
	switch {
	case fitted:
		e.write(own, "fit_", of.Internal, "(")
	case of != through:
		e.write("CAST(")
	}
	e.write(own, name, "(")
	e.expr(x)
	if of != through {
		e.write("::", typeName(through))
	}
	for _, a := range args {
		e.write(", ")
		switch a := a.(type) {
		case Arg:
			e.arg(a)
		case query.Expr:
			e.expr(a)
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
	switch {
	case fitted:
		e.write(")")
	case of != through:
		e.write(" AS ", typeName(of), ")")
	}
}
