package gateway

import (
	"runtime"
	"testing"
)

func TestProcessors(t *testing.T) {
	usual := runtime.GOMAXPROCS(0)
	defer runtime.GOMAXPROCS(usual)
	p := processors{}
	for step, c := range []struct{ enter, leave, more int }{
		{1, 0, 2}, {0, 1, 0}, {3, 0, 4}, {0, 2, 4}, {1, 0, 4}, {0, 2, 0}, {100, 0, 1 + mostMore}, {0, 99, 1 + mostMore}, {0, 1, 0}} {
		for range c.enter {
			p.enter()
		}
		for range c.leave {
			p.leave()
		}
		if n := runtime.GOMAXPROCS(0); n != usual+c.more {
			t.Fatalf("step %d: %d processors more, want %d", step, n-usual, c.more)
		}
	}
}
