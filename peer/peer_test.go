package peer_test

import (
	"context"
	"net"
	"slices"
	"testing"
	"time"

	"gneiss/peer"
)

// pair returns both ends of a connection.
func pair(t *testing.T) (near, far net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if far, err = net.Dial("tcp", l.Addr().String()); err == nil {
		near, err = l.Accept()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { near.Close(); far.Close() })
	return near, far
}

// TestWatch: a watch that is on tells once that the other side has closed the connection, however often it was on before, and
// tells nothing while it is off or the other side is there.
func TestWatch(t *testing.T) {
	for _, c := range []struct {
		name   string
		before func(w *peer.Watch)
	}{
		{"at first", func(*peer.Watch) {}},
		{"after quick work", func(w *peer.Watch) {
			for range 1000 {
				w.On()
				w.Off()
			}
		}},
		{"after a pause", func(w *peer.Watch) {
			w.On()
			w.Off()
			time.Sleep(400 * time.Millisecond)
		}},
		{"after long work", func(w *peer.Watch) {
			w.On()
			time.Sleep(400 * time.Millisecond)
			w.Off()
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			near, far := pair(t)
			gone := make(chan struct{}, 10)
			w := peer.Of(near).Watch(func() { gone <- struct{}{} })
			c.before(w)
			if _, err := far.Write([]byte("the next message")); err != nil {
				t.Fatal(err)
			}
			w.On()
			select {
			case <-gone:
				t.Fatal("the other side is there")
			case <-time.After(500 * time.Millisecond):
			}
			b := make([]byte, 100)
			if n, err := near.Read(b); err != nil || string(b[:n]) != "the next message" {
				t.Fatalf("the watch has taken of %q, %v", b[:n], err)
			}
			w.Off()
			far.Close()
			select {
			case <-gone:
				t.Fatal("a watch that is off tells something")
			case <-time.After(500 * time.Millisecond):
			}
			w.On()
			select {
			case <-gone:
			case <-time.After(5 * time.Second):
				t.Fatal("nobody was told that the other side is gone")
			}
			time.Sleep(500 * time.Millisecond)
			if len(gone) > 0 {
				t.Error("it was told twice")
			}
		})
	}
}

// TestPlaces: one takes no more than its part, who waits gets the next that is free, and who leaves for a
// moment and gets none again has left once.
func TestPlaces(t *testing.T) {
	p := peer.NewPlaces[string](3, 2)
	if new(peer.Places[string]).Take("a") {
		t.Error("the zero value has a place")
	}
	var taken []bool
	for _, of := range []string{"a", "a", "a", "b", "c"} {
		taken = append(taken, p.Take(of))
	}
	if !slices.Equal(taken, []bool{true, true, false, true, false}) {
		t.Errorf("each has two at most, and all have three: %v", taken)
	}
	got := make(chan error)
	go func() { got <- p.Wait(t.Context(), "c") }()
	select {
	case <-got:
		t.Fatal("a fourth place is taken")
	case <-time.After(50 * time.Millisecond):
	}
	p.Leave("a")
	if err := <-got; err != nil {
		t.Fatal(err)
	}
	p.Leave("b")
	if !p.Take("a") {
		t.Error("a place that was given back is not free")
	}
	p.Leave("c")
	ended, end := context.WithCancel(t.Context())
	end()
	if !p.Take("b") || p.WaitAgain(ended, "c") == nil {
		t.Error("a fourth place is taken again")
	}
	p.Leave("c")
	if p.Take("d") {
		t.Error("one place too many was given back")
	}
	if p.Leave("b"); !p.Take("d") {
		t.Error("one place too few was given back")
	}
}
