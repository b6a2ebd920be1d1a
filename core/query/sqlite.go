package query

import "fmt"

// expr writes an expression for SQLite. Whatever has operands stands in
// parentheses, so that precedence is the tree's.
func (e *emitter) expr(x Expr) {
	switch x := x.(type) {
	case *ColumnRef:
		e.column(x)
	case *Literal:
		e.literal(x)
	case *Now:
		e.arg(Arg{Now: x.T})
	case *Unary:
		e.write("(", x.Op, " ")
		e.expr(x.X)
		e.write(")")
	case *Binary:
		e.binary(x)
	case *IsTrue:
		e.write("(")
		e.expr(x.X)
		e.write(") IS TRUE")
	case *IsNull:
		e.write("(")
		e.expr(x.X)
		e.write(" IS ", not(x.Not), "NULL)")
	case *InList:
		e.inList(x)
	case *InQuery:
		e.write("(")
		e.expr(x.X)
		e.write(" ", not(x.Not), "IN (")
		e.nested(x.Query)
		e.write("))")
	case *Exists:
		e.write("EXISTS (")
		e.nested(x.Query)
		e.write(")")
	case *Scalar:
		e.write("(")
		e.nested(x.Query)
		e.write(")")
	case *Case:
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
	case *Cast:
		e.cast(x)
	case *Like:
		e.like(x)
	case *Call:
		e.call(x)
	case *Treated:
		e.treated(x)
	default:
		panic(fmt.Sprintf("query: no case for %T", x))
	}
}

func not(b bool) string {
	if b {
		return "NOT "
	}
	return ""
}

func (e *emitter) literal(l *Literal) {
	switch v := l.Value.(type) {
	case nil:
		e.write("NULL")
	case bool:
		if v {
			e.write("TRUE")
		} else {
			e.write("FALSE")
		}
	default:
		e.arg(Arg{Value: v})
	}
}

func (e *emitter) binary(x *Binary) {
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
	e.write("(")
	e.expr(x.L)
	e.write(" ", x.Op, " ")
	e.expr(x.R)
	e.write(")")
}

func (e *emitter) inList(x *InList) {
	if len(x.List) == 0 {
		e.literal(&Literal{Boolean, x.Not})
		return
	}
	e.write("(")
	e.expr(x.X)
	e.write(" ", not(x.Not), "IN (")
	e.exprs(x.List)
	e.write("))")
}

func (e *emitter) exprs(list []Expr) {
	for i, x := range list {
		if i > 0 {
			e.write(", ")
		}
		e.expr(x)
	}
}

// like writes LIKE with PostgreSQL's escape character. Connections have LIKE
// case-sensitive; ILIKE folds both sides.
func (e *emitter) like(x *Like) {
	open, end := "", ""
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
func (e *emitter) cast(x *Cast) {
	wrap := func(head, tail string) {
		e.write(head)
		e.expr(x.X)
		e.write(tail)
	}
	from := x.X.Type()
	switch {
	case from == Text && x.To == Bigint:
		wrap("gneiss_bigint(", ")")
	case from == Text && x.To == Double:
		wrap("gneiss_double(", ")")
	case from == Text && x.To == Boolean:
		wrap("gneiss_boolean(", ")")
	case from == Text && x.To == Date:
		wrap("gneiss_date(", ")")
	case from == Text && x.To == Timestamp:
		wrap("gneiss_timestamp(", ")")
	case from == Boolean && x.To == Text:
		wrap("CASE ", " WHEN TRUE THEN 'true' WHEN FALSE THEN 'false' END")
	case from == Bigint && x.To == Boolean:
		wrap("(", " <> 0)")
	case from == Double && x.To == Bigint:
		wrap("CAST(round(", ") AS INTEGER)")
	case from == Bigint && x.To == Double:
		wrap("CAST(", " AS REAL)")
	case from == Timestamp && x.To == Date:
		wrap("substr(", ", 1, 10)")
	case from == Date && x.To == Timestamp:
		wrap("(", " || ' 00:00:00')")
	case x.To == Text:
		// A date is a text as it is, but a bare column would keep its declared
		// type, by which the driver reads it.
		wrap("CAST(", " AS TEXT)")
	case x.To == Bigint:
		wrap("CAST(", " AS INTEGER)")
	default:
		e.expr(x.X) // NULL, whatever it is to be
	}
}

func (e *emitter) call(c *Call) {
	if c.Fn.Kind == scalarFunction && c.Fn.own {
		e.write("gneiss_", c.Fn.Name, "(")
		for i, a := range c.Args {
			if i > 0 {
				e.write(", ")
			}
			e.number(a)
		}
		e.write(")")
		return
	}
	if c.Fn.Kind == scalarFunction {
		e.scalar(c.Fn.Name, c.Args)
		return
	}
	name := c.Fn.Name
	if c.Fn.own {
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
	e.write(name, "(")
	if c.Distinct {
		e.write("DISTINCT ")
	}
	if c.Star {
		e.write("*")
	}
	if c.Fn.own && c.Fn.Kind == aggregateFunction {
		e.number(c.Args[0])
	} else {
		e.exprs(c.Args)
	}
	for i, o := range c.Order {
		e.write(map[bool]string{true: " ORDER BY ", false: ", "}[i == 0])
		e.sortKey(o)
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

func (e *emitter) over(w *Window) {
	e.write(" OVER (")
	if len(w.Partition) > 0 {
		e.write("PARTITION BY ")
		e.exprs(w.Partition)
	}
	for i, o := range w.Order {
		if i == 0 {
			e.write(" ORDER BY ")
		} else {
			e.write(", ")
		}
		e.sortKey(o)
	}
	if w.Frame != "" {
		e.write(" ", w.Frame)
	}
	e.write(")")
}

func (e *emitter) scalar(name string, args []Expr) {
	switch name {
	case "substring":
		name = "substr"
	case "btrim":
		name = "trim"
	case "strpos", "position":
		name = "instr"
	case "left":
		e.write("substr(")
		e.expr(args[0])
		e.write(", 1, ")
		e.expr(args[1])
		e.write(")")
		return
	case "right":
		if args[1].(*Literal).Value == int64(0) {
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
		if args[0].Type() == Bigint {
			e.expr(args[0])
			return
		}
	case "mod":
		e.binary(&Binary{"%", args[0], args[1], Bigint})
		return
	case "extract":
		e.extract(args[0].(*Literal).Value.(string), args[1])
		return
	case "date_trunc":
		e.truncate(args[0].(*Literal).Value.(string), args[1])
		return
	}
	e.write(name, "(")
	e.exprs(args)
	e.write(")")
}

// extreme leaves NULLs out, as PostgreSQL does; SQLite's own would give NULL.
func (e *emitter) extreme(fn string, args []Expr) {
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

func (e *emitter) floor(name string, x Expr) {
	if x.Type() == Bigint {
		e.expr(x)
		return
	}
	whole := func() {
		e.write("CAST(")
		e.expr(x)
		e.write(" AS INTEGER)")
	}
	e.write("CAST(")
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
	e.write(") AS REAL)")
}

func (e *emitter) extract(field string, x Expr) {
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
func (e *emitter) clock(x Expr, from int) {
	if x.Type() == Date {
		e.write("CASE WHEN ")
		e.expr(x)
		e.write(" IS NOT NULL THEN 0 END")
		return
	}
	e.write("CAST(substr(")
	e.expr(x)
	e.write(fmt.Sprintf(", %d, 2) AS INTEGER)", from))
}

func (e *emitter) truncate(field string, x Expr) {
	tail := ""
	if x.Type() == Timestamp {
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
		if x.Type() == Date {
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
