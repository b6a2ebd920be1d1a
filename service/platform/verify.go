package platform

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"hash"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/policy"
	"gneiss/store"
)

// Verify works the model out of the whole journal, from its first entry on, and compares it with
// the model that runs: a checkpoint is trusted at a start, and could be another's. Its error is
// [store.ErrAltered] where they differ.
func (p *Platform) Verify(ctx context.Context) error {
	now := p.Current()
	b := newState(0, "", access.New(), &policy.Set{}, &guard.Set{}).builder()
	if err := b.replay(ctx, p.store, now.Revision); err != nil {
		return fmt.Errorf("%w: the journal does not come to a model: %v", store.ErrAltered, err)
	}
	journal, err := digest(b.state())
	if err != nil {
		return err
	}
	running, err := digest(now)
	if err == nil && (b.hash != now.hash || journal != running) {
		err = fmt.Errorf("%w: the model that runs is not what the journal comes to. A checkpoint in the data folder may have been altered: "+
			"stop the service, remove the checkpoint files, and start it again", store.ErrAltered)
	}
	return err
}

// digest is that of all that a state has decided.
func digest(s *State) (sum [sha256.Size]byte, err error) {
	h := sha256.New()
	put := json.NewEncoder(h)
	for _, part := range []any{s.Policies.Snapshot(), s.Guards.Snapshot()} {
		if err := put.Encode(part); err != nil {
			return sum, err
		}
	}
	if err := s.Model.Snapshot(put.Encode); err != nil {
		return sum, err
	}
	return sumOf(h), nil
}

func sumOf(h hash.Hash) (sum [sha256.Size]byte) {
	h.Sum(sum[:0])
	return sum
}
