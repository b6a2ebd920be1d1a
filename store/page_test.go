package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"
)

// addTogether writes records as those that come at the same time are.
func addTogether(t testing.TB, s *Store, records ...*Record) {
	t.Helper()
	must(t, s.Audit().put(entry{more: records, result: make(chan error, 1)}))
}

// keptAs counts the records that are rows, and the pages.
func keptAs(t testing.TB, s *Store) (rows, pages int) {
	t.Helper()
	must(t, s.Audit().db.Get(&rows, `SELECT count(*) FROM record`))
	must(t, s.Audit().db.Get(&pages, `SELECT count(*) FROM page`))
	return rows, pages
}

// back returns the record's file to an earlier version.
func back(t testing.TB, dir string, version int64) {
	t.Helper()
	db, err := sqlx.Open("sqlite3", filepath.Join(dir, "audit.db"))
	must(t, err)
	files, err := fs.Sub(migrations, "auditmigrations")
	must(t, err)
	p, err := goose.NewProvider(database.DialectSQLite3, db.DB, files)
	must(t, err)
	_, err = p.DownTo(ctx, version)
	must(t, errors.Join(err, db.Close()))
}

var oddTexts = []string{"", "plain", "æøå 💎", `"quoted" \\ back`, "<a>&b", "line\nbreak\ttab", "a\x00b", "\x7f\u2028", "it''s", "[0]", "null", strings.Repeat("long ", 3000)}

// manyRecords are records of every kind, in groups that come together.
func manyRecords(r *rand.Rand, groups int) (all [][]*Record) {

	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	for range groups {
		var group []*Record
		for range 1 + r.IntN(40) {
			x := &Record{At: time.Date(2026, 3, 2, 9, 0, 0, r.IntN(1e9), time.UTC).Format(millis), Actor: pick("user:flint", "user:marl"), Action: "query", Decision: "allowed",
				Text: pick("SELECT 1", "SELECT 2"), Objects: `["survey.drilling.boreholes.id"]`, Labels: "[]", Missing: "[]", Rows: r.Int64N(1 << 50), TookUS: r.Int64N(1e6), Client: "psql",
				Uses: r.Int64N(3)}
			switch r.IntN(12) {
			case 0:
				x.Text, x.Reason = pick(oddTexts...), pick(oddTexts...)
			case 1:
				x.Client, x.Address, x.Actor = pick(oddTexts...), pick(oddTexts...), pick(oddTexts...)
			case 2:
				x.Objects, x.Missing, x.Labels, x.Decision = `["a.\"b\".c"]`, `["SELECT on \\"]`, `["label:a","label:<b>"]`, "refused"
			case 3:
				x.Standpoint = pick("", x.Actor, x.Actor+" for <survey>", "user:onyx")
			case 4:
				x.At = pick(x.At, "2026-03-02T09:00:00Z")
			case 5:
				x.Open = r.IntN(3) == 0
			case 6:
				for range r.IntN(30) {
					x.Text += string(rune(r.IntN([]int{0x80, 0x800, 0x10000, 0x110000}[r.IntN(4)])))
				}
				if r.IntN(20) == 0 {
					x.Reason = strings.Repeat(x.Text+"x", 10_000)
				}
			}
			group = append(group, x)
		}
		all = append(all, group)
	}
	return all
}

