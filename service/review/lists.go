package review

import (
	"time"

	"gneiss/core/access"
	"gneiss/service/identity"
	"gneiss/wire"
)

// Bundles lists the bundles: everyone may know what they are made of.
func (s *Service) Bundles(c identity.Caller) (wire.List[wire.Bundle], error) {
	st := s.identity.State(c)
	out := wire.List[wire.Bundle]{Items: []wire.Bundle{}}
	reviews := s.identity.Reviews(st, c)
	for _, b := range st.Model.Bundles() {
		w := wire.Bundle{Name: b.Name, Privileges: privilegeNames(b.Privileges), BuiltIn: b.BuiltIn()}
		if reviews {
			w.Grants = s.granted(st.Model)[b.ID]
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}

// Lanes lists the lanes that the caller sees.
func (s *Service) Lanes(c identity.Caller) (wire.List[wire.Lane], error) {
	out := wire.List[wire.Lane]{Items: []wire.Lane{}}
	st := s.identity.State(c)
	p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	census := st.Census(time.Now())
	for _, o := range st.Model.Lanes() {
		if !p.Reviews && !p.Sees(o.ID) {
			continue
		}
		w := wire.Lane{Name: o.Name, Path: st.Model.Path(o.ID), Limits: wire.Limits(o.Limits), Open: p.Resolve(o.ID).Allowed.Has(access.Usage)}
		if p.Reviews {
			w.Users, w.Running, w.Owner = census.CountUsing(o.ID), s.gateway.Running(o.ID), st.Model.Ref(st.Model.Owner(o.ID))
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}
