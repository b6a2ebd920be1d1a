// Package outline takes what administrators decided apart, thing by thing and by name: who there
// is, who is in what, what is granted, labelled, governed. Two states are compared by it, and one
// is made of the other by changes.
package outline

import (
	"fmt"
	"maps"
	"reflect"
	"slices"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/policy"
)

// A State is what there is to take apart.
type State struct {
	Model    *access.Model
	Policies *policy.Set
	Guards   *guard.Set
}

// A Difference is one thing that two states do not have alike.
type Difference struct {
	// Before and After are the thing as it is in each state; nil where it is not there.
	Before, After Thing
}

// A Thing is one thing as a state has it. Equal things are equal values.
type Thing interface {
	// Name is the thing in words, and no other has it: "SELECT on survey.drilling to role:partner by user:opal".
	Name() string
	// put is what makes the thing from what is there of it; nil: nothing is.
	put(from Thing) []any
	drop() []any
	rank() int // things of a lower rank are made before others, and taken away after them
}

// Between lists where two states differ that were both made from a third, common, by changes; it can
// be one of the two. What a scan of a source found is among it, under things that cannot be put.
// A subject that the common state has, and both, is the same whatever it is called since; all else is
// the same by its name.
func Between(common *access.Model, before, after State) []Difference {
	same := func(id access.SubjectID) bool {
		return common != nil && common.KnowsSubject(id) && before.Model.HasSubject(id) && after.Model.HasSubject(id)
	}
	a, b := outline{same, before, map[string]Thing{}}, outline{same, after, map[string]Thing{}}
	d := access.Changed(before.Model, after.Model)
	for _, l := range []outline{a, b} {
		for _, id := range d.Subjects {
			l.subject(id)
		}
		for _, id := range d.Objects {
			l.object(id)
		}
		for _, id := range d.Grants {
			l.grant(id)
		}
		if d.Bundles {
			l.bundles()
		}
		if before.Policies != after.Policies || len(d.Objects)+len(d.Subjects) > 0 {
			l.policies()
		}
		if before.Guards != after.Guards || len(d.Objects)+len(d.Subjects) > 0 {
			l.guards()
		}
	}
	var out []Difference
	keys := maps.Clone(a.things)
	maps.Copy(keys, b.things)
	for _, key := range slices.Sorted(maps.Keys(keys)) {
		if was, is := a.things[key], b.things[key]; !Same(was, is) {
			out = append(out, Difference{was, is})
		}
	}
	return out
}

// timeless is a thing without what making it again changes.
func timeless(t Thing) Thing {
	if g, is := t.(grant); is {
		g.id = 0
		return g
	}
	return t
}

// Name is the thing in words.
func (d Difference) Name() string {
	if d.After != nil {
		return d.After.Name()
	}
	return d.Before.Name()
}

// Fixed reports whether the thing is none that changes put: it comes from a source.
func (d Difference) Fixed() bool {
	for _, t := range []Thing{d.Before, d.After} {
		if _, is := t.(found); is {
			return true
		}
	}
	return false
}

// Back are the changes that make what differs as it was before, those that take away first.
func Back(list []Difference) []any {
	turned := make([]Difference, len(list))
	for i, d := range list {
		turned[i] = Difference{d.After, d.Before}
	}
	return Make(turned)
}

// Make are the changes that make what differs as it is after, those that take away first.
func Make(list []Difference) []any {
	var out []any
	for _, step := range Steps(list) {
		out = append(out, step.Changes...)
	}
	return out
}

// A Step is what makes one thing as it is to be.
type Step struct {
	Difference
	Changes []any
}

// Steps are the changes that make what differs as it is after, in their order: those that take away
// first.
func Steps(list []Difference) []Step {
	list = slices.Clone(list)
	var out []Step
	slices.SortStableFunc(list, func(x, y Difference) int { return order(y.Before, x.Before) })
	for _, d := range list {
		if d.After == nil && d.Before != nil {
			out = append(out, Step{d, d.Before.drop()})
		}
	}
	slices.SortStableFunc(list, func(x, y Difference) int { return order(x.After, y.After) })
	for _, d := range list {
		if d.After != nil {
			out = append(out, Step{d, d.After.put(d.Before)})
		}
	}
	return out
}

