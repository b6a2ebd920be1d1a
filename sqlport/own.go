package sqlport

import (
	"maps"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/service/gateway"
	"gneiss/sqlport/catalog"
	"gneiss/wire"
)

// A kind says who answers a statement.
type kind int

const (
	governed kind = iota // the gateway, from a source or by changing the model
	own                  // the session itself
	listed               // the catalog
)

// kindOf sorts a statement.
func kindOf(p query.Piece) kind {
	switch p.Node.GetNode().(type) {
	case *pg.Node_SelectStmt:
		if catalog.Might(p.SQL) && catalog.Asks(p.Node) {
			return listed
		}
	case *pg.Node_TransactionStmt, *pg.Node_VariableSetStmt, *pg.Node_VariableShowStmt, *pg.Node_DiscardStmt, *pg.Node_PrepareStmt,
		*pg.Node_ExecuteStmt, *pg.Node_DeallocateStmt, *pg.Node_DeclareCursorStmt, *pg.Node_FetchStmt, *pg.Node_ClosePortalStmt, *pg.Node_CopyStmt,
		*pg.Node_ListenStmt, *pg.Node_UnlistenStmt, *pg.Node_NotifyStmt, *pg.Node_AlterRoleStmt, *pg.Node_LockStmt:
		return own
	}
	return governed
}

// describeOwn says which columns a statement gives that is not governed.
func (c *session) describeOwn(p *prepared) ([]query.Column, error) {
	n := p.piece.Node
	switch s := n.GetNode().(type) {
	case *pg.Node_SelectStmt:
		return c.catalogColumns(p)
	case *pg.Node_VariableShowStmt:
		return c.showColumns(s.VariableShowStmt.Name)
	case *pg.Node_ExecuteStmt:
		if of := c.prepared[s.ExecuteStmt.Name]; of != nil {
			return of.columns, nil
		}
	case *pg.Node_FetchStmt:
		if of := c.portals[s.FetchStmt.Portalname]; of != nil && !s.FetchStmt.Ismove {
			return of.of.columns, nil
		}
	}
	return nil, nil
}

// own carries out a statement that the session answers itself.
func (c *session) own(p *prepared, params []any, answer *rows) (tag string, err error) {
	switch s := p.piece.Node.GetNode().(type) {
	case *pg.Node_SelectStmt:
		return c.list(p, params, answer)
	case *pg.Node_TransactionStmt:
		return c.transaction(s.TransactionStmt)
	case *pg.Node_VariableSetStmt:
		return c.set(s.VariableSetStmt)
	case *pg.Node_VariableShowStmt:
		return "SHOW", c.show(s.VariableShowStmt.Name, answer)
	case *pg.Node_DiscardStmt:
		return c.discard(s.DiscardStmt)
	case *pg.Node_PrepareStmt:
		return c.prepare(p.piece, s.PrepareStmt)
	case *pg.Node_ExecuteStmt:
		return c.executePrepared(s.ExecuteStmt, answer)
	case *pg.Node_DeallocateStmt:
		if s.DeallocateStmt.Name == "" {
			c.dropNamed()
			return "DEALLOCATE ALL", nil
		}
		if c.prepared[s.DeallocateStmt.Name] == nil {
			return "", statef("26000", "prepared statement %s does not exist", quoted(printable(s.DeallocateStmt.Name, 64)))
		}
		c.dropPrepared(s.DeallocateStmt.Name)
		return "DEALLOCATE", nil
	case *pg.Node_DeclareCursorStmt:
		return c.declare(p.piece, s.DeclareCursorStmt, params)
	case *pg.Node_FetchStmt:
		return c.fetchCursor(s.FetchStmt, answer)
	case *pg.Node_ClosePortalStmt:
		if s.ClosePortalStmt.Portalname == "" {
			for name, p := range c.portals {
				if name != "" && p != c.active {
					c.dropPortal(name)
				}
			}
			return "CLOSE CURSOR ALL", nil
		}
		if c.portals[s.ClosePortalStmt.Portalname] == nil {
			return "", noCursor(s.ClosePortalStmt.Portalname)
		}
		c.dropPortal(s.ClosePortalStmt.Portalname)
		return "CLOSE CURSOR", nil
	case *pg.Node_CopyStmt:
		return c.copying(p.piece, s.CopyStmt)
	case *pg.Node_UnlistenStmt:
		return "UNLISTEN", nil // nothing is listened to
	case *pg.Node_ListenStmt, *pg.Node_NotifyStmt:
		return "", statef("0A000", "LISTEN and NOTIFY are not there")
	case *pg.Node_LockStmt:
		return "", statef("0A000", "LOCK is not there; what a statement changes is locked by the source")
	case *pg.Node_AlterRoleStmt:
		return c.alterRole(s.AlterRoleStmt)
	}
	return "", statef("0A000", "this statement is not there")
}

