package emit

import (
	"gneiss/core/access"
	"gneiss/core/query"
)

func (e *emitter) fromItems(items []query.From) {
	for i, item := range items {
		if i == 0 {
			e.line()
			e.write("FROM ")
		} else {
			e.write(" ", e.cross, " ")
		}
		e.joined(item, i > 0)
	}
}

// joined writes an item, in parentheses where it is a join on the right.
func (e *emitter) joined(item query.From, right bool) {
	if _, join := item.(*query.Join); !join || !right {
		e.from(item)
		return
	}
	e.write("(")
	e.from(item)
	e.write(")")
}

func (e *emitter) from(item query.From) {
	switch item := item.(type) {
	case *query.Join:
		e.side(item, item.L)
		e.line()
		if item.Kind == "CROSS" {
			e.write(e.cross, " ")
		} else {
			e.write(item.Kind, " JOIN ")
		}
		e.side(item, item.R)
		if item.On != nil {
			e.write(" ON ")
			e.besides(max(e.unplainHere, e.risky(item.On)), item.On)
		}
	case *query.Relation:
		if where, ok := e.apart[item]; ok {
			delete(e.apart, item)
			e.block([]query.From{item}, where)
			return
		}
		e.relation(item)
	}
}

func (e *emitter) relation(r *query.Relation) {
	alias := e.fresh(r.Alias)
	e.aliases[r] = alias
	for i := range r.Columns { // of a query that is written a second time
		delete(e.moved, columnKey{r, i})
	}
	switch {
	case r.Calls != nil:
		e.dialect.(postgres).calls(r, alias)
		return
	case r.Query != nil:
		if r.Lateral {
			e.write("LATERAL ")
		}
		// Its owner may read what its reader may not, and an error could quote it.
		e.wordless = e.wordless || r.Lends
		e.write("(")
		if e.kept(r) {
			e.keptWhole(r.Query)
		} else {
			e.nested(r.Query)
		}
		e.write(")")
	case r.CTE != nil:
		e.write(quoteName(e.ctes[r.CTE]))
	case r.Governed != nil:
		e.write("(")
		e.governed(r)
		e.write(")")
	default:
		e.write(e.tableName(r))
	}
	e.write(" AS ", quoteName(alias))
}

func (e *emitter) tableName(r *query.Relation) string {
	schema := e.model.Object(r.Table.Parent)
	return quoteName(schema.Name) + "." + quoteName(r.Table.Name)
}

// governed writes the sub-query that stands in a table's place: the columns
// that the query uses, treated, of the rows that are there for the session.
func (e *emitter) governed(r *query.Relation) {
	g := r.Governed
	e.indent++
	e.line()
	inner := e.fresh(r.Table.Name)
	e.aliases[g.Inner] = inner
	rest := e.detour(func() { // for the aliases
		for _, item := range g.Joins {
			e.write(" ", e.cross, " ")
			e.joined(item, true)
		}
	})
	e.write("SELECT ")
	n := 0
	for i, c := range r.Columns {
		if !r.Used[i] {
			continue
		}
		if n > 0 {
			e.write(", ")
		}
		n++
		treated, ok := g.Treated[i]
		if !ok {
			treated = &query.ColumnRef{Rel: g.Inner, Col: i}
		}
		e.wordless = e.wordless || e.fails(treated)
		e.item(treated)
		e.write(" AS ", quoteName(tableColumn(e.model, c)))
	}
	if n == 0 {
		e.write("1")
	}
	e.line()
	e.write("FROM ", e.tableName(r), " AS ", quoteName(inner), rest)
	if g.Filter != nil {
		e.line()
		e.write("WHERE ")
		e.condition(g.Filter, true)
		e.guard(r)
		if e.fails(g.Filter) {
			e.wordless = true
			e.line()
			e.write(e.fence)
		}
	}
	e.indent--
	e.line()
}

// tableColumn is a column's own name; an alias list may have renamed it.
func tableColumn(m *access.Model, c query.Column) string { return m.Object(c.ID).Name }

// columnName writes a reference by the name that its relation gives the column.
func (e *emitter) columnName(c *query.ColumnRef) {
	if m, ok := e.moved[columnKey{c.Rel, c.Col}]; ok {
		e.write(quoteName(m.alias), ".", quoteName(m.name))
		return
	}
	alias, ok := e.aliases[c.Rel]
	if !ok {
		panic("query: a column of a relation that is not in scope")
	}
	if r := e.inline; r != nil && c.Rel == r && r.Governed != nil {
		if treated, ok := r.Governed.Treated[c.Col]; ok {
			e.expr(treated)
			return
		}
	}
	name := ""
	switch r := c.Rel; {
	case r.Query != nil:
		name = columnNames(r.Query.Columns)[c.Col]
	case r.CTE != nil && c.Col >= len(r.CTE.Query.Columns):
		name = r.CTE.More[c.Col-len(r.CTE.Query.Columns)].Name
	case r.CTE != nil:
		name = columnNames(r.CTE.Query.Columns)[c.Col]
	case r.Calls != nil:
		name = columnNames(r.Columns)[c.Col]
	default:
		name = tableColumn(e.model, r.Columns[c.Col])
	}
	e.write(quoteName(alias), ".", quoteName(name))
}
