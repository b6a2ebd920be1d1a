package query

import (
	"fmt"
	"slices"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
)

// A TableUse is what a query does with one table: the columns it reads and what
// the policies make of it.
type TableUse struct {
	Table      access.ObjectID
	Columns    []access.ObjectID // that are read, in the table's order
	Governance policy.Governance
	Verb       access.Privilege  // of the table that is written to: INSERT, UPDATE or DELETE
	Written    []access.ObjectID // its columns that are set
}

// govern puts in place of each table what the session's policies leave of it.
func (b *binder) govern() []TableUse {
	var uses []TableUse
	for _, r := range b.tables {
		use := TableUse{Table: r.Table.ID, Governance: r.governance}
		if !r.governance.Untouched() {
			r.Governed = b.governTable(r)
		}
		if r.Governed != nil && r.Governed.Filter == nil && !treatsUsed(r) {
			r.Governed = nil // all its rows are there, and the query uses no value that is not
		}
		if r.Governed != nil {
			r.Governed.Joins, r.Governed.Filter = joined(r.Governed.Filter)
		}
		for i, c := range r.Columns {
			if r.Used[i] {
				use.Columns = append(use.Columns, c.ID)
			}
		}
		uses = append(uses, use)
	}
	return uses
}

// treatsUsed reports whether a column that the query uses is treated.
func treatsUsed(r *Relation) bool {
	for i := range r.Governed.Treated {
		if r.Used[i] {
			return true
		}
	}
	return false
}

// viewed is what a query does with views.
func (b *binder) viewed() []TableUse {
	var uses []TableUse
	for _, r := range b.views {
		use := TableUse{Table: r.Table.ID}
		for i, c := range r.Columns {
			if r.Used[i] {
				use.Columns = append(use.Columns, c.ID)
			}
		}
		uses = append(uses, use)
	}
	return uses
}

// governance works out what the policies make of a table. One whose policies
// treat a column that is gone is closed: what the column held may stand under
// another name now.
func (b *binder) governance(o *access.Object) policy.Governance {
	g := b.policies.Govern(b.reader, o.ID)
	if len(g.Gone) > 0 {
		gone := g.Gone[0]
		panic(
			&Error{
				Code: Broken,
				Text: fmt.Sprintf(
					"%s is closed: the column policy %s treats its column %s, which is gone from the source. "+
						"An administrator has to edit or stop the policy, or lift its label from the column",
					b.model.Path(o.ID),
					gone.Policy.Name,
					access.Quote(b.model.Object(gone.Column).Name),
				),
			},
		)
	}
	return g
}

// governTable makes the rows and values that there are; nil where that is all of
// the table, as it is.
func (b *binder) governTable(r *Relation) *governed {
	inner := b.relation(r.Table)
	out := &governed{Inner: inner, Filter: b.filter(inner, &r.governance.Rules), Treated: map[int]Expr{}}
	for i, c := range r.Columns {
		if d := r.governance.Columns[c.ID]; len(d.Steps) > 0 && !d.Treatment.Kind.Withheld() {
			out.Treated[i] = b.treat(inner, i, d)
		}
	}
	if out.Filter == nil && len(out.Treated) == 0 {
		return nil // REVEAL lifts all that the policies would do
	}
	return out
}

// filter is the condition that a row must meet: any of the allow policies that
// apply, and all of the limits; nil: every row meets it.
func (b *binder) filter(inner *Relation, rules *policy.Rules) Expr {
	if rules.Closed {
		return &Literal{Boolean, false}
	}
	var filter Expr
	for _, p := range rules.Allow {
		filter = Conjoin("OR", filter, b.rule(p, inner))
	}
	for _, p := range rules.Limit {
		filter = Conjoin("AND", filter, b.rule(p, inner))
	}
	if l, ok := filter.(*Literal); ok && l.Value == true {
		return nil
	}
	return filter
}

// And joins two conditions that a person wrote, as they are; nil is none.
func And(l, r Expr) Expr {
	if l == nil {
		return r
	}
	if r == nil {
		return l
	}
	return &Binary{"AND", l, r, Boolean}
}

