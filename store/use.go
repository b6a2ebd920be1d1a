package store

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"golang.org/x/sync/errgroup"
)

// A UseSet is what of somebody's rights statements needed, as their records name it. One is good for
// many records.
type UseSet struct {
	Needs string // a JSON object
	kept  atomic.Pointer[keptSet]
}

// A keptSet is the number of a use set, until sets are dropped.
type keptSet struct{ id, drops int64 }

// setOf is the number of a use set, which it is given where it has none. It holds once the transaction
// is committed.
func setOf(ctx context.Context, tx *sqlx.Tx, needs string) (id int64, err error) {
	if err = tx.GetContext(ctx, &id, `SELECT coalesce((SELECT id FROM use_set WHERE needs = ?), 0)`, needs); err != nil || id > 0 {
		return id, err
	}
	done, err := tx.ExecContext(ctx, `INSERT INTO use_set (needs) VALUES (?)`, needs)
	if err != nil {
		return 0, err
	}
	return done.LastInsertId()
}

// mostCounted is how many records are counted in one transaction, so that the record's writer does not
// wait for long.
const mostCounted = 20_000

// Count counts the records that were written since it was last called: what they needed and what they
// read, by day. A record is counted once, whatever happens meanwhile.
func (a *Audit) Count(ctx context.Context) error {
	a.counting.Lock()
	defer a.counting.Unlock()
	for {
		more, err := a.countSome(ctx)
		if err != nil || !more {
			return err
		}
	}
}

// labelled is what some records read of labels, each by its own day, also where it ends on another: n
// is 1 where the record is no end.
const labelled = `(SELECT o.at, l.value AS label, o.actor, o.standing, o.address, o.decision, r.ends = 0 AS n, r.rows
	FROM record r JOIN record o ON o.id = CASE WHEN r.ends > 0 THEN r.ends ELSE r.id END, json_each(o.labels) l
	WHERE r.id > ? AND r.id <= ? AND o.action IN ('query', 'write', 'preview'))`

// counts is what is counted of records: those that are no end, once, and the rows of each where they
// are known, which of an open one is at its end.
var counts = []string{
	`INSERT INTO use_day (day, use_set, n)
		SELECT substr(at, 1, 10), uses, count(*) FROM record WHERE id > ? AND id <= ? AND uses > 0 AND ends = 0 AND decision = 'allowed'
		GROUP BY 1, 2
		ON CONFLICT DO UPDATE SET n = n + excluded.n`,
	`UPDATE use_set SET last = max(use_set.last, c.day), seen = c.seen FROM (SELECT uses, max(substr(at, 1, 10)) AS day, max(id) AS seen FROM record
			WHERE id > ? AND id <= ? AND uses > 0 AND ends = 0 AND decision = 'allowed' GROUP BY 1) c
		WHERE use_set.id = c.uses`,
	`INSERT INTO label_day (day, label, actor, standing, address, decision, n, rows)
		SELECT substr(at, 1, 10), label, actor, standing, address, decision, sum(n), sum(rows) FROM ` + labelled + ` WHERE true GROUP BY 1, 2, 3, 4, 5, 6
		ON CONFLICT DO UPDATE SET n = n + excluded.n, rows = rows + excluded.rows`,
	`INSERT INTO label_total (day, label, n, rows)
		SELECT substr(at, 1, 10), label, sum(n), sum(rows) FROM ` + labelled + ` WHERE decision <> 'refused' GROUP BY 1, 2
		ON CONFLICT DO UPDATE SET n = n + excluded.n, rows = rows + excluded.rows`,
	`INSERT INTO label_month (month, label, actor, standing, address, n, rows)
		SELECT substr(at, 1, 7), label, actor, standing, address, sum(n), sum(rows) FROM ` + labelled + ` WHERE decision <> 'refused' GROUP BY 1, 2, 3, 4, 5
		ON CONFLICT DO UPDATE SET n = n + excluded.n, rows = rows + excluded.rows`,
	`INSERT INTO unusual_due (actor, day) SELECT actor, substr(min(at), 1, 10) FROM ` + labelled + ` WHERE decision <> 'refused' GROUP BY 1
		ON CONFLICT DO UPDATE SET day = min(day, excluded.day)`,
	`INSERT INTO action_day (day, action, decision, n, rows)
		SELECT substr(at, 1, 10), action, decision, sum(ends = 0), sum(rows) FROM record WHERE id > ? AND id <= ? GROUP BY 1, 2, 3
		ON CONFLICT DO UPDATE SET n = n + excluded.n, rows = rows + excluded.rows`,
}

