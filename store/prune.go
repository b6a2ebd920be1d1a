package store

import (
	"context"
	"database/sql"
	"errors"
	"math"
	"time"
)

// pruned is the last record that was taken away: what is left of the chain begins behind it.
func (a *Audit) pruned(ctx context.Context) (h Head, err error) {
	err = h.read(a.db.QueryRowContext(ctx, `SELECT id, hash FROM pruned`))
	return h, err
}

// Prune takes away the records from before a time (RFC 3339, UTC), but for the last of all. What they
// were counted for stays, and the chain of those that are left can be checked as before. It returns how
// many are gone.
func (a *Audit) Prune(ctx context.Context, before string) (n int64, err error) {
	if err := a.Count(ctx); err != nil {
		return 0, err
	}
	// Records are in the order in which they were written, so everything before the first that stays can go.
	stays, err := a.firstSince(ctx, before)
	if err != nil {
		return 0, err
	}
	if err := a.openPage(ctx, stays); err != nil {
		return 0, err
	}
	some := portion{least: 20, most: 5_000}
	for {
		gone, err := a.pruneSome(ctx, stays, &some)
		if n += gone; err != nil || gone == 0 {
			return n, err
		}
	}
}

// firstSince is the first record from a time on, or the last of all; zero: there is none.
func (a *Audit) firstSince(ctx context.Context, at string) (id int64, err error) {
	first, _, err := numbers(ctx, a.db, at, "")
	if err == nil {
		err = a.db.GetContext(ctx, &id, `SELECT coalesce(min(id), (`+newestRecord+`))
			FROM (SELECT * FROM (SELECT id FROM record WHERE id >= ?1 AND at >= ?2 ORDER BY id LIMIT 1)
				UNION ALL SELECT * FROM (SELECT id FROM paged WHERE page > ?1 - ?3 AND id >= ?1 AND at >= ?2 ORDER BY page, id LIMIT 1))`, first, at, mostPage)
	}
	return id, err
}

// openPage makes a page that a record is in, but not as the first, into rows.
func (a *Audit) openPage(ctx context.Context, id int64) error {
	a.turn.take()
	defer a.turn.Unlock()
	tx, err := a.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	const around = "first > ?1 - ?2 AND first < ?1 AND last >= ?1"
	for _, text := range []string{
		"INSERT INTO record (" + columns + ") SELECT " + columns + " FROM paged WHERE page IN (SELECT first FROM page WHERE " + around + ")",
		"DELETE FROM page WHERE " + around,
	} {
		if _, err := tx.ExecContext(ctx, text, id, mostPage); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func (a *Audit) pruneSome(ctx context.Context, stays int64, some *portion) (n int64, err error) {
	a.turn.take()
	defer a.turn.Unlock()
	defer some.fit(time.Now(), &a.turn)
	tx, err := a.db.BeginTxx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	var first, until int64
	if err := tx.GetContext(ctx, &first, oldestRecord); err != nil || first == 0 || first >= stays {
		return 0, err
	}
	until = min(first+some.size(), stays) // the first that is not taken away now: that of a page, where it is in one
	if err := tx.GetContext(ctx, &until, `SELECT coalesce((SELECT last + 1 FROM page WHERE first > ?1 - ?2 AND first < ?1 AND last >= ?1), ?1)`, until,
		mostPage); err != nil {
		return 0, err
	}
	var last Head
	if err := last.read(tx.QueryRowContext(ctx, headBefore, until)); err != nil {
		return 0, err
	}
	if err := tx.GetContext(ctx, &n, recordsBefore, until); err != nil {
		return 0, err
	}
	for _, text := range []string{`DELETE FROM record WHERE id <= ?`, `DELETE FROM page WHERE last <= ?`} {
		if _, err := tx.ExecContext(ctx, text, last.Number); err != nil {
			return 0, err
		}
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM page_actor WHERE stretch < ?`, last.Number/stretchSize); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM stretch WHERE first <= ?`, last.Number+1-stretchSize); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO pruned (one, id, hash, at) VALUES (1, ?, ?, ?)`, last.Number, last.Hash,
		time.Now().UTC().Format(time.RFC3339)); err != nil {
		return 0, err
	}
	return n, tx.Commit()
}

// oldestRecord and newestRecord are the numbers of the first and the last record; zero: there is none. headBefore is the
// last record before a number, and recordsBefore how many there are.
const (
	oldestRecord = `SELECT coalesce(min(id), 0) FROM (SELECT min(id) AS id FROM record UNION ALL SELECT min(first) FROM page)`
	newestRecord = `SELECT max(coalesce((SELECT max(id) FROM record), 0), coalesce((SELECT last FROM page ORDER BY first DESC LIMIT 1), 0))`
	headBefore   = `SELECT id, hash FROM entry WHERE page >= max(coalesce((SELECT max(id) FROM record WHERE id < ?1), 0),
		coalesce((SELECT max(first) FROM page WHERE first < ?1), 0)) AND id < ?1 ORDER BY id DESC LIMIT 1`
	recordsBefore = `SELECT (SELECT count(*) FROM record WHERE id < ?1) + (SELECT coalesce(sum(min(last + 1, ?1) - first), 0) FROM page WHERE first < ?1)`
)

// head is the last record.
func (a *Audit) head(ctx context.Context) (h Head, err error) {
	err = h.read(a.db.QueryRowContext(ctx, headBefore, math.MaxInt64))
	return h, err
}

// hashOf is the hash of a record that there is.
func (a *Audit) hashOf(ctx context.Context, id int64) (hash string, err error) {
	err = a.db.GetContext(ctx, &hash, `SELECT hash FROM entry WHERE `+near, id, id)
	return hash, err
}

// HashOf is the hash of a record, as the chain has it; "" where there is none of that number any more.
func (a *Audit) HashOf(ctx context.Context, id int64) (hash string, err error) {
	base, err := a.pruned(ctx)
	if err != nil || base.Number == id {
		return base.Hash, err
	}
	hash, err = a.hashOf(ctx, id)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return hash, err
}

// CountBefore counts the records from before a time.
func (a *Audit) CountBefore(ctx context.Context, before string) (n int64, err error) {
	stays, err := a.firstSince(ctx, before)
	if err == nil {
		err = a.db.GetContext(ctx, &n, recordsBefore, stays)
	}
	return n, err
}
