package sqlite

import (
	"context"
	"database/sql/driver"

	"github.com/mattn/go-sqlite3"
)

// An untyped connection gives values as they are in the file. The driver itself reads those of columns that are declared as
// dates or truth values in ways of its own: it takes an empty text for the first day of year 1, and the number of a day for
// a count of seconds.
type untyped struct{ *sqlite3.SQLiteConn }

// untypedStmt is a statement of an untyped connection.
type untypedStmt struct{ *sqlite3.SQLiteStmt }

// PrepareContext implements [driver.ConnPrepareContext].
func (c untyped) PrepareContext(ctx context.Context, text string) (driver.Stmt, error) {
	s, err := c.SQLiteConn.PrepareContext(ctx, text)
	if err != nil {
		return nil, err
	}
	return untypedStmt{s.(*sqlite3.SQLiteStmt)}, nil
}

// QueryContext implements [driver.QueryerContext].
func (c untyped) QueryContext(ctx context.Context, text string, args []driver.NamedValue) (driver.Rows, error) {
	rows, err := c.SQLiteConn.QueryContext(ctx, text, args)
	return withoutTypes(rows), err
}

// QueryContext implements [driver.StmtQueryContext].
func (s untypedStmt) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	rows, err := s.SQLiteStmt.QueryContext(ctx, args)
	return withoutTypes(rows), err
}

// withoutTypes makes rows forget the declared types of their columns, by which the driver would read their values.
func withoutTypes(rows driver.Rows) driver.Rows {
	if r, ok := rows.(*sqlite3.SQLiteRows); ok && r != nil {
		clear(r.DeclTypes())
	}
	return rows
}
