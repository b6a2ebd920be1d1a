package store

import (
	"context"
	"fmt"
	"sync/atomic"

	"github.com/jmoiron/sqlx"
)

// A UseSet is what of somebody's rights statements needed, as their records name it. One is good for
// many records.
type UseSet struct {
	Needs string // a JSON object
	id    atomic.Int64
}

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

// counts is what is counted of records: those that are no end, once, and the rows of each where they
// are known, which of an open one is at its end.
var counts = []string{
	`INSERT INTO use_day (day, use_set, n)
		SELECT substr(at, 1, 10), uses, count(*) FROM record WHERE id > ? AND id <= ? AND uses > 0 AND ends = 0 AND decision = 'allowed'
		GROUP BY 1, 2
		ON CONFLICT DO UPDATE SET n = n + excluded.n`,
	`INSERT INTO label_day (day, label, actor, standing, address, decision, n, rows)
		SELECT substr(o.at, 1, 10), l.value, o.actor, o.standing, o.address, o.decision, sum(r.ends = 0), sum(r.rows)
		FROM record r JOIN record o ON o.id = CASE WHEN r.ends > 0 THEN r.ends ELSE r.id END, json_each(o.labels) l
		WHERE r.id > ? AND r.id <= ? AND o.action IN ('query', 'write', 'preview') GROUP BY 1, 2, 3, 4, 5, 6
		ON CONFLICT DO UPDATE SET n = n + excluded.n, rows = rows + excluded.rows`,
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

// A LabelDay is what was read of a label on a day, by somebody.
type LabelDay struct {
	Day, Label, Actor string
	Standpoint        string `db:"standing"`
	Address, Decision string
	N, Rows           int64
}

// LabelDays lists what was read of labels between two days, both included.
func (a *Audit) LabelDays(ctx context.Context, from, until string) ([]LabelDay, error) {
	var out []LabelDay
	err := a.db.SelectContext(ctx, &out, `SELECT * FROM label_day WHERE day >= ? AND day <= ? ORDER BY day`, from, until)
	return out, err
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
