package query

import (
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// column binds a name with one part, or with the alias before it.
func (b *binder) column(ref *pg.ColumnRef, s *scope) Expr {
	names := texts(ref.Fields)
	if ref.Fields[len(names)-1].GetAStar() != nil {
		b.fail(ref.Location, Unsupported, "* cannot stand here")
	}
	if len(names) > 2 {
		// A table's full path before the column: taken where the table is here.
		r := b.relationOf(s, names[:len(names)-1], ref.Location)
		return b.columnOf(r, names[len(names)-1], ref.Location)
	}
	if len(names) == 2 {
		r := b.relationNamed(s, names[0], ref.Location)
		return b.columnOf(r, names[1], ref.Location)
	}
	for at := s; at != nil; at = at.outer {
		if e := b.plainColumn(at, names[0], ref.Location); e != nil {
			b.useAll(e)
			return e
		}
	}
	for at := s; at != nil; at = at.outer {
		if opaque(at) {
			return &Literal{}
		}
		for _, r := range at.relations {
			b.refuseWithheld(r, names[0], ref.Location)
		}
	}
	if row := b.wholeRow(names[0], s, ref.Location); row != nil {
		return row
	}
	b.unknownColumn(names[0], s, ref.Location)
	return nil
}

// wholeRow binds the name of a table in FROM as the row that it has, of all columns that *
// takes in. Where nothing is so named it is nil.
func (b *binder) wholeRow(alias string, s *scope, at int32) Expr {
	if !b.exact {
		return nil
	}
	for scope := s; scope != nil; scope = scope.outer {
		for _, r := range scope.relations {
			if r.Alias != alias {
				continue
			}
			if r.nullable {
				b.unsupported(at, "the row of a table that an outer join may lack (name its columns instead)")
			}
			row := &TableRow{}
			for _, c := range columnsOf(r) {
				if ref, ok := c.expr.(*ColumnRef); ok && !b.readable(ref) {
					b.need(access.Select, ref.Rel.Columns[ref.Col].ID)
				}
				b.useAll(c.expr)
				row.List, row.Names = append(row.List, c.expr), append(row.Names, c.name)
			}
			if len(row.List) == 0 {
				b.unsupported(at, "the row of a table without columns")
			}
			return row
		}
	}
	return nil
}

// plainColumn finds a column by its name alone, or returns nil.
func (b *binder) plainColumn(s *scope, name string, at int32) Expr {
	var found Expr
	for _, c := range s.columns {
		if c.name == name {
			if found != nil {
				b.fail(at, Ambiguous, "column %s is in more than one table; write the table's alias before it", access.Quote(name))
			}
			found = c.expr
		}
	}
	return found
}

func (b *binder) relationNamed(s *scope, alias string, at int32) *Relation {
	for scope := s; scope != nil; scope = scope.outer {
		for _, r := range scope.relations {
			if r.Alias == alias {
				return r
			}
		}
	}
	b.failAs(at, Unknown, "42P01", "no table is called %s here; name it in FROM", access.Quote(alias))
	return nil
}

func (b *binder) relationOf(s *scope, parts []string, at int32) *Relation {
	for scope := s; scope != nil; scope = scope.outer {
		for _, r := range scope.relations {
			if r.Table != nil && r.Alias == r.Table.Name && strings.HasSuffix("."+b.model.Path(r.Table.ID), "."+access.JoinPath(parts...)) {
				return r
			}
		}
	}
	b.failAs(at, Unknown, "42P01", "no table is called %s here; name it in FROM", access.JoinPath(parts...))
	return nil
}

func (b *binder) columnOf(r *Relation, name string, at int32) Expr {
	i := -1
	for j, c := range r.Columns {
		if c.Name == name && c.Withheld == policy.Clear {
			if i >= 0 {
				b.fail(at, Ambiguous, "%s has two columns called %s", access.Quote(r.Alias), access.Quote(name))
			}
			i = j
		}
	}
	if i < 0 && r.opaque {
		return &Literal{}
	}
	if i < 0 {
		b.refuseWithheld(r, name, at)
		b.unknownColumn(name, &scope{relations: []*Relation{r}, columns: columnsOf(r)}, at)
	}
	e := &ColumnRef{r, i}
	b.use(e)
	return e
}

// refuseWithheld stops where a name is that of a column which may not be named.
func (b *binder) refuseWithheld(r *Relation, name string, at int32) {
	for _, c := range r.Columns {
		if c.Name == name && c.Withheld == policy.Refuse {
			b.fail(at, Refused, "column %s is withheld from you", access.Quote(name))
		}
	}
}

func (b *binder) unknownColumn(name string, s *scope, at int32) {
	line, col := place(b.text, at)
	e := &Error{Code: Unknown, Text: "there is no column " + access.Quote(name) + " here", Line: line, Col: col, Name: access.Quote(name), SQLState: "42703"}
	for _, c := range s.columns {
		if ref, ok := c.expr.(*ColumnRef); !ok || b.readable(ref) {
			e.Near = append(e.Near, access.Quote(c.name))
		}
	}
	panic(e)
}
