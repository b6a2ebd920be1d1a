package sqlport

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/core/access"
	"gneiss/peer"
	"gneiss/service/fault"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/source"
	"gneiss/wire"
)

// A session is a connection that has signed in. But for end and cancelled, its methods are called
// by the goroutine that serves it alone.
type session struct {
	server  *Server
	conn    net.Conn
	backend *pgproto3.Backend
	caller  identity.Caller
	open    *identity.Connection
	watch   *peer.Watch // of the client, while something runs

	read, write limit // how long the client may take

	database   string
	source     access.ObjectID
	settings   *settings
	standpoint wire.Standpoint
	standing   string // the standpoint in words; empty: as itself

	tx       *gateway.Tx // of BEGIN, or of statements that came together
	implicit bool        // it ends with the statements that came together
	failed   bool        // nothing but its end is taken
	several  bool        // statements came in one text, which is a block
	piped    bool        // another was executed since the last Sync
	active   *portal     // that is executed; nil: none
	asked    bool        // the transaction has seen a query, so that its mode is settled
	skipping bool        // until the next Sync, after an error
	prepared map[string]*prepared
	portals  map[string]*portal
	ahead    pgproto3.FrontendMessage // that was read before its turn

	used  int64 // bytes that it keeps, see budget.go
	tagAt int   // where the tag of the last statement begins in out
	made  int   // portals so far
	saves int   // savepoints that are counted in used

	values converter
	out    []byte // what has not been sent yet

	pid    uint32
	secret []byte

	ctx   context.Context    // of its statements, one after the other, until one is cancelled
	stop  context.CancelFunc // ends ctx
	under *source.Settings   // that ctx has

	mu     sync.Mutex
	cancel context.CancelFunc // of what runs
	ended  error              // why nothing more is taken
}

func newSession(s *Server, conn net.Conn, b *pgproto3.Backend) *session {
	c := &session{server: s, conn: conn, backend: b, settings: newSettings(), read: limit{set: conn.SetReadDeadline},
		write: limit{set: conn.SetWriteDeadline}, prepared: map[string]*prepared{}, portals: map[string]*portal{}}
	c.watch = peer.Of(conn).Watch(c.cancelled)
	return c
}

// A limit is how long the other side of a connection may take. It ends up to a sixteenth late, so that one deadline serves many
// messages.
type limit struct {
	set   func(deadline time.Time) error
	began time.Time
	most  time.Duration
}

func (l *limit) begin(most time.Duration) {
	now := time.Now()
	if most == l.most && now.Sub(l.began) < most/16 {
		return
	}
	l.began, l.most = now, most
	l.set(now.Add(most + most/16))
}

// end ends the session from outside, for a reason that its client is told.
func (c *session) end(why error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ended == nil {
		c.ended = why
	}
	if c.cancel != nil {
		c.cancel()
	}
	c.conn.SetReadDeadline(time.Now())
}

// cancelled ends what the session runs.
func (c *session) cancelled() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.cancel != nil {
		c.cancel()
	}
}

func (c *session) why() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ended
}

// run takes messages until the client says good-bye, is gone, or is not let go on.
func (c *session) run() {
	defer c.leave()
	c.send(&pgproto3.BackendKeyData{ProcessID: c.pid, SecretKey: c.secret})
	c.settings.changed = nil
	for _, one := range c.settings.all {
		if one.last = "\x00"; one.told { // it was told of none
			c.settings.changed = append(c.settings.changed, one.name)
		}
	}
	c.settings.all["session_authorization"].value = c.userName()
	slices.Sort(c.settings.changed)
	c.ready()
	for {
		message, err := c.receive()
		if err != nil {
			c.over(err)
			return
		}
		if _, bye := message.(*pgproto3.Terminate); bye {
			return
		}
		if err := c.server.service.Identity.Holds(context.Background(), c.caller); err != nil {
			c.over(err)
			return
		}
		if err := c.handle(message); err != nil {
			c.over(err)
			return
		}
	}
}

// over tells the client why the connection ends, where it can.
func (c *session) over(err error) {
	if why := c.why(); why != nil {
		err = why
	}
	if err = c.asEnd(err); err == nil {
		return // it is gone
	}
	c.conn.SetWriteDeadline(time.Now().Add(2 * time.Second))
	c.send(problem(err, "FATAL"))
	c.flush()
	c.linger()
}

