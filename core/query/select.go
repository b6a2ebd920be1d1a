package query

import (
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// query binds a SELECT with its WITH, ORDER BY and LIMIT. Names it does not
// have are looked for in outer.
func (b *binder) query(s *pg.SelectStmt, outer *scope) *Query {
	defer b.deeper(-1)()
	q := &Query{}
	open := b.open
	b.open = false
	outside := len(b.withs)
	defer func() { b.withs = b.withs[:outside] }()
	if s.WithClause != nil {
		b.with(q, s.WithClause, outer)
	}
	switch {
	case s.IntoClause != nil:
		b.unsupported(-1, "INTO")
	case len(s.LockingClause) > 0:
		b.unsupported(-1, "FOR UPDATE or SHARE")
	}
	switch {
	case len(s.ValuesLists) > 0:
		b.values(q, s, outer)
	case s.Op != pg.SetOperation_SETOP_NONE:
		b.setOperation(q, s, outer)
	case b.hasGroupingSets(s) && !b.exact:
		b.groupingSets(q, s, outer)
	default:
		b.selectBody(q, s, outer, nil)
	}
	q.Limit, q.Offset = b.count(s.LimitCount, "LIMIT", outer), b.count(s.LimitOffset, "OFFSET", outer)
	if s.LimitOption == pg.LimitOption_LIMIT_OPTION_WITH_TIES {
		if !b.exact {
			b.unsupported(-1, "WITH TIES")
		}
		q.Ties = true
	}
	if b.exact && !open {
		b.settle(q)
	}
	return q
}

// settle makes texts of the literals of a select list that nothing gave a type.
func (b *binder) settle(q *Query) {
	to := make([]Column, len(q.Columns))
	found := false
	for i, c := range q.Columns {
		to[i] = Column{Type: c.Type, Declared: c.Declared}
		if c.Type == nil {
			to[i].Type, found = Text, true
		}
	}
	if found && len(b.needs) == 0 {
		b.coerceOutput(q, to)
	}
}

func (b *binder) with(q *Query, w *pg.WithClause, outer *scope) {
	if w.Recursive { // each of them may name all of them, also those that come
		for _, n := range w.Ctes {
			b.withs = append(b.withs, &CTE{Name: n.GetCommonTableExpr().Ctename})
		}
	}
	for _, n := range w.Ctes {
		c := n.GetCommonTableExpr()
		sub := c.Ctequery.GetSelectStmt()
		if sub == nil {
			b.unsupported(c.Location, "a WITH query that is no SELECT")
		}
		if slices.ContainsFunc(q.With, func(x *CTE) bool { return x.Name == c.Ctename }) {
			b.failAs(c.Location, Ambiguous, "42712", "the WITH query %s is there twice", access.Quote(c.Ctename))
		}
		if (c.SearchClause != nil || c.CycleClause != nil) && !b.exact {
			b.unsupported(c.Location, "SEARCH or CYCLE of a WITH query")
		}
		cte := &CTE{Name: c.Ctename}
		if b.exact {
			cte.Keep = map[pg.CTEMaterialize]string{
				pg.CTEMaterialize_CTEMaterializeAlways: "MATERIALIZED ",
				pg.CTEMaterialize_CTEMaterializeNever:  "NOT MATERIALIZED ",
			}[c.Ctematerialized]
		}
		if w.Recursive && sub.Op == pg.SetOperation_SETOP_UNION {
			b.recursive(cte, c, sub, outer)
		} else {
			cte.Query = b.query(sub, outer)
			b.nameColumns(cte, c)
		}
		b.searching(cte, c)
		q.With = append(q.With, cte)
		b.withs = append(b.withs, cte)
	}
}

// searching binds SEARCH and CYCLE of a recursive query.
func (b *binder) searching(cte *CTE, c *pg.CommonTableExpr) {
	if c.SearchClause == nil && c.CycleClause == nil || len(b.needs) > 0 {
		return
	}
	if !cte.Recursive {
		b.fail(c.Location, Mismatch, "SEARCH and CYCLE are of a WITH query that reads itself")
	}
	places := func(nodes []*pg.Node) (out []int) {
		for _, name := range texts(nodes) {
			i := slices.IndexFunc(cte.Query.Columns, func(c Column) bool { return c.Name == name })
			if i < 0 {
				b.fail(c.Location, Unknown, "the WITH query %s has no column %s", access.Quote(cte.Name), access.Quote(name))
			}
			out = append(out, i)
		}
		return out
	}
	add := func(name string, t Type) {
		if slices.ContainsFunc(append(slices.Clone(cte.Query.Columns), cte.More...), func(c Column) bool { return c.Name == name }) {
			b.fail(c.Location, Ambiguous, "the WITH query %s has a column %s already", access.Quote(cte.Name), access.Quote(name))
		}
		cte.More = append(cte.More, Column{Name: name, Type: t})
	}
	if s := c.SearchClause; s != nil {
		cte.Search = &Search{places(s.SearchColList), s.SearchBreadthFirst, s.SearchSeqColumn}
		t := sqltype.Record
		if !s.SearchBreadthFirst {
			t = t.Array
		}
		add(s.SearchSeqColumn, t)
	}
	if s := c.CycleClause; s != nil {
		values, t := b.common([]Expr{b.expr(s.CycleMarkValue, &scope{}), b.expr(s.CycleMarkDefault, &scope{})}, "CYCLE", c.Location)
		mark := func(e Expr) *Literal {
			l, ok := e.(*Literal)
			if !ok || ValueOf(l) == nil || t != Boolean && t != sqltype.Int4 && t != Text {
				b.unsupported(c.Location, "a mark of CYCLE that is no constant truth value, whole number or text")
			}
			return l
		}
		cte.Cycle = &Cycle{places(s.CycleColList), s.CycleMarkColumn, s.CyclePathColumn, mark(values[0]), mark(values[1])}
		add(s.CycleMarkColumn, t)
		add(s.CyclePathColumn, sqltype.Record.Array)
	}
}

func (b *binder) nameColumns(cte *CTE, c *pg.CommonTableExpr) {
	names := texts(c.Aliascolnames)
	if len(names) > len(cte.Query.Columns) {
		b.failAs(
			c.Location,
			Mismatch,
			"42P10",
			"the WITH query %s has %d columns, but %d names are given",
			access.Quote(c.Ctename),
			len(cte.Query.Columns),
			len(names),
		)
	}
	for i, name := range names {
		cte.Query.Columns[i].Name = name
	}
}

// count binds LIMIT and OFFSET: a whole number that is not negative.
func (b *binder) count(n *pg.Node, what string, outer *scope) Expr {
	if n == nil {
		return nil
	}
	if b.exact {
		e := b.convertLiteral(b.expr(n, &scope{outer: outer}), Bigint, locate(n))
		if l, ok := e.(*Literal); ok && l.Value == nil {
			return nil // LIMIT ALL, LIMIT NULL
		}
		if !e.Type().Number() {
			b.fail(locate(n), Mismatch, "%s takes a number, not %s", what, e.Type())
		}
		b.plain(e, locate(n), what)
		return e
	}
	e, ok := b.expr(n, &scope{}).(*Literal)
	if ok && e.Value == nil {
		return nil // LIMIT ALL, LIMIT NULL
	}
	if v, isInt := ValueOf(e).(int64); ok && isInt && v >= 0 {
		return e
	}
	b.fail(locate(n), Mismatch, "%s takes a whole number from 0", what)
	return nil
}

// ValueOf gives the value of a literal; of none it is nil. Where it is a deferred parameter's
// the text has to be planned with its value, so that this plan is given up.
func ValueOf(l *Literal) any {
	if l == nil {
		return nil
	}
	if d, ok := l.Value.(Deferred); ok {
		panic(&Error{Code: Unsupported, Text: fmt.Sprintf("the plan depends on the value of $%d", d.N)})
	}
	return l.Value
}

// selectBody binds one SELECT; set is the one of its grouping sets that it is
// bound for, or nil where it has none.
func (b *binder) selectBody(q *Query, s *pg.SelectStmt, outer *scope, set *groupingSet) {
	sel := &Select{}
	q.Body = sel
	names := &scope{outer: outer}
	sel.From = b.bindFrom(s.FromClause, names)
	if s.WhereClause != nil {
		sel.Where = b.condition(s.WhereClause, names, "WHERE")
		b.plain(sel.Where, locate(s.WhereClause), "WHERE")
	}
	w := b.windows(s.WindowClause)
	for _, n := range s.TargetList {
		b.targetItem(q, sel, n.GetResTarget(), names, w)
	}
	if len(sel.Items) == 0 && !b.exact {
		b.unsupported(-1, "a SELECT without columns")
	}
	for i, item := range sel.Items {
		names.aliases = append(names.aliases, named{q.Columns[i].Name, item})
	}
	group := s.GroupClause
	if set != nil {
		group = set.all
	}
	if b.exact && b.hasGroupingSets(s) {
		group, sel.Sets = b.listSets(s)
	}
	for _, n := range group {
		sel.GroupBy = append(sel.GroupBy, b.groupItem(n, sel, names))
	}
	if s.GroupDistinct && b.exact {
		sel.Sets = distinctSets(sel.Sets)
	} else if s.GroupDistinct {
		b.unsupported(-1, "GROUP BY DISTINCT")
	}
	if s.HavingClause != nil {
		sel.Having = b.condition(s.HavingClause, names, "HAVING")
		if AnyExpr(sel.Having, IsWindow) {
			b.failAs(locate(s.HavingClause), Grouping, "42P20", "a window function cannot stand in HAVING")
		}
	}
	var first []Expr // of DISTINCT ON
	if len(s.DistinctClause) > 0 {
		if s.DistinctClause[0].GetNode() == nil {
			sel.Distinct = true
		} else {
			first = b.distinctOn(s, sel, names)
			if b.exact {
				sel.Distinct, sel.On = true, first
			}
		}
	}
	if set == nil {
		for _, n := range s.SortClause {
			q.OrderBy = append(q.OrderBy, b.sortItem(n.GetSortBy(), q, sel, names, w))
		}
	}
	b.checkGrouping(q, sel, names, first)
	switch {
	case b.exact:
	case set != nil:
		b.groupBySet(sel, set.in)
	case slices.ContainsFunc(sel.Items, func(e Expr) bool { return AnyExpr(e, isGrouping) }) || AnyExpr(sel.Having, isGrouping):
		b.groupBySet(sel, slices.Repeat([]bool{true}, len(sel.GroupBy)))
	}
	if first != nil && !b.exact {
		b.firstOfEach(q, sel, first)
	}
}

// targetItem binds one item of the select list.
func (b *binder) targetItem(q *Query, sel *Select, t *pg.ResTarget, s *scope, w windows) {
	if ref := t.Val.GetColumnRef(); ref != nil && ref.Fields[len(ref.Fields)-1].GetAStar() != nil {
		for _, c := range b.star(ref, s) {
			b.output(q, sel, c.expr, c.name)
		}
		return
	}
	if i := t.Val.GetAIndirection(); i != nil && len(i.Indirection) == 1 && i.Indirection[0].GetAStar() != nil && b.exact {
		of := b.exprIn(i.Arg, s, w)
		if row, ok := of.(*TableRow); ok {
			for i, x := range row.List {
				b.output(q, sel, x, row.Names[i])
			}
			return
		}
		call, ok := of.(*Call)
		if !ok || call.Fn.Routine == nil || len(call.fields()) == 0 {
			b.unsupported(t.Location, "* of this value")
		}
		for _, f := range call.fields() {
			b.output(q, sel, &FieldOf{call, f.Name, f.Type}, f.Name)
		}
		return
	}
	e := b.exprIn(t.Val, s, w)
	if l, ok := e.(*Literal); ok && l.T == Untyped && l.Value != nil && !b.exact {
		e = &Literal{Text, l.Value}
	}
	name := t.Name
	if name == "" {
		name = outputName(t.Val)
	}
	s.made = append(s.made, made{t.Val, e})
	b.output(q, sel, e, name)
}

func (b *binder) output(q *Query, sel *Select, e Expr, name string) {
	sel.Items = append(sel.Items, e)
	c := Column{Name: name, Type: e.Type(), Declared: declaredOf(e)}
	if of, ok := e.(*ColumnRef); ok {
		c.NotNull = of.Rel.Columns[of.Col].NotNull
	}
	q.Columns = append(q.Columns, c)
}

// outputName is the name of a column that is given none, as PostgreSQL has it.
func outputName(n *pg.Node) string {
	name, _ := figuredName(n)
	if name == "" {
		return "?column?"
	}
	return name
}

// figuredName is outputName, with how much the name says: a type's or that of CASE gives way to
// one from within.
func figuredName(n *pg.Node) (name string, strong bool) {
	or := func(n *pg.Node, weak string) (string, bool) {
		if name, strong := figuredName(n); strong {
			return name, true
		}
		return weak, false
	}
	switch v := n.GetNode().(type) {
	case *pg.Node_ColumnRef:
		return v.ColumnRef.Fields[len(v.ColumnRef.Fields)-1].GetString_().GetSval(), true
	case *pg.Node_AIndirection:
		for _, step := range slices.Backward(v.AIndirection.Indirection) {
			if name := step.GetString_(); name != nil {
				return name.Sval, true
			}
		}
		return figuredName(v.AIndirection.Arg)
	case *pg.Node_FuncCall:
		name := texts(v.FuncCall.Funcname)
		return name[len(name)-1], true
	case *pg.Node_AExpr:
		nullif := v.AExpr.Kind == pg.A_Expr_Kind_AEXPR_NULLIF
		return map[bool]string{true: "nullif"}[nullif], nullif
	case *pg.Node_TypeCast:
		names := texts(v.TypeCast.TypeName.Names)
		return or(v.TypeCast.Arg, names[len(names)-1])
	case *pg.Node_CollateClause:
		return figuredName(v.CollateClause.Arg)
	case *pg.Node_GroupingFunc:
		return "grouping", true
	case *pg.Node_CaseExpr:
		return or(v.CaseExpr.Defresult, "case")
	case *pg.Node_AArrayExpr:
		return "array", true
	case *pg.Node_RowExpr:
		return "row", true
	case *pg.Node_CoalesceExpr:
		return "coalesce", true
	case *pg.Node_MinMaxExpr:
		return strings.ToLower(strings.TrimPrefix(v.MinMaxExpr.Op.String(), "IS_")), true
	case *pg.Node_SqlvalueFunction:
		return strings.TrimSuffix(strings.ToLower(strings.TrimPrefix(v.SqlvalueFunction.Op.String(), "SVFOP_")), "_n"), true
	case *pg.Node_SubLink:
		switch v.SubLink.SubLinkType {
		case pg.SubLinkType_EXISTS_SUBLINK:
			return "exists", true
		case pg.SubLinkType_ARRAY_SUBLINK:
			return "array", true
		case pg.SubLinkType_EXPR_SUBLINK:
			if list := firstSelect(v.SubLink.Subselect.GetSelectStmt()).GetTargetList(); len(list) > 0 {
				if name := list[0].GetResTarget().GetName(); name != "" {
					return name, true
				}
				return outputName(list[0].GetResTarget().GetVal()), true
			}
		}
	}
	return "", false
}

// firstSelect is the SELECT that gives a query's columns their names.
func firstSelect(s *pg.SelectStmt) *pg.SelectStmt {
	for s.GetLarg() != nil {
		s = s.Larg
	}
	return s
}

// sortItem binds an item of ORDER BY: an output column by name or number, else
// an expression over FROM. NULLs are last unless DESC or told otherwise.
func (b *binder) sortItem(n *pg.SortBy, q *Query, sel *Select, s *scope, w windows) Order {
	o := b.direction(n)
	if i, ok := b.position(n.Node, len(q.Columns), "ORDER BY"); ok {
		o.Output = i
	} else if name := plainName(n.Node); name != "" {
		if e := b.aliased(s, name, n.Node); e != nil {
			o.Output = 1 + slices.IndexFunc(s.aliases, func(a named) bool { return a.name == name })
		}
	}
	if o.Output > 0 {
		o.NotNull = q.Columns[o.Output-1].NotNull
		return o
	}
	o.Expr = b.exprIn(n.Node, s, w)
	if c, ok := o.Expr.(*ColumnRef); ok {
		o.NotNull = c.Rel.Columns[c.Col].NotNull
	}
	if i := slices.IndexFunc(sel.Items, func(e Expr) bool { return Same(e, o.Expr) }); i >= 0 {
		o.Output = i + 1
	} else if sel.Distinct && len(sel.On) == 0 {
		b.failAs(locate(n.Node), Grouping, "42P10", "with DISTINCT, ORDER BY takes only what is selected")
	}
	return o
}

func (b *binder) direction(n *pg.SortBy) Order {
	o := Order{Desc: n.SortbyDir == pg.SortByDir_SORTBY_DESC}
	if n.SortbyDir == pg.SortByDir_SORTBY_USING {
		b.unsupported(locate(n.Node), "ORDER BY … USING")
	}
	o.NullsFirst = o.Desc
	switch n.SortbyNulls {
	case pg.SortByNulls_SORTBY_NULLS_FIRST:
		o.NullsFirst = true
	case pg.SortByNulls_SORTBY_NULLS_LAST:
		o.NullsFirst = false
	}
	return o
}
