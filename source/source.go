// Package source is how Gneiss reaches the databases whose tables it governs.
package source

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"math"
	"strconv"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// ErrUnavailable is the cause of errors that say that a database cannot be
// reached now: a missing or locked file, a server that is down. Trying again
// later may help.
var ErrUnavailable = errors.New("the source is not available")

// A Table is what a scan finds: a table with its columns, in their order.
type Table struct {
	Schema  string
	Name    string
	Columns []Column
	Keys    []ForeignKey
	Kind    string // empty: a table; else view, materialized view, foreign table or partitioned table
	Comment string
}

// ViewReads is what a view of the database reads, and with whose rights.
type ViewReads struct {
	Tables []string // schema.table
	Owner  string
	// Reader says that it reads with the rights of the account that Gneiss connects with, and
	// not with its owner's.
	Reader bool
}

// A Routine is what a scan finds that queries can call.
type Routine struct {
	Schema    string
	Name      string // with the types of its operands: gross(numeric,numeric)
	Result    string
	Signature string // in the form of package sqltype
	Comment   string
}

// A ForeignKey says that columns of a table name a row of another.
type ForeignKey struct {
	Columns       []string
	Schema, Table string
	To            []string // columns of the other, in pairs
}

// A Column is a column that a scan finds. Type is a name that package query
// knows, or the database's own name for a type that it does not.
type Column struct {
	Name    string
	Type    string
	NotNull bool
	Key     bool // it is part of the primary key
	Unique  bool // it is part of another unique key, or of an exclusion
	Indexed bool // an index over all rows begins with it
	// Declared is the database's own name of the type, where Type is another that
	// holds its values.
	Declared string
	Comment  string
	// Collation is "default" for the database's own, else a name with its schema, and ~ before
	// it where equal texts can have other bytes; empty: the column has none.
	Collation string
}

// Object is the change by which the model takes a column in, under its table's path.
func (c Column) Object(table string) access.AddObject {
	return access.AddObject{Path: table + "." + access.Quote(c.Name), Kind: "column", Type: c.Type, NotNull: c.NotNull, Key: c.Key, Unique: c.Unique,
		Indexed: c.Indexed, Declared: c.Declared, Comment: c.Comment, Collation: c.Collation}
}

// A Source is one connected database. Its methods may be called concurrently,
// until Close, which its opener calls once.
type Source interface {
	// Scan lists the tables, and the views of the database. Policies on the tables that a
	// view reads do not reach it, so it is for its administrator to take in: see Reads.
	Scan(ctx context.Context) ([]Table, error)
	// Routines lists what the database's own makers have added that queries can call.
	Routines(ctx context.Context) ([]Routine, error)
	// Reads says what a view of the database reads.
	Reads(ctx context.Context, schema, view string) (ViewReads, error)
	// Run runs an emitted query on a read-only connection. It hands each row to
	// f, whose slice is reused: nil, bool, int64, float64 or string by column.
	// An error of f ends the query and is returned.
	Run(ctx context.Context, sql string, args []any, columns []query.Column, f func(row []any) error) error
	// Stream is Run for rows as the database writes them: see [Request].
	Stream(ctx context.Context, in Request, f func(row [][]byte) error) error
	// Connections are how many statements run at once at the most, of those that read and of those
	// that write.
	Connections() (readers, writers int)
	// Begin begins a transaction. Of one that is read-only, or that sees one snapshot, all
	// statements run as it began.
	Begin(ctx context.Context, in Isolation) (Tx, error)
	// Write runs an emitted statement that changes rows, in a transaction. It
	// hands what the statement gives back to f, as Stream does, then calls before
	// with the number of rows changed. Where f or before return an error nothing
	// is changed, and the error is returned. A refusal by the table's own
	// constraints is an error of type [*Constraint].
	Write(ctx context.Context, in Request, f func(row [][]byte) error, before func(changed int64) error) error
	// Check says what the account that Gneiss connects with may and may not, what is
	// missing, and how fast the database answers.
	Check(ctx context.Context) ([]Note, error)
	// Ping reports whether the database can be read now; it costs little.
	Ping(ctx context.Context) error
	// Explain returns the database's own plan for an emitted query, in lines.
	Explain(ctx context.Context, sql string, args []any) ([]string, error)
	Close() error
}

// A Request is an emitted statement whose rows are taken as they come.
type Request struct {
	SQL     string
	Args    []any
	Columns []query.Column
	// Binary says of each column whether its values are wanted in the database's own binary
	// form, which only some have; nil: all are texts as PostgreSQL writes them.
	Binary []int16
	// Point says that it gives one row at the most, by a key, so that the database need not plan it
	// again for each value.
	Point bool
}

// Isolation says how a transaction is kept apart from others, as ISO/IEC 9075-2, 17.3 has it.
type Isolation struct {
	ReadOnly     bool
	Snapshot     bool // REPEATABLE READ
	Serializable bool
}

// A Tx is a transaction of a database. Its methods are called one at a time, and after
// Commit or Rollback none of them.
type Tx interface {
	Stream(ctx context.Context, in Request, f func(row [][]byte) error) error
	// Write is [Source.Write] within the transaction: where it fails, what it did is undone.
	Write(ctx context.Context, in Request, f func(row [][]byte) error) (changed int64, err error)
	// Open runs a statement whose rows are fetched in parts.
	Open(ctx context.Context, in Request) (Cursor, error)
	Savepoint(ctx context.Context, name string) error
	Release(ctx context.Context, name string) error
	RollbackTo(ctx context.Context, name string) error
	Commit(ctx context.Context) error
	Rollback(ctx context.Context) error
}

