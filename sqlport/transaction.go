package sqlport

import (
	"context"
	"time"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/query"
	"gneiss/service/gateway"
	"gneiss/source"
)

// endsTransaction reports whether a statement is taken in a failed transaction.
func endsTransaction(n *pg.Node) bool {
	switch n.GetTransactionStmt().GetKind() {
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT, pg.TransactionStmtKind_TRANS_STMT_ROLLBACK, pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_TO:
		return true
	}
	return false
}

// endsOrBegins reports whether a statement is about transactions, so that none is begun for it.
func (p *prepared) endsOrBegins() bool { return p.piece.Node.GetTransactionStmt() != nil }

// transaction carries out BEGIN, COMMIT and the like.
func (c *session) transaction(s *pg.TransactionStmt) (string, error) {
	ctx, done := c.working("")
	defer done()
	switch s.Kind {
	case pg.TransactionStmtKind_TRANS_STMT_BEGIN, pg.TransactionStmtKind_TRANS_STMT_START:
		tag := map[bool]string{true: "BEGIN", false: "START TRANSACTION"}[s.Kind == pg.TransactionStmtKind_TRANS_STMT_BEGIN]
		if c.tx != nil && !c.implicit {
			c.notice("WARNING", "25001", "there is already a transaction in progress")
		} else if c.tx == nil {
			c.begin(c.inherits(), true)
		}
		for _, n := range s.Options {
			e := n.GetDefElem()
			if err := c.setTransactionOption(e.Defname, modeOf(e), false); err != nil {
				return "", err
			}
		}
		c.implicit = false // the statements that came together with it are in it
		return tag, nil
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT:
		if s.Chain && (c.tx == nil || c.implicit) {
			return "", statef("25P01", "COMMIT AND CHAIN can only be used in transaction blocks")
		}
		if c.tx == nil || c.implicit {
			c.notice("WARNING", "25P01", "there is no transaction in progress")
			if c.tx == nil {
				c.dropPortals(false)
				return "COMMIT", nil
			}
		}
		was, failed := c.isolationSet(), c.failed
		if err := c.finish(!failed); err != nil {
			return "", err
		}
		c.chained(s, was)
		return map[bool]string{true: "ROLLBACK", false: "COMMIT"}[failed], nil
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK:
		if s.Chain && (c.tx == nil || c.implicit) {
			return "", statef("25P01", "ROLLBACK AND CHAIN can only be used in transaction blocks")
		}
		if c.tx == nil || c.implicit {
			c.notice("WARNING", "25P01", "there is no transaction in progress")
			if c.tx == nil {
				c.dropPortals(false)
				return "ROLLBACK", nil
			}
		}
		was := c.isolationSet()
		if err := c.finish(false); err != nil {
			return "", err
		}
		c.chained(s, was)
		return "ROLLBACK", nil
	case pg.TransactionStmtKind_TRANS_STMT_PREPARE, pg.TransactionStmtKind_TRANS_STMT_COMMIT_PREPARED, pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_PREPARED:
		return "", statef("0A000", "transactions in two phases are not supported")
	}
	if c.tx == nil || c.implicit {
		return "", statef("25P01", "%s can only be used in transaction blocks", map[pg.TransactionStmtKind]string{
			pg.TransactionStmtKind_TRANS_STMT_SAVEPOINT: "SAVEPOINT", pg.TransactionStmtKind_TRANS_STMT_RELEASE: "RELEASE SAVEPOINT",
			pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_TO: "ROLLBACK TO SAVEPOINT"}[s.Kind])
	}
	switch s.Kind {
	case pg.TransactionStmtKind_TRANS_STMT_SAVEPOINT:
		if len(s.SavepointName) > 256 {
			return "", statef("42622", "a name has up to 256 bytes")
		}
		if c.saves >= mostSavepoint {
			return "", statef("54000", "a transaction has up to %d savepoints; release some", mostSavepoint)
		}
		if err := c.keeps(bytesOfEntry); err != nil {
			return "", err
		}
		c.saves++
		return "SAVEPOINT", c.tx.Savepoint(ctx, s.SavepointName, gateway.Mark{Set: len(c.settings.undone), Portals: c.made})
	case pg.TransactionStmtKind_TRANS_STMT_RELEASE:
		err := c.tx.Release(ctx, s.SavepointName)
		c.countSavepoints(c.tx.Savepoints())
		return "RELEASE", err
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_TO:
		at, err := c.tx.RollbackTo(ctx, s.SavepointName)
		if err != nil {
			return "", err
		}
		for name, p := range c.portals {
			if p.number > at.Portals {
				c.dropPortal(name)
			}
		}
		c.settings.backTo(at.Set)
		c.tx.Isolation = c.isolationSet()
		c.countSavepoints(c.tx.Savepoints())
		c.failed = false
		return "ROLLBACK", nil
	}
	return "", statef("0A000", "this statement of transactions is not supported")
}

