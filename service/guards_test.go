package service_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

func rails(t testing.TB, svc *service.Service, opal identity.Caller) {
	t.Helper()
	for _, g := range []wire.Guardrail{
		{Name: "finance", Kind: "clear", Object: "label:finance", Except: []string{"role:licensing_officer", "role:administrator", "role:data_curator"}},
		{Name: "costs", Kind: "clear", Object: "survey.drilling.boreholes.cost", Except: []string{"role:regional_lead", "role:administrator", "role:data_curator"}},
		{Name: "treated", Kind: "treated", Object: "label:finance"},
		{Name: "apart", Kind: "apart", Roles: []string{"role:partner", "role:lab_analyst"}},
		{Name: "public", Kind: "to-public"},
		{Name: "few", Kind: "administrators", Most: 2},
		{Name: "owned", Kind: "owned", Object: "survey"},
	} {
		g.Mode = "block"
		if _, err := svc.Admin.PutGuardrail(ctx, opal, wire.GuardrailRequest{Guardrail: g}); err != nil {
			t.Fatal(err)
		}
	}
}

// risky are changes that can break the guardrails.
func risky(r *rand.Rand) deed {
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	who := pick("user:flint", "user:tuff", "user:marl", "user:beryl", "role:survey_reader", "role:partner", "role:made", "group:geologists", "public")
	flip := r.IntN(2) == 0
	switch r.IntN(12) {
	case 0, 1:
		on := pick("label:finance", "survey.licensing", "survey.drilling.boreholes", "survey", "label:commercial")
		return deed{"reveal " + on + " " + who, func(s *service.Service, c identity.Caller) error {
			return did(s.Admin.Grant(ctx, c, wire.GrantRequest{Privileges: []string{"REVEAL"}, Object: on, Subjects: []string{who}}, flip))
		}}
	case 2, 3:
		p, on := pick("SELECT", "ALL", "MANAGE"), pick("survey.licensing", "survey", "survey.drilling", "platform")
		return deed{p + " " + on + " " + who, func(s *service.Service, c identity.Caller) error {
			return did(s.Admin.Grant(ctx, c, wire.GrantRequest{Privileges: []string{p}, Object: on, Subjects: []string{who}}, flip))
		}}
	case 4, 5:
		role := pick("role:licensing_officer", "role:partner", "role:lab_analyst", "role:administrator", "role:data_curator", "role:made", "role:regional_lead")
		return deed{role + " to " + who, func(s *service.Service, c identity.Caller) error {
			return did(s.Admin.Join(ctx, c, wire.Member{Member: who, Of: role}, r.IntN(3) == 0))
		}}
	case 6:
		name, status := pick("finance-data", "borehole-cost"), pick("off", "live", "draft")
		return deed{status + " " + name, func(s *service.Service, c identity.Caller) error {
			return did(s.Admin.SetPolicyStatus(ctx, c, name, wire.PolicyStatus{Status: status}))
		}}
	case 7:
		except := pick("role:survey_reader", "user:flint", "role:licensing_officer", "role:partner")
		return deed{"except " + except, func(s *service.Service, c identity.Caller) error {
			return did(s.Admin.PutPolicy(ctx, c, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "finance-data", Table: "label:finance", Treatment: &wire.Treatment{Kind: "suppress"}, Except: []string{except}}}))
		}}
	case 8:
		on := pick("survey.licensing.holders.bank_account", "survey.field.reports.cost", "survey.licensing.holders.company")
		return deed{"label " + on, func(s *service.Service, c identity.Caller) error {
			return did(s.Admin.PlaceLabel(ctx, c, "finance", wire.LabelPlacement{Objects: []string{on}, Do: map[bool]string{true: "lift", false: "put"}[flip]}))
		}}
	case 9:
		owner := pick("", "user:flint", "role:data_curator")
		return deed{"owner " + owner, func(s *service.Service, c identity.Caller) error {
			return did(s.Admin.SetOwner(ctx, c, wire.OwnerRequest{Objects: []string{"survey"}, Owner: owner}))
		}}
	case 10:
		return deed{"add made", func(s *service.Service, c identity.Caller) error {
			return did(s.Admin.PutSubject(ctx, c, wire.SubjectRequest{Subject: "role:made"}, false))
		}}
	}
	return deed{"disable " + who, func(s *service.Service, c identity.Caller) error {
		return did(s.Admin.PutSubject(ctx, c, wire.SubjectRequest{Subject: who, Disabled: &flip}, true))
	}}
}

