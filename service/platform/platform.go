// Package platform holds the access model at its current revision, and the journal from
// which it is rebuilt.
package platform

import (
	"context"
	"database/sql"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"gneiss/service/audit"
	"gneiss/store"
)

// A Platform is the model of an open data folder. Its methods may be called
// concurrently.
type Platform struct {
	store *store.Store
	audit *audit.Log
	log   *slog.Logger
	// Now is what time it is for changes and for the record.
	Now func() time.Time

	current    atomic.Pointer[State]
	changed    atomic.Pointer[chan struct{}] // closed and replaced after each change
	change     sync.Mutex                    // held while a change is made
	last       time.Time                     // when the last change was made
	unkept     atomic.Int64                  // changes since the last checkpoint
	keeping    atomic.Bool                   // one is being written
	background sync.WaitGroup
	past       *lru.Cache[int64, *State]
	rebuilding singleflight.Group
	imagined   *lru.Cache[draftKey, *Draft]
}

// Open rebuilds the model from the last checkpoint and the journal.
func Open(ctx context.Context, st *store.Store, record *audit.Log, log *slog.Logger, now func() time.Time) (*Platform, error) {
	past, err := lru.New[int64, *State](mostMoments)
	if err != nil {
		return nil, err
	}
	imagined, err := lru.New[draftKey, *Draft](mostImagined)
	if err != nil {
		return nil, err
	}
	p := &Platform{store: st, audit: record, log: log, Now: now, past: past, imagined: imagined}
	at, err := p.rebuild(ctx)
	if err != nil {
		return nil, err
	}
	p.current.Store(at)
	p.changed.Store(new(make(chan struct{})))
	return p, p.settle(ctx)
}

// settle says of changes which are on record, and which the service was ended before it made, that
// they were not made; and takes note of when the last change was.
func (p *Platform) settle(ctx context.Context) error {
	// The record is written first, so that nothing is made that is not on record.
	next := p.Current().Revision + 1
	changes, err := p.store.Audit().Latest(ctx, audit.Change, audit.Allowed, 10_000)
	if err != nil {
		return err
	}
	said, err := p.store.Audit().Latest(ctx, audit.Change, audit.Failed, 10_000)
	if err != nil {
		return err
	}
	for _, r := range changes {
		if !strings.HasSuffix(r.Text, ofRevision(next)) {
			continue
		}
		text := "the change of " + audit.Reference(r.ID)
		undone := func(other store.Record) bool { return other.Text == text || other.Text == r.Text && other.ID > r.ID }
		if slices.ContainsFunc(said, undone) {
			continue
		}
		p.log.Warn("a change that is on record was not made, since the service was ended before that", "record", audit.Reference(r.ID))
		failed := &store.Record{Actor: r.Actor, Action: audit.Change, Decision: audit.Failed, Text: text,
			Reason: "it was not made: the service was ended before that"}
		if err := p.audit.Write(failed); err != nil {
			return err
		}
	}
	entry, err := p.store.Entry(ctx, p.Current().Revision)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err == nil {
		p.last, err = entry.Time()
	}
	return err
}

// Time is what time it is for a change: never before the last one, whatever the machine's clock
// says, so that what was at a time can be found. The caller holds the lock of changes.
func (p *Platform) Time() time.Time {
	if now := p.Now(); now.After(p.last) {
		return now
	}
	return p.last
}

// Changed returns a channel that is closed when the model has changed. Ask for it before
// looking at [Platform.Current], so that no change falls between.
func (p *Platform) Changed() <-chan struct{} { return *p.changed.Load() }

// Current is the model at the current revision.
func (p *Platform) Current() *State { return p.current.Load() }

// Lock lets one change be made at a time, until Unlock.
func (p *Platform) Lock() { p.change.Lock() }

// Unlock lets the next change be made.
func (p *Platform) Unlock() { p.change.Unlock() }

// Close writes a checkpoint where that makes the next start quicker.
func (p *Platform) Close(ctx context.Context) {
	p.background.Wait()
	if p.unkept.Load() >= worthKeeping {
		p.keep(ctx, p.Current())
	}
}
