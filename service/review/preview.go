package review

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/source"
	"gneiss/wire"
)

// previewRows is how many rows a preview shows when nothing else is asked.
const previewRows = 50

// side is one standpoint's part of a preview while it is put together.
type side struct {
	view wire.Side
	*identity.Viewer
	columns []string // the readable ones
	rows    [][]any
	more    bool
	shows   bool // what it runs
}

// Preview reads the same table from one or more standpoints and lays the rows
// side by side. Rows are matched by the table's key where every side reads it in
// clear, else by their place.
func (s *Service) Preview(ctx context.Context, c identity.Caller, in wire.PreviewRequest) (wire.Preview, error) {
	st := s.platform.Current()
	most := 4
	if len(in.Drafts) > 0 {
		most = 2
	}
	if len(in.Standpoints) == 0 || len(in.Standpoints) > most {
		return wire.Preview{}, fault.New(fault.Invalid, "standpoints", "a preview takes one to four standpoints; with drafts, one or two")
	}
	drafted, err := s.withDrafts(st, c, in.Drafts)
	if err != nil {
		return wire.Preview{}, err
	}
	limit := previewRows
	if in.Limit > 0 {
		limit = min(in.Limit, 500)
	}
	var sides []*side
	var table *access.Object
	for i, at := range in.Standpoints {
		st, c, err := s.lookFrom(ctx, c, at.Moment)
		if err != nil {
			return wire.Preview{}, s.identity.Refuse(c, audit.Preview, in.Table, err)
		}
		p, err := s.identity.ViewerAt(st, c, at.Standpoint)
		if err != nil {
			return wire.Preview{}, s.identity.Refuse(c, audit.Preview, in.Table, err)
		}
		sides = append(sides, &side{Viewer: p, shows: in.Plan})
		if drafted != nil {
			then, err := s.identity.ViewerAt(drafted, c, at.Standpoint)
			if err != nil {
				return wire.Preview{}, err
			}
			then.Words += " with " + strings.Join(in.Drafts, ", ") + " live"
			sides = append(sides, &side{Viewer: then, shows: in.Plan})
		}
		if o, err := s.identity.Seen(p, in.Table); err == nil {
			table = o
		} else if o, lerr := st.Model.Lookup(in.Table); lerr == nil && s.identity.Reviews(st, c) {
			table = o
		} else if table == nil && i == len(in.Standpoints)-1 {
			return wire.Preview{}, s.identity.Refuse(c, audit.Preview, in.Table, err)
		}
	}
	for _, v := range sides {
		if !v.Model.HasObject(table.ID) || v.Model.Object(table.ID).Name != table.Name {
			return wire.Preview{}, fault.New(fault.NotFound, "not_there", "%s is not there for %s", in.Table, v.Words+v.Through)
		}
	}
	if !table.Kind.IsRelation() {
		return wire.Preview{}, fault.New(fault.Invalid, "wrong_level", "%s is a %s; a preview needs a table", in.Table, table.Kind)
	}
	st = sides[0].State
	out := wire.Preview{Table: st.Model.Path(table.ID), Columns: []wire.ResultColumn{}, Rows: []wire.PreviewRow{}}
	key := commonKey(st, sides, table)
	for _, v := range sides {
		if err := s.readSide(ctx, c, v, table, key, limit); err != nil {
			return wire.Preview{}, err
		}
	}
	layOut(&out, st.Model, table, sides, key, limit)
	return out, nil
}

// lookFrom is the state that a side of a preview looks at. To read rows as they would be under other
// rights than those that hold is for who manages the platform, as to stand in for another is.
func (s *Service) lookFrom(ctx context.Context, c identity.Caller, m wire.Moment) (*platform.State, identity.Caller, error) {
	if m != (wire.Moment{}) && !s.identity.Manages(s.platform.Current(), c, access.PlatformID) {
		return nil, c, fault.New(fault.Refused, "refused", "rows through a draft, or as of another moment, need MANAGE on platform")
	}
	c, err := s.identity.Looking(ctx, c, m)
	return s.identity.State(c), c, err
}

// withDrafts is the state as if some policies were live; nil where there are none.
// It is for who may publish them.
func (s *Service) withDrafts(st *platform.State, c identity.Caller, names []string) (*platform.State, error) {
	if len(names) == 0 {
		return nil, nil
	}
	for _, name := range names {
		if err := s.identity.ChangesPolicy(st, c, name); err != nil {
			return nil, err
		}
		next, err := st.Apply(policy.SetPolicyStatus{Name: name, Status: policy.Live}, time.Now())
		if err != nil {
			return nil, err
		}
		st = next
	}
	return st, nil
}

// commonKey returns the first column that cannot be NULL and that every side
// which can read the table reads in clear, or nil.
func commonKey(st *platform.State, sides []*side, table *access.Object) *access.Object {
	for _, id := range table.Children {
		column := st.Model.Object(id)
		if !column.NotNull || column.Missing {
			continue
		}
		for _, v := range sides {
			verdict := v.Resolve(table.ID)
			if !verdict.Allowed.Has(access.Select) {
				continue
			}
			d := v.State.Policies.Govern(v.Rights, table.ID).Columns[id]
			if !verdict.Covers(access.Select, id) || d.Treatment.Kind != policy.Clear {
				return nil
			}
		}
		return column
	}
	return nil
}