// inClear reads, from what each person is told of their own access, who sees a column in clear.
func inClear(t testing.TB, svc *service.Service, c identity.Caller, column string) map[string]bool {
	t.Helper()
	table := column[:strings.LastIndexByte(column, '.')]
	list, err := svc.Review.AccessTo(c, review.AccessSearch{To: table})
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]bool{}
	for _, x := range list.Items {
		if !strings.HasPrefix(x.Subject, "user:") && !strings.HasPrefix(x.Subject, "service:") {
			continue
		}
		own, err := svc.Review.AccessOf(c, review.AccessSearch{Of: x.Subject, Below: table, Columns: true})
		if err != nil {
			continue // disabled
		}
		for _, o := range own.Items {
			if o.Object == column && strings.Contains(o.Columns, "in clear") {
				out[x.Subject] = true
			}
		}
	}
	return out
}

// TestNoOrderBreaksAGuardrail makes random changes, some of them at once, on a platform with
// guardrails that block. At no revision is one of them broken, by a look at the whole of the state and
// by what people are told of their own access; and some changes are refused, with whom it was for.
func TestNoOrderBreaksAGuardrail(t *testing.T) {
	names := []string{"finance", "costs", "treated", "apart", "public", "few", "owned"}
	for _, hands := range []int{1, 6} {
		t.Run(fmt.Sprint(hands), func(t *testing.T) {
			refused := map[string]int{}
			svc := demotest.Open(t, demotest.Folder(t))
			opal := caller(t, svc, "opal")
			rails(t, svc, opal)
			first := svc.Revision()
			var mu sync.Mutex
			var all sync.WaitGroup
			for h := range hands {
				all.Go(func() {
					r := rand.New(rand.NewPCG(uint64(h), uint64(hands)))
					for n := 0; n < 240/hands || hands == 1 && n < 2_000 && slices.ContainsFunc(names, func(name string) bool { return refused[name] == 0 }); n++ {
						err := risky(r).do(svc, opal)
						if p := fault.Of(err); err != nil && p.Code == "guardrail" {
							mu.Lock()
							refused[strings.Fields(strings.TrimPrefix(p.Detail, "the guardrail "))[0]]++
							mu.Unlock()
						}
					}
				})
			}
			all.Wait()
			checked := 0
			for n := first; n <= svc.Revision(); n++ {
				then, err := svc.Identity.Looking(ctx, opal, wire.Moment{At: fmt.Sprint(n)})
				if err != nil {
					t.Fatal(err)
				}
				out, err := svc.Review.Check(ctx, then, names)
				if err != nil {
					t.Fatal(err)
				}
				for _, r := range out.Results {
					if r.Status != "holds" {
						t.Errorf("revision %d: %s: %v", n, r.Name, r.Says)
					}
				}
				if n%5 == 0 {
					for who := range inClear(t, svc, then, "survey.licensing.holders.tax_number") {
						page, err := svc.Review.AccessOf(then, review.AccessSearch{Of: who, Below: "platform"})
						if err != nil || !may(t, svc, then, who, "role:licensing_officer", "role:administrator", "role:data_curator") {
							t.Errorf("revision %d: %s sees it in clear: %v %v", n, who, page, err)
						}
						checked++
					}
				}
			}
			if checked == 0 || svc.Revision()-first < 20 {
				t.Errorf("%d looks, %d revisions", checked, svc.Revision()-first)
			}
			for _, name := range names {
				if hands == 1 && refused[name] == 0 || len(refused) == 0 {
					t.Errorf("nothing was refused by %s: %v", name, refused)
				}
			}
		})
	}
}

