package emit

import (
	"fmt"
	"regexp"
	"strings"

	"gneiss/core/query"
)

// postgres is the dialect of PostgreSQL. The functions of Gneiss's own are made
// on each connection, in its temporary schema; none of them fails. Texts are
// ordered by code point, as everywhere in Gneiss, whatever the database's own
// collation: what orders them says COLLATE "C".
type postgres struct{ *emitter }

var postgresSpelling = spelling{mark: "$", cross: "CROSS JOIN", offset: "OFFSET ", fence: "OFFSET 0"}

// comparable are the declared types whose values compare with those of the type
// that the language has for them as they are, so that an index can serve.
var comparable = map[string]bool{"smallint": true, "integer": true, "real": true, "character varying": true, "timestamp with time zone": true}

// own is where Gneiss's functions are on a connection.
const own = "pg_temp.gneiss_"

func (e postgres) argument(n int, a Arg) {
	typ := "text"
	switch {
	case a.Pad != 0:
		typ = "bytea"
	case a.T != query.Untyped:
		typ = a.T.String()
	}
	switch a.Value.(type) {
	case int64:
		typ = "bigint"
	case float64:
		typ = "double precision"
	}
	fmt.Fprint(&e.b, e.mark, n, "::", typ)
}

func (e postgres) null(t query.Type) {
	if t == query.Untyped {
		t = query.Text
	}
	e.write("NULL::", t.String())
}

// A bare truth value could not stand in ORDER BY.
func (e postgres) truth(v bool) {
	e.write(map[bool]string{true: "TRUE::boolean", false: "FALSE::boolean"}[v])
}

func (e postgres) column(c *query.ColumnRef) {
	switch e.declared(c) {
	case "":
		e.columnName(c)
	case "numeric": // which holds greater numbers
		e.write(own, "number(")
		e.columnName(c)
		e.write(")")
	default:
		e.columnName(c)
		e.write("::", c.Type().String())
	}
}

// item writes a column as what it is declared, and all else as it is.
func (e postgres) item(x query.Expr) {
	if c, ok := x.(*query.ColumnRef); ok {
		e.columnName(c)
		return
	}
	e.expr(x)
}

// byCodePoint writes a value that is ordered.
func (e postgres) byCodePoint(x query.Expr) {
	if x.Type() != query.Text && x.Type() != query.Untyped {
		e.expr(x)
		return
	}
	e.write("(")
	e.expr(x)
	e.write(` COLLATE "C")`)
}

// sortKey writes one sort key. PostgreSQL holds NULL for the greatest of all
// values, as Gneiss does.
func (e postgres) sortKey(o query.Order, q *query.Query) {
	switch {
	case o.Output == 0 && o.Expr.Type() != query.Text:
		e.operand(o.Expr)
	case o.Output == 0:
		e.byCodePoint(o.Expr)
	case q.Columns[o.Output-1].Type == query.Text: // of a SELECT without DISTINCT: see sortable
		e.byCodePoint(q.Body.(*query.Select).Items[o.Output-1])
	default:
		fmt.Fprint(&e.b, o.Output)
	}
	if o.Desc {
		e.write(" DESC")
	}
	switch {
	case o.NotNull || o.NullsFirst == o.Desc:
	case o.NullsFirst:
		e.write(" NULLS FIRST")
	default:
		e.write(" NULLS LAST")
	}
}

// sortable puts a query whose sort keys can only be output columns into FROM,
// where it is sorted by expressions.
func (e postgres) sortable(q *query.Query) *query.Query {
	sel, ok := q.Body.(*query.Select)
	if len(q.OrderBy) == 0 || ok && !sel.Distinct {
		return q
	}
	inner, outer := *q, *q
	inner.OrderBy, inner.Limit, inner.Offset = nil, nil, nil
	r := &query.Relation{Alias: "sorted", Query: &inner, Columns: q.Columns}
	body := &query.Select{From: []query.From{r}}
	for i := range q.Columns {
		body.Items = append(body.Items, &query.ColumnRef{Rel: r, Col: i})
	}
	outer.With, outer.Body, outer.OrderBy = nil, body, nil
	for _, o := range q.OrderBy {
		for i := range q.Columns {
			if o.Output == i+1 || o.Output == 0 && ok && query.Same(sel.Items[i], o.Expr) {
				o.Expr, o.Output = body.Items[i], 0
				break
			}
		}
		outer.OrderBy = append(outer.OrderBy, o)
	}
	return &outer
}

