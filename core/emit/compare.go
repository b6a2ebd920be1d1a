package emit

import (
	"slices"
	"strings"

	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// Two texts are compared without failing only where PostgreSQL knows which collation to compare
// them by (its manual, "Collation Support"): two that are implicit and differ fail once for each
// row that is looked at. And a comparison takes no time that tells of a value only where the
// value's width is bounded, or where it is compared by its width first. So both are worked out
// here, from what the scan says of columns. What is not known counts as what would fail.

// A collation is that by which a value is compared, as far as it is known.
type collation struct {
	text          bool   // the value has one at all
	name          string // empty: not known
	explicit      bool   // by COLLATE, which decides for what is compared with it
	deterministic bool   // equal texts have equal bytes
}

// databaseDefault is the collation of the database, which gives way to any other.
const databaseDefault = "default"

var unknownCollation = collation{text: true}

// mostListed is how many constants a wide value can be compared with one by one; more of them
// PostgreSQL looks up by a hash of the whole value.
const mostListed = 8

// collationOf is the collation of an expression.
func (b *barriers) collationOf(x query.Expr) collation {
	if t := x.Type(); t != nil && !t.Collatable() {
		return collation{}
	}
	switch x := x.(type) {
	case *query.ColumnRef:
		return b.columnCollation(x)
	case *query.Collated:
		name := strings.Join(x.Name, ".")
		if len(x.Name) == 1 {
			name = "pg_catalog." + name
		}
		return collation{text: true, name: name, explicit: true, deterministic: strings.HasPrefix(name, "pg_catalog.")}
	case *query.Cast:
		if of := b.collationOf(x.X); of.text {
			return of
		}
	case *query.Literal, *query.Now:
	case *query.Call: // of a function: that of its texts, where they have one
		if r := x.Fn.Routine; r != nil && r.Kind == sqltype.Function && r.Schema == "pg_catalog" && x.Over == nil {
			return b.merged(x.Args)
		}
		return unknownCollation
	case *query.Operation:
		if x.Op.Name == "||" {
			return b.merged([]query.Expr{x.L, x.R})
		}
		return unknownCollation
	default:
		if !constant(x) {
			return unknownCollation
		}
	}
	if x.Type() == sqltype.Name {
		return collation{text: true, name: "pg_catalog.C", deterministic: true}
	}
	return collation{text: true, name: databaseDefault, deterministic: true}
}

// merged is the collation of what is made of some values, by the rules of PostgreSQL's manual,
// "Collation Support".
func (b *barriers) merged(list []query.Expr) collation {
	out := collation{text: true, name: databaseDefault, deterministic: true}
	for _, x := range list {
		switch c := b.collationOf(x); {
		case c.explicit:
			return c
		case !c.text || c.name == databaseDefault || c == out:
		case out.name == databaseDefault:
			out = c
		default:
			out = unknownCollation
		}
	}
	return out
}

// columnCollation is the collation of a column, by what stands in its place.
func (b *barriers) columnCollation(c *query.ColumnRef) collation {
	key := columnKey{c.Rel, c.Col}
	if known, ok := b.collations[key]; ok {
		return known
	}
	b.collations[key] = unknownCollation // for a query that reads itself
	found := unknownCollation
	if q, x := behind(c); q != nil {
		found = b.outputCollation(q, c.Col)
	} else if x != nil {
		found = b.collationOf(x)
	} else if r := c.Rel; r.CTE == nil && r.Calls == nil {
		if name, indeterminate := strings.CutPrefix(r.Columns[c.Col].Collation, "~"); name != "" {
			found = collation{text: true, name: name, deterministic: !indeterminate}
		}
	}
	found.explicit = false
	b.collations[key] = found
	return found
}

func (b *barriers) outputCollation(q *query.Query, i int) collation {
	switch body := q.Body.(type) {
	case *query.Select:
		return b.collationOf(body.Items[i])
	case *query.SetOp:
		if l, r := b.outputCollation(body.L, i), b.outputCollation(body.R, i); l.name == r.name && l.name != "" {
			return l
		}
	}
	return unknownCollation
}

// collates reports whether PostgreSQL knows by which collation values are compared with each
// other.
func (b *barriers) collates(list ...query.Expr) bool {
	names, unknown := map[string]bool{}, 0
	for _, x := range list {
		switch c := b.collationOf(x); {
		case c.explicit:
			return true // two that differ are refused before anything is worked out
		case !c.text || c.name == databaseDefault:
		case c.name == "":
			unknown++
		default:
			names[c.name] = true
		}
	}
	return len(names)+unknown <= 1
}

// wide reports whether a value's width is not bounded.
func (b *barriers) wide(x query.Expr) bool {
	switch x := x.(type) {
	case *query.ColumnRef:
		return b.wideColumn(x)
	case *query.Collated:
		return b.wide(x.X)
	case *query.Cast:
		return b.wide(x.X)
	case *query.Literal, *query.Now:
		return false // what is plain has a bound of its own for constants
	}
	return !constant(x) && !sqltype.Narrow(x.Type(), "")
}

func (b *barriers) wideColumn(c *query.ColumnRef) bool {
	key := columnKey{c.Rel, c.Col}
	if known, ok := b.widths[key]; ok {
		return known
	}
	b.widths[key] = true // for a query that reads itself
	found := true
	if q, x := behind(c); q != nil {
		found = b.wideOutput(q, c.Col)
	} else if x != nil {
		found = b.wide(x)
	} else {
		of := c.Rel.Columns[c.Col]
		found = !sqltype.Narrow(of.Type, of.Declared)
	}
	b.widths[key] = found
	return found
}

// wideOutput is wideColumn for a column of a query. What is worked out of many rows is there
// only after the policies, so its width tells of no row that is hidden.
func (b *barriers) wideOutput(q *query.Query, i int) bool {
	if q.Limit != nil || q.Offset != nil {
		return false
	}
	switch body := q.Body.(type) {
	case *query.Select:
		item := body.Items[i]
		late := query.AnyExpr(item, func(x query.Expr) bool { return query.IsAggregate(x) || query.IsWindow(x) })
		return !late && b.wide(item)
	case *query.SetOp:
		return b.wideOutput(body.L, i) || b.wideOutput(body.R, i)
	case *query.Values:
		return slices.ContainsFunc(body.Rows, func(row []query.Expr) bool { return b.wide(row[i]) })
	}
	return true
}

// comparable reports whether values can be compared with each other, by = or <> where equal is
// set, without failing for their collations and without taking long for their widths. On SQLite
// texts are compared by code point, and the policies' conditions come first.
func (b *barriers) comparable(equal bool, list ...query.Expr) bool {
	return !b.overflows || b.collates(list...) && b.quick(equal, list)
}

// quick reports whether a comparison takes no longer for a wide value. Equal ones are compared
// by their lengths first, which are known without reading them; a comparison of columns of two
// tables comes after the conditions on each, see [emitter.joinsWide].
func (b *barriers) quick(equal bool, list []query.Expr) bool {
	var wide, columns []query.Expr
	for _, x := range list {
		if b.wide(x) {
			wide = append(wide, x)
		}
		if !constant(x) {
			columns = append(columns, x)
		}
	}
	switch {
	case len(wide) == 0:
		return true
	case !equal || !slices.ContainsFunc(wide, func(x query.Expr) bool { return b.byLength(x) }):
		return false
	case len(columns) == 1:
		return len(list)-1 <= mostListed
	case len(columns) == 2 && len(list) == 2:
		l, left := columns[0].(*query.ColumnRef)
		r, right := columns[1].(*query.ColumnRef)
		return left && right && l.Rel != r.Rel
	}
	return false
}

// byLength reports whether the values of an expression are compared for equality by their
// lengths first.
func (b *barriers) byLength(x query.Expr) bool {
	switch x.Type() {
	case sqltype.Bytea:
		return true
	case sqltype.Text, sqltype.Varchar:
		return b.collationOf(x).deterministic
	}
	return false
}

// pairs calls f for each two values that a comparison of rows compares, and reports whether all
// are as f says.
func pairs(l, r query.Expr, f func(l, r query.Expr) bool) bool {
	left, isRow := l.(*query.Row)
	right, both := r.(*query.Row)
	if !isRow || !both {
		return f(l, r)
	}
	for i := range left.List {
		if i >= len(right.List) || !f(left.List[i], right.List[i]) {
			return false
		}
	}
	return true
}

// comparableLists is comparable for a value, or row, that is compared with each of a list.
func (b *barriers) comparableLists(x query.Expr, list []query.Expr) bool {
	row, isRow := x.(*query.Row)
	if !isRow {
		return b.comparable(true, append([]query.Expr{x}, list...)...)
	}
	for i := range row.List {
		column := []query.Expr{row.List[i]}
		for _, item := range list {
			if other, ok := item.(*query.Row); ok && i < len(other.List) {
				column = append(column, other.List[i])
			}
		}
		if !b.comparable(true, column...) {
			return false
		}
	}
	return true
}

// joinsWide reports whether a condition compares wide values of two tables, of which one is a
// hard barrier: the database may then look at such a value before the table's policies have
// dropped its row.
func (e *emitter) joinsWide(conditions ...query.Expr) bool {
	found := false
	for _, x := range conditions {
		for _, c := range query.Conjuncts(x) {
			query.AnyExpr(c, func(x query.Expr) bool {
				ref, ok := x.(*query.ColumnRef)
				found = found || ok && e.overflows && e.hardBarrier(ref.Rel) && e.wideColumn(ref)
				return found
			})
		}
	}
	return found
}
