package gateway

import (
	"context"
	"errors"
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
	own   bool   // it has a connection of its own, and not that of a transaction
	leave func() // gives back what it keeps; nil: it keeps nothing
}

// end gives back what the statement kept.
func (p *pausing) end() {
	if p.leave != nil {
		p.leave()
	}
}

// othersWait is how long a statement may keep a connection for its reader while others wait for one.
const othersWait = 5 * time.Second

var errOthersWait = fault.New(fault.TooMany, "others_wait", "others wait for the connection that these rows keep; read them faster, or fewer at once")

// hurry ends the statement soon.
func (p *pausing) hurry() {
	time.AfterFunc(othersWait, func() { p.entry.cancel(errOthersWait) })
}

// pause sends a part of the rows, and waits until the next is wanted.
func (p *pausing) pause(ctx context.Context) error {
	if err := p.o.sendNow(); err != nil {
		return err
	}
	p.o.rest()
	again := p.traffic.rest(p.entry)
	if p.own && p.leave == nil {
		leave, err := p.keep(ctx, p.src, new(place), p.plan.Source, false, &hold{who: p.caller.User, hurry: p.hurry, rests: true})
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
