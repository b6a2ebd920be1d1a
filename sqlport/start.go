package sqlport

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
)

// What a client may send before it has signed in, in bytes, and after.
const (
	mostStart   = 10_000
	mostMessage = 8 << 20
)

// The codes that begin a connection in place of a version.
const (
	askTLS    = 80877103
	askGSS    = 80877104
	askCancel = 80877102
)

var errTooMany = fault.New(fault.TooMany, "too_many_connections", "too many connections are signing in; try again")

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// serve is one connection, from its first byte to its last.
func (s *Server) serve(conn net.Conn) {
	c, err := s.signIn(conn)
	if err != nil || c == nil {
		return
	}
	c.run()
}

// signIn brings a connection to the point where it can ask. It is nil where there is nothing more
// to do, such as after a request to cancel.
func (s *Server) signIn(conn net.Conn) (*session, error) {
	ctx, done := context.WithTimeout(s.stopped, s.limits.SignIn)
	defer done()
	deadline, _ := ctx.Deadline()
	leave, ok := s.silent.Enter(conn.RemoteAddr())
	if !ok {
		return nil, errTooMany
	}
	defer leave()
	conn.SetDeadline(earlier(deadline, time.Now().Add(silentAtMost)))
	conn, first, err := s.begin(ctx, conn)
	if err != nil || first == nil {
		return nil, err
	}
	conn.SetDeadline(deadline)
	version := binary.BigEndian.Uint32(first[4:])
	if version>>16 == 1 || version>>16 == 2 {
		err := &stated{"0A000", "version 3.0 of the protocol is spoken here"}
		send(conn, problem(err, "FATAL"))
		return nil, err
	}
	minor := version & 0xffff
	if version>>16 == 3 && minor > 0 { // which of them is spoken is settled below
		binary.BigEndian.PutUint32(first[4:], 3<<16)
	}
	b := pgproto3.NewBackend(io.MultiReader(bytes.NewReader(first), conn), conn)
	b.SetMaxBodyLen(mostStart)
	message, err := b.ReceiveStartupMessage()
	refuse := func(err error) (*session, error) {
		send(conn, problem(err, "FATAL"))
		return nil, err
	}
	if err != nil {
		return refuse(&stated{"08P01", "this is no beginning of the protocol that is spoken here: " + printable(err.Error(), 100)})
	}
	start, ok := message.(*pgproto3.StartupMessage)
	if !ok {
		if c, ok := message.(*pgproto3.CancelRequest); ok {
			s.cancel(c.ProcessID, c.SecretKey)
			return nil, nil
		}
		return refuse(&stated{"08P01", "a connection begins with a StartupMessage"})
	}
	leave()
	proven, ok := s.waiting.Enter(conn.RemoteAddr())
	if !ok {
		return refuse(errTooMany)
	}
	defer proven()
	start.ProtocolVersion |= minor
	if err := negotiate(conn, start); err != nil {
		return refuse(err)
	}
	c := newSession(s, conn, b)
	// What is wrong with the settings is said once it is known to whom.
	settingsErr := c.settings.begin(start.Parameters)
	caller, err := s.prove(ctx, conn, b, start.Parameters["user"], c.settings.get("application_name"))
	if err != nil {
		return refuse(err)
	}
	if settingsErr != nil {
		return refuse(settingsErr)
	}
	c.caller = caller
	if err := c.enter(start.Parameters["database"], start.Parameters["user"]); err != nil {
		return refuse(err)
	}
	conn.SetDeadline(time.Time{})
	b.SetMaxBodyLen(mostMessage)
	return c, nil
}

// begin answers the requests that come before the first message, and gives the first eight bytes
// of that.
func (s *Server) begin(ctx context.Context, conn net.Conn) (net.Conn, []byte, error) {
	for asked := 0; asked < 3; asked++ {
		first := make([]byte, 8)
		if _, err := io.ReadFull(conn, first); err != nil {
			return conn, nil, err
		}
		if binary.BigEndian.Uint32(first) != 8 {
			return conn, first, nil
		}
		_, through := conn.(*tls.Conn)
		switch binary.BigEndian.Uint32(first[4:]) {
		case askTLS:
			if s.tls == nil || through {
				if _, err := conn.Write([]byte{'N'}); err != nil {
					return conn, nil, err
				}
				continue
			}
			if _, err := conn.Write([]byte{'S'}); err != nil {
				return conn, nil, err
			}
			// Nothing but the handshake is read from here, so that what somebody has slipped in
			// before it makes it fail.
			t := tls.Server(conn, s.tls)
			if err := t.HandshakeContext(ctx); err != nil {
				return conn, nil, err
			}
			conn = t
		case askGSS:
			if _, err := conn.Write([]byte{'N'}); err != nil {
				return conn, nil, err
			}
		default:
			return conn, first, nil
		}
	}
	return conn, nil, errors.New("it asks and does not begin")
}

