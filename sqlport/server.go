package sqlport

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"log/slog"
	"net"
	"sync"
	"time"

	"gneiss/core/access"
	"gneiss/peer"
	"gneiss/service"
)

// Limits bound what connections may take. The zero value of each is a usual one.
type Limits struct {
	Connections int           // at once
	PerAccount  int           // at once, of one account
	SignIn      time.Duration // from the first byte to the last of signing in
	Idle        time.Duration // of a connection that asks nothing
	Write       time.Duration // that a reader may take for what is sent to it
}

func (l Limits) orUsual() Limits {
	if l.Connections == 0 {
		l.Connections = 2000
	}
	if l.PerAccount == 0 {
		l.PerAccount = 1200
	}
	if l.SignIn == 0 {
		l.SignIn = 30 * time.Second
	}
	if l.Idle == 0 {
		l.Idle = 24 * time.Hour
	}
	if l.Write == 0 {
		l.Write = time.Minute
	}
	return l
}

// A Server is the SQL port of a service.
type Server struct {
	service *service.Service
	log     *slog.Logger
	tls     *tls.Config // nil: without
	limits  Limits

	stopped context.Context
	stop    context.CancelFunc
	working sync.WaitGroup
	mu      sync.Mutex
	keys    map[uint32]*session // by the number that cancel requests name
	kept    kept
	silent  *peer.Doors                    // connections that have not said what they want
	waiting *peer.Doors                    // and those that have not signed in yet
	asking  *peer.Places[access.SubjectID] // questions about the catalog that run
}

// Bounds of connections that have not signed in yet: a stranger's cost little, and those of one
// address keep no other from signing in, or from cancelling what they run.
const (
	mostSilent   = 4_000
	silentOfOne  = 400
	mostWaiting  = 1_000
	waitingOfOne = 200
	silentAtMost = 10 * time.Second // until a connection says what it wants
)

// mostAsking bounds the questions about the catalog that run at once, which have no lane, and
// askedWithin how long each may.
const (
	mostAsking  = 8
	askingOfOne = 4 // of one account
	askedWithin = 30 * time.Second
)

// New returns the SQL port of a service. With a configuration of TLS, who asks for it gets it.
func New(svc *service.Service, log *slog.Logger, config *tls.Config, limits Limits) *Server {
	s := &Server{service: svc, log: log, tls: config, limits: limits.orUsual(), keys: map[uint32]*session{},
		silent:  peer.NewDoors(mostSilent, silentOfOne),
		waiting: peer.NewDoors(mostWaiting, waitingOfOne),
		asking:  peer.NewPlaces[access.SubjectID](mostAsking, askingOfOne)}
	s.stopped, s.stop = context.WithCancel(context.Background())
	return s
}

// sweepEvery is how often it is looked whether those who are connected may go on.
const sweepEvery = time.Second

// Serve takes connections until the listener is closed.
func (s *Server) Serve(l net.Listener) error {
	go func() {
		ticker := time.NewTicker(sweepEvery)
		defer ticker.Stop()
		for {
			select {
			case <-s.stopped.Done():
				l.Close()
				return
			case <-ticker.C:
				s.service.Identity.Sweep(s.stopped)
			}
		}
	}()
	for {
		conn, err := l.Accept()
		if s.stopped.Err() != nil || errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil { // such as too many open files: wait for some to close
			s.log.Warn("a connection to the SQL port could not be taken", "error", err)
			time.Sleep(50 * time.Millisecond)
			continue
		}
		s.working.Add(1)
		go func() {
			defer s.working.Done()
			defer conn.Close()
			defer func() {
				if broke := recover(); broke != nil {
					s.log.Error("a connection to the SQL port broke", "error", broke)
					s.service.Audit.Broken("a connection to the SQL port", conn.RemoteAddr().String(), broke)
				}
			}()
			s.serve(conn)
		}()
	}
}

// Shutdown ends all connections, and waits for them as long as the context lets it.
func (s *Server) Shutdown(ctx context.Context) error {
	s.stop()
	for _, c := range s.service.Identity.Connections.All() {
		c.End(errStopping)
	}
	done := make(chan struct{})
	go func() { s.working.Wait(); close(done) }()
	select {
	case <-done:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// register gives a session the number and the secret that a request to cancel names.
func (s *Server) register(c *session) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var b [8]byte
	for {
		rand.Read(b[:])
		c.pid = binary.BigEndian.Uint32(b[:4]) &^ (1 << 31)
		if _, taken := s.keys[c.pid]; !taken && c.pid != 0 {
			break
		}
	}
	c.secret = b[4:]
	s.keys[c.pid] = c
}

func (s *Server) forget(c *session) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.keys, c.pid)
}

// cancel ends what a session runs, for who knows its secret.
func (s *Server) cancel(pid uint32, secret []byte) {
	s.mu.Lock()
	c := s.keys[pid]
	s.mu.Unlock()
	if c != nil && subtle.ConstantTimeCompare(c.secret, secret) == 1 {
		c.cancelled()
	}
}
