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
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"gneiss/core/query"
	"gneiss/source"
)

//go:embed functions.sql
var functions string

// connections bounds the statements that run at once where nothing else is said, of each kind, and
// ofPoints those that read one row by its key.
const (
	connections = 8
	ofPoints    = 8
)

// Source is one database.
type Source struct {
	readers *pgxpool.Pool // whose transactions are read-only
	writers *pgxpool.Pool
	points  *pgxpool.Pool // readers whose plans serve for all values: of what gives one row by a key
	rounds  *rounds       // of points
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
			"the URL is kept and shown, so it must not hold the password: put a line HOST:PORT:DATABASE:ACCOUNT:PASSWORD into a file " +
				"that only the service can read, and add ?passfile=FILE to the URL",
		)
	}
	if _, err := pgxpool.ParseConfig(text); err != nil {
		return fmt.Errorf("the URL cannot be read: %w", err)
	}
	return nil
}

// Open prepares the connections to a database; they are made when they are needed.
func Open(text string) (*Source, error) { return OpenWith(text, connections) }

// OpenWith is Open for as many statements at once, of those that read and of those that write.
func OpenWith(text string, connections int) (*Source, error) {
	if err := Check(text); err != nil {
		return nil, err
	}
	readers, err := pool(text, "on", freshPlans, connections)
	if err != nil {
		return nil, err
	}
	writers, err := pool(text, "off", freshPlans, connections)
	if err != nil {
		readers.Close()
		return nil, err
	}
	points, err := pool(text, "on", "auto", ofPoints)
	if err != nil {
		readers.Close()
		writers.Close()
		return nil, err
	}
	return &Source{readers: readers, writers: writers, points: points, rounds: newRounds(points)}, nil
}

// freshPlans has the server plan each statement for the values that it is run with, since policies
// are among them.
const freshPlans = "force_custom_plan"

func pool(text, readOnly, plans string, connections int) (*pgxpool.Pool, error) {
	c, err := pgxpool.ParseConfig(text)
	if err != nil {
		return nil, err
	}
	c.MaxConns, c.MaxConnIdleTime, c.MaxConnLifetime = int32(connections), time.Hour, 24*time.Hour
	if c.ConnConfig.ConnectTimeout == 0 {
		c.ConnConfig.ConnectTimeout = 10 * time.Second
	}
	// Names without a schema are PostgreSQL's own, whatever the database holds.
	for name, value := range map[string]string{"search_path": "pg_catalog", "timezone": "UTC", "datestyle": "ISO", "application_name": "gneiss",
		"plan_cache_mode": plans, "client_connection_check_interval": "2s", "standard_conforming_strings": "on"} {
		c.ConnConfig.RuntimeParams[name] = value
	}
	c.ConnConfig.DialFunc, c.PrepareConn = metered(c.ConnConfig.DialFunc), bound
	c.ConnConfig.BuildContextWatcherHandler = func(conn *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: conn, DeadlineDelay: 2 * time.Second}
	}
	c.AfterConnect = func(ctx context.Context, conn *pgx.Conn) error {
		return conn.PgConn().Exec(ctx, functions+"; SET default_transaction_read_only = "+readOnly).Close()
	}
	return pgxpool.NewWithConfig(context.Background(), c)
}

// Connections implements [source.Source].
func (s *Source) Connections() (readers, writers int) {
	return int(s.readers.Config().MaxConns), int(s.writers.Config().MaxConns)
}

// Close ends all connections.
func (s *Source) Close() error {
	s.readers.Close()
	s.writers.Close()
	s.points.Close()
	return nil
}

// Run implements [source.Source].
func (s *Source) Run(ctx context.Context, text string, args []any, columns []query.Column, f func([]any) error) error {
	given := false
	return told(again(ctx, s.readers, &given, func(conn *pgxpool.Conn) error {
		rows, err := conn.Query(ctx, text, prepared(text, args)...)
		if err != nil {
			return err
		}
		return each(rows, func(row []any) error { given = true; return f(row) })
	}))
}

// Stream implements [source.Source].
func (s *Source) Stream(ctx context.Context, in source.Request, f func([][]byte) error) error {
	given, pool := false, s.readers
	if in.Point && len(in.SQL) <= source.MostPrepared {
		if rows, ok := s.rounds.ask(ctx, in); ok {
			return handed(rows, f)
		}
		pool = s.points
	}
	return told(again(ctx, pool, &given, func(conn *pgxpool.Conn) error {
		return stream(ctx, conn.Conn(), in, func(row [][]byte) error { given = true; return f(row) })
	}))
}

