package service_test

import (
	"context"
	"encoding/json"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/demo"
	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/source"
	"gneiss/source/postgres"
	"gneiss/source/sqlite"
	"gneiss/wire"
)

// A governedCase is a query as a user writes it, and the same with the filter
// written by hand for SQLite itself.
type governedCase struct {
	name, as         string
	governed, byHand string
	index            string // that both use, or that neither does
	args             []any  // of the one written by hand: a key is a parameter there, as applications have it
}

// forServer is what is written by hand for PostgreSQL, where it is another text.
var forServer = strings.NewReplacer("substr(day, 1, 7) || '-01'", "date_trunc('month', day::timestamp)::date", "sum(NULL)", "sum(NULL::double precision)",
	"CAST(substr(taken_on, 1, 4) AS INTEGER)", "extract(year from taken_on)::bigint", "?1", "$1")

// governedCases are report-like queries over the demo's large tables, under
// policies by group, attribute, entitlement, reporting line and relationship.
var governedCases = []governedCase{
	{"aggregate by month", "flint", `SELECT date_trunc('month', day) AS m, avg(level_m) AS a FROM survey.monitoring.readings GROUP BY date_trunc('month', day)`,
		`SELECT substr(day, 1, 7) || '-01' AS m, avg(level_m) AS a FROM monitoring.readings WHERE district IN ('geologists', 'north') GROUP BY substr(day, 1, 7) || '-01'`, "readings_", nil},
	{"range by index", "flint", `SELECT id, level_m FROM survey.monitoring.readings WHERE day BETWEEN '2024-03-01' AND '2024-03-31'`,
		`SELECT id, level_m FROM monitoring.readings WHERE day BETWEEN '2024-03-01' AND '2024-03-31' AND district IN ('geologists', 'north')`, "readings_district", nil},
	{"count all", "flint", `SELECT count(*) FROM survey.monitoring.readings`, `SELECT count(*) FROM monitoring.readings WHERE district IN ('geologists', 'north')`, "readings_district", nil},
	{"join and group", "flint", `SELECT w.depth_m, max(r.level_m) FROM survey.monitoring.wells w JOIN survey.monitoring.readings r ON r.well_id = w.id GROUP BY w.depth_m`,
		`SELECT w.depth_m, max(r.level_m) FROM monitoring.wells w JOIN monitoring.readings r ON r.well_id = w.id WHERE r.district IN ('geologists', 'north') GROUP BY w.depth_m`, "readings_", nil},
	{"top ten", "flint", `SELECT id, conductivity FROM survey.monitoring.readings ORDER BY conductivity DESC NULLS LAST LIMIT 10`,
		`SELECT id, conductivity FROM monitoring.readings WHERE district IN ('geologists', 'north') ORDER BY conductivity DESC NULLS LAST LIMIT 10`, "readings_", nil},
	{"window", "flint", `SELECT well_id, day, level_m - lag(level_m) OVER (PARTITION BY well_id ORDER BY day) AS change FROM survey.monitoring.readings`,
		`SELECT well_id, day, level_m - lag(level_m) OVER (PARTITION BY well_id ORDER BY day) AS change FROM monitoring.readings WHERE district IN ('geologists', 'north')`, "readings_", nil},
	{"attribute", "slate", `SELECT status, count(*), avg(depth_m) FROM survey.drilling.boreholes GROUP BY status`,
		`SELECT status, count(*), avg(depth_m) FROM drilling.boreholes WHERE district IN ('basin', 'highland') GROUP BY status`, "boreholes_district", nil},
	{"attribute with a blank column", "slate", `SELECT contractor, count(*), sum(cost) AS cost FROM survey.drilling.boreholes GROUP BY contractor`,
		`SELECT contractor, count(*), sum(NULL) AS cost FROM drilling.boreholes WHERE district IN ('basin', 'highland') GROUP BY contractor`, "boreholes_district", nil},
	{"entitlement", "chert", `SELECT district, count(*), avg(depth_m) FROM survey.drilling.boreholes GROUP BY district`,
		`SELECT district, count(*), avg(depth_m) FROM drilling.boreholes WHERE district IN (SELECT district FROM field.district_officers WHERE officer = 'chert') OR district IN ('basin', 'coast', 'highland', 'north') GROUP BY district`, "boreholes_", nil},
	{"reporting line", "chert", `SELECT author, count(*), sum(hours), sum(cost) FROM survey.field.reports GROUP BY author`,
		`SELECT author, count(*), sum(hours), sum(cost) FROM field.reports WHERE author IN ('chert', 'flint', 'jasper', 'slate') GROUP BY author`, "reports_", nil},
	{"follow", "flint", `SELECT extract(year from taken_on) AS y, count(*), avg(mass_g) FROM survey.assay.samples GROUP BY 1`,
		`SELECT CAST(substr(taken_on, 1, 4) AS INTEGER) AS y, count(*), avg(mass_g) FROM assay.samples AS s WHERE EXISTS (SELECT 1 FROM drilling.boreholes AS b WHERE b.id = s.borehole_id AND b.district = 'north') GROUP BY 1`, "none", nil},
	{"follow twice", "flint", `SELECT element, count(*), avg(ppm) FROM survey.assay.results GROUP BY element`,
		`SELECT element, count(*), avg(ppm) FROM assay.results AS r JOIN assay.samples AS s ON s.id = r.sample_id JOIN drilling.boreholes AS b ON b.id = s.borehole_id WHERE b.district = 'north' GROUP BY element`, "none", nil},
	{"follow, one sample", "flint", `SELECT element, ppm FROM survey.assay.results WHERE sample_id = 4711`,
		`SELECT element, ppm FROM assay.results AS r JOIN assay.samples AS s ON s.id = r.sample_id JOIN drilling.boreholes AS b ON b.id = s.borehole_id WHERE r.sample_id = ?1 AND b.district = 'north'`, "results_sample", []any{int64(4711)}},
	{"rows and columns, fact and dimension", "flint", `SELECT b.status, count(*), avg(s.mass_g), sum(b.cost) AS cost FROM survey.assay.samples s JOIN survey.drilling.boreholes b ON b.id = s.borehole_id GROUP BY b.status`,
		`SELECT b.status, count(*), avg(s.mass_g), sum(NULL) AS cost FROM assay.samples s JOIN drilling.boreholes b ON b.id = s.borehole_id WHERE b.district = 'north' AND EXISTS (SELECT 1 FROM drilling.boreholes AS x WHERE x.id = s.borehole_id AND x.district = 'north') GROUP BY b.status`, "none", nil},
}

