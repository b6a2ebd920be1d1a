package review

import (
	"cmp"
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
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// A ReviewContent is what is known of an item when its review is opened.
type ReviewContent struct {
	Title    string   `json:"title,omitempty"`
	Has      []string `json:"has"`
	Since    string   `json:"since,omitempty"`
	By       string   `json:"by,omitempty"`
	Reason   string   `json:"reason,omitempty"`
	Ticket   string   `json:"ticket,omitempty"`
	Until    string   `json:"until,omitempty"`
	Queries  int64    `json:"queries"`
	Last     string   `json:"last,omitempty"`
	Findings []string `json:"findings"`
	Before   string   `json:"before,omitempty"`
}

// mostItems bounds the items of a review.
const mostItems = 200_000

// a reviewScope is what a review is about, looked up.
type reviewScope struct {
	objects  []access.ObjectID
	roles    map[access.SubjectID]bool
	subjects map[access.SubjectID]bool
}

func reviewScopeOf(st *platform.State, in wire.ReviewScope) (reviewScope, error) {
	m := st.Model
	s := reviewScope{roles: map[access.SubjectID]bool{}, subjects: map[access.SubjectID]bool{}}
	for _, path := range in.Objects {
		o, err := m.Lookup(path)
		if err != nil {
			return s, err
		}
		s.objects = append(s.objects, o.ID)
	}
	for _, name := range in.Labels {
		label, err := m.FindLabel(name)
		if err != nil {
			return s, err
		}
		s.objects = append(s.objects, st.Policies.Bearing(m, label.ID)...)
	}
	for i, list := range [][]string{in.Roles, in.Subjects} {
		for _, ref := range list {
			subject, err := m.FindSubject(ref)
			if err != nil {
				return s, err
			}
			[]map[access.SubjectID]bool{s.roles, s.subjects}[i][subject.ID] = true
		}
	}
	if len(s.objects)+len(s.roles)+len(s.subjects) == 0 {
		return s, fault.New(fault.Invalid, "no_scope", "say what to review: objects, roles, labels or subjects")
	}
	return s, nil
}

// holds reports whether a grant gives something in the scope: on an object of it, below one, or above
// one and reaching down.
func (s *reviewScope) holds(m *access.Model, g *access.Grant) bool {
	if s.roles[g.Subject] {
		return true
	}
	return slices.ContainsFunc(s.objects, func(id access.ObjectID) bool {
		return m.Within(id, g.Object) || m.Within(g.Object, id) && g.Pattern == "" && (g.Privilege == access.All || m.Gives(g)&^access.Set(access.Usage) != 0)
	})
}

// touched reports of a use whether it was of something in the scope; nil: any is.
func (s *reviewScope) touched(m *access.Model) func(gateway.Use) bool {
	if len(s.objects) == 0 {
		return nil
	}
	return func(of gateway.Use) bool {
		return slices.ContainsFunc(of.Tables, func(table access.ObjectID) bool {
			return slices.ContainsFunc(s.objects, func(id access.ObjectID) bool {
				return m.HasObject(table) && (m.Within(id, table) || m.Within(table, id))
			})
		})
	}
}

// ReviewItems works out what there is to decide in a scope: by person, and by the group or role that
// gives it to them, or grants of their own. What everybody has is one item.
func (s *Service) ReviewItems(ctx context.Context, st *platform.State, in wire.ReviewScope, reviewer string) ([]store.ReviewItem, error) {
	sc, err := reviewScopeOf(st, in)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	from, _, err := s.since(ctx, usualDays, now)
	if err != nil {
		return nil, err
	}
	u, err := s.uses(ctx, from.Format(time.DateOnly), sc.touched(st.Model))
	if err != nil {
		return nil, err
	}
	last, err := s.store.LastReviewed(ctx)
	if err != nil {
		return nil, err
	}
	c := &collector{st: st, now: now, scope: sc, used: u, items: map[itemKey]*found{}, above: map[access.SubjectID]map[access.SubjectID]bool{}}
	st.Model.EachGrant(c.grant)
	if len(c.items) > mostItems {
		return nil, fault.New(fault.Invalid, "too_large", "that is more than %d things to decide; review a part of it", mostItems)
	}
	return c.list(reviewer, last), nil
}

type itemKey struct{ subject, via access.SubjectID }

// found is what was found of an item.
type found struct {
	has    []string
	grants []*access.Grant
}

// A collector gathers the items of a scope.
type collector struct {
	st    *platform.State
	now   time.Time
	scope reviewScope
	used  *used
	items map[itemKey]*found
	above map[access.SubjectID]map[access.SubjectID]bool // what a group or role is in, itself too
}

func (c *collector) grant(g *access.Grant) {
	m := c.st.Model
	if !c.scope.holds(m, g) && len(c.scope.subjects) == 0 || m.Object(g.Object).Kind == access.Lane {
		return
	}
	if inScope := c.scope.holds(m, g); inScope || c.scope.subjects[g.Subject] {
		if g.Subject == access.PublicID {
			c.add(itemKey{subject: access.PublicID}, g)
			return
		}
		m.Actors(g.Subject, c.now, func(s *access.Subject) bool {
			c.person(s, g)
			return true
		})
		return
	}
	m.Actors(g.Subject, c.now, func(s *access.Subject) bool { // all that some subjects have
		if c.scope.subjects[s.ID] {
			c.person(s, g)
		}
		return true
	})
}

// person adds a grant to the items of somebody who has it.
func (c *collector) person(s *access.Subject, g *access.Grant) {
	if s.ID == g.Subject {
		c.add(itemKey{subject: s.ID}, g)
		return
	}
	for _, e := range s.Memberships {
		if (e.Until.IsZero() || c.now.Before(e.Until)) && c.in(e.Of)[g.Subject] {
			c.add(itemKey{s.ID, e.Of}, g)
		}
	}
}

// in is what a group or role is in, itself too.
func (c *collector) in(id access.SubjectID) map[access.SubjectID]bool {
	if known := c.above[id]; known != nil {
		return known
	}
	set := map[access.SubjectID]bool{id: true}
	c.above[id] = set
	for queue := []access.SubjectID{id}; len(queue) > 0; queue = queue[1:] {
		for _, e := range c.st.Model.Subject(queue[0]).Memberships {
			if (e.Until.IsZero() || c.now.Before(e.Until)) && !set[e.Of] {
				set[e.Of] = true
				queue = append(queue, e.Of)
			}
		}
	}
	return set
}

func (c *collector) add(k itemKey, g *access.Grant) {
	m := c.st.Model
	if c.items[k] == nil {
		c.items[k] = &found{}
	}
	f := c.items[k]
	if text := m.GrantName(g) + " on " + m.Target(g.Target); !slices.Contains(f.has, text) {
		f.has = append(f.has, text)
	}
	f.grants = append(f.grants, g)
}

// list makes items of what was found, what is new or changed since the last review first.
func (c *collector) list(reviewer string, last []store.ReviewItem) []store.ReviewItem {
	m := c.st.Model
	before := map[[2]string]store.ReviewItem{}
	for _, item := range last {
		before[[2]string{item.Subject, item.Via}] = item
	}
	var out []store.ReviewItem
	for k, f := range c.items {
		slices.Sort(f.has)
		item := store.ReviewItem{Subject: m.Ref(k.subject), Via: m.Ref(k.via), Changed: "new", Reviewer: reviewer}
		if reviewer == "" {
			item.Reviewer = m.Ref(c.owner(f))
		}
		content := c.content(k, f)
		if was, ok := before[[2]string{item.Subject, item.Via}]; ok {
			var then ReviewContent
			item.Changed = "changed"
			if json.Unmarshal([]byte(was.Content), &then) == nil && slices.Equal(then.Has, f.has) {
				item.Changed = "same"
			}
			content.Before = strings.TrimSpace(was.Decision + " " + was.Until)
		}
		text, err := json.Marshal(content)
		if err != nil {
			panic(err) // texts and numbers always marshal
		}
		item.Content = string(text)
		out = append(out, item)
	}
	order := map[string]int{"new": 0, "changed": 1, "same": 2}
	slices.SortFunc(out, func(a, b store.ReviewItem) int {
		return cmp.Or(order[a.Changed]-order[b.Changed], strings.Compare(a.Via, b.Via), strings.Compare(a.Subject, b.Subject))
	})
	for i := range out {
		out[i].N = i + 1
	}
	return out
}

// owner is whose the first of the objects is that the grants are on.
func (c *collector) owner(f *found) access.SubjectID {
	for _, g := range f.grants {
		if owner := c.st.Model.Owner(g.Object); owner != 0 {
			return owner
		}
	}
	return 0
}

// content says what is known of an item.
func (c *collector) content(k itemKey, f *found) ReviewContent {
	m := c.st.Model
	w := ReviewContent{Title: m.Subject(k.subject).Title, Has: f.has, Findings: []string{}}
	by := c.used.memberships[access.Taken{Member: k.subject, Of: k.via}]
	if k.via != 0 {
		for _, e := range m.Subject(k.subject).Memberships {
			if e.Of == k.via {
				w.Since, w.By, w.Reason, w.Ticket, w.Until = day(e.At), m.Ref(e.By), e.Reason, e.Ticket, day(e.Until)
			}
		}
	} else {
		g := f.grants[0]
		w.Since, w.By, w.Reason, w.Ticket, w.Until = day(g.At), m.Ref(g.Grantor), g.Reason, g.Ticket, day(g.Until)
		for _, g := range f.grants {
			if other := c.used.grants[g.ID]; other != nil && (by == nil || other.last > by.last) {
				by = other
			}
		}
		w.Findings = append(w.Findings, map[bool]string{true: "everyone", false: "direct"}[k.subject == access.PublicID])
	}
	if by != nil {
		w.Queries, w.Last = by.queries, by.last
	} else if slices.ContainsFunc(f.grants, func(g *access.Grant) bool { return m.Gives(g)&forData != 0 }) { // else queries do not tell
		w.Findings = append(w.Findings, "unused")
	}
	if w.Until == "" {
		w.Findings = append(w.Findings, "no_end")
	}
	return w
}

func day(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.DateOnly)
}

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