// asEnd is what the client is told of an error that ends its connection; nil: nobody is there.
func (c *session) asEnd(err error) error {
	var timeout net.Error
	var bad *stated
	switch {
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, os.ErrDeadlineExceeded):
		switch {
		case c.tx != nil && c.leftOfAge() <= 0:
			return statef("25P04", "the connection is ended: its transaction has lasted for too long")
		case c.tx != nil:
			return statef("25P03", "the connection is ended: its transaction has waited for too long")
		}
		return statef("57P05", "the connection is ended: it has waited for too long")
	case told(err), errors.As(err, &bad):
		return err
	case isProtocol(err):
		return statef("08P01", "%s", printable(err.Error(), 200))
	}
	return nil
}

// ends notes why the connection ends, where a statement finds that out: as things are there, and once.
func (c *session) ends(err error) error {
	if why := c.asEnd(err); why != nil {
		err = why
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ended == nil {
		c.ended = err
	}
	return c.ended
}

// refuse tells the error of a statement. That the connection ends is told by over.
func (c *session) refuse(err error) {
	if c.why() == nil {
		c.send(c.problem(err))
	}
}

// linger takes what the client still sends, for a moment: what is left unread as a connection is
// closed keeps the reason from reaching the client.
func (c *session) linger() {
	half, ok := c.conn.(interface{ CloseWrite() error })
	if !ok || half.CloseWrite() != nil {
		return
	}
	c.conn.SetReadDeadline(time.Now().Add(2 * time.Second))
	io.CopyN(io.Discard, c.conn, 4*mostMessage)
}

// isProtocol reports whether reading failed since what was read is none of the protocol's messages.
func isProtocol(err error) bool {
	var network net.Error
	text := err.Error()
	return !errors.As(err, &network) && !errors.Is(err, net.ErrClosed) && !strings.Contains(text, "EOF") && !strings.Contains(text, "connection reset")
}

func told(err error) bool {
	var e *fault.Error
	return errors.As(err, &e)
}

// leave gives back all that the session holds.
func (c *session) leave() {
	c.server.forget(c)
	if c.stop != nil {
		defer c.stop()
	}
	c.dropPortals(true)
	c.dropAllPrepared()
	if c.tx != nil {
		ctx, done := context.WithTimeout(context.Background(), 5*time.Second)
		c.tx.Rollback(ctx)
		done()
	}
	c.server.service.Identity.Connections.Shut(c.open)
}

// receive takes the next message, and waits for it as long as the session's state lets it.
func (c *session) receive() (pgproto3.FrontendMessage, error) {
	if m := c.ahead; m != nil {
		c.ahead = nil
		return m, nil
	}
	wait := c.server.limits.Idle
	if away := c.settings.away; away > 0 && c.tx == nil {
		wait = min(wait, away)
	}
	if c.tx != nil {
		if wait = min(c.mostInTransaction(), c.leftOfAge()); c.tx.Waited() {
			wait = min(wait, othersWait)
		}
	}
	c.mu.Lock()
	ended := c.ended
	if ended == nil {
		c.read.begin(wait)
	}
	c.mu.Unlock()
	if ended != nil {
		return nil, ended
	}
	return c.backend.Receive()
}

// othersWait is how long a transaction may wait for its program while others wait for what it keeps.
const othersWait = 5 * time.Second

// hurry ends the session's wait for its client sooner, since others wait. It is called from elsewhere.
func (c *session) hurry() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.cancel == nil && c.ended == nil {
		c.read.begin(othersWait)
	}
}

// leftOfAge is how much longer the transaction may last, however busy it is.
func (c *session) leftOfAge() time.Duration {
	most := ages * c.laneSeconds()
	if own := c.settings.lasts; own > 0 {
		most = min(most, own)
	}
	return max(most-time.Since(c.tx.Start), 0)
}

// ages is how many times as long as a statement may take on its lane a transaction may last.
const ages = 20

// mostInTransaction is how long a transaction may wait for its program: as long as one of its
// statements may take on its lane.
func (c *session) mostInTransaction() time.Duration {
	wait := c.laneSeconds()
	if own := c.settings.idle; own > 0 {
		wait = min(wait, own)
	}
	return wait
}

// laneSeconds is how long a statement may take on the session's lane.
func (c *session) laneSeconds() time.Duration {
	st := c.server.service.Platform.Current()
	if viewer, err := c.server.service.Identity.ViewerAt(st, c.caller, c.standpoint); err == nil {
		if lane, err := c.server.service.Gateway.Lane(c.caller, viewer, c.settings.lane.value); err == nil {
			return time.Duration(lane.Limits.Seconds) * time.Second
		}
	}
	return time.Minute
}

// send puts messages behind what is to be sent.
func (c *session) send(messages ...pgproto3.BackendMessage) {
	for _, m := range messages {
		b, err := m.Encode(c.out)
		if err != nil { // a message that is too long
			b, _ = problem(statef("54000", "what is to be sent is too long"), "ERROR").Encode(c.out)
		}
		c.out = b
	}
}

