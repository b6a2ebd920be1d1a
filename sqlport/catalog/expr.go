package catalog

import (
	"strconv"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

// An expr is a compiled expression. Its type is nil where it is a constant without one.
type expr struct {
	t  *sqltype.Type
	at func(*env) value
	// refs are the places of the rows of its own SELECT that it needs; outer says that it needs
	// those of one around it.
	refs  map[int]bool
	outer bool
	// aggregated says that it has an aggregate, or a window function.
	aggregated bool
	lit        *string // of a constant without a type, its text
}

// An env is where an expression is worked out.
type env struct {
	q       *run
	row     []value
	outer   *env
	results []value // of aggregates
	windows []value
	sets    []value // of functions that give sets
}

func constant(v value, t *sqltype.Type) *expr {
	return &expr{t: t, at: func(*env) value { return v }}
}

// over makes an expression of others.
func over(t *sqltype.Type, at func(*env) value, parts ...*expr) *expr {
	e := &expr{t: t, at: at}
	for _, p := range parts {
		if p == nil {
			continue
		}
		e.outer = e.outer || p.outer
		e.aggregated = e.aggregated || p.aggregated
		for r := range p.refs {
			if e.refs == nil {
				e.refs = map[int]bool{}
			}
			e.refs[r] = true
		}
	}
	return e
}

// typed gives a constant without a type the one that its place wants.
func (c *compiler) typed(e *expr, t *sqltype.Type, at int32) *expr {
	if e.t != nil || t == nil {
		return e
	}
	if e.lit != nil {
		q := &run{session: c.session}
		return constant(q.read(*e.lit, t, at), t)
	}
	return over(t, func(v *env) value { return v.q.cast(e.at(v), nil, t, at) }, e)
}

func (c *compiler) expr(n *pg.Node, s *scope) *expr {
	c.depth++
	defer func() { c.depth-- }()
	if c.depth > 150 {
		fail("54001", -1, "the query is nested too deep")
	}
	switch x := n.GetNode().(type) {
	case *pg.Node_AConst:
		return c.constant(x.AConst)
	case *pg.Node_ColumnRef:
		return c.column(x.ColumnRef, s)
	case *pg.Node_ParamRef:
		return c.param(x.ParamRef)
	case *pg.Node_TypeCast:
		return c.typeCast(x.TypeCast, s)
	case *pg.Node_AExpr:
		return c.operator(x.AExpr, s)
	case *pg.Node_BoolExpr:
		return c.boolean(x.BoolExpr, s)
	case *pg.Node_NullTest:
		arg := c.expr(x.NullTest.Arg, s)
		not := x.NullTest.Nulltesttype == pg.NullTestType_IS_NOT_NULL
		return over(tBool, func(v *env) value { return (arg.at(v) == nil) != not }, arg)
	case *pg.Node_BooleanTest:
		return c.booleanTest(x.BooleanTest, s)
	case *pg.Node_CaseExpr:
		return c.caseOf(x.CaseExpr, s)
	case *pg.Node_CoalesceExpr:
		return c.coalesce(x.CoalesceExpr.Args, s)
	case *pg.Node_MinMaxExpr:
		return c.leastOf(x.MinMaxExpr, s)
	case *pg.Node_FuncCall:
		return c.call(x.FuncCall, s)
	case *pg.Node_SqlvalueFunction:
		return c.valueFunction(x.SqlvalueFunction)
	case *pg.Node_CollateClause:
		return c.expr(x.CollateClause.Arg, s)
	case *pg.Node_AArrayExpr:
		return c.arrayOf(x.AArrayExpr, s)
	case *pg.Node_RowExpr:
		return c.rowOf(x.RowExpr.Args, s)
	case *pg.Node_AIndirection:
		return c.indirection(x.AIndirection, s)
	case *pg.Node_SubLink:
		return c.subLink(x.SubLink, s)
	case *pg.Node_NamedArgExpr:
		return c.expr(x.NamedArgExpr.Arg, s)
	}
	fail("0A000", -1, "this expression is not there in questions about the catalog")
	return nil
}

func (c *compiler) exprs(nodes []*pg.Node, s *scope) []*expr {
	out := make([]*expr, len(nodes))
	for i, n := range nodes {
		out[i] = c.expr(n, s)
	}
	return out
}

func (c *compiler) constant(k *pg.A_Const) *expr {
	if k.Isnull {
		return constant(nil, nil)
	}
	switch v := k.Val.(type) {
	case *pg.A_Const_Ival:
		return constant(int64(v.Ival.Ival), tInt4)
	case *pg.A_Const_Fval:
		if n, err := strconv.ParseInt(v.Fval.Fval, 10, 64); err == nil {
			return constant(n, tInt8)
		}
		x, err := strconv.ParseFloat(v.Fval.Fval, 64)
		if err != nil {
			fail("22003", k.Location, "the number is out of range")
		}
		return constant(x, tNumeric)
	case *pg.A_Const_Boolval:
		return constant(v.Boolval.Boolval, tBool)
	case *pg.A_Const_Sval:
		e := constant(v.Sval.Sval, nil)
		e.lit = &v.Sval.Sval
		return e
	}
	fail("0A000", k.Location, "this constant is not there in questions about the catalog")
	return nil
}

func (c *compiler) param(p *pg.ParamRef) *expr {
	i := int(p.Number) - 1
	if i < 0 || i >= len(c.params) {
		fail("42P02", p.Location, "there is no parameter $%d", p.Number)
	}
	t := c.params[i]
	return &expr{t: t, at: func(v *env) value {
		text, ok := v.q.params[i].(string)
		if !ok {
			return nil
		}
		if t == nil {
			return text
		}
		return v.q.read(text, t, p.Location)
	}}
}

// column finds a column by its name, with or without the alias before it.
func (c *compiler) column(ref *pg.ColumnRef, s *scope) *expr {
	var names []string
	for _, f := range ref.Fields {
		if f.GetAStar() != nil {
			fail("42601", ref.Location, "* has no place here")
		}
		names = append(names, f.GetString_().GetSval())
	}
	if len(names) > 2 {
		names = names[len(names)-2:]
	}
	name := names[len(names)-1]
	depth := 0
	for at := s; at != nil; at = at.outer {
		var found *expr
		for _, item := range at.items {
			if len(names) == 2 && item.alias != names[0] {
				continue
			}
			for _, col := range item.columns {
				if col.name != name || len(names) == 1 && col.hidden {
					continue
				}
				if found != nil {
					fail("42702", ref.Location, "column reference %q is ambiguous", name)
				}
				found = c.slot(item.place(col), col.t, at, depth)
			}
		}
		if found != nil {
			return found
		}
		// The alias alone stands for the row, and one of a function for its value.
		if len(names) == 1 {
			for _, item := range at.items {
				if item.alias == name {
					return c.wholeRow(item, at, depth)
				}
			}
		}
		depth++
	}
	if len(names) == 2 {
		for at := s; at != nil; at = at.outer {
			for _, item := range at.items {
				if item.alias == names[0] {
					fail("42703", ref.Location, "column %s.%s does not exist", names[0], name)
				}
			}
		}
		fail("42P01", ref.Location, "missing FROM-clause entry for table %q", names[0])
	}
	fail("42703", ref.Location, "column %q does not exist", name)
	return nil
}

// slot reads a place of the row that is some SELECTs further out.
func (c *compiler) slot(place int, t *sqltype.Type, of *scope, depth int) *expr {
	e := &expr{t: t}
	switch depth {
	case 0:
		e.refs = map[int]bool{place: true}
		e.at = func(v *env) value { return v.row[place] }
	default:
		e.outer = true
		for _, o := range c.open { // those within that SELECT depend on it
			for at := o.outer; at != nil; at = at.outer {
				o.plan.correlated = o.plan.correlated || at == of
			}
		}
		e.at = func(v *env) value {
			for range depth {
				v = v.outer
			}
			return v.row[place]
		}
	}
	return e
}

func (c *compiler) wholeRow(item *item, of *scope, depth int) *expr {
	var parts []*expr
	names := []string{}
	for _, col := range item.columns {
		parts, names = append(parts, c.slot(item.place(col), col.t, of, depth)), append(names, col.name)
	}
	if item.scalar && len(parts) == 1 {
		return parts[0]
	}
	return over(sqltype.Record, func(v *env) value {
		r := &record{names: names}
		for _, p := range parts {
			r.items = append(r.items, p.at(v))
		}
		return r
	}, parts...)
}

// typeNamed is the type that a cast names.
func typeNamed(t *pg.TypeName) *sqltype.Type {
	var names []string
	for _, n := range t.Names {
		names = append(names, n.GetString_().GetSval())
	}
	name := names[len(names)-1]
	found := typeOfName(name)
	if name == "char" && len(names) == 1 {
		found = tChar
	}
	switch { // the domains of information_schema
	case len(names) == 2 && names[0] == "information_schema" && (name == "sql_identifier" || name == "character_data" || name == "yes_or_no"):
		found = tText
	case len(names) == 2 && names[0] == "information_schema" && name == "cardinal_number":
		found = tInt4
	}
	if found == nil {
		fail("42704", t.Location, "type %q does not exist", name)
	}
	if len(t.ArrayBounds) > 0 && found.Array != nil {
		return found.Array
	}
	return found
}

func (c *compiler) typeCast(x *pg.TypeCast, s *scope) *expr {
	to := typeNamed(x.TypeName)
	arg := c.expr(x.Arg, s)
	if arg.lit != nil {
		q := &run{session: c.session}
		return constant(q.read(*arg.lit, to, x.Location), to)
	}
	from := arg.t
	return over(to, func(v *env) value { return v.q.cast(arg.at(v), from, to, x.Location) }, arg)
}

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

func (c *compiler) valueFunction(x *pg.SQLValueFunction) *expr {
	switch x.Op {
	case pg.SQLValueFunctionOp_SVFOP_CURRENT_USER, pg.SQLValueFunctionOp_SVFOP_CURRENT_ROLE, pg.SQLValueFunctionOp_SVFOP_USER,
		pg.SQLValueFunctionOp_SVFOP_SESSION_USER:
		return constant(c.session.User, tName)
	case pg.SQLValueFunctionOp_SVFOP_CURRENT_CATALOG:
		return constant(c.session.Database, tName)
	case pg.SQLValueFunctionOp_SVFOP_CURRENT_SCHEMA:
		return constant(c.session.currentSchema(), tName)
	case pg.SQLValueFunctionOp_SVFOP_CURRENT_TIMESTAMP, pg.SQLValueFunctionOp_SVFOP_CURRENT_TIMESTAMP_N:
		return constant(c.session.Now, tStamp)
	}
	fail("0A000", x.Location, "this function is not there in questions about the catalog")
	return nil
}

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

// subLink compiles a sub-query in an expression. One that depends on nothing around it is run
// once.
func (c *compiler) subLink(l *pg.SubLink, s *scope) *expr {
	plan := c.query(l.Subselect.GetSelectStmt(), s)
	var test *expr
	if l.Testexpr != nil {
		test = c.expr(l.Testexpr, s)
	}
	rows := func(v *env, f func([]value) bool) {
		if plan.correlated {
			plan.each(v, f)
			return
		}
		kept, ok := v.q.once[plan]
		if !ok {
			plan.each(v, func(row []value) bool { v.q.hold(row); kept = append(kept, row); return true })
			if kept == nil {
				kept = [][]value{}
			}
			v.q.once[plan] = kept
		}
		for _, row := range kept {
			if !f(row) {
				return
			}
		}
	}
	link := func(t *sqltype.Type, at func(v *env) value) *expr {
		e := over(t, at, test)
		e.outer = e.outer || plan.correlated
		if plan.correlated { // on which rows of this SELECT is not kept: on all
			if e.refs == nil {
				e.refs = map[int]bool{}
			}
			for place := range s.width() {
				e.refs[place] = true
			}
		}
		return e
	}
	one := func() *sqltype.Type {
		if len(plan.columns) != 1 {
			fail("42601", l.Location, "subquery must return only one column")
		}
		return plan.columns[0].t
	}
	switch l.SubLinkType {
	case pg.SubLinkType_EXISTS_SUBLINK:
		return link(tBool, func(v *env) value {
			found := false
			rows(v, func([]value) bool { found = true; return false })
			return found
		})
	case pg.SubLinkType_EXPR_SUBLINK:
		return link(one(), func(v *env) value {
			var out value
			n := 0
			rows(v, func(row []value) bool { out = row[0]; n++; return n < 2 })
			if n > 1 {
				fail("21000", l.Location, "more than one row returned by a subquery used as an expression")
			}
			return out
		})
	case pg.SubLinkType_ARRAY_SUBLINK:
		t := one()
		if t == nil {
			t = tText
		}
		if t.Array != nil {
			t = t.Array
		}
		return link(t, func(v *env) value {
			out := listOf()
			rows(v, func(row []value) bool { v.q.hold(row[:1]); out.items = append(out.items, row[0]); return true })
			return out
		})
	case pg.SubLinkType_ANY_SUBLINK, pg.SubLinkType_ALL_SUBLINK:
		op := "="
		if len(l.OperName) > 0 {
			op = l.OperName[len(l.OperName)-1].GetString_().GetSval()
		}
		if len(plan.columns) == 1 {
			test = c.typed(test, plan.columns[0].t, l.Location)
		}
		all := l.SubLinkType == pg.SubLinkType_ALL_SUBLINK
		return link(tBool, func(v *env) value {
			x := test.at(v)
			unknown, decided := false, false
			rows(v, func(row []value) bool {
				var y value = row[0]
				if len(row) > 1 {
					y = &record{items: row}
				}
				switch r := v.q.operate(op, x, y); {
				case r == nil:
					unknown = true
				case r.(bool) != all:
					decided = true
				}
				return !decided
			})
			switch {
			case decided:
				return !all
			case unknown:
				return nil
			}
			return all
		})
	}
	fail("0A000", l.Location, "this kind of sub-query is not there in questions about the catalog")
	return nil
}
