// Package files writes what administrators decided as files for version control, and reads them: YAML
// 1.2, one file a schema and one a role. What is in a source, and secrets, are not in them.
package files

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
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

// A File is one of them, by its path below the folder.
type File struct {
	Path string
	Text string
}

// What each kind of file holds. A field that is not given is as it is on a new platform.
type (
	// Platform is platform.yaml: what is about no single role or schema.
	Platform struct {
		Bundles    []Bundle    `json:"bundles,omitempty"`
		Lanes      []Lane      `json:"lanes,omitempty"`
		Labels     []Label     `json:"labels,omitempty"`
		Policies   []Policy    `json:"policies,omitempty" description:"on labels"`
		Guardrails []Guardrail `json:"guardrails,omitempty"`
	}
	// Tests is tests.yaml.
	Tests struct {
		Tests []Test `json:"tests"`
	}
	// People is subjects.yaml: users, services and groups, and what is granted to them.
	People struct {
		Subjects    []Subject `json:"subjects,omitempty"`
		Memberships []Member  `json:"memberships,omitempty" description:"in groups"`
		Grants      []Grant   `json:"grants,omitempty" description:"to users, services, groups and public"`
	}
	// Role is roles/NAME.yaml.
	Role struct {
		Role    string   `json:"role"`
		Title   string   `json:"title,omitempty"`
		Holders []Member `json:"holders,omitempty"`
		Grants  []Grant  `json:"grants,omitempty"`
	}
	// Place is schemas/SOURCE.SCHEMA.yaml, or schemas/SOURCE.yaml for what is about a whole source.
	Place struct {
		Place         string         `json:"place"`
		Owners        []Owner        `json:"owners,omitempty"`
		Labels        []Placement    `json:"labels,omitempty"`
		Relationships []Relationship `json:"relationships,omitempty"`
		Views         []View         `json:"views,omitempty"`
		Policies      []Policy       `json:"policies,omitempty"`
	}

	Bundle struct {
		Bundle     string   `json:"bundle"`
		Privileges []string `json:"privileges"`
	}
	Lane struct {
		Lane    string `json:"lane"`
		Queries int    `json:"queries" description:"at once"`
		Seconds int    `json:"seconds"`
		Rows    int    `json:"rows"`
		Bytes   int64  `json:"bytes"`
	}
	Label struct {
		Label string `json:"label"`
		Topic string `json:"topic,omitempty"`
		Level string `json:"level,omitempty"`
	}
	Subject struct {
		Subject    string              `json:"subject"`
		Title      string              `json:"title,omitempty"`
		Disabled   bool                `json:"disabled,omitempty"`
		Lead       string              `json:"lead,omitempty"`
		Attributes map[string][]string `json:"attributes,omitempty"`
	}
	Member struct {
		Member string `json:"member"`
		Of     string `json:"of,omitempty" description:"the group; of a role's holders, the role"`
		By     string `json:"by,omitempty"`
		Until  string `json:"until,omitempty"`
		Option bool   `json:"admin_option,omitempty"`
		Passed bool   `json:"passed_on,omitempty"`
		Reason string `json:"reason,omitempty"`
		Ticket string `json:"ticket,omitempty"`
	}
	Grant struct {
		Privilege string `json:"privilege" description:"or a bundle"`
		Object    string `json:"object"`
		To        string `json:"to,omitempty" description:"in a role's file, the role"`
		By        string `json:"by,omitempty" description:"who loads the file, when empty"`
		Option    bool   `json:"grant_option,omitempty"`
		Until     string `json:"until,omitempty"`
		Reason    string `json:"reason,omitempty"`
		Ticket    string `json:"ticket,omitempty"`
	}
	Owner struct {
		Object string `json:"object"`
		Owner  string `json:"owner"`
	}
	Placement struct {
		Label  string `json:"label"`
		Object string `json:"object"`
	}
	Relationship struct {
		From []string `json:"from"`
		To   []string `json:"to"`
	}
	View struct {
		View   string `json:"view"`
		Text   string `json:"text"`
		Rights string `json:"rights"`
		Sealed bool   `json:"sealed,omitempty"`
	}
	Policy struct {
		Policy    string            `json:"policy"`
		Rows      string            `json:"rows_of,omitempty" description:"of a row policy: a table, a pattern or a label"`
		Columns   []string          `json:"columns,omitempty" description:"of a column policy: their paths, or one pattern"`
		Label     string            `json:"label,omitempty" description:"of a column policy: the label instead"`
		Mode      string            `json:"mode,omitempty"`
		Commands  string            `json:"commands,omitempty"`
		Rule      string            `json:"rule,omitempty"`
		Follow    string            `json:"follow,omitempty"`
		Via       []string          `json:"via,omitempty"`
		When      string            `json:"when,omitempty"`
		Treat     string            `json:"treat,omitempty"`
		Arguments *policy.Treatment `json:"with,omitempty"`
		For       []string          `json:"for,omitempty"`
		Except    []string          `json:"except,omitempty"`
		Purposes  []string          `json:"purposes,omitempty"`
		Status    string            `json:"status,omitempty"`
		Comment   string            `json:"comment,omitempty"`
	}
	Guardrail struct {
		Guardrail string   `json:"guardrail"`
		Kind      string   `json:"kind"`
		Mode      string   `json:"mode"`
		Object    string   `json:"object,omitempty"`
		Except    []string `json:"except,omitempty"`
		Roles     []string `json:"roles,omitempty"`
		Most      int      `json:"most,omitempty"`
		Comment   string   `json:"comment,omitempty"`
	}
	Test struct {
		Test    string            `json:"test"`
		Subject string            `json:"subject"`
		Role    string            `json:"role,omitempty"`
		Purpose string            `json:"purpose,omitempty"`
		Table   string            `json:"table"`
		May     []string          `json:"may,omitempty"`
		MayNot  []string          `json:"may_not,omitempty"`
		Rows    *int64            `json:"rows,omitempty"`
		Where   string            `json:"where,omitempty"`
		Columns map[string]string `json:"columns,omitempty"`
		Comment string            `json:"comment,omitempty"`
	}
)

