package admin

import (
	"context"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// PutBundle adds a bundle, or with Replace changes what it and its grants give.
func (s *Service) PutBundle(ctx context.Context, c identity.Caller, in wire.BundleRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "the bundle "+in.Name); err != nil {
		return wire.Changed{}, err
	}
	old, err := st.Model.FindBundle(in.Name)
	switch {
	case err == nil && !in.Replace:
		return wire.Changed{}, fault.New(
			fault.Conflict,
			"exists",
			"there is a bundle %s already; to change it: gneiss bundle set %s PRIVILEGES",
			old.Name,
			old.Name,
		)
	case err != nil && in.Replace:
		return wire.Changed{}, err
	}
	o := order{caller: c, Change: in.Change, changes: []platform.Change{access.PutBundle{Bundle: in.Name, Privileges: in.Privileges}}}
	after, err := st.Apply(o.changes[0], time.Now())
	if err != nil {
		return wire.Changed{}, err
	}
	b, err := after.Model.FindBundle(in.Name)
	if err != nil {
		return wire.Changed{}, err
	}
	if old == nil {
		o.says = []string{say.AddedBundle.With(b.Name, b.Privileges)}
	} else {
		grants := say.Count(len(st.Model.GrantsOf(old)), "grant")
		o.says = []string{say.ChangedBundle.With(b.Name, old.Privileges, b.Privileges, grants)}
	}
	return s.carryOut(ctx, o)
}

// RemoveBundle takes away a bundle that nothing is granted by.
func (s *Service) RemoveBundle(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "the bundle "+name); err != nil {
		return wire.Changed{}, err
	}
	return s.carryOut(
		ctx,
		order{caller: c, Change: in, changes: []platform.Change{access.RemoveBundle{Bundle: name}}, says: []string{say.RemovedBundle.With(name)}},
	)
}
