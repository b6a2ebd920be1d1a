package emit

import (
	"cmp"
	"fmt"

	"gneiss/core/query"
)

// renamed are the functions that PostgreSQL has by another name.
var renamed = map[string]string{"position": "strpos", "substring": "substr"}

// guarded are those that fail on some values there, and are written by a function
// of Gneiss's own which gives NULL instead.
var guarded = map[string]bool{
	"sqrt":      true,
	"exp":       true,
	"ln":        true,
	"log":       true,
	"power":     true,
	"to_char":   true,
	"make_date": true,
	"shift":     true,
	"abs":       true,
}

func (e postgres) call(c *query.Call) {
	switch c.Fn.Kind {
	case query.ScalarFunction:
		e.scalar(c.Fn.Name, c)
	case query.AggregateFunction:
		e.aggregate(c)
	default:
		e.window(c)
	}
}

// places writes the operands of a call; those from the n-th on are whole numbers
// for positions and lengths.
func (e postgres) places(name string, args []query.Expr, n int) {
	e.write(name, "(")
	e.commas(args, func(i int, a query.Expr) {
		e.expr(a)
		if i >= n && a.Type() == query.Bigint {
			e.write("::integer")
		}
	})
	e.write(")")
}

func (e postgres) scalar(name string, c *query.Call) {
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
		e.commas(args, func(_ int, a query.Expr) { e.byCodePoint(a) })
		e.write(")")
	case "floor", "ceil":
		if args[0].Type() == query.Bigint {
			e.expr(args[0])
			return
		}
		e.apply(name, args...)
	case "round", "trunc":
		if args[0].Type() == query.Bigint {
			e.expr(args[0])
			return
		}
		e.apply(own+name, args...)
	case "sign":
		e.apply(name, &query.Cast{X: args[0], To: query.Double})
	case "sqrt", "exp", "ln", "log", "power":
		wide := make([]query.Expr, len(args))
		for i, a := range args {
			wide[i] = &query.Cast{X: a, To: query.Double}
		}
		e.apply(own+name, wide...)
	case "mod":
		e.binary(&query.Binary{Op: "%", L: args[0], R: args[1], T: query.Bigint})
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

func (e postgres) aggregate(c *query.Call) {
	name, args := c.Fn.Name, func() { e.exprs(c.Args) }
	tail := ""
	switch {
	case c.Star:
	case name == "sum" && c.T == query.Bigint:
		tail = "::bigint" // the database's own would be numeric
	case name == "avg" || c.Fn.Own:
		args = func() { e.expr(&query.Cast{X: c.Args[0], To: query.Double}) }
	case name == "count":
		args = func() { e.item(c.Args[0]) }
	case name == "min" || name == "max":
		if c.T == query.Boolean {
			name = map[string]string{"min": "bool_and", "max": "bool_or"}[name]
			break
		}
		args = func() { e.byCodePoint(c.Args[0]) }
		if ref, ok := c.Args[0].(*query.ColumnRef); ok && comparable[e.declared(ref)] && c.T != query.Text {
			args = func() { e.columnName(ref) } // as an index has it
			tail = "::" + c.T.String()
		}
	}
	e.aggregated(name, c, args)
	e.write(tail)
}

func (e postgres) window(c *query.Call) {
	tail := ""
	args := func() { e.exprs(c.Args) }
	switch c.Fn.Name {
	case "ntile":
		args = func() { e.expr(c.Args[0]); e.write("::integer") }
		tail = "::bigint"
	case "lag", "lead", "nth_value":
		args = func() {
			e.commas(c.Args, func(i int, a query.Expr) {
				switch {
				case i == 1:
					e.expr(a)
					e.write("::integer")
				case a.Type() != c.T:
					e.expr(&query.Cast{X: a, To: c.T})
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
