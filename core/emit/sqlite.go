package emit

import (
	"fmt"
	"strings"

	"gneiss/core/query"
)

// sqlite is the dialect of SQLite.
type sqlite struct{ *emitter }

var sqliteSpelling = spelling{mark: "?", cross: "JOIN", offset: "LIMIT -1 OFFSET ", fence: "LIMIT -1 OFFSET 0", ownName: true}

func (e sqlite) argument(n int, _ Arg) { fmt.Fprint(&e.b, e.mark, n) }

func (e sqlite) now(t query.Type) { e.arg(Arg{Now: t, T: t}) }

func (e sqlite) null(query.Type) { e.write("NULL") }

func (e sqlite) truth(v bool) { e.write(map[bool]string{true: "TRUE", false: "FALSE"}[v]) }

// column writes a reference in an expression. Texts are compared and sorted by code point, whatever collation their column is
// declared with: NOCASE would take NORTH for north, in policies, too.
func (e sqlite) column(c *query.ColumnRef) {
	e.columnName(c)
	if c.Type() == query.Text {
		e.write(" COLLATE BINARY")
	}
}

// item writes a value that is given on: a column by its name alone, unless it is compared there.
func (e sqlite) item(x query.Expr) {
	if c, ok := x.(*query.ColumnRef); ok && e.compared == 0 {
		e.columnName(c)
		return
	}
	e.expr(x)
}

// ofType writes the condition that a column holds a value of its type.
func (e sqlite) ofType(c *query.ColumnRef) {
	e.write(OfType(e.detour(func() { e.columnName(c) }), c.Type()))
}

// OfType is the condition, in SQLite's words, that a column holds a value of a type of the shared language, in the form in which
// PostgreSQL writes it, or NULL. The column is given as it is written. There is a year 0, as in ISO 8601.
func OfType(x string, t query.Type) string {
	switch t {
	case query.Bigint:
		return "(typeof(" + x + ") IN ('integer', 'null'))"
	case query.Double:
		return "(typeof(" + x + ") IN ('real', 'integer', 'null'))"
	case query.Text:
		return "(typeof(" + x + ") IN ('text', 'null'))"
	case query.Boolean:
		return "(" + x + " IS NULL OR " + x + " IN (0, 1))"
	case query.Date:
		return "(" + x + " IS date(" + x + "))"
	case query.Timestamp: // a fraction of a second has up to six digits, the last of which is no 0
		return strings.ReplaceAll("($x IS NULL OR substr($x, 1, 19) = datetime(substr($x, 1, 19)) AND (length($x) = 19 "+
			"OR length($x) BETWEEN 21 AND 26 AND substr($x, 20, 1) = '.' AND substr($x, 21) NOT GLOB '*[^0-9]*' AND substr($x, -1) <> '0'))", "$x", x)
	}
	return "TRUE"
}

func (e sqlite) sortable(q *query.Query) *query.Query { return q }

// sortKey writes one sort key. SQLite holds NULL for the least of all values,
// PostgreSQL for the greatest; where no NULL can occur nothing is said, so that
// an index can serve.
func (e sqlite) sortKey(o query.Order, q *query.Query) {
	if o.Output > 0 {
		fmt.Fprint(&e.b, o.Output)
		if q != nil && q.Columns[o.Output-1].Type == query.Text {
			e.write(" COLLATE BINARY")
		}
	} else {
		e.expr(o.Expr)
	}
	if o.Desc {
		e.write(" DESC")
	}
	switch {
	case o.NotNull || o.NullsFirst == !o.Desc:
	case o.NullsFirst:
		e.write(" NULLS FIRST")
	default:
		e.write(" NULLS LAST")
	}
}

func (e sqlite) binary(x *query.Binary) {
	switch x.Op {
	case "date+", "date-":
		e.write("date(")
		e.expr(x.L)
		e.write(", (", x.Op[4:], "(")
		e.expr(x.R)
		e.write(")) || ' days')")
		return
	case "days":
		e.write("CAST(julianday(")
		e.expr(x.L)
		e.write(") - julianday(")
		e.expr(x.R)
		e.write(") AS INTEGER)")
		return
	}
	if x.Op == "/" && x.T == query.Double {
		// A column of numerics can hold whole numbers, of which two would give a whole one.
		e.write("(CAST(")
		e.expr(x.L)
		e.write(" AS REAL) / ")
		e.expr(x.R)
		e.write(")")
		return
	}
	e.infix(x.L, x.Op, x.R)
}

func (e sqlite) inList(x *query.InList) {
	e.write("(")
	e.expr(x.X)
	e.write(" ", not(x.Not), "IN (")
	e.exprs(x.List)
	e.write("))")
}

func (e sqlite) inQuery(x *query.InQuery) {
	e.write("(")
	e.expr(x.X)
	e.write(" IN (")
	e.compared++
	e.nested(x.Query)
	e.compared--
	e.write("))")
}

