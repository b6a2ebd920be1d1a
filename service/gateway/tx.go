package gateway

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/source"
	"gneiss/store"
)

// A Tx is a transaction of a caller's. The database has one for it from the first statement on that
// needs it: that changes rows, or, where all see one snapshot, the first. Its methods are called one
// at a time; those of a nil Tx are of statements by themselves.
type Tx struct {
	Isolation source.Isolation
	Start     time.Time

	service *Service
	caller  identity.Caller
	hurry   func()
	held    place  // what it keeps
	leave   func() // gives that back; nil: it keeps nothing
	source  access.ObjectID
	tx      source.Tx
	saved   []savepoint
	marks   int             // savepoints so far
	writes  []*store.Record // open until it ends
}

// A savepoint is a place in a transaction that it can go back to.
type savepoint struct {
	name   string // as the client calls it
	own    string // as the database does: no two of a transaction clash
	writes int    // that were before it
	mark   Mark   // as its maker gave it
}

// Begin begins a transaction of a caller's. Hurry is called, from elsewhere, when others wait for
// the connection that it keeps.
func (s *Service) Begin(c identity.Caller, in source.Isolation, hurry func()) *Tx {
	return &Tx{Isolation: in, Start: time.Now(), service: s, caller: c, hurry: hurry}
}

// Waited reports whether others wait for the connection that the transaction keeps.
func (t *Tx) Waited() bool { return t != nil && t.leave != nil && t.service.holds.waited(t.held) }

// gone gives back what the transaction keeps.
func (t *Tx) gone() {
	t.tx = nil
	if t.leave != nil {
		t.leave()
		t.leave = nil
	}
}

// of is the database's own transaction for a statement on a source; nil: the statement needs none.
func (t *Tx) of(ctx context.Context, src source.Source, id access.ObjectID, write bool) (source.Tx, error) {
	if t == nil {
		return nil, nil
	}
	if write && t.Isolation.ReadOnly {
		e := fault.New(fault.Invalid, "read_only", "the transaction is read-only")
		e.SQLState = "25006"
		return nil, e
	}
	if t.tx != nil && id != 0 && id != t.source {
		e := fault.New(fault.Invalid, "two_sources", "one transaction changes the tables of one source")
		e.SQLState = "0A000"
		return nil, e
	}
	if t.tx != nil || !write && !t.Isolation.Snapshot && !t.Isolation.Serializable {
		return t.tx, nil
	}
	in := t.Isolation
	if !write && !in.ReadOnly { // who only reads keeps no writer's connection
		st := t.service.platform.Current()
		own, err := t.service.identity.Own(st, t.caller)
		if err != nil {
			return nil, err
		}
		in.ReadOnly = !t.service.mayWrite(st, own, id)
	}
	leave, err := t.service.keep(ctx, src, &t.held, id, !in.ReadOnly, &hold{who: t.caller.User, hurry: t.hurry})
	if err != nil {
		return nil, err
	}
	t.leave = leave
	tx, err := src.Begin(ctx, in)
	if err != nil {
		t.gone()
		return nil, err
	}
	t.tx, t.source = tx, id
	for _, s := range t.saved {
		if err := tx.Savepoint(ctx, s.own); err != nil {
			return nil, err
		}
	}
	return tx, nil
}

// Holds reports whether the database has a transaction for it.
func (t *Tx) Holds() bool { return t != nil && t.tx != nil }

// Savepoints counts the places that it can go back to.
func (t *Tx) Savepoints() int { return len(t.saved) }

// A Mark says how far a session had come at a savepoint.
type Mark struct {
	Set     int // what was set in the transaction
	Portals int // that were made in the session
}

// Last is the mark of the last savepoint; without one zero.
func (t *Tx) Last() Mark {
	if len(t.saved) == 0 {
		return Mark{}
	}
	return t.saved[len(t.saved)-1].mark
}

// Savepoint marks a place to go back to (ISO/IEC 9075-2, 17.5).
func (t *Tx) Savepoint(ctx context.Context, name string, at Mark) error {
	t.marks++
	s := savepoint{name, strconv.Itoa(t.marks), len(t.writes), at}
	t.saved = append(t.saved, s)
	if t.tx == nil {
		return nil
	}
	return t.tx.Savepoint(ctx, s.own)
}

func (t *Tx) find(name string) (int, error) {
	for i := len(t.saved) - 1; i >= 0; i-- {
		if t.saved[i].name == name {
			return i, nil
		}
	}
	e := fault.New(fault.NotFound, "no_savepoint", "savepoint %q does not exist", name)
	e.SQLState = "3B001"
	return 0, e
}

// Release forgets a savepoint and those behind it.
func (t *Tx) Release(ctx context.Context, name string) error {
	i, err := t.find(name)
	if err != nil {
		return err
	}
	own := t.saved[i].own
	t.saved = t.saved[:i]
	if t.tx == nil {
		return nil
	}
	return t.tx.Release(ctx, own)
}

// RollbackTo undoes what was done since a savepoint, and returns its mark.
func (t *Tx) RollbackTo(ctx context.Context, name string) (at Mark, err error) {
	i, err := t.find(name)
	if err != nil {
		return Mark{}, err
	}
	undone := slices.Clone(t.writes[t.saved[i].writes:])
	t.writes = t.writes[:t.saved[i].writes]
	t.saved = t.saved[:i+1]
	if t.tx != nil {
		err = t.tx.RollbackTo(ctx, t.saved[i].own)
	}
	return t.saved[i].mark, errors.Join(err, t.ended(undone, audit.Failed, "rolled back to the savepoint "+name))
}

// Fail gives up, after a statement has failed, what was done since the last savepoint, with the locks that it holds: nobody
// waits for a transaction of which nothing can last.
func (t *Tx) Fail(ctx context.Context) error {
	if n := len(t.saved); n > 0 {
		_, err := t.RollbackTo(ctx, t.saved[n-1].name)
		return err
	}
	return t.Rollback(ctx)
}

// Commit makes last what was done.
func (t *Tx) Commit(ctx context.Context) error {
	if t.tx == nil {
		return nil
	}
	err := t.tx.Commit(ctx)
	t.gone()
	if err != nil && !refused(err) { // its answer is lost
		return errors.Join(err, t.ended(t.writes, audit.Unknown, "the answer to COMMIT was lost, so the rows may have been changed: "+err.Error()))
	}
	if err != nil {
		return errors.Join(err, t.ended(t.writes, audit.Failed, "the transaction could not be committed: "+err.Error()))
	}
	return t.ended(t.writes, audit.Allowed, "")
}

// refused reports whether an error is the database's own word that it has not done something.
func refused(err error) bool {
	var constraint *source.Constraint
	var unfit *source.Unfit
	return errors.As(err, &constraint) || errors.As(err, &unfit)
}

// Rollback undoes all.
func (t *Tx) Rollback(ctx context.Context) error {
	if t.tx == nil {
		return nil
	}
	err := t.tx.Rollback(ctx)
	t.gone()
	return errors.Join(err, t.ended(t.writes, audit.Failed, "rolled back"))
}

// ended puts on record what became of what the transaction wrote.
func (t *Tx) ended(writes []*store.Record, decision, why string) error {
	var errs []error
	for _, r := range writes {
		ending := endOf(r)
		ending.Decision, ending.Reason, ending.Rows, ending.TookUS = decision, why, r.Rows, r.TookUS
		errs = append(errs, t.service.audit.Write(ending))
	}
	return errors.Join(errs...)
}
