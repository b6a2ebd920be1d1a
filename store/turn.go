package store

import (
	"sync"
	"sync/atomic"
	"time"
)

// A turn lets one goroutine at a time change the record's file. SQLite's own lock is not fair: without turns, whoever
// records waits until everything is counted.
type turn struct {
	sync.Mutex
	waiting atomic.Int32
}

// take waits for the turn. Unlock ends it.
func (t *turn) take() {
	t.waiting.Add(1)
	t.Lock()
	t.waiting.Add(-1)
}

// How long one portion of longer work should take: while somebody waits for the turn, and when nobody does.
const (
	busyPortion = 40 * time.Millisecond
	idlePortion = 250 * time.Millisecond
)

// A portion is how many rows long work changes in one turn. It adapts to how long that takes.
type portion struct{ least, most, n int64 }

func (p *portion) size() int64 { return max(p.least, p.n) }

// fit is called at the end of a turn that began at the time given, before the turn is handed on.
func (p *portion) fit(began time.Time, t *turn) {
	long := idlePortion
	if t.waiting.Load() > 0 {
		long = busyPortion
	}
	switch took := time.Since(began); {
	case took > long:
		p.n = p.size() / 2
	case took < long/4:
		p.n = min(p.most, p.size()*2)
	}
}
