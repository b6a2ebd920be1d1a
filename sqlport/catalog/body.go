package catalog

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// A grouping is what a SELECT has of aggregates, window functions and functions that give sets.
type grouping struct {
	aggregates []*aggregate
	windows    []*window
	sets       []*setCall
	inside     bool // the arguments of an aggregate are being compiled
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
		s.each(v, func(x value) bool {
			v.q.step()
			v.q.hold([]value{x})
			lists[i] = append(lists[i], x)
			return true
		})
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
	if len(b.by) > 0 || b.distinct || b.grouped || len(b.g.sets) > 0 || len(b.g.windows) > 0 { // they are all kept
		v.q.hold(m.row)
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
		v.q.hold(g.row)
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
	b.from(v, func() bool { v.q.step(); v.q.hold(v.row); rows = append(rows, slices.Clone(v.row)); return true })
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
		v.q.hold(args)
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
		v.q.hold(m.row)
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