func (a *Audit) countSome(ctx context.Context) (more bool, err error) {
	tx, err := a.db.BeginTxx(ctx, nil)
	if err != nil {
		return false, err
	}
	defer tx.Rollback()
	var from, last int64
	if err := tx.GetContext(ctx, &from, `SELECT record FROM counted`); err != nil {
		return false, err
	}
	if err := tx.GetContext(ctx, &last, `SELECT coalesce(max(id), 0) FROM record`); err != nil || last <= from {
		return false, err
	}
	until := min(last, from+mostCounted)
	for _, text := range counts {
		if _, err := tx.ExecContext(ctx, text, from, until); err != nil {
			return false, fmt.Errorf("counting the record: %w", err)
		}
	}
	if _, err := tx.ExecContext(ctx, `UPDATE counted SET record = ?`, until); err != nil {
		return false, err
	}
	return until < last, tx.Commit()
}

// CountedSince is when use began to be counted: RFC 3339, UTC.
func (a *Audit) CountedSince(ctx context.Context) (since string, err error) {
	err = a.db.GetContext(ctx, &since, `SELECT since FROM counted`)
	return since, err
}

// A Used is how often a use set was needed, since a day.
type Used struct {
	Needs string
	N     int64
	Last  string // the last day: YYYY-MM-DD
}

// Uses lists what was needed since a day.
func (a *Audit) Uses(ctx context.Context, since string) ([]Used, error) {
	var out []Used
	err := a.db.SelectContext(ctx, &out, `SELECT s.needs, sum(d.n) AS n, max(d.day) AS last FROM use_day d JOIN use_set s ON s.id = d.use_set
		WHERE d.day >= ? GROUP BY d.use_set`, since)
	return out, err
}

// A Needed is a use set, and the last day on which it was needed: YYYY-MM-DD.
type Needed struct{ Needs, Last string }

// NeededBehind lists the sets that were needed since a day and were counted behind a record, and says up to
// which record all are counted: to ask behind that again is to ask for what is new, and maybe for some of it
// twice. It counts first.
func (a *Audit) NeededBehind(ctx context.Context, since string, behind int64) (sets []Needed, counted int64, err error) {
	if err := a.Count(ctx); err != nil {
		return nil, 0, err
	}
	if err := a.db.GetContext(ctx, &counted, `SELECT record FROM counted`); err != nil || counted == behind {
		return nil, counted, err
	}
	err = a.db.SelectContext(ctx, &sets, `SELECT needs, last FROM use_set WHERE seen > ? AND last >= ?`, behind, since)
	return sets, counted, err
}

// mostDropped is how many use sets are dropped at once.
const mostDropped = 2_000

// DropUse takes away how often was needed what was not needed since a day, and on which days before it the
// rest was, so that what is kept of use is bounded by time. It counts first.
func (a *Audit) DropUse(ctx context.Context, since string) error {
	if err := a.Count(ctx); err != nil {
		return err
	}
	for more := true; more; { // a few at a time: the record's writer does not wait for long
		done, err := a.db.ExecContext(ctx, `DELETE FROM use_day WHERE (day, use_set) IN (SELECT day, use_set FROM use_day WHERE day < ? LIMIT ?)`,
			since, mostDropped)
		if err != nil {
			return err
		}
		n, err := done.RowsAffected()
		if more = n == mostDropped; err != nil {
			return err
		}
	}
	return a.dropSets(ctx, since)
}

// dropSets drops the sets that were not needed since a day, on no day that is counted, nor by a record
// that is yet to be.
func (a *Audit) dropSets(ctx context.Context, since string) error {
	for more := true; more; {
		// By the writer, who alone gives records their sets.
		err := a.put(entry{result: make(chan error, 1), alone: func(ctx context.Context, tx *sqlx.Tx) error {
			done, err := tx.ExecContext(ctx, `DELETE FROM use_set WHERE id IN (SELECT id FROM use_set WHERE last < ? AND last <> ''
				AND NOT EXISTS (SELECT 1 FROM use_day d WHERE d.use_set = use_set.id)
				AND id NOT IN (SELECT uses FROM record WHERE id > (SELECT record FROM counted)) LIMIT ?)`, since, mostDropped)
			if err != nil {
				return err
			}
			n, err := done.RowsAffected()
			more = n == mostDropped
			if n > 0 {
				a.drops++
			}
			return err
		}})
		if err != nil {
			return err
		}
	}
	return nil
}