// countSavepoints gives back what is kept for more savepoints than there are.
func (c *session) countSavepoints(there int) {
	c.gives(int64(c.saves-there) * bytesOfEntry)
	c.saves = there
}

// chained begins the next transaction, which is as the one before, where AND CHAIN asks for it.
func (c *session) chained(s *pg.TransactionStmt, was source.Isolation) {
	if s.Chain {
		c.begin(was, false)
	}
}

// modeOf is a mode of a transaction as its setting has it.
func modeOf(e *pg.DefElem) string {
	if e.Defname == "transaction_read_only" {
		return map[bool]string{true: "on", false: "off"}[e.Arg.GetAConst().GetIval().GetIval() != 0]
	}
	return e.Arg.GetAConst().GetSval().GetSval()
}

// setTransaction carries out SET TRANSACTION and SET SESSION CHARACTERISTICS.
func (c *session) setTransaction(s *pg.VariableSetStmt) error {
	if s.Name == "SESSION CHARACTERISTICS" {
		for _, n := range s.Args {
			e := n.GetDefElem()
			if e.Defname == "transaction_deferrable" {
				continue
			}
			if err := c.settings.set("default_"+e.Defname, modeOf(e), false); err != nil {
				return err
			}
		}
		return nil
	}
	if s.Name != "TRANSACTION" {
		return statef("0A000", "a snapshot of another transaction cannot be taken")
	}
	if !c.inBlock() {
		c.notice("WARNING", "25P01", "SET TRANSACTION can only be used in transaction blocks")
	}
	for _, n := range s.Args {
		e := n.GetDefElem()
		if err := c.setTransactionOption(e.Defname, modeOf(e), false); err != nil {
			return err
		}
	}
	return nil
}

// setTransactionOption changes the mode of the transaction; of none, that of the statement alone. Asking says that
// it is asked for within a query.
func (c *session) setTransactionOption(name, value string, asking bool) error {
	if name == "transaction_deferrable" {
		return nil
	}
	one := c.settings.all[name]
	value, err := one.check(value)
	if err != nil {
		return err
	}
	begun := asking || c.asked
	within := c.tx != nil && c.tx.Savepoints() > 0
	switch loosens := one.value == "on" && value == "off"; {
	case name == "transaction_isolation" && value != one.value && begun:
		return statef("25001", "SET TRANSACTION ISOLATION LEVEL must be called before any query")
	case name == "transaction_isolation" && value != one.value && within:
		return statef("25001", "SET TRANSACTION ISOLATION LEVEL must not be called in a subtransaction")
	case name == "transaction_read_only" && loosens && within:
		return statef("25001", "cannot set transaction read-write mode inside a read-only transaction")
	case name == "transaction_read_only" && loosens && begun:
		return statef("25001", "transaction read-write mode must be set before any query")
	}
	if err := c.settings.remember(one, c.tx == nil); err != nil {
		return err
	}
	err = c.settings.put(one, value)
	if c.tx != nil {
		c.tx.Isolation = c.isolationSet()
	}
	return err
}