// TestGovernedUsesTheSameIndex holds the plans: where the filter written by hand
// is served by an index, so is the policy's.
func TestGovernedUsesTheSameIndex(t *testing.T) {
	dir := demotest.Folder(t)
	svc := demotest.Open(t, dir)
	hand, err := sqlite.Open(dir+"/sources/survey", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer hand.Close()
	for _, c := range governedCases {
		t.Run(c.name, func(t *testing.T) {
			shown := shownPlan(t, svc, c)
			plan, err := hand.Explain(ctx, c.byHand, c.args)
			if err != nil {
				t.Fatal(err)
			}
			governed, err := hand.Explain(ctx, shown.Plan.SQL, make([]any, len(shown.Plan.Args)))
			if err != nil {
				t.Fatal(err)
			}
			uses := func(lines []string) bool { return strings.Contains(strings.Join(lines, " "), "INDEX "+c.index) }
			if uses(governed) != uses(plan) {
				t.Errorf("an index serves one of the two only:\n%s\n%s", strings.Join(governed, "\n"), strings.Join(plan, "\n"))
			}
		})
	}
}

func shownPlan(t testing.TB, svc *service.Service, c governedCase) wire.Result {
	t.Helper()
	shown, err := svc.Gateway.Query(ctx, caller(t, svc, "opal"), wire.QueryRequest{SQL: c.governed, Plan: true, Standpoint: wire.Standpoint{As: "user:" + c.as}})
	if err != nil {
		t.Fatal(err)
	}
	return shown
}

// BenchmarkGovernedAgainstByHand runs each of the cases as governed and as
// written by hand, alternately in one run, straight on SQLite. It reports the
// ratio of the medians, 1 is free, and the geometric mean of all.
func BenchmarkGovernedAgainstByHand(b *testing.B) {
	dir := demotest.Folder(b)
	svc := demotest.Open(b, dir)
	hand, err := sqlite.Open(dir+"/sources/survey", nil)
	if err != nil {
		b.Fatal(err)
	}
	defer hand.Close()
	againstByHand(b, svc, hand, func(c governedCase) governedCase { return c })
}

// BenchmarkGovernedOnServer is BenchmarkGovernedAgainstByHand on PostgreSQL.
func BenchmarkGovernedOnServer(b *testing.B) {
	svc, _, url := onBoth(b)
	hand, err := postgres.Open(url)
	if err != nil {
		b.Fatal(err)
	}
	defer hand.Close()
	againstByHand(b, svc, hand, func(c governedCase) governedCase {
		c.governed, c.byHand = strings.ReplaceAll(c.governed, "survey.", demo.Second+"."), forServer.Replace(c.byHand)
		return c
	})
}

func againstByHand(b *testing.B, svc *service.Service, hand source.Source, spelt func(governedCase) governedCase) {
	logs := map[string]float64{}
	for _, c := range governedCases {
		c = spelt(c)
		b.Run(strings.ReplaceAll(c.name, " ", "-"), func(b *testing.B) {
			shown := shownPlan(b, svc, c)
			args := make([]any, len(shown.Plan.Args))
			for i, a := range shown.Plan.Args {
				_, value, _ := strings.Cut(a, " = ")
				if err := json.Unmarshal([]byte(value), &args[i]); err != nil {
					b.Fatalf("%s: %v", a, err)
				}
				if x, ok := args[i].(float64); ok && x == math.Trunc(x) {
					args[i] = int64(x)
				}
			}
			ratio := compared(b, hand, shown, args, c)
			logs[c.name] = math.Log(ratio)
			b.ReportMetric(ratio, "governed/by-hand")
			b.ReportMetric(0, "ns/op")
		})
	}
	sum := 0.0
	for _, l := range logs {
		sum += l
	}
	b.Logf("geometric mean over %d queries: %.3f", len(logs), math.Exp(sum/float64(len(logs))))
}

// compared is the ratio of the medians of both.
func compared(b *testing.B, hand source.Source, shown wire.Result, args []any, c governedCase) float64 {
	columns := make([]query.Column, len(shown.Columns))
	for i := range columns {
		columns[i].Type = sqltype.Parse(shown.Columns[i].Type)
	}
	run := func(text string, args []any) time.Duration {
		started := time.Now()
		if err := hand.Run(context.Background(), text, args, columns, func([]any) error { return nil }); err != nil {
			b.Fatalf("%v\n%s", err, text)
		}
		return time.Since(started)
	}
	run(shown.Plan.SQL, args)
	run(c.byHand, c.args)
	var governed, plain []time.Duration
	both := func() { // by turns which is first, for the second finds warmer caches
		if len(plain)%2 == 0 {
			plain = append(plain, run(c.byHand, c.args))
			governed = append(governed, run(shown.Plan.SQL, args))
			return
		}
		governed = append(governed, run(shown.Plan.SQL, args))
		plain = append(plain, run(c.byHand, c.args))
	}
	for b.Loop() {
		both()
	}
	for len(governed) < 15 { // fewer tell nothing on a busy machine
		both()
	}
	return float64(median(governed)) / float64(median(plain))
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}
