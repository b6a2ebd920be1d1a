package sqlport

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"
	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/service/gateway"
	"gneiss/wire"
)

// A prepared is a statement that is read, and what its client was told of it.
type prepared struct {
	piece     query.Piece
	kind      kind
	declared  []uint32 // types of its parameters, as the client says them; zero: not
	params    []*sqltype.Type
	columns   []query.Column
	described bool
	empty     bool

	cost    int64   // bytes that it takes
	fields  []byte  // the RowDescription message that was sent last
	formats []int16 // the formats in it
}

func newPrepared(p query.Piece) *prepared { return &prepared{piece: p, kind: kindOf(p)} }

// declaredType is the type that the client says a parameter is of; nil: it leaves it to the place.
func (p *prepared) declaredType(i int) *sqltype.Type {
	const unknown = 705
	if i < len(p.declared) && p.declared[i] != unknown {
		return sqltype.Of(p.declared[i])
	}
	return nil
}

// mostNamed bounds the prepared statements and the portals of a session, of each.
const mostNamed = 2000

// ask is the gateway's question for a statement of the session.
func (c *session) ask(text string, params []any) gateway.Ask {
	at := c.standpoint
	at.Purpose = c.settings.purpose.value
	return gateway.Ask{
		QueryRequest: wire.QueryRequest{SQL: text, Params: params, Lane: c.settings.lane.value, Standpoint: at},
		Names:        query.Names{Source: c.source, Path: c.path()}, Tx: c.tx, Whole: true,
	}
}

// parse reads a statement and keeps it under its name.
func (c *session) parse(m *pgproto3.Parse) error {
	if m.Name == "" {
		c.dropPrepared("")
	}
	if len(c.prepared) >= mostNamed || len(m.Name) > 256 {
		return statef("54000", "a session has up to %d prepared statements, whose names have up to 256 bytes", mostNamed)
	}
	pieces, err := query.Split(m.Query)
	if err != nil {
		return &located{err, m.Query, 0}
	}
	if len(pieces) > 1 {
		return statef("42601", "cannot insert multiple commands into a prepared statement")
	}
	p := &prepared{declared: append([]uint32(nil), m.ParameterOIDs...), empty: len(pieces) == 0}
	if !p.empty {
		p.piece, p.kind = pieces[0], kindOf(pieces[0])
		if err := c.study(p); err != nil {
			return &located{err, p.piece.SQL, p.piece.At}
		}
	}
	if m.Name != "" && c.prepared[m.Name] != nil {
		return statef("42P05", "prepared statement %s already exists", quoted(printable(m.Name, 64)))
	}
	if err := c.keepPrepared(m.Name, p); err != nil {
		return err
	}
	c.send(&pgproto3.ParseComplete{})
	return nil
}

// study finds out what a statement takes and gives.
func (c *session) study(p *prepared) error {
	used, err := query.Params(p.piece.SQL)
	if err != nil {
		return err
	}
	for i, is := range used {
		if !is && p.declaredType(i) == nil {
			return statef("42P18", "could not determine data type of parameter $%d", i+1)
		}
	}
	n := max(len(used), len(p.declared))
	c.asked = c.asked || p.analyzed()
	if c.failed && !endsTransaction(p.piece.Node) {
		return errFailed
	}
	if p.kind == own && p.piece.Node.GetDeclareCursorStmt() == nil {
		n = len(p.declared) // what a statement inside takes is its own
	}
	if p.kind != governed {
		p.params = make([]*sqltype.Type, n)
		for i := range p.params {
			p.params[i] = sqltype.Text
			if t := p.declaredType(i); t != nil {
				p.params[i] = t
			}
		}
		columns, err := c.describeOwn(p)
		p.columns, p.described = columns, err == nil
		return err
	}
	if query.IsCommand(p.piece.SQL) {
		p.described = true
		return nil
	}
	params := make([]any, n)
	for i := range params {
		params[i] = query.Deferred{N: i + 1, Kind: query.ParamText, T: p.declaredType(i)}
	}
	d, err := c.server.service.Gateway.Describe(context.Background(), c.caller, c.ask(p.piece.SQL, params))
	if err != nil {
		return err
	}
	p.params, p.columns, p.described = d.Params, d.Columns, true
	return nil
}

// bind gives a statement its parameters.
func (c *session) bind(m *pgproto3.Bind) error {
	p := c.prepared[m.PreparedStatement]
	if p == nil {
		return statef("26000", "prepared statement %s does not exist", quoted(printable(m.PreparedStatement, 64)))
	}
	if len(c.portals) >= mostNamed || len(m.DestinationPortal) > 256 {
		return statef("54000", "a session has up to %d portals, whose names have up to 256 bytes", mostNamed)
	}
	if len(m.Parameters) != len(p.params) {
		return statef("08P01", "bind message supplies %d parameters, but prepared statement %s requires %d", len(m.Parameters),
			quoted(printable(m.PreparedStatement, 64)), len(p.params))
	}
	if n := len(m.ParameterFormatCodes); n > 1 && n != len(m.Parameters) {
		return statef("08P01", "bind message has %d parameter formats but %d parameters", n, len(m.Parameters))
	}
	if c.failed && !endsTransaction(p.piece.Node) {
		return errFailed
	}
	if m.DestinationPortal != "" && c.portals[m.DestinationPortal] != nil {
		return statef("42P03", "cursor %s already exists", quoted(printable(m.DestinationPortal, 64)))
	}
	if n := len(m.ResultFormatCodes); n > 1 && n != len(p.columns) {
		return statef("08P01", "bind message has %d result formats but query has %d columns", n, len(p.columns))
	}
	params := make([]any, len(m.Parameters))
	for i, raw := range m.Parameters {
		given, t := p.declaredType(i), p.params[i]
		if given != nil {
			t = given
		}
		value, err := c.parameter(raw, formatOf(m.ParameterFormatCodes, i), t, i)
		if err != nil {
			return err
		}
		params[i] = value
		if given != nil {
			params[i] = query.Given{Value: value, T: given}
		}
	}
	c.asked = c.asked || p.analyzed()
	if err := c.keepPortal(m.DestinationPortal, &portal{of: p, params: params, formats: append([]int16(nil), m.ResultFormatCodes...)}); err != nil {
		return err
	}
	c.send(&pgproto3.BindComplete{})
	return nil
}

