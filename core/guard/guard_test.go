package guard

import (
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
)

var now = time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)

func small(t testing.TB, more ...any) State {
	t.Helper()
	m, p := access.New(), &policy.Set{}
	for _, c := range append([]any{
		access.AddSubject{Subject: "user:opal"}, access.Join{Member: "user:opal", Of: access.Administrator},
		access.AddSubject{Subject: "user:flint"}, access.AddSubject{Subject: "user:tuff"}, access.AddSubject{Subject: "role:officer"}, access.AddSubject{Subject: "role:partner"},
		access.AddObject{Path: "s", Kind: "source"}, access.AddObject{Path: "s.a", Kind: "schema"}, access.AddObject{Path: "s.a.t", Kind: "table"},
		access.AddObject{Path: "s.a.t.id", Kind: "column", Type: "bigint"}, access.AddObject{Path: "s.a.t.bank", Kind: "column", Type: "text"},
		access.PutLabel{Label: "finance", Topic: "finance"}, policy.PlaceLabel{Label: "finance", Object: "s.a.t.bank"},
		access.AddGrant{Privilege: "USAGE", Object: "s", Subject: "role:officer", Grantor: "user:opal"},
		access.AddGrant{Privilege: "USAGE", Object: "s.a", Subject: "role:officer", Grantor: "user:opal"},
		access.AddGrant{Privilege: "SELECT", Object: "s.a.t", Subject: "role:officer", Grantor: "user:opal"},
		access.Join{Member: "user:flint", Of: "role:officer", By: "user:opal"},
	}, more...) {
		var err error
		switch c := c.(type) {
		case access.Change:
			m, err = m.Apply(now, c)
		case policy.Change:
			p, err = p.Apply(c, m)
		}
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
	}
	return State{Model: m, Policies: p, Now: now, Census: m.TakeCensus(now), Rights: func(at access.Standpoint) (*access.Rights, error) { return m.Rights(at, now) }}
}

func one(t testing.TB, st State, c PutGuardrail) *Guardrail {
	t.Helper()
	c.Name, c.Mode = "g", Block
	s, err := (&Set{}).Apply(c, st.Model)
	if err != nil {
		t.Fatal(err)
	}
	return s.Guardrails()[0]
}

// TestKinds breaks each kind of guardrail once, and has it hold once.
func TestKinds(t *testing.T) {
	suppressed := policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "p"}, Label: "finance", Treat: "suppress"}
	for _, c := range []struct {
		name   string
		is     PutGuardrail
		more   []any
		breaks string // empty: it holds
	}{
		{"seen in clear", PutGuardrail{Kind: Clear, Object: "label:finance", Except: []string{access.Administrator}}, nil, "user:flint sees s.a.t.bank in clear"},
		{"those who may", PutGuardrail{Kind: Clear, Object: "label:finance", Except: []string{access.Administrator, "role:officer"}}, nil, ""},
		{"treated", PutGuardrail{Kind: Clear, Object: "s.a.t.bank"}, []any{suppressed}, ""},
		{"treated but for one", PutGuardrail{Kind: Clear, Object: "s.a.t.bank"},
			[]any{policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "p", Except: []string{"user:flint"}}, Label: "finance", Treat: "suppress"}}, "user:flint sees"},
		{"treated for some rows", PutGuardrail{Kind: Clear, Object: "s.a.t.bank", Except: []string{access.Administrator}},
			[]any{policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "p"}, Label: "finance", Treat: "suppress", When: "id > 1"}}, "in clear for some rows"},
		{"revealed", PutGuardrail{Kind: Clear, Object: "s.a.t.bank"},
			[]any{suppressed, access.AddGrant{Privilege: "REVEAL", Object: "label:finance", Subject: "user:flint", Grantor: "user:opal"}}, "user:flint sees"},
		{"of a whole table", PutGuardrail{Kind: Clear, Object: "s.a.t", Except: []string{access.Administrator}}, []any{suppressed}, "sees s.a.t.id in clear"},
		{"no rows", PutGuardrail{Kind: Clear, Object: "s.a.t.bank", Except: []string{access.Administrator}},
			[]any{policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r", For: []string{"user:tuff"}}, Table: "s.a.t", Rule: "true"}}, ""},
		{"no policy", PutGuardrail{Kind: Treated, Object: "label:finance"}, nil, "no live policy treats s.a.t.bank"},
		{"a policy", PutGuardrail{Kind: Treated, Object: "label:finance"}, []any{suppressed}, ""},
		{"one that is off", PutGuardrail{Kind: Treated, Object: "label:finance"}, []any{suppressed, policy.SetPolicyStatus{Name: "p", Status: policy.Off}}, "no live policy"},
		{"both roles", PutGuardrail{Kind: Apart, Roles: []string{"role:officer", "role:partner"}}, []any{access.Join{Member: "user:flint", Of: "role:partner", By: "user:opal"}}, "user:flint holds both"},
		{"one role in the other", PutGuardrail{Kind: Apart, Roles: []string{"role:officer", "role:partner"}}, []any{access.Join{Member: "role:officer", Of: "role:partner", By: "user:opal"}}, "user:flint holds both"},
		{"one role each", PutGuardrail{Kind: Apart, Roles: []string{"role:officer", "role:partner"}}, []any{access.Join{Member: "user:tuff", Of: "role:partner", By: "user:opal"}}, ""},
		{"to public", PutGuardrail{Kind: ToPublic}, []any{access.AddGrant{Privilege: "SELECT", Object: "s.a.t", Subject: "public", Grantor: "user:opal"}}, "SELECT on s.a.t is granted to public"},
		{"to public elsewhere", PutGuardrail{Kind: ToPublic, Object: "s.a.t"}, []any{access.AddGrant{Privilege: "USAGE", Object: "s", Subject: "public", Grantor: "user:opal"}}, ""},
		{"to a user", PutGuardrail{Kind: ToUsers, Object: "s.a"}, []any{access.AddGrant{Privilege: "SELECT", Object: "s.a.t", Subject: "user:tuff", Grantor: "user:opal"}}, "user:tuff"},
		{"without an end", PutGuardrail{Kind: WithoutEnd}, nil, "role:officer"},
		{"a whole source", PutGuardrail{Kind: WholeSource}, []any{access.AddGrant{Privilege: "SELECT", Object: "s", Subject: "role:partner", Grantor: "user:opal"}}, "SELECT on s"},
		{"a door", PutGuardrail{Kind: WholeSource}, nil, ""},
		{"two administrators", PutGuardrail{Kind: Administrators, Most: 1}, []any{access.Join{Member: "role:officer", Of: access.Administrator, By: "user:opal"}}, "there are 2"},
		{"no owner", PutGuardrail{Kind: Owned, Object: "s"}, nil, "s.a.t has no owner"},
		{"an owner above", PutGuardrail{Kind: Owned, Object: "s"}, []any{access.SetOwner{Object: "s.a", Owner: "role:officer"}}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			st := small(t, c.more...)
			g := one(t, st, c.is)
			broken := g.Broken(st, nil, nil)
			switch {
			case c.breaks == "" && len(broken) > 0:
				t.Errorf("it is broken by %s", broken[0].Says)
			case c.breaks != "" && (len(broken) == 0 || !strings.Contains(broken[0].Says, c.breaks)):
				t.Errorf("it gives %v, want %s", broken, c.breaks)
			}
			if again := one(t, st, g.Again(st.Model)); again.Sentence(st.Model) != g.Sentence(st.Model) {
				t.Errorf("put again it says %q, not %q", again.Sentence(st.Model), g.Sentence(st.Model))
			}
		})
	}
}