func noCursor(name string) error {
	return statef("34000", "cursor %s does not exist", quoted(printable(name, 64)))
}

// commandTag is the tag of a statement that changes the access model.
func commandTag(n *pg.Node) string {
	switch s := n.GetNode().(type) {
	case *pg.Node_GrantStmt:
		if s.GrantStmt.IsGrant {
			return "GRANT"
		}
		return "REVOKE"
	case *pg.Node_GrantRoleStmt:
		if s.GrantRoleStmt.IsGrant {
			return "GRANT ROLE"
		}
		return "REVOKE ROLE"
	case *pg.Node_CreateRoleStmt:
		return "CREATE ROLE"
	case *pg.Node_DropRoleStmt:
		return "DROP ROLE"
	case *pg.Node_ViewStmt:
		return "CREATE VIEW"
	case *pg.Node_DropStmt:
		return "DROP VIEW"
	}
	return "OK"
}

// set carries out SET and RESET.
func (c *session) set(s *pg.VariableSetStmt) (string, error) {
	tag := "SET"
	if s.Kind == pg.VariableSetKind_VAR_RESET || s.Kind == pg.VariableSetKind_VAR_RESET_ALL {
		tag = "RESET"
	}
	switch s.Name {
	case "role":
		return tag, c.setRole(s)
	case "session_authorization":
		return tag, c.setAuthorization(s)
	}
	switch s.Kind {
	case pg.VariableSetKind_VAR_RESET_ALL:
		return tag, c.settings.resetAll()
	case pg.VariableSetKind_VAR_RESET, pg.VariableSetKind_VAR_SET_DEFAULT:
		if lower := strings.ToLower(s.Name); transactional[lower] {
			if lower == "transaction_isolation" && !c.inBlock() {
				c.notice("WARNING", "25P01", "RESET TRANSACTION can only be used in transaction blocks")
			}
			return tag, c.setTransactionOption(lower, c.settings.start[lower], false)
		}
		return tag, c.settings.reset(s.Name)
	case pg.VariableSetKind_VAR_SET_MULTI:
		return tag, c.setTransaction(s)
	case pg.VariableSetKind_VAR_SET_VALUE:
	default:
		return "", statef("0A000", "this form of SET is not there")
	}
	value, err := valueOf(s.Args)
	if err != nil {
		return "", err
	}
	if strings.EqualFold(s.Name, "search_path") {
		var parts []string
		for _, n := range s.Args {
			parts = append(parts, quotedIfNeeded(n.GetAConst().GetSval().GetSval()))
		}
		value = strings.Join(parts, ", ")
	}
	if s.IsLocal && !c.inBlock() {
		c.notice("WARNING", "25P01", "SET LOCAL can only be used in transaction blocks")
	}
	return tag, c.setOne(s.Name, value, s.IsLocal, false)
}

// transactional are settings of the transaction, and not of the session.
var transactional = map[string]bool{"transaction_isolation": true, "transaction_read_only": true}

// setOne sets one setting, by SET or within a query by set_config.
func (c *session) setOne(name, value string, local, asking bool) error {
	if lower := strings.ToLower(name); transactional[lower] {
		return c.setTransactionOption(lower, value, asking)
	}
	return c.settings.set(name, value, local)
}

func quotedIfNeeded(name string) string {
	if strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789_") == "" && name != "" {
		return name
	}
	return quoted(name)
}

// setRole narrows the session to one role that it holds, or gives all back.
func (c *session) setRole(s *pg.VariableSetStmt) error {
	at := c.standpoint
	at.Role = ""
	if s.Kind == pg.VariableSetKind_VAR_SET_VALUE {
		name, err := valueOf(s.Args)
		if err != nil {
			return err
		}
		if name != "none" {
			at.Role = name
		}
	}
	return c.lookAs(at, s.IsLocal)
}

