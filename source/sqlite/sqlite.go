// Package sqlite is the source for a folder of SQLite files, one file a schema:
// DIR/drilling.db holds the tables of the schema drilling.
package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jmoiron/sqlx"
	"github.com/mattn/go-sqlite3"

	"gneiss/core/query"
	"gneiss/source"
)

// extension is that of the files of schemas.
const extension = ".db"

// connections bounds the queries that run at once.
const connections = 8

// mostValue bounds one value, in bytes: a text that doubles would else take all memory.
const mostValue = 16 << 20

// Source is a folder of SQLite files.
type Source struct {
	dir     string
	may     func(path string) error // refuses files that are not for sources
	mu      sync.Mutex              // guards the change from one set of files to another
	changed time.Time               // when the folder had last changed at the last look
	schemas []string                // those the open connections have attached
	broken  map[string]error        // files that cannot be read, by schema
	probed  time.Time
	db      *sqlx.DB
	writer  *sqlx.DB // one connection that may write
	// prepared are statements of db, by their text: to prepare one costs more than
	// to run it for one row.
	prepared *lru.Cache[string, *sql.Stmt]
}

// mostPrepared bounds the statements that are kept.
const mostPrepared = 512

// Open opens a folder; may, where it is not nil, refuses files that must not be read.
// The files are opened read-only, and again when a scan
// finds that files have come or gone.
func Open(dir string, may func(path string) error) (*Source, error) {
	dir, err := filepath.Abs(dir) // a URI's path is absolute
	if err != nil {
		return nil, err
	}
	s := &Source{dir: dir, may: may}
	if _, err := s.connect(); err != nil {
		return nil, err
	}
	return s, nil
}

// files lists the schemas that have a file now.
func (s *Source) files() ([]string, error) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("%w: the folder %s is not there", source.ErrUnavailable, s.dir)
		}
		return nil, fmt.Errorf("%w: %v", source.ErrUnavailable, err)
	}
	var names []string
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), extension); ok && !e.IsDir() {
			if s.may != nil {
				if err := s.may(filepath.Join(s.dir, e.Name())); err != nil {
					return nil, err
				}
			}
			names = append(names, name)
		}
	}
	return names, nil
}

// connect returns a handle whose connections have all present files attached.
func (s *Source) connect() (*sqlx.DB, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.connected()
}

// statement returns a prepared statement, which stays the source's.
func (s *Source) statement(ctx context.Context, text string) (*sql.Stmt, error) {
	s.mu.Lock()
	db, err := s.connected()
	prepared := s.prepared
	s.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if kept, ok := prepared.Get(text); ok {
		return kept, nil
	}
	// Preparing can wait for a connection or a file, so nobody waits for it.
	stmt, err := db.PrepareContext(ctx, text)
	if err != nil {
		return nil, err
	}
	if kept, ok, _ := prepared.PeekOrAdd(text, stmt); ok { // another has just prepared it
		stmt.Close()
		return kept, nil
	}
	return stmt, nil
}

// errName says that SQLite cannot tell a file from others by its name.
var errName = errors.New("SQLite does not tell upper case from lower case in its name, and calls schemas of its own main and temp; rename the file")

// connected is connect for who holds the lock.
func (s *Source) connected() (*sqlx.DB, error) {
	info, err := os.Stat(s.dir)
	if err == nil && s.db != nil && info.ModTime().Equal(s.changed) && (len(s.broken) == 0 || time.Since(s.probed) < probeEvery) {
		return s.db, nil
	}
	names, err := s.files()
	if err != nil {
		return nil, err
	}
	s.changed, s.probed = info.ModTime(), time.Now()
	s.broken = map[string]error{}
	schemas := map[string]int{"main": 1, "temp": 1} // how many SQLite would take for one: two it has itself
	for _, name := range names {
		schemas[strings.ToLower(name)]++
	}
	names = slices.DeleteFunc(names, func(name string) bool {
		err := errName
		if schemas[strings.ToLower(name)] == 1 {
			err = s.probe(name)
		}
		if err != nil {
			s.broken[name] = err
		}
		return err != nil
	})
	if s.db != nil && slices.Equal(names, s.schemas) {
		return s.db, nil
	}
	if s.db != nil {
		s.db.Close()
		s.writer.Close()
	}
	if s.prepared, err = lru.NewWithEvict(mostPrepared, func(_ string, stmt *sql.Stmt) { stmt.Close() }); err != nil {
		return nil, err
	}
	s.schemas = names
	s.db = sqlx.NewDb(sql.OpenDB(&connector{dir: s.dir, schemas: names, mode: "ro"}), "sqlite3")
	s.db.SetMaxOpenConns(connections)
	s.db.SetMaxIdleConns(connections)
	s.writer = sqlx.NewDb(sql.OpenDB(&connector{dir: s.dir, schemas: names, mode: "rw"}), "sqlite3")
	s.writer.SetMaxOpenConns(1)
	return s.db, nil
}

