package gateway

import (
	"context"
	"slices"
	"sync"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
)

// traffic counts what runs on each lane, and lets no more run than may. A query
// that finds its lane full waits: whose turn comes next goes round among the persons who
// wait there, so that nobody who asks much keeps others out.
type traffic struct {
	mu      sync.Mutex
	lanes   map[access.ObjectID]*queue
	changed chan struct{}              // closed and replaced when a query ends while the service stops
	closed  bool                       // nothing more enters
	cancels map[int]context.CancelFunc // of what runs or waits
	next    int                        // the key of the next of these
}

// A queue is what runs on a lane, and who waits for it.
type queue struct {
	running int
	most    int                // that may run
	turns   []access.SubjectID // of the persons who wait
	waiting map[access.SubjectID][]chan struct{}
	n       int // queries that wait
}

// How many queries may wait for a lane, of all and of one person.
const (
	mostWaiting    = 1000
	mostOwnWaiting = 200
)

func newTraffic() *traffic {
	return &traffic{lanes: map[access.ObjectID]*queue{}, changed: make(chan struct{}), cancels: map[int]context.CancelFunc{}}
}

// enter waits for a place on the lane, for a person; zero: for the service itself. What runs there
// runs under the context that it returns, which ends with the lane's seconds or when the service
// stops, and calls leave at its end.
func (t *traffic) enter(ctx context.Context, lane *access.Object, who access.SubjectID) (bounded context.Context, leave func(), err error) {
	bounded, cancel := context.WithTimeout(ctx, time.Duration(lane.Limits.Seconds)*time.Second)
	t.mu.Lock()
	forget := t.watch(cancel)
	if t.closed {
		t.mu.Unlock()
		forget()
		return nil, nil, fault.ErrStopping
	}
	q := t.lanes[lane.ID]
	if q == nil {
		q = &queue{waiting: map[access.SubjectID][]chan struct{}{}}
		t.lanes[lane.ID] = q
	}
	q.most = lane.Limits.Queries
	out := func() { t.leave(q); forget() }
	if q.running < q.most && q.n == 0 {
		q.running++
		t.mu.Unlock()
		return bounded, out, nil
	}
	if q.n >= mostWaiting || len(q.waiting[who]) >= mostOwnWaiting {
		t.mu.Unlock()
		forget()
		return nil, nil, fault.New(fault.TooMany, "lane_full", "the lane %s is full, and %d queries wait for it; try again, or ask less at once", lane.Name, q.n)
	}
	turn := make(chan struct{})
	if len(q.waiting[who]) == 0 {
		q.turns = append(q.turns, who)
	}
	q.waiting[who] = append(q.waiting[who], turn)
	q.n++
	t.admit(q) // the lane may have been widened
	t.mu.Unlock()
	select {
	case <-turn:
		return bounded, out, nil
	case <-bounded.Done():
	}
	t.mu.Lock()
	if i := slices.Index(q.waiting[who], turn); i >= 0 {
		q.drop(who, i)
		t.mu.Unlock()
		forget()
	} else { // its turn has come just now
		t.mu.Unlock()
		out()
	}
	return nil, nil, bounded.Err()
}

// drop takes one who waits out of the queue.
func (q *queue) drop(who access.SubjectID, i int) {
	q.n--
	if q.waiting[who] = slices.Delete(q.waiting[who], i, i+1); len(q.waiting[who]) == 0 {
		delete(q.waiting, who)
		q.turns = slices.DeleteFunc(q.turns, func(id access.SubjectID) bool { return id == who })
	}
}

// admit lets in whose turn it is, as many as there are places.
func (t *traffic) admit(q *queue) {
	for q.running < q.most && q.n > 0 {
		who := q.turns[0]
		q.turns = append(q.turns[1:], who) // at the end of the round
		turn := q.waiting[who][0]
		q.drop(who, 0)
		q.running++
		close(turn)
	}
}

// watch keeps a cancel function for cancelAll, until forget, which calls it. The caller holds
// the lock.
func (t *traffic) watch(cancel context.CancelFunc) (forget func()) {
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

func (t *traffic) leave(q *queue) {
	t.mu.Lock()
	defer t.mu.Unlock()
	q.running--
	t.admit(q)
	if t.closed {
		close(t.changed)
		t.changed = make(chan struct{})
	}
}

func (t *traffic) on(id access.ObjectID) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	if q := t.lanes[id]; q != nil {
		return q.running
	}
	return 0
}

// close lets nothing more enter, and waits until all have left or the context ends.
func (t *traffic) close(ctx context.Context) {
	for {
		t.mu.Lock()
		t.closed = true
		n := 0
		for _, q := range t.lanes {
			n += q.running
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
