package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"
)

// An AccessRequest is what somebody asks to be given.
type AccessRequest struct {
	ID        int64
	At        string // RFC 3339, UTC
	Subject   uint32
	Needs     string // a JSON array of "PRIVILEGE on path"
	Shown     string // what the asker is shown of that
	Reason    string
	Reference string // the refusal that it came from
	Status    string
	Decided   string
	Decider   uint32
	Word      string
	Until     string
	Revision  int64
}

// What becomes of a request.
const (
	RequestOpen      = "open"
	RequestGranted   = "granted"
	RequestDeclined  = "declined"
	RequestWithdrawn = "withdrawn"
)

// ErrNoRequest says that there is no such request, or none that is open.
var ErrNoRequest = errors.New("there is no such request")

// PutRequest keeps a new request, and returns its number.
func (s *Store) PutRequest(ctx context.Context, r AccessRequest, most Bound, also func(id int64) Write) (id int64, err error) {
	err = s.within(ctx, func(tx *sqlx.Tx) error {
		if err := most.hold(tx, `SELECT coalesce(sum(subject = ?), 0), count(*) FROM access_request WHERE status = 'open'`, r.Subject); err != nil {
			return err
		}
		done, err := tx.NamedExecContext(ctx, `INSERT INTO access_request
			(at, subject, needs, shown, reason, reference, status, decided, decider, word, until, revision)
			VALUES (:at, :subject, :needs, :shown, :reason, :reference, 'open', '', 0, '', '', 0)`, r)
		if err != nil {
			return err
		}
		if id, err = done.LastInsertId(); err != nil {
			return err
		}
		return also(id).do(tx)
	})
	return id, err
}

// DecideRequest says what becomes of an open request.
func DecideRequest(r AccessRequest) Write {
	return Write{func(tx *sqlx.Tx) error {
		done, err := tx.NamedExec(`UPDATE access_request SET status = :status, decided = :decided, decider = :decider, word = :word, until = :until,
			revision = :revision WHERE id = :id AND status = 'open'`, r)
		return one(done, err, ErrNoRequest)
	}}
}

// Request is the request of a number.
func (s *Store) Request(ctx context.Context, id int64) (AccessRequest, error) {
	var r AccessRequest
	err := s.db.GetContext(ctx, &r, `SELECT * FROM access_request WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNoRequest
	}
	return r, err
}

// Requests lists requests before a number, newest first: of a subject where one is given, of a status
// where one is given.
func (s *Store) Requests(ctx context.Context, subject uint32, status string, before int64, limit int) ([]AccessRequest, error) {
	var out []AccessRequest
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM access_request WHERE (? = 0 OR subject = ?) AND (? = '' OR status = ?) AND (? = 0 OR id < ?)
		ORDER BY id DESC LIMIT ?`, subject, subject, status, status, before, before, limit)
	return out, err
}

// CountRequests counts the open requests of a subject; of zero, of all.
func (s *Store) CountRequests(ctx context.Context, subject uint32) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT count(*) FROM access_request WHERE status = 'open' AND (? = 0 OR subject = ?)`, subject, subject)
	return n, err
}
