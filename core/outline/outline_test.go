package outline

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/policy"
)

var now = time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)

func apply(t testing.TB, st State, changes ...any) (State, error) {
	t.Helper()
	var err error
	for _, c := range changes {
		switch c := c.(type) {
		case access.Change:
			st.Model, err = st.Model.Apply(now, c)
		case policy.Change:
			st.Policies, err = st.Policies.Apply(c, st.Model)
		case guard.Change:
			st.Guards, err = st.Guards.Apply(c, st.Model)
		default:
			t.Fatalf("no change: %T", c)
		}
		if err != nil {
			return st, err
		}
	}
	return st, nil
}

func platform(t testing.TB) State {
	t.Helper()
	st := State{access.New(), &policy.Set{}, &guard.Set{}}
	st, err := apply(t, st, access.AddSubject{Subject: "user:opal"}, access.Join{Member: "user:opal", Of: access.Administrator, By: ""},
		access.AddObject{Path: "s", Kind: "source"}, access.AddObject{Path: "s.a", Kind: "schema"}, access.AddObject{Path: "s.a.t", Kind: "table"},
		access.AddObject{Path: "s.a.t.id", Kind: "column", Type: "bigint"}, access.AddObject{Path: "s.a.t.name", Kind: "column", Type: "text"},
		access.AddObject{Path: "s.a.u", Kind: "table"}, access.AddObject{Path: "s.a.u.id", Kind: "column", Type: "bigint"})
	if err != nil {
		t.Fatal(err)
	}
	return st
}

// random is a change of one of all the kinds.
func random(r *rand.Rand) any {
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	who := pick("user:u", "user:v", "group:g", "role:r", "role:q")
	object := pick("s", "s.a", "s.a.t", "s.a.u", "s.a.t.name")
	yes := r.IntN(2) == 0
	switch r.IntN(20) {
	case 0, 1, 2:
		return access.AddSubject{Subject: who, Title: pick("", "a title")}
	case 3:
		return access.RemoveSubject{Subject: who}
	case 4:
		return access.SetAttribute{Subject: who, Name: "area", Values: []string{pick("north", "south")}}
	case 5:
		return access.RenameSubject{Subject: who, Name: pick("w", "x", "u", "r")}
	case 6, 7:
		return access.Join{Member: who, Of: pick("role:r", "role:q", "group:g"), By: "user:opal", Option: yes && who != "group:g"}
	case 8:
		return access.Leave{Member: who, Of: pick("role:r", "role:q", "group:g"), By: "user:opal"}
	case 9, 10, 11:
		g := access.AddGrant{Privilege: pick("SELECT", "INSERT", "USAGE", "reader"), Object: object, Subject: who, Grantor: "user:opal", Option: yes, Ticket: pick("", "GS-1")}
		return g
	case 12:
		return access.RemoveGrant{Privilege: pick("SELECT", "INSERT", "USAGE", "reader"), Object: object, Subject: who, Grantor: "user:opal", OptionOnly: yes}
	case 13:
		return access.SetOwner{Object: pick("s", "s.a", "s.a.t"), Owner: pick("", "role:r", "user:u")}
	case 14:
		return access.PutLabel{Label: pick("l", "k"), Topic: pick("x", "y"), Level: access.Confidential}
	case 15:
		if yes {
			return policy.PlaceLabel{Label: pick("l", "k"), Object: object}
		}
		return policy.LiftLabel{Label: pick("l", "k"), Object: object}
	case 16:
		return policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: pick("p", "o"), For: []string{who}}, Table: "s.a.t", Rule: pick("true", "id > 1")}
	case 17:
		return policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: pick("p", "o", "n")}, Columns: []string{"s.a.t.name"}, Treat: pick("suppress", "withhold blank")}
	case 18:
		return policy.RemovePolicy{Name: pick("p", "o", "n")}
	}
	rows := int64(r.IntN(3))
	if yes {
		return guard.PutTest{Name: "t", Subject: who, Table: "s.a.t", Rows: &rows}
	}
	return guard.PutGuardrail{Name: "g", Kind: guard.ToUsers, Mode: guard.Warn, Object: pick("", "s.a")}
}

func walk(t testing.TB, r *rand.Rand, st State, n int) State {
	t.Helper()
	for range n {
		if next, err := apply(t, st, random(r)); err == nil {
			st = next
		}
	}
	return st
}

// TestWhatDiffersMakesItAlike goes two ways from one state; what differs, put on the one, makes it the
// other, or is refused by the model.
func TestWhatDiffersMakesItAlike(t *testing.T) {
	made, refused := 0, 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 1))
		common := walk(t, r, platform(t), 30)
		a, b := walk(t, r, common, r.IntN(8)), walk(t, r, common, r.IntN(8))
		differs := Between(common.Model, a, b)
		got, err := apply(t, a, Make(differs)...)
		if err != nil {
			refused++ // a name that both ways gave to two
			continue
		}
		made++
		if rest := Between(common.Model, got, b); len(rest) > 0 {
			t.Fatalf("seed %d: %v\nand still %s: %+v, %+v", seed, Make(differs), rest[0].Name(), rest[0].Before, rest[0].After)
		}
		if len(Between(common.Model, b, b)) > 0 {
			t.Fatalf("seed %d: a state differs from itself", seed)
		}
	}
	if refused*10 > made {
		t.Errorf("%d made, %d refused", made, refused)
	}
}

// TestDecidedMakesItAgain: all that was decided, put on a new platform with the same source, is the same.
func TestDecidedMakesItAgain(t *testing.T) {
	made := 0
	for seed := range uint64(100) {
		st := walk(t, rand.New(rand.NewPCG(seed, 2)), platform(t), 40)
		fresh := platform(t)
		var differs []Difference
		for _, thing := range Decided(st) {
			differs = append(differs, Difference{After: thing})
		}
		have := Decided(fresh)
		differs = slices.DeleteFunc(differs, func(d Difference) bool {
			return slices.ContainsFunc(have, func(t Thing) bool { return t.Name() == d.Name() && Same(t, d.After) })
		})
		again, err := apply(t, fresh, Make(differs)...)
		if _, gone := err.(*access.NotFound); gone {
			continue // a policy or test of somebody who is gone, which the service does not let come about
		}
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		made++
		if got, want := fmt.Sprint(said(Decided(again))), fmt.Sprint(said(Decided(st))); got != want {
			t.Fatalf("seed %d:\ngot  %s\nwant %s", seed, got, want)
		}
	}
	if made < 50 {
		t.Errorf("only %d were made", made)
	}
}

func said(list []Thing) []string {
	var out []string
	for _, t := range list {
		changes, err := json.Marshal(Changes(t))
		if err != nil {
			panic(err)
		}
		out = append(out, t.Name()+" "+string(changes))
	}
	slices.Sort(out)
	return out
}

func TestWhatASourceHasIsFixed(t *testing.T) {
	before := platform(t)
	after, err := apply(t, before, access.AddObject{Path: "s.a.new", Kind: "table"}, access.MissObject{Path: "s.a.u"})
	if err != nil {
		t.Fatal(err)
	}
	differs := Between(before.Model, before, after)
	if len(differs) != 2 || !differs[0].Fixed() || !differs[1].Fixed() || len(Make(differs)) > 0 {
		t.Errorf("%+v", differs)
	}
}
