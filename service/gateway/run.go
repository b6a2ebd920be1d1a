package gateway

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/query"
	"gneiss/service/identity"
	"gneiss/source"
	"gneiss/wire"
)

// errEnough ends a query whose result has reached its limit.
var errEnough = errors.New("the result has reached its limit")

// Run runs a plan under a lane's limits for a person, who waits for a place there like everybody, and hands
// its rows to f. Zero is the service itself.
func (s *Service) Run(ctx context.Context, who access.SubjectID, lane *access.Object, plan *emit.Plan, args []any, f func([]any) error) error {
	ctx, leave, err := s.traffic.enter(ctx, lane, who)
	if err != nil {
		return err
	}
	defer leave()
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
	return inWords(err, plan)
}

// inWords tells an error in the database's own words, where these cannot tell of what is not
// there for the reader.
func inWords(err error, plan *emit.Plan) error {
	var unfit *source.Unfit
	if !errors.As(err, &unfit) || unfit.SQLState == "" {
		return err
	}
	told := *unfit
	if !plan.Wordless && unfit.Words != "" {
		told.Text = unfit.Words
	}
	return &told
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
func (s *Service) planSource(ctx context.Context, plan *emit.Plan) (source.Source, error) {
	id := plan.Source
	if id == 0 {
		if id = query.FirstSource(s.platform.Current().Model); id == 0 {
			return nil, fmt.Errorf("%w: no source is connected", source.ErrUnavailable)
		}
	}
	return s.Source(ctx, id)
}

// mostExact is the greatest whole number that every reader of JSON reads as it is (RFC 8259, 6).
const mostExact = 1<<53 - 1

// kept is a value for an answer: a whole number that a reader of JSON could round is a text.
func kept(v any) any {
	if n, ok := v.(int64); ok && (n > mostExact || n < -mostExact) {
		return strconv.FormatInt(n, 10)
	}
	return v
}

// ResultColumns are columns as an answer names them.
func ResultColumns(list []query.Column) []wire.ResultColumn {
	columns := make([]wire.ResultColumn, len(list))
	for i, c := range list {
		columns[i] = wire.ResultColumn{Name: c.Name, Type: cmp.Or(c.Declared, c.Type.String())}
	}
	return columns
}

// objectsOf lists what a plan reads and writes, by column where it names any.
func objectsOf(plan *emit.Plan) []access.ObjectID {
	ids := slices.Clone(plan.Calls)
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

// Plan plans a query and finds the lane it runs on. All that is missing is
// said in one go.
func (s *Service) Plan(ctx context.Context, c identity.Caller, p *identity.Viewer, in query.Statement, lane string) (*emit.Plan, *access.Object, error) {
	on, laneErr := s.Lane(c, p, lane)
	plan, err := p.State.Plan(ctx, p.Rights, in)
	if err == nil {
		err = laneErr
	}
	var q, l *query.Error
	if errors.As(err, &q) && errors.As(laneErr, &l) && err != laneErr && len(q.Needs) > 0 {
		both := *q
		both.Needs = append(append([]access.Need{}, l.Needs...), q.Needs...)
		if !q.Hidden {
			both.Text += ", " + p.NeedNames(l.Needs)[0]
		}
		err = &both
	}
	return plan, on, err
}
