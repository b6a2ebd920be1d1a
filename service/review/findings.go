package review

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/bits-and-blooms/bitset"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// fewAdministrators is how many administrators a platform has before it is worth
// a look, when nothing else is said.
const fewAdministrators = 3

// mostOfAKind bounds the findings of one kind; the rest are counted.
const mostOfAKind = 200

// Findings lists what the trade calls privilege hygiene: rights and subjects
// to review, each with its reason and its fixes. More administrators
// than the number given are one of them; zero is the usual number.
func (s *Service) Findings(ctx context.Context, c identity.Caller, administrators int) (wire.List[wire.Finding], error) {
	st := s.identity.State(c)
	out := wire.List[wire.Finding]{Items: []wire.Finding{}}
	if !s.identity.Reviews(st, c) {
		return out, fault.New(fault.Refused, "refused", "findings need DESCRIBE on platform")
	}
	if administrators < 1 {
		administrators = fewAdministrators
	}
	counts := s.identity.Manages(st, c, access.PlatformID)
	if kept := s.found.Load(); kept != nil && kept.of == st.Bare() && kept.checks == s.checked.Load() && kept.administrators == administrators &&
		kept.counts == counts && time.Since(kept.at) < keepFindings {
		return kept.list, nil
	}
	checks := s.checked.Load()
	canSignIn, err := s.store.CanSignIn(ctx, time.Now())
	if err != nil {
		return out, err
	}
	f := s.finder(st, time.Now())
	f.counts, f.canSignIn, f.had = counts, canSignIn, st.Model.Had(f.now)
	found, err := s.look(ctx, st, f.now)
	if err != nil {
		return out, err
	}
	f.grants(found)
	f.subjects()
	f.guardrails(found)
	if err := f.failing(ctx); err != nil {
		return out, err
	}
	if found.ofUse != nil {
		f.part(found.ofUse)
	}
	f.lent()
	f.part(found.parts)
	f.alike(found.alike)
	f.administrators(administrators)
	for _, kind := range slices.Sorted(maps.Keys(f.count)) {
		if more := f.count[kind] - mostOfAKind; more > 0 {
			f.count[kind] = 0
			f.add(kind, "", "", say.MoreOfKind.With(more), say.MoreOfKindWhy.With())
		}
	}
	out.Items = f.out
	s.found.Store(&foundList{st.Bare(), checks, administrators, f.counts, time.Now(), out})
	return out, nil
}

// keepFindings is how long a list of findings serves for a state: what ends by
// itself shows within that time.
const keepFindings = 30 * time.Second

// a foundList is what was found in a state.
type foundList struct {
	of             platform.Bare
	checks         int64 // how often the service had run them
	administrators int
	counts         bool // it was made for who may count rows
	at             time.Time
	list           wire.List[wire.Finding]
}

// a finder collects findings over one state.
type finder struct {
	s         *Service
	st        *platform.State
	now       time.Time
	census    *access.Census
	counts    bool           // its reader may look as others, and so count rows
	had       *bitset.BitSet // all that somebody has
	canSignIn map[uint32]bool
	count     map[string]int // by kind
	out       []wire.Finding
}

func (s *Service) finder(st *platform.State, now time.Time) *finder {
	return &finder{s: s, st: st, now: now, census: st.Census(now), count: map[string]int{}, out: []wire.Finding{}}
}

// told is what was found alone, which may be kept without the state that it was found in.
func (f *finder) told() *finder { return &finder{count: f.count, out: f.out} }

// part takes over what was found by another.
func (f *finder) part(o *finder) {
	f.out = append(f.out, o.out...)
	for kind, n := range o.count {
		f.count[kind] += n
	}
}

// wants counts a finding of a kind, and reports whether it is to be said.
func (f *finder) wants(kind string) bool {
	f.count[kind]++
	return f.count[kind] <= mostOfAKind
}

func (f *finder) add(kind, subject, object, says, why string, fixes ...wire.Fix) {
	if f.wants(kind) {
		f.say(kind, subject, object, says, why, fixes...)
	}
}

func (f *finder) say(kind, subject, object, says, why string, fixes ...wire.Fix) {
	f.out = append(f.out, wire.Finding{Kind: kind, Subject: subject, Object: object, Says: says, Why: why, Fixes: append([]wire.Fix{}, fixes...)})
}

// guardrails finds those that are broken.
func (f *finder) guardrails(found *sight) {
	for _, g := range f.st.Guards.Guardrails() {
		for _, b := range found.broken[g] {
			subject, object := "", ""
			if b.Subject != 0 {
				subject = f.st.Model.Ref(b.Subject)
			}
			if b.Object != 0 {
				object = f.st.Model.Path(b.Object)
			}
			f.add("guardrail", subject, object, say.GuardrailBroken.With(g.Name, b.Says), say.GuardrailBrokenWhy.With(g.Sentence(f.st.Model)))
		}
		if len(found.broken[g]) == guard.MostBreaches {
			f.add("guardrail", "", "", say.GuardrailBroken.With(g.Name, say.MaybeMore.With()), say.GuardrailBrokenWhy.With(g.Sentence(f.st.Model)))
		}
	}
}

