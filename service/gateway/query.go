package gateway

import (
	"context"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/source"
	"gneiss/wire"
)

// Query runs a governed statement and returns all that it gives, within the bounds of its lane.
func (s *Service) Query(ctx context.Context, c identity.Caller, in wire.QueryRequest) (wire.Result, error) {
	all := gathered{out: wire.Result{Columns: []wire.ResultColumn{}, Rows: [][]any{}}}
	end, err := s.Stream(ctx, c, Ask{QueryRequest: in}, &all)
	if err != nil {
		return wire.Result{}, err
	}
	return end.Result(all.out), nil
}

// Result is what a statement gave, with how it ended.
func (e End) Result(out wire.Result) wire.Result {
	if e.Command != nil {
		return *e.Command
	}
	out.Standpoint, out.Lane, out.Record, out.Truncated, out.Plan, out.Changed = e.Standpoint, e.Lane, audit.Reference(e.Record), e.Truncated, e.Plan, e.Changed
	out.TookMS = float64(e.Took.Microseconds()) / 1000
	if e.Verb != 0 && len(out.Columns) == 0 {
		out.Columns = []wire.ResultColumn{{Name: "done", Type: "text"}}
		verb := map[access.Privilege]string{access.Insert: "inserted", access.Update: "changed", access.Delete: "removed"}[e.Verb]
		out.Rows = [][]any{{verb + " " + say.Count(int(e.Changed), "row")}}
	}
	return out
}

// gathered is an answer that is kept.
type gathered struct {
	out     wire.Result
	columns []query.Column
}

func (g *gathered) Head(h Head) ([]int16, error) {
	g.columns, g.out.Columns = h.Columns, ResultColumns(h.Columns)
	return nil, nil
}

func (g *gathered) Row(b []byte, row [][]byte) ([]byte, error) {
	values := make([]any, len(row))
	for i, text := range row {
		values[i] = kept(source.Value(text, g.columns[i].Type))
	}
	g.out.Rows = append(g.out.Rows, values)
	return b, nil
}

func (g *gathered) Send([]byte, bool) error { return nil }
