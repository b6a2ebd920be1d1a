package admin

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/service/audit"
	"gneiss/service/events"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/review"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// mostOpenReviews bounds the reviews that are open at once.
const mostOpenReviews = 50

// OpenReview opens a review: what people have in its scope now is what is to be decided.
func (s *Service) OpenReview(ctx context.Context, c identity.Caller, in wire.ReviewRequest) (wire.Changed, error) {
	st := s.platform.Current()
	name := strings.ToLower(strings.TrimSpace(in.Name))
	if err := s.identity.Administers(st, c, "the review "+audit.Bounded(in.Name, 100)); err != nil {
		return wire.Changed{}, err
	}
	if !draftName.MatchString(name) {
		return wire.Changed{}, fault.New(fault.Invalid, "bad_name",
			"%.80q cannot name a review: use up to 63 of a-z, 0-9 and _ - ., starting with a letter or digit", in.Name)
	}
	due, err := time.Parse(time.DateOnly, in.Due)
	if err != nil || due.AddDate(0, 0, 1).Before(time.Now()) {
		return wire.Changed{}, fault.New(fault.Invalid, "bad_date", "say by which day it is due, as in 2026-12-15; a day that is still to come, not %q", in.Due)
	}
	if len(in.Reason) > mostReason {
		return wire.Changed{}, fault.New(fault.Invalid, "oversized", "a reason can have up to %d bytes", mostReason)
	}
	if in.Reviewer != "" {
		subject, err := st.Model.FindSubject(in.Reviewer)
		if err != nil {
			return wire.Changed{}, err
		}
		in.Reviewer = subject.Ref()
	}
	items, err := s.review.ReviewItems(ctx, st, in.Scope, in.Reviewer)
	if err != nil {
		return wire.Changed{}, err
	}
	if len(items) == 0 {
		return wire.Changed{}, fault.New(fault.Invalid, "empty_scope", "nobody has anything there: there is nothing to review in %s", review.ScopeSays(in.Scope))
	}
	scope, err := json.Marshal(in.Scope)
	if err != nil {
		return wire.Changed{}, err
	}
	out := s.saidOnly(st, say.OpenedReview.With(name, review.ScopeSays(in.Scope), say.Count(len(items), "item"), in.Due))
	if out.DryRun, out.Done = in.DryRun, !in.DryRun; in.DryRun {
		return out, nil
	}
	actor := st.Model.Ref(c.User)
	record := c.Record(actor, audit.Review, out.Says[0])
	record.Reason = in.Reason
	err = s.onRecord(record, func() error {
		return s.store.OpenReview(ctx, store.Review{Name: name, Scope: string(scope), Reason: in.Reason, Due: in.Due, Opened: now(), Opener: uint32(c.User),
			Revision: st.Revision}, items, store.Bound{All: mostOpenReviews},
			events.New(events.ReviewOpened, name, 0, events.Told{Text: actor + " " + out.Says[0], Review: name, Actor: actor, Reason: in.Reason}))
	})
	var full *store.Full
	if errors.As(err, &full) {
		err = fault.New(fault.Conflict, "too_many", "%s are open; close some first", say.Count(full.All, "review"))
	}
	if errors.Is(err, store.ErrReviewExists) {
		err = fault.New(fault.Conflict, "exists", "there is a review %s already; choose another name", name)
	}
	return out, err
}

// mostDecided bounds what is decided at once.
const mostDecided = 10_000

