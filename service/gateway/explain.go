package gateway

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/source"
	"gneiss/wire"
)

// ShowsPlan reports whether the caller may see what a plan is made of: policies
// and the tables that they read, which is for who may review the tables.
func (s *Service) ShowsPlan(st *platform.State, c identity.Caller, plan *emit.Plan) bool {
	for _, t := range plan.Tables {
		if !s.identity.ReviewsObject(st, c, t.Table) {
			return false
		}
	}
	for _, table := range plan.Behind {
		if !s.identity.ReviewsObject(st, c, table) {
			return false
		}
	}
	return true
}

// ShowPlan is what --show-plan prints. The database plans with secrets that are made up for it:
// it folds constants into what it shows, so the platform's own never go there.
func (s *Service) ShowPlan(
	ctx context.Context,
	c identity.Caller,
	p *identity.Viewer,
	lane *access.Object,
	plan *emit.Plan,
	planned time.Duration,
) (*wire.Plan, error) {
	args := source.Bind(plan.Args, source.Facts{Start: time.Now(), Key: rand.Text()})
	out := &wire.Plan{SQL: plan.SQL, Args: []string{}, Policies: []string{}, Tables: []wire.Shaped{}, PlanUS: planned.Microseconds()}
	for i, a := range plan.Args {
		text := map[bool]string{true: "the key of pseudonyms", false: "a secret of this query's"}[a.Key]
		if !a.Key && !a.Nonce {
			value, err := json.Marshal(args[i])
			if err != nil {
				return nil, err
			}
			text = string(value)
		}
		out.Args = append(out.Args, fmt.Sprintf("%s%d = %s", plan.Mark, i+1, text))
	}
	for _, t := range plan.Tables {
		out.Policies = append(out.Policies, PolicySentences(p, t.Table)...)
		out.Tables = append(out.Tables, shaped(p.Model, t))
	}
	if hidden := s.hiddenFrom(p.State, c, plan); hidden != 0 {
		out.Database = []string{
			fmt.Sprintf(
				"The database's plan contains estimates made from all rows and values, so it is shown only to those who see all rows of %s, and all columns in clear.",
				p.Model.Path(hidden),
			),
		}
		return out, nil
	}
	ctx, leave, err := s.traffic.enter(ctx, lane, c.User)
	if err != nil {
		return nil, err
	}
	defer leave()
	src, err := s.planSource(ctx, plan)
	if err != nil {
		return nil, err
	}
	out.Database, err = src.Explain(ctx, plan.SQL, args)
	return out, err
}

// hiddenFrom finds a table of a plan of which the caller, as themself, does not see
// all rows, or not all columns in clear; zero: none.
func (s *Service) hiddenFrom(st *platform.State, c identity.Caller, plan *emit.Plan) access.ObjectID {
	own, err := s.identity.Own(st, c)
	ids := slices.Clone(plan.Behind)
	for _, t := range plan.Tables {
		ids = append(ids, t.Table)
	}
	for _, id := range ids {
		if o := st.Model.Object(id); o.Kind == access.Table && (err != nil || !query.SeesAllRows(own, st.Policies, id) || treats(own, st, id)) {
			return id
		}
	}
	return 0
}

// treats reports whether policies treat a column of a table for somebody.
func treats(own *access.Rights, st *platform.State, table access.ObjectID) bool {
	for _, d := range st.Policies.Govern(own, table).Columns {
		if d.Treatment.Kind != policy.Clear {
			return true
		}
	}
	return false
}

// explain gives the plan of a statement, line by line, and does not run it.
func (a *asked) explain(ctx context.Context, answer Answer) (End, error) {
	if !a.ShowsPlan(a.st, a.caller, a.plan) {
		return End{}, a.identity.RefuseFrom(a.caller, a.viewer, a.record, fault.New(
			fault.Refused,
			"refused",
			"EXPLAIN shows the policies behind a query; it needs DESCRIBE or MANAGE on all its tables and on those that the policies read",
		))
	}
	shown, err := a.ShowPlan(ctx, a.caller, a.viewer, a.lane, a.plan, a.planned)
	if err != nil {
		return a.failed(err)
	}
	if _, err := answer.Head(Head{[]query.Column{{Name: "plan", Type: query.Text}}, false, a.viewer.Words, a.lane.Name}); err != nil {
		return a.failed(err)
	}
	kept := keptOf(a.viewer, a.plan)
	a.record.Objects, a.record.Labels = kept.objects, kept.labels
	o := a.newOutflow(answer, a.record)
	lines := append(strings.Split(shown.SQL, "\n"), shown.Args...)
	for _, text := range shown.Policies {
		lines = append(lines, fmt.Sprintf("policy %s", text))
	}
	for _, text := range shown.Database {
		lines = append(lines, fmt.Sprintf("database: %s", text))
	}
	for _, text := range lines {
		if err := o.row([][]byte{[]byte(text)}); err != nil {
			return End{}, a.identity.Failed(a.viewer, o.ending(), a.started, err)
		}
	}
	if err := o.end(a.started); err != nil {
		return End{}, err
	}
	end := a.end()
	end.Rows, end.Explain = o.rows, true
	return end, nil
}

// shaped says what the policies made of a table.
func shaped(m *access.Model, t query.TableUse) wire.Shaped {
	out := wire.Shaped{Table: m.Path(t.Table), Closed: t.Governance.Closed, Rows: []string{}, Columns: []wire.ShapedColumn{}}
	for _, p := range t.Governance.All() {
		out.Rows = append(out.Rows, p.Name)
	}
	for _, id := range t.Columns {
		d, ok := t.Governance.Columns[id]
		if !ok {
			continue
		}
		out.Columns = append(out.Columns, wire.ShapedColumn{Name: m.Object(id).Name, Treatment: d.Treatment.String(), Partly: d.Partly(),
			By: policy.Names(d.By), Lost: policy.Names(d.Lost), Lifted: policy.Names(d.Lifted), Conflict: d.Conflict})
	}
	return out
}

// PolicySentences lists what the live policies of a table make of it here.
func PolicySentences(p *identity.Viewer, table access.ObjectID) []string {
	g := p.State.Policies.Govern(p.Rights, table)
	out := []string{}
	for _, r := range g.All() {
		out = append(out, r.Name+": "+r.Sentence(p.Model, query.Words))
	}
	for _, gone := range g.Gone {
		out = append(
			out,
			fmt.Sprintf(
				"%s: treats the column %s, which is gone from the source, so the table is closed",
				gone.Policy.Name,
				p.Model.Object(gone.Column).Name,
			),
		)
	}
	if g.Closed {
		out = append(out, "row policies are live on the table, and none allows any row here")
	}
	for _, id := range slices.Sorted(maps.Keys(g.Columns)) {
		d := g.Columns[id]
		for _, c := range d.By {
			if line := c.Name + ": " + c.Sentence(p.Model, query.Words); !slices.Contains(out, line) {
				out = append(out, line)
			}
		}
		for _, c := range d.Lost {
			out = append(out, fmt.Sprintf("%s: takes no effect on %s, because a stricter policy wins", c.Name, p.Model.Object(id).Name))
		}
		for _, c := range d.Lifted {
			out = append(out, fmt.Sprintf("%s: takes no effect on %s, because REVEAL lifts it", c.Name, p.Model.Object(id).Name))
		}
		if d.Conflict {
			out = append(
				out,
				fmt.Sprintf(
					"policies on %s conflict: they ask for one treatment with different arguments, so the value is suppressed",
					p.Model.Object(id).Name,
				),
			)
		}
	}
	return out
}
