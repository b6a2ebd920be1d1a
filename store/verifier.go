package store

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/xdg-go/scram"
)

// A Verifier is what SCRAM-SHA-256 is verified by (RFC 5802). It does not tell the password.
type Verifier struct{ scram.StoredCredentials }

// iterations is how often a password is hashed for a verifier of this service's making
// (RFC 7677, 4).
const iterations = 4096

// mostIterations bounds a verifier that somebody else has made: a client has to work as long.
const mostIterations = 100_000

// String writes the verifier as RFC 5803 has it.
func (v Verifier) String() string {
	b64 := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", v.Iters, b64([]byte(v.Salt)), b64(v.StoredKey), b64(v.ServerKey))
}

// ErrVerifier says that a text is no verifier.
var ErrVerifier = errors.New("this is no verifier of SCRAM-SHA-256")

// ParseVerifier reads what String has written.
func ParseVerifier(text string) (v Verifier, err error) {
	parts := strings.Split(text, "$")
	if len(parts) != 3 || parts[0] != "SCRAM-SHA-256" {
		return v, ErrVerifier
	}
	count, salt, ok := strings.Cut(parts[1], ":")
	stored, server, both := strings.Cut(parts[2], ":")
	n, err := strconv.Atoi(count)
	if !ok || !both || err != nil || n < iterations || n > mostIterations {
		return v, ErrVerifier
	}
	v.Iters = n
	for _, f := range []struct {
		text string
		to   func([]byte)
		size int
	}{{salt, func(b []byte) { v.Salt = string(b) }, 0}, {stored, func(b []byte) { v.StoredKey = b }, sha256.Size},
		{server, func(b []byte) { v.ServerKey = b }, sha256.Size}} {
		b, err := base64.StdEncoding.DecodeString(f.text)
		if err != nil || len(b) < 8 || len(b) > 64 || f.size > 0 && len(b) != f.size {
			return v, ErrVerifier
		}
		f.to(b)
	}
	return v, nil
}

// derive makes the verifier of a secret. One that cannot be prepared as RFC 4013 has it is taken
// as it is, as clients do.
func derive(secret string, factors scram.KeyFactors) Verifier {
	client, err := scram.SHA256.NewClient("", secret, "")
	if err != nil {
		if client, err = scram.SHA256.NewClientUnprepped("", secret, ""); err != nil {
			panic(err)
		}
	}
	credentials, err := client.GetStoredCredentialsWithError(factors)
	if err != nil {
		panic(err) // the factors are ours, or were read
	}
	return Verifier{credentials}
}

// matches compares a secret with a verifier.
func (v Verifier) matches(secret string) bool {
	return hmac.Equal(derive(secret, v.KeyFactors).StoredKey, v.StoredKey)
}

// saltKey reads the key of salts, or makes it. All credentials of an account have one salt, since
// a server has to name it before it knows which of them is meant.
func saltKey(db sqlx.Ext) (key []byte, err error) {
	err = sqlx.Get(db, &key, `SELECT value FROM secret WHERE name = 'salts'`)
	if errors.Is(err, sql.ErrNoRows) {
		key = []byte(rand.Text() + rand.Text())
		_, err = db.Exec(`INSERT INTO secret (name, value) VALUES ('salts', ?)`, key)
	}
	return key, err
}

// factors are those of an account's credentials, and of a name that no account has.
func factors(key []byte, of string) scram.KeyFactors {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(of))
	return scram.KeyFactors{Salt: string(h.Sum(nil)[:16]), Iters: iterations}
}

func accountOf(subject uint32) string { return fmt.Sprint("subject ", subject) }

// A Credential is one of those by which an account is proven.
type Credential struct {
	Verifier
	Token Token        // empty: it is the password
	Given bool         // the password is one that somebody else has set
	Seen  atomic.Int64 // the generation in which it was last found to hold
	// Changing says that who was proven by it is putting another in its place.
	Changing atomic.Bool
}

// Credentials lists what an account can be proven by at present, all of one salt. For a name that
// no account has, and for an account without, it is one that nothing matches, and subject is zero.
func (s *Store) Credentials(ctx context.Context, subject uint32, name string, now time.Time) ([]*Credential, error) {
	of := "name " + name
	if subject != 0 {
		of = accountOf(subject)
	}
	var kept struct {
		Scram string
		Given bool
	}
	err := s.db.GetContext(ctx, &kept, `SELECT scram, given FROM password WHERE subject = ?`, subject)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	tokens, err := s.Tokens(ctx, max(subject, 1), now)
	if err != nil {
		return nil, err
	}
	at := factors(s.salts, of)
	var out []*Credential
	if v, err := ParseVerifier(kept.Scram); err == nil {
		at = v.KeyFactors
		out = append(out, &Credential{Verifier: v, Given: kept.Given})
	}
	for _, t := range tokens {
		if v, err := ParseVerifier(t.Scram); err == nil && v.KeyFactors == at && t.Subject == subject {
			out = append(out, &Credential{Verifier: v, Token: t})
		}
	}
	if len(out) == 0 {
		none := Verifier{scram.StoredCredentials{KeyFactors: at, StoredKey: make([]byte, sha256.Size), ServerKey: make([]byte, sha256.Size)}}
		rand.Read(none.StoredKey)
		rand.Read(none.ServerKey)
		out = append(out, &Credential{Verifier: none})
	}
	return out, nil
}

// Holds reports whether a credential still is one of its account's.
func (s *Store) Holds(ctx context.Context, subject uint32, c *Credential, now time.Time) (bool, error) {
	if c.Token.Hash != "" {
		var n int
		err := s.db.GetContext(ctx, &n, `SELECT count(*) FROM token WHERE hash = ? AND subject = ? AND expires > ?`, c.Token.Hash, subject,
			now.UTC().Format(time.RFC3339))
		return n > 0, err
	}
	var text string
	err := s.db.GetContext(ctx, &text, `SELECT scram FROM password WHERE subject = ?`, subject)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return text == c.Verifier.String(), err
}

// Generation changes whenever a password or token may have.
func (s *Store) Generation() int64 { return s.generation.Load() }

// verify keeps a password's verifier where there is none yet.
func (s *Store) verify(ctx context.Context, subject uint32, password string) error {
	v := derive(password, factors(s.salts, accountOf(subject)))
	_, err := s.db.ExecContext(ctx, `UPDATE password SET scram = ? WHERE subject = ? AND scram = ''`, v.String(), subject)
	return err
}
