// Package outline takes what administrators decided apart, thing by thing and by name: who there
// is, who is in what, what is granted, labelled, governed. Two states are compared by it, and one
// is made of the other by changes.
package outline

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// A State is what there is to take apart.
type State struct {
	Model    *access.Model
	Policies *policy.Set
}

// A Difference is one thing that two states do not have alike.
type Difference struct {
	Key string // the same in all states of one history, whatever is renamed
	// Before and After are the thing as it is in each state; nil where it is not there.
	Before, After Thing
}

// A Thing is one thing as a state has it. Equal things are equal values.
type Thing interface {
	// Name is the thing in words: "SELECT on survey.drilling to role:partner".
	Name() string
	// put is what makes the thing from what is there of it; nil: nothing is.
	put(from Thing) []any
	drop() []any
	rank() int // things of a lower rank are made before others, and taken away after them
}

// Between lists where two states of one history differ. What a scan of a source found is among it,
// under things that cannot be put.
func Between(before, after State) []Difference {
	a, b := things{}, things{}
	d := access.Changed(before.Model, after.Model)
	for _, id := range d.Subjects {
		a.subject(before.Model, id)
		b.subject(after.Model, id)
	}
	for _, id := range d.Objects {
		a.object(before.Model, id)
		b.object(after.Model, id)
	}
	for _, id := range d.Grants {
		a.grant(before.Model, id)
		b.grant(after.Model, id)
	}
	if d.Bundles {
		a.bundles(before.Model)
		b.bundles(after.Model)
	}
	if before.Policies != after.Policies {
		a.policies(before)
		b.policies(after)
	}
	return compared(a, b)
}

func compared(a, b things) []Difference {
	var out []Difference
	keys := maps.Clone(a)
	maps.Copy(keys, b)
	for _, key := range slices.Sorted(maps.Keys(keys)) {
		if was, is := a[key], b[key]; !reflect.DeepEqual(was, is) {
			out = append(out, Difference{key, was, is})
		}
	}
	return out
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
		turned[i] = Difference{d.Key, d.After, d.Before}
	}
	return Make(turned)
}

// Make are the changes that make what differs as it is after, those that take away first.
func Make(list []Difference) []any {
	list = slices.Clone(list)
	var out []any
	slices.SortStableFunc(list, func(x, y Difference) int { return order(y.Before, x.Before) })
	for _, d := range list {
		if d.After == nil && d.Before != nil {
			out = append(out, d.Before.drop()...)
		}
	}
	slices.SortStableFunc(list, func(x, y Difference) int { return order(x.After, y.After) })
	for _, d := range list {
		if d.After != nil {
			out = append(out, d.After.put(d.Before)...)
		}
	}
	return out
}

// order compares when things are made: by their rank, and of grants, which rest on each other, the
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

// things are things by their keys.
type things map[string]Thing

func (l things) subject(m *access.Model, id access.SubjectID) {
	s := m.SubjectOf(id)
	if s == nil {
		return
	}
	about := subject{ref: s.Ref(), kind: s.Kind, title: s.Title, disabled: s.Disabled, lead: m.Ref(s.Lead)}
	if len(s.Attributes) > 0 {
		about.attributes = s.Attributes
	}
	l[fmt.Sprintf("subject %d", id)] = about
	for _, e := range s.Memberships {
		l[fmt.Sprintf("membership %d %d %d", id, e.Of, e.By)] = membership{access.Join{Member: s.Ref(), Of: m.Ref(e.Of), By: m.Ref(e.By),
			Until: e.Until.UTC(), Option: e.Option, Passed: e.Passed, Reason: e.Reason, Ticket: e.Ticket}, e.At.UTC()}
	}
}

