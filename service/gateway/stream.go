package gateway

import (
	"context"
	"errors"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/source"
	"gneiss/store"
	"gneiss/wire"
)

// A Commander runs the statements that change the model.
type Commander interface {
	Command(ctx context.Context, c identity.Caller, p *identity.Viewer, in Ask) (wire.Result, error)
}

// An Ask is a statement that a caller asks to be run.
type Ask struct {
	wire.QueryRequest
	Names query.Names
	Tx    *Tx // the transaction that it is part of; nil: it is one of its own
	// Whole says that an answer with more rows than the lane allows is an error, for whoever
	// takes it could not know that it is cut.
	Whole bool
}

// An End is what is known of a statement once it has ended.
type End struct {
	Rows       int64
	Changed    int64            // rows that were changed
	Verb       access.Privilege // what was done to them: INSERT, UPDATE or DELETE; of a read zero
	Took       time.Duration
	Record     int64 // the number of its line in the record; of a Command it is in that
	Standpoint string
	Lane       string
	Truncated  bool
	Plan       *wire.Plan
	Command    *wire.Result // what a statement did that changes the model
	Explain    bool
}

// Stream runs a governed statement and hands its rows to the answer as they come. It is the one
// way to the rows of a source: previews, counts and trials go through run as well.
func (s *Service) Stream(ctx context.Context, c identity.Caller, in Ask, answer Answer) (End, error) {
	st := s.platform.Current()
	p, err := s.identity.ViewerAt(st, c, in.Standpoint)
	if err != nil {
		return End{}, s.identity.Refuse(c, audit.Query, in.SQL, err)
	}
	if query.IsCommand(in.SQL) {
		result, err := s.commander.Command(ctx, c, p, in)
		return End{Command: &result, Standpoint: p.Words}, err
	}
	record := s.identity.NewRecord(c, p, audit.Query, in.SQL)
	if c.Looks() {
		return End{}, s.identity.RefuseFrom(c, p, record, fault.New(fault.Invalid, "moment",
			"a statement reads rows as of now; the rows of a table through a draft, or at another moment, are a preview's"))
	}
	started := time.Now()
	params, err := parameters(in.Params)
	if err != nil {
		return End{}, s.identity.RefuseFrom(c, p, record, err)
	}
	plan, lane, err := s.Plan(ctx, c, p, query.Statement{SQL: in.SQL, Params: params, Names: in.Names}, in.Lane)
	if err != nil {
		return End{}, s.identity.RefuseFrom(c, p, record, err)
	}
	a := asked{Service: s, st: st, caller: c, viewer: p, Ask: in, plan: plan, lane: lane, record: record, started: started, planned: time.Since(started)}
	switch {
	case plan.Explain:
		return a.explain(ctx, answer)
	case plan.Write:
		return a.write(ctx, answer)
	}
	return a.read(ctx, answer)
}

// asked is a statement that is planned, on its way.
type asked struct {
	*Service
	Ask
	st      *platform.State
	caller  identity.Caller
	viewer  *identity.Viewer
	plan    *emit.Plan
	lane    *access.Object
	record  *store.Record
	started time.Time
	planned time.Duration
}

// facts are those of the start of the transaction, which for CURRENT_TIMESTAMP is that of all its
// statements.
func (a *asked) facts() source.Facts {
	if a.Tx != nil {
		return a.Facts(a.Tx.Start)
	}
	return a.Facts(a.started)
}

// own is the context under which the database reads and writes values as the session says. Where a
// policy stands in the statement it does not: what a policy makes of a time, or of the text of a
// value, must not be the reader's to choose.
func (a *asked) own(ctx context.Context) context.Context {
	for _, t := range a.plan.Tables {
		if !t.Governance.Untouched() {
			return source.WithSettings(ctx, source.Settings{})
		}
	}
	if len(a.plan.Behind) > 0 {
		return source.WithSettings(ctx, source.Settings{})
	}
	return ctx
}

func (a *asked) end() End {
	return End{Took: time.Since(a.started), Record: a.record.ID, Standpoint: a.viewer.Words, Lane: a.lane.Name}
}

