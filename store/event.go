package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"
)

// An Event is something that happened, as others are told of it.
type Event struct {
	ID      int64
	At      string // RFC 3339, UTC
	Kind    string
	About   string
	Subject uint32 // who may hear of it beside those who review; zero: nobody
	Data    string // a JSON object
}

// PutEvent keeps an event with what it tells of.
func PutEvent(e Event) Write {
	return Write{func(tx *sqlx.Tx) error {
		_, err := tx.Exec(`INSERT INTO event (at, kind, about, subject, data) VALUES (?, ?, ?, ?, ?)`, e.At, e.Kind, e.About, e.Subject, e.Data)
		return err
	}}
}

// Happened is sent to after something was written, so that who tells of events looks for new ones.
func (s *Store) Happened() <-chan struct{} { return s.happened }

// Events lists events behind one, oldest first, at most limit.
func (s *Store) Events(ctx context.Context, after int64, limit int) ([]Event, error) {
	var out []Event
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM event WHERE id > ? ORDER BY id LIMIT ?`, after, limit)
	return out, err
}

// LastEvent is the number of the last event; zero: there was none.
func (s *Store) LastEvent(ctx context.Context) (int64, error) {
	var id int64
	err := s.db.GetContext(ctx, &id, `SELECT coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'event'), 0)`)
	return id, err
}

// ForgetEvents takes away events from before a time that no active webhook waits for.
func (s *Store) ForgetEvents(ctx context.Context, before string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM event WHERE at < ? AND id <= coalesce((SELECT min(seen) FROM webhook WHERE status = 'active'), id)`, before)
	return err
}

// A Webhook is where another system is told of events.
type Webhook struct {
	Name      string
	URL       string
	Secret    []byte
	Topics    string // a JSON array
	Status    string
	Maker     uint32
	Made      string
	Seen      int64 // the last event that is dealt with
	Failures  int
	Next      string
	Trouble   string
	Delivered string
}

// Whether a webhook is told.
const (
	WebhookActive  = "active"
	WebhookStopped = "stopped"
)

var (
	// ErrNoWebhook says that there is no webhook of a name.
	ErrNoWebhook = errors.New("there is no such webhook")

	// ErrWebhookExists says that the name of a webhook is taken.
	ErrWebhookExists = errors.New("there is a webhook of that name")
)

// Webhooks lists the webhooks by name.
func (s *Store) Webhooks(ctx context.Context) ([]Webhook, error) {
	var out []Webhook
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM webhook ORDER BY name`)
	return out, err
}

// Webhook is the webhook of a name.
func (s *Store) Webhook(ctx context.Context, name string) (Webhook, error) {
	var w Webhook
	err := s.db.GetContext(ctx, &w, `SELECT * FROM webhook WHERE name = ?`, name)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNoWebhook
	}
	return w, err
}

// AddWebhook keeps a new webhook, where there are not as many as there may be. It begins behind the
// last event.
func (s *Store) AddWebhook(ctx context.Context, w Webhook, most Bound) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		var n int
		if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM webhook WHERE name = ?`, w.Name); err != nil || n > 0 {
			return errors.Join(err, ErrWebhookExists)
		}
		if err := most.hold(tx, `SELECT coalesce(sum(maker = ?), 0), count(*) FROM webhook`, w.Maker); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO webhook (name, url, secret, topics, status, maker, made, seen, failures, next, trouble, delivered)
			VALUES (:name, :url, :secret, :topics, :status, :maker, :made,
				coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'event'), 0), 0, '', '', '')`, w)
		return err
	})
}

// ChangeWebhook changes where a webhook goes and what of. It keeps its secret where none is given, and
// how far it is.
func (s *Store) ChangeWebhook(ctx context.Context, w Webhook) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.NamedExecContext(ctx, `UPDATE webhook SET url = :url, topics = :topics, status = :status, failures = 0, next = '', trouble = '',
			secret = CASE WHEN length(:secret) > 0 THEN :secret ELSE secret END WHERE name = :name`, w)
		return one(done, err, ErrNoWebhook)
	})
}

// DropWebhook removes a webhook.
func (s *Store) DropWebhook(ctx context.Context, name string) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, `DELETE FROM webhook WHERE name = ?`, name)
		return one(done, err, ErrNoWebhook)
	})
}

// NoteDelivery keeps how far a webhook is, unless it was changed meanwhile.
func (s *Store) NoteDelivery(ctx context.Context, w Webhook) error {
	_, err := s.db.NamedExecContext(ctx, `UPDATE webhook SET seen = :seen, failures = :failures, next = :next, trouble = :trouble,
		delivered = :delivered, status = :status WHERE name = :name AND made = :made AND url = :url AND status = 'active'`, w)
	return err
}

// A CheckResult is what a check came to when the service ran it last.
type CheckResult struct {
	Kind, Name, Status string
	Says               string // a JSON array
	Since              string // RFC 3339, UTC
}

// CheckResults lists what checks came to.
func (s *Store) CheckResults(ctx context.Context) ([]CheckResult, error) {
	var out []CheckResult
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM check_result ORDER BY kind, name`)
	return out, err
}

// PutCheckResult keeps what a check came to.
func PutCheckResult(r CheckResult) Write {
	return Write{func(tx *sqlx.Tx) error {
		_, err := tx.NamedExec(`INSERT OR REPLACE INTO check_result (kind, name, status, says, since) VALUES (:kind, :name, :status, :says, :since)`, r)
		return err
	}}
}

// DropCheckResult forgets what a check came to.
func DropCheckResult(kind, name string) Write {
	return Write{func(tx *sqlx.Tx) error {
		_, err := tx.Exec(`DELETE FROM check_result WHERE kind = ? AND name = ?`, kind, name)
		return err
	}}
}
