package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

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
	store   *store.Store
	key     atomic.Pointer[string] // of pseudonyms
	now     func() time.Time
	log     *slog.Logger
	traffic *traffic
	attempt *attempts

	current    atomic.Pointer[state]
	change     sync.Mutex   // held while a change is made
	kept       atomic.Int64 // the revision of the last checkpoint
	background sync.WaitGroup

	suggested suggestions

	roots []string // of the folders that can be sources

	mu      sync.RWMutex
	sources map[access.ObjectID]source.Source
}

// Open opens the platform of a data folder and rebuilds its state from the
// journal. Folders of SQLite files can be sources where they lie below one of the
// roots: DIR/sources where none is given.
func Open(ctx context.Context, dir string, log *slog.Logger, roots ...string) (*Service, error) {
	st, err := store.Open(dir)
	if err != nil {
		return nil, err
	}
	s := &Service{store: st, now: time.Now, log: log, traffic: newTraffic(),
		attempt: newAttempts(), sources: map[access.ObjectID]source.Source{}, roots: roots}
	if len(roots) == 0 {
		s.roots = []string{filepath.Join(dir, "sources")}
	}
	if err := s.open(ctx); err != nil {
		st.Close()
		return nil, err
	}
	return s, nil
}

func (s *Service) open(ctx context.Context) error {
	key, err := pseudonymKey(s.keyFile())
	if err != nil {
		return err
	}
	s.key.Store(&key)
	at, err := s.rebuild(ctx)
	if err != nil {
		return err
	}
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
	records, err := s.store.Sources(ctx)
	if err != nil {
		return nil, err
	}
	name := s.current.Load().model.Object(id).Name
	for _, r := range records {
		if r.Name == name {
			if err := s.connect(id, r); err != nil {
				return nil, err
			}
			return s.source(ctx, id)
		}
	}
	return nil, fmt.Errorf("%w: %s is not connected", source.ErrUnavailable, name)
}

// Close waits for running queries, for as long as the context lets it, and
// closes the platform.
func (s *Service) Close(ctx context.Context) error {
	s.traffic.close(ctx)
	s.background.Wait()
	if at := s.current.Load(); at.revision-s.kept.Load() >= worthKeeping {
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

// Ready returns an error while the platform cannot serve.
func (s *Service) Ready(ctx context.Context) error {
	_, err := s.store.Sources(ctx)
	return err
}

// Revision is that of the current state.
func (s *Service) Revision() int64 { return s.current.Load().revision }
