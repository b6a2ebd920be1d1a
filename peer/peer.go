// Package peer watches whether the other end of a connection is still there.
package peer

import (
	"context"
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
	err := s.raw.Control(func(fd uintptr) {
		n, _, err := syscall.Recvfrom(int(fd), make([]byte, 1), syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		gone = n == 0 && err == nil || err != nil && !errors.Is(err, syscall.EAGAIN) && !errors.Is(err, syscall.EINTR)
	})
	return gone || errors.Is(err, net.ErrClosed)
}

// When it is looked first whether the other side is still there, and how often then.
const (
	watchFirst = 100 * time.Millisecond
	watchEvery = 200 * time.Millisecond
)

// Watch calls gone when the other side has closed the connection. It ends with the context, or when stop is
// called; work that is done at once is not watched, and costs nothing.
func (s Socket) Watch(ctx context.Context, gone func()) (stop func()) {
	if !s.Known() {
		return func() {}
	}
	var mu sync.Mutex
	mu.Lock()
	defer mu.Unlock()
	var timer *time.Timer
	timer = time.AfterFunc(watchFirst, func() {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case ctx.Err() != nil:
		case s.Gone():
			gone()
		default:
			timer.Reset(watchEvery)
		}
	})
	return func() {
		mu.Lock()
		defer mu.Unlock()
		timer.Stop()
	}
}
