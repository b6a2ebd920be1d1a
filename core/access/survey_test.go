package access

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/bits-and-blooms/bitset"
)

// anyTurn is some change of what a grant's effect depends on.
func anyTurn(r *rand.Rand) Change {
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	subject := pick("user:flint", "user:marl", "group:field-north", "role:survey_reader", fmt.Sprintf("user:u%d", r.IntN(4)), fmt.Sprintf("user:n%d", r.IntN(2)))
	disabled := r.IntN(2) == 0
	switch r.IntN(23) {
	case 0:
		return SetSubject{Subject: subject, Disabled: &disabled}
	case 1:
		return MissObject{pick("survey", "survey.drilling", "survey.assay", "survey.assay.results", "survey.drilling.boreholes.name", "survey.assay.t1")}
	case 2:
		return AddObject{Path: pick("survey.assay.results", "survey.drilling"), Kind: pick("table", "schema")}
	case 3:
		return AddGrant{Privilege: "USAGE", Object: pick("survey", "survey.drilling", "survey.assay", "lane:interactive", "survey.*", "lane:night"),
			Subject: pick("public", "public", subject), Grantor: "user:opal"}
	case 4, 5:
		return RemoveGrant{Privilege: "USAGE", Object: pick("survey", "survey.drilling", "survey.assay", "lane:interactive", "survey.*"), Subject: pick("public", subject)}
	case 6:
		return PutLane{Lane: "night", Limits: Limits{Queries: 1, Seconds: 1, Rows: 1, Bytes: 1 << 20}}
	case 7:
		return RemoveLane{Lane: pick("night", "interactive")}
	case 8:
		return AddGrant{Privilege: "ALL", Object: pick("platform", "survey", "survey.assay"), Subject: subject, Grantor: "user:opal"}
	case 9:
		return PutBundle{Bundle: "reader", Privileges: []string{"SELECT", pick("USAGE", "DESCRIBE")}}
	case 10: // what leads through several doors
		return AddGrant{Privilege: "SELECT", Object: pick("survey", "survey", "platform", "survey.d*", "survey.assay.t*"), Subject: pick("public", subject), Grantor: "user:opal"}
	case 11:
		return AddSubject{Subject: fmt.Sprintf("user:n%d", r.IntN(2))}
	case 12:
		return RemoveSubject{Subject: fmt.Sprintf("user:n%d", r.IntN(2))}
	case 13: // before the schemas that are there
		return AddObject{Path: fmt.Sprintf("outer.area%d", r.IntN(9)), Kind: "schema"}
	case 14:
		return AddGrant{Privilege: pick("USAGE", "SELECT"), Object: pick("outer.near", "outer.far", "outer.near.t", "outer.far.t"), Subject: pick("public", subject), Grantor: "user:opal"}
	}
	c := anyChange(r)
	if r.IntN(6) == 0 {
		c = Join{Member: pick("user:flint", "group:field-north", "group:field-north"), Of: pick("group:field-north", "role:survey_reader", "role:district_geologist")}
	}
	if g, is := c.(AddGrant); is && g.Grantor == "" { // what nobody gave is in no survey
		g.Grantor = "user:opal"
		return g
	}
	return c
}

