package review

import (
	"slices"

	"gneiss/core/access"
	"gneiss/service/identity"
	"gneiss/wire"
)

// Relationships lists the relationships between tables that the caller reviews.
func (s *Service) Relationships(c identity.Caller, table string) (wire.List[wire.Relationship], error) {
	out := wire.List[wire.Relationship]{Items: []wire.Relationship{}}
	st := s.identity.State(c)
	only := access.ObjectID(0)
	if table != "" {
		p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
		if err != nil {
			return out, err
		}
		o, err := s.identity.Seen(p, table)
		if err != nil {
			return out, err
		}
		only = o.ID
	}
	for _, r := range st.Policies.Relationships() {
		if !s.identity.ReviewsObject(st, c, r.Child) || !s.identity.ReviewsObject(st, c, r.Parent) ||
			only != 0 && r.Child != only && r.Parent != only {
			continue
		}
		w := wire.Relationship{From: st.Model.PathsOf(r.From), To: st.Model.PathsOf(r.To), Declared: r.Declared, Followed: []string{}}
		for _, p := range st.Policies.AllRows() {
			if p.Follow != nil && slices.Equal(p.Follow.From, r.From) && slices.Equal(p.Follow.To, r.To) {
				w.Followed = append(w.Followed, p.Name)
			}
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}
