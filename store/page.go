package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql/driver"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/jmoiron/sqlx"
)

// Statements that arrive at the same time are recorded in one transaction, and their records share most texts: the same people
// and programs send the same statements about the same objects. A page stores these texts once. That costs the writer much less
// than a row for each record, and takes a fraction of the space. Records that are looked up by a key of their own are not in pages.

const (
	// A page has at least leastPage records, since fewer are stored as rows, and at most mostPage.
	leastPage, mostPage = 4, 256
	// mostSaid bounds the texts of a page, in bytes, unless one record alone has more.
	mostSaid = 256 << 10
	// atSize is how long the time of a record in a page is, in bytes.
	atSize = len("2006-01-02T15:04:05.000Z")
)

// near selects the records from the first number to the second. A page that includes the first begins up to mostPage before it.
var near = fmt.Sprintf("page > ?1 - %d AND page <= ?2 AND id BETWEEN ?1 AND ?2", mostPage)

// A saying is the texts that records of a page share.
type saying struct {
	actor, standing, action, decision, text, objects, labels, missing, reason, address, client string

	uses int64
}

func sayingOf(r *Record) saying {
	return saying{r.Actor, r.Standpoint, r.Action, r.Decision, r.Text, r.Objects, r.Labels, r.Missing, r.Reason, r.Address, r.Client, r.Uses}
}

// texts are in the order in which a page has them, before uses.
func (s *saying) texts() [11]*string {
	return [...]*string{&s.actor, &s.standing, &s.action, &s.decision, &s.text, &s.objects, &s.labels, &s.missing, &s.reason, &s.address, &s.client}
}

// sayingsIn reads the texts of a page. It returns an error if they have another form than sayings gives them.
func sayingsIn(text string) (out []saying, err error) {
	d := jsontext.NewDecoder(strings.NewReader(text))
	next := func(kind jsontext.Kind) (t jsontext.Token) {
		if err != nil {
			return t
		}
		if t, err = d.ReadToken(); err == nil && t.Kind() != kind {
			err = errors.New("another kind of value")
		}
		return t
	}
	next('[')
	for err == nil && d.PeekKind() == '[' {
		var s saying
		next('[')
		for _, text := range s.texts() {
			*text = next('"').String()
		}
		if uses := next('0'); err == nil {
			s.uses = uses.Int()
		}
		next(']')
		out = append(out, s)
	}
	next(']')
	return out, err
}

// asSomebodyElse is [asOther].
func (r *Record) asSomebodyElse() bool {
	return r.Standpoint != "" && r.Standpoint != r.Actor && !strings.HasPrefix(r.Standpoint, r.Actor+" ")
}

// A page is records that follow each other.
type page struct {
	first, last    int64
	previous       string
	said           []saying
	size           int    // of said, in bytes
	of, rows, took []byte // JSON
	at             []byte
	hashes         []byte
}

// add adds the next record, and reports whether it can be in the page.
func (p *page) add(r *Record) bool {
	if r.Open || r.Ends != 0 || len(r.At) != atSize || r.asSomebodyElse() {
		return false
	}
	if p.first > 0 && (r.ID != p.last+1 || r.ID-p.first >= mostPage || startOf(r.ID) != startOf(p.first)) {
		return false
	}
	said := sayingOf(r)
	of := len(p.said) - 1
	if of < 0 || p.said[of] != said {
		if of = slices.Index(p.said, said); of < 0 {
			size := p.size
			for _, text := range said.texts() {
				if strings.IndexByte(*text, 0) >= 0 { // which SQLite's functions take for the end
					return false
				}
				size += len(*text)
			}
			if p.size > 0 && size > mostSaid {
				return false
			}
			of, p.size = len(p.said), size
			p.said = append(p.said, said)
		}
	}
	hash, err := hex.AppendDecode(p.hashes, []byte(r.Hash))
	if err != nil {
		return false
	}
	if p.first == 0 {
		p.first, p.previous = r.ID, r.Previous
	}
	p.last, p.hashes, p.at = r.ID, hash, append(p.at, r.At...)
	p.of = strconv.AppendInt(append(p.of, ','), int64(of), 10)
	p.rows = strconv.AppendInt(append(p.rows, ','), r.Rows, 10)
	p.took = strconv.AppendInt(append(p.took, ','), r.TookUS, 10)
	return true
}

// sayings is what the records say, as JSON.
func (p *page) sayings() string {
	b := make([]byte, 0, 1024)
	for _, s := range p.said {
		b = append(b, ",["...)
		for _, text := range s.texts() {
			b = append(appendText(b, *text), ',')
		}
		b = append(strconv.AppendInt(b, s.uses, 10), ']')
	}
	return array(b)
}

// inJSONText is a text as it stands within a longer one in JSON, and in JSONB.
func inJSONText(text string) []byte {
	b := appendText(nil, text)
	return b[1 : len(b)-1]
}

// array is a JSON array of elements, before each of which there is a comma.
func array(b []byte) string { return "[" + string(b[1:]) + "]" }

const insertPage = `INSERT INTO page (first, last, previous, said, of, rows, took_us, at, hashes)
	VALUES (?, ?, ?, jsonb(?), jsonb(?), jsonb(?), jsonb(?), ?, ?)`

