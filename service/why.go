package service

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/wire"
)

// Why answers why a subject may use a privilege on an object, or what is
// missing and how to give it.
func (s *Service) Why(c Caller, ref, privilege, path string, at wire.Standpoint) (wire.Why, error) {
	st := s.state()
	subject, err := s.reviewable(st, c, ref)
	if err != nil {
		return wire.Why{}, err
	}
	want, err := access.ParsePrivilege(privilege)
	if err != nil {
		return wire.Why{}, err
	}
	p, err := s.standAs(st, c, subject.ID, at)
	if err != nil {
		return wire.Why{}, err
	}
	o, err := st.model.Lookup(path)
	if err != nil || !s.reviews(st, c) && !p.sees(o.ID) {
		if o, err = s.seen(p, path); err != nil {
			return wire.Why{}, err
		}
	}
	if !want.AppliesTo(o.Kind) {
		return wire.Why{}, problem(422, "wrong_level", "Not possible", "%s does not apply to the %s %s", want, o.Kind, st.model.Path(o.ID))
	}
	out := wire.Why{Subject: p.words, Privilege: want.String(), Object: st.model.Path(o.ID), Paths: s.paths(p, want, o.ID),
		Missing: p.needs(p.Missing(want, o.ID)), Fixes: []wire.Fix{}, Policies: []string{}, Bands: p.bands(o.ID)}
	out.Allowed = p.Resolve(o.ID).Allowed.Has(want)
	switch {
	case out.Allowed:
		out.Lane = len(p.MayRun()) > 0 || !st.model.Subject(subject.ID).Acts()
		out.Says = fmt.Sprintf("%s has %s on %s", out.Subject, want, out.Object)
		if o.Kind.IsRelation() && want == access.Select {
			out.Says += ": " + afterVerbs(out.Bands.Says)
			if p.review {
				out.Policies = p.policySentences(o.ID)
			}
		}
		if o.View != nil && want == access.Select {
			s.whyNotView(c, p, o, &out)
		}
	case st.model.Object(o.ID).Missing:
		out.Says = fmt.Sprintf("%s is no longer in its source; no right on it takes effect", out.Object)
	default:
		out.Says = fmt.Sprintf("%s does not have %s on %s: missing is %s", out.Subject, want, out.Object, strings.Join(out.Missing, ", "))
		if s.reviews(st, c) {
			out.Fixes = s.fixes(p, want, o.ID)
		}
	}
	if out.Allowed && !out.Lane && o.Kind.IsRelation() {
		out.Says += ". But no lane is open to them, so no query of theirs can run"
		if lane, err := st.model.FindLane(access.FirstLane); err == nil && s.reviews(st, c) {
			out.Fixes = s.fixes(p, access.Usage, lane.ID)
		}
	}
	return out, nil
}

// whyNotView adds why a view cannot be read by who holds SELECT on it.
func (s *Service) whyNotView(c Caller, p *standpoint, o *access.Object, out *wire.Why) {
	err := p.viewTrouble(o)
	if err == nil {
		return
	}
	told := s.told(p.state, c, err)
	out.Says = fmt.Sprintf("%s holds SELECT on %s, and cannot read it: %s", out.Subject, out.Object, told.Detail)
	var q *query.Error
	if errors.As(err, &q) && len(q.Needs) > 0 && s.reviews(p.state, c) {
		out.Missing, out.Fixes = p.needs(q.Needs), s.fixesFor(p, q.Needs)
	}
}

// policySentences lists what the live policies of a table make of it here.
func (p *standpoint) policySentences(table access.ObjectID) []string {
	g := p.state.policies.Govern(p.Standing, table)
	out := []string{}
	for _, r := range g.All() {
		out = append(out, r.Name+": "+r.Sentence(p.Model, query.Words))
	}
	for _, gone := range g.Gone {
		out = append(out, fmt.Sprintf("%s: treats the column %s, which is gone from the source, so the table is closed", gone.Policy.Name, p.Model.Object(gone.Column).Name))
	}
	if g.Closed {
		out = append(out, "row policies are live on the table, and none lets a row through here")
	}
	for _, id := range slices.Sorted(maps.Keys(g.Columns)) {
		d := g.Columns[id]
		for _, c := range d.By {
			if line := c.Name + ": " + c.Sentence(p.Model, query.Words); !slices.Contains(out, line) {
				out = append(out, line)
			}
		}
		for _, c := range d.Lost {
			out = append(out, fmt.Sprintf("%s: takes no effect on %s, for a stricter policy wins", c.Name, p.Model.Object(id).Name))
		}
		for _, c := range d.Lifted {
			out = append(out, fmt.Sprintf("%s: takes no effect on %s, for REVEAL lifts it", c.Name, p.Model.Object(id).Name))
		}
		if d.Conflict {
			out = append(out, fmt.Sprintf("policies on %s conflict: they ask for one treatment with different arguments, so the value is suppressed", p.Model.Object(id).Name))
		}
	}
	return out
}

// mostFixes bounds what is proposed. The last way, a grant to the subject
// itself, is always among it.
const mostFixes = 5

func (s *Service) fixes(p *standpoint, privilege access.Privilege, id access.ObjectID) []wire.Fix {
	out := []wire.Fix{}
	fixes := p.Fixes(privilege, id, p.state.census(s.now()))
	if len(fixes) > mostFixes {
		fixes = append(slices.Clone(fixes[:mostFixes-1]), fixes[len(fixes)-1])
	}
	for _, f := range fixes {
		to := p.Model.Ref(f.To)
		if f.Give != 0 {
			of := p.Model.Subject(f.Give)
			w := wire.Fix{Give: &wire.Member{Member: to, Of: of.Ref()}, Opens: f.Opens}
			if of.Kind == access.Role {
				w.Says = fmt.Sprintf("give %s to %s (opens %s)", of.Ref(), to, count(f.Opens, "table"))
				w.Commands = []string{fmt.Sprintf("gneiss role give %s to %s", of.Name, to)}
			} else {
				w.Says = fmt.Sprintf("put %s in %s (opens %s)", to, of.Ref(), count(f.Opens, "table"))
				w.Commands = []string{fmt.Sprintf("gneiss group put %s in %s", to, of.Name)}
			}
			out = append(out, w)
			continue
		}
		w := wire.Fix{Opens: f.Opens}
		var parts []string
		for _, n := range f.Grants {
			path := p.Model.Path(n.Object)
			parts = append(parts, n.Privilege.String()+" on "+path)
			w.Commands = append(w.Commands, grantCommand(n.Privilege.String(), path, to, ""))
			w.Grants = append(w.Grants, wire.GrantRequest{Privileges: []string{n.Privilege.String()}, Object: path, Subjects: []string{to}})
		}
		if last := f.Grants[len(f.Grants)-1]; len(f.Grants) > 1 && last.Privilege == privilege && last.Object == id {
			w.Commands = []string{grantCommand(privilege.String(), p.Model.Path(id), to, " --with-entry")}
			w.Grants = []wire.GrantRequest{{Privileges: []string{privilege.String()}, Object: p.Model.Path(id), Subjects: []string{to}, WithEntry: true}}
		}
		w.Says = "grant " + strings.Join(parts, ", ") + " to " + to
		out = append(out, w)
	}
	return out
}
