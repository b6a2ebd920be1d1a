// Package events tells of what happens on a platform: pages that are open, and other systems by
// webhooks. An event is written in one transaction with what it tells of, so that none is lost and
// none tells of what did not happen.
package events

import (
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"gneiss/service/audit"
	"gneiss/store"
)

// A Kind is what happened: a topic, and after a dot what became of it.
type Kind string

// The kinds of events.
const (
	RevisionMade   Kind = "revision.made"
	DraftOpened    Kind = "draft.opened"
	DraftChanged   Kind = "draft.changed" // which pages hear of, and webhooks do not
	DraftPublished Kind = "draft.published"
	DraftDropped   Kind = "draft.dropped"
	CheckFailed    Kind = "check.failed"
	CheckHolds     Kind = "check.holds"
	RequestMade    Kind = "request.made"
	RequestDecided Kind = "request.decided"
	ReviewOpened   Kind = "review.opened"
	ReviewClosed   Kind = "review.closed"
	Tried          Kind = "webhook.tried" // of one webhook alone
)

// Topics are what a webhook can be about.
func Topics() []string { return []string{"revision", "draft", "check", "request", "review"} }

// Topic is what an event of this kind is about.
func (k Kind) Topic() string {
	topic, _, _ := strings.Cut(string(k), ".")
	return topic
}

// New is an event to be written with what it tells of.
func New(k Kind, about string, subject uint32, told Told) store.Write {
	told.Text, told.Reason = audit.Bounded(told.Text, mostText), audit.Bounded(told.Reason, mostText)
	encoded, err := json.Marshal(told)
	if err != nil {
		panic(err) // strings and numbers always marshal
	}
	return store.PutEvent(store.Event{At: stamp(time.Now()), Kind: string(k), About: about, Subject: subject, Data: string(encoded)})
}

// stamp writes a time as the records have it, so that later times sort behind earlier ones.
func stamp(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z") }

// Told is what an event says. Text has it in one sentence, for people.
type Told struct {
	Text     string   `json:"text"`
	Revision int64    `json:"revision,omitempty"`
	Draft    string   `json:"draft,omitempty"`
	Check    string   `json:"check,omitempty"`
	Request  int64    `json:"request,omitempty"`
	Review   string   `json:"review,omitempty"`
	Actor    string   `json:"actor,omitempty"`
	Reason   string   `json:"reason,omitempty"`
	Says     []string `json:"says,omitempty"`
	More     int      `json:"more,omitempty"` // sentences that are left out
}

// What bounds the sentences of an event: how many, and the bytes of each.
const (
	mostSaid = 20
	mostText = 500
)

// With returns it with sentences, of which it keeps the first.
func (t Told) With(says []string) Told {
	t.Says = make([]string, min(len(says), mostSaid))
	for i := range t.Says {
		t.Says[i] = audit.Bounded(says[i], mostText)
	}
	t.More = len(says) - len(t.Says)
	return t
}

// A Feed has the last events in memory, for streams that follow them. Its methods may be called
// concurrently.
type Feed struct {
	store *store.Store
	log   *slog.Logger

	mu      sync.Mutex
	last    []store.Event
	lastID  int64
	changed chan struct{}
}

const mostFollowed = 512

// NewFeed returns the feed of a store, which begins with what happens next.
func NewFeed(ctx context.Context, st *store.Store, log *slog.Logger) (*Feed, error) {
	last, err := st.LastEvent(ctx)
	return &Feed{store: st, log: log, lastID: last, changed: make(chan struct{})}, err
}

// keepEvents is how long events are kept that nobody waits for, and forgetEvery how often that is
// looked at.
const (
	keepEvents  = 7 * 24 * time.Hour
	forgetEvery = time.Hour
)

// Run follows what happens, until the context ends.
func (f *Feed) Run(ctx context.Context) {
	forget := time.NewTicker(forgetEvery)
	defer forget.Stop()
	for {
		select {
		case <-f.store.Happened():
			f.read(ctx)
		case <-forget.C:
			if err := f.store.ForgetEvents(ctx, stamp(time.Now().Add(-keepEvents))); err != nil {
				f.log.Warn("old events cannot be taken away", "error", err)
			}
		case <-ctx.Done():
			return
		}
	}
}

func (f *Feed) read(ctx context.Context) {
	for {
		f.mu.Lock()
		after := f.lastID
		f.mu.Unlock()
		found, err := f.store.Events(ctx, after, mostFollowed)
		if err != nil && ctx.Err() == nil {
			f.log.Warn("events cannot be read", "error", err)
		}
		if len(found) == 0 {
			return
		}
		f.mu.Lock()
		f.last = append(f.last, found...)
		f.last = slices.Clone(f.last[max(0, len(f.last)-mostFollowed):])
		f.lastID = found[len(found)-1].ID
		close(f.changed)
		f.changed = make(chan struct{})
		f.mu.Unlock()
	}
}

// Last is the number of the last event.
func (f *Feed) Last() int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.lastID
}

// After lists the events behind one that are still in memory, and returns a channel that is closed
// when there are more.
func (f *Feed) After(id int64) ([]store.Event, <-chan struct{}) {
	f.mu.Lock()
	defer f.mu.Unlock()
	from, _ := slices.BinarySearchFunc(f.last, id+1, func(e store.Event, id int64) int { return int(e.ID - id) })
	return f.last[from:], f.changed
}
