package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"gneiss/source"
)

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// Scan lists the tables of all files.
func (s *Source) Scan(ctx context.Context) ([]source.Table, error) {
	db, err := s.connect()
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(s.broken)) {
		return nil, fmt.Errorf("%w: the file of the schema %s cannot be read: %v", source.ErrUnavailable, name, s.broken[name])
	}
	var tables []source.Table
	for _, schema := range s.schemas {
		var names []string
		err := db.SelectContext(
			ctx,
			&names,
			"SELECT name FROM "+quote(schema)+".sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
		)
		if err != nil {
			return nil, unavailable(err)
		}
		for _, name := range names {
			columns, err := s.columns(ctx, db, schema, name)
			if err != nil {
				return nil, unavailable(err)
			}
			keys, err := s.foreignKeys(ctx, db, schema, name)
			if err != nil {
				return nil, unavailable(err)
			}
			tables = append(tables, source.Table{Schema: schema, Name: name, Columns: columns, Keys: keys})
		}
	}
	for _, t := range tables {
		for i, k := range t.Keys {
			if len(k.To) == 0 { // it leads to the primary key, without saying so
				t.Keys[i].To = primaryKey(tables, k)
			}
		}
	}
	for i := range tables {
		tables[i].Keys = slices.DeleteFunc(tables[i].Keys, func(k source.ForeignKey) bool { return len(k.To) != len(k.Columns) })
	}
	return tables, nil
}

// foreignKeys lists those of a table; they stay within its file.
func (s *Source) foreignKeys(ctx context.Context, db *sqlx.DB, schema, table string) ([]source.ForeignKey, error) {
	var found []struct {
		ID    int
		Table string
		From  string         `db:"from"`
		To    sql.NullString `db:"to"`
	}
	err := db.SelectContext(ctx, &found, `SELECT id, "table", "from", "to" FROM pragma_foreign_key_list(?, ?) ORDER BY id DESC, seq`, table, schema)
	var keys []source.ForeignKey
	last := -1
	for _, f := range found {
		if f.ID != last {
			keys = append(keys, source.ForeignKey{Schema: schema, Table: f.Table})
			last = f.ID
		}
		k := &keys[len(keys)-1]
		k.Columns = append(k.Columns, f.From)
		if f.To.Valid {
			k.To = append(k.To, f.To.String)
		}
	}
	return keys, err
}

func primaryKey(tables []source.Table, k source.ForeignKey) []string {
	var names []string
	for _, t := range tables {
		for _, c := range t.Columns {
			if t.Schema == k.Schema && t.Name == k.Table && c.Key {
				names = append(names, c.Name)
			}
		}
	}
	return names
}

func (s *Source) columns(ctx context.Context, db *sqlx.DB, schema, table string) ([]source.Column, error) {
	var found []struct {
		Name    string
		Type    string
		NotNull bool `db:"notnull"`
		PK      int
	}
	err := db.SelectContext(ctx, &found, `SELECT name, type, "notnull", pk FROM pragma_table_info(?, ?) ORDER BY cid`, table, schema)
	if err != nil {
		return nil, err
	}
	unique, all, err := s.unique(ctx, db, schema, table)
	if err != nil {
		return nil, err
	}
	partial, err := s.partial(ctx, db, schema, table)
	columns := make([]source.Column, len(found))
	for i, c := range found {
		// An INTEGER PRIMARY KEY is the row's number and never NULL.
		typ := typeName(c.Type)
		columns[i] = source.Column{
			Name:    c.Name,
			Type:    typ,
			NotNull: c.NotNull || c.PK > 0 && typ == "bigint",
			Key:     c.PK > 0,
			Unique:  all || unique[c.Name] || slices.ContainsFunc(partial, func(text string) bool { return mentions(text, c.Name) }),
		}
	}
	return columns, err
}

