package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
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
}

// NewPassword hashes a password.
func NewPassword(text string) Password { return Password{hash: hashPassword(text), text: text} }

// VerifiedPassword is a password that only a verifier is known of. It is hashed when it is first
// given.
func VerifiedPassword(v Verifier) Password { return Password{verifier: v} }

// hashPassword returns a password's argon2id hash in PHC string format.
func hashPassword(password string) string {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	hash, err := argon2id.CreateHash(password, cost)
	if err != nil {
		panic(err) // there are no random numbers
	}
	return hash
}

// passwordMatches compares a password with a hash of HashPassword.
func passwordMatches(password, hash string) bool {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	match, err := argon2id.ComparePasswordAndHash(password, hash)
	return err == nil && match
}

// nobody is a hash that no password matches; checking against it takes as long
// as against a real one, so that time does not tell which accounts there are.
var nobody = hashPassword(rand.Text())

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
			`INSERT INTO password (subject, hash, scram) VALUES (?, ?, ?)
				ON CONFLICT (subject) DO UPDATE SET hash = excluded.hash, scram = excluded.scram`,
			subject, p.hash, p.verifier.String(),
		)
		return err
	}}
}

// CheckPassword reports whether the password is the subject's. Subject zero, or
// one without a password, matches none.
func (s *Store) CheckPassword(ctx context.Context, subject uint32, password string) (bool, error) {
	var kept struct{ Hash, Scram string }
	err := s.db.GetContext(ctx, &kept, `SELECT hash, scram FROM password WHERE subject = ?`, subject)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		passwordMatches(password, nobody)
		return false, nil
	case err != nil:
		return false, err
	case kept.Hash == "": // only its verifier is known so far
		v, err := ParseVerifier(kept.Scram)
		passwordMatches(password, nobody)
		if err != nil || !v.matches(password) {
			return false, nil
		}
		return true, s.within(ctx, func(tx *sqlx.Tx) error {
			_, err := tx.Exec(`UPDATE password SET hash = ? WHERE subject = ? AND scram = ?`, hashPassword(password), subject, kept.Scram)
			return err
		})
	case !passwordMatches(password, kept.Hash):
		return false, nil
	case kept.Scram == "":
		return true, s.verify(ctx, subject, password)
	}
	return true, nil
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
	_, err = s.db.NamedExecContext(ctx, `INSERT INTO token (hash, subject, kind, name, csrf, created, expires, scram)
		VALUES (:hash, :subject, :kind, :name, :csrf, :created, :expires, :scram)`, t)
	return secret, t, err
}

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
