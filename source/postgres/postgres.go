// Package postgres is the source for a database of a PostgreSQL server, version
// 14 or later. Its schemas are the source's schemas.
//
// Gneiss connects with one account of the server's. What that account may not
// read, the source does not have. Nothing is made in the database: the functions
// that governed queries call live in each connection's temporary schema.
package postgres

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/source"
)

//go:embed functions.sql
var functions string

// connections bounds the statements that run at once, of each kind.
const connections = 8

// Source is one database.
type Source struct {
	readers *pgxpool.Pool // whose transactions are read-only
	writers *pgxpool.Pool
}

// Check reports whether a text can be the URL of a database: postgresql://account@host:port/database.
// A password in it is refused, since the URL is kept and shown; the server's
// administrator puts it into a password file, which the parameter passfile names.
func Check(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "postgresql" && u.Scheme != "postgres" || u.User.Username() == "" || strings.Trim(u.Path, "/") == "" {
		return errors.New("a PostgreSQL source is given as postgresql://ACCOUNT@HOST:PORT/DATABASE")
	}
	if _, has := u.User.Password(); has || u.Query().Has("password") || u.Query().Has("sslpassword") {
		return errors.New(
			"the URL is kept and shown, so it must not hold the password: put a line HOST:PORT:DATABASE:ACCOUNT:PASSWORD into a file that only the service can read, and add ?passfile=FILE to the URL",
		)
	}
	if _, err := pgxpool.ParseConfig(text); err != nil {
		return fmt.Errorf("the URL cannot be read: %w", err)
	}
	return nil
}

// Open prepares the connections to a database; they are made when they are needed.
func Open(text string) (*Source, error) {
	if err := Check(text); err != nil {
		return nil, err
	}
	readers, err := pool(text, "on")
	if err != nil {
		return nil, err
	}
	writers, err := pool(text, "off")
	if err != nil {
		readers.Close()
		return nil, err
	}
	return &Source{readers: readers, writers: writers}, nil
}

func pool(text, readOnly string) (*pgxpool.Pool, error) {
	c, err := pgxpool.ParseConfig(text)
	if err != nil {
		return nil, err
	}
	c.MaxConns, c.MaxConnIdleTime, c.MaxConnLifetime = connections, time.Hour, 24*time.Hour
	if c.ConnConfig.ConnectTimeout == 0 {
		c.ConnConfig.ConnectTimeout = 10 * time.Second
	}
	// Names without a schema are PostgreSQL's own, whatever the database holds. A
	// plan is made for the values it is run with, since policies are among them.
	for name, value := range map[string]string{"search_path": "pg_catalog", "timezone": "UTC", "datestyle": "ISO", "application_name": "gneiss",
		"plan_cache_mode": "force_custom_plan", "client_connection_check_interval": "2s", "standard_conforming_strings": "on"} {
		c.ConnConfig.RuntimeParams[name] = value
	}
	c.ConnConfig.DialFunc = metered(c.ConnConfig.DialFunc)
	c.ConnConfig.BuildContextWatcherHandler = func(conn *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: conn, DeadlineDelay: 2 * time.Second}
	}
	c.AfterConnect = func(ctx context.Context, conn *pgx.Conn) error {
		return conn.PgConn().Exec(ctx, functions+"; SET default_transaction_read_only = "+readOnly).Close()
	}
	return pgxpool.NewWithConfig(context.Background(), c)
}

// Close ends all connections.
func (s *Source) Close() error {
	s.readers.Close()
	s.writers.Close()
	return nil
}

// Run implements [source.Source].
func (s *Source) Run(ctx context.Context, text string, args []any, columns []query.Column, f func([]any) error) error {
	given := false
	once := func() error {
		conn, err := acquire(ctx, s.readers)
		if err != nil {
			return err
		}
		defer conn.Release()
		rows, err := conn.Query(ctx, text, prepared(text, args)...)
		if err != nil {
			return err
		}
		return each(rows, func(row []any) error { given = true; return f(row) })
	}
	err := once()
	if (stale(err) || pgconn.SafeToRetry(err)) && !given {
		err = once()
	}
	return told(err)
}

// prepared says with a statement's arguments that values come as texts, in the database's own
// form, and that a long text is not kept prepared.
func prepared(text string, args []any) []any {
	head := []any{pgx.QueryResultFormats{pgx.TextFormatCode}}
	if len(text) > source.MostPrepared {
		head = append(head, pgx.QueryExecModeDescribeExec)
	}
	return append(head, args...)
}

// stale reports whether a statement was prepared for a table that is another now.
// By then it is forgotten, and prepared again the next time.
func stale(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "0A000" && strings.HasPrefix(e.Message, "cached plan")
}

