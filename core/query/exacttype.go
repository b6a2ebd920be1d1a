package query

import (
	"fmt"
	"gneiss/core/access"
	"gneiss/core/sqltype"
	"slices"
	"strconv"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// namedType reads the type that CAST names.
func (b *binder) namedType(t *pg.TypeName) (to Type, modifier string) {
	names := texts(t.Names)
	switch {
	case len(names) == 1 || names[0] == "pg_catalog":
		if to = sqltype.Parse(names[len(names)-1]); to == nil && len(names) == 1 {
			to = b.ownType(access.JoinPath("public", names[0])) // where the database looks, too
		}
	default:
		to = b.ownType(access.JoinPath(names...))
	}
	if to == nil || to.Kind == sqltype.Pseudo || t.Setof || t.PctType {
		b.fail(t.Location, Unknown, "there is no type %s that can be cast to here", access.JoinPath(names...))
	}
	if to == sqltype.Interval {
		modifier = b.intervalFields(t)
	} else {
		var parts []string
		for _, n := range t.Typmods {
			c := n.GetAConst()
			if c == nil || c.GetIval() == nil {
				b.unsupported(t.Location, "this modifier of a type")
			}
			parts = append(parts, strconv.Itoa(int(c.GetIval().GetIval())))
		}
		modifier = strings.Join(parts, ",")
	}
	if len(t.ArrayBounds) > 0 {
		to = to.Array
	}
	return to, modifier
}

// ownType finds a type of the source's own making: one that a column of its tables has which the reader sees. It is nil where
// there is none.
func (b *binder) ownType(name string) Type {
	if t := b.types[name]; t != nil || b.source == 0 {
		return t
	}
	for _, schema := range b.model.Object(b.source).Children {
		for _, id := range b.model.Object(schema).Children {
			for _, column := range b.model.Object(id).Children {
				if c := b.model.Object(column); (b.own || b.rights.Sees(column)) && strings.HasSuffix(strings.TrimSuffix(c.Type, "[]"), " "+name) {
					b.types.column(c, true)
					if t := b.types[name]; t != nil {
						return t
					}
				}
			}
		}
	}
	return nil
}

// intervalFields reads the fields and the precision of INTERVAL, from the bits by which the
// grammar writes them.
func (b *binder) intervalFields(t *pg.TypeName) string {
	if len(t.Typmods) == 0 {
		return ""
	}
	fields, ok := sqltype.IntervalFields(t.Typmods[0].GetAConst().GetIval().GetIval())
	if !ok {
		b.unsupported(t.Location, "these fields of an interval")
	}
	if len(t.Typmods) > 1 {
		fields += fmt.Sprintf("(%d)", t.Typmods[1].GetAConst().GetIval().GetIval())
	}
	return fields
}

func (b *binder) exactCast(c *pg.TypeCast, s *scope, w windows) Expr {
	at := locate(c.Arg)
	to, modifier := b.namedType(c.TypeName)
	var x Expr
	if array := c.Arg.GetAArrayExpr(); array != nil && to.Elem != nil {
		x = b.array(array, to.Elem, s, w)
	} else {
		x = b.exprIn(c.Arg, s, w)
	}
	return b.castTo(x, to, modifier, at)
}

func (b *binder) castTo(x Expr, to Type, modifier string, at int32) Expr {
	if l, ok := x.(*Literal); ok && l.T == nil {
		x = b.convertLiteral(l, to, at)
		if modifier == "" || l.Value == nil {
			return x
		}
		return &Cast{x, to, modifier}
	}
	if !sqltype.Castable(x.Type(), to, sqltype.Explicit) {
		b.unresolved(&sqltype.Error{SQLState: "42846", Text: fmt.Sprintf("cannot cast type %s to %s", x.Type(), to)}, at)
	}
	if x.Type() == to && modifier == "" && declaredOf(x) == "" {
		return x
	}
	return &Cast{x, to, modifier}
}

// array binds ARRAY[…]; element is the type that is wanted, or nil.
func (b *binder) array(a *pg.A_ArrayExpr, element Type, s *scope, w windows) Expr {
	defer b.deeper(a.Location)()
	out := &Array{}
	nested := false
	for _, n := range a.Elements {
		if inner := n.GetAArrayExpr(); inner != nil {
			out.List = append(out.List, b.array(inner, element, s, w))
			nested = true
			continue
		}
		x := b.exprIn(n, s, w)
		if element != nil {
			x = b.castTo(x, element, "", a.Location)
		}
		out.List = append(out.List, x)
	}
	switch {
	case len(out.List) == 0 && element == nil:
		b.failAs(a.Location, Mismatch, "42P18", "an empty array needs a type: ARRAY[]::integer[]")
	case nested:
		out.T = out.List[0].Type()
		if slices.ContainsFunc(out.List, func(x Expr) bool { return x.Type() != out.T }) {
			b.fail(a.Location, Mismatch, "the parts of an array are arrays of one type")
		}
	case element != nil:
		out.T = element.Array
	default:
		var t Type
		out.List, t = b.common(out.List, "ARRAY", a.Location)
		if t.Elem != nil {
			out.T = t
		} else {
			out.T = t.Array
		}
	}
	if out.T == nil {
		b.unsupported(a.Location, "an array of this type")
	}
	return out
}

// columnInParentheses binds (t).c, where t is a table, as the column t.c, which it is. It is nil for all else.
func (b *binder) columnInParentheses(i *pg.A_Indirection, s *scope) Expr {
	ref, part := i.Arg.GetColumnRef(), i.Indirection[0].GetString_()
	if ref == nil || part == nil || len(ref.Fields) != 1 {
		return nil
	}
	name := ref.Fields[0].GetString_().GetSval()
	for at := s; at != nil; at = at.outer {
		if opaque(at) || slices.ContainsFunc(at.columns, func(c named) bool { return c.name == name }) {
			return nil
		}
	}
	for at := s; at != nil; at = at.outer {
		for _, r := range at.relations {
			if r.Alias == name && slices.ContainsFunc(r.Columns, func(c Column) bool { return c.Name == part.Sval }) {
				return b.columnOf(r, part.Sval, ref.Location)
			}
		}
	}
	return nil
}

// indirection binds what stands behind a value: [n], [n:m] and .field.
func (b *binder) indirection(i *pg.A_Indirection, s *scope, w windows) Expr {
	at := locate(i.Arg)
	from := 0
	x := b.columnInParentheses(i, s)
	if x != nil {
		from = 1
	} else {
		x = b.exprIn(i.Arg, s, w)
	}
	for k := from; k < len(i.Indirection); k++ {
		n := i.Indirection[k]
		if name := n.GetString_(); name != nil {
			x = b.field(x, name.Sval, at)
			continue
		}
		index := n.GetAIndices()
		if index == nil || x.Type() == nil {
			b.unsupported(at, "this part of a value")
		}
		sub := &Subscript{X: x, Part: index.IsSlice}
		bound := func(n *pg.Node) {
			if n == nil {
				sub.At = append(sub.At, nil)
				return
			}
			to := sqltype.Int4
			if x.Type() == sqltype.JSONB {
				to = Text
			}
			at := b.exprIn(n, s, w)
			if at.Type() != nil && to == Text && at.Type().Number() {
				to = at.Type()
			}
			sub.At = append(sub.At, b.convertLiteral(at, to, locate(n)))
		}
		switch {
		case x.Type() == sqltype.JSONB && !index.IsSlice:
			bound(index.Uidx)
			sub.T = sqltype.JSONB
		case x.Type().Elem != nil && index.IsSlice:
			bound(index.Lidx)
			bound(index.Uidx)
			sub.T = x.Type()
		case x.Type().Elem != nil:
			bound(index.Uidx)
			sub.T = x.Type().Elem
			// The subscripts of one element follow each other.
			for k+1 < len(i.Indirection) && i.Indirection[k+1].GetAIndices() != nil && !i.Indirection[k+1].GetAIndices().IsSlice {
				k++
				bound(i.Indirection[k].GetAIndices().Uidx)
			}
		default:
			b.fail(at, Mismatch, "%s has no subscripts", x.Type())
		}
		x = sub
	}
	return x
}

// field binds a field of a row that a routine gives.
func (b *binder) field(x Expr, name string, at int32) Expr {
	if row, ok := x.(*TableRow); ok {
		if i := slices.Index(row.Names, name); i >= 0 {
			return row.List[i]
		}
	}
	if c, ok := x.(*Call); ok && c.Fn.Routine != nil {
		for _, f := range c.fields() {
			if f.Name == name {
				return &FieldOf{x, name, f.Type}
			}
		}
	}
	if !b.exact || x.Type() == sqltype.Record {
		b.unsupported(at, "a field of this value")
	}
	b.failAs(at, Mismatch, "42809", "%s has no fields", x.Type())
	return nil
}
