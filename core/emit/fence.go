package emit

import (
	"fmt"
	"slices"
	"strings"

	"gneiss/core/query"
)

// moved is the place of a column in a fenced block.
type moved struct{ alias, name string }

// rowsOf writes FROM and WHERE of a SELECT. Where it has a barrier and a condition
// that is not plain, FROM is a block: the rows that are there for the reader and
// meet what is plain.
func (e *emitter) rowsOf(s *query.Select) {
	s = e.hoisted(s)
	items, where := s.From, s.Where
	barred, hard, self, heavy := false, false, false, 0
	query.EachItem(items, func(item query.From) {
		if r, ok := item.(*query.Relation); ok {
			barred, hard = barred || e.barrier(r), hard || e.hardBarrier(r)
			if e.heavy(r) {
				heavy++
			}
			self = self || r.CTE != nil && slices.Contains(e.defining, r.CTE)
		}
	})
	outer := e.unplainHere
	e.unplainHere = e.unplain(s)
	defer func() { e.unplainHere = outer }()
	if barred {
		items, where = e.unjoined(items, where)
	}
	plain, rest := e.divide(where)
	e.asks(items, rest, s.Having)
	fenced := barred && (rest != nil || e.riskyHaving(s)) || hard && e.whole > 0
	outside := s.Where
	if r := e.guardable(s, items, where); fenced && r != nil {
		e.guarded[r] = guard{plain, rest}
		fenced, outside = false, plain
	}
	switch {
	case fenced && self:
		// A query that reads itself cannot do so in a sub-query, so each barrier beside
		// it is a block of its own.
		e.setApart(items, plain, e.barrier)
		fenced = false
	case barred && e.lateralRisks(items):
		e.setApart(items, plain, func(r *query.Relation) bool { return e.barrier(r) && !r.Lateral })
	case hard && (heavy > 0 || e.joinsWide(conditionsOf(items, plain)...)):
		e.setApart(items, plain, func(r *query.Relation) bool { return e.hardBarrier(r) && (heavy > 1 || !e.heavy(r)) })
	}
	if fenced {
		e.line()
		e.write("FROM ")
		e.block(items, plain)
	} else {
		e.fromItems(s.From)
		rest = outside
	}
	if rest == nil {
		return
	}
	e.line()
	e.write("WHERE ")
	e.besides(e.unplainHere, rest)
}

// conditionsOf lists the conditions of joins, with one more.
func conditionsOf(items []query.From, where query.Expr) []query.Expr {
	all := []query.Expr{where}
	query.EachItem(items, func(item query.From) {
		if j, ok := item.(*query.Join); ok {
			all = append(all, j.On)
		}
	})
	return all
}

// policies is what is known of the policies' condition on a table while it is written: the lists that an index
// is searched for.
type policies struct{ searched []*query.InQuery }

// condition writes the policies' condition on a table; first says that the database may search an index by it.
func (e *emitter) condition(filter query.Expr, first bool) {
	outer := e.policies
	e.policies = &policies{}
	if first {
		e.policies.searched = searched(filter)
	}
	e.expr(filter)
	e.policies = outer
}

// searched are the lists of a condition that PostgreSQL can search an index for: the first of those that must hold, or one
// of each alternative.
func searched(x query.Expr) []*query.InQuery {
	switch x := x.(type) {
	case *query.Binary:
		if x.Op != "AND" && x.Op != "OR" {
			return nil
		}
		l, r := searched(x.L), searched(x.R)
		switch {
		case x.Op == "AND" && len(l) > 0:
			return l // for one index is searched, and the rest is a filter
		case x.Op == "OR" && (len(l) == 0 || len(r) == 0):
			return nil
		}
		return append(l, r...)
	case *query.InQuery:
		if c, is := x.X.(*query.ColumnRef); is && c.Rel.Columns[c.Col].Indexed && x.Op == "" && !correlated(x.Query) {
			return []*query.InQuery{x}
		}
	}
	return nil
}

// A guard is conditions on one table that stand in the sub-query in its place, where what is
// not plain is worked out only for rows that are there and meet the rest.
type guard struct{ plain, rest query.Expr }

