package query

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
)

// query binds a SELECT with its WITH, ORDER BY and LIMIT. Names it does not
// have are looked for in outer.
func (b *binder) query(s *pg.SelectStmt, outer *scope) *Query {
	defer b.deeper(-1)()
	q := &Query{}
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
	case b.hasGroupingSets(s):
		b.groupingSets(q, s, outer)
	default:
		b.selectBody(q, s, outer, nil)
	}
	q.Limit, q.Offset = b.count(s.LimitCount, "LIMIT"), b.count(s.LimitOffset, "OFFSET")
	if s.LimitOption == pg.LimitOption_LIMIT_OPTION_WITH_TIES {
		b.unsupported(-1, "WITH TIES")
	}
	return q
}

func (b *binder) with(q *Query, w *pg.WithClause, outer *scope) {
	for _, n := range w.Ctes {
		c := n.GetCommonTableExpr()
		sub := c.Ctequery.GetSelectStmt()
		if sub == nil {
			b.unsupported(c.Location, "a WITH query that is no SELECT")
		}
		if slices.ContainsFunc(q.With, func(x *CTE) bool { return x.Name == c.Ctename }) {
			b.fail(c.Location, Ambiguous, "the WITH query %s is there twice", access.Quote(c.Ctename))
		}
		if c.SearchClause != nil || c.CycleClause != nil {
			b.unsupported(c.Location, "SEARCH or CYCLE of a WITH query")
		}
		cte := &CTE{Name: c.Ctename}
		if w.Recursive && sub.Op == pg.SetOperation_SETOP_UNION {
			b.recursive(cte, c, sub, outer)
		} else {
			cte.Query = b.query(sub, outer)
			b.nameColumns(cte, c)
		}
		q.With = append(q.With, cte)
		b.withs = append(b.withs, cte)
	}
}

func (b *binder) nameColumns(cte *CTE, c *pg.CommonTableExpr) {
	names := texts(c.Aliascolnames)
	if len(names) > len(cte.Query.Columns) {
		b.fail(c.Location, Mismatch, "the WITH query %s has %d columns, but %d names are given", access.Quote(c.Ctename), len(cte.Query.Columns), len(names))
	}
	for i, name := range names {
		cte.Query.Columns[i].Name = name
	}
}

// count binds LIMIT and OFFSET: a whole number that is not negative.
func (b *binder) count(n *pg.Node, what string) Expr {
	if n == nil {
		return nil
	}
	e, ok := b.expr(n, &scope{}).(*Literal)
	if ok && e.Value == nil {
		return nil // LIMIT ALL, LIMIT NULL
	}
	if v, isInt := valueOf(e).(int64); ok && isInt && v >= 0 {
		return e
	}
	b.fail(locate(n), Mismatch, "%s takes a whole number from 0", what)
	return nil
}

