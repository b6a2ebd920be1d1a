package store

import (
	"context"
	"crypto/sha256"
	"database/sql/driver"
	"encoding/hex"
	"encoding/json"
	"errors"
	"runtime"
	"strconv"
	"strings"

	"github.com/jmoiron/sqlx"
)

// A digester digests one record after the other. What they say in the same words is written once.
type digester struct {
	said    [9]string
	written []byte // said, as JSON
	b       []byte
}

// digest is the SHA-256 of a record's fields as a JSON array, so that no two records write the same bytes.
func (d *digester) digest(r *Record) string {
	if said := [...]string{r.Actor, r.Standpoint, r.Action, r.Decision, r.Text, r.Objects, r.Labels, r.Missing, r.Reason}; said != d.said || d.written == nil {
		d.said, d.written = said, d.written[:0]
		for _, s := range said {
			d.written = append(appendText(d.written, s), ',')
		}
	}
	b := append(d.b[:0], '[')
	number := func(n int64) { b = append(strconv.AppendInt(b, n, 10), ',') }
	text := func(s string) { b = append(appendText(b, s), ',') }
	number(r.ID)
	text(r.At)
	b = append(b, d.written...)
	number(r.Rows)
	number(r.TookUS)
	text(r.Address)
	text(r.Previous)
	if r.Client != "" || r.Open || r.Ends != 0 { // which records of earlier versions do not have
		text(r.Client)
		b = append(strconv.AppendBool(b, r.Open), ',')
		number(r.Ends)
	}
	if r.Uses != 0 {
		text("uses")
		number(r.Uses)
	}
	b[len(b)-1] = ']'
	d.b = b
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// How bytes stand in a JSON text: as they are, behind a backslash, or in a way that the library is asked for.
const (
	asIs = iota
	escaped
	otherwise
)

var inJSON = func() (kinds [256]byte) {
	for c := range kinds {
		if c < ' ' || c >= 0x7f || strings.ContainsRune("<>&", rune(c)) {
			kinds[c] = otherwise
		}
	}
	kinds['"'], kinds['\\'] = escaped, escaped
	return kinds
}()

// appendText appends a text in JSON, as encoding/json has it.
func appendText(b []byte, s string) []byte {
	start, taken := len(b), 0
	b = append(b, '"')
	for i := range len(s) {
		switch inJSON[s[i]] {
		case escaped:
			b = append(append(b, s[taken:i]...), '\\', s[i])
			taken = i + 1
		case otherwise:
			quoted, err := json.Marshal(s)
			if err != nil {
				panic(err) // strings always marshal
			}
			return append(b[:start], quoted...)
		}
	}
	return append(append(b, s[taken:]...), '"')
}

func (a *Audit) write() {
	defer close(a.done)
	for first := range a.queue {
		for waiting := -1; waiting < len(a.queue); { // who is about to ask for a record, does: one write serves all of them
			waiting = len(a.queue)
			runtime.Gosched()
		}
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

// many is how many records one statement inserts, and perRecord how many values each has.
const (
	many      = 8
	perRecord = 20
)

// An insertion is a prepared statement that inserts records. It is the driver's own: database/sql would copy each value twice.
type insertion struct {
	driver.Stmt
	values []driver.NamedValue // of the records, one after the other; those of the last time are overwritten
}

// connect opens the writer's own connection, where there is none.
func (a *Audit) connect(ctx context.Context) error {
	if a.conn != nil {
		return nil
	}
	conn, err := a.db.Connx(ctx)
	if err != nil {
		return err
	}
	var wrong [3]error
	a.add, wrong[0] = prepareInsertion(ctx, conn, 1)
	a.adds, wrong[1] = prepareInsertion(ctx, conn, many)
	a.pages, wrong[2] = prepare(ctx, conn, insertPage)
	if err := errors.Join(wrong[:]...); err != nil {
		return errors.Join(err, conn.Close())
	}
	a.conn = conn
	return nil
}

func prepareInsertion(ctx context.Context, conn *sqlx.Conn, n int) (in insertion, err error) {
	row := "(?" + strings.Repeat(", ?", perRecord-1) + ")"
	text := `INSERT INTO record (` + columns + `) VALUES ` + row + strings.Repeat(", "+row, n-1)
	in.Stmt, err = prepare(ctx, conn, text)
	in.values = make([]driver.NamedValue, n*perRecord)
	for i := range in.values {
		in.values[i].Ordinal = i + 1
	}
	return in, err
}

func prepare(ctx context.Context, conn *sqlx.Conn, text string) (statement driver.Stmt, err error) {
	err = conn.Raw(func(c any) (err error) {
		statement, err = c.(driver.ConnPrepareContext).PrepareContext(ctx, text)
		return err
	})
	return statement, err
}

// insert inserts as many records as the statement is for.
func (in insertion) insert(ctx context.Context, conn *sqlx.Conn, records []*Record) error {
	at := 0
	text := func(s string) {
		v := &in.values[at].Value
		if kept, ok := (*v).(string); !ok || kept != s { // what does not change need not be allocated again
			*v = s
		}
		at++
	}
	number := func(n int64) { in.values[at].Value = n; at++ }
	for _, r := range records {
		number(r.ID)
		for _, s := range [...]string{r.At, r.Actor, r.Standpoint, r.Action, r.Decision, r.Text, r.Objects, r.Labels, r.Missing, r.Reason} {
			text(s)
		}
		number(r.Rows)
		number(r.TookUS)
		for _, s := range [...]string{r.Address, r.Previous, r.Hash, r.Client} {
			text(s)
		}
		in.values[at].Value = r.Open
		at++
		number(r.Ends)
		number(r.Uses)
	}
	return conn.Raw(func(any) error {
		_, err := in.Stmt.(driver.StmtExecContext).ExecContext(ctx, in.values)
		return err
	})
}

// A linking is records that are given their places in the chain, and written.
type linking struct {
	audit   *Audit
	tx      *sqlx.Tx
	last    Head
	stretch stretch
	known   map[*UseSet]int64 // sets that the transaction has found or made
	due     []*Record         // that are to be inserted
}

func (a *Audit) insert(batch []entry) (err error) {
	ctx := context.Background()
	defer func() {
		if err != nil {
			a.paged = pagedActors{}
		}
	}()
	if err := a.connect(ctx); err != nil {
		return err
	}
	a.turn.take()
	defer a.turn.Unlock()
	tx, err := a.conn.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	l := &linking{audit: a, tx: tx, last: a.last, stretch: a.stretch, known: map[*UseSet]int64{}}
	for _, e := range batch {
		if e.alone != nil {
			if err := errors.Join(l.flush(ctx), e.alone(ctx, tx)); err != nil {
				return err
			}
		}
		for _, r := range e.records() {
			if err := l.add(ctx, r); err != nil {
				return err
			}
		}
	}
	if err := l.flush(ctx); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	a.last, a.stretch = l.last, l.stretch
	next := make(chan struct{})
	close(*a.written.Swap(&next))
	for set, id := range l.known {
		set.kept.Store(&keptSet{id, a.drops})
	}
	return nil
}

// add gives a record its place.
func (l *linking) add(ctx context.Context, r *Record) (err error) {
	if r.Use != nil {
		if kept := r.Use.kept.Load(); kept != nil && kept.drops == l.audit.drops {
			r.Uses = kept.id
		} else if r.Uses = l.known[r.Use]; r.Uses == 0 {
			if r.Uses, err = setOf(ctx, l.tx, r.Use.Needs); err != nil {
				return err
			}
			l.known[r.Use] = r.Uses
		}
	}
	r.ID, r.Previous = l.last.Number+1, l.last.Hash
	r.Hash = l.audit.digester.digest(r)
	l.last = Head{r.ID, r.Hash}
	if l.stretch.add(r.At); r.ID%stretchSize == 0 {
		if _, err := l.tx.ExecContext(ctx, `INSERT INTO stretch (first, earliest, latest) VALUES (?, ?, ?)`, startOf(r.ID), l.stretch.Earliest,
			l.stretch.Latest); err != nil {
			return err
		}
		l.stretch = stretch{}
	}
	l.due = append(l.due, r)
	return nil
}

// flush inserts the records that are due: as pages where enough of them can be in one, or else as rows.
func (l *linking) flush(ctx context.Context) error {
	var rows []*Record
	for due := l.due; len(due) > 0; {
		n, p := 0, page{}
		for n < len(due) && p.add(due[n]) {
			n++
		}
		if n < leastPage {
			n = max(n, 1)
			rows, due = append(rows, due[:n]...), due[n:]
			continue
		}
		if err := l.insertPage(ctx, &p); err != nil {
			return err
		}
		due = due[n:]
	}
	l.due = l.due[:0]
	for len(rows) > 0 {
		n, in := 1, l.audit.add
		if len(rows) >= many {
			n, in = many, l.audit.adds
		}
		if err := in.insert(ctx, l.audit.conn, rows[:n]); err != nil {
			return err
		}
		rows = rows[n:]
	}
	return nil
}
