package files

import (
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"golang.org/x/sync/errgroup"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/outline"
	"gneiss/core/policy"
	"gneiss/service/fault"
)

// A Wanted is what files ask for.
type Wanted struct {
	Things []outline.Thing
	Lines  map[string]string // the file and line of each, by its name
	Whole  bool              // what is in none of the files is to go, too
	files  map[string]bool
	same   map[string]bool // files that say what is there already, of which no thing is listed
}

// Covers reports whether a thing would be in one of the files that were read: where it is in none of
// them, it is to go.
func (w *Wanted) Covers(t outline.Thing) bool { return w.Whole || w.files[Home(t)] }

// Read reads files, beside those that the state is written as. Grants that do not say by whom are by
// the one who loads them. A word that is not known is refused, with its place and the nearest.
func Read(list, written []File, loader string) (*Wanted, error) {
	all := &Wanted{Lines: map[string]string{}, files: map[string]bool{}, same: map[string]bool{}}
	is := make(map[string]string, len(written))
	for _, f := range written {
		is[f.Path] = f.Text
	}
	var readers []*reader
	for _, f := range list {
		if all.files[f.Path] {
			return nil, fault.New(fault.Invalid, "bad_file", "%s is there twice", f.Path)
		}
		all.files[f.Path] = true
		if text, there := is[f.Path]; there && strings.HasSuffix(f.Text, text) && Head(f.Text) == strings.TrimSuffix(f.Text, text) {
			all.same[f.Path] = true
			continue
		}
		readers = append(readers, &reader{Wanted: &Wanted{Lines: map[string]string{}}, loader: loader, file: f})
	}
	errs := make([]error, len(readers))
	var side errgroup.Group
	side.SetLimit(runtime.GOMAXPROCS(0))
	for i, r := range readers {
		side.Go(func() error { errs[i] = r.read(); return nil })
	}
	side.Wait()
	for i, r := range readers {
		if errs[i] != nil {
			return nil, errs[i] // the first of them, in the order of the files
		}
		all.Things = append(all.Things, r.Things...)
		maps.Copy(all.Lines, r.Lines)
	}
	return all, nil
}

// Head is the comment at the head of a file's text.
func Head(text string) string {
	kept := 0
	for line := range strings.Lines(text) {
		if !strings.HasPrefix(line, "#") && strings.TrimSpace(line) != "" {
			break
		}
		kept += len(line)
	}
	return text[:kept]
}

type reader struct {
	*Wanted
	loader string
	file   File
	lines  map[string]int // where a text is first the value of a field
}

func (r *reader) read() error {
	folder, _, _ := strings.Cut(r.file.Path, "/")
	switch {
	case r.file.Path == platformFile:
		var p Platform
		if err := r.parse(&p); err != nil {
			return err
		}
		return r.platform(p)
	case r.file.Path == testsFile:
		var t Tests
		if err := r.parse(&t); err != nil {
			return err
		}
		for _, x := range t.Tests {
			r.put(x.Test, guard.PutTest{Name: x.Test, Subject: x.Subject, Role: x.Role, Purpose: x.Purpose, Table: x.Table, May: x.May, MayNot: x.MayNot,
				Rows: x.Rows, Where: x.Where, Columns: x.Columns, Comment: x.Comment})
		}
		return nil
	case r.file.Path == peopleFile:
		var p People
		if err := r.parse(&p); err != nil {
			return err
		}
		for _, s := range p.Subjects {
			kind, _, _ := strings.Cut(s.Subject, ":")
			r.subject(outline.Subject{Ref: s.Subject, Kind: kinds[kind], Title: s.Title, Disabled: s.Disabled, Lead: s.Lead, Attributes: s.Attributes})
		}
		return errors.Join(r.members(p.Memberships, ""), r.grants(p.Grants, ""))
	case folder == "roles":
		var x Role
		if err := r.parse(&x); err != nil {
			return err
		}
		if roleFile(x.Role) != r.file.Path {
			return r.bad(x.Role, "the role %s is written in %s", x.Role, roleFile(x.Role))
		}
		if ref := "role:" + x.Role; ref != access.Administrator && ref != access.Auditor { // which are built in
			r.subject(outline.Subject{Ref: ref, Kind: access.Role, Title: x.Title})
		}
		return errors.Join(r.members(x.Holders, "role:"+x.Role), r.grants(x.Grants, "role:"+x.Role))
	case folder == "schemas":
		var p Place
		if err := r.parse(&p); err != nil {
			return err
		}
		return r.place(p)
	}
	return fault.New(fault.Invalid, "bad_file",
		"%s is none of the files that Gneiss reads: platform.yaml, subjects.yaml, tests.yaml, roles/ and schemas/", r.file.Path)
}

