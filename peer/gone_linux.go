package peer

import "golang.org/x/sys/unix"

// closed reports whether the other side sends nothing more, even where what it has sent is not read
// yet: a goodbye, or the alert that ends TLS, comes before the end of a connection.
func closed(fd int) bool {
	const ended = unix.POLLRDHUP | unix.POLLHUP | unix.POLLERR | unix.POLLNVAL
	poll := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLRDHUP}}
	n, err := unix.Poll(poll, 0)
	return err == nil && n > 0 && poll[0].Revents&ended != 0
}
