package gateway

import (
	"context"
	"errors"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/service/audit"
	"gneiss/service/identity"
)

// A Description is what is known of a statement before it is run.
type Description struct {
	Columns []query.Column
	Params  []query.Type // of $1, $2 and so on
	Verb    access.Privilege
}

// Describe says what a statement takes and gives. Its parameters are deferred; those of which
// nothing is known are texts. Where it is refused, that is on record.
func (s *Service) Describe(ctx context.Context, c identity.Caller, in Ask) (Description, error) {
	var out Description
	st := s.platform.Current()
	p, err := s.identity.ViewerAt(st, c, in.Standpoint)
	if err != nil {
		return out, s.identity.Refuse(c, audit.Query, in.SQL, err)
	}
	text := query.Statement{SQL: in.SQL, Params: in.Params, Names: in.Names}
	plan, err := p.State.Plan(ctx, p.Rights, text)
	if err != nil && len(in.Params) > 0 {
		// The plan depends on a value, or the text is wrong: which, it tells without values.
		declared := in.Params
		text.Params = make([]any, len(declared))
		for i, v := range declared {
			if d, ok := v.(query.Deferred); ok && d.T != nil {
				text.Params[i] = query.Given{T: d.T}
			}
		}
		var q *query.Error
		without, plain := p.State.Plan(ctx, p.Rights, text)
		switch {
		case plain == nil:
			plan, err = without, nil
			shown := *plan
			shown.Params = make([]query.Type, len(declared))
			for i, v := range declared {
				shown.Params[i] = v.(query.Deferred).T
			}
			plan = &shown
		case errors.As(plain, &q) && len(q.Needs) == 0 && q.Code != query.Syntax && q.SQLState == "":
			// It may fit once the values are there.
			return Description{Params: texts(len(declared))}, nil
		default:
			err = plain
		}
	}
	if err != nil {
		return out, s.identity.RefuseFrom(c, p, s.identity.NewRecord(c, p, audit.Query, in.SQL), err)
	}
	out.Columns, out.Params = plan.Columns, texts(len(in.Params))
	for i, t := range plan.Params {
		if t != nil {
			out.Params[i] = t
		}
	}
	if plan.Write {
		out.Verb = plan.Tables[0].Verb
	}
	if plan.Explain {
		out = Description{Columns: explained, Params: out.Params}
	}
	return out, nil
}

func texts(n int) []query.Type {
	out := make([]query.Type, n)
	for i := range out {
		out[i] = sqltype.Text
	}
	return out
}

// explained is the column of a plan that is shown.
var explained = []query.Column{{Name: "QUERY PLAN", Type: query.Text}}
