package review

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// ScopeSays is a scope in words.
func ScopeSays(in wire.ReviewScope) string {
	var parts []string
	for _, list := range [][]string{in.Objects, in.Labels, in.Roles, in.Subjects} {
		parts = append(parts, list...)
	}
	return strings.Join(parts, ", ")
}

// Reviews lists the reviews that the caller may see: all for who reviews the platform, for others those
// with items that are theirs to decide.
func (s *Service) Reviews(ctx context.Context, c identity.Caller) (wire.List[wire.Review], error) {
	out := wire.List[wire.Review]{Items: []wire.Review{}}
	st := s.platform.Current()
	all, err := s.store.Reviews(ctx)
	if err != nil {
		return out, err
	}
	counts, err := s.store.CountReviewItems(ctx)
	if err != nil {
		return out, err
	}
	own := s.identity.Reviews(st, c)
	for _, r := range all {
		if w, yours := s.wireReview(st, c, r, counts); own || yours {
			out.Items = append(out.Items, w)
		}
	}
	return out, nil
}

// wireReview is a review as the caller sees it, and whether any item of it is theirs.
func (s *Service) wireReview(st *platform.State, c identity.Caller, r store.Review, counts []store.ReviewCount) (wire.Review, bool) {
	m := st.Model
	w := wire.Review{Name: r.Name, Reason: r.Reason, Due: r.Due, By: m.Ref(access.SubjectID(r.Opener)), Revision: r.Revision, Status: r.Status,
		ClosedBy: m.Ref(access.SubjectID(r.Closer)), Signed: r.Signed, Version: r.Version, Waiting: []wire.ReviewWaiting{}}
	if json.Unmarshal([]byte(r.Scope), &w.Scope) == nil {
		w.Says = ScopeSays(w.Scope)
	}
	w.Opened, _ = time.Parse(time.RFC3339, r.Opened)
	if at, err := time.Parse(time.RFC3339, r.Closed); err == nil {
		w.Closed = &at
	}
	w.Late = r.Status == store.ReviewOpen && r.Due < time.Now().UTC().Format(time.DateOnly)
	yours := false
	waiting := map[string]int{}
	for _, n := range counts {
		if n.Review != r.ID {
			continue
		}
		mine := s.DecidesItem(st, c, n.Reviewer)
		yours = yours || mine
		switch w.Items += n.N; {
		case n.Decision == "":
			waiting[n.Reviewer] += n.N
			if mine {
				w.Yours += n.N
			}
		default:
			if w.Decided += n.N; n.Decision != "keep" {
				w.Revokes += n.N
			}
		}
	}
	if r.Status == store.ReviewOpen {
		for reviewer, open := range waiting {
			_, err := m.FindSubject(reviewer)
			w.Waiting = append(w.Waiting, wire.ReviewWaiting{Reviewer: reviewer, Open: open, Gone: reviewer != "" && err != nil})
		}
		slices.SortFunc(w.Waiting, func(a, b wire.ReviewWaiting) int { return strings.Compare(a.Reviewer, b.Reviewer) })
	}
	return w, yours
}

// DecidesItem reports whether an item of a reviewer is the caller's to decide: they are the reviewer, or
// are in that group or role; where there is none, or any more, who administers decides.
func (s *Service) DecidesItem(st *platform.State, c identity.Caller, reviewer string) bool {
	subject, err := st.Model.FindSubject(reviewer)
	if reviewer == "" || err != nil {
		return s.identity.Manages(st, c, access.PlatformID)
	}
	own, err := s.identity.Own(st, c)
	return err == nil && own.Counts(subject.ID)
}

// reviewPage is how many items a page has.
const reviewPage = 500