// mostOut is how much is gathered before it is sent, in bytes.
const mostOut = 32 << 10

func (c *session) flush() error {
	if len(c.out) == 0 {
		return nil
	}
	c.write.begin(c.server.limits.Write)
	_, err := c.conn.Write(c.out)
	if c.out = c.out[:0]; cap(c.out) > 4*mostOut {
		c.out = nil
	}
	return err
}

// tell tells the client of settings that have changed since it was told last.
func (c *session) tell() {
	for _, name := range c.settings.changed {
		one := c.settings.all[strings.ToLower(name)]
		if one.value != one.last {
			c.send(&pgproto3.ParameterStatus{Name: name, Value: one.value})
		}
		one.last = one.value
	}
	c.settings.changed = c.settings.changed[:0]
}

// ready says that the next statement can come, and in which state the session is; its error, that none can.
func (c *session) ready() error {
	if why := c.why(); why != nil {
		return why
	}
	if c.tx == nil {
		c.asked = false
	}
	c.tell()
	status, state := byte('I'), identity.Idle
	switch {
	case c.failed:
		status, state = 'E', identity.InFailed
	case c.tx != nil && !c.implicit:
		status, state = 'T', identity.InTransaction
	}
	c.open.Set(state, "")
	c.send(&pgproto3.ReadyForQuery{TxStatus: status})
	return c.flush()
}

// handle does what a message asks. Its error ends the session.
func (c *session) handle(message pgproto3.FrontendMessage) error {
	if c.skipping {
		if _, sync := message.(*pgproto3.Sync); !sync {
			return nil
		}
	}
	switch m := message.(type) {
	case *pgproto3.Query:
		c.simple(m.String)
		return c.ready()
	case *pgproto3.Parse:
		c.extended(c.parse(m))
	case *pgproto3.Bind:
		c.extended(c.bind(m))
	case *pgproto3.Describe:
		c.extended(c.describe(m))
	case *pgproto3.Execute:
		c.extended(c.execute(m.Portal, int(m.MaxRows)))
	case *pgproto3.Close:
		c.closed(m)
	case *pgproto3.Flush:
		return c.flush()
	case *pgproto3.Sync:
		c.skipping, c.piped = false, false
		c.settle()
		return c.ready()
	case *pgproto3.CopyData, *pgproto3.CopyDone, *pgproto3.CopyFail:
		// What a client sends still after a COPY has failed.
	case *pgproto3.FunctionCall:
		c.send(c.problem(statef("0A000", "function-call messages are not taken; call it in a SELECT")))
		return c.ready()
	default:
		return statef("08P01", "this message has no place here")
	}
	if len(c.out) >= mostOut || c.skipping { // an error is told at once
		if err := c.flush(); err != nil {
			return err
		}
	}
	return c.why()
}

// extended tells an error of the extended protocol, after which all is skipped until Sync.
func (c *session) extended(err error) {
	if err == nil {
		return
	}
	c.refuse(err)
	c.skipping = true
	c.fail()
}

// working returns the context of what the session runs: it ends with a request to cancel, with the
// client's connection, with the session's own limit, and with the service.
func (c *session) working(statement string) (ctx context.Context, done func()) {
	ctx, cancel, release := c.context(), c.stop, func() {}
	if c.settings.expires > 0 {
		ctx, cancel = context.WithTimeout(ctx, c.settings.expires)
		release = cancel
	}
	c.runs(statement, cancel)
	return ctx, func() {
		c.rests()
		release()
	}
}

// context returns the context of the session's statements.
func (c *session) context() context.Context {
	under := c.settings.forSource()
	if c.ctx != nil && c.ctx.Err() == nil && c.under == under {
		return c.ctx
	}
	if c.stop != nil {
		c.stop()
	}
	ctx, stop := context.WithCancel(context.Background())
	c.ctx, c.stop, c.under = source.WithSettings(ctx, *under), stop, under
	return c.ctx
}

// runs notes what the session runs, and how that is ended from outside, until rests.
func (c *session) runs(statement string, cancel context.CancelFunc) {
	c.mu.Lock()
	c.cancel = cancel
	if c.ended != nil {
		cancel()
	}
	c.mu.Unlock()
	c.open.Set(identity.Running, statement)
	c.watch.On()
}

func (c *session) rests() {
	c.watch.Off()
	c.mu.Lock()
	c.cancel = nil
	c.mu.Unlock()
}

func (c *session) userName() string {
	ref := c.server.service.Platform.Current().Model.Ref(c.caller.User)
	return strings.TrimPrefix(ref, "user:")
}
