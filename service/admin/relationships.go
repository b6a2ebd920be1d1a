package admin

import (
	"context"
	"slices"
	"strings"

	"gneiss/core/policy"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// Relate declares a relationship between tables, or forgets one.
func (s *Service) Relate(ctx context.Context, c identity.Caller, in wire.RelationshipRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	for _, path := range append(slices.Clone(in.From), in.To...) {
		p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
		if err == nil {
			_, err = s.identity.Seen(p, path)
		}
		if err != nil {
			return wire.Changed{}, err
		}
	}
	from, to := strings.Join(in.From, ", "), strings.Join(in.To, ", ")
	if in.Remove {
		return s.carryOut(
			ctx,
			order{
				caller:  c,
				Change:  in.Change,
				changes: []platform.Change{policy.RemoveRelationship{From: in.From, To: in.To}},
				says:    []string{say.Forgot.With(from, to)},
			},
		)
	}
	return s.carryOut(
		ctx,
		order{
			caller:  c,
			Change:  in.Change,
			changes: []platform.Change{policy.PutRelationship{From: in.From, To: in.To, Declared: true}},
			says:    []string{say.Declared.With(from, to)},
		},
	)
}
