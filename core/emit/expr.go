package emit

import (
	"fmt"

	"gneiss/core/query"
)

// A dialect writes what the databases spell in ways of their own. What all of
// them spell alike is the emitter's.
type dialect interface {
	argument(n int, a Arg)
	now(t query.Type)
	null(t query.Type)
	truth(v bool)
	column(c *query.ColumnRef)
	item(x query.Expr) // where a value is given on as it is
	binary(x *query.Binary)
	inList(x *query.InList)
	inQuery(x *query.InQuery)
	scalarQuery(q *query.Query)
	like(x *query.Like)
	cast(x *query.Cast)
	call(c *query.Call)
	treated(x *query.Treated)
	// sortKey writes a sort key of a query, or with nil one of a window or call.
	sortKey(o query.Order, q *query.Query)
	// sortable returns the query in a form whose sort keys can be written.
	sortable(q *query.Query) *query.Query
}

// A spelling is what a dialect writes in fixed words.
type spelling struct {
	mark   string // before the number of an argument
	cross  string // a join without a condition
	offset string // OFFSET without LIMIT
	fence  string // which keeps a sub-query whole
	// samples says that the database keeps values of columns, and works conditions out on
	// them while it plans.
	samples bool
	// ownName says that RETURNING and ON CONFLICT know the changed table by its own
	// name, and not by its alias.
	ownName bool
}

// expr writes an expression. Whatever has operands stands in parentheses, so that
// precedence is the tree's.
func (e *emitter) expr(x query.Expr) {
	switch x := x.(type) {
	case *query.ColumnRef:
		e.dialect.column(x)
	case *query.Literal:
		e.literal(x)
	case *query.Now:
		e.dialect.now(x.T)
	case *query.Unary:
		e.write("(", x.Op, " ")
		e.expr(x.X)
		e.write(")")
	case *query.Binary:
		e.dialect.binary(x)
	case *query.IsTrue:
		e.write("((")
		e.expr(x.X)
		e.write(") IS TRUE)")
	case *query.IsNull:
		e.write("(")
		e.expr(x.X)
		e.write(" IS ", not(x.Not), "NULL)")
	case *query.OfType:
		e.dialect.(sqlite).ofType(x.X)
	case *query.InList:
		if len(x.List) == 0 {
			e.dialect.truth(x.Not)
			return
		}
		e.dialect.inList(x)
	case *query.InQuery:
		e.dialect.inQuery(x)
	case *query.Exists:
		e.write("EXISTS (")
		e.nested(x.Query)
		e.write(")")
	case *query.Scalar:
		e.dialect.scalarQuery(x.Query)
	case *query.Case:
		e.write("CASE")
		for _, w := range x.Whens {
			e.write(" WHEN ")
			e.expr(w.If)
			e.write(" THEN ")
			e.expr(w.Then)
		}
		if x.Else != nil {
			e.write(" ELSE ")
			e.expr(x.Else)
		}
		e.write(" END")
	case *query.Cast:
		e.dialect.cast(x)
	case *query.Like:
		e.dialect.like(x)
	case *query.Call:
		e.dialect.call(x)
	case *query.Treated:
		e.dialect.treated(x)
	default:
		if d, ok := e.dialect.(postgres); ok && d.extra(x) {
			return
		}
		panic(fmt.Sprintf("query: no case for %T", x))
	}
}

func not(b bool) string {
	if b {
		return "NOT "
	}
	return ""
}

func (e *emitter) literal(l *query.Literal) {
	switch v := l.Value.(type) {
	case nil:
		e.dialect.null(l.T)
	case bool:
		e.dialect.truth(v)
	case query.Deferred:
		e.arg(Arg{Param: v.N, T: l.T})
	default:
		e.arg(Arg{Value: v, T: l.T})
	}
}

// infix writes an operator between its operands.
func (e *emitter) infix(l query.Expr, op string, r query.Expr) {
	e.write("(")
	e.expr(l)
	e.write(" ", op, " ")
	e.expr(r)
	e.write(")")
}

// commas writes the items of a list with commas between them.
func (e *emitter) commas(list []query.Expr, item func(i int, x query.Expr)) {
	for i, x := range list {
		if i > 0 {
			e.write(", ")
		}
		item(i, x)
	}
}

func (e *emitter) exprs(list []query.Expr) {
	e.commas(list, func(_ int, x query.Expr) { e.expr(x) })
}

// aggregated writes a call of an aggregate or window function by its name.
func (e *emitter) aggregated(name string, c *query.Call, args func()) {
	e.write(name, "(")
	if c.Distinct {
		e.write("DISTINCT ")
	}
	if c.Star {
		e.write("*")
	}
	args()
	for i, o := range c.Order {
		e.write(map[bool]string{true: " ORDER BY ", false: ", "}[i == 0])
		e.dialect.sortKey(o, nil)
	}
	e.write(")")
	if c.Filter != nil {
		e.write(" FILTER (WHERE ")
		e.expr(c.Filter)
		e.write(")")
	}
	if c.Over != nil {
		e.over(c.Over)
	}
}

func (e *emitter) over(w *query.Window) {
	e.write(" OVER (")
	if len(w.Partition) > 0 {
		e.write("PARTITION BY ")
		e.compared++
		e.commas(w.Partition, func(_ int, x query.Expr) { e.item(x) })
		e.compared--
	}
	for i, o := range w.Order {
		if i == 0 {
			e.write(" ORDER BY ")
		} else {
			e.write(", ")
		}
		e.dialect.sortKey(o, nil)
	}
	if f := w.Frame; f != nil {
		e.write(" ", f.Unit, " BETWEEN ")
		e.bound(f.From)
		e.write(" AND ")
		e.bound(f.To)
		e.write(f.Exclude)
	}
	e.write(")")
}

func (e *emitter) bound(b query.Bound) {
	if l, ok := b.Distance.(*query.Literal); ok && l.T == query.Bigint {
		e.write(fmt.Sprint(query.ValueOf(l)), " ") // a number of rows
	} else if b.Distance != nil {
		e.expr(b.Distance)
		e.write(" ")
	}
	e.write(b.Words)
}

// mapped writes a text by the group that it is in.
func (e *emitter) mapped(x *query.Treated) {
	groups := x.Treatment.Mapping.Groups()
	out := &query.Case{T: x.X.Type()}
	for _, v := range x.Treatment.Mapping.Values() {
		out.Whens = append(
			out.Whens,
			query.When{
				If:   &query.Binary{Op: "=", L: x.X, R: &query.Literal{T: x.X.Type(), Value: v}, T: query.Boolean},
				Then: &query.Literal{T: x.X.Type(), Value: groups[v]},
			},
		)
	}
	if rest, ok := groups["*"]; ok {
		out.Whens = append(out.Whens, query.When{If: &query.IsNull{X: x.X, Not: true}, Then: &query.Literal{T: x.X.Type(), Value: rest}})
	}
	e.expr(out)
}
