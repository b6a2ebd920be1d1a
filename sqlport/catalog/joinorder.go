package catalog

import (
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// conjuncts parts a condition at its ANDs.
func conjuncts(n *pg.Node) []*pg.Node {
	if b := n.GetBoolExpr(); b != nil && b.Boolop == pg.BoolExprType_AND_EXPR {
		var out []*pg.Node
		for _, arg := range b.Args {
			out = append(out, conjuncts(arg)...)
		}
		return out
	}
	return []*pg.Node{n}
}

// withLookup keeps with an equality the two sides of it, so that rows can be looked up by it.
func (c *compiler) withLookup(n *pg.Node, e *expr, s *scope) *expr {
	x := n.GetAExpr()
	if x == nil || x.Kind != pg.A_Expr_Kind_AEXPR_OP || x.Lexpr == nil || x.Name[len(x.Name)-1].GetString_().GetSval() != "=" {
		return e
	}
	l, r := c.expr(x.Lexpr, s), c.expr(x.Rexpr, s)
	if l.t == nil {
		l = c.typed(l, r.t, -1)
	}
	if r.t == nil {
		r = c.typed(r, l.t, -1)
	}
	l, r = c.alike(l, r, -1)
	c.sides[e] = [2]*expr{l, r}
	return e
}

// ordered puts the steps into an order in which each is linked with those before it, where it can.
func ordered(steps []*step, conditions []*expr) []*step {
	if slices.ContainsFunc(steps, func(s *step) bool { return s.left || s.item != nil && s.item.lateral }) {
		return steps
	}
	var out []*step
	met := map[int]bool{}
	for len(steps) > 0 {
		next := 0
		if len(out) > 0 {
			for i, s := range steps {
				if slices.ContainsFunc(conditions, func(e *expr) bool { return links(e, s, met) }) {
					next = i
					break
				}
			}
		}
		s := steps[next]
		steps = slices.Delete(slices.Clone(steps), next, next+1)
		out = append(out, s)
		for i := range s.width {
			met[s.first+i] = true
		}
	}
	return out
}

// links reports whether a condition is about a step and about what was met before it.
func links(e *expr, s *step, met map[int]bool) bool {
	here, there := false, false
	for r := range e.refs {
		switch {
		case r >= s.first && r < s.first+s.width:
			here = true
		case met[r]:
			there = true
		default:
			return false
		}
	}
	return here && there
}

// place gives each condition to the first step after which all that it is about is there.
func place(steps []*step, conditions []*expr) {
	for _, e := range conditions {
		need := -1
		for i, s := range steps {
			for r := range e.refs {
				if r >= s.first && r < s.first+s.width {
					need = max(need, i)
				}
			}
		}
		if need < 0 {
			if need = len(steps) - 1; need < 0 {
				continue
			}
		}
		steps[need].tests = append(steps[need].tests, e)
	}
}

// earlier lists the conditions that are about the last of some steps and those before it alone.
func earlier(steps []*step, conditions []*expr) []*expr {
	var out []*expr
	for _, e := range conditions {
		all := true
		for r := range e.refs {
			all = all && slices.ContainsFunc(steps, func(s *step) bool { return r >= s.first && r < s.first+s.width })
		}
		if all {
			out = append(out, e)
		}
	}
	return out
}

// lookUp finds an equality by which the rows of a relation can be looked up.
func (c *compiler) lookUp(s *step, conditions []*expr) {
	if s.rel == nil || s.by >= 0 {
		return
	}
	for _, e := range conditions {
		sides, ok := c.sides[e]
		if !ok {
			continue
		}
		for i := range sides {
			mine, other := sides[i], sides[1-i]
			if len(mine.refs) != 1 || mine.outer || slices.ContainsFunc(refsOf(other), func(r int) bool { return r >= s.first && r < s.first+s.width }) {
				continue
			}
			place := refsOf(mine)[0]
			if place < s.first || place >= s.first+s.width {
				continue
			}
			col := s.item.columns[place-s.first]
			if col.source < 0 || col.t != mine.t {
				continue // a column that is cast cannot be looked up as it is
			}
			s.by, s.with = col.source, other
			return
		}
	}
}

func refsOf(e *expr) []int {
	out := make([]int, 0, len(e.refs))
	for r := range e.refs {
		out = append(out, r)
	}
	return out
}