// DecideReview decides items of a review, takes decisions back, or hands items on.
func (s *Service) DecideReview(ctx context.Context, c identity.Caller, name string, in wire.ReviewDecision) (wire.Changed, error) {
	st := s.platform.Current()
	r, err := s.store.Review(ctx, name)
	if err != nil {
		return wire.Changed{}, review.NoReview(name, err)
	}
	if len(in.Items) == 0 || len(in.Items) > mostDecided {
		return wire.Changed{}, fault.New(fault.Invalid, "nothing", "name one item or more, up to %d", mostDecided)
	}
	if len(in.Word) > mostReason {
		return wire.Changed{}, fault.New(fault.Invalid, "oversized", "a word can have up to %d bytes", mostReason)
	}
	kept, err := s.store.ReviewItems(ctx, r.ID, 0, 0)
	if err != nil {
		return wire.Changed{}, err
	}
	if !s.identity.Reviews(st, c) && !slices.ContainsFunc(kept, func(i store.ReviewItem) bool { return s.review.DecidesItem(st, c, i.Reviewer) }) {
		return wire.Changed{}, review.NoReview(name, store.ErrNoReview)
	}
	actor := st.Model.Ref(c.User)
	var items []store.ReviewItem
	for _, n := range in.Items {
		if n < 1 || n > len(kept) || !s.review.DecidesItem(st, c, kept[n-1].Reviewer) && !s.identity.Manages(st, c, access.PlatformID) {
			return wire.Changed{}, fault.New(fault.NotFound, "no_item", "the review %s has no item %d, or it is not yours to decide", name, n)
		}
		items = append(items, kept[n-1])
	}
	if r.Status != store.ReviewOpen {
		return wire.Changed{}, fault.New(fault.Conflict, "closed", "the review %s is closed", name)
	}
	what, err := s.decided(st, actor, items, in)
	if err != nil {
		return wire.Changed{}, err
	}
	says := say.DecidedReview.With(say.Count(len(items), "item"), r.Name, what)
	record := c.Record(actor, audit.Review, says)
	record.Reason = in.Word
	err = s.onRecord(record, func() error {
		_, err := s.store.DecideItems(ctx, r.ID, in.Version, items)
		return err
	})
	if errors.Is(err, store.ErrDecidedSince) || errors.Is(err, store.ErrNoReview) {
		err = fault.New(fault.Stale, "stale", "somebody else has decided some of these since you looked; look again, then repeat the decision")
	}
	return s.saidOnly(st, says), err
}

// decided puts a decision into items, and says what it is.
func (s *Service) decided(st *platform.State, actor string, items []store.ReviewItem, in wire.ReviewDecision) (what string, err error) {
	what = in.Decision
	switch in.Decision {
	case "keep", "revoke":
	case "until":
		day, err := time.Parse(time.DateOnly, in.Until)
		if err != nil || !day.After(time.Now()) {
			return "", fault.New(fault.Invalid, "bad_date", "say until which day, as in 2027-03-31; one that is still to come, not %q", in.Until)
		}
		what += " " + in.Until
	case "undo":
		for i := range items {
			items[i].Decision, items[i].Until, items[i].Word, items[i].Decided, items[i].Decider = "", "", "", "", actor
		}
		return what, nil
	case "hand":
		to, err := st.Model.FindSubject(in.To)
		if err != nil {
			return "", err
		}
		for i := range items {
			items[i].Reviewer, items[i].Decider = to.Ref(), actor
		}
		return say.HandedReview.With(to.Ref()), nil
	default:
		return "", fault.New(fault.Invalid, "bad_decision", "an item is kept, revoked, or kept until a day, not %.40q", in.Decision)
	}
	for i := range items {
		if in.Decision != "revoke" && items[i].Subject == actor {
			return "", fault.New(fault.Refused, "own_item", "item %d is about your own rights, which somebody else decides to keep: hand it on with --to", items[i].N)
		}
		items[i].Decision, items[i].Until, items[i].Word, items[i].Decided, items[i].Decider = in.Decision, in.Until, in.Word, now(), actor
	}
	return what, nil
}

// CloseReview closes a review, makes what was decided one revision or puts it into a draft, and signs it:
// the digest of its content goes into the journal's chain.
func (s *Service) CloseReview(ctx context.Context, c identity.Caller, name string, in wire.ReviewClose) (wire.Changed, error) {
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "the review "+name); err != nil {
		return wire.Changed{}, err
	}
	r, err := s.store.Review(ctx, name)
	if err != nil {
		return wire.Changed{}, review.NoReview(name, err)
	}
	if r.Status != store.ReviewOpen {
		return wire.Changed{}, fault.New(fault.Conflict, "closed", "the review %s is closed already", name)
	}
	items, err := s.store.ReviewItems(ctx, r.ID, 0, 0)
	if err != nil {
		return wire.Changed{}, err
	}
	o := order{caller: c, Change: in.Change}
	open, revoked := 0, 0
	for _, item := range items {
		switch {
		case item.Decision == "":
			open++
		case item.Decision == "keep":
		default:
			revoked++
			next, err := s.itemOrder(st, c, item)
			if err != nil {
				o.notes = append(o.notes, say.ReviewGone.With(item.N, s.identity.Told(c, err).Detail))
				continue
			}
			o.changes, o.says = append(o.changes, next.changes...), append(o.says, next.says...)
		}
	}
	if open > 0 {
		o.notes = append(o.notes, say.ReviewUndecided.With(say.Count(open, "item")))
	}
	if o.Reason == "" {
		o.Reason = r.Reason
	}
	draft := wire.Changed{}
	if in.Draft != "" && len(o.changes) > 0 && !in.DryRun {
		if draft, err = s.reviewDraft(ctx, c, in.Draft, o); err != nil {
			return wire.Changed{}, err
		}
		o.changes, o.says = nil, nil
	}
	closed := say.ClosedReview.With(r.Name, say.Count(revoked, "item"))
	o.says = append([]string{closed}, o.says...)
	o.changes = append(o.changes, guard.SignReview{Review: r.Name, Digest: review.ReviewDigest(r, items)})
	o.also = func(after *platform.State) ([]store.Write, error) {
		actor := st.Model.Ref(c.User)
		return []store.Write{store.CloseReview(r.ID, r.Version, now(), uint32(c.User), after.Revision+1),
			events.New(events.ReviewClosed, r.Name, 0, events.Told{Text: actor + " " + closed, Review: r.Name, Actor: actor, Reason: o.Reason})}, nil
	}
	out, err := s.carryOut(ctx, o)
	if errors.Is(err, store.ErrNoReview) {
		err = fault.New(fault.Stale, "stale", "something of the review %s was decided meanwhile; look again, then close it", name)
	}
	out.Says = append(out.Says, draft.Says...)
	return out, err
}

