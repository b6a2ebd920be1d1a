package catalog

import (
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

// aggregates are those that are there, with the type of what they give; nil: that of their
// operand.
var aggregates = map[string]*sqltype.Type{"count": tInt8, "min": nil, "max": nil, "sum": nil, "avg": tFloat8, "array_agg": nil, "string_agg": tText,
	"bool_and": tBool, "bool_or": tBool, "every": tBool}

// call compiles a call: of an aggregate, a window function, a function that gives a set, or one
// that gives a value.
func (c *compiler) call(x *pg.FuncCall, s *scope) *expr {
	name := x.Funcname[len(x.Funcname)-1].GetString_().GetSval()
	at := x.Location
	if len(x.Funcname) > 1 {
		if schema := x.Funcname[len(x.Funcname)-2].GetString_().GetSval(); schema != "pg_catalog" && schema != "information_schema" {
			fail("42883", at, "function %s.%s does not exist among those of the catalog", schema, name)
		}
	}
	if x.Over != nil {
		return c.window(x, name, s)
	}
	if t, ok := aggregates[name]; ok {
		return c.aggregate(x, name, t, s)
	}
	if set, ok := sets[name]; ok {
		return c.set(x, set, s)
	}
	f, ok := functions[name]
	if !ok {
		if why := sqltype.Never(name); why != "" {
			fail("42501", at, "the function %s is not there for you: %s", name, why)
		}
		fail("42883", at, "function %s does not exist among those of the catalog", name)
	}
	args := c.exprs(x.Args, s)
	if len(args) < f.least || len(args) > f.most {
		fail("42883", at, "function %s does not take %d operands", name, len(args))
	}
	for i, want := range f.args {
		if i < len(args) {
			args[i] = c.typed(args[i], want, at)
		}
	}
	for i := range args {
		if args[i].t == nil && args[i].lit != nil {
			args[i] = c.typed(args[i], tText, at)
		}
	}
	t := f.t
	if f.like != nil {
		t = f.like(args)
	}
	kinds := make([]*sqltype.Type, len(args))
	for i, a := range args {
		kinds[i] = a.t
	}
	return over(t, func(v *env) value {
		v.q.step()
		values := make([]value, len(args))
		for i, a := range args {
			if values[i] = a.at(v); values[i] == nil && !f.nulls {
				return nil
			}
		}
		return f.do(v.q, values, kinds)
	}, args...)
}

func (c *compiler) aggregate(x *pg.FuncCall, name string, t *sqltype.Type, s *scope) *expr {
	g := c.groups[len(c.groups)-1]
	if g.inside {
		fail("42803", x.Location, "aggregate function calls cannot be nested")
	}
	g.inside = true
	a := &aggregate{name: name, star: x.AggStar, distinct: x.AggDistinct, args: c.exprs(x.Args, s)}
	for i := range a.args {
		a.args[i] = c.typed(a.args[i], tText, x.Location)
	}
	if !a.star && len(a.args) == 0 {
		fail("42883", x.Location, "function %s() does not exist", name)
	}
	if x.AggFilter != nil {
		a.filter = c.expr(x.AggFilter, s)
	}
	a.by = c.orders(x.AggOrder, func(n *pg.Node) *expr { return c.expr(n, s) })
	g.inside = false
	switch {
	case t != nil:
	case name == "array_agg":
		if t = a.args[0].t; t.Array != nil {
			t = t.Array
		}
	case name == "sum" && (a.args[0].t == tInt4 || a.args[0].t == tInt2):
		t = tInt8
	default:
		t = a.args[0].t
	}
	i := len(g.aggregates)
	g.aggregates = append(g.aggregates, a)
	e := over(t, func(v *env) value { return v.results[i] }, a.args...)
	e.aggregated = true
	return e
}

func (c *compiler) window(x *pg.FuncCall, name string, s *scope) *expr {
	if !slices.Contains([]string{"row_number", "rank", "dense_rank"}, name) {
		fail("0A000", x.Location, "the window function %s is not there in questions about the catalog", name)
	}
	g := c.groups[len(c.groups)-1]
	w := &window{name: name, partition: c.exprs(x.Over.PartitionClause, s)}
	w.by = c.orders(x.Over.OrderClause, func(n *pg.Node) *expr { return c.expr(n, s) })
	i := len(g.windows)
	g.windows = append(g.windows, w)
	e := over(tInt8, func(v *env) value { return v.windows[i] }, w.partition...)
	e.aggregated = true
	return e
}

// set compiles a function in the list of a SELECT that gives a set.
func (c *compiler) set(x *pg.FuncCall, f setFunction, s *scope) *expr {
	g := c.groups[len(c.groups)-1]
	args := c.exprs(x.Args, s)
	columns := f.columns(c, args)
	t := sqltype.Record
	names := make([]string, len(columns))
	for i, col := range columns {
		names[i] = col.name
	}
	if len(columns) == 1 {
		t = columns[0].t
	}
	i := len(g.sets)
	g.sets = append(g.sets, &setCall{each: func(v *env, give func(value) bool) {
		values := make([]value, len(args))
		for i, a := range args {
			values[i] = a.at(v)
		}
		f.each(v.q, values, func(row []value) bool {
			if len(row) == 1 {
				return give(row[0])
			}
			return give(&record{names, slices.Clone(row)})
		})
	}})
	e := over(t, func(v *env) value { return v.sets[i] }, args...)
	return e
}