// A Cursor is a statement of a transaction whose rows are fetched in parts.
type Cursor interface {
	// Fetch hands the next rows to f, as many as there are up to most.
	Fetch(ctx context.Context, most int, f func(row [][]byte) error) (n int, err error)
	Close(ctx context.Context) error
}

// A Note is something that a check found.
type Note struct {
	Worry Worry
	Says  string
}

// A Worry is how much a note is to worry about.
type Worry uint8

const (
	Fine Worry = iota
	Odd        // worth a look
	Bad        // to be changed
)

func (w Worry) String() string { return [...]string{"fine", "odd", "bad"}[w] }

// MostPrepared bounds the text of a statement that is kept prepared, in bytes: many
// long ones would fill the memory.
const MostPrepared = 16 << 10

// ErrTooLarge ends a statement whose answer is larger than it may be.
var ErrTooLarge = errors.New("the answer is larger than the lane lets through")

// Settings are what a caller's session says of how values are read and written. The zero value is
// UTC, and what PostgreSQL has at first.
type Settings struct {
	TimeZone      string
	DateOrder     string // of dates that are read: MDY, DMY or YMD
	IntervalStyle string
	FloatDigits   string // extra_float_digits
	ByteaOutput   string
}

type settingsKey struct{}

// WithSettings says how values of statements under the context are read and written.
func WithSettings(ctx context.Context, s Settings) context.Context {
	return context.WithValue(ctx, settingsKey{}, s)
}

// SettingsOf are those of WithSettings.
func SettingsOf(ctx context.Context) Settings {
	s, _ := ctx.Value(settingsKey{}).(Settings)
	return s
}

type bytesKey struct{}

// WithBytes bounds what a database may send for one statement under the context, in
// bytes, so that not even one value is more than the service holds.
func WithBytes(ctx context.Context, most int64) context.Context {
	return context.WithValue(ctx, bytesKey{}, most)
}

// Bytes is the bound of WithBytes; 256 MiB where there is none.
func Bytes(ctx context.Context) int64 {
	if most, ok := ctx.Value(bytesKey{}).(int64); ok {
		return most
	}
	return 256 << 20
}

// Constraint is the error of a statement that the table's own constraints
// refuse. It names the kind of constraint and no value.
type Constraint struct{ Kind string } // NOT NULL, UNIQUE, PRIMARY KEY, FOREIGN KEY, CHECK, or ""

func (e *Constraint) Error() string {
	if e.Kind == "" {
		return "a constraint of the table does not let this through; nothing was changed"
	}
	return "a " + e.Kind + " constraint of the table does not let this through; nothing was changed"
}

// Unfit is the error of a statement that the database cannot run as it is, or not
// on what the rows hold. Text names no value; Words are the database's own and may.
type Unfit struct {
	Text     string
	SQLState string // of ISO/IEC 9075; empty where the database gives none
	Words    string
}

func (e *Unfit) Error() string { return e.Text }

// Value reads a value from the text that PostgreSQL writes for it. What is neither a truth value
// nor a number of the machine's stays that text, which loses nothing.
func Value(text []byte, t query.Type) any {
	if text == nil {
		return nil
	}
	s := string(text)
	switch t {
	case sqltype.Boolean:
		return s == "t"
	case sqltype.Int2, sqltype.Int4, sqltype.Int8:
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return n
		}
	case sqltype.Float4, sqltype.Float8:
		if x, err := strconv.ParseFloat(s, 64); err == nil && !math.IsInf(x, 0) && !math.IsNaN(x) {
			return x
		}
	}
	return s
}

// Values takes rows as [Value] reads them, for f, whose slice is reused.
func Values(columns []query.Column, f func(row []any) error) func([][]byte) error {
	values := make([]any, len(columns))
	return func(row [][]byte) error {
		for i, text := range row {
			values[i] = Value(text, columns[i].Type)
		}
		return f(values[:len(row)])
	}
}

// Facts are what the arguments of a plan take from the moment it runs.
type Facts struct {
	Start time.Time // of the query
	Key   string    // of pseudonyms and stable noise
	Nonce string    // what this query's noise comes from, which is made for it alone; empty: Bind makes it
}

// Bind gives a plan's arguments their values.
func Bind(args []emit.Arg, f Facts) []any {
	out := make([]any, len(args))
	for i, a := range args {
		if a.Nonce && f.Nonce == "" {
			f.Nonce = rand.Text()
		}
		switch {
		case a.Key && a.Pad != 0:
			out[i] = padded(f.Key, a.Pad)
		case a.Nonce && a.Pad != 0:
			out[i] = padded(f.Nonce, a.Pad)
		case a.Key:
			out[i] = f.Key
		case a.Nonce:
			out[i] = f.Nonce
		case a.Now == query.Date:
			out[i] = f.Start.UTC().Format(time.DateOnly)
		case a.Now == query.Timestamp:
			out[i] = f.Start.UTC().Truncate(time.Microsecond).Format(query.TimestampForm)
		case a.Now != nil:
			out[i] = f.Start.UTC().Format("2006-01-02 15:04:05.999999-07")
		default:
			out[i] = a.Value
		}
	}
	return out
}

// padded is a key as a block of HMAC-SHA-256, each byte joined with pad (RFC 2104).
func padded(key string, pad byte) []byte {
	block := make([]byte, sha256.BlockSize)
	if len(key) > len(block) {
		sum := sha256.Sum256([]byte(key))
		copy(block, sum[:])
	} else {
		copy(block, key)
	}
	for i := range block {
		block[i] ^= pad
	}
	return block
}
