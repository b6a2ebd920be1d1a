package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
)

// A checkpoint is a file with the state at one revision, so that a start need
// not replay the whole journal. It can always be made again from the journal; a
// damaged one is as good as none.

func (s *Store) checkpointFile(revision int64) string {
	return filepath.Join(s.Dir, fmt.Sprintf("checkpoint-%d", revision))
}

// PutCheckpoint keeps what write writes as the state at a revision, whose hash in
// the journal is given. Of earlier checkpoints a few are kept, from which past states are made.
func (s *Store) PutCheckpoint(ctx context.Context, revision int64, hash string, write func(io.Writer) error) error {
	path := s.checkpointFile(revision)
	sum := sha256.New()
	if err := WriteFile(path, func(w io.Writer) error { return write(io.MultiWriter(w, sum)) }); err != nil {
		return err
	}
	digest := hex.EncodeToString(sum.Sum(nil))
	if _, err := s.db.ExecContext(ctx, `INSERT OR REPLACE INTO checkpoint (revision, hash, digest) VALUES (?, ?, ?)`, revision, hash, digest); err != nil {
		return err
	}
	var kept []int64
	if err := s.db.SelectContext(ctx, &kept, `SELECT revision FROM checkpoint ORDER BY revision`); err != nil {
		return err
	}
	for len(kept) > mostCheckpoints {
		at := crowded(kept)
		revision := kept[at]
		kept = slices.Delete(kept, at, at+1)
		if err := s.dropCheckpoint(ctx, revision); err != nil {
			return err
		}
	}
	return nil
}

// mostCheckpoints is how many are kept.
const mostCheckpoints = 12

// crowded is the place of the checkpoint, not the last, whose neighbours are nearest to each other.
func crowded(revisions []int64) int {
	best, gap := 0, int64(math.MaxInt64)
	for i := range len(revisions) - 1 {
		before := int64(0)
		if i > 0 {
			before = revisions[i-1]
		}
		if d := revisions[i+1] - before; d < gap {
			best, gap = i, d
		}
	}
	return best
}

// CheckpointBefore is the revision of the last checkpoint at or before one; zero when there is none.
func (s *Store) CheckpointBefore(ctx context.Context, revision int64) (int64, error) {
	var last sql.NullInt64
	err := s.db.GetContext(ctx, &last, `SELECT max(revision) FROM checkpoint WHERE revision <= ?`, revision)
	return last.Int64, err
}

// Checkpoint reads the last checkpoint at or before a revision that is whole and fits the journal, and
// returns its revision and the hash of the journal there; revision 0 when there is none. What read has read
// of one that is not whole must be thrown away; such a one is removed, and the one before it tried.
func (s *Store) Checkpoint(ctx context.Context, until int64, read func(io.Reader) error) (revision int64, hash string, err error) {
	for {
		var row struct {
			Revision     int64
			Hash, Digest string
		}
		err = s.db.GetContext(
			ctx,
			&row,
			`SELECT c.revision, c.hash, c.digest FROM checkpoint c JOIN journal j ON j.revision = c.revision AND j.hash = c.hash
				WHERE c.revision <= ? ORDER BY c.revision DESC LIMIT 1`,
			until,
		)
		if errors.Is(err, sql.ErrNoRows) {
			return 0, "", nil
		}
		if err != nil {
			return 0, "", err
		}
		if s.whole(row.Revision, row.Digest, read) {
			return row.Revision, row.Hash, nil
		}
		if err := s.dropCheckpoint(ctx, row.Revision); err != nil {
			return 0, "", err
		}
	}
}

// whole reads a checkpoint, and reports whether it is what was written.
func (s *Store) whole(revision int64, digest string, read func(io.Reader) error) bool {
	f, err := os.Open(s.checkpointFile(revision))
	if err != nil {
		return false
	}
	defer f.Close()
	sum := sha256.New()
	if err := read(io.TeeReader(f, sum)); err != nil {
		return false
	}
	_, err = io.Copy(sum, f)
	return err == nil && hex.EncodeToString(sum.Sum(nil)) == digest
}

func (s *Store) dropCheckpoint(ctx context.Context, revision int64) error {
	if err := os.Remove(s.checkpointFile(revision)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	_, err := s.db.ExecContext(ctx, `DELETE FROM checkpoint WHERE revision = ?`, revision)
	return err
}
