package query

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
)

// star expands * and alias.*. Where the session may read only some columns of a
// table, the refusal names the others and gives the text with those it may.
func (b *binder) star(ref *pg.ColumnRef, s *scope) []named {
	columns := s.columns
	if len(ref.Fields) > 2 {
		b.unsupported(ref.Location, "a * behind more than one name")
	}
	if len(ref.Fields) == 2 {
		r := b.relationNamed(s, ref.Fields[0].GetString_().GetSval(), ref.Location)
		columns = columnsOf(r)
	} else if len(s.columns) == 0 && !opaque(s) {
		b.fail(ref.Location, Unknown, "* without a FROM clause")
	}
	var readable, barred []string
	for _, c := range columns {
		if col, ok := c.expr.(*ColumnRef); ok && !b.readable(col) {
			barred = append(barred, access.Quote(c.name))
			continue
		}
		readable = append(readable, access.Quote(c.name))
	}
	if len(barred) > 0 {
		prefix := ""
		if len(ref.Fields) == 2 {
			prefix = access.Quote(ref.Fields[0].GetString_().GetSval()) + "."
		}
		star := strings.IndexByte(b.text[ref.Location:], '*') + 1
		line, col := place(b.text, ref.Location)
		e := &Error{Code: Refused, Line: line, Col: col,
			Text: "* takes in columns that are not granted to you: " + strings.Join(barred, ", ") + ". With those that are:\n" +
				b.text[:ref.Location] + prefix + strings.Join(readable, ", "+prefix) + b.text[int(ref.Location)+star:]}
		for _, c := range columns {
			if col, ok := c.expr.(*ColumnRef); ok && !b.readable(col) {
				e.Needs = append(e.Needs, access.Need{Privilege: access.Select, Object: col.Rel.Columns[col.Col].ID})
			}
		}
		panic(e)
	}
	for _, c := range columns {
		b.useAll(c.expr)
	}
	return columns
}

func (b *binder) readable(e *ColumnRef) bool {
	r := e.Rel
	if b.own || r.Table == nil {
		return true
	}
	v := b.rights.Resolve(r.Table.ID)
	return v.Covers(access.Select, r.Columns[e.Col].ID)
}

// useAll marks the columns that an expression of a scope stands for as read.
func (b *binder) useAll(e Expr) {
	AnyExpr(e, func(x Expr) bool {
		if c, ok := x.(*ColumnRef); ok {
			b.use(c)
		}
		return false
	})
}

func opaque(s *scope) bool {
	return slices.ContainsFunc(s.relations, func(r *Relation) bool { return r.opaque })
}
