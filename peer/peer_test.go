package peer_test

import (
	"net"
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