// setAuthorization views as another account, for who may.
func (c *session) setAuthorization(s *pg.VariableSetStmt) error {
	at := c.standpoint
	at.As, at.Role = "", ""
	if s.Kind == pg.VariableSetKind_VAR_SET_VALUE {
		name, err := valueOf(s.Args)
		if err != nil {
			return err
		}
		if at.As = name; !strings.Contains(name, ":") {
			at.As = "user:" + name
		}
		if at.As == c.server.service.Platform.Current().Model.Ref(c.caller.User) {
			at.As = ""
		}
	}
	return c.lookAs(at, s.IsLocal)
}

// lookAs changes as whom the session looks, until the end of the transaction where it is local.
func (c *session) lookAs(at wire.Standpoint, local bool) error {
	if c.tx != nil && !c.implicit && c.tx.Holds() {
		return statef("25001", "as whom the session looks cannot change within a transaction")
	}
	viewer, err := c.server.service.Identity.ViewerAt(c.server.service.Platform.Current(), c.caller, at)
	if err != nil {
		return err
	}
	standing := ""
	if at.As != "" || at.Role != "" {
		standing = viewer.Words
	}
	was, words := c.standpoint, c.standing
	if err := c.settings.undoes(undo{"role", func() { c.stand(was, words) }, local}); err != nil {
		return err
	}
	c.stand(at, standing)
	return nil
}

// stand keeps as whom the session looks, and tells of it in words; without words it looks as itself.
func (c *session) stand(at wire.Standpoint, words string) {
	c.standpoint, c.standing = at, words
	c.open.As(c.caller, words)
	name := c.userName()
	if at.As != "" {
		name = strings.TrimPrefix(at.As, "user:")
	}
	c.settings.put(c.settings.all["session_authorization"], name)
}

// show gives the value of a setting.
func (c *session) show(name string, answer *rows) error {
	columns, err := c.showColumns(name)
	if err != nil {
		return err
	}
	var out [][][]byte
	if strings.EqualFold(name, "all") {
		for _, lower := range slices.Sorted(maps.Keys(c.settings.all)) {
			one := c.settings.all[lower]
			out = append(out, [][]byte{[]byte(one.name), []byte(one.value), []byte(one.about)})
		}
	} else {
		out = [][][]byte{{[]byte(c.shown(name))}}
	}
	return c.give(columns, out, answer)
}

// shown is the value that SHOW has of a setting that is there.
func (c *session) shown(name string) string {
	if strings.EqualFold(name, "role") {
		if c.standpoint.Role == "" {
			return "none"
		}
		return c.standpoint.Role
	}
	one, err := c.settings.find(name)
	if err != nil {
		return ""
	}
	return one.value
}

func (c *session) showColumns(name string) ([]query.Column, error) {
	text := sqltype.Text
	if strings.EqualFold(name, "all") {
		return []query.Column{{Name: "name", Type: text}, {Name: "setting", Type: text}, {Name: "description", Type: text}}, nil
	}
	if strings.EqualFold(name, "role") {
		return []query.Column{{Name: "role", Type: text}}, nil
	}
	one, err := c.settings.find(name)
	if err != nil {
		return nil, err
	}
	return []query.Column{{Name: one.name, Type: text}}, nil
}

// give hands rows to an answer that are there already.
func (c *session) give(columns []query.Column, out [][][]byte, answer gateway.Answer) error {
	if _, err := answer.Head(gateway.Head{Columns: columns}); err != nil {
		return err
	}
	var b []byte
	var err error
	for _, row := range out {
		if b, err = answer.Row(b, row); err != nil {
			return err
		}
		if len(b) >= mostOut {
			if err := answer.Send(b, false); err != nil {
				return err
			}
			b = b[:0]
		}
	}
	return answer.Send(b, true)
}

// discard carries out DISCARD.
func (c *session) discard(s *pg.DiscardStmt) (string, error) {
	switch s.Target {
	case pg.DiscardMode_DISCARD_ALL:
		if c.inBlock() || c.piped {
			return "", statef("25001", "DISCARD ALL cannot run inside a transaction block")
		}
		for name := range c.portals {
			c.dropPortal(name)
		}
		c.dropNamed()
		if err := c.lookAs(wire.Standpoint{}, false); err != nil {
			return "", err
		}
		return "DISCARD ALL", c.settings.resetAll()
	case pg.DiscardMode_DISCARD_PLANS:
		return "DISCARD PLANS", nil
	case pg.DiscardMode_DISCARD_SEQUENCES:
		return "DISCARD SEQUENCES", nil
	}
	return "DISCARD TEMP", nil
}