// Conjoin joins two conditions of policies by AND or OR, and folds constants; nil is none.
func Conjoin(op string, l, r Expr) Expr {
	if l == nil {
		return r
	}
	if r == nil {
		return l
	}
	return logic(op, l, r)
}

// rule binds a policy's condition over the table as it is, with Gneiss's own
// authority. A rule that no longer binds closes the table.
func (b *binder) rule(p *policy.RowPolicy, inner *Relation) Expr {
	if p.Follow != nil {
		return b.follow(p, inner)
	}
	e, own, err := bindCondition(b.types, b.reader, b.policies, p.Rule, inner)
	if err == nil {
		err = b.keepsReading(&p.Scope, own, inner, p.Label != 0)
	}
	if err != nil {
		panic(
			&Error{
				Code: Broken,
				Text: fmt.Sprintf("%s is closed: its row policy %s no longer fits it (%v). An administrator has to edit or stop the policy",
					b.model.Path(inner.Table.ID), p.Name, err),
			},
		)
	}
	b.takeOver(own)
	return Conjoin("AND", e, own.readsOfType(e, inner))
}

// takeOver notes what the binder of a policy's text has found that matters for
// the whole statement.
func (b *binder) takeOver(own *binder) {
	b.costs(own.cost)
	b.behind = append(b.behind, own.others(nil)...)
	b.routines = append(b.routines, own.routines...)
}

// follow is the condition that the parent row is there for the session, by the
// parent's own policies for reading.
func (b *binder) follow(p *policy.RowPolicy, inner *Relation) Expr {
	defer b.deeper(-1)()
	parent := b.relation(b.model.Object(p.Follow.Parent))
	b.behind = append(b.behind, parent.Table.ID)
	closed := func(why string) *Error {
		return &Error{
			Code: Broken,
			Text: fmt.Sprintf(
				"%s is closed: its row policy %s follows a relationship that no longer fits (%s). An administrator has to edit or stop the policy",
				b.model.Path(inner.Table.ID),
				p.Name,
				why,
			),
		}
	}
	if parent.Table.Missing || b.model.Object(parent.Table.Parent).Missing {
		panic(closed(b.model.Path(parent.Table.ID) + " is gone"))
	}
	var where Expr
	for i, from := range p.Follow.From {
		l, r := columnWith(parent, p.Follow.To[i]), columnWith(inner, from)
		if l == nil || r == nil || !sqltype.Alike(l.Type().String(), r.Type().String()) {
			panic(closed("a column of it is gone, or has another type"))
		}
		where = Conjoin("AND", where, &Binary{"=", l, r, Boolean})
	}
	g := b.policies.Govern(b.reader, parent.Table.ID)
	where = Conjoin("AND", where, b.filter(parent, &g.Rules))
	if _, none := where.(*Literal); none {
		return where // no parent row is there
	}
	one := &Literal{Boolean, true} // which is no argument
	return &Exists{
		One:   b.unique(p.Follow),
		Query: &Query{Body: &Select{Items: []Expr{one}, From: []From{parent}, Where: where}, Columns: []Column{{Name: "there", Type: Boolean}}},
	}
}

// unique reports whether a relationship leads to the parent's whole primary key,
// so that a row has one parent at the most.
func (b *binder) unique(r *policy.Relationship) bool {
	for _, id := range b.model.Object(r.Parent).Children {
		if b.model.Object(id).Key && !slices.Contains(r.To, id) {
			return false
		}
	}
	return !slices.ContainsFunc(r.To, func(id access.ObjectID) bool { return !b.model.Object(id).Key })
}

// joined takes the parents that a condition wants to be there out of it, to be
// joined: the database can then begin at either end.
func joined(e Expr) (items []From, rest Expr) {
	switch x := e.(type) {
	case *Binary:
		if x.Op == "AND" {
			left, l := joined(x.L)
			right, r := joined(x.R)
			return append(left, right...), Conjoin("AND", l, r)
		}
	case *Exists:
		if sel, ok := x.Query.Body.(*Select); ok && x.One {
			more, rest := joined(sel.Where)
			return append(sel.From[:len(sel.From):len(sel.From)], more...), rest
		}
	}
	return nil, e
}

// columnWith finds the column of a relation by its id, or returns nil.
func columnWith(r *Relation, id access.ObjectID) *ColumnRef {
	for i, c := range r.Columns {
		if c.ID == id {
			return &ColumnRef{r, i}
		}
	}
	return nil
}

