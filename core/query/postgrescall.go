package query

import (
	"cmp"
	"fmt"
)

// renamed are the functions that PostgreSQL has by another name.
var renamed = map[string]string{"position": "strpos", "substring": "substr"}

// guarded are those that fail on some values there, and are written by a function
// of Gneiss's own which gives NULL instead.
var guarded = map[string]bool{"sqrt": true, "exp": true, "ln": true, "log": true, "power": true, "to_char": true, "make_date": true, "shift": true, "abs": true}

func (e postgres) call(c *Call) {
	switch c.Fn.Kind {
	case scalarFunction:
		e.scalar(c.Fn.Name, c)
	case aggregateFunction:
		e.aggregate(c)
	default:
		e.window(c)
	}
}

// places writes the operands of a call; those from the n-th on are whole numbers
// for positions and lengths.
func (e postgres) places(name string, args []Expr, n int) {
	e.write(name, "(")
	e.commas(args, func(i int, a Expr) {
		e.expr(a)
		if i >= n && a.Type() == Bigint {
			e.write("::integer")
		}
	})
	e.write(")")
}

func (e postgres) scalar(name string, c *Call) {
	args := c.Args
	switch name {
	case "substring", "left", "right", "lpad", "rpad", "split_part":
		e.places(cmp.Or(renamed[name], name), args, 1)
	case "lower", "upper", "initcap":
		e.write(name, "(")
		e.byCodePoint(args[0])
		e.write(")")
	case "greatest", "least":
		e.write(name, "(")
		e.commas(args, func(_ int, a Expr) { e.byCodePoint(a) })
		e.write(")")
	case "floor", "ceil":
		if args[0].Type() == Bigint {
			e.expr(args[0])
			return
		}
		e.apply(name, args...)
	case "round", "trunc":
		if args[0].Type() == Bigint {
			e.expr(args[0])
			return
		}
		e.apply(own+name, args...)
	case "sign":
		e.apply(name, &Cast{args[0], Double})
	case "sqrt", "exp", "ln", "log", "power":
		wide := make([]Expr, len(args))
		for i, a := range args {
			wide[i] = &Cast{a, Double}
		}
		e.apply(own+name, wide...)
	case "mod":
		e.binary(&Binary{"%", args[0], args[1], Bigint})
	case "extract":
		e.apply(own+"part", args...)
	case "date_trunc":
		e.apply(own+"truncate", args...)
	default:
		if guarded[name] {
			name = own + name
		}
		e.apply(cmp.Or(renamed[name], name), args...)
	}
}

func (e postgres) aggregate(c *Call) {
	name, args := c.Fn.Name, func() { e.exprs(c.Args) }
	tail := ""
	switch {
	case c.Star:
	case name == "sum" && c.T == Bigint:
		tail = "::bigint" // the database's own would be numeric
	case name == "avg" || c.Fn.own:
		args = func() { e.expr(&Cast{c.Args[0], Double}) }
	case name == "count":
		args = func() { e.item(c.Args[0]) }
	case name == "min" || name == "max":
		if c.T == Boolean {
			name = map[string]string{"min": "bool_and", "max": "bool_or"}[name]
			break
		}
		args = func() { e.byCodePoint(c.Args[0]) }
		if ref, ok := c.Args[0].(*ColumnRef); ok && comparable[e.declared(ref)] && c.T != Text {
			args = func() { e.columnName(ref) } // as an index has it
			tail = "::" + c.T.String()
		}
	}
	e.aggregated(name, c, args)
	e.write(tail)
}

func (e postgres) window(c *Call) {
	tail := ""
	args := func() { e.exprs(c.Args) }
	switch c.Fn.Name {
	case "ntile":
		args = func() { e.expr(c.Args[0]); e.write("::integer") }
		tail = "::bigint"
	case "lag", "lead", "nth_value":
		args = func() {
			e.commas(c.Args, func(i int, a Expr) {
				switch {
				case i == 1:
					e.expr(a)
					e.write("::integer")
				case a.Type() != c.T:
					e.expr(&Cast{a, c.T})
				default:
					e.expr(a)
				}
			})
		}
	}
	if tail != "" {
		e.write("(")
	}
	e.aggregated(c.Fn.Name, c, args)
	if tail != "" {
		e.write(fmt.Sprintf(")%s", tail))
	}
}
