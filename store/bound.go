package store

import (
	"fmt"

	"github.com/jmoiron/sqlx"
)

// A Bound is how many of a kind of thing there may be. It is counted in the transaction that makes
// one more, so that many made at once do not pass it.
type Bound struct{ Own, All int } // of one account, and of all; zero: not bounded

// Full is the error of one thing too many.
type Full struct{ Own, All int } // how many there are

func (e *Full) Error() string {
	return fmt.Sprintf("there are %d, %d of them of this account", e.All, e.Own)
}

// hold refuses one more, where a query that counts those of an account and all of them says that
// there are as many as there may be.
func (b Bound) hold(tx *sqlx.Tx, count string, account uint32) error {
	var there Full
	if err := tx.QueryRow(count, account).Scan(&there.Own, &there.All); err != nil {
		return err
	}
	if b.Own > 0 && there.Own >= b.Own || b.All > 0 && there.All >= b.All {
		return &there
	}
	return nil
}
