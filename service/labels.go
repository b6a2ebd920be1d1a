package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/wire"
)

// Labels lists the labels with what they are on and what they do.
func (s *Service) Labels(c Caller) (wire.List[wire.Label], error) {
	out := wire.List[wire.Label]{Items: []wire.Label{}}
	st := s.state()
	if !s.reviews(st, c) {
		return out, s.refuse(c, "labels", "", wants(st, access.Describe, access.PlatformID))
	}
	for _, o := range st.model.Labels() {
		w := wire.Label{Name: o.Name, Path: st.model.Path(o.ID), Topic: o.Topic, Level: string(o.Level), Placed: []string{},
			Policies: append([]string{}, st.policies.On(o.ID)...), Revealed: []string{}}
		for _, id := range st.policies.Placed(o.ID) {
			w.Placed = append(w.Placed, st.model.Path(id))
		}
		for _, id := range st.policies.Bearing(st.model, o.ID) {
			w.Columns++
			if len(st.treating(id)) > 0 {
				w.Covered++
			}
		}
		for _, g := range st.model.GrantsOn(o.ID) {
			if st.model.Gives(g).Has(access.Reveal) {
				w.Revealed = append(w.Revealed, st.model.Ref(g.Subject))
			}
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}

// treating lists the live policies that treat a column for somebody.
func (s *state) treating(column access.ObjectID) []string {
	var names []string
	for _, p := range s.policies.ColumnPolicies(s.model, s.model.Object(column).Parent) {
		if p.Status == policy.Live && s.policies.Treats(p, s.model, column) {
			names = append(names, p.Name)
		}
	}
	return names
}

// PutLabel adds a label, or with Replace changes its topic and level.
func (s *Service) PutLabel(ctx context.Context, c Caller, in wire.LabelRequest) (wire.Changed, error) {
	st := s.state()
	if err := s.administers(st, c, "the label "+in.Name); err != nil {
		return wire.Changed{}, err
	}
	what := access.PutLabel{Label: in.Name, Topic: in.Topic, Level: access.Level(in.Level)}
	old, err := st.model.FindLabel(in.Name)
	verb := "added"
	switch {
	case err == nil && !in.Replace:
		return wire.Changed{}, problem(409, "exists", "Not possible", "there is a label %s already; to put it on something: gneiss label put %s on OBJECT", old.Name, old.Name)
	case err != nil && in.Replace:
		return wire.Changed{}, err
	case err == nil:
		verb = "changed"
		if what.Topic == "" {
			what.Topic = old.Topic
		}
		if what.Level == "" {
			what.Level = old.Level
		}
	}
	if what.Topic == "" {
		what.Topic = strings.TrimPrefix(in.Name, "label:")
	}
	if what.Level == "" {
		what.Level = access.Confidential
	}
	o := order{caller: c, Change: in.Change, changes: []change{what},
		says: []string{fmt.Sprintf("%s %s: about %s, %s", verb, labelOf(in.Name), what.Topic, what.Level)}}
	return s.make(ctx, o)
}

// RemoveLabel takes a label away, off all that it is on. While policies hang on
// it that is refused: they would cover nothing.
func (s *Service) RemoveLabel(ctx context.Context, c Caller, name string, in wire.Change) (wire.Changed, error) {
	st := s.state()
	if err := s.administers(st, c, "the label "+name); err != nil {
		return wire.Changed{}, err
	}
	label, err := st.model.FindLabel(name)
	if err != nil {
		return wire.Changed{}, err
	}
	if names := st.policies.On(label.ID); len(names) > 0 {
		return wire.Changed{}, problem(409, "in_use", "In use", "policies hang on it: %s; edit or remove them first, or its columns would no longer be treated", strings.Join(names, ", "))
	}
	o := order{caller: c, Change: in}
	for _, id := range st.policies.Placed(label.ID) {
		o.changes = append(o.changes, policy.LiftLabel{Label: label.Name, Object: st.model.Path(id)})
	}
	o.changes = append(o.changes, access.RemoveLabel{Label: label.Name})
	o.says = []string{fmt.Sprintf("removed %s, off %s, with %s on it", st.model.Path(label.ID), count(len(o.changes)-1, "object"), count(len(st.model.GrantsOn(label.ID)), "grant"))}
	return s.make(ctx, o)
}

// PlaceLabel puts a label on objects, lifts it off them, or remembers that it
// does not belong there.
func (s *Service) PlaceLabel(ctx context.Context, c Caller, name string, in wire.LabelPlacement) (wire.Changed, error) {
	st := s.state()
	if len(in.Objects) == 0 {
		return wire.Changed{}, problem(422, "no_objects", "Not possible", "say what: a source, schema, table or column")
	}
	for _, path := range in.Objects {
		if err := s.writesPolicies(st, c, path); err != nil {
			return wire.Changed{}, err
		}
	}
	if in.Do == "dismiss" {
		return s.dismiss(ctx, c, name, in)
	}
	label, err := st.model.FindLabel(name)
	if err != nil {
		return wire.Changed{}, err
	}
	o := order{caller: c, Change: in.Change}
	on := strings.Join(in.Objects, ", ")
	for _, path := range in.Objects {
		switch in.Do {
		case "put":
			o.changes = append(o.changes, policy.PlaceLabel{Label: label.Name, Object: path})
		case "lift":
			o.changes = append(o.changes, policy.LiftLabel{Label: label.Name, Object: path})
		default:
			return wire.Changed{}, &access.NotFound{Kind: "thing to do with a label", Name: in.Do, Known: []string{"put", "lift", "dismiss"}}
		}
	}
	o.says = []string{map[string]string{"put": "put " + st.model.Path(label.ID) + " on " + on, "lift": "lifted " + st.model.Path(label.ID) + " off " + on}[in.Do]}
	if in.Do == "put" && len(st.policies.On(label.ID)) == 0 {
		o.notes = append(o.notes, fmt.Sprintf("no policy hangs on %s yet, so nothing is treated: gneiss policy columns add NAME --on %s --treat …", st.model.Path(label.ID), st.model.Path(label.ID)))
	}
	return s.make(ctx, o)
}

// dismiss remembers that columns are not about what a label is about, or would
// be: a suggested label need not be there.
func (s *Service) dismiss(ctx context.Context, c Caller, name string, in wire.LabelPlacement) (wire.Changed, error) {
	st := s.state()
	topic := strings.TrimPrefix(labelOf(name), "label:")
	if label, err := st.model.FindLabel(name); err == nil {
		topic = label.Topic
	}
	o := order{caller: c, Change: in.Change, says: []string{fmt.Sprintf("dismissed %s for %s; it is not suggested there again", topic, strings.Join(in.Objects, ", "))}}
	for _, path := range in.Objects {
		o.changes = append(o.changes, policy.DismissTopic{Topic: topic, Object: path})
	}
	return s.make(ctx, o)
}

// AcceptLabels puts suggested labels on their columns, and makes those that are
// not there yet.
func (s *Service) AcceptLabels(ctx context.Context, c Caller, in wire.Acceptance) (wire.Changed, error) {
	st := s.state()
	if len(in.Items) == 0 {
		return wire.Changed{}, problem(422, "no_objects", "Not possible", "nothing was accepted")
	}
	o := order{caller: c, Change: in.Change}
	made := map[string]bool{}
	for _, item := range in.Items {
		if err := s.writesPolicies(st, c, item.Column); err != nil {
			return wire.Changed{}, err
		}
		name := strings.TrimPrefix(labelOf(item.Label), "label:")
		if _, err := st.model.FindLabel(name); err != nil && !made[name] {
			made[name] = true
			topic := item.Topic
			if topic == "" {
				topic = name
			}
			o.changes = append(o.changes, access.PutLabel{Label: name, Topic: topic, Level: access.Level(item.Level)})
			o.says = append(o.says, "added "+labelOf(name))
		}
		o.changes = append(o.changes, policy.PlaceLabel{Label: name, Object: item.Column})
		o.says = append(o.says, "put "+labelOf(name)+" on "+item.Column)
	}
	return s.make(ctx, o)
}

// LabelledColumns lists the columns that bear a label, of one label or of all;
// uncovered, only those that no live policy treats for anybody.
func (s *Service) LabelledColumns(c Caller, label string, uncovered bool) (wire.List[wire.LabelledColumn], error) {
	out := wire.List[wire.LabelledColumn]{Items: []wire.LabelledColumn{}}
	st := s.state()
	if !s.reviews(st, c) {
		return out, s.refuse(c, "labels", "", wants(st, access.Describe, access.PlatformID))
	}
	labels := st.model.Labels()
	if label != "" {
		o, err := st.model.FindLabel(label)
		if err != nil {
			return out, err
		}
		labels = []*access.Object{o}
	}
	var columns []access.ObjectID
	for _, l := range labels {
		columns = append(columns, st.policies.Bearing(st.model, l.ID)...)
	}
	slices.SortFunc(columns, func(a, b access.ObjectID) int { return strings.Compare(st.model.Path(a), st.model.Path(b)) })
	for _, id := range slices.Compact(columns) {
		w := st.labelled(id)
		if !uncovered || !w.Covered && w.Level != string(access.PublicLevel) {
			out.Items = append(out.Items, w)
		}
	}
	return out, nil
}

func (s *state) labelled(id access.ObjectID) wire.LabelledColumn {
	w := wire.LabelledColumn{Column: s.model.Path(id), Type: s.model.Object(id).Type, Labels: []string{}, From: []string{}, Policies: append([]string{}, s.treating(id)...)}
	strictest := 0
	for _, label := range s.policies.Labels(s.model, id) {
		o := s.model.Object(label)
		w.Labels = append(w.Labels, o.Name)
		strictest = max(strictest, slices.Index(access.Levels, string(o.Level)))
		for at := id; at != access.PlatformID; at = s.model.Object(at).Parent {
			if slices.Contains(s.policies.Own(at), label) {
				w.From = append(w.From, s.model.Path(at))
				break
			}
		}
	}
	w.Level, w.Covered = access.Levels[strictest], len(w.Policies) > 0
	return w
}

// Relationships lists the relationships between tables that the caller reviews.
func (s *Service) Relationships(c Caller, table string) (wire.List[wire.Relationship], error) {
	out := wire.List[wire.Relationship]{Items: []wire.Relationship{}}
	st := s.state()
	only := access.ObjectID(0)
	if table != "" {
		p, err := s.standAt(st, c, wire.Standpoint{})
		if err != nil {
			return out, err
		}
		o, err := s.seen(p, table)
		if err != nil {
			return out, err
		}
		only = o.ID
	}
	for _, r := range st.policies.Relationships() {
		if !s.reviewsObject(st, c, r.Child) || !s.reviewsObject(st, c, r.Parent) || only != 0 && r.Child != only && r.Parent != only {
			continue
		}
		w := wire.Relationship{From: st.model.PathsOf(r.From), To: st.model.PathsOf(r.To), Declared: r.Declared, Followed: []string{}}
		for _, p := range st.policies.AllRows() {
			if p.Follow != nil && slices.Equal(p.Follow.From, r.From) && slices.Equal(p.Follow.To, r.To) {
				w.Followed = append(w.Followed, p.Name)
			}
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}

// Relate declares a relationship between tables, or forgets one.
func (s *Service) Relate(ctx context.Context, c Caller, in wire.RelationshipRequest) (wire.Changed, error) {
	st := s.state()
	for _, path := range append(slices.Clone(in.From), in.To...) {
		p, err := s.standAt(st, c, wire.Standpoint{})
		if err == nil {
			_, err = s.seen(p, path)
		}
		if err != nil {
			return wire.Changed{}, err
		}
	}
	says := fmt.Sprintf("the relationship from %s to %s", strings.Join(in.From, ", "), strings.Join(in.To, ", "))
	if in.Remove {
		return s.make(ctx, order{caller: c, Change: in.Change, changes: []change{policy.RemoveRelationship{From: in.From, To: in.To}}, says: []string{"forgot " + says}})
	}
	return s.make(ctx, order{caller: c, Change: in.Change, changes: []change{policy.PutRelationship{From: in.From, To: in.To, Declared: true}}, says: []string{"declared " + says}})
}