// treat makes what a decision makes of a column: the first step whose condition
// holds for the row, else the value as it is.
func (b *binder) treat(inner *Relation, column int, d policy.Decision) Expr {
	out := b.byStep(&ColumnRef{inner, column}, d)
	if known := b.readsOfType(out, inner); known != nil {
		return &Case{Whens: []When{{known, out}}, T: out.Type()}
	}
	return out
}

// byStep is treat where each value that is read is of its column's type.
func (b *binder) byStep(x *ColumnRef, d policy.Decision) Expr {
	inner := x.Rel
	out := &Case{Else: x, T: x.Type()}
	for _, step := range d.Steps {
		then := b.treated(x, step)
		when := Conjoin("AND", b.conditions(step.Any, inner), b.conditions(step.And, inner))
		if l, ok := when.(*Literal); ok && l.Value == true {
			when = nil
		} else if ok {
			continue // false or unknown for every row
		}
		if when == nil {
			out.Else = then
			break
		}
		out.Whens = append(out.Whens, When{when, then})
	}
	if len(out.Whens) == 0 {
		return out.Else
	}
	return out
}

// conditions is the condition that one of the policies treats the row; nil:
// every row.
func (b *binder) conditions(policies []*policy.ColumnPolicy, inner *Relation) Expr {
	var any Expr
	for _, p := range policy.Conditions(policies) {
		e, own, err := bindCondition(b.types, b.reader, b.policies, p.When, inner)
		if err == nil {
			err = b.keepsReading(&p.Scope, own, inner, p.Label != 0)
		}
		if err != nil {
			panic(b.brokenTreatment(p, inner, err))
		}
		b.takeOver(own)
		any = Conjoin("OR", any, e)
	}
	return any
}

func (b *binder) brokenTreatment(p *policy.ColumnPolicy, inner *Relation, err error) *Error {
	return &Error{
		Code: Broken,
		Text: fmt.Sprintf("%s is closed: its column policy %s no longer fits it (%v). An administrator has to edit or stop the policy",
			b.model.Path(inner.Table.ID), p.Name, err),
	}
}

// treatedType is the type of a treated value: the column's own, but that a pseudonym of a
// whole number is a bigint. A narrower one would be the same for many values, and not match
// that of an equal value of another type.
func treatedType(t policy.Treatment, of Type) Type {
	if t.Kind == policy.Pseudonym && (of == sqltype.Int2 || of == sqltype.Int4) {
		return Bigint
	}
	return of
}

// treated is a value as one step of a decision lets it appear. What the
// treatment does not fit, since the column's type has changed or since a label
// was put on it, is NULL.
func (b *binder) treated(x *ColumnRef, step policy.Step) Expr {
	t := step.Treatment
	null := &Literal{T: x.Type()}
	switch {
	case t.Fits(x.Type().String()) != nil || t.Kind >= policy.Suppress && t.Paths == "":
		return null
	case t.Paths != "":
	case t.Kind == policy.Constant:
		value, ok := parseLiteral(t.Value, x.Type())
		if speaksExactly(b.model.Object(b.model.Object(x.Rel.Table.Parent).Parent)) {
			value, ok, _ = valueOf(t.Value, x.Type())
		}
		if !ok {
			return null
		}
		return &Literal{x.Type(), value}
	case t.Kind == policy.Expression:
		e, own, err := bindExpression(b.types, b.reader, b.policies, t.SQL, x)
		if err == nil {
			err = b.keepsReading(&step.Any[0].Scope, own, x.Rel, step.Any[0].Label != 0)
		}
		if err != nil {
			panic(b.brokenTreatment(step.Any[0], x.Rel, err))
		}
		b.takeOver(own)
		return e
	}
	out := &Treated{X: x, T: treatedType(t, x.Type()), Treatment: t}
	if t.Kind == policy.Noise {
		out.Of = x.Rel.Columns[x.Col].ID
		for i, c := range x.Rel.Columns {
			if b.model.Object(c.ID).Key {
				out.Row = append(out.Row, &ColumnRef{x.Rel, i})
			}
		}
	}
	return out
}
