package service_test

import (
	"context"
	"fmt"
	"io"
	"strings"
	"testing"

	"gneiss/demo"
	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/source/pgtest"
	"gneiss/wire"
)

// onBoth is the demo platform with the survey's tables in PostgreSQL as well.
func onBoth(t testing.TB) (*service.Service, *pgtest.Server, string) {
	t.Helper()
	dir := demotest.Folder(t)
	server := pgtest.Start(t)
	url, err := server.Database("survey")
	if err == nil {
		err = demo.AddPostgres(context.Background(), dir, url, io.Discard)
	}
	if err != nil {
		t.Fatal(err)
	}
	return demotest.Open(t, dir), server, url
}

// TestSameAnswersOnBothSources asks the same of the survey's tables on SQLite and
// on PostgreSQL, under the same policies, as everybody.
func TestSameAnswersOnBothSources(t *testing.T) {
	svc, _, _ := onBoth(t)
	ctx := context.Background()
	answered, refused := 0, 0
	for _, a := range demo.Accounts {
		c, err := svc.ActAs(a.Ref)
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range []string{
			"SELECT * FROM survey.drilling.boreholes ORDER BY id LIMIT 300",
			"SELECT district, count(*), round(avg(depth_m)::double precision, 3) AS depth, sum(cost) IS NULL AS blank FROM survey.drilling.boreholes GROUP BY district ORDER BY district",
			"SELECT b.name, s.id, s.mass_g FROM survey.drilling.boreholes AS b JOIN survey.assay.samples AS s ON s.borehole_id = b.id WHERE b.status = 'logged' ORDER BY s.id LIMIT 200",
			"SELECT r.element, count(*), max(r.ppm) FROM survey.assay.results AS r GROUP BY r.element ORDER BY count(*) DESC, r.element",
			"SELECT company, contact_name, email, phone, bank_account FROM survey.licensing.holders ORDER BY company DESC, id",
			"SELECT author, date_trunc('month', written_on) AS month, round(sum(hours), 6), count(cost) FROM survey.field.reports GROUP BY author, date_trunc('month', written_on) ORDER BY 1, 2",
			"SELECT extract(year from day) AS y, district, round(avg(level_m), 6) FROM survey.monitoring.readings GROUP BY 1, 2 ORDER BY 1, 2",
			"WITH deep AS (SELECT id, name, rank() OVER (PARTITION BY district ORDER BY depth_m DESC, id) AS place FROM survey.drilling.boreholes) SELECT name, place FROM deep WHERE place <= 3 ORDER BY place, name",
			"SELECT id, note FROM survey.field.visits WHERE note ILIKE '%core%' ORDER BY visited_on DESC NULLS LAST, id LIMIT 50",
		} {
			lite, errLite := svc.Query(ctx, c, wire.QueryRequest{SQL: text})
			server, errServer := svc.Query(ctx, c, wire.QueryRequest{SQL: strings.ReplaceAll(text, "survey.", demo.Second+".")})
			switch {
			case (errLite == nil) != (errServer == nil):
				t.Errorf("%s: %s\nSQLite: %v\nPostgreSQL: %v", a.Ref, text, errLite, errServer)
			case errLite != nil:
				refused++
			default:
				if got, want := fmt.Sprint(server.Columns, server.Rows), fmt.Sprint(lite.Columns, lite.Rows); got != want {
					t.Errorf("%s: %s\nSQLite: %.900s\nPostgreSQL: %.900s", a.Ref, text, want, got)
				}
				answered++
			}
		}
	}
	if answered < 40 || refused < 15 {
		t.Errorf("%d were answered and %d refused; that proves little", answered, refused)
	}
	t.Logf("%d answered alike, %d refused alike", answered, refused)
}