// isolationSet is how the transaction is, by its settings.
func (c *session) isolationSet() source.Isolation {
	level := c.settings.get("transaction_isolation")
	return source.Isolation{ReadOnly: c.settings.get("transaction_read_only") == "on", Snapshot: level == "repeatable read", Serializable: level == "serializable"}
}

// begin begins a transaction; implicit: one that ends with the statements that came together.
func (c *session) begin(in source.Isolation, implicit bool) {
	c.tx, c.implicit = c.server.service.Gateway.Begin(c.caller, in, c.hurry), implicit
	c.showIsolation(in)
}

// fail notes that a statement of the transaction has failed. One that came about by itself is
// undone.
func (c *session) fail() {
	if c.tx == nil {
		return
	}
	if c.implicit {
		c.finish(false)
		return
	}
	c.failed = true
	at := c.tx.Last()
	c.settings.backTo(at.Set)
	for _, p := range c.portals {
		if p.number > at.Portals && !p.hold { // it is there until the transaction ends, and does nothing
			p.stopped()
			p.broken = true
		}
	}
	ctx, done := context.WithTimeout(context.Background(), commitWithin)
	defer done()
	c.tx.Fail(ctx) // what cannot be undone by word is undone as the connection is closed
}

// inBlock reports whether a statement is in a transaction with others.
func (c *session) inBlock() bool { return c.tx != nil && (!c.implicit || c.several) }

// settle ends the transaction of statements that came together.
func (c *session) settle() {
	if err := c.settled(); err != nil {
		c.refuse(err)
	}
}

func (c *session) settled() (err error) {
	if c.tx != nil && c.implicit {
		err = c.finish(true)
	}
	if c.tx == nil {
		c.dropPortals(false)
	}
	return err
}

// showIsolation keeps what SHOW says of a transaction.
func (c *session) showIsolation(in source.Isolation) {
	level := "read committed"
	switch {
	case in.Serializable:
		level = "serializable"
	case in.Snapshot:
		level = "repeatable read"
	}
	c.settings.put(c.settings.all["transaction_isolation"], level)
	c.settings.put(c.settings.all["transaction_read_only"], map[bool]string{true: "on", false: "off"}[in.ReadOnly])
}

// inherits is how a transaction is that says nothing of it, such as that of a statement by itself.
func (c *session) inherits() source.Isolation {
	level := c.settings.get("default_transaction_isolation")
	return source.Isolation{ReadOnly: c.settings.get("default_transaction_read_only") == "on", Snapshot: level == "repeatable read",
		Serializable: level == "serializable"}
}

// around begins a transaction for a statement that is in none, where it needs one: it comes with
// others, or transactions are other than usual in this session.
func (c *session) around(p *prepared, alone bool) error {
	in := c.inherits()
	if c.tx != nil || p.endsOrBegins() || alone && (in == (source.Isolation{}) || p.kind == own && p.piece.Node.GetCopyStmt() == nil) {
		return nil
	}
	if alone && p.kind == governed && query.IsCommand(p.piece.SQL) { // which lasts at once
		if in.ReadOnly {
			return statef("25006", "cannot change who may do what in a read-only transaction")
		}
		return nil
	}
	c.begin(in, true)
	return nil
}

// finish ends the transaction. What was set in it is set back where it did not last.
func (c *session) finish(commit bool) (err error) {
	tx := c.tx
	c.countSavepoints(0)
	lasts := commit && !c.failed
	c.dropPortals(false)
	c.tx, c.implicit, c.failed, c.asked = nil, false, false, false
	// Neither the client's going nor a request to cancel ends it: what became of it would not be known.
	ctx, done := context.WithTimeout(context.Background(), commitWithin)
	defer done()
	if lasts {
		err = tx.Commit(ctx)
	} else {
		tx.Rollback(ctx) // what cannot be undone by word is undone as the connection is closed
	}
	c.settings.ended(!lasts || err != nil)
	c.settings.inherit()
	return err
}

// commitWithin is how long a database may take for a COMMIT or ROLLBACK.
const commitWithin = 60 * time.Second