var kinds = map[string]access.SubjectKind{"user": access.User, "service": access.Service, "group": access.Group}

// parse reads the file. What has no field is refused.
func (r *reader) parse(into any) error {
	err := yaml.UnmarshalWithOptions([]byte(r.file.Text), into, yaml.Strict(), yaml.DisallowUnknownField())
	var told yaml.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &told) && told.GetToken() != nil:
		token := told.GetToken()
		near := ""
		if strings.Contains(told.GetMessage(), "unknown field") {
			near = fault.DidYouMean(fault.Nearest(token.Value, fields(into)))
		}
		return fault.New(fault.Invalid, "bad_file", "%s:%d: %s%s", r.file.Path, token.Position.Line, told.GetMessage(), near)
	}
	return fault.New(fault.Invalid, "bad_file", "%s: %v", r.file.Path, err)
}

func (r *reader) bad(at, format string, args ...any) error {
	return fault.New(fault.Invalid, "bad_file", "%s: %s", r.line(at), fmt.Sprintf(format, args...))
}

// line is the file, and the line at which a text is first the value of a field.
func (r *reader) line(text string) string {
	if r.lines == nil {
		r.lines = map[string]int{}
		n := 0
		for line := range strings.Lines(r.file.Text) {
			n++
			if _, value, found := strings.Cut(strings.TrimSpace(line), ": "); found {
				if value = strings.Trim(value, `"'`); r.lines[value] == 0 {
					r.lines[value] = n
				}
			}
		}
	}
	if n := r.lines[text]; n > 0 {
		return fmt.Sprintf("%s:%d", r.file.Path, n)
	}
	return r.file.Path
}

func (r *reader) put(at string, change any) {
	t := outline.Of(change)
	r.Things = append(r.Things, t)
	r.Lines[t.Name()] = r.line(at)
}

func (r *reader) subject(s outline.Subject) {
	if len(s.Attributes) == 0 {
		s.Attributes = nil
	}
	for _, values := range s.Attributes {
		slices.Sort(values)
	}
	r.Things = append(r.Things, s)
	r.Lines[s.Name()] = r.line(s.Ref)
}

func (r *reader) until(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		t, err = time.Parse(time.DateOnly, text)
	}
	if err != nil {
		return t, r.bad(text, "%s is no time, as in 2027-01-31T00:00:00Z", text)
	}
	return t.UTC(), nil
}

func (r *reader) members(list []Member, of string) error {
	for _, m := range list {
		if m.Of != "" && of != "" && m.Of != of {
			return r.bad(m.Of, "the holders of %s are written in %s", m.Of, roleFile(strings.TrimPrefix(m.Of, "role:")))
		}
		if of != "" {
			m.Of = of
		}
		end, err := r.until(m.Until)
		if err != nil {
			return err
		}
		r.put(m.Member, access.Join{Member: m.Member, Of: m.Of, By: m.By, Until: end, Option: m.Option, Passed: m.Passed, Reason: m.Reason, Ticket: m.Ticket})
	}
	return nil
}

func (r *reader) grants(list []Grant, to string) error {
	for _, g := range list {
		if to != "" {
			g.To = to
		}
		if g.By == "" {
			g.By = r.loader
		}
		if p, err := access.ParsePrivilege(g.Privilege); err == nil {
			g.Privilege = p.String()
		}
		end, err := r.until(g.Until)
		if err != nil {
			return err
		}
		r.put(g.Object, access.AddGrant{Privilege: g.Privilege, Object: g.Object, Subject: g.To, Grantor: g.By, Option: g.Option, Until: end,
			Reason: g.Reason, Ticket: g.Ticket})
	}
	return nil
}

