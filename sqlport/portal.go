package sqlport

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/service/gateway"
	"gneiss/source"
)

// A portal is a prepared statement with its parameters, on its way.
type portal struct {
	of      *prepared
	params  []any
	formats []int16
	run     *parted // once its rows are fetched in parts
	cancel  context.CancelFunc
	tag     string     // once it has ended
	verb    string     // the tag of what was carried out whole
	into    *portal    // which keeps the rows of this part; nil: they are sent
	hold    bool       // it outlives its transaction
	number  int        // in the order in which those of the session were made
	broken  bool       // it was made where something failed later
	sent    int64      // rows of this part
	silent  bool       // which are not sent: MOVE
	cost    int64      // bytes that it takes
	listed  [][][]byte // of a question about the catalog, or of what was carried out whole, what has not been fetched
}

// parted are rows that are fetched in parts. What runs the statement is another goroutine, which
// rests while the session has its turn.
type parted struct {
	rows
	portion int
	wake    chan bool  // go on; false: no more is wanted
	rests   chan event // it has come to the end of a part, or of all; the end waits there until it is asked for
}

// An event is why what runs a statement rests.
type event struct {
	end   gateway.End
	err   error
	ended bool
}

func (p *parted) Portion() int { return p.portion }

func (p *parted) Pause(ctx context.Context) error {
	p.rests <- event{}
	select {
	case more := <-p.wake:
		if !more {
			return gateway.ErrEnough
		}
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// goOn has the statement go on, or end, and returns why it rests next.
func (p *parted) goOn(more bool) event {
	select {
	case p.wake <- more:
		return <-p.rests
	case e := <-p.rests: // it has ended meanwhile
		return e
	}
}

// none, as the most rows of a part, has a statement begin, and no row leave.
const none = gateway.Begins

// fetch takes the next rows of a portal, up to most; zero: all that are left. tell says that the
// client is told how that ended.
func (c *session) fetch(p *portal, most int, tell bool) (n int64, err error) {
	p.sent = 0 // what runs it rests until it is woken
	var next func() event
	if p.run == nil {
		ctx, cancel := context.WithCancel(source.WithSettings(context.Background(), *c.settings.forSource()))
		p.cancel = cancel
		p.run = &parted{rows: rows{c: c, formats: p.formats}, wake: make(chan bool), rests: make(chan event, 1)}
		if p.of.described {
			p.run.expected = p.of.columns
		}
		p.run.portion, p.run.silent, p.run.keep = most, p.silent, p.into
		in := c.ask(p.of.piece.SQL, p.params)
		gateway, caller, run := c.server.service.Gateway, c.caller, p.run
		go func() {
			defer func() {
				if broke := recover(); broke != nil {
					c.server.log.Error("a portal broke", "error", broke)
					run.rests <- event{err: fmt.Errorf("the portal broke"), ended: true}
				}
			}()
			end, err := gateway.Stream(ctx, caller, in, &counted{parted: run, n: &p.sent})
			run.rests <- event{end, err, true}
		}()
		next = func() event { return <-run.rests }
	} else {
		p.run.portion, p.run.silent, p.run.keep = most, p.silent, p.into
		next = func() event { return p.run.goOn(true) }
	}
	c.runs(p.of.piece.SQL, p.cancel)
	e := next()
	c.rests()
	switch {
	case e.err != nil:
		p.cancel()
		p.run = nil
		c.forgetPortal(p)
		return 0, e.err
	case !e.ended:
		if tell {
			c.send(&pgproto3.PortalSuspended{})
		}
		return p.sent, nil
	}
	p.cancel()
	p.run = nil
	if p.tag = c.tagOf(p.of.piece.Node, e.end); strings.HasPrefix(p.tag, "SELECT") {
		p.tag = fmt.Sprintf("SELECT %d", p.sent)
	}
	if tell {
		c.send(&pgproto3.CommandComplete{CommandTag: []byte(p.tag)})
	}
	return p.sent, nil
}

// counted counts the rows of each part.
type counted struct {
	*parted
	n *int64
}

func (r *counted) Row(b []byte, row [][]byte) ([]byte, error) {
	*r.n++
	return r.parted.Row(b, row)
}

// restWithin is how long a source may take to hand over the rest of an answer of which no more is wanted; then its
// connection is given up.
const restWithin = 50 * time.Millisecond

// stopped ends what runs for a portal, and waits for it.
func (p *portal) stopped() {
	if p.run == nil {
		return
	}
	late := time.AfterFunc(restWithin, p.cancel)
	for e := p.run.goOn(false); !e.ended; {
		e = p.run.goOn(false)
	}
	late.Stop()
	p.cancel()
	p.run = nil
}

func (c *session) dropPortal(name string) {
	if p := c.portals[name]; p != nil {
		p.stopped()
		c.gives(p.cost)
		delete(c.portals, name)
	}
}

func (c *session) forgetPortal(p *portal) {
	for name, o := range c.portals {
		if o == p {
			c.gives(p.cost)
			delete(c.portals, name)
		}
	}
}

// dropPortals ends portals; those that outlive a transaction only where all are meant.
func (c *session) dropPortals(all bool) {
	for name, p := range c.portals {
		if all || !p.hold {
			c.dropPortal(name)
		}
	}
}
