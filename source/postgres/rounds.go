package postgres

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"gneiss/source"
)

// Rounds send point reads that come at the same time to the database together. Those that find as many rounds
// running as are usual wait, and go with the next, in one message, as one transaction: which costs both sides far
// less than one after the other. What goes together has one text and the same settings, so that nobody waits for a
// table that is not theirs; where anything goes wrong, whoever has no answer asks alone.
type rounds struct {
	pool *pgxpool.Pool

	mu        sync.Mutex
	running   int // workers, each with a round at a time
	sent      []*round
	gathering bool // a worker is in gather
	waiting   []*asking
	away      time.Duration // how long a round takes at the least, of late
	late      *time.Timer   // ends the patience with the rounds that run
}

const (
	// most is how many rounds run at once.
	most = ofPoints
	// near is within which time a round comes back from a database that is near. For each step more, one more is usual.
	near, step = 450 * time.Microsecond, 250 * time.Microsecond
	// together is how many statements a round has, at the most.
	together = 16
	// patience is how long who is first waits for a round before more run than are usual, and quick how long a
	// statement takes where the database is.
	patience, quick = 3 * time.Millisecond, time.Millisecond
	// mostKept is how many statements a connection keeps prepared for rounds.
	mostKept = 256
)

// An asking is a point read on its way.
type asking struct {
	source.Request
	ctx      context.Context
	settings source.Settings
	seconds  int           // for which it may run, about; less than zero: as long as it takes
	since    time.Time     // when it began to wait
	rows     [][][]byte    // what came
	done     chan struct{} // closed once it is answered, or never will be
	answered bool
	round    *round
}

// with reports whether two can be sent together.
func (a *asking) with(b *asking) bool {
	return a.SQL == b.SQL && a.settings == b.settings && a.seconds == b.seconds
}

// A round is what is sent together.
type round struct {
	asked  []*asking
	wanted int                // those of them that somebody waits for
	cancel context.CancelFunc // nil: it has not begun
	began  time.Time
}

// usual is how many rounds run at once: one if the database is near, because two would each carry fewer statements; more if it is far
// away, because a round then spends most of its time on the network. The caller holds the lock.
func (r *rounds) usual() int {
	if r.away < near {
		return 1
	}
	return min(2+int((r.away-near)/step), most)
}

// onTime is how many workers are not held up by a round that takes too long, such as one that waits for a locked table. The caller
// holds the lock.
func (r *rounds) onTime() int {
	n, now := r.running, time.Now()
	for _, out := range r.sent {
		if now.Sub(out.began) > patience+r.away {
			n--
		}
	}
	return n
}

// enough reports whether other workers can serve everyone who waits. The caller holds the lock.
func (r *rounds) enough() bool {
	return len(r.waiting) > 0 && r.onTime() > r.usual() && time.Since(r.waiting[0].since) < patience
}

// ended notes how long a round took. The shortest time is slowly forgotten, in case the database has moved. The caller holds the lock.
func (r *rounds) ended(took time.Duration) {
	if r.away += r.away / 64; r.away == 0 || took < r.away {
		r.away = took
	}
}

func newRounds(pool *pgxpool.Pool) *rounds {
	r := &rounds{pool: pool}
	r.late = time.AfterFunc(time.Hour, r.hurry)
	r.late.Stop()
	return r
}

// ask gives the rows of a point read; ok is false where it has to be asked alone.
func (r *rounds) ask(ctx context.Context, in source.Request) (rows [][][]byte, ok bool) {
	a := &asking{Request: in, ctx: ctx, settings: source.SettingsOf(ctx), seconds: -1, since: time.Now(), done: make(chan struct{})}
	if deadline, ok := ctx.Deadline(); ok {
		a.seconds = int(time.Until(deadline) / time.Second)
	}
	r.mu.Lock()
	if r.waiting = append(r.waiting, a); len(r.waiting) == 1 {
		r.late.Reset(patience)
	}
	r.begin()
	r.mu.Unlock()
	select {
	case <-a.done:
		return a.rows, a.answered
	case <-ctx.Done():
		r.leave(a)
		return nil, false
	}
}

