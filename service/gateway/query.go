package gateway

import (
	"context"
	"errors"
	"time"

	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/identity"
	"gneiss/source"
	"gneiss/wire"
)

// A Commander runs the statements that change the model.
type Commander interface {
	Command(ctx context.Context, c identity.Caller, p *identity.Viewer, in wire.QueryRequest) (wire.Result, error)
}

// Query runs a governed query. It is the one way to the rows of a source:
// previews, counts and trials go through run as well.
func (s *Service) Query(ctx context.Context, c identity.Caller, in wire.QueryRequest) (wire.Result, error) {
	st := s.platform.Current()
	p, err := s.identity.ViewerAt(st, c, in.Standpoint)
	if err != nil {
		return wire.Result{}, s.identity.Refuse(c, audit.Query, in.SQL, err)
	}
	if query.IsCommand(in.SQL) {
		return s.commander.Command(ctx, c, p, in)
	}
	record := s.identity.NewRecord(c, p, audit.Query, in.SQL)
	started := time.Now()
	params, err := parameters(in.Params)
	if err != nil {
		return wire.Result{}, s.identity.RefuseFrom(c, p, record, err)
	}
	plan, lane, err := s.Plan(c, p, in.SQL, params, in.Lane)
	if err != nil {
		return wire.Result{}, s.identity.RefuseFrom(c, p, record, err)
	}
	planned := time.Since(started)
	if plan.Explain {
		return s.explain(ctx, c, p, lane, plan, record, planned)
	}
	if plan.Write {
		return s.write(ctx, c, p, in, plan, lane, record)
	}
	p.Touch(record, Objects(plan))
	out := wire.Result{Columns: resultColumns(plan), Rows: [][]any{}, Standpoint: p.Words, Lane: lane.Name}
	limit := lane.Limits.Rows
	if in.Limit > 0 {
		limit = min(limit, in.Limit)
	}
	args := source.Bind(plan.Args, s.Facts(started))
	size := int64(0)
	err = s.Run(ctx, lane, plan, args, func(row []any) error {
		if len(out.Rows) == limit || size > lane.Limits.Bytes {
			out.Truncated = true
			return errEnough
		}
		size += rowSize(row)
		out.Rows = append(out.Rows, kept(row))
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return wire.Result{}, s.identity.Failed(p, record, started, err)
	}
	if in.Plan && s.ShowsPlan(st, c, plan) {
		if out.Plan, err = s.ShowPlan(ctx, c, p, lane, plan, args, planned); err != nil {
			return wire.Result{}, s.identity.Failed(p, record, started, err)
		}
	}
	out.TookMS = float64(time.Since(started).Microseconds()) / 1000
	record.Rows, record.TookUS = int64(len(out.Rows)), time.Since(started).Microseconds()
	if err := s.audit.Write(record); err != nil { // durable before the rows are handed out
		return wire.Result{}, err
	}
	out.Record = audit.Reference(record.ID)
	return out, nil
}
