package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
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
	begin := func() (*tx, error) {
		conn, err := pool.Acquire(ctx)
		if err != nil {
			return nil, err
		}
		t, err := conn.BeginTx(ctx, options)
		if err != nil {
			conn.Release()
			return nil, err
		}
		return &tx{conn: conn, tx: t}, nil
	}
	t, err := begin()
	if ended(err) && ctx.Err() == nil {
		pool.Reset()
		t, err = begin()
	}
	if err != nil {
		return nil, told(err)
	}
	return t, nil
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
	if _, err := t.tx.Exec(ctx, "SAVEPOINT "+ofStatement); err != nil {
		return 0, told(err)
	}
	changed, err := writing(ctx, t.tx, in, f)
	if err != nil {
		clean := context.WithoutCancel(ctx)
		_, undo := t.tx.Exec(clean, "ROLLBACK TO SAVEPOINT "+ofStatement)
		if undo == nil {
			_, undo = t.tx.Exec(clean, "RELEASE SAVEPOINT "+ofStatement)
		}
		return 0, errors.Join(told(err), told(undo))
	}
	_, err = t.tx.Exec(ctx, "RELEASE SAVEPOINT "+ofStatement)
	return changed, told(err)
}

// ofStatement is the savepoint of a statement that writes. Those of clients have names that begin
// otherwise, see [tx.do].
const ofStatement = "statement"

// A cursor is a portal of the protocol, which lives as long as its transaction.
type cursor struct {
	tx   *tx
	name string
}

func (t *tx) Open(ctx context.Context, in source.Request) (source.Cursor, error) {
	if err := t.timed(ctx); err != nil {
		return nil, told(err)
	}
	t.cursors++
	c := &cursor{t, fmt.Sprintf("c%d", t.cursors)}
	formats := in.Binary
	if len(formats) == 0 {
		formats = []int16{pgx.TextFormatCode}
	}
	conn := t.conn.Conn()
	statement, err := conn.PgConn().Prepare(ctx, "", in.SQL, nil)
	if err != nil {
		return nil, told(err)
	}
	var b pgx.ExtendedQueryBuilder // which writes arguments as for every other statement
	if err := b.Build(conn.TypeMap(), statement, in.Args); err != nil {
		return nil, told(err)
	}
	bind := &pgproto3.Bind{DestinationPortal: c.name, ParameterFormatCodes: b.ParamFormats, Parameters: b.ParamValues, ResultFormatCodes: formats}
	return c, told(c.talk(ctx, nil, bind))
}

func (c *cursor) Fetch(ctx context.Context, most int, f func([][]byte) error) (n int, err error) {
	if err := c.tx.timed(ctx); err != nil {
		return 0, told(err)
	}
	m := meterOf(c.tx.conn.Conn())
	err = c.talk(ctx, func(row [][]byte) error {
		n++
		m.allow(ctx)
		return f(row)
	}, &pgproto3.Execute{Portal: c.name, MaxRows: uint32(most)})
	return n, told(err)
}

func (c *cursor) Close(ctx context.Context) error {
	return told(c.talk(ctx, nil, &pgproto3.Close{ObjectType: 'P', Name: c.name}))
}

// talk sends messages of the protocol, and takes what comes back up to the end of them.
func (c *cursor) talk(ctx context.Context, row func([][]byte) error, messages ...pgproto3.FrontendMessage) error {
	conn := c.tx.conn.Conn().PgConn()
	for _, m := range append(messages, &pgproto3.Sync{}) {
		conn.Frontend().Send(m)
	}
	if err := conn.Frontend().Flush(); err != nil {
		return err
	}
	var failed error
	for {
		message, err := conn.ReceiveMessage(ctx)
		if err != nil {
			return errors.Join(failed, err)
		}
		switch m := message.(type) {
		case *pgproto3.DataRow:
			if failed == nil {
				failed = row(m.Values)
			}
		case *pgproto3.ErrorResponse:
			failed = pgconn.ErrorResponseToPgError(m)
		case *pgproto3.ReadyForQuery:
			return failed
		}
	}
}

func (t *tx) Savepoint(ctx context.Context, name string) error { return t.do(ctx, "SAVEPOINT", name) }
func (t *tx) Release(ctx context.Context, name string) error {
	return t.do(ctx, "RELEASE SAVEPOINT", name)
}
func (t *tx) RollbackTo(ctx context.Context, name string) error {
	defer undone(t.conn.Conn())
	return t.do(ctx, "ROLLBACK TO SAVEPOINT", name)
}

func (t *tx) do(ctx context.Context, what, name string) error {
	_, err := t.tx.Exec(ctx, what+" "+pgx.Identifier{"s " + name}.Sanitize())
	return told(err)
}

func (t *tx) Commit(ctx context.Context) error {
	defer t.conn.Release()
	err := t.tx.Commit(ctx)
	if err != nil {
		undone(t.conn.Conn())
	}
	return told(err)
}

func (t *tx) Rollback(ctx context.Context) error {
	defer t.conn.Release()
	defer undone(t.conn.Conn())
	err := t.tx.Rollback(ctx)
	if errors.Is(err, pgx.ErrTxClosed) {
		return nil
	}
	return told(err)
}
