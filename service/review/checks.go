package review

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// Guarded is a state as guardrails are checked on it.
func (s *Service) Guarded(st *platform.State, now time.Time) guard.State {
	return guard.State{Model: st.Model, Policies: st.Policies, Now: now, Census: st.Census(now),
		Rights: func(at access.Standpoint) (*access.Rights, error) { return st.Rights(at, now) }}
}

// Touched is what changes can make a difference to, and the grants that they add.
func (s *Service) Touched(before, after *platform.State, changes []platform.Change) (pairs []guard.Pair, added []*access.Grant) {
	pairs = []guard.Pair{}
	for _, t := range touches(before, after, changes) {
		pairs = append(pairs, guard.Pair{Subject: t.subject, Object: t.object})
	}
	for _, c := range changes {
		if c, is := c.(access.AddSubject); is { // who comes has what everyone has
			if subject, err := after.Model.FindSubject(c.Subject); err == nil {
				pairs = append(pairs, guard.Pair{Subject: subject.ID, Object: access.PlatformID})
			}
		}
	}
	for _, id := range access.Changed(before.Model, after.Model).Grants {
		if g := after.Model.GrantOf(id); g != nil {
			added = append(added, g)
		}
	}
	return pairs, added
}

// Reached tells of an object whether changes make a difference to anybody at or below it, or are about
// what is there.
func (s *Service) Reached(before, after *platform.State, changes []platform.Change, now time.Time) func(access.ObjectID) bool {
	all, more := s.comparisons(before, after, changes, identity.Caller{}, now)
	var places []access.ObjectID
	for _, c := range all {
		for _, d := range slices.Concat(c.gains, c.loses) {
			places = append(places, d.relation)
		}
	}
	for _, t := range touches(before, after, changes) {
		if t.object != access.PlatformID {
			places = append(places, t.object)
		}
	}
	return func(id access.ObjectID) bool {
		return more || slices.ContainsFunc(places, func(place access.ObjectID) bool {
			return place != 0 && (after.Model.Within(id, place) || after.Model.Within(place, id))
		})
	}
}

// BreachSays says what breaks a guardrail, with the way by which somebody sees something.
func (s *Service) BreachSays(st *platform.State, b guard.Breach) string {
	if b.Subject == 0 || b.Object == 0 || b.Grant != nil {
		return b.Says
	}
	rights, err := st.Rights(access.Standpoint{Subject: b.Subject}, time.Now())
	if err != nil {
		return b.Says
	}
	paths := s.paths(&identity.Viewer{Rights: rights, State: st, Reviews: true}, access.Select, b.Object)
	if len(paths) == 0 {
		return b.Says
	}
	return b.Says + say.PathOf.With(paths[0].Says)
}

// Checks lists the guardrails and access tests.
func (s *Service) Checks(c identity.Caller) (wire.Checks, error) {
	st := s.identity.State(c)
	out := wire.Checks{Guardrails: []wire.Guardrail{}, Tests: []wire.AccessTest{}, Revision: st.Revision}
	if !s.identity.Reviews(st, c) {
		return out, identity.Wants(st.Authority(), access.Describe, access.PlatformID)
	}
	for _, g := range st.Guards.Guardrails() {
		a := g.Again(st.Model)
		out.Guardrails = append(out.Guardrails, wire.Guardrail{Name: a.Name, Kind: string(a.Kind), Mode: string(a.Mode), Object: a.Object, Except: a.Except,
			Roles: a.Roles, Most: a.Most, Comment: a.Comment, Sentence: g.Sentence(st.Model)})
	}
	for _, t := range st.Guards.Tests() {
		a := t.Again(st.Model)
		out.Tests = append(out.Tests, wire.AccessTest{Name: a.Name, Subject: a.Subject, Role: a.Role, Purpose: a.Purpose, Table: a.Table, May: a.May,
			MayNot: a.MayNot,
			Rows:   a.Rows, Where: a.Where, Columns: a.Columns, Comment: a.Comment, Sentence: t.Sentence(st.Model)})
	}
	return out, nil
}

// Check runs guardrails and access tests: those that are named, or all. Rows are counted for who may
// look as others.
func (s *Service) Check(ctx context.Context, c identity.Caller, names []string) (wire.CheckResults, error) {
	st := s.identity.State(c)
	out := wire.CheckResults{Results: []wire.CheckResult{}, Revision: st.Revision, About: strings.TrimSpace(c.About())}
	if !s.identity.Reviews(st, c) {
		return out, identity.Wants(st.Authority(), access.Describe, access.PlatformID)
	}
	if err := known(st, names); err != nil {
		return out, err
	}
	var err error
	if out.Results, err = s.tester(ctx, c, st).all(names); err != nil {
		return out, err
	}
	for _, r := range out.Results {
		if r.Status != "holds" {
			out.Failed++
		}
	}
	return out, nil
}

