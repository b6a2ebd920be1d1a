package platform

import (
	"context"
	"sort"
	"strconv"
	"time"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/policy"
	"gneiss/store"
)

// mostMoments bounds the past states that are kept, the last ones among them, and mostImagined what
// drafts came to. A state shares with its neighbours what they have alike.
const (
	mostMoments  = 64
	mostImagined = 6
)

// bare is the state without what was worked out from it.
func (s *State) bare() *State { return newState(s.Revision, s.hash, s.Model, s.Policies, s.Guards) }

// Bare is what a state is made of: states that have the same are alike.
type Bare struct {
	Model    *access.Model
	Policies *policy.Set
	Guards   *guard.Set
}

// Bare is what the state is made of.
func (s *State) Bare() Bare { return Bare{s.Model, s.Policies, s.Guards} }

// Authority is the state whose rights decide what may be asked about this one: of a past state, and
// of one that is only thought of, the current.
func (s *State) Authority() *State {
	if s.now != nil {
		return s.now
	}
	return s
}

// Imagined reports whether the state is not the current one.
func (s *State) Imagined() bool { return s.now != nil }

// InAuthority is the object of an id where rights on it are looked up in [State.Authority]: itself,
// or the nearest above it that is there.
func (s *State) InAuthority(id access.ObjectID) access.ObjectID {
	for s.now != nil && id != 0 && !s.now.Model.HasObject(id) {
		id = s.Model.Object(id).Parent
	}
	return id
}

// under returns the state as one that is only looked at, under the authority of the current.
func (s *State) under(now *State) *State {
	next := newState(s.Revision, s.hash, s.Model, s.Policies, s.Guards)
	next.now = now
	return next
}

// At is the state as it was at a revision, of which there has to be one.
func (p *Platform) At(ctx context.Context, revision int64) (*State, error) {
	now := p.Current()
	if revision == now.Revision {
		return now.under(now), nil
	}
	if kept, ok := p.past.Get(revision); ok {
		if kept.now != now {
			kept = kept.under(now)
			p.past.Add(revision, kept)
		}
		return kept, nil
	}
	made, err, _ := p.rebuilding.Do(strconv.FormatInt(revision, 10), func() (any, error) {
		return p.rebuildAt(context.WithoutCancel(ctx), revision) // for all who wait for it, also when the first goes away
	})
	if err != nil {
		return nil, err
	}
	at := made.(*State).under(now)
	p.past.Add(revision, at)
	return at, nil
}

// rebuildAt works out the state at a revision, from the last checkpoint before it or from the
// nearest past state that is kept.
func (p *Platform) rebuildAt(ctx context.Context, revision int64) (*State, error) {
	var from *State
	for _, at := range p.past.Values() {
		if at.Revision <= revision && (from == nil || at.Revision > from.Revision) {
			from = at
		}
	}
	last, err := p.store.CheckpointBefore(ctx, revision)
	if err == nil && (from == nil || last > from.Revision) {
		from, err = p.checkpointed(ctx, revision)
	}
	if err != nil {
		return nil, err
	}
	b := from.builder()
	if err := b.replay(ctx, p.store, revision); err != nil {
		return nil, err
	}
	return b.state(), nil
}

// RevisionAt is the last revision that was made at a time or before; zero: none was.
func (p *Platform) RevisionAt(ctx context.Context, at time.Time) (int64, error) {
	var err error
	n := sort.Search(int(p.Current().Revision), func(i int) bool {
		entry, e := p.store.Entry(ctx, int64(i)+1)
		if e != nil {
			err = e
			return true
		}
		when, e := entry.Time()
		if e != nil {
			err = e
		}
		return when.After(at)
	})
	return int64(n), err
}

// Changes are the changes of an entry of the journal.
func Changes(e store.Entry) ([]Change, error) { return decodeChanges(e.Changes) }

// Encode writes changes as the journal has them, and Decode reads them.
func Encode(changes []Change) (string, error) { return encodeChanges(changes) }

// Decode reads what Encode has written.
func Decode(text string) ([]Change, error) { return decodeChanges(text) }
