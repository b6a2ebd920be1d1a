package service_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"gneiss/store"
	"gneiss/wire"
)

// someUse writes into the record of the folder that 5,000 people used some of its grants today, in 50,000 ways,
// and that use has been counted for a year.
func someUse(b *testing.B, dir string) {
	b.Helper()
	st, err := store.Open(dir, false)
	if err != nil {
		b.Fatal(err)
	}
	r, now := rand.New(rand.NewPCG(3, 4)), time.Now().UTC()
	var records []*store.Record
	for i := range 50_000 {
		needs := fmt.Sprintf(`{"s":%d,"g":[%d,%d,%d],"m":[[%d,%d]],"t":[%d]}`, 5+i%5_000, 10+r.IntN(1_000_000), 10+r.IntN(1_000_000), 10+r.IntN(1_000_000),
			5+i%5_000, 10_010+r.IntN(1_000), 100+r.IntN(100_000))
		records = append(records, &store.Record{At: now.Format("2006-01-02T15:04:05.000Z"), Actor: fmt.Sprintf("user:u%d", i%5_000), Action: "query",
			Decision: "allowed", Objects: "[]", Labels: "[]", Missing: "[]", Use: &store.UseSet{Needs: needs}})
	}
	if err := firstError(st.Audit().Load(ctx, records, now.AddDate(-1, 0, 0).Format(time.RFC3339)), st.Close()); err != nil {
		b.Fatal(err)
	}
}

// BenchmarkLargeFindings is how long findings take on the platform of a million grants after each kind of
// change, with guardrails, policies, labels and use; and how long the widest change itself takes.
func BenchmarkLargeFindings(b *testing.B) {
	dir, err := largeFolder()
	if err != nil {
		b.Fatal(err)
	}
	someUse(b, dir)
	svc, opal := largeService(b)
	must := func(_ wire.Changed, err error) {
		b.Helper()
		if err != nil {
			b.Fatal(err)
		}
	}
	must(svc.Admin.PutLabel(ctx, opal, wire.LabelRequest{Name: "finance", Level: "restricted"}))
	for i := range 20 {
		placed := wire.LabelPlacement{Do: "put"}
		for j := range 50 {
			placed.Objects = append(placed.Objects, fmt.Sprintf("s.c%d.t%d.id", i, j))
		}
		must(svc.Admin.PlaceLabel(ctx, opal, "finance", placed))
	}
	hidden := &wire.Treatment{Kind: "suppress"}
	must(svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "hidden", Table: "label:finance", Treatment: hidden,
		Except: []string{"role:r1", "role:administrator"}, Status: "live"}}))
	for _, g := range []wire.Guardrail{
		{Name: "clear", Kind: "clear", Object: "label:finance", Except: []string{"role:r1", "role:administrator"}},
		{Name: "apart", Kind: "apart", Roles: []string{"role:r1", "role:r2"}},
		{Name: "public", Kind: "to-public"},
		{Name: "few", Kind: "administrators", Most: 3},
	} {
		must(svc.Admin.PutGuardrail(ctx, opal, wire.GuardrailRequest{Guardrail: g}))
	}
	began := time.Now()
	if _, err := svc.Review.Findings(ctx, opal, 0); err != nil {
		b.Fatal(err)
	}
	b.Logf("the first time: %s", time.Since(began))
	grant := func(privilege, object, subject string, revoke bool) {
		must(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{privilege}, Object: object, Subjects: []string{subject}}, revoke))
	}
	revoke := false
	b.Run("the-door-of-the-source-itself", func(b *testing.B) { // for everybody, back and forth
		for b.Loop() {
			revoke = !revoke
			grant("USAGE", "s", "public", revoke)
		}
	})
	if revoke {
		grant("USAGE", "s", "public", false)
	}
	n, gone := 0, true
	taken := func() bool { // back and forth
		gone = !gone
		return gone
	}
	for _, c := range []struct {
		after string
		do    func()
	}{
		{"nothing", func() {}},
		{"a-grant", func() { grant("UPDATE", fmt.Sprintf("s.c%d.t2", n%500), fmt.Sprintf("role:r%d", n%2_000), false) }},
		{"a-membership", func() {
			must(svc.Admin.Join(ctx, opal, wire.Member{Member: fmt.Sprintf("user:u%d", n%10_000), Of: fmt.Sprintf("role:r%d", (7*n)%2_000)}, false))
		}},
		{"a-group-in-a-role", func() {
			must(svc.Admin.Join(ctx, opal, wire.Member{Member: fmt.Sprintf("group:g%d", n%1_000), Of: fmt.Sprintf("role:r%d", (11*n)%2_000)}, false))
		}},
		{"a-door", func() { grant("USAGE", fmt.Sprintf("s.c%d", n%500), fmt.Sprintf("group:g%d", n%1_000), false) }},
		{"a-door-for-all", func() { grant("USAGE", "s.c3", "public", taken()) }},
		{"the-door-of-the-source", func() { grant("USAGE", "s", "public", !taken()) }},
		{"a-user", func() {
			must(svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: fmt.Sprintf("user:new%d", n)}, false))
		}},
		{"a-policy", func() {
			must(svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: fmt.Sprintf("p%d", n), Table: fmt.Sprintf("s.c30.t%d", n%200),
				Columns: []string{"id"}, Treatment: hidden, Status: "live"}}))
		}},
	} {
		gone = true
		b.Run("after-"+c.after, func(b *testing.B) {
			for b.Loop() {
				b.StopTimer()
				c.do()
				n++
				b.StartTimer()
				if _, err := svc.Review.Findings(ctx, opal, 3); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
