package peer

import (
	"context"
	"sync"
)

// Places bound what is taken at once: of all, and by each, so that one leaves room for the others. The
// zero value has none. They may be used concurrently.
type Places[K comparable] struct {
	all, each int

	mu    sync.Mutex
	n     int
	by    map[K]int
	freed chan struct{} // closed when one is given back
}

// NewPlaces returns places for all, of which each may take so many at once.
func NewPlaces[K comparable](all, each int) *Places[K] {
	return &Places[K]{all: all, each: each, by: map[K]int{}, freed: make(chan struct{})}
}

// Take takes a place where one is free.
func (p *Places[K]) Take(of K) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.n >= p.all || p.by[of] >= p.each {
		return false
	}
	p.count(of)
	return true
}

// Wait takes a place as soon as one is free, within the context.
func (p *Places[K]) Wait(ctx context.Context, of K) error {
	for {
		p.mu.Lock()
		freed := p.freed
		p.mu.Unlock()
		if p.Take(of) {
			return nil
		}
		select {
		case <-freed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// WaitAgain is Wait for who has left for a moment, and leaves once more however it ends.
func (p *Places[K]) WaitAgain(ctx context.Context, of K) error {
	err := p.Wait(ctx, of)
	if err != nil {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.count(of)
	}
	return err
}

func (p *Places[K]) count(of K) {
	p.n++
	p.by[of]++
}

// Leave gives a place back.
func (p *Places[K]) Leave(of K) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.n--
	if p.by[of]--; p.by[of] == 0 {
		delete(p.by, of)
	}
	close(p.freed)
	p.freed = make(chan struct{})
}
