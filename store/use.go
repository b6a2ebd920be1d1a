package store

import (
	"context"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
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

// Uses lists what was needed from one day to another, both included: by the subject of a number; zero: by all.
func (a *Audit) Uses(ctx context.Context, from, until string, subject uint32) ([]Used, error) {
	var out []Used
	if subject != 0 {
		err := a.db.SelectContext(ctx, &out, `SELECT s.needs, sum(d.n) AS n, max(d.day) AS last FROM use_set s JOIN use_day d ON d.use_set = s.id
			WHERE json_extract(s.needs, '$.s') = ? AND d.day >= ? AND d.day <= ? GROUP BY s.id`, subject, from, until)
		return out, err
	}
	times, args := timesOf(from, until)
	if times == "" {
		return nil, nil
	}
	err := a.db.SelectContext(ctx, &out, times+`
		SELECT s.needs, c.n, min(s.last, ?) AS last FROM (SELECT use_set, sum(n) AS n FROM (
				SELECT use_set, sign * n AS n FROM times JOIN use_month ON month = span UNION ALL
				SELECT use_set, sign * n AS n FROM times JOIN use_day ON day = span
			) GROUP BY 1 HAVING sum(n) > 0) c JOIN use_set s ON s.id = c.use_set`, append(args, until)...)
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

// DropUse takes away how often was needed what was not needed since the month of a day, and in which months
// before it the rest was, so that what is kept of use is bounded by time. It counts first.
func (a *Audit) DropUse(ctx context.Context, since string) error {
	month := since[:len("2006-01")]
	since = month + "-01"
	if err := a.Count(ctx); err != nil {
		return err
	}
	for text, before := range map[string]string{
		`DELETE FROM use_day WHERE (day, use_set) IN (SELECT day, use_set FROM use_day WHERE day < ? LIMIT ?)`:           since,
		`DELETE FROM use_month WHERE (month, use_set) IN (SELECT month, use_set FROM use_month WHERE month < ? LIMIT ?)`: month,
	} {
		some := portion{least: 20, most: mostDropped}
		for n := int64(1); n > 0; {
			a.turn.take()
			began := time.Now()
			done, err := a.db.ExecContext(ctx, text, before, some.size())
			some.fit(began, &a.turn)
			a.turn.Unlock()
			if err != nil {
				return err
			}
			if n, err = done.RowsAffected(); err != nil {
				return err
			}
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
			done, err := tx.ExecContext(ctx, `DELETE FROM use_set WHERE id IN (SELECT id FROM use_set WHERE last < ?1 AND last <> ''
				AND NOT EXISTS (SELECT 1 FROM use_day d WHERE d.use_set = use_set.id)
				AND NOT EXISTS (SELECT 1 FROM use_month m WHERE m.use_set = use_set.id)
				AND id NOT IN (SELECT uses FROM entry WHERE
					page > (SELECT record FROM counted) - ?2 AND id > (SELECT record FROM counted)) LIMIT ?3)`, since, mostPage, mostDropped)
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
