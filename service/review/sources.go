package review

import (
	"context"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/source"
	"gneiss/wire"
)

// Sources lists the sources that the caller sees, with what they are.
func (s *Service) Sources(ctx context.Context, c identity.Caller) (wire.List[wire.Source], error) {
	out := wire.List[wire.Source]{Items: []wire.Source{}}
	p, err := s.identity.ViewerAt(s.platform.Current(), c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	records, err := s.store.Sources(ctx)
	if err != nil {
		return out, err
	}
	for _, r := range records {
		o, err := p.Model.Lookup(access.Quote(r.Name))
		if err != nil || !p.Sees(o.ID) {
			continue
		}
		w := wire.Source{Name: r.Name, Kind: r.Kind}
		p.Model.Tables(o.ID, func(r *access.Object) bool {
			if p.Reviews || p.Sees(r.ID) {
				w.Tables++
			}
			return true
		})
		src, err := s.gateway.Source(ctx, o.ID)
		if err == nil {
			err = src.Ping(ctx)
		}
		w.Available = err == nil
		if p.Reviews {
			w.Location = s.gateway.Location(r)
			if err != nil {
				w.Problem = fault.Of(err).Detail
			}
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}

// CheckSource says what the account of a source may and may not, what is missing, and how
// fast its database answers, for who administers the platform.
func (s *Service) CheckSource(ctx context.Context, c identity.Caller, name string) (wire.SourceCheck, error) {
	st := s.platform.Current()
	out := wire.SourceCheck{Name: name, Notes: []wire.SourceNote{}}
	if err := s.identity.Administers(st, c, "a check of "+name); err != nil {
		return out, err
	}
	o, err := st.Model.Lookup(access.Quote(name))
	if err != nil {
		return out, err
	}
	src, err := s.gateway.Source(ctx, o.ID)
	if err != nil {
		return out, err
	}
	notes, err := src.Check(ctx)
	if err != nil {
		out.Notes = append(out.Notes, wire.SourceNote{Worry: source.Bad.String(), Says: fault.Of(err).Detail})
		return out, nil
	}
	for _, n := range notes {
		out.Notes = append(out.Notes, wire.SourceNote{Worry: n.Worry.String(), Says: n.Says})
	}
	return out, nil
}
