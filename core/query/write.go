package query

import (
	"fmt"
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
)

// A Write is an INSERT, UPDATE or DELETE of one table.
type Write struct {
	Verb      access.Privilege // Insert, Update or Delete
	With      []*CTE
	Target    *Relation
	Columns   []int    // those that are set, by their place in the table
	Rows      [][]Expr // of an INSERT of values; of an UPDATE the one row that it sets
	Query     *Query   // of an INSERT of a query's rows
	From      []From   // of an UPDATE: what else its values and condition read
	Where     Expr
	Conflict  *Conflict
	Proposed  bool   // Check is of what an INSERT proposes as well, before it can meet a row
	Merge     *Merge // of a MERGE, whose parts have verbs of their own
	Returning *Query // its select list alone
	leads     bool   // Check wants what a foreign key leads to
	Check     Expr   // of each row that the statement leaves: whether it may be left; nil: always
}

// writing binds a statement that writes; q is nil for another.
func (b *binder) writing(n *pg.Node) *Write {
	w := &Write{}
	outside := len(b.withs)
	defer func() { b.withs = b.withs[:outside] }()
	with := func(clause *pg.WithClause) {
		if clause != nil {
			q := &Query{}
			b.with(q, clause, nil)
			w.With = q.With
		}
	}
	switch v := n.GetNode().(type) {
	case *pg.Node_InsertStmt:
		s := v.InsertStmt
		if s.Override > pg.OverridingKind_OVERRIDING_NOT_SET {
			b.unsupported(-1, "OVERRIDING")
		}
		with(s.WithClause)
		w.Verb = access.Insert
		names := b.target(w, s.Relation)
		b.insertColumns(w, s)
		b.insertRows(w, s)
		if s.OnConflictClause != nil {
			b.onConflict(w, s.OnConflictClause, names)
		}
		b.returning(w, s.ReturningList, names)
	case *pg.Node_UpdateStmt:
		s := v.UpdateStmt
		with(s.WithClause)
		w.Verb = access.Update
		names := b.target(w, s.Relation)
		own := *names
		w.From = b.bindFrom(s.FromClause, names)
		b.assignments(w, s.TargetList, names)
		b.where(w, s.WhereClause, names)
		b.returning(w, s.ReturningList, &own)
	case *pg.Node_MergeStmt:
		return b.merging(v.MergeStmt)
	case *pg.Node_DeleteStmt:
		s := v.DeleteStmt
		with(s.WithClause)
		w.Verb = access.Delete
		names := b.target(w, s.Relation)
		if !b.verdict(w).Allowed.Has(access.Delete) {
			b.need(access.Delete, w.Target.Table.ID)
		}
		own := *names
		using := b.bindFrom(s.UsingClause, names)
		b.where(w, s.WhereClause, names)
		if len(using) > 0 {
			w.Where = anyOf(using, w.Where)
		}
		b.returning(w, s.ReturningList, &own)
	}
	return w
}

func (b *binder) verdict(w *Write) access.Verdict { return b.rights.Resolve(w.Target.Table.ID) }

// target binds the table that is written to. Reading from it, in a condition or
// by RETURNING, takes SELECT; naming it does not.
func (b *binder) target(w *Write, v *pg.RangeVar) *scope {
	if !v.Inh {
		b.unsupported(v.Location, "ONLY")
	}
	o := b.resolve(v)
	b.source = b.model.Object(o.Parent).Parent
	if exact := speaksExactly(b.model.Object(b.source)); exact != b.exact {
		panic(otherLanguage{exact})
	}
	r := b.relation(o)
	w.Target = r
	verdict := b.verdict(w)
	if o.Kind != access.Table {
		b.unsupported(v.Location, fmt.Sprintf("writing to a %s", o.Kind))
	}
	if o.Declared == "view" || o.Declared == "materialized view" {
		// Policies on the tables beneath do not reach what is written through it.
		b.unsupported(v.Location, "writing to a "+o.Declared+" of the database")
	}
	r.governance = b.governance(o)
	for i, c := range r.Columns {
		if kind := r.governance.Columns[c.ID].Treatment.Kind; kind.Withheld() {
			r.Columns[i].Withheld = kind
		}
	}
	if !verdict.Allowed.Any(access.Set(w.Verb, access.Select, access.Describe)) {
		// Not even the names of its columns are theirs to know.
		b.need(w.Verb, o.ID)
		r.opaque, r.Columns = true, nil
	}
	b.alias(r, v.Alias)
	return &scope{relations: []*Relation{r}, columns: columnsOf(r)}
}

