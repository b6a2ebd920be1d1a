package policy

import (
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
)

var at = time.Unix(2, 0)

func model(t testing.TB, more ...access.Change) *access.Model {
	t.Helper()
	m := access.New()
	column := func(name, typ string) access.Change {
		return access.AddObject{Path: "survey.licensing.holders." + name, Kind: "column", Type: typ}
	}
	for _, c := range append([]access.Change{access.AddObject{Path: "survey", Kind: "source"}, access.AddObject{Path: "survey.licensing", Kind: "schema"},
		access.AddObject{Path: "survey.licensing.holders", Kind: "table"}, column("id", "bigint"), column("email", "text"), column("since", "date"),
		access.AddObject{Path: "survey.licensing.payments", Kind: "table"}, access.AddObject{Path: "survey.licensing.payments.amount", Kind: "column", Type: "double precision"},
		access.AddSubject{Subject: "user:flint"}, access.AddSubject{Subject: "role:geologist"}, access.AddSubject{Subject: "role:officer"},
		access.Join{Member: "user:flint", Of: "role:geologist"}, access.AddGrant{Privilege: "USAGE", Object: "survey", Subject: "public"},
		access.AddGrant{Privilege: "USAGE", Object: "survey.licensing", Subject: "public"}}, more...) {
		next, err := m.Apply(time.Unix(1, 0), c)
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		m = next
	}
	return m
}

func put(t testing.TB, m *access.Model, changes ...Change) *Set {
	t.Helper()
	s := &Set{}
	for _, c := range changes {
		next, err := s.Apply(c, m)
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		s = next
	}
	return s
}

func govern(t testing.TB, m *access.Model, s *Set, session access.Standpoint) Governance {
	t.Helper()
	if session.Subject == 0 {
		session.Subject = find(t, m, "user:flint")
	}
	st, err := m.Rights(session, time.Unix(2, 0))
	if err != nil {
		t.Fatal(err)
	}
	o, err := m.Lookup("survey.licensing.holders")
	if err != nil {
		t.Fatal(err)
	}
	return s.Govern(st, o.ID)
}

func find(t testing.TB, m *access.Model, ref string) access.SubjectID {
	t.Helper()
	s, err := m.FindSubject(ref)
	if err != nil {
		t.Fatal(err)
	}
	return s.ID
}

func rows(name string, mode Mode, status Status, whom, except []string, purposes ...string) Change {
	return PutRowPolicy{ScopeText: ScopeText{Name: name, For: whom, Except: except, Status: status, Purposes: purposes}, Table: "survey.licensing.holders", Mode: mode, Rule: "true"}
}

func email(name, treat string, t Treatment, whom, except []string) Change {
	return PutColumnPolicy{ScopeText: ScopeText{Name: name, For: whom, Except: except}, Columns: []string{"survey.licensing.holders.email"}, Treat: treat, Treatment: t}
}

func TestRowPoliciesThatApply(t *testing.T) {
	geologist, officer := []string{"role:geologist"}, []string{"role:officer"}
	for _, c := range []struct {
		name     string
		policies []Change
		session  func(*access.Model) access.Standpoint
		want     string // allow policies, a bar, limit policies; or closed
	}{
		{"no policy leaves the table open", nil, nil, "|"},
		{"an allow policy for everyone", []Change{rows("a", Allow, Live, nil, nil)}, nil, "a|"},
		{"an allow policy for a role that is held", []Change{rows("a", Allow, Live, geologist, nil)}, nil, "a|"},
		{"an allow policy for others closes the table", []Change{rows("a", Allow, Live, officer, nil)}, nil, "closed"},
		{"an exception from the only allow policy closes it", []Change{rows("a", Allow, Live, nil, geologist)}, nil, "closed"},
		{"a draft has no effect", []Change{rows("a", Allow, Draft, officer, nil)}, nil, "|"},
		{"a stopped policy has no effect", []Change{rows("a", Allow, Off, officer, nil)}, nil, "|"},
		{"a limit for others does not close it", []Change{rows("l", Limit, Live, officer, nil)}, nil, "|"},
		{"a limit for a role that is held", []Change{rows("l", Limit, Live, geologist, nil)}, nil, "|l"},
		{"an exception from a limit", []Change{rows("l", Limit, Live, nil, geologist)}, nil, "|"},
		{"allow and limit combine", []Change{rows("a", Allow, Live, nil, nil), rows("b", Allow, Live, geologist, nil), rows("l", Limit, Live, nil, nil)}, nil, "a,b|l"},
		{"a purpose that is not declared", []Change{rows("a", Allow, Live, nil, nil, "audit")}, nil, "closed"},
		{"a purpose that is declared", []Change{rows("a", Allow, Live, nil, nil, "audit")}, func(*access.Model) access.Standpoint { return access.Standpoint{Purpose: "audit"} }, "a|"},
		{"narrowed to another role, what gives is gone", []Change{rows("a", Allow, Live, geologist, nil)}, narrowed, "closed"},
		{"narrowed to another role, what takes stays", []Change{rows("l", Limit, Live, geologist, nil)}, narrowed, "|l"},
		{"narrowed to another role, an exception by the role left is gone", []Change{rows("l", Limit, Live, nil, geologist)}, narrowed, "|l"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := model(t, access.Join{Member: "user:flint", Of: "role:officer"}, access.Leave{Member: "user:flint", Of: "role:officer"})
			session := access.Standpoint{}
			if c.session != nil {
				m = model(t, access.AddSubject{Subject: "role:other"}, access.Join{Member: "user:flint", Of: "role:other"})
				session = c.session(m)
			}
			g := govern(t, m, put(t, m, c.policies...), session)
			got := names(g.Allow) + "|" + names(g.Limit)
			if g.Closed {
				got = "closed"
			}
			if got != c.want {
				t.Errorf("got %s, want %s", got, c.want)
			}
		})
	}
}