// each hands the rows of a result to f, and closes it.
func each(rows pgx.Rows, f func([]any) error) error {
	defer rows.Close()
	fields := rows.FieldDescriptions()
	row := make([]any, len(fields))
	for rows.Next() {
		for i, raw := range rows.RawValues() {
			row[i] = value(raw, fields[i].DataTypeOID)
		}
		if err := f(row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Write implements [source.Source].
func (s *Source) Write(ctx context.Context, text string, args []any, columns []query.Column, f func([]any) error, before func(int64) error) error {
	given := false
	once := func() error {
		conn, err := acquire(ctx, s.writers)
		if err != nil {
			return err
		}
		defer conn.Release()
		tx, err := conn.Begin(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback(context.WithoutCancel(ctx))
		rows, err := tx.Query(ctx, text, prepared(text, args)...)
		if err != nil {
			return err
		}
		if err := each(rows, func(row []any) error { given = true; return f(row) }); err != nil {
			return err
		}
		given = true
		if err := before(rows.CommandTag().RowsAffected()); err != nil {
			return err
		}
		return tx.Commit(ctx)
	}
	err := once()
	if (stale(err) || pgconn.SafeToRetry(err)) && !given {
		err = once()
	}
	return told(err)
}

// Ping implements [source.Source].
func (s *Source) Ping(ctx context.Context) error { return told(s.readers.Ping(ctx)) }

// Explain implements [source.Source].
func (s *Source) Explain(ctx context.Context, text string, args []any) ([]string, error) {
	conn, err := acquire(ctx, s.readers)
	if err != nil {
		return nil, told(err)
	}
	defer conn.Release()
	rows, err := conn.Query(ctx, "EXPLAIN "+text, args...)
	if err != nil {
		return nil, told(err)
	}
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return lines, told(err)
}

// constraints are the kinds of constraints by their SQLSTATE (ISO/IEC 9075-2,
// class 23).
var constraints = map[string]string{"23502": "NOT NULL", "23505": "UNIQUE", "23503": "FOREIGN KEY", "23514": "CHECK"}

// valueErrors are errors of class 22 in words that name no value.
var valueErrors = map[string]string{
	"22012": "division by zero", "22003": "a number is out of the range of its type", "22008": "a date or time is out of range",
	"22P02": "a text is no value of the type that it is read as", "22007": "a text is no date or time", "22001": "a text is too long for its column",
}

// refusals are what the database itself finds wrong with how a statement is made.
var refusals = map[string]bool{"42601": true, "42803": true, "42804": true, "42883": true, "42725": true, "42P10": true, "42P13": true, "42P18": true,
	"42P19": true, "42P20": true, "42P21": true, "42P22": true, "42P08": true, "42809": true, "42846": true, "42611": true, "42704": true}

// told makes an error of the database's into one that can be told: in classes 22
// and 23 its own words can name values, and are left out.
func told(err error) error {
	var e *pgconn.PgError
	if errors.Is(err, source.ErrTooLarge) {
		return source.ErrTooLarge
	}
	if !errors.As(err, &e) {
		if pgconn.SafeToRetry(err) || isNetwork(err) {
			return fmt.Errorf("%w: %s", source.ErrUnavailable, strings.Join(strings.Fields(err.Error()), " "))
		}
		return err
	}
	if e.Code == "57014" {
		return context.DeadlineExceeded // the server's own limit came first
	}
	switch e.Code[:2] {
	case "22":
		text := "a value does not fit its type, or a result is out of range"
		if plain, ok := valueErrors[e.Code]; ok {
			text = plain
		}
		return &source.Unfit{Text: text, SQLState: e.Code, Words: e.Message}
	case "21":
		return &source.Unfit{Text: e.Message, SQLState: e.Code, Words: e.Message}
	case "23", "44":
		return &source.Constraint{Kind: constraints[e.Code]}
	case "0A":
		return &source.Unfit{Text: "the database does not support this: " + e.Message, SQLState: e.Code, Words: e.Message}
	case "08", "28", "53", "57", "3D":
		return fmt.Errorf("%w: %s", source.ErrUnavailable, e.Message)
	}
	if refusals[e.Code] {
		return &source.Unfit{Text: "the database refuses this statement", SQLState: e.Code, Words: e.Message}
	}
	if e.Code == "42501" {
		return fmt.Errorf("%w: the account that Gneiss connects with lacks a right: %s", source.ErrUnavailable, e.Message)
	}
	return fmt.Errorf("%s (SQLSTATE %s)", e.Message, e.Code)
}

// isNetwork reports whether a connection could not be made, or broke.
func isNetwork(err error) bool {
	var connect *pgconn.ConnectError
	var network net.Error
	return errors.As(err, &connect) || errors.As(err, &network) && !errors.Is(err, context.DeadlineExceeded) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, net.ErrClosed)
}

// value reads a value from the database's own text for it. What is neither a truth value nor
// a number of the machine's stays that text, which loses nothing.
func value(raw []byte, oid uint32) any {
	if raw == nil {
		return nil
	}
	text := string(raw)
	switch oid {
	case pgtype.BoolOID:
		return text == "t"
	case pgtype.Int2OID, pgtype.Int4OID, pgtype.Int8OID:
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n
		}
	case pgtype.Float4OID, pgtype.Float8OID:
		if x, err := strconv.ParseFloat(text, 64); err == nil && !math.IsInf(x, 0) && !math.IsNaN(x) {
			return x
		}
	}
	return text
}

// kinds are the words for the kinds of types that are the database's own making.
var kinds = map[string]string{"e": "enum", "c": "composite", "r": "range", "m": "multirange", "b": "base", "d": "base", "p": "base"}

// Scan lists the tables that the account may read. Partitions and tables that
// inherit from another are left out: their rows are rows of that other, and a
// policy on one of the two would leave the other open. So are views.
func (s *Source) Scan(ctx context.Context) ([]source.Table, error) {
	rows, err := s.readers.Query(ctx, `
		WITH RECURSIVE domain (oid, base, modifier) AS (
		  SELECT oid, typbasetype, typtypmod FROM pg_type WHERE typtype = 'd'
		  UNION ALL SELECT d.oid, t.typbasetype, t.typtypmod FROM domain d JOIN pg_type t ON t.oid = d.base WHERE t.typtype = 'd')
		SELECT n.nspname, c.relname, a.attname, format_type(t.oid, CASE WHEN d.oid IS NULL THEN a.atttypmod ELSE d.modifier END),
		  coalesce(element.typtype, t.typtype)::text, CASE WHEN d.oid IS NULL THEN '' ELSE format_type(a.atttypid, NULL) END, a.attnotnull,
		  coalesce(a.attnum = ANY (k.conkey), false),
		  EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = c.oid AND (i.indisunique OR i.indisexclusion) AND NOT i.indisprimary
		    AND (a.attnum = ANY (i.indkey::int2[]) OR 0 = ANY (i.indkey::int2[]))),
		  CASE c.relkind WHEN 'v' THEN 'view' WHEN 'm' THEN 'materialized view' WHEN 'f' THEN 'foreign table' WHEN 'p' THEN 'partitioned table' ELSE '' END,
		  left(coalesce(said.description, ''), 1000), left(coalesce(about.description, ''), 1000)
		FROM pg_class c
		JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
		LEFT JOIN domain d ON d.oid = a.atttypid AND NOT EXISTS (SELECT FROM pg_type more WHERE more.oid = d.base AND more.typtype = 'd')
		JOIN pg_type t ON t.oid = coalesce(d.base, a.atttypid)
		LEFT JOIN pg_type element ON element.oid = t.typelem AND t.typcategory = 'A'
		LEFT JOIN pg_description said ON said.objoid = c.oid AND said.classoid = 'pg_class'::regclass AND said.objsubid = 0
		LEFT JOIN pg_description about ON about.objoid = c.oid AND about.classoid = 'pg_class'::regclass AND about.objsubid = a.attnum
		LEFT JOIN pg_constraint k ON k.conrelid = c.oid AND k.contype = 'p'
		WHERE c.relkind IN ('r', 'p', 'f', 'm', 'v') AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'
		  AND NOT EXISTS (SELECT 1 FROM pg_inherits i WHERE i.inhrelid = c.oid)
		  AND has_schema_privilege(n.oid, 'USAGE') AND has_column_privilege(c.oid, a.attnum, 'SELECT')
		ORDER BY n.nspname COLLATE "C", c.relname COLLATE "C", a.attnum`)
	if err != nil {
		return nil, told(err)
	}
	var tables []source.Table
	var schema, table, name, typ, kind, domain, of, comment, about string
	var notNull, key, unique bool
	_, err = pgx.ForEachRow(rows, []any{&schema, &table, &name, &typ, &kind, &domain, &notNull, &key, &unique, &of, &comment, &about}, func() error {
		if n := len(tables); n == 0 || tables[n-1].Schema != schema || tables[n-1].Name != table {
			tables = append(tables, source.Table{Schema: schema, Name: table, Kind: of, Comment: comment})
		}
		c := source.Column{Name: name, Type: strings.Replace(typ, " without time zone", "", 1), Declared: domain, NotNull: notNull, Key: key, Unique: unique, Comment: about}
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
	rows, err := s.readers.Query(ctx, `
		WITH spelled AS NOT MATERIALIZED (
		  SELECT t.oid, replace(format_type(CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE t.oid END, NULL), ' without time zone', '') AS name,
		    coalesce(element.typtype, t.typtype)::text AS kind
		  FROM pg_type t LEFT JOIN pg_type element ON element.oid = t.typelem AND t.typcategory = 'A')
		SELECT n.nspname, p.proname, p.prokind::text,
		  array(SELECT t.name FROM unnest(p.proargtypes::oid[]) WITH ORDINALITY AS x (oid, i) JOIN spelled t ON t.oid = x.oid ORDER BY x.i),
		  array(SELECT t.kind FROM unnest(p.proargtypes::oid[]) WITH ORDINALITY AS x (oid, i) JOIN spelled t ON t.oid = x.oid ORDER BY x.i),
		  array(SELECT coalesce(p.proargnames[i], '') FROM generate_subscripts(p.proargnames, 1) AS i WHERE p.proargmodes IS NULL OR p.proargmodes[i] IN ('i', 'b', 'v') ORDER BY i),
		  r.name, r.kind, p.proretset, coalesce(v.name, ''), coalesce(v.kind, ''), p.pronargdefaults::integer, coalesce(nullif(a.aggkind, 'n')::text, ''), coalesce(a.aggnumdirectargs, 0)::integer,
		  array(SELECT coalesce(p.proargnames[i], '') FROM generate_subscripts(p.proargmodes, 1) AS i WHERE p.proargmodes[i] IN ('o', 't', 'b') ORDER BY i),
		  array(SELECT t.name FROM generate_subscripts(p.proargmodes, 1) AS i JOIN spelled t ON t.oid = p.proallargtypes[i] WHERE p.proargmodes[i] IN ('o', 't', 'b') ORDER BY i),
		  array(SELECT t.kind FROM generate_subscripts(p.proargmodes, 1) AS i JOIN spelled t ON t.oid = p.proallargtypes[i] WHERE p.proargmodes[i] IN ('o', 't', 'b') ORDER BY i),
		  p.provolatile::text, p.prosecdef, left(coalesce(obj_description(p.oid, 'pg_proc'), ''), 1000)
		FROM pg_proc p
		JOIN pg_namespace n ON n.oid = p.pronamespace
		JOIN spelled r ON r.oid = p.prorettype
		LEFT JOIN spelled v ON v.oid = nullif(p.provariadic, 0)
		LEFT JOIN pg_aggregate a ON a.aggfnoid = p.oid
		WHERE n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema' AND p.prokind IN ('f', 'a', 'w')
		  AND r.name NOT IN ('trigger', 'event_trigger', 'internal', 'language_handler', 'fdw_handler', 'index_am_handler', 'table_am_handler', 'tsm_handler', 'cstring', 'void')
		  AND has_schema_privilege(n.oid, 'USAGE') AND has_function_privilege(p.oid, 'EXECUTE')
		ORDER BY n.nspname COLLATE "C", p.proname COLLATE "C", p.oid`)
	if err != nil {
		return nil, told(err)
	}
	var out []source.Routine
	var sig sqltype.Signature
	var result, resultKind, variadic, variadicKind, comment string
	var args, argKinds, outNames, outTypes, outKinds []string
	_, err = pgx.ForEachRow(rows, []any{&sig.Schema, &sig.Name, &sig.Kind, &args, &argKinds, &sig.Names, &result, &resultKind, &sig.Set, &variadic, &variadicKind,
		&sig.Defaults, &sig.Ordered, &sig.Direct, &outNames, &outTypes, &outKinds, &sig.Volatility, &sig.Definer, &comment}, func() error {
		one := sig
		one.Names = slices.Clone(sig.Names)
		for i, a := range args {
			one.Args = append(one.Args, named(a, argKinds[i]))
		}
		for i, name := range outNames {
			one.Out = append(one.Out, sqltype.SignatureField{Name: name, Type: named(outTypes[i], outKinds[i])})
		}
		if one.Result = named(result, resultKind); variadic != "" {
			one.Variadic = named(variadic, variadicKind)
		}
		r := source.Routine{Schema: one.Schema, Name: one.Name + "(" + strings.Join(one.Args, ",") + ")", Result: one.Result, Comment: comment, Signature: one.String()}
		out = append(out, r)
		return nil
	})
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
	rows, err := s.readers.Query(ctx, `
		SELECT n.nspname, c.relname, pn.nspname, p.relname,
		  array(SELECT a.attname::text FROM unnest(k.conkey) WITH ORDINALITY AS x (num, i) JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = x.num ORDER BY x.i),
		  array(SELECT a.attname::text FROM unnest(k.confkey) WITH ORDINALITY AS x (num, i) JOIN pg_attribute a ON a.attrelid = k.confrelid AND a.attnum = x.num ORDER BY x.i)
		FROM pg_constraint k
		JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_class p ON p.oid = k.confrelid JOIN pg_namespace pn ON pn.oid = p.relnamespace
		WHERE k.contype = 'f'
		ORDER BY k.oid`)
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

var _ source.Source = (*Source)(nil)
