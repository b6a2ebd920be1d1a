package platform

import (
	"context"
	"encoding/gob"
	"io"
	"math"
	"time"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/policy"
	"gneiss/store"
)

// checkpoint is the state at one revision as a file keeps it.
type checkpoint struct {
	Version  int
	Access   *access.Snapshot
	Policies *policy.Snapshot
	Guards   *guard.Snapshot
}

// checkpointVersion changes with what is in a checkpoint; one of another version
// is left aside, and the journal replayed.
const checkpointVersion = 5

// A checkpoint is made at a stop when worthKeeping revisions have passed since
// the last one, while running after keepEvery, and after a start that took long.
const (
	worthKeeping = 500
	keepEvery    = 20_000
	slowStart    = 2 * time.Second
)

// rebuild works out the state from the last checkpoint and the journal after it.
func (p *Platform) rebuild(ctx context.Context) (*State, error) {
	b := newBuilder()
	var kept checkpoint
	revision, hash, err := p.store.Checkpoint(ctx, math.MaxInt64, func(r io.Reader) error { return decodeCheckpoint(r, &kept) })
	if err != nil {
		return nil, err
	}
	if revision > 0 {
		model, err := access.Restore(kept.Access)
		if err == nil {
			b.model, b.policies, b.guards = model, policy.Restore(kept.Policies), guard.Restore(kept.Guards)
		} else {
			p.log.Warn("the checkpoint does not fit together; replaying the journal", "error", err)
			revision, hash = 0, ""
		}
	}
	p.kept.Store(revision)
	started, from := time.Now(), revision
	err = p.store.Replay(ctx, revision, math.MaxInt64, hash, func(e store.Entry) error {
		revision, hash = e.Revision, e.Hash
		return b.add(e)
	})
	if err == nil {
		err = b.flush()
	}
	if err != nil {
		return nil, err
	}
	at := newState(revision, hash, b.model, b.policies, b.guards)
	if revision > from && time.Since(started) > slowStart {
		p.keepBeside(at) // so that the next start is quicker, however this one ends
	}
	return at, nil
}

// a builder replays entries; changes of the access model are gathered and made
// together.
type builder struct {
	model    *access.Model
	policies *policy.Set
	guards   *guard.Set
	steps    []access.Step
}

func newBuilder() builder {
	return builder{model: access.New(), policies: &policy.Set{}, guards: &guard.Set{}}
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
		case guard.Change:
			if err := b.flush(); err != nil {
				return err
			}
			if b.guards, err = b.guards.Apply(c, b.model); err != nil {
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
func (p *Platform) keep(ctx context.Context, at *State) error {
	err := p.store.PutCheckpoint(ctx, at.Revision, at.hash, func(w io.Writer) error {
		return gob.NewEncoder(w).Encode(checkpoint{checkpointVersion, at.Model.Snapshot(), at.Policies.Snapshot(), at.Guards.Snapshot()})
	})
	if err == nil {
		p.kept.Store(at.Revision)
	}
	return err
}

// keepSometimes writes a checkpoint beside the work when many revisions have
// passed. A state never changes, so that nothing waits for it.
func (p *Platform) keepSometimes(at *State) {
	last := p.kept.Load()
	if at.Revision-last < keepEvery || !p.kept.CompareAndSwap(last, at.Revision) {
		return
	}
	p.keepBeside(at)
}

func (p *Platform) keepBeside(at *State) {
	p.background.Go(func() {
		if err := p.keep(context.Background(), at); err != nil {
			p.log.Warn(checkpointUnwritten, "error", err)
		}
	})
}

const checkpointUnwritten = "the checkpoint cannot be written; the next start takes longer"
