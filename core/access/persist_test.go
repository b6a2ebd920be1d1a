package access

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"
)

// anyChange is some change of a small platform.
func anyChange(r *rand.Rand) Change {
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	path := func() string {
		return pick("survey", "survey.drilling", "survey.assay", "survey.drilling.boreholes", "survey.drilling.boreholes.name", "survey.assay.results",
			fmt.Sprintf("survey.assay.t%d", r.IntN(8)), "survey.drilling.bore*")
	}
	subject := func() string {
		return pick("public", "user:flint", "user:marl", "group:field-north", "role:survey_reader", "role:district_geologist", fmt.Sprintf("user:u%d", r.IntN(8)))
	}
	until := []time.Time{{}, {}, day.Add(time.Hour), day.Add(-time.Hour)}[r.IntN(4)]
	switch r.IntN(12) {
	case 0, 1, 2, 3:
		return AddGrant{Privilege: pick("SELECT", "USAGE", "reader", "MANAGE", "INSERT"), Object: path(), Subject: subject(), Grantor: pick("", "", "user:opal", "user:marl"), Option: r.IntN(5) == 0, Until: until}
	case 4:
		return RemoveGrant{Privilege: pick("SELECT", "USAGE", "reader"), Object: path(), Subject: subject(), Cascade: r.IntN(2) == 0}
	case 5:
		return AddObject{Path: fmt.Sprintf("survey.assay.t%d", r.IntN(8)), Kind: "table"}
	case 6:
		return AddObject{Path: fmt.Sprintf("survey.assay.results.c%d", r.IntN(8)), Kind: "column", Type: "text"}
	case 7:
		return AddSubject{Subject: fmt.Sprintf("user:u%d", r.IntN(8))}
	case 8:
		return Join{Member: subject(), Of: pick("group:field-north", "role:survey_reader", "role:district_geologist"), Until: until}
	case 9:
		return Leave{Member: subject(), Of: pick("group:field-north", "role:survey_reader", "role:district_geologist"), Cascade: true}
	case 10:
		return SetOwner{Object: pick("survey", "survey.assay", "survey.assay.results"), Owner: pick("", "user:marl", "user:flint")}
	}
	return RemoveSubject{Subject: fmt.Sprintf("user:u%d", r.IntN(8))}
}

// lists is a model as text, with the lists that it works out.
func lists(t *testing.T, m *Model) string {
	t.Helper()
	text := taken(t, m).String()
	for i := 1; i < m.objects.size(); i++ {
		text += fmt.Sprintln(i, m.objects.at(i).grants)
	}
	for i := 1; i < m.subjects.size(); i++ {
		s := m.subjects.at(i)
		text += fmt.Sprintln(i, s.grants, len(s.ending))
	}
	return text
}

// TestModelsNeverChange: whatever comes after a model, one after another, side by side, many changes
// at once or refused, the model stays as it was; and what it works out is what is worked out
// from its snapshot.
func TestModelsNeverChange(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 3))
		models := []*Model{survey(t, entry...)}
		texts := []string{lists(t, models[0])}
		for range 60 {
			from := models[r.IntN(len(models))]
			replay, next := from.Replay(), from
			var many []Change
			for range 1 + r.IntN(6) {
				c := anyChange(r)
				after, err := next.Apply(day, c)
				if err != nil {
					continue // refused, and next stays as it is
				}
				models, texts = append(models, after), append(texts, lists(t, after))
				many, next = append(many, c), after
				if err := replay.Apply(day, c); err != nil {
					t.Fatalf("seed %d: %v replayed: %v", seed, c, err)
				}
				if r.IntN(3) == 0 {
					models, texts = append(models, replay.Model()), append(texts, lists(t, next))
				}
			}
			if at := lists(t, replay.Model()); at != lists(t, next) {
				t.Fatalf("seed %d: %v replayed is\n%s, not\n%s", seed, many, at, lists(t, next))
			}
			if at := lists(t, apply(t, from, many...)); at != lists(t, next) {
				t.Fatalf("seed %d: %v at once is\n%s, not\n%s", seed, many, at, lists(t, next))
			}
		}
		for i, m := range models {
			if at := lists(t, m); at != texts[i] {
				t.Fatalf("seed %d: model %d has changed:\n%s\nit was\n%s", seed, i, at, texts[i])
			}
			again, err := Restore(taken(t, m).get)
			if err != nil {
				t.Fatal(err)
			}
			if at := lists(t, again); at != texts[i] {
				t.Fatalf("seed %d: model %d restored is\n%s\nit was\n%s", seed, i, at, texts[i])
			}
		}
	}
}
