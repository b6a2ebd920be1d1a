package admin

import (
	"context"
	"errors"
	"strings"
	"time"

	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// leastKept is how many days of the record are kept whatever is asked.
const leastKept = 30

// Prune takes away the records from before a day. That is itself on record; what was counted of them
// stays, and the chain of the others can be checked as before.
func (s *Service) Prune(ctx context.Context, c identity.Caller, in wire.Pruning) (wire.Changed, error) {
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "taking records away"); err != nil {
		return wire.Changed{}, err
	}
	day, err := time.Parse(time.DateOnly, in.Before)
	if err != nil {
		return wire.Changed{}, fault.New(fault.Invalid, "bad_date", "%.40q is not a day; write it like 2026-01-01", in.Before)
	}
	if day.After(time.Now().AddDate(0, 0, -leastKept)) {
		return wire.Changed{}, fault.New(fault.Invalid, "too_young", "the last %d days of the record are kept in any case", leastKept)
	}
	n, err := s.store.Audit().CountBefore(ctx, day.UTC().Format(time.RFC3339))
	if err != nil {
		return wire.Changed{}, err
	}
	says := say.Pruned.With(n, in.Before)
	if n == 0 || in.DryRun {
		out := s.saidOnly(st, says)
		out.DryRun, out.Done = in.DryRun, false
		return out, nil
	}
	record := c.Record(identity.Actor(st.Model, c), audit.Retention, says)
	_, err = s.store.Audit().Prune(ctx, day.UTC().Format(time.RFC3339), func(base store.Head) (int64, error) {
		record.Reason = strings.TrimSpace(audit.Bounded(in.Reason, mostReason) + " " + store.BaseText(base))
		err := s.audit.Write(record)
		return record.ID, err
	})
	if err != nil {
		undone := *record
		undone.Decision, undone.Reason = audit.Failed, "it was not done whole: "+err.Error()
		err = errors.Join(err, s.audit.Write(&undone))
	}
	return s.saidOnly(st, says), err
}

// pruneEvery is how often old records are looked for.
const pruneEvery = 6 * time.Hour

// KeepRecord takes away records that are older than a number of days, until the context ends.
func (s *Service) KeepRecord(ctx context.Context, days int) {
	for wait := time.Minute; ; wait = pruneEvery {
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return
		}
		before := time.Now().UTC().AddDate(0, 0, -days).Format(time.DateOnly)
		in := wire.Pruning{Before: before, Change: wire.Change{Reason: say.KeptDays.With(days)}}
		if _, err := s.Prune(ctx, identity.Caller{}, in); err != nil && ctx.Err() == nil {
			s.log.Warn("old records could not be taken away", "error", err)
		}
	}
}
