package query

import (
	"strings"

	"gneiss/core/access"
)

// writing writes a statement that changes a table. The table stays itself; what
// policies make of its columns stands in the place of each reference to them.
func (e *emitter) writing(w *Write) {
	e.with(w.With)
	r := w.Target
	e.inline = r
	alias := e.fresh(r.Alias)
	e.taken[strings.ToLower(r.Table.Name)] = true // RETURNING calls it so
	e.aliases[r] = alias
	if r.governed != nil {
		e.aliases[r.governed.inner] = alias
	}
	switch w.Verb {
	case access.Insert:
		e.write("INSERT INTO ", e.tableName(r))
		e.insert(w)
	case access.Update:
		e.write("UPDATE ", e.tableName(r), " AS ", quoteName(alias))
		rest := e.detour(func() { e.fromItems(w.From) }) // first, for the aliases
		e.set(r, w.Columns, w.Rows[0])
		e.write(rest)
	case access.Delete:
		e.write("DELETE FROM ", e.tableName(r), " AS ", quoteName(alias))
	}
	if w.Verb != access.Insert {
		e.whereOf(w)
	}
	e.returning(w)
}

// set writes the columns that are set.
func (e *emitter) set(r *Relation, columns []int, row []Expr) {
	for i, c := range columns {
		if i == 0 {
			e.line()
			e.write("SET ")
		} else {
			e.write(", ")
		}
		e.write(quoteName(tableColumn(e.model, r.Columns[c])), " = ")
		e.expr(row[i])
	}
}

// returning writes what each row gives back, and last whether it may be left.
func (e *emitter) returning(w *Write) {
	if w.Returning == nil && w.Check == nil {
		return
	}
	// The database knows the table by its own name there, and not by an alias.
	r := w.Target
	e.aliases[r] = r.Table.Name
	if r.governed != nil {
		e.aliases[r.governed.inner] = r.Table.Name
	}
	e.line()
	e.write("RETURNING ")
	if w.Returning != nil {
		names := columnNames(w.Returning.Columns)
		for i, item := range w.Returning.Body.(*Select).Items {
			if i > 0 {
				e.write(", ")
			}
			e.expr(item)
			e.write(" AS ", quoteName(names[i]))
		}
	}
	if w.Check != nil {
		if w.Returning != nil {
			e.write(", ")
		}
		e.expr(w.Check)
		e.write(" AS ", quoteName(e.fresh("row_check")))
	}
}

func (e *emitter) insert(w *Write) {
	for i, c := range w.Columns {
		e.write(map[bool]string{true: " (", false: ", "}[i == 0], quoteName(tableColumn(e.model, w.Target.Columns[c])))
	}
	if len(w.Columns) > 0 {
		e.write(")")
	}
	e.line()
	switch {
	case w.Query != nil && w.Conflict != nil:
		// Without a condition, SQLite would take ON for that of a join.
		e.write("SELECT * FROM (")
		e.nested(w.Query)
		e.write(") WHERE TRUE")
	case w.Query != nil:
		e.query(w.Query)
	case len(w.Rows) == 0:
		e.write("DEFAULT VALUES")
	default:
		e.rows(w.Rows)
	}
	e.conflict(w)
}

// whereOf writes the condition of the statement, and of the rows that are there
// for the session.
func (e *emitter) whereOf(w *Write) {
	filter := Expr(nil)
	if g := w.Target.governed; g != nil {
		filter = g.filter
	}
	if filter != nil && w.Where != nil {
		filter = &Binary{"AND", filter, w.Where, Boolean}
	} else if filter == nil {
		filter = w.Where
	}
	if filter != nil {
		e.line()
		e.write("WHERE ")
		e.expr(filter)
	}
}
