package emit

import (
	"strings"

	"gneiss/core/access"
	"gneiss/core/query"
)

// writing writes a statement that changes a table. The table stays itself; what
// policies make of its columns stands in the place of each reference to them.
func (e *emitter) writing(w *query.Write) {
	e.with(w.With)
	r := w.Target
	e.inline = r
	alias := e.fresh(r.Alias)
	e.taken[strings.ToLower(r.Table.Name)] = true // RETURNING calls it so
	e.aliases[r] = alias
	if r.Governed != nil {
		e.aliases[r.Governed.Inner] = alias
	}
	if w.Merge != nil {
		e.merge(w, alias)
		return
	}
	switch {
	case w.Proposed:
		e.insertProposed(w)
		return
	case w.Verb == access.Insert:
		e.write("INSERT INTO ", e.tableName(r))
		e.insertColumns(w)
		e.line()
		e.insertRows(w)
		e.conflict(w)
	case w.Verb == access.Update:
		e.write("UPDATE ", e.tableName(r), " AS ", quoteName(alias))
		rest := e.detour(func() { e.fromOf(w) }) // first, for the aliases
		e.set(r, w.Columns, w.Rows[0])
		e.write(rest)
	case w.Verb == access.Delete:
		e.write("DELETE FROM ", e.tableName(r), " AS ", quoteName(alias))
	}
	if w.Verb != access.Insert {
		e.whereOf(w)
	}
	e.returning(w)
}