// TestSurveys compares what is found of every grant by difference, from any model of a history and any
// moment to any other, with what is found of each by itself.
func TestSurveys(t *testing.T) {
	dormant, covered, again, grants := 0, 0, 0, 0
	defer func(n int) { perPerson = n }(perPerson)
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 5))
		models := []*Model{apply(t, survey(t, entry...), AddObject{Path: "outer", Kind: "source"}, AddObject{Path: "outer.near", Kind: "schema"}, AddObject{Path: "outer.far", Kind: "schema"},
			AddObject{Path: "outer.near.t", Kind: "table"}, AddObject{Path: "outer.far.t", Kind: "table"}, grant("USAGE", "outer", "public"))}
		if seed%2 == 0 { // where it is a schema's door that decides
			models[0] = apply(t, models[0], grant("USAGE", "lane:interactive", "public"), grant("USAGE", "survey", "public"))
		}
		for range 150 {
			from := models[max(0, len(models)-1-r.IntN(3))]
			if after, err := from.Apply(day, anyTurn(r)); err == nil {
				models = append(models, after)
			}
		}
		s := models[0].TakeCensus(day).Survey()
		for step := range 120 {
			m := models[r.IntN(len(models))]
			switch {
			case seed%3 == 0: // one after the other
				m = models[step%len(models)]
			case r.IntN(2) == 0:
				m = models[min(len(models)-1, r.IntN(4)+len(models)/2)]
			}
			at := day.Add([]time.Duration{0, 0, 2 * time.Hour}[r.IntN(3)])
			before := s
			perPerson = []int{0, 2, 256}[r.IntN(3)]
			s = s.Next(m.TakeCensus(at))
			c, whole := m.TakeCensus(at), m.TakeCensus(at).Survey()
			m.EachGrant(func(g *Grant) {
				if g.Grantor == 0 {
					return
				}
				grants++
				if want := c.Dormant(g) != nil; want != s.Dormant.Test(uint(g.ID)) || want != whole.Dormant.Test(uint(g.ID)) {
					t.Fatalf("seed %d: %s is dormant: %v, among all %v, and by difference %v", seed, m.describe(g), want, whole.Dormant.Test(uint(g.ID)), s.Dormant.Test(uint(g.ID)))
				}
				rights, err := m.Rights(Standpoint{Subject: g.Subject}, at)
				if want := err == nil && !g.Option && rights.Covering(g) != nil; want != s.Covered.Test(uint(g.ID)) {
					t.Fatalf("seed %d: %s is covered: %v, and by difference %v", seed, m.describe(g), want, !want)
				}
			})
			sameCensus(t, seed, c, s.Census)
			dormant, covered = dormant+int(s.Dormant.Count()), covered+int(s.Covered.Count())
			again += int(before.Dormant.SymmetricDifferenceCardinality(s.Dormant))
			for i, ok := s.Dormant.NextSet(0); ok; i, ok = s.Dormant.NextSet(i + 1) {
				if m.GrantOf(GrantID(i)) == nil {
					t.Fatalf("seed %d: grant %d is gone, and dormant", seed, i)
				}
			}
		}
	}
	t.Logf("%d grants, %d dormant (%d became so, or not any more), %d covered", grants, dormant, again, covered)
	if dormant < grants/20 || covered < grants/50 || again < 100 {
		t.Error("too few to prove anything")
	}
}

// sameCensus compares a census that inherited from earlier ones with one that was computed from the model alone.
func sameCensus(t *testing.T, seed uint64, want, got *Census) {
	t.Helper()
	m := want.Model
	same := func(of string, want, got *bitset.BitSet) {
		if want.SymmetricDifferenceCardinality(got) > 0 {
			t.Fatalf("seed %d: %s: %v, and by difference %v", seed, of, want, got)
		}
	}
	m.EachSubject(func(s *Subject) {
		same("who has "+s.Ref(), want.Holders(s.ID), got.Holders(s.ID))
		same("where gets "+s.Ref(), want.open(s.ID), got.open(s.ID))
	})
	for i := 1; i < m.objects.size(); i++ {
		if o := m.ObjectOf(ObjectID(i)); o != nil && (o.Kind == Source || o.Kind == Schema || o.Kind == Lane) {
			same("who may use "+m.Path(o.ID), want.users(o.ID), got.users(o.ID))
		}
	}
	same("who runs queries", want.runners(), got.runners())
}

