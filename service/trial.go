package service

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
	"gneiss/store"
	"gneiss/wire"
)

// mostTried bounds the standpoints that a trial counts rows for when it is not
// told which.
const mostTried = 12

// TryPolicy says what a policy would do if it were live: what each standpoint
// sees of the tables that it is about now, and would see. Nothing is changed.
func (s *Service) TryPolicy(ctx context.Context, c Caller, in wire.PolicyTrial) (wire.TrialResult, error) {
	st := s.state()
	out := wire.TrialResult{Phrases: []wire.Phrase{}, Notes: []string{}, Counts: []wire.TrialCount{}}
	if err := s.writesPolicies(st, c, in.Table); err != nil {
		return out, err
	}
	if in.Name == "" {
		in.Name = "trial"
	}
	in.Status = string(policy.Live)
	what, err := s.policyChange(st, c, in.Policy)
	if err != nil {
		return out, err
	}
	if rows, ok := what.(policy.PutRowPolicy); ok {
		out.Rule = rows.Rule
		if found, join := phrases(rows.Rule); len(found) > 0 {
			out.Phrases, out.Join = found, join
		}
	}
	if err := s.mayChange(st, c, what); err != nil {
		return out, s.refuse(c, "trial", "a policy on "+in.Table, err)
	}
	then, err := st.apply(what, s.now())
	if err != nil {
		return out, err
	}
	if err := s.mayLend(then, c, what); err != nil {
		return out, s.refuse(c, "trial", "a policy on "+in.Table, err)
	}
	if err := s.checkPolicies(st, then, []change{what}); err != nil {
		return out, err
	}
	out.Sentence = sentence(then, in.Name)
	out.Notes = append(out.Notes, s.policyNotes(then, in.Name)...)
	// A trial counts rows by values that its maker may not see, so it is on record.
	if err := s.record(&store.Record{Actor: st.model.Ref(c.User), Action: "trial", Decision: "allowed", Text: out.Sentence,
		Objects: jsonList([]string{in.Table}), Address: c.Address}); err != nil {
		return out, err
	}
	own, err := s.standAt(st, c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	lane, err := s.lane(c, own, "") // a trial is the caller's own work, whoever it looks as
	if err != nil {
		return out, s.refuse(c, "trial", out.Sentence, err)
	}
	t := &trial{s: s, counter: s.counter(ctx, lane), before: st, after: then, out: &out}
	for _, table := range t.tables(in.Name) {
		switch {
		case len(in.Standpoints) > 0:
			err = t.as(c, table, in.Standpoints)
		case s.manages(st, c, access.PlatformID):
			t.touched(c, table)
		default: // to look as somebody else is not theirs
			err = t.as(c, table, []wire.Standpoint{{}})
		}
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

// a trial compares a state with the one that a policy would make.
type trial struct {
	s *Service
	*counter
	before, after *state
	out           *wire.TrialResult
}

// tables lists those that the policy of the name is about, before or after.
func (t *trial) tables(name string) []*access.Object {
	ids := map[access.ObjectID]bool{}
	for _, st := range []*state{t.before, t.after} {
		row, column := st.policies.Find(name)
		if row != nil {
			for _, table := range st.covered(row) {
				ids[table.ID] = true
			}
		}
		if column != nil {
			for _, id := range st.policies.Treated(column, st.model) {
				ids[st.model.Object(id).Parent] = true
			}
		}
	}
	var tables []*access.Object
	for _, id := range slices.Sorted(maps.Keys(ids)) {
		tables = append(tables, t.after.model.Object(id))
	}
	return tables
}

// as compares for the standpoints that are asked for.
func (t *trial) as(c Caller, table *access.Object, standpoints []wire.Standpoint) error {
	for _, at := range standpoints {
		p, err := t.s.standAt(t.before, c, at)
		if err != nil {
			return err
		}
		t.compare(c, table, p.Session, p.words)
	}
	return nil
}

// touched compares for the users and services that the policy makes a difference
// to.
func (t *trial) touched(c Caller, table *access.Object) {
	now := t.s.now()
	for _, id := range t.before.actors(access.PublicID, now) {
		session := access.Session{Subject: id}
		was, err := t.before.stand(session, now)
		if err != nil || !was.Resolve(table.ID).Allowed.Has(access.Select) {
			continue
		}
		is, err := t.after.stand(session, now)
		if err != nil {
			continue
		}
		a, b := t.before.policies.Govern(was, table.ID), t.after.policies.Govern(is, table.ID)
		if sameRules(&a.Rules, &b.Rules) && len(otherwise(t.after.model, table, a, b)) == 0 {
			continue
		}
		if len(t.out.Counts) >= mostTried {
			t.out.More++
			continue
		}
		t.compare(c, table, session, t.before.model.Ref(id))
	}
}

func sameRules(a, b *policy.Rules) bool {
	return a.Closed == b.Closed && slices.EqualFunc(a.All(), b.All(), func(p, q *policy.RowPolicy) bool { return reflect.DeepEqual(p, q) })
}

// otherwise says which columns appear otherwise by the second governance.
func otherwise(m *access.Model, table *access.Object, was, is policy.Governance) []string {
	said := []string{}
	for _, id := range table.Children {
		if a, b := treatmentSays(was.Columns[id]), treatmentSays(is.Columns[id]); a != b {
			said = append(said, access.Quote(m.Object(id).Name)+" "+b)
		}
	}
	return said
}

// treatmentSays says how a column appears.
func treatmentSays(d policy.Decision) string {
	says := d.Treatment.String()
	if d.Partly() {
		says += " for some rows"
	}
	return says
}

// compare adds what one session sees of a table before and after.
func (t *trial) compare(c Caller, table *access.Object, session access.Session, words string) {
	n := wire.TrialCount{Standing: words, Table: t.after.model.Path(table.ID), Columns: []string{}}
	now := t.s.now()
	was, err := t.before.stand(session, now)
	if err == nil {
		var is *access.Standing
		if is, err = t.after.stand(session, now); err == nil {
			n.Columns = otherwise(t.after.model, table, t.before.policies.Govern(was, table.ID), t.after.policies.Govern(is, table.ID))
		}
	}
	if err == nil {
		n.Total, err = t.all(t.before, table)
	}
	if err == nil {
		n.Now, err = t.rows(t.before, session, table)
	}
	if err == nil {
		n.Then, err = t.rows(t.after, session, table)
	}
	if err != nil {
		n.Problem = t.s.told(t.before, c, err).Detail
	}
	t.out.Counts = append(t.out.Counts, n)
}

// a counter counts rows of tables, each governed query once.
type counter struct {
	s     *Service
	ctx   context.Context
	lane  *access.Object
	known map[string]int64
}

func (s *Service) counter(ctx context.Context, lane *access.Object) *counter {
	return &counter{s, ctx, lane, map[string]int64{}}
}

// rows counts the rows of a table that are there for a session.
func (c *counter) rows(st *state, session access.Session, table *access.Object) (int64, error) {
	standing, err := st.stand(session, c.s.now())
	if err != nil {
		return 0, err
	}
	plan, err := st.plan(standing, "SELECT count(*) FROM "+st.model.Path(table.ID), nil)
	if err != nil {
		return 0, err
	}
	return c.run(plan)
}

// all counts a table's rows whoever may see them, for who manages it: as the
// administrator role, which reads all tables, without policies.
func (c *counter) all(st *state, table *access.Object) (int64, error) {
	role, err := st.model.FindSubject(access.Administrator)
	if err != nil {
		return 0, err
	}
	standing, err := st.stand(access.Session{Subject: role.ID}, c.s.now())
	if err != nil {
		return 0, err
	}
	plan, err := query.Make("SELECT count(*) FROM "+st.model.Path(table.ID), nil, standing, &policy.Set{})
	if err != nil {
		return 0, err
	}
	return c.run(plan)
}

// run runs a plan that gives one number.
func (c *counter) run(plan *query.Plan) (n int64, err error) {
	key := fmt.Sprint(plan.SQL, plan.Args)
	if n, ok := c.known[key]; ok {
		return n, nil
	}
	err = c.s.run(c.ctx, c.lane, plan, source.Bind(plan.Args, c.s.facts(c.s.now())), func(row []any) error {
		n = row[0].(int64)
		return nil
	})
	if err == nil {
		c.known[key] = n
	}
	return n, err
}
