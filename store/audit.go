package store

import (
	"cmp"
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"unicode/utf8"

	"github.com/jmoiron/sqlx"
)

// A Record is one line of the record of who did what.
type Record struct {
	ID         int64
	At         string // RFC 3339 with milliseconds, UTC
	Actor      string
	Standpoint string `db:"standing"`
	Action     string
	Decision   string
	Text       string
	Objects    string // a JSON array of paths
	Labels     string // a JSON array of the labels that they have
	Missing    string // a JSON array of "PRIVILEGE on path"
	Reason     string
	Rows       int64
	TookUS     int64 `db:"took_us"`
	Address    string
	Previous   string // the hash of the record before
	Hash       string
	Client     string // the name of the program that asked
	Open       bool   // how it ended is told by a record of its own, once it has
	Ends       int64  // the open record whose end this is; zero: it is none's
	Uses       int64  // what of somebody's rights it needed: a use set; zero: none
	Ended      bool   `db:"ended"` // of an open record that is found: its end is known, and in it

	Use *UseSet `db:"-"` // which Uses is to be; nil: none
}

// ErrUnwritable says that the records cannot be written now: the disk is full, or
// broken. What was asked is not done.
var ErrUnwritable = errors.New("the records cannot be written")

// ErrStopping says that the service is about to stop. What was asked is not done.
var ErrStopping = errors.New("the service is stopping")

// Audit is the record of who did what, in a database file of its own. One
// writer takes what waits and writes it together; the queue before it is
// bounded, and blocks rather than drops.
type Audit struct {
	db       *sqlx.DB
	conn     *sqlx.Conn  // the writer's, and so is what follows
	add      insertion   // of one record
	adds     insertion   // of as many as many
	pages    driver.Stmt // inserts one
	paged    pagedActors
	digester digester
	queue    chan entry
	done     chan struct{}
	last     Head
	stretch  stretch // that is being written
	drops    int64   // how often use sets were dropped
	// Before is the last record of earlier runs of the service: one of these that is open and has
	// no end will have none.
	Before int64

	turn turn // of whoever changes the file

	closing sync.RWMutex
	closed  bool
	written atomic.Pointer[chan struct{}]

	counting sync.Mutex // one counts at a time
	portion  portion    // how many records are counted at once
}

type entry struct {
	record *Record
	more   []*Record                             // instead, in their order
	alone  func(context.Context, *sqlx.Tx) error // instead, what only the writer may do
	result chan error
}

// records are those of an entry.
func (e entry) records() []*Record {
	if e.record != nil {
		return []*Record{e.record}
	}
	return e.more
}

const auditQueue = 256

func newAudit(db *sqlx.DB) (*Audit, error) {
	a := &Audit{db: db, portion: portion{least: 1_000, most: 20_000}, queue: make(chan entry, auditQueue), done: make(chan struct{})}
	if err := a.link(); err != nil {
		return nil, err
	}
	if err := a.resumeStretch(); err != nil {
		return nil, err
	}
	a.Before = a.last.Number
	none := make(chan struct{})
	a.written.Store(&none)
	go a.write()
	return a, nil
}

// link gives records of earlier versions, which have no hash, their place in the
// chain, and finds its end.
func (a *Audit) link() error {
	last, err := a.head(context.Background())
	if err != nil {
		return err
	}
	if a.last = last; last.Number == 0 || last.Hash != "" {
		return nil
	}
	tx, err := a.db.Beginx()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var rows []Record
	if err := tx.Select(&rows, "SELECT "+columns+" FROM record ORDER BY id"); err != nil {
		return err
	}
	var d digester
	previous := ""
	for i := range rows {
		r := &rows[i]
		r.Previous = previous
		r.Hash = d.digest(r)
		if _, err := tx.Exec("UPDATE record SET previous = ?, hash = ? WHERE id = ?", r.Previous, r.Hash, r.ID); err != nil {
			return err
		}
		previous = r.Hash
	}
	a.last.Hash = previous
	return tx.Commit()
}

