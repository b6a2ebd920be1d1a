package query

import (
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// A scope is what names in one SELECT can mean. Names that it does not have are
// looked for in the queries round it.
type scope struct {
	outer     *scope
	relations []*Relation // for qualified names
	columns   []named     // for plain names and for *
	aliases   []named     // output columns, for GROUP BY
	made      []made      // output columns as they are written
}

// made is an item of a select list, as it is written and bound.
type made struct {
	node *pg.Node
	expr Expr
}

// named is a column as a plain name finds it: of a relation, or joined from two
// by USING.
type named struct {
	name string
	expr Expr
}

// columnsOf lists the columns that are there for the reader.
func columnsOf(r *Relation) []named {
	out := make([]named, 0, len(r.Columns))
	for i, c := range r.Columns {
		if c.Withheld == policy.Clear {
			out = append(out, named{c.Name, &ColumnRef{r, i}})
		}
	}
	return out
}

func (b *binder) bindFrom(nodes []*pg.Node, s *scope) []From {
	var items []From
	for _, n := range nodes {
		item, inner := b.fromItem(n, s.outer, s)
		b.merge(s, inner, locate(n))
		items = append(items, item)
	}
	return items
}

// merge adds what one FROM item names to the names of those before it.
func (b *binder) merge(s, inner *scope, at int32) {
	for _, r := range inner.relations {
		if slices.ContainsFunc(s.relations, func(x *Relation) bool { return x.Alias == r.Alias }) {
			b.failAs(at, Ambiguous, "42712", "the name %s is given twice in FROM; give one of the two another alias", access.Quote(r.Alias))
		}
	}
	s.relations = append(s.relations, inner.relations...)
	s.columns = append(s.columns, inner.columns...)
}

// lateral is the scope of an item of FROM that sees those before it.
func lateral(outer, before *scope) *scope {
	return &scope{outer: outer, relations: before.relations, columns: before.columns}
}

// fromItem binds an item of FROM; before is what the items before it name.
func (b *binder) fromItem(n *pg.Node, outer, before *scope) (From, *scope) {
	defer b.deeper(locate(n))()
	switch v := n.GetNode().(type) {
	case *pg.Node_RangeVar:
		r := b.table(v.RangeVar)
		return r, &scope{relations: []*Relation{r}, columns: columnsOf(r)}
	case *pg.Node_RangeSubselect:
		if v.RangeSubselect.Lateral && !b.exact {
			b.fail(-1, Unsupported, "LATERAL is not supported, for SQLite has no such joins; write the sub-query in the select list, or join one that is grouped")
		}
		sub := v.RangeSubselect.Subquery.GetSelectStmt()
		// A derived table sees the WITH queries, but none of its neighbours.
		around := outer
		if v.RangeSubselect.Lateral {
			around = lateral(outer, before)
		}
		q := b.query(sub, around)
		r := &Relation{Alias: "subquery", Query: q, Columns: q.Columns, Lateral: v.RangeSubselect.Lateral}
		b.alias(r, v.RangeSubselect.Alias)
		s := &scope{relations: []*Relation{r}, columns: columnsOf(r)}
		if v.RangeSubselect.Alias == nil {
			s.relations = nil // it has no name to qualify with
		}
		return r, s
	case *pg.Node_RangeFunction:
		if b.exact {
			r := b.rangeFunction(v.RangeFunction, lateral(outer, before))
			return r, &scope{relations: []*Relation{r}, columns: columnsOf(r)}
		}
		if b.source == 0 && b.anyExact() {
			panic(otherLanguage{true}) // only such a source has functions in FROM
		}
	case *pg.Node_JoinExpr:
		return b.join(v.JoinExpr, outer, before)
	}
	b.unsupported(locate(n), "this kind of FROM item")
	return nil, nil
}

// alias renames a relation and, where names are given, its columns.
func (b *binder) alias(r *Relation, a *pg.Alias) {
	if a == nil {
		return
	}
	r.Alias = a.Aliasname
	names := texts(a.Colnames)
	if n := len(columnsOf(r)); len(names) > n && !r.opaque {
		b.failAs(-1, Mismatch, "42P10", "%s has %d columns, but %d names are given", access.Quote(r.Alias), n, len(names))
	}
	r.Columns = slices.Clone(r.Columns)
	for i := range r.Columns {
		if len(names) > 0 && r.Columns[i].Withheld == policy.Clear {
			r.Columns[i].Name, names = names[0], names[1:]
		}
	}
}

func (b *binder) join(j *pg.JoinExpr, outer, before *scope) (From, *scope) {
	kinds := map[pg.JoinType]string{pg.JoinType_JOIN_INNER: "INNER", pg.JoinType_JOIN_LEFT: "LEFT",
		pg.JoinType_JOIN_RIGHT: "RIGHT", pg.JoinType_JOIN_FULL: "FULL"}
	kind, ok := kinds[j.Jointype]
	if !ok || j.Alias != nil && !b.exact || j.JoinUsingAlias != nil {
		b.unsupported(locate(j.Larg), "this kind of join")
	}
	l, ls := b.fromItem(j.Larg, outer, before)
	both := &scope{relations: slices.Concat(before.relations, ls.relations), columns: slices.Concat(before.columns, ls.columns)}
	r, rs := b.fromItem(j.Rarg, outer, both)
	s := &scope{outer: outer}
	b.merge(s, ls, locate(j.Larg))
	b.merge(s, rs, locate(j.Rarg))
	join := &Join{Kind: kind, L: l, R: r}
	if kind == "LEFT" || kind == "FULL" {
		nullable(r)
	}
	if kind == "RIGHT" || kind == "FULL" {
		nullable(l)
	}
	shared := texts(j.UsingClause)
	if j.IsNatural {
		for _, c := range ls.columns {
			if slices.ContainsFunc(rs.columns, func(x named) bool { return x.name == c.name }) {
				shared = append(shared, c.name)
			}
		}
	}
	switch {
	case j.Quals != nil:
		join.On = b.condition(j.Quals, s, "ON")
		b.plain(join.On, locate(j.Quals), "ON")
	case len(shared) > 0:
		join.On, s.columns = b.using(shared, kind, ls, rs, locate(j.Rarg))
	default:
		join.Kind = "CROSS"
		if kind != "INNER" {
			b.fail(locate(j.Rarg), Unsupported, "a %s JOIN needs ON or USING", kind)
		}
	}
	if j.Alias != nil {
		return b.joinCalled(j.Alias, join, s)
	}
	return join, s
}

// joinCalled makes a join that has a name of its own a derived table: the names in it are not
// seen from outside.
func (b *binder) joinCalled(a *pg.Alias, join *Join, s *scope) (From, *scope) {
	q, sel := &Query{}, &Select{From: []From{join}}
	q.Body = sel
	for _, c := range s.columns {
		b.useAll(c.expr)
		b.output(q, sel, c.expr, c.name)
	}
	r := &Relation{Alias: a.Aliasname, Query: q, Columns: q.Columns}
	b.alias(r, a)
	return r, &scope{relations: []*Relation{r}, columns: columnsOf(r)}
}

// using makes the condition of JOIN … USING and the columns as ISO/IEC 9075-2
// 7.10 lists them: the shared ones once and first.
func (b *binder) using(names []string, kind string, ls, rs *scope, at int32) (Expr, []named) {
	var on Expr
	var merged, rest []named
	for _, name := range names {
		l, r := b.oneOf(ls, name, at), b.oneOf(rs, name, at)
		eq := b.compare("=", l, r, at)
		if on == nil {
			on = eq
		} else {
			on = &Binary{"AND", on, eq, Boolean}
		}
		value := l
		t, _ := b.unify(l.Type(), r.Type())
		to := func(x Expr) Expr { // the merged column is of the type that both are taken to
			if b.exact && t != nil && x.Type() != t {
				return &Cast{X: x, To: t}
			}
			return x
		}
		switch kind {
		case "INNER", "LEFT":
			value = to(l)
		case "RIGHT":
			value = to(r)
		case "FULL":
			value = &Call{Fn: Functions["coalesce"], Args: []Expr{b.convert(l, t, at), b.convert(r, t, at)}, T: t}
		}
		merged = append(merged, named{name, value})
	}
	for _, c := range append(slices.Clone(ls.columns), rs.columns...) {
		if !slices.Contains(names, c.name) {
			rest = append(rest, c)
		}
	}
	return on, append(merged, rest...)
}

// oneOf finds the one column of the name on one side of a join.
func (b *binder) oneOf(s *scope, name string, at int32) Expr {
	e := b.plainColumn(&scope{relations: s.relations, columns: s.columns}, name, at)
	if e == nil {
		if opaque(s) {
			return &Literal{}
		}
		b.failAs(at, Unknown, "42703", "USING: no column %s on both sides of the join", access.Quote(name))
	}
	b.useAll(e)
	return e
}

// nullable notes that an outer join can fill the columns of an item with NULL.
func nullable(item From) {
	switch item := item.(type) {
	case *Join:
		nullable(item.L)
		nullable(item.R)
	case *Relation:
		item.nullable = true
		item.Columns = slices.Clone(item.Columns)
		for i := range item.Columns {
			item.Columns[i].NotNull = false
		}
	}
}
