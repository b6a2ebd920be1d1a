package sqlport_test

import (
	"context"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/sqlport"
	"gneiss/wire"
)

// TestNobodyStopsOthers: whatever transactions one account keeps, others read and write the same
// source.
func TestNobodyStopsOthers(t *testing.T) {
	p, _ := noted(t, "")
	opal, err := p.svc.Admin.ActAs("user:opal")
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range []wire.GrantRequest{
		{Privileges: []string{"writer"}, Objects: []string{"survey_pg.noted", "survey.field.visits"}, Subjects: []string{"user:slate", "user:flint"}, WithEntry: true},
		{Privileges: []string{"reader"}, Objects: []string{"survey_pg.noted", "survey.field.visits"}, Subjects: []string{"user:garnet"}, WithEntry: true},
	} {
		if _, err := p.svc.Admin.Grant(ctx, opal, g, false); err != nil {
			t.Fatal(err)
		}
	}
	quick := func(t *testing.T, user, database, text string, most time.Duration) {
		t.Helper()
		conn := p.connect(t, user, database)
		defer conn.Close(ctx)
		began := time.Now()
		within, done := context.WithTimeout(ctx, 40*time.Second)
		defer done()
		if _, err := conn.Exec(within, text); err != nil {
			t.Errorf("%s: %v", text, err)
		}
		if took := time.Since(began); took > most {
			t.Errorf("%s takes %v", text, took)
		}
	}
	const visit = "UPDATE field.visits SET note = note WHERE id = (SELECT min(id) FROM field.visits)"
	t.Run("a reader's snapshot on SQLite", func(t *testing.T) {
		conn := p.connect(t, "garnet", "survey")
		says(conn, "BEGIN ISOLATION LEVEL REPEATABLE READ")
		if got := says(conn, "SELECT count(*) FROM field.visits"); !strings.Contains(got, "SELECT 1") {
			t.Fatal(got)
		}
		quick(t, "flint", "survey", visit, 12*time.Second)
	})
	t.Run("a writer's idle transaction on SQLite", func(t *testing.T) {
		for range 3 {
			conn := p.connect(t, "slate", "survey")
			says(conn, "BEGIN")
			go says(conn, "UPDATE field.visits SET note = note WHERE id = (SELECT max(id) FROM field.visits)")
		}
		time.Sleep(500 * time.Millisecond)
		quick(t, "flint", "survey", visit, 12*time.Second)
	})
	for what, begin := range map[string][]string{
		"readers' snapshots": {"BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", "SELECT count(*) FROM noted.note"},
		"writers":            {"BEGIN", "INSERT INTO noted.note VALUES (%d, 'x')"},
	} {
		t.Run(what, func(t *testing.T) {
			kept := 0
			for i := range 80 {
				conn := p.connect(t, "slate", "survey_pg")
				for _, text := range begin {
					if strings.Contains(text, "%d") {
						text = fmt.Sprintf(text, 1000+i)
					}
					got := says(conn, text)
					if strings.Contains(got, "SELECT 1") || strings.Contains(got, "INSERT 0 1") {
						kept++
					} else if strings.Contains(got, "error") && !strings.Contains(got, "53300") {
						t.Fatal(got)
					}
				}
			}
			if kept < 4 || kept > 40 {
				t.Errorf("one account keeps %d transactions", kept)
			}
			quick(t, "flint", "survey_pg", "SELECT count(*) FROM noted.note", 3*time.Second)
			quick(t, "flint", "survey_pg", "INSERT INTO noted.note VALUES (1, 'x'); DELETE FROM noted.note WHERE id = 1", 3*time.Second)
		})
	}
	for database, rows := range map[string]string{"survey": "SELECT a.id FROM field.visits a, field.visits b", "survey_pg": "SELECT n FROM generate_series(1, 1000000) AS n, noted.note"} {
		t.Run("cursors of "+database, func(t *testing.T) { // more of them than the lane has places
			table := map[string]string{"survey": "field.visits", "survey_pg": "noted.note"}[database]
			quick(t, "slate", "survey_pg", "INSERT INTO noted.note VALUES (77, 'x') ON CONFLICT DO NOTHING", 3*time.Second)
			var conn *pgx.Conn
			for _, user := range []string{"garnet", "slate"} {
				conn = p.connect(t, user, database)
				says(conn, "BEGIN")
				open, got := 0, ""
				for i := 0; i < 8; i++ {
					says(conn, "SAVEPOINT a")
					if got = says(conn, fmt.Sprintf("DECLARE c%d CURSOR FOR %s", i, rows)); strings.Contains(got, "error") {
						says(conn, "ROLLBACK TO a")
						break
					}
					open++
				}
				t.Log(user, open, got)
				if open < 3 || strings.Contains(got, "error") && !strings.Contains(got, "53300") {
					t.Errorf("%s has %d cursors open, then %s", user, open, got)
				}
			}
			quick(t, "flint", database, "SELECT count(*) FROM "+table, 2*time.Second)
			quick(t, "slate", database, "SELECT count(*) FROM "+table, 2*time.Second)
			if got := says(conn, "FETCH 2 FROM c0"); !strings.Contains(got, "FETCH 2") {
				t.Errorf("a cursor that rested says %s", got)
			}
			if database == "survey" { // where readers are in a writer's way
				quick(t, "flint", database, visit, 12*time.Second)
			}
		})
	}
	t.Run("questions about the catalog", func(t *testing.T) {
		for range 8 {
			conn, err := pgx.Connect(ctx, p.to("slate", "survey")+"?sslmode=disable")
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { conn.PgConn().Conn().Close() })
			front := conn.PgConn().Frontend()
			front.Send(&pgproto3.Query{String: "SELECT a.*, b.* FROM pg_type a, pg_type b"}) // and does not read
			if err := front.Flush(); err != nil {
				t.Fatal(err)
			}
		}
		time.Sleep(time.Second)
		quick(t, "flint", "survey", "SELECT count(*) FROM pg_catalog.pg_type", 10*time.Second)
	})
}

// TestStrangersShutNoDoor: connections that say nothing keep nobody from signing in, or from
// cancelling what they run, and one address has its share of the door.
func TestStrangersShutNoDoor(t *testing.T) {
	p := opened(t, false, sqlport.Limits{})
	running := p.connect(t, "flint", "survey")
	opened, closed := 0, 0
	for range 600 {
		conn, err := net.Dial("tcp", p.address)
		if err != nil {
			t.Fatal(err)
		}
		opened++
		t.Cleanup(func() { conn.Close() })
		if opened > 400 { // which the port closes at once
			conn.SetReadDeadline(time.Now().Add(2 * time.Second))
			if _, err := conn.Read(make([]byte, 1)); err != nil && !strings.Contains(err.Error(), "timeout") {
				closed++
			}
		}
	}
	if closed < 150 {
		t.Errorf("%d of %d connections were closed", closed, opened)
	}
	time.Sleep(11 * time.Second) // until those that say nothing are closed
	if _, err := running.Exec(ctx, "SELECT 1"); err != nil {
		t.Error(err)
	}
	conn := p.connect(t, "flint", "survey")
	if _, err := conn.Exec(ctx, "SELECT 1"); err != nil {
		t.Error(err)
	}
}