func valueOf(l *Literal) any {
	if l == nil {
		return nil
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
	if len(sel.Items) == 0 {
		b.unsupported(-1, "a SELECT without columns")
	}
	for i, item := range sel.Items {
		names.aliases = append(names.aliases, named{q.Columns[i].Name, item})
	}
	group := s.GroupClause
	if set != nil {
		group = set.all
	}
	for _, n := range group {
		sel.GroupBy = append(sel.GroupBy, b.groupItem(n, sel, names))
	}
	if s.GroupDistinct {
		b.unsupported(-1, "GROUP BY DISTINCT")
	}
	if s.HavingClause != nil {
		sel.Having = b.condition(s.HavingClause, names, "HAVING")
		if anyExpr(sel.Having, isWindow) {
			b.fail(locate(s.HavingClause), Grouping, "a window function cannot stand in HAVING")
		}
	}
	var first []Expr // of DISTINCT ON
	if len(s.DistinctClause) > 0 {
		if s.DistinctClause[0].GetNode() == nil {
			sel.Distinct = true
		} else {
			first = b.distinctOn(s, sel, names)
		}
	}
	if set == nil {
		for _, n := range s.SortClause {
			q.OrderBy = append(q.OrderBy, b.sortItem(n.GetSortBy(), q, sel, names, w))
		}
	}
	b.checkGrouping(q, sel, names, first)
	switch {
	case set != nil:
		b.groupBySet(sel, set.in)
	case slices.ContainsFunc(sel.Items, func(e Expr) bool { return anyExpr(e, isGrouping) }) || anyExpr(sel.Having, isGrouping):
		b.groupBySet(sel, slices.Repeat([]bool{true}, len(sel.GroupBy)))
	}
	if first != nil {
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
	e := b.exprIn(t.Val, s, w)
	if l, ok := e.(*Literal); ok && l.T == Untyped && l.Value != nil {
		e = &Literal{Text, l.Value}
	}
	name := t.Name
	if name == "" {
		name = outputName(t.Val)
	}
	b.output(q, sel, e, name)
}

func (b *binder) output(q *Query, sel *Select, e Expr, name string) {
	sel.Items = append(sel.Items, e)
	notNull := false
	if c, ok := e.(*ColumnRef); ok {
		notNull = c.Rel.Columns[c.Col].NotNull
	}
	q.Columns = append(q.Columns, Column{Name: name, Type: e.Type(), NotNull: notNull})
}

// outputName is the name of a column that is given none, as PostgreSQL has it.
func outputName(n *pg.Node) string {
	switch v := n.GetNode().(type) {
	case *pg.Node_ColumnRef:
		return v.ColumnRef.Fields[len(v.ColumnRef.Fields)-1].GetString_().GetSval()
	case *pg.Node_FuncCall:
		name := texts(v.FuncCall.Funcname)
		return name[len(name)-1]
	case *pg.Node_TypeCast:
		if name := outputName(v.TypeCast.Arg); name != "?column?" {
			return name
		}
		name := texts(v.TypeCast.TypeName.Names)
		return name[len(name)-1]
	case *pg.Node_CaseExpr:
		return "case"
	case *pg.Node_CoalesceExpr:
		return "coalesce"
	case *pg.Node_MinMaxExpr:
		return strings.ToLower(strings.TrimPrefix(v.MinMaxExpr.Op.String(), "IS_"))
	case *pg.Node_SqlvalueFunction:
		return strings.ToLower(strings.TrimPrefix(v.SqlvalueFunction.Op.String(), "SVFOP_"))
	case *pg.Node_SubLink:
		switch v.SubLink.SubLinkType {
		case pg.SubLinkType_EXISTS_SUBLINK:
			return "exists"
		case pg.SubLinkType_EXPR_SUBLINK:
			if list := v.SubLink.Subselect.GetSelectStmt().GetTargetList(); len(list) == 1 {
				if name := list[0].GetResTarget().GetName(); name != "" {
					return name
				}
				return outputName(list[0].GetResTarget().GetVal())
			}
		}
	}
	return "?column?"
}

// star expands * and alias.*. Where the session may read only some columns of a
// table, the refusal names the others and gives the text with those it may.
func (b *binder) star(ref *pg.ColumnRef, s *scope) []named {
	columns := s.columns
	if len(ref.Fields) > 2 {
		b.unsupported(ref.Location, "a * behind more than one name")
	}
	if len(ref.Fields) == 2 {
		r := b.relationNamed(s, ref.Fields[0].GetString_().GetSval(), ref.Location)
		columns = columnsOf(r)
	} else if len(s.columns) == 0 && !opaque(s) {
		b.fail(ref.Location, Unknown, "* without a FROM clause")
	}
	var readable, barred []string
	for _, c := range columns {
		if col, ok := c.expr.(*ColumnRef); ok && !b.readable(col) {
			barred = append(barred, access.Quote(c.name))
			continue
		}
		readable = append(readable, access.Quote(c.name))
	}
	if len(barred) > 0 {
		prefix := ""
		if len(ref.Fields) == 2 {
			prefix = access.Quote(ref.Fields[0].GetString_().GetSval()) + "."
		}
		star := strings.IndexByte(b.text[ref.Location:], '*') + 1
		line, col := place(b.text, ref.Location)
		e := &Error{Code: Refused, Line: line, Col: col,
			Text: "* takes in columns that are not granted to you: " + strings.Join(barred, ", ") + ". With those that are:\n" +
				b.text[:ref.Location] + prefix + strings.Join(readable, ", "+prefix) + b.text[int(ref.Location)+star:]}
		for _, c := range columns {
			if col, ok := c.expr.(*ColumnRef); ok && !b.readable(col) {
				e.Needs = append(e.Needs, access.Need{Privilege: access.Select, Object: col.Rel.Columns[col.Col].ID})
			}
		}
		panic(e)
	}
	for _, c := range columns {
		b.useAll(c.expr)
	}
	return columns
}

func (b *binder) readable(e *ColumnRef) bool {
	r := e.Rel
	if b.own || r.Table == nil {
		return true
	}
	v := b.rights.Resolve(r.Table.ID)
	return v.Covers(access.Select, r.Columns[e.Col].ID)
}

// useAll marks the columns that an expression of a scope stands for as read.
func (b *binder) useAll(e Expr) {
	anyExpr(e, func(x Expr) bool {
		if c, ok := x.(*ColumnRef); ok {
			b.use(c)
		}
		return false
	})
}

func opaque(s *scope) bool {
	return slices.ContainsFunc(s.relations, func(r *Relation) bool { return r.opaque })
}

// groupItem binds an item of GROUP BY: a column of FROM, else an output column
// by name or number, else an expression.
func (b *binder) groupItem(n *pg.Node, sel *Select, s *scope) Expr {
	if i, ok := b.position(n, len(sel.Items), "GROUP BY"); ok {
		return b.groupable(sel.Items[i-1], n)
	}
	if name := plainName(n); name != "" && b.plainColumn(&scope{relations: s.relations, columns: s.columns}, name, locate(n)) == nil {
		if e := b.aliased(s, name, n); e != nil {
			return b.groupable(e, n)
		}
	}
	return b.groupable(b.expr(n, s), n)
}

func (b *binder) groupable(e Expr, n *pg.Node) Expr {
	b.plain(e, locate(n), "GROUP BY")
	return e
}

// aliased finds the output column of the name, or returns nil.
func (b *binder) aliased(s *scope, name string, n *pg.Node) Expr {
	var found Expr
	for _, a := range s.aliases {
		if a.name == name {
			if found != nil && !same(found, a.expr) {
				b.fail(locate(n), Ambiguous, "two output columns are called %s", access.Quote(name))
			}
			found = a.expr
		}
	}
	return found
}

// plainName returns the name when the node is a column's name without more.
func plainName(n *pg.Node) string {
	if ref := n.GetColumnRef(); ref != nil && len(ref.Fields) == 1 {
		return ref.Fields[0].GetString_().GetSval()
	}
	return ""
}

// position reads a number that stands for an output column.
func (b *binder) position(n *pg.Node, most int, what string) (int, bool) {
	c := n.GetAConst()
	if c == nil {
		return 0, false
	}
	if _, isInt := c.Val.(*pg.A_Const_Ival); !isInt {
		b.fail(c.Location, Mismatch, "%s takes a name, an expression or the number of an output column", what)
	}
	i := int(c.GetIval().GetIval())
	if i < 1 || i > most {
		b.fail(c.Location, Unknown, "%s %d: there are %d output columns", what, i, most)
	}
	return i, true
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
	if i := slices.IndexFunc(sel.Items, func(e Expr) bool { return same(e, o.Expr) }); i >= 0 {
		o.Output = i + 1
	} else if sel.Distinct {
		b.fail(locate(n.Node), Grouping, "with DISTINCT, ORDER BY takes only what is selected")
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

// checkGrouping refuses columns that are neither grouped nor aggregated, as ISO
// SQL does; SQLite would take any row's value.
func (b *binder) checkGrouping(q *Query, sel *Select, s *scope, more []Expr) {
	grouped := len(sel.GroupBy) > 0 || sel.Having != nil
	all := append(append(slices.Clone(sel.Items), sel.Having), more...)
	for _, o := range q.OrderBy {
		if o.Expr != nil {
			all = append(all, o.Expr)
			b.ungrouped(o.Expr, "ORDER BY")
		}
	}
	for _, e := range all {
		grouped = grouped || anyExpr(e, isAggregate)
	}
	if !grouped || len(b.needs) > 0 {
		return
	}
	for _, e := range all {
		b.groupedOnly(e, sel, s)
	}
}

func (b *binder) groupedOnly(e Expr, sel *Select, s *scope) {
	if e == nil || isAggregate(e) || slices.ContainsFunc(sel.GroupBy, func(g Expr) bool { return same(g, e) }) {
		return
	}
	if c, ok := e.(*ColumnRef); ok && owns(sel.From, c.Rel) {
		b.fail(-1, Grouping, "column %s must be in GROUP BY or inside an aggregate function", access.Quote(c.Rel.Columns[c.Col].Name))
	}
	if q := subquery(e); q != nil {
		b.groupedSubquery(q, sel, s)
	}
	for _, c := range children(e) {
		b.groupedOnly(c, sel, s)
	}
}

// groupedSubquery looks for columns of a grouped query inside a sub-query of
// its select list.
func (b *binder) groupedSubquery(q *Query, sel *Select, s *scope) {
	eachExpr(q, func(e Expr) {
		if c, ok := e.(*ColumnRef); ok && owns(sel.From, c.Rel) &&
			!slices.ContainsFunc(sel.GroupBy, func(g Expr) bool { return same(g, e) }) {
			b.fail(-1, Grouping, "column %s, used in a sub-query, must be in GROUP BY", access.Quote(c.Rel.Columns[c.Col].Name))
		}
	})
}

// owns reports whether the relation is one of the FROM items.
func owns(items []From, r *Relation) bool {
	return slices.ContainsFunc(items, func(f From) bool {
		if j, ok := f.(*Join); ok {
			return owns([]From{j.L, j.R}, r)
		}
		return f == From(r)
	})
}

// setOperation binds UNION, INTERSECT and EXCEPT.
func (b *binder) setOperation(q *Query, s *pg.SelectStmt, outer *scope) {
	op := &SetOp{All: s.All, L: b.query(s.Larg, outer), R: b.query(s.Rarg, outer)}
	q.Body = op
	op.Op = strings.TrimPrefix(s.Op.String(), "SETOP_")
	if op.All && op.Op != "UNION" {
		b.unsupported(-1, op.Op+" ALL")
	}
	l, r := op.L.Columns, op.R.Columns
	if len(l) != len(r) {
		if len(b.needs) > 0 {
			q.Columns = l
			return
		}
		b.fail(-1, Mismatch, "both sides of %s need as many columns: here are %d and %d", op.Op, len(l), len(r))
	}
	for i := range l {
		t, ok := unify(l[i].Type, r[i].Type)
		if !ok {
			b.fail(-1, Mismatch, "column %d of %s is %s on one side and %s on the other; add a cast", i+1, op.Op, l[i].Type, r[i].Type)
		}
		q.Columns = append(q.Columns, Column{Name: l[i].Name, Type: t, NotNull: l[i].NotNull && r[i].NotNull})
	}
	b.coerceOutput(op.L, q.Columns)
	b.coerceOutput(op.R, q.Columns)
	b.sortOutputs(q, s.SortClause, op.Op)
}

// sortOutputs binds an ORDER BY that can name output columns only.
func (b *binder) sortOutputs(q *Query, clause []*pg.Node, after string) {
	for _, n := range clause {
		o := b.direction(n.GetSortBy())
		if i, ok := b.position(n.GetSortBy().Node, len(q.Columns), "ORDER BY"); ok {
			o.Output = i
		} else {
			name := plainName(n.GetSortBy().Node)
			o.Output = 1 + slices.IndexFunc(q.Columns, func(c Column) bool { return c.Name == name })
			if o.Output == 0 {
				b.fail(locate(n.GetSortBy().Node), Unknown, "after %s, ORDER BY takes the name or number of an output column", after)
			}
		}
		o.NotNull = q.Columns[o.Output-1].NotNull
		q.OrderBy = append(q.OrderBy, o)
	}
}

// coerceOutput makes the select list of one side give the common types.
func (b *binder) coerceOutput(q *Query, to []Column) {
	for i := range to {
		switch body := q.Body.(type) {
		case *Select:
			body.Items[i] = b.convert(body.Items[i], to[i].Type, -1)
		case *SetOp:
			b.coerceOutput(body.L, to)
			b.coerceOutput(body.R, to)
		case *Values:
			for _, row := range body.Rows {
				row[i] = b.convert(row[i], to[i].Type, -1)
			}
		}
		q.Columns[i].Type = to[i].Type
	}
}