func (e sqlite) scalarQuery(q *query.Query) {
	e.write("(")
	e.nested(q)
	e.write(")")
}

// like writes LIKE with PostgreSQL's escape character. Connections have LIKE
// case-sensitive; ILIKE folds both sides.
func (e sqlite) like(x *query.Like) {
	open, end := "", ""
	if _, fixed := x.Pattern.(*query.Literal); !fixed {
		e.write("CASE WHEN length(")
		e.expr(x.Pattern)
		e.write(fmt.Sprintf(") <= %d THEN ", query.MostPattern/4))
		defer e.write(" END")
	}
	if x.Fold {
		open, end = "lower(", ")"
	}
	e.write("(", open)
	e.expr(x.X)
	e.write(end, " ", not(x.Not), "LIKE ", open)
	e.expr(x.Pattern)
	e.write(end, ` ESCAPE '\')`)
}

// cast converts as PostgreSQL does, but gives NULL for what cannot be
// converted. The gneiss_ functions are registered on every connection.
func (e sqlite) cast(x *query.Cast) {
	wrap := func(head, tail string) {
		e.write(head)
		e.expr(x.X)
		e.write(tail)
	}
	from := x.X.Type()
	switch {
	case from == query.Text && x.To == query.Bigint:
		wrap("gneiss_bigint(", ")")
	case from == query.Text && x.To == query.Double:
		wrap("gneiss_double(", ")")
	case from == query.Text && x.To == query.Boolean:
		wrap("gneiss_boolean(", ")")
	case from == query.Text && x.To == query.Date:
		wrap("gneiss_date(", ")")
	case from == query.Text && x.To == query.Timestamp:
		wrap("gneiss_timestamp(", ")")
	case from == query.Boolean && x.To == query.Text:
		wrap("CASE ", " WHEN TRUE THEN 'true' WHEN FALSE THEN 'false' END")
	case from == query.Bigint && x.To == query.Boolean:
		wrap("(", " <> 0)")
	case from == query.Double && x.To == query.Bigint:
		wrap("CAST(round(", ") AS INTEGER)")
	case from == query.Bigint && x.To == query.Double:
		wrap("CAST(", " AS REAL)")
	case from == query.Timestamp && x.To == query.Date:
		wrap("substr(", ", 1, 10)")
	case from == query.Date && x.To == query.Timestamp:
		wrap("(", " || ' 00:00:00')")
	case from == query.Double && x.To == query.Text:
		wrap("gneiss_text(", ")")
	case x.To == query.Text:
		// A date is a text as it is, but a bare column would keep its declared
		// type, by which the driver reads it.
		wrap("CAST(", " AS TEXT)")
	case x.To == query.Bigint:
		wrap("CAST(", " AS INTEGER)")
	default:
		e.expr(x.X) // NULL, whatever it is to be
	}
}

func (e sqlite) call(c *query.Call) {
	if c.Fn.Kind == query.ScalarFunction && c.Fn.Own {
		e.write("gneiss_", c.Fn.Name, "(")
		e.commas(c.Args, func(_ int, a query.Expr) { e.number(a) })
		e.write(")")
		return
	}
	if c.Fn.Kind == query.ScalarFunction {
		e.scalar(c.Fn.Name, c.Args)
		return
	}
	name := c.Fn.Name
	if c.Fn.Own {
		name = "gneiss_" + name
	}
	switch name {
	case "string_agg":
		name = "group_concat"
	case "bool_and":
		name = "min"
	case "bool_or":
		name = "max"
	}
	e.aggregated(name, c, func() {
		if c.Fn.Own && c.Fn.Kind == query.AggregateFunction {
			e.number(c.Args[0])
		} else {
			e.exprs(c.Args)
		}
	})
}

func (e sqlite) scalar(name string, args []query.Expr) {
	switch name {
	case "substring":
		name = "substr"
	case "btrim", "ltrim", "rtrim", "replace":
		name = "gneiss_" + name
	case "strpos", "position":
		name = "gneiss_strpos"
	case "left":
		e.write("substr(")
		e.expr(args[0])
		e.write(", 1, ")
		e.expr(args[1])
		e.write(")")
		return
	case "right":
		if query.ValueOf(args[1].(*query.Literal)) == int64(0) {
			e.write("substr(")
			e.expr(args[0])
			e.write(", 1, 0)")
			return
		}
		e.write("substr(")
		e.expr(args[0])
		e.write(", -")
		e.expr(args[1])
		e.write(")")
		return
	case "concat":
		for i, a := range args {
			if i > 0 {
				e.write(" || ")
			} else {
				e.write("(")
			}
			e.write("coalesce(")
			e.expr(a)
			e.write(", '')")
		}
		e.write(")")
		return
	case "coalesce":
		if len(args) == 1 { // SQLite wants two
			e.expr(args[0])
			return
		}
	case "greatest", "least":
		e.extreme(map[string]string{"greatest": "max", "least": "min"}[name], args)
		return
	case "abs": // SQLite's own abs fails on the least whole number
		e.write("CASE WHEN ")
		e.expr(args[0])
		e.write(" < 0 THEN -")
		e.expr(args[0])
		e.write(" ELSE ")
		e.expr(args[0])
		e.write(" END")
		return
	case "floor", "ceil":
		e.floor(name, args[0])
		return
	case "round":
		if args[0].Type() == query.Bigint {
			e.expr(args[0])
			return
		}
	case "mod":
		e.binary(&query.Binary{Op: "%", L: args[0], R: args[1], T: query.Bigint})
		return
	case "extract":
		e.extract(args[0].(*query.Literal).Value.(string), args[1])
		return
	case "date_trunc":
		e.truncate(args[0].(*query.Literal).Value.(string), args[1])
		return
	}
	e.write(name, "(")
	e.exprs(args)
	e.write(")")
}