// insertPage inserts a page, and notes who is in it.
func (l *linking) insertPage(ctx context.Context, p *page) error {
	values := []driver.NamedValue{{Value: p.first}, {Value: p.last}, {Value: p.previous}, {Value: p.sayings()}, {Value: array(p.of)}, {Value: array(p.rows)},
		{Value: array(p.took)}, {Value: string(p.at)}, {Value: p.hashes}}
	for i := range values {
		values[i].Ordinal = i + 1
	}
	if err := l.audit.conn.Raw(func(any) error {
		_, err := l.audit.pages.(driver.StmtExecContext).ExecContext(ctx, values)
		return err
	}); err != nil {
		return err
	}
	in := (p.first - 1) / stretchSize
	if l.audit.paged.actors == nil || l.audit.paged.stretch != in {
		l.audit.paged = pagedActors{in, map[string]bool{}}
	}
	for _, s := range p.said {
		if l.audit.paged.actors[s.actor] {
			continue
		}
		if _, err := l.tx.ExecContext(ctx, `INSERT OR IGNORE INTO page_actor (stretch, actor) VALUES (?, ?)`, in, s.actor); err != nil {
			return err
		}
		l.audit.paged.actors[s.actor] = true
	}
	return nil
}

// A packed is a page as it is read.
type packed struct {
	First, Last                  int64
	Previous, Said, Of, Rows, At string
	Took                         string `db:"took_us"`
	Hashes                       []byte
}

const selectPacked = `SELECT first, last, previous, json(said) AS said, json(of) AS of, json(rows) AS rows, json(took_us) AS took_us, at, hashes FROM page `

// records are those of the page.
func (p *packed) records() ([]Record, error) {
	var of, rows, took []int64
	said, err := sayingsIn(p.Said)
	if errors.Join(err, json.Unmarshal([]byte(p.Of), &of), json.Unmarshal([]byte(p.Rows), &rows), json.Unmarshal([]byte(p.Took), &took)) != nil {
		return nil, p.broken()
	}
	n := len(of)
	if p.Last-p.First+1 != int64(n) || len(rows) != n || len(took) != n || len(p.At) != n*atSize || len(p.Hashes) != n*sha256.Size {
		return nil, p.broken()
	}
	out := make([]Record, n)
	for i := range out {
		if of[i] < 0 || of[i] >= int64(len(said)) {
			return nil, p.broken()
		}
		s := said[of[i]]
		out[i] = Record{ID: p.First + int64(i), At: p.At[i*atSize : (i+1)*atSize], Actor: s.actor, Standpoint: s.standing, Action: s.action,
			Decision: s.decision, Text: s.text, Objects: s.objects, Labels: s.labels, Missing: s.missing, Reason: s.reason, Rows: rows[i], TookUS: took[i],
			Address: s.address, Previous: p.Previous, Hash: hex.EncodeToString(p.Hashes[i*sha256.Size : (i+1)*sha256.Size]), Client: s.client, Uses: s.uses}
		if i > 0 {
			out[i].Previous = out[i-1].Hash
		}
	}
	return out, nil
}

func (p *packed) broken() error {
	return fmt.Errorf("%w: the records from R-%d to R-%d cannot be read", ErrAltered, p.First, p.Last)
}

// unpackFound reads the records that a query finds in pages.
func unpackFound(ctx context.Context, on sqlx.QueryerContext, query string, args []any) ([]Record, error) {
	var found []struct{ ID, Page int64 }
	if err := sqlx.SelectContext(ctx, on, &found, query, args...); err != nil {
		return nil, err
	}
	out := make([]Record, 0, len(found))
	var p packed
	var records []Record
	for _, at := range found {
		if p.First != at.Page {
			err := sqlx.GetContext(ctx, on, &p, selectPacked+"WHERE first = ?", at.Page)
			if err == nil {
				records, err = p.records()
			}
			if err != nil {
				return nil, err
			}
		}
		out = append(out, records[at.ID-p.First])
	}
	return out, nil
}

// between reads the records from one number to another, in their order.
func (a *Audit) between(ctx context.Context, first, last int64) (out []Record, err error) {
	err = a.snapshot(ctx, func(on sqlx.QueryerContext) error {
		if err := sqlx.SelectContext(ctx, on, &out, "SELECT "+columns+" FROM record WHERE id BETWEEN ? AND ?", first, last); err != nil {
			return err
		}
		var pages []packed
		if err := sqlx.SelectContext(ctx, on, &pages, selectPacked+"WHERE first > ? - ? AND first <= ?", first, mostPage, last); err != nil {
			return err
		}
		for _, p := range pages {
			records, err := p.records()
			if err != nil {
				return err
			}
			for _, r := range records {
				if r.ID >= first && r.ID <= last {
					out = append(out, r)
				}
			}
		}
		return nil
	})
	slices.SortStableFunc(out, func(x, y Record) int { return cmp.Compare(x.ID, y.ID) })
	return out, err
}

// pagedActors are actors who are already in the table page_actor, of one stretch.
type pagedActors struct {
	stretch int64
	actors  map[string]bool
}