// Close ends all connections.
func (s *Source) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return errors.Join(s.db.Close(), s.writer.Close())
}

// A connector opens connections with all schemas attached and Gneiss's
// functions registered.
type connector struct {
	dir     string
	schemas []string
	mode    string // ro or rw
}

func (c *connector) Driver() driver.Driver { return &sqlite3.SQLiteDriver{} }

func (c *connector) Connect(context.Context) (driver.Conn, error) {
	d := &sqlite3.SQLiteDriver{ConnectHook: func(conn *sqlite3.SQLiteConn) error {
		if err := register(conn); err != nil {
			return err
		}
		for _, name := range c.schemas {
			path := (&url.URL{Scheme: "file", Path: filepath.Join(c.dir, name+extension), RawQuery: "mode=" + c.mode}).String()
			if _, err := conn.Exec("ATTACH ? AS "+quote(name), []driver.Value{path}); err != nil {
				return fmt.Errorf("%w: schema %s: %v", source.ErrUnavailable, name, err)
			}
		}
		conn.SetLimit(sqlite3.SQLITE_LIMIT_LENGTH, mostValue)
		conn.SetLimit(sqlite3.SQLITE_LIMIT_LIKE_PATTERN_LENGTH, query.MostPattern)
		conn.SetLimit(sqlite3.SQLITE_LIMIT_ATTACHED, len(c.schemas)) // and no file more
		only := map[string]string{"ro": "ON", "rw": "OFF"}[c.mode]
		_, err := conn.Exec(
			"PRAGMA query_only = "+only+"; PRAGMA case_sensitive_like = ON; PRAGMA foreign_keys = ON; PRAGMA trusted_schema = OFF",
			nil,
		)
		return err
	}}
	// database/sql gives a connection to one goroutine at a time, so SQLite need not guard it.
	conn, err := d.Open("file::memory:?_busy_timeout=2000&_mutex=no")
	if err != nil {
		return nil, err
	}
	return untyped{conn.(*sqlite3.SQLiteConn)}, nil
}

// unavailable marks the errors of a database that is busy, locked or broken.
func unavailable(err error) error {
	var e sqlite3.Error
	if errors.As(err, &e) {
		switch e.Code {
		case sqlite3.ErrBusy, sqlite3.ErrLocked, sqlite3.ErrCantOpen, sqlite3.ErrNotADB, sqlite3.ErrCorrupt, sqlite3.ErrIoErr:
			return fmt.Errorf("%w: %v", source.ErrUnavailable, e)
		}
	}
	return err
}

// Routines implements [source.Source]: a file has none.
func (s *Source) Routines(context.Context) ([]source.Routine, error) { return nil, nil }

// Reads implements [source.Source]: views of a file are not taken in.
func (s *Source) Reads(context.Context, string, string) (source.ViewReads, error) {
	return source.ViewReads{}, &source.Unfit{Text: "views of a SQLite file are not taken in; make a view in Gneiss"}
}

// Run implements [source.Source].
func (s *Source) Run(ctx context.Context, text string, args []any, columns []query.Column, f func([]any) error) error {
	given := false
	once := func() error {
		return s.run(ctx, text, args, columns, func(row []any) error { given = true; return f(row) })
	}
	err := once()
	if err != nil && !given && s.recovered(err) {
		err = once()
	}
	return s.explained(unavailable(err))
}