// TestSetsAreBound refuses what a guardrail or a test has no use for.
func TestSetsAreBound(t *testing.T) {
	st, none := small(t), int64(-1)
	for _, c := range []struct {
		change Change
		says   string
	}{
		{PutGuardrail{Name: "g", Kind: "clean", Mode: Warn}, "clean"},
		{PutGuardrail{Name: "g", Kind: Clear, Mode: "stop"}, "stop"},
		{PutGuardrail{Name: "G g", Kind: Owned, Mode: Warn}, "cannot name"},
		{PutGuardrail{Name: "g", Kind: Clear, Mode: Warn, Object: "s"}, "s is a source"},
		{PutGuardrail{Name: "g", Kind: Treated, Mode: Warn, Object: "s.a.t"}, "about a label"},
		{PutGuardrail{Name: "g", Kind: Apart, Mode: Warn, Roles: []string{"role:officer"}}, "two roles"},
		{PutGuardrail{Name: "g", Kind: Apart, Mode: Warn, Roles: []string{"role:officer", "user:flint"}}, "not a role"},
		{PutGuardrail{Name: "g", Kind: Administrators, Mode: Warn}, "from 1"},
		{PutGuardrail{Name: "g", Kind: Owned, Mode: Warn, Object: "label:finance"}, "label"},
		{PutGuardrail{Name: "g", Kind: Owned, Mode: Warn, Except: []string{"user:flint"}}, "exceptions"},
		{PutGuardrail{Name: "g", Kind: Clear, Mode: Warn, Object: "s.a.gone"}, "gone"},
		{RemoveGuardrail{Name: "g"}, "g"},
		{PutTest{Name: "t", Subject: "user:flint", Table: "s.a"}, "schema"},
		{PutTest{Name: "t", Subject: "user:flint", Table: "s.a.t"}, "states nothing"},
		{PutTest{Name: "t", Subject: "user:flint", Table: "s.a.t", Rows: &none}, "below zero"},
		{PutTest{Name: "t", Subject: "user:flint", Table: "s.a.t", Where: "true", May: []string{"SELECT"}}, "condition"},
		{PutTest{Name: "t", Subject: "user:flint", Table: "s.a.t", May: []string{"SELECT"}, MayNot: []string{"SELECT"}}, "both"},
		{PutTest{Name: "t", Subject: "user:flint", Table: "s.a.t", Columns: map[string]string{"nope": "in clear"}}, "nope"},
		{PutTest{Name: "t", Subject: "user:nobody", Table: "s.a.t"}, "nobody"},
		{RemoveTest{Name: "t"}, "t"},
	} {
		if _, err := (&Set{}).Apply(c.change, st.Model); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v, want %s", c.change, err, c.says)
		}
	}
}

// TestSetsAreKept takes a set apart and puts it together: what states that there is nothing stays.
func TestSetsAreKept(t *testing.T) {
	st, zero := small(t), int64(0)
	s := &Set{}
	var err error
	for _, c := range []Change{PutTest{Name: "b", Subject: "user:flint", Table: "s.a.t", Rows: &zero, Where: "id > 1"}, PutTest{Name: "a", Subject: "user:tuff", Table: "s.a.t", MayNot: []string{"SELECT"}},
		PutGuardrail{Name: "g", Kind: Owned, Mode: Warn}} {
		if s, err = s.Apply(c, st.Model); err != nil {
			t.Fatal(err)
		}
	}
	again := Restore(s.Snapshot())
	if len(again.Tests()) != 2 || again.Tests()[0].Name != "a" || !again.Tests()[1].Counted || again.Tests()[1].Rows != 0 || len(again.Guardrails()) != 1 {
		t.Errorf("%+v", again.Snapshot())
	}
	if got := again.Tests()[1].Sentence(st.Model); got != "user:flint, of s.a.t: sees 0 rows where id > 1" {
		t.Error(got)
	}
}
