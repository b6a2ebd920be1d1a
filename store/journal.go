package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/mattn/go-sqlite3"
)

// An Entry is one revision of the model: what was changed together, by whom and
// why. Each entry carries the hash of the one before.
type Entry struct {
	Revision int64
	At       string // RFC 3339 with nanoseconds, UTC
	Actor    string
	Reason   string
	Changes  string // a JSON array
	Previous string
	Hash     string
}

// Time returns when the entry was made.
func (e Entry) Time() (time.Time, error) { return time.Parse(time.RFC3339Nano, e.At) }

// digest is the SHA-256 of the entry's fields as a JSON array, so that no two
// entries write the same bytes.
func (e Entry) digest() string {
	fields, err := json.Marshal([]any{e.Revision, e.At, e.Actor, e.Reason, e.Changes, e.Previous})
	if err != nil {
		panic(err) // strings and a number always marshal
	}
	sum := sha256.Sum256(fields)
	return hex.EncodeToString(sum[:])
}

// A Write is something else that is written in one transaction with an entry. Only the
// functions of this package make one.
type Write struct{ do func(*sqlx.Tx) error }

// Append writes the next entry of the journal, in one transaction with what
// also does. When it returns, the entry survives a kill. The entry's revision
// must be the one after the last, whose hash its Previous must be.
func (s *Store) Append(ctx context.Context, e Entry, also ...Write) (Entry, error) {
	e.Hash = e.digest()
	err := s.within(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO journal (revision, at, actor, reason, changes, previous, hash)
			VALUES (:revision, :at, :actor, :reason, :changes, :previous, :hash)`, e); err != nil {
			return fmt.Errorf("the journal: %w", err)
		}
		return doAll(tx, also)
	})
	if err == nil {
		s.keepHeads() // else soon, by who keeps them
		return e, nil
	}
	var full sqlite3.Error
	if errors.As(err, &full) &&
		(full.Code == sqlite3.ErrFull || full.Code == sqlite3.ErrIoErr || full.Code == sqlite3.ErrCantOpen || full.Code == sqlite3.ErrReadonly) {
		err = fmt.Errorf("%w: %v", ErrUnwritable, err)
	}
	return e, err
}

func (s *Store) within(ctx context.Context, f func(*sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return err
	}
	defer s.generation.Add(1)
	if err := tx.Commit(); err != nil {
		return err
	}
	select {
	case s.happened <- struct{}{}:
	default: // somebody is about to look already
	}
	return nil
}

// Entries lists the entries after a revision, oldest first, at most limit.
func (s *Store) Entries(ctx context.Context, after int64, limit int) ([]Entry, error) {
	var out []Entry
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM journal WHERE revision > ? ORDER BY revision LIMIT ?`, after, limit)
	return out, err
}

// Entry is the entry of a revision.
func (s *Store) Entry(ctx context.Context, revision int64) (Entry, error) {
	var e Entry
	err := s.db.GetContext(ctx, &e, `SELECT * FROM journal WHERE revision = ?`, revision)
	return e, err
}

// Replay calls do with every entry, oldest first, and with what read made of it; it checks the
// chain of hashes on the way. read is called for several entries at once, and may see one that was
// altered, which do never does. With after it begins behind that revision, whose hash is given. It
// ends with the revision until, or the last.
func Replay[T any](ctx context.Context, s *Store, after, until int64, hash string, read func(Entry) (T, error), do func(Entry, T) error) error {
	type reading struct {
		entry Entry
		made  T
		holds bool
		err   error
	}
	ctx, stop := context.WithCancel(ctx)
	const ahead = 16 // entries that may be large
	coming := make(chan chan reading, ahead)
	defer func() {
		stop()
		for range coming { // until the rows are closed
		}
	}()
	var rowsErr error
	go func() {
		defer close(coming)
		rowsErr = s.eachEntry(ctx, after, until, func(e Entry) bool {
			one := make(chan reading, 1)
			select {
			case coming <- one:
			case <-ctx.Done():
				return false
			}
			go func() {
				r := reading{entry: e, holds: e.Hash == e.digest()}
				r.made, r.err = read(e)
				one <- r
			}()
			return true
		})
	}()
	last := Entry{Revision: after, Hash: hash}
	for one := range coming {
		r := <-one
		e := r.entry
		if e.Revision != last.Revision+1 || e.Previous != last.Hash || !r.holds {
			return fmt.Errorf(
				"%w: the journal has been altered at revision %d: its hash does not follow from the entries before; restore the data folder from a backup",
				ErrAltered,
				e.Revision,
			)
		}
		if r.err == nil {
			r.err = do(e, r.made)
		}
		if r.err != nil {
			return fmt.Errorf("revision %d: %w", e.Revision, r.err)
		}
		last = e
	}
	return rowsErr
}

// eachEntry calls f for the entries between two revisions, the second included, until f returns false.
func (s *Store) eachEntry(ctx context.Context, after, until int64, f func(Entry) bool) error {
	rows, err := s.db.QueryxContext(ctx, `SELECT * FROM journal WHERE revision > ? AND revision <= ? ORDER BY revision`, after, until)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var e Entry
		if err := rows.StructScan(&e); err != nil {
			return err
		}
		if !f(e) {
			return ctx.Err()
		}
	}
	return rows.Err()
}

// Checked reads nothing of an entry, for a [Replay] that is after the chain alone.
func Checked(Entry) (struct{}, error) { return struct{}{}, nil }
