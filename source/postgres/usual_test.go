package postgres

import (
	"testing"
	"time"
)

// TestUsual: one round at a time is usual where the database is near, whatever some of them take, and as many as are on their
// way where it is far away.
func TestUsual(t *testing.T) {
	r := &rounds{}
	if n := r.usual(); n != 1 {
		t.Errorf("before the first, %d are usual", n)
	}
	for _, c := range []struct {
		took  []time.Duration
		times int
		usual int
	}{
		{[]time.Duration{200 * time.Microsecond}, 1, 1},
		{[]time.Duration{3 * time.Millisecond, 300 * time.Microsecond, time.Second}, 100, 1},
		{[]time.Duration{2300 * time.Microsecond, 4 * time.Millisecond}, 10, 1},
		{[]time.Duration{2300 * time.Microsecond, 4 * time.Millisecond}, 200, 5},
		{[]time.Duration{time.Second}, 1000, most},
		{[]time.Duration{400 * time.Microsecond}, 1, 1},
	} {
		for range c.times {
			for _, took := range c.took {
				r.ended(took)
			}
		}
		if n := r.usual(); n != c.usual {
			t.Errorf("after %d times %v, %d are usual, want %d", c.times, c.took, n, c.usual)
		}
	}
}