// order compares when things are made: by their rank, and of grants, which depend on each other, the
// older first.
func order(x, y Thing) int {
	if d := rankOf(x) - rankOf(y); d != 0 {
		return d
	}
	a, _ := x.(grant)
	b, _ := y.(grant)
	return int(a.id) - int(b.id)
}

func rankOf(t Thing) int {
	if t == nil {
		return 0
	}
	return t.rank()
}

// an outline gathers things of a state, each under what makes it the same in another.
type outline struct {
	same func(access.SubjectID) bool // whether a subject is the same in both, whatever it is called
	State
	things map[string]Thing
}

// who is what makes a subject the same.
func (l outline) who(id access.SubjectID) string {
	if l.same(id) {
		return fmt.Sprintf("subject %09d", id)
	}
	return l.Model.Ref(id)
}

func (l outline) subject(id access.SubjectID) {
	m := l.Model
	s := m.SubjectOf(id)
	if s == nil {
		return
	}
	about := Subject{Ref: s.Ref(), Kind: s.Kind, Title: s.Title, Disabled: s.Disabled, Lead: m.Ref(s.Lead)}
	if len(s.Attributes) > 0 {
		about.Attributes = s.Attributes
	}
	l.things["1 "+l.who(id)] = about
	for _, e := range s.Memberships {
		l.things["2 "+l.who(id)+" in "+l.who(e.Of)+" by "+l.who(e.By)] = membership{access.Join{Member: s.Ref(), Of: m.Ref(e.Of), By: m.Ref(e.By),
			Until: e.Until.UTC(), Option: e.Option, Passed: e.Passed, Reason: e.Reason, Ticket: e.Ticket}}
	}
}

func (l outline) object(id access.ObjectID) {
	m := l.Model
	o := m.ObjectOf(id)
	if o == nil {
		return
	}
	path := m.Path(id)
	if o.Owner != 0 {
		l.things["owner of "+path] = owner{access.SetOwner{Object: path, Owner: m.Ref(o.Owner)}}
	}
	switch {
	case o.Kind == access.Lane:
		if _, err := m.FindLane(o.Name); err == nil {
			l.things[path] = lane{access.PutLane{Lane: o.Name, Limits: o.Limits}}
		}
	case o.Kind == access.Label:
		if _, err := m.FindLabel(o.Name); err == nil {
			l.things[path] = label{access.PutLabel{Label: o.Name, Topic: o.Topic, Level: o.Level}}
		}
	case o.Kind == access.View && o.View != nil && !o.Missing:
		c := access.PutView{Path: path, Text: o.View.Text, Rights: o.View.Rights, Sealed: o.View.Sealed, Owner: m.Ref(o.Owner)}
		for _, id := range o.Children {
			if column := m.Object(id); !column.Missing {
				c.Columns = append(c.Columns, access.ViewColumn{Name: column.Name, Type: column.Type})
			}
		}
		for _, id := range o.View.Reads {
			c.Reads = append(c.Reads, m.Path(id))
		}
		l.things["view "+path] = view{c}
	case o.Kind == access.View, o.Kind == access.Column && m.Object(o.Parent).Kind == access.View, o.Kind == access.Platform:
	default:
		l.things["object "+path] = found{path, o.Missing, o.Type, o.Declared, o.Comment, o.NotNull, o.Key, o.Unique, o.Indexed, o.Collation}
	}
}

func (l outline) grant(id access.GrantID) {
	m := l.Model
	g := m.GrantOf(id)
	if g == nil || g.Owned != 0 || g.Grantor == 0 && g.At.IsZero() {
		return // an owner's own, and those that the platform came with
	}
	c := access.AddGrant{Privilege: m.GrantName(g), Object: m.Target(g.Target), Subject: m.Ref(g.Subject), Grantor: m.Ref(g.Grantor),
		Option: g.Option, Until: g.Until.UTC(), Reason: g.Reason, Ticket: g.Ticket}
	l.things["grant "+c.Privilege+" on "+c.Object+" to "+l.who(g.Subject)+" by "+l.who(g.Grantor)] = grant{c, id}
}