// drain takes no more records, and waits until those that wait are written.
func (a *Audit) drain() {
	a.closing.Lock()
	if !a.closed {
		a.closed = true
		close(a.queue)
	}
	a.closing.Unlock()
	<-a.done
}

func (a *Audit) close() error {
	a.drain()
	if a.conn != nil {
		return errors.Join(a.add.Close(), a.adds.Close(), a.pages.Close(), a.conn.Close(), a.db.Close()) // the last of which moves the log into the file
	}
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
	for _, text := range []*string{&r.Actor, &r.Standpoint, &r.Text, &r.Reason, &r.Objects, &r.Missing, &r.Labels, &r.Address, &r.Client} {
		if !utf8.ValidString(*text) {
			*text = strings.ToValidUTF8(*text, "\ufffd") // as it is read again, and hashed
		}
	}
	return a.put(entry{record: r, result: make(chan error, 1)})
}

// Latest are the last records of an action with a decision, the newest first, among the last
// among of all.
func (a *Audit) Latest(ctx context.Context, action, decision string, among int64) (list []Record, err error) {
	newest, err := a.head(ctx)
	if err != nil {
		return nil, err
	}
	records, err := a.between(ctx, max(newest.Number-among, 1), newest.Number)
	for _, r := range slices.Backward(records) {
		if r.Action == action && r.Decision == decision {
			list = append(list, r)
		}
	}
	return list, err
}

// put has the writer write an entry, and waits until it has.
func (a *Audit) put(e entry) error {
	a.closing.RLock()
	if a.closed {
		a.closing.RUnlock()
		return ErrStopping
	}
	a.queue <- e
	a.closing.RUnlock()
	if err := <-e.result; err != nil {
		return fmt.Errorf("%w: %v", ErrUnwritable, err)
	}
	return nil
}

// Written is closed once records have been written.
func (a *Audit) Written() <-chan struct{} { return *a.written.Load() }

// SignedIn reports whether an account has signed in from an address.
func (a *Audit) SignedIn(ctx context.Context, actor, address string) bool {
	found, err := a.Find(ctx, Search{Actor: actor, Themself: true, Action: "sign-in", Decision: "allowed", Address: address, Limit: 1})
	return err == nil && len(found) > 0
}

// A Search selects records. Empty fields do not restrict.
type Search struct {
	Actor    string // the user, or who they stood in for
	Themself bool   // only what the actor did, and not what somebody did as them
	Action   string
	Decision string
	Contains string // in the text, the objects or the reason
	TextOnly bool   // Contains looks at the text alone
	Label    string // that an object bore
	Running  bool   // whose end is not on record
	From     string // at this time or later: RFC 3339, UTC
	Until    string // before this time
	Address  string
	Client   string
	Object   string // one of the objects is this, or is below it
	Purpose  string // that the standpoint declared
	Role     string // by which it was allowed, or that was acted in
	RoleID   uint32 // its number
	Others   bool   // only what somebody did as somebody else
	Behind   int64  // only records with a greater id, oldest first
	Before   int64  // only records with a smaller id
	Limit    int
}

// columns are those of a record.
const columns = `id, at, actor, standing, action, decision, text, objects, labels, missing, reason, rows, took_us, address, previous, hash, client,
	open, ends, uses`

// found joins each open record with its end. Ends are no records of their own here. The place is for what to look in.
const found = `SELECT r.id, r.at, r.actor, r.standing, r.action, coalesce(e.decision, r.decision) AS decision, r.text, r.objects, r.labels,
	r.missing, coalesce(nullif(e.reason, ''), r.reason) AS reason, coalesce(e.rows, r.rows) AS rows, coalesce(e.took_us, r.took_us) AS took_us,
	r.address, r.previous, r.hash, r.client, r.open, r.ends, r.uses, e.id IS NOT NULL AS ended
	FROM %s LEFT JOIN record e ON e.ends = r.id AND e.ends > 0 AND r.open = 1 WHERE r.ends = 0`

// foundInPages is [found] in pages: where the records are.
const foundInPages = `SELECT r.id, r.page FROM %s WHERE true`

