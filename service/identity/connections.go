package identity

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"sync"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/say"
	"gneiss/wire"
)

// Connections are the connections to the SQL port that are open.
type Connections struct {
	mu   sync.Mutex
	open map[int64]*Connection
	last int64
}

// A Connection is one of a program's, which keeps a state between its statements.
type Connection struct {
	ID       int64
	Database string
	TLS      bool
	Since    time.Time
	End      func(why error) // ends it, and what it runs; it may be called more than once

	mu        sync.Mutex
	caller    Caller
	state     string
	changed   time.Time // of the state
	statement string
	standing  string
}

// The states of a connection.
const (
	Idle          = "idle"
	Running       = "running"
	InTransaction = "idle in transaction"
	InFailed      = "failed transaction"
)

// Set notes what a connection does. An empty statement leaves the last one.
func (c *Connection) Set(state, statement string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.state, c.changed = state, time.Now()
	if statement != "" {
		c.statement = audit.Bounded(statement, 4<<10)
	}
}

// As notes as whom the connection looks and what its program is called.
func (c *Connection) As(caller Caller, standing string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.caller, c.standing = caller, standing
}

// Quiet reports since when a connection has waited for its program, and in which state.
func (c *Connection) Quiet() (state string, since time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state, c.changed
}

// Open keeps a connection until Shut. It fails where there are most already, or where the caller
// has mostOwn.
func (s *Connections) Open(c *Connection, caller Caller, most, mostOwn int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	own := 0
	for _, o := range s.open {
		o.mu.Lock()
		if o.caller.User == caller.User {
			own++
		}
		o.mu.Unlock()
	}
	if len(s.open) >= most || own >= mostOwn {
		return fault.New(fault.TooMany, "too_many_connections", "there are too many connections already")
	}
	if s.open == nil {
		s.open = map[int64]*Connection{}
	}
	s.last++
	c.ID, c.caller, c.Since = s.last, caller, time.Now()
	c.state, c.changed = Idle, c.Since
	s.open[c.ID] = c
	return nil
}

// Shut forgets a connection.
func (s *Connections) Shut(c *Connection) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.open, c.ID)
}

// All lists the open connections, the oldest first.
func (s *Connections) All() []*Connection {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]*Connection, 0, len(s.open))
	for _, c := range s.open {
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b *Connection) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

// Sweep ends the connections of callers who are not let go on.
func (s *Service) Sweep(ctx context.Context) {
	for _, c := range s.Connections.All() {
		c.mu.Lock()
		caller := c.caller
		c.mu.Unlock()
		if err := s.Holds(ctx, caller); err != nil {
			c.End(err)
		}
	}
}

// Sessions lists the connections to the SQL port: the caller's own, and everybody's for who holds
// AUDIT or MANAGE on the platform.
func (s *Service) Sessions(c Caller) wire.List[wire.SQLSession] {
	st := s.platform.Current()
	out := wire.List[wire.SQLSession]{Items: []wire.SQLSession{}}
	own, err := s.Own(st, c)
	all := err == nil && (own.Resolve(access.PlatformID).Allowed.Has(access.Audit) || s.Manages(st, c, access.PlatformID))
	for _, o := range s.Connections.All() {
		o.mu.Lock()
		if all || o.caller.User == c.User {
			out.Items = append(out.Items, wire.SQLSession{ID: strconv.FormatInt(o.ID, 10), User: st.Model.Ref(o.caller.User), Standpoint: o.standing,
				Client: o.caller.Client, Address: o.caller.Address, Database: o.Database, TLS: o.TLS, Since: o.Since, State: o.state, StateSince: o.changed,
				Statement: o.statement})
		}
		o.mu.Unlock()
	}
	return out
}

// EndSession ends a connection of the caller's own, or of anybody's for who manages the platform.
func (s *Service) EndSession(c Caller, id string) (wire.Changed, error) {
	st := s.platform.Current()
	for _, o := range s.Connections.All() {
		o.mu.Lock()
		of := o.caller.User
		o.mu.Unlock()
		if strconv.FormatInt(o.ID, 10) != id || of != c.User && !s.Manages(st, c, access.PlatformID) {
			continue
		}
		says := say.EndedSession.With(id, st.Model.Ref(of))
		if err := s.audit.Write(c.Record(st.Model.Ref(c.User), audit.Session, says)); err != nil {
			return wire.Changed{}, err
		}
		o.End(fault.New(fault.NotSignedIn, "session_ended", "the connection was ended by %s", st.Model.Ref(c.User)))
		return wire.Changed{Revision: st.Revision, Done: true, Says: []string{says}, Notes: []string{}, Effects: []wire.Effect{}}, nil
	}
	return wire.Changed{}, fault.New(fault.NotFound, "not_found", "there is no connection %s to the SQL port, or you may not end it", id)
}
