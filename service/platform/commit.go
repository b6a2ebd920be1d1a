package platform

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gneiss/service/audit"
	"gneiss/service/events"
	"gneiss/service/fault"
	"gneiss/store"
)

// A Commit is what is written of a change.
type Commit struct {
	Changes []Change
	Actor   string
	Says    []string
	Reason  string
	Address string
	Client  string
	Objects []string
	Also    []store.Write // what is written with it
}

// Commit writes the journal and makes the next state current. What cannot be recorded
// is not done.
func (p *Platform) Commit(ctx context.Context, before, after *State, c Commit, now time.Time) error {
	text, err := encodeChanges(c.Changes)
	if err != nil {
		return err
	}
	record := &store.Record{Actor: c.Actor, Action: audit.Change, Decision: audit.Allowed,
		Text:   audit.Bounded(strings.Join(c.Says, "; "), mostSaid) + ofRevision(before.Revision+1),
		Reason: c.Reason, Address: c.Address, Client: c.Client, Objects: audit.List(c.Objects)}
	if err := p.audit.Write(record); err != nil {
		return err
	}
	entry, err := p.store.Append(ctx, store.Entry{Revision: before.Revision + 1, At: now.Format(time.RFC3339Nano),
		Actor: c.Actor, Reason: c.Reason, Changes: text, Previous: before.hash}, append(c.Also, made(before.Revision+1, c))...)
	if err != nil {
		undone := *record
		undone.Decision, undone.Reason = audit.Failed, "it was not made: "+err.Error()
		return errors.Join(err, p.audit.Write(&undone))
	}
	after.Revision, after.hash = entry.Revision, entry.Hash
	p.last = now
	p.current.Store(after)
	p.past.Add(before.Revision, before.bare())
	close(*p.changed.Swap(new(make(chan struct{}))))
	p.keepSometimes(len(c.Changes), p.Current)
	return nil
}

// mostSaid bounds what the record says of a change, so that there is room for its revision.
const mostSaid = 12_000

// ofRevision is how the record names the revision that a change makes.
func ofRevision(n int64) string { return fmt.Sprintf(" (revision %d)", n) }

// made is the event of a revision.
func made(revision int64, c Commit) store.Write {
	return events.New(events.RevisionMade, strconv.FormatInt(revision, 10), 0,
		events.Told{Text: c.Actor + " " + strings.Join(c.Says[:min(len(c.Says), 3)], "; "), Revision: revision, Actor: c.Actor, Reason: c.Reason}.With(c.Says))
}

// mostBetween is how many revisions a stale change is told of.
const mostBetween = 20

// Stale refuses a change made from a state that is no longer current, and says
// what came in between.
func (p *Platform) Stale(ctx context.Context, now *State, seen int64) error {
	if seen == 0 || seen == now.Revision {
		return nil
	}
	entries, err := p.store.Entries(ctx, seen, mostBetween)
	if err != nil {
		return err
	}
	var between []string
	for _, e := range entries {
		between = append(between, fmt.Sprintf("revision %d by %s", e.Revision, e.Actor))
	}
	return fault.New(
		fault.Stale,
		"stale",
		"the model has changed since you looked (%s); look again, then repeat the change",
		strings.Join(between, ", "),
	)
}
