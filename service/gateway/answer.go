package gateway

import (
	"context"
	"sync"
	"time"

	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/store"
)

// A Head is what is known of an answer before its first row.
type Head struct {
	Columns    []query.Column
	Binary     bool // the source has PostgreSQL's binary form of values
	Standpoint string
	Lane       string
}

// An Answer takes what a statement gives. Its methods are called one at a time.
type Answer interface {
	// Head comes first, once, where the statement gives rows. It says which columns are
	// wanted in binary form; nil: none.
	Head(Head) (binary []int16, err error)
	// Row appends a row to b, as it is to be sent. What row holds is good until it returns.
	Row(b []byte, row [][]byte) ([]byte, error)
	// Send sends what Row has made, which it may not keep. It comes when the record is written, and
	// not before; it may wait for a slow reader. Behind the last nothing more comes.
	Send(b []byte, last bool) error
}

// Before is an answer that takes what came before a failure, as a server's client does.
type Before interface {
	Answer
	// Before gets what Row has made and Send did not get, once the failure is on record.
	Before(b []byte)
}

// Portions is an answer that is taken in parts: after each, the statement waits.
type Portions interface {
	Answer
	// Portion is the rows of the part that comes; zero: all that are left; Begins: none, but the
	// statement is to have begun.
	Portion() int
	// Pause waits until the next part is wanted, within the context. Its error ends the statement;
	// ErrEnough does so without a failure.
	Pause(ctx context.Context) error
}

// Begins is the portion of a statement that begins before its rows are wanted: it gives what was there then.
const Begins = -1

// ErrEnough ends a statement of which no more rows are wanted.
var ErrEnough = errEnough

// How much of an answer is gathered before it is sent, in bytes, and how long it waits.
const (
	sentAt     = 64 << 10
	sentWithin = 20 * time.Millisecond
	// recordedWithin is how long a statement may run before it is on record as running.
	recordedWithin = time.Second
)

// An outflow lets the rows of an answer out, and sees to it that what was decided is on record
// before the first of them. What ends before any row had to be sent is recorded in one go.
type outflow struct {
	mu      sync.Mutex
	log     *audit.Log
	answer  Answer
	record  *store.Record
	b       []byte
	rows    int64
	decided bool // the record is written, as open
	settled bool // the record of the end is written, before what it tells of lasts
	held    bool // nothing is sent before the end: of what may be undone
	closed  bool
	armed   bool
	err     error
	timer   *time.Timer
	sent    int  // bytes since the start or the last pause
	long    bool // a processor was added for this answer
}

func (s *Service) newOutflow(answer Answer, record *store.Record) *outflow {
	o := &outflow{log: s.audit, answer: answer, record: record}
	o.timer = time.AfterFunc(recordedWithin, o.late)
	return o
}

// late sends what has waited long enough.
func (o *outflow) late() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.armed = false
	if !o.closed && o.err == nil {
		o.err = o.flush()
	}
}

func (o *outflow) row(row [][]byte) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.err != nil {
		return o.err
	}
	var err error
	if o.b, err = o.answer.Row(o.b, row); err != nil {
		return err
	}
	o.rows++
	switch {
	case o.held:
	case len(o.b) >= sentAt:
		return o.flush()
	case !o.armed:
		o.armed = true
		o.timer.Reset(sentWithin)
	}
	return nil
}

// sendNow sends what is there; the caller holds no lock.
func (o *outflow) sendNow() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.err == nil {
		o.err = o.flush()
	}
	return o.err
}

func (o *outflow) flush() error {
	if !o.decided {
		o.record.Open, o.decided = true, true
		if err := o.log.Write(o.record); err != nil {
			return err
		}
	}
	if len(o.b) == 0 || o.held {
		return nil
	}
	err := o.answer.Send(o.b, false)
	if o.sent += len(o.b); o.sent >= longAt && !o.long {
		o.long = true
		shared.enter()
	}
	if o.b = o.b[:0]; cap(o.b) > 2*sentAt {
		o.b = nil
	}
	return err
}

// ending is the record that the end of the statement goes into: its own, or, where that is
// written, another.
func (o *outflow) ending() *store.Record {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.closed = true
	o.timer.Stop()
	switch {
	case o.settled: // what was recorded did not come to pass, so that is recorded too
		again := *o.record
		again.ID, again.Open = 0, false
		return &again
	case !o.decided:
		return o.record
	}
	ending := endOf(o.record)
	ending.Rows = o.rows
	return ending
}

func endOf(r *store.Record) *store.Record {
	return &store.Record{Actor: r.Actor, Standpoint: r.Standpoint, Action: r.Action, Decision: audit.Allowed, Address: r.Address, Client: r.Client, Ends: r.ID}
}

// rest releases the processor of a long answer that has ended, or that pauses until its reader asks for more.
func (o *outflow) rest() {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.long {
		shared.leave()
	}
	o.sent, o.long = 0, false
}

// failed records that the statement has failed, and hands on what came before.
func (o *outflow) failed(a *asked, err error) error {
	ending := o.ending()
	ending.Rows = o.rows
	told := a.identity.Failed(a.viewer, ending, a.started, err)
	before, takes := o.answer.(Before)
	if _, recorded := told.(*fault.Error); recorded && takes && o.err == nil && len(o.b) > 0 {
		before.Before(o.b)
	}
	return told
}

// end records that the statement has ended well, and sends the rest.
func (o *outflow) end(started time.Time) error {
	ending := o.ending()
	ending.Rows, ending.TookUS = o.rows, time.Since(started).Microseconds()
	if err := o.log.Write(ending); err != nil {
		return err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.err != nil {
		return o.err
	}
	if len(o.b) == 0 {
		return nil
	}
	return o.answer.Send(o.b, true)
}