// handed hands rows that are there to f.
func handed(rows [][][]byte, f func([][]byte) error) error {
	for _, row := range rows {
		if err := f(row); err != nil {
			return err
		}
	}
	return nil
}

// stream hands the rows of a statement to f as they come. Each may have as many bytes as the
// context lets a whole answer have.
func stream(ctx context.Context, conn *pgx.Conn, in source.Request, f func([][]byte) error) error {
	rows, err := conn.Query(ctx, in.SQL, prepared(in.SQL, in.Args, in.Binary...)...)
	if err != nil {
		return err
	}
	defer rows.Close()
	m := meterOf(conn)
	for rows.Next() {
		if err := f(rows.RawValues()); err != nil {
			return err
		}
		m.allow(ctx)
	}
	return rows.Err()
}

// prepared says with a statement's arguments in which form values come, that of texts where
// nothing is said, and that a long text is not kept prepared.
func prepared(text string, args []any, formats ...int16) []any {
	if len(formats) == 0 {
		formats = []int16{pgx.TextFormatCode}
	}
	head := []any{pgx.QueryResultFormats(formats)}
	if len(text) > source.MostPrepared {
		head = append(head, pgx.QueryExecModeDescribeExec)
	}
	return append(head, args...)
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
func (s *Source) Write(ctx context.Context, in source.Request, f func([][]byte) error, before func(int64) error) error {
	given := false
	return told(again(ctx, s.writers, &given, func(conn *pgxpool.Conn) error {
		tx, err := conn.Begin(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback(context.WithoutCancel(ctx))
		changed, err := writing(ctx, tx, in, func(row [][]byte) error { given = true; return f(row) })
		if err != nil {
			return err // what was changed is taken back, also by a database that ends the connection
		}
		given = true
		if err := before(changed); err != nil {
			return err
		}
		return tx.Commit(ctx)
	}))
}

// writing runs a statement that changes rows within a transaction.
func writing(ctx context.Context, tx pgx.Tx, in source.Request, f func([][]byte) error) (changed int64, err error) {
	rows, err := tx.Query(ctx, in.SQL, prepared(in.SQL, in.Args, in.Binary...)...)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		if err := f(rows.RawValues()); err != nil {
			return 0, err
		}
	}
	rows.Close()
	return rows.CommandTag().RowsAffected(), rows.Err()
}

// Ping implements [source.Source].
func (s *Source) Ping(ctx context.Context) error { return told(s.readers.Ping(ctx)) }

// Explain implements [source.Source].
func (s *Source) Explain(ctx context.Context, text string, args []any) ([]string, error) {
	var lines []string
	given := false
	err := again(ctx, s.readers, &given, func(conn *pgxpool.Conn) error {
		rows, err := conn.Query(ctx, "EXPLAIN "+text, args...)
		if err != nil {
			return err
		}
		lines, err = pgx.CollectRows(rows, pgx.RowTo[string])
		return err
	})
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

// others are errors that come of transactions, by their class; their words name no value.
var others = map[string]string{
	"40": "the transaction could not be finished because of others that ran at the same time; run it again",
	"25": "the transaction does not allow this",
	"55": "what the statement needs is in use by another transaction",
}

// refusals are what the database itself finds wrong with how a statement is made.
var refusals = map[string]bool{"42601": true, "42803": true, "42804": true, "42883": true, "42725": true, "42P10": true, "42P13": true, "42P18": true,
	"42P19": true, "42P20": true, "42P21": true, "42P22": true, "42P08": true, "42809": true, "42846": true, "42611": true, "42704": true}

// told makes an error of the database's into one that can be told: in classes 22,
// 23 and 54 its own words can name values, and are left out.
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
	case "22", "54":
		text := "a value does not fit its type, or a result is out of range"
		if plain, ok := valueErrors[e.Code]; ok {
			text = plain
		}
		return &source.Unfit{Text: text, SQLState: e.Code, Words: e.Message}
	case "21":
		return &source.Unfit{Text: e.Message, SQLState: e.Code, Words: e.Message}
	case "40", "25", "55": // other transactions, or this one's mode: whoever asks may ask again
		return &source.Unfit{Text: others[e.Code[:2]], SQLState: e.Code, Words: e.Message}
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

var _ source.Source = (*Source)(nil)
