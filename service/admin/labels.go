package admin

import (
	"context"
	"strings"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// PutLabel adds a label, or with Replace changes its topic and level.
func (s *Service) PutLabel(ctx context.Context, c identity.Caller, in wire.LabelRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "the label "+in.Name); err != nil {
		return wire.Changed{}, err
	}
	what := access.PutLabel{Label: in.Name, Topic: in.Topic, Level: access.Level(in.Level)}
	old, err := st.Model.FindLabel(in.Name)
	verb := say.AddedLabel
	switch {
	case err == nil && !in.Replace:
		return wire.Changed{}, fault.New(
			fault.Conflict,
			"exists",
			"there is a label %s already; to put it on something: gneiss label put %s on OBJECT",
			old.Name,
			old.Name,
		)
	case err != nil && in.Replace:
		return wire.Changed{}, err
	case err == nil:
		verb = say.ChangedLabel
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
	o := order{caller: c, Change: in.Change, changes: []platform.Change{what},
		says: []string{verb.With(labelOf(in.Name), what.Topic, what.Level)}}
	return s.carryOut(ctx, o)
}

// RemoveLabel takes a label away, off all that it is on. While policies are about
// it that is refused: they would cover nothing.
func (s *Service) RemoveLabel(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "the label "+name); err != nil {
		return wire.Changed{}, err
	}
	label, err := st.Model.FindLabel(name)
	if err != nil {
		return wire.Changed{}, err
	}
	if names := st.Policies.On(label.ID); len(names) > 0 {
		return wire.Changed{}, fault.New(
			fault.Conflict,
			"in_use",
			"policies use it: %s; edit or remove them first, or its columns would no longer be treated",
			strings.Join(names, ", "),
		)
	}
	o := order{caller: c, Change: in}
	for _, id := range st.Policies.Placed(label.ID) {
		o.changes = append(o.changes, policy.LiftLabel{Label: label.Name, Object: st.Model.Path(id)})
	}
	o.changes = append(o.changes, access.RemoveLabel{Label: label.Name})
	o.says = []string{
		say.RemovedLabel.With(st.Model.Path(label.ID),
			say.Count(len(o.changes)-1, "object"),
			say.Count(len(st.Model.GrantsOn(label.ID)), "grant"),
		),
	}
	return s.carryOut(ctx, o)
}

// PlaceLabel puts a label on objects, lifts it off them, or remembers that it
// does not belong there.
func (s *Service) PlaceLabel(ctx context.Context, c identity.Caller, name string, in wire.LabelPlacement) (wire.Changed, error) {
	st := s.identity.State(c)
	if len(in.Objects) == 0 {
		return wire.Changed{}, fault.New(fault.Invalid, "no_objects", "say what: a source, schema, table or column")
	}
	for _, path := range in.Objects {
		if err := s.identity.WritesPolicies(st, c, path); err != nil {
			return wire.Changed{}, err
		}
	}
	if in.Do == "dismiss" {
		return s.dismiss(ctx, c, name, in)
	}
	label, err := st.Model.FindLabel(name)
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
	o.says = []string{
		map[string]say.Sentence{"put": say.PutLabel, "lift": say.LiftedLabel}[in.Do].With(st.Model.Path(label.ID), on),
	}
	if in.Do == "put" && len(st.Policies.On(label.ID)) == 0 {
		o.notes = append(
			o.notes,
			say.LabelUnused.With(st.Model.Path(label.ID),
				st.Model.Path(label.ID),
			),
		)
	}
	return s.carryOut(ctx, o)
}

// dismiss remembers that columns are not about what a label is about, or would
// be: a suggested label need not be there.
func (s *Service) dismiss(ctx context.Context, c identity.Caller, name string, in wire.LabelPlacement) (wire.Changed, error) {
	st := s.identity.State(c)
	topic := strings.TrimPrefix(labelOf(name), "label:")
	if label, err := st.Model.FindLabel(name); err == nil {
		topic = label.Topic
	}
	o := order{
		caller: c,
		Change: in.Change,
		says:   []string{say.Dismissed.With(topic, strings.Join(in.Objects, ", "))},
	}
	for _, path := range in.Objects {
		o.changes = append(o.changes, policy.DismissTopic{Topic: topic, Object: path})
	}
	return s.carryOut(ctx, o)
}

// AcceptLabels puts suggested labels on their columns, and makes those that are
// not there yet.
func (s *Service) AcceptLabels(ctx context.Context, c identity.Caller, in wire.Acceptance) (wire.Changed, error) {
	st := s.identity.State(c)
	if len(in.Items) == 0 {
		return wire.Changed{}, fault.New(fault.Invalid, "no_objects", "nothing was accepted")
	}
	o := order{caller: c, Change: in.Change}
	made := map[string]bool{}
	for _, item := range in.Items {
		if err := s.identity.WritesPolicies(st, c, item.Column); err != nil {
			return wire.Changed{}, err
		}
		name := strings.TrimPrefix(labelOf(item.Label), "label:")
		if _, err := st.Model.FindLabel(name); err != nil && !made[name] {
			made[name] = true
			topic := item.Topic
			if topic == "" {
				topic = name
			}
			o.changes = append(o.changes, access.PutLabel{Label: name, Topic: topic, Level: access.Level(item.Level)})
			o.says = append(o.says, say.Added.With(labelOf(name)))
		}
		o.changes = append(o.changes, policy.PlaceLabel{Label: name, Object: item.Column})
		o.says = append(o.says, say.PutLabel.With(labelOf(name), item.Column))
	}
	return s.carryOut(ctx, o)
}