// guardable is the one table of a SELECT whose conditions can stand in its place behind a
// guard, which costs less than a fence: the database still reads the table in parallel. It
// is where the policies' own condition is plain, and the conditions are about the table's
// own values alone; nil: there is none. The database does not look into a CASE while it plans.
func (e *emitter) guardable(s *query.Select, items []query.From, where query.Expr) *query.Relation {
	if !e.samples || len(items) != 1 || e.riskyHaving(s) || e.whole > 0 {
		return nil
	}
	r, ok := items[0].(*query.Relation)
	if !ok || r.Governed == nil || r.Governed.Filter == nil || len(r.Governed.Joins) > 0 || e.hardBarrier(r) || e.fails(r.Governed.Filter) {
		return nil
	}
	if query.AnyExpr(r.Governed.Filter, query.IsSubquery) || query.AnyExpr(where, query.IsSubquery) {
		return nil
	}
	foreign := query.AnyExpr(where, func(x query.Expr) bool {
		ref, ok := x.(*query.ColumnRef)
		if !ok {
			return false
		}
		_, treated := r.Governed.Treated[ref.Col]
		return ref.Rel != r || treated
	})
	if foreign {
		return nil
	}
	return r
}

// guard writes the conditions of a guarded table, over the table as it is.
func (e *emitter) guard(r *query.Relation) {
	g, ok := e.guarded[r]
	if !ok {
		return
	}
	e.write(" AND CASE WHEN ")
	e.condition(r.Governed.Filter, false)
	if g.plain != nil {
		e.write(" AND ")
		e.expr(e.onTable(r, g.plain))
	}
	e.write(" THEN ")
	e.expr(e.onTable(r, g.rest))
	e.write(" END")
}

// onTable is a condition on what stands in a table's place, as one on the table itself.
func (e *emitter) onTable(r *query.Relation, x query.Expr) query.Expr {
	return query.Replace(x, func(x query.Expr) query.Expr {
		ref, ok := x.(*query.ColumnRef)
		if !ok || ref.Rel != r {
			return nil
		}
		if treated, ok := r.Governed.Treated[ref.Col]; ok {
			return treated
		}
		return &query.ColumnRef{Rel: r.Governed.Inner, Col: ref.Col}
	})
}

// asks notes the columns that conditions which are not plain are about. Of such a column a
// fence gives the value and not the column itself: the database would else work the condition
// out on the values that it keeps to reckon with, the hidden rows' among them, while it plans.
func (e *emitter) asks(items []query.From, conditions ...query.Expr) {
	note := func(ref *query.ColumnRef) { e.asked[columnKey{ref.Rel, ref.Col}] = true }
	query.EachItem(items, func(item query.From) {
		switch item := item.(type) {
		case *query.Join:
			conditions = append(conditions, item.On)
		case *query.Relation:
			if item.Lateral {
				query.EachExpr(item.Query, func(x query.Expr) { eachColumn(x, note) })
			}
		}
	})
	for _, condition := range conditions {
		for _, c := range query.Conjuncts(condition) {
			if !e.plain(c) {
				eachColumn(c, note)
			}
		}
	}
}

// lateralRisks reports whether a LATERAL query has a condition that is not plain: the database
// takes it out of there, to the rows that it is about.
func (e *emitter) lateralRisks(items []query.From) bool {
	found := false
	query.EachItem(items, func(item query.From) {
		r, ok := item.(*query.Relation)
		found = found || ok && r.Lateral && e.riskyWithin(r.Query)
	})
	return found
}

// setApart makes the relations that which holds for blocks of their own, with the
// conditions that are about them alone.
func (e *emitter) setApart(items []query.From, where query.Expr, which func(*query.Relation) bool) {
	var visit func(item query.From, inner bool) // inner: no NULLs stand for its rows
	visit = func(item query.From, inner bool) {
		switch item := item.(type) {
		case *query.Join:
			both := item.Kind == "INNER" || item.Kind == "CROSS"
			visit(item.L, inner && (both || item.Kind == "LEFT"))
			visit(item.R, inner && (both || item.Kind == "RIGHT"))
		case *query.Relation:
			if !which(item) || item.CTE != nil && slices.Contains(e.defining, item.CTE) {
				return
			}
			e.apart[item] = nil
			if inner {
				e.apart[item] = e.about([]query.From{item}, where)
			}
		}
	}
	for _, item := range items {
		visit(item, true)
	}
}

// besides writes a condition of which n conjuncts are not plain. Where there is
// another beside one with a sub-query, the database could join the sub-query's hard
// barriers before the other is worked out, so they are kept whole.
func (e *emitter) besides(n int, x query.Expr) {
	if n > 1 {
		e.whole++
		defer func() { e.whole-- }()
	}
	e.expr(x)
}

// unjoined takes what is not plain out of the conditions of inner joins, and adds
// it to where.
func (e *emitter) unjoined(items []query.From, where query.Expr) ([]query.From, query.Expr) {
	out := make([]query.From, len(items))
	var open func(item query.From) query.From
	open = func(item query.From) query.From {
		j, ok := item.(*query.Join)
		if !ok || j.Kind != "INNER" && j.Kind != "CROSS" {
			return item
		}
		next := &query.Join{Kind: j.Kind, L: open(j.L), R: open(j.R)}
		plain, rest := e.divide(j.On)
		if next.On = plain; plain == nil {
			next.Kind = "CROSS"
		}
		where = query.And(where, rest)
		return next
	}
	for i, item := range items {
		out[i] = open(item)
	}
	return out, where
}

