package api

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"gneiss/peer"
)

// watched returns a context that ends when the caller's connection does, so that the
// work done for them ends too. stop must be called when the request is answered.
func watched(c fiber.Ctx) (ctx context.Context, stop context.CancelFunc) {
	ctx, cancel := context.WithCancel(c.Context())
	watch := peer.Of(c.RequestCtx().Conn()).Watch(cancel)
	watch.On()
	return ctx, func() {
		watch.Off()
		cancel()
	}
}

// grace gives the next piece of a stream the time that a whole answer has else, so that a long answer is cut
// off only where nobody reads it.
func grace(conn net.Conn) error { return conn.SetWriteDeadline(time.Now().Add(writeTimeout)) }

// prefixes reads the addresses, and ranges of them, of trusted proxies.
func prefixes(list []string) []netip.Prefix {
	var out []netip.Prefix
	for _, text := range list {
		if p, err := netip.ParsePrefix(text); err == nil {
			out = append(out, p)
		} else if a, err := netip.ParseAddr(text); err == nil {
			out = append(out, netip.PrefixFrom(a, a.BitLen()))
		}
	}
	return out
}

// address is where a request comes from: the other end of the connection, or behind
// trusted proxies the last address in X-Forwarded-For that is none of theirs. What
// stands before that, anybody can write.
func (s *Server) address(c fiber.Ctx) string {
	trusted := func(a netip.Addr) bool {
		for _, p := range s.proxies {
			if p.Contains(a.Unmap()) {
				return true
			}
		}
		return false
	}
	remote, ok := netip.AddrFromSlice(c.RequestCtx().RemoteIP())
	if !ok {
		return ""
	}
	at := remote.Unmap()
	if len(s.proxies) == 0 {
		return at.String()
	}
	hops := strings.Split(c.Get(fiber.HeaderXForwardedFor), ",")
	for i := len(hops) - 1; i >= 0 && trusted(at); i-- {
		hop, err := netip.ParseAddr(strings.TrimSpace(hops[i]))
		if err != nil {
			break
		}
		at = hop.Unmap().WithZone("") // which could be any text
	}
	return at.String()
}
