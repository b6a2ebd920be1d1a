// Package gateway is the one way to the rows of the sources: it plans statements as the
// policies have it, runs them within the limits of a lane, and records them.
package gateway

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/singleflight"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/source"
	"gneiss/store"
)

// A Service runs governed statements. Its methods may be called concurrently.
type Service struct {
	store    *store.Store
	platform *platform.Platform
	audit    *audit.Log
	identity *identity.Service

	key       atomic.Pointer[string] // of pseudonyms
	traffic   *traffic
	holds     holds
	commander Commander
	roots     []string // of the folders that can be sources

	opening singleflight.Group
	mu      sync.RWMutex
	sources map[access.ObjectID]source.Source
}

// A Setup is what the gateway is opened with.
type Setup struct {
	Store    *store.Store
	Platform *platform.Platform
	Audit    *audit.Log
	Identity *identity.Service
	Log      *slog.Logger
	// Roots are the folders below which folders of SQLite files can be sources;
	// DIR/sources where none is given.
	Roots []string
	// NewKey lets a missing key of pseudonyms be made.
	NewKey bool
}

// Open opens the way to the sources. One that is not available is opened later, when it
// is asked for.
func Open(ctx context.Context, in Setup) (*Service, error) {
	s := &Service{store: in.Store, platform: in.Platform, audit: in.Audit, identity: in.Identity,
		traffic: newTraffic(), roots: in.Roots, sources: map[access.ObjectID]source.Source{}}
	if len(s.roots) == 0 {
		s.roots = []string{filepath.Join(in.Store.Dir, "sources")}
	}
	key, err := pseudonymKey(s.keyFile(), in.NewKey)
	if err != nil {
		return nil, err
	}
	s.key.Store(&key)
	records, err := in.Store.Sources(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range records {
		o, err := in.Platform.Current().Model.Lookup(access.Quote(r.Name))
		if err != nil {
			return nil, err
		}
		if err := s.Connect(o.ID, r); err != nil {
			in.Log.Warn("a source is not available", "source", r.Name, "error", err)
		}
	}
	return s, nil
}

// Serve names who runs the statements that change the model.
func (s *Service) Serve(c Commander) { s.commander = c }

// Stop lets no statement begin, and waits for those that run, for as long as the context
// lets it. Those that still run then are cancelled.
func (s *Service) Stop(ctx context.Context) {
	s.traffic.close(ctx)
	s.traffic.cancelAll()
}

// Close closes the sources.
func (s *Service) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, src := range s.sources {
		errs = append(errs, src.Close())
	}
	return errors.Join(errs...)
}
