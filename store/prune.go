package store

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// pruned is the last record that was taken away: what is left of the chain begins behind it.
func (a *Audit) pruned(ctx context.Context) (h Head, err error) {
	err = a.db.QueryRowContext(ctx, `SELECT id, hash FROM pruned`).Scan(&h.Number, &h.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
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
	first, _, err := a.numbers(ctx, at, "")
	if err == nil {
		err = a.db.GetContext(ctx, &id, `SELECT coalesce((SELECT id FROM record WHERE id >= ? AND at >= ? ORDER BY id LIMIT 1),
			(SELECT max(id) FROM record), 0)`, first, at)
	}
	return id, err
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
	var last Head
	err = tx.QueryRowContext(ctx, `SELECT id, hash FROM record WHERE id < min(?, (SELECT min(id) + ? FROM record)) ORDER BY id DESC LIMIT 1`,
		stays, some.size()).Scan(&last.Number, &last.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	done, err := tx.ExecContext(ctx, `DELETE FROM record WHERE id <= ?`, last.Number)
	if err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM stretch WHERE first <= ?`, last.Number+1-stretchSize); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO pruned (one, id, hash, at) VALUES (1, ?, ?, ?)`, last.Number, last.Hash,
		time.Now().UTC().Format(time.RFC3339)); err != nil {
		return 0, err
	}
	if n, err = done.RowsAffected(); err != nil {
		return 0, err
	}
	return n, tx.Commit()
}

// HashOf is the hash of a record, as the chain has it; "" where there is none of that number any more.
func (a *Audit) HashOf(ctx context.Context, id int64) (hash string, err error) {
	base, err := a.pruned(ctx)
	if err != nil || base.Number == id {
		return base.Hash, err
	}
	err = a.db.GetContext(ctx, &hash, `SELECT hash FROM record WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return hash, err
}

// CountBefore counts the records from before a time.
func (a *Audit) CountBefore(ctx context.Context, before string) (n int64, err error) {
	stays, err := a.firstSince(ctx, before)
	if err == nil {
		err = a.db.GetContext(ctx, &n, `SELECT count(*) FROM record WHERE id < ?`, stays)
	}
	return n, err
}
