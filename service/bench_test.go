package service_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/core/query"
	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/source/sqlite"
	"gneiss/wire"
)

// BenchmarkGovernedAgainstByHand runs governed queries on the demo's readings,
// and the same with the filter written by hand straight on SQLite, turn about
// in one run. It reports the ratio of the medians: 1 is free.
func BenchmarkGovernedAgainstByHand(b *testing.B) {
	dir := demotest.Folder(b)
	svc := demotest.Open(b, dir)
	opal := caller(b, svc, "opal")
	hand, err := sqlite.Open(dir + "/survey")
	if err != nil {
		b.Fatal(err)
	}
	defer hand.Close()
	const mine = ` district IN ('geologists', 'north')`
	for _, c := range []struct{ name, governed, byHand string }{
		{"aggregate by month", `SELECT date_trunc('month', day) AS m, avg(level_m) AS a FROM survey.monitoring.readings GROUP BY date_trunc('month', day)`,
			`SELECT substr(day, 1, 7) || '-01' AS m, avg(level_m) AS a FROM monitoring.readings WHERE` + mine + ` GROUP BY substr(day, 1, 7) || '-01'`},
		{"range by index", `SELECT id, level_m FROM survey.monitoring.readings WHERE day BETWEEN '2024-03-01' AND '2024-03-31'`,
			`SELECT id, level_m FROM monitoring.readings WHERE day BETWEEN '2024-03-01' AND '2024-03-31' AND` + mine},
		{"count all", `SELECT count(*) FROM survey.monitoring.readings`, `SELECT count(*) FROM monitoring.readings WHERE` + mine},
		{"join and group", `SELECT w.depth_m, max(r.level_m) FROM survey.monitoring.wells w JOIN survey.monitoring.readings r ON r.well_id = w.id GROUP BY w.depth_m`,
			`SELECT w.depth_m, max(r.level_m) FROM monitoring.wells w JOIN monitoring.readings r ON r.well_id = w.id WHERE r.district IN ('geologists', 'north') GROUP BY w.depth_m`},
		{"top ten", `SELECT id, conductivity FROM survey.monitoring.readings ORDER BY conductivity DESC NULLS LAST LIMIT 10`,
			`SELECT id, conductivity FROM monitoring.readings WHERE` + mine + ` ORDER BY conductivity DESC NULLS LAST LIMIT 10`},
	} {
		b.Run(strings.ReplaceAll(c.name, " ", "-"), func(b *testing.B) {
			shown, err := svc.Query(ctx, opal, wire.QueryRequest{SQL: c.governed, Plan: true, Standpoint: wire.Standpoint{As: "user:flint"}})
			if err != nil {
				b.Fatal(err)
			}
			plan, err := hand.Explain(ctx, c.byHand, nil)
			if err != nil {
				b.Fatal(err)
			}
			if index := func(lines []string) bool { return strings.Contains(strings.Join(lines, " "), "INDEX readings_") }; index(shown.Plan.Database) != index(plan) {
				b.Fatalf("an index serves one of the two only:\n%v\n%v", shown.Plan.Database, plan)
			}
			columns := make([]query.Column, len(shown.Columns))
			for i := range columns {
				columns[i].Type, _ = query.ParseType(shown.Columns[i].Type)
			}
			run := func(text string, args []any) time.Duration {
				started := time.Now()
				rows := 0
				if err := hand.Run(context.Background(), text, args, columns, func([]any) error { rows++; return nil }); err != nil {
					b.Fatal(err)
				}
				return time.Since(started)
			}
			args := make([]any, len(shown.Plan.Args))
			for i, a := range shown.Plan.Args {
				args[i] = strings.Trim(a, `"`)
				if _, err := fmt.Sscanf(a, "%d", new(int)); err == nil {
					var n int64
					fmt.Sscanf(a, "%d", &n)
					args[i] = n
				}
			}
			run(shown.Plan.SQL, args)
			var governed, byHand []time.Duration
			both := func() {
				governed = append(governed, run(shown.Plan.SQL, args))
				byHand = append(byHand, run(c.byHand, nil))
			}
			for b.Loop() {
				both()
			}
			for len(governed) < 15 { // fewer tell nothing on a busy machine
				both()
			}
			b.ReportMetric(float64(median(governed))/float64(median(byHand)), "governed/by-hand")
			b.ReportMetric(0, "ns/op")
		})
	}
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}

// BenchmarkPointQuery is the whole gateway in process, the durable record
// included: plan from the cache, run, record.
func BenchmarkPointQuery(b *testing.B) {
	svc := demotest.Open(b, demotest.Folder(b))
	flint := caller(b, svc, "flint")
	b.ResetTimer()
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			if _, err := svc.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT name, depth_m FROM survey.drilling.boreholes WHERE id = 17"}); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// BenchmarkMatrix is every subject of the demo by every table.
func BenchmarkMatrix(b *testing.B) {
	svc := demotest.Open(b, demotest.Folder(b))
	opal := caller(b, svc, "opal")
	subjects, err := svc.Subjects(opal, service.SubjectSearch{Kind: ""})
	if err != nil {
		b.Fatal(err)
	}
	cells := 0
	for b.Loop() {
		cells = 0
		for _, s := range subjects.Items {
			list, err := svc.AccessOf(opal, s.Ref, "", false, false, wire.Standpoint{})
			if err != nil {
				b.Fatal(err)
			}
			cells += len(list.Items)
		}
	}
	b.ReportMetric(float64(cells), "cells")
}

// BenchmarkChange is one grant, acknowledged and in force.
func BenchmarkChange(b *testing.B) {
	svc := demotest.Open(b, demotest.Folder(b))
	opal := caller(b, svc, "opal")
	revoke := false
	for b.Loop() {
		in := wire.GrantRequest{Privileges: []string{"DESCRIBE"}, Object: "survey.assay.results", Subjects: []string{"user:marl"}}
		if _, err := svc.Grant(ctx, opal, in, revoke); err != nil {
			b.Fatal(err)
		}
		revoke = !revoke
	}
}
