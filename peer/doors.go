package peer

import (
	"net"
	"sync"
)

// Doors bound how many connections are in a place at once: in all, and from one address, so that
// one address does not take the place of all others. They may be used concurrently.
type Doors struct{ places *Places[string] }

// NewDoors returns doors for so many connections, of which each address may have so many.
func NewDoors(all, perAddress int) *Doors { return &Doors{NewPlaces[string](all, perAddress)} }

// Enter lets a connection from an address in. Where ok is set, leave is called once it has gone;
// it may be called more than once.
func (d *Doors) Enter(address net.Addr) (leave func(), ok bool) {
	host := Host(address)
	if !d.places.Take(host) {
		return nil, false
	}
	return sync.OnceFunc(func() { d.places.Leave(host) }), true
}

// Host is the address of a connection without its port.
func Host(address net.Addr) string {
	host, _, err := net.SplitHostPort(address.String())
	if err != nil {
		return address.String()
	}
	return host
}

// Listener is one whose connections come in by these doors; others are closed at once.
func (d *Doors) Listener(l net.Listener) net.Listener { return &guarded{l, d} }

type guarded struct {
	net.Listener
	doors *Doors
}

func (g *guarded) Accept() (net.Conn, error) {
	for {
		conn, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		leave, ok := g.doors.Enter(conn.RemoteAddr())
		if !ok {
			conn.Close()
			continue
		}
		if tcp, ok := conn.(*net.TCPConn); ok {
			return &entered{tcp, leave}, nil
		}
		leave()
		return conn, nil
	}
}

// entered is a connection that leaves by the door it came in.
type entered struct {
	*net.TCPConn
	leave func()
}

func (e *entered) Close() error {
	e.leave()
	return e.TCPConn.Close()
}
