package postgres

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"gneiss/source"
)

// TestNothingIsLeftOfARound, also where there is no database.
func TestNothingIsLeftOfARound(t *testing.T) {
	pool, err := pgxpool.New(t.Context(), "postgresql://nobody@127.0.0.1:1/none")
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	r := newRounds(pool)
	for range 20 {
		if rows, ok := r.ask(t.Context(), source.Request{SQL: "SELECT 1", Point: true}); ok || rows != nil {
			t.Fatalf("%v from no database", rows)
		}
	}
	var sent, running int
	for range 500 {
		r.mu.Lock()
		sent, running = len(r.sent), r.running
		r.mu.Unlock()
		if sent+running == 0 {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Errorf("%d rounds and %d workers are left", sent, running)
}

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
		{[]time.Duration{time.Millisecond, 4 * time.Millisecond}, 10, 1},
		{[]time.Duration{time.Millisecond, 4 * time.Millisecond}, 200, 4},
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