func narrowed(m *access.Model) access.Standpoint {
	s, err := m.FindSubject("role:other")
	if err != nil {
		panic(err)
	}
	return access.Standpoint{Role: s.ID}
}

func names(list []*RowPolicy) string {
	var out []string
	for _, p := range list {
		out = append(out, p.Name)
	}
	return strings.Join(out, ",")
}

func TestTheStrictestWins(t *testing.T) {
	for _, c := range []struct {
		name     string
		more     []access.Change
		policies []Change
		want     string
		lost     int
		conflict bool
	}{
		{"one policy", nil, []Change{email("m", "mask", Treatment{KeepFirst: 1}, nil, nil)}, "mask keep-first 1", 0, false},
		{"a pseudonym is stricter than a mask", nil, []Change{email("m", "mask", Treatment{}, nil, nil), email("p", "pseudonym", Treatment{}, nil, nil)}, "pseudonym", 1, false},
		{"suppress is stricter than both", nil, []Change{email("m", "mask", Treatment{}, nil, nil), email("s", "suppress", Treatment{}, nil, nil), email("z", "pseudonym", Treatment{}, nil, nil)}, "suppress", 2, false},
		{"two masks that agree", nil, []Change{email("a", "mask", Treatment{KeepLast: 2}, nil, nil), email("b", "mask", Treatment{KeepLast: 2}, nil, nil)}, "mask keep-last 2", 0, false},
		{"two masks that differ conflict, and suppress", nil, []Change{email("a", "mask", Treatment{KeepLast: 2}, nil, nil), email("b", "mask", Treatment{KeepLast: 4}, nil, nil)}, "suppress", 0, true},
		{"an exception leaves it clear", nil, []Change{email("s", "suppress", Treatment{}, nil, []string{"role:geologist"})}, "clear", 0, false},
		{"REVEAL shows it in clear", []access.Change{access.AddGrant{Privilege: "REVEAL", Object: "survey.licensing.holders.email", Subject: "role:geologist"}},
			[]Change{email("s", "suppress", Treatment{}, nil, nil)}, "clear", 1, false},
		{"REVEAL on the schema covers the column", []access.Change{access.AddGrant{Privilege: "REVEAL", Object: "survey.licensing", Subject: "user:flint"}},
			[]Change{email("s", "suppress", Treatment{}, nil, nil)}, "clear", 1, false},
		{"rank is no exemption: ALL does not reveal", []access.Change{access.AddGrant{Privilege: "ALL", Object: "platform", Subject: "user:flint"}},
			[]Change{email("s", "suppress", Treatment{}, nil, nil)}, "suppress", 0, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := model(t, c.more...)
			g := govern(t, m, put(t, m, c.policies...), access.Standpoint{})
			column, err := m.Lookup("survey.licensing.holders.email")
			if err != nil {
				t.Fatal(err)
			}
			d := g.Columns[column.ID]
			if d.Treatment.String() != c.want || len(d.Lost)+len(d.Lifted) != c.lost || d.Conflict != c.conflict {
				t.Errorf("got %s, %d lost, conflict %v; want %s, %d, %v", d.Treatment, len(d.Lost), d.Conflict, c.want, c.lost, c.conflict)
			}
		})
	}
}

