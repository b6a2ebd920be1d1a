package store

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jmoiron/sqlx"
)

// A Record is one line of the record of who did what.
type Record struct {
	ID       int64
	At       string // RFC 3339 with milliseconds, UTC
	Actor    string
	Standing string
	Action   string
	Decision string
	Text     string
	Objects  string // a JSON array of paths
	Labels   string // a JSON array of the labels that they bear
	Missing  string // a JSON array of "PRIVILEGE on path"
	Reason   string
	Rows     int64
	TookUS   int64 `db:"took_us"`
	Address  string
}

// Audit is the record of who did what, in a database file of its own. One
// writer takes what waits and writes it together; the queue before it is
// bounded, and blocks rather than drops.
type Audit struct {
	db    *sqlx.DB
	add   *sqlx.NamedStmt // the writer's
	queue chan entry
	done  chan struct{}
}

type entry struct {
	record *Record
	result chan error
}

const auditQueue = 256

func newAudit(db *sqlx.DB) *Audit {
	a := &Audit{db: db, queue: make(chan entry, auditQueue), done: make(chan struct{})}
	go a.write()
	return a
}

func (a *Audit) close() error {
	close(a.queue)
	<-a.done
	return a.db.Close()
}

// Add writes a record and gives it its id. When it returns without an error,
// the record survives a kill.
func (a *Audit) Add(r *Record) error {
	if r.Objects == "" {
		r.Objects = "[]"
	}
	if r.Missing == "" {
		r.Missing = "[]"
	}
	e := entry{r, make(chan error, 1)}
	a.queue <- e
	return <-e.result
}

func (a *Audit) write() {
	defer close(a.done)
	for first := range a.queue {
		batch := []entry{first}
		for len(batch) < auditQueue && len(a.queue) > 0 {
			batch = append(batch, <-a.queue)
		}
		err := a.insert(batch)
		for _, e := range batch {
			e.result <- err
		}
	}
}

func (a *Audit) insert(batch []entry) error {
	if a.add == nil {
		var err error
		if a.add, err = a.db.PrepareNamed(`INSERT INTO record (at, actor, standing, action, decision, text, objects, labels, missing, reason, rows, took_us, address)
			VALUES (:at, :actor, :standing, :action, :decision, :text, :objects, :labels, :missing, :reason, :rows, :took_us, :address)`); err != nil {
			return err
		}
	}
	tx, err := a.db.Beginx()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	add := tx.NamedStmt(a.add)
	for _, e := range batch {
		result, err := add.Exec(e.record)
		if err != nil {
			return fmt.Errorf("the audit record: %w", err)
		}
		if e.record.ID, err = result.LastInsertId(); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// SignedIn reports whether an account has signed in from an address.
func (a *Audit) SignedIn(ctx context.Context, actor, address string) bool {
	var n int
	err := a.db.GetContext(ctx, &n, "SELECT count(*) FROM (SELECT 1 FROM record WHERE actor = ? AND action = 'sign-in' AND decision = 'allowed' AND address = ? LIMIT 1)", actor, address)
	return err == nil && n > 0
}

// A Search selects records. Empty fields do not restrict.
type Search struct {
	Actor    string // the user, or who they stood in for
	Action   string
	Decision string
	Contains string // in the text, the objects or the reason
	TextOnly bool   // Contains looks at the text alone
	Label    string // that an object bore
	Before   int64  // only records with a smaller id
	Limit    int
}

// Find lists records, newest first.
func (a *Audit) Find(ctx context.Context, s Search) ([]Record, error) {
	where, args := []string{"TRUE"}, []any{}
	add := func(condition string, values ...any) {
		where = append(where, condition)
		args = append(args, values...)
	}
	if s.Actor != "" {
		add("(actor = ? OR standing = ? OR standing LIKE ?)", s.Actor, s.Actor, s.Actor+" %")
	}
	if s.Action != "" {
		add("action = ?", s.Action)
	}
	if s.Decision != "" {
		add("decision = ?", s.Decision)
	}
	switch {
	case s.Contains != "" && s.TextOnly:
		add("instr(text, ?) > 0", s.Contains)
	case s.Contains != "":
		add("(instr(text, ?) > 0 OR instr(objects, ?) > 0 OR instr(reason, ?) > 0)", s.Contains, s.Contains, s.Contains)
	}
	if s.Label != "" {
		add("instr(labels, ?) > 0", strconv.Quote(s.Label))
	}
	if s.Before > 0 {
		add("id < ?", s.Before)
	}
	if s.Limit <= 0 {
		return nil, errors.New("a search of the record needs a limit")
	}
	var out []Record
	err := a.db.SelectContext(ctx, &out, "SELECT * FROM record WHERE "+strings.Join(where, " AND ")+" ORDER BY id DESC LIMIT ?", append(args, s.Limit)...)
	return out, err
}
