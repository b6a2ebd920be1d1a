package query

import (
	"fmt"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
)

// values binds VALUES: rows of as many values each, of one type by column. The
// columns are called column1, column2 and so on, as PostgreSQL has it.
func (b *binder) values(q *Query, s *pg.SelectStmt, outer *scope) {
	v := &Values{}
	q.Body = v
	names := &scope{outer: outer}
	for _, list := range s.ValuesLists {
		nodes := list.GetList().Items
		if len(v.Rows) > 0 && len(nodes) != len(v.Rows[0]) {
			b.failAs(locate(nodes[0]), Mismatch, "42601", "the rows of VALUES have as many values each: here are %d and %d", len(v.Rows[0]), len(nodes))
		}
		for _, n := range nodes {
			if n.GetSetToDefault() != nil {
				b.unsupported(-1, "DEFAULT here")
			}
		}
		row := b.exprs(nodes, names, nil)
		for i, e := range row {
			b.plain(e, locate(nodes[i]), "VALUES")
		}
		v.Rows = append(v.Rows, row)
	}
	for i := range v.Rows[0] {
		column := make([]Expr, len(v.Rows))
		for j, row := range v.Rows {
			column[j] = row[i]
		}
		column, t := b.common(column, "a column of VALUES", -1)
		for j := range v.Rows {
			v.Rows[j][i] = column[j]
		}
		q.Columns = append(q.Columns, Column{Name: fmt.Sprintf("column%d", i+1), Type: t})
	}
	b.sortOutputs(q, s.SortClause, "VALUES")
}

// recursive binds a WITH query that may read itself: a first part, UNION, and a
// part that is run on what the last round gave (ISO/IEC 9075-2, 7.17).
func (b *binder) recursive(cte *CTE, c *pg.CommonTableExpr, s *pg.SelectStmt, outer *scope) {
	defer b.deeper(c.Location)()
	if s.WithClause != nil || len(s.SortClause) > 0 || s.LimitCount != nil || s.LimitOffset != nil {
		b.unsupported(c.Location, "WITH, ORDER BY or LIMIT of a recursive query")
	}
	op := &SetOp{Op: "UNION", All: s.All, L: b.query(s.Larg, outer)}
	columns := append([]Column(nil), op.L.Columns...)
	for i := range columns {
		columns[i].NotNull = false
	}
	cte.Query = &Query{Body: op, Columns: columns}
	b.nameColumns(cte, c)
	b.withs = append(b.withs, cte)
	op.R = b.query(s.Rarg, outer)
	b.withs = b.withs[:len(b.withs)-1] // the caller puts it there for what follows
	if len(b.needs) > 0 {
		return
	}
	if len(op.R.Columns) != len(columns) {
		b.failAs(c.Location, Mismatch, "42601", "both sides of UNION need as many columns: here are %d and %d", len(columns), len(op.R.Columns))
	}
	for i, r := range op.R.Columns {
		if t, ok := b.unify(columns[i].Type, r.Type); !ok || t != columns[i].Type {
			b.fail(
				c.Location,
				Mismatch,
				"column %d of the WITH query %s is %s at first and %s in its recursive part; add a cast",
				i+1,
				access.Quote(c.Ctename),
				columns[i].Type,
				r.Type,
			)
		}
	}
	b.coerceOutput(op.R, columns)
	if cte.uses > 0 {
		cte.Recursive = true
		if b.exact {
			cte.uses = 0 // the database holds it to its own rules
		} else {
			b.checkRecursion(cte, op.R, c.Location)
		}
	}
}

// checkRecursion holds the recursive part to the form that all databases run: a
// SELECT without groups that joins the query itself once.
func (b *binder) checkRecursion(cte *CTE, part *Query, at int32) {
	sel, plain := part.Body.(*Select)
	if !plain || len(part.With) > 0 || part.Limit != nil || part.Offset != nil || len(part.OrderBy) > 0 || sel.Distinct || len(sel.GroupBy) > 0 ||
		sel.Having != nil {
		b.unsupported(at, "a recursive part that is more than one SELECT … FROM … WHERE")
	}
	for _, item := range sel.Items {
		if AnyExpr(item, IsAggregate) || AnyExpr(item, IsWindow) {
			b.unsupported(at, "an aggregate or window function in the recursive part")
		}
	}
	here := 0
	var look func(From, bool)
	look = func(item From, outer bool) {
		switch item := item.(type) {
		case *Join:
			outer = outer || item.Kind != "INNER" && item.Kind != "CROSS"
			look(item.L, outer)
			look(item.R, outer)
		case *Relation:
			if item.CTE == cte {
				here++
				if outer {
					b.unsupported(at, "an outer join with the recursive query itself")
				}
			}
		}
	}
	for _, item := range sel.From {
		look(item, false)
	}
	if here != 1 || cte.uses != 1 {
		b.unsupported(at, "a recursive part that does not read itself just once, in FROM")
	}
	cte.uses = 0
}