// Review is a review with a page of its items: all for who reviews the platform, for others their own.
func (s *Service) Review(ctx context.Context, c identity.Caller, name, after string, all bool) (wire.ReviewPage, error) {
	st := s.platform.Current()
	r, err := s.store.Review(ctx, name)
	if err != nil {
		return wire.ReviewPage{}, NoReview(name, err)
	}
	counts, err := s.store.CountReviewItems(ctx)
	if err != nil {
		return wire.ReviewPage{}, err
	}
	own := s.identity.Reviews(st, c)
	w, yours := s.wireReview(st, c, r, counts)
	if !own && !yours {
		return wire.ReviewPage{}, NoReview(name, store.ErrNoReview)
	}
	out := wire.ReviewPage{Review: w, List: []wire.ReviewItem{}}
	n := 0
	if after != "" {
		if _, err := fmt.Sscan(after, &n); err != nil {
			return out, fault.New(fault.Invalid, "bad_cursor", "%.40q is no cursor of this list", after)
		}
	}
	limit := reviewPage + 1
	if all {
		limit = 0
	}
	items, err := s.store.ReviewItems(ctx, r.ID, n, limit)
	if err != nil {
		return out, err
	}
	for i, item := range items {
		if !all && i == reviewPage {
			out.Next = fmt.Sprint(items[i-1].N)
			break
		}
		if mine := s.DecidesItem(st, c, item.Reviewer); own || mine {
			out.List = append(out.List, wireItem(item, mine && r.Status == store.ReviewOpen))
		}
	}
	return out, nil
}

// NoReview is told where there is no review that the caller may see.
func NoReview(name string, err error) error {
	if err == store.ErrNoReview {
		return fault.New(fault.NotFound, "not_found", "there is no review %.80s, or it is not yours to see", name)
	}
	return err
}

func wireItem(item store.ReviewItem, yours bool) wire.ReviewItem {
	var known ReviewContent
	if json.Unmarshal([]byte(item.Content), &known) != nil {
		known.Findings = []string{} // it was altered: verifying says so
	}
	return wire.ReviewItem{Number: item.N, Subject: item.Subject, Title: known.Title, Via: item.Via, Has: append([]string{}, known.Has...), Since: known.Since,
		By: known.By, Reason: known.Reason, Ticket: known.Ticket, Until: known.Until, Queries: known.Queries, Last: known.Last, Findings: known.Findings,
		Changed: item.Changed, Before: known.Before, Reviewer: item.Reviewer, Yours: yours, Decision: item.Decision, End: item.Until, Word: item.Word,
		Decided: item.Decided, Decider: item.Decider}
}

// ReviewDigest is the SHA-256 of a review and all its items, as they are decided.
func ReviewDigest(r store.Review, items []store.ReviewItem) string {
	all := []any{r.Name, r.Scope, r.Reason, r.Due, r.Opened, r.Opener, r.Revision}
	for _, i := range items {
		all = append(all, []any{i.N, i.Subject, i.Via, i.Content, i.Changed, i.Reviewer, i.Decision, i.Until, i.Word, i.Decided, i.Decider})
	}
	return digestOf(all)
}

func digestOf(all []any) string {
	text, err := json.Marshal(all)
	if err != nil {
		panic(err) // texts and numbers always marshal
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// VerifyReview compares a closed review with its signature in the journal, whose chain is checked.
func (s *Service) VerifyReview(ctx context.Context, c identity.Caller, name string) (wire.ReviewVerified, error) {
	out := wire.ReviewVerified{Name: name}
	st := s.platform.Current()
	if !s.identity.Reviews(st, c) {
		return out, identity.Wants(st, access.Describe, access.PlatformID)
	}
	r, err := s.store.Review(ctx, name)
	if err != nil {
		return out, NoReview(name, err)
	}
	if r.Status != store.ReviewClosed {
		return out, fault.New(fault.Conflict, "open", "the review %s is open; it is signed when it is closed", name)
	}
	items, err := s.store.ReviewItems(ctx, r.ID, 0, 0)
	if err != nil {
		return out, err
	}
	out.Digest, out.Revision = ReviewDigest(r, items), r.Signed
	entry, err := s.store.Entry(ctx, r.Signed)
	if err != nil {
		return out, err
	}
	if out.Signed, err = platform.SignedDigest(entry, r.Name); err != nil {
		return out, err
	}
	if _, _, err := s.store.VerifyJournal(ctx); err != nil {
		out.Says = say.ReviewJournal.With(err)
		return out, nil
	}
	if out.Holds = out.Signed != "" && out.Signed == out.Digest; out.Holds {
		out.Says = say.ReviewHolds.With(name, r.Signed, len(items))
	} else {
		out.Says = say.ReviewAltered.With(name, r.Signed)
	}
	return out, nil
}
