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
	rows [][]value // of a recursive one, those of the last round
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

// A grouping is what a SELECT has of aggregates, window functions and functions that give sets.
type grouping struct {
	aggregates []*aggregate
	windows    []*window
	sets       []*setCall
	keys       []string // the texts of GROUP BY
	inside     bool     // the arguments of an aggregate are being compiled
}

type aggregate struct {
	name     string
	args     []*expr
	star     bool
	distinct bool
	filter   *expr
	by       []order
}

type window struct {
	name      string
	partition []*expr
	by        []order
	args      []*expr
}

// A setCall is a function in the list of a SELECT that gives a set.
type setCall struct {
	each func(v *env, f func(value) bool)
}

// selectOf compiles one SELECT.
func (c *compiler) selectOf(p *plan, n *pg.SelectStmt, outer *scope) {
	s := &scope{outer: outer}
	g := &grouping{}
	c.groups = append(c.groups, g)
	defer func() { c.groups = c.groups[:len(c.groups)-1] }()
	from := c.from(n, s)
	var targets []*expr
	for _, node := range n.TargetList {
		t := node.GetResTarget()
		if ref := t.Val.GetColumnRef(); ref != nil && ref.Fields[len(ref.Fields)-1].GetAStar() != nil {
			for _, at := range c.star(ref, s) {
				targets = append(targets, c.slot(at.at, at.t, s, 0))
				p.columns = append(p.columns, column{name: at.name, t: at.t})
			}
			continue
		}
		if in := t.Val.GetAIndirection(); in != nil && in.Indirection[len(in.Indirection)-1].GetAStar() != nil {
			fail("0A000", t.Location, "* of a value is not there in questions about the catalog")
		}
		e := c.expr(t.Val, s)
		if e.t == nil {
			e = c.typed(e, tText, t.Location)
		}
		name := t.Name
		if name == "" {
			name = outputName(t.Val)
		}
		targets = append(targets, e)
		p.columns = append(p.columns, column{name: name, t: e.t})
	}
	for i := range p.columns {
		p.columns[i].at = i
	}
	var keys []*expr
	for _, node := range n.GroupClause {
		if node.GetGroupingSet() != nil {
			fail("0A000", -1, "grouping sets are not there in questions about the catalog")
		}
		if col := outputOfGroup(node, p.columns, s); col != nil {
			keys = append(keys, targets[col.at])
			continue
		}
		keys = append(keys, c.expr(node, s))
	}
	var having *expr
	if n.HavingClause != nil {
		having = c.expr(n.HavingClause, s)
	}
	by := c.orders(n.SortClause, func(node *pg.Node) *expr {
		if col := output(node, p.columns); col != nil {
			return targets[col.at]
		}
		return c.expr(node, s)
	})
	var distinctOn []*expr
	for _, node := range n.DistinctClause {
		if node.GetNode() != nil {
			distinctOn = append(distinctOn, c.expr(node, s))
		}
	}
	b := &body{from: from, g: g, keys: keys, having: having, targets: targets, by: by, distinct: len(n.DistinctClause) > 0, on: distinctOn,
		grouped: len(keys) > 0 || len(g.aggregates) > 0 || having != nil, width: s.width}
	p.each = b.each
}

// outputOfGroup is output, for GROUP BY: a column of FROM comes before one that is given.
func outputOfGroup(n *pg.Node, columns []column, s *scope) *column {
	if ref := n.GetColumnRef(); ref != nil && len(ref.Fields) == 1 {
		name := ref.Fields[0].GetString_().GetSval()
		for _, item := range s.items {
			for _, c := range item.columns {
				if c.name == name {
					return nil
				}
			}
		}
	}
	return output(n, columns)
}

// star lists the columns that * or alias.* stands for, with their places.
func (c *compiler) star(ref *pg.ColumnRef, s *scope) []column {
	alias := ""
	if len(ref.Fields) > 1 {
		alias = ref.Fields[len(ref.Fields)-2].GetString_().GetSval()
	}
	var out []column
	found := false
	for _, item := range s.items {
		if alias != "" && item.alias != alias {
			continue
		}
		found = true
		for _, col := range item.columns {
			if alias == "" && col.hidden {
				continue
			}
			out = append(out, column{name: col.name, t: col.t, at: item.place(col)})
		}
	}
	if !found {
		fail("42P01", ref.Location, "missing FROM-clause entry for table %q", alias)
	}
	return out
}

