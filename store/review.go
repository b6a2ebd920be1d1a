package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// A Review is one review of access.
type Review struct {
	ID       int64
	Name     string
	Scope    string // a JSON object
	Reason   string
	Due      string // YYYY-MM-DD
	Opened   string // RFC 3339, UTC
	Opener   uint32
	Revision int64
	Status   string
	Closed   string
	Closer   uint32
	Signed   int64
	Version  int64
}

// What a review is.
const (
	ReviewOpen   = "open"
	ReviewClosed = "closed"
)

// A ReviewItem is one thing to decide.
type ReviewItem struct {
	Review   int64
	N        int
	Subject  string
	Via      string
	Content  string // a JSON object
	Changed  string
	Reviewer string
	Decision string
	Until    string
	Word     string
	Decided  string
	Decider  string
	Version  int64
}

// What is wrong with a review.
var (
	ErrNoReview     = errors.New("there is no such review")
	ErrReviewExists = errors.New("there is a review of that name")
	ErrDecidedSince = errors.New("somebody else has decided it since")
)

// OpenReview keeps a new review with its items.
func (s *Store) OpenReview(ctx context.Context, r Review, items []ReviewItem, most Bound, also Write) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if err := most.hold(tx, `SELECT coalesce(sum(opener = ?), 0), count(*) FROM review WHERE status = 'open'`, r.Opener); err != nil {
			return err
		}
		var n int
		if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM review WHERE name = ?`, r.Name); err != nil || n > 0 {
			return errors.Join(err, ErrReviewExists)
		}
		done, err := tx.NamedExecContext(ctx, `INSERT INTO review (name, scope, reason, due, opened, opener, revision, status, closed, closer, signed, version)
			VALUES (:name, :scope, :reason, :due, :opened, :opener, :revision, 'open', '', 0, 0, 0)`, r)
		if err != nil {
			return err
		}
		id, err := done.LastInsertId()
		if err != nil {
			return err
		}
		add, err := tx.PrepareNamedContext(ctx, `INSERT INTO review_item
			(review, n, subject, via, content, changed, reviewer, decision, until, word, decided, decider, version)
			VALUES (:review, :n, :subject, :via, :content, :changed, :reviewer, '', '', '', '', '', 0)`)
		if err != nil {
			return err
		}
		defer add.Close()
		for _, item := range items {
			item.Review = id
			if _, err := add.ExecContext(ctx, item); err != nil {
				return err
			}
		}
		return also.do(tx)
	})
}

// Reviews lists the reviews, the last opened first.
func (s *Store) Reviews(ctx context.Context) ([]Review, error) {
	var out []Review
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM review ORDER BY id DESC`)
	return out, err
}

// Review is the review of a name.
func (s *Store) Review(ctx context.Context, name string) (Review, error) {
	var r Review
	err := s.db.GetContext(ctx, &r, `SELECT * FROM review WHERE name = ?`, name)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNoReview
	}
	return r, err
}

// ReviewItems lists the items of a review behind one, at most limit; zero: all.
func (s *Store) ReviewItems(ctx context.Context, review int64, after, limit int) ([]ReviewItem, error) {
	var out []ReviewItem
	if limit == 0 {
		limit = -1
	}
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM review_item WHERE review = ? AND n > ? ORDER BY n LIMIT ?`, review, after, limit)
	return out, err
}

// A ReviewCount says how far a review is.
type ReviewCount struct {
	Review   int64
	Reviewer string
	Decision string
	N        int
}

// CountReviewItems counts the items of all reviews by who decides, and what was decided.
func (s *Store) CountReviewItems(ctx context.Context) ([]ReviewCount, error) {
	var out []ReviewCount
	err := s.db.SelectContext(ctx, &out, `SELECT review, reviewer, decision, count(*) AS n FROM review_item GROUP BY 1, 2, 3`)
	return out, err
}

// LastReviewed is what was last decided in a closed review of each thing, by subject and via.
func (s *Store) LastReviewed(ctx context.Context) ([]ReviewItem, error) {
	var out []ReviewItem
	err := s.db.SelectContext(ctx, &out, `SELECT i.* FROM review_item i JOIN review r ON r.id = i.review WHERE r.status = 'closed' ORDER BY r.id`)
	return out, err
}

// DecideItems says what was decided of some items of an open review, which its decider saw at a
// version. What somebody else has decided since is not overwritten. It returns the new version.
func (s *Store) DecideItems(ctx context.Context, review, seen int64, items []ReviewItem) (version int64, err error) {
	err = s.within(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, `UPDATE review SET version = version + 1 WHERE id = ? AND status = 'open'`, review)
		if err := one(done, err, ErrNoReview); err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &version, `SELECT version FROM review WHERE id = ?`, review); err != nil {
			return err
		}
		for _, item := range items {
			item.Review, item.Version = review, version
			done, err := tx.NamedExecContext(ctx, `UPDATE review_item SET decision = :decision, until = :until, word = :word, decided = :decided, decider = :decider,
				reviewer = :reviewer, version = :version WHERE review = :review AND n = :n AND (version <= `+fmt.Sprint(seen)+` OR decider = :decider)`, item)
			if err := one(done, err, fmt.Errorf("item %d: %w", item.N, ErrDecidedSince)); err != nil {
				return err
			}
		}
		return nil
	})
	return version, err
}

// CloseReview says that an open review, as it was at a version, is closed and signed by a revision.
func CloseReview(id, version int64, at string, closer uint32, signed int64) Write {
	return Write{func(tx *sqlx.Tx) error {
		done, err := tx.Exec(`UPDATE review SET status = 'closed', closed = ?, closer = ?, signed = ? WHERE id = ? AND version = ? AND status = 'open'`,
			at, closer, signed, id, version)
		return one(done, err, ErrNoReview)
	}}
}
