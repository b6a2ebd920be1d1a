package query

import (
	"errors"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
)

// The texts in policies, conditions and expressions, are bound over the table as
// it is, with Gneiss's own authority: who the policy is about needs no privilege
// on what it reads.

// A text is read behind one of these, so that the grammar sees a condition, or an
// expression, and nothing else; what encloses it are parentheses of the tree's, not of
// the text's.
const (
	conditionHead  = "SELECT 1 WHERE "
	expressionHead = "SELECT "
)

// bindCondition binds a text that must be one condition over a table's columns.
func bindCondition(types owned, st *access.Rights, set *policy.Set, text string, inner *Relation) (e Expr, own *binder, err error) {
	return bindOwn(types, st, set, conditionHead, text, inner, func(own *binder, s *pg.SelectStmt, names *scope) Expr {
		if s.WhereClause == nil || len(s.TargetList) != 1 {
			panic(&Error{Code: Syntax, Text: "the rule is more than one condition"})
		}
		e := own.condition(s.WhereClause, names, "a rule")
		own.plain(e, -1, "a rule")
		return e
	})
}

// bindExpression binds the expression that stands in the place of a column's
// value, and has its type.
func bindExpression(types owned, st *access.Rights, set *policy.Set, text string, x *ColumnRef) (e Expr, own *binder, err error) {
	return bindOwn(types, st, set, expressionHead, text, x.Rel, func(own *binder, s *pg.SelectStmt, names *scope) Expr {
		if s.WhereClause != nil || len(s.TargetList) != 1 || s.TargetList[0].GetResTarget().GetName() != "" {
			panic(&Error{Code: Syntax, Text: "a treatment is one expression"})
		}
		e := own.expr(s.TargetList[0].GetResTarget().GetVal(), names)
		own.plain(e, -1, "a treatment")
		e = own.convertLiteral(e, x.Type(), -1)
		if own.exact {
			if !sqltype.Castable(e.Type(), x.Type(), sqltype.Assignment) {
				own.fail(-1, Mismatch, "the expression gives %s and the column is %s; add a cast", e.Type(), x.Type())
			}
			return own.castTo(e, x.Type(), "", -1)
		}
		if t, ok := unifyShared(e.Type(), x.Type()); !ok || t != x.Type() {
			own.fail(-1, Mismatch, "the expression gives %s and the column is %s; add a cast", e.Type(), x.Type())
		}
		return own.convert(e, x.Type(), -1)
	})
}

func bindOwn(
	types owned,
	st *access.Rights,
	set *policy.Set,
	head, text string,
	inner *Relation,
	bind func(*binder, *pg.SelectStmt, *scope) Expr,
) (e Expr, own *binder, err error) {
	own = &binder{text: head + text, reader: st, model: st.Model, own: true, home: inner.Table, types: types}
	own.source = st.Model.Object(inner.Table.Parent).Parent
	own.exact = speaksExactly(st.Model.Object(own.source))
	defer func() { err = afterHead(err, len(head)) }()
	defer caught(&err)
	tree, err := set.Once(own.text, func() (any, error) { return parse(own.text) })
	if err != nil {
		return nil, own, err
	}
	s := tree.(*pg.SelectStmt)
	if len(s.FromClause) > 0 || len(s.SortClause) > 0 || s.LimitCount != nil || s.LimitOffset != nil || len(s.GroupClause) > 0 || s.HavingClause != nil ||
		s.Op != pg.SetOperation_SETOP_NONE || len(s.WindowClause) > 0 || len(s.LockingClause) > 0 || s.IntoClause != nil || s.WithClause != nil ||
		len(s.DistinctClause) > 0 ||
		len(s.ValuesLists) > 0 {
		return nil, own, &Error{Code: Syntax, Text: "the rule is more than one condition"}
	}
	names := &scope{relations: []*Relation{inner}, columns: columnsOf(inner)}
	return bind(own, s, names), own, nil
}