func (e postgres) binary(x *query.Binary) {
	switch x.Op {
	case "=", "<>":
		e.compared(x.L, x.Op, x.R)
	case "IS":
		e.compared(x.L, "IS NOT DISTINCT FROM", x.R)
	case "IS NOT":
		e.compared(x.L, "IS DISTINCT FROM", x.R)
	case "<", "<=", ">", ">=":
		if x.L.Type() != query.Text && x.R.Type() != query.Text {
			e.compared(x.L, x.Op, x.R)
			return
		}
		e.write("(")
		e.byCodePoint(x.L)
		e.write(" ", x.Op, " ")
		e.byCodePoint(x.R)
		e.write(")")
	case "/", "%":
		e.write("(")
		e.expr(x.L)
		e.write(" ", x.Op, " nullif(")
		e.expr(x.R)
		e.write(", 0))")
	case "date+":
		e.apply(own+"days", x.L, x.R)
	case "date-":
		e.apply(own+"days_back", x.L, x.R)
	case "days":
		e.apply(own+"between", x.L, x.R)
	default:
		e.infix(x.L, x.Op, x.R)
	}
}

// compared writes a comparison, of columns as what they are declared where the
// database can compare them so.
func (e postgres) compared(l query.Expr, op string, r query.Expr) {
	write := e.comparing(l, r)
	e.write("(")
	write(l)
	e.write(" ", op, " ")
	write(r)
	e.write(")")
}

// comparing returns how operands are written that are compared with each other.
func (e postgres) comparing(list ...query.Expr) func(query.Expr) {
	switch {
	case e.all(list, "uuid", func(l *query.Literal) bool {
		s, ok := l.Value.(string)
		return ok && formOfUUID.MatchString(s)
	}):
		return func(x query.Expr) { e.declaredAs(x, "uuid") }
	case e.all(list, "character", func(l *query.Literal) bool {
		s, ok := l.Value.(string) // which the database compares without the spaces at the end
		return ok && !strings.HasSuffix(s, " ")
	}):
		return func(x query.Expr) { e.declaredAs(x, "bpchar") }
	case e.all(list, "numeric", func(l *query.Literal) bool { return l.Value != nil && l.T.Numeric() }):
		return func(x query.Expr) { e.declaredAs(x, "numeric") }
	}
	return e.operand
}

func (e postgres) operand(x query.Expr) {
	if c, ok := x.(*query.Cast); ok && c.To == query.Timestamp && c.X.Type() == query.Date {
		x = c.X
	}
	if c, ok := x.(*query.ColumnRef); ok && comparable[e.declared(c)] {
		e.columnName(c)
		return
	}
	e.expr(x)
}

// all reports whether all are columns of a declared type, one at least, or literals
// that fit it.
func (e postgres) all(list []query.Expr, declared string, fits func(*query.Literal) bool) bool {
	columns := 0
	for _, x := range list {
		switch x := x.(type) {
		case *query.ColumnRef:
			if e.declared(x) != declared {
				return false
			}
			columns++
		case *query.Literal:
			if !fits(x) {
				return false
			}
		default:
			return false
		}
	}
	return columns > 0
}