// all runs the checks: those that are named, or all.
func (t *tester) all(names []string) ([]wire.CheckResult, error) {
	out := []wire.CheckResult{}
	wanted := func(name string) bool { return len(names) == 0 || slices.Contains(names, name) }
	now := time.Now()
	for _, g := range t.st.Guards.Guardrails() {
		if !wanted(g.Name) {
			continue
		}
		started := time.Now()
		r := wire.CheckResult{Name: g.Name, Kind: "guardrail", Sentence: g.Sentence(t.st.Model), Mode: string(g.Mode), Status: "holds", Says: []string{}}
		broken := g.Broken(t.s.Guarded(t.st, now), nil, nil)
		for _, b := range broken {
			r.Status, r.Says = "fails", append(r.Says, t.s.BreachSays(t.st, b))
		}
		if len(broken) == guard.MostBreaches {
			r.Says = append(r.Says, say.MaybeMore.With())
		}
		r.TookMS = ms(started)
		out = append(out, r)
	}
	for _, test := range t.st.Guards.Tests() {
		if wanted(test.Name) {
			started := time.Now()
			r := t.run(test)
			r.TookMS = ms(started)
			out = append(out, r)
		}
		if t.ctx.Err() != nil {
			return out, t.ctx.Err()
		}
	}
	return out, t.err
}

// Breaks are the checks that hold now, and would not with a draft.
func (s *Service) Breaks(ctx context.Context, c identity.Caller, draft string) ([]wire.CheckResult, error) {
	out := []wire.CheckResult{}
	through, err := s.identity.Looking(ctx, c, wire.Moment{Draft: draft})
	if err != nil {
		return out, err
	}
	then, err := s.Check(ctx, through, nil)
	if err != nil || then.Failed == 0 {
		return out, err
	}
	now, err := s.Check(ctx, c, nil)
	if err != nil {
		return out, err
	}
	failing := map[string]string{}
	for _, r := range now.Results {
		if r.Status != "holds" {
			failing[r.Kind+" "+r.Name] = strings.Join(r.Says, "; ")
		}
	}
	for _, r := range then.Results {
		if said, already := failing[r.Kind+" "+r.Name]; r.Status == "fails" && (!already || said != strings.Join(r.Says, "; ")) {
			out = append(out, r)
		}
	}
	return out, nil
}

func ms(since time.Time) float64 { return float64(time.Since(since).Microseconds()) / 1000 }

func known(st *platform.State, names []string) error {
	var all []string
	for _, g := range st.Guards.Guardrails() {
		all = append(all, g.Name)
	}
	for _, t := range st.Guards.Tests() {
		all = append(all, t.Name)
	}
	for _, name := range names {
		if !slices.Contains(all, name) {
			return &access.NotFound{Kind: "check", Name: name, Known: all}
		}
	}
	return nil
}

// a tester runs access tests over one state: each standpoint and table is asked once.
type tester struct {
	s        *Service
	ctx      context.Context
	c        identity.Caller
	st       *platform.State
	counter  *gateway.Counter
	refused  error // why rows are not counted
	recorded bool
	err      error
	stands   map[access.Standpoint]*identity.Viewer
}

func (s *Service) tester(ctx context.Context, c identity.Caller, st *platform.State) *tester {
	t := &tester{s: s, ctx: ctx, c: c, st: st, stands: map[access.Standpoint]*identity.Viewer{}}
	if !s.identity.Manages(st, c, access.PlatformID) {
		t.refused = identity.Wants(st.Authority(), access.Manage, access.PlatformID)
		return t
	}
	now := s.platform.Current()
	own, err := s.identity.ViewerAt(now, c, wire.Standpoint{})
	if err == nil {
		var lane *access.Object
		if lane, err = s.gateway.Lane(c, own, ""); err == nil {
			t.counter = s.gateway.Counter(c.User, lane)
		}
	}
	t.refused = err
	return t
}

// viewer is a standpoint, worked out once.
func (t *tester) viewer(at access.Standpoint) (*identity.Viewer, error) {
	if v := t.stands[at]; v != nil {
		return v, nil
	}
	if !t.st.Model.HasSubject(at.Subject) {
		return nil, fault.New(fault.NotFound, "gone", "%s", say.SubjectGone.With(t.st.Model.Ref(at.Subject)))
	}
	rights, err := t.st.Rights(at, time.Now())
	if err != nil {
		return nil, err
	}
	v := &identity.Viewer{Rights: rights, State: t.st, Reviews: true}
	t.stands[at] = v
	return v, nil
}

func (t *tester) run(test *guard.Test) wire.CheckResult {
	r := wire.CheckResult{Name: test.Name, Kind: "test", Sentence: test.Sentence(t.st.Model), Status: "holds", Says: []string{}}
	fails := func(what string) { r.Status, r.Says = "fails", append(r.Says, what) }
	table := t.st.Model.Object(test.Table)
	v, err := t.viewer(test.Standpoint())
	switch {
	case err != nil:
		fails(fault.Of(err).Detail)
		return r
	case table.Missing:
		fails(say.TableGone.With(t.st.Model.Path(table.ID)))
		return r
	}
	allowed := v.Resolve(table.ID).Allowed
	if lacks := test.May &^ allowed; lacks != 0 {
		fails(say.Expected.With("to have "+lacks.String(), "it missing"))
	}
	if has := test.MayNot & allowed; has != 0 {
		fails(say.Expected.With("not to have "+has.String(), "it"))
	}
	shown := map[string]string{}
	for _, column := range columnViews(v, table) {
		shown[column.Name] = appears(column)
	}
	for _, name := range slices.Sorted(maps.Keys(test.Columns)) {
		if got, there := shown[name]; !there {
			fails(say.Expected.With(name+" "+test.Columns[name], "no such column"))
		} else if got != test.Columns[name] {
			fails(say.Expected.With(name+" "+test.Columns[name], got))
		}
	}
	if test.Counted {
		t.count(test, v, table, &r, fails)
	}
	return r
}

