package emit

import (
	"fmt"
	"slices"
	"strings"

	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// postgres is the dialect of PostgreSQL. What a statement says is written as it is, in the
// types that were found for it; the connection's search path holds the database's own
// schema alone, so that names mean what they were found to mean. The functions of Gneiss's
// own are made on each connection, in its temporary schema; none of them fails.
type postgres struct{ *emitter }

var postgresSpelling = spelling{mark: "$", cross: "CROSS JOIN", offset: "OFFSET ", fence: "OFFSET 0", samples: true}

// own is where Gneiss's functions are on a connection.
const own = "pg_temp.gneiss_"

// typeName writes a type as it is cast to, without the length that SQL would give it.
func typeName(t query.Type) string {
	switch t {
	case nil:
		return "text"
	case sqltype.Char:
		return "bpchar"
	case sqltype.Bit:
		return `"bit"`
	}
	if t.Elem != nil {
		return typeName(t.Elem) + "[]"
	}
	return t.Name
}

func (e postgres) argument(n int, a Arg) {
	typ := typeName(a.T)
	if a.Pad != 0 {
		typ = "bytea"
	}
	if a.T == nil {
		switch a.Value.(type) {
		case int64:
			typ = "bigint"
		case float64:
			typ = "double precision"
		}
	}
	fmt.Fprint(&e.b, e.mark, n, "::", typ)
}

// now writes the start of the query. Which day and hour that is depends on the session's time zone, which the
// database knows.
func (e postgres) now(t query.Type) {
	if t == sqltype.TimestampTZ {
		e.arg(Arg{Now: t, T: t})
		return
	}
	e.write("(")
	e.arg(Arg{Now: sqltype.TimestampTZ, T: sqltype.TimestampTZ})
	e.write("::", typeName(t), ")")
}

func (e postgres) null(t query.Type) { e.write("NULL::", typeName(t)) }

// A bare truth value could not stand in ORDER BY.
func (e postgres) truth(v bool) {
	e.write(map[bool]string{true: "TRUE::boolean", false: "FALSE::boolean"}[v])
}

func (e postgres) column(c *query.ColumnRef) { e.columnName(c) }

func (e postgres) item(x query.Expr) { e.expr(x) }

// sortKey writes one sort key. PostgreSQL holds NULL for the greatest of all values.
func (e postgres) sortKey(o query.Order, _ *query.Query) {
	if o.Output > 0 {
		fmt.Fprint(&e.b, o.Output)
	} else {
		e.expr(o.Expr)
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

func (e postgres) sortable(q *query.Query) *query.Query { return q }

func (e postgres) binary(x *query.Binary) {
	switch x.Op {
	case "IS":
		e.infix(x.L, "IS NOT DISTINCT FROM", x.R)
	case "IS NOT":
		e.infix(x.L, "IS DISTINCT FROM", x.R)
	default:
		e.infix(x.L, x.Op, x.R)
	}
}

func (e postgres) inList(x *query.InList) {
	e.write("(")
	e.expr(x.X)
	e.write(" ", not(x.Not), "IN (")
	e.exprs(x.List)
	e.write("))")
}

// inQuery writes IN with a sub-query. One that stands in a policy and does not depend on the row is
// read once. Where an index can be searched for it, it is read into an array, which serves that. Elsewhere
// each row is looked up in a hash of it, for an array would be gone through for each row: NOT NOT keeps the
// server from making a join of it, before which it would test what a reader asks.
func (e postgres) inQuery(x *query.InQuery) {
	if e.policies != nil && x.Op == "" && !correlated(x.Query) {
		if slices.Contains(e.policies.searched, x) {
			e.write("(")
			e.expr(x.X)
			e.write(" = ANY(ARRAY(")
			e.nested(x.Query)
			e.write(")))")
			return
		}
		e.write("(NOT (NOT ")
		defer e.write("))")
	}
	e.write("(")
	e.expr(x.X)
	switch {
	case x.Op == "":
		e.write(" IN (")
	case x.All:
		e.write(" ", x.Op, " ALL (")
	default:
		e.write(" ", x.Op, " ANY (")
	}
	e.nested(x.Query)
	e.write("))")
}

// scalarQuery writes a sub-query that stands for one value. One with more rows is refused by
// the database.
func (e postgres) scalarQuery(q *query.Query) {
	e.write("(")
	e.nested(q)
	e.write(")")
}

// like is of the shared language, and not written here.
func (e postgres) like(x *query.Like) { e.infix(x.X, not(x.Not)+"LIKE", x.Pattern) }

func (e postgres) cast(x *query.Cast) {
	if l, ok := x.X.(*query.Literal); ok && x.To == sqltype.Interval && x.Modifier != "" {
		// The fields say what a number without a unit is, as the text is read.
		if text, isText := l.Value.(string); isText {
			e.write("(INTERVAL '", strings.ReplaceAll(text, "'", "''"), "' ", x.Modifier, ")")
			return
		}
	}
	e.write("CAST(")
	e.expr(x.X)
	e.write(" AS ", modified(x.To, x.Modifier), ")")
}

// modified writes a type with its modifier.
func modified(t query.Type, modifier string) string {
	if modifier == "" {
		return typeName(t)
	}
	return sqltype.WithModifier(t, modifier)
}

// extra writes what the language has that is PostgreSQL's own, and reports whether x was
// such.
func (e postgres) extra(x query.Expr) bool {
	switch x := x.(type) {
	case *query.Operation:
		if x.L == nil {
			e.write("(", x.Op.Name, " ")
			e.expr(x.R)
			e.write(")")
			return true
		}
		e.infix(x.L, x.Op.Name, x.R)
	case *query.Quantified:
		e.write("(")
		e.expr(x.X)
		e.write(" ", x.Op.Name, map[bool]string{true: " ALL (", false: " ANY ("}[x.All])
		e.expr(x.Array)
		e.write("))")
	case *query.Array:
		e.write("ARRAY[")
		e.exprs(x.List)
		e.write("]::", typeName(x.T))
	case *query.ArrayQuery:
		e.write("ARRAY(")
		e.nested(x.Query)
		e.write(")")
	case *query.TableRow:
		e.tableRow(x)
	case *query.Row:
		e.write("ROW(")
		e.exprs(x.List)
		e.write(")")
	case *query.RowsCompared:
		e.infix(x.L, x.Op, x.R)
	case *query.Subscript:
		e.subscript(x)
	case *query.FieldOf:
		e.write("(")
		e.expr(x.X)
		e.write(").", quoteName(x.Name))
	case *query.Collated:
		e.write("(")
		e.expr(x.X)
		e.write(" COLLATE ")
		for i, part := range x.Name {
			e.write(map[bool]string{true: "", false: "."}[i == 0], quoteName(part))
		}
		e.write(")")
	case *query.Default:
		e.write("DEFAULT")
	default:
		return false
	}
	return true
}

func (e postgres) subscript(x *query.Subscript) {
	e.write("(")
	e.expr(x.X)
	e.write(")")
	for i, at := range x.At {
		if !x.Part || i%2 == 0 {
			e.write("[")
		}
		if at != nil {
			e.expr(at)
		}
		if x.Part && i%2 == 0 {
			e.write(":")
		} else {
			e.write("]")
		}
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

// groupedBy writes what a query is grouped by. An item of the select list that has a sub-query is
// named by its number, since another writing of it would be another one.
func (e postgres) groupedBy(s *query.Select, x query.Expr) {
	for i, item := range s.Items {
		if item == x && query.AnyExpr(item, query.IsSubquery) {
			fmt.Fprint(&e.b, i+1)
			return
		}
	}
	e.expr(x)
}

// grouped writes GROUP BY, with the sets where there are several.
func (e postgres) grouped(s *query.Select) {
	if s.Sets == nil {
		for i, x := range s.GroupBy {
			if i == 0 {
				e.line()
			}
			e.write(map[bool]string{true: "GROUP BY ", false: ", "}[i == 0])
			e.groupedBy(s, x)
		}
		return
	}
	e.line()
	e.write("GROUP BY GROUPING SETS (")
	for i, set := range s.Sets {
		e.write(map[bool]string{true: "(", false: ", ("}[i == 0])
		for j, at := range set {
			if j > 0 {
				e.write(", ")
			}
			e.groupedBy(s, s.GroupBy[at])
		}
		e.write(")")
	}
	e.write(")")
}

// tableRow writes the row of a table as that of a query which has just the columns that are
// there for the reader.
func (e *emitter) tableRow(x *query.TableRow) {
	of := quoteName(e.fresh("row"))
	e.write("(SELECT ", of, " FROM (SELECT ")
	e.commas(x.List, func(i int, field query.Expr) {
		e.expr(field)
		e.write(" AS ", quoteName(x.Names[i]))
	})
	e.write(") AS ", of, ")")
}
