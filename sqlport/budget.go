package sqlport

import (
	"sync"

	"gneiss/core/access"
	"gneiss/core/query"
)

// What a session keeps for its client is bounded in bytes: its prepared statements with their
// syntax trees, the parameters of its portals, the rows of its cursors, the names of its
// savepoints. So is what all sessions of an account keep.
const (
	mostOfSession = 64 << 20
	mostOfAccount = 256 << 20

	bytesOfTree   = 32  // a syntax tree has, for each byte of its text
	bytesOfEntry  = 512 // a portal, a statement or a savepoint has besides
	bytesOfCell   = 24  // a value has besides
	mostSavepoint = 10_000
	mostUndone    = 10_000 // changes of settings in a transaction
)

// kept is what the sessions of each account keep together. Its zero value is ready.
type kept struct {
	mu sync.Mutex
	by map[access.SubjectID]int64
}

// keeps adds to what the session keeps, or refuses it.
func (c *session) keeps(bytes int64) error {
	k := &c.server.kept
	k.mu.Lock()
	defer k.mu.Unlock()
	if c.used+bytes > mostOfSession {
		return statef("53200", "a session keeps up to %d MB of statements, parameters and rows of cursors; close some", mostOfSession>>20)
	}
	if k.by[c.caller.User]+bytes > mostOfAccount {
		return statef("53200", "the connections of an account keep up to %d MB of statements, parameters and rows of cursors; close some", mostOfAccount>>20)
	}
	if k.by == nil {
		k.by = map[access.SubjectID]int64{}
	}
	c.used += bytes
	k.by[c.caller.User] += bytes
	return nil
}

// gives takes from what the session keeps.
func (c *session) gives(bytes int64) {
	if bytes == 0 {
		return
	}
	k := &c.server.kept
	k.mu.Lock()
	defer k.mu.Unlock()
	c.used -= bytes
	if k.by[c.caller.User] -= bytes; k.by[c.caller.User] <= 0 {
		delete(k.by, c.caller.User)
	}
}

// keepPrepared keeps a statement under its name.
func (c *session) keepPrepared(name string, p *prepared) error {
	p.cost = bytesOfEntry + int64(len(name)+bytesOfTree*len(p.piece.SQL))
	if err := c.keeps(p.cost); err != nil {
		return err
	}
	c.dropPrepared(name)
	c.prepared[name] = p
	return nil
}

// dropPrepared forgets a statement.
func (c *session) dropPrepared(name string) {
	if p := c.prepared[name]; p != nil {
		c.gives(p.cost)
		delete(c.prepared, name)
	}
}

func (c *session) dropAllPrepared() {
	for name := range c.prepared {
		c.dropPrepared(name)
	}
}

// dropNamed forgets the statements that have a name.
func (c *session) dropNamed() {
	for name := range c.prepared {
		if name != "" {
			c.dropPrepared(name)
		}
	}
}

// keepPortal keeps a portal under its name.
func (c *session) keepPortal(name string, p *portal) error {
	cost := bytesOfEntry + int64(len(name)+bytesOfTree*len(p.of.piece.SQL)) // its statement can be dropped before it
	for _, v := range p.params {
		if g, ok := v.(query.Given); ok {
			v = g.Value
		}
		if text, ok := v.(string); ok {
			cost += int64(len(text))
		}
		cost += bytesOfCell
	}
	if err := c.keeps(cost); err != nil {
		return err
	}
	c.made++
	p.cost, p.number = cost, c.made
	c.dropPortal(name)
	c.portals[name] = p
	return nil
}
