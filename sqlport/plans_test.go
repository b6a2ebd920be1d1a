package sqlport_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
)

// onPlans holds that a statement which is asked often, so that the database comes to plan it for all
// values at once, tells no more of a hidden row than of one that is not there.
func onPlans(t *testing.T, p *port) {
	for _, user := range []string{"flint", "tuff", "slate"} {
		onPlansOf(t, p.connect(t, user, "survey_pg"), p.connect(t, "opal", "survey_pg"), user)
	}
}

func onPlansOf(t *testing.T, reader, opal *pgx.Conn, user string) {
	seen := map[string]bool{}
	for _, id := range texts(t, reader, "SELECT id FROM drilling.boreholes") {
		seen[id] = true
	}
	own, hidden := texts(t, reader, "SELECT min(id) FROM drilling.boreholes")[0], ""
	for _, id := range texts(t, opal, "SELECT id FROM drilling.boreholes ORDER BY id") {
		if !seen[id] {
			hidden = id
			break
		}
	}
	for _, condition := range []string{"cost > 1/0", "cost > (1::numeric / 0)::double precision", "depth_m = CAST('x'::text AS double precision)", "name = repeat('x', 3) AND 1/0 > cost",
		"(name = 'x' OR 1/0 > 1)", "cost = 1/(id - id)"} {
		for _, way := range []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeCacheStatement} {
			for round := range 12 {
				said := func(id string) string {
					_, err := reader.Exec(ctx, "SELECT name FROM drilling.boreholes WHERE id = "+id+" AND "+condition, way)
					return state(err)
				}
				if there, absent := said(hidden), said("-77"); there != absent {
					t.Errorf("%s: %s, round %d: of a hidden row it says %q, of none %q", user, condition, round, there, absent)
					break
				}
			}
		}
	}
	// A point query is planned once, and right for all values.
	for i := range 20 {
		id := []string{own, hidden}[i%2]
		want := map[bool]int{true: 1, false: 0}[id == own]
		if got := texts(t, reader, "SELECT name FROM drilling.boreholes WHERE id = $1", id); len(got) != want {
			t.Errorf("%s, round %d: %d rows of %s, not %d", user, i, len(got), id, want)
		}
	}
}

// onZones holds that a session's settings reach the database where no policy stands in the
// statement, and not where one does: what it makes of a time is not its reader's to choose.
func onZones(t *testing.T, p *port) {
	const value = "'2026-07-01 12:00:00+00'::timestamptz"
	conn := p.connect(t, "opal", "survey_pg", "timezone=Pacific%2FKiritimati")
	for table, want := range map[string]string{"drilling.boreholes": "2026-07-01 12:00:00+00 2026-07-01", "field.crews": "2026-07-02 02:00:00+14 2026-07-02"} {
		got := texts(t, conn, fmt.Sprintf("SELECT %s, %[1]s::date FROM "+table+" LIMIT 1", value))
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %v, not %s", table, got, want)
		}
	}
	if got := texts(t, conn, "SELECT "+value); got[0] != "2026-07-02 02:00:00+14" {
		t.Errorf("of no table: %v", got)
	}

	// At any time it is another day than in UTC in one of the two zones.
	const governed = "SELECT " + value + ", CURRENT_DATE = timezone('UTC', now())::date, LOCALTIMESTAMP = timezone('UTC', now()) FROM drilling.boreholes LIMIT 1"
	const free = "SELECT " + value + ", CURRENT_DATE = timezone('UTC', now())::date FROM field.crews LIMIT 1"
	for _, zone := range []string{"Etc/GMT-14", "Etc/GMT+12"} {
		do := func(text string) {
			t.Helper()
			if _, err := conn.Exec(ctx, text); err != nil {
				t.Fatalf("%s: %v", text, err)
			}
		}
		inUTC := func(when, text string) {
			t.Helper()
			if got := strings.Join(texts(t, conn, text), " "); got != "2026-07-01 12:00:00+00 t t" {
				t.Errorf("%s, in %s: %s", when, zone, got)
			}
		}
		own := func(when string) {
			t.Helper()
			if got := texts(t, conn, free); strings.HasSuffix(got[0], "+00") {
				t.Errorf("%s, in %s: of what has no policy %v", when, zone, got)
			}
		}
		do("SET TimeZone = '" + zone + "'")
		inUTC("alone", governed)
		for _, end := range []string{"ROLLBACK", "COMMIT"} {
			do("BEGIN ISOLATION LEVEL REPEATABLE READ")
			own("in a transaction")
			do("SAVEPOINT a")
			inUTC("in a transaction", governed)
			do("ROLLBACK TO a")
			inUTC("after going back", governed)
			do("DECLARE c CURSOR FOR " + governed)
			own("beside a cursor")
			inUTC("of a cursor", "FETCH 1 FROM c")
			do(end)
			inUTC("after "+end, governed)
			own("after " + end)
		}
	}
}