func (a *asked) failed(err error) (End, error) {
	return End{}, a.identity.Failed(a.viewer, a.record, a.started, err)
}

// read hands the rows of a statement that changes nothing to the answer.
func (a *asked) read(ctx context.Context, answer Answer) (End, error) {
	a.Note(a.record, a.viewer, a.plan, a.lane)
	args := source.Bind(a.plan.Args, a.facts())
	binary, err := answer.Head(Head{a.plan.Columns, a.binary(), a.viewer.Words, a.lane.Name})
	if err != nil {
		return a.failed(err)
	}
	limit, truncated := a.lane.Limits.Rows, false
	if a.Limit > 0 && a.Limit <= limit {
		limit, a.Whole = a.Limit, false
	}
	o := a.newOutflow(answer, a.record)
	o.armed = a.plan.Point // whose row comes with its end
	defer o.rest()
	size := int64(0)
	row := func(row [][]byte) error {
		if !a.Whole {
			if o.rows == int64(limit) || size > a.lane.Limits.Bytes {
				truncated = true
				return errEnough
			}
			size += textSize(row)
		} else if o.rows == int64(limit) {
			return fault.New(fault.Invalid, "too_many_rows", "the answer has more than the %d rows that the lane %s allows; ask for less, or ask who "+
				"administers the lane for more", limit, a.lane.Name)
		}
		return o.row(row)
	}
	err = a.rows(ctx, source.Request{SQL: a.plan.SQL, Args: args, Columns: a.plan.Columns, Binary: binary, Point: a.plan.Point},
		answer, o, row)
	if err != nil && !errors.Is(err, errEnough) {
		return End{}, o.failed(a, err)
	}
	var shown *wire.Plan
	if a.QueryRequest.Plan && a.ShowsPlan(a.st, a.caller, a.plan) {
		if shown, err = a.ShowPlan(ctx, a.caller, a.viewer, a.lane, a.plan, a.planned); err != nil {
			return End{}, a.identity.Failed(a.viewer, o.ending(), a.started, err)
		}
	}
	if err := o.end(a.started); err != nil {
		return End{}, err
	}
	end := a.end()
	end.Rows, end.Truncated, end.Plan = o.rows, truncated, shown
	return end, nil
}

// rows runs a request under the lane's limits: in the transaction that it is part of, or alone.
func (a *asked) rows(ctx context.Context, in source.Request, answer Answer, o *outflow, row func([][]byte) error) error {
	entry, leave, err := a.traffic.enter(ctx, a.lane, a.caller.User)
	if err != nil {
		return err
	}
	defer leave()
	ctx = entry
	src, err := a.planSource(ctx, a.plan)
	if err != nil {
		return err
	}
	ctx = source.WithBytes(a.own(ctx), 2*a.lane.Limits.Bytes)
	tx, err := a.Tx.of(ctx, src, a.plan.Source, false)
	if err == nil {
		parts, inParts := answer.(Portions)
		switch {
		case inParts && (tx == nil || parts.Portion() != 0):
			p := &pausing{asked: a, Portions: parts, entry: entry, o: o, src: src}
			err = p.rows(ctx, tx, in, row)
		case tx != nil:
			err = tx.Stream(ctx, in, row)
		default:
			err = src.Stream(ctx, in, row)
		}
	}
	if ctx.Err() != nil && err != nil && !errors.Is(err, errEnough) {
		if context.Cause(ctx) == errOthersWait {
			return errOthersWait
		}
		return ctx.Err() // the driver says "interrupted"
	}
	return inWords(err, a.plan)
}

// binary reports whether the values of the plan's source can be had in PostgreSQL's binary form.
func (a *asked) binary() bool {
	id := a.plan.Source
	if id == 0 {
		id = query.FirstSource(a.st.Model)
	}
	return id != 0 && a.st.Model.Object(id).Type == emit.Postgres
}

func textSize(row [][]byte) int64 {
	size := int64(0)
	for _, v := range row {
		size += int64(len(v)) + 16
	}
	return size
}