// A body is how one SELECT is run.
type body struct {
	from     func(v *env, f func() bool)
	g        *grouping
	keys     []*expr
	having   *expr
	targets  []*expr
	by       []order
	distinct bool
	on       []*expr
	grouped  bool
	width    func() int
}

// A made is a row that is given, with the keys that it is sorted by.
type made struct{ row, keys, on []value }

func (b *body) each(outer *env, f func([]value) bool) {
	v := &env{q: outer.q, outer: outer, row: make([]value, b.width())}
	if b.grouped {
		b.groups(v, f)
		return
	}
	if len(b.g.windows) > 0 {
		b.windowed(v, f)
		return
	}
	if len(b.by) == 0 && !b.distinct && len(b.g.sets) == 0 {
		b.from(v, func() bool { return f(b.give(v).row) })
		return
	}
	var all []made
	b.from(v, func() bool {
		b.expand(v, func() bool { all = append(all, b.give(v)); return true })
		return true
	})
	b.finish(v, all, f)
}

// expand gives a row as often as the functions in the list give values.
func (b *body) expand(v *env, f func() bool) {
	if len(b.g.sets) == 0 {
		f()
		return
	}
	lists := make([][]value, len(b.g.sets))
	most := 0
	for i, s := range b.g.sets {
		s.each(v, func(x value) bool { lists[i] = append(lists[i], x); v.q.step(); return true })
		most = max(most, len(lists[i]))
	}
	v.sets = make([]value, len(lists))
	for n := range most {
		for i := range lists {
			if v.sets[i] = nil; n < len(lists[i]) {
				v.sets[i] = lists[i][n]
			}
		}
		if !f() {
			return
		}
	}
}

func (b *body) give(v *env) made {
	v.q.step()
	m := made{row: make([]value, len(b.targets))}
	for i, t := range b.targets {
		m.row[i] = t.at(v)
	}
	if len(b.by) > 0 {
		m.keys = make([]value, len(b.by))
		for i, o := range b.by {
			m.keys[i] = o.e.at(v)
		}
	}
	for _, e := range b.on {
		m.on = append(m.on, e.at(v))
	}
	return m
}

// finish sorts rows, leaves out those that are there already, and gives them.
func (b *body) finish(v *env, all []made, f func([]value) bool) {
	if len(b.by) > 0 {
		slices.SortStableFunc(all, func(x, y made) int { return v.q.less(b.by, x.keys, y.keys) })
	}
	seen := map[string]bool{}
	for _, m := range all {
		if b.distinct {
			k := key(m.row...)
			if len(b.on) > 0 {
				k = key(m.on...)
			}
			if seen[k] {
				continue
			}
			seen[k] = true
		}
		if !f(m.row) {
			return
		}
	}
}

// groups gives a row for each group.
func (b *body) groups(v *env, f func([]value) bool) {
	type group struct {
		row    []value
		states []*state
	}
	var groups []*group
	byKey := map[string]*group{}
	start := func() *group {
		g := &group{row: slices.Clone(v.row)}
		for range b.g.aggregates {
			g.states = append(g.states, &state{})
		}
		groups = append(groups, g)
		return g
	}
	keys := make([]value, len(b.keys))
	b.from(v, func() bool {
		v.q.step()
		for i, k := range b.keys {
			keys[i] = k.at(v)
		}
		k := key(keys...)
		g := byKey[k]
		if g == nil {
			g = start()
			byKey[k] = g
		}
		for i, a := range b.g.aggregates {
			g.states[i].take(a, v)
		}
		return true
	})
	if len(groups) == 0 && len(b.keys) == 0 {
		start()
	}
	var all []made
	for _, g := range groups {
		v.row, v.results = g.row, make([]value, len(g.states))
		for i, a := range b.g.aggregates {
			v.results[i] = g.states[i].result(a, v.q)
		}
		if b.having != nil && b.having.at(v) != true {
			continue
		}
		b.expand(v, func() bool { all = append(all, b.give(v)); return true })
	}
	b.finish(v, all, f)
}