func (s *Source) run(ctx context.Context, text string, args []any, columns []query.Column, f func([]any) error) error {
	if len(text) > source.MostPrepared {
		db, err := s.connect()
		if err != nil {
			return err
		}
		rows, err := db.QueryContext(ctx, text, args...)
		if err != nil {
			return err
		}
		return each(rows, columns, f)
	}
	stmt, err := s.statement(ctx, text)
	if err != nil {
		return err
	}
	rows, err := stmt.QueryContext(ctx, args...)
	if err != nil && strings.HasPrefix(err.Error(), "sql: ") &&
		strings.HasSuffix(err.Error(), " is closed") { // others, or other files, took its place meanwhile
		var db *sqlx.DB
		if db, err = s.connect(); err == nil {
			rows, err = db.QueryContext(ctx, text, args...)
		}
	}
	if err != nil {
		return err
	}
	return each(rows, columns, f)
}

// each hands the rows of a result to f, and closes it.
func each(rows *sql.Rows, columns []query.Column, f func([]any) error) error {
	defer rows.Close()
	row, into := make([]any, len(columns)), make([]any, len(columns))
	for i := range row {
		into[i] = &row[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if err := values(row, columns); err != nil {
			return err
		}
		if err := f(row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Write implements [source.Source].
func (s *Source) Write(ctx context.Context, in source.Request, f func([][]byte) error, before func(int64) error) error {
	if _, err := s.connect(); err != nil {
		return err
	}
	tx, err := s.writer.BeginTx(ctx, nil)
	if err != nil {
		return unavailable(err)
	}
	defer tx.Rollback()
	changed, err := writing(ctx, tx, in, f)
	if err != nil {
		return refusedByTable(err)
	}
	if err := before(changed); err != nil {
		return err
	}
	return refusedByTable(tx.Commit())
}

// writing runs a statement that changes rows within a transaction.
func writing(ctx context.Context, tx *sql.Tx, in source.Request, f func([][]byte) error) (changed int64, err error) {
	if len(in.Columns) == 0 {
		_, err = tx.ExecContext(ctx, in.SQL, in.Args...)
	} else {
		var rows *sql.Rows
		if rows, err = tx.QueryContext(ctx, in.SQL, in.Args...); err == nil {
			err = each(rows, in.Columns, texts(in.Columns, f))
		}
	}
	if err == nil {
		err = tx.QueryRowContext(ctx, "SELECT changes()").Scan(&changed)
	}
	return changed, err
}

// refusedByTable tells the refusals of constraints from other errors. The
// database's own words name values and are left out.
func refusedByTable(err error) error {
	var e sqlite3.Error
	if !errors.As(err, &e) || e.Code != sqlite3.ErrConstraint {
		return unavailable(err)
	}
	kinds := map[sqlite3.ErrNoExtended]string{
		sqlite3.ErrConstraintNotNull:    "NOT NULL",
		sqlite3.ErrConstraintUnique:     "UNIQUE",
		sqlite3.ErrConstraintPrimaryKey: "PRIMARY KEY",
		sqlite3.ErrConstraintRowID:      "PRIMARY KEY",
		sqlite3.ErrConstraintForeignKey: "FOREIGN KEY",
		sqlite3.ErrConstraintCheck:      "CHECK",
	}
	return &source.Constraint{Kind: kinds[e.ExtendedCode]}
}

// Ping implements [source.Source].
func (s *Source) Ping(ctx context.Context) error {
	db, err := s.connect()
	if err != nil {
		return err
	}
	var one int
	return unavailable(db.GetContext(ctx, &one, "SELECT 1"))
}

// Explain implements [source.Source].
func (s *Source) Explain(ctx context.Context, text string, args []any) ([]string, error) {
	db, err := s.connect()
	if err != nil {
		return nil, err
	}
	var steps []struct {
		ID, Parent, NotUsed int
		Detail              string
	}
	if err := db.SelectContext(ctx, &steps, "EXPLAIN QUERY PLAN "+text, args...); err != nil {
		return nil, unavailable(err)
	}
	depth := map[int]int{}
	var lines []string
	for _, step := range steps {
		depth[step.ID] = depth[step.Parent] + 1
		lines = append(lines, strings.Repeat("  ", depth[step.ID]-1)+step.Detail)
	}
	return lines, nil
}

var _ source.Source = (*Source)(nil)
