package gateway

import (
	"context"
	"slices"
	"sync"
	"sync/atomic"
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
	changed chan struct{}       // closed and replaced when a query ends while the service stops
	closed  bool                // nothing more enters
	inside  map[*entry]struct{} // what runs or waits
	clock   *time.Timer         // looks for what has run out of time, while anything is inside
	ticking bool
}

// An entry is a statement that runs on a lane or waits for it. It is the context of that. Most statements end long before
// their time is up, so none has a timer of its own: the traffic's clock ends those that are late.
type entry struct {
	context.Context
	cancel context.CancelCauseFunc
	until  time.Time
	late   atomic.Bool
	on     *queue
	who    access.SubjectID
	lane   string
	state  state
}

// A state says what an entry does.
type state int

const (
	waits state = iota // for a place
	runs
	rests // until its reader wants more, without a place
)

// become brings an entry from one state to the next; the caller holds the lock.
func (e *entry) become(next state) {
	counts := [...]*int{runs: &e.on.running, rests: &e.on.resting}
	if n := counts[e.state]; n != nil {
		*n--
	}
	if n := counts[next]; n != nil {
		*n++
	}
	e.state = next
}

// tick is how often the clock looks, and so by how much a statement may overrun.
const tick = 50 * time.Millisecond

func (e *entry) Deadline() (time.Time, bool) {
	if sooner, ok := e.Context.Deadline(); ok && sooner.Before(e.until) {
		return sooner, true
	}
	return e.until, true
}

func (e *entry) Err() error {
	if e.late.Load() {
		return context.DeadlineExceeded
	}
	return e.Context.Err()
}

// A queue is what runs on a lane, and who waits for it.
type queue struct {
	running int
	resting int                // statements that wait for their reader, without a place
	most    int                // that may run
	turns   []access.SubjectID // of the persons who wait
	waiting map[access.SubjectID][]*turn
	n       int // queries that wait
}

// A turn is that of an entry which waits.
type turn struct {
	of    *entry
	comes chan struct{} // closed when it has a place
}

// How many queries may wait for a lane, of all and of one person.
const (
	mostWaiting    = 1000
	mostOwnWaiting = 200
)

func newTraffic() *traffic {
	t := &traffic{lanes: map[access.ObjectID]*queue{}, changed: make(chan struct{}), inside: map[*entry]struct{}{}}
	t.clock = time.AfterFunc(time.Hour, t.expire)
	t.clock.Stop()
	return t
}

// enter waits for a place on the lane, for a person; zero: for the service itself. What runs there
// runs under the context that it returns, which ends with the lane's seconds or when the service
// stops, and calls leave at its end.
func (t *traffic) enter(ctx context.Context, lane *access.Object, who access.SubjectID) (bounded *entry, leave func(), err error) {
	e := &entry{until: time.Now().Add(time.Duration(lane.Limits.Seconds) * time.Second), who: who, lane: lane.Name}
	e.Context, e.cancel = context.WithCancelCause(ctx)
	t.mu.Lock()
	if t.closed {
		t.mu.Unlock()
		e.cancel(nil)
		return nil, nil, fault.ErrStopping
	}
	t.inside[e] = struct{}{}
	if !t.ticking {
		t.ticking = true
		t.clock.Reset(tick)
	}
	q := t.lanes[lane.ID]
	if q == nil {
		q = &queue{waiting: map[access.SubjectID][]*turn{}}
		t.lanes[lane.ID] = q
	}
	e.on, q.most = q, lane.Limits.Queries
	if err := t.place(e); err != nil {
		t.leave(e)
		return nil, nil, err
	}
	return e, func() { t.leave(e) }, nil
}

// place waits for a place on its lane for a statement that has none. The caller holds the lock, and place gives it back.
func (t *traffic) place(e *entry) error {
	q := e.on
	if q.running < q.most && q.n == 0 {
		e.become(runs)
		t.mu.Unlock()
		return nil
	}
	if q.n >= mostWaiting || len(q.waiting[e.who]) >= mostOwnWaiting {
		n := q.n
		t.mu.Unlock()
		return fault.New(fault.TooMany, "lane_full", "the lane %s is full, and %d queries wait for it; try again, or ask less at once", e.lane, n)
	}
	next := &turn{e, make(chan struct{})}
	if len(q.waiting[e.who]) == 0 {
		q.turns = append(q.turns, e.who)
	}
	q.waiting[e.who] = append(q.waiting[e.who], next)
	q.n++
	t.admit(q) // the lane may have been widened
	t.mu.Unlock()
	select {
	case <-next.comes:
	case <-e.Done():
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if i := slices.Index(q.waiting[e.who], next); i >= 0 {
		q.drop(e.who, i)
	}
	return e.Err()
}

// rest gives the place of a statement that waits for its reader to another. What it returns waits for a place again.
func (t *traffic) rest(e *entry) (again func() error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	e.become(rests)
	t.admit(e.on)
	return func() error {
		t.mu.Lock()
		e.become(waits)
		return t.place(e)
	}
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
		next := q.waiting[who][0]
		q.drop(who, 0)
		next.of.become(runs)
		close(next.comes)
	}
}

// expire ends what has run out of time.
func (t *traffic) expire() {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := time.Now()
	for e := range t.inside {
		if now.After(e.until) && e.Context.Err() == nil {
			e.late.Store(true)
			e.cancel(nil)
		}
	}
	if t.ticking = len(t.inside) > 0; t.ticking {
		t.clock.Reset(tick)
	}
}

func (t *traffic) leave(e *entry) {
	defer e.cancel(nil)
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.inside, e)
	e.become(waits)
	t.admit(e.on)
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
			n += q.running + q.resting
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
	for e := range t.inside {
		e.cancel(nil)
	}
}
