package review

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/gateway"
	"gneiss/service/platform"
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
	u, err := s.uses(ctx, from.Format(time.DateOnly), 0, sc.touched(st.Model))
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
	} else if slices.ContainsFunc(f.grants, func(g *access.Grant) bool { return m.Gives(g)&toAdminister != 0 }) {
		w.Findings = append(w.Findings, "not_counted")
	} else if slices.ContainsFunc(f.grants, func(g *access.Grant) bool { return judged(m, g) }) { // else queries do not tell
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
