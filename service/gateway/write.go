package gateway

import (
	"context"
	"errors"
	"slices"
	"time"

	"gneiss/core/emit"
	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/source"
)

// errNotYours refuses a statement that would leave a row which the row policies
// do not let through, or whose key is taken: in the same words, for the key may
// be that of a row which is not there for the session.
var errNotYours = fault.New(
	fault.Refused,
	"row_policy",
	"a row that this would leave is not yours to write: a row policy does not allow it, "+
		"its key is taken, or the row that it refers to is not there; nothing was changed",
)

// refusedKey reports whether the database refused a key that could be that of a
// hidden row, or lead to one.
func refusedKey(plan *emit.Plan, err error) bool {
	var c *source.Constraint
	if !errors.As(err, &c) {
		return false
	}
	g := &plan.Tables[0].Governance
	return c.Kind == "FOREIGN KEY" && plan.Leads || (c.Kind == "UNIQUE" || c.Kind == "PRIMARY KEY" || c.Kind == "") && !(g.Open() && g.Write.Open())
}

// write runs a statement that changes rows: as the caller, in one transaction,
// recorded before it is made to last. From another's standpoint nothing is
// changed. What it gives back is kept until it lasts.
func (a *asked) write(ctx context.Context, answer Answer) (End, error) {
	a.record.Action = audit.Write
	a.Note(a.record, a.viewer, a.plan, a.lane)
	if a.viewer.Other {
		return End{}, a.identity.RefuseFrom(a.caller, a.viewer, a.record, fault.New(
			fault.Invalid, "standpoint", "rows are changed as yourself; you are viewing as %s. Return to your own view first", a.viewer.Words))
	}
	var binary []int16
	var err error
	if len(a.plan.Columns) > 0 {
		if binary, err = answer.Head(Head{a.plan.Columns, a.binary(), a.viewer.Words, a.lane.Name}); err != nil {
			return a.failed(err)
		}
	}
	args := source.Bind(a.plan.Args, a.facts())
	end := a.end()
	if a.QueryRequest.Plan && a.ShowsPlan(a.st, a.caller, a.plan) {
		if end.Plan, err = a.ShowPlan(ctx, a.caller, a.viewer, a.lane, a.plan, 0); err != nil {
			return a.failed(err)
		}
	}
	in := source.Request{SQL: a.plan.SQL, Args: args, Columns: a.plan.Columns, Binary: binary}
	if a.plan.Checked {
		in.Columns = append(slices.Clone(in.Columns), query.Column{Type: query.Boolean})
		if binary != nil {
			in.Binary = append(slices.Clone(binary), 0)
		}
	}
	o := a.newOutflow(answer, a.record)
	o.held = true
	changed, err := a.change(ctx, in, o)
	record := o.ending()
	if refusedKey(a.plan, err) {
		record.Reason = err.Error()
		err = errNotYours
	}
	if errors.Is(err, errNotYours) {
		return End{}, a.identity.RefuseFrom(a.caller, a.viewer, record, errNotYours)
	}
	if err != nil {
		return End{}, a.identity.Failed(a.viewer, record, a.started, err)
	}
	end.Took, end.Record, end.Rows, end.Changed, end.Verb = time.Since(a.started), a.record.ID, o.rows, changed, a.plan.Tables[0].Verb
	if len(o.b) > 0 {
		return end, answer.Send(o.b, true)
	}
	return end, nil
}

// change runs a statement that changes rows, and hands what it gives back to o.
func (a *asked) change(ctx context.Context, in source.Request, o *outflow) (changed int64, err error) {
	src, err := a.planSource(ctx, a.plan)
	if err != nil {
		return 0, err
	}
	bounded, leave, err := a.traffic.enter(ctx, a.lane, a.caller.User)
	if err != nil {
		return 0, err
	}
	defer leave()
	size := int64(0)
	row := func(row [][]byte) error {
		if a.plan.Checked {
			if string(row[len(row)-1]) != "t" {
				return errNotYours
			}
			row = row[:len(row)-1]
		}
		if len(row) == 0 {
			return nil
		}
		if size += textSize(row); size > a.lane.Limits.Bytes {
			return fault.New(fault.Invalid, "too_large", "RETURNING gives more than the %d bytes that the lane allows; nothing was changed", a.lane.Limits.Bytes)
		}
		if o.rows == int64(a.lane.Limits.Rows) {
			return fault.New(fault.Invalid, "too_many_rows", "RETURNING gives more than the %d rows that the lane allows; nothing was changed", a.lane.Limits.Rows)
		}
		return o.row(row)
	}
	metered := source.WithBytes(a.own(bounded), 2*a.lane.Limits.Bytes)
	tx, err := a.Tx.of(metered, src, a.plan.Source, true)
	switch {
	case err != nil:
	case tx != nil:
		if changed, err = tx.Write(metered, in, row); err == nil {
			err = a.kept(o, changed)
		}
	default:
		if _, writers := src.Connections(); writers == 1 { // whose turn it is goes round as for transactions
			var at place
			done, waits := a.keep(metered, src, &at, a.plan.Source, true, &hold{who: a.caller.User})
			if err = waits; err != nil {
				break
			}
			defer done()
		}
		err = src.Write(metered, in, row, func(n int64) error {
			changed = n
			return o.settle(n, a.started)
		})
	}
	if err != nil && bounded.Err() != nil {
		err = bounded.Err() // the driver says "interrupted"
	}
	return changed, err
}

// kept puts on record what was changed in a transaction that goes on: how it ends is added then.
func (a *asked) kept(o *outflow, changed int64) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.record.Rows, o.record.TookUS = changed, time.Since(a.started).Microseconds()
	if err := o.flush(); err != nil {
		return err
	}
	a.Tx.writes = append(a.Tx.writes, a.record)
	return nil
}

// settle records that a statement has changed so many rows, before that is made to last. What
// fails then is recorded too, by its ending.
func (o *outflow) settle(changed int64, started time.Time) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.closed = true
	o.timer.Stop()
	record := o.record
	if o.decided {
		record = endOf(o.record)
	}
	record.Rows, record.TookUS = changed, time.Since(started).Microseconds()
	o.settled = true
	return o.log.Write(record)
}
