package query

import (
	"errors"
	"fmt"
	"strings"

	"gneiss/core/access"
	"gneiss/core/policy"
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
			r.governed = b.governTable(r, r.governance)
		}
		for i, c := range r.Columns {
			if r.used[i] {
				use.Columns = append(use.Columns, c.ID)
			}
		}
		uses = append(uses, use)
	}
	return uses
}

func (b *binder) governTable(r *Relation, g policy.Governance) *governed {
	inner := b.relation(r.Table)
	out := &governed{inner: inner, filter: b.filter(inner, g), treated: map[int]Expr{}}
	for i, c := range r.Columns {
		if d, ok := g.Columns[c.ID]; ok && d.Treatment.Kind != policy.Clear {
			out.treated[i] = treat(&ColumnRef{inner, i}, d.Treatment)
		}
	}
	if out.filter == nil && len(out.treated) == 0 {
		return nil // REVEAL lifts all that the policies would do
	}
	return out
}

func treat(x *ColumnRef, t policy.Treatment) Expr {
	switch {
	case t.Kind >= policy.Suppress:
		return &Literal{T: x.Type()}
	case t.Kind == policy.Constant:
		value, ok := parseLiteral(t.Value, x.Type())
		if !ok {
			return &Literal{T: x.Type()} // the column's type has changed since
		}
		return &Literal{x.Type(), value}
	case t.Fits(x.Type().String()) != nil:
		return &Literal{T: x.Type()}
	}
	return &Treated{x, t}
}

// filter is the condition that a row must meet: any of the allow policies that
// apply, and all of the limits.
func (b *binder) filter(inner *Relation, g policy.Governance) Expr {
	if g.Closed {
		return &Literal{Boolean, false}
	}
	var filter Expr
	for _, p := range g.Allow {
		filter = join("OR", filter, b.rule(p, inner))
	}
	for _, p := range g.Limit {
		filter = join("AND", filter, b.rule(p, inner))
	}
	if l, ok := filter.(*Literal); ok && l.Value == true {
		return nil
	}
	return filter
}

func join(op string, l, r Expr) Expr {
	if l == nil {
		return r
	}
	return logic(op, l, r)
}

// rule binds a policy's condition over the table as it is, with Gneiss's own
// authority. A rule that no longer binds closes the table.
func (b *binder) rule(p *policy.RowPolicy, inner *Relation) Expr {
	e, own, err := bindRule(b.standing, p.Rule, inner)
	if err != nil {
		panic(&Error{Code: Broken, Text: fmt.Sprintf("%s is closed: its row policy %s no longer fits it (%v). An administrator has to edit or stop the policy",
			b.model.Path(p.Table), p.Name, err)})
	}
	b.fenced = b.fenced || own.fenced
	b.growth += own.growth
	return e
}

func bindRule(st *access.Standing, rule string, inner *Relation) (e Expr, own *binder, err error) {
	// The rule is read as a WHERE clause, so that the grammar sees a condition
	// and nothing else; the text is fenced in by parentheses of the tree's, not
	// of the text's.
	const head = "SELECT 1 WHERE "
	own = &binder{text: head + rule, standing: st, model: st.Model, own: true, home: inner.Table}
	defer caught(&err)
	s, err := parse(own.text)
	if err != nil {
		return nil, own, afterHead(err, len(head))
	}
	if s.WhereClause == nil || len(s.FromClause) > 0 || len(s.SortClause) > 0 || s.LimitCount != nil || s.LimitOffset != nil ||
		len(s.GroupClause) > 0 || s.HavingClause != nil || s.Op != 1 || len(s.WindowClause) > 0 || len(s.LockingClause) > 0 {
		return nil, own, &Error{Code: Syntax, Text: "the rule is more than one condition"}
	}
	own.source = st.Model.Object(inner.Table.Parent).Parent
	names := &scope{relations: []*Relation{inner}, columns: columnsOf(inner)}
	defer func() { err = afterHead(err, len(head)) }()
	defer caught(&err)
	e = own.condition(s.WhereClause, names, "a rule")
	own.plain(e, -1, "a rule")
	return e, own, nil
}

// afterHead moves an error's place to where it is in the rule itself.
func afterHead(err error, head int) error {
	var e *Error
	if errors.As(err, &e) && e.Line == 1 && e.Col > head {
		e.Col -= head
	}
	return err
}

// CheckRule reports whether a rule can be the condition of a row policy on the
// table: it binds, is a truth value, and stays in the table's source.
func CheckRule(st *access.Standing, table *access.Object, rule string) error {
	if strings.TrimSpace(rule) == "" {
		return &Error{Code: Syntax, Text: "the rule is empty; write a condition over the table's columns, such as district = 'north'"}
	}
	b := &binder{standing: st, model: st.Model, own: true}
	_, _, err := bindRule(st, rule, b.relation(table))
	return err
}
