package platform

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/store"
)

// opened is a platform in a folder; the caller closes it.
func opened(t *testing.T, dir string, now func() time.Time) (*Platform, *store.Store) {
	t.Helper()
	st, err := store.Open(dir, false)
	if err != nil {
		t.Fatal(err)
	}
	p, err := Open(context.Background(), st, audit.New(st, slog.New(slog.DiscardHandler), now), slog.New(slog.DiscardHandler), now)
	if err != nil {
		t.Fatal(err)
	}
	return p, st
}

// change makes changes, as the administrator's order does.
func change(t *testing.T, p *Platform, changes ...Change) {
	t.Helper()
	p.Lock()
	defer p.Unlock()
	before, now := p.Current(), p.Time()
	after, err := before.ApplyAll(changes, now)
	if err == nil {
		err = p.Commit(context.Background(), before, after, Commit{Changes: changes, Actor: "user:opal", Says: []string{"changed"}}, now)
	}
	if err != nil {
		t.Fatal(err)
	}
}

func subjects(n int) (out []Change) {
	for i := range n {
		out = append(out, access.AddSubject{Subject: fmt.Sprintf("user:u%d", i), Title: "somebody"},
			access.SetAttribute{Subject: fmt.Sprintf("user:u%d", i), Name: "districts", Values: []string{"north", "coast"}},
			access.SetAttribute{Subject: fmt.Sprintf("user:u%d", i), Name: "level", Values: []string{"3"}})
	}
	return out
}

// TestAForgedCheckpointShows: a checkpoint with more in it than the journal says is found by a
// verification, which works the model out from the first entry on.
func TestAForgedCheckpointShows(t *testing.T) {
	dir := t.TempDir()
	p, st := opened(t, dir, time.Now)
	change(t, p, subjects(20)...)
	change(t, p, access.AddSubject{Subject: "role:reader"}, access.Join{Member: "user:u1", Of: "role:reader"})
	if err := p.Verify(t.Context()); err != nil {
		t.Fatalf("what runs is what the journal comes to: %v", err)
	}
	p.keep(t.Context(), p.Current())
	reopen := func() {
		t.Helper()
		if err := st.Close(); err != nil {
			t.Fatal(err)
		}
		p, st = opened(t, dir, time.Now)
	}
	reopen()
	if err := p.Verify(t.Context()); err != nil {
		t.Fatalf("from an honest checkpoint: %v", err)
	}
	at := p.Current()
	forged, err := at.Apply(access.Join{Member: "user:u2", Of: access.Administrator}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	forged.Revision, forged.hash = at.Revision, at.hash
	p.keep(t.Context(), forged)
	reopen()
	defer st.Close()
	if err := p.Verify(t.Context()); !errors.Is(err, store.ErrAltered) {
		t.Errorf("a forged checkpoint: %v", err)
	}
}

// TestTimeDoesNotRunBack: where the machine's clock is set back, a change is as late as the one
// before it, and what was at a time is found.
func TestTimeDoesNotRunBack(t *testing.T) {
	clock := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	dir := t.TempDir()
	p, st := opened(t, dir, func() time.Time { return clock })
	for i, hours := range []int{0, 2, -10, 1, 5} {
		clock = clock.Add(time.Duration(hours) * time.Hour)
		change(t, p, access.AddSubject{Subject: fmt.Sprintf("user:u%d", i)})
		if i == 2 { // the last change is known after a start, too
			st.Close()
			p, st = opened(t, dir, func() time.Time { return clock })
		}
	}
	defer st.Close()
	last := time.Time{}
	for revision := int64(1); revision <= p.Current().Revision; revision++ {
		entry, err := st.Entry(t.Context(), revision)
		if err != nil {
			t.Fatal(err)
		}
		when, _ := entry.Time()
		if when.Before(last) {
			t.Errorf("revision %d is of %v, before %v", revision, when, last)
		}
		last = when
	}
}

// TestAChangeThatWasNotMade: where the service is ended between the record of a change and its entry
// in the journal, the next start says that it was not made, once.
func TestAChangeThatWasNotMade(t *testing.T) {
	dir := t.TempDir()
	p, st := opened(t, dir, time.Now)
	change(t, p, access.AddSubject{Subject: "user:u1"})
	record := &store.Record{Actor: "user:opal", Action: audit.Change, Decision: audit.Allowed, Text: "added user:u2" + ofRevision(p.Current().Revision+1)}
	if err := p.audit.Write(record); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		st.Close()
		p, st = opened(t, dir, time.Now)
	}
	change(t, p, access.AddSubject{Subject: "user:u3"})
	st.Close()
	p, st = opened(t, dir, time.Now)
	defer st.Close()
	found, err := p.audit.Find(t.Context(), store.Search{Action: audit.Change, Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	failed := 0
	for _, r := range found {
		if r.Decision == audit.Failed {
			failed++
			if r.Text != "the change of "+audit.Reference(record.ID) {
				t.Errorf("it says %q", r.Text)
			}
		}
	}
	if failed != 1 {
		t.Errorf("it is said %d times", failed)
	}
}