// TestSurveysBehindGroups: what a group comes to have, its members' grants, and those of their other roles,
// may need, or not any more.
func TestSurveysBehindGroups(t *testing.T) {
	m := survey(t, entry...)
	m = apply(t, m,
		AddSubject{Subject: "user:onyx"}, AddSubject{Subject: "group:dusk"}, AddSubject{Subject: "role:keys"}, AddSubject{Subject: "role:assays"}, AddSubject{Subject: "role:more"},
		Join{Member: "user:onyx", Of: "group:dusk"}, Join{Member: "user:onyx", Of: "role:assays"},
		grant("USAGE", "survey", "public"), grant("USAGE", "lane:interactive", "public"), grant("USAGE", "survey.assay", "role:keys"),
		grant("SELECT", "survey.assay.results", "role:more"), grant("SELECT", "survey.drilling.boreholes", "user:onyx"),
		AddGrant{Privilege: "SELECT", Object: "survey.assay.results", Subject: "user:onyx", Grantor: "user:opal"},
		AddGrant{Privilege: "INSERT", Object: "survey.assay.results", Subject: "role:assays", Grantor: "user:opal"})
	elsewhere, own, others := GrantID(m.grants.size()-3), GrantID(m.grants.size()-2), GrantID(m.grants.size()-1)
	shut := m.TakeCensus(day).Survey()
	open := shut.Next(apply(t, m, Join{Member: "group:dusk", Of: "role:keys"}).TakeCensus(day))
	for _, id := range []GrantID{own, others} {
		if !shut.Dormant.Test(uint(id)) || open.Dormant.Test(uint(id)) {
			t.Errorf("%s is dormant: %v while the door is shut, %v once the group may open it", m.describe(m.Grant(id)), shut.Dormant, open.Dormant)
		}
	}
	if !open.Dormant.Test(uint(elsewhere)) {
		t.Error("what lies behind another door is said to have an effect")
	}
	more := open.Next(apply(t, m, Join{Member: "group:dusk", Of: "role:more"}).TakeCensus(day))
	if shut.Covered.Test(uint(own)) || !more.Covered.Test(uint(own)) || more.Next(m.TakeCensus(day)).Covered.Test(uint(own)) {
		t.Error("a grant that a member's group has as well is not covered by it, or is without it")
	}
}

// TestSurveysOfWhatComes adds a schema, which changes the places of others, and users until the sets need another word.
func TestSurveysOfWhatComes(t *testing.T) {
	m := apply(t, survey(t, entry...), grant("USAGE", "lane:interactive", "user:flint"), AddSubject{Subject: "role:geologist"}, Join{Member: "user:flint", Of: "role:geologist"},
		AddObject{Path: "outer", Kind: "source"}, AddObject{Path: "outer.near", Kind: "schema"}, AddObject{Path: "outer.far", Kind: "schema"},
		AddObject{Path: "outer.near.t", Kind: "table"}, AddObject{Path: "outer.far.t", Kind: "table"},
		grant("USAGE", "outer", "user:flint"), grant("USAGE", "outer.far", "user:flint"),
		AddGrant{Privilege: "SELECT", Object: "outer.near.t", Subject: "role:geologist", Grantor: "user:opal"},
		AddGrant{Privilege: "SELECT", Object: "outer.far.t", Subject: "role:geologist", Grantor: "user:opal"})
	near, far := GrantID(m.grants.size()-2), GrantID(m.grants.size()-1)
	for i := range 40 { // so many that few differ
		m = apply(t, m, AddSubject{Subject: fmt.Sprintf("role:r%d", i)}, grant("SELECT", "outer.far.t", fmt.Sprintf("role:r%d", i)))
	}
	s, more := m.TakeCensus(day).Survey(), GrantID(m.grants.size())
	next := func(does string, shut, open GrantID, c ...Change) {
		t.Helper()
		m = apply(t, m, c...)
		s = s.Next(m.TakeCensus(day))
		if !s.Dormant.Test(uint(shut)) || s.Dormant.Test(uint(open)) {
			t.Fatalf("%s: %s is dormant: %v, %s: %v", does, m.describe(m.Grant(shut)), s.Dormant.Test(uint(shut)), m.describe(m.Grant(open)), s.Dormant.Test(uint(open)))
		}
	}
	next("a schema comes", more, far, AddObject{Path: "outer.area", Kind: "schema"}, AddGrant{Privilege: "SELECT", Object: "outer.near", Subject: "role:geologist", Grantor: "user:opal"})
	for i := range 70 {
		next("a user comes", near, far, AddSubject{Subject: fmt.Sprintf("user:x%d", i)})
		next("a grant to all", near, far, AddGrant{Privilege: "SELECT", Object: "outer", Subject: "public", Grantor: "user:opal"})
		next("it goes", near, far, RemoveGrant{Privilege: "SELECT", Object: "outer", Subject: "public"})
	}
	next("the last joins", near, far, Join{Member: "user:x69", Of: "role:geologist"}, grant("USAGE", "lane:interactive", "user:x69"), grant("USAGE", "outer", "user:x69"))
	m = apply(t, m, RemoveGrant{Privilege: "USAGE", Object: "outer.far", Subject: "user:flint"})
	next("and opens the other door", far, near, grant("USAGE", "outer.near", "user:x69"))
}

