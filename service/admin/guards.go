package admin

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// PutGuardrail adds a guardrail, or replaces one.
func (s *Service) PutGuardrail(ctx context.Context, c identity.Caller, in wire.GuardrailRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "the guardrail "+in.Name); err != nil {
		return wire.Changed{}, err
	}
	name := strings.ToLower(strings.TrimSpace(in.Name))
	if in.Mode == "" {
		in.Mode = string(guard.Warn)
	}
	what := guard.PutGuardrail{Name: name, Kind: guard.Kind(in.Kind), Mode: guard.Mode(in.Mode), Comment: in.Comment, Object: in.Object,
		Except: in.Except, Roles: in.Roles, Most: in.Most}
	exists := slices.ContainsFunc(st.Guards.Guardrails(), func(g *guard.Guardrail) bool { return g.Name == name })
	if err := whether(exists, in.Replace, "guardrail", name); err != nil {
		return wire.Changed{}, err
	}
	then, err := st.Apply(what, time.Now())
	if err != nil {
		return wire.Changed{}, err
	}
	says := say.AddedGuardrail
	if exists {
		says = say.ChangedGuardrail
	}
	return s.carryOut(ctx, order{caller: c, Change: in.Change, changes: []platform.Change{what},
		says: []string{says.With(name, railOf(then, name).Sentence(then.Model))}})
}

