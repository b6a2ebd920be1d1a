package service

import (
	"fmt"
	"strings"
	"time"

	"github.com/agext/levenshtein"

	"gneiss/core/access"
	"gneiss/wire"
)

// fewAdministrators is how many administrators a platform has before it is worth
// a look.
const fewAdministrators = 3

// Findings lists what the trade calls privilege hygiene: rights and subjects
// that deserve a look, each with its reason and its fix.
func (s *Service) Findings(c Caller) (wire.List[wire.Finding], error) {
	st := s.current.Load()
	out := wire.List[wire.Finding]{Items: []wire.Finding{}}
	if !s.reviews(st, c) {
		return out, problem(403, "refused", "Refused", "findings need DESCRIBE on platform")
	}
	f := &finder{s: s, st: st, now: s.now(), out: &out.Items}
	for _, g := range st.model.Grants() {
		f.grant(g)
	}
	for _, subject := range st.model.Subjects(0) {
		f.subject(subject)
	}
	f.administrators()
	return out, nil
}

// a finder collects findings over one state.
type finder struct {
	s   *Service
	st  *state
	now time.Time
	out *[]wire.Finding
}

func (f *finder) add(kind, subject, object, says, why string, fix ...string) {
	if fix == nil {
		fix = []string{}
	}
	*f.out = append(*f.out, wire.Finding{Kind: kind, Subject: subject, Object: object, Says: says, Why: why, Fix: fix})
}

func (f *finder) grant(g *access.Grant) {
	if g.Grantor == 0 {
		return // built in
	}
	m := f.st.model
	w := f.s.grant(f.st, g)
	says := fmt.Sprintf("%s on %s to %s", w.Privilege, w.Object, w.Subject)
	revoke := fmt.Sprintf("gneiss revoke %s on %s from %s", strings.ToLower(w.Privilege), w.Object, w.Subject)
	if w.Dormant != "" {
		fix := []string{revoke}
		if w.Wake != "" {
			fix = []string{w.Wake, revoke}
		}
		f.add("dormant", w.Subject, w.Object, says+" gives nothing: "+w.Dormant, "somebody thinks that it gives something, or it is left over", fix...)
	}
	switch kind := m.Subject(g.Subject).Kind; {
	case kind == access.Public:
		f.add("to_public", w.Subject, w.Object, says, "everyone has it, also who comes tomorrow", revoke)
	case kind == access.User:
		f.add("to_user", w.Subject, w.Object, says+", straight to a user", "rights given through roles are found, reviewed and taken back together", revoke)
	}
	if o := m.Object(g.Object); g.Pattern == "" && (o.Kind == access.Platform || o.Kind == access.Source) && g.Privilege != access.Usage && g.Privilege != access.Audit {
		f.add("broad", w.Subject, w.Object, fmt.Sprintf("%s covers the whole %s", says, o.Kind), "it covers every table there, also those that come", revoke)
	}
	if other := f.covering(g); other != nil {
		v := f.s.grant(f.st, other)
		f.add("redundant", w.Subject, w.Object, says+" adds nothing", fmt.Sprintf("%s on %s to %s gives the same", v.Privilege, v.Object, v.Subject), revoke)
	}
}

// covering returns another grant in force that gives the subject all that g
// does, or nil.
func (f *finder) covering(g *access.Grant) *access.Grant {
	standing, err := f.st.stand(access.Session{Subject: g.Subject}, f.now)
	if err != nil || g.Option {
		return nil
	}
	// What covers all that a pattern can match covers the object it stands in;
	// only for USAGE does that not follow.
	if g.Pattern != "" && g.Privilege == access.Usage {
		return nil
	}
	for _, path := range standing.Paths(g.Privilege, g.Object) {
		other := path.Grant
		if !f.st.model.Within(other.Object, g.Object) || g.Pattern != "" && other.Pattern != "" {
			continue // columns of it, or the pattern itself
		}
		// Of two that cover each other, the older one stays.
		wider := other.Target != g.Target || other.Privilege != g.Privilege || other.Subject != g.Subject
		if other.ID != g.ID && other.Until.IsZero() && (wider || other.ID < g.ID) {
			return other
		}
	}
	return nil
}

func (f *finder) subject(subject *access.Subject) {
	m, ref := f.st.model, subject.Ref()
	holders := 0
	m.Actors(subject.ID, f.now, func(*access.Subject) bool {
		holders++
		return false
	})
	remove := fmt.Sprintf("gneiss %s remove %s", subject.Kind, subject.Name)
	if (subject.Kind == access.Role || subject.Kind == access.Group) && holders == 0 && ref != "role:auditor" && ref != access.Administrator {
		f.add("no_holders", ref, "", "nobody has "+ref, "what is granted to it gives nothing, until somebody is given it without a look at what it holds", remove)
	}
	for _, other := range m.Subjects(subject.Kind) {
		if d := levenshtein.Distance(subject.Name, other.Name, nil); other.ID < subject.ID && len(subject.Name) >= 5 && d > 0 && d <= max(1, len(subject.Name)/8) && digits(subject.Name) == digits(other.Name) {
			f.add("alike_names", ref, "", fmt.Sprintf("%s is named almost as %s", ref, other.Ref()), "one of the two may be a slip of the keyboard", remove)
		}
	}
	for _, e := range subject.Memberships {
		f.endless(subject, e)
	}
}

// digits are a name's digits: names that differ in them differ on purpose.
func digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, s)
}

// endless looks for a membership without an end where most others of the same
// group or role have one.
func (f *finder) endless(subject *access.Subject, e access.Membership) {
	if !e.Until.IsZero() {
		return
	}
	of := f.st.model.Subject(e.Of)
	with := 0
	for _, id := range of.Members {
		for _, other := range f.st.model.Subject(id).Memberships {
			if other.Of == of.ID && !other.Until.IsZero() {
				with++
			}
		}
	}
	if with*2 > len(of.Members) {
		f.add("no_end", subject.Ref(), "", fmt.Sprintf("%s has %s without an end date", subject.Ref(), of.Ref()),
			fmt.Sprintf("%d of %d others have one", with, len(of.Members)-1))
	}
}

func (f *finder) administrators() {
	role, err := f.st.model.FindSubject(access.Administrator)
	if err != nil {
		return
	}
	var names []string
	f.st.model.Actors(role.ID, f.now, func(s *access.Subject) bool {
		names = append(names, s.Ref())
		return true
	})
	if len(names) > fewAdministrators {
		f.add("administrators", access.Administrator, "platform", fmt.Sprintf("%d subjects are administrators: %s", len(names), strings.Join(names, ", ")),
			fmt.Sprintf("more than %d; each can grant themself everything", fewAdministrators), "gneiss role take administrator from SUBJECT")
	}
}