// afterHead moves an error's place to where it is in the policy's own text.
func afterHead(err error, head int) error {
	var e *Error
	if errors.As(err, &e) && e.Line == 1 && e.Col > head {
		e.Col -= head
	}
	return err
}

// CheckRule reports whether a text can be the condition of a policy on the
// table: it binds, is a truth value, and stays in the table's source.
func CheckRule(st *access.Rights, table *access.Object, rule string) error {
	if strings.TrimSpace(rule) == "" {
		return &Error{Code: Syntax, Text: "the rule is empty; write a condition over the table's columns, such as district = 'north'"}
	}
	b := &binder{reader: st, model: st.Model, own: true, types: owned{}}
	_, _, err := bindCondition(b.types, st, nil, rule, b.relation(table))
	return err
}

// CheckWhen is CheckRule for the condition of a column policy. It returns the
// columns that the condition is about and that can be NULL: where the condition
// is unknown, a value is not treated.
func CheckWhen(st *access.Rights, table *access.Object, when string) (nullable []string, err error) {
	b := &binder{reader: st, model: st.Model, own: true, types: owned{}}
	inner := b.relation(table)
	e, _, err := bindCondition(b.types, st, nil, when, inner)
	AnyExpr(e, func(x Expr) bool {
		if c, ok := x.(*ColumnRef); ok && c.Rel == inner && !inner.Columns[c.Col].NotNull {
			nullable = append(nullable, inner.Columns[c.Col].Name)
		}
		return false
	})
	AnyExpr(e, func(x Expr) bool { // whoever says IS NULL has thought of it
		if n, ok := x.(*IsNull); ok {
			if c, ok := n.X.(*ColumnRef); ok && c.Rel == inner {
				name := inner.Columns[c.Col].Name
				nullable = slices.DeleteFunc(nullable, func(s string) bool { return s == name })
			}
		}
		return false
	})
	slices.Sort(nullable)
	return slices.Compact(nullable), err
}

// CheckTreatment reports whether a treatment can be that of a column: it fits
// the type, and its expression binds.
func CheckTreatment(st *access.Rights, column *access.Object, t policy.Treatment) error {
	if t.Kind != policy.Expression {
		return nil
	}
	b := &binder{reader: st, model: st.Model, own: true, types: owned{}}
	x := columnWith(b.relation(st.Model.Object(column.Parent)), column.ID)
	if x == nil {
		return &Error{Code: Mismatch, Text: "an expression cannot stand for a column of type " + column.Type}
	}
	_, _, err := bindExpression(b.types, st, nil, t.SQL, x)
	return err
}

// ColumnsRead lists the columns whose values a policy's condition and expression, either of
// which may be empty, come to where it is about a column: those of its own table and of others
// that its sub-queries read. A text that does not bind reads nothing: it closes its table.
func ColumnsRead(st *access.Rights, column *access.Object, condition, expression string) (ids []access.ObjectID) {
	note := func(relations ...*Relation) {
		for _, r := range relations {
			for i, used := range r.Used {
				if used && !slices.Contains(ids, r.Columns[i].ID) {
					ids = append(ids, r.Columns[i].ID)
				}
			}
		}
	}
	b := &binder{reader: st, model: st.Model, own: true, types: owned{}}
	inner := b.relation(st.Model.Object(column.Parent))
	if strings.TrimSpace(condition) != "" {
		if _, own, err := bindCondition(b.types, st, nil, condition, inner); err == nil {
			note(own.tables...)
		}
	}
	if x := columnWith(inner, column.ID); x != nil && strings.TrimSpace(expression) != "" {
		if _, own, err := bindExpression(b.types, st, nil, expression, x); err == nil {
			note(own.tables...)
		}
	}
	note(inner)
	return ids
}

func (b *binder) others(table *access.Object) []access.ObjectID {
	var ids []access.ObjectID
	for _, r := range b.tables {
		if r.Table != table {
			ids = append(ids, r.Table.ID)
		}
	}
	return ids
}
