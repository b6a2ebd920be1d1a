package sqlport

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"
	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/gateway"
	"gneiss/wire"
)

// ask is the gateway's question for a statement of the session.
func (c *session) ask(text string, params []any) gateway.Ask {
	at := c.standpoint
	at.Purpose = c.settings.purpose.value
	return gateway.Ask{
		QueryRequest: wire.QueryRequest{SQL: text, Params: params, Lane: c.settings.lane.value, Standpoint: at},
		Names:        query.Names{Source: c.source, Path: c.path()}, Tx: c.tx, Whole: true,
	}
}

var errFailed = statef("25P02", "current transaction is aborted, commands ignored until end of transaction block")

// execute runs a portal, or goes on with it.
func (c *session) execute(name string, most int) error {
	p := c.portals[name]
	if p == nil {
		return statef("34000", "portal %s does not exist", quoted(printable(name, 64)))
	}
	if p.of.empty {
		c.send(&pgproto3.EmptyQueryResponse{})
		return nil
	}
	if err := formatsKnown(p.formats); err != nil {
		return err
	}
	if p.broken {
		if c.failed && !endsTransaction(p.of.piece.Node) {
			return errFailed
		}
		return statef("55000", "portal %s cannot be run", quoted(printable(name, 64)))
	}
	if p.tag != "" {
		if p.of.columns == nil && p.of.piece.Node.GetSelectStmt() == nil {
			return statef("55000", "portal %s cannot be run", quoted(printable(name, 64)))
		}
		tag := p.tag
		if bare := strings.TrimRight(tag, "0123456789"); bare != tag {
			tag = bare + "0"
		}
		c.send(&pgproto3.CommandComplete{CommandTag: []byte(tag)})
		return nil
	}
	if c.tx == nil && p.run == nil && !p.of.endsOrBegins() {
		// Statements that come before the next Sync are one transaction.
		next, err := c.receive()
		if err != nil {
			return c.ends(err)
		}
		c.ahead = next
		_, alone := next.(*pgproto3.Sync)
		if err := c.around(p.of, alone); err != nil {
			return err
		}
	}
	c.active = p
	defer func() { c.active, c.piped = nil, p.of.piece.Node.GetTransactionStmt() == nil }()
	var err error
	if p.of.kind == listed && (most > 0 || p.listed != nil) {
		err = c.partOfList(p, most)
	} else if p.of.givesWhole() && (most > 0 || p.listed != nil) {
		err = c.partOfReturned(p, most)
	} else if most <= 0 && p.run == nil || p.of.kind != governed {
		err = c.statement(p.of, p, p.formats, false)
	} else {
		_, err = c.fetch(p, most, true)
	}
	c.lasting(err)
	if err != nil {
		return &located{err, p.of.piece.SQL, p.of.piece.At}
	}
	return nil
}

// partOfReturned sends the next rows of a statement that was carried out whole before the first. most is how many,
// zero: all.
func (c *session) partOfReturned(p *portal, most int) error {
	if p.listed == nil {
		if c.failed {
			return errFailed
		}
		p.listed = [][][]byte{}
		answer := &rows{c: c, formats: p.formats, expected: p.of.columns, keep: p}
		tag, err := c.carryOut(p.of, p.params, answer)
		if err != nil {
			return err
		}
		p.verb = tag
	}
	n := len(p.listed)
	if most > 0 {
		n = min(n, most)
	}
	for _, row := range p.listed[:n] {
		c.send(&pgproto3.DataRow{Values: row})
	}
	if p.listed = p.listed[n:]; most > 0 && n == most {
		c.send(&pgproto3.PortalSuspended{})
		return nil
	}
	if p.tag = p.verb; p.tag[len(p.tag)-1] >= '0' && p.tag[len(p.tag)-1] <= '9' {
		p.tag = strings.TrimRight(p.tag, "0123456789") + strconv.Itoa(n)
	}
	c.send(&pgproto3.CommandComplete{CommandTag: []byte(p.tag)})
	return nil
}

