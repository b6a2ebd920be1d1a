package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
)

// Records are in the order in which they are written, and so in that of their times, but for those that are brought
// along and for a clock that is set back. So there is no index of times, into which each record would have to go:
// each stretch of a thousand records has the earliest and the latest of its times instead.

const stretchSize = 1000

// startOf is the first number of the stretch that a record is in.
func startOf(id int64) int64 { return (id-1)/stretchSize*stretchSize + 1 }

// A stretch is the earliest and the latest time in one. RFC 3339, UTC; empty: there is no record.
type stretch struct{ Earliest, Latest string }

func (s *stretch) add(at string) {
	if s.Earliest == "" || at < s.Earliest {
		s.Earliest = at
	}
	s.Latest = max(s.Latest, at)
}

// resume goes on with the stretch that the next record is in. Of one that is whole no more, since records were lost,
// nothing is kept.
func (a *Audit) resume() error {
	if _, err := a.db.Exec(`DELETE FROM stretch WHERE first >= ?`, startOf(a.last.Number+1)); err != nil {
		return err
	}
	return a.db.Get(&a.stretch, `SELECT coalesce(min(at), '') AS earliest, coalesce(max(at), '') AS latest FROM record WHERE id >= ?`,
		startOf(a.last.Number+1))
}

// numbers gives numbers between which, both included, all records from one time (included) to another (not included)
// are; an empty time is no bound.
func (a *Audit) numbers(ctx context.Context, from, until string) (first, last int64, err error) {
	first, last = 0, math.MaxInt64
	if from != "" {
		err = a.db.GetContext(ctx, &first, `SELECT coalesce((SELECT first FROM stretch WHERE latest >= ? ORDER BY first LIMIT 1),
			(SELECT max(first) + ? FROM stretch), 0)`, from, stretchSize)
	}
	if until != "" && err == nil {
		err = a.db.GetContext(ctx, &last, `SELECT CASE
			WHEN EXISTS (SELECT 1 FROM record WHERE id >= coalesce((SELECT max(first) + ?1 FROM stretch), 0) AND at < ?2) THEN ?3
			ELSE coalesce((SELECT first + ?1 - 1 FROM stretch WHERE earliest < ?2 ORDER BY first DESC LIMIT 1), 0) END`, stretchSize, until, last)
	}
	return first, last, err
}

// checkStretch compares what is known of the stretch that ends with a record with what was read of it.
func (a *Audit) checkStretch(ctx context.Context, last int64, read stretch) error {
	var kept stretch
	err := a.db.GetContext(ctx, &kept, `SELECT earliest, latest FROM stretch WHERE first = ?`, startOf(last))
	if errors.Is(err, sql.ErrNoRows) || err == nil && (read.Earliest < kept.Earliest || read.Latest > kept.Latest) {
		return fmt.Errorf("%w: a search by time would not find all records from R-%d to R-%d", ErrAltered, startOf(last), last)
	}
	return err
}
