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

	"gneiss/core/query"
	"gneiss/core/sqltype"
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
	p, err := c.asOfNow(p)
	if err != nil {
		return err
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

// asOfNow is a statement with the columns that it gives as things are: those of a FETCH are the cursor's, and those of
// an EXECUTE the statement's, which can have come or changed since it was prepared.
func (c *session) asOfNow(p *prepared) (*prepared, error) {
	switch p.piece.Node.GetNode().(type) {
	case *pg.Node_FetchStmt, *pg.Node_ExecuteStmt:
	default:
		return p, nil
	}
	now := *p
	columns, err := c.describeOwn(p)
	now.columns, now.fields = columns, nil
	return &now, err
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
