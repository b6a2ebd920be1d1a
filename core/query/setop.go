package query

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// setOperation binds UNION, INTERSECT and EXCEPT.
func (b *binder) setOperation(q *Query, s *pg.SelectStmt, outer *scope) {
	op := &SetOp{All: s.All, L: b.side(s.Larg, outer), R: b.side(s.Rarg, outer)}
	q.Body = op
	op.Op = strings.TrimPrefix(s.Op.String(), "SETOP_")
	if op.All && op.Op != "UNION" && !b.exact {
		b.unsupported(-1, op.Op+" ALL")
	}
	l, r := op.L.Columns, op.R.Columns
	if len(l) != len(r) {
		if len(b.needs) > 0 {
			q.Columns = l
			return
		}
		b.failAs(-1, Mismatch, "42601", "both sides of %s need as many columns: here are %d and %d", op.Op, len(l), len(r))
	}
	for i := range l {
		t, ok := b.unify(l[i].Type, r[i].Type)
		if !ok && b.exact {
			b.common([]Expr{&Literal{T: l[i].Type}, &Literal{T: r[i].Type}}, op.Op, -1)
		}
		if !ok {
			b.fail(-1, Mismatch, "column %d of %s is %s on one side and %s on the other; add a cast", i+1, op.Op, l[i].Type, r[i].Type)
		}
		c := Column{Name: l[i].Name, Type: t, NotNull: l[i].NotNull && r[i].NotNull}
		if l[i].Declared == r[i].Declared && l[i].Type == r[i].Type {
			c.Declared = l[i].Declared
		}
		q.Columns = append(q.Columns, c)
	}
	b.coerceOutput(op.L, q.Columns)
	b.coerceOutput(op.R, q.Columns)
	b.sortOutputs(q, s.SortClause, op.Op)
}

// side binds one side of a set operation, whose literals get the types of the other.
func (b *binder) side(s *pg.SelectStmt, outer *scope) *Query {
	b.open = b.exact
	defer func() { b.open = false }()
	return b.query(s, outer)
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
		if q.Columns[i].Type != to[i].Type {
			q.Columns[i].Type, q.Columns[i].Declared = to[i].Type, to[i].Declared
		}
	}
}
