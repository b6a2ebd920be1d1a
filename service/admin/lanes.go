package admin

import (
	"context"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// PutLane adds a lane, or with Replace changes its limits.
func (s *Service) PutLane(ctx context.Context, c identity.Caller, in wire.LaneRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	old, err := st.Model.FindLane(in.Name)
	if err != nil || !s.identity.Manages(st, c, old.ID) {
		if err := s.identity.Administers(st, c, "the lane "+in.Name); err != nil {
			return wire.Changed{}, err
		}
	}
	limits := access.New().Lanes()[0].Limits
	switch {
	case err == nil && !in.Replace:
		return wire.Changed{}, fault.New(
			fault.Conflict,
			"exists",
			"there is a lane %s already; to change its limits: gneiss lane set %s",
			old.Name,
			old.Name,
		)
	case err != nil && in.Replace:
		return wire.Changed{}, err
	case err == nil:
		limits = old.Limits
	}
	for _, l := range []struct {
		to    *int
		given int
	}{{&limits.Queries, in.Limits.Queries}, {&limits.Seconds, in.Limits.Seconds}, {&limits.Rows, in.Limits.Rows}} {
		if l.given != 0 {
			*l.to = l.given
		}
	}
	if in.Limits.Bytes != 0 {
		limits.Bytes = in.Limits.Bytes
	}
	verb := map[bool]say.Sentence{true: say.AddedLane, false: say.ChangedLane}[err != nil]
	o := order{
		caller:  c,
		Change:  in.Change,
		says:    []string{verb.With(in.Name, limits)},
		changes: []platform.Change{access.PutLane{Lane: in.Name, Limits: limits}},
	}
	if err != nil {
		o.notes = append(o.notes, say.LaneUnused.With(in.Name))
	}
	return s.carryOut(ctx, o)
}

// RemoveLane takes a lane away, with the grants on it.
func (s *Service) RemoveLane(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "the lane "+name); err != nil {
		return wire.Changed{}, err
	}
	o, err := st.Model.FindLane(name)
	if err != nil {
		return wire.Changed{}, err
	}
	return s.carryOut(ctx, order{caller: c, Change: in, changes: []platform.Change{access.RemoveLane{Lane: o.Name}},
		says: []string{say.RemovedLane.With(st.Model.Path(o.ID), say.Count(len(st.Model.GrantsOn(o.ID)), "grant"))}})
}
