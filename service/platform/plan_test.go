package platform

import (
	"context"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
)

// BenchmarkPlanWarm is what planning costs for a text that has been planned.
func BenchmarkPlanWarm(b *testing.B) {
	st := newState(1, "", access.New(), &policy.Set{}, nil)
	for _, c := range []Change{access.AddObject{Path: "survey", Kind: "source"}, access.AddObject{Path: "survey.field", Kind: "schema"}, access.AddObject{Path: "survey.field.visits", Kind: "table"},
		access.AddObject{Path: "survey.field.visits.id", Kind: "column", Type: "bigint"}, access.AddSubject{Subject: "user:opal"}, access.Join{Member: "user:opal", Of: access.Administrator}} {
		next, err := st.Apply(c, time.Unix(1, 0))
		if err != nil {
			b.Fatal(err)
		}
		st = next
	}
	opal, err := st.Model.FindSubject("user:opal")
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		rights, err := st.Rights(access.Standpoint{Subject: opal.ID}, time.Unix(2, 0))
		if err != nil {
			b.Fatal(err)
		}
		if _, err := st.Plan(context.Background(), rights, query.Statement{SQL: "SELECT count(*) FROM survey.field.visits WHERE id > 17"}); err != nil {
			b.Fatal(err)
		}
	}
}
