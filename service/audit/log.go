// Package audit writes the record of who did what.
package audit

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"gneiss/store"
)

// A Log is the record. Its methods may be called concurrently.
type Log struct {
	store *store.Store
	log   *slog.Logger
	now   func() time.Time
	last  atomic.Pointer[stamp]
}

// A stamp is a time as lines of the record have it. Many lines are of the same millisecond.
type stamp struct {
	milli int64 // since 1970
	text  string
}

func (l *Log) stamp() string {
	now := l.now()
	last := l.last.Load()
	if milli := now.UnixMilli(); last == nil || last.milli != milli {
		last = &stamp{milli, now.UTC().Format("2006-01-02T15:04:05.000Z")}
		l.last.Store(last)
	}
	return last.text
}

// New returns the record of a store. What the record itself cannot take goes to log; now is what time
// it is.
func New(st *store.Store, log *slog.Logger, now func() time.Time) *Log {
	return &Log{store: st, log: log, now: now}
}

// Find lists records, newest first.
func (l *Log) Find(ctx context.Context, s store.Search) ([]store.Record, error) {
	return l.store.Audit().Find(ctx, s)
}

// Load writes lines of an earlier time, in their order, and says that use is counted since a time. It
// is for a record that is brought along.
func (l *Log) Load(ctx context.Context, records []*store.Record, since time.Time) error {
	return l.store.Audit().Load(ctx, records, since.UTC().Format(time.RFC3339))
}

// Written is closed once lines have been written after it was asked for.
func (l *Log) Written() <-chan struct{} { return l.store.Audit().Written() }

// The most that a record keeps of a text, and of a name, in bytes.
const (
	mostText = 16 << 10
	mostName = 512
)

// Write writes one line of the record, durably, and gives it its number. Its time is
// now where it has none.
func (l *Log) Write(r *store.Record) error {
	if r.Labels == "" {
		r.Labels = "[]"
	}
	r.Text, r.Reason, r.Actor, r.Standpoint = Bounded(
		r.Text,
		mostText,
	), Bounded(
		r.Reason,
		mostText,
	), Bounded(
		r.Actor,
		mostName,
	), Bounded(
		r.Standpoint,
		mostName,
	)
	if r.At == "" {
		r.At = l.stamp()
	}
	return l.store.Audit().Add(r)
}

// Broken records a request that broke, which is a fault of the service.
func (l *Log) Broken(request, address string, what any) {
	r := &store.Record{
		Actor:    "gneiss",
		Action:   Query,
		Decision: Failed,
		Text:     request,
		Reason:   fmt.Sprint("the request broke: ", what),
		Address:  address,
	}
	if err := l.Write(r); err != nil {
		l.log.Error("a request that broke is not on record", "error", err)
	}
}

// Bounded cuts a text that is longer than most bytes, and says so in it.
func Bounded(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return fmt.Sprintf("%s … (%d bytes)", strings.ToValidUTF8(text[:most], ""), len(text))
}

// Reference is how a record of a number is named.
func Reference(id int64) string { return "R-" + strconv.FormatInt(id, 10) }

// List writes a list as a record keeps it.
func List(list []string) string {
	if list == nil {
		list = []string{}
	}
	text, err := json.Marshal(list)
	if err != nil {
		panic(err) // strings always marshal
	}
	return string(text)
}
