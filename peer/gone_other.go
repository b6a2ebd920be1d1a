//go:build !linux

package peer

import (
	"errors"
	"syscall"
)

// closed reports whether the other side has closed the connection. What it has sent before that
// hides it here.
func closed(fd int) bool {
	n, _, err := syscall.Recvfrom(fd, make([]byte, 1), syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
	return n == 0 && err == nil || err != nil && !errors.Is(err, syscall.EAGAIN) && !errors.Is(err, syscall.EINTR)
}