func (l things) object(m *access.Model, id access.ObjectID) {
	o := m.ObjectOf(id)
	if o == nil {
		return
	}
	path := m.Path(id)
	if o.Owner != 0 {
		l[fmt.Sprintf("owner %d", id)] = owner{access.SetOwner{Object: path, Owner: m.Ref(o.Owner)}}
	}
	switch {
	case o.Kind == access.Lane:
		if _, err := m.FindLane(o.Name); err == nil {
			l[fmt.Sprintf("lane %d", id)] = lane{access.PutLane{Lane: o.Name, Limits: o.Limits}}
		}
	case o.Kind == access.Label:
		if _, err := m.FindLabel(o.Name); err == nil {
			l[fmt.Sprintf("label %d", id)] = label{access.PutLabel{Label: o.Name, Topic: o.Topic, Level: o.Level}}
		}
	case o.Kind == access.View && o.View != nil && !o.Missing:
		c := access.PutView{Path: path, Text: o.View.Text, Rights: o.View.Rights, Sealed: o.View.Sealed}
		for _, id := range o.Children {
			if column := m.Object(id); !column.Missing {
				c.Columns = append(c.Columns, access.ViewColumn{Name: column.Name, Type: column.Type})
			}
		}
		for _, id := range o.View.Reads {
			c.Reads = append(c.Reads, m.Path(id))
		}
		l[fmt.Sprintf("view %d", id)] = view{c}
	case o.Kind == access.View, o.Kind == access.Column && m.Object(o.Parent).Kind == access.View, o.Kind == access.Platform:
	default:
		l[fmt.Sprintf("object %d", id)] = found{path, o.Missing, o.Type, o.Declared, o.Comment, o.NotNull, o.Key, o.Unique}
	}
}

func (l things) grant(m *access.Model, id access.GrantID) {
	g := m.GrantOf(id)
	if g == nil || g.Owned != 0 || g.Grantor == 0 && g.At.IsZero() {
		return // an owner's own, and those that the platform came with
	}
	c := access.AddGrant{Privilege: m.GrantName(g), Object: m.Target(g.Target), Subject: m.Ref(g.Subject), Grantor: m.Ref(g.Grantor),
		Option: g.Option, Until: g.Until.UTC(), Reason: g.Reason, Ticket: g.Ticket}
	l[fmt.Sprintf("grant %d", id)] = grant{c, g.At.UTC(), id}
}

func (l things) bundles(m *access.Model) {
	for _, b := range m.Bundles() {
		var privileges []string
		for _, p := range b.Privileges.Each() {
			privileges = append(privileges, p.String())
		}
		l["bundle "+b.Name] = bundle{access.PutBundle{Bundle: b.Name, Privileges: privileges}}
	}
}

func (l things) policies(st State) {
	m := st.Model
	for _, p := range st.Policies.AllRows() {
		l["policy "+p.Name] = rowPolicy{p.Again(m)}
	}
	for _, p := range st.Policies.AllColumns() {
		l["policy "+p.Name] = columnPolicy{p.Again(m)}
	}
	for object, labels := range st.Policies.Placements() {
		for _, id := range labels {
			c := policy.PlaceLabel{Label: m.Path(id), Object: m.Path(object)}
			l[fmt.Sprintf("placement %d %d", id, object)] = placement{c}
		}
	}
	for object, topics := range st.Policies.Dismissals() {
		for _, topic := range topics {
			l[fmt.Sprintf("topic %d %s", object, topic)] = found{name: "the topic " + topic + " of " + m.Path(object)}
		}
	}
	for _, r := range st.Policies.Relationships() {
		c := r.Again(m)
		key := "relationship from " + strings.Join(c.From, ", ") + " to " + strings.Join(c.To, ", ")
		if r.Declared {
			l[key] = relationship{c}
		} else {
			l[key] = found{name: key}
		}
	}
}

type (
	subject struct {
		ref        string
		kind       access.SubjectKind
		title      string
		disabled   bool
		lead       string
		attributes map[string][]string
	}
	membership struct {
		access.Join
		at time.Time // giving it again later makes it another
	}
	owner        struct{ access.SetOwner }
	lane         struct{ access.PutLane }
	label        struct{ access.PutLabel }
	view         struct{ access.PutView }
	bundle       struct{ access.PutBundle }
	rowPolicy    struct{ policy.PutRowPolicy }
	columnPolicy struct{ policy.PutColumnPolicy }
	placement    struct{ policy.PlaceLabel }
	relationship struct{ policy.PutRelationship }
	grant        struct {
		access.AddGrant
		at time.Time
		id access.GrantID // the order in which grants rest on each other
	}
	// found is what a scan found in a source, and what is not taken back.
	found struct {
		name                     string
		missing                  bool
		kind, declared, comment  string
		notNull, isKey, isUnique bool
	}
)