// set writes the columns that are set.
func (e *emitter) set(r *query.Relation, columns []int, row []query.Expr) {
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
func (e *emitter) returning(w *query.Write) {
	if w.Returning == nil && w.Check == nil {
		return
	}
	if e.ownName || w.Verb == access.Insert {
		e.underOwnName(w.Target)
	}
	e.line()
	e.write("RETURNING ")
	if w.Returning != nil {
		names := columnNames(w.Returning.Columns)
		e.commas(w.Returning.Body.(*query.Select).Items, func(i int, item query.Expr) {
			e.item(item)
			e.write(" AS ", quoteName(names[i]))
		})
	}
	if w.Check != nil {
		if w.Returning != nil {
			e.write(", ")
		}
		e.expr(w.Check)
		e.write(" AS ", quoteName(e.fresh("row_check")))
	}
}

// underOwnName makes references to the changed table use its own name.
func (e *emitter) underOwnName(r *query.Relation) {
	e.aliases[r] = r.Table.Name
	if r.Governed != nil {
		e.aliases[r.Governed.Inner] = r.Table.Name
	}
}

// insertProposed writes an INSERT whose rows must be there for the session before they can
// meet others by their key: those that are not are given back as rows that may not be left.
func (e *emitter) insertProposed(w *query.Write) {
	proposed, written := e.fresh("proposed"), e.fresh("written")
	e.write(map[bool]string{true: "WITH ", false: ", "}[len(w.With) == 0], quoteName(proposed))
	e.insertColumns(w)
	e.write(" AS MATERIALIZED (")
	e.insertRows(w)
	e.write("),")
	e.line()
	e.write(quoteName(written), " AS (INSERT INTO ", e.tableName(w.Target))
	e.insertColumns(w)
	e.line()
	e.write("SELECT * FROM ", quoteName(proposed), " WHERE ")
	allowed := w.Target.Governed.Filter
	e.aliases[w.Target.Governed.Inner] = proposed
	e.expr(allowed)
	e.conflict(w)
	e.returning(w)
	e.write(")")
	e.line()
	e.write("SELECT * FROM ", quoteName(written), " UNION ALL SELECT ")
	if w.Returning != nil {
		e.write(strings.Repeat("NULL, ", len(w.Returning.Columns)))
	}
	e.aliases[w.Target.Governed.Inner] = proposed
	e.write("FALSE FROM ", quoteName(proposed), " WHERE (")
	e.expr(allowed)
	e.write(") IS NOT TRUE")
}

// insertColumns writes the columns that are set.
func (e *emitter) insertColumns(w *query.Write) {
	for i, c := range w.Columns {
		e.write(map[bool]string{true: " (", false: ", "}[i == 0], quoteName(tableColumn(e.model, w.Target.Columns[c])))
	}
	if len(w.Columns) > 0 {
		e.write(")")
	}
}

// insertRows writes what is inserted.
func (e *emitter) insertRows(w *query.Write) {
	switch {
	case w.Query != nil:
		e.insertQuery(w)
	case len(w.Rows) == 0:
		e.write("DEFAULT VALUES")
	default:
		for i, row := range w.Rows {
			e.write(map[bool]string{true: "VALUES (", false: ", ("}[i == 0])
			e.exprs(row)
			e.write(")")
		}
	}
}

// insertQuery writes the query whose rows are inserted.
func (e *emitter) insertQuery(w *query.Write) {
	switch {
	case w.Conflict != nil:
		e.write("SELECT * FROM (")
	default:
		e.query(w.Query)
		return
	}
	e.nested(w.Query)
	// Without a condition, SQLite would take ON for that of a join.
	e.write(") AS \"q\" WHERE TRUE")
}

// fromOf writes what an UPDATE reads beside its table, apart from conditions that
// are not plain.
func (e *emitter) fromOf(w *query.Write) {
	barred := false
	query.EachItem(w.From, func(item query.From) {
		if r, ok := item.(*query.Relation); ok {
			barred = barred || e.barrier(r)
		}
	})
	if !barred || e.risky(w.Where) == 0 {
		e.fromItems(w.From)
		return
	}
	e.asks(w.From, w.Where)
	e.line()
	e.write("FROM ")
	e.block(w.From, e.about(w.From, w.Where))
}

// whereOf writes the condition of the statement, and of the rows that are there
// for the session. Conditions of the statement that are not plain are evaluated for
// those rows only: a CASE evaluates a result only where its condition holds.
func (e *emitter) whereOf(w *query.Write) {
	var filter query.Expr
	if g := w.Target.Governed; g != nil {
		filter = g.Filter
	}
	plain, rest := e.divide(w.Where)
	if filter == nil {
		plain, rest = w.Where, nil
	} else if e.fails(filter) {
		plain, rest = nil, w.Where
	}
	first := true
	and := func(write func()) {
		if first {
			e.line()
			e.write("WHERE ")
		} else {
			e.write(" AND ")
		}
		first = false
		write()
	}
	if filter != nil {
		and(func() { e.condition(filter, true) })
	}
	if plain != nil {
		and(func() { e.besides(e.risky(plain), plain) })
	}
	if rest != nil {
		and(func() {
			e.write("CASE WHEN ")
			e.condition(filter, false)
			e.write(" THEN ")
			e.besides(e.risky(rest), rest)
			e.write(" END")
		})
	}
}

// conflict writes ON CONFLICT. In it the database knows the table by its own name.
func (e *emitter) conflict(w *query.Write) {
	c, r := w.Conflict, w.Target
	if c == nil {
		return
	}
	e.underOwnName(r)
	e.line()
	e.write("ON CONFLICT")
	for i, key := range c.Key {
		e.write(map[bool]string{true: " (", false: ", "}[i == 0], quoteName(tableColumn(e.model, r.Columns[key])))
	}
	if len(c.Key) > 0 {
		e.write(")")
	}
	if len(c.Columns) == 0 {
		e.write(" DO NOTHING")
		return
	}
	e.aliases[c.Proposed] = "excluded"
	e.write(" DO UPDATE")
	e.set(r, c.Columns, c.Row)
	if c.Where != nil {
		e.line()
		e.write("WHERE ")
		e.expr(c.Where)
	}
}

// merge writes MERGE. What it reads is kept whole where conditions on it are not plain.
func (e *emitter) merge(w *query.Write, alias string) {
	m, r := w.Merge, w.Target
	e.write("MERGE INTO ", e.tableName(r), " AS ", quoteName(alias))
	e.line()
	e.write("USING ")
	barred, risks := false, e.risky(m.On)
	query.EachItem([]query.From{m.Source}, func(item query.From) {
		if r, ok := item.(*query.Relation); ok {
			barred = barred || e.barrier(r)
		}
	})
	conditions := []query.Expr{m.On}
	for _, when := range m.When {
		risks += e.risky(when.If)
		conditions = append(conditions, when.If)
	}
	e.asks([]query.From{m.Source}, conditions...)
	if barred && risks > 0 {
		e.block([]query.From{m.Source}, nil)
	} else {
		e.joined(m.Source, false)
	}
	e.write(" ON ")
	e.besides(risks, m.On)
	for _, when := range m.When {
		e.line()
		e.write(map[bool]string{true: "WHEN MATCHED", false: "WHEN NOT MATCHED"}[when.Matched])
		if when.If != nil {
			e.write(" AND ")
			e.besides(risks, when.If)
		}
		e.write(" THEN ")
		switch when.Verb {
		case access.Update:
			e.write("UPDATE")
			e.set(r, when.Columns, when.Row)
		case access.Delete:
			e.write("DELETE")
		case access.Insert:
			e.write("INSERT")
			for i, c := range when.Columns {
				e.write(map[bool]string{true: " (", false: ", "}[i == 0], quoteName(tableColumn(e.model, r.Columns[c])))
			}
			if len(when.Row) == 0 {
				e.write(" DEFAULT VALUES")
				continue
			}
			e.write(") VALUES (")
			e.exprs(when.Row)
			e.write(")")
		default:
			e.write("DO NOTHING")
		}
	}
}
