package gateway

import (
	"context"
	"sync"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
)

// traffic counts what runs on each lane, and lets no more run than may. A query
// that finds its lane full waits.
type traffic struct {
	mu      sync.Mutex
	running map[access.ObjectID]int
	changed chan struct{}              // closed and replaced when a query ends
	closed  bool                       // nothing more enters
	cancels map[int]context.CancelFunc // of what runs or waits
	next    int                        // the key of the next of these
}

func newTraffic() *traffic {
	return &traffic{running: map[access.ObjectID]int{}, changed: make(chan struct{}), cancels: map[int]context.CancelFunc{}}
}

// enter waits for a place on the lane. What runs there runs under the context that it
// returns, which ends with the lane's seconds or when the service stops, and calls
// leave at its end.
func (t *traffic) enter(ctx context.Context, lane *access.Object) (bounded context.Context, leave func(), err error) {
	bounded, cancel := context.WithTimeout(ctx, time.Duration(lane.Limits.Seconds)*time.Second)
	forget := t.watch(cancel)
	for {
		t.mu.Lock()
		if t.closed {
			t.mu.Unlock()
			forget()
			return nil, nil, fault.ErrStopping
		}
		if t.running[lane.ID] < lane.Limits.Queries {
			t.running[lane.ID]++
			t.mu.Unlock()
			return bounded, func() { t.leave(lane.ID); forget() }, nil
		}
		changed := t.changed
		t.mu.Unlock()
		select {
		case <-changed:
		case <-bounded.Done():
			forget()
			return nil, nil, bounded.Err()
		}
	}
}

// watch keeps a cancel function for cancelAll, until forget, which calls it.
func (t *traffic) watch(cancel context.CancelFunc) (forget func()) {
	t.mu.Lock()
	defer t.mu.Unlock()
	key := t.next
	t.next++
	t.cancels[key] = cancel
	return func() {
		t.mu.Lock()
		delete(t.cancels, key)
		t.mu.Unlock()
		cancel()
	}
}

func (t *traffic) leave(id access.ObjectID) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.running[id]--
	close(t.changed)
	t.changed = make(chan struct{})
}

func (t *traffic) on(id access.ObjectID) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.running[id]
}

// close lets nothing more enter, and waits until all have left or the context ends.
func (t *traffic) close(ctx context.Context) {
	for {
		t.mu.Lock()
		t.closed = true
		n := 0
		for _, running := range t.running {
			n += running
		}
		changed := t.changed
		t.mu.Unlock()
		if n == 0 {
			return
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return
		}
	}
}

// cancelAll ends what still runs.
func (t *traffic) cancelAll() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, cancel := range t.cancels {
		cancel()
	}
}