// TestSurveysAboveDoors: a grant on a source has an effect once one of its schemas can be reached.
func TestSurveysAboveDoors(t *testing.T) {
	defer func(n int) { perPerson = n }(perPerson)
	m := survey(t, entry...)
	m = apply(t, m,
		AddSubject{Subject: "user:onyx"}, AddSubject{Subject: "role:keys"}, AddSubject{Subject: "role:all"}, Join{Member: "user:onyx", Of: "role:keys"},
		Join{Member: "user:onyx", Of: "role:all"}, grant("USAGE", "survey", "public"), grant("USAGE", "lane:interactive", "public"),
		AddGrant{Privilege: "SELECT", Object: "survey", Subject: "role:all", Grantor: "user:opal"})
	id := uint(m.grants.size() - 1)
	shut := m.TakeCensus(day).Survey()
	for _, to := range []string{"role:keys", "public", "role:all", "user:onyx"} {
		for _, perPerson = range []int{0, 256} {
			open := shut.Next(apply(t, m, grant("USAGE", "survey.assay", to)).TakeCensus(day))
			if !shut.Dormant.Test(id) || open.Dormant.Test(id) || !open.Next(m.TakeCensus(day)).Dormant.Test(id) {
				t.Errorf("with the door of a schema open to %s, a grant on the source is dormant", to)
			}
		}
	}
}

// TestSurveysOfLapsedGrants: what had a basis has no effect without it, whatever its subject can reach.
func TestSurveysOfLapsedGrants(t *testing.T) {
	m := survey(t, grant("USAGE", "lane:interactive", "public"), grant("USAGE", "survey", "public"), grant("USAGE", "survey.assay", "public"),
		AddGrant{Privilege: "SELECT", Object: "survey.assay.results", Subject: "user:marl", Grantor: "user:opal", Option: true},
		AddGrant{Privilege: "SELECT", Object: "survey.assay.results", Subject: "user:flint", Grantor: "user:marl"})
	id := GrantID(m.grants.size() - 1)
	s := m.TakeCensus(day).Survey()
	after := apply(t, m, RemoveSubject{Subject: "user:marl"})
	if g := after.GrantOf(id); g == nil || !g.Lapsed {
		t.Fatalf("the grant has not lapsed: %+v", g)
	}
	if next := s.Next(after.TakeCensus(day)); s.Dormant.Test(uint(id)) || !next.Dormant.Test(uint(id)) {
		t.Error("what has lapsed is said to have an effect")
	} else {
		shut := apply(t, after, RemoveGrant{Privilege: "USAGE", Object: "survey.assay", Subject: "public"})
		if next = next.Next(shut.TakeCensus(day)).Next(after.TakeCensus(day)); !next.Dormant.Test(uint(id)) {
			t.Error("what has lapsed is said to have an effect once doors before it open")
		}
	}
}
