package review

import (
	"maps"
	"slices"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/wire"
)

// Policies lists policies, of one table or of all that the caller may review.
func (s *Service) Policies(c identity.Caller, table string) (wire.List[wire.Policy], error) {
	st := s.identity.State(c)
	out := wire.List[wire.Policy]{Items: []wire.Policy{}}
	if table == "" {
		out.Items = policiesWhere(st, func(at access.ObjectID) bool { return s.identity.ReviewsObject(st, c, at) })
		return out, nil
	}
	p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	o, err := s.identity.Seen(p, table)
	if err == nil && s.identity.ReviewsObject(st, c, o.ID) {
		out.Items = policiesAt(st, o)
	}
	return out, err
}

// policiesWhere lists the policies that are about what f takes, by kind and name.
func policiesWhere(st *platform.State, f func(access.ObjectID) bool) []wire.Policy {
	out := []wire.Policy{}
	for _, p := range st.Policies.AllRows() {
		if f(p.At()) {
			out = append(out, wireRows(st, p))
		}
	}
	for _, p := range st.Policies.AllColumns() {
		if f(p.At()) {
			out = append(out, wireColumns(st, p))
		}
	}
	return out
}

// policiesAt lists the policies that are about an object or what is below it; of
// a label, those that are about it.
func policiesAt(st *platform.State, o *access.Object) []wire.Policy {
	if o.Kind == access.Label {
		return policiesWhere(st, func(at access.ObjectID) bool { return at == o.ID })
	}
	rows, columns := map[string]*policy.RowPolicy{}, map[string]*policy.ColumnPolicy{}
	note := func(table *access.Object) bool {
		for _, p := range st.Policies.Rows(st.Model, table.ID) {
			rows[p.Name] = p
		}
		for _, p := range st.Policies.ColumnPolicies(st.Model, table.ID) {
			if o.Kind != access.Column || st.Policies.Treats(p, st.Model, o.ID) {
				columns[p.Name] = p
			}
		}
		return len(rows)+len(columns) < mostListed
	}
	if o.Kind.IsRelation() {
		note(o) // also when it is missing
	} else {
		st.Model.Relations(o.ID, note)
	}
	out := []wire.Policy{}
	for _, name := range slices.Sorted(maps.Keys(rows)) {
		out = append(out, wireRows(st, rows[name]))
	}
	for _, name := range slices.Sorted(maps.Keys(columns)) {
		out = append(out, wireColumns(st, columns[name]))
	}
	return out
}

func wireRows(st *platform.State, p *policy.RowPolicy) wire.Policy {
	w := wirePolicy(st.Model, &p.Scope)
	w.Kind, w.Table, w.Mode, w.Commands, w.Rule = "rows", p.Path(st.Model), string(p.Mode), string(p.Commands), p.Rule
	w.Sentence = p.Sentence(st.Model, query.Words)
	if p.Follow != nil {
		w.Follow, w.Via = st.Model.Path(p.Follow.Parent), columnNames(st.Model, p.Follow.From)
	} else {
		w.Phrases, w.Join = Phrases(p.Rule)
	}
	w.Covers = len(st.Covered(p))
	if err := st.CheckRow(p); err != nil {
		w.Broken = err.Error()
	}
	return w
}

func wireColumns(st *platform.State, p *policy.ColumnPolicy) wire.Policy {
	w := wirePolicy(st.Model, &p.Scope)
	w.Kind, w.Table, w.When, w.Sentence = "columns", st.Model.Path(p.At()), p.When, p.Sentence(st.Model, query.Words)
	w.Treatment = wireTreatment(p.Treatment)
	if p.Pattern != "" {
		w.Columns = []string{p.Pattern}
	} else {
		w.Columns = columnNames(st.Model, p.Columns)
	}
	w.Covers = len(st.Policies.Treated(p, st.Model))
	if err := st.CheckColumn(p); err != nil {
		w.Broken = err.Error()
	}
	return w
}

func Phrases(rule string) ([]wire.Phrase, string) {
	found, join, _ := query.ReadPhrases(rule)
	var out []wire.Phrase
	for _, p := range found {
		out = append(out, wire.Phrase{Kind: string(p.Kind), Column: p.Column, Attribute: p.Attribute, Table: p.Table, Key: p.Key, Holder: p.Holder})
	}
	return out, join
}

func columnNames(m *access.Model, ids []access.ObjectID) []string {
	var names []string
	for _, id := range ids {
		names = append(names, access.Quote(m.Object(id).Name))
	}
	return names
}

func wirePolicy(m *access.Model, p *policy.Scope) wire.Policy {
	w := wire.Policy{
		Name:     p.Name,
		For:      []string{},
		Except:   []string{},
		Purposes: append([]string{}, p.Purposes...),
		Status:   string(p.Status),
		Comment:  p.Comment,
	}
	for _, id := range p.For {
		w.For = append(w.For, m.Ref(id))
	}
	for _, id := range p.Except {
		w.Except = append(w.Except, m.Ref(id))
	}
	return w
}
