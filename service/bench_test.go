package service_test

import (
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/review"
	"gneiss/wire"
)

// BenchmarkPointQuery is the whole gateway in process under sixteen clients, the
// durable record included: plan from the cache, run, record. It reports queries
// a second.
func BenchmarkPointQuery(b *testing.B) {
	svc := demotest.Open(b, demotest.Folder(b))
	flint := caller(b, svc, "flint")
	b.SetParallelism(8) // as many at once as the lane lets run
	b.ResetTimer()
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			if _, err := svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT name, depth_m FROM survey.drilling.boreholes WHERE id = 17"}); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "queries/s")
}

// BenchmarkMatrix is every subject of the demo by every table.
func BenchmarkMatrix(b *testing.B) {
	svc := demotest.Open(b, demotest.Folder(b))
	opal := caller(b, svc, "opal")
	subjects, err := svc.Review.Subjects(opal, review.SubjectSearch{Kind: ""})
	if err != nil {
		b.Fatal(err)
	}
	cells := 0
	for b.Loop() {
		cells = 0
		for _, s := range subjects.Items {
			list, err := svc.Review.AccessOf(opal, review.AccessSearch{Of: s.Ref})
			if err != nil {
				b.Fatal(err)
			}
			cells += len(list.Items)
		}
	}
	b.ReportMetric(float64(cells), "cells")
}

// BenchmarkChange is one grant, acknowledged and in effect.
func BenchmarkChange(b *testing.B) {
	svc := demotest.Open(b, demotest.Folder(b))
	opal := caller(b, svc, "opal")
	revoke := false
	for b.Loop() {
		in := wire.GrantRequest{Privileges: []string{"DESCRIBE"}, Object: "survey.assay.results", Subjects: []string{"user:marl"}}
		if _, err := svc.Admin.Grant(ctx, opal, in, revoke); err != nil {
			b.Fatal(err)
		}
		revoke = !revoke
	}
}
