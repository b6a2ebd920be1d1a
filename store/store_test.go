package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
)

var ctx = context.Background()

func opened(t testing.TB, dir string) *Store {
	t.Helper()
	s, err := Open(dir, false)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// journal writes n entries after the last.
func journal(t *testing.T, s *Store, n int) {
	t.Helper()
	var last Entry
	if err := Replay(ctx, s, 0, math.MaxInt64, "", Checked, func(e Entry, _ struct{}) error { last = e; return nil }); err != nil {
		t.Fatal(err)
	}
	for range n {
		next := Entry{Revision: last.Revision + 1, At: "2026-03-02T09:00:00Z", Actor: "user:opal", Changes: "[]", Previous: last.Hash}
		entry, err := s.Append(ctx, next)
		if err != nil {
			t.Fatal(err)
		}
		last = entry
	}
}

func revisions(t *testing.T, s *Store) (n int, err error) {
	t.Helper()
	err = Replay(ctx, s, 0, math.MaxInt64, "", Checked, func(Entry, struct{}) error { n++; return nil })
	return n, err
}

func TestJournalSurvivesReopening(t *testing.T) {
	dir := t.TempDir()
	s := opened(t, dir)
	journal(t, s, 3)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = opened(t, dir)
	defer s.Close()
	journal(t, s, 2)
	if n, err := revisions(t, s); n != 5 || err != nil {
		t.Errorf("%d revisions, %v; want 5", n, err)
	}
}

func TestAnEntryIsWrittenWholeOrNotAtAll(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	journal(t, s, 1)
	_, err := s.Append(ctx, Entry{Revision: 2, Changes: "[]"}, Write{func(*sqlx.Tx) error { return errors.New("not this time") }})
	if err == nil || !strings.Contains(err.Error(), "not this time") {
		t.Fatalf("got %v", err)
	}
	if n, err := revisions(t, s); n != 1 || err != nil {
		t.Errorf("%d revisions after one that failed, %v", n, err)
	}
	if _, err := s.Append(ctx, Entry{Revision: 1, Changes: "[]"}); err == nil {
		t.Error("a revision was written over another")
	}
}

func TestEachWayToAlterTheJournalIsNoticed(t *testing.T) {
	for _, c := range []struct{ name, statement string }{
		{"another actor", "UPDATE journal SET actor = 'user:garnet' WHERE revision = 2"},
		{"another time", "UPDATE journal SET at = '2020-01-01T00:00:00Z' WHERE revision = 2"},
		{"another reason", "UPDATE journal SET reason = 'asked for' WHERE revision = 2"},
		{"other changes", "UPDATE journal SET changes = '[1]' WHERE revision = 3"},
		{"a revision gone", "DELETE FROM journal WHERE revision = 2"},
		{"the first gone", "DELETE FROM journal WHERE revision = 1"},
		{"a hash", "UPDATE journal SET hash = previous WHERE revision = 3"},
		{"two swapped", "UPDATE journal SET revision = CASE revision WHEN 2 THEN -3 WHEN 3 THEN -2 ELSE revision END; UPDATE journal SET revision = abs(revision)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := opened(t, t.TempDir())
			defer s.Close()
			journal(t, s, 3)
			if _, err := s.db.Exec(c.statement); err != nil {
				t.Fatal(err)
			}
			if _, err := revisions(t, s); err == nil || !strings.Contains(err.Error(), "has been altered at revision") {
				t.Errorf("got %v", err)
			}
		})
	}
}

func TestOneServiceAtATime(t *testing.T) {
	dir := t.TempDir()
	s := opened(t, dir)
	if _, err := Open(dir, false); !errors.Is(err, ErrInUse) {
		t.Errorf("a second service: %v", err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	again := opened(t, dir)
	if err := again.Close(); err != nil {
		t.Error(err)
	}
	for _, name := range []string{"records.db", "audit.db"} {
		info, err := os.Stat(filepath.Join(dir, name))
		if err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v; want it for its owner alone", name, info, err)
		}
	}
}

func TestAFolderWithAnOddName(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "what? 100% #1")
	s := opened(t, dir)
	journal(t, s, 1)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "records.db")); err != nil {
		t.Errorf("the records are elsewhere: %v", err)
	}
}

func TestPasswords(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	first, err := NewPassword(ctx, "northmark")
	second, again := NewPassword(ctx, "northmark")
	if err != nil || again != nil {
		t.Fatal(err, again)
	}
	if first.hash == second.hash || !strings.HasPrefix(first.hash, "$argon2id$v=19$m=19456,t=2,p=1$") || strings.Contains(first.hash, "northmark") {
		t.Errorf("hashes %s and %s", first.hash, second.hash)
	}
	if err := s.within(ctx, SetPassword(7, first).do); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		subject  uint32
		password string
		want     bool
	}{{7, "northmark", true}, {7, "Northmark", false}, {7, "", false}, {8, "northmark", false}, {0, "northmark", false}} {
		if got, given, err := s.CheckPassword(ctx, c.subject, c.password); got != c.want || given || err != nil {
			t.Errorf("subject %d with %q: %v, %v", c.subject, c.password, got, err)
		}
	}
	for _, broken := range []string{"", "$argon2id$", "$argon2id$v=19$m=x,t=2,p=1$a$b", "plain"} {
		if match, err := passwordMatches(ctx, "", broken); match || err != nil {
			t.Errorf("the broken hash %q matches", broken)
		}
	}
	// Who has gone does not wait for a turn.
	gone, cancel := context.WithCancel(ctx)
	cancel()
	for range cap(hashing) {
		hashing <- struct{}{}
	}
	if _, err := NewPassword(gone, "northmark"); !errors.Is(err, context.Canceled) {
		t.Errorf("hashing for nobody: %v", err)
	}
	for range cap(hashing) {
		<-hashing
	}
	if err := s.within(ctx, SetPassword(9, first.Given()).do); err != nil {
		t.Fatal(err)
	}
	if ok, given, err := s.CheckPassword(ctx, 9, "northmark"); !ok || !given || err != nil {
		t.Errorf("a password that was given: %v, %v, %v", ok, given, err)
	}
}