func railOf(st *platform.State, name string) *guard.Guardrail {
	for _, g := range st.Guards.Guardrails() {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// whether refuses to add what is there, and to replace what is not.
func whether(exists, replace bool, what, name string) error {
	if exists && !replace {
		return fault.New(fault.Conflict, "exists", "there is a %s %s already; change it with set, or choose another name", what, name)
	}
	if !exists && replace {
		return fault.New(fault.NotFound, "not_found", "there is no %s %s to change", what, name)
	}
	return nil
}

// RemoveGuardrail takes a guardrail away.
func (s *Service) RemoveGuardrail(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	if err := s.identity.Administers(s.identity.State(c), c, "the guardrail "+name); err != nil {
		return wire.Changed{}, err
	}
	return s.carryOut(ctx, order{caller: c, Change: in, changes: []platform.Change{guard.RemoveGuardrail{Name: name}},
		says: []string{say.RemovedGuardrail.With(name)}})
}

// PutTest adds an access test, or replaces one.
func (s *Service) PutTest(ctx context.Context, c identity.Caller, in wire.AccessTestRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "the access test "+in.Name); err != nil {
		return wire.Changed{}, err
	}
	name := strings.ToLower(strings.TrimSpace(in.Name))
	what := guard.PutTest{Name: name, Subject: in.Subject, Role: in.Role, Purpose: in.Purpose, Table: in.Table, May: in.May, MayNot: in.MayNot,
		Rows: in.Rows, Where: in.Where, Columns: in.Columns, Comment: in.Comment}
	exists := slices.ContainsFunc(st.Guards.Tests(), func(t *guard.Test) bool { return t.Name == name })
	if err := whether(exists, in.Replace, "test", name); err != nil {
		return wire.Changed{}, err
	}
	then, err := st.Apply(what, time.Now())
	if err != nil {
		return wire.Changed{}, err
	}
	says := say.AddedTest
	if exists {
		says = say.ChangedTest
	}
	who, of := "", ""
	for _, t := range then.Guards.Tests() {
		if t.Name == name {
			who, of = then.Model.StandpointText(t.Standpoint()), then.Model.Path(t.Table)
		}
	}
	return s.carryOut(ctx, order{caller: c, Change: in.Change, changes: []platform.Change{what}, says: []string{says.With(name, who, of)}})
}

// RemoveTest takes an access test away.
func (s *Service) RemoveTest(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	if err := s.identity.Administers(s.identity.State(c), c, "the access test "+name); err != nil {
		return wire.Changed{}, err
	}
	return s.carryOut(ctx, order{caller: c, Change: in, changes: []platform.Change{guard.RemoveTest{Name: name}}, says: []string{say.RemovedTest.With(name)}})
}

// RecordTest makes an access test of how things stand.
func (s *Service) RecordTest(ctx context.Context, c identity.Caller, in wire.BaselineRequest) (wire.Changed, error) {
	if err := s.identity.Administers(s.identity.State(c), c, "an access test"); err != nil {
		return wire.Changed{}, err
	}
	test, err := s.review.Baseline(ctx, c, in)
	if err != nil {
		return wire.Changed{}, err
	}
	given, taken := test.Name, s.identity.State(c).Guards
	for n := 2; in.Name == "" && !in.Replace && taken.Test(test.Name) != nil; n++ { // a second one beside it
		test.Name = fmt.Sprintf("%s-%d", given, n)
	}
	return s.PutTest(ctx, c, wire.AccessTestRequest{AccessTest: test, Replace: in.Replace, Change: in.Change})
}

// guarded refuses an order that would break a guardrail which blocks, and says which others it
// breaks. What is broken already is no news. The names of guardrails that are set aside come back.
func (s *Service) guarded(before, after *platform.State, o order, now time.Time) (notes []string, err error) {
	if o.caller.User == 0 {
		return nil, nil // the making of a platform
	}
	if len(o.setAside()) > 0 && !s.identity.Manages(before, o.caller, access.PlatformID) {
		return nil, s.identity.Refuse(o.caller, audit.Change, strings.Join(o.says, "; "), identity.Wants(before.Authority(), access.Manage, access.PlatformID))
	}
	for _, name := range o.setAside() {
		if railOf(before, name) == nil {
			return nil, &access.NotFound{Kind: "guardrail", Name: name, Known: names(before)}
		}
		if strings.TrimSpace(o.Reason) == "" {
			return nil, fault.New(fault.Invalid, "no_reason", "who sets a guardrail aside says why: --reason")
		}
	}
	told := s.identity.Reviews(before, o.caller) // which guardrails there are, and who breaks them, is for reviewers
	pairs, added := s.review.Touched(before, after, o.changes)
	scanned := slices.ContainsFunc(o.changes, func(c platform.Change) bool { _, is := c.(access.AddObject); return is })
	if scanned { // what a source has is not refused, whoever may see it by what holds already: it is said
		pairs = nil
	}
	for _, g := range after.Guards.Guardrails() {
		was := railOf(before, g.Name)
		if g.Kind == guard.SecondPerson {
			continue
		}
		if was != g { // it is new: it says what it finds
			if broken := g.Broken(s.review.Guarded(after, now), nil, nil); len(broken) > 0 {
				notes = append(notes, say.BrokenAlready.With(g.Name, s.breaches(after, broken)))
			}
			continue
		}
		broken := g.News(s.review.Guarded(before, now), s.review.Guarded(after, now), pairs, added)
		switch {
		case len(broken) == 0:
		case scanned && !told:
		case g.Mode == guard.Warn && !told:
		case g.Mode == guard.Warn || scanned:
			notes = append(notes, say.BreaksGuardrail.With(g.Name, g.Sentence(after.Model), s.breaches(after, broken)))
		case slices.Contains(o.setAside(), g.Name):
			notes = append(notes, say.SetAside.With(g.Name, s.breaches(after, broken)))
		case !told:
			return nil, errInTheWay
		default:
			return nil, fault.New(fault.Conflict, "guardrail",
				"the guardrail %s (%s) would be broken: %s. Who administers the platform can set it aside for this change, with a reason: --set-aside %s",
				g.Name, g.Sentence(after.Model), s.breaches(after, broken), g.Name)
		}
	}
	return notes, nil
}

func (o *order) setAside() []string {
	return strings.FieldsFunc(o.caller.SetAside, func(r rune) bool { return r == ',' || r == ' ' })
}

func names(st *platform.State) []string {
	var out []string
	for _, g := range st.Guards.Guardrails() {
		out = append(out, g.Name)
	}
	return out
}

var errInTheWay = fault.New(fault.Conflict, "guardrail", "a guardrail is in the way of this; ask who administers the platform")

// breaches says what breaks a guardrail, with the way by which somebody sees something.
func (s *Service) breaches(st *platform.State, list []guard.Breach) string {
	const told = 3
	var out []string
	for _, b := range list[:min(len(list), told)] {
		out = append(out, s.review.BreachSays(st, b))
	}
	if more := len(list) - told; more > 0 {
		out = append(out, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(out, "; ")
}

// secondPerson refuses a change that somebody else has to publish: one that is made at once, and one
// whose publisher put it into the draft.
func (s *Service) secondPerson(before, after *platform.State, o order, makers []uint32, now time.Time) error {
	if o.caller.User == 0 {
		return nil
	}
	var rails []*guard.Guardrail
	for _, g := range before.Guards.Guardrails() {
		if g.Kind == guard.SecondPerson && g.Mode == guard.Block && !slices.Contains(o.setAside(), g.Name) {
			rails = append(rails, g)
		}
	}
	if len(rails) == 0 || makers != nil && !slices.Contains(makers, uint32(o.caller.User)) {
		return nil
	}
	reached := s.review.Reached(before, after, o.changes, now)
	for _, g := range rails {
		if railOf(after, g.Name) == g && !reached(g.Object) { // to take it away takes two, too
			continue
		}
		if !s.identity.Reviews(before, o.caller) {
			return fault.New(fault.Conflict, "second_person",
				"this has to be published by a second person: put it into a draft (--draft NAME), which somebody else publishes")
		}
		if makers == nil {
			return fault.New(fault.Conflict, "second_person", "the guardrail %s: %s. Put this into a draft (--draft NAME), which somebody else publishes",
				g.Name, g.Sentence(before.Model))
		}
		return fault.New(fault.Conflict, "second_person",
			"the guardrail %s: %s, and changes in this draft are yours. Somebody else who may make them has to publish it", g.Name, g.Sentence(before.Model))
	}
	return nil
}