// leave says that nobody waits for an answer. A round for which nobody waits ends.
func (r *rounds) leave(a *asking) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if a.round == nil {
		r.waiting = slices.DeleteFunc(r.waiting, func(other *asking) bool { return other == a })
	} else if a.round.wanted--; a.round.wanted == 0 && a.round.cancel != nil {
		a.round.cancel()
	}
}

// hurry starts more rounds, where those that run let others wait for long.
func (r *rounds) hurry() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for ; r.running < most && len(r.waiting) > 0; r.running++ {
		next := r.next(false)
		go func() { r.work(r.send(next)) }()
	}
}

// next takes those from the front who can be sent together: where the database is not quick, no more than leave
// as many for all other rounds that may run. The caller holds the lock.
func (r *rounds) next(isQuick bool) *round {
	if len(r.waiting) == 0 {
		return nil
	}
	size := together
	if !isQuick {
		size = min(size, (len(r.waiting)+most-1)/most)
	}
	out, first := &round{}, r.waiting[0]
	r.waiting = slices.DeleteFunc(r.waiting, func(a *asking) bool {
		if len(out.asked) == size || !a.with(first) {
			return false
		}
		out.asked, a.round = append(out.asked, a), out
		return true
	})
	out.wanted = len(out.asked)
	r.late.Stop()
	if len(r.waiting) > 0 && r.running < most {
		r.late.Reset(patience - time.Since(r.waiting[0].since))
	}
	return out
}

// begin starts a worker if fewer than are usual run and none is gathering. The caller holds the lock.
func (r *rounds) begin() {
	if !r.gathering && r.running < most && r.onTime() < r.usual() {
		r.running++
		go r.work(true)
	}
}

// work sends rounds for as long as somebody waits.
func (r *rounds) work(isQuick bool) {
	for {
		r.mu.Lock()
		r.gather()
		var next *round
		if r.enough() {
			r.late.Reset(patience - time.Since(r.waiting[0].since))
		} else {
			next = r.next(isQuick)
		}
		if next == nil {
			r.running--
			r.mu.Unlock()
			return
		}
		if len(r.waiting) > 0 {
			r.begin()
		}
		r.mu.Unlock()
		isQuick = r.send(next)
	}
}

// gather yields to other goroutines as long as that brings more askers, so that they share one round. The caller holds
// the lock; gather releases it while it yields.
func (r *rounds) gather() {
	if r.gathering {
		return
	}
	r.gathering = true
	for before := -1; before < len(r.waiting) && len(r.waiting) < together; {
		before = len(r.waiting)
		r.mu.Unlock()
		runtime.Gosched()
		r.mu.Lock()
	}
	r.gathering = false
}

// send runs a round, and reports whether it was quick.
func (r *rounds) send(next *round) (isQuick bool) {
	next.began = time.Now()
	first := next.asked[0]
	bytes := int64(0)
	for _, a := range next.asked {
		bytes = max(bytes, source.Bytes(a.ctx))
	}
	ctx, cancel := context.WithCancel(source.WithBytes(source.WithSettings(context.Background(), first.settings), bytes))
	defer cancel()
	if first.seconds >= 0 {
		var end context.CancelFunc
		ctx, end = context.WithTimeout(ctx, time.Duration(first.seconds+1)*time.Second)
		defer end()
	}
	r.mu.Lock()
	if next.cancel = cancel; next.wanted == 0 {
		cancel()
	}
	r.sent = append(r.sent, next)
	r.mu.Unlock()
	r.run(ctx, next)
	took := time.Since(next.began)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.sent = slices.DeleteFunc(r.sent, func(other *round) bool { return other == next })
	r.ended(took)
	return took < quick*time.Duration(len(next.asked))
}