// windowed works out window functions over the rows of FROM.
func (b *body) windowed(v *env, f func([]value) bool) {
	var rows [][]value
	b.from(v, func() bool { v.q.step(); rows = append(rows, slices.Clone(v.row)); return true })
	results := make([][]value, len(rows))
	for i := range results {
		results[i] = make([]value, len(b.g.windows))
	}
	for w, win := range b.g.windows {
		type placed struct {
			at   int
			part string
			keys []value
		}
		var list []placed
		for i, row := range rows {
			v.row = row
			p := placed{at: i}
			var parts []value
			for _, e := range win.partition {
				parts = append(parts, e.at(v))
			}
			p.part = key(parts...)
			for _, o := range win.by {
				p.keys = append(p.keys, o.e.at(v))
			}
			list = append(list, p)
		}
		slices.SortStableFunc(list, func(x, y placed) int {
			if c := strings.Compare(x.part, y.part); c != 0 {
				return c
			}
			return v.q.less(win.by, x.keys, y.keys)
		})
		number, rank, dense := int64(0), int64(0), int64(0)
		for i, p := range list {
			if i == 0 || list[i-1].part != p.part {
				number, rank, dense = 0, 0, 0
			}
			number++
			if number == 1 || v.q.less(win.by, list[i-1].keys, p.keys) != 0 {
				rank = number
				dense++
			}
			results[p.at][w] = map[string]int64{"row_number": number, "rank": rank, "dense_rank": dense}[win.name]
		}
	}
	var all []made
	for i, row := range rows {
		v.row, v.windows = row, results[i]
		b.expand(v, func() bool { all = append(all, b.give(v)); return true })
	}
	b.finish(v, all, f)
}

// A state is an aggregate's over a group.
type state struct {
	n    int64
	rows []made // of those that need all values: the arguments, and the keys of their order
	seen map[string]bool
	best value
	sum  value
}

func (s *state) take(a *aggregate, v *env) {
	if a.filter != nil && a.filter.at(v) != true {
		return
	}
	if a.star {
		s.n++
		return
	}
	args := make([]value, len(a.args))
	for i, e := range a.args {
		args[i] = e.at(v)
	}
	if a.distinct {
		if s.seen == nil {
			s.seen = map[string]bool{}
		}
		k := key(args...)
		if s.seen[k] {
			return
		}
		s.seen[k] = true
	}
	switch a.name {
	case "array_agg", "json_agg", "jsonb_agg", "string_agg":
		if a.name == "string_agg" && args[0] == nil {
			return
		}
		m := made{row: args}
		for _, o := range a.by {
			m.keys = append(m.keys, o.e.at(v))
		}
		s.rows = append(s.rows, m)
		return
	}
	if args[0] == nil {
		return
	}
	s.n++
	switch a.name {
	case "min", "max":
		if s.best == nil || (v.q.compare(args[0], s.best) < 0) == (a.name == "min") {
			s.best = args[0]
		}
	case "sum", "avg":
		if s.sum == nil {
			s.sum = args[0]
		} else {
			s.sum = v.q.operate("+", s.sum, args[0])
		}
	case "bool_and", "every":
		s.best = (s.best == nil || s.best == true) && args[0] == true
	case "bool_or":
		s.best = s.best == true || args[0] == true
	}
}

func (s *state) result(a *aggregate, q *run) value {
	switch a.name {
	case "count":
		return s.n
	case "min", "max", "bool_and", "bool_or", "every":
		return s.best
	case "sum":
		return s.sum
	case "avg":
		if s.n == 0 {
			return nil
		}
		return q.operate("/", q.cast(s.sum, nil, tFloat8, -1), float64(s.n))
	}
	if len(s.rows) == 0 {
		return nil
	}
	if len(a.by) > 0 {
		slices.SortStableFunc(s.rows, func(x, y made) int { return q.less(a.by, x.keys, y.keys) })
	}
	if a.name == "string_agg" {
		var b strings.Builder
		for i, m := range s.rows {
			if sep, ok := m.row[len(m.row)-1].(string); ok && i > 0 && len(m.row) > 1 {
				b.WriteString(sep)
			}
			b.WriteString(q.text(m.row[0], a.args[0].t))
			if b.Len() > mostText {
				fail("54000", -1, "a text is longer than %d bytes", mostText)
			}
		}
		return b.String()
	}
	out := listOf()
	for _, m := range s.rows {
		out.items = append(out.items, m.row[0])
	}
	return out
}
