package admin

import (
	"context"
	"maps"
	"reflect"
	"slices"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/audit"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/review"
	"gneiss/wire"
)

// mostTried bounds the standpoints that a trial counts rows for when it is not
// told which.
const mostTried = 12

// TryPolicy says what a policy would do if it were live: what each standpoint
// sees of the tables that it is about now, and would see. Nothing is changed.
func (s *Service) TryPolicy(ctx context.Context, c identity.Caller, in wire.PolicyTrial) (wire.TrialResult, error) {
	st := s.identity.State(c)
	out := wire.TrialResult{Phrases: []wire.Phrase{}, Notes: []string{}, Counts: []wire.TrialCount{}}
	if err := s.identity.WritesPolicies(st, c, in.Table); err != nil {
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
		if found, join := review.Phrases(rows.Rule); len(found) > 0 {
			out.Phrases, out.Join = found, join
		}
	}
	if err := s.mayChange(st, c, what); err != nil {
		return out, s.identity.Refuse(c, audit.Trial, "a policy on "+in.Table, err)
	}
	then, err := st.Apply(what, time.Now())
	if err != nil {
		return out, err
	}
	if err := s.mayLend(then, c, what); err != nil {
		return out, s.identity.Refuse(c, audit.Trial, "a policy on "+in.Table, err)
	}
	if err := s.checkPolicies(st, then, []platform.Change{what}); err != nil {
		return out, err
	}
	out.Sentence = sentence(then, in.Name)
	out.Notes = append(out.Notes, s.policyNotes(then, in.Name)...)
	// A trial counts rows by values that its maker may not see, so it is on record.
	record := c.Record(st.Model.Ref(c.User), audit.Trial, out.Sentence)
	record.Objects = audit.List([]string{in.Table})
	if err := s.audit.Write(record); err != nil {
		return out, err
	}
	own, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	lane, err := s.gateway.Lane(c, own, "") // a trial is the caller's own work, whoever it looks as
	if err != nil {
		return out, s.identity.Refuse(c, audit.Trial, out.Sentence, err)
	}
	t := &trial{s: s, Counter: s.gateway.Counter(c.User, lane), before: st, after: then, out: &out}
	for _, table := range t.tables(in.Name) {
		switch {
		case len(in.Standpoints) > 0:
			err = t.as(ctx, c, table, in.Standpoints)
		case s.identity.Manages(st, c, access.PlatformID):
			t.touched(ctx, c, table)
		default: // viewing as somebody else is not theirs
			err = t.as(ctx, c, table, []wire.Standpoint{{}})
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
	*gateway.Counter
	before, after *platform.State
	out           *wire.TrialResult
}

// tables lists those that the policy of the name is about, before or after.
func (t *trial) tables(name string) []*access.Object {
	ids := map[access.ObjectID]bool{}
	for _, st := range []*platform.State{t.before, t.after} {
		row, column := st.Policies.Find(name)
		if row != nil {
			for _, table := range st.Covered(row) {
				ids[table.ID] = true
			}
		}
		if column != nil {
			for _, id := range st.Policies.Treated(column, st.Model) {
				ids[st.Model.Object(id).Parent] = true
			}
		}
	}
	var tables []*access.Object
	for _, id := range slices.Sorted(maps.Keys(ids)) {
		tables = append(tables, t.after.Model.Object(id))
	}
	return tables
}

// as compares for the standpoints that are asked for.
func (t *trial) as(ctx context.Context, c identity.Caller, table *access.Object, standpoints []wire.Standpoint) error {
	for _, at := range standpoints {
		p, err := t.s.identity.ViewerAt(t.before, c, at)
		if err != nil {
			return err
		}
		t.compare(ctx, c, table, p.Standpoint, p.Words)
	}
	return nil
}

// touched compares for the users and services that the policy makes a difference
// to.
func (t *trial) touched(ctx context.Context, c identity.Caller, table *access.Object) {
	now := time.Now()
	for _, id := range t.before.Actors(access.PublicID, now) {
		session := access.Standpoint{Subject: id}
		was, err := t.before.Rights(session, now)
		if err != nil || !was.Resolve(table.ID).Allowed.Has(access.Select) {
			continue
		}
		is, err := t.after.Rights(session, now)
		if err != nil {
			continue
		}
		a, b := t.before.Policies.Govern(was, table.ID), t.after.Policies.Govern(is, table.ID)
		if sameRules(&a.Rules, &b.Rules) && len(otherwise(t.after.Model, table, a, b)) == 0 {
			continue
		}
		if len(t.out.Counts) >= mostTried {
			t.out.More++
			continue
		}
		t.compare(ctx, c, table, session, t.before.Model.Ref(id))
	}
}

func sameRules(a, b *policy.Rules) bool {
	return a.Closed == b.Closed && slices.EqualFunc(a.All(), b.All(), func(p, q *policy.RowPolicy) bool { return reflect.DeepEqual(p, q) })
}

// otherwise says which columns appear otherwise by the second governance.
func otherwise(m *access.Model, table *access.Object, was, is policy.Governance) []string {
	said := []string{}
	for _, id := range table.Children {
		if a, b := review.TreatmentSays(was.Columns[id]), review.TreatmentSays(is.Columns[id]); a != b {
			said = append(said, access.Quote(m.Object(id).Name)+" "+b)
		}
	}
	return said
}

// compare adds what one session sees of a table before and after.
func (t *trial) compare(ctx context.Context, c identity.Caller, table *access.Object, session access.Standpoint, words string) {
	n := wire.TrialCount{Standpoint: words, Table: t.after.Model.Path(table.ID), Columns: []string{}}
	now := time.Now()
	was, err := t.before.Rights(session, now)
	if err == nil {
		var is *access.Rights
		if is, err = t.after.Rights(session, now); err == nil {
			n.Columns = otherwise(t.after.Model, table, t.before.Policies.Govern(was, table.ID), t.after.Policies.Govern(is, table.ID))
		}
	}
	if err == nil {
		n.Total, err = t.All(ctx, t.before, table)
	}
	if err == nil {
		n.Now, err = t.Rows(ctx, t.before, session, table)
	}
	if err == nil {
		n.Then, err = t.Rows(ctx, t.after, session, table)
	}
	if err != nil {
		n.Problem = t.s.identity.ToldIn(t.before, c, err).Detail
	}
	t.out.Counts = append(t.out.Counts, n)
}