// appears says how a column appears, as tests compare it.
func appears(c wire.ColumnView) string {
	switch {
	case !c.Readable:
		return "not granted"
	case c.Treatment == "clear":
		return "in clear"
	}
	return c.Says
}

func (t *tester) count(test *guard.Test, v *identity.Viewer, table *access.Object, r *wire.CheckResult, fails func(string)) {
	if t.refused != nil {
		if r.Status == "holds" {
			r.Status = "unknown"
		}
		r.Says = append(r.Says, say.NotCountedTest.With(t.s.identity.Told(t.c, t.refused).Detail))
		return
	}
	if !t.recorded { // it counts rows that its reader may not see
		t.recorded = true
		record := t.c.Record(t.s.platform.Current().Model.Ref(t.c.User), audit.Matrix, say.CheckedRows.With())
		if t.err = t.s.audit.Write(record); t.err != nil {
			t.refused = t.err
		}
	}
	n, err := t.rows(v, table, test.Where)
	if told := fault.Of(err); err != nil && told.Passing() {
		if r.Status == "holds" {
			r.Status = "unknown"
		}
		r.Says = append(r.Says, say.NotCountedTest.With(t.s.identity.Told(t.c, err).Detail))
	} else if err != nil {
		fails(told.Detail)
	} else if n != test.Rows {
		what := "%d rows"
		if test.Where != "" {
			what += " where " + strings.ReplaceAll(test.Where, "%", "%%")
		}
		fails(say.Expected.With(fmt.Sprintf(what, test.Rows), fmt.Sprint(n)))
	}
}

// rows counts the rows of a table for a standpoint. Who may not read it sees none.
func (t *tester) rows(v *identity.Viewer, table *access.Object, where string) (int64, error) {
	if !v.Resolve(table.ID).Allowed.Has(access.Select) {
		return 0, nil
	}
	text := "SELECT count(*) FROM " + t.st.Model.Path(table.ID)
	if where != "" {
		text += " WHERE (" + where + "\n)"
	}
	plan, err := t.st.Plan(t.ctx, v.Rights, query.Statement{SQL: text})
	if err != nil {
		return 0, err
	}
	return t.counter.Count(t.ctx, plan)
}

// Baseline is an access test that states how things are.
func (s *Service) Baseline(ctx context.Context, c identity.Caller, in wire.BaselineRequest) (wire.AccessTest, error) {
	st := s.identity.State(c)
	out := wire.AccessTest{Name: in.Name, Subject: in.Subject, Role: in.Role, Purpose: in.Purpose, Columns: map[string]string{}}
	subject, err := st.Model.FindSubject(in.Subject)
	if err != nil {
		return out, err
	}
	o, err := st.Model.Lookup(in.Table)
	if err != nil {
		return out, err
	}
	if !o.Kind.IsRelation() {
		return out, fault.New(fault.Invalid, "wrong_level", "%s is a %s; an access test is about a table or view", in.Table, o.Kind)
	}
	out.Subject, out.Table = subject.Ref(), st.Model.Path(o.ID)
	if out.Name == "" {
		out.Name = PlainName(subject.Name + "-" + o.Name)
	}
	v, err := s.identity.ViewerOf(st, c, subject.ID, wire.Standpoint{Role: in.Role, Purpose: in.Purpose})
	if err != nil {
		return out, err
	}
	allowed := v.Resolve(o.ID).Allowed
	usual := access.Set(access.Select, access.Insert, access.Update, access.Delete)
	if o.Kind == access.View {
		usual = access.Set(access.Select)
	}
	out.May, out.MayNot = privilegeNames(allowed&usual), privilegeNames(usual&^allowed)
	if allowed.Has(access.Select) {
		for _, column := range columnViews(v, o) {
			out.Columns[column.Name] = appears(column)
		}
		t := s.tester(ctx, c, st)
		if t.refused != nil {
			return out, t.refused
		}
		record := c.Record(s.platform.Current().Model.Ref(c.User), audit.Matrix, out.Table)
		record.Objects = audit.List([]string{out.Table})
		if err := s.audit.Write(record); err != nil {
			return out, err
		}
		n, err := t.rows(v, o, "")
		if err != nil {
			return out, err
		}
		out.Rows = &n
	}
	return out, nil
}

// PlainName makes a name of a text, as tests and drafts have them: of a-z, 0-9, _ . and -.
func PlainName(text string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '_' || r == '.' {
			return r
		}
		return '-'
	}, strings.ToLower(text)), "-")
}