// sets notes that a column is written, and asks whether the session may. A
// column that it sees treated it cannot write: what a reader was shown instead
// of the value must not come back as the value.
func (b *binder) sets(w *Write, name string, at int32) {
	r := w.Target
	if r.opaque {
		return
	}
	for i, id := range r.Columns {
		column := b.model.Object(id.ID)
		if column.Name != name || id.Withheld == policy.Absent {
			continue
		}
		b.refuseWithheld(r, id.Name, at)
		for _, there := range w.Columns {
			if there == i {
				b.fail(at, Mismatch, "column %s is set twice", access.Quote(name))
			}
		}
		w.Columns = append(w.Columns, i)
		if verdict := b.verdict(w); !verdict.Covers(w.Verb, column.ID) {
			if verdict.Allowed.Has(w.Verb) {
				b.need(w.Verb, column.ID)
			} else {
				b.need(w.Verb, r.Table.ID)
			}
			return
		}
		if d := r.governance.Columns[column.ID]; d.Treatment.Kind != policy.Clear {
			b.fail(at, Unsupported, "column %s cannot be written by who sees it treated (%s)", access.Quote(name), d.Treatment)
		}
		return
	}
	var near []string
	for _, c := range columnsOf(r) {
		near = append(near, c.name)
	}
	line, col := place(b.text, at)
	panic(
		&Error{
			Code: Unknown,
			Text: fmt.Sprintf("no column %s in %s", access.Quote(name), b.model.Path(r.Table.ID)), SQLState: "42703",
			Line: line,
			Col:  col,
			Name: name,
			Near: near,
		},
	)
}

func (b *binder) insertColumns(w *Write, s *pg.InsertStmt) {
	if len(s.Cols) == 0 && s.SelectStmt != nil {
		for _, c := range w.Target.Columns {
			if c.Withheld == policy.Clear {
				b.sets(w, b.model.Object(c.ID).Name, s.Relation.Location)
			}
		}
	}
	for _, n := range s.Cols {
		t := n.GetResTarget()
		if len(t.Indirection) > 0 {
			b.unsupported(t.Location, "a part of a column")
		}
		b.sets(w, t.Name, t.Location)
	}
	if s.SelectStmt == nil && !b.verdict(w).Allowed.Has(access.Insert) {
		b.need(access.Insert, w.Target.Table.ID)
	}
}

// insertRows binds what is inserted: rows of values, a query's rows, or one row
// of defaults.
func (b *binder) insertRows(w *Write, s *pg.InsertStmt) {
	if s.SelectStmt == nil {
		return // DEFAULT VALUES
	}
	sel := s.SelectStmt.GetSelectStmt()
	if len(sel.ValuesLists) == 0 {
		w.Query = b.query(sel, nil)
		b.fits(w, len(w.Query.Columns), s.Relation.Location)
		if w.Target.opaque || len(b.needs) > 0 {
			return
		}
		to := make([]Column, len(w.Columns))
		for i, c := range w.Columns {
			to[i] = w.Target.Columns[c]
			if from := w.Query.Columns[i].Type; !b.assignable(from, to[i].Type) {
				b.fail(s.Relation.Location, Mismatch, "column %s is %s, and %s is inserted; add a cast", access.Quote(to[i].Name), to[i].Type, from)
			}
		}
		b.coerceOutput(w.Query, to)
		return
	}
	if sel.WithClause != nil || len(sel.SortClause) > 0 || sel.LimitCount != nil || sel.LimitOffset != nil {
		b.unsupported(-1, "WITH, ORDER BY or LIMIT of VALUES")
	}
	for _, list := range sel.ValuesLists {
		nodes := list.GetList().Items
		b.fits(w, len(nodes), locate(nodes[0]))
		row := make([]Expr, len(nodes))
		for i, n := range nodes {
			row[i] = b.value(w, i, n, &scope{})
		}
		w.Rows = append(w.Rows, row)
	}
}