// policies finds live policies that no longer fit what they are about.
func (f *finder) policies() {
	broken := func(kind, name, on string, err error) {
		if err != nil {
			f.add(
				"broken",
				"",
				on,
				say.Broken.With(name, on, err),
				say.BrokenWhy.With(),
				policyFixes(kind, name)...)
		}
	}
	for _, p := range f.st.Policies.AllRows() {
		if p.Status == policy.Live {
			broken("rows", p.Name, p.Path(f.st.Model), f.st.CheckRow(p))
		}
	}
	for _, p := range f.st.Policies.AllColumns() {
		if p.Status == policy.Live {
			broken("columns", p.Name, f.st.Model.Path(p.At()), f.st.CheckColumn(p))
		}
	}
}

// lent finds live policies whose writer no longer manages what their texts read.
func (f *finder) lent() {
	for _, p := range f.st.Policies.AllRows() {
		f.lentBy("rows", &p.Scope, p.Path(f.st.Model))
	}
	for _, p := range f.st.Policies.AllColumns() {
		f.lentBy("columns", &p.Scope, f.st.Model.Path(p.At()))
	}
}

func (f *finder) lentBy(kind string, p *policy.Scope, on string) {
	if p.Status != policy.Live || p.Writer == 0 {
		return
	}
	writer, err := f.st.Rights(access.Standpoint{Subject: p.Writer}, f.now)
	for _, id := range p.Reads {
		if err == nil && writer.Resolve(id).Allowed.Has(access.Manage) {
			continue
		}
		f.add(
			"lent",
			f.st.Model.Ref(p.Writer),
			on,
			say.Lent.With(p.Name, f.st.Model.Path(id), f.st.Model.Ref(p.Writer)),
			say.LentWhy.With(),
			policyFixes(kind, p.Name)...)
	}
}

// policyFixes are what can be done about a policy.
func policyFixes(kind, name string) []wire.Fix {
	return []wire.Fix{{Says: say.DoEditPolicy.With(name), Edit: name, Kind: kind}, {Says: say.DoStopPolicy.With(name), Stop: name, Kind: kind}}
}

// beside finds what a source's own makers have put beside the policies: routines that may
// read past policies, and rows that are kept from other tables.
func (f *finder) beside() {
	m := f.st.Model
	for _, source := range m.Object(access.PlatformID).Children {
		for _, schema := range m.Object(source).Children {
			for _, id := range m.Object(schema).Children {
				o := m.Object(id)
				switch {
				case o.Missing:
				case o.Kind == access.Routine && pastPolicies(o):
					f.add(
						"past_policies",
						"",
						m.Path(id),
						say.PastPolicies.With(m.Path(id)),
						say.PastPoliciesWhy.With(),
					)
				case o.Kind == access.Table && o.Declared == "materialized view":
					f.add("refreshed", "", m.Path(id), say.Refreshed.With(m.Path(id)),
						say.RefreshedWhy.With())
				}
			}
		}
	}
}

// uncovered finds labelled columns that no live policy treats for anybody.
func (f *finder) uncovered() {
	m := f.st.Model
	for _, label := range m.Labels() {
		if label.Level == access.PublicLevel {
			continue
		}
		for _, id := range f.st.Policies.Bearing(m, label.ID) {
			if len(f.st.Treating(id)) == 0 {
				f.add(
					"uncovered",
					"",
					m.Path(m.Object(id).Parent),
					say.Uncovered.With(m.Path(id), m.Path(label.ID), label.Level),
					say.UncoveredWhy.With(),
					wire.Fix{Says: say.DoAddColumnPolicy.With(m.Path(label.ID)), Treat: m.Path(label.ID)},
				)
			}
		}
	}
}

// pastPolicies reports whether a routine may read past policies.
func pastPolicies(routine *access.Object) bool {
	signature, err := sqltype.ReadSignature(routine.Declared)
	return err != nil || signature.PastPolicies()
}

// grants says of grants what was found of them.
func (f *finder) grants(found *sight) {
	for _, kind := range ofGrants {
		set := found.grants(kind)
		f.count[kind] = int(set.Count())
		told := 0
		for i, ok := set.NextSet(0); ok && told < mostOfAKind; i, ok = set.NextSet(i + 1) {
			f.grant(kind, f.st.Model.Grant(access.GrantID(i)))
			told++
		}
	}
}

