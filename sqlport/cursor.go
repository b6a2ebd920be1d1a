package sqlport

import (
	"fmt"
	"math"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// after is what stands in a text behind a word, the n-th of such.
func after(text string, words ...pg.Token) (string, int, error) {
	scan, err := pg.Scan(text)
	if err != nil {
		return "", 0, err
	}
	i := 0
	for _, t := range scan.Tokens {
		if t.Token == words[i] {
			if i++; i == len(words) {
				rest := text[t.End:]
				trimmed := strings.TrimLeft(rest, " \t\r\n")
				at := int(t.End) + len(rest) - len(trimmed)
				return trimmed, len([]rune(text[:at])), nil
			}
		}
	}
	return "", 0, statef("42601", "this form of the statement is not understood")
}

// within parts the inner statement from one that has it at its end.
func within(p query.Piece, inner *pg.Node, words ...pg.Token) (query.Piece, error) {
	text, at, err := after(p.SQL, words...)
	return query.Piece{SQL: text, At: p.At + at, Node: inner}, err
}

// prepare carries out PREPARE.
func (c *session) prepare(p query.Piece, s *pg.PrepareStmt) (string, error) {
	if c.prepared[s.Name] != nil {
		return "", statef("42P05", "prepared statement %s already exists", quoted(printable(s.Name, 64)))
	}
	if len(c.prepared) >= mostNamed || len(s.Name) > 256 {
		return "", statef("54000", "a session has up to %d prepared statements, whose names have up to 256 bytes", mostNamed)
	}
	inner, err := within(p, s.Query, pg.Token_AS)
	if err != nil {
		return "", err
	}
	one := newPrepared(inner)
	for _, n := range s.Argtypes {
		names := n.GetTypeName().GetNames()
		t := sqltype.Parse(names[len(names)-1].GetString_().GetSval())
		if t == nil {
			return "", statef("42704", "there is no such type of a parameter")
		}
		one.declared = append(one.declared, t.OID)
	}
	if err := c.study(one); err != nil {
		return "", &located{err, inner.SQL, inner.At}
	}
	return "PREPARE", c.keepPrepared(s.Name, one)
}

// executePrepared carries out EXECUTE.
func (c *session) executePrepared(s *pg.ExecuteStmt, answer *rows) (string, error) {
	of := c.prepared[s.Name]
	if of == nil {
		return "", statef("26000", "prepared statement %s does not exist", quoted(printable(s.Name, 64)))
	}
	if len(s.Params) != len(of.params) {
		return "", statef("42601", "wrong number of parameters for prepared statement %s: it takes %d", quoted(printable(s.Name, 64)), len(of.params))
	}
	var params []any
	for i, n := range s.Params {
		value, err := constantOf(n)
		if err != nil {
			return "", err
		}
		if i < len(of.declared) && sqltype.Of(of.declared[i]) != nil {
			params = append(params, query.Given{Value: value, T: sqltype.Of(of.declared[i])})
		} else {
			params = append(params, value)
		}
	}
	if of.kind == own {
		return "", statef("0A000", "EXECUTE takes statements that read or change rows")
	}
	if of.kind == listed {
		return c.list(of, params, answer)
	}
	return c.governed(of.piece, params, answer)
}

// constantOf reads a constant as its text; nil is NULL.
func constantOf(n *pg.Node) (any, error) {
	if cast := n.GetTypeCast(); cast != nil {
		return constantOf(cast.Arg)
	}
	if e := n.GetAExpr(); e != nil && e.Lexpr == nil && e.Kind == pg.A_Expr_Kind_AEXPR_OP && e.Name[0].GetString_().GetSval() == "-" {
		value, err := constantOf(e.Rexpr)
		if text, ok := value.(string); ok {
			return "-" + text, err
		}
		return value, err
	}
	v := n.GetAConst()
	if v == nil {
		return nil, statef("0A000", "parameters of EXECUTE are constants")
	}
	switch x := v.Val.(type) {
	case *pg.A_Const_Sval:
		return x.Sval.Sval, nil
	case *pg.A_Const_Ival:
		return fmt.Sprint(x.Ival.Ival), nil
	case *pg.A_Const_Fval:
		return x.Fval.Fval, nil
	case *pg.A_Const_Boolval:
		return fmt.Sprint(x.Boolval.Boolval), nil
	case *pg.A_Const_Bsval:
		return strings.TrimLeft(x.Bsval.Bsval, "bx"), nil
	}
	return nil, nil
}

// The options of DECLARE, as the grammar's bits have them.
const (
	cursorScroll = 0x0002
	cursorHold   = 0x0020
)

// declare carries out DECLARE CURSOR.
func (c *session) declare(p query.Piece, s *pg.DeclareCursorStmt, params []any) (string, error) {
	hold := s.Options&cursorHold != 0
	switch {
	case c.portals[s.Portalname] != nil:
		return "", statef("42P03", "cursor %s already exists", quoted(printable(s.Portalname, 64)))
	case len(c.portals) >= mostNamed || len(s.Portalname) > 256:
		return "", statef("54000", "a session has up to %d cursors, whose names have up to 256 bytes", mostNamed)
	case s.Options&cursorScroll != 0:
		return "", statef("0A000", "a SCROLL cursor is not there: rows are fetched forward")
	case !c.inBlock() && !hold:
		return "", statef("25P01", "DECLARE CURSOR can only be used in transaction blocks")
	case hold && c.tx.Holds():
		return "", statef("0A000", "WITH HOLD is not there in a transaction that has changed rows or sees one snapshot")
	}
	inner, err := within(p, s.Query, pg.Token_CURSOR, pg.Token_FOR)
	if err != nil {
		return "", err
	}
	of := newPrepared(inner)
	if err := c.study(of); err != nil {
		return "", &located{err, inner.SQL, inner.At}
	}
	cursor := &portal{of: of, params: params, hold: hold}
	if err := c.keepPortal(s.Portalname, cursor); err != nil {
		return "", err
	}
	// It gives what is there now, whatever changes until it is read.
	if of.kind == listed {
		err = c.fillList(cursor)
	} else {
		_, err = c.fetch(cursor, none, false)
	}
	if err != nil {
		c.dropPortal(s.Portalname)
		return "", &located{err, inner.SQL, inner.At}
	}
	return "DECLARE CURSOR", nil
}

// fetchCursor carries out FETCH and MOVE, forward.
func (c *session) fetchCursor(s *pg.FetchStmt, answer *rows) (string, error) {
	p := c.portals[s.Portalname]
	if p == nil {
		return "", noCursor(s.Portalname)
	}
	if p.broken {
		return "", statef("55000", "portal %s cannot be run", quoted(printable(s.Portalname, 64)))
	}
	most := s.HowMany
	if s.Direction == pg.FetchDirection_FETCH_RELATIVE && most == 1 {
		s.Direction = pg.FetchDirection_FETCH_FORWARD
	}
	if s.Direction != pg.FetchDirection_FETCH_FORWARD || most < 0 {
		return "", statef("55000", "cursor can only scan forward")
	}
	verb := map[bool]string{true: "MOVE", false: "FETCH"}[s.Ismove]
	if most == 0 {
		return verb + " 0", statef("0A000", "FETCH 0 is not there")
	}
	if most >= math.MaxInt32 {
		most = 0 // all
	}
	if p.of.kind == listed {
		return c.fetchListed(p, int(most), s.Ismove, answer)
	}
	if !s.Ismove && answer.describe {
		c.send(fields(p.of.columns, answer.formats))
	}
	if p.tag != "" {
		return verb + " 0", nil
	}
	mark := len(c.out)
	p.run.as(answer.formats)
	p.silent, p.into = s.Ismove, answer.keep
	n, err := c.fetch(p, int(most), false)
	p.silent, p.into = false, nil
	if err != nil {
		c.out = c.out[:min(mark, len(c.out))]
		return "", err
	}
	return fmt.Sprintf("%s %d", verb, n), nil
}

// alterRole sets the caller's own password, of which clients send the verifier.
func (c *session) alterRole(s *pg.AlterRoleStmt) (string, error) {
	for _, n := range s.Options {
		e := n.GetDefElem()
		if e.Defname != "password" {
			return "", statef("0A000", "ALTER ROLE changes a password alone; for the rest there is GRANT, REVOKE and the console")
		}
		text := e.Arg.GetString_().GetSval()
		ctx, done := c.working("ALTER ROLE … PASSWORD")
		defer done()
		again, err := c.server.service.Identity.SetOwnPassword(ctx, c.caller, s.Role.GetRolename(), text)
		if err != nil {
			return "", err
		}
		c.caller = again
		c.notice("NOTICE", "00000", "changed your password; sessions in the console and by commands have ended")
	}
	return "ALTER ROLE", nil
}

// checkText refuses what is no text.
func checkText(b []byte) error {
	if strings.ContainsRune(string(b), 0) {
		return statef("22021", "invalid byte sequence for encoding \"UTF8\": 0x00")
	}
	if text := string(b); strings.ToValidUTF8(text, "") != text {
		return statef("22021", "invalid byte sequence for encoding \"UTF8\"")
	}
	return nil
}
