package catalog

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

// A column is one of what a query, or an item of FROM, gives.
type column struct {
	name   string
	t      *sqltype.Type
	hidden bool // by USING, for names without an alias
	at     int  // its place within its item
	source int  // of a relation of the catalog, its number there
}

// An item is one of FROM: its columns have places in the row of their SELECT.
type item struct {
	alias   string
	columns []column
	first   int
	scalar  bool // a function that gives one value
	lateral bool // it depends on those before it
	rel     *relation
}

func (i *item) place(c column) int { return i.first + c.at }

// A scope is what names mean in a SELECT.
type scope struct {
	items []*item
	next  int // the first free place
	outer *scope
}

func (s *scope) width() int { return s.next }

// A plan is a compiled query.
type plan struct {
	columns    []column
	correlated bool // it depends on a SELECT around it
	each       func(v *env, f func([]value) bool)
}

// A cte is a WITH query.
type cte struct {
	name string
	plan *plan
	self bool
}

// An opened plan is being compiled within a scope.
type opened struct {
	plan  *plan
	outer *scope
}

// A compiler makes a plan of a statement.
type compiler struct {
	session *Session
	params  []*sqltype.Type
	open    []opened // plans that are being compiled, outermost first
	ctes    []*cte
	groups  []*grouping        // by SELECT, innermost last
	sides   map[*expr][2]*expr // of equalities
	depth   int
}

// query compiles a SELECT with all that belongs to it.
func (c *compiler) query(n *pg.SelectStmt, outer *scope) *plan {
	c.depth++
	defer func() { c.depth-- }()
	if c.depth > 150 {
		fail("54001", -1, "the query is nested too deep")
	}
	p := &plan{}
	c.open = append(c.open, opened{p, outer})
	kept := len(c.ctes)
	defer func() { c.open, c.ctes = c.open[:len(c.open)-1], c.ctes[:kept] }()
	if n.WithClause != nil {
		c.with(n.WithClause, outer)
	}
	switch {
	case len(n.LockingClause) > 0 || n.IntoClause != nil:
		fail("0A000", -1, "this is not there in questions about the catalog")
	case len(n.ValuesLists) > 0:
		c.values(p, n, outer)
	case n.Op != pg.SetOperation_SETOP_NONE:
		c.setOperation(p, n, outer)
	default:
		c.selectOf(p, n, outer)
	}
	c.limited(p, n, outer)
	return p
}

func (c *compiler) with(w *pg.WithClause, outer *scope) {
	for _, n := range w.Ctes {
		def := n.GetCommonTableExpr()
		inner := def.Ctequery.GetSelectStmt()
		if inner == nil {
			fail("0A000", def.Location, "WITH takes a SELECT here")
		}
		one := &cte{name: def.Ctename}
		if w.Recursive && inner.Op == pg.SetOperation_SETOP_UNION {
			c.recursive(one, def, inner, outer)
		} else {
			one.plan = c.query(inner, outer)
		}
		for i, name := range def.Aliascolnames {
			if i < len(one.plan.columns) {
				one.plan.columns[i].name = name.GetString_().GetSval()
			}
		}
		c.ctes = append(c.ctes, one)
	}
}

// recursive compiles a WITH query that may read itself.
func (c *compiler) recursive(one *cte, def *pg.CommonTableExpr, n *pg.SelectStmt, outer *scope) {
	first := c.query(n.Larg, outer)
	for i, name := range def.Aliascolnames {
		if i < len(first.columns) {
			first.columns[i].name = name.GetString_().GetSval()
		}
	}
	self := &cte{name: def.Ctename, plan: &plan{columns: first.columns}, self: true}
	self.plan.each = func(v *env, f func([]value) bool) {
		for _, row := range v.q.rounds[self] {
			if !f(row) {
				return
			}
		}
	}
	kept := len(c.ctes)
	c.ctes = append(c.ctes, self)
	again := c.query(n.Rarg, outer)
	c.ctes = c.ctes[:kept]
	again.correlated = true // its rows are others in each round
	one.plan = &plan{columns: first.columns, correlated: first.correlated}
	one.plan.each = func(v *env, f func([]value) bool) {
		seen := map[string]bool{}
		var all [][]value
		take := func(into *[][]value) func([]value) bool {
			return func(row []value) bool {
				v.q.step()
				if !n.All {
					k := key(row...)
					if seen[k] {
						return true
					}
					seen[k] = true
				}
				v.q.hold(row)
				*into = append(*into, row)
				return true
			}
		}
		var round [][]value
		first.each(v, take(&round))
		for len(round) > 0 {
			all = append(all, round...)
			v.q.rounds[self] = round
			v.q.once = map[*plan][][]value{}
			var next [][]value
			again.each(v, take(&next))
			round = next
		}
		for _, row := range all {
			if !f(row) {
				return
			}
		}
	}
}

