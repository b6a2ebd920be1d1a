package gateway

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/source"
	"gneiss/store"
	"gneiss/wire"
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
// changed.
func (s *Service) write(
	ctx context.Context,
	c identity.Caller,
	p *identity.Viewer,
	in wire.QueryRequest,
	plan *emit.Plan,
	lane *access.Object,
	record *store.Record,
) (wire.Result, error) {
	started := time.Now()
	record.Action = audit.Write
	p.Touch(record, Objects(plan))
	if p.Other {
		return wire.Result{}, s.identity.RefuseFrom(
			c,
			p,
			record,
			fault.New(fault.Invalid, "standpoint", "rows are changed as yourself; you are viewing as %s. Return to your own view first", p.Words),
		)
	}
	out := wire.Result{Columns: resultColumns(plan), Rows: [][]any{}, Standpoint: p.Words, Lane: lane.Name}
	args := source.Bind(plan.Args, s.Facts(started))
	src, err := s.planSource(ctx, plan)
	if err != nil {
		return wire.Result{}, s.identity.Failed(p, record, started, err)
	}
	if in.Plan && s.ShowsPlan(s.platform.Current(), c, plan) {
		if out.Plan, err = s.ShowPlan(ctx, c, p, lane, plan, args, 0); err != nil {
			return wire.Result{}, s.identity.Failed(p, record, started, err)
		}
	}
	bounded, leave, err := s.traffic.enter(ctx, lane)
	if err != nil {
		return wire.Result{}, s.identity.Failed(p, record, started, err)
	}
	defer leave()
	recorded := false
	columns := plan.Columns
	if plan.Checked {
		columns = append(slices.Clone(columns), query.Column{Type: query.Boolean})
	}
	size := int64(0)
	err = src.Write(source.WithBytes(bounded, 2*lane.Limits.Bytes), plan.SQL, args, columns, func(row []any) error {
		if plan.Checked {
			if row[len(row)-1] != true {
				return errNotYours
			}
			row = row[:len(row)-1]
		}
		if len(row) == 0 {
			return nil
		}
		if size += rowSize(row); size > lane.Limits.Bytes {
			return fault.New(
				fault.Invalid,
				"too_large",
				"RETURNING gives more than the %d bytes that the lane allows; nothing was changed",
				lane.Limits.Bytes,
			)
		}
		if len(out.Rows) == lane.Limits.Rows {
			return fault.New(
				fault.Invalid,
				"too_many_rows",
				"RETURNING gives more than the %d rows that the lane allows; nothing was changed",
				lane.Limits.Rows,
			)
		}
		out.Rows = append(out.Rows, kept(row))
		return nil
	}, func(changed int64) error {
		out.Changed = changed
		record.Rows, record.TookUS = changed, time.Since(started).Microseconds()
		recorded = true
		return s.audit.Write(record)
	})
	if err != nil && bounded.Err() != nil {
		err = bounded.Err() // the driver says "interrupted"
	}
	if refusedKey(plan, err) {
		record.Reason = err.Error()
		err = errNotYours
	}
	if errors.Is(err, errNotYours) {
		return wire.Result{}, s.identity.RefuseFrom(c, p, record, errNotYours)
	}
	if err != nil {
		if recorded { // what was recorded did not come to pass, so that is recorded too
			again := *record
			again.ID = 0
			record = &again
		}
		return wire.Result{}, s.identity.Failed(p, record, started, err)
	}
	out.TookMS = float64(time.Since(started).Microseconds()) / 1000
	out.Record = audit.Reference(record.ID)
	if len(out.Columns) == 0 {
		out.Columns = []wire.ResultColumn{{Name: "done", Type: "text"}}
		verb := map[access.Privilege]string{access.Insert: "inserted", access.Update: "changed", access.Delete: "removed"}[plan.Tables[0].Verb]
		out.Rows = [][]any{{fmt.Sprintf("%s %s", verb, say.Count(int(out.Changed), "row"))}}
	}
	return out, nil
}
