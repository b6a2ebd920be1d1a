package guard

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// TestNext compares what breaks each kind of guardrail by difference, from state to state of a history
// and back, with what breaks it, and checks which breaches are new.
func TestNext(t *testing.T) {
	found, other := 0, 0
	for seed := range uint64(120) {
		r := rand.New(rand.NewPCG(seed, 9))
		pick := func(all ...string) string { return all[r.IntN(len(all))] }
		states := []State{small(t, access.AddObject{Path: "s.a.u", Kind: "table"}, access.AddObject{Path: "s.a.u.card", Kind: "column", Type: "text"},
			policy.PlaceLabel{Label: "finance", Object: "s.a.u.card"})}
		for range 60 {
			st := states[max(0, len(states)-1-r.IntN(2))]
			subject, disabled := pick("user:flint", "user:tuff", "role:officer", "role:partner", "user:u1", "public"), r.IntN(2) == 0
			var c any
			switch r.IntN(14) {
			case 0, 1, 2:
				c = access.AddGrant{Privilege: pick("SELECT", "USAGE", "REVEAL"), Object: pick("s", "s.a", "s.a.t", "s.a.u", "s.a.t.bank", "label:finance"), Subject: subject, Grantor: "user:opal",
					Until: []time.Time{{}, now.Add(time.Hour)}[r.IntN(2)]}
			case 3:
				c = access.RemoveGrant{Privilege: pick("SELECT", "USAGE"), Object: pick("s.a.t", "s.a.t", "s.a.t.bank", "s.a.u", "s"), Subject: pick(subject, "role:officer")}
			case 4:
				c = access.Join{Member: subject, Of: pick("role:officer", "role:partner", access.Administrator), By: "user:opal"}
			case 5:
				c = access.Leave{Member: subject, Of: pick("role:officer", "role:partner", access.Administrator), Cascade: true}
			case 6:
				c = access.SetSubject{Subject: subject, Disabled: &disabled}
			case 7:
				c = policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "p", Except: []string{pick("user:flint", "role:partner")}}, Label: "finance", Treat: "suppress"}
				if r.IntN(2) == 0 {
					c = access.SetOwner{Object: pick("s.a", "s.a.t"), Owner: pick("", "role:officer")}
				}
			case 8, 9:
				c = policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: pick("q1", "q2"), For: []string{pick("user:flint", "role:partner", "role:officer")}},
					Columns: []string{pick("s.a.t.bank", "s.a.u.card")}, Treat: "suppress"}
			case 10:
				c = policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: pick("r1", "r2"), For: []string{pick("user:flint", "role:partner")}}, Table: pick("s.a.t", "s.a.u", "s.a.*"), Mode: policy.Allow, Rule: "TRUE"}
			case 11:
				c = policy.PlaceLabel{Label: "finance", Object: pick("s.a.t.id", "s.a.t.bank")}
				if r.IntN(2) == 0 {
					c = policy.LiftLabel{Label: "finance", Object: pick("s.a.t.id", "s.a.t.bank")}
				}
			case 12:
				c = policy.RemovePolicy{Name: pick("p", "q1", "q2", "r1", "r2")}
			default:
				c = access.AddSubject{Subject: "user:u1"}
			}
			m, p, err := st.Model, st.Policies, error(nil)
			switch c := c.(type) {
			case access.Change:
				m, err = m.Apply(now, c)
			case policy.Change:
				p, err = p.Apply(c, m)
			}
			if err == nil {
				at := now.Add([]time.Duration{0, 0, 0, 2 * time.Hour}[r.IntN(4)])
				states = append(states, State{Model: m, Policies: p, Now: at, Census: m.TakeCensus(at),
					Rights: func(s access.Standpoint) (*access.Rights, error) { return m.Rights(s, at) }})
			}
		}
		for _, is := range []PutGuardrail{{Kind: Clear, Object: "label:finance", Except: []string{access.Administrator, "role:partner"}}, {Kind: Treated, Object: "label:finance"},
			{Kind: Apart, Roles: []string{"role:officer", "role:partner"}}, {Kind: ToPublic}, {Kind: ToUsers, Object: "s.a"}, {Kind: WithoutEnd},
			{Kind: WholeSource}, {Kind: Administrators, Most: 1}, {Kind: Owned, Object: "s"}} {
			g := one(t, states[0], is)
			before := states[0]
			broken := g.Broken(before, nil, nil)
			for i := range 80 {
				after := states[min(len(states)-1, max(0, i+r.IntN(9)-4))]
				d := access.Changed(before.Model, after.Model)
				next := g.Next(broken, before, after, &d)
				if want, got := texts(g.Broken(after, nil, nil)), texts(next); !slices.Equal(want, got) {
					t.Fatalf("seed %d: %s is broken by %v, and by difference by %v", seed, g.Sentence(after.Model), want, got)
				} else if !slices.Equal(want, texts(broken)) {
					other++
				}
				known := func(b Breach) bool {
					return slices.ContainsFunc(broken, func(o Breach) bool {
						return o.Subject == b.Subject && o.Object == b.Object && (o.Grant == nil || o.Grant.ID == b.Grant.ID)
					})
				}
				if want, got := texts(slices.DeleteFunc(slices.Clone(next), known)), texts(g.News(before, after, nil, nil)); !slices.Equal(want, got) {
					t.Fatalf("seed %d: of %s it is news that %v, and is said to be %v", seed, g.Sentence(after.Model), want, got)
				}
				found += len(next)
				before, broken = after, next
			}
		}
	}
	t.Logf("%d breaches, %d times others than before", found, other)
	if found < 5000 || other < 1000 {
		t.Error("too few to prove anything")
	}
}

