package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/wire"
)

// Policies lists policies, of one table or of all that the caller may review.
func (s *Service) Policies(c Caller, table string) (wire.List[wire.Policy], error) {
	st := s.state()
	out := wire.List[wire.Policy]{Items: []wire.Policy{}}
	if table == "" {
		out.Items = st.policiesWhere(func(at access.ObjectID) bool { return s.reviewsObject(st, c, at) })
		return out, nil
	}
	p, err := s.standAt(st, c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	o, err := s.seen(p, table)
	if err == nil && s.reviewsObject(st, c, o.ID) {
		out.Items = st.policiesAt(o)
	}
	return out, err
}

// policiesWhere lists the policies that hang on what f takes, by kind and name.
func (st *state) policiesWhere(f func(access.ObjectID) bool) []wire.Policy {
	out := []wire.Policy{}
	for _, p := range st.policies.AllRows() {
		if f(p.At()) {
			out = append(out, st.wireRows(p))
		}
	}
	for _, p := range st.policies.AllColumns() {
		if f(p.At()) {
			out = append(out, st.wireColumns(p))
		}
	}
	return out
}

// policiesAt lists the policies that are about an object or what is below it; of
// a label, those that hang on it.
func (st *state) policiesAt(o *access.Object) []wire.Policy {
	if o.Kind == access.Label {
		return st.policiesWhere(func(at access.ObjectID) bool { return at == o.ID })
	}
	rows, columns := map[string]*policy.RowPolicy{}, map[string]*policy.ColumnPolicy{}
	note := func(table *access.Object) bool {
		for _, p := range st.policies.Rows(st.model, table.ID) {
			rows[p.Name] = p
		}
		for _, p := range st.policies.ColumnPolicies(st.model, table.ID) {
			if o.Kind != access.Column || st.policies.Treats(p, st.model, o.ID) {
				columns[p.Name] = p
			}
		}
		return len(rows)+len(columns) < mostListed
	}
	if o.Kind.IsRelation() {
		note(o) // also when it is missing
	} else {
		st.model.Relations(o.ID, note)
	}
	out := []wire.Policy{}
	for _, name := range slices.Sorted(maps.Keys(rows)) {
		out = append(out, st.wireRows(rows[name]))
	}
	for _, name := range slices.Sorted(maps.Keys(columns)) {
		out = append(out, st.wireColumns(columns[name]))
	}
	return out
}

func (st *state) wireRows(p *policy.RowPolicy) wire.Policy {
	w := wirePolicy(st.model, &p.Scope)
	w.Kind, w.Table, w.Mode, w.Commands, w.Rule = "rows", p.Path(st.model), string(p.Mode), string(p.Commands), p.Rule
	w.Sentence = p.Sentence(st.model, query.Words)
	if p.Follow != nil {
		w.Follow, w.Via = st.model.Path(p.Follow.Parent), columnNames(st.model, p.Follow.From)
	} else {
		w.Phrases, w.Join = phrases(p.Rule)
	}
	w.Covers = len(st.covered(p))
	if err := st.checkRow(p); err != nil {
		w.Broken = err.Error()
	}
	return w
}

func (st *state) wireColumns(p *policy.ColumnPolicy) wire.Policy {
	w := wirePolicy(st.model, &p.Scope)
	w.Kind, w.Table, w.When, w.Sentence = "columns", st.model.Path(p.At()), p.When, p.Sentence(st.model, query.Words)
	w.Treatment = wireTreatment(p.Treatment)
	if p.Pattern != "" {
		w.Columns = []string{p.Pattern}
	} else {
		w.Columns = columnNames(st.model, p.Columns)
	}
	w.Covers = len(st.policies.Treated(p, st.model))
	if err := st.checkColumn(p); err != nil {
		w.Broken = err.Error()
	}
	return w
}

func phrases(rule string) ([]wire.Phrase, string) {
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
	w := wire.Policy{Name: p.Name, For: []string{}, Except: []string{}, Purposes: append([]string{}, p.Purposes...), Status: string(p.Status), Comment: p.Comment}
	for _, id := range p.For {
		w.For = append(w.For, m.Ref(id))
	}
	for _, id := range p.Except {
		w.Except = append(w.Except, m.Ref(id))
	}
	return w
}

func wireTreatment(t policy.Treatment) *wire.Treatment {
	return &wire.Treatment{Kind: t.Kind.String(), KeepFirst: t.KeepFirst, KeepLast: t.KeepLast, Keep: t.Keep, Fill: t.Fill, Value: t.Value,
		Bucket: t.Bucket, Unit: t.Unit, Prefix: t.Prefix, Mapping: t.Mapping.Groups(), Decimals: t.Decimals, Multiple: t.Multiple,
		Range: t.Range, Stable: t.Stable, Expression: t.SQL}
}

// PutPolicy adds a policy, or with Replace changes one.
func (s *Service) PutPolicy(ctx context.Context, c Caller, in wire.PolicyRequest) (wire.Changed, error) {
	st := s.state()
	if err := s.writesPolicies(st, c, in.Table); err != nil {
		return wire.Changed{}, err
	}
	if in.Follow != "" {
		p, err := s.standAt(st, c, wire.Standpoint{})
		if err == nil && c.User != 0 {
			_, err = s.seen(p, in.Follow)
		}
		if err != nil {
			return wire.Changed{}, err
		}
	}
	what, err := s.policyChange(st, c, in.Policy)
	if err != nil {
		return wire.Changed{}, err
	}
	row, column := st.policies.Find(in.Name)
	there := row != nil || column != nil
	switch {
	case there && !in.Replace:
		return wire.Changed{}, problem(409, "exists", "Not possible", "the policy %s exists already; edit it, or choose another name", in.Name)
	case !there && in.Replace && !s.reviews(st, c):
		return wire.Changed{}, problem(404, "not_found", "Not found", "there is no policy %s, or it is not yours to change", in.Name)
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
	o.notes = s.policyNotes(after, in.Name)
	return s.make(ctx, o)
}

// policyNotes says what to know of a policy before it takes effect.
func (s *Service) policyNotes(st *state, name string) []string {
	var notes []string
	row, column := st.policies.Find(name)
	if row != nil {
		if row.Status == policy.Draft {
			notes = append(notes, draftNote(name))
		}
		notes = append(notes, s.readerless(st, row)...)
		if len(st.covered(row)) == 0 {
			notes = append(notes, fmt.Sprintf("%s covers no table now", row.Path(st.model)))
		}
		return notes
	}
	if column.Status == policy.Draft {
		notes = append(notes, draftNote(name))
	}
	if column.When != "" {
		if names := st.nullableWhen(column); len(names) > 0 {
			notes = append(notes, fmt.Sprintf("where %s is NULL the condition is not true, so the value is shown as it is; to treat those rows too, add: OR %s IS NULL", strings.Join(names, " or "), names[0]))
		}
	}
	if refs := st.revealed(column); len(refs) > 0 {
		notes = append(notes, fmt.Sprintf("by REVEAL, %s see some of it in clear all the same", strings.Join(refs, ", ")))
	}
	if len(st.policies.Treated(column, st.model)) == 0 {
		notes = append(notes, fmt.Sprintf("no column bears %s now; those that will are treated from then on", st.model.Path(column.At())))
	}
	return notes
}

// revealed lists the subjects with a grant of REVEAL that lifts a policy somewhere.
func (st *state) revealed(p *policy.ColumnPolicy) []string {
	var refs []string
	note := func(g *access.Grant) {
		if ref := st.model.Ref(g.Subject); st.model.Gives(g).Has(access.Reveal) && !slices.Contains(refs, ref) {
			refs = append(refs, ref)
		}
	}
	if p.Label != 0 {
		for _, g := range st.model.GrantsOn(p.Label) {
			note(g)
		}
	}
	for _, column := range st.policies.Treated(p, st.model) {
		for _, above := range append(st.model.Above(column), column) {
			for _, g := range st.model.GrantsOn(above) {
				if st.model.Covers(g.Target, column) {
					note(g)
				}
			}
		}
	}
	return refs
}

func draftNote(name string) string {
	return fmt.Sprintf("a draft takes no effect until it is published: gneiss policy publish %s", name)
}

// writesPolicies refuses a caller who may not write policies on what a path
// names, in the words that their door lets them have.
func (s *Service) writesPolicies(st *state, c Caller, path string) error {
	target, err := st.model.LookupTarget(path)
	if err == nil && s.manages(st, c, target.Object) {
		return nil
	}
	p, perr := s.standAt(st, c, wire.Standpoint{})
	if perr != nil {
		return perr
	}
	if !p.review || err != nil {
		o, err := s.seen(p, path)
		if err != nil {
			return err
		}
		target.Object = o.ID
	}
	return s.refuse(c, "change", "a policy on "+path, wants(st, access.Manage, target.Object))
}

// changesPolicy refuses a caller who may not change the policy of a name. Whose
// it is not is not told whether it is there.
func (s *Service) changesPolicy(st *state, c Caller, name string) error {
	row, column := st.policies.Find(name)
	switch {
	case row != nil && s.manages(st, c, row.At()), column != nil && s.manages(st, c, column.At()):
		return nil
	case row == nil && column == nil && s.reviews(st, c):
		return &access.NotFound{Kind: "policy", Name: name, Known: st.policies.Names()}
	}
	return s.refuse(c, "change", "the policy "+name, problem(403, "refused", "Refused", "there is no policy %s, or it is not yours to change", name))
}

func sentence(st *state, name string) string {
	row, column := st.policies.Find(name)
	if row != nil {
		return row.Sentence(st.model, query.Words)
	}
	return column.Sentence(st.model, query.Words)
}

// SetPolicyStatus publishes or stops a policy.
func (s *Service) SetPolicyStatus(ctx context.Context, c Caller, name string, in wire.PolicyStatus) (wire.Changed, error) {
	st := s.state()
	if err := s.changesPolicy(st, c, name); err != nil {
		return wire.Changed{}, err
	}
	verb := map[string]string{"live": "published", "off": "stopped", "draft": "took back to draft"}[in.Status]
	what := policy.SetPolicyStatus{Name: name, Status: policy.Status(in.Status)}
	o := order{caller: c, Change: in.Change, says: []string{verb + " the policy " + name}, changes: []change{what}}
	if after, err := st.apply(what, s.now()); err == nil {
		if row, _ := after.policies.Find(name); row != nil {
			o.notes = s.readerless(after, row)
		}
	}
	return s.make(ctx, o)
}

// RemovePolicy takes a policy away.
func (s *Service) RemovePolicy(ctx context.Context, c Caller, name string, in wire.Change) (wire.Changed, error) {
	if err := s.changesPolicy(s.state(), c, name); err != nil {
		return wire.Changed{}, err
	}
	return s.make(ctx, order{caller: c, Change: in, says: []string{"removed the policy " + name},
		changes: []change{policy.RemovePolicy{Name: name}}})
}

// readerless says which tables a live row policy leaves without any reader: they
// are closed to all, which is allowed and seldom meant.
func (s *Service) readerless(st *state, p *policy.RowPolicy) []string {
	if p.Status != policy.Live {
		return nil
	}
	var notes []string
	now := s.now()
	for _, table := range st.covered(p) {
		holders, left := 0, 0
		for _, id := range st.actors(access.PublicID, now) {
			standing, err := st.stand(access.Session{Subject: id}, now)
			if err != nil || !standing.Resolve(table.ID).Allowed.Has(access.Select) {
				continue
			}
			holders++
			if !st.policies.Govern(standing, table.ID).Closed {
				left++
				break
			}
		}
		if holders > 0 && left == 0 {
			notes = append(notes, fmt.Sprintf("nobody reads any row of %s then: %s may, and no allow policy is for any of them", st.model.Path(table.ID), count(holders, "subject")))
		}
	}
	return notes
}

// covered lists the tables that a row policy is about now.
func (st *state) covered(p *policy.RowPolicy) []*access.Object {
	var tables []*access.Object
	note := func(o *access.Object) bool {
		if st.policies.Covers(p, st.model, o.ID) {
			tables = append(tables, o)
		}
		return true
	}
	if p.Label == 0 {
		st.model.Tables(p.Object, note)
		return tables
	}
	for _, id := range st.policies.Placed(p.Label) {
		if o := st.model.Object(id); o.Kind != access.Column {
			st.model.Tables(id, note)
		}
	}
	return tables
}

// checkRow returns why a row policy cannot work on a table that it is about.
func (st *state) checkRow(p *policy.RowPolicy) error {
	if p.Follow != nil {
		for _, id := range append(slices.Clone(p.Follow.From), p.Follow.To...) {
			if o := st.model.Object(id); o.Missing || st.model.Object(o.Parent).Missing {
				return fmt.Errorf("%s is gone from the source", st.model.Path(id))
			}
		}
		return nil
	}
	public, err := st.stand(access.Session{Subject: access.PublicID}, time.Time{})
	if err != nil {
		return err
	}
	for _, table := range st.covered(p) {
		if err := query.CheckRule(public, table, p.Rule); err != nil {
			return onTable(st, p.At(), table, err)
		}
	}
	if len(st.covered(p)) == 0 && p.Pattern == "" && p.Label == 0 {
		return fmt.Errorf("%s is gone from the source", p.Path(st.model))
	}
	return nil
}

// onTable names the table that an error is about, where the policy hangs on more
// than it.
func onTable(st *state, at access.ObjectID, table *access.Object, err error) error {
	if at == table.ID {
		return err
	}
	var q *query.Error
	if !errors.As(err, &q) {
		return fmt.Errorf("%s: %w", st.model.Path(table.ID), err)
	}
	named := *q
	named.Text = st.model.Path(table.ID) + ": " + q.Text
	return &named
}

// checkColumn returns why a column policy cannot work on a column that it is
// about.
func (st *state) checkColumn(p *policy.ColumnPolicy) error {
	public, err := st.stand(access.Session{Subject: access.PublicID}, time.Time{})
	if err != nil {
		return err
	}
	for _, id := range st.policies.Treated(p, st.model) {
		column := st.model.Object(id)
		table := st.model.Object(column.Parent)
		if column.Missing || table.Missing {
			return fmt.Errorf("%s is gone from the source", st.model.Path(id))
		}
		if p.When != "" {
			if _, err := query.CheckWhen(public, table, p.When); err != nil {
				return onTable(st, p.At(), table, err)
			}
		}
		if err := query.CheckTreatment(public, column, p.Treatment); err != nil {
			return onTable(st, p.At(), table, err)
		}
	}
	return nil
}

// nullableWhen lists the columns by which the condition of a policy can be
// unknown.
func (st *state) nullableWhen(p *policy.ColumnPolicy) []string {
	treated := st.policies.Treated(p, st.model)
	public, err := st.stand(access.Session{Subject: access.PublicID}, time.Time{})
	if err != nil || len(treated) == 0 {
		return nil
	}
	names, err := query.CheckWhen(public, st.model.Object(st.model.Object(treated[0]).Parent), p.When)
	if err != nil {
		return nil
	}
	return names
}
