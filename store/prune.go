package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"
)

// pruned is the last record that was taken away: what is left of the chain begins behind it.
func (a *Audit) pruned(ctx context.Context) (h Head, err error) {
	err = h.read(a.db.QueryRowContext(ctx, `SELECT id, hash FROM pruned`))
	return h, err
}

// Prune takes away the records from before a time (RFC 3339, UTC), but for the last of all. What they
// were counted for stays, and the chain of those that are left can be checked as before: say puts on
// record, before anything is gone, where the chain will begin, and returns the number of that
// record. It returns how many are gone.
func (a *Audit) Prune(ctx context.Context, before string, say func(base Head) (record int64, err error)) (n int64, err error) {
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
	var base Head
	if err := base.read(a.db.QueryRowContext(ctx, headBefore, stays)); err != nil || base.Number == 0 {
		return 0, err
	}
	said, err := say(base)
	if err != nil {
		return 0, err
	}
	some := portion{least: 20, most: 5_000}
	for {
		gone, err := a.pruneSome(ctx, stays, said, &some)
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

func (a *Audit) pruneSome(ctx context.Context, stays, said int64, some *portion) (n int64, err error) {
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
	if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO pruned (one, id, hash, said, at) VALUES (1, ?, ?, ?, ?)`, last.Number, last.Hash, said,
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

// A base is where the chain of the record begins, as a record of its own says.
type base struct {
	Base Head `json:"base"`
}

// BaseText is what the record of a pruning says of where the chain begins.
func BaseText(h Head) string {
	text, _ := json.Marshal(base{h}) // which cannot fail
	return string(text)
}

// checkBase wants the record that says where the chain begins: else what came before could be cut
// off with nothing to show for it. Of a pruning that was ended half way, the chain still leads to
// the place that was said.
func (a *Audit) checkBase(ctx context.Context, begins Head) error {
	if begins.Number == 0 {
		return nil
	}
	var said int64
	if err := a.db.GetContext(ctx, &said, `SELECT said FROM pruned`); err != nil {
		return err
	}
	gone := fmt.Errorf("%w: what was before R-%d is gone, and no record says so", ErrAltered, begins.Number+1)
	records, err := a.between(ctx, said, said)
	if err != nil {
		return err
	}
	if said <= begins.Number || len(records) != 1 {
		return gone
	}
	_, text, ok := strings.Cut(records[0].Reason, "{")
	var b base
	if !ok || json.Unmarshal([]byte("{"+text), &b) != nil || b.Base.Number < begins.Number {
		return gone
	}
	hash := begins.Hash
	if b.Base.Number > begins.Number {
		if hash, err = a.hashOf(ctx, b.Base.Number); err != nil {
			return errors.Join(gone, err)
		}
	}
	if hash != b.Base.Hash {
		return gone
	}
	return nil
}

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

// saysBase is the version of the record from which on a pruning says where the chain begins.
const saysBase = 13

// sayBase puts on record where the chain begins, where no record says so: an earlier version has
// pruned it, or the record that said so is lost and an operator has accepted that.
func (a *Audit) sayBase(ctx context.Context) error {
	begins, err := a.pruned(ctx)
	if err != nil || a.checkBase(ctx, begins) == nil {
		return err
	}
	r := &Record{At: time.Now().UTC().Format(time.RFC3339Nano), Actor: "gneiss", Action: "retention", Decision: "allowed", Labels: "[]",
		Text: "noted where the record begins", Reason: BaseText(begins)}
	if err := a.Add(r); err != nil {
		return err
	}
	_, err = a.db.ExecContext(ctx, `UPDATE pruned SET said = ?`, r.ID)
	return err
}