// TestNewsBehindMuch adds one breach to a guardrail that already has more than a check lists.
func TestNewsBehindMuch(t *testing.T) {
	many := []any{access.AddSubject{Subject: "group:all"}}
	for i := range MostBreaches + 5 {
		user := fmt.Sprintf("user:u%d", i)
		many = append(many, access.AddSubject{Subject: user}, access.Join{Member: user, Of: "group:all", By: "user:opal"},
			access.Join{Member: user, Of: "role:officer", By: "user:opal"}, access.Join{Member: user, Of: "role:partner", By: "user:opal"})
	}
	many = append(many, access.AddSubject{Subject: "user:zinc"}, access.Join{Member: "user:zinc", Of: "group:all", By: "user:opal"})
	before, after := small(t, many...), small(t, append(many, access.Join{Member: "group:all", Of: "role:officer", By: "user:opal"},
		access.Join{Member: "group:all", Of: "role:partner", By: "user:opal"})...)
	for _, is := range []PutGuardrail{{Kind: Clear, Object: "label:finance", Except: []string{access.Administrator}}, {Kind: Apart, Roles: []string{"role:officer", "role:partner"}}} {
		g := one(t, after, is)
		all, err := after.Model.FindSubject("group:all")
		if err != nil {
			t.Fatal(err)
		}
		touched := []Pair{{all.ID, access.PlatformID}}
		if n := len(g.Broken(before, touched, nil)); n != MostBreaches {
			t.Fatalf("%s is broken %d times before", g.Sentence(after.Model), n)
		}
		if news := g.News(before, after, touched, nil); len(news) != 1 || !strings.HasPrefix(news[0].Says, "user:zinc ") {
			t.Errorf("of %s it is news that %v", g.Sentence(after.Model), news)
		}
		if news := g.News(after, after, touched, nil); len(news) > 0 {
			t.Errorf("of %s it is news that %v, where nothing differs", g.Sentence(after.Model), news)
		}
	}
}

func texts(list []Breach) []string {
	var out []string
	for _, b := range list {
		out = append(out, fmt.Sprint(b.Says, b.Subject, b.Object))
	}
	slices.Sort(out)
	return out
}
