package outline

import (
	"maps"
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/policy"
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
	rankGuard
)

func by(ref string) string {
	if ref == "" {
		return ""
	}
	return " by " + ref
}

func (t Subject) Name() string { return t.Ref }
func (t Subject) rank() int    { return rankSubject }
func (t Subject) drop() []any  { return []any{access.RemoveSubject{Subject: t.Ref}} }
func (t Subject) put(from Thing) []any {
	was, there := from.(Subject)
	var out []any
	switch {
	case !there:
		out = append(out, access.AddSubject{Subject: t.Ref, Title: t.Title})
		was = Subject{Ref: t.Ref, Title: t.Title}
	case was.Ref != t.Ref:
		_, name, _ := strings.Cut(t.Ref, ":")
		out = append(out, access.RenameSubject{Subject: was.Ref, Name: name})
	}
	set := access.SetSubject{Subject: t.Ref}
	if was.Title != t.Title {
		set.Title = &t.Title
	}
	if was.Disabled != t.Disabled {
		set.Disabled = &t.Disabled
	}
	if was.Lead != t.Lead {
		set.Lead = &t.Lead
	}
	if set.Title != nil || set.Disabled != nil || set.Lead != nil {
		out = append(out, set)
	}
	names := maps.Clone(t.Attributes)
	if names == nil {
		names = map[string][]string{}
	}
	for name := range was.Attributes {
		names[name] = t.Attributes[name]
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if !slices.Equal(was.Attributes[name], t.Attributes[name]) {
			out = append(out, access.SetAttribute{Subject: t.Ref, Name: name, Values: t.Attributes[name]})
		}
	}
	return out
}

func (t membership) Name() string { return t.Member + " in " + t.Of + by(t.By) }
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

func (t grant) Name() string {
	return t.Privilege + " on " + t.Object + " to " + t.Subject + by(t.Grantor)
}
func (t grant) rank() int { return rankGrant }
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

func (t rail) Name() string    { return "the guardrail " + t.PutGuardrail.Name }
func (t rail) rank() int       { return rankGuard }
func (t rail) drop() []any     { return []any{guard.RemoveGuardrail{Name: t.PutGuardrail.Name}} }
func (t rail) put(Thing) []any { return []any{t.PutGuardrail} }

func (t test) Name() string    { return "the access test " + t.PutTest.Name }
func (t test) rank() int       { return rankGuard }
func (t test) drop() []any     { return []any{guard.RemoveTest{Name: t.PutTest.Name}} }
func (t test) put(Thing) []any { return []any{t.PutTest} }

func (t found) Name() string    { return t.name }
func (t found) rank() int       { return 0 }
func (t found) drop() []any     { return nil }
func (t found) put(Thing) []any { return nil }

// Of is the thing that a change makes; nil where it makes none of those that are put as a whole.
func Of(change any) Thing {
	switch c := change.(type) {
	case access.Join:
		return membership{c}
	case access.AddGrant:
		return grant{AddGrant: c}
	case access.SetOwner:
		return owner{c}
	case access.PutLane:
		return lane{c}
	case access.PutLabel:
		return label{c}
	case access.PutView:
		return view{c}
	case access.PutBundle:
		return bundle{c}
	case policy.PutRowPolicy:
		return rowPolicy{c}
	case policy.PutColumnPolicy:
		return columnPolicy{c}
	case policy.PlaceLabel:
		return placement{c}
	case policy.PutRelationship:
		return relationship{c}
	case guard.PutGuardrail:
		return rail{c}
	case guard.PutTest:
		return test{c}
	}
	return nil
}
