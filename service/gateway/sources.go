package gateway

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/source"
	"gneiss/source/postgres"
	"gneiss/source/sqlite"
	"gneiss/store"
)

// Location is where a source is, in full.
func (s *Service) Location(r store.SourceRecord) string {
	if r.Kind == emit.Postgres || filepath.IsAbs(r.Location) {
		return r.Location
	}
	for _, root := range s.roots {
		if _, err := os.Stat(filepath.Join(root, r.Location)); err == nil {
			return filepath.Join(root, r.Location)
		}
	}
	return filepath.Join(s.roots[0], r.Location)
}

// OpenSource connects to the database of a record.
func (s *Service) OpenSource(r store.SourceRecord) (source.Source, error) {
	if r.Kind == emit.Postgres {
		return postgres.OpenWith(r.Location, s.statements())
	}
	dir := s.Location(r)
	if err := s.mayOpen(dir); err != nil {
		return nil, err
	}
	return sqlite.Open(dir, s.mayOpen)
}

// Bounds of the connections to one database, of each kind.
const (
	fewestConnections = 8
	mostConnections   = 64
)

// statements is how many statements of all lanes together can run at once, within those bounds: as
// many connections does a database get.
func (s *Service) statements() int {
	n := 0
	for _, lane := range s.platform.Current().Model.Lanes() {
		n += lane.Limits.Queries
	}
	return min(max(n, fewestConnections), mostConnections)
}

// Connect opens a source and keeps it under its object.
func (s *Service) Connect(id access.ObjectID, r store.SourceRecord) error {
	src, err := s.OpenSource(r)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sources[id] = src
	return nil
}

// SourceRecord says how the source of a name is reached.
func (s *Service) SourceRecord(ctx context.Context, name string) (store.SourceRecord, error) {
	records, err := s.store.Sources(ctx)
	if err != nil {
		return store.SourceRecord{}, err
	}
	var names []string
	for _, r := range records {
		if r.Name == name {
			return r, nil
		}
		names = append(names, r.Name)
	}
	return store.SourceRecord{}, &access.NotFound{Kind: "source", Name: name, Known: names}
}

// Disconnect closes a source, once what runs on it has ended.
func (s *Service) Disconnect(id access.ObjectID) {
	s.mu.Lock()
	src := s.sources[id]
	delete(s.sources, id)
	s.mu.Unlock()
	if src != nil {
		go src.Close()
	}
}

// Source returns the open source of an object, and opens it when it was not
// available before.
func (s *Service) Source(ctx context.Context, id access.ObjectID) (source.Source, error) {
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
		name := s.platform.Current().Model.Object(id).Name
		for _, r := range records {
			if r.Name == name {
				if err := s.Connect(id, r); err != nil {
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
