package gateway

import (
	"runtime"
	"sync"
)

// processors adapts GOMAXPROCS to long answers. Sending one keeps a processor (a P of Go's scheduler) busy, and Go polls
// the network only when a processor is idle, or every 10 ms. A short statement waits for the network several times, so
// next to long answers it used to take fifty times as long as on its own. While long answers are being sent, there is
// one more processor for each of them and one to spare; the operating system, which prefers threads that run briefly,
// shares the cores among them.
type processors struct {
	mu    sync.Mutex
	long  int // long answers being sent
	usual int // GOMAXPROCS without them
}

// shared is the one of this process, as GOMAXPROCS is.
var shared processors

const (
	// longAt is how many bytes make an answer a long one.
	longAt = 1 << 20
	// mostMore limits the processors that are added for long answers.
	mostMore = 32
)

// enter adds a processor for an answer that has become a long one.
func (p *processors) enter() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.long++; p.long == 1 {
		p.usual = runtime.GOMAXPROCS(0)
	}
	if n := p.usual + 1 + min(p.long, mostMore); n > runtime.GOMAXPROCS(0) {
		runtime.GOMAXPROCS(n)
	}
}

// leave is called when a long answer has ended or pauses. The last one restores the usual number.
func (p *processors) leave() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.long--; p.long == 0 {
		runtime.GOMAXPROCS(p.usual)
	}
}
