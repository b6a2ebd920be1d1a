package service_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
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
	list, err := svc.Review.AccessTo(c, table, false)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]bool{}
	for _, x := range list.Items {
		if !strings.HasPrefix(x.Subject, "user:") && !strings.HasPrefix(x.Subject, "service:") {
			continue
		}
		own, err := svc.Review.AccessOf(c, x.Subject, table, false, true, wire.Standpoint{})
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
	refused := map[string]int{}
	for _, hands := range []int{1, 6} {
		t.Run(fmt.Sprint(hands), func(t *testing.T) {
			svc := demotest.Open(t, demotest.Folder(t))
			opal := caller(t, svc, "opal")
			rails(t, svc, opal)
			first := svc.Revision()
			var mu sync.Mutex
			var all sync.WaitGroup
			for h := range hands {
				all.Go(func() {
					r := rand.New(rand.NewPCG(uint64(h), uint64(hands)))
					for range 240 / hands {
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
				out, err := svc.Review.Check(ctx, then, nil)
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
						page, err := svc.Review.AccessOf(then, who, "platform", false, false, wire.Standpoint{})
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
		})
	}
	for _, name := range []string{"finance", "costs", "apart", "public", "few", "treated", "owned"} {
		if refused[name] == 0 {
			t.Errorf("nothing was refused by %s: %v", name, refused)
		}
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
