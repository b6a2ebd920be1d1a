package catalog

import (
	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

func (c *compiler) boolean(x *pg.BoolExpr, s *scope) *expr {
	args := c.exprs(x.Args, s)
	for i := range args {
		args[i] = c.typed(args[i], tBool, x.Location)
	}
	if x.Boolop == pg.BoolExprType_NOT_EXPR {
		return over(tBool, func(v *env) value {
			if b, ok := args[0].at(v).(bool); ok {
				return !b
			}
			return nil
		}, args...)
	}
	decides := x.Boolop == pg.BoolExprType_OR_EXPR
	return over(tBool, func(v *env) value {
		unknown := false
		for _, a := range args {
			b, ok := a.at(v).(bool)
			if ok && b == decides {
				return decides
			}
			unknown = unknown || !ok
		}
		if unknown {
			return nil
		}
		return !decides
	}, args...)
}

func (c *compiler) booleanTest(x *pg.BooleanTest, s *scope) *expr {
	arg := c.expr(x.Arg, s)
	return over(tBool, func(v *env) value {
		b, known := arg.at(v).(bool)
		switch x.Booltesttype {
		case pg.BoolTestType_IS_TRUE:
			return known && b
		case pg.BoolTestType_IS_NOT_TRUE:
			return !(known && b)
		case pg.BoolTestType_IS_FALSE:
			return known && !b
		case pg.BoolTestType_IS_NOT_FALSE:
			return !(known && !b)
		case pg.BoolTestType_IS_UNKNOWN:
			return !known
		}
		return known
	}, arg)
}

// common takes expressions to one type: the first that is known, texts where they differ.
func (c *compiler) common(list []*expr, at int32) ([]*expr, *sqltype.Type) {
	var kinds []*sqltype.Type
	for _, e := range list {
		kinds = append(kinds, e.t)
	}
	t := sqltype.Common(kinds)
	if t == nil {
		for _, k := range kinds {
			if k != nil {
				t = k
				break
			}
		}
	}
	if t == nil {
		t = tText
	}
	out := make([]*expr, len(list))
	for i, e := range list {
		switch {
		case e.t == nil:
			out[i] = c.typed(e, t, at)
		case e.t != t:
			from := e.t
			out[i] = over(t, func(v *env) value { return v.q.cast(e.at(v), from, t, at) }, e)
		default:
			out[i] = e
		}
	}
	return out, t
}

func (c *compiler) caseOf(x *pg.CaseExpr, s *scope) *expr {
	var whens, thens []*expr
	var arg *expr
	if x.Arg != nil {
		arg = c.expr(x.Arg, s)
	}
	for _, n := range x.Args {
		w := n.GetCaseWhen()
		when := c.expr(w.Expr, s)
		if arg != nil {
			when = c.binary("=", arg, when, x.Location)
		}
		whens, thens = append(whens, when), append(thens, c.expr(w.Result, s))
	}
	if x.Defresult != nil {
		thens = append(thens, c.expr(x.Defresult, s))
	} else {
		thens = append(thens, constant(nil, nil))
	}
	thens, t := c.common(thens, x.Location)
	return over(t, func(v *env) value {
		for i, when := range whens {
			if when.at(v) == true {
				return thens[i].at(v)
			}
		}
		return thens[len(thens)-1].at(v)
	}, append(append(whens, thens...), arg)...)
}

func (c *compiler) coalesce(nodes []*pg.Node, s *scope) *expr {
	args, t := c.common(c.exprs(nodes, s), -1)
	return over(t, func(v *env) value {
		for _, a := range args {
			if x := a.at(v); x != nil {
				return x
			}
		}
		return nil
	}, args...)
}

func (c *compiler) leastOf(x *pg.MinMaxExpr, s *scope) *expr {
	args, t := c.common(c.exprs(x.Args, s), x.Location)
	want := 1
	if x.Op == pg.MinMaxOp_IS_LEAST {
		want = -1
	}
	return over(t, func(v *env) value {
		var best value
		for _, a := range args {
			if one := a.at(v); one != nil && (best == nil || v.q.compare(one, best) == want) {
				best = one
			}
		}
		return best
	}, args...)
}