// A LabelDay is what was read of a label on a day, by somebody.
type LabelDay struct {
	Day, Label, Actor string
	Standpoint        string `db:"standing"`
	Address, Decision string
	N, Rows           int64
}

// A CountSearch selects counts of what was read of labels, between two days, both included; empty names
// do not restrict. What was refused is not in them.
type CountSearch struct{ From, Until, Label, Actor string }

// LabelDays lists what was read of labels, by day and label.
func (a *Audit) LabelDays(ctx context.Context, s CountSearch) ([]LabelDay, error) {
	var out []LabelDay
	if s.Actor != "" {
		err := a.db.SelectContext(ctx, &out, `SELECT day, label, sum(n) AS n, sum(rows) AS rows FROM label_day
			WHERE actor = ? AND day >= ? AND day <= ? AND decision <> 'refused' AND (? = '' OR label = ?) GROUP BY day, label`,
			s.Actor, s.From, s.Until, s.Label, s.Label)
		return out, err
	}
	err := a.db.SelectContext(ctx, &out, `SELECT * FROM label_total WHERE day >= ? AND day <= ? AND (? = '' OR label = ?) ORDER BY day`,
		s.From, s.Until, s.Label, s.Label)
	return out, err
}

// Readers lists what was read of labels, by who read it, as whom, and from where: once in the months
// that lie whole between the two days, and once in the days around them.
func (a *Audit) Readers(ctx context.Context, s CountSearch) ([]LabelDay, error) {
	var out []LabelDay
	if s.Actor != "" {
		err := a.db.SelectContext(ctx, &out, `SELECT actor, standing, address, sum(n) AS n, sum(rows) AS rows FROM label_day
			WHERE actor = ? AND day >= ? AND day <= ? AND decision <> 'refused' AND (? = '' OR label = ?) GROUP BY actor, standing, address`,
			s.Actor, s.From, s.Until, s.Label, s.Label)
		return out, err
	}
	first, last := wholeMonths(s.From, s.Until)
	days := `SELECT actor, standing, address, n, rows FROM label_day WHERE day >= ? AND day <= ? AND decision <> 'refused' AND (? = '' OR label = ?)`
	if first > last {
		err := a.db.SelectContext(ctx, &out, `SELECT actor, standing, address, sum(n) AS n, sum(rows) AS rows FROM (`+days+`) GROUP BY 1, 2, 3`,
			s.From, s.Until, s.Label, s.Label)
		return out, err
	}
	var around []LabelDay
	both, ctx := errgroup.WithContext(ctx)
	both.Go(func() error {
		return a.db.SelectContext(ctx, &out, `SELECT actor, standing, address, sum(n) AS n, sum(rows) AS rows FROM label_month
			WHERE month >= ? AND month <= ? AND (? = '' OR label = ?) GROUP BY 1, 2, 3`, first, last, s.Label, s.Label)
	})
	both.Go(func() error {
		return a.db.SelectContext(ctx, &around, `SELECT actor, standing, address, sum(n) AS n, sum(rows) AS rows FROM (
			`+days+` AND day < ? UNION ALL `+days+` AND day > ?) GROUP BY 1, 2, 3`,
			s.From, s.Until, s.Label, s.Label, first,
			s.From, s.Until, s.Label, s.Label, last+"-99")
	})
	err := both.Wait()
	return append(out, around...), err
}

// wholeMonths is the first and the last month that lie whole between two days; the first is after the
// last where none does.
func wholeMonths(from, until string) (first, last string) {
	start, err := time.Parse(time.DateOnly, from)
	end, err2 := time.Parse(time.DateOnly, until)
	if err != nil || err2 != nil {
		return "9", ""
	}
	if start.Day() > 1 {
		start = start.AddDate(0, 1, 1-start.Day())
	}
	if next := end.AddDate(0, 0, 1); next.Month() == end.Month() {
		end = end.AddDate(0, 0, -end.Day())
	}
	return start.Format("2006-01"), end.Format("2006-01")
}