// fits refuses rows that have another number of values than columns are named.
func (b *binder) fits(w *Write, n int, at int32) {
	if !w.Target.opaque && len(b.needs) == 0 && n != len(w.Columns) {
		b.fail(at, Mismatch, "%d columns are to be set, but there are %d values", len(w.Columns), n)
	}
}

// value binds what the i-th column is set to.
func (b *binder) value(w *Write, i int, n *pg.Node, names *scope) Expr {
	if n.GetSetToDefault() != nil && b.exact && i < len(w.Columns) {
		return &Default{w.Target.Columns[w.Columns[i]].Type}
	}
	if n.GetSetToDefault() != nil {
		b.unsupported(-1, "DEFAULT as a value (leave the column out instead)")
	}
	e := b.expr(n, names)
	b.plain(e, locate(n), "a value")
	if i >= len(w.Columns) || w.Target.opaque {
		return e
	}
	c := w.Target.Columns[w.Columns[i]]
	e = b.convertLiteral(e, c.Type, locate(n))
	if !b.assignable(e.Type(), c.Type) {
		b.fail(locate(n), Mismatch, "column %s is %s, not %s; add a cast", access.Quote(c.Name), c.Type, e.Type())
	}
	return b.convert(e, c.Type, locate(n))
}

// assignable reports whether a value can be stored in a column as it is: no
// value is rounded or cut unseen.
func (b *binder) assignable(from, to Type) bool {
	if b.exact {
		return sqltype.Castable(from, to, sqltype.Assignment)
	}
	t, ok := unifyShared(from, to)
	return ok && t == to
}

func (b *binder) assignments(w *Write, list []*pg.Node, names *scope) {
	row := []Expr{}
	for _, n := range list {
		t := n.GetResTarget()
		several := t.Val.GetMultiAssignRef()
		if len(t.Indirection) > 0 || several != nil && !b.exact {
			b.unsupported(t.Location, "setting several columns, or a part of one, at once")
		}
		before := len(w.Columns)
		b.sets(w, t.Name, t.Location)
		switch {
		case several != nil:
			row = append(row, b.oneOfSeveral(w, before, several, names))
		case len(w.Columns) > before:
			row = append(row, b.value(w, before, t.Val, names))
		default:
			b.expr(t.Val, names)
		}
	}
	w.Rows = [][]Expr{row}
}

// oneOfSeveral binds the value of one column where several are set at once: SET (a, b) = …
func (b *binder) oneOfSeveral(w *Write, i int, m *pg.MultiAssignRef, names *scope) Expr {
	at := locate(m.Source)
	if row := m.Source.GetRowExpr(); row != nil {
		if int(m.Ncolumns) != len(row.Args) {
			b.fail(at, Mismatch, "%d columns are to be set, but there are %d values", m.Ncolumns, len(row.Args))
		}
		return b.value(w, i, row.Args[m.Colno-1], names)
	}
	sub := m.Source.GetSubLink()
	if sub == nil {
		b.unsupported(at, "this value of several columns")
	}
	q := b.query(sub.Subselect.GetSelectStmt(), names)
	if len(b.needs) > 0 {
		return &Literal{}
	}
	if one := (&Scalar{q}); int(m.Ncolumns) > 1 && volatile(one) {
		b.unsupported(at, "setting several columns to what is another value each time it is worked out")
	}
	if len(q.Columns) != int(m.Ncolumns) {
		b.fail(at, Mismatch, "%d columns are to be set, but the sub-query gives %d", m.Ncolumns, len(q.Columns))
	}
	r := &Relation{Alias: "row", Query: q, Columns: q.Columns}
	one := &Select{Items: []Expr{&ColumnRef{r, int(m.Colno) - 1}}, From: []From{r}}
	value := &Scalar{&Query{Body: one, Columns: []Column{q.Columns[m.Colno-1]}}}
	if i < len(w.Columns) && !w.Target.opaque {
		if c := w.Target.Columns[w.Columns[i]]; !b.assignable(value.Type(), c.Type) {
			b.fail(at, Mismatch, "column %s is %s, not %s; add a cast", access.Quote(c.Name), c.Type, value.Type())
		}
	}
	return value
}

