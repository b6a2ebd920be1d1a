package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"
)

// A Draft is a named set of changes that are not made yet.
type Draft struct {
	ID       int64
	Name     string
	Reason   string
	Base     int64  // the revision that it was opened on
	Opened   string // RFC 3339, UTC
	Opener   uint32 // a subject
	Status   string
	Closed   string
	Closer   uint32
	Revision int64 // that it became; zero: none
	Version  int64 // how often it was changed
	Steps    []DraftStep
}

// What becomes of a draft.
const (
	DraftOpen      = "open"
	DraftPublished = "published"
	DraftDropped   = "dropped"
)

// A DraftStep is what one command put into a draft.
type DraftStep struct {
	Draft   int64
	N       int64
	At      string
	Subject uint32
	Reason  string
	Says    string // a JSON array
	Changes string // as in the journal
}

// ErrNoDraft says that there is no open draft of a name, or no such step in it.
var ErrNoDraft = errors.New("there is no such draft")

// ErrDraftExists says that the name of a draft is taken.
var ErrDraftExists = errors.New("there is an open draft of that name")

// OpenDraft keeps a new draft, where there are not as many as there may be.
func (s *Store) OpenDraft(ctx context.Context, d Draft, most Bound, also ...Write) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if err := most.hold(tx, `SELECT coalesce(sum(opener = ?), 0), count(*) FROM draft WHERE status = 'open'`, d.Opener); err != nil {
			return err
		}
		var n int
		if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM draft WHERE name = ? AND status = 'open'`, d.Name); err != nil || n > 0 {
			return errors.Join(err, ErrDraftExists)
		}
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO draft (name, reason, base, opened, opener, status, closed, closer, revision)
			VALUES (:name, :reason, :base, :opened, :opener, 'open', '', 0, 0)`, d); err != nil {
			return err
		}
		return doAll(tx, also)
	})
}

// Drafts lists the drafts, the last opened first, with their steps. Of those that are not open it
// lists the last limit.
func (s *Store) Drafts(ctx context.Context, limit int) ([]Draft, error) {
	var out []Draft
	if err := s.db.SelectContext(ctx, &out, `SELECT * FROM draft WHERE status = 'open'
		UNION ALL SELECT * FROM (SELECT * FROM draft WHERE status <> 'open' ORDER BY id DESC LIMIT ?) ORDER BY id DESC`, limit); err != nil {
		return nil, err
	}
	for i := range out {
		if err := s.steps(ctx, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// DraftNames are the names of drafts by their numbers: of all, or of the open ones.
func (s *Store) DraftNames(ctx context.Context, open bool) (map[int64]string, error) {
	var list []Draft
	err := s.db.SelectContext(ctx, &list, `SELECT id, name FROM draft WHERE ? = 0 OR status = 'open'`, open)
	names := make(map[int64]string, len(list))
	for _, d := range list {
		names[d.ID] = d.Name
	}
	return names, err
}

// OpenDraftNamed is the open draft of a name.
func (s *Store) OpenDraftNamed(ctx context.Context, name string) (Draft, error) {
	var d Draft
	err := s.db.GetContext(ctx, &d, `SELECT * FROM draft WHERE name = ? AND status = 'open'`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return d, ErrNoDraft
	}
	if err != nil {
		return d, err
	}
	return d, s.steps(ctx, &d)
}

func (s *Store) steps(ctx context.Context, d *Draft) error {
	return s.db.SelectContext(ctx, &d.Steps, `SELECT * FROM draft_step WHERE draft = ? ORDER BY n`, d.ID)
}

// PutDraftStep keeps what was put into an open draft of the version that its maker saw. Its number is
// one that no other step of the draft ever had.
func (s *Store) PutDraftStep(ctx context.Context, step DraftStep, seen int64, also ...Write) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, `UPDATE draft SET version = version + 1 WHERE id = ? AND status = 'open' AND version = ?`, step.Draft, seen)
		if err := one(done, err, ErrNoDraft); err != nil {
			return err
		}
		step.N = seen + 1
		if _, err = tx.NamedExecContext(ctx, `INSERT INTO draft_step (draft, n, at, subject, reason, says, changes)
			VALUES (:draft, :n, :at, :subject, :reason, :says, :changes)`, step); err != nil {
			return err
		}
		return doAll(tx, also)
	})
}

// DropDraftStep takes a step out of an open draft.
func (s *Store) DropDraftStep(ctx context.Context, draft, n int64, also ...Write) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, `DELETE FROM draft_step WHERE draft = ? AND n = ?`, draft, n)
		if err := one(done, err, ErrNoDraft); err != nil {
			return err
		}
		done, err = tx.ExecContext(ctx, `UPDATE draft SET version = version + 1 WHERE id = ? AND status = 'open'`, draft)
		if err := one(done, err, ErrNoDraft); err != nil {
			return err
		}
		return doAll(tx, also)
	})
}

// CloseDraft says what became of a draft that is open.
func CloseDraft(id int64, status, at string, closer uint32, revision int64) Write {
	return Write{func(tx *sqlx.Tx) error {
		done, err := tx.Exec(`UPDATE draft SET status = ?, closed = ?, closer = ?, revision = ? WHERE id = ? AND status = 'open'`,
			status, at, closer, revision, id)
		return one(done, err, ErrNoDraft)
	}}
}

// ForgetDraft takes an open draft away, of which nothing is kept.
func ForgetDraft(id int64) Write {
	return Write{func(tx *sqlx.Tx) error {
		done, err := tx.Exec(`DELETE FROM draft WHERE id = ? AND status = 'open' AND NOT EXISTS (SELECT 1 FROM draft_step WHERE draft = ?)`, id, id)
		return one(done, err, ErrNoDraft)
	}}
}

// one is the error of a write that is to change one row, or none where there is no such row.
func one(done sql.Result, err, none error) error {
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n != 1 {
		return errors.Join(err, none)
	}
	return nil
}

// Do makes writes of their own, in one transaction.
func (s *Store) Do(ctx context.Context, writes ...Write) error {
	return s.within(ctx, func(tx *sqlx.Tx) error { return doAll(tx, writes) })
}

func doAll(tx *sqlx.Tx, writes []Write) error {
	for _, w := range writes {
		if err := w.do(tx); err != nil {
			return err
		}
	}
	return nil
}
