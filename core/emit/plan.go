package emit

import (
	"context"
	"fmt"
	"slices"
	"sync/atomic"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
)

// A Plan is a governed statement, ready to run on its source. It holds for one reader
// and one set of policies.
type Plan struct {
	query.Outline
	SQL  string
	Args []Arg
	Mark string // what stands before an argument's number in SQL
	// Kept is for whoever runs the plan, to keep what they worked out from it; a plan whose
	// parameters are filled in has the same.
	Kept *atomic.Value
}

// Make plans a text for a reader: see [Govern].
func Make(text string, params []any, st *access.Rights, policies *policy.Set) (*Plan, error) {
	return MakeOf(context.Background(), query.Statement{SQL: text, Params: params}, st, policies)
}

// MakeOf is Make of a text with names of its own, and with parameters that may be deferred. It
// ends with the context's error where that is done first.
func MakeOf(ctx context.Context, text query.Statement, st *access.Rights, policies *policy.Set) (*Plan, error) {
	g, err := query.Govern(ctx, text, st, policies)
	if err != nil {
		return nil, err
	}
	return emitted(ctx, g, st.Model)
}

// Fill gives the arguments of a plan with deferred parameters the values of these. ok is false
// where the text has to be planned with them.
func (p *Plan) Fill(params []any) (args []Arg, ok bool) {
	args = slices.Clone(p.Args)
	for i, a := range args {
		if a.Param == 0 {
			continue
		}
		if args[i].Value, ok = query.ReadParam(params[a.Param-1], a.T, p.Mark == postgresSpelling.mark); !ok {
			return nil, false
		}
		args[i].Param = 0
	}
	return args, true
}

// emitted writes a governed statement. What it cannot write is refused.
func emitted(ctx context.Context, g *query.Governed, m *access.Model) (plan *Plan, err error) {
	defer func() {
		switch r := recover().(type) {
		case nil:
		case *query.Error:
			plan, err = nil, r
		case query.Ended:
			plan, err = nil, r.Cause
		default:
			plan, err = nil, &query.Error{Code: query.Unsupported, Text: fmt.Sprintf("this query cannot be planned (%v); please report it", r)}
		}
	}()
	e := newEmitter(m, g.Source)
	e.ctx = ctx
	if g.Write {
		e.writing(g.Changes)
	} else {
		e.query(g.Reads)
	}
	out := g.Outline
	out.Wordless = e.wordless || g.Write || len(g.Calls) > 0 // a routine may read what is hidden
	return &Plan{Outline: out, SQL: e.b.String(), Args: e.args, Mark: e.mark, Kept: new(atomic.Value)}, nil
}
