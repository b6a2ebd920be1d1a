// Package pgcatalog reads from a PostgreSQL server what package sqltype knows of its
// types, routines, operators and casts. Run go generate in package sqltype with a server of
// the newest version that is supported; a test of this package fails where the two differ.
package pgcatalog

import (
	"context"
	_ "embed"
	"strings"

	"github.com/jackc/pgx/v5"
)

//go:embed catalog.sql
var text string

//go:embed layout.sql
var layout string

// Read returns the lines of the catalog, in the form that package sqltype keeps.
func Read(ctx context.Context, url string) (string, error) { return read(ctx, url, text) }

// Layout returns how the catalog's own tables are laid out, in the form that package catalog of
// the SQL port keeps.
func Layout(ctx context.Context, url string) (string, error) { return read(ctx, url, layout) }

func read(ctx context.Context, url, text string) (string, error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, text)
	if err != nil {
		return "", err
	}
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return "", err
	}
	return strings.Join(lines, "\n") + "\n", nil
}
