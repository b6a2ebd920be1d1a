package service_test

import (
	"fmt"
	"sync"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// a turn is a change and the one that takes it back.
type turn struct {
	name     string
	do, undo func() error
}

// turns change, one kind each, what chert gets: a membership, an attribute, an
// entitlement row, a policy and a label.
func turns(svc *service.Service, opal identity.Caller) []turn {
	changed := func(_ wire.Changed, err error) error { return err }
	ran := func(_ wire.Result, err error) error { return err }
	leads := wire.Member{Member: "user:chert", Of: "role:regional_lead"}
	districts := func(list ...string) error {
		return changed(svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:chert", Attributes: map[string][]string{"districts": list}}, true))
	}
	status := func(to string) error {
		return changed(svc.Admin.SetPolicyStatus(ctx, opal, "samples-of-boreholes", wire.PolicyStatus{Status: to}))
	}
	label := func(do string) error {
		return changed(svc.Admin.PlaceLabel(ctx, opal, "finance", wire.LabelPlacement{Do: do, Objects: []string{"survey.drilling.boreholes.contractor"}}))
	}
	return []turn{
		{"an attribute", func() error { return districts("islands") }, func() error { return districts("north", "coast", "basin", "highland") }},
		{"an entitlement row", func() error {
			return ran(svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "INSERT INTO survey.field.district_officers (officer, district, since) VALUES ('chert', 'islands', '2026-01-01')"}))
		}, func() error {
			return ran(svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "DELETE FROM survey.field.district_officers WHERE officer = 'chert' AND district = 'islands'"}))
		}},
		{"a label", func() error { return label("put") }, func() error { return label("lift") }},
		{"a policy", func() error { return status("off") }, func() error { return status("live") }},
		{"a membership", func() error { return changed(svc.Admin.Join(ctx, opal, leads, true)) }, func() error { return changed(svc.Admin.Join(ctx, opal, leads, false)) }},
	}
}

const chertsReport = "SELECT (SELECT count(*) FROM survey.drilling.boreholes), (SELECT count(contractor) FROM survey.drilling.boreholes), (SELECT count(*) FROM survey.assay.samples), (SELECT count(cost) FROM survey.field.reports)"

func chertsAnswer(svc *service.Service, chert identity.Caller) string {
	r, err := svc.Gateway.Query(ctx, chert, wire.QueryRequest{SQL: chertsReport})
	if err != nil {
		return fault.Of(err).Code
	}
	return fmt.Sprint(r.Rows[0])
}

// TestAChangeOfEachKindCountsFromTheNextQuery changes and takes back, one by one.
func TestAChangeOfEachKindCountsFromTheNextQuery(t *testing.T) {
	svc := demotest.Open(t, demotest.OwnFolder(t, "field"))
	opal, chert := caller(t, svc, "opal"), caller(t, svc, "chert")
	before := chertsAnswer(svc, chert)
	for _, c := range turns(svc, opal) {
		if err := c.do(); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if got := chertsAnswer(svc, chert); got == before {
			t.Errorf("%s changes nothing: %s", c.name, got)
		}
		if err := c.undo(); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if got := chertsAnswer(svc, chert); got != before {
			t.Errorf("%s, taken back: %s, was %s", c.name, got, before)
		}
	}
}

// TestNoAnswerBelongsToNoMoment makes the changes while others query: every
// answer is that of a moment, of what was before a change or after it.
func TestNoAnswerBelongsToNoMoment(t *testing.T) {
	svc := demotest.Open(t, demotest.OwnFolder(t, "field"))
	opal, chert := caller(t, svc, "opal"), caller(t, svc, "chert")
	moments := map[string]bool{chertsAnswer(svc, chert): true}
	var round []func() error // through all, so that each is made in the state that the others leave
	for _, c := range turns(svc, opal) {
		round = append(round, c.do)
	}
	for _, c := range turns(svc, opal) {
		round = append(round, c.undo)
	}
	for _, step := range round {
		if err := step(); err != nil {
			t.Fatal(err)
		}
		moments[chertsAnswer(svc, chert)] = true
	}
	stop := make(chan struct{})
	var wait sync.WaitGroup
	var mu sync.Mutex
	seen := map[string]int{}
	for range 4 {
		wait.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				got := chertsAnswer(svc, chert)
				mu.Lock()
				seen[got]++
				mu.Unlock()
				if !moments[got] {
					t.Errorf("an answer that belongs to no moment: %s", got)
					return
				}
			}
		})
	}
	for range 12 {
		for _, step := range round {
			if err := step(); err != nil {
				t.Error(err)
			}
		}
	}
	close(stop)
	wait.Wait()
	t.Logf("%d moments, %d of them seen: %v", len(moments), len(seen), seen)
	if len(moments) < 5 || len(seen) < 3 {
		t.Errorf("%d moments, %d of them seen; that proves little", len(moments), len(seen))
	}
}
