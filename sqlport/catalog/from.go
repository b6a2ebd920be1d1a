package catalog

import (
	"slices"
	"strconv"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

// A step is an item of FROM, or a join in parentheses, that is met after others: for each of their
// rows, its own are put into the places that it has.
type step struct {
	item  *item
	each  func(v *env, f func([]value) bool) // its rows, for those of the steps before
	rel   *relation                          // of the catalog; nil: it is none
	inner []*step                            // of a join in parentheses
	left  bool                               // where none of its rows fits, one of NULLs does
	on    []*expr                            // of a left join
	tests []*expr                            // what else rows must meet once it is met
	first int                                // its places
	width int
	// Where rows of a relation are looked up: which of its columns, by what.
	by   int
	with *expr
}

// from compiles FROM and WHERE.
func (c *compiler) from(n *pg.SelectStmt, s *scope) func(v *env, f func() bool) {
	var steps []*step
	var conditions []*expr
	for _, node := range n.FromClause {
		more, conds := c.fromItem(node, s)
		steps, conditions = append(steps, more...), append(conditions, conds...)
	}
	if n.WhereClause != nil {
		for _, node := range conjuncts(n.WhereClause) {
			e := c.typed(c.expr(node, s), tBool, -1)
			if e.aggregated {
				fail("42803", -1, "aggregate functions are not allowed in WHERE")
			}
			conditions = append(conditions, c.withLookup(node, e, s))
		}
	}
	steps = ordered(steps, conditions)
	place(steps, conditions)
	for i, one := range steps {
		if !one.left && one.inner == nil {
			c.lookUp(one, earlier(steps[:i+1], conditions))
		}
	}
	return func(v *env, f func() bool) { run1(v, steps, f) }
}

// run1 meets the steps one after the other. Where there is none, there is one row.
func run1(v *env, steps []*step, f func() bool) bool {
	if len(steps) == 0 {
		return f()
	}
	s, rest := steps[0], steps[1:]
	more, matched := true, false
	after := func() bool {
		v.q.step()
		for _, on := range s.on {
			if on.at(v) != true {
				return true
			}
		}
		matched = true
		for _, test := range s.tests {
			if test.at(v) != true {
				return true
			}
		}
		more = run1(v, rest, f)
		return more
	}
	if s.inner != nil {
		run1(v, s.inner, after)
	} else {
		s.each(v, func(row []value) bool {
			copy(v.row[s.first:s.first+s.width], row)
			return after()
		})
	}
	if more && s.left && !matched {
		clear(v.row[s.first : s.first+s.width])
		for _, test := range s.tests {
			if test.at(v) != true {
				return true
			}
		}
		more = run1(v, rest, f)
	}
	return more
}

// fromItem compiles an item of FROM, to one or more steps, and the conditions that are like those
// of WHERE.
func (c *compiler) fromItem(n *pg.Node, s *scope) ([]*step, []*expr) {
	switch x := n.GetNode().(type) {
	case *pg.Node_RangeVar:
		return []*step{c.relation(x.RangeVar, s)}, nil
	case *pg.Node_RangeSubselect:
		return []*step{c.derived(x.RangeSubselect, s)}, nil
	case *pg.Node_RangeFunction:
		return []*step{c.function(x.RangeFunction, s)}, nil
	case *pg.Node_JoinExpr:
		return c.join(x.JoinExpr, s)
	}
	fail("0A000", -1, "this item of FROM is not there in questions about the catalog")
	return nil, nil
}

// add gives an item its places.
func (s *scope) add(i *item) {
	for n := range i.columns {
		i.columns[n].at = n
	}
	i.first = s.next
	s.next += len(i.columns)
	s.items = append(s.items, i)
}

func stepOf(i *item, each func(v *env, f func([]value) bool)) *step {
	return &step{item: i, each: each, first: i.first, width: len(i.columns), by: -1}
}

// renamed gives the columns of an item the names of its alias.
func renamed(i *item, alias *pg.Alias) {
	if alias == nil {
		return
	}
	i.alias = alias.Aliasname
	for n, name := range alias.Colnames {
		if n < len(i.columns) {
			i.columns[n].name = name.GetString_().GetSval()
		}
	}
}

func (c *compiler) relation(v *pg.RangeVar, s *scope) *step {
	if v.Schemaname == "" {
		for i := len(c.ctes) - 1; i >= 0; i-- {
			if one := c.ctes[i]; one.name == v.Relname {
				it := &item{alias: v.Relname, columns: slices.Clone(one.plan.columns)}
				renamed(it, v.Alias)
				s.add(it)
				return stepOf(it, func(v *env, f func([]value) bool) {
					rows := v.q.rounds[one]
					if !one.self {
						rows = v.q.kept(one.plan)
					}
					for _, row := range rows {
						if !f(row) {
							return
						}
					}
				})
			}
		}
	}
	rel := find(v.Schemaname, v.Relname)
	if rel == nil {
		name := v.Relname
		if v.Schemaname != "" {
			name = v.Schemaname + "." + name
		}
		fail("42P01", v.Location, "relation %q does not exist", name)
	}
	it := &item{alias: v.Relname, rel: rel}
	for i, col := range rel.columns {
		it.columns = append(it.columns, column{name: col.name, t: col.t, source: i})
	}
	if !slices.ContainsFunc(it.columns, func(c column) bool { return c.name == "tableoid" }) {
		it.columns = append(it.columns, column{name: "tableoid", t: tOID, hidden: true, source: -1})
	}
	renamed(it, v.Alias)
	s.add(it)
	st := stepOf(it, nil)
	st.rel = rel
	st.each = func(v *env, f func([]value) bool) {
		if st.by >= 0 {
			by := st.with.at(v)
			if by == nil {
				return
			}
			v.q.lookup(rel, st.by, by, f)
			return
		}
		v.q.scan(rel, f)
	}
	return st
}

// kept are the rows of a plan that depends on nothing around it.
func (q *run) kept(p *plan) [][]value {
	if p.correlated {
		fail("0A000", -1, "a WITH query that depends on what is around it is not there in questions about the catalog")
	}
	rows, ok := q.once[p]
	if !ok {
		rows = [][]value{}
		p.each(&env{q: q}, func(row []value) bool { q.step(); q.hold(row); rows = append(rows, row); return true })
		q.once[p] = rows
	}
	return rows
}

func (c *compiler) derived(r *pg.RangeSubselect, s *scope) *step {
	outer := s.outer
	if r.Lateral {
		outer = s
	}
	p := c.query(r.Subquery.GetSelectStmt(), outer)
	it := &item{columns: slices.Clone(p.columns), lateral: r.Lateral}
	renamed(it, r.Alias)
	s.add(it)
	return stepOf(it, func(v *env, f func([]value) bool) {
		switch {
		case r.Lateral:
			p.each(v, f)
		case p.correlated:
			p.each(v.outer, f)
		default:
			for _, row := range v.q.kept(p) {
				if !f(row) {
					return
				}
			}
		}
	})
}

// function compiles a function in FROM.
func (c *compiler) function(r *pg.RangeFunction, s *scope) *step {
	if r.IsRowsfrom && len(r.Functions) > 1 || len(r.Coldeflist) > 0 {
		fail("0A000", -1, "ROWS FROM is not there in questions about the catalog")
	}
	node := r.Functions[0].GetList().Items[0]
	it := &item{lateral: true}
	var each func(v *env, f func([]value) bool)
	call := node.GetFuncCall()
	if call == nil {
		e := c.expr(node, s)
		it.columns = []column{{name: outputName(node), t: e.t}}
		each = func(v *env, f func([]value) bool) { f([]value{e.at(v)}) }
	} else {
		name := call.Funcname[len(call.Funcname)-1].GetString_().GetSval()
		it.alias = name
		if set, ok := sets[name]; ok {
			args := c.exprs(call.Args, s)
			columns := set.columns(c, args)
			it.columns = slices.Clone(columns)
			it.scalar = len(columns) == 1
			each = func(v *env, f func([]value) bool) {
				values := make([]value, len(args))
				for i, a := range args {
					values[i] = a.at(v)
				}
				set.each(v.q, values, func(row []value) bool { v.q.step(); return f(row) })
			}
		} else {
			e := c.expr(node, s)
			it.columns, it.scalar = []column{{name: name, t: e.t}}, true
			each = func(v *env, f func([]value) bool) { f([]value{e.at(v)}) }
		}
	}
	if r.Ordinality {
		it.columns = append(it.columns, column{name: "ordinality", t: tInt8})
		inner := each
		each = func(v *env, f func([]value) bool) {
			n := int64(0)
			inner(v, func(row []value) bool { n++; return f(append(slices.Clone(row), n)) })
		}
	}
	if r.Alias != nil && len(it.columns) == 1 && len(r.Alias.Colnames) == 0 {
		it.columns[0].name = r.Alias.Aliasname
	}
	renamed(it, r.Alias)
	s.add(it)
	return stepOf(it, each)
}

// join compiles a join to steps: the left side's, then the right side's.
func (c *compiler) join(j *pg.JoinExpr, s *scope) ([]*step, []*expr) {
	if j.Alias != nil {
		fail("0A000", -1, "an alias of a join is not there in questions about the catalog")
	}
	l, r := j.Larg, j.Rarg
	kind := j.Jointype
	if kind == pg.JoinType_JOIN_RIGHT {
		kind = pg.JoinType_JOIN_LEFT
		l, r = r, l
	}
	if kind != pg.JoinType_JOIN_INNER && kind != pg.JoinType_JOIN_LEFT {
		fail("0A000", -1, "a FULL JOIN is not there in questions about the catalog")
	}
	left, conditions := c.fromItem(l, s)
	mark := len(s.items)
	right, more := c.fromItem(r, s)
	var on []*expr
	for _, name := range c.usingOf(j, s, mark) {
		a, b := c.pair(name, s, mark)
		same := c.binary("=", c.slot(a.at, a.t, s, 0), c.slot(b.at, b.t, s, 0), -1)
		c.sides[same] = [2]*expr{c.slot(a.at, a.t, s, 0), c.slot(b.at, b.t, s, 0)}
		on = append(on, same)
	}
	if j.Quals != nil {
		for _, node := range conjuncts(j.Quals) {
			on = append(on, c.withLookup(node, c.typed(c.expr(node, s), tBool, -1), s))
		}
	}
	if kind == pg.JoinType_JOIN_INNER {
		return append(left, right...), append(append(conditions, more...), on...)
	}
	if len(right) == 1 && len(more) == 0 && !right[0].left {
		right[0].left, right[0].on = true, on
		c.lookUp(right[0], on)
		return append(left, right...), conditions
	}
	place(right, more)
	for _, one := range right {
		c.lookUp(one, one.tests)
	}
	whole := &step{inner: right, left: true, on: on, first: right[0].first, by: -1}
	for _, one := range right {
		whole.first = min(whole.first, one.first)
	}
	for _, one := range right {
		whole.width = max(whole.width, one.first+one.width-whole.first)
	}
	return append(left, whole), conditions
}

// usingOf lists the columns of USING, or those that both sides of a NATURAL JOIN have.
func (c *compiler) usingOf(j *pg.JoinExpr, s *scope, mark int) []string {
	var out []string
	for _, n := range j.UsingClause {
		out = append(out, n.GetString_().GetSval())
	}
	if !j.IsNatural {
		return out
	}
	for _, right := range s.items[mark:] {
		for _, col := range right.columns {
			if slices.ContainsFunc(s.items[:mark], func(i *item) bool { return i.has(col.name) }) && !col.hidden {
				out = append(out, col.name)
			}
		}
	}
	return out
}

// pair finds the columns that USING joins. The right one is hidden then.
func (c *compiler) pair(name string, s *scope, mark int) (a, b column) {
	find := func(items []*item, hide bool) (column, bool) {
		for _, it := range items {
			for i, col := range it.columns {
				if col.name == name && !col.hidden {
					it.columns[i].hidden = hide
					col.at = it.place(col)
					return col, true
				}
			}
		}
		return column{}, false
	}
	a, left := find(s.items[:mark], false)
	b, right := find(s.items[mark:], true)
	if !left || !right {
		fail("42703", -1, "column %q specified in USING clause does not exist in both tables", name)
	}
	return a, b
}

func (i *item) has(name string) bool {
	return slices.ContainsFunc(i.columns, func(c column) bool { return c.name == name && !c.hidden })
}

// A relation is one of the catalog's own tables.
type relation struct {
	oid     uint32
	schema  string
	name    string
	view    bool
	columns []layoutColumn
}

type layoutColumn struct {
	name string
	t    *sqltype.Type
}

// lookup hands the rows of a relation to f whose column has a value.
func (q *run) lookup(rel *relation, column int, by value, f func([]value) bool) {
	if rows, ok := q.session.quick(rel, column, by); ok {
		for _, row := range rows {
			q.step()
			if !f(row) {
				return
			}
		}
		return
	}
	at := rel.schema + "." + rel.name + " " + strconv.Itoa(column)
	index, ok := q.indexes[at]
	if !ok {
		index = map[string][][]value{}
		q.scan(rel, func(row []value) bool {
			k := key(row[column])
			q.hold(row[column : column+1])
			index[k] = append(index[k], row)
			return true
		})
		q.indexes[at] = index
	}
	for _, row := range index[key(by)] {
		q.step()
		if !f(row) {
			return
		}
	}
}

// scan hands all rows of a relation to f.
func (q *run) scan(rel *relation, f func([]value) bool) {
	for _, row := range q.session.rows(rel) {
		q.step()
		if !f(row) {
			return
		}
	}
}