// negotiate settles the version of the protocol: 3.0, and for who wants a later 3, that (the
// manual's NegotiateProtocolVersion).
func negotiate(conn net.Conn, start *pgproto3.StartupMessage) error {
	major, minor := start.ProtocolVersion>>16, start.ProtocolVersion&0xffff
	if major != 3 {
		return &stated{"0A000", "version 3.0 of the protocol is spoken here"}
	}
	var unknown []string
	for name := range start.Parameters {
		if strings.HasPrefix(name, "_pq_.") {
			unknown = append(unknown, name)
			delete(start.Parameters, name)
		}
	}
	if minor == 0 && len(unknown) == 0 {
		return nil
	}
	return send(conn, &pgproto3.NegotiateProtocolVersion{NewestMinorProtocol: 0, UnrecognizedOptions: unknown})
}

// prove finds out by SCRAM who connects.
func (s *Server) prove(ctx context.Context, conn net.Conn, b *pgproto3.Backend, user, client string) (identity.Caller, error) {
	var state *tls.ConnectionState
	if t, ok := conn.(*tls.Conn); ok {
		own, err := localState(t, s.tls)
		if err == nil {
			state = &own
		}
	}
	address, _, err := net.SplitHostPort(conn.RemoteAddr().String())
	if err != nil {
		address = conn.RemoteAddr().String()
	}
	if strings.ContainsRune(user, 0) || user == "" {
		return identity.Caller{}, &stated{"28000", "no user was named"}
	}
	h, err := s.service.Identity.Handshake(ctx, user, address, client, state)
	if err != nil {
		return identity.Caller{}, err
	}
	defer h.End()
	if err := send(conn, &pgproto3.AuthenticationSASL{AuthMechanisms: h.Mechanisms()}); err != nil {
		return identity.Caller{}, err
	}
	b.SetAuthType(pgproto3.AuthTypeSASL)
	message, err := b.Receive()
	if err != nil {
		return identity.Caller{}, err
	}
	first, ok := message.(*pgproto3.SASLInitialResponse)
	if !ok {
		return identity.Caller{}, &stated{"08P01", "the answer to the request for authentication is none"}
	}
	reply, err := h.First(first.AuthMechanism, string(first.Data))
	if err != nil {
		return identity.Caller{}, &stated{"08P01", fault.Of(err).Detail}
	}
	if err := send(conn, &pgproto3.AuthenticationSASLContinue{Data: []byte(reply)}); err != nil {
		return identity.Caller{}, err
	}
	b.SetAuthType(pgproto3.AuthTypeSASLContinue)
	if message, err = b.Receive(); err != nil {
		return identity.Caller{}, err
	}
	last, ok := message.(*pgproto3.SASLResponse)
	if !ok {
		return identity.Caller{}, &stated{"08P01", "the answer to the request for authentication is none"}
	}
	reply, caller, err := h.Last(ctx, string(last.Data))
	if err != nil {
		return identity.Caller{}, err
	}
	return caller, send(conn, &pgproto3.AuthenticationSASLFinal{Data: []byte(reply)}, &pgproto3.AuthenticationOk{})
}

// localState is the state of a TLS connection as the channel is bound by it: with the certificate
// that this side shows (RFC 5929, 4).
func localState(t *tls.Conn, config *tls.Config) (tls.ConnectionState, error) {
	state := t.ConnectionState()
	if len(config.Certificates) == 0 || config.Certificates[0].Leaf == nil {
		return state, errors.New("no certificate")
	}
	state.PeerCertificates = nil
	state.PeerCertificates = append(state.PeerCertificates, config.Certificates[0].Leaf)
	return state, nil
}

// enter connects to a database, which is a source that the caller sees.
func (c *session) enter(database, user string) error {
	st := c.server.service.Platform.Current()
	viewer, err := c.server.service.Identity.ViewerAt(st, c.caller, c.standpoint)
	if err != nil {
		return err
	}
	if database == "" {
		database = user
	}
	o, err := viewer.Model.Lookup(access.Quote(database))
	if err != nil || o.Kind != access.Source || !viewer.Sees(o.ID) {
		var there []string
		for _, id := range viewer.Model.Object(access.PlatformID).Children {
			if o := viewer.Model.Object(id); o.Kind == access.Source && viewer.Sees(id) {
				there = append(there, o.Name)
			}
		}
		e := &stated{"3D000", "database " + printable(quoted(database), 80) + " does not exist or is not yours to use"}
		if len(there) > 0 {
			e.text += "; a database is a source, and yours are " + strings.Join(there, ", ")
		} else {
			e.text += "; a database is a source, and you have none yet: ask who administers the platform"
		}
		return e
	}
	c.database, c.source = o.Name, o.ID
	_, secure := c.conn.(*tls.Conn)
	c.open = &identity.Connection{Database: o.Name, TLS: secure, End: c.end}
	if err := c.server.service.Identity.Connections.Open(c.open, c.caller, c.server.limits.Connections, c.server.limits.PerAccount); err != nil {
		return err
	}
	c.open.As(c.caller, "")
	c.server.register(c)
	return nil
}

// send writes messages at once.
func send(w io.Writer, messages ...pgproto3.BackendMessage) error {
	var b []byte
	var err error
	for _, m := range messages {
		if b, err = m.Encode(b); err != nil {
			return err
		}
	}
	_, err = w.Write(b)
	return err
}
