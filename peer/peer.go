// Package peer watches whether the other end of a connection is still there.
package peer

import (
	"crypto/tls"
	"errors"
	"net"
	"syscall"
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
