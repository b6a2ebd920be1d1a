package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
	"gneiss/store"
	"gneiss/wire"
)

// errEnough ends a query whose result has reached its limit.
var errEnough = errors.New("the result has reached its limit")

// A commander runs the statements that change the model.
type commander interface {
	Command(ctx context.Context, c Caller, p *standpoint, in wire.QueryRequest) (wire.Result, error)
}

// Query runs a governed query. It is the one way to the rows of a source:
// previews, counts and trials go through run as well.
func (s *Service) Query(ctx context.Context, c Caller, in wire.QueryRequest) (wire.Result, error) {
	st := s.state()
	p, err := s.standAt(st, c, in.Standpoint)
	if err != nil {
		return wire.Result{}, s.refuse(c, "query", in.SQL, err)
	}
	if query.IsCommand(in.SQL) {
		return s.commander.Command(ctx, c, p, in)
	}
	record := s.newRecord(c, p, "query", in.SQL)
	started := s.now()
	params, err := parameters(in.Params)
	if err != nil {
		return wire.Result{}, s.refuseFrom(c, p, record, err)
	}
	plan, lane, err := s.planOn(c, p, in.SQL, params, in.Lane)
	if err != nil {
		return wire.Result{}, s.refuseFrom(c, p, record, err)
	}
	planned := s.now().Sub(started)
	if plan.Explain {
		return s.explain(ctx, c, p, lane, plan, record, planned)
	}
	if plan.Write {
		return s.write(ctx, c, p, in, plan, lane, record)
	}
	p.touches(record, planObjects(plan))
	out := wire.Result{Columns: resultColumns(plan), Rows: [][]any{}, Standing: p.words, Lane: lane.Name}
	limit := lane.Limits.Rows
	if in.Limit > 0 {
		limit = min(limit, in.Limit)
	}
	args := source.Bind(plan.Args, s.facts(started))
	size := int64(0)
	err = s.run(ctx, lane, plan, args, func(row []any) error {
		if len(out.Rows) == limit || size > lane.Limits.Bytes {
			out.Truncated = true
			return errEnough
		}
		size += rowSize(row)
		out.Rows = append(out.Rows, append([]any(nil), row...))
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return wire.Result{}, s.failed(p, record, started, err)
	}
	if in.Plan && s.showsPlan(st, c, plan) {
		if out.Plan, err = s.showPlan(ctx, c, p, lane, plan, args, planned); err != nil {
			return wire.Result{}, s.failed(p, record, started, err)
		}
	}
	out.TookMS = float64(s.now().Sub(started).Microseconds()) / 1000
	record.Rows, record.TookUS = int64(len(out.Rows)), s.now().Sub(started).Microseconds()
	if err := s.record(record); err != nil { // durable before the rows are handed out
		return wire.Result{}, err
	}
	out.Record = reference(record.ID)
	return out, nil
}

// run runs a plan under a lane's limits and hands its rows to f.
func (s *Service) run(ctx context.Context, lane *access.Object, plan *query.Plan, args []any, f func([]any) error) error {
	ctx, cancel := s.within(ctx, lane)
	defer cancel()
	if err := s.traffic.enter(ctx, lane); err != nil {
		return err
	}
	defer s.traffic.leave(lane.ID)
	src, err := s.planSource(ctx, plan)
	if err != nil {
		return err
	}
	size := int64(0)
	err = src.Run(source.WithBytes(ctx, 2*lane.Limits.Bytes), plan.SQL, args, plan.Columns, func(row []any) error {
		if size += rowSize(row); size > 2*lane.Limits.Bytes { // whose caller has not had enough before
			return source.ErrTooLarge
		}
		return f(row)
	})
	if ctx.Err() != nil && err != nil && !errors.Is(err, errEnough) {
		return ctx.Err() // the driver says "interrupted"
	}
	return err
}

// rowSize is about what a row takes in memory, in bytes.
func rowSize(row []any) int64 {
	size := int64(0)
	for _, v := range row {
		if text, ok := v.(string); ok {
			size += int64(len(text))
		}
		size += 16
	}
	return size
}

// planSource is where a plan runs. A query without tables runs on any source.
func (s *Service) planSource(ctx context.Context, plan *query.Plan) (source.Source, error) {
	id := plan.Source
	if id == 0 {
		children := s.state().model.Object(access.PlatformID).Children
		if len(children) == 0 {
			return nil, fmt.Errorf("%w: no source is connected", source.ErrUnavailable)
		}
		id = children[0]
	}
	return s.source(ctx, id)
}

func resultColumns(plan *query.Plan) []wire.ResultColumn {
	columns := make([]wire.ResultColumn, len(plan.Columns))
	for i, c := range plan.Columns {
		columns[i] = wire.ResultColumn{Name: c.Name, Type: c.Type.String()}
	}
	return columns
}

// planObjects lists what a plan reads and writes, by column where it names any.
func planObjects(plan *query.Plan) []access.ObjectID {
	var ids []access.ObjectID
	for _, t := range plan.Tables {
		columns := append(slices.Clone(t.Columns), t.Written...)
		slices.Sort(columns)
		if len(columns) == 0 {
			ids = append(ids, t.Table)
		}
		ids = append(ids, slices.Compact(columns)...)
	}
	return ids
}

// touches notes in a record what was read, written or asked for, and the labels
// that it bears.
func (p *standpoint) touches(record *store.Record, ids []access.ObjectID) {
	var paths, labels []string
	for _, id := range ids {
		paths = append(paths, p.Model.Path(id))
		for _, label := range p.state.policies.Labels(p.Model, id) {
			labels = append(labels, p.Model.Path(label))
		}
	}
	slices.Sort(labels)
	record.Objects, record.Labels = jsonList(paths), jsonList(slices.Compact(labels))
}

// showsPlan reports whether the caller may see what a plan is made of: policies
// and the tables that they read, which is for who may review the tables.
func (s *Service) showsPlan(st *state, c Caller, plan *query.Plan) bool {
	for _, t := range plan.Tables {
		if !s.reviewsObject(st, c, t.Table) {
			return false
		}
	}
	for _, table := range plan.Behind {
		if !s.reviewsObject(st, c, table) {
			return false
		}
	}
	return true
}

// showPlan is what --show-plan prints.
func (s *Service) showPlan(ctx context.Context, c Caller, p *standpoint, lane *access.Object, plan *query.Plan, args []any, planned time.Duration) (*wire.Plan, error) {
	out := &wire.Plan{SQL: plan.SQL, Args: []string{}, Policies: []string{}, Tables: []wire.Shaped{}, PlanUS: planned.Microseconds()}
	for i, a := range plan.Args {
		text := map[bool]string{true: "the key of pseudonyms", false: "a secret of this query's"}[a.Key]
		if !a.Key && !a.Nonce {
			value, err := json.Marshal(args[i])
			if err != nil {
				return nil, err
			}
			text = string(value)
		}
		out.Args = append(out.Args, fmt.Sprintf("%s%d = %s", plan.Mark, i+1, text))
	}
	for _, t := range plan.Tables {
		out.Policies = append(out.Policies, p.policySentences(t.Table)...)
		out.Tables = append(out.Tables, shaped(p.Model, t))
	}
	if hidden := s.hiddenFrom(p.state, c, plan); hidden != 0 {
		out.Database = []string{fmt.Sprintf("The database's plan contains estimates of row counts, so it is shown only to those who see all rows of %s.", p.Model.Path(hidden))}
		return out, nil
	}
	ctx, cancel := s.within(ctx, lane)
	defer cancel()
	if err := s.traffic.enter(ctx, lane); err != nil {
		return nil, err
	}
	defer s.traffic.leave(lane.ID)
	src, err := s.planSource(ctx, plan)
	if err != nil {
		return nil, err
	}
	out.Database, err = src.Explain(ctx, plan.SQL, args)
	return out, err
}

// hiddenFrom finds a table of a plan of which the caller, as themself, does not see
// all rows; zero: none.
func (s *Service) hiddenFrom(st *state, c Caller, plan *query.Plan) access.ObjectID {
	own, err := s.own(st, c)
	ids := slices.Clone(plan.Behind)
	for _, t := range plan.Tables {
		ids = append(ids, t.Table)
	}
	for _, id := range ids {
		if o := st.model.Object(id); o.Kind == access.Table && (err != nil || !query.SeesAllRows(own, st.policies, id)) {
			return id
		}
	}
	return 0
}

// explain gives the plan of a statement, line by line, and does not run it.
func (s *Service) explain(ctx context.Context, c Caller, p *standpoint, lane *access.Object, plan *query.Plan, record *store.Record, planned time.Duration) (wire.Result, error) {
	if !s.showsPlan(s.state(), c, plan) {
		return wire.Result{}, s.refuseFrom(c, p, record, problem(403, "refused", "Refused", "EXPLAIN shows the policies behind a query; it needs DESCRIBE or MANAGE on all its tables and on those that the policies read"))
	}
	shown, err := s.showPlan(ctx, c, p, lane, plan, source.Bind(plan.Args, s.facts(s.now())), planned)
	if err != nil {
		return wire.Result{}, s.failed(p, record, s.now(), err)
	}
	out := wire.Result{Columns: []wire.ResultColumn{{Name: "plan", Type: "text"}}, Rows: [][]any{}, Standing: p.words}
	line := func(format string, args ...any) { out.Rows = append(out.Rows, []any{fmt.Sprintf(format, args...)}) }
	for _, text := range strings.Split(shown.SQL, "\n") {
		line("%s", text)
	}
	for _, a := range shown.Args {
		line("%s", a)
	}
	for _, text := range shown.Policies {
		line("policy %s", text)
	}
	for _, text := range shown.Database {
		line("database: %s", text)
	}
	p.touches(record, planObjects(plan))
	if err := s.record(record); err != nil {
		return wire.Result{}, err
	}
	out.Record = reference(record.ID)
	return out, nil
}

// shaped says what the policies made of a table.
func shaped(m *access.Model, t query.TableUse) wire.Shaped {
	out := wire.Shaped{Table: m.Path(t.Table), Closed: t.Governance.Closed, Rows: []string{}, Columns: []wire.ShapedColumn{}}
	for _, p := range t.Governance.All() {
		out.Rows = append(out.Rows, p.Name)
	}
	for _, id := range t.Columns {
		d, ok := t.Governance.Columns[id]
		if !ok {
			continue
		}
		out.Columns = append(out.Columns, wire.ShapedColumn{Name: m.Object(id).Name, Treatment: d.Treatment.String(), Partly: d.Partly(),
			By: policy.Names(d.By), Lost: policy.Names(d.Lost), Lifted: policy.Names(d.Lifted), Conflict: d.Conflict})
	}
	return out
}

// RecordBroken records a request that broke, which is a fault of the service.
func (s *Service) RecordBroken(request, address string, what any) {
	r := &store.Record{Actor: "gneiss", Action: "query", Decision: "failed", Text: bounded(request, mostRecorded), Reason: bounded(fmt.Sprint("the request broke: ", what), mostRecorded), Address: address}
	if err := s.record(r); err != nil {
		s.log.Error("a request that broke is not on record", "error", err)
	}
}

// mostRecorded bounds the texts of a record, in bytes.
const mostRecorded = 16 << 10

// bounded cuts a text that is too long to be kept, and says so.
func bounded(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return fmt.Sprintf("%s … (%d bytes)", strings.ToValidUTF8(text[:most], ""), len(text))
}

// newRecord starts the record of what a caller does.
func (s *Service) newRecord(c Caller, p *standpoint, action, text string) *store.Record {
	r := &store.Record{Actor: p.Model.Ref(c.User), Action: action, Decision: "allowed", Text: text, Address: c.Address}
	if p.words != r.Actor {
		r.Standing = p.words
	}
	return r
}

// record writes one line of the record, durably.
func (s *Service) record(r *store.Record) error {
	if r.Labels == "" {
		r.Labels = "[]"
	}
	r.Text, r.Reason, r.Actor, r.Standing = bounded(r.Text, mostRecorded), bounded(r.Reason, mostRecorded), bounded(r.Actor, mostName), bounded(r.Standing, 2*mostName+mostPurpose)
	if r.At == "" {
		r.At = s.now().UTC().Format("2006-01-02T15:04:05.000Z")
	}
	return s.store.Audit().Add(r)
}

// reference is how a record is named.
func reference(id int64) string { return fmt.Sprintf("R-%d", id) }

// refuseFrom records a refused query and returns what the caller is told. The
// record has all that was missing; the caller is told what their door lets them
// know.
func (s *Service) refuseFrom(c Caller, p *standpoint, record *store.Record, err error) error {
	told := s.told(p.state, c, err)
	record.Decision, record.Reason = "refused", err.Error()
	var q *query.Error
	if errors.As(err, &q) && len(q.Needs) > 0 {
		needs := p.needs(q.Needs)
		record.Missing = jsonList(needs)
		record.Reason = "missing: " + strings.Join(needs, ", ")
		var objects []access.ObjectID
		for _, n := range q.Needs {
			objects = append(objects, n.Object)
		}
		p.touches(record, objects)
		own := s.reviews(p.state, c) // who reviews may know what their standpoint may not
		if !q.Hidden || own {
			told.Missing = needs
		}
		if own {
			told.Fixes = s.fixesFor(p, q.Needs)
		}
	}
	if err := s.record(record); err != nil {
		return err
	}
	told.Reference = reference(record.ID)
	return told
}

// fixesFor proposes ways to give the last of several needs with all its doors.
func (s *Service) fixesFor(p *standpoint, needs []access.Need) []wire.Fix {
	last := needs[len(needs)-1]
	return s.fixes(p, last.Privilege, last.Object)
}

// refuse records a refusal that has no standpoint of its own.
func (s *Service) refuse(c Caller, action, text string, err error) error {
	st := s.state()
	p, perr := s.standAt(st, c, wire.Standpoint{})
	if perr != nil {
		return perr
	}
	return s.refuseFrom(c, p, s.newRecord(c, p, action, text), err)
}

// failed records a query that was allowed but did not finish, and returns what
// the caller is told: nothing of the database's own words, which could tell of
// values.
func (s *Service) failed(p *standpoint, record *store.Record, started time.Time, err error) error {
	told := Problem(err)
	if told.Code == "source_unavailable" && !p.review {
		told.Detail = "the source is not available now; the record has the reason" // which names files
	}
	if told.Code == "internal" {
		s.log.Error("a query failed", "error", err)
		told = problem(422, "query_failed", "The query failed", "the database could not run the query; the record has the reason")
	}
	record.Decision, record.Reason, record.TookUS = "failed", err.Error(), s.now().Sub(started).Microseconds()
	if err := s.record(record); err != nil {
		return err
	}
	told.Reference = reference(record.ID)
	return told
}

func jsonList(list []string) string {
	if list == nil {
		list = []string{}
	}
	text, err := json.Marshal(list)
	if err != nil {
		panic(err) // strings always marshal
	}
	return string(text)
}
