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
	if hidden {
		b.keepUnique(r, w.Columns)
	}
	for _, rel := range b.policies.Relationships() {
		if rel.Declared {
			continue
		}
		if rel.Child == r.Table.ID && w.Verb != access.Delete {
			b.leadsToVisible(w, rel)
		}
		if rel.Parent == r.Table.ID && w.Verb != access.Insert {
			b.ledToByVisible(w, rel)
		}
	}
}

// keepUnique refuses to set columns of unique keys by hand: whether a key is taken
// would tell of a hidden row that has it.
func (b *binder) keepUnique(r *Relation, set []int) {
	for _, i := range set {
		if c := b.model.Object(r.Columns[i].ID); c.Key || c.Unique {
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

// leadsToVisible makes the statement check that the rows which it leaves lead by a
// foreign key to rows that are there for the session, or nowhere.
func (b *binder) leadsToVisible(w *Write, rel *policy.Relationship) {
	r := w.Target
	set := func(id access.ObjectID) bool {
		return slices.ContainsFunc(w.Columns, func(i int) bool { return r.Columns[i].ID == id }) ||
			w.Conflict != nil && slices.ContainsFunc(w.Conflict.Columns, func(i int) bool { return r.Columns[i].ID == id })
	}
	if !slices.ContainsFunc(rel.From, set) {
		return
	}
	parent := b.relation(b.model.Object(rel.Parent))
	g := b.policies.Govern(b.reader, rel.Parent)
	visible := b.filter(parent, &g.Rules)
	if visible == nil {
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
	b.behind = append(b.behind, rel.Parent)
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
	one := &Literal{Boolean, true} // which is no argument
	there := &Exists{
		Query: &Query{Body: &Select{Items: []Expr{one}, From: []From{parent}, Where: where}, Columns: []Column{{Name: "there", Type: Boolean}}},
	}
	w.Check = Conjoin("AND", w.Check, &IsTrue{Conjoin("OR", nowhere, there)})
	w.leads = true
}

// ledToByVisible refuses to remove rows, or to change keys, that rows of another
// table lead to which may be hidden from the session.
func (b *binder) ledToByVisible(w *Write, rel *policy.Relationship) {
	if w.Verb == access.Update && !slices.ContainsFunc(w.Columns, func(i int) bool { return slices.Contains(rel.To, w.Target.Columns[i].ID) }) {
		return
	}
	g := b.policies.Govern(b.reader, rel.Child)
	follows := func(p *policy.RowPolicy) bool { return p.Follow != nil && p.Follow.Same(rel) }
	if slices.ContainsFunc(g.Allow, follows) && !slices.ContainsFunc(g.Limit, func(p *policy.RowPolicy) bool { return !follows(p) }) {
		return // of a row that is there, all such rows are there
	}
	if b.filter(b.relation(b.model.Object(rel.Child)), &g.Rules) != nil {
		b.fail(
			-1,
			Unsupported,
			"rows of %s refer to %s by a foreign key, and some of them may be hidden from you, so you cannot remove rows or change that key",
			b.model.Path(rel.Child),
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