// A place is where records are looked for.
type place struct {
	tables    string   // of which r has the records
	order     []string // in which their records are found quickly
	stretches bool     // s is the stretch that a record is in
	pages     bool     // the records are those of pages
}

var (
	inRows = place{tables: "record r", order: []string{"r.id"}}
	// inRowsByActor are the rows of all stretches that have ended, for the index to be used in each of them.
	inRowsByActor = place{tables: "stretch s CROSS JOIN record r INDEXED BY record_actor", order: []string{"s.first", "r.id"}, stretches: true}
	inRowsByOther = place{tables: "record r INDEXED BY record_others", order: []string{"r.id"}}
	inPages       = place{tables: "paged r", order: []string{"r.page", "r.id"}, pages: true}
	// inPagesByActor are the pages of those stretches that have ended in which somebody is in some page.
	inPagesByActor = place{tables: "stretch s CROSS JOIN page_actor w CROSS JOIN paged r", order: []string{"s.first", "r.page", "r.id"},
		stretches: true, pages: true}
)

// asOther is what somebody did as somebody else; it is as the index of such records has it.
const asOther = `r.standing <> '' AND r.standing <> r.actor AND substr(r.standing, 1, length(r.actor) + 1) <> r.actor || ' '`

// Find lists records, newest first, or oldest first behind one.
func (a *Audit) Find(ctx context.Context, s Search) ([]Record, error) {
	if s.Limit <= 0 {
		return nil, errors.New("a search of the record needs a limit")
	}
	var out []Record
	err := a.snapshot(ctx, func(on sqlx.QueryerContext) error {
		return lookEverywhere(ctx, on, s, func(in place, least int64, condition string, values ...any) error {
			some, err := a.find(ctx, on, s, in, least, condition, values...)
			out = append(out, some...)
			return err
		})
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(out, func(x, y Record) int {
		if s.Behind > 0 {
			return cmp.Compare(x.ID, y.ID)
		}
		return cmp.Compare(y.ID, x.ID)
	})
	return out[:min(len(out), s.Limit)], nil
}

// lookEverywhere looks in each place in which a search can find records, from a number on, for those that a condition holds for.
func lookEverywhere(ctx context.Context, on sqlx.QueryerContext, s Search, look func(in place, least int64, condition string, values ...any) error) error {
	if s.Actor == "" {
		return errors.Join(look(inRows, 0, "true"), look(inPages, 0, "true"))
	}
	var unfinished int64 // the first record of the stretch that has not ended
	if err := sqlx.GetContext(ctx, on, &unfinished, `SELECT coalesce(max(first) + ?, 0) FROM stretch`, stretchSize); err != nil {
		return err
	}
	err := errors.Join(look(inRows, unfinished, "r.actor = ?", s.Actor), look(inPages, unfinished, "r.actor = ?", s.Actor),
		look(inRowsByActor, 0, fmt.Sprintf("(r.id - 1) / %[1]d = (s.first - 1) / %[1]d AND r.actor = ?", stretchSize), s.Actor),
		look(inPagesByActor, 0, fmt.Sprintf("w.stretch = (s.first - 1) / %[1]d AND w.actor = ? AND r.page >= s.first AND r.page < s.first + %[1]d AND r.actor = ?",
			stretchSize), s.Actor, s.Actor))
	if err != nil || s.Themself {
		return err
	}
	return look(inRowsByOther, 0, // whom they stood in for, as such or with a role or purpose
		asOther+" AND (r.standing = ? OR r.standing > ? AND r.standing < ?) AND r.actor <> ?", s.Actor, s.Actor+" ", s.Actor+"!", s.Actor)
}

// find lists the records in a place, from a number on, that a search selects and a condition holds for.
func (a *Audit) find(ctx context.Context, on sqlx.QueryerContext, s Search, in place, least int64, condition string, values ...any) ([]Record, error) {
	if in.pages && (s.Others || s.Running) {
		return nil, nil // of which there is nothing in pages
	}
	text, decision := found, "coalesce(e.decision, r.decision) = ?"
	if in.pages {
		text, decision = foundInPages, "r.decision = ?"
	}
	where, args := []string{fmt.Sprintf(text, in.tables), condition}, values
	add := func(condition string, values ...any) {
		where = append(where, condition)
		args = append(args, values...)
	}
	first, last, err := numbers(ctx, on, s.From, s.Until)
	if err != nil {
		return nil, err
	}
	first = max(first, least)
	if s.Behind > 0 {
		first = max(first, s.Behind+1)
	}
	if s.Before > 0 {
		last = min(last, s.Before-1)
	}
	add("r.id BETWEEN ? AND ?", first, last)
	if in.stretches {
		add("s.first BETWEEN ? AND ?", first-stretchSize+1, last)
	}
	if in.pages {
		add("r.page BETWEEN ? AND ?", first-mostPage+1, last)
	}
	said := func(text string) { // pages in which nobody says it need not be unpacked
		if in.pages {
			add("instr(r.said, ?) > 0", inJSONText(text))
		}
	}
	for _, c := range []struct{ condition, value string }{{"r.action = ?", s.Action}, {decision, s.Decision},
		{"r.address = ?", s.Address}, {"r.client = ?", s.Client}} {
		if c.value != "" {
			said(c.value)
			add(c.condition, c.value)
		}
	}
	switch {
	case s.Contains != "" && s.TextOnly:
		said(s.Contains)
		add("instr(r.text, ?) > 0", s.Contains)
	case s.Contains != "":
		said(s.Contains)
		add("(instr(r.text, ?) > 0 OR instr(r.objects, ?) > 0 OR instr(r.reason, ?) > 0)", s.Contains, s.Contains, s.Contains)
	}
	if s.Label != "" {
		said(strconv.Quote(s.Label))
		add("instr(r.labels, ?) > 0", strconv.Quote(s.Label))
	}
	for condition, value := range map[string]string{"r.at >= ?": s.From, "r.at < ?": s.Until} {
		if value != "" {
			add(condition, value)
		}
	}
	if s.Object != "" {
		path := strings.Trim(strconv.Quote(s.Object), `"`)
		said(`"` + path)
		add("(instr(r.objects, ?) > 0 OR instr(r.objects, ?) > 0)", `"`+path+`"`, `"`+path+`.`)
	}
	if s.Purpose != "" {
		said(" for " + s.Purpose)
		add("substr(r.standing, -length(?)) = ?", " for "+s.Purpose, " for "+s.Purpose)
	}
	if s.Role != "" {
		add(`(r.uses IN (SELECT u.id FROM use_set u, json_each(u.needs, '$.r') v WHERE v.value = ?) OR instr(r.standing || ' ', ?) > 0)`,
			s.RoleID, " in "+s.Role+" ")
	}
	if s.Others {
		add(asOther)
	}
	order := " DESC"
	if s.Behind > 0 {
		order = ""
	}
	if s.Running {
		add("r.open = 1 AND e.id IS NULL AND r.id > ?", a.Before)
	}
	query := strings.Join(where, " AND ") + " ORDER BY " + strings.Join(in.order, order+", ") + order + " LIMIT ?"
	if in.pages {
		return unpackFound(ctx, on, query, append(args, s.Limit))
	}
	var out []Record
	err = sqlx.SelectContext(ctx, on, &out, query, append(args, s.Limit)...)
	return out, err
}

// snapshot has f read what there was at one moment.
func (a *Audit) snapshot(ctx context.Context, f func(on sqlx.QueryerContext) error) error {
	conn, err := a.db.Connx(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	whole := context.WithoutCancel(ctx)                                  // so that no connection is given back within a transaction
	if _, err := conn.ExecContext(whole, "BEGIN DEFERRED"); err != nil { // which database/sql would begin as one that writes
		return err
	}
	defer func() {
		if _, err := conn.ExecContext(whole, "ROLLBACK"); err != nil {
			conn.Raw(func(any) error { return driver.ErrBadConn })
		}
	}()
	return f(conn)
}
