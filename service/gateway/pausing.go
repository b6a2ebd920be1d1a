package gateway

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"gneiss/service/fault"
	"gneiss/source"
)

// pausing is a statement whose rows are taken in parts. While its reader thinks, others run in its place on the lane; a
// connection that it keeps meanwhile counts among those that transactions keep, of which an account has its share, and
// is given back where others wait for it.
type pausing struct {
	*asked
	Portions
	entry *entry
	o     *outflow
	src   source.Source
	hold  *hold  // the connection that it keeps of its own; nil: that of a transaction, or none yet
	at    place  // of the hold
	leave func() // gives the hold back
	soon  atomic.Bool
}

// rows takes the rows of a statement in parts, from its transaction or, where that is nil, on a connection of its own.
func (p *pausing) rows(ctx context.Context, tx source.Tx, in source.Request, row func([][]byte) error) error {
	if tx != nil {
		return p.fetched(ctx, tx, in, row)
	}
	p.hold = &hold{who: p.caller.User, hurry: p.hurry, rests: true}
	defer func() {
		if p.leave != nil {
			p.leave()
		}
	}()
	return p.src.Stream(ctx, in, p.paused(ctx, row))
}

// othersWait is how long a statement may keep a connection for its reader while others wait for one.
const othersWait = 5 * time.Second

var errOthersWait = fault.New(fault.TooMany, "others_wait", "others wait for the connection that these rows keep; read them faster, or fewer at once")

// hurry ends the statement soon, if others wait still.
func (p *pausing) hurry() {
	if p.soon.Swap(true) {
		return
	}
	time.AfterFunc(othersWait, func() {
		p.soon.Store(false)
		if p.holds.waitedFor(p.at, p.hold) {
			p.entry.cancel(errOthersWait)
		}
	})
}

// pause sends a part of the rows, and waits until the next is wanted.
func (p *pausing) pause(ctx context.Context) error {
	if err := p.o.sendNow(); err != nil {
		return err
	}
	p.o.rest()
	again := p.traffic.rest(p.entry)
	if p.hold != nil && p.leave == nil {
		leave, err := p.keep(ctx, p.src, &p.at, p.plan.Source, false, p.hold)
		if err != nil {
			return err
		}
		p.leave = leave
	}
	if err := p.Pause(ctx); err != nil {
		return err
	}
	return again()
}

// paused lets a statement wait after each part of its rows.
func (p *pausing) paused(ctx context.Context, row func([][]byte) error) func([][]byte) error {
	n := 0
	return func(r [][]byte) error {
		if p.Portion() == Begins {
			if err := p.pause(ctx); err != nil {
				return err
			}
		}
		if err := row(r); err != nil {
			return err
		}
		if n++; n == p.Portion() { // whether there are more is not known yet
			n = 0
			return p.pause(ctx)
		}
		return nil
	}
}

// fetched takes the rows of a statement from its transaction in parts, between which others run.
func (p *pausing) fetched(ctx context.Context, tx source.Tx, in source.Request, row func([][]byte) error) error {
	cursor, err := tx.Open(ctx, in)
	if err != nil {
		return err
	}
	if p.Portion() == Begins {
		if err := p.pause(ctx); err != nil {
			return errors.Join(err, cursor.Close(context.WithoutCancel(ctx)))
		}
	}
	for {
		most := p.Portion()
		if most == 0 {
			most = 1 << 30
		}
		n, err := cursor.Fetch(ctx, most, row)
		if err != nil {
			return err
		}
		if n < most {
			return cursor.Close(ctx)
		}
		if err := p.pause(ctx); err != nil {
			return errors.Join(err, cursor.Close(context.WithoutCancel(ctx)))
		}
	}
}