// reviewDraft opens a draft with what a review revokes.
func (s *Service) reviewDraft(ctx context.Context, c identity.Caller, name string, o order) (wire.Changed, error) {
	opened, err := s.OpenDraft(ctx, c, wire.DraftRequest{Name: name, Reason: o.Reason})
	if err != nil {
		return wire.Changed{}, err
	}
	if o.caller, err = s.identity.Drafting(ctx, c, name); err == nil {
		_, err = s.carryOut(ctx, o)
	}
	if err != nil {
		_, dropped := s.DropDraft(ctx, c, name, wire.Change{})
		return wire.Changed{}, errors.Join(err, dropped)
	}
	opened.Says = append(opened.Says, o.says...)
	return opened, nil
}

// itemOrder is the order that revokes or ends what an item is about, as it is now.
func (s *Service) itemOrder(st *platform.State, c identity.Caller, item store.ReviewItem) (order, error) {
	m := st.Model
	subject, err := m.FindSubject(item.Subject)
	if err != nil {
		return order{}, err
	}
	end := time.Time{}
	if item.Decision == "until" {
		if end, err = time.Parse(time.DateOnly, item.Until); err != nil {
			return order{}, err
		}
	}
	var all order
	if item.Via != "" {
		if end.IsZero() {
			return s.joinOrder(st, c, wire.Member{Member: item.Subject, Of: item.Via}, true)
		}
		for _, e := range subject.Memberships {
			if m.Ref(e.Of) == item.Via && (e.Until.IsZero() || e.Until.After(end)) {
				all.changes = append(all.changes, access.Join{Member: item.Subject, Of: item.Via, By: m.Ref(e.By), Until: end, Option: e.Option,
					Passed: e.Passed, Reason: e.Reason, Ticket: e.Ticket})
				verb := say.PutIn
				if strings.HasPrefix(item.Via, "role:") {
					verb = say.Gave
				}
				all.says = append(all.says, verb.With(item.Subject, item.Via)+" "+say.UntilDay.With(item.Until))
			}
		}
	} else {
		var known review.ReviewContent
		if err := json.Unmarshal([]byte(item.Content), &known); err != nil {
			return order{}, err
		}
		for _, g := range m.GrantsTo(subject.ID) {
			what, on := m.GrantName(g), m.Target(g.Target)
			if !slices.Contains(known.Has, what+" on "+on) || g.Grantor == 0 {
				continue
			}
			if end.IsZero() {
				all.changes = append(all.changes, access.RemoveGrant{Privilege: what, Object: on, Subject: item.Subject, Grantor: m.Ref(g.Grantor)})
				all.says = append(all.says, say.Revoked.With(what, on, item.Subject))
			} else if g.Until.IsZero() || g.Until.After(end) {
				all.changes = append(all.changes, access.AddGrant{Privilege: what, Object: on, Subject: item.Subject, Grantor: m.Ref(g.Grantor), Until: end,
					Option: g.Option, Reason: g.Reason, Ticket: g.Ticket})
				all.says = append(all.says, say.Granted.With(what, on, item.Subject)+" "+say.UntilDay.With(item.Until))
			}
		}
	}
	if len(all.changes) == 0 {
		return all, fault.New(fault.NotFound, "gone", "%s has none of it any more, or not for so long", item.Subject)
	}
	return all, nil
}