// The order in which things are made.
const (
	rankSubject = iota + 1
	rankPlace   // lanes, labels, bundles
	rankView
	rankRelationship
	rankOwner
	rankMembership
	rankGrant
	rankPolicy
	rankPlacement
)

func (t subject) Name() string { return t.ref }
func (t subject) rank() int    { return rankSubject }
func (t subject) drop() []any  { return []any{access.RemoveSubject{Subject: t.ref}} }
func (t subject) put(from Thing) []any {
	was, there := from.(subject)
	var out []any
	switch {
	case !there:
		out = append(out, access.AddSubject{Subject: t.ref, Title: t.title})
		was = subject{ref: t.ref, title: t.title}
	case was.ref != t.ref:
		_, name, _ := strings.Cut(t.ref, ":")
		out = append(out, access.RenameSubject{Subject: was.ref, Name: name})
	}
	set := access.SetSubject{Subject: t.ref}
	if was.title != t.title {
		set.Title = &t.title
	}
	if was.disabled != t.disabled {
		set.Disabled = &t.disabled
	}
	if was.lead != t.lead {
		set.Lead = &t.lead
	}
	if set.Title != nil || set.Disabled != nil || set.Lead != nil {
		out = append(out, set)
	}
	names := maps.Clone(t.attributes)
	if names == nil {
		names = map[string][]string{}
	}
	for name := range was.attributes {
		names[name] = t.attributes[name]
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if !slices.Equal(was.attributes[name], t.attributes[name]) {
			out = append(out, access.SetAttribute{Subject: t.ref, Name: name, Values: t.attributes[name]})
		}
	}
	return out
}

func (t membership) Name() string { return t.Member + " in " + t.Of }
func (t membership) rank() int    { return rankMembership }
func (t membership) drop() []any {
	return []any{access.Leave{Member: t.Member, Of: t.Of, By: t.By}}
}
func (t membership) put(from Thing) []any {
	if was, there := from.(membership); there && was.Option && !t.Option {
		return append(was.drop(), t.Join)
	}
	return []any{t.Join}
}

func (t owner) Name() string    { return "the owner of " + t.Object }
func (t owner) rank() int       { return rankOwner }
func (t owner) drop() []any     { return []any{access.SetOwner{Object: t.Object}} }
func (t owner) put(Thing) []any { return []any{t.SetOwner} }

func (t lane) Name() string    { return "lane:" + t.Lane }
func (t lane) rank() int       { return rankPlace }
func (t lane) drop() []any     { return []any{access.RemoveLane{Lane: t.Lane}} }
func (t lane) put(Thing) []any { return []any{t.PutLane} }

func (t label) Name() string    { return "label:" + t.Label }
func (t label) rank() int       { return rankPlace }
func (t label) drop() []any     { return []any{access.RemoveLabel{Label: t.Label}} }
func (t label) put(Thing) []any { return []any{t.PutLabel} }

func (t view) Name() string    { return "the view " + t.Path }
func (t view) rank() int       { return rankView }
func (t view) drop() []any     { return []any{access.DropView{Path: t.Path}} }
func (t view) put(Thing) []any { return []any{t.PutView} }

func (t bundle) Name() string    { return "the bundle " + t.Bundle }
func (t bundle) rank() int       { return rankPlace }
func (t bundle) drop() []any     { return []any{access.RemoveBundle{Bundle: t.Bundle}} }
func (t bundle) put(Thing) []any { return []any{t.PutBundle} }

func (t rowPolicy) Name() string { return "the policy " + t.PutRowPolicy.Name }
func (t rowPolicy) rank() int    { return rankPolicy }
func (t rowPolicy) drop() []any  { return []any{policy.RemovePolicy{Name: t.PutRowPolicy.Name}} }
func (t rowPolicy) put(from Thing) []any {
	if was, other := from.(columnPolicy); other {
		return append(was.drop(), t.PutRowPolicy)
	}
	return []any{t.PutRowPolicy}
}

