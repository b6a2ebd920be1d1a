package query

import (
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
)

// An Arg is one argument of an emitted statement: a value, or a fact that is
// known when the statement starts.
type Arg struct {
	Value any  // nil, bool, int64, float64 or string
	Now   Type // Date or Timestamp: the start of the query; else zero
	Key   bool // the key of pseudonyms
	Nonce bool // a text of the query's own, by which noise is fresh at each
}

// An emitter writes a bound query as SQL of SQLite.
type emitter struct {
	b       strings.Builder
	args    []Arg
	numbers map[Arg]int // the place of each argument, so that equal ones share it
	aliases map[*Relation]string
	ctes    map[*CTE]string
	taken   map[string]bool
	model   *access.Model
	fenced  bool
	indent  int
	inline  *Relation // the table that is written to
}

func newEmitter(m *access.Model, fenced bool) *emitter {
	return &emitter{numbers: map[Arg]int{}, aliases: map[*Relation]string{}, ctes: map[*CTE]string{},
		taken: map[string]bool{}, model: m, fenced: fenced}
}

func (e *emitter) write(parts ...string) {
	for _, p := range parts {
		e.b.WriteString(p)
	}
}

// line starts a new line at the depth of the query being written.
func (e *emitter) line() { e.write("\n", strings.Repeat("  ", e.indent)) }

func (e *emitter) arg(a Arg) {
	n, ok := e.numbers[a]
	if !ok {
		e.args = append(e.args, a)
		n = len(e.args)
		e.numbers[a] = n
	}
	fmt.Fprintf(&e.b, "?%d", n)
}

