package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/service"
	"gneiss/source"
	"gneiss/source/postgres"
	"gneiss/source/sqlite"
	"gneiss/wire"
)

// Second is the source that holds the survey's tables in PostgreSQL.
const Second = "survey_pg"

// AddPostgres loads the survey's tables into an empty database of a PostgreSQL
// server as well, and connects it as a second source under the same grants,
// policies and labels. Where it is connected already nothing is done.
func AddPostgres(ctx context.Context, dir, url string, progress io.Writer) error {
	svc, err := service.Open(ctx, dir, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	return errors.Join(addPostgres(ctx, svc, filepath.Join(dir, "sources", "survey"), url, progress), svc.Close(ctx))
}

func addPostgres(ctx context.Context, svc *service.Service, tables, url string, progress io.Writer) error {
	opal, err := svc.Admin.ActAs("user:opal")
	if err != nil {
		return err
	}
	list, err := svc.Review.Sources(ctx, opal)
	if err != nil {
		return err
	}
	for _, s := range list.Items {
		if s.Name == Second {
			return nil
		}
	}
	fmt.Fprintln(progress, "Loading the survey's tables into PostgreSQL …")
	if err := postgres.Check(url); err != nil {
		return err
	}
	if err := load(ctx, tables, url); err != nil {
		return fmt.Errorf("loading the tables: %w", err)
	}
	if _, err := svc.Admin.AddSource(ctx, opal, wire.SourceRequest{Name: Second, Location: url}); err != nil {
		return err
	}
	m := &maker{ctx: ctx, svc: svc, as: opal, source: Second}
	m.survey()
	return m.err
}

// load copies all files of a folder, one a schema, in one transaction.
func load(ctx context.Context, dir, url string) error {
	from, err := sqlite.Open(dir, nil)
	if err != nil {
		return err
	}
	defer from.Close()
	tables, err := from.Scan(ctx)
	if err != nil {
		return err
	}
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	tx, err := conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback(ctx)
	// In the order of the files, so that a foreign key finds what it leads to.
	for _, schema := range schemasOf(tables) {
		made, err := definitions(ctx, filepath.Join(dir, schema+".db"))
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "CREATE SCHEMA "+schema+"; SET LOCAL search_path = "+schema); err != nil {
			return err
		}
		for _, d := range made {
			if _, err := tx.Exec(ctx, d.SQL); err != nil {
				return err
			}
			for _, t := range tables {
				if d.Type != "table" || t.Schema != schema || t.Name != d.Name {
					continue
				}
				if err := copyTable(ctx, tx, from, t); err != nil {
					return fmt.Errorf("%s.%s: %w", t.Schema, t.Name, err)
				}
			}
		}
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	_, err = conn.Exec(ctx, "ANALYZE")
	return err
}

func schemasOf(tables []source.Table) []string {
	var names []string
	for _, t := range tables {
		if n := len(names); n == 0 || names[n-1] != t.Schema {
			names = append(names, t.Schema)
		}
	}
	return names
}

// A definition is a statement that made a table or an index.
type definition struct{ Type, Name, SQL string }

// definitions lists those of a file, in its order.
func definitions(ctx context.Context, path string) ([]definition, error) {
	db, err := sqlx.Open("sqlite3", "file:"+path+"?mode=ro")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	var made []definition
	err = db.SelectContext(ctx, &made, "SELECT type, name, sql FROM sqlite_schema WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite%' ORDER BY rowid")
	for i := range made {
		made[i].SQL = strings.ReplaceAll(made[i].SQL, " REAL", " DOUBLE PRECISION")
	}
	return made, err
}

// copyTable copies a table's rows.
func copyTable(ctx context.Context, tx pgx.Tx, from source.Source, t source.Table) error {
	var names []string
	var columns []query.Column
	for _, c := range t.Columns {
		names = append(names, c.Name)
		columns = append(columns, query.Column{Name: c.Name, Type: sqltype.Parse(c.Type)})
	}
	var rows [][]any
	err := from.Run(ctx, `SELECT "`+strings.Join(names, `", "`)+`" FROM `+t.Schema+"."+t.Name, nil, columns, func(row []any) error {
		row = append([]any(nil), row...)
		for i, v := range row {
			if text, ok := v.(string); ok && columns[i].Type == query.Date {
				day, err := time.Parse(time.DateOnly, text)
				if err != nil {
					return err
				}
				row[i] = day
			}
		}
		rows = append(rows, row)
		return nil
	})
	if err != nil {
		return err
	}
	_, err = tx.CopyFrom(ctx, pgx.Identifier{t.Schema, t.Name}, names, pgx.CopyFromRows(rows))
	return err
}