// unique finds the columns that a unique key besides the primary one is of, or that such a
// column is generated from; all of them where a key is of an expression.
func (s *Source) unique(ctx context.Context, db *sqlx.DB, schema, table string) (columns map[string]bool, all bool, err error) {
	var names []sql.NullString
	err = db.SelectContext(
		ctx,
		&names,
		`SELECT i.name FROM pragma_index_list(?, ?) l JOIN pragma_index_info(l.name, ?) i WHERE l."unique" AND l.origin <> 'pk'`,
		table,
		schema,
		schema,
	)
	columns = map[string]bool{}
	for _, name := range names {
		columns[name.String] = true
		all = all || !name.Valid
	}
	if err != nil || len(columns) == 0 {
		return columns, all, err
	}
	from, err := generated(ctx, db, schema, table)
	if slices.ContainsFunc(from.columns, func(name string) bool { return columns[name] }) {
		for _, name := range from.read {
			columns[name] = true
		}
	}
	return columns, all, err
}

// A generation is the generated columns of a table, and the columns that one of them is worked
// out from.
type generation struct{ columns, read []string }

// generated reads how a table's columns are generated from its text. Where that does not say so
// in a form that is known here, they are from all columns.
func generated(ctx context.Context, db *sqlx.DB, schema, table string) (out generation, err error) {
	var columns []struct {
		Name   string
		Hidden int
	}
	if err := db.SelectContext(ctx, &columns, `SELECT name, hidden FROM pragma_table_xinfo(?, ?)`, table, schema); err != nil {
		return out, err
	}
	for _, c := range columns {
		if c.Hidden == 2 || c.Hidden == 3 {
			out.columns = append(out.columns, c.Name)
		}
	}
	if len(out.columns) == 0 {
		return out, nil
	}
	var text string
	if err := db.GetContext(ctx, &text, "SELECT sql FROM "+quote(schema)+".sqlite_schema WHERE type = 'table' AND name = ?", table); err != nil {
		return out, err
	}
	how := bracketed(text)
	for _, c := range columns {
		if len(how) == 0 || slices.ContainsFunc(how, func(text string) bool { return mentions(text, c.Name) }) {
			out.read = append(out.read, c.Name)
		}
	}
	return out, nil
}

var asBracket = regexp.MustCompile(`(?is)\bAS\s*\(`)

// bracketed lists what stands in brackets behind AS in the text of a table.
func bracketed(text string) (list []string) {
	for _, at := range asBracket.FindAllStringIndex(text, -1) {
		depth := 1
		for i := at[1]; i < len(text) && depth > 0; i++ {
			switch text[i] {
			case '(':
				depth++
			case ')':
				depth--
			}
			if depth == 0 {
				list = append(list, text[at[1]:i])
			}
		}
	}
	return list
}

// partial lists the texts of unique keys that have a condition.
func (s *Source) partial(ctx context.Context, db *sqlx.DB, schema, table string) (texts []string, err error) {
	err = db.SelectContext(
		ctx,
		&texts,
		`SELECT m.sql FROM pragma_index_list(?, ?) l JOIN `+quote(schema)+`.sqlite_schema m ON m.name = l.name WHERE l."unique" AND l.partial`,
		table,
		schema,
	)
	return texts, err
}

// mentions reports whether the condition in the text of a key may be about a column.
func mentions(text, column string) bool {
	text = strings.ToLower(text)
	if _, condition, ok := strings.Cut(text, "where"); ok {
		text = condition
	}
	return regexp.MustCompile(`(^|\W)` + regexp.QuoteMeta(strings.ToLower(column)) + `(\W|$)`).MatchString(text)
}

// typeName maps a declared type to Gneiss's name for it.
func typeName(declared string) string {
	base, _, _ := strings.Cut(strings.ToLower(declared), "(")
	switch strings.TrimSpace(base) {
	case "integer", "int", "bigint", "smallint":
		return "bigint"
	case "real", "double", "double precision", "float", "numeric", "decimal":
		return "double precision"
	case "text", "varchar", "char", "character varying", "clob":
		return "text"
	case "boolean", "bool":
		return "boolean"
	case "date":
		return "date"
	case "timestamp", "datetime":
		return "timestamp"
	}
	return declared
}