// quoteName writes a name as a delimited identifier, always.
func quoteName(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// fresh gives a name that nothing else in the statement has, so that no scope
// can capture another's.
func (e *emitter) fresh(name string) string {
	if name == "" {
		name = "t"
	}
	candidate := name
	for n := 2; e.taken[strings.ToLower(candidate)]; n++ {
		candidate = fmt.Sprintf("%s_%d", name, n)
	}
	e.taken[strings.ToLower(candidate)] = true
	return candidate
}

// columnNames gives each output column a name of its own: its own name where
// no other has it.
func columnNames(columns []Column) []string {
	count := map[string]int{}
	for _, c := range columns {
		count[strings.ToLower(c.Name)]++
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Name
		if count[strings.ToLower(c.Name)] > 1 || c.Name == "?column?" || c.Name == "" {
			names[i] = fmt.Sprintf("c%d", i+1)
			for count[names[i]] > 0 {
				names[i] += "_"
			}
		}
	}
	return names
}

// with writes the WITH clause of a statement, if it has one.
func (e *emitter) with(ctes []*CTE) {
	for i, c := range ctes {
		switch {
		case i > 0:
			e.write(",")
			e.line()
		case slices.ContainsFunc(ctes, func(c *CTE) bool { return c.Recursive }):
			e.write("WITH RECURSIVE ")
		default:
			e.write("WITH ")
		}
		e.ctes[c] = e.fresh(c.Name)
		e.write(quoteName(e.ctes[c]), " (")
		for i, name := range columnNames(c.Query.Columns) {
			e.write(map[bool]string{true: "", false: ", "}[i == 0], quoteName(name))
		}
		e.write(") AS (")
		e.nested(c.Query)
		e.write(")")
	}
	if len(ctes) > 0 {
		e.line()
	}
}

func (e *emitter) query(q *Query) {
	e.with(q.With)
	switch body := q.Body.(type) {
	case *Select:
		e.selectBody(body, q)
	case *Values:
		e.values(body, q)
	case *SetOp:
		e.operand(body.L)
		e.line()
		e.write(body.Op)
		if body.All {
			e.write(" ALL")
		}
		e.line()
		e.operand(body.R)
	}
	e.orderBy(q.OrderBy)
	if q.Limit != nil || q.Offset != nil {
		e.line()
		e.write("LIMIT ")
		if q.Limit != nil {
			e.expr(q.Limit)
		} else {
			e.write("-1")
		}
		if q.Offset != nil {
			e.write(" OFFSET ")
			e.expr(q.Offset)
		}
	}
}

// nested writes a query on lines of its own between parentheses.
func (e *emitter) nested(q *Query) {
	e.indent++
	e.line()
	e.query(q)
	e.indent--
	e.line()
}

// values writes the rows of VALUES, under the names of the query's columns.
func (e *emitter) values(v *Values, q *Query) {
	e.write("SELECT ")
	for i, name := range columnNames(q.Columns) {
		e.write(map[bool]string{true: "", false: ", "}[i == 0], fmt.Sprintf("column%d AS ", i+1), quoteName(name))
	}
	e.write(" FROM (")
	e.rows(v.Rows)
	e.write(")")
}

func (e *emitter) rows(rows [][]Expr) {
	for i, row := range rows {
		e.write(map[bool]string{true: "VALUES (", false: ", ("}[i == 0])
		e.exprs(row)
		e.write(")")
	}
}

// operand writes one side of a set operation. SQLite has neither parentheses
// nor precedence there, so all but a plain SELECT becomes a sub-query.
func (e *emitter) operand(q *Query) {
	if _, plain := q.Body.(*Select); plain && len(q.With) == 0 && len(q.OrderBy) == 0 && q.Limit == nil && q.Offset == nil {
		e.query(q)
		return
	}
	e.write("SELECT * FROM (")
	e.nested(q)
	e.write(")")
}

func (e *emitter) selectBody(s *Select, q *Query) {
	// FROM is written first, for the aliases that the select list needs.
	rest := e.detour(func() {
		e.fromItems(s.From)
		if s.Where != nil {
			e.line()
			e.write("WHERE ")
			e.expr(s.Where)
		}
		e.list("GROUP BY ", s.GroupBy)
		if s.Having != nil {
			e.line()
			e.write("HAVING ")
			e.expr(s.Having)
		}
	})
	e.write("SELECT ")
	if s.Distinct {
		e.write("DISTINCT ")
	}
	names := columnNames(q.Columns)
	aggregated := slices.ContainsFunc(s.Items, func(item Expr) bool { return anyExpr(item, isAggregate) })
	for i, item := range s.Items {
		if i > 0 {
			e.write(", ")
		}
		if i == 0 && s.Having != nil && len(s.GroupBy) == 0 && !aggregated {
			// All rows, or none, are one group. SQLite takes HAVING only where
			// something is aggregated, so something is.
			item = &Case{Whens: []When{{&Binary{">=", &Call{Fn: functions["count"], Star: true, T: Bigint}, &Literal{Bigint, int64(0)}, Boolean}, item}}, T: item.Type()}
		}
		e.expr(item)
		e.write(" AS ", quoteName(names[i]))
	}
	e.write(rest)
}

func (e *emitter) fromItems(items []From) {
	for i, item := range items {
		if i == 0 {
			e.line()
			e.write("FROM ")
		} else {
			e.write(" JOIN ")
		}
		e.joined(item, i > 0)
	}
}

// detour collects what f writes.
func (e *emitter) detour(f func()) string {
	outer := e.b
	e.b = strings.Builder{}
	f()
	written := e.b.String()
	e.b = outer
	return written
}

func (e *emitter) list(head string, list []Expr) {
	for i, x := range list {
		if i == 0 {
			e.line()
			e.write(head)
		} else {
			e.write(", ")
		}
		e.expr(x)
	}
}

func (e *emitter) orderBy(order []Order) {
	for i, o := range order {
		if i == 0 {
			e.line()
			e.write("ORDER BY ")
		} else {
			e.write(", ")
		}
		e.sortKey(o)
	}
}

// sortKey writes one sort key. SQLite holds NULL for the least of all values,
// PostgreSQL for the greatest; where no NULL can occur nothing is said, so that
// an index can serve.
func (e *emitter) sortKey(o Order) {
	if o.Output > 0 {
		fmt.Fprint(&e.b, o.Output)
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

// joined writes an item, in parentheses where it is a join on the right.
func (e *emitter) joined(item From, right bool) {
	if _, join := item.(*Join); !join || !right {
		e.from(item)
		return
	}
	e.write("(")
	e.from(item)
	e.write(")")
}

func (e *emitter) from(item From) {
	switch item := item.(type) {
	case *Join:
		e.from(item.L)
		e.line()
		if item.Kind != "CROSS" { // SQLite keeps the order of a CROSS JOIN; a bare one it may turn
			e.write(item.Kind, " ")
		}
		e.write("JOIN ")
		e.joined(item.R, true)
		if item.On != nil {
			e.write(" ON ")
			e.expr(item.On)
		}
	case *Relation:
		e.relation(item)
	}
}

func (e *emitter) relation(r *Relation) {
	alias := e.fresh(r.Alias)
	e.aliases[r] = alias
	switch {
	case r.Query != nil:
		e.write("(")
		e.nested(r.Query)
		e.write(")")
	case r.CTE != nil:
		e.write(quoteName(e.ctes[r.CTE]))
	case r.governed != nil:
		e.write("(")
		e.governed(r)
		e.write(")")
	default:
		e.write(e.tableName(r))
	}
	e.write(" AS ", quoteName(alias))
}

func (e *emitter) tableName(r *Relation) string {
	schema := e.model.Object(r.Table.Parent)
	return quoteName(schema.Name) + "." + quoteName(r.Table.Name)
}

// governed writes the sub-query that stands in a table's place: the columns
// that the query uses, treated, of the rows that are there for the session.
func (e *emitter) governed(r *Relation) {
	g := r.governed
	e.indent++
	e.line()
	inner := e.fresh(r.Table.Name)
	e.aliases[g.inner] = inner
	rest := e.detour(func() { // for the aliases
		for _, item := range g.joins {
			e.write(" JOIN ")
			e.joined(item, true)
		}
	})
	e.write("SELECT ")
	n := 0
	for i, c := range r.Columns {
		if !r.used[i] {
			continue
		}
		if n > 0 {
			e.write(", ")
		}
		n++
		treated, ok := g.treated[i]
		if !ok {
			treated = &ColumnRef{g.inner, i}
		}
		e.expr(treated)
		e.write(" AS ", quoteName(tableColumn(e.model, c)))
	}
	if n == 0 {
		e.write("1")
	}
	e.line()
	e.write("FROM ", e.tableName(r), " AS ", quoteName(inner), rest)
	if g.filter != nil {
		e.line()
		e.write("WHERE ")
		e.expr(g.filter)
		if e.fenced {
			// With LIMIT the database keeps the sub-query whole: the filter
			// comes before any expression of the user's.
			e.line()
			e.write("LIMIT -1 OFFSET 0")
		}
	}
	e.indent--
	e.line()
}

// tableColumn is a column's own name; an alias list may have renamed it.
func tableColumn(m *access.Model, c Column) string { return m.Object(c.ID).Name }

// column writes a reference by the name that its relation gives the column.
func (e *emitter) column(c *ColumnRef) {
	alias, ok := e.aliases[c.Rel]
	if !ok {
		panic("query: a column of a relation that is not in scope")
	}
	if r := e.inline; r != nil && c.Rel == r && r.governed != nil {
		if treated, ok := r.governed.treated[c.Col]; ok {
			e.expr(treated)
			return
		}
	}
	name := ""
	switch r := c.Rel; {
	case r.Query != nil:
		name = columnNames(r.Query.Columns)[c.Col]
	case r.CTE != nil:
		name = columnNames(r.CTE.Query.Columns)[c.Col]
	default:
		name = tableColumn(e.model, r.Columns[c.Col])
	}
	e.write(quoteName(alias), ".", quoteName(name))
}