func (c *compiler) values(p *plan, n *pg.SelectStmt, outer *scope) {
	s := &scope{outer: outer}
	var rows [][]*expr
	for _, list := range n.ValuesLists {
		rows = append(rows, c.exprs(list.GetList().Items, s))
	}
	for i := range rows[0] {
		var col []*expr
		for _, row := range rows {
			if len(row) != len(rows[0]) {
				fail("42601", -1, "VALUES lists must all be the same length")
			}
			col = append(col, row[i])
		}
		same, t := c.common(col, -1)
		for j := range rows {
			rows[j][i] = same[j]
		}
		p.columns = append(p.columns, column{name: "column" + string(rune('1'+i)), t: t, at: i})
	}
	p.each = func(v *env, f func([]value) bool) {
		in := &env{q: v.q, outer: v}
		for _, row := range rows {
			out := make([]value, len(row))
			for i, e := range row {
				out[i] = e.at(in)
			}
			if !f(out) {
				return
			}
		}
	}
	c.sorted(p, n, nil)
}

func (c *compiler) setOperation(p *plan, n *pg.SelectStmt, outer *scope) {
	l, r := c.query(n.Larg, outer), c.query(n.Rarg, outer)
	if len(l.columns) != len(r.columns) {
		fail("42601", -1, "each UNION, INTERSECT or EXCEPT query must have the same number of columns")
	}
	casts := [2][]*sqltype.Type{}
	for i := range l.columns {
		t := sqltype.Common([]*sqltype.Type{l.columns[i].t, r.columns[i].t})
		if t == nil {
			if t = l.columns[i].t; t == nil {
				t = tText
			}
		}
		casts[0], casts[1] = append(casts[0], l.columns[i].t), append(casts[1], r.columns[i].t)
		p.columns = append(p.columns, column{name: l.columns[i].name, t: t, at: i})
	}
	side := func(v *env, of *plan, from []*sqltype.Type, f func([]value) bool) {
		of.each(v, func(row []value) bool {
			out := row
			for i, t := range from {
				if t != p.columns[i].t {
					if &out[0] == &row[0] {
						out = slices.Clone(row)
					}
					out[i] = v.q.cast(row[i], t, p.columns[i].t, -1)
				}
			}
			return f(out)
		})
	}
	p.correlated = l.correlated || r.correlated
	p.each = func(v *env, f func([]value) bool) {
		counts := map[string]int{}
		if n.Op != pg.SetOperation_SETOP_UNION {
			side(v, r, casts[1], func(row []value) bool { counts[key(row...)]++; return true })
		}
		seen := map[string]bool{}
		more := true
		give := func(row []value) bool {
			v.q.step()
			k := key(row...)
			switch {
			case n.Op == pg.SetOperation_SETOP_INTERSECT && counts[k] == 0, n.Op == pg.SetOperation_SETOP_EXCEPT && counts[k] > 0:
				if n.All {
					counts[k]--
				}
				return true
			case n.Op == pg.SetOperation_SETOP_INTERSECT && n.All:
				counts[k]--
			}
			if !n.All {
				if seen[k] {
					return true
				}
				v.q.hold(row)
				seen[k] = true
			}
			more = f(row)
			return more
		}
		side(v, l, casts[0], give)
		if n.Op == pg.SetOperation_SETOP_UNION && more {
			side(v, r, casts[1], give)
		}
	}
	c.sorted(p, n, nil)
}

// An order is one key of ORDER BY.
type order struct {
	e          *expr
	desc       bool
	nullsFirst bool
}

func (c *compiler) orders(nodes []*pg.Node, each func(n *pg.Node) *expr) []order {
	var out []order
	for _, n := range nodes {
		by := n.GetSortBy()
		o := order{e: each(by.Node), desc: by.SortbyDir == pg.SortByDir_SORTBY_DESC}
		if by.SortbyDir == pg.SortByDir_SORTBY_USING {
			fail("0A000", -1, "ORDER BY USING is not there")
		}
		o.nullsFirst = o.desc && by.SortbyNulls == pg.SortByNulls_SORTBY_NULLS_DEFAULT || by.SortbyNulls == pg.SortByNulls_SORTBY_NULLS_FIRST
		out = append(out, o)
	}
	return out
}

// less orders two lists of keys.
func (q *run) less(by []order, a, b []value) int {
	for i, o := range by {
		x, y := a[i], b[i]
		var got int
		switch {
		case x == nil && y == nil:
			continue
		case x == nil || y == nil:
			if got = 1; (x == nil) == o.nullsFirst {
				got = -1
			}
			return got
		default:
			if got = q.compare(x, y); o.desc {
				got = -got
			}
		}
		if got != 0 {
			return got
		}
	}
	return 0
}

// output finds what a key of ORDER BY or GROUP BY means among the columns that are given: a number
// or a name. It is nil where it is neither.
func output(n *pg.Node, columns []column) *column {
	if k := n.GetAConst(); k != nil && k.GetIval() != nil {
		i := int(k.GetIval().GetIval())
		if i < 1 || i > len(columns) {
			fail("42P10", k.Location, "ORDER BY position %d is not in select list", i)
		}
		return &columns[i-1]
	}
	if ref := n.GetColumnRef(); ref != nil && len(ref.Fields) == 1 {
		name := ref.Fields[0].GetString_().GetSval()
		for i := range columns {
			if columns[i].name == name {
				return &columns[i]
			}
		}
	}
	return nil
}

