package sqlport

import (
	pg "github.com/pganalyze/pg_query_go/v6"

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
			return tag, nil
		}
		in, err := c.isolation(s.Options)
		if err != nil {
			return "", err
		}
		if c.tx != nil { // the statements before it are in it
			if c.implicit = false; !c.tx.Holds() {
				c.tx.Isolation = in
				c.showIsolation(in)
			}
			return tag, nil
		}
		c.begin(in, false)
		return tag, nil
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT:
		if s.Chain && (c.tx == nil || c.implicit) {
			return "", statef("25P01", "COMMIT AND CHAIN can only be used in transaction blocks")
		}
		if c.tx == nil || c.implicit {
			c.notice("WARNING", "25P01", "there is no transaction in progress")
			if c.tx == nil {
				return "COMMIT", nil
			}
		}
		was, failed := c.tx.Isolation, c.failed
		if err := c.finish(!failed); err != nil {
			return "", err
		}
		c.chained(s, was)
		return map[bool]string{true: "ROLLBACK", false: "COMMIT"}[failed], nil
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK:
		if s.Chain && (c.tx == nil || c.implicit) {
			return "", statef("25P01", "ROLLBACK AND CHAIN can only be used in transaction blocks")
		}
		if c.tx == nil {
			c.notice("WARNING", "25P01", "there is no transaction in progress")
			return "ROLLBACK", nil
		}
		was := c.tx.Isolation
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
		return "SAVEPOINT", c.tx.Savepoint(ctx, s.SavepointName, len(c.settings.undone))
	case pg.TransactionStmtKind_TRANS_STMT_RELEASE:
		err := c.tx.Release(ctx, s.SavepointName)
		c.countSavepoints(c.tx.Savepoints())
		return "RELEASE", err
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_TO:
		c.dropPortals(false)
		undone, err := c.tx.RollbackTo(ctx, s.SavepointName)
		if err != nil {
			return "", err
		}
		c.settings.backTo(undone)
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

// isolation reads the options of BEGIN and of SET TRANSACTION.
func (c *session) isolation(options []*pg.Node) (in source.Isolation, err error) {
	level, readOnly := c.settings.get("default_transaction_isolation"), c.settings.get("default_transaction_read_only")
	for _, n := range options {
		e := n.GetDefElem()
		switch e.Defname {
		case "transaction_isolation":
			level = e.Arg.GetAConst().GetSval().GetSval()
		case "transaction_read_only":
			readOnly = map[bool]string{true: "on", false: "off"}[e.Arg.GetAConst().GetIval().GetIval() != 0]
		case "transaction_deferrable":
		default:
			return in, statef("0A000", "this mode of a transaction is not there")
		}
	}
	return source.Isolation{ReadOnly: readOnly == "on", Snapshot: level == "repeatable read", Serializable: level == "serializable"}, nil
}

// setTransaction carries out SET TRANSACTION and SET SESSION CHARACTERISTICS.
func (c *session) setTransaction(s *pg.VariableSetStmt) error {
	if s.Name == "SESSION CHARACTERISTICS" {
		for _, n := range s.Args {
			e := n.GetDefElem()
			var err error
			switch e.Defname {
			case "transaction_isolation":
				err = c.settings.set("default_transaction_isolation", e.Arg.GetAConst().GetSval().GetSval(), false)
			case "transaction_read_only":
				err = c.settings.set("default_transaction_read_only", map[bool]string{true: "on", false: "off"}[e.Arg.GetAConst().GetIval().GetIval() != 0], false)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	if s.Name != "TRANSACTION" {
		return statef("0A000", "a snapshot of another transaction cannot be taken")
	}
	for _, n := range s.Args {
		e := n.GetDefElem()
		value := e.Arg.GetAConst().GetSval().GetSval()
		if e.Defname == "transaction_read_only" {
			value = map[bool]string{true: "on", false: "off"}[e.Arg.GetAConst().GetIval().GetIval() != 0]
		}
		if err := c.setTransactionOption(e.Defname, value); err != nil {
			return err
		}
	}
	return nil
}

func (c *session) setTransactionOption(name, value string) error {
	if name == "transaction_deferrable" {
		return nil
	}
	if c.tx == nil {
		c.notice("WARNING", "25P01", "SET TRANSACTION can only be used in transaction blocks")
		return nil
	}
	if c.tx.Holds() {
		return statef("25001", "SET TRANSACTION must be called before any statement of the transaction")
	}
	one := c.settings.all[name]
	value, err := one.check(value)
	if err != nil {
		return err
	}
	if name == "transaction_read_only" {
		c.tx.Isolation.ReadOnly = value == "on"
	} else {
		c.tx.Isolation.Snapshot, c.tx.Isolation.Serializable = value == "repeatable read", value == "serializable"
	}
	return c.settings.put(one, value)
}
