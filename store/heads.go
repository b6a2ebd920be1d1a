package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"time"
)

// The journal and the record are chains: each entry carries the hash of the one
// before, so that an entry which is altered or taken out shows. What is cut off at the
// end does not, so the heads of both are kept apart, in a file of their own, and can
// be noted down elsewhere.

// Heads are the last entries of both chains.
type Heads struct {
	Journal Head `json:"journal"`
	Record  Head `json:"record"`
}

// A Head is the last entry of a chain: its number and hash. Zero: the chain is empty.
type Head struct {
	Number int64  `json:"number"`
	Hash   string `json:"hash"`
}

// ErrAltered says that a chain does not hold: entries were altered, or are gone.
var ErrAltered = errors.New("the chain does not hold")

func (s *Store) headsFile() string { return filepath.Join(s.Dir, "heads") }

func (s *Store) readHeads() (h Heads, there bool, err error) {
	content, err := os.ReadFile(s.headsFile())
	if errors.Is(err, fs.ErrNotExist) {
		return h, false, nil
	}
	if err == nil {
		err = json.Unmarshal(content, &h)
	}
	return h, true, err
}

// Heads returns the last entries of both chains.
func (s *Store) Heads(ctx context.Context) (h Heads, err error) {
	if h.Journal, err = journalHead(ctx, s.db.DB); err == nil {
		h.Record, err = s.audit.head(ctx)
	}
	return h, err
}

func journalHead(ctx context.Context, db *sql.DB) (h Head, err error) {
	err = h.read(db.QueryRowContext(ctx, "SELECT revision, hash FROM journal ORDER BY revision DESC LIMIT 1"))
	return h, err
}

// read reads a head where there is one.
func (h *Head) read(row *sql.Row) error {
	err := row.Scan(&h.Number, &h.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}

// checkHeads compares the chains with the heads that were kept.
func (s *Store) checkHeads(ctx context.Context) error {
	kept, there, err := s.readHeads()
	if err != nil {
		return fmt.Errorf("the file of heads: %w", err)
	}
	if !there {
		return nil // of an earlier version
	}
	for _, c := range []struct {
		what string
		head Head
		hash func(context.Context, int64) (string, error)
	}{{"the journal", kept.Journal, s.hashOf}, {"the record", kept.Record, s.audit.hashOf}} {
		if c.head.Number == 0 {
			continue
		}
		hash, err := c.hash(ctx, c.head.Number)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("%w: %s had an entry %d, which is gone with all behind it", ErrAltered, c.what, c.head.Number)
		}
		if err != nil {
			return err
		}
		if hash != c.head.Hash {
			return fmt.Errorf("%w: entry %d of %s is not the one that was there", ErrAltered, c.head.Number, c.what)
		}
	}
	return nil
}

// hashOf is the hash of an entry of the journal.
func (s *Store) hashOf(ctx context.Context, revision int64) (hash string, err error) {
	err = s.db.GetContext(ctx, &hash, `SELECT hash FROM journal WHERE revision = ?`, revision)
	return hash, err
}

// keepHeads writes the heads down.
func (s *Store) keepHeads() error {
	h, err := s.Heads(context.Background())
	if err != nil {
		return err
	}
	s.keeping.Lock()
	defer s.keeping.Unlock()
	if h == s.keptHeads {
		return nil
	}
	if err := WriteFile(s.headsFile(), func(w io.Writer) error { return json.NewEncoder(w).Encode(h) }); err != nil {
		return err
	}
	s.keptHeads = h
	return nil
}

// headsEvery is how often the heads are written down while the service runs: what was
// added to the record since could be cut off unseen after a kill.
const headsEvery = time.Second

func (s *Store) keepHeadsAlways() {
	defer close(s.stopped)
	ticker := time.NewTicker(headsEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ticker.C:
			s.keepHeads() // at the next tick, if not now
		case <-s.stop:
			return
		}
	}
}

// VerifyJournal checks the whole chain of the journal, and that it ends no sooner than
// it did. It returns how many entries hold.
func (s *Store) VerifyJournal(ctx context.Context) (n int64, last Head, err error) {
	err = Replay(ctx, s, 0, math.MaxInt64, "", Checked, func(e Entry, _ struct{}) error {
		n, last = n+1, Head{e.Revision, e.Hash}
		return nil
	})
	if err == nil {
		err = s.checkHeads(ctx)
	}
	return n, last, err
}

// VerifyRecord is VerifyJournal for the record, from the entry behind a number.
func (s *Store) VerifyRecord(ctx context.Context, after int64) (n int64, last Head, err error) {
	base, err := s.audit.pruned(ctx)
	if err == nil {
		err = s.audit.checkBase(ctx, base)
	}
	if err != nil {
		return 0, last, err
	}
	if after <= base.Number { // the chain begins there
		after, last = base.Number, base
	}
	end, err := s.audit.head(ctx)
	if err != nil {
		return 0, last, err
	}
	var d digester
	var read stretch
	check := func(r *Record) error {
		if r.ID == after {
			last = Head{r.ID, r.Hash} // which the caller trusts
			return nil
		}
		if r.Previous != last.Hash || r.Hash != d.digest(r) || last.Number > 0 && r.ID != last.Number+1 {
			return fmt.Errorf("%w: the record has been altered at R-%d, or entries before it are gone", ErrAltered, r.ID)
		}
		n, last = n+1, Head{r.ID, r.Hash}
		if read.add(r.At); r.ID%stretchSize == 0 {
			defer func() { read = stretch{} }()
			return s.audit.checkStretch(ctx, r.ID, read)
		}
		return nil
	}
	for first := after; first <= end.Number; first += checkedAtOnce {
		records, err := s.audit.between(ctx, first, min(first+checkedAtOnce-1, end.Number))
		if err != nil {
			return n, last, err
		}
		for i := range records {
			if err := check(&records[i]); err != nil {
				return n, last, err
			}
		}
	}
	return n, last, s.checkHeads(ctx)
}

// checkedAtOnce is how many records are read in one go to be checked.
const checkedAtOnce = 5 * stretchSize

// Probe reports whether the records can be written now.
func (s *Store) Probe(ctx context.Context) error {
	for _, db := range []*sql.DB{s.db.DB, s.audit.db.DB} {
		if _, err := db.ExecContext(ctx, "INSERT OR REPLACE INTO probe (id, content) VALUES (1, randomblob(16384))"); err != nil {
			return fmt.Errorf("%w: %v", ErrUnwritable, err)
		}
	}
	return nil
}