// may reports whether a subject holds one of some roles, at any depth.
func may(t testing.TB, svc *service.Service, c identity.Caller, who string, roles ...string) bool {
	t.Helper()
	seen := map[string]bool{}
	queue := []string{who}
	for ; len(queue) > 0; queue = queue[1:] {
		page, err := svc.Review.Subject(c, queue[0])
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range page.Memberships {
			for _, role := range roles {
				if m.Of == role {
					return true
				}
			}
			if !seen[m.Of] {
				seen[m.Of] = true
				queue = append(queue, m.Of)
			}
		}
	}
	return false
}

// TestGuardrailsAreSetAside: by who administers the platform, with a reason, on record; and others are
// not told whom a guardrail is about.
func TestGuardrailsAreSetAside(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, slate := caller(t, svc, "opal"), caller(t, svc, "slate")
	done(t)(svc.Admin.PutGuardrail(ctx, opal, wire.GuardrailRequest{Guardrail: wire.Guardrail{Name: "no-users", Kind: "to-users", Object: "survey.field", Mode: "block"}}))
	done(t)(svc.Admin.PutGuardrail(ctx, opal, wire.GuardrailRequest{Guardrail: wire.Guardrail{Name: "said", Kind: "without-end", Object: "survey.field"}}))
	in := wire.GrantRequest{Privileges: []string{"MANAGE"}, Object: "survey.field", Subjects: []string{"user:slate"}}
	_, err := svc.Admin.Grant(ctx, opal, in, false)
	wants(t, err, fault.Conflict, "MANAGE on survey.field is granted to user:slate")
	aside := opal
	aside.SetAside = "no-users"
	_, err = svc.Admin.Grant(ctx, aside, in, false)
	wants(t, err, fault.Invalid, "says why")
	in.Reason = "until the office has a role"
	out := done(t)(svc.Admin.Grant(ctx, aside, in, false))
	if notes := strings.Join(out.Notes, "; "); !strings.Contains(notes, "set aside the guardrail no-users") || !strings.Contains(notes, "it breaks the guardrail said") {
		t.Errorf("what was broken is not said: %v", out.Notes)
	}
	past, err := svc.Review.History(ctx, opal, "user:slate", 0, 1)
	if err != nil || !strings.Contains(past.Items[0].Reason, "guardrails set aside: no-users") {
		t.Errorf("it is not on record: %+v, %v", past.Items, err)
	}
	in = wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.field.visits", Subjects: []string{"user:marl"}}
	_, err = svc.Admin.Grant(ctx, slate, in, false)
	if p := wants(t, err, fault.Conflict, "a guardrail is in the way"); strings.Contains(p.Detail, "no-users") || strings.Contains(p.Detail, "marl") {
		t.Errorf("who does not review is told %q", p.Detail)
	}
	slate.SetAside, in.Reason = "no-users", "please"
	_, err = svc.Admin.Grant(ctx, slate, in, false)
	wants(t, err, fault.Refused, "")
	// What breaks it already stays as it is, and other changes go on.
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"INSERT"}, Object: "survey.field.visits", Subjects: []string{"role:survey_reader"}}, false))
}

