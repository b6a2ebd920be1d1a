package review

import (
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/sqltype"
	"gneiss/service/audit"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/wire"
)

// Labels lists the labels with what they are on and what they do.
func (s *Service) Labels(c identity.Caller) (wire.List[wire.Label], error) {
	out := wire.List[wire.Label]{Items: []wire.Label{}}
	st := s.identity.State(c)
	if !s.identity.Reviews(st, c) {
		return out, s.identity.Refuse(c, audit.Review, "", identity.Wants(st, access.Describe, access.PlatformID))
	}
	for _, o := range st.Model.Labels() {
		w := wire.Label{Name: o.Name, Path: st.Model.Path(o.ID), Topic: o.Topic, Level: string(o.Level), Placed: []string{},
			Policies: append([]string{}, st.Policies.On(o.ID)...), Revealed: []string{}}
		for _, id := range st.Policies.Placed(o.ID) {
			w.Placed = append(w.Placed, st.Model.Path(id))
		}
		for _, id := range st.Policies.Bearing(st.Model, o.ID) {
			w.Columns++
			if len(st.Treating(id)) > 0 {
				w.Covered++
			}
		}
		for _, g := range st.Model.GrantsOn(o.ID) {
			if st.Model.Gives(g).Has(access.Reveal) {
				w.Revealed = append(w.Revealed, st.Model.Ref(g.Subject))
			}
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}

// LabelledColumns lists the columns that have a label, of one label or of all;
// uncovered, only those that no live policy treats for anybody.
func (s *Service) LabelledColumns(c identity.Caller, label string, uncovered bool) (wire.List[wire.LabelledColumn], error) {
	out := wire.List[wire.LabelledColumn]{Items: []wire.LabelledColumn{}}
	st := s.identity.State(c)
	if !s.identity.Reviews(st, c) {
		return out, s.identity.Refuse(c, audit.Review, "", identity.Wants(st, access.Describe, access.PlatformID))
	}
	labels := st.Model.Labels()
	if label != "" {
		o, err := st.Model.FindLabel(label)
		if err != nil {
			return out, err
		}
		labels = []*access.Object{o}
	}
	var columns []access.ObjectID
	for _, l := range labels {
		columns = append(columns, st.Policies.Bearing(st.Model, l.ID)...)
	}
	slices.SortFunc(columns, func(a, b access.ObjectID) int { return strings.Compare(st.Model.Path(a), st.Model.Path(b)) })
	for _, id := range slices.Compact(columns) {
		w := labelled(st, id)
		if !uncovered || !w.Covered && w.Level != string(access.PublicLevel) {
			out.Items = append(out.Items, w)
		}
	}
	return out, nil
}

func labelled(s *platform.State, id access.ObjectID) wire.LabelledColumn {
	w := wire.LabelledColumn{
		Column:   s.Model.Path(id),
		Type:     sqltype.Shown(s.Model.Object(id).Type),
		Labels:   []string{},
		From:     []string{},
		Policies: append([]string{}, s.Treating(id)...),
	}
	strictest := 0
	for _, label := range s.Policies.Labels(s.Model, id) {
		o := s.Model.Object(label)
		w.Labels = append(w.Labels, o.Name)
		strictest = max(strictest, slices.Index(access.Levels, string(o.Level)))
		for at := id; at != access.PlatformID; at = s.Model.Object(at).Parent {
			if slices.Contains(s.Policies.Own(at), label) {
				w.From = append(w.From, s.Model.Path(at))
				break
			}
		}
	}
	w.Level, w.Covered = access.Levels[strictest], len(w.Policies) > 0
	return w
}
