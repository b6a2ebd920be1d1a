package postgres

import (
	"context"
	_ "embed"
	"errors"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"gneiss/core/sqltype"
	"gneiss/source"
)

// What a scan asks of the server's catalog.
var (
	//go:embed tables.sql
	tablesText string
	//go:embed routines.sql
	routinesText string
	//go:embed keys.sql
	keysText string
)

// mostScanned bounds what each of these gives, in bytes: some ten million columns.
const mostScanned = 1 << 30

// kinds are the words for the kinds of types that are the database's own making.
var kinds = map[string]string{"e": "enum", "c": "composite", "r": "range", "m": "multirange", "b": "base", "d": "base", "p": "base"}

// Scan lists the tables and views that the account may read. Partitions and tables that
// inherit from another are left out: their rows are rows of that other, and a
// policy on one of the two would leave the other open.
func (s *Source) Scan(ctx context.Context) ([]source.Table, error) {
	ctx = source.WithBytes(ctx, mostScanned)
	rows, err := s.readers.Query(ctx, tablesText)
	if err != nil {
		return nil, told(err)
	}
	var tables []source.Table
	var schema, table, name, typ, kind, domain, of, comment, about, collation string
	var notNull, key, unique, indexed bool
	into := []any{&schema, &table, &name, &typ, &kind, &domain, &notNull, &key, &unique, &indexed, &of, &comment, &about, &collation}
	_, err = pgx.ForEachRow(rows, into, func() error {
		if n := len(tables); n == 0 || tables[n-1].Schema != schema || tables[n-1].Name != table {
			tables = append(tables, source.Table{Schema: schema, Name: table, Kind: of, Comment: comment})
		}
		c := source.Column{
			Name:     name,
			Type:     strings.Replace(typ, " without time zone", "", 1),
			Declared: domain,
			NotNull:  notNull,
			Key:      key,
			Unique:   unique,
			Indexed:  indexed,
			Comment:  about,

			Collation: collation,
		}
		c.Type = named(c.Type, kind)
		t := &tables[len(tables)-1]
		t.Columns = append(t.Columns, c)
		return nil
	})
	if err != nil {
		return nil, told(err)
	}
	return tables, s.foreignKeys(ctx, tables)
}

// named is a type's name in the form that the core reads: one of the database's own making has
// its kind before it.
func named(name, kind string) string {
	if sqltype.Parse(name) == nil {
		return kinds[kind] + " " + name
	}
	return name
}

// Routines implements [source.Source]. Procedures and triggers' functions cannot be called in a
// query.
func (s *Source) Routines(ctx context.Context) ([]source.Routine, error) {
	ctx = source.WithBytes(ctx, mostScanned)
	rows, err := s.readers.Query(ctx, routinesText)
	if err != nil {
		return nil, told(err)
	}
	var out []source.Routine
	var sig sqltype.Signature
	var result, resultKind, variadic, variadicKind, comment string
	var args, argKinds, outNames, outTypes, outKinds []string
	_, err = pgx.ForEachRow(
		rows,
		[]any{&sig.Schema, &sig.Name, &sig.Kind, &args, &argKinds, &sig.Names, &result, &resultKind, &sig.Set, &variadic, &variadicKind,
			&sig.Defaults, &sig.Ordered, &sig.Direct, &outNames, &outTypes, &outKinds, &sig.Volatility, &sig.Definer, &sig.Operators, &sig.Extension, &comment},
		func() error {
			one := sig
			one.Names, one.Operators = slices.Clone(sig.Names), slices.Clone(sig.Operators)
			for i, a := range args {
				one.Args = append(one.Args, named(a, argKinds[i]))
			}
			for i, name := range outNames {
				one.Out = append(one.Out, sqltype.SignatureField{Name: name, Type: named(outTypes[i], outKinds[i])})
			}
			if one.Result = named(result, resultKind); variadic != "" {
				one.Variadic = named(variadic, variadicKind)
			}
			r := source.Routine{
				Schema:    one.Schema,
				Name:      one.Name + "(" + strings.Join(one.Args, ",") + ")",
				Result:    one.Result,
				Comment:   comment,
				Signature: one.String(),
			}
			out = append(out, r)
			return nil
		},
	)
	return out, told(err)
}

// Reads implements [source.Source].
func (s *Source) Reads(ctx context.Context, schema, view string) (source.ViewReads, error) {
	var r source.ViewReads
	err := s.readers.QueryRow(ctx, `
		SELECT pg_get_userbyid(c.relowner)::text, coalesce(c.reloptions @> '{security_invoker=true}' OR c.reloptions @> '{security_invoker=on}', false),
		  array(SELECT DISTINCT tn.nspname || '.' || t.relname FROM pg_rewrite w
		    JOIN pg_depend d ON d.classid = 'pg_rewrite'::regclass AND d.objid = w.oid AND d.refclassid = 'pg_class'::regclass
		    JOIN pg_class t ON t.oid = d.refobjid AND t.oid <> c.oid JOIN pg_namespace tn ON tn.oid = t.relnamespace
		    WHERE w.ev_class = c.oid ORDER BY 1)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind = 'v'`, schema, view).Scan(&r.Owner, &r.Reader, &r.Tables)
	if errors.Is(err, pgx.ErrNoRows) {
		return r, &source.Unfit{Text: "there is no such view"}
	}
	return r, told(err)
}

// foreignKeys adds the keys that lead from the tables to others of them.
func (s *Source) foreignKeys(ctx context.Context, tables []source.Table) error {
	rows, err := s.readers.Query(ctx, keysText)
	if err != nil {
		return told(err)
	}
	places := map[[2]string]int{}
	for i, t := range tables {
		places[[2]string{t.Schema, t.Name}] = i
	}
	var schema, table string
	var key source.ForeignKey
	_, err = pgx.ForEachRow(rows, []any{&schema, &table, &key.Schema, &key.Table, &key.Columns, &key.To}, func() error {
		child, ok := places[[2]string{schema, table}]
		parent, both := places[[2]string{key.Schema, key.Table}]
		if ok && both && covers(tables[child], key.Columns) && covers(tables[parent], key.To) {
			k := key
			k.Columns, k.To = slices.Clone(key.Columns), slices.Clone(key.To)
			tables[child].Keys = append(tables[child].Keys, k)
		}
		return nil
	})
	return told(err)
}

// covers reports whether a table has all the columns.
func covers(t source.Table, names []string) bool {
	for _, name := range names {
		if !slices.ContainsFunc(t.Columns, func(c source.Column) bool { return c.Name == name }) {
			return false
		}
	}
	return true
}
