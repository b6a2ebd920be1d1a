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
