// Package peer watches whether the other end of a connection is still there.
package peer

import (
	"crypto/tls"
	"errors"
	"net"
	"sync"
	"syscall"
	"time"
)

// A Socket is what a connection goes over; the zero value is never gone.
type Socket struct{ raw syscall.RawConn }

// Of is the socket of a connection, below TLS where it has that.
func Of(conn net.Conn) Socket {
	if t, ok := conn.(*tls.Conn); ok {
		conn = t.NetConn()
	}
	if c, ok := conn.(syscall.Conn); ok {
		if raw, err := c.SyscallConn(); err == nil {
			return Socket{raw}
		}
	}
	return Socket{}
}

// Known reports whether there is a socket to watch.
func (s Socket) Known() bool { return s.raw != nil }

// Gone reports whether the other side has closed the connection, without taking anything from it.
func (s Socket) Gone() bool {
	if s.raw == nil {
		return false
	}
	gone := false
	err := s.raw.Control(func(fd uintptr) { gone = closed(int(fd)) })
	return gone || errors.Is(err, net.ErrClosed)
}

// When it is looked first whether the other side is still there, and how often then.
const (
	watchFirst = 100 * time.Millisecond
	watchEvery = 200 * time.Millisecond
)

// A Watch looks now and then whether the other side of a connection is still there, while it is on.
type Watch struct {
	socket Socket
	gone   func()

	mu    sync.Mutex
	on    bool
	set   bool        // the timer will end
	timer *time.Timer // nil: it was never on
}

// Watch returns a watch that is off. It calls gone when the other side has closed the connection.
func (s Socket) Watch(gone func()) *Watch { return &Watch{socket: s, gone: gone} }

// On starts to watch. Work that is done at once costs next to nothing: one timer serves for much of it.
func (w *Watch) On() {
	if !w.socket.Known() {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.on = true
	switch {
	case w.timer == nil:
		w.timer = time.AfterFunc(watchFirst, w.look)
	case !w.set:
		w.timer.Reset(watchFirst)
	}
	w.set = true
}

// Off ends that. Once it has returned, gone is not called.
func (w *Watch) Off() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.on = false
}

func (w *Watch) look() {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case !w.on:
		w.set = false
	case w.socket.Gone():
		w.set = false
		w.gone()
	default:
		w.timer.Reset(watchEvery)
	}
}