// side writes a side of a join.
func (e *emitter) side(j *query.Join, item query.From) {
	if e.sideApart(j, item) {
		e.block([]query.From{item}, nil)
		return
	}
	e.joined(item, item == j.R)
}

// sideApart reports whether a side of an outer join is a block of its own. It is where
// the join's condition is not plain; and where NULLs can stand for the side's rows
// and something of it is worked out, which the database does before it joins a hard
// barrier with what its policies need.
func (e *emitter) sideApart(j *query.Join, side query.From) bool {
	if j.Kind == "INNER" || j.Kind == "CROSS" {
		return false
	}
	barred, hard, works := false, false, e.joinsWide(j.On)
	query.EachItem([]query.From{side}, func(item query.From) {
		r, ok := item.(*query.Relation)
		if !ok {
			return
		}
		barred, hard = barred || e.barrier(r), hard || e.hardBarrier(r)
		for i := range r.Columns {
			works = works || e.gives(r, i) && !e.plainColumn(&query.ColumnRef{Rel: r, Col: i})
		}
	})
	nullable := j.Kind == "FULL" || (side == j.R) == (j.Kind == "LEFT")
	return barred && e.risky(j.On) > 0 || nullable && hard && works
}

// gives reports whether a query uses a column of a relation, as far as is known.
func (e *emitter) gives(r *query.Relation, column int) bool {
	return r.Used == nil || r.Query != nil || r.Used[column]
}

// block writes FROM items, and the rows of them that meet a condition, as one
// sub-query that the database keeps whole, and moves references to their columns
// there.
func (e *emitter) block(items []query.From, where query.Expr) {
	alias := e.fresh("rows")
	e.write("(")
	e.indent++
	e.line()
	body := e.detour(func() {
		e.fromItems(items)
		if where != nil {
			e.line()
			e.write("WHERE ")
			e.expr(where)
		}
	})
	e.write("SELECT ")
	places, taken := map[columnKey]moved{}, map[string]bool{}
	query.EachItem(items, func(item query.From) {
		r, ok := item.(*query.Relation)
		if !ok {
			return
		}
		for i, c := range r.Columns {
			if !e.gives(r, i) {
				continue
			}
			name := c.Name
			for n := 2; taken[strings.ToLower(name)]; n++ {
				name = fmt.Sprintf("%s_%d", c.Name, n)
			}
			taken[strings.ToLower(name)] = true
			if len(places) > 0 {
				e.write(", ")
			}
			if e.samples && e.asked[columnKey{r, i}] {
				e.write("coalesce(")
				e.item(&query.ColumnRef{Rel: r, Col: i})
				e.write(")")
			} else {
				e.item(&query.ColumnRef{Rel: r, Col: i})
			}
			e.write(" AS ", quoteName(name))
			places[columnKey{r, i}] = moved{alias, name}
		}
	})
	if len(places) == 0 {
		e.write("1")
	}
	e.write(body)
	e.line()
	e.write(e.fence)
	e.indent--
	e.line()
	e.write(") AS ", quoteName(alias))
	for key, place := range places {
		e.moved[key] = place
	}
}

// kept reports whether a view is kept whole: its owner lends their rights, and not
// all of its conditions are plain. They are worked out on every row, whatever its
// reader asks.
func (e *emitter) kept(r *query.Relation) bool {
	return r.Lends && r.Query.Limit == nil && r.Query.Offset == nil && e.riskyWithin(r.Query)
}

// keptWhole writes a query with a fence of its own.
func (e *emitter) keptWhole(q *query.Query) {
	e.indent++
	e.line()
	if _, plain := q.Body.(*query.Select); plain {
		e.query(q)
	} else {
		e.write("SELECT * FROM (")
		e.nested(q)
		e.write(") AS ", quoteName(e.fresh("q")))
	}
	e.line()
	e.write(e.fence)
	e.indent--
	e.line()
}

// about is what of a condition's plain conjuncts is about FROM items alone.
func (e *emitter) about(items []query.From, where query.Expr) query.Expr {
	own := map[*query.Relation]bool{}
	query.EachItem(items, func(item query.From) {
		if r, ok := item.(*query.Relation); ok {
			own[r] = true
		}
	})
	var out query.Expr
	for _, c := range query.Conjuncts(where) {
		foreign := query.AnyExpr(c, func(x query.Expr) bool { ref, ok := x.(*query.ColumnRef); return ok && !own[ref.Rel] })
		if !foreign && e.plain(c) {
			out = query.And(out, c)
		}
	}
	return out
}
