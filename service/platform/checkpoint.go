package platform

import (
	"context"
	"encoding/gob"
	"fmt"
	"io"
	"math"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/policy"
	"gneiss/store"
)

// checkpoint is the state at one revision as a file keeps it, but for the access model, which follows.
type checkpoint struct {
	Version  int
	Policies *policy.Snapshot
	Guards   *guard.Snapshot
}

// checkpointVersion changes with what is in a checkpoint; one of another version
// is left aside, and the journal replayed.
const checkpointVersion = 7

// A checkpoint is made after keepEvery changes, and at a stop when there were worthKeeping since the
// last one. The states of other revisions are made from the one before.
const (
	worthKeeping = 500
	keepEvery    = 200_000
)

// rebuild works out the state from the last checkpoint and the journal after it. On a long way it
// leaves checkpoints behind, so that the next start is quicker, however this one ends.
func (p *Platform) rebuild(ctx context.Context) (*State, error) {
	from, err := p.checkpointed(ctx, math.MaxInt64)
	if err != nil {
		return nil, err
	}
	b := from.builder()
	b.made = func(changes int) { p.keepSometimes(changes, b.state) }
	if err := b.replay(ctx, p.store, math.MaxInt64); err != nil {
		return nil, err
	}
	return b.state(), nil
}

// checkpointed is the state of the last checkpoint at a revision or before it; that of an empty
// platform where there is none.
func (p *Platform) checkpointed(ctx context.Context, until int64) (*State, error) {
	var kept checkpoint
	var model *access.Model
	revision, hash, err := p.store.Checkpoint(ctx, until, func(r io.Reader) error {
		kept = checkpoint{} // nothing of one that was not whole
		decoder := gob.NewDecoder(r)
		err := decoder.Decode(&kept)
		if err == nil && kept.Version != checkpointVersion {
			err = fmt.Errorf("version %d", kept.Version)
		}
		if err == nil {
			model, err = access.Restore(decoder.Decode)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	if revision == 0 {
		return newState(0, "", access.New(), &policy.Set{}, &guard.Set{}), nil
	}
	return newState(revision, hash, model, policy.Restore(kept.Policies), guard.Restore(kept.Guards)), nil
}

// a builder replays entries upon a state.
type builder struct {
	revision int64
	hash     string
	model    *access.Replay
	policies *policy.Set
	guards   *guard.Set
	made     func(changes int) // after each entry, with how many it had
}

func (s *State) builder() *builder {
	return &builder{s.Revision, s.hash, s.Model.Replay(), s.Policies, s.Guards, func(int) {}}
}

// replay adds the entries up to a revision, or the last.
func (b *builder) replay(ctx context.Context, from *store.Store, until int64) error {
	return store.Replay(ctx, from, b.revision, until, b.hash, Changes, b.add)
}

func (b *builder) add(e store.Entry, changes []Change) error {
	when, err := e.Time()
	if err != nil {
		return err
	}
	for _, c := range changes {
		switch c := c.(type) {
		case access.Change:
			err = b.model.Apply(when, c)
		case policy.Change:
			b.policies, err = b.policies.Apply(c, b.model.Current())
		case guard.Change:
			b.guards, err = b.guards.Apply(c, b.model.Current())
		}
		if err != nil {
			return err
		}
	}
	b.revision, b.hash = e.Revision, e.Hash
	b.made(len(changes))
	return nil
}

// state is the state after the entries so far.
func (b *builder) state() *State {
	return newState(b.revision, b.hash, b.model.Model(), b.policies, b.guards)
}

// keep writes a checkpoint.
func (p *Platform) keep(ctx context.Context, at *State) {
	err := p.store.PutCheckpoint(ctx, at.Revision, at.hash, func(w io.Writer) error {
		encoder := gob.NewEncoder(w)
		if err := encoder.Encode(checkpoint{checkpointVersion, at.Policies.Snapshot(), at.Guards.Snapshot()}); err != nil {
			return err
		}
		return at.Model.Snapshot(encoder.Encode)
	})
	if err != nil {
		p.log.Warn("the checkpoint cannot be written; the next start takes longer", "error", err)
	}
}

// keepSometimes writes a checkpoint beside the work when many changes have been made, one at a time.
// A state never changes, so that nothing waits for it.
func (p *Platform) keepSometimes(changes int, at func() *State) {
	if p.unkept.Add(int64(changes)) < keepEvery || !p.keeping.CompareAndSwap(false, true) {
		return
	}
	p.unkept.Store(0)
	now := at()
	p.background.Go(func() {
		defer p.keeping.Store(false)
		p.keep(context.Background(), now)
	})
}
