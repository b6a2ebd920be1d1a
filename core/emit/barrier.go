package emit

import (
	"slices"
	"strings"

	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// What a person writes must never be worked out on a row that is not there for
// them: an error, or the time that it takes, would tell of the row. So a table
// that row or column policies touch for the session, and a view that lends its
// owner's rights, is a barrier. Inside it stand the policies' conditions and
// treatments, and of the person's conditions those that are plain. All others
// stand outside a fence that the database does not look through:
//
//	SELECT … FROM (SELECT … FROM t WHERE policies AND plain OFFSET 0) WHERE the rest
//
// The fence stands once for each SELECT, around its joins, so that joins and plain
// conditions reach the indexes; around each table where a LATERAL query beside them has a
// condition that is not plain, since the database takes it out of there. A SELECT
// without a barrier, or whose conditions are all plain, has no fence. On PostgreSQL a
// SELECT from one table alone has a guard in its place, which is as safe and lets the
// database read in parallel: a CASE gives a result only where its condition holds, and is
// not looked into while the database plans:
//
//	SELECT … FROM t WHERE policies AND CASE WHEN policies AND plain THEN the rest END
//
// What is selected, grouped by or sorted by is worked out after the conditions and needs none.
//
// A barrier is hard where its policies need other tables for each row (a
// relationship that is followed, a sub-query about the row): the database may then
// read it, and join it with others, before the policies have dropped a row. Beside
// what takes long, such as a derived table that groups, it has a fence of its own.

// Bounds of what counts as plain.
const (
	mostPlainText    = 4096 // bytes of a constant that is compared with
	mostPlainPattern = 200  // bytes of the pattern of a LIKE
	mostPlainRows    = 1000 // of VALUES
)

// barriers answers what the emitter asks of a bound statement about fences. It
// remembers its answers, since definitions can be built on each other many times.
type barriers struct {
	overflows bool // arithmetic fails on this database
	plainDef  map[columnKey]bool
	// What [barriers.collationOf] and [barriers.wide] have found of columns.
	collations map[columnKey]collation
	widths     map[columnKey]bool
	barred     map[*query.Query]bool
	hardIn     map[*query.Query]bool
	heavyIn    map[*query.Query]bool
	riskyAt    map[*query.Query]bool
}

type columnKey struct {
	rel *query.Relation
	col int
}

func newBarriers() barriers {
	return barriers{
		plainDef:   map[columnKey]bool{},
		collations: map[columnKey]collation{},
		widths:     map[columnKey]bool{},
		barred:     map[*query.Query]bool{},
		hardIn:     map[*query.Query]bool{},
		heavyIn:    map[*query.Query]bool{},
		riskyAt:    map[*query.Query]bool{},
	}
}

// plain reports whether a condition, or a part of one, can neither fail nor take
// long on any value: a comparison of columns and constants, and what joins such. Whether the
// comparison of two texts can fail, and of wide values take long, is in compare.go.
func (b *barriers) plain(x query.Expr) bool {
	switch x := x.(type) {
	case *query.ColumnRef:
		return b.plainColumn(x)
	case *query.Literal:
		s, isText := x.Value.(string)
		return !isText || len(s) <= mostPlainText
	case *query.Now:
		return true
	case *query.Unary:
		return x.Op == "NOT" && b.plain(x.X) || constant(x)
	case *query.Binary:
		switch x.Op {
		case "AND", "OR":
			return b.plain(x.L) && b.plain(x.R)
		case "=", "<>", "<", "<=", ">", ">=", "IS", "IS NOT":
			equal := x.Op == "=" || x.Op == "<>" || x.Op == "IS" || x.Op == "IS NOT"
			return b.plainOrdered(x.L) && b.plainOrdered(x.R) && safelyCompared(x.L, x.R) &&
				pairs(x.L, x.R, func(l, r query.Expr) bool { return b.comparable(equal, l, r) })
		}
		return constant(x)
	case *query.Operation:
		switch {
		case x.Op.Safe() && safelyTaken(x):
			return x.L != nil && b.plain(x.L) && b.plain(x.R) && b.comparable(x.Op.Name == "=" || x.Op.Name == "<>", x.L, x.R)
		case x.Op.Name == "~~" || x.Op.Name == "!~~":
			return b.plain(x.L) && plainPattern(x.R) && !b.wide(x.L) && b.collationOf(x.L).deterministic || constant(x)
		}
		return constant(x)
	case *query.Quantified:
		return x.Op.Safe() && safelyQuantified(x) && b.plain(x.X) && b.plain(x.Array) &&
			b.comparable(x.Op.Name == "=" || x.Op.Name == "<>", append([]query.Expr{x.X}, elements(x.Array)...)...)
	case *query.Array:
		return b.allPlain(x.List)
	case *query.Row:
		return b.allPlain(x.List)
	case *query.RowsCompared:
		return b.plainOrdered(x.L) && b.plainOrdered(x.R) && safelyCompared(x.L, x.R) &&
			pairs(x.L, x.R, func(l, r query.Expr) bool { return b.comparable(x.Op == "=" || x.Op == "<>", l, r) })
	case *query.Collated:
		return b.plain(x.X)
	case *query.IsNull:
		return b.plain(x.X)
	case *query.IsTrue:
		return b.plain(x.X)
	case *query.OfType:
		return b.plain(x.X)
	case *query.InList:
		return b.plainOrdered(x.X) && !slices.ContainsFunc(x.List, func(item query.Expr) bool { return !b.plainOrdered(item) }) && b.safelyListed(x) &&
			b.comparableLists(x.X, x.List)
	case *query.Like:
		return !x.Fold && b.plain(x.X) && plainPattern(x.Pattern) && (!b.overflows || !b.wide(x.X) && b.collationOf(x.X).deterministic)
	case *query.Cast:
		widens := sqltype.SafeCast(x.X.Type(), x.To) || !b.overflows && x.X.Type() == query.Date && x.To == query.Timestamp
		return widens && x.Modifier == "" && b.plain(x.X) || constant(x)
	}
	return constant(x)
}

// elements are what an array is made of; of one that is not written out, the array.
func elements(x query.Expr) []query.Expr {
	if array, ok := x.(*query.Array); ok {
		return array.List
	}
	return []query.Expr{x}
}

// The database takes operands to the types that an operator or a list has for them, unasked.
// That can fail, as a greater numeric than any double precision does.

// safelyTaken reports whether an operator's operands are taken to its types safely.
func safelyTaken(x *query.Operation) bool {
	return (x.L == nil || sqltype.SafeCast(x.L.Type(), x.Op.Left)) && sqltype.SafeCast(x.R.Type(), x.Op.Right)
}

func safelyQuantified(x *query.Quantified) bool {
	return sqltype.SafeCast(x.X.Type(), x.Op.Left) && (x.Op.Right.Kind == sqltype.Pseudo || x.Array.Type().Elem == x.Op.Right)
}

// safelyCompared is safelyTaken for values, or rows of them, that are compared for what they
// are.
func safelyCompared(l, r query.Expr) bool {
	left, isRow := l.(*query.Row)
	right, both := r.(*query.Row)
	if isRow && both {
		for i := range left.List {
			if !safelyCompared(left.List[i], right.List[i]) {
				return false
			}
		}
		return true
	}
	if t := l.Type(); t == r.Type() {
		return t == nil || t.OID != 0 || t.Kind != sqltype.Base // of an extension's types nothing is known
	}
	m, err := sqltype.Binary("=", l.Type(), r.Type())
	return err == nil && sqltype.SafeCast(l.Type(), m.Args[0]) && sqltype.SafeCast(r.Type(), m.Args[1])
}

func (b *barriers) safelyListed(x *query.InList) bool {
	if _, isRow := x.X.(*query.Row); isRow {
		return !slices.ContainsFunc(x.List, func(item query.Expr) bool { return !safelyCompared(x.X, item) })
	}
	if !b.overflows {
		return true // the shared language takes them to a type without failing
	}
	types := []query.Type{x.X.Type()}
	for _, item := range x.List {
		types = append(types, item.Type())
	}
	return sqltype.SafeTogether(types...)
}

func (b *barriers) allPlain(list []query.Expr) bool {
	return !slices.ContainsFunc(list, func(x query.Expr) bool { return !b.plain(x) })
}

// plainOrdered is plain for what is compared: values of a type whose comparison neither fails
// nor tells, or rows of such.
func (b *barriers) plainOrdered(x query.Expr) bool {
	if row, ok := x.(*query.Row); ok {
		return !slices.ContainsFunc(row.List, func(x query.Expr) bool { return !b.plainOrdered(x) })
	}
	return b.plain(x) && sqltype.Ordered(x.Type())
}

// plainPattern reports whether a pattern is matched in one pass from the text's
// beginning: a constant that does not begin with a wildcard and has at most one %.
func plainPattern(x query.Expr) bool {
	l, ok := x.(*query.Literal)
	s, isText := query.ValueOf(l).(string)
	return ok && wholePattern(x) && (l.Value == nil || isText && len(s) <= mostPlainPattern &&
		!strings.HasPrefix(s, "%") && !strings.HasPrefix(s, "_") && strings.Count(s, "%") <= 1)
}

// likes are the operators of LIKE and ILIKE.
var likes = map[string]bool{"~~": true, "!~~": true, "~~*": true, "!~~*": true}

// wholePattern reports whether a pattern of LIKE is a constant that does not end in \, which
// would escape the next character: on such a one the database fails. Those of bytes are not
// looked into.
func wholePattern(x query.Expr) bool {
	l, ok := x.(*query.Literal)
	s, _ := query.ValueOf(l).(string)
	return ok && l.T != sqltype.Bytea && (len(s)-len(strings.TrimRight(s, `\`)))%2 == 0
}

// constant reports whether an expression has one value for the whole statement,
// which is cheap to work out: numbers and dates that are reckoned with.
func constant(x query.Expr) bool {
	switch x := x.(type) {
	case *query.Literal:
		s, isText := x.Value.(string)
		return !isText || len(s) <= mostPlainText
	case *query.Now:
		return true
	case *query.Unary:
		return constant(x.X)
	case *query.Binary:
		return x.Op != "||" && constant(x.L) && constant(x.R)
	case *query.Operation:
		// What is not immutable is worked out for each row, even of constants.
		return x.Op.Volatility == 'i' && (x.L == nil || constant(x.L)) && constant(x.R)
	case *query.Array:
		return allConstant(x.List)
	case *query.Row:
		return allConstant(x.List)
	case *query.Cast:
		return constant(x.X) && (x.X.Type() == nil || !exact(x) || sqltype.Fixed(x.X.Type(), x.To))
	case *query.Call:
		if r := x.Fn.Routine; r != nil {
			return r.Kind == sqltype.Function && r.Volatility == 'i' && !r.Set && allConstant(x.Args)
		}
		return x.Fn.Name == "shift" && allConstant(x.Args)
	}
	return false
}

// exact reports whether a cast is one of PostgreSQL's, and not of the shared language, whose
// casts have a result for all values.
func exact(x *query.Cast) bool {
	return x.Modifier != "" || !slices.Contains(query.Shared, x.To) || !slices.Contains(query.Shared, x.X.Type())
}

func allConstant(list []query.Expr) bool {
	return !slices.ContainsFunc(list, func(x query.Expr) bool { return !constant(x) })
}

// plainColumn reports whether a column is there without working anything out: it
// is a table's, or what stands in its place is plain.
func (b *barriers) plainColumn(c *query.ColumnRef) bool {
	key := columnKey{c.Rel, c.Col}
	if known, ok := b.plainDef[key]; ok {
		return known
	}
	plain := true
	if q, x := behind(c); q != nil {
		plain = b.plainOutput(q, c.Col)
	} else if x != nil {
		plain = b.plain(x)
	}
	b.plainDef[key] = plain
	return plain
}

// behind is what stands in a column's place: a query that gives it as an output, or an expression. There is
// neither for a table's own column, and for one of a function or a query that reads itself.
func behind(c *query.ColumnRef) (q *query.Query, x query.Expr) {
	switch r := c.Rel; {
	case r.Query != nil:
		return r.Query, nil
	case r.CTE != nil && !r.CTE.Recursive && c.Col < len(r.CTE.Query.Columns):
		return r.CTE.Query, nil
	case r.Governed != nil:
		return nil, r.Governed.Treated[c.Col]
	}
	return nil, nil
}

// plainOutput is plainColumn for a column of a query. What is worked out of many
// rows is there only after the policies, and conditions on it come later still.
func (b *barriers) plainOutput(q *query.Query, i int) bool {
	if q.Limit != nil || q.Offset != nil {
		return true
	}
	switch body := q.Body.(type) {
	case *query.Select:
		item := body.Items[i]
		return b.plain(item) || query.AnyExpr(item, func(x query.Expr) bool { return query.IsAggregate(x) || query.IsWindow(x) })
	case *query.SetOp:
		to := q.Columns[i].Type // to which each side is taken
		return b.plainOutput(body.L, i) && b.plainOutput(body.R, i) && sqltype.SafeCast(body.L.Columns[i].Type, to) && sqltype.SafeCast(body.R.Columns[i].Type, to)
	case *query.Values:
		for _, row := range body.Rows {
			if !b.plain(row[i]) || !sqltype.SafeCast(row[i].Type(), q.Columns[i].Type) {
				return false
			}
		}
	}
	return true
}

// barrier reports whether rows of a relation can be hidden, or values treated,
// where conditions on it may still be worked out before that.
func (b *barriers) barrier(r *query.Relation) bool {
	return within(r, b.barred, func(r *query.Relation) bool { return r.Governed != nil || r.Lends })
}

// hardBarrier is barrier for hard ones.
func (b *barriers) hardBarrier(r *query.Relation) bool { return within(r, b.hardIn, isHard) }

func isHard(r *query.Relation) bool {
	return r.Lends || r.Governed != nil && (len(r.Governed.Joins) > 0 || query.AnyExpr(r.Governed.Filter, func(x query.Expr) bool {
		sub := query.Subquery(x)
		return sub != nil && correlated(sub)
	}))
}

// within reports whether f holds for a relation, or for one that it is made of, at any
// depth. What is found out of queries is kept in known.
func within(r *query.Relation, known map[*query.Query]bool, f func(*query.Relation) bool) bool {
	q := r.Query
	if r.CTE != nil {
		q = r.CTE.Query
	}
	if q == nil || f(r) {
		return f(r)
	}
	if found, ok := known[q]; ok {
		return found
	}
	known[q] = false // for a query that reads itself
	query.EachRelation(q, func(r *query.Relation) { known[q] = within(r, known, f) || known[q] })
	return known[q]
}

// heavy reports whether a relation is a query that takes more than to join tables
// by plain conditions.
func (b *barriers) heavy(r *query.Relation) bool {
	switch {
	case r.Calls != nil || r.Lateral:
		return true // it is worked out for rows of the items before it
	case r.Query != nil:
		return b.heavyQuery(r.Query)
	case r.CTE != nil:
		return r.CTE.Recursive || b.heavyQuery(r.CTE.Query)
	}
	return false
}

func (b *barriers) heavyQuery(q *query.Query) bool {
	if known, ok := b.heavyIn[q]; ok {
		return known
	}
	b.heavyIn[q] = true
	if v, ok := q.Body.(*query.Values); ok {
		for i := range q.Columns {
			if !b.plainOutput(q, i) || len(v.Rows) > mostPlainRows {
				return true
			}
		}
		b.heavyIn[q] = false
		return false
	}
	s, plain := q.Body.(*query.Select)
	found := !plain || q.Limit != nil || q.Offset != nil || s.Distinct || len(s.GroupBy) > 0 || s.Having != nil || b.riskyIn(s)
	if plain && !found {
		for _, x := range s.Items {
			found = found || query.AnyExpr(x, func(x query.Expr) bool { return query.IsAggregate(x) || query.IsWindow(x) || query.IsSubquery(x) })
		}
		query.EachItem(s.From, func(item query.From) {
			if r, ok := item.(*query.Relation); ok {
				found = found || b.heavy(r)
			}
		})
	}
	b.heavyIn[q] = found
	return found
}

// riskyIn reports whether a SELECT has a condition that is not plain.
func (b *barriers) riskyIn(s *query.Select) bool {
	found := b.risky(s.Where) > 0 || b.riskyHaving(s)
	query.EachItem(s.From, func(item query.From) {
		if join, ok := item.(*query.Join); ok {
			found = found || b.risky(join.On) > 0
		}
	})
	return found
}

// riskyWithin is riskyIn for all that a query is made of in FROM.
func (b *barriers) riskyWithin(q *query.Query) bool {
	if known, ok := b.riskyAt[q]; ok {
		return known
	}
	b.riskyAt[q] = true // for a query that reads itself
	b.riskyAt[q] = b.risksWithin(q)
	return b.riskyAt[q]
}

func (b *barriers) risksWithin(q *query.Query) bool {
	switch body := q.Body.(type) {
	case *query.SetOp:
		return b.riskyWithin(body.L) || b.riskyWithin(body.R)
	case *query.Select:
		found := b.riskyIn(body)
		query.EachItem(body.From, func(item query.From) {
			if r, ok := item.(*query.Relation); ok && !found {
				found = r.Query != nil && b.riskyWithin(r.Query) || r.CTE != nil && b.riskyWithin(r.CTE.Query)
			}
		})
		return found
	}
	return false
}

// unplain counts the conditions of a SELECT that are not plain, with items of FROM
// that are heavy.
func (b *barriers) unplain(s *query.Select) int {
	n := b.risky(s.Where)
	if b.riskyHaving(s) {
		n++
	}
	query.EachItem(s.From, func(item query.From) {
		switch item := item.(type) {
		case *query.Join:
			n += b.risky(item.On)
		case *query.Relation:
			if b.heavy(item) {
				n++
			}
		}
	})
	return n
}

// risky counts the conjuncts of a condition that are not plain.
func (b *barriers) risky(x query.Expr) int {
	n := 0
	for _, c := range query.Conjuncts(x) {
		if !b.plain(c) {
			n++
		}
	}
	return n
}

// riskyHaving reports whether HAVING has a conjunct that is not plain and names columns outside
// of aggregates: the database may work it out on rows, before it groups them, or on what it
// knows of the columns.
func (b *barriers) riskyHaving(s *query.Select) bool {
	own := map[*query.Relation]bool{}
	query.EachItem(s.From, func(item query.From) {
		if r, ok := item.(*query.Relation); ok {
			own[r] = true
		}
	})
	for _, c := range query.Conjuncts(s.Having) {
		found := false
		eachColumn(withoutAggregates(c), func(ref *query.ColumnRef) { found = found || own[ref.Rel] })
		if found && !b.plain(withoutAggregates(c)) {
			return true
		}
	}
	return false
}

// withoutAggregates has NULL in the place of each aggregate.
func withoutAggregates(x query.Expr) query.Expr {
	return query.Replace(x, func(x query.Expr) query.Expr {
		if query.IsAggregate(x) {
			return &query.Literal{T: x.Type()}
		}
		return nil
	})
}

// eachColumn calls f for every column that an expression names, in its sub-queries, too.
func eachColumn(x query.Expr, f func(*query.ColumnRef)) {
	note := func(x query.Expr) {
		if ref, ok := x.(*query.ColumnRef); ok {
			f(ref)
		}
	}
	query.AnyExpr(x, func(x query.Expr) bool {
		note(x)
		if sub := query.Subquery(x); sub != nil {
			query.EachExpr(sub, note)
		}
		return false
	})
}

// divide parts a condition into its plain conjuncts and the rest; each nil where
// there is none.
func (b *barriers) divide(x query.Expr) (plain, rest query.Expr) {
	for _, c := range query.Conjuncts(x) {
		if b.plain(c) {
			plain = query.And(plain, c)
		} else {
			rest = query.And(rest, c)
		}
	}
	return plain, rest
}