// TestTwoPersons: where a guardrail asks for it, nobody publishes what they drafted, or takes the
// guardrail away alone.
func TestTwoPersons(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, agate := caller(t, svc, "opal"), caller(t, svc, "agate")
	done(t)(svc.Admin.Join(ctx, opal, wire.Member{Member: "user:agate", Of: "role:administrator"}, false))
	done(t)(svc.Admin.PutGuardrail(ctx, opal, wire.GuardrailRequest{Guardrail: wire.Guardrail{Name: "two", Kind: "second-person", Object: "survey.licensing", Mode: "block"}}))
	in := wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.payments", Subjects: []string{"role:partner"}}
	for name, do := range map[string]func() error{
		"a grant there": func() error { return did(svc.Admin.Grant(ctx, opal, in, false)) },
		"a grant above": func() error { in := in; in.Object = "survey"; return did(svc.Admin.Grant(ctx, opal, in, false)) },
		"a role that reaches": func() error {
			return did(svc.Admin.Join(ctx, opal, wire.Member{Member: "user:marl", Of: "role:licensing_officer"}, false))
		},
		"a policy on a label": func() error {
			return did(svc.Admin.SetPolicyStatus(ctx, opal, "finance-data", wire.PolicyStatus{Status: "off"}))
		},
		"the guardrail": func() error { return did(svc.Admin.RemoveGuardrail(ctx, opal, "two", wire.Change{})) },
		"its mode": func() error {
			return did(svc.Admin.PutGuardrail(ctx, opal, wire.GuardrailRequest{Guardrail: wire.Guardrail{Name: "two", Kind: "second-person", Object: "survey.licensing", Mode: "warn"}, Replace: true}))
		},
		"an undo of it": func() error {
			return did(svc.Admin.Undo(ctx, opal, wire.UndoRequest{Revisions: []int64{svc.Revision()}}))
		},
	} {
		if err := do(); err == nil || fault.Of(err).Code != "second_person" && fault.Of(err).Code != "guardrail" {
			t.Errorf("%s is made by one person: %v", name, err)
		}
	}
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.monitoring.wells", Subjects: []string{"role:partner"}}, false)) // elsewhere
	done(t)(svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "paid"}))
	into, err := svc.Identity.Drafting(ctx, opal, "paid")
	if err != nil {
		t.Fatal(err)
	}
	done(t)(svc.Admin.Grant(ctx, into, in, false))
	_, err = svc.Admin.PublishDraft(ctx, opal, "paid", wire.Change{})
	wants(t, err, fault.Conflict, "Somebody else who may make them")
	if out := done(t)(svc.Admin.PublishDraft(ctx, agate, "paid", wire.Change{})); !out.Revised {
		t.Error("a second person could not publish it")
	}
	past, err := svc.Review.History(ctx, opal, "", 0, 1)
	if err != nil || past.Items[0].By != "user:agate" || !strings.Contains(past.Items[0].Says[0], "the draft paid of user:opal") || past.Items[0].Draft != "paid" {
		t.Errorf("both names are not on record: %+v, %v", past.Items, err)
	}
}

// TestWhoComesIsLookedAt: who is added has what everyone has, and so can break a guardrail.
func TestWhoComesIsLookedAt(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	for _, g := range [][2]string{{"USAGE", "survey"}, {"USAGE", "survey.monitoring"}, {"SELECT", "survey.monitoring.wells"}} {
		done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{g[0]}, Object: g[1], Subjects: []string{"public"}}, false))
	}
	page, err := svc.Review.Subjects(opal, review.SubjectSearch{})
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, s := range page.Items {
		if s.Kind == "user" || s.Kind == "service" {
			all = append(all, s.Ref)
		}
	}
	done(t)(svc.Admin.PutGuardrail(ctx, opal, wire.GuardrailRequest{Guardrail: wire.Guardrail{Name: "known", Kind: "clear", Object: "survey.monitoring.wells", Except: all, Mode: "block"}}))
	_, err = svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:newcomer"}, false)
	wants(t, err, fault.Conflict, "user:newcomer sees survey.monitoring.wells")
	done(t)(svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "role:empty"}, false))
}

// TestRecordedTests: each recording is a test of its own, unless it takes the place of one.
func TestRecordedTests(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	in := wire.BaselineRequest{Subject: "user:flint", Table: "survey.drilling.boreholes"} // which the demo has a test of
	for _, want := range []string{"flint-boreholes-2", "flint-boreholes-3"} {
		if out := done(t)(svc.Admin.RecordTest(ctx, opal, in)); !strings.Contains(strings.Join(out.Says, "; "), want) {
			t.Errorf("recorded as %v, want %s", out.Says, want)
		}
	}
	in.Replace = true
	if out := done(t)(svc.Admin.RecordTest(ctx, opal, in)); strings.Contains(strings.Join(out.Says, "; "), "flint-boreholes-") {
		t.Errorf("in its place: %v", out.Says)
	}
	in.Replace, in.Name = false, "flint-boreholes"
	_, err := svc.Admin.RecordTest(ctx, opal, in)
	wants(t, err, fault.Conflict, "there is a test flint-boreholes already")
}
