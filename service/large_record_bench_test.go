package service_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/review"
	"gneiss/wire"
)

// BenchmarkLargeRecord is what the record costs when it has many lines, GNEISS_RECORDS or a million: a
// year of 10,000 people, who read what has labels and what does not, from two addresses each. They are rows, as if
// all had come by themselves, or pages of twenty, each of somebody else.
func BenchmarkLargeRecord(b *testing.B) {
	b.Run("rows", func(b *testing.B) { benchmarkLargeRecord(b, false) })
	b.Run("pages", func(b *testing.B) { benchmarkLargeRecord(b, true) })
}

// intoPages makes rows into pages.
var intoPages = []string{
	`INSERT INTO page (first, last, previous, said, of, rows, took_us, at, hashes)
		SELECT min(id), max(id), min(previous),
			jsonb_group_array(jsonb_array(actor, standing, action, decision, text, objects, labels, missing, reason, address, client, uses)),
			jsonb_group_array((id - 1) % 20), jsonb_group_array(rows), jsonb_group_array(took_us), group_concat(at, ''), unhex(group_concat(hash, ''))
		FROM record WHERE standing = '' GROUP BY (id - 1) / 20`,
	`INSERT INTO page_actor SELECT DISTINCT (id - 1) / 1000, actor FROM record WHERE standing = ''`,
	`DELETE FROM record WHERE standing = ''`,
	`VACUUM`,
}

func benchmarkLargeRecord(b *testing.B, pages bool) {
	lines := 1_000_000
	if text := os.Getenv("GNEISS_RECORDS"); text != "" {
		var err error
		if lines, err = strconv.Atoi(text); err != nil {
			b.Fatal(err)
		}
	}
	dir := demotest.Folder(b)
	db, err := sql.Open("sqlite3", filepath.Join(dir, "audit.db")+"?_journal_mode=OFF&_synchronous=OFF&_cache_size=-500000")
	if err != nil {
		b.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	indexes := indexesOf(b, db, "record")
	for name := range indexes { // which are made at the end, by sorting, in a tenth of the time
		if _, err := db.Exec("DROP INDEX " + name); err != nil {
			b.Fatal(err)
		}
	}
	began, loading := time.Now().UTC().AddDate(-1, 0, 0), time.Now()
	for _, text := range []string{"DELETE FROM record", "DELETE FROM page", "DELETE FROM page_actor", "DELETE FROM stretch", "DELETE FROM label_day", "DELETE FROM action_day", "DELETE FROM label_total", "DELETE FROM label_count", "DELETE FROM use_set",
		"DELETE FROM unusual", "DELETE FROM unusual_due", "DELETE FROM use_day", "DELETE FROM use_month", "UPDATE counted SET record = 0",
		fmt.Sprintf(`WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %[1]d)
			INSERT INTO record (id, at, actor, standing, action, decision, text, objects, labels, missing, reason, rows, took_us, address, previous, hash, client)
			SELECT i, strftime('%%Y-%%m-%%dT%%H:%%M:%%fZ', %[2]d + i * (365.0 * 86400 / %[1]d), 'unixepoch'), 'user:u' || (i * 2654435761 %% 10000),
				CASE WHEN i %% 1000 = 0 THEN 'user:flint' ELSE '' END, 'query', CASE WHEN i %% 50 = 0 THEN 'refused' ELSE 'allowed' END,
				'SELECT id, name, depth_m, status FROM survey.drilling.boreholes WHERE status = ''drilling'' ORDER BY name',
				'["survey.drilling.boreholes.id","survey.drilling.boreholes.name","survey.drilling.boreholes.depth_m"]',
				CASE i %% 4 WHEN 0 THEN '["label:position"]' WHEN 1 THEN '["label:finance","label:personal"]' ELSE '[]' END, '[]', '', i %% 90, 900,
				'10.' || (i * 2654435761 %% 10000 / 250) || '.' || (i * 2654435761 %% 250) || '.' || (i %% 2), printf('%%064x', i - 1), printf('%%064x', i), 'psql' FROM n`,
			lines, began.Unix())} {
		if _, err := db.Exec(text); err != nil {
			b.Fatal(err)
		}
	}
	if pages {
		for _, text := range intoPages {
			if _, err := db.Exec(text); err != nil {
				b.Fatal(err)
			}
		}
	}
	for _, text := range indexes {
		if _, err := db.Exec(text); err != nil {
			b.Fatal(err)
		}
	}
	var size int64
	if err := db.QueryRow("SELECT page_count * page_size FROM pragma_page_count, pragma_page_size").Scan(&size); err != nil {
		b.Fatal(err)
	}
	b.Logf("%d lines in %d MB, written in %v", lines, size/1_000_000, time.Since(loading))
	if err := db.Close(); err != nil {
		b.Fatal(err)
	}
	svc, err := service.Open(context.Background(), dir, quiet, service.Options{AcceptLoss: true})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { svc.Close(context.Background()) })
	opal := caller(b, svc, "opal")
	counts := func(b *testing.B, from, label, actor string) {
		b.Helper()
		if _, err := svc.Review.RecordCounts(ctx, opal, from, "", label, actor); err != nil {
			b.Fatal(err)
		}
	}
	year, month := began.AddDate(0, 0, 3).Format(time.DateOnly), began.AddDate(0, 5, 0)
	started := time.Now()
	counts(b, year, "", "")
	b.Logf("%d lines, counted in %v", lines, time.Since(started))
	b.Run("sensitive-access-of-a-year", func(b *testing.B) {
		for b.Loop() {
			counts(b, year, "", "")
		}
	})
	b.Run("of-a-label", func(b *testing.B) {
		for b.Loop() {
			counts(b, year, "label:finance", "")
		}
	})
	b.Run("of-some-weeks", func(b *testing.B) {
		for b.Loop() {
			counts(b, "", "", "")
		}
	})
	for name, q := range map[string]review.RecordSearch{
		"newest":           {},
		"person":           {Actor: "user:flint"},
		"person-and-month": {Actor: "user:flint", From: month.Format(time.DateOnly), Until: month.AddDate(0, 1, 0).Format(time.DateOnly)},
		"text-not-there":   {Contains: "nobody asked for this"},
		"object-and-day":   {Object: "survey.licensing", From: month.Format(time.DateOnly), Until: month.Format(time.DateOnly)},
	} {
		b.Run("search-"+name, func(b *testing.B) {
			for b.Loop() {
				if _, err := svc.Review.Records(ctx, opal, q); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
	b.Run("line", func(b *testing.B) {
		for b.Loop() {
			if _, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "SELECT 1"}); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// indexesOf are the statements that make the indexes of a table, by name.
func indexesOf(b *testing.B, db *sql.DB, table string) map[string]string {
	b.Helper()
	rows, err := db.Query("SELECT name, sql FROM sqlite_schema WHERE type = 'index' AND tbl_name = ? AND sql IS NOT NULL", table)
	if err != nil {
		b.Fatal(err)
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var name, text string
		if err := rows.Scan(&name, &text); err != nil {
			b.Fatal(err)
		}
		out[name] = text
	}
	if err := rows.Err(); err != nil {
		b.Fatal(err)
	}
	return out
}
