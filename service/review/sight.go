package review

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"github.com/bits-and-blooms/bitset"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/service/gateway"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// A sight is what was found in a state of all that there may be a million of. It is not changed: what is
// found in the next state is worked out from it, by what differs.
type sight struct {
	st     *platform.State
	now    time.Time
	rails  guard.State // as guardrails are checked on it
	survey *access.Survey
	given  map[string]*bitset.BitSet // grants, by the kind of finding
	broken map[*guard.Guardrail][]guard.Breach
	parts  *finder // what is said of objects and policies
	alike  []likeness
	use    *needed        // what queries needed
	unused *bitset.BitSet // grants that they did not need; nil: it has not been counted for long enough
	ofUse  *finder        // what is said of that
}

// ofGrants are the kinds of findings about a grant.
var ofGrants = []string{"dormant", "to_public", "to_user", "broad", "redundant"}

// grants is the set of grants about which there is a finding.
func (f *sight) grants(kind string) *bitset.BitSet {
	switch kind {
	case "dormant":
		return f.survey.Dormant
	case "redundant":
		return f.survey.Covered
	}
	return f.given[kind]
}

// look finds what there is in a state, from what was found before.
func (s *Service) look(ctx context.Context, st *platform.State, now time.Time) (*sight, error) {
	s.looking.Lock()
	defer s.looking.Unlock()
	before := s.kept
	census := st.Census(now)
	next := &sight{st: st, now: now, given: map[string]*bitset.BitSet{}, broken: map[*guard.Guardrail][]guard.Breach{}}
	next.rails = s.Guarded(st, now)
	if before == nil {
		d := access.Changed(access.New(), st.Model)
		next.survey = census.Survey()
		next.giving(nil, d.Grants)
		for _, g := range st.Guards.Guardrails() {
			next.broken[g] = g.Broken(next.rails, nil, nil)
		}
		next.parts, next.alike = s.structural(st, now), likenesses(st.Model)
		return s.keep(ctx, next, nil, &d)
	}
	d := access.Changed(before.st.Model, st.Model)
	if next.survey = before.survey; next.survey.Census != census {
		next.survey = before.survey.Next(census)
	}
	next.giving(before.given, d.Grants)
	for _, g := range st.Guards.Guardrails() {
		if old, known := before.broken[g]; known {
			next.broken[g] = g.Next(old, before.rails, next.rails, &d)
		} else {
			next.broken[g] = g.Broken(next.rails, nil, nil)
		}
	}
	next.parts, next.alike = before.parts, before.alike
	others := renamed(before.st.Model, st.Model, d.Standing())
	switch {
	case d.Bundles: // another history, maybe
		next.alike = likenesses(st.Model)
	case len(others) > 0:
		next.alike = likenessesNext(before.alike, st.Model, others)
	}
	if d.Bundles || len(others) > 0 || before.st.Policies != st.Policies || len(d.Structure()) > 0 {
		next.parts = s.structural(st, now)
	}
	return s.keep(ctx, next, before, &d)
}

// renamed are those of some subjects that have come or gone, or have another name or other attributes.
func renamed(a, b *access.Model, ids []access.SubjectID) []access.SubjectID {
	return slices.DeleteFunc(slices.Clone(ids), func(id access.SubjectID) bool {
		was, is := a.SubjectOf(id), b.SubjectOf(id)
		return was != nil && is != nil && was.Name == is.Name && maps.EqualFunc(was.Attributes, is.Attributes, slices.Equal)
	})
}

// keep looks at use, which is of what is in force, and keeps what was found there.
func (s *Service) keep(ctx context.Context, next, before *sight, d *access.Delta) (*sight, error) {
	if next.st.Imagined() {
		return next, nil
	}
	_, short, err := s.since(ctx, usualDays, next.now)
	if err != nil {
		return nil, err
	}
	if !short {
		if s.needed == nil || s.needed.since != since(next.now) {
			s.needed = newNeeded(next.now)
		}
		fresh, more, err := s.needed.more(ctx, s, next.st.Model)
		if err != nil {
			return nil, err
		}
		if next.use = s.needed; before == nil || before.unused == nil || before.use != next.use || d.Bundles {
			next.unused = &bitset.BitSet{}
			next.st.Model.EachGrant(next.judge)
		} else {
			next.unused = before.unused.Clone()
			for _, id := range slices.Concat(d.Grants, fresh) {
				next.unused.Clear(uint(id))
				if g := next.st.Model.GrantOf(id); g != nil {
					next.judge(g)
				}
			}
		}
		if !more && before != nil && next.usedAs(before, d) {
			next.ofUse = before.ofUse
		} else {
			f := s.finder(next.st, next.now)
			f.unused(next)
			next.ofUse = f.told()
		}
	}
	s.kept = next
	return next, nil
}

// usedAs reports whether, where nothing more was used, what is to be said of use is what was said before: nobody
// stands otherwise, nothing is elsewhere, what is unused is the same, and no grant differs whose tables are looked at.
func (f *sight) usedAs(before *sight, d *access.Delta) bool {
	return before.ofUse != nil && before.use == f.use && !d.Bundles && len(d.Standing()) == 0 && len(d.Structure()) == 0 &&
		f.unused.Equal(before.unused) && !slices.ContainsFunc(d.Grants, func(id access.GrantID) bool { return f.use.tables[id] != nil })
}