// extreme leaves NULLs out, as PostgreSQL does; SQLite's own would give NULL.
func (e sqlite) extreme(fn string, args []query.Expr) {
	if len(args) == 1 {
		e.expr(args[0])
		return
	}
	last := args[len(args)-1]
	rest := func() { e.extreme(fn, args[:len(args)-1]) }
	e.write("coalesce(", fn, "(")
	rest()
	e.write(", ")
	e.expr(last)
	e.write("), ")
	rest()
	e.write(", ")
	e.expr(last)
	e.write(")")
}

func (e sqlite) floor(name string, x query.Expr) {
	if x.Type() == query.Bigint {
		e.expr(x)
		return
	}
	whole := func() {
		e.write("CAST(")
		e.expr(x)
		e.write(" AS INTEGER)")
	}
	e.write("CASE WHEN abs(") // what is greater has no fraction, and is no INTEGER
	e.expr(x)
	e.write(") >= 4503599627370496.0 THEN ")
	e.expr(x)
	e.write(" ELSE CAST(")
	whole()
	if name == "floor" {
		e.write(" - (")
		e.expr(x)
		e.write(" < ")
	} else {
		e.write(" + (")
		e.expr(x)
		e.write(" > ")
	}
	whole()
	e.write(") AS REAL) END")
}

func (e sqlite) extract(field string, x query.Expr) {
	part := func(from, length int) {
		e.write("CAST(substr(")
		e.expr(x)
		e.write(fmt.Sprintf(", %d, %d) AS INTEGER)", from, length))
	}
	switch field {
	case "year":
		part(1, 4)
	case "month":
		part(6, 2)
	case "day":
		part(9, 2)
	case "quarter":
		e.write("((")
		part(6, 2)
		e.write(" + 2) / 3)")
	case "hour":
		e.clock(x, 12)
	case "minute":
		e.clock(x, 15)
	case "second":
		e.clock(x, 18)
	default:
		form := map[string]string{"dow": "%w", "isodow": "%u", "doy": "%j", "week": "%V"}[field]
		e.write("CAST(strftime('", form, "', ")
		e.expr(x)
		e.write(") AS INTEGER)")
	}
}

// clock writes two digits of the time of day; a date has none.
func (e sqlite) clock(x query.Expr, from int) {
	if x.Type() == query.Date {
		e.write("CASE WHEN ")
		e.expr(x)
		e.write(" IS NOT NULL THEN 0 END")
		return
	}
	e.write("CAST(substr(")
	e.expr(x)
	e.write(fmt.Sprintf(", %d, 2) AS INTEGER)", from))
}

func (e sqlite) truncate(field string, x query.Expr) {
	tail := ""
	if x.Type() == query.Timestamp {
		tail = " 00:00:00"
	}
	e.write("(")
	switch field {
	case "year":
		e.write("substr(")
		e.expr(x)
		e.write(", 1, 4) || '-01-01", tail, "'")
	case "month":
		e.write("substr(")
		e.expr(x)
		e.write(", 1, 7) || '-01", tail, "'")
	case "quarter":
		e.write("substr(")
		e.expr(x)
		e.write(", 1, 4) || substr('-01-04-07-10', ((CAST(substr(")
		e.expr(x)
		e.write(", 6, 2) AS INTEGER) + 2) / 3) * 3 - 2, 3) || '-01", tail, "'")
	case "week": // which begins on Monday
		e.write("date(")
		e.expr(x)
		e.write(", '-6 days', 'weekday 1')")
		if tail != "" {
			e.write(" || '", tail, "'")
		}
	case "hour", "minute":
		n := map[string]string{"hour": "13", "minute": "16"}[field]
		if x.Type() == query.Date {
			e.expr(x)
			break
		}
		e.write("substr(")
		e.expr(x)
		e.write(", 1, ", n, ") || substr(':00:00', ", map[string]string{"hour": "1", "minute": "4"}[field], ")")
	default: // day
		e.write("substr(")
		e.expr(x)
		e.write(", 1, 10) || '", tail, "'")
	}
	e.write(")")
}
