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
	"os"
	"path/filepath"
)

// A checkpoint is a file with the state at one revision, so that a start need
// not replay the whole journal. It can always be made again from the journal; a
// damaged one is as good as none.

func (s *Store) checkpointFile(revision int64) string {
	return filepath.Join(s.Dir, fmt.Sprintf("checkpoint-%d", revision))
}

// PutCheckpoint keeps what write writes as the state at a revision, whose hash in
// the journal is given, in place of earlier checkpoints.
func (s *Store) PutCheckpoint(ctx context.Context, revision int64, hash string, write func(io.Writer) error) error {
	path := s.checkpointFile(revision)
	sum := sha256.New()
	if err := WriteFile(path, func(w io.Writer) error { return write(io.MultiWriter(w, sum)) }); err != nil {
		return err
	}
	var old []int64
	if err := s.db.SelectContext(ctx, &old, `SELECT revision FROM checkpoint WHERE revision <> ?`, revision); err != nil {
		return err
	}
	digest := hex.EncodeToString(sum.Sum(nil))
	if _, err := s.db.ExecContext(ctx, `INSERT OR REPLACE INTO checkpoint (revision, hash, digest) VALUES (?, ?, ?)`, revision, hash, digest); err != nil {
		return err
	}
	for _, revision := range old {
		if err := os.Remove(s.checkpointFile(revision)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if _, err := s.db.ExecContext(ctx, `DELETE FROM checkpoint WHERE revision = ?`, revision); err != nil {
			return err
		}
	}
	return nil
}

// Checkpoint reads the last checkpoint, and returns its revision and the hash
// of the journal there; revision 0 when there is none that is whole and fits the
// journal. What read has read of one that is not whole must be thrown away.
func (s *Store) Checkpoint(ctx context.Context, read func(io.Reader) error) (revision int64, hash string, err error) {
	var row struct {
		Revision     int64
		Hash, Digest string
	}
	err = s.db.GetContext(
		ctx,
		&row,
		`SELECT c.revision, c.hash, c.digest FROM checkpoint c JOIN journal j ON j.revision = c.revision AND j.hash = c.hash ORDER BY c.revision DESC LIMIT 1`,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, "", nil
	}
	if err != nil {
		return 0, "", err
	}
	f, err := os.Open(s.checkpointFile(row.Revision))
	if err != nil {
		return 0, "", nil // made again at the next occasion
	}
	defer f.Close()
	sum := sha256.New()
	if err := read(io.TeeReader(f, sum)); err != nil {
		return 0, "", nil
	}
	if _, err := io.Copy(sum, f); err != nil || hex.EncodeToString(sum.Sum(nil)) != row.Digest {
		return 0, "", nil
	}
	return row.Revision, row.Hash, nil
}