// giving finds the grants that are of a kind by themselves.
func (f *sight) giving(before map[string]*bitset.BitSet, differ []access.GrantID) {
	m := f.st.Model
	for _, kind := range ofGrants {
		f.given[kind] = &bitset.BitSet{}
		if before != nil {
			f.given[kind] = before[kind].Clone()
		}
	}
	for _, id := range differ {
		g := m.GrantOf(id)
		given := g != nil && g.Grantor != 0 // neither built in, nor an owner's
		var on access.ObjectKind
		var to access.SubjectKind
		if given {
			on, to = m.Object(g.Object).Kind, m.Subject(g.Subject).Kind
		}
		f.given["to_public"].SetTo(uint(id), given && to == access.Public && on != access.Lane)
		f.given["to_user"].SetTo(uint(id), given && to == access.User)
		f.given["broad"].SetTo(uint(id), given && g.Pattern == "" && (on == access.Platform || on == access.Source) &&
			g.Privilege != access.Usage && g.Privilege != access.Audit)
	}
}

// structural finds what depends on which objects and policies there are.
func (s *Service) structural(st *platform.State, now time.Time) *finder {
	f := s.finder(st, now)
	f.policies()
	f.uncovered()
	f.beside()
	return f.told()
}

// since is the first day of those that are looked at for what nobody used.
func since(now time.Time) string { return now.UTC().AddDate(0, 0, -usualDays).Format(time.DateOnly) }

// needed is what queries needed since a day, by what it was; of grants on containers, for which tables.
type needed struct {
	since       string
	new         time.Time // what was given later is too young to be judged
	behind      int64     // up to which record it is known
	grants      map[access.GrantID]bool
	tables      map[access.GrantID]map[access.ObjectID]bool
	memberships map[access.Taken]bool
}

func newNeeded(now time.Time) *needed {
	return &needed{since: since(now), new: now.UTC().Truncate(24*time.Hour).AddDate(0, 0, -usualDays), behind: -1, grants: map[access.GrantID]bool{},
		tables: map[access.GrantID]map[access.ObjectID]bool{}, memberships: map[access.Taken]bool{}}
}

// more adds what was counted since it was last asked, reports whether there was any, and lists the grants that were
// not needed before.
func (n *needed) more(ctx context.Context, s *Service, m *access.Model) (fresh []access.GrantID, more bool, err error) {
	sets, counted, err := s.store.Audit().NeededBehind(ctx, n.since, n.behind)
	if err != nil {
		return nil, false, err
	}
	uses := make([]gateway.Use, len(sets))
	for i, set := range sets { // all of it or nothing: what is added is told once
		if err := json.Unmarshal([]byte(set.Needs), &uses[i]); err != nil {
			return nil, false, err
		}
	}
	for _, of := range uses {
		for _, id := range of.Grants {
			if !n.grants[id] {
				n.grants[id] = true
				fresh = append(fresh, id)
			}
			if g := m.GrantOf(id); g != nil && m.Object(g.Object).Kind <= access.Schema {
				if n.tables[id] == nil {
					n.tables[id] = map[access.ObjectID]bool{}
				}
				for _, table := range of.Tables {
					n.tables[id][table] = true
				}
			}
		}
		for _, e := range of.Memberships {
			n.memberships[access.Taken{Member: access.SubjectID(e[0]), Of: access.SubjectID(e[1])}] = true
		}
	}
	n.behind = counted
	return fresh, len(sets) > 0, nil
}

// judge notes a grant that nobody used.
func (f *sight) judge(g *access.Grant) {
	if judged(f.st.Model, g) && !f.use.grants[g.ID] && !g.At.After(f.use.new) {
		f.unused.Set(uint(g.ID))
	}
}

// unused says what nobody used for a while, and which grants are far wider than their use.
func (f *finder) unused(found *sight) {
	m := f.st.Model
	told := func(i wire.UseItem) {
		f.say("unused", i.Subject, i.Object, say.Unused.With(i.Says, usualDays), say.UnusedWhy.With(), i.Fixes...)
	}
	for i, ok := found.unused.NextSet(0); ok && f.wants("unused"); i, ok = found.unused.NextSet(i + 1) {
		told(grantUse(m, m.Grant(access.GrantID(i))))
	}
	f.count["unused"] = int(found.unused.Count())
	administering := administering{m: m}
	m.EachSubject(func(s *access.Subject) {
		for _, e := range s.Memberships {
			if !found.use.memberships[access.Taken{Member: s.ID, Of: e.Of}] && !e.At.After(found.use.new) && f.wants("unused") && !administering.has(e.Of) {
				told(membershipUse(m, s, e))
			}
		}
	})
	for _, id := range slices.Sorted(maps.Keys(found.use.tables)) {
		g := m.GrantOf(id)
		if g == nil || g.Grantor == 0 {
			continue
		}
		if i := grantUse(m, g); narrow(f.st, &i, g, found.use.tables[id]) {
			f.add("too_wide", i.Subject, i.Object, say.TooWide.With(i.Says), say.TooWideWhy.With(i.Note, usualDays), i.Fixes...)
		}
	}
}
