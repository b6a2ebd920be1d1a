package admin

import (
	"context"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// PutPolicy adds a policy, or with Replace changes one.
func (s *Service) PutPolicy(ctx context.Context, c identity.Caller, in wire.PolicyRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.WritesPolicies(st, c, in.Table); err != nil {
		return wire.Changed{}, err
	}
	if in.Follow != "" {
		p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
		if err == nil && c.User != 0 {
			_, err = s.identity.Seen(p, in.Follow)
		}
		if err != nil {
			return wire.Changed{}, err
		}
	}
	what, err := s.policyChange(st, c, in.Policy)
	if err != nil {
		return wire.Changed{}, err
	}
	row, column := st.Policies.Find(in.Name)
	there := row != nil || column != nil
	switch {
	case there && !in.Replace:
		return wire.Changed{}, fault.New(fault.Conflict, "exists", "the policy %s exists already; edit it, or choose another name", in.Name)
	case !there && in.Replace && !s.identity.Reviews(st, c):
		return wire.Changed{}, fault.New(fault.NotFound, "not_found", "there is no policy %s, or you may not change it", in.Name)
	case !there && in.Replace:
		return wire.Changed{}, &access.NotFound{Kind: "policy", Name: in.Name, Known: st.Policies.Names()}
	}
	o := order{caller: c, Change: in.Change, changes: []platform.Change{what}}
	after, err := st.Apply(what, time.Now())
	if err != nil {
		return wire.Changed{}, err
	}
	verb := map[bool]map[string]say.Sentence{
		false: {"rows": say.AddedRowPolicy, "columns": say.AddedColumnPolicy},
		true:  {"rows": say.ChangedRowPolicy, "columns": say.ChangedColumnPolicy},
	}[there][in.Kind]
	o.says = append(o.says, verb.With(in.Name, sentence(after, in.Name)))
	o.notes = s.policyNotes(after, in.Name)
	return s.carryOut(ctx, o)
}

// policyNotes says what to know of a policy before it takes effect.
func (s *Service) policyNotes(st *platform.State, name string) []string {
	var notes []string
	row, column := st.Policies.Find(name)
	if row != nil {
		if row.Status == policy.Draft {
			notes = append(notes, draftNote(name))
		}
		notes = append(notes, s.readerless(st, row)...)
		if len(st.Covered(row)) == 0 {
			notes = append(notes, say.CoversNothing.With(row.Path(st.Model)))
		}
		return notes
	}
	if column.Status == policy.Draft {
		notes = append(notes, draftNote(name))
	}
	if column.When != "" {
		if names := nullableWhen(st, column); len(names) > 0 {
			notes = append(
				notes,
				say.UnknownShown.With(strings.Join(names, " or "),
					names[0],
				),
			)
		}
	}
	if refs := revealedBy(st, column); len(refs) > 0 {
		notes = append(notes, say.StillRevealed.With(strings.Join(refs, ", ")))
	}
	if len(st.Policies.Treated(column, st.Model)) == 0 {
		notes = append(notes, say.LabelOnNothing.With(st.Model.Path(column.At())))
	}
	return notes
}

// revealedBy lists the subjects with a grant of REVEAL that lifts a policy somewhere.
func revealedBy(st *platform.State, p *policy.ColumnPolicy) []string {
	var refs []string
	note := func(g *access.Grant) {
		if ref := st.Model.Ref(g.Subject); st.Model.Gives(g).Has(access.Reveal) && !slices.Contains(refs, ref) {
			refs = append(refs, ref)
		}
	}
	if p.Label != 0 {
		for _, g := range st.Model.GrantsOn(p.Label) {
			note(g)
		}
	}
	for _, column := range st.Policies.Treated(p, st.Model) {
		for _, above := range append(st.Model.Above(column), column) {
			for _, g := range st.Model.GrantsOn(above) {
				if st.Model.Covers(g.Target, column) {
					note(g)
				}
			}
		}
	}
	return refs
}

func draftNote(name string) string {
	return say.DraftHasNoEffect.With(name)
}

func sentence(st *platform.State, name string) string {
	row, column := st.Policies.Find(name)
	if row != nil {
		return row.Sentence(st.Model, query.Words)
	}
	return column.Sentence(st.Model, query.Words)
}

// SetPolicyStatus publishes or stops a policy.
func (s *Service) SetPolicyStatus(ctx context.Context, c identity.Caller, name string, in wire.PolicyStatus) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.ChangesPolicy(st, c, name); err != nil {
		return wire.Changed{}, err
	}
	verb := map[string]say.Sentence{"live": say.PublishedPolicy, "off": say.StoppedPolicy, "draft": say.DraftedPolicy}[in.Status]
	what := policy.SetPolicyStatus{Name: name, Status: policy.Status(in.Status)}
	o := order{caller: c, Change: in.Change, says: []string{verb.With(name)}, changes: []platform.Change{what}}
	if after, err := st.Apply(what, time.Now()); err == nil {
		if row, _ := after.Policies.Find(name); row != nil {
			o.notes = s.readerless(after, row)
		}
	}
	return s.carryOut(ctx, o)
}

// RemovePolicy takes a policy away.
func (s *Service) RemovePolicy(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	if err := s.identity.ChangesPolicy(s.identity.State(c), c, name); err != nil {
		return wire.Changed{}, err
	}
	return s.carryOut(ctx, order{caller: c, Change: in, says: []string{say.RemovedPolicy.With(name)},
		changes: []platform.Change{policy.RemovePolicy{Name: name}}})
}

// readerless says which tables a live row policy leaves without any reader: they
// are closed to all, which is allowed and seldom meant.
func (s *Service) readerless(st *platform.State, p *policy.RowPolicy) []string {
	if p.Status != policy.Live {
		return nil
	}
	var notes []string
	now := time.Now()
	for _, table := range st.Covered(p) {
		holders, left := 0, 0
		for _, id := range st.Actors(access.PublicID, now) {
			rights, err := st.Rights(access.Standpoint{Subject: id}, now)
			if err != nil || !rights.Resolve(table.ID).Allowed.Has(access.Select) {
				continue
			}
			holders++
			if !st.Policies.Govern(rights, table.ID).Closed {
				left++
				break
			}
		}
		if holders > 0 && left == 0 {
			notes = append(
				notes,
				say.NobodySees.With(st.Model.Path(table.ID),
					say.Count(holders, "subject"),
				),
			)
		}
	}
	return notes
}

// nullableWhen lists the columns by which the condition of a policy can be
// unknown.
func nullableWhen(st *platform.State, p *policy.ColumnPolicy) []string {
	treated := st.Policies.Treated(p, st.Model)
	public, err := st.Rights(access.Standpoint{Subject: access.PublicID}, time.Time{})
	if err != nil || len(treated) == 0 {
		return nil
	}
	names, err := query.CheckWhen(public, st.Model.Object(st.Model.Object(treated[0]).Parent), p.When)
	if err != nil {
		return nil
	}
	return names
}