func (t columnPolicy) Name() string { return "the policy " + t.PutColumnPolicy.Name }
func (t columnPolicy) rank() int    { return rankPolicy }
func (t columnPolicy) drop() []any  { return []any{policy.RemovePolicy{Name: t.PutColumnPolicy.Name}} }
func (t columnPolicy) put(from Thing) []any {
	if was, other := from.(rowPolicy); other {
		return append(was.drop(), t.PutColumnPolicy)
	}
	return []any{t.PutColumnPolicy}
}

func (t placement) Name() string { return t.Label + " on " + t.Object }
func (t placement) rank() int    { return rankPlacement }
func (t placement) drop() []any {
	return []any{policy.LiftLabel{Label: t.Label, Object: t.Object}}
}
func (t placement) put(Thing) []any { return []any{t.PlaceLabel} }

func (t relationship) Name() string {
	return "the relationship from " + strings.Join(t.From, ", ") + " to " + strings.Join(t.To, ", ")
}
func (t relationship) rank() int { return rankRelationship }
func (t relationship) drop() []any {
	return []any{policy.RemoveRelationship{From: t.From, To: t.To}}
}
func (t relationship) put(Thing) []any { return []any{t.PutRelationship} }

func (t grant) Name() string { return t.Privilege + " on " + t.Object + " to " + t.Subject }
func (t grant) rank() int    { return rankGrant }
func (t grant) drop() []any {
	return []any{access.RemoveGrant{Privilege: t.Privilege, Object: t.Object, Subject: t.Subject, Grantor: t.Grantor}}
}
func (t grant) put(from Thing) []any {
	if was, there := from.(grant); there && was.Option && !t.Option {
		option := was.drop()[0].(access.RemoveGrant)
		option.OptionOnly = true
		return []any{option, t.AddGrant}
	}
	return []any{t.AddGrant}
}

func (t found) Name() string    { return t.name }
func (t found) rank() int       { return 0 }
func (t found) drop() []any     { return nil }
func (t found) put(Thing) []any { return nil }

// All are the things of a state, found as they are asked for.
type All struct {
	state State
	parts map[string]things
}

// Things takes a state apart, thing by thing.
func Things(st State) All { return All{st, map[string]things{}} }

// Of is the thing that a difference is about, as the state has it; nil: it has not.
func (a All) Of(d Difference) Thing {
	kind, rest, _ := strings.Cut(d.Key, " ")
	number, _, _ := strings.Cut(rest, " ")
	n, err := strconv.ParseUint(number, 10, 32)
	if err != nil || kind == "policy" { // whose names can be numbers
		n = 0
	}
	m, part := a.state.Model, "rules"
	take := func(l things) { l.policies(a.state) }
	switch kind {
	case "subject", "membership":
		part, take = "subject "+number, func(l things) { l.subject(m, access.SubjectID(n)) }
	case "grant":
		part, take = d.Key, func(l things) { l.grant(m, access.GrantID(n)) }
	case "owner", "lane", "label", "view", "object":
		part, take = "object "+number, func(l things) { l.object(m, access.ObjectID(n)) }
	case "bundle":
		part, take = "bundles", func(l things) { l.bundles(m) }
	}
	if a.parts[part] == nil {
		a.parts[part] = things{}
		take(a.parts[part])
	}
	return a.parts[part][d.Key]
}

// Same reports whether two things are the same; a thing that is not there is the same as none.
func Same(a, b Thing) bool {
	if a == nil || b == nil {
		return a == nil && b == nil
	}
	return reflect.DeepEqual(a, b)
}

// Account is the user or service that the difference is about; "" where it is about none.
func (d Difference) Account() string {
	for _, t := range []Thing{d.Before, d.After} {
		if s, is := t.(subject); is && (s.kind == access.User || s.kind == access.Service) {
			return s.ref
		}
	}
	return ""
}
