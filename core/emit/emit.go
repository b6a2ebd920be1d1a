package emit

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/query"
)

// An Arg is one argument of an emitted statement: a value, or a fact that is
// known when the statement starts.
type Arg struct {
	Value any        // nil, bool, int64, float64 or string
	T     query.Type // of the value, where the dialect says it
	Now   query.Type // a type of dates or times: the start of the query; else nil
	Key   bool       // the key of pseudonyms
	Nonce bool       // a text of the query's own, by which noise is fresh at each
	Pad   byte       // of a key or nonce: its block for HMAC, joined with this byte
	Param int        // the number of the parameter whose value it is; zero: none
}

// An emitter writes a bound query as SQL of one database's dialect.
type emitter struct {
	dialect
	spelling
	ctx     context.Context
	b       strings.Builder
	written int // bytes, and how many times something was written
	writes  int
	args    []Arg
	numbers map[Arg]int // the place of each argument, so that equal ones share it
	aliases map[*query.Relation]string
	ctes    map[*query.CTE]string
	taken   map[string]bool // names that the query being written and those around it have
	names   []string        // the same, in the order in which they came
	model   *access.Model
	barriers
	moved       map[columnKey]moved            // columns that a fenced block gives, by their places in it
	apart       map[*query.Relation]query.Expr // hard barriers that are blocks of their own, with the conditions inside
	whole       int                            // conditions being written beside what is not plain
	unplainHere int                            // conditions and items of the SELECT being written that are not plain
	indent      int
	asked       map[columnKey]bool // columns that conditions which are not plain are about
	guarded     map[*query.Relation]guard
	inline      *query.Relation // the table that is written to
	defining    []*query.CTE    // WITH queries that are being written, outermost first
	policies    *policies       // whose condition is being written
	compared    int             // lists being written whose values are compared: of DISTINCT, UNION, IN, GROUP BY, PARTITION BY
	wordless    bool            // see [query.Outline]
}

// newEmitter makes one for the source that a query reads.
func newEmitter(m *access.Model, source access.ObjectID) *emitter {
	e := &emitter{numbers: map[Arg]int{}, aliases: map[*query.Relation]string{}, ctes: map[*query.CTE]string{},
		taken: map[string]bool{}, model: m, barriers: newBarriers(), moved: map[columnKey]moved{},
		asked: map[columnKey]bool{}, guarded: map[*query.Relation]guard{},
		apart: map[*query.Relation]query.Expr{}}
	if speaks(m, source) == Postgres {
		e.dialect, e.spelling, e.overflows = postgres{e}, postgresSpelling, true
	} else {
		e.dialect, e.spelling = sqlite{e}, sqliteSpelling
	}
	return e
}

// The kinds of databases, as the Type of a source's object names them.
const (
	SQLite   = "sqlite"
	Postgres = "postgresql"
)

// speaks gives the kind of a source; that of none, of the platform's first, on
// which a query without tables runs.
func speaks(m *access.Model, source access.ObjectID) string {
	if source == 0 {
		source = query.FirstSource(m)
	}
	if source != 0 && m.Object(source).Type == Postgres {
		return Postgres
	}
	return SQLite
}

func (e *emitter) write(parts ...string) {
	for _, p := range parts {
		e.b.WriteString(p)
		e.written += len(p)
	}
	if e.written > mostWritten {
		panic(query.TooLarge("the statement comes to more than %d bytes once its policies are in it", mostWritten))
	}
	if e.writes++; e.writes%1024 == 0 && e.ctx.Err() != nil {
		panic(query.Ended{Cause: context.Cause(e.ctx)})
	}
}

// mostWritten bounds what is written for a statement, in bytes, what is written twice counted
// as often.
const mostWritten = 32 << 20

// line starts a new line at the depth of the query being written.
func (e *emitter) line() { e.write("\n", strings.Repeat("  ", e.indent)) }

func (e *emitter) arg(a Arg) {
	n, ok := e.numbers[a]
	if !ok {
		e.args = append(e.args, a)
		n = len(e.args)
		e.numbers[a] = n
	}
	e.argument(n, a)
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
	e.names = append(e.names, strings.ToLower(candidate))
	return candidate
}

// leave gives free the names that a query has taken since there were so many: beside it they mean nothing. So what is
// written twice is the same text, which the database takes for one expression.
func (e *emitter) leave(names int) {
	for _, name := range e.names[names:] {
		delete(e.taken, name)
	}
	e.names = e.names[:names]
}

