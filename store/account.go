package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/jmoiron/sqlx"
)

// cost is that of a password's hash: argon2id with 19 MiB and two passes.
var cost = &argon2id.Params{Memory: 19 * 1024, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// hashing bounds how many passwords are hashed at once, and so the memory for it.
var hashing = make(chan struct{}, 4)

// A Password is a new password as it is kept: its hash, and what SCRAM verifies it by.
type Password struct {
	hash, text string
	verifier   Verifier // where the text is not known
	given      bool
}

// NewPassword hashes a password. It waits its turn, within the context.
func NewPassword(ctx context.Context, text string) (Password, error) {
	hash, err := hashPassword(ctx, text)
	return Password{hash: hash, text: text}, err
}

// Given is a password that somebody else has set: it does not count until its owner has chosen
// another.
func (p Password) Given() Password {
	p.given = true
	return p
}

// VerifiedPassword is a password that only a verifier is known of. It is hashed when it is first
// given.
func VerifiedPassword(v Verifier) Password { return Password{verifier: v} }

// inTurn runs what takes as much memory as a hash does. Who has gone meanwhile is not waited for.
func inTurn(ctx context.Context, f func() error) error {
	select {
	case hashing <- struct{}{}:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	defer func() { <-hashing }()
	return f()
}

// hashPassword returns a password's argon2id hash in PHC string format.
func hashPassword(ctx context.Context, password string) (hash string, err error) {
	err = inTurn(ctx, func() error {
		hash, err = argon2id.CreateHash(password, cost)
		return err
	})
	return hash, err
}

// passwordMatches compares a password with a hash of hashPassword. Its error is that of the context.
func passwordMatches(ctx context.Context, password, hash string) (match bool, err error) {
	err = inTurn(ctx, func() error {
		same, err := argon2id.ComparePasswordAndHash(password, hash)
		match = err == nil && same
		return nil
	})
	return match, err
}

// nobody is a hash that no password matches; checking against it takes as long
// as against a real one, so that time does not tell which accounts there are.
var nobody = sync.OnceValues(func() (string, error) { return hashPassword(context.Background(), rand.Text()) })

// matchesNobody takes as long as to check a password does.
func matchesNobody(ctx context.Context, password string) error {
	hash, err := nobody()
	if err == nil {
		_, err = passwordMatches(ctx, password, hash)
	}
	return err
}

// SetPassword returns what sets a subject's password within a transaction. It
// ends the subject's sessions: who knew the old one is out. Named tokens stay.
func SetPassword(subject uint32, p Password) Write {
	return setPassword(subject, p, "")
}

// ChangePassword sets a subject's own new password. It ends all other sessions.
func (s *Store) ChangePassword(ctx context.Context, subject uint32, p Password, current Token) error {
	return s.within(ctx, setPassword(subject, p, current.Hash).do)
}

func setPassword(subject uint32, p Password, keep string) Write {
	return Write{func(tx *sqlx.Tx) error {
		if p.text != "" {
			key, err := saltKey(tx)
			if err != nil {
				return err
			}
			p.verifier = derive(p.text, factors(key, accountOf(subject)))
		}
		if _, err := tx.Exec(`DELETE FROM token WHERE subject = ? AND kind = 'session' AND hash <> ?`, subject, keep); err != nil {
			return err
		}
		_, err := tx.Exec(
			`INSERT INTO password (subject, hash, scram, given) VALUES (?, ?, ?, ?)
				ON CONFLICT (subject) DO UPDATE SET hash = excluded.hash, scram = excluded.scram, given = excluded.given`,
			subject, p.hash, p.verifier.String(), p.given,
		)
		return err
	}}
}

// CheckPassword reports whether the password is the subject's, and whether somebody else has
// given it to them. Subject zero, or one without a password, matches none.
func (s *Store) CheckPassword(ctx context.Context, subject uint32, password string) (ok, given bool, err error) {
	var kept struct {
		Hash, Scram string
		Given       bool
	}
	err = s.db.GetContext(ctx, &kept, `SELECT hash, scram, given FROM password WHERE subject = ?`, subject)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return false, false, matchesNobody(ctx, password)
	case err != nil:
		return false, false, err
	case kept.Hash == "": // only its verifier is known so far
		v, broken := ParseVerifier(kept.Scram)
		if err := matchesNobody(ctx, password); err != nil || broken != nil || !v.matches(password) {
			return false, false, err
		}
		hash, err := hashPassword(ctx, password)
		if err != nil {
			return false, false, err
		}
		return true, kept.Given, s.within(ctx, func(tx *sqlx.Tx) error {
			_, err := tx.Exec(`UPDATE password SET hash = ? WHERE subject = ? AND scram = ?`, hash, subject, kept.Scram)
			return err
		})
	}
	if ok, err = passwordMatches(ctx, password, kept.Hash); err != nil || !ok {
		return false, false, err
	}
	if kept.Scram == "" {
		err = s.verify(ctx, subject, password)
	}
	return true, kept.Given, err
}

// A Token lets its bearer act as a subject. The token itself is known to the
// bearer alone; the records keep its hash.
type Token struct {
	Hash    string
	Subject uint32
	Name    string
	CSRF    string
	Created string
	Expires string
	Kind    string // SessionToken or NamedToken
	Role    uint32 // the role that the session acts in; zero: all
	Scram   string // of a named token, what SCRAM verifies it by
}

// The kinds of tokens.
const (
	SessionToken = "session" // from signing in
	NamedToken   = "token"   // made by name, for a program
)

// ID names a token without giving it away.
func (t Token) ID() string { return t.Hash[:16] }

// Expired reports whether the token's time is over.
func (t Token) Expired(now time.Time) bool {
	until, err := time.Parse(time.RFC3339, t.Expires)
	return err != nil || !now.Before(until)
}

func tokenHash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// NewToken makes a token and returns its secret, which is not kept.
func (s *Store) NewToken(
	ctx context.Context,
	subject uint32,
	kind, name string,
	now, expires time.Time,
	csrf bool,
) (secret string, t Token, err error) {
	secret = "gneiss_" + rand.Text()
	t = Token{Hash: tokenHash(secret), Subject: subject, Kind: kind, Name: name,
		Created: now.UTC().Format(time.RFC3339), Expires: expires.UTC().Format(time.RFC3339)}
	if csrf {
		t.CSRF = rand.Text()
	}
	if kind == NamedToken {
		t.Scram = derive(secret, factors(s.salts, accountOf(subject))).String()
	}
	err = s.within(ctx, func(tx *sqlx.Tx) error {
		if kind == NamedToken {
			var n int
			const same = `SELECT count(*) FROM token WHERE subject = ? AND kind = ? AND name = ? AND expires > ?`
			if err := tx.Get(&n, same, subject, kind, name, t.Created); err != nil || n > 0 {
				return errors.Join(err, ErrTokenExists)
			}
			most := Bound{Own: mostTokens}
			if err := most.hold(tx, `SELECT coalesce(sum(subject = ? AND kind = 'token'), 0), 0 FROM token`, subject); err != nil {
				return err
			}
		} else if _, err := tx.Exec(`DELETE FROM token WHERE kind = 'session' AND subject = ? AND hash NOT IN
			(SELECT hash FROM token WHERE kind = 'session' AND subject = ? ORDER BY created DESC LIMIT ?)`, subject, subject, mostSessions-1); err != nil {
			return err // of the oldest sessions, one makes room
		}
		_, err := tx.NamedExec(`INSERT INTO token (hash, subject, kind, name, csrf, created, expires, scram)
			VALUES (:hash, :subject, :kind, :name, :csrf, :created, :expires, :scram)`, t)
		return err
	})
	return secret, t, err
}

// How many named tokens and sessions an account may have.
const (
	mostTokens   = 200
	mostSessions = 500
)

// ErrTokenExists says that the name of a token is taken.
var ErrTokenExists = errors.New("there is a token of that name")

// FindToken returns the token of a secret; ok is false when there is none.
func (s *Store) FindToken(ctx context.Context, secret string) (t Token, ok bool, err error) {
	err = s.db.GetContext(ctx, &t, `SELECT * FROM token WHERE hash = ?`, tokenHash(secret))
	if errors.Is(err, sql.ErrNoRows) {
		return t, false, nil
	}
	return t, err == nil, err
}

// DropToken ends a token.
func (s *Store) DropToken(ctx context.Context, t Token) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM token WHERE hash = ?`, t.Hash)
	s.generation.Add(1)
	return err
}

// SetTokenRole keeps the role that a session acts in; zero: all.
func (s *Store) SetTokenRole(ctx context.Context, t Token, role uint32) error {
	_, err := s.db.ExecContext(ctx, `UPDATE token SET role = ? WHERE hash = ?`, role, t.Hash)
	s.generation.Add(1)
	return err
}

// DropTokens returns what ends all of a subject's tokens within a transaction.
func DropTokens(subject uint32) Write {
	return Write{func(tx *sqlx.Tx) error {
		_, err := tx.Exec(`DELETE FROM token WHERE subject = ?`, subject)
		return err
	}}
}

// DropAccount returns what ends a subject's tokens and password within a
// transaction.
func DropAccount(subject uint32) Write {
	return Write{func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`DELETE FROM password WHERE subject = ?`, subject); err != nil {
			return err
		}
		return DropTokens(subject).do(tx)
	}}
}

// Tokens lists a subject's tokens that have not ended, or everybody's for zero,
// newest first.
func (s *Store) Tokens(ctx context.Context, subject uint32, now time.Time) ([]Token, error) {
	var out []Token
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM token WHERE (subject = ? OR ? = 0) AND expires > ? ORDER BY created DESC, hash`,
		subject, subject, now.UTC().Format(time.RFC3339))
	return out, err
}

