package postgres

import (
	"cmp"
	"context"
	"crypto/tls"
	"net"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"gneiss/source"
)

// A meter is a connection of which so much may be read for one statement: a value of
// a gigabyte would else be in memory before anybody could count it.
type meter struct {
	net.Conn
	left atomic.Int64
}

// unmetered is what is read before the first statement, and beside what a statement gives.
const unmetered = 16 << 20

func (m *meter) Read(b []byte) (int, error) {
	n, err := m.Conn.Read(b)
	if m.left.Add(-int64(n)) < 0 {
		m.Conn.Close()
		return 0, source.ErrTooLarge
	}
	return n, err
}

func metered(dial func(context.Context, string, string) (net.Conn, error)) func(context.Context, string, string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		m := &meter{Conn: conn}
		m.left.Store(unmetered)
		return m, nil
	}
}

// meterOf finds the meter of a connection; nil: it has none.
func meterOf(conn *pgx.Conn) *meter {
	under := conn.PgConn().Conn()
	if t, ok := under.(*tls.Conn); ok {
		under = t.NetConn()
	}
	m, _ := under.(*meter)
	return m
}

// allow lets as much be read as the context says.
func (m *meter) allow(ctx context.Context) {
	if m != nil {
		m.left.Store(source.Bytes(ctx) + unmetered)
	}
}

// set brings a connection to the settings of the context, where it is not known to have them.
func set(ctx context.Context, conn *pgx.Conn, kept map[string]any) error {
	want := source.SettingsOf(ctx)
	if last, known := kept["settings"].(source.Settings); known && last == want {
		return nil
	}
	delete(kept, "settings") // should this fail
	_, err := conn.Exec(ctx, `SELECT set_config('TimeZone', $1, false), set_config('DateStyle', 'ISO, ' || $2, false),
		set_config('IntervalStyle', $3, false), set_config('extra_float_digits', $4, false), set_config('bytea_output', $5, false)`,
		cmp.Or(want.TimeZone, "UTC"), cmp.Or(want.DateOrder, "MDY"), cmp.Or(want.IntervalStyle, "postgres"), cmp.Or(want.FloatDigits, "1"),
		cmp.Or(want.ByteaOutput, "hex"))
	if err == nil {
		kept["settings"] = want
	}
	return err
}

// undone says that something was taken back on a connection, and so, maybe, what was set meanwhile.
func undone(conn *pgx.Conn) {
	kept := conn.PgConn().CustomData()
	delete(kept, "settings")
	delete(kept, "seconds")
}

// bound prepares a connection that is taken from its pool: its next statement is bounded by
// the context on both sides, in what is sent, and in how long the server works on it. The
// server ends a statement by itself a little after the context does, should nobody tell it to.
func bound(ctx context.Context, conn *pgx.Conn) (bool, error) {
	meterOf(conn).allow(ctx)
	kept := conn.PgConn().CustomData()
	if err := set(ctx, conn, kept); err != nil {
		return false, err
	}
	seconds := 0
	if deadline, ok := ctx.Deadline(); ok {
		seconds = int(time.Until(deadline)/time.Second) + 2
	}
	if last, ok := kept["seconds"].(int); !ok || last != seconds {
		delete(kept, "seconds")
		if _, err := conn.Exec(ctx, "SET statement_timeout = "+strconv.Itoa(seconds*1000)); err != nil {
			return false, err
		}
		kept["seconds"] = seconds
	}
	return true, nil
}