func (f *finder) grant(kind string, g *access.Grant) {
	m := f.st.Model
	what, on, to := m.GrantName(g), m.Target(g.Target), m.Ref(g.Subject)
	says := say.GrantSays.With(what, on, to)
	revoke := revoke(m, g)
	switch kind {
	case "dormant":
		w := f.s.grant(f.st, g)
		fix := []wire.Fix{revoke}
		if w.Fix != nil {
			fix = []wire.Fix{*w.Fix, revoke}
		}
		f.say(kind, to, on, say.DormantGrant.With(says, w.Dormant), say.DormantWhy.With(), fix...)
	case "to_public":
		f.say(kind, to, on, says, say.ToPublicWhy.With(), revoke)
	case "to_user":
		f.say(kind, to, on, say.ToUser.With(says), say.ToUserWhy.With(), revoke)
	case "broad":
		f.say(kind, to, on, say.Broad.With(says, m.Object(g.Object).Kind), say.BroadWhy.With(), revoke)
	case "redundant":
		if other := f.covering(g); other != nil {
			why := say.RedundantWhy.With(m.GrantName(other), m.Target(other.Target), m.Ref(other.Subject))
			f.say(kind, to, on, say.Redundant.With(says), why, revoke)
		}
	}
}

// revoke is to take a grant back.
func revoke(m *access.Model, g *access.Grant) wire.Fix {
	what, on, to := m.GrantName(g), m.Target(g.Target), m.Ref(g.Subject)
	return wire.Fix{Says: say.DoRevoke.With(what, on, to),
		Revoke: &wire.GrantRequest{Privileges: []string{what}, Object: on, Subjects: []string{to}, Grantor: m.Ref(g.Grantor)}}
}

// covering returns another grant in effect that gives the subject all that g
// does, or nil.
func (f *finder) covering(g *access.Grant) *access.Grant {
	rights, err := f.st.Rights(access.Standpoint{Subject: g.Subject}, f.now)
	if err != nil || g.Option {
		return nil
	}
	return rights.Covering(g)
}

// subjects finds what there is to say of each subject by itself, and of its memberships.
func (f *finder) subjects() {
	ending := map[access.SubjectID]int{} // members with an end date, by group and role
	all := f.st.Model.Subjects(0)
	for _, subject := range all {
		for _, e := range subject.Memberships {
			if !e.Until.IsZero() {
				ending[e.Of]++
			}
		}
	}
	for _, subject := range all {
		f.subject(subject)
		for _, e := range subject.Memberships {
			if e.Until.IsZero() && ending[e.Of] > 0 {
				f.endless(subject, e, ending[e.Of])
			}
		}
	}
}

func (f *finder) subject(subject *access.Subject) {
	tell := func(kind, says, why string) {
		ref := subject.Ref()
		f.say(kind, ref, "", says, why, wire.Fix{Says: say.DoRemove.With(ref), Remove: ref})
	}
	builtIn := func() bool { ref := subject.Ref(); return ref == access.Auditor || ref == access.Administrator }
	if (subject.Kind == access.Role || subject.Kind == access.Group) && !f.had.Test(uint(subject.ID)) && !builtIn() && f.wants("no_holders") {
		tell("no_holders", say.NoMembers.With(subject.Ref()), say.NoMembersWhy.With())
	}
	if !subject.Acts() {
		return
	}
	switch has := f.st.Model.CountGrantsTo(subject.ID) + len(subject.Memberships); {
	case has == 0:
	case subject.Disabled:
		if f.wants("no_sign_in") {
			tell("no_sign_in", say.DisabledWithRights.With(subject.Ref(), say.Count(has, "right")), say.DisabledWithRightsWhy.With())
		}
	case !f.canSignIn[uint32(subject.ID)]:
		if f.wants("no_sign_in") {
			tell("no_sign_in", say.NoSignIn.With(subject.Ref(), say.Count(has, "right")), say.NoSignInWhy.With())
		}
	}
}

// endless looks for a membership without an end where most others of the same group or role, so many, have one.
func (f *finder) endless(subject *access.Subject, e access.Membership, with int) {
	of := f.st.Model.Subject(e.Of)
	if with*2 > len(of.Members) {
		f.add("no_end", subject.Ref(), "", say.NoEnd.With(subject.Ref(), of.Ref()),
			say.NoEndWhy.With(with, len(of.Members)-1))
	}
}

func (f *finder) administrators(few int) {
	role, err := f.st.Model.FindSubject(access.Administrator)
	if err != nil {
		return
	}
	var names []string
	f.st.Model.Actors(role.ID, f.now, func(s *access.Subject) bool {
		names = append(names, s.Ref())
		return true
	})
	if len(names) > few {
		f.add(
			"administrators",
			access.Administrator,
			"platform",
			say.Administrators.With(len(names), strings.Join(names, ", ")),
			say.AdministratorsWhy.With(few),
			wire.Fix{Says: say.DoTake.With(access.Administrator), Take: &wire.Member{Of: access.Administrator}},
		)
	}
}
