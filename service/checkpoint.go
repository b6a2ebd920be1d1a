package service

import (
	"context"
	"encoding/gob"
	"fmt"
	"io"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/store"
)

// checkpoint is the state at one revision as a file keeps it.
type checkpoint struct {
	Version  int
	Access   *access.Snapshot
	Policies *policy.Snapshot
}

// checkpointVersion changes with what is in a checkpoint; one of another version
// is left aside, and the journal replayed.
const checkpointVersion = 4

// A checkpoint is made at a stop when worthKeeping revisions have passed since
// the last one, while running after keepEvery, and after a start that took long.
const (
	worthKeeping = 500
	keepEvery    = 20_000
	slowStart    = 2 * time.Second
)

// rebuild works out the state from the last checkpoint and the journal after it.
func (s *Service) rebuild(ctx context.Context) (*state, error) {
	b := builder{model: access.New(), policies: &policy.Set{}}
	var kept checkpoint
	revision, hash, err := s.store.Checkpoint(ctx, func(r io.Reader) error {
		if err := gob.NewDecoder(r).Decode(&kept); err != nil {
			return err
		}
		if kept.Version != checkpointVersion {
			return fmt.Errorf("version %d", kept.Version)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if revision > 0 {
		model, err := access.Restore(kept.Access)
		if err == nil {
			b.model, b.policies = model, policy.Restore(kept.Policies)
		} else {
			s.log.Warn("the checkpoint does not fit together; replaying the journal", "error", err)
			revision, hash = 0, ""
		}
	}
	s.kept.Store(revision)
	started, from := s.now(), revision
	err = s.store.Replay(ctx, revision, hash, func(e store.Entry) error {
		revision, hash = e.Revision, e.Hash
		return b.add(e)
	})
	if err == nil {
		err = b.flush()
	}
	if err != nil {
		return nil, err
	}
	at := newState(revision, hash, b.model, b.policies)
	if revision > from && s.now().Sub(started) > slowStart {
		s.keepBeside(at) // so that the next start is quicker, however this one ends
	}
	return at, nil
}

// a builder replays entries; changes of the access model are gathered and made
// together.
type builder struct {
	model    *access.Model
	policies *policy.Set
	steps    []access.Step
}

func (b *builder) add(e store.Entry) error {
	changes, err := decodeChanges(e.Changes)
	if err != nil {
		return err
	}
	when, err := e.Time()
	if err != nil {
		return err
	}
	for _, c := range changes {
		switch c := c.(type) {
		case access.Change:
			b.steps = append(b.steps, access.Step{At: when, Change: c})
		case policy.Change:
			if err := b.flush(); err != nil {
				return err
			}
			if b.policies, err = b.policies.Apply(c, b.model); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *builder) flush() (err error) {
	if len(b.steps) > 0 {
		b.model, err = b.model.Replay(b.steps)
		b.steps = nil
	}
	return err
}

// keep writes a checkpoint.
func (s *Service) keep(ctx context.Context, at *state) error {
	err := s.store.PutCheckpoint(ctx, at.revision, at.hash, func(w io.Writer) error {
		return gob.NewEncoder(w).Encode(checkpoint{checkpointVersion, at.model.Snapshot(), at.policies.Snapshot()})
	})
	if err == nil {
		s.kept.Store(at.revision)
	}
	return err
}

// keepSometimes writes a checkpoint beside the work when many revisions have
// passed. A state never changes, so that nothing waits for it.
func (s *Service) keepSometimes(at *state) {
	last := s.kept.Load()
	if at.revision-last < keepEvery || !s.kept.CompareAndSwap(last, at.revision) {
		return
	}
	s.keepBeside(at)
}

func (s *Service) keepBeside(at *state) {
	s.background.Go(func() {
		if err := s.keep(context.Background(), at); err != nil {
			s.log.Warn("the checkpoint cannot be written; the next start takes longer", "error", err)
		}
	})
}