// parameter reads a parameter's value as its text.
func (c *session) parameter(raw []byte, format int16, t *sqltype.Type, i int) (any, error) {
	switch {
	case raw == nil:
		return nil, nil
	case format == pgtype.TextFormatCode:
		if err := checkText(raw); err != nil {
			return nil, err
		}
		return string(raw), checkNumber(t, string(raw))
	case format != pgtype.BinaryFormatCode:
		return nil, statef("22023", "there is no format %d of a parameter", format)
	}
	text, err := c.values.text(oidOf(t), raw)
	if err != nil {
		return nil, fmt.Errorf("$%d: %w", i+1, err)
	}
	return text, checkText([]byte(text))
}

// wholes are the bits of whole numbers, by the oid of their type.
var wholes = map[uint32]int{21: 16, 23: 32, 20: 64}

// checkNumber refuses the text of a parameter that is no whole number, where it is to be one.
func checkNumber(t *sqltype.Type, text string) error {
	bits, ok := wholes[oidOf(t)]
	if !ok {
		return nil
	}
	_, err := strconv.ParseInt(strings.TrimSpace(text), 10, bits)
	switch {
	case errors.Is(err, strconv.ErrRange):
		return statef("22003", "value %q is out of range for type %s", printable(text, 40), t.Name)
	case err != nil:
		return statef("22P02", "invalid input syntax for type %s: %q", t.Name, printable(text, 40))
	}
	return nil
}

// describe tells what a statement or a portal gives.
func (c *session) describe(m *pgproto3.Describe) error {
	var p *prepared
	var formats []int16
	switch m.ObjectType {
	case 'S':
		if p = c.prepared[m.Name]; p == nil {
			return statef("26000", "prepared statement %s does not exist", quoted(printable(m.Name, 64)))
		}
		if c.failed && p.columns != nil {
			return errFailed
		}
		oids := make([]uint32, len(p.params))
		for i, t := range p.params {
			oids[i] = oidOf(t)
			if given := p.declaredType(i); given != nil {
				oids[i] = given.OID
			}
		}
		c.send(&pgproto3.ParameterDescription{ParameterOIDs: oids})
	case 'P':
		at := c.portals[m.Name]
		if at == nil {
			return statef("34000", "portal %s does not exist", quoted(printable(m.Name, 64)))
		}
		if p, formats = at.of, at.formats; p.columns != nil {
			if err := formatsKnown(formats); err != nil {
				return err
			}
		}
	default:
		return statef("08P01", "a statement or a portal is described")
	}
	if c.failed && p.columns != nil {
		return errFailed
	}
	if p.columns == nil {
		c.send(&pgproto3.NoData{})
		return nil
	}
	if p.fields == nil || !slices.Equal(p.formats, formats) {
		before := len(c.out)
		c.send(fields(p.columns, formats))
		p.fields, p.formats = slices.Clone(c.out[before:]), slices.Clone(formats)
		return nil
	}
	c.out = append(c.out, p.fields...)
	return nil
}

// formatsKnown refuses forms of values that are not of the protocol.
func formatsKnown(formats []int16) error {
	for _, format := range formats {
		if format != pgtype.TextFormatCode && format != pgtype.BinaryFormatCode {
			return statef("22023", "unsupported format code: %d", format)
		}
	}
	return nil
}

func (c *session) closed(m *pgproto3.Close) {
	if m.ObjectType == 'S' {
		c.dropPrepared(m.Name)
	} else {
		c.dropPortal(m.Name)
	}
	c.send(&pgproto3.CloseComplete{})
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
			c.mu.Lock()
			c.ended = err
			c.mu.Unlock()
			return err
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

// analyzed reports whether the mode of a transaction is settled as soon as the statement is read.
func (p *prepared) analyzed() bool {
	return !p.empty && (p.kind != own || p.piece.Node.GetDeclareCursorStmt() != nil)
}

// settles reports whether the mode of a transaction is settled once the statement is carried out: it is for all but
// those that are about the session alone.
func (p *prepared) settles() bool {
	switch p.piece.Node.GetNode().(type) {
	case nil, *pg.Node_TransactionStmt, *pg.Node_VariableSetStmt, *pg.Node_VariableShowStmt, *pg.Node_FetchStmt, *pg.Node_ListenStmt,
		*pg.Node_UnlistenStmt, *pg.Node_NotifyStmt, *pg.Node_LockStmt:
		return false
	}
	return true
}

// givesWhole reports whether a statement runs to its end before its first row leaves.
func (p *prepared) givesWhole() bool {
	if p.columns == nil || p.kind == listed {
		return false
	}
	return p.piece.Node.GetSelectStmt() == nil
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
