package sqlport

import (
	"context"
	"sync"

	"gneiss/core/access"
)

// Turns bound what runs at once, of all and of each account, so that one account leaves room for
// others. The zero value has no room.
type turns struct {
	all, own int

	mu    sync.Mutex
	n     int
	by    map[access.SubjectID]int
	freed chan struct{} // closed when there is room again
}

func newTurns(all, own int) *turns {
	return &turns{all: all, own: own, by: map[access.SubjectID]int{}, freed: make(chan struct{})}
}

// enter waits, within the context, until there is room.
func (t *turns) enter(ctx context.Context, of access.SubjectID) error {
	for {
		t.mu.Lock()
		if t.n < t.all && t.by[of] < t.own {
			t.n++
			t.by[of]++
			t.mu.Unlock()
			return nil
		}
		freed := t.freed
		t.mu.Unlock()
		select {
		case <-freed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// again is enter for who has left for a moment, and leaves once more however it ends.
func (t *turns) again(ctx context.Context, of access.SubjectID) error {
	err := t.enter(ctx, of)
	if err != nil {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.n++
		t.by[of]++
	}
	return err
}

func (t *turns) leave(of access.SubjectID) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.n--
	if t.by[of]--; t.by[of] == 0 {
		delete(t.by, of)
	}
	close(t.freed)
	t.freed = make(chan struct{})
}