// sorted puts the rows of a plan into the order of its columns.
func (c *compiler) sorted(p *plan, n *pg.SelectStmt, _ *scope) {
	if len(n.SortClause) == 0 {
		return
	}
	s := &scope{items: []*item{{columns: p.columns}}, next: len(p.columns)}
	by := c.orders(n.SortClause, func(n *pg.Node) *expr {
		if col := output(n, p.columns); col != nil {
			return c.slot(col.at, col.t, s, 0)
		}
		return c.expr(n, s)
	})
	inner := p.each
	p.each = func(v *env, f func([]value) bool) {
		type keyed struct{ row, keys []value }
		var all []keyed
		inner(v, func(row []value) bool {
			at := &env{q: v.q, row: row, outer: v}
			keys := make([]value, len(by))
			for i, o := range by {
				keys[i] = o.e.at(at)
			}
			v.q.hold(row)
			all = append(all, keyed{row, keys})
			return true
		})
		slices.SortStableFunc(all, func(a, b keyed) int { return v.q.less(by, a.keys, b.keys) })
		for _, k := range all {
			if !f(k.row) {
				return
			}
		}
	}
}

// limited cuts the rows of a plan by LIMIT and OFFSET.
func (c *compiler) limited(p *plan, n *pg.SelectStmt, outer *scope) {
	if n.LimitCount == nil && n.LimitOffset == nil {
		return
	}
	s := &scope{outer: outer}
	count, offset := constant(nil, tInt8), constant(nil, tInt8)
	if n.LimitCount != nil {
		count = c.typed(c.expr(n.LimitCount, s), tInt8, -1)
	}
	if n.LimitOffset != nil {
		offset = c.typed(c.expr(n.LimitOffset, s), tInt8, -1)
	}
	inner := p.each
	p.each = func(v *env, f func([]value) bool) {
		at := &env{q: v.q, outer: v}
		most, bounded := count.at(at).(int64)
		skip, _ := offset.at(at).(int64)
		if bounded && most <= 0 {
			return
		}
		given := int64(0)
		inner(v, func(row []value) bool {
			if skip > 0 {
				skip--
				return true
			}
			given++
			return f(row) && !(bounded && given >= most)
		})
	}
}

// outputName is the name of an expression's column, as the manual's 7.3.2 has it.
func outputName(n *pg.Node) string {
	switch x := n.GetNode().(type) {
	case *pg.Node_ColumnRef:
		return x.ColumnRef.Fields[len(x.ColumnRef.Fields)-1].GetString_().GetSval()
	case *pg.Node_FuncCall:
		return x.FuncCall.Funcname[len(x.FuncCall.Funcname)-1].GetString_().GetSval()
	case *pg.Node_TypeCast:
		if name := outputName(x.TypeCast.Arg); name != "?column?" {
			return name
		}
		return x.TypeCast.TypeName.Names[len(x.TypeCast.TypeName.Names)-1].GetString_().GetSval()
	case *pg.Node_CollateClause:
		return outputName(x.CollateClause.Arg)
	case *pg.Node_CoalesceExpr:
		return "coalesce"
	case *pg.Node_CaseExpr:
		if x.CaseExpr.Defresult != nil {
			if name := outputName(x.CaseExpr.Defresult); name != "?column?" {
				return name
			}
		}
		return "case"
	case *pg.Node_AArrayExpr:
		return "array"
	case *pg.Node_MinMaxExpr:
		if x.MinMaxExpr.Op == pg.MinMaxOp_IS_LEAST {
			return "least"
		}
		return "greatest"
	case *pg.Node_AIndirection:
		for i := len(x.AIndirection.Indirection) - 1; i >= 0; i-- {
			if s := x.AIndirection.Indirection[i].GetString_(); s != nil {
				return s.Sval
			}
		}
		return outputName(x.AIndirection.Arg)
	case *pg.Node_SqlvalueFunction:
		return strings.ToLower(strings.TrimPrefix(strings.TrimSuffix(x.SqlvalueFunction.Op.String(), "_N"), "SVFOP_"))
	case *pg.Node_SubLink:
		switch x.SubLink.SubLinkType {
		case pg.SubLinkType_EXISTS_SUBLINK:
			return "exists"
		case pg.SubLinkType_ARRAY_SUBLINK:
			return "array"
		case pg.SubLinkType_EXPR_SUBLINK:
			if list := x.SubLink.Subselect.GetSelectStmt().GetTargetList(); len(list) == 1 {
				if t := list[0].GetResTarget(); t.Name != "" {
					return t.Name
				}
				return outputName(list[0].GetResTarget().Val)
			}
		}
	}
	return "?column?"
}
