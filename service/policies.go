package service

import (
	"context"
	"fmt"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/store"
	"gneiss/wire"
)

// Policies lists policies, of one table or of all that the caller may review.
func (s *Service) Policies(c Caller, table string) (wire.List[wire.Policy], error) {
	st := s.current.Load()
	out := wire.List[wire.Policy]{Items: []wire.Policy{}}
	only := access.ObjectID(0)
	if table != "" {
		p, err := s.standAt(st, c, wire.Standpoint{})
		if err != nil {
			return out, err
		}
		o, err := s.seen(p, table)
		if err != nil {
			return out, err
		}
		only = o.ID
	}
	for _, id := range st.policies.Tables() {
		if (only == 0 || st.model.Within(only, id)) && s.reviewsObject(st, c, id) {
			out.Items = append(out.Items, s.policiesOf(st, id)...)
		}
	}
	return out, nil
}

func (s *Service) policiesOf(st *state, table access.ObjectID) []wire.Policy {
	var out []wire.Policy
	for _, p := range st.policies.Rows(table) {
		w := wirePolicy(st.model, &p.Scope)
		w.Kind, w.Table, w.Mode, w.Rule, w.Sentence = "rows", st.model.Path(p.Table), string(p.Mode), p.Rule, p.Sentence(st.model)
		if err := checkRule(st, w.Table, p.Rule); err != nil {
			w.Broken = err.Error()
		}
		out = append(out, w)
	}
	for _, p := range st.policies.Columns(table) {
		w := wirePolicy(st.model, &p.Scope)
		t := p.Treatment
		w.Kind, w.Table, w.Sentence = "columns", st.model.Path(table), p.Sentence(st.model)
		w.Treatment = &wire.Treatment{Kind: t.Kind.String(), KeepFirst: t.KeepFirst, KeepLast: t.KeepLast, Keep: t.Keep, Fill: t.Fill,
			Value: t.Value, Bucket: t.Bucket, Unit: t.Unit, Prefix: t.Prefix, Decimals: t.Decimals, Multiple: t.Multiple}
		for _, id := range p.Columns {
			w.Columns = append(w.Columns, access.Quote(st.model.Object(id).Name))
		}
		out = append(out, w)
	}
	return out
}

func wirePolicy(m *access.Model, p *policy.Scope) wire.Policy {
	w := wire.Policy{Name: p.Name, For: []string{}, Except: []string{}, Purposes: append([]string{}, p.Purposes...), Status: string(p.Status), Comment: p.Comment}
	for _, id := range p.For {
		w.For = append(w.For, m.Ref(id))
	}
	for _, id := range p.Except {
		w.Except = append(w.Except, m.Ref(id))
	}
	return w
}

// policyChange is the change that a request asks for.
func policyChange(in wire.Policy) (change, error) {
	scope := policy.ScopeText{Name: in.Name, For: in.For, Except: in.Except, Purposes: in.Purposes, Status: policy.Status(in.Status), Comment: in.Comment}
	switch in.Kind {
	case "rows":
		return policy.PutRowPolicy{ScopeText: scope, Table: in.Table, Mode: policy.Mode(in.Mode), Rule: in.Rule}, nil
	case "columns":
		c := policy.PutColumnPolicy{ScopeText: scope}
		if in.Treatment == nil {
			return nil, problem(422, "no_treatment", "Not possible", "a column policy needs a treatment, such as suppress")
		}
		t := in.Treatment
		c.Treat = t.Kind
		c.Treatment = policy.Treatment{KeepFirst: t.KeepFirst, KeepLast: t.KeepLast, Fill: t.Fill, Keep: t.Keep,
			Value: t.Value, Bucket: t.Bucket, Unit: t.Unit, Prefix: t.Prefix, Decimals: t.Decimals, Multiple: t.Multiple}
		for _, name := range in.Columns {
			c.Columns = append(c.Columns, in.Table+"."+name)
		}
		return c, nil
	}
	return nil, &access.NotFound{Kind: "kind of policy", Name: in.Kind, Known: []string{"rows", "columns"}}
}

// PutPolicy adds a policy, or with Replace changes one.
func (s *Service) PutPolicy(ctx context.Context, c Caller, in wire.PolicyRequest) (wire.Changed, error) {
	st := s.current.Load()
	if err := s.writesPolicies(st, c, in.Table); err != nil {
		return wire.Changed{}, err
	}
	what, err := policyChange(in.Policy)
	if err != nil {
		return wire.Changed{}, err
	}
	row, column := st.policies.Find(in.Name)
	there := row != nil || column != nil
	switch {
	case there && !in.Replace:
		return wire.Changed{}, problem(409, "exists", "Not possible", "the policy %s exists already; edit it, or choose another name", in.Name)
	case !there && in.Replace:
		return wire.Changed{}, &access.NotFound{Kind: "policy", Name: in.Name, Known: st.policies.Names()}
	}
	o := order{caller: c, Change: in.Change, changes: []change{what}}
	after, err := st.apply(what, s.now())
	if err != nil {
		return wire.Changed{}, err
	}
	verb := map[bool]string{false: "added", true: "changed"}[there]
	o.says = append(o.says, fmt.Sprintf("%s the %s policy %s: %s", verb, map[string]string{"rows": "row", "columns": "column"}[in.Kind], in.Name, sentence(after, in.Name)))
	if in.Status == string(policy.Draft) {
		o.notes = append(o.notes, fmt.Sprintf("a draft takes no effect until it is published: gneiss policy publish %s", in.Name))
	}
	return s.make(ctx, o)
}

