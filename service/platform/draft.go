package platform

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"gneiss/store"
)

// A Draft is a set of changes that are not made yet, and the state that they come to on top of the
// current one.
type Draft struct {
	store.Draft
	Steps   [][]Change
	State   *State
	Misfits map[int]error // by the place of the step that does not fit what is there now
}

// draftKey names what a draft came to.
type draftKey struct{ id, version, revision int64 }

// OpenDraft is the open draft of a name, as of now.
func (p *Platform) OpenDraft(ctx context.Context, name string) (*Draft, error) {
	kept, err := p.store.OpenDraftNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	return p.Imagined(kept)
}

// Imagined works out what a draft comes to. The last ones are kept, with what was made of their
// states.
func (p *Platform) Imagined(kept store.Draft) (*Draft, error) {
	now := p.Current()
	key := draftKey{kept.ID, kept.Version, now.Revision}
	if d, ok := p.imagined.Get(key); ok {
		return d, nil
	}
	d := &Draft{Draft: kept, Steps: make([][]Change, len(kept.Steps))}
	for i, step := range kept.Steps {
		changes, err := decodeChanges(step.Changes)
		if err != nil {
			return nil, fmt.Errorf("the draft %s, step %d: %w", kept.Name, step.N, err)
		}
		d.Steps[i] = changes
	}
	d.State, d.Misfits = imagine(now, d.Steps)
	p.imagined.Add(key, d)
	return d, nil
}

// imagine works out a state as it would be after steps. One that does not fit is left out.
func imagine(now *State, steps [][]Change) (st *State, misfits map[int]error) {
	at := time.Now().UTC()
	st, misfits = now.under(now), map[int]error{}
	for i, changes := range steps {
		next, err := st.ApplyAll(changes, at)
		if err != nil {
			misfits[i] = err
			continue
		}
		st = next
	}
	return st, misfits
}

// Misfit is the first step that does not fit, and why; -1 where all do.
func (d *Draft) Misfit() (int, error) {
	for _, i := range slices.Sorted(maps.Keys(d.Misfits)) {
		return i, d.Misfits[i]
	}
	return -1, nil
}

// All are the changes of the draft, in their order.
func (d *Draft) All() []Change { return slices.Concat(d.Steps...) }

// Fitting are the changes of the steps that fit, in their order.
func (d *Draft) Fitting() []Change {
	var out []Change
	for i, step := range d.Steps {
		if d.Misfits[i] == nil {
			out = append(out, step...)
		}
	}
	return out
}
