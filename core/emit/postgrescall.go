package emit

import (
	"cmp"
	"gneiss/core/query"
)

// call writes a call. A routine is called by its schema and name, so that no other is meant;
// what has none is part of the grammar, such as coalesce.
func (e postgres) call(c *query.Call) {
	name := c.Fn.Name
	if r := c.Fn.Routine; r != nil {
		name = r.Schema + "." + quoteWhereNeeded(r.Name)
	}
	e.write(name, "(")
	if c.Distinct {
		e.write("DISTINCT ")
	}
	if c.Star {
		e.write("*")
	}
	for i, a := range c.Args {
		if i > 0 {
			e.write(", ")
		}
		if c.Spread && i == len(c.Args)-1 {
			e.write("VARIADIC ")
		}
		if first := len(c.Args) - len(c.Named); i >= first {
			e.write(quoteName(c.Named[i-first]), " => ")
		}
		e.expr(a)
	}
	if !c.Within {
		e.sorted(" ORDER BY ", c.Order)
	}
	e.write(")")
	if c.Within {
		e.write(" WITHIN GROUP (")
		e.sorted("ORDER BY ", c.Order)
		e.write(")")
	}
	if c.Filter != nil {
		e.write(" FILTER (WHERE ")
		e.expr(c.Filter)
		e.write(")")
	}
	if c.Over != nil {
		e.over(c.Over)
	}
}

func (e postgres) sorted(head string, order []query.Order) {
	for i, o := range order {
		e.write(map[bool]string{true: head, false: ", "}[i == 0])
		e.sortKey(o, nil)
	}
}

// quoteWhereNeeded writes the name of a routine, in quotes where it is not of small letters
// and digits.
func quoteWhereNeeded(name string) string {
	for _, c := range name {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '_' {
			return quoteName(name)
		}
	}
	if reserved[name] {
		return quoteName(name)
	}
	return name
}

// reserved are words of the grammar that routines have for their names and that cannot stand
// behind a schema's name bare.
var reserved = map[string]bool{}

// calls writes functions that stand in FROM, and the names of what they give.
func (e postgres) calls(r *query.Relation, alias string) {
	c := r.Calls
	e.write("LATERAL ")
	if len(c.List) > 1 {
		e.write("ROWS FROM (")
	}
	for i, call := range c.List {
		if i > 0 {
			e.write(", ")
		}
		e.call(call)
	}
	if len(c.List) > 1 {
		e.write(")")
	}
	if c.Ordinal {
		e.write(" WITH ORDINALITY")
	}
	e.write(" AS ", quoteName(alias), " (")
	for i, name := range columnNames(r.Columns) {
		e.write(map[bool]string{true: "", false: ", "}[i == 0], quoteName(name))
		if len(c.Fields) > 0 && i < len(c.Fields) {
			e.write(" ", cmp.Or(c.Fields[i].Declared, typeName(c.Fields[i].Type)))
		}
	}
	e.write(")")
}
