package review

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
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

// mostNearest is how many colleagues are named who have what somebody asks for, and mostRequests how
// many requests a page lists.
const (
	mostNearest  = 5
	mostRequests = 100
)

// Requests lists requests for access, newest first: the caller's own, and those that are theirs to
// decide.
func (s *Service) Requests(ctx context.Context, c identity.Caller, status, after string) (wire.List[wire.Requested], error) {
	out := wire.List[wire.Requested]{Items: []wire.Requested{}}
	before, err := cursor(after)
	if err != nil {
		return out, err
	}
	st := s.platform.Current()
	for len(out.Items) < mostRequests {
		found, err := s.store.Requests(ctx, 0, status, before, mostRequests)
		if err != nil || len(found) == 0 {
			return out, err
		}
		for _, r := range found {
			before = r.ID
			own := access.SubjectID(r.Subject) == c.User
			needs, known := NeedsOf(st, r)
			if !own && !s.Decides(st, c, needs, known) {
				continue
			}
			if len(out.Items) == mostRequests {
				out.Next = fmt.Sprint(out.Items[mostRequests-1].Number)
				return out, nil
			}
			out.Items = append(out.Items, s.requested(st, c, r))
		}
	}
	out.Next = fmt.Sprint(before)
	return out, nil
}

// Request is one request, with what somebody who decides needs to know.
func (s *Service) Request(ctx context.Context, c identity.Caller, number int64) (wire.Requested, error) {
	st := s.platform.Current()
	r, err := s.store.Request(ctx, number)
	if err != nil && !errors.Is(err, store.ErrNoRequest) {
		return wire.Requested{}, err
	}
	needs, known := NeedsOf(st, r)
	if err != nil || access.SubjectID(r.Subject) != c.User && !s.Decides(st, c, needs, known) {
		return wire.Requested{}, fault.New(fault.NotFound, "not_found", "there is no request %d, or it is not yours to see", number)
	}
	return s.requested(st, c, r), nil
}

// NeedsOf are what a request asks for, as far as it is there; known: all of it is.
func NeedsOf(st *platform.State, r store.AccessRequest) (needs []access.Need, known bool) {
	var texts []string
	if json.Unmarshal([]byte(r.Needs), &texts) != nil {
		return nil, false // admin.Ask wrote it
	}
	for _, text := range texts {
		if n, err := st.Model.ParseNeed(text); err == nil {
			needs = append(needs, n)
		}
	}
	return needs, len(needs) == len(texts) && len(needs) > 0
}

// Decides reports whether a request for some needs is the caller's to decide: who manages all that it
// is about. What is not there is for who manages the platform.
func (s *Service) Decides(st *platform.State, c identity.Caller, needs []access.Need, known bool) bool {
	if s.identity.Manages(st, c, access.PlatformID) {
		return true
	}
	return known && !slices.ContainsFunc(needs, func(n access.Need) bool { return !s.identity.Manages(st, c, n.Object) })
}

// requested is a request as the caller may know it: its asker no more than they wrote.
func (s *Service) requested(st *platform.State, c identity.Caller, r store.AccessRequest) wire.Requested {
	m := st.Model
	w := wire.Requested{Number: r.ID, By: m.Ref(access.SubjectID(r.Subject)), Asks: r.Shown, Reason: r.Reason, Reference: r.Reference, Status: r.Status,
		Word: r.Word, Until: r.Until, Own: access.SubjectID(r.Subject) == c.User, Missing: []string{}, Fixes: []wire.Fix{}, Nearest: []string{}}
	w.At, _ = time.Parse(time.RFC3339, r.At)
	if at, err := time.Parse(time.RFC3339, r.Decided); err == nil {
		w.Decided = &at
	}
	if r.Decider != 0 && r.Status != store.RequestWithdrawn {
		w.DecidedBy = m.Ref(access.SubjectID(r.Decider))
	}
	needs, known := NeedsOf(st, r)
	if w.Decides = s.Decides(st, c, needs, known) && !w.Own; !w.Decides {
		return w
	}
	w.Revision = r.Revision
	var texts []string
	if json.Unmarshal([]byte(r.Needs), &texts) == nil {
		w.Asks = cmp.Or(strings.Join(texts, ", "), r.Shown)
	}
	if r.Status != store.RequestOpen {
		return w
	}
	s.toDecide(st, c, access.SubjectID(r.Subject), needs, known, &w)
	return w
}

// toDecide adds what somebody who decides needs to know.
func (s *Service) toDecide(st *platform.State, c identity.Caller, id access.SubjectID, needs []access.Need, known bool, w *wire.Requested) {
	m := st.Model
	if !known {
		w.Note = say.AskedForNothing.With()
		return
	}
	if !m.HasSubject(id) {
		w.Note = say.AskerGone.With()
		return
	}
	p, err := s.identity.ViewerOf(st, c, id, wire.Standpoint{})
	if err != nil {
		w.Note = fault.Of(err).Detail
		return
	}
	last := needs[len(needs)-1]
	missing := p.Rights.Missing(last.Privilege, last.Object)
	if len(missing) == 0 {
		w.Note = say.HasItAlready.With(w.By)
		return
	}
	for _, n := range missing {
		if s.identity.ReviewsObject(st, c, n.Object) {
			w.Missing = append(w.Missing, m.NeedText(n))
		}
	}
	w.Fixes = s.identity.Fixes(p, last.Privilege, last.Object)
	if !s.identity.Reviews(st, c) { // what roles there are, and what they open, is for reviewers
		w.Fixes = []wire.Fix{s.identity.GrantOf(p, last)}
	}
	w.Nearest = s.nearest(st, p.Rights, last)
}

// nearest says how those have it who are most like somebody: who are in the most of the same groups and
// roles.
func (s *Service) nearest(st *platform.State, of *access.Rights, need access.Need) []string {
	census := st.Census(time.Now())
	type colleague struct {
		subject *access.Subject
		alike   int
	}
	var all []colleague
	for _, subject := range census.Each(census.Held(need.Privilege, need.Object)) {
		if subject.Kind != access.User || subject.Disabled || subject.ID == of.Standpoint.Subject {
			continue
		}
		rights, err := st.Rights(access.Standpoint{Subject: subject.ID}, time.Now())
		if err != nil || !rights.Resolve(need.Object).Allowed.Has(need.Privilege) {
			continue
		}
		alike := 0
		for _, id := range of.Subjects() {
			if id != access.PublicID && rights.Counts(id) {
				alike++
			}
		}
		all = append(all, colleague{subject, alike})
	}
	slices.SortStableFunc(all, func(a, b colleague) int {
		return cmp.Or(cmp.Compare(b.alike, a.alike), access.CompareSubjects(a.subject, b.subject))
	})
	out := []string{}
	for _, near := range all[:min(len(all), mostNearest)] {
		rights, err := st.Rights(access.Standpoint{Subject: near.subject.ID}, time.Now())
		if err != nil {
			continue
		}
		paths := s.paths(&identity.Viewer{Rights: rights, State: st, Reviews: true}, need.Privilege, need.Object)
		if len(paths) > 0 {
			out = append(out, paths[0].Says+say.AlikeIn.With(near.alike))
		}
	}
	return out
}