// CanSignIn is the set of subjects with a password or a token that has not ended.
func (s *Store) CanSignIn(ctx context.Context, now time.Time) (map[uint32]bool, error) {
	var ids []uint32
	err := s.db.SelectContext(
		ctx,
		&ids,
		`SELECT subject FROM password UNION SELECT subject FROM token WHERE expires > ?`,
		now.UTC().Format(time.RFC3339),
	)
	out := make(map[uint32]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}

// A SourceRecord says how to reach a source. Kind is one of package query's.
type SourceRecord struct{ Name, Kind, Location string }

// AddSource returns what records a source within a transaction.
func AddSource(r SourceRecord) Write {
	return Write{func(tx *sqlx.Tx) error {
		_, err := tx.NamedExec(`INSERT INTO source (name, kind, location) VALUES (:name, :kind, :location)`, r)
		return err
	}}
}

// SetSource returns what changes where a source is within a transaction.
func SetSource(r SourceRecord) Write {
	return Write{func(tx *sqlx.Tx) error {
		_, err := tx.NamedExec(`UPDATE source SET location = :location WHERE name = :name`, r)
		return err
	}}
}

// RemoveSource returns what forgets a source within a transaction.
func RemoveSource(name string) Write {
	return Write{func(tx *sqlx.Tx) error {
		_, err := tx.Exec(`DELETE FROM source WHERE name = ?`, name)
		return err
	}}
}

// Sources lists the connected sources by name.
func (s *Store) Sources(ctx context.Context) ([]SourceRecord, error) {
	var out []SourceRecord
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM source ORDER BY name`)
	return out, err
}
