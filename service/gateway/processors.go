package gateway

import (
	"runtime"
	"sync"
)

// Long answers keep processors busy, and Go looks for what came over the network only where one is idle, or after 10 ms:
// a short statement beside them, which waits for the network several times, would take a hundred times as long as alone.
// So while long answers are on their way Go has one processor more for each, and one to spare. How these share the
// machine's own is up to the system, which lets those go first who want little.
type processors struct {
	mu    sync.Mutex
	long  int // answers on their way
	usual int // processors without them
}

// shared are the processors of the process.
var shared processors

const (
	// longAt is how much of an answer has been sent when it is a long one, in bytes.
	longAt = 1 << 20
	// mostMore is how many processors more there are for long answers.
	mostMore = 32
)

// enter is called when an answer has become a long one.
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

// leave is called when a long answer has ended.
func (p *processors) leave() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.long--; p.long == 0 {
		runtime.GOMAXPROCS(p.usual)
	}
}
