package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/source"
	"gneiss/source/postgres"
	"gneiss/source/sqlite"
	"gneiss/store"
)

// Service is an open platform. Its methods may be called concurrently, until
// Close, which its opener calls once.
type Service struct {
	store     *store.Store
	key       atomic.Pointer[string] // of pseudonyms
	now       func() time.Time
	log       *slog.Logger
	traffic   *traffic
	attempt   *attempts
	commander commander

	current    atomic.Pointer[state]
	change     sync.Mutex   // held while a change is made
	kept       atomic.Int64 // the revision of the last checkpoint
	background sync.WaitGroup

	stopping context.Context // ends when running work must end
	stopNow  context.CancelFunc
	working  sync.WaitGroup // requests that are being answered
	probed   atomic.Pointer[probe]
	opening  singleflight.Group

	suggested suggestions
	sampling  singleflight.Group
	found     atomic.Pointer[foundList]

	roots []string // of the folders that can be sources

	mu      sync.RWMutex
	sources map[access.ObjectID]source.Source
}

// Options are what an operator may say of a platform's opening.
type Options struct {
	// Roots are the folders below which folders of SQLite files can be sources;
	// DIR/sources where none is given.
	Roots []string
	// AcceptLoss opens a platform whose record or key is gone, or whose chains do not
	// hold, with what is left.
	AcceptLoss bool
}

// Open opens the platform of a data folder and rebuilds its state from the
// journal.
func Open(ctx context.Context, dir string, log *slog.Logger, options ...Options) (*Service, error) {
	var o Options
	if len(options) > 0 {
		o = options[0]
	}
	st, err := store.Open(dir, o.AcceptLoss)
	if err != nil {
		return nil, err
	}
	s := &Service{store: st, now: time.Now, log: log, traffic: newTraffic(),
		attempt: newAttempts(), sources: map[access.ObjectID]source.Source{}, roots: o.Roots}
	s.commander = s
	s.stopping, s.stopNow = context.WithCancel(context.Background())
	if len(o.Roots) == 0 {
		s.roots = []string{filepath.Join(dir, "sources")}
	}
	if err := s.open(ctx, o.AcceptLoss); err != nil {
		st.Close()
		return nil, err
	}
	return s, nil
}

func (s *Service) open(ctx context.Context, acceptLoss bool) error {
	at, err := s.rebuild(ctx)
	if err != nil {
		return err
	}
	key, err := pseudonymKey(s.keyFile(), at.revision == 0 || acceptLoss)
	if err != nil {
		return err
	}
	s.key.Store(&key)
	s.current.Store(at)
	records, err := s.store.Sources(ctx)
	if err != nil {
		return err
	}
	for _, r := range records {
		o, err := at.model.Lookup(access.Quote(r.Name))
		if err != nil {
			return err
		}
		if err := s.connect(o.ID, r); err != nil {
			// The platform opens without the source; its tables say why they
			// cannot be read.
			s.log.Warn("a source is not available", "source", r.Name, "error", err)
		}
	}
	return nil
}

// location is where a source is, in full.
func (s *Service) location(r store.SourceRecord) string {
	if r.Kind == query.Postgres || filepath.IsAbs(r.Location) {
		return r.Location
	}
	for _, root := range s.roots {
		if _, err := os.Stat(filepath.Join(root, r.Location)); err == nil {
			return filepath.Join(root, r.Location)
		}
	}
	return filepath.Join(s.roots[0], r.Location)
}

// openSource connects to the database of a record.
func (s *Service) openSource(r store.SourceRecord) (source.Source, error) {
	if r.Kind == query.Postgres {
		return postgres.Open(r.Location)
	}
	dir := s.location(r)
	if err := s.mayOpen(dir); err != nil {
		return nil, err
	}
	return sqlite.Open(dir, s.mayOpen)
}

// connect opens a source and keeps it under its object.
func (s *Service) connect(id access.ObjectID, r store.SourceRecord) error {
	src, err := s.openSource(r)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sources[id] = src
	return nil
}

// source returns the open source of an object, and opens it when it was not
// available before.
func (s *Service) source(ctx context.Context, id access.ObjectID) (source.Source, error) {
	s.mu.RLock()
	src, ok := s.sources[id]
	s.mu.RUnlock()
	if ok {
		return src, nil
	}
	// Whoever comes first opens it, and the others wait for that.
	opened, err, _ := s.opening.Do(strconv.Itoa(int(id)), func() (any, error) {
		s.mu.RLock()
		src, ok := s.sources[id]
		s.mu.RUnlock()
		if ok {
			return src, nil
		}
		records, err := s.store.Sources(context.WithoutCancel(ctx))
		if err != nil {
			return nil, err
		}
		name := s.state().model.Object(id).Name
		for _, r := range records {
			if r.Name == name {
				if err := s.connect(id, r); err != nil {
					return nil, err
				}
				s.mu.RLock()
				defer s.mu.RUnlock()
				return s.sources[id], nil
			}
		}
		return nil, fmt.Errorf("%w: %s is not connected", source.ErrUnavailable, name)
	})
	if err != nil {
		return nil, err
	}
	return opened.(source.Source), nil
}

// Close waits for running queries, for as long as the context lets it, and
// closes the platform.
func (s *Service) Close(ctx context.Context) error {
	s.traffic.close(ctx)
	s.stopNow() // what is still running is cancelled, and recorded
	answered := make(chan struct{})
	go func() { s.working.Wait(); close(answered) }()
	select {
	case <-answered:
	case <-time.After(lastAnswers):
	}
	s.background.Wait()
	if at := s.state(); at.revision-s.kept.Load() >= worthKeeping {
		if err := s.keep(ctx, at); err != nil {
			s.log.Warn("the checkpoint cannot be written; the next start takes longer", "error", err)
		}
	}
	var errs []error
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, src := range s.sources {
		errs = append(errs, src.Close())
	}
	return errors.Join(append(errs, s.store.Close())...)
}

// Working marks a request that is being answered, until the result is called: the
// records stay open for it.
func (s *Service) Working() (done func()) {
	s.working.Add(1)
	return s.working.Done
}

// A probe says whether the records could be written at a moment.
type probe struct {
	at  time.Time
	err error
}

// probeEvery is how long a probe serves, so that who asks does not wear the disk.
const probeEvery = 2 * time.Second

// Ready returns an error while the platform cannot serve: what is asked could not be
// recorded.
func (s *Service) Ready(ctx context.Context) error {
	if last := s.probed.Load(); last != nil && s.now().Sub(last.at) < probeEvery {
		return last.err
	}
	_, err := s.store.Sources(ctx)
	if err == nil {
		err = s.store.Probe(ctx)
	}
	s.probed.Store(&probe{s.now(), err})
	return err
}

// lastAnswers is how long requests whose work was cancelled may take to be recorded.
const lastAnswers = 5 * time.Second

// state is the current one.
func (s *Service) state() *state { return s.current.Load() }

// Revision is that of the current state.
func (s *Service) Revision() int64 { return s.state().revision }