func TestMaskText(t *testing.T) {
	for _, c := range []struct {
		mask     Treatment
		in, want string
	}{
		{Treatment{Fill: "*"}, "secret", "******"},
		{Treatment{Fill: "*", KeepFirst: 2}, "secret", "se****"},
		{Treatment{Fill: "#", KeepFirst: 1, KeepLast: 1}, "secret", "s####t"},
		{Treatment{Fill: "*", Keep: "@.", KeepFirst: 1}, "ann@north.test", "a**@*****.****"},
		{Treatment{Fill: "*", KeepFirst: 2, KeepLast: 2}, "four", "****"},
		{Treatment{Fill: "*", KeepFirst: 9}, "short", "*****"},
		{Treatment{Fill: "*", KeepLast: 1}, "žluť", "***ť"},
		{Treatment{Fill: "*"}, "", ""},
	} {
		if got := c.mask.MaskText(c.in); got != c.want {
			t.Errorf("%s of %q: got %q, want %q", c.mask, c.in, got, c.want)
		}
	}
}

func TestRefusedPolicies(t *testing.T) {
	for _, c := range []struct {
		name   string
		change Change
		says   string
	}{
		{"a mask of a date", PutColumnPolicy{ScopeText: ScopeText{Name: "p"}, Columns: []string{"survey.licensing.holders.since"}, Treat: "mask"}, "mask works on text, character varying, character, name; not on date"},
		{"a pseudonym of a date", PutColumnPolicy{ScopeText: ScopeText{Name: "p"}, Columns: []string{"survey.licensing.holders.since"}, Treat: "pseudonym"}, "pseudonym works on bigint, integer, smallint, uuid, text"},
		{"an unknown treatment", email("p", "blur", Treatment{}, nil, nil), "no treatment blur"},
		{"arguments that are a mask's", email("p", "suppress", Treatment{KeepFirst: 1}, nil, nil), "takes no keep-first"},
		{"a mask that keeps less than nothing", email("p", "mask", Treatment{KeepFirst: -1}, nil, nil), "fewer than 0"},
		{"a fill of two characters", email("p", "mask", Treatment{Fill: "ab"}, nil, nil), "fills with one character"},
		{"columns of two tables", PutColumnPolicy{ScopeText: ScopeText{Name: "p"}, Columns: []string{"survey.licensing.holders.email", "survey.licensing.payments.amount"}, Treat: "suppress"}, "columns of one table"},
		{"no column", PutColumnPolicy{ScopeText: ScopeText{Name: "p"}, Columns: nil, Treat: "suppress"}, "needs a column"},
		{"a column policy on a table", PutColumnPolicy{ScopeText: ScopeText{Name: "p"}, Columns: []string{"survey.licensing.holders"}, Treat: "suppress"}, "belongs to columns"},
		{"a row policy on a schema", PutRowPolicy{ScopeText: ScopeText{Name: "p"}, Table: "survey.licensing", Mode: Allow, Rule: "true"}, "belongs to a table"},
		{"an unknown mode", PutRowPolicy{ScopeText: ScopeText{Name: "p"}, Table: "survey.licensing.holders", Mode: "deny", Rule: "true"}, "no mode deny"},
		{"an unknown status", PutRowPolicy{ScopeText: ScopeText{Name: "p", Status: "on"}, Table: "survey.licensing.holders", Mode: Allow, Rule: "true"}, "no status on"},
		{"an unknown subject", rows("p", Allow, Live, []string{"user:nobody"}, nil), "no user nobody"},
		{"a name that cannot be written", rows("two words", Allow, Live, nil, nil), "cannot name a policy"},
		{"a column policy under a row policy's name", email("taken", "suppress", Treatment{}, nil, nil), "is a row policy already"},
		{"the status of nothing", SetPolicyStatus{"nothing", Live}, "no policy nothing"},
		{"removing nothing", RemovePolicy{"nothing"}, "no policy nothing"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := model(t)
			s := put(t, m, rows("taken", Allow, Live, nil, nil))
			if _, err := s.Apply(c.change, m); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("got %v, want %q", err, c.says)
			}
		})
	}
}

func plain(rule string) string { return rule }

func TestSentences(t *testing.T) {
	m := model(t)
	s := put(t, m, rows("r", Allow, Live, []string{"role:geologist", "role:officer"}, []string{"user:flint"}, "audit"), email("c", "mask", Treatment{KeepFirst: 1}, nil, []string{"role:officer"}))
	row, _ := s.Find("r")
	_, column := s.Find("c")
	if got, want := row.Sentence(m, plain), "Rows of survey.licensing.holders are shown to role:geologist and role:officer where true, except user:flint, when the purpose is audit"; got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
	if got, want := column.Sentence(m, plain), "email of survey.licensing.holders is masked (first character kept) for everyone, except role:officer"; got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
	if got := strings.Join(s.Naming(find(t, m, "role:officer")), " "); got != "c r" {
		t.Errorf("policies that name the officers: %s", got)
	}
}