// An Unusual is what stands out in what somebody read of a label on a day.
type Unusual struct {
	Day, Kind, Actor, Label, Address string
	N, Rows                          int64
	Usual                            int64 // rows on such a day
}

// Unusual lists what stands out, newest first, at most limit.
func (a *Audit) Unusual(ctx context.Context, s CountSearch, limit int) ([]Unusual, error) {
	var out []Unusual
	err := a.db.SelectContext(ctx, &out, `SELECT * FROM unusual WHERE day >= ? AND day <= ? AND (? = '' OR label = ?) AND (? = '' OR actor = ?)
		ORDER BY day DESC, kind, actor, label LIMIT ?`, s.From, s.Until, s.Label, s.Label, s.Actor, s.Actor, limit)
	return out, err
}

// memory is how many days before a day tell what is usual on it.
const memory = 400

// mostLooked is how many people are looked at in one transaction.
const mostLooked = 100

// Look has judge say what stands out from a day on in what each person read whose counts changed: days are
// theirs, also from before it, and oldest is when labels began to be counted. It counts first.
func (a *Audit) Look(ctx context.Context, judge func(days []LabelDay, from, oldest string) []Unusual) error {
	if err := a.Count(ctx); err != nil {
		return err
	}
	a.counting.Lock()
	defer a.counting.Unlock()
	for {
		n, err := a.lookAtSome(ctx, judge)
		if err != nil || n < mostLooked {
			return err
		}
	}
}

func (a *Audit) lookAtSome(ctx context.Context, judge func(days []LabelDay, from, oldest string) []Unusual) (n int, err error) {
	tx, err := a.db.BeginTxx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	var people []struct{ Actor, Day string }
	if err := tx.SelectContext(ctx, &people, `SELECT actor, day FROM unusual_due LIMIT ?`, mostLooked); err != nil || len(people) == 0 {
		return 0, err
	}
	var oldest string
	if err := tx.GetContext(ctx, &oldest, `SELECT coalesce(min(day), '') FROM label_day`); err != nil {
		return 0, err
	}
	for _, p := range people {
		var days []LabelDay
		if err := tx.SelectContext(ctx, &days, `SELECT * FROM label_day WHERE actor = ? AND day >= date(?, ?) AND decision <> 'refused' ORDER BY day, label`,
			p.Actor, p.Day, fmt.Sprintf("-%d days", memory)); err != nil {
			return 0, err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM unusual WHERE actor = ? AND day >= ?`, p.Actor, p.Day); err != nil {
			return 0, err
		}
		for _, u := range judge(days, p.Day, oldest) {
			if _, err := tx.NamedExecContext(ctx, `INSERT OR REPLACE INTO unusual (day, kind, actor, label, address, n, rows, usual)
				VALUES (:day, :kind, :actor, :label, :address, :n, :rows, :usual)`, u); err != nil {
				return 0, err
			}
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM unusual_due WHERE actor = ?`, p.Actor); err != nil {
			return 0, err
		}
	}
	return len(people), tx.Commit()
}

// An ActionDay is how much was recorded on a day.
type ActionDay struct {
	Day, Action, Decision string
	N, Rows               int64
}

// ActionDays lists how much was recorded between two days, both included.
func (a *Audit) ActionDays(ctx context.Context, from, until string) ([]ActionDay, error) {
	var out []ActionDay
	err := a.db.SelectContext(ctx, &out, `SELECT * FROM action_day WHERE day >= ? AND day <= ? ORDER BY day`, from, until)
	return out, err
}

// Load writes records of an earlier time behind those that there are, and says since when use
// is counted.
func (a *Audit) Load(ctx context.Context, records []*Record, since string) error {
	const most = 1000 // that go through the writer at once, in their order
	for len(records) > 0 {
		part := records[:min(len(records), most)]
		records = records[len(part):]
		e := entry{more: part, result: make(chan error, 1)}
		if err := a.put(e); err != nil {
			return err
		}
	}
	_, err := a.db.ExecContext(ctx, `UPDATE counted SET since = ?`, since)
	return err
}