func (b *binder) where(w *Write, n *pg.Node, names *scope) {
	if n == nil {
		return
	}
	w.Where = b.condition(n, names, "WHERE")
	b.plain(w.Where, locate(n), "WHERE")
}

// returning binds what the written rows give back, as the session sees them.
func (b *binder) returning(w *Write, list []*pg.Node, names *scope) {
	if len(list) == 0 {
		return
	}
	q, sel := &Query{}, &Select{}
	q.Body = sel
	for _, n := range list {
		b.targetItem(q, sel, n.GetResTarget(), names, nil)
	}
	for i, item := range sel.Items {
		b.plain(item, locate(list[min(i, len(list)-1)]), "RETURNING")
		if AnyExpr(item, IsSubquery) && !b.exact {
			b.unsupported(locate(list[min(i, len(list)-1)]), "a sub-query in RETURNING")
		}
	}
	w.Returning = q
}

// IsSubquery reports whether an expression is a scalar sub-query.
func IsSubquery(e Expr) bool { return Subquery(e) != nil }

// checkRows makes the statement say of each row that it leaves whether the row
// policies let it through.
func (b *binder) checkRows(w *Write, filter Expr) {
	if w.Verb == access.Delete || filter == nil {
		return
	}
	if reads(filter, w.Target.Table) {
		b.fail(
			-1,
			Unsupported,
			"a row policy of %s reads the table itself; such a table can only be read and deleted from",
			b.model.Path(w.Target.Table.ID),
		)
	}
	w.Check = &IsTrue{filter}
}

// reads reports whether a sub-query in an expression reads the table.
func reads(e Expr, table *access.Object) bool {
	found := false
	AnyExpr(e, func(x Expr) bool {
		if q := Subquery(x); q != nil {
			EachRelation(q, func(r *Relation) { found = found || r.Table == table })
		}
		return found
	})
	return found
}

// governTarget notes how the session sees the columns of the written table.
func (b *binder) governTarget(w *Write) TableUse {
	r := w.Target
	use := TableUse{Table: r.Table.ID, Governance: r.governance, Verb: w.Verb}
	hidden := false
	if !r.governance.Untouched() {
		r.Governed = b.governTable(r)
		hidden = r.Governed != nil && r.Governed.Filter != nil
		b.governRows(w)
	}
	b.guardKeys(w, hidden)
	for i, c := range r.Columns {
		if r.Used[i] {
			use.Columns = append(use.Columns, c.ID)
		}
	}
	for _, i := range w.Columns {
		use.Written = append(use.Written, r.Columns[i].ID)
	}
	return use
}

// governRows lets the statement touch only rows that the session sees and may
// write, and leave only rows that it may write; those that RETURNING gives back,
// it must see as well.
func (b *binder) governRows(w *Write) {
	r := w.Target
	g := &r.governance
	if g.Open() && g.Write.Open() {
		return
	}
	if r.Governed == nil {
		r.Governed = &governed{Inner: b.relation(r.Table)}
	}
	read, write := r.Governed.Filter, r.Governed.Filter
	if g.Closed != g.Write.Closed || !slices.Equal(g.All(), g.Write.All()) {
		write = b.filter(r.Governed.Inner, &g.Write)
		r.Governed.Filter = Conjoin("AND", read, write)
	}
	left := write
	if w.Returning != nil {
		left = r.Governed.Filter
	}
	if r.Governed.Filter != nil {
		b.checkRows(w, left)
	}
}
