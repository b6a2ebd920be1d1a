package store

import (
	"context"
	"strings"

	"github.com/jmoiron/sqlx"
)

// A RevisionName is a name that people gave a revision.
type RevisionName struct {
	Name     string
	Revision int64
	At       string // RFC 3339, UTC
	Actor    string
}

// PutRevisionName names a revision; zero takes the name away.
func (s *Store) PutRevisionName(ctx context.Context, l RevisionName) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if l.Revision == 0 {
			_, err := tx.ExecContext(ctx, `DELETE FROM revision_name WHERE name = ?`, l.Name)
			return err
		}
		_, err := tx.NamedExecContext(ctx, `INSERT OR REPLACE INTO revision_name (name, revision, at, actor) VALUES (:name, :revision, :at, :actor)`, l)
		return err
	})
}

// RevisionNames lists the names of revisions.
func (s *Store) RevisionNames(ctx context.Context) ([]RevisionName, error) {
	var out []RevisionName
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM revision_name ORDER BY revision DESC, name`)
	return out, err
}

// A RevisionNote is what a revision did, in words.
type RevisionNote struct {
	Revision int64
	Says     string // a JSON array
	Effects  string // a JSON array
	Draft    int64  // that was published; zero: none
}

// NoteRevision keeps a note with an entry.
func NoteRevision(n RevisionNote) Write {
	return Write{func(tx *sqlx.Tx) error {
		_, err := tx.NamedExec(`INSERT INTO revision_note (revision, says, effects, draft) VALUES (:revision, :says, :effects, :draft)`, n)
		return err
	}}
}

// A Past is an entry of the journal with its note, where there is one.
type Past struct {
	Entry
	Says, Effects string
	Draft         int64
}

// History lists entries before a revision, newest first, at most limit. With about it lists those
// whose changes have one of these texts in them.
func (s *Store) History(ctx context.Context, before int64, about []string, limit int) ([]Past, error) {
	where, args := "j.revision < ?", []any{before}
	if len(about) > 0 {
		where += " AND (" + strings.TrimSuffix(strings.Repeat("instr(j.changes, ?) > 0 OR ", len(about)), " OR ") + ")"
		for _, text := range about {
			args = append(args, text)
		}
	}
	var out []Past
	err := s.db.SelectContext(ctx, &out, `SELECT j.*, coalesce(n.says, '[]') AS says, coalesce(n.effects, '[]') AS effects, coalesce(n.draft, 0) AS draft
		FROM journal j LEFT JOIN revision_note n ON n.revision = j.revision WHERE `+where+` ORDER BY j.revision DESC LIMIT ?`, append(args, limit)...)
	return out, err
}
