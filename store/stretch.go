package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"

	"github.com/jmoiron/sqlx"
)

// Records are written in the order of their times, apart from records that were imported and from times when the clock
// was set back. So the record has no index on time, which every record would have to be added to. Instead, the table
// stretch has the earliest and the latest time of every thousand consecutive records. It is derived from the records.

const stretchSize = 1000

// The index on who did something is by stretches, too, so that a record is added at its end: elsewhere in an index, where the
// pages are full, that costs several times as much. No page of records reaches from one stretch into another.

// startOf is the first number of the stretch that a record is in.
func startOf(id int64) int64 { return (id-1)/stretchSize*stretchSize + 1 }

// A stretch is the earliest and the latest time in it (RFC 3339, UTC). Both are empty as long as it has no record.
type stretch struct{ Earliest, Latest string }

func (s *stretch) add(at string) {
	if s.Earliest == "" || at < s.Earliest {
		s.Earliest = at
	}
	s.Latest = max(s.Latest, at)
}

// resumeStretch prepares for the next record. If the table is not up to date, because the records are those of an
// earlier version or were restored without it, all of it is computed.
func (a *Audit) resumeStretch() error {
	first := startOf(a.last.Number + 1)
	var complete bool
	err := a.db.Get(&complete, `SELECT NOT EXISTS (SELECT 1 FROM stretch WHERE first >= ?1)
		AND (EXISTS (SELECT 1 FROM stretch WHERE first = ?1 - ?2) OR NOT EXISTS (SELECT 1 FROM entry WHERE page < ?1))`, first, stretchSize)
	if err == nil && !complete {
		err = a.computeStretches()
	}
	if err != nil {
		return err
	}
	return a.db.Get(&a.stretch, `SELECT coalesce(min(at), '') AS earliest, coalesce(max(at), '') AS latest FROM entry WHERE page >= ?`, first)
}

// computeStretches computes the table from the records. It takes about a second per million records.
func (a *Audit) computeStretches() error {
	tx, err := a.db.Beginx()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.Exec(`DELETE FROM stretch; DELETE FROM page_actor`); err != nil {
		return err
	}
	if _, err := tx.Exec(`INSERT INTO page_actor (stretch, actor) SELECT DISTINCT (p.first - 1) / ?, s.value ->> 0 FROM page p, json_each(p.said) s`,
		stretchSize); err != nil {
		return err
	}
	var first int64
	if err := tx.Get(&first, oldestRecord); err != nil {
		return err
	}
	for first = startOf(max(first, 1)); first < startOf(a.last.Number+1); first += stretchSize {
		if _, err := tx.Exec(`INSERT INTO stretch (first, earliest, latest) SELECT ?1, min(at), max(at) FROM entry WHERE page >= ?1 AND page < ?1 + ?2
			HAVING count(*) > 0`, first, stretchSize); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// numbers returns the first and the last number that a record from the given time, but before the other, can have.
// An empty time is no limit.
func numbers(ctx context.Context, on sqlx.QueryerContext, from, until string) (first, last int64, err error) {
	first, last = 0, math.MaxInt64
	if from != "" {
		err = sqlx.GetContext(ctx, on, &first, `SELECT coalesce((SELECT first FROM stretch WHERE latest >= ? ORDER BY first LIMIT 1),
			(SELECT max(first) + ? FROM stretch), 0)`, from, stretchSize)
	}
	if until != "" && err == nil {
		err = sqlx.GetContext(ctx, on, &last, `SELECT CASE
			WHEN EXISTS (SELECT 1 FROM entry WHERE page >= coalesce((SELECT max(first) + ?1 FROM stretch), 0) AND at < ?2) THEN ?3
			ELSE coalesce((SELECT first + ?1 - 1 FROM stretch WHERE earliest < ?2 ORDER BY first DESC LIMIT 1), 0) END`, stretchSize, until, last)
	}
	return first, last, err
}

// checkStretch checks that a stretch includes the times that were read from its records, and that who is in its pages is known.
// last is its last record.
func (a *Audit) checkStretch(ctx context.Context, last int64, read stretch) error {
	var kept stretch
	err := a.db.GetContext(ctx, &kept, `SELECT earliest, latest FROM stretch WHERE first = ?`, startOf(last))
	if errors.Is(err, sql.ErrNoRows) || err == nil && (read.Earliest < kept.Earliest || read.Latest > kept.Latest) {
		return fmt.Errorf("%w: a search by time would not find all records from R-%d to R-%d", ErrAltered, startOf(last), last)
	}
	if err != nil {
		return err
	}
	var missing bool
	err = a.db.GetContext(ctx, &missing, `SELECT EXISTS (SELECT 1 FROM page p, json_each(p.said) s WHERE p.first BETWEEN ?1 AND ?2
		AND NOT EXISTS (SELECT 1 FROM page_actor w WHERE w.stretch = (?1 - 1) / ?3 AND w.actor = s.value ->> 0))`, startOf(last), last, stretchSize)
	if err == nil && missing {
		return fmt.Errorf("%w: a search for who did something would not find all records from R-%d to R-%d", ErrAltered, startOf(last), last)
	}
	return err
}
