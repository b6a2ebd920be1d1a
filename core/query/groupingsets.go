package query

import (
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// Grouping sets (ISO/IEC 9075-2, 7.13) become a UNION ALL of one grouped query
// for each set, in which the expressions that the set leaves out are NULL.

// mostSets bounds the queries that one becomes; all of a text together may be
// four times as many.
const mostSets = 64

// A groupingSet is one of the sets that a query is grouped by.
type groupingSet struct {
	all []*pg.Node // the expressions of all sets
	in  []bool     // which of them the set has
}

func (b *binder) hasGroupingSets(s *pg.SelectStmt) bool {
	return slices.ContainsFunc(s.GroupClause, func(n *pg.Node) bool { return n.GetGroupingSet() != nil })
}

// groupingSets binds a query that is grouped by several sets.
func (b *binder) groupingSets(q *Query, s *pg.SelectStmt, outer *scope) {
	if len(s.DistinctClause) > 0 || len(s.WindowClause) > 0 {
		b.unsupported(-1, "DISTINCT or WINDOW with GROUPING SETS, ROLLUP or CUBE")
	}
	all, sets := b.listSets(s)
	for _, set := range sets {
		if b.groups++; b.groups > 4*mostSets { // nested ones multiply
			b.fail(-1, Unsupported, "the query and its sub-queries are grouped by more than %d sets", 4*mostSets)
		}
		one := &groupingSet{all: all, in: make([]bool, len(all))}
		for _, i := range set {
			one.in[i] = true
		}
		part := &Query{}
		b.selectBody(part, s, outer, one)
		if q.Body == nil {
			q.Body, q.Columns = part.Body, part.Columns
			continue
		}
		left := &Query{Body: q.Body, Columns: q.Columns}
		q.Body = &SetOp{Op: "UNION", All: true, L: left, R: part}
		q.Columns = slices.Clone(q.Columns)
	}
	for i := range q.Columns {
		q.Columns[i].NotNull = false
	}
	b.sortOutputs(q, s.SortClause, "GROUPING SETS")
}

// listSets lists the expressions that a query is grouped by, and which of them are in each
// of its sets.
func (b *binder) listSets(s *pg.SelectStmt) (all []*pg.Node, sets [][]int) {
	index := func(n *pg.Node) int {
		all = append(all, n)
		return len(all) - 1
	}
	sets = [][]int{{}}
	for _, n := range s.GroupClause {
		sets = b.product(sets, b.setsOf(n, index))
	}
	return all, sets
}

// distinctSets leaves each of the sets once.
func distinctSets(sets [][]int) [][]int {
	var out [][]int
	for _, set := range sets {
		sorted := slices.Compact(slices.Sorted(slices.Values(set)))
		if !slices.ContainsFunc(out, func(o []int) bool { return slices.Equal(o, sorted) }) {
			out = append(out, sorted)
		}
	}
	return out
}

// setsOf lists the sets that an item of GROUP BY stands for.
func (b *binder) setsOf(n *pg.Node, index func(*pg.Node) int) [][]int {
	g := n.GetGroupingSet()
	if g == nil {
		return [][]int{b.listed(n, index)}
	}
	var sets [][]int
	switch g.Kind {
	case pg.GroupingSetKind_GROUPING_SET_EMPTY:
		return [][]int{{}}
	case pg.GroupingSetKind_GROUPING_SET_SETS:
		for _, item := range g.Content {
			sets = append(sets, b.setsOf(item, index)...)
		}
	case pg.GroupingSetKind_GROUPING_SET_ROLLUP:
		for n := len(g.Content); n >= 0; n-- {
			set := []int{}
			for _, item := range g.Content[:n] {
				set = append(set, b.listed(item, index)...)
			}
			sets = append(sets, set)
		}
	case pg.GroupingSetKind_GROUPING_SET_CUBE:
		if len(g.Content) > 6 {
			b.unsupported(g.Location, "CUBE of more than six items")
		}
		for mask := 1<<len(g.Content) - 1; mask >= 0; mask-- {
			set := []int{}
			for i, item := range g.Content {
				if mask&(1<<(len(g.Content)-1-i)) != 0 {
					set = append(set, b.listed(item, index)...)
				}
			}
			sets = append(sets, set)
		}
	default:
		b.unsupported(g.Location, "this kind of grouping set")
	}
	return sets
}

// listed lists the expressions of one item: itself, or those of a list in
// parentheses.
func (b *binder) listed(n *pg.Node, index func(*pg.Node) int) []int {
	if n.GetGroupingSet() != nil {
		b.unsupported(n.GetGroupingSet().Location, "a grouping set within ROLLUP or CUBE")
	}
	row := n.GetRowExpr()
	if row == nil {
		return []int{index(n)}
	}
	var set []int
	for _, item := range row.Args {
		set = append(set, index(item))
	}
	return set
}

// product joins every set of one item with every set of the next.
func (b *binder) product(left, right [][]int) [][]int {
	if len(left)*len(right) > mostSets {
		b.fail(-1, Unsupported, "the query is grouped by more than %d sets", mostSets)
	}
	var out [][]int
	for _, l := range left {
		for _, r := range right {
			out = append(out, append(slices.Clone(l), r...))
		}
	}
	return out
}

// groupBySet leaves the groups of one set, and NULL in place of what it leaves
// out.
func (b *binder) groupBySet(sel *Select, in []bool) {
	all := sel.GroupBy
	sel.GroupBy = nil
	var out []Expr
	for i, e := range all {
		switch {
		case !in[i]:
			out = append(out, e)
		case !among(sel.GroupBy, e):
			sel.GroupBy = append(sel.GroupBy, e)
		}
	}
	level := func(e Expr) Expr {
		c, ok := e.(*Call)
		switch {
		case ok && c.Fn == grouping:
			bits := int64(0)
			for _, a := range c.Args {
				bits <<= 1
				switch {
				case among(sel.GroupBy, a):
				case among(out, a):
					bits |= 1
				default:
					b.fail(-1, Grouping, "GROUPING takes what the query is grouped by")
				}
			}
			return &Literal{Bigint, bits}
		case ok && c.Over != nil:
			b.unsupported(-1, "a window function with GROUPING SETS, ROLLUP or CUBE")
		case IsAggregate(e):
			return e
		case among(sel.GroupBy, e):
			return e
		case among(out, e):
			return &Literal{T: e.Type()}
		case subqueryUses(e, out):
			b.unsupported(-1, "a sub-query over grouped columns with GROUPING SETS, ROLLUP or CUBE")
		}
		return nil
	}
	for i, e := range sel.Items {
		sel.Items[i] = Replace(e, level)
	}
	if sel.Having != nil {
		sel.Having = Replace(sel.Having, level)
	} else if len(sel.GroupBy) == 0 {
		sel.Having = &Literal{Boolean, true} // all rows are one group, also where there are none
	}
}

// grouping is GROUPING(…): which of its arguments the row is not grouped by, as
// the bits of a number.
var grouping = &Function{Name: "grouping"}

func isGrouping(e Expr) bool {
	c, ok := e.(*Call)
	return ok && c.Fn == grouping
}

// ungrouped refuses GROUPING where it has no meaning.
func (b *binder) ungrouped(e Expr, what string) {
	if AnyExpr(e, isGrouping) {
		b.fail(-1, Grouping, "GROUPING cannot stand in %s", what)
	}
}

// subqueryUses reports whether a sub-query reads one of the expressions.
func subqueryUses(e Expr, list []Expr) bool {
	used := false
	if q := Subquery(e); q != nil {
		EachExpr(q, func(x Expr) { used = used || among(list, x) })
	}
	return used
}