// TestPages: whatever is written together is read as it was written, by every way to it: after a restart, a return to the
// version before, and an update from it.
func TestPages(t *testing.T) {
	dir := t.TempDir()
	s := opened(t, dir)
	var all []*Record
	for _, group := range manyRecords(rand.New(rand.NewPCG(3, 4)), 120) {
		addTogether(t, s, group...)
		all = append(all, group...)
	}
	compare := func(when string, paged bool) {
		t.Helper()
		if rows, pages := keptAs(t, s); paged && (rows < 300 || pages < 40 || rows+pages >= len(all)) || !paged && (rows != len(all) || pages != 0) {
			t.Fatalf("%s: %d records are rows, and there are %d pages", when, rows, pages)
		}
		found, err := s.Audit().Find(ctx, Search{Limit: len(all) + 1, Behind: -1})
		must(t, err)
		if len(found) != len(all) {
			t.Fatalf("%s: %d records are found, want %d", when, len(found), len(all))
		}
		last := int64(len(all))
		read, err := s.Audit().between(ctx, 1, last)
		if must(t, err); len(read) != len(all) {
			t.Fatalf("%s: %d records are read, want %d", when, len(read), len(all))
		}
		for i := range read {
			r := &read[i]
			if want := all[i]; !reflect.DeepEqual(r, want) {
				t.Fatalf("%s: record %d is read as %+v, want %+v", when, i, r, want)
			}
			if one := found[len(all)-1-i]; !reflect.DeepEqual(&one, all[i]) {
				t.Fatalf("%s: record %d is found as %+v, want %+v", when, i, one, all[i])
			}
			hash, err := s.Audit().HashOf(ctx, r.ID)
			if must(t, err); hash != r.Hash {
				t.Fatalf("%s: the hash of %d is %s", when, r.ID, hash)
			}
		}
		for _, odd := range append(oddTexts, "SELECT 2", "survey.drilling", `"a.\"b`, `\"`, "u0026", "uote", "\\", "ng lo", "<", "💎") {
			var want, got []int64
			for _, x := range all {
				if strings.Contains(x.Text, odd) || strings.Contains(x.Objects, odd) || strings.Contains(x.Reason, odd) {
					want = append(want, x.ID)
				}
			}
			found, err := s.Audit().Find(ctx, Search{Contains: odd, Limit: len(all), Behind: 1})
			must(t, err)
			for _, x := range found {
				got = append(got, x.ID)
			}
			if want = slices.DeleteFunc(want, func(id int64) bool { return id == 1 }); !slices.Equal(got, want) && !strings.Contains(odd, "\x00") {
				t.Fatalf("%s: %q is in %v, found in %v", when, odd, want, got)
			}
		}
		for _, label := range []string{"label:a", "label:<b>", "label:<"} {
			found, err := s.Audit().Find(ctx, Search{Label: label, Limit: len(all)})
			if must(t, err); (len(found) < 100) != (label == "label:<") {
				t.Fatalf("%s: %d records are of %s", when, len(found), label)
			}
		}
		for _, object := range []string{"a.\"b\"", "a.\"b\".c", "survey.drilling", "survey.drill"} {
			found, err := s.Audit().Find(ctx, Search{Object: object, Limit: len(all)})
			if must(t, err); (len(found) < 100) != (object == "survey.drill") {
				t.Fatalf("%s: %d records are of %s", when, len(found), object)
			}
		}
		n, head, err := s.VerifyRecord(ctx, 0)
		if err != nil || n != last || head != (Head{last, all[last-1].Hash}) {
			t.Fatalf("%s: %d records hold, up to %v: %v", when, n, head, err)
		}
	}
	compare("written", true)
	must(t, s.Close())
	s = opened(t, dir)
	compare("after a restart", true)
	must(t, s.Close())
	back(t, dir, 11)
	s = opened(t, dir)
	compare("after an update", false)
	must(t, s.Close())
}

// TestEachWayToAlterAPageIsNoticed also alters what is not in the chain of hashes, but tells where records are.
func TestEachWayToAlterAPageIsNoticed(t *testing.T) {
	for _, text := range []string{
		`UPDATE page SET said = jsonb(replace(json(said), 'SELECT 1', 'SELECT 2')) WHERE first = 1`,
		`UPDATE page SET said = jsonb(replace(json(said), 'user:flint', 'user:marl'))`,
		`UPDATE page SET said = jsonb('[]') WHERE first = 1`,
		`UPDATE page SET of = jsonb('[0,0,0,0,0,0,0,0,0,0]') WHERE first = 1`,
		`UPDATE page SET rows = jsonb_set(rows, '$[3]', 0) WHERE first = 1`,
		`UPDATE page SET took_us = jsonb_set(took_us, '$[9]', 0) WHERE first = 1`,
		`UPDATE page SET at = replace(at, '09:00', '10:00') WHERE first = 1`,
		`UPDATE page SET hashes = zeroblob(320) WHERE first = 1`,
		`UPDATE page SET previous = lower(hex(zeroblob(32))) WHERE first = 11`,
		`UPDATE page SET of = jsonb_remove(of, '$[9]') WHERE first = 1`,
		`UPDATE page SET last = last + 5000, first = first + 5000 WHERE first = 11`,
		`UPDATE page SET first = -10 WHERE first = 1`,
		`DELETE FROM page WHERE first = 1`,
		`DELETE FROM page WHERE first = 491`,
		`DELETE FROM page WHERE first = 1191`,
		`DELETE FROM page`,
		`INSERT INTO record (` + columns + `) SELECT ` + columns + ` FROM paged WHERE id = 15`,
		`DELETE FROM page_actor WHERE stretch = 0 AND actor = 'user:marl'`,
		`UPDATE page_actor SET actor = 'user:onyx' WHERE stretch = 0 AND actor = 'user:flint'`,
	} {
		t.Run(text, func(t *testing.T) {
			dir := t.TempDir()
			s := opened(t, dir)
			for i := range 120 {
				var group []*Record
				for j := range 10 {
					group = append(group, &Record{At: time.Date(2026, 3, 2, 9, i, 0, 0, time.UTC).Format(millis), Actor: []string{"user:flint", "user:marl"}[j%2], Action: "query",
						Decision: "allowed", Text: fmt.Sprintf("SELECT %d", 1+i%2), Objects: "[]", Labels: "[]", Missing: "[]", Rows: int64(1 + j), TookUS: int64(100 + j)})
				}
				addTogether(t, s, group...)
			}
			if _, pages := keptAs(t, s); pages != 120 {
				t.Fatalf("there are %d pages", pages)
			}
			must(t, s.Close())
			db, err := sqlx.Open("sqlite3", filepath.Join(dir, "audit.db"))
			must(t, err)
			_, err = db.Exec(text)
			must(t, errors.Join(err, db.Close()))
			if _, err := Open(dir, false); !errors.Is(err, ErrAltered) {
				t.Errorf("opened: %v", err)
			}
		})
	}
}

