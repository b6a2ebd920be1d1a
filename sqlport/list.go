package sqlport

import (
	"context"
	"errors"
	"fmt"
	"github.com/jackc/pgx/v5/pgproto3"
	"maps"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/gateway"
	"gneiss/sqlport/catalog"
)

// catalog is the catalog as the session may know it.
func (c *session) catalog() (*catalog.Session, error) {
	identity, st := c.server.service.Identity, c.server.service.Platform.Current()
	viewer, err := identity.ViewerAt(st, c.caller, c.standpoint)
	if err != nil {
		return nil, err
	}
	reviews := viewer.Reviews && !viewer.Other
	return &catalog.Session{
		Rights: viewer.Rights, Policies: st.Policies, Source: c.source, Database: c.database, User: c.settings.get("session_authorization"),
		PID: int64(c.pid), Path: c.settings.path, Now: time.Now(),
		Setting: func(name string) (string, bool) {
			if strings.EqualFold(name, "role") {
				return c.shown(name), true
			}
			one, err := c.settings.find(name)
			if err != nil {
				return "", false
			}
			return one.value, true
		},
		Set: func(name, value string, local bool) (string, error) {
			err := c.setOne(name, value, local, true)
			return c.settings.getOr(name), err
		},
		Settings: func() [][3]string {
			var out [][3]string
			for _, lower := range slices.Sorted(maps.Keys(c.settings.all)) {
				one := c.settings.all[lower]
				out = append(out, [3]string{one.name, one.value, one.about})
			}
			return out
		},
		Reviews:    func(id access.ObjectID) bool { return !viewer.Other && identity.ReviewsObject(st, c.caller, id) },
		ReviewsAll: reviews,
		As: func(id access.SubjectID) (*access.Rights, error) {
			return st.Rights(access.Standpoint{Subject: id}, time.Now())
		},
		Activity: func() []catalog.Activity {
			var out []catalog.Activity
			for _, s := range identity.Sessions(c.caller).Items {
				one := catalog.Activity{User: strings.TrimPrefix(s.User, "user:"), Client: s.Client, Address: s.Address, Database: s.Database, State: s.State,
					Text: s.Statement, Since: s.Since, Changed: s.StateSince}
				fmt.Sscan(s.ID, &one.PID)
				out = append(out, one)
			}
			return out
		},
	}, nil
}

// compile reads a question about the catalog.
func (c *session) compile(p *prepared) (q *catalog.Question, err error) {
	defer c.broke(&err)
	s, err := c.catalog()
	if err != nil {
		return nil, err
	}
	q, err = catalog.Compile(p.piece.Node, p.params, s)
	return q, inCatalog(err, p.piece.SQL)
}

// inCatalog tells an error of a question about the catalog.
func inCatalog(err error, text string) error {
	var e *catalog.Error
	if !errors.As(err, &e) {
		return err
	}
	return &placed{statef(e.State, "%s", e.Text), text, int(e.At)}
}

func (c *session) catalogColumns(p *prepared) ([]query.Column, error) {
	q, err := c.compile(p)
	if err != nil {
		return nil, err
	}
	return q.Columns(), nil
}

// list answers a question about the catalog.
func (c *session) list(p *prepared, params []any, answer gateway.Answer) (tag string, err error) {
	defer c.broke(&err)
	q, err := c.compile(p)
	if err != nil {
		return "", err
	}
	if _, err := answer.Head(gateway.Head{Columns: q.Columns()}); err != nil {
		return "", err
	}
	ctx, done, err := c.asking(p.piece.SQL)
	if err != nil {
		return "", err
	}
	defer done()
	n, err := c.listInto(ctx, q, params, answer)
	if err != nil {
		return "", c.expired(ctx, inCatalog(err, p.piece.SQL))
	}
	return fmt.Sprintf("SELECT %d", n), nil
}

