package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"strconv"

	"gneiss/core/query"
	"gneiss/source"
)

// texts hands rows on as PostgreSQL writes their values. The texts share one buffer, which
// the next row takes.
func texts(columns []query.Column, f func([][]byte) error) func([]any) error {
	row := make([][]byte, len(columns))
	buffer := []byte{} // not nil, of which an empty text would be NULL
	return func(values []any) error {
		buffer = buffer[:0]
		ends := make([]int, len(values))
		for i, v := range values {
			switch v := v.(type) {
			case string:
				buffer = append(buffer, v...)
			case int64:
				buffer = strconv.AppendInt(buffer, v, 10)
			case float64:
				buffer = appendDouble(buffer, v)
			case bool:
				buffer = append(buffer, map[bool]byte{true: 't', false: 'f'}[v])
			}
			ends[i] = len(buffer)
		}
		from := 0
		for i, v := range values {
			if row[i] = nil; v != nil {
				row[i] = buffer[from:ends[i]:ends[i]]
			}
			from = ends[i]
		}
		return f(row[:len(values)])
	}
}

// appendDouble writes a double precision number as PostgreSQL does: with the fewest digits that
// read back as it, in exponential form from 1e15 on and below 1e-4.
func appendDouble(b []byte, x float64) []byte {
	if size := math.Abs(x); size != 0 && (size < 1e-4 || size >= 1e15) {
		return strconv.AppendFloat(b, x, 'e', -1, 64)
	}
	return strconv.AppendFloat(b, x, 'f', -1, 64)
}

// Stream implements [source.Source].
func (s *Source) Stream(ctx context.Context, in source.Request, f func([][]byte) error) error {
	return s.Run(ctx, in.SQL, in.Args, in.Columns, texts(in.Columns, f))
}

// Connections implements [source.Source]. A file has one writer at a time.
func (s *Source) Connections() (readers, writers int) { return connections, 1 }

// A tx is a transaction. The statements of one that only reads and sees no single snapshot
// need none of the database's.
type tx struct {
	source *Source
	conn   *sql.Conn
	tx     *sql.Tx
	saved  int // savepoints of statements, which name them
}

// Begin implements [source.Source].
func (s *Source) Begin(ctx context.Context, in source.Isolation) (source.Tx, error) {
	db, err := s.connect()
	if err != nil {
		return nil, err
	}
	if !in.ReadOnly {
		db = s.writer
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, unavailable(err)
	}
	t, err := conn.BeginTx(context.WithoutCancel(ctx), nil) // each statement has a context of its own
	if err != nil {
		conn.Close()
		return nil, unavailable(err)
	}
	return &tx{source: s, conn: conn, tx: t}, nil
}

func (t *tx) Stream(ctx context.Context, in source.Request, f func([][]byte) error) error {
	rows, err := t.tx.QueryContext(ctx, in.SQL, in.Args...)
	if err != nil {
		return t.source.explained(unavailable(err))
	}
	return unavailable(each(rows, in.Columns, texts(in.Columns, f)))
}

func (t *tx) Write(ctx context.Context, in source.Request, f func([][]byte) error) (changed int64, err error) {
	t.saved++
	name := fmt.Sprintf("gneiss_statement_%d", t.saved)
	if err := t.do(ctx, "SAVEPOINT", name); err != nil {
		return 0, err
	}
	defer func() {
		if err != nil {
			clean := context.WithoutCancel(ctx)
			t.do(clean, "ROLLBACK TO", name)
		}
		t.do(context.WithoutCancel(ctx), "RELEASE", name)
	}()
	if changed, err = writing(ctx, t.tx, in, f); err != nil {
		return 0, refusedByTable(err)
	}
	return changed, nil
}

// A cursor reads on where it stopped.
type cursor struct {
	rows    *sql.Rows
	cancel  context.CancelFunc
	columns []query.Column
	ended   bool
}

func (t *tx) Open(ctx context.Context, in source.Request) (source.Cursor, error) {
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx)) // it outlives the statement that opens it
	rows, err := t.tx.QueryContext(ctx, in.SQL, in.Args...)
	if err != nil {
		cancel()
		return nil, t.source.explained(unavailable(err))
	}
	return &cursor{rows: rows, cancel: cancel, columns: in.Columns}, nil
}

func (c *cursor) Fetch(ctx context.Context, most int, f func([][]byte) error) (n int, err error) {
	stop := context.AfterFunc(ctx, c.cancel)
	defer stop()
	hand := texts(c.columns, f)
	row, into := make([]any, len(c.columns)), make([]any, len(c.columns))
	for i := range row {
		into[i] = &row[i]
	}
	for n < most && !c.ended {
		if !c.rows.Next() {
			c.ended = true
			return n, unavailable(c.rows.Err())
		}
		if err := c.rows.Scan(into...); err != nil {
			return n, unavailable(err)
		}
		if err := values(row, c.columns); err != nil {
			return n, err
		}
		n++
		if err := hand(row); err != nil {
			return n, err
		}
	}
	return n, nil
}

func (c *cursor) Close(context.Context) error {
	defer c.cancel()
	return unavailable(c.rows.Close())
}

func (t *tx) Savepoint(ctx context.Context, name string) error { return t.do(ctx, "SAVEPOINT", name) }
func (t *tx) Release(ctx context.Context, name string) error   { return t.do(ctx, "RELEASE", name) }
func (t *tx) RollbackTo(ctx context.Context, name string) error {
	return t.do(ctx, "ROLLBACK TO", name)
}

func (t *tx) do(ctx context.Context, what, name string) error {
	_, err := t.tx.ExecContext(ctx, what+" "+quote(name))
	return unavailable(err)
}

func (t *tx) Commit(context.Context) error {
	defer t.conn.Close()
	return refusedByTable(t.tx.Commit())
}

func (t *tx) Rollback(context.Context) error {
	defer t.conn.Close()
	return unavailable(t.tx.Rollback())
}
