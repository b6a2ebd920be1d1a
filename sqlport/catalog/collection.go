package catalog

import (
	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

func (c *compiler) arrayOf(x *pg.A_ArrayExpr, s *scope) *expr {
	args, t := c.common(c.exprs(x.Elements, s), x.Location)
	if t.Array != nil {
		t = t.Array
	}
	return over(t, func(v *env) value {
		out := listOf()
		for _, a := range args {
			out.items = append(out.items, a.at(v))
		}
		return out
	}, args...)
}

func (c *compiler) rowOf(nodes []*pg.Node, s *scope) *expr {
	args := c.exprs(nodes, s)
	return over(sqltype.Record, func(v *env) value {
		r := &record{}
		for _, a := range args {
			r.items = append(r.items, a.at(v))
		}
		return r
	}, args...)
}

// indirection reads an element of an array, or a field of a row.
func (c *compiler) indirection(x *pg.A_Indirection, s *scope) *expr {
	e := c.expr(x.Arg, s)
	for _, n := range x.Indirection {
		of := e
		switch i := n.GetNode().(type) {
		case *pg.Node_String_:
			name := i.String_.Sval
			var t *sqltype.Type
			switch name {
			case "n":
				t = tInt4
			case "x":
				t = tInt2
			case "grantor", "grantee":
				t = tOID
			case "privilege_type":
				t = tText
			case "is_grantable":
				t = tBool
			}
			e = over(t, func(v *env) value {
				r, ok := of.at(v).(*record)
				if !ok {
					return nil
				}
				for i, n := range r.names {
					if n == name {
						return r.items[i]
					}
				}
				fail("42703", -1, "column %q not found in data type record", name)
				return nil
			}, of)
		case *pg.Node_AIndices:
			if i.AIndices.IsSlice {
				e = c.slice(of, i.AIndices, s)
				continue
			}
			at := c.expr(i.AIndices.Uidx, s)
			var t *sqltype.Type
			if of.t != nil {
				t = of.t.Elem
				if of.t.OID == 22 {
					t = tInt2
				} else if of.t.OID == 30 {
					t = tOID
				}
			}
			e = over(t, func(v *env) value {
				a, ok := of.at(v).(*array)
				n, is := at.at(v).(int64)
				if !ok || !is || n < a.low || n >= a.low+int64(len(a.items)) {
					return nil
				}
				return a.items[n-a.low]
			}, of, at)
		default:
			fail("0A000", -1, "this part of a value is not there in questions about the catalog")
		}
	}
	return e
}

func (c *compiler) slice(of *expr, x *pg.A_Indices, s *scope) *expr {
	low, high := constant(nil, tInt4), constant(nil, tInt4)
	if x.Lidx != nil {
		low = c.expr(x.Lidx, s)
	}
	if x.Uidx != nil {
		high = c.expr(x.Uidx, s)
	}
	return over(of.t, func(v *env) value {
		a, ok := of.at(v).(*array)
		if !ok {
			return nil
		}
		from, to := a.low, a.low+int64(len(a.items))-1
		if n, ok := low.at(v).(int64); ok {
			from = max(from, n)
		}
		if n, ok := high.at(v).(int64); ok {
			to = min(to, n)
		}
		if from > to {
			return listOf()
		}
		return listOf(a.items[from-a.low : to-a.low+1]...)
	}, of, low, high)
}