// writesPolicies refuses a caller who may not write policies on a table, in the
// words that their door lets them have.
func (s *Service) writesPolicies(st *state, c Caller, table string) error {
	o, err := st.model.Lookup(table)
	if err == nil && s.manages(st, c, o.ID) {
		return nil
	}
	p, perr := s.standAt(st, c, wire.Standpoint{})
	if perr != nil {
		return perr
	}
	if !p.review || err != nil {
		if o, err = s.seen(p, table); err != nil {
			return err
		}
	}
	return s.refuse(c, "change", "a policy on "+table, wants(st, access.Manage, o.ID))
}

// changesPolicy refuses a caller who may not change the policy of a name. Whose
// it is not is not told whether it is there.
func (s *Service) changesPolicy(st *state, c Caller, name string) error {
	row, column := st.policies.Find(name)
	switch {
	case row != nil && s.manages(st, c, row.Table), column != nil && s.manages(st, c, column.Columns[0]):
		return nil
	case row == nil && column == nil && s.reviews(st, c):
		return &access.NotFound{Kind: "policy", Name: name, Known: st.policies.Names()}
	}
	return s.refuse(c, "change", "the policy "+name, problem(403, "refused", "Refused", "there is no policy %s, or it is not yours to change", name))
}

func sentence(st *state, name string) string {
	row, column := st.policies.Find(name)
	if row != nil {
		return row.Sentence(st.model)
	}
	return column.Sentence(st.model)
}

// SetPolicyStatus publishes or stops a policy.
func (s *Service) SetPolicyStatus(ctx context.Context, c Caller, name string, in wire.PolicyStatus) (wire.Changed, error) {
	if err := s.changesPolicy(s.current.Load(), c, name); err != nil {
		return wire.Changed{}, err
	}
	verb := map[string]string{"live": "published", "off": "stopped", "draft": "took back to draft"}[in.Status]
	return s.make(ctx, order{caller: c, Change: in.Change, says: []string{verb + " the policy " + name},
		changes: []change{policy.SetPolicyStatus{Name: name, Status: policy.Status(in.Status)}}})
}

// RemovePolicy takes a policy away.
func (s *Service) RemovePolicy(ctx context.Context, c Caller, name string, in wire.Change) (wire.Changed, error) {
	if err := s.changesPolicy(s.current.Load(), c, name); err != nil {
		return wire.Changed{}, err
	}
	return s.make(ctx, order{caller: c, Change: in, says: []string{"removed the policy " + name},
		changes: []change{policy.RemovePolicy{Name: name}}})
}

// TryPolicy counts what standpoints see of a table now, and would with the
// policy live. Nothing is changed.
func (s *Service) TryPolicy(ctx context.Context, c Caller, in wire.PolicyTrial) (wire.TrialResult, error) {
	st := s.current.Load()
	out := wire.TrialResult{Counts: []wire.TrialCount{}}
	if err := s.writesPolicies(st, c, in.Table); err != nil {
		return out, err
	}
	if in.Name == "" {
		in.Name = "trial"
	}
	in.Status = string(policy.Live)
	what, err := policyChange(in.Policy)
	if err != nil {
		return out, err
	}
	table, err := st.model.Lookup(in.Table)
	if err != nil {
		return out, err
	}
	then, err := st.apply(what, s.now())
	if err != nil {
		return out, err
	}
	if err := s.checkPolicies(st, then, []change{what}); err != nil {
		return out, err
	}
	out.Sentence = sentence(then, in.Name)
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
	if out.Total, err = s.countAll(ctx, lane, st, table); err != nil {
		return out, err
	}
	for _, at := range in.Standpoints {
		p, err := s.standAt(st, c, at)
		if err != nil {
			return out, err
		}
		n := wire.TrialCount{Standing: p.words}
		if n.Now, err = s.countRows(ctx, lane, st, p, table); err == nil {
			n.Then, err = s.countRows(ctx, lane, then, p, table)
		}
		if err != nil {
			n.Problem = Problem(err).Detail
		}
		out.Counts = append(out.Counts, n)
	}
	return out, nil
}