// run asks for the answers of a round; those that do not come have to be asked for alone.
func (r *rounds) run(ctx context.Context, in *round) {
	defer func() {
		for _, a := range in.asked {
			if !a.answered {
				close(a.done)
			}
		}
	}()
	conn, err := r.pool.Acquire(ctx)
	if err != nil {
		return
	}
	defer conn.Release()
	statement, err := keep(ctx, conn.Conn(), in.asked[0].SQL)
	if err != nil {
		return
	}
	var b pgx.ExtendedQueryBuilder
	m, server := meterOf(conn.Conn()), conn.Conn().PgConn()
	line := server.StartPipeline(ctx)
	var sent []*asking
	for _, a := range in.asked {
		if b.Build(conn.Conn().TypeMap(), statement, a.Args) != nil {
			continue // which is told when it is asked alone
		}
		formats := a.Binary
		if len(formats) == 0 {
			formats = []int16{pgx.TextFormatCode}
		}
		line.SendQueryStatement(statement, b.ParamValues, b.ParamFormats, formats)
		sent = append(sent, a)
	}
	if err := line.Sync(); err == nil {
		for _, a := range sent {
			if err = take(line, a); err != nil {
				break
			}
			m.allow(ctx)
		}
		if err != nil {
			defer forget(conn.Conn(), in.asked[0].SQL)
		}
	}
	_ = line.Close()
}

// take takes an answer from the line.
func take(line *pgconn.Pipeline, a *asking) error {
	got, err := line.GetResults()
	if err != nil {
		return err
	}
	result, ok := got.(*pgconn.ResultReader)
	if !ok {
		return errors.New("an answer is missing")
	}
	for result.NextRow() {
		a.rows = append(a.rows, copied(result.Values()))
	}
	if _, err := result.Close(); err != nil {
		return err
	}
	a.answered = true
	close(a.done)
	return nil
}

// copied is a row that lasts.
func copied(row [][]byte) [][]byte {
	size := 0
	for _, v := range row {
		size += len(v)
	}
	all, out := make([]byte, 0, size), make([][]byte, len(row))
	for i, v := range row {
		if v != nil {
			all = append(all, v...)
			out[i] = all[len(all)-len(v) : len(all) : len(all)]
		}
	}
	return out
}

// A kept is what a connection has prepared for rounds.
type kept struct {
	made       int
	statements map[string]*pgconn.StatementDescription
}

const keptOf = "rounds"

// keep prepares a statement, where it is not.
func keep(ctx context.Context, conn *pgx.Conn, text string) (*pgconn.StatementDescription, error) {
	server := conn.PgConn()
	k, ok := server.CustomData()[keptOf].(*kept)
	if !ok {
		k = &kept{statements: map[string]*pgconn.StatementDescription{}}
		server.CustomData()[keptOf] = k
	}
	if s := k.statements[text]; s != nil {
		return s, nil
	}
	if len(k.statements) == mostKept {
		for other := range k.statements {
			if err := k.drop(ctx, server, other); err != nil {
				return nil, err
			}
			break
		}
	}
	k.made++
	s, err := server.Prepare(ctx, "round_"+strconv.Itoa(k.made), text, nil)
	if err == nil {
		k.statements[text] = s
	}
	return s, err
}

func (k *kept) drop(ctx context.Context, server *pgconn.PgConn, text string) error {
	name := k.statements[text].Name
	delete(k.statements, text)
	return server.Deallocate(ctx, name)
}

// forget lets go of a statement with which something was wrong: it may have been prepared for a table that is
// another now.
func forget(conn *pgx.Conn, text string) {
	if conn.IsClosed() {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if k, ok := conn.PgConn().CustomData()[keptOf].(*kept); ok && k.statements[text] != nil {
		if k.drop(ctx, conn.PgConn(), text) != nil {
			conn.Close(ctx)
		}
	}
}