// TestFollowing: whoever asks again and again for what is behind the last record that they have misses none, while rows and
// pages are written.
func TestFollowing(t *testing.T) {
	s := opened(t, t.TempDir())
	t.Cleanup(func() { must(t, s.Close()) })
	const groups = 1500
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for i := range groups {
			var group []*Record
			for range []int{1, 6, 2, 30}[i%4] {
				group = append(group, &Record{At: "2026-03-02T09:00:00.000Z", Actor: "user:flint", Action: "query", Decision: "allowed"})
			}
			if i%3 == 0 {
				group[0].Actor, group[0].Standpoint = "user:opal", "user:flint"
			}
			addTogether(t, s, group...)
		}
	}()
	for _, actor := range []string{"", "user:flint"} {
		t.Run(actor, func(t *testing.T) {
			t.Parallel()
			last := int64(0)
			for is := true; is; {
				select {
				case <-ended:
					is = false
				default:
				}
				for {
					found, err := s.Audit().Find(ctx, Search{Actor: actor, Behind: max(last, 1), Limit: 25})
					must(t, err)
					for _, r := range found {
						if r.ID != max(last, 1)+1 {
							t.Fatalf("R-%d follows R-%d", r.ID, last)
						}
						last = r.ID
					}
					if len(found) < 25 {
						break
					}
				}
			}
			if want := int64(groups / 4 * 39); last != want {
				t.Errorf("the last is R-%d, want R-%d", last, want)
			}
		})
	}
}

// TestWhatFailsIsNotKnown: who was in a page that was not written is noted with the next one.
func TestWhatFailsIsNotKnown(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	group := func() (out []*Record) {
		for range 10 {
			out = append(out, &Record{At: "2026-03-02T09:00:00.000Z", Actor: "user:flint", Action: "query", Decision: "allowed"})
		}
		return out
	}
	addTogether(t, s, group()...)
	failed, marls := errors.New("not this time"), group()
	for _, r := range marls {
		r.Actor = "user:marl"
	}
	err := s.Audit().insert([]entry{{more: marls},
		{alone: func(context.Context, *sqlx.Tx) error { return failed }}})
	if !errors.Is(err, failed) {
		t.Fatal(err)
	}
	for _, actor := range []string{"user:marl", "user:flint"} {
		for _, r := range []int{10, 90, 400} {
			var records []*Record
			for len(records) < r {
				records = append(records, group()...)
			}
			for _, r := range records {
				r.Actor = actor
			}
			addTogether(t, s, records...)
		}
	}
	if _, _, err := s.VerifyRecord(ctx, 0); err != nil {
		t.Error(err)
	}
	for actor, want := range map[string]int{"user:marl": 500, "user:flint": 510} {
		found, err := s.Audit().Find(ctx, Search{Actor: actor, Limit: 1000})
		if err != nil || len(found) != want {
			t.Errorf("%d records of %s are found, %v; want %d", len(found), actor, err, want)
		}
	}
}