// asking waits until a question about the catalog may run.
func (c *session) asking(text string) (ctx context.Context, done func(), err error) {
	within, ended := c.working(text)
	ctx, stop := context.WithTimeout(within, askedWithin)
	if err := c.server.asking.Wait(ctx, c.caller.User); err != nil {
		defer ended()
		defer stop()
		if within.Err() == nil {
			return nil, nil, statef("53300", "too many questions about the catalog are running; try again")
		}
		return nil, nil, c.expired(within, within.Err())
	}
	return ctx, func() { c.server.asking.Leave(c.caller.User); stop(); ended() }, nil
}

// broke turns what the catalog stops with into an error whose place is in the log.
func (c *session) broke(err *error) {
	if fault := recover(); fault != nil {
		c.server.log.Error("a question about the catalog broke", "error", fault, "stack", string(debug.Stack()))
		*err = fmt.Errorf("a question about the catalog broke: %v", fault)
	}
}

func (c *session) listInto(ctx context.Context, q *catalog.Question, params []any, answer gateway.Answer) (n int64, err error) {
	given := make([]any, len(params))
	for i, v := range params {
		if g, ok := v.(query.Given); ok {
			v = g.Value
		}
		given[i] = v
	}
	var b []byte
	err = q.Run(ctx, given, func(row [][]byte) error {
		n++
		var err error
		if b, err = answer.Row(b, row); err != nil {
			return err
		}
		if len(b) < mostOut {
			return nil
		}
		// Whoever does not read what they asked for keeps nobody else from asking.
		c.server.asking.Leave(c.caller.User)
		err = answer.Send(b, false)
		b = b[:0]
		return errors.Join(err, c.server.asking.WaitAgain(ctx, c.caller.User))
	})
	if err != nil {
		return n, err
	}
	return n, answer.Send(b, true)
}

// fetchListed takes the next rows of a cursor over the catalog, which are all there.
func (c *session) fetchListed(p *portal, most int, move bool, answer *rows) (string, error) {
	if err := c.fillList(p); err != nil {
		return "", err
	}
	n := len(p.listed)
	if most > 0 {
		n = min(n, most)
	}
	part := p.listed[:n]
	p.listed = p.listed[n:]
	if move {
		return fmt.Sprintf("MOVE %d", n), nil
	}
	return fmt.Sprintf("FETCH %d", n), c.give(p.of.columns, part, answer)
}

// partOfList sends the next rows of a portal over the catalog; most is how many, zero: all.
func (c *session) partOfList(p *portal, most int) error {
	if err := c.fillList(p); err != nil {
		return err
	}
	n := len(p.listed)
	if most > 0 {
		n = min(n, most)
	}
	part := p.listed[:n]
	p.listed = p.listed[n:]
	answer := &rows{c: c, formats: p.formats}
	if p.of.described {
		answer.expected = p.of.columns
	}
	if err := c.give(p.of.columns, part, answer); err != nil {
		return err
	}
	if most > 0 && n == most {
		c.send(&pgproto3.PortalSuspended{})
		return nil
	}
	p.tag = fmt.Sprintf("SELECT %d", n)
	c.send(&pgproto3.CommandComplete{CommandTag: []byte(p.tag)})
	return nil
}

// fillList works out the rows of a cursor or portal over the catalog, where they are not there yet.
func (c *session) fillList(p *portal) (err error) {
	defer c.broke(&err)
	if p.listed == nil {
		q, err := c.compile(p.of)
		if err != nil {
			return err
		}
		ctx, done, err := c.asking(p.of.piece.SQL)
		if err != nil {
			return err
		}
		defer done()
		p.listed = [][][]byte{}
		err = q.Run(ctx, p.params, func(row [][]byte) error {
			cost := int64(bytesOfCell)
			for _, v := range row {
				cost += bytesOfCell + int64(len(v))
			}
			if err := c.keeps(cost); err != nil {
				return err
			}
			p.cost += cost
			kept := make([][]byte, len(row))
			for i, v := range row {
				kept[i] = slices.Clone(v)
			}
			p.listed = append(p.listed, kept)
			return nil
		})
		if err != nil {
			p.listed = nil
			return c.expired(ctx, inCatalog(err, p.of.piece.SQL))
		}
	}
	return nil
}
