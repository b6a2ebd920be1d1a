package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"gneiss/source"
)

// A tx is a transaction on a connection of its own.
type tx struct {
	conn    *pgxpool.Conn
	tx      pgx.Tx
	cursors int // opened so far, which names them
}

// Begin implements [source.Source].
func (s *Source) Begin(ctx context.Context, in source.Isolation) (source.Tx, error) {
	pool, options := s.writers, pgx.TxOptions{AccessMode: pgx.ReadWrite}
	if in.ReadOnly {
		pool, options.AccessMode = s.readers, pgx.ReadOnly
	}
	switch {
	case in.Serializable:
		options.IsoLevel = pgx.Serializable
	case in.Snapshot:
		options.IsoLevel = pgx.RepeatableRead
	}
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return nil, told(err)
	}
	t, err := conn.BeginTx(ctx, options)
	if err != nil {
		conn.Release()
		return nil, told(err)
	}
	return &tx{conn: conn, tx: t}, nil
}

// timed bounds what the server does for the next statement, as for one outside of a transaction.
func (t *tx) timed(ctx context.Context) error {
	_, err := bound(ctx, t.conn.Conn())
	return err
}

func (t *tx) Stream(ctx context.Context, in source.Request, f func([][]byte) error) error {
	if err := t.timed(ctx); err != nil {
		return told(err)
	}
	return told(stream(ctx, t.conn.Conn(), in, f))
}

func (t *tx) Write(ctx context.Context, in source.Request, f func([][]byte) error) (int64, error) {
	if err := t.timed(ctx); err != nil {
		return 0, told(err)
	}
	inner, err := t.tx.Begin(ctx) // a savepoint
	if err != nil {
		return 0, told(err)
	}
	defer inner.Rollback(context.WithoutCancel(ctx))
	changed, err := writing(ctx, inner, in, f)
	if err != nil {
		return 0, told(err)
	}
	return changed, told(inner.Commit(ctx))
}

type cursor struct {
	tx   *tx
	name string
	in   source.Request
}

func (t *tx) Open(ctx context.Context, in source.Request) (source.Cursor, error) {
	if err := t.timed(ctx); err != nil {
		return nil, told(err)
	}
	t.cursors++
	c := &cursor{t, fmt.Sprintf("c%d", t.cursors), in}
	if _, err := t.tx.Exec(ctx, "DECLARE "+c.name+" NO SCROLL CURSOR FOR "+in.SQL, prepared(in.SQL, in.Args)...); err != nil {
		return nil, told(err)
	}
	return c, nil
}

func (c *cursor) Fetch(ctx context.Context, most int, f func([][]byte) error) (n int, err error) {
	if err := c.tx.timed(ctx); err != nil {
		return 0, told(err)
	}
	in := source.Request{SQL: fmt.Sprintf("FETCH FORWARD %d FROM %s", most, c.name), Columns: c.in.Columns, Binary: c.in.Binary}
	err = stream(ctx, c.tx.conn.Conn(), in, func(row [][]byte) error { n++; return f(row) })
	return n, told(err)
}

func (c *cursor) Close(ctx context.Context) error {
	_, err := c.tx.tx.Exec(ctx, "CLOSE "+c.name)
	return told(err)
}

func (t *tx) Savepoint(ctx context.Context, name string) error { return t.do(ctx, "SAVEPOINT", name) }
func (t *tx) Release(ctx context.Context, name string) error {
	return t.do(ctx, "RELEASE SAVEPOINT", name)
}
func (t *tx) RollbackTo(ctx context.Context, name string) error {
	return t.do(ctx, "ROLLBACK TO SAVEPOINT", name)
}

func (t *tx) do(ctx context.Context, what, name string) error {
	_, err := t.tx.Exec(ctx, what+" "+pgx.Identifier{name}.Sanitize())
	return told(err)
}

func (t *tx) Commit(ctx context.Context) error {
	defer t.conn.Release()
	return told(t.tx.Commit(ctx))
}

func (t *tx) Rollback(ctx context.Context) error {
	defer t.conn.Release()
	err := t.tx.Rollback(ctx)
	if errors.Is(err, pgx.ErrTxClosed) {
		return nil
	}
	return told(err)
}
