package files

import (
	"encoding/json"
	"maps"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/outline"
	"gneiss/core/policy"
)

func day(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

// Write writes the files of what was decided in a state: the same state, the same bytes.
func Write(decided []outline.Thing) []File {
	w := &writer{roles: map[string]*Role{}, places: map[string]*Place{}}
	for _, t := range decided {
		w.add(t)
	}
	all := map[string]any{}
	if len(w.platform.Bundles)+len(w.platform.Lanes)+len(w.platform.Labels)+len(w.platform.Policies)+len(w.platform.Guardrails) > 0 {
		all[platformFile] = w.platform
	}
	if len(w.people.Subjects)+len(w.people.Memberships)+len(w.people.Grants) > 0 {
		all[peopleFile] = w.people
	}
	if len(w.tests.Tests) > 0 {
		all[testsFile] = w.tests
	}
	for path, r := range w.roles {
		all[path] = r
	}
	for path, p := range w.places {
		all[path] = p
	}
	out := make([]File, 0, len(all))
	for _, path := range slices.Sorted(maps.Keys(all)) {
		out = append(out, File{Path: path})
	}
	var side errgroup.Group
	side.SetLimit(runtime.GOMAXPROCS(0))
	for i := range out {
		side.Go(func() error { out[i].Text = encode(all[out[i].Path]); return nil })
	}
	side.Wait()
	return out
}

type writer struct {
	platform Platform
	people   People
	tests    Tests
	roles    map[string]*Role
	places   map[string]*Place
}

func (w *writer) role(ref string) *Role {
	name := strings.TrimPrefix(ref, "role:")
	path := roleFile(name)
	if w.roles[path] == nil {
		w.roles[path] = &Role{Role: name}
	}
	return w.roles[path]
}

func (w *writer) place(path string) *Place {
	home := homeOf(path)
	if w.places[home] == nil {
		within, _ := access.CutPattern(path)
		parts, err := access.ParsePath(within)
		if err != nil {
			parts = []string{within}
		}
		w.places[home] = &Place{Place: access.JoinPath(parts[:min(len(parts), 2)]...)}
	}
	return w.places[home]
}

func (w *writer) add(t outline.Thing) {
	if s, is := t.(outline.Subject); is {
		if s.Kind == access.Role {
			w.role(s.Ref).Title = s.Title
		} else if s.Kind != access.Public {
			w.people.Subjects = append(w.people.Subjects, Subject{s.Ref, s.Title, s.Disabled, s.Lead, s.Attributes})
		}
		return
	}
	switch c := only(t).(type) {
	case access.Join:
		m := Member{c.Member, c.Of, c.By, day(c.Until), c.Option, c.Passed, c.Reason, c.Ticket}
		if strings.HasPrefix(c.Of, "role:") {
			m.Of = ""
			r := w.role(c.Of)
			r.Holders = append(r.Holders, m)
		} else {
			w.people.Memberships = append(w.people.Memberships, m)
		}
	case access.AddGrant:
		g := Grant{c.Privilege, c.Object, c.Subject, c.Grantor, c.Option, day(c.Until), c.Reason, c.Ticket}
		if strings.HasPrefix(c.Subject, "role:") {
			g.To = ""
			r := w.role(c.Subject)
			r.Grants = append(r.Grants, g)
		} else {
			w.people.Grants = append(w.people.Grants, g)
		}
	case access.SetOwner:
		if p := w.place(c.Object); homeOf(c.Object) != platformFile {
			p.Owners = append(p.Owners, Owner{c.Object, c.Owner})
		}
	case access.PutBundle:
		w.platform.Bundles = append(w.platform.Bundles, Bundle{c.Bundle, c.Privileges})
	case access.PutLane:
		w.platform.Lanes = append(w.platform.Lanes, Lane{c.Lane, c.Limits.Queries, c.Limits.Seconds, c.Limits.Rows, c.Limits.Bytes})
	case access.PutLabel:
		w.platform.Labels = append(w.platform.Labels, Label{c.Label, c.Topic, string(c.Level)})
	case access.PutView:
		p := w.place(c.Path)
		p.Views = append(p.Views, View{c.Path, c.Text, string(c.Rights), c.Sealed})
	case policy.PlaceLabel:
		p := w.place(c.Object)
		p.Labels = append(p.Labels, Placement{c.Label, c.Object})
	case policy.PutRelationship:
		p := w.place(c.From[0])
		p.Relationships = append(p.Relationships, Relationship{c.From, c.To})
	case policy.PutRowPolicy:
		w.policy(c.Table, Policy{Policy: c.Name, Rows: c.Table, Mode: string(c.Mode), Commands: string(c.Commands), Rule: c.Rule, Follow: c.Follow, Via: c.Via,
			For: c.For, Except: c.Except, Purposes: c.Purposes, Status: string(c.Status), Comment: c.Comment})
	case policy.PutColumnPolicy:
		p := Policy{Policy: c.Name, Columns: c.Columns, Label: c.Label, When: c.When, Treat: c.Treat, For: c.For, Except: c.Except, Purposes: c.Purposes,
			Status: string(c.Status), Comment: c.Comment}
		arguments := c.Treatment
		if arguments.Kind = 0; arguments != (policy.Treatment{}) {
			p.Arguments = &arguments
		}
		w.policy(append(slices.Clone(c.Columns), c.Label)[0], p)
	case guard.PutGuardrail:
		w.platform.Guardrails = append(w.platform.Guardrails, Guardrail{c.Name, string(c.Kind), string(c.Mode), c.Object, c.Except, c.Roles, c.Most, c.Comment})
	case guard.PutTest:
		w.tests.Tests = append(w.tests.Tests, Test{c.Name, c.Subject, c.Role, c.Purpose, c.Table, c.May, c.MayNot, c.Rows, c.Where, c.Columns, c.Comment})
	}
}

func (w *writer) policy(on string, p Policy) {
	if homeOf(on) == platformFile {
		w.platform.Policies = append(w.platform.Policies, p)
		return
	}
	place := w.place(on)
	place.Policies = append(place.Policies, p)
}

// text is a thing as its file has it.
func text(t outline.Thing) string {
	w := &writer{roles: map[string]*Role{}, places: map[string]*Place{}}
	w.add(t)
	b, err := json.Marshal([]any{w.platform, w.people, w.tests, w.roles, w.places})
	if err != nil {
		panic(err) // texts and numbers always marshal
	}
	return string(b)
}
