package admin

import (
	"errors"
	"strings"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/review"
	"gneiss/wire"
)

// policyChange is the change that a caller's request asks for, with the tables that
// its texts name.
func (s *Service) policyChange(st *platform.State, c identity.Caller, in wire.Policy) (platform.Change, error) {
	what, err := policyAsked(in)
	if err != nil {
		return nil, err
	}
	return s.bound(st, c, what, in.Table)
}

// bound says of a policy which tables its texts name, and that the caller wrote it. table is what the
// policy is about.
func (s *Service) bound(st *platform.State, c identity.Caller, what platform.Change, table string) (platform.Change, error) {
	var err error
	home := access.ObjectID(0)
	within, _ := access.CutPattern(table)
	if target, err := st.Model.LookupTarget(within); err == nil && !strings.HasPrefix(strings.ToLower(table), "label:") {
		if home = target.Object; st.Model.Object(home).Kind == access.Table {
			home = st.Model.Object(home).Parent
		}
		if st.Model.Object(home).Kind != access.Schema {
			home = 0
		}
	}
	fill := func(scope *policy.ScopeText, condition, expression string) error {
		reads, err := query.TablesNamed(st.Model, home, condition, expression)
		var q *query.Error
		if errors.As(err, &q) && q.Hidden && !s.identity.Reviews(st, c) && c.User != 0 {
			return noSuchTable()
		}
		scope.Bound, scope.Reads = true, st.Model.PathsOf(reads)
		if c.User != 0 {
			scope.Writer = st.Model.Ref(c.User)
		}
		return err
	}
	switch p := what.(type) {
	case policy.PutRowPolicy:
		err = fill(&p.ScopeText, p.Rule, "")
		what = p
	case policy.PutColumnPolicy:
		err = fill(&p.ScopeText, p.When, p.SQL)
		what = p
	}
	return what, err
}

func policyAsked(in wire.Policy) (platform.Change, error) {
	scope := policy.ScopeText{
		Name:     in.Name,
		For:      in.For,
		Except:   in.Except,
		Purposes: in.Purposes,
		Status:   policy.Status(in.Status),
		Comment:  in.Comment,
	}
	switch in.Kind {
	case "rows":
		rule, err := ruleOf(in)
		return policy.PutRowPolicy{ScopeText: scope, Table: in.Table, Mode: policy.Mode(in.Mode), Commands: policy.Commands(in.Commands),
			Rule: rule, Follow: in.Follow, Via: in.Via}, err
	case "columns":
		if in.Treatment == nil {
			return nil, fault.New(fault.Invalid, "no_treatment", "a column policy needs a treatment, such as suppress")
		}
		c := policy.PutColumnPolicy{ScopeText: scope, When: in.When, Treat: in.Treatment.Kind, Treatment: review.TreatmentArguments(in.Treatment)}
		if strings.HasPrefix(strings.ToLower(in.Table), "label:") {
			c.Label = in.Table
		}
		for _, name := range in.Columns {
			if c.Label != "" {
				return nil, fault.New(fault.Invalid, "two_places", "a policy on a label treats every column that has it; leave the columns out")
			}
			c.Columns = append(c.Columns, in.Table+"."+name)
		}
		return c, nil
	}
	return nil, &access.NotFound{Kind: "kind of policy", Name: in.Kind, Known: []string{"rows", "columns"}}
}

// ruleOf is the condition of a request: as it is written, or written from its
// phrases.
func ruleOf(in wire.Policy) (string, error) {
	if strings.TrimSpace(in.Rule) != "" || len(in.Phrases) == 0 {
		return in.Rule, nil
	}
	join := "AND"
	if strings.EqualFold(in.Join, "OR") {
		join = "OR"
	}
	var list []query.Phrase
	for _, p := range in.Phrases {
		list = append(
			list,
			query.Phrase{Kind: query.PhraseKind(p.Kind), Column: p.Column, Attribute: p.Attribute, Table: p.Table, Key: p.Key, Holder: p.Holder},
		)
	}
	return query.WritePhrases(list, join)
}
