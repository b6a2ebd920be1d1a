package service_test

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/identity"
	"gneiss/wire"
)

// TestFindingsByDifference: after any changes, what is found from what was found before is what a service
// finds that starts then.
func TestFindingsByDifference(t *testing.T) {
	dir := demotest.Folder(t)
	svc, err := service.Open(ctx, dir, quiet)
	if err != nil {
		t.Fatal(err)
	}
	opal := caller(t, svc, "opal")
	findings := func(s *service.Service) []string {
		t.Helper()
		list, err := s.Review.Findings(ctx, caller(t, s, "opal"), 0)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, f := range list.Items {
			text, err := json.Marshal(f)
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, string(text))
		}
		slices.Sort(out)
		return out
	}
	r := rand.New(rand.NewPCG(7, 8))
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	subject := func() string {
		return pick("user:flint", "user:garnet", "user:marl", "role:survey_reader", "role:data_curator", "group:field-north", "public")
	}
	object := func() string {
		return pick("survey", "survey.drilling", "survey.assay", "survey.licensing", "survey.drilling.boreholes", "survey.assay.results", "survey.licensing.holders", "survey.assay.r*")
	}
	for _, privilege := range []string{"USAGE", "SELECT"} { // of which one table of several is read
		if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{privilege}, Object: "survey.assay", Subjects: []string{"user:tuff"}}, false); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := svc.Gateway.Query(ctx, caller(t, svc, "tuff"), wire.QueryRequest{SQL: "SELECT count(*) FROM survey.assay.samples"}); err != nil {
		t.Fatal(err)
	}
	done, kinds := 0, map[string]bool{}
	for round := range 24 {
		before := findings(svc)
		many := 1 + r.IntN(6)
		if round%3 == 0 { // of which what was said of use can be kept, or cannot
			many = 1
		}
		for range many {
			var err error
			disabled := r.IntN(2) == 0
			kind := r.IntN(14)
			if many == 1 {
				kind = []int{8, 12, 10, 13, 0, 13, 10, 13}[round/3]
			}
			switch kind {
			case 0, 1, 2:
				_, err = svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{pick("SELECT", "USAGE", "reader", "INSERT")}, Object: object(), Subjects: []string{subject()}}, r.IntN(3) == 0)
			case 3:
				_, err = svc.Admin.Join(ctx, opal, wire.Member{Member: subject(), Of: pick("role:survey_reader", "role:data_curator", "group:field-north")}, r.IntN(2) == 0)
			case 4:
				_, err = svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: pick("user:flint", "user:garnet"), Disabled: &disabled}, true)
			case 5:
				_, err = svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: pick("role:reserve", "user:garnett", "role:survey_readers", "group:dusk")}, false)
			case 6:
				_, err = svc.Admin.PlaceLabel(ctx, opal, pick("finance", "personal"), wire.LabelPlacement{Do: pick("put", "lift"), Objects: []string{pick("survey.assay.results", "survey.monitoring.readings")}})
			case 7:
				_, err = svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: fmt.Sprint("made-", round), Table: "survey.assay.results", Rule: "true", For: []string{"role:survey_reader"}}})
			case 8: // of what nobody used
				unused := [][2]string{{"survey.field", "role:survey_reader"}, {"survey.drilling.boreholes", "role:licensing_officer"}, {"survey.assay.samples", "role:sample_courier"}}[r.IntN(3)]
				_, err = svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: unused[0], Subjects: []string{unused[1]}}, true)
			case 9:
				if _, err = svc.Admin.PutLabel(ctx, opal, wire.LabelRequest{Name: "spare", Level: "restricted", Replace: true}); err != nil {
					_, err = svc.Admin.PutLabel(ctx, opal, wire.LabelRequest{Name: "spare", Level: "restricted"})
				}
				if err == nil {
					_, err = svc.Admin.PlaceLabel(ctx, opal, "spare", wire.LabelPlacement{Do: pick("put", "lift"), Objects: []string{pick("survey.assay.results.ppm", "survey.field.visits")}})
				}
			case 10: // which is use of what may have been unused so far
				_, err = svc.Gateway.Query(ctx, caller(t, svc, pick("chert", "tuff", "slate")), wire.QueryRequest{SQL: "SELECT * FROM " +
					pick("survey.licensing.licences", "survey.field.visits", "survey.drilling.boreholes") + " LIMIT 1"})
			case 12: // what is said of use, mended
				err = mended(t, svc, opal, before, "too_wide")
			case 13:
				err = mended(t, svc, opal, before, "unused")
			default:
				_, err = svc.Admin.PutGuardrail(ctx, opal, wire.GuardrailRequest{Guardrail: wire.Guardrail{Name: fmt.Sprint("made-", round), Mode: "warn",
					Kind: pick("to-public", "to-users", "without-end", "owned"), Object: "survey"}})
			}
			if err == nil {
				done++
			}
		}
		// Something has changed in each round: a list serves for half a minute otherwise.
		if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"DESCRIBE"}, Object: "survey.field", Subjects: []string{"role:data_curator"}}, round%2 == 1); err != nil {
			t.Fatal(err)
		}
		after := findings(svc)
		if err := svc.Close(ctx); err != nil {
			t.Fatal(err)
		}
		again, err := service.Open(ctx, dir, quiet)
		if err != nil {
			t.Fatal(err)
		}
		if want := findings(again); !slices.Equal(want, after) {
			t.Fatalf("round %d: by difference it lacks %.2000v, and has %.2000v beside", round, without(want, after), without(after, want))
		}
		for _, f := range append(without(before, after), without(after, before)...) {
			kinds[strings.Split(f, `"`)[3]] = true
		}
		svc, opal = again, caller(t, again, "opal")
	}
	if err := svc.Close(ctx); err != nil {
		t.Fatal(err)
	}
	t.Logf("%d changes, which moved %d kinds of findings", done, len(kinds))
	if done < 25 || len(kinds) < 6 {
		t.Error("too few to prove anything")
	}
}

// mended does what takes the last membership, or the last grant, of a kind of findings away.
func mended(t *testing.T, svc *service.Service, c identity.Caller, list []string, kind string) (err error) {
	t.Helper()
	var take, revoke *wire.Fix
	for _, text := range list {
		var f wire.Finding
		if err := json.Unmarshal([]byte(text), &f); err != nil {
			t.Fatal(err)
		}
		for _, fix := range f.Fixes {
			switch {
			case f.Kind != kind:
			case fix.Take != nil:
				take = &fix
			case fix.Revoke != nil:
				revoke = &fix
			}
		}
	}
	switch {
	case take != nil:
		_, err = svc.Admin.Join(ctx, c, *take.Take, true)
	case revoke != nil:
		_, err = svc.Admin.Grant(ctx, c, *revoke.Revoke, true)
	default:
		t.Logf("nothing is %s", kind)
	}
	return err
}

// without lists what the one list has and the other lacks.
func without(a, b []string) []string {
	out := slices.DeleteFunc(slices.Clone(a), func(s string) bool { return slices.Contains(b, s) })
	slices.SortFunc(out, cmp.Compare)
	return out
}