// readSide reads one side's rows through the gateway, and records it.
func (s *Service) readSide(ctx context.Context, c identity.Caller, v *side, table *access.Object, key *access.Object, limit int) error {
	v.view.Standpoint, v.view.Bands, v.view.Columns = v.Words+v.Through, bandsOf(v.Viewer, table.ID), columnViews(v.Viewer, table)
	for _, column := range v.view.Columns {
		if column.Readable {
			v.columns = append(v.columns, column.Name)
		}
	}
	list := "count(*)"
	if len(v.columns) > 0 {
		quotedNames := make([]string, len(v.columns))
		for i, name := range v.columns {
			quotedNames[i] = access.Quote(name)
		}
		list = strings.Join(quotedNames, ", ")
	}
	path := v.Model.Path(table.ID)
	text := fmt.Sprintf("SELECT %s FROM %s", list, path)
	if key != nil && slices.Contains(v.columns, key.Name) {
		text += " ORDER BY " + access.Quote(key.Name)
	}
	text += fmt.Sprintf(" LIMIT %d", limit+1)
	record := s.identity.NewRecord(c, v.Viewer, audit.Preview, path)
	started := time.Now()
	plan, lane, err := s.gateway.Plan(ctx, c, v.Viewer, query.Statement{SQL: text}, "")
	if err == nil {
		s.gateway.Note(record, v.Viewer, plan, lane)
		err = s.gateway.Run(ctx, c.User, lane, plan, source.Bind(plan.Args, s.gateway.Facts(started)), func(row []any) error {
			v.rows = append(v.rows, append([]any(nil), row...))
			return nil
		})
		if err != nil {
			return s.identity.Failed(v.Viewer, record, started, err)
		}
		if v.shows && s.gateway.ShowsPlan(v.State, c, plan) {
			if v.view.Plan, err = s.gateway.ShowPlan(ctx, c, v.Viewer, lane, plan, 0); err != nil {
				return s.identity.Failed(v.Viewer, record, started, err)
			}
		}
		if v.view.Count, err = s.gateway.Counter(c.User, lane).Rows(ctx, v.State, v.Standpoint, table); err != nil {
			return s.identity.Failed(v.Viewer, record, started, err)
		}
		if v.more = len(v.rows) > limit; v.more {
			v.rows = v.rows[:limit]
		}
		record.Rows, record.TookUS = int64(len(v.rows)), time.Since(started).Microseconds()
		return s.audit.Write(record)
	}
	told := fault.Of(s.identity.RefuseFrom(c, v.Viewer, record, err))
	v.view.Problem, v.view.Missing, v.view.Reference = told.Detail, told.Missing, told.Reference
	return nil
}

// layOut puts the sides' rows beside each other.
func layOut(out *wire.Preview, m *access.Model, table *access.Object, sides []*side, key *access.Object, limit int) {
	for _, id := range table.Children {
		column := m.Object(id)
		if slices.ContainsFunc(sides, func(v *side) bool { return slices.Contains(v.columns, column.Name) }) {
			out.Columns = append(out.Columns, wire.ResultColumn{Name: column.Name, Type: sqltype.Shown(column.Type)})
		}
	}
	for _, v := range sides {
		out.Sides = append(out.Sides, v.view)
	}
	out.Matched = key != nil
	if key != nil {
		out.Key = key.Name
	}
	next := make([]int, len(sides))
	for len(out.Rows) < limit {
		row, ok := nextRow(out.Columns, sides, key, next)
		if !ok {
			return
		}
		out.Rows = append(out.Rows, row)
	}
}

// nextRow takes the next row of those sides that have it: by key the one that comes first
// wherever it is, in whatever order the database has for keys; by place simply the next. It ends where a side has more rows than were read,
// for what is missing there cannot be told from what was not read.
func nextRow(columns []wire.ResultColumn, sides []*side, key *access.Object, next []int) (wire.PreviewRow, bool) {
	var least any
	found := false
	for i, v := range sides {
		if next[i] == len(v.rows) {
			if v.more {
				return wire.PreviewRow{}, false
			}
			continue
		}
		if key == nil {
			found = true
		} else if k := v.key(key, next[i]); firstEverywhere(k, sides, key, next) && (!found || compareKeys(k, least) < 0) {
			least, found = k, true
		}
	}
	if !found {
		return wire.PreviewRow{}, false
	}
	row := wire.PreviewRow{Sides: make([][]any, len(sides)), Differs: make([]bool, len(columns))}
	for i, v := range sides {
		if next[i] == len(v.rows) || key != nil && v.key(key, next[i]) != least {
			continue
		}
		row.Sides[i] = make([]any, len(columns))
		for j, column := range columns {
			if at := slices.Index(v.columns, column.Name); at >= 0 {
				row.Sides[i][j] = v.rows[next[i]][at]
			}
		}
		next[i]++
	}
	for j := range columns {
		for i := 1; i < len(sides); i++ {
			a, b := row.Sides[0], row.Sides[i]
			row.Differs[j] = row.Differs[j] || (a == nil) != (b == nil) || a != nil && a[j] != b[j]
		}
	}
	return row, true
}

// key is the key of a row.
func (v *side) key(key *access.Object, row int) any {
	return v.rows[row][slices.Index(v.columns, key.Name)]
}

// firstEverywhere reports whether a key is the next of all sides that still have it.
func firstEverywhere(k any, sides []*side, key *access.Object, next []int) bool {
	for i, v := range sides {
		for row := next[i] + 1; row < len(v.rows); row++ {
			if v.key(key, row) == k {
				return false
			}
		}
	}
	return true
}

// compareKeys orders numbers; other keys are in the order of the sides.
func compareKeys(a, b any) int {
	x, isInt := a.(int64)
	y, both := b.(int64)
	if isInt && both {
		return cmp.Compare(x, y)
	}
	return 0
}