// columnNames gives each output column a name of its own: its own name where
// no other has it.
func columnNames(columns []query.Column) []string {
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
func (e *emitter) with(ctes []*query.CTE) {
	for i, c := range ctes {
		switch {
		case i > 0:
			e.write(",")
			e.line()
		case slices.ContainsFunc(ctes, func(c *query.CTE) bool { return c.Recursive }):
			e.write("WITH RECURSIVE ")
		default:
			e.write("WITH ")
		}
		e.ctes[c] = e.fresh(c.Name)
		e.write(quoteName(e.ctes[c]), " (")
		for i, name := range columnNames(c.Query.Columns) {
			e.write(map[bool]string{true: "", false: ", "}[i == 0], quoteName(name))
		}
		e.write(") AS ", c.Keep, "(")
		e.defining = append(e.defining, c)
		e.nested(c.Query)
		e.defining = e.defining[:len(e.defining)-1]
		e.write(")")
		e.searching(c)
	}
	if len(ctes) > 0 {
		e.line()
	}
}

// searching writes SEARCH and CYCLE of a recursive query.
func (e *emitter) searching(c *query.CTE) {
	names := columnNames(c.Query.Columns)
	list := func(places []int) {
		for i, at := range places {
			e.write(map[bool]string{true: "", false: ", "}[i == 0], quoteName(names[at]))
		}
	}
	if s := c.Search; s != nil {
		e.write(map[bool]string{true: " SEARCH BREADTH FIRST BY ", false: " SEARCH DEPTH FIRST BY "}[s.Breadth])
		list(s.By)
		e.write(" SET ", quoteName(s.Set))
	}
	if s := c.Cycle; s != nil {
		e.write(" CYCLE ")
		list(s.By)
		e.write(" SET ", quoteName(s.Set), " TO ", bare(s.Value), " DEFAULT ", bare(s.Default), " USING ", quoteName(s.Using))
	}
}

// bare writes a constant where the grammar takes no other expression.
func bare(l *query.Literal) string {
	if text, ok := l.Value.(string); ok {
		return "'" + strings.ReplaceAll(text, "'", "''") + "'"
	}
	return fmt.Sprint(l.Value)
}

func (e *emitter) query(q *query.Query) {
	defer e.leave(len(e.names))
	q = e.sortable(q)
	e.with(q.With)
	switch body := q.Body.(type) {
	case *query.Select:
		e.selectBody(body, q)
	case *query.Values:
		e.values(body, q)
	case *query.SetOp:
		e.compared++
		e.operand(body.L)
		e.line()
		e.write(body.Op)
		if body.All {
			e.write(" ALL")
		}
		e.line()
		e.operand(body.R)
		e.compared--
	}
	e.orderBy(q)
	if q.Ties {
		if q.Offset != nil {
			e.line()
			e.write("OFFSET ")
			e.expr(q.Offset)
		}
		e.line()
		e.write("FETCH FIRST (")
		e.expr(q.Limit)
		e.write(") ROWS WITH TIES")
		return
	}
	if q.Limit != nil {
		e.line()
		e.write("LIMIT ")
		e.expr(q.Limit)
	}
	if q.Offset != nil {
		e.line()
		e.write(map[bool]string{true: "OFFSET ", false: e.offset}[q.Limit != nil])
		e.expr(q.Offset)
	}
}

// nested writes a query on lines of its own between parentheses.
func (e *emitter) nested(q *query.Query) {
	outer := e.policies
	e.policies = nil
	e.indent++
	e.line()
	e.query(q)
	e.indent--
	e.line()
	e.policies = outer
}

// values writes the rows of VALUES, under the names of the query's columns.
func (e *emitter) values(v *query.Values, q *query.Query) {
	e.write("SELECT ")
	for i, name := range columnNames(q.Columns) {
		e.write(map[bool]string{true: "", false: ", "}[i == 0], fmt.Sprintf("column%d AS ", i+1), quoteName(name))
	}
	e.write(" FROM (")
	e.rows(v.Rows)
	e.write(") AS ", quoteName(e.fresh("v")))
}

func (e *emitter) rows(rows [][]query.Expr) {
	for i, row := range rows {
		e.write(map[bool]string{true: "VALUES (", false: ", ("}[i == 0])
		e.exprs(row)
		e.write(")")
	}
}

// operand writes one side of a set operation. SQLite has neither parentheses
// nor precedence there, so all but a plain SELECT becomes a sub-query.
func (e *emitter) operand(q *query.Query) {
	if _, plain := q.Body.(*query.Select); plain && len(q.With) == 0 && len(q.OrderBy) == 0 && q.Limit == nil && q.Offset == nil {
		e.query(q)
		return
	}
	e.write("SELECT * FROM (")
	e.nested(q)
	e.write(") AS ", quoteName(e.fresh("q")))
}

func (e *emitter) selectBody(s *query.Select, q *query.Query) {
	// FROM is written first, for the aliases that the select list needs.
	rest := e.detour(func() {
		e.rowsOf(s)
		if d, ok := e.dialect.(postgres); ok {
			d.grouped(s)
		} else {
			e.list("GROUP BY ", s.GroupBy)
		}
		if s.Having != nil {
			e.line()
			e.write("HAVING ")
			e.expr(s.Having)
		}
	})
	e.write("SELECT ")
	if s.Distinct {
		e.write("DISTINCT ")
		e.compared++
		defer func() { e.compared-- }()
	}
	if len(s.On) > 0 {
		e.write("ON (")
		e.exprs(s.On)
		e.write(") ")
	}
	names := columnNames(q.Columns)
	aggregated := slices.ContainsFunc(s.Items, func(item query.Expr) bool { return query.AnyExpr(item, query.IsAggregate) })
	e.commas(s.Items, func(i int, item query.Expr) {
		if _, exact := e.dialect.(postgres); !exact && i == 0 && s.Having != nil && len(s.GroupBy) == 0 && !aggregated {
			// All rows, or none, are one group. SQLite takes HAVING only where
			// something is aggregated, so something is.
			item = &query.Case{
				Whens: []query.When{
					{
						If: &query.Binary{
							Op: ">=",
							L:  &query.Call{Fn: query.Functions["count"], Star: true, T: query.Bigint},
							R:  &query.Literal{T: query.Bigint, Value: int64(0)},
							T:  query.Boolean,
						},
						Then: item,
					},
				},
				T: item.Type(),
			}
		}
		e.item(item)
		e.write(" AS ", quoteName(names[i]))
	})
	e.write(rest)
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

func (e *emitter) list(head string, list []query.Expr) {
	e.compared++
	defer func() { e.compared-- }()
	for i, x := range list {
		if i == 0 {
			e.line()
			e.write(head)
		} else {
			e.write(", ")
		}
		e.item(x)
	}
}

func (e *emitter) orderBy(q *query.Query) {
	for i, o := range q.OrderBy {
		if i == 0 {
			e.line()
			e.write("ORDER BY ")
		} else {
			e.write(", ")
		}
		e.sortKey(o, q)
	}
}