func (l outline) bundles() {
	for _, b := range l.Model.Bundles() {
		var privileges []string
		for _, p := range b.Privileges.Each() {
			privileges = append(privileges, p.String())
		}
		l.things["bundle "+b.Name] = bundle{access.PutBundle{Bundle: b.Name, Privileges: privileges}}
	}
}

func (l outline) policies() {
	m := l.Model
	for _, p := range l.Policies.AllRows() {
		l.things["policy "+p.Name] = rowPolicy{p.Again(m)}
	}
	for _, p := range l.Policies.AllColumns() {
		l.things["policy "+p.Name] = columnPolicy{p.Again(m)}
	}
	for object, labels := range l.Policies.Placements() {
		for _, id := range labels {
			if _, err := m.FindLabel(m.Object(id).Name); err == nil {
				c := policy.PlaceLabel{Label: m.Path(id), Object: m.Path(object)}
				l.things[c.Label+" on "+c.Object] = placement{c}
			}
		}
	}
	for object, topics := range l.Policies.Dismissals() {
		for _, topic := range topics {
			name := "the topic " + topic + " of " + m.Path(object)
			l.things[name] = found{name: name}
		}
	}
	for _, r := range l.Policies.Relationships() {
		c := relationship{r.Again(m)}
		if r.Declared {
			l.things[c.Name()] = c
		} else {
			l.things[c.Name()] = found{name: c.Name()}
		}
	}
}

func (l outline) guards() {
	if l.Guards == nil {
		return
	}
	for _, g := range l.Guards.Guardrails() {
		l.things["guardrail "+g.Name] = rail{g.Again(l.Model)}
	}
	for _, t := range l.Guards.Tests() {
		l.things["test "+t.Name] = test{t.Again(l.Model)}
	}
}

// A Subject is a user, service, group or role.
type Subject struct {
	Ref        string
	Kind       access.SubjectKind
	Title      string
	Disabled   bool
	Lead       string
	Attributes map[string][]string
}

type (
	membership   struct{ access.Join }
	owner        struct{ access.SetOwner }
	lane         struct{ access.PutLane }
	label        struct{ access.PutLabel }
	view         struct{ access.PutView }
	bundle       struct{ access.PutBundle }
	rowPolicy    struct{ policy.PutRowPolicy }
	columnPolicy struct{ policy.PutColumnPolicy }
	placement    struct{ policy.PlaceLabel }
	rail         struct{ guard.PutGuardrail }
	test         struct{ guard.PutTest }
	relationship struct{ policy.PutRelationship }
	grant        struct {
		access.AddGrant
		id access.GrantID // the order in which grants depend on each other
	}
	// found is what a scan found in a source, and what is not taken back.
	found struct {
		name                    string
		missing                 bool
		kind, declared, comment string
		notNull, isKey          bool
		isUnique, isIndexed     bool
		collation               string
	}
)

// Decided are all things of a state that are not as they are on a new platform, by name.
func Decided(st State) []Thing {
	var out []Thing
	for _, d := range Between(nil, State{access.New(), &policy.Set{}, &guard.Set{}}, st) {
		if d.After != nil && !d.Fixed() {
			out = append(out, d.After)
		}
	}
	return out
}

// Changes are the changes that make a thing.
func Changes(t Thing) []any { return t.put(nil) }

// Same reports whether two things are the same, but for what making one again changes.
func Same(a, b Thing) bool { return reflect.DeepEqual(timeless(a), timeless(b)) }

// Account is the user or service that the difference is about; "" where it is about none.
func (d Difference) Account() string {
	for _, t := range []Thing{d.Before, d.After} {
		if s, is := t.(Subject); is && (s.Kind == access.User || s.Kind == access.Service) {
			return s.Ref
		}
	}
	return ""
}