func TestTokens(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	secret, token, err := s.NewToken(ctx, 7, SessionToken, "a test", now, now.Add(time.Hour), true)
	if err != nil || token.CSRF == "" || strings.Contains(token.Hash, secret) {
		t.Fatalf("%+v, %v", token, err)
	}
	found, ok, err := s.FindToken(ctx, secret)
	if !ok || err != nil || found.Subject != 7 || found.Expired(now.Add(59*time.Minute)) || !found.Expired(now.Add(time.Hour)) {
		t.Errorf("%+v, %v, %v", found, ok, err)
	}
	if _, ok, err := s.FindToken(ctx, found.Hash); ok || err != nil {
		t.Error("the hash of a token serves as the token")
	}
	if err := s.DropToken(ctx, found); err != nil {
		t.Fatal(err)
	}
	if _, ok, _ := s.FindToken(ctx, secret); ok {
		t.Error("a dropped token is found")
	}
	if !(Token{Expires: "soon"}).Expired(now) {
		t.Error("a token whose end cannot be read is not expired")
	}
}

func TestAuditKeepsAllAndFinds(t *testing.T) {
	dir := t.TempDir()
	s := opened(t, dir)
	var wait sync.WaitGroup
	for writer := range 8 {
		wait.Go(func() {
			for i := range 40 {
				r := &Record{At: "2026-03-02T09:00:00Z", Actor: fmt.Sprintf("user:u%d", writer), Action: "query", Decision: []string{"allowed", "refused"}[i%2], Text: fmt.Sprintf("SELECT %d", i)}
				if err := s.Audit().Add(r); err != nil || r.ID == 0 {
					t.Errorf("record %d of %d: id %d, %v", i, writer, r.ID, err)
				}
			}
		})
	}
	wait.Wait()
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if err := s.Audit().Add(&Record{Actor: "user:opal"}); !errors.Is(err, ErrStopping) {
		t.Errorf("a record after the end: %v", err)
	}
	s = opened(t, dir)
	defer s.Close()
	if err := s.Audit().Add(&Record{Actor: "user:opal", Standpoint: "user:u1 in role:x", Action: "preview", Decision: "allowed", Objects: `["survey.field.visits"]`}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name   string
		search Search
		want   int
	}{
		{"all", Search{}, 321}, {"by actor", Search{Actor: "user:u3"}, 40}, {"by whom it was done as", Search{Actor: "user:u1"}, 41}, {"by decision", Search{Decision: "refused"}, 160},
		{"by action", Search{Action: "preview"}, 1}, {"by text", Search{Contains: "SELECT 39"}, 8}, {"by object", Search{Contains: "field.visits"}, 1}, {"no pattern is meant by %", Search{Contains: "%"}, 0},
		{"older", Search{Before: 11}, 10}, {"together", Search{Actor: "user:u3", Decision: "refused", Contains: "SELECT 1"}, 6},
	} {
		c.search.Limit = 1000
		found, err := s.Audit().Find(ctx, c.search)
		if err != nil || len(found) != c.want {
			t.Errorf("%s: %d records, %v; want %d", c.name, len(found), err, c.want)
		}
		for i := 1; i < len(found); i++ {
			if found[i].ID >= found[i-1].ID {
				t.Errorf("%s: not newest first", c.name)
			}
		}
	}
	if found, err := s.Audit().Find(ctx, Search{Limit: 5}); err != nil || len(found) != 5 {
		t.Errorf("a limit of 5 gives %d, %v", len(found), err)
	}
	if _, err := s.Audit().Find(ctx, Search{}); err == nil {
		t.Error("a search without a limit")
	}
}

// TestDigest: a record's digest is that of its fields as encoding/json writes them.
func TestDigest(t *testing.T) {
	odd := []string{"", "plain text 1", "æøå", "\"quoted\"", `back\slash`, "<a>&b", "line\nbreak", "\x00\x7f", "bad \xff utf-8", "\u2028", "💎"}
	var d digester
	for i, s := range append(odd, odd...) {
		i %= len(odd)
		r := &Record{ID: int64(i), At: odd[(i+1)%len(odd)], Actor: s, Standpoint: s, Action: "query", Text: s + s, Objects: "[]", Labels: `["a"]`, Reason: s,
			Rows: -1, TookUS: 1 << 60, Address: s, Previous: "0f", Client: odd[(i+2)%len(odd)], Open: i%2 == 0, Uses: int64(i % 3)}
		all := []any{r.ID, r.At, r.Actor, r.Standpoint, r.Action, r.Decision, r.Text, r.Objects, r.Labels, r.Missing, r.Reason, r.Rows, r.TookUS, r.Address, r.Previous}
		if r.Client != "" || r.Open {
			all = append(all, r.Client, r.Open, r.Ends)
		}
		if r.Uses != 0 {
			all = append(all, "uses", r.Uses)
		}
		written, err := json.Marshal(all)
		must(t, err)
		sum := sha256.Sum256(written)
		if d.digest(r) != hex.EncodeToString(sum[:]) {
			t.Errorf("the digest of %s is another", written)
		}
		if r.ID++; d.digest(r) == hex.EncodeToString(sum[:]) || d.digest(r) != new(digester).digest(r) {
			t.Errorf("the digest of the next record that says %q", s)
		}
	}
}