func (r *reader) platform(p Platform) error {
	for _, b := range p.Bundles {
		r.put(b.Bundle, access.PutBundle{Bundle: b.Bundle, Privileges: b.Privileges})
	}
	for _, l := range p.Lanes {
		r.put(l.Lane, access.PutLane{Lane: l.Lane, Limits: access.Limits{Queries: l.Queries, Seconds: l.Seconds, Rows: l.Rows, Bytes: l.Bytes}})
	}
	for _, l := range p.Labels {
		r.put(l.Label, access.PutLabel{Label: l.Label, Topic: l.Topic, Level: access.Level(l.Level)})
	}
	for _, g := range p.Guardrails {
		r.put(g.Guardrail, guard.PutGuardrail{Name: g.Guardrail, Kind: guard.Kind(g.Kind), Mode: guard.Mode(g.Mode), Object: g.Object, Except: g.Except,
			Roles: g.Roles, Most: g.Most, Comment: g.Comment})
	}
	return r.policies(p.Policies)
}

func (r *reader) place(p Place) error {
	if placeFile(p.Place) != r.file.Path {
		return r.bad(p.Place, "%s is written in %s", p.Place, placeFile(p.Place))
	}
	for _, o := range p.Owners {
		r.put(o.Object, access.SetOwner{Object: o.Object, Owner: o.Owner})
	}
	for _, l := range p.Labels {
		r.put(l.Object, policy.PlaceLabel{Label: l.Label, Object: l.Object})
	}
	for _, x := range p.Relationships {
		if len(x.From) == 0 || len(x.From) != len(x.To) {
			return r.bad("relationships", "a relationship leads from columns to as many columns")
		}
		r.put(x.From[0], policy.PutRelationship{From: x.From, To: x.To, Declared: true})
	}
	for _, v := range p.Views {
		r.put(v.View, access.PutView{Path: v.View, Text: v.Text, Rights: access.ViewRights(v.Rights), Sealed: v.Sealed})
	}
	return r.policies(p.Policies)
}

func (r *reader) policies(list []Policy) error {
	for _, p := range list {
		scope := policy.ScopeText{Name: p.Policy, For: p.For, Except: p.Except, Purposes: p.Purposes, Status: policy.Status(p.Status), Comment: p.Comment}
		switch {
		case p.Rows != "" && p.Treat == "":
			r.put(p.Policy, policy.PutRowPolicy{ScopeText: scope, Table: p.Rows, Mode: policy.Mode(p.Mode), Commands: policy.Commands(p.Commands), Rule: p.Rule,
				Follow: p.Follow, Via: p.Via})
		case p.Treat != "" && p.Rows == "" && (len(p.Columns) > 0) != (p.Label != ""):
			c := policy.PutColumnPolicy{ScopeText: scope, Label: p.Label, Columns: p.Columns, When: p.When, Treat: p.Treat}
			if p.Arguments != nil {
				c.Treatment = *p.Arguments
			}
			r.put(p.Policy, c)
		default:
			return r.bad(p.Policy, "the policy %s has rows_of, or treat with columns or a label", p.Policy)
		}
	}
	return nil
}

// Differ lists where what files ask for differs from what was decided in a state, as files would have
// it.
func (w *Wanted) Differ(decided []outline.Thing) []outline.Difference {
	have := make(map[string]outline.Thing, len(decided))
	for _, t := range decided {
		have[t.Name()] = t
	}
	var out []outline.Difference
	asked := map[string]bool{}
	for _, t := range w.Things {
		asked[t.Name()] = true
		if is := have[t.Name()]; is == nil || !outline.Same(is, t) && text(is) != text(t) {
			out = append(out, outline.Difference{Before: is, After: t})
		}
	}
	for _, t := range decided {
		if !asked[t.Name()] && !w.same[Home(t)] && w.Covers(t) {
			out = append(out, outline.Difference{Before: t})
		}
	}
	return out
}