// simple runs the statements of a text, one after the other, until one fails.
func (c *session) simple(text string) {
	c.dropPortal("")
	c.dropPrepared("")
	pieces, err := query.Split(text)
	if err != nil {
		c.refuse(&located{err, text, 0})
		c.fail()
		return
	}
	if len(pieces) == 0 {
		c.send(&pgproto3.EmptyQueryResponse{})
		return
	}
	c.several = len(pieces) > 1
	defer func() { c.several = false }()
	for _, p := range pieces {
		one := newPrepared(p)
		err := c.around(one, len(pieces) == 1)
		if err == nil {
			err = c.statement(one, nil, nil, true)
		}
		c.lasting(err)
		if err != nil {
			c.refuse(&located{err, p.SQL, p.At})
			c.fail()
			return
		}
		if c.why() != nil {
			return
		}
	}
	last := len(c.out)
	if c.tagAt >= 0 && c.tagAt <= last {
		last = c.tagAt
	}
	if err := c.settled(); err != nil { // the last statement is not done
		c.out = c.out[:min(last, len(c.out))]
		c.refuse(err)
	}
}

// statement runs a statement to its end. at is its portal, if it has one.
func (c *session) statement(p *prepared, at *portal, formats []int16, describe bool) error {
	if c.failed && !endsTransaction(p.piece.Node) {
		return errFailed
	}
	var params []any
	if at != nil {
		params = at.params
	}
	answer := &rows{c: c, formats: formats, describe: describe}
	if p.described {
		answer.expected = p.columns
	}
	tag, err := c.carryOut(p, params, answer)
	if err != nil {
		return err
	}
	if at != nil {
		at.tag = tag
	}
	if c.tagAt = len(c.out); tag != "" {
		c.send(&pgproto3.CommandComplete{CommandTag: []byte(tag)})
	}
	return nil
}

// carryOut does what a statement says, and returns its tag.
func (c *session) carryOut(p *prepared, params []any, answer *rows) (tag string, err error) {
	c.asked = c.asked || p.settles()
	if p.kind != governed {
		tag, err = c.own(p, params, answer)
	} else {
		tag, err = c.governed(p.piece, params, answer)
	}
	return tag, err
}

// lasting lets what a statement has set outside a transaction last, but for what was set for the transaction alone.
func (c *session) lasting(err error) {
	if c.tx == nil {
		c.settings.ended(err != nil)
	}
}

// governed runs a statement through the gateway.
func (c *session) governed(p query.Piece, params []any, answer gateway.Answer) (tag string, err error) {
	if query.IsCommand(p.SQL) && c.tx != nil {
		return "", statef("25001", "a change of the access model is not part of a transaction: it lasts at once. Run it by itself (in drivers: autocommit)")
	}
	ctx, done := c.working(p.SQL)
	defer done()
	caller := c.caller
	if query.IsCommand(p.SQL) && c.settings.get("gneiss.draft") != "" {
		if caller, err = c.server.service.Identity.Drafting(ctx, caller, c.settings.get("gneiss.draft")); err != nil {
			return "", err
		}
	}
	end, err := c.server.service.Gateway.Stream(ctx, caller, c.ask(p.SQL, params), answer)
	if err != nil {
		return "", c.expired(ctx, err)
	}
	return c.tagOf(p.Node, end), nil
}

// expired says of a statement that ran out of time whose limit that was.
func (c *session) expired(ctx context.Context, err error) error {
	if ctx.Err() == context.DeadlineExceeded {
		return statef("57014", "canceling statement due to statement timeout")
	}
	if ctx.Err() == context.Canceled {
		return statef("57014", "canceling statement due to user request")
	}
	return err
}

// tagOf is the tag of a statement that has ended.
func (c *session) tagOf(n *pg.Node, end gateway.End) string {
	switch {
	case end.Command != nil:
		for _, row := range end.Command.Rows {
			c.notice("NOTICE", "00000", fmt.Sprint(row[0]))
		}
		return commandTag(n)
	case end.Explain:
		return "EXPLAIN"
	case n.GetMergeStmt() != nil:
		return fmt.Sprintf("MERGE %d", end.Changed)
	case end.Verb == access.Insert:
		return fmt.Sprintf("INSERT 0 %d", end.Changed)
	case end.Verb == access.Update:
		return fmt.Sprintf("UPDATE %d", end.Changed)
	case end.Verb == access.Delete:
		return fmt.Sprintf("DELETE %d", end.Changed)
	}
	return "SELECT " + strconv.FormatInt(end.Rows, 10)
}

// mostNotice bounds what a notice says, in bytes.
const mostNotice = 2000

func (c *session) notice(severity, state, text string) {
	if at := c.settings.get("client_min_messages"); at == "error" || at == "warning" && severity == "NOTICE" {
		return
	}
	c.send(&pgproto3.NoticeResponse{Severity: severity, SeverityUnlocalized: severity, Code: state, Message: printable(text, mostNotice)})
}
