package service_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/wire"
)

// TestDatesOfOtherFormsReleaseNothing: where the survey's file holds a date of release that is none, the portal does not have the
// borehole, and nobody gets its position as it is; who may read the date is told how, and a check counts it.
func TestDatesOfOtherFormsReleaseNothing(t *testing.T) {
	dir := demotest.OwnFolder(t, "drilling")
	db, err := sql.Open("sqlite3", filepath.Join(dir, "sources", "survey", "drilling.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	svc := demotest.Open(t, dir)
	opal, tuff := caller(t, svc, "opal"), caller(t, svc, "tuff")
	var ids []string
	for _, row := range ask(t, svc, tuff, "SELECT id FROM survey.drilling.boreholes WHERE release_on <= CURRENT_DATE ORDER BY id LIMIT 5", wire.Standpoint{}) {
		ids = append(ids, fmt.Sprint(row[0]))
	}
	list := "(" + strings.Join(ids, ", ") + ")"
	positions := "SELECT count(*), count(latitude), count(longitude) FROM survey.drilling.boreholes WHERE id IN " + list

	portal := wire.Standpoint{As: "service:pumice"}
	if got := fmt.Sprint(ask(t, svc, opal, positions, portal), ask(t, svc, tuff, positions, wire.Standpoint{})); got != "[[5 5 5]] [[5 5 5]]" {
		t.Fatalf("before: %s", got)
	}
	for i, form := range []string{"''", "'01/01/2099'", "'1.1.2099'", "20990101", "x'31'"} {
		if _, err := db.Exec("UPDATE boreholes SET release_on = " + form + " WHERE id = " + ids[i]); err != nil {
			t.Fatal(err)
		}
	}
	if got := fmt.Sprint(ask(t, svc, opal, positions, portal)); got != "[[0 0 0]]" {
		t.Errorf("the portal has %s", got)
	}
	if got := fmt.Sprint(ask(t, svc, tuff, positions, wire.Standpoint{})); got != "[[5 0 0]]" {
		t.Errorf("tuff has %s", got)
	}
	_, err = svc.Gateway.Query(ctx, tuff, wire.QueryRequest{SQL: "SELECT id, release_on FROM survey.drilling.boreholes WHERE id IN " + list})
	wants(t, err, fault.Invalid, `the column "release_on" holds a value that is not of type date, which SQLite allows; cast the column to text to read it`)
	texts := fmt.Sprint(ask(t, svc, tuff, "SELECT CAST(release_on AS text) FROM survey.drilling.boreholes WHERE id IN "+list+" ORDER BY id", wire.Standpoint{}))
	if texts != "[[] [01/01/2099] [1.1.2099] [20990101] [1]]" {
		t.Errorf("as texts: %s", texts)
	}
	if found, err := svc.Review.SuggestLabels(ctx, opal, "", false, false); err != nil || len(found.Failed) > 0 {
		t.Errorf("labels are suggested without the values of %v, %v", found.Failed, err)
	}
	out, err := svc.Review.CheckSource(ctx, opal, "survey")
	if got := fmt.Sprint(out); err != nil || !strings.Contains(got, "drilling.boreholes.release_on: 5 rows hold a value that is not of type date") {
		t.Errorf("a check says %s, %v", got, err)
	}
}