// formOfUUID is the form in which the database writes a UUID (RFC 9562).
var formOfUUID = regexp.MustCompile(`^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)

// declaredAs writes a column as it is, and a literal as a value of the type.
func (e postgres) declaredAs(x query.Expr, declared string) {
	if c, ok := x.(*query.ColumnRef); ok {
		e.columnName(c)
		return
	}
	e.expr(x)
	e.write("::", declared)
}

func (e postgres) inList(x *query.InList) {
	write := e.comparing(append([]query.Expr{x.X}, x.List...)...)
	e.write("(")
	write(x.X)
	e.write(" ", not(x.Not), "IN (")
	e.commas(x.List, func(_ int, item query.Expr) { write(item) })
	e.write("))")
}

// inQuery writes IN with a sub-query. One that stands in a policy and does not
// depend on the row is read once, into an array, and the array can be looked up in
// an index; a sub-query in its place would keep the database from it.
func (e postgres) inQuery(x *query.InQuery) {
	e.write("(")
	e.operand(x.X)
	if e.policies > 0 && !correlated(x.Query) {
		e.write(" = ANY(ARRAY(")
		e.nested(e.exact(x.Query))
		e.write(")))")
		return
	}
	e.write(" IN (")
	e.nested(e.exact(x.Query))
	e.write("))")
}

// scalarQuery writes a sub-query that stands for one value: that of its first row.
func (e postgres) scalarQuery(q *query.Query) {
	sel, ok := q.Body.(*query.Select)
	one := ok && len(sel.GroupBy) == 0 && len(sel.Items) == 1 && query.AnyExpr(sel.Items[0], query.IsAggregate)
	e.write("(")
	switch {
	case one:
		e.nested(q)
	case q.Limit == nil && q.Offset == nil:
		first := *q
		first.Limit = &query.Literal{T: query.Bigint, Value: int64(1)}
		e.nested(&first)
	default:
		e.write("SELECT * FROM (")
		e.nested(q)
		e.write(") AS ", quoteName(e.fresh("q")), " LIMIT 1")
	}
	e.write(")")
}

// like folds ASCII letters only, as the collation C does.
func (e postgres) like(x *query.Like) {
	if _, fixed := x.Pattern.(*query.Literal); !fixed {
		e.write("CASE WHEN length(")
		e.expr(x.Pattern)
		e.write(fmt.Sprintf(") <= %d THEN ", query.MostPattern/4))
		defer e.write(" END")
	}
	e.write("(")
	side := func(x2 query.Expr) {
		if !x.Fold {
			e.operand(x2)
			return
		}
		e.write("lower(")
		e.byCodePoint(x2)
		e.write(")")
	}
	side(x.X)
	e.write(" ", not(x.Not), "LIKE ")
	side(x.Pattern)
	e.write(")")
}

// cast gives NULL for what cannot be converted.
func (e postgres) cast(x *query.Cast) {
	from := x.X.Type()
	switch {
	case from == query.Text && x.To != query.Text:
		e.apply(
			own+map[query.Type]string{query.Bigint: "bigint", query.Double: "double", query.Boolean: "boolean", query.Date: "date", query.Timestamp: "timestamp"}[x.To],
			x.X,
		)
	case from == query.Double && x.To == query.Bigint:
		e.apply(own+"whole", x.X)
	case x.To == query.Text && (from == query.Timestamp || from == query.Double):
		e.apply(own+"text", x.X)
	case from == query.Bigint && x.To == query.Boolean:
		e.write("(")
		e.expr(x.X)
		e.write(" <> 0)")
	case from == query.Date && x.To == query.Timestamp:
		e.apply(own+"midnight", x.X)
	case from == query.Boolean && x.To == query.Bigint:
		e.expr(x.X)
		e.write("::integer::bigint")
	case from == x.To:
		e.expr(x.X)
	default:
		e.write("CAST(")
		e.expr(x.X)
		e.write(" AS ", x.To.String(), ")")
	}
}

// correlated reports whether a query reads columns of relations that are not its
// own.
func correlated(q *query.Query) bool {
	inside := map[*query.Relation]bool{}
	query.EachRelation(q, func(r *query.Relation) { inside[r] = true })
	found := false
	query.EachExpr(q, func(x query.Expr) {
		if c, ok := x.(*query.ColumnRef); ok && !inside[c.Rel] {
			found = true
		}
	})
	return found
}
