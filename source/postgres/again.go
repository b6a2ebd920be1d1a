package postgres

import (
	"context"
	"errors"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// again runs f on a connection of a pool, and once more where nothing has come of it and it can do no harm: a
// statement was prepared for a table that is another now, or the database had ended the connection, of which
// those that wait in the pool are let go, too. f says in begun that something has come of it.
func again(ctx context.Context, pool *pgxpool.Pool, begun *bool, f func(*pgxpool.Conn) error) error {
	once := func() error {
		conn, err := pool.Acquire(ctx)
		if err != nil {
			return err
		}
		defer conn.Release()
		return f(conn)
	}
	err := once()
	switch {
	case err == nil || *begun || ctx.Err() != nil:
		return err
	case ended(err):
		pool.Reset()
	case !stale(err) && !pgconn.SafeToRetry(err):
		return err
	}
	return once()
}

// stale reports whether a statement was prepared for a table that is another now. By then it is forgotten, and
// prepared again the next time.
func stale(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "0A000" && strings.HasPrefix(e.Message, "cached plan")
}

// ended reports whether the database, or the way to it, has ended a connection that there was.
func ended(err error) bool {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		return strings.HasPrefix(e.Code, "57P")
	}
	var connect *pgconn.ConnectError
	return isNetwork(err) && !errors.As(err, &connect)
}