const (
	platformFile = "platform.yaml"
	testsFile    = "tests.yaml"
	peopleFile   = "subjects.yaml"
)

func roleFile(name string) string  { return "roles/" + url.PathEscape(name) + ".yaml" }
func placeFile(path string) string { return "schemas/" + url.PathEscape(path) + ".yaml" }

// Home is the file that a thing is in.
func Home(t outline.Thing) string {
	switch c := only(t).(type) {
	case access.AddSubject:
		if role, is := strings.CutPrefix(c.Subject, "role:"); is {
			return roleFile(role)
		}
		return peopleFile
	case access.Join:
		if role, is := strings.CutPrefix(c.Of, "role:"); is {
			return roleFile(role)
		}
		return peopleFile
	case access.AddGrant:
		if role, is := strings.CutPrefix(c.Subject, "role:"); is {
			return roleFile(role)
		}
		return peopleFile
	case access.SetOwner:
		return homeOf(c.Object)
	case access.PutView:
		return homeOf(c.Path)
	case policy.PlaceLabel:
		return homeOf(c.Object)
	case policy.PutRelationship:
		return homeOf(c.From[0])
	case policy.PutRowPolicy:
		return homeOf(c.Table)
	case policy.PutColumnPolicy:
		if c.Label == "" {
			return homeOf(c.Columns[0])
		}
	case guard.PutTest:
		return testsFile
	}
	return platformFile
}

// only is the first change that makes a thing, which says what it is.
func only(t outline.Thing) any { return outline.Changes(t)[0] }

func homeOf(path string) string {
	within, _ := access.CutPattern(path)
	parts, err := access.ParsePath(within)
	if err != nil || len(parts) == 0 || strings.Contains(parts[0], ":") || within == "platform" {
		return platformFile
	}
	return placeFile(access.JoinPath(parts[:min(len(parts), 2)]...))
}

func day(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

// Write writes the files of a state: the same state, the same bytes.
func Write(st outline.State) ([]File, error) {
	w := &writer{roles: map[string]*Role{}, places: map[string]*Place{}}
	for _, t := range outline.Decided(st) {
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
		side.Go(func() error {
			text, err := yaml.MarshalWithOptions(all[out[i].Path], yaml.IndentSequence(true), yaml.UseLiteralStyleIfMultiline(true))
			out[i].Text = string(text)
			return err
		})
	}
	return out, side.Wait()
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

// Differ lists where what files ask for differs from a state, as files would have it.
func (w *Wanted) Differ(st outline.State) []outline.Difference {
	decided := outline.Decided(st)
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
		if !asked[t.Name()] && w.Covers(t) {
			out = append(out, outline.Difference{Before: t})
		}
	}
	return out
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

// A Wanted is what files ask for.
type Wanted struct {
	Things []outline.Thing
	Lines  map[string]string // the file and line of each, by its name
	Whole  bool              // what is in none of the files is to go, too
	files  map[string]bool
}

// Covers reports whether a thing would be in one of the files that were read: where it is in none of
// them, it is to go.
func (w *Wanted) Covers(t outline.Thing) bool { return w.Whole || w.files[Home(t)] }

// Read reads files. Grants that do not say by whom are by the one who loads them. A word that is not
// known is refused, with its place and the nearest.
func Read(list []File, loader string) (*Wanted, error) {
	all := &Wanted{Lines: map[string]string{}, files: map[string]bool{}}
	readers := make([]*reader, len(list))
	for i, f := range list {
		if all.files[f.Path] {
			return nil, fault.New(fault.Invalid, "bad_file", "%s is there twice", f.Path)
		}
		all.files[f.Path] = true
		readers[i] = &reader{Wanted: &Wanted{Lines: map[string]string{}}, loader: loader, file: f}
	}
	errs := make([]error, len(list))
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

type reader struct {
	*Wanted
	loader string
	file   File
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
	n := 0
	for line := range strings.Lines(r.file.Text) {
		n++
		if _, value, found := strings.Cut(strings.TrimSpace(line), ": "); found && strings.Trim(value, `"'`) == text {
			return fmt.Sprintf("%s:%d", r.file.Path, n)
		}
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
