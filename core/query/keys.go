package query

import (
	"slices"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// The database's own constraints must not tell of rows that are not there for the
// session. A unique key that a hidden row has would be refused; a foreign key could
// lead to a hidden row, or be led to from one. So keys are looked at through the
// session's eyes before the database looks at them.

// guardKeys refuses, or makes the statement check, what its keys could tell. hidden
// says that rows of the table may be hidden from the session.
func (b *binder) guardKeys(w *Write, hidden bool) {
	r := w.Target
	key := b.decisive(w)
	if r.Governed != nil && r.Governed.Filter != nil { // rows that are hidden, or not theirs to change
		b.guardConflict(w, key)
	}
	if hidden {
		b.keepUnique(r, w.Columns, key)
		if w.Conflict != nil {
			b.keepUnique(r, w.Conflict.Columns, nil)
		}
	}
	for _, rel := range b.policies.Relationships() {
		if rel.Declared {
			continue
		}
		if rel.Child == r.Table.ID && w.Verb != access.Delete {
			b.leadsToVisible(w, rel)
		}
		if rel.Parent == r.Table.ID {
			b.ledToByVisible(w, rel)
		}
	}
}

// keepUnique refuses to set columns of unique keys by hand: whether a key is taken
// would tell of a hidden row that has it.
// Columns of a key that decides what is hidden are apart.
func (b *binder) keepUnique(r *Relation, set, apart []int) {
	for _, i := range set {
		if c := b.model.Object(r.Columns[i].ID); !slices.Contains(apart, i) && (c.Key || c.Unique) {
			b.fail(
				-1,
				Unsupported,
				"column %s is part of a key of %s, and some rows of it may be hidden from you. Leave the column out, and the database assigns the key",
				access.Quote(c.Name),
				b.model.Path(r.Table.ID),
			)
		}
	}
}

// decisive lists the columns of the primary key, where an INSERT sets them all and the row
// policies do no more than compare them. A row that has the key of another is then there for
// the session just where the other is: no key tells of a hidden row, as long as what is
// inserted must be a row that is there, which the statement is made to check. Values that
// are the same key compare the same only by the database's own comparison, so this is
// PostgreSQL's.
func (b *binder) decisive(w *Write) []int {
	r := w.Target
	if !b.exact || w.Verb != access.Insert || r.Governed == nil || r.Governed.Filter == nil {
		return nil
	}
	var key []int
	for _, id := range r.Table.Children {
		c := b.model.Object(id)
		if !c.Key || c.Missing {
			continue
		}
		i := slices.IndexFunc(r.Columns, func(column Column) bool { return column.ID == id })
		if i < 0 || c.Unique || !slices.Contains(w.Columns, i) {
			return nil
		}
		key = append(key, i)
	}
	if len(key) == 0 || !compares(r.Governed.Filter, r.Governed.Inner, key) {
		return nil
	}
	w.Check = &IsTrue{r.Governed.Filter}
	return key
}

// compares reports whether a condition does no more with the columns of a relation than
// compare those of the key, each as it is.
func compares(e Expr, r *Relation, key []int) bool {
	about := func(x Expr) bool {
		ref, ok := x.(*ColumnRef)
		return ok && ref.Rel == r
	}
	of := func(x Expr) bool {
		ref, ok := x.(*ColumnRef)
		return ok && ref.Rel == r && slices.Contains(key, ref.Col)
	}
	none := func(list ...Expr) bool {
		return !slices.ContainsFunc(list, func(x Expr) bool { return anyDeep(x, about) })
	}
	side := func(x Expr) bool { return of(x) || none(x) }
	switch e := e.(type) {
	case *Binary:
		switch e.Op {
		case "AND", "OR":
			return compares(e.L, r, key) && compares(e.R, r, key)
		case "=", "<>", "<", "<=", ">", ">=":
			return side(e.L) && side(e.R)
		}
	case *Unary:
		if e.Op == "NOT" {
			return compares(e.X, r, key)
		}
	case *IsTrue:
		return compares(e.X, r, key)
	case *IsNull:
		return side(e.X)
	case *InList:
		return side(e.X) && none(e.List...)
	case *InQuery:
		inner := *e
		inner.X = &Literal{}
		return side(e.X) && none(&inner)
	}
	return none(e)
}

// anyDeep reports whether f holds for an operand of an expression, those of its sub-queries
// among them.
func anyDeep(e Expr, f func(Expr) bool) bool {
	found := false
	AnyExpr(e, func(x Expr) bool {
		found = found || f(x)
		if q := Subquery(x); q != nil {
			EachExpr(q, func(x Expr) { found = found || f(x) })
		}
		return found
	})
	return found
}

// guardConflict refuses ON CONFLICT where it could tell of keys that are not there for the
// session, or change a row that is not theirs to change. Where the key decides what is hidden, what is proposed is looked at before it can
// meet a row.
func (b *binder) guardConflict(w *Write, key []int) {
	c := w.Conflict
	if c == nil {
		return
	}
	asked := slices.Sorted(slices.Values(c.Key))
	slices.Sort(key)
	if len(key) == 0 || !slices.Equal(key, asked) {
		b.fail(
			-1,
			Unsupported,
			"ON CONFLICT cannot be used on %s, of which some rows may be hidden from you or not yours to change: it would tell of them. "+
				"On PostgreSQL it can where the row policies compare columns of the primary key alone, and the key is named",
			b.model.Path(w.Target.Table.ID),
		)
	}
	for _, row := range w.Rows {
		if slices.ContainsFunc(row, func(value Expr) bool { _, ok := value.(*Default); return ok }) {
			b.unsupported(-1, "DEFAULT beside ON CONFLICT here (leave the column out instead)")
		}
	}
	w.Proposed = true
}

// leadsToVisible makes the statement check that the rows which it leaves lead by a
// foreign key to rows that are there for the session, or nowhere.
func (b *binder) leadsToVisible(w *Write, rel *policy.Relationship) {
	r := w.Target
	set := func(id access.ObjectID) bool {
		return slices.ContainsFunc(w.Columns, func(i int) bool { return r.Columns[i].ID == id }) ||
			w.Conflict != nil && slices.ContainsFunc(w.Conflict.Columns, func(i int) bool { return r.Columns[i].ID == id })
	}
	// What an INSERT leaves out has its default, which can lead somewhere, too.
	asked := slices.ContainsFunc(rel.From, set)
	if !asked && (w.Verb != access.Insert || rel.Parent == rel.Child) {
		return
	}
	parent := b.relation(b.model.Object(rel.Parent))
	g := b.policies.Govern(b.reader, rel.Parent)
	visible := b.filter(parent, &g.Rules)
	readable := b.readsKey(rel.Parent, rel.To, &g)
	if visible == nil && readable {
		return
	}
	if rel.Parent == rel.Child {
		b.fail(
			-1,
			Unsupported,
			"%s refers to itself by a foreign key, and some of its rows may be hidden from you, so you cannot set that key",
			b.model.Path(rel.Child),
		)
	}
	if readable {
		b.behind = append(b.behind, rel.Parent)
	}
	var nowhere Expr
	where := visible
	for i, from := range rel.From {
		own, to := columnWith(r, from), columnWith(parent, rel.To[i])
		if own == nil || to == nil {
			b.fail(-1, Unsupported, "the foreign key of %s cannot be checked, since a column of it cannot be read", b.model.Path(rel.Child))
		}
		nowhere = Conjoin("OR", nowhere, &IsNull{own, false})
		where = Conjoin("AND", &Binary{"=", to, own, Boolean}, where)
	}
	w.leads = true
	if !readable { // then no row that it could lead to is there for the session
		w.Check = Conjoin("AND", w.Check, &IsTrue{nowhere})
		return
	}
	one := &Literal{Boolean, true} // which is no argument
	there := &Exists{
		Query: &Query{Body: &Select{Items: []Expr{one}, From: []From{parent}, Where: where}, Columns: []Column{{Name: "there", Type: Boolean}}},
	}
	w.Check = Conjoin("AND", w.Check, &IsTrue{Conjoin("OR", nowhere, there)})
}

// readsKey reports whether the session may read the columns of a key, and sees them as they are:
// else the rows that have it are not there for the session, as far as the key goes.
func (b *binder) readsKey(table access.ObjectID, columns []access.ObjectID, g *policy.Governance) bool {
	v := b.rights.Resolve(table)
	return !slices.ContainsFunc(columns, func(id access.ObjectID) bool {
		return !v.Covers(access.Select, id) || g.Columns[id].Treatment.Kind != policy.Clear
	})
}

// ledToByVisible refuses to remove rows, or to change keys, that rows of another
// table lead to which may be hidden from the session.
func (b *binder) ledToByVisible(w *Write, rel *policy.Relationship) {
	changed := w.Columns // of rows that are there
	if w.Verb == access.Insert {
		changed = nil
		if w.Conflict != nil {
			changed = w.Conflict.Columns
		}
	}
	if w.Verb != access.Delete && !slices.ContainsFunc(changed, func(i int) bool { return slices.Contains(rel.To, w.Target.Columns[i].ID) }) {
		return
	}
	g := b.policies.Govern(b.reader, rel.Child)
	follows := func(p *policy.RowPolicy) bool { return p.Follow != nil && p.Follow.Same(rel) }
	if slices.ContainsFunc(g.Allow, follows) && !slices.ContainsFunc(g.Limit, func(p *policy.RowPolicy) bool { return !follows(p) }) {
		return // of a row that is there, all such rows are there
	}
	if b.filter(b.relation(b.model.Object(rel.Child)), &g.Rules) != nil || !b.readsKey(rel.Child, rel.From, &g) {
		from := "another table"
		if b.rights.Sees(rel.Child) {
			from = b.model.Path(rel.Child)
		}
		b.fail(
			-1,
			Unsupported,
			"rows of %s can refer to %s by a foreign key, and some of them may be hidden from you, so you cannot remove rows or change that key",
			from,
			b.model.Path(rel.Parent),
		)
	}
}

// SeesAllRows reports whether the policies of a table leave a session all of its
// rows.
func SeesAllRows(st *access.Rights, policies *policy.Set, table access.ObjectID) (all bool) {
	defer func() {
		if recover() != nil {
			all = false // a table that is closed
		}
	}()
	b := &binder{reader: st, rights: st, model: st.Model, policies: policies, own: true, types: owned{}}
	b.source = st.Model.Object(st.Model.Object(table).Parent).Parent
	g := policies.Govern(st, table)
	return g.Open() || b.filter(b.relation(st.Model.Object(table)), &g.Rules) == nil
}
