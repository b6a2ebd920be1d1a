package review

import (
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/outline"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// How many revisions one answer has.
const (
	usualHistory = 50
	mostHistory  = 500
)

// History lists revisions, newest first: all, or those that are about an object, a subject or a
// policy. before is a cursor: a revision.
func (s *Service) History(ctx context.Context, c identity.Caller, about string, before int64, limit int) (wire.List[wire.Past], error) {
	out := wire.List[wire.Past]{Items: []wire.Past{}}
	now := s.platform.Current()
	if !s.identity.Reviews(now, c) {
		return out, identity.Wants(now, access.Describe, access.PlatformID)
	}
	if before <= 0 {
		before = s.identity.State(c).Revision + 1
	}
	if limit <= 0 || limit > mostHistory {
		limit = usualHistory
	}
	texts, err := s.mentions(now, about)
	if err != nil {
		return out, err
	}
	found, err := s.store.History(ctx, before, texts, limit+1)
	if err != nil {
		return out, err
	}
	if len(found) > limit {
		found = found[:limit]
		out.Next = strconv.FormatInt(found[limit-1].Revision, 10)
	}
	names, drafts, err := s.names(ctx)
	if err != nil {
		return out, err
	}
	for _, e := range found {
		p, err := past(e, names, drafts)
		if err != nil {
			return out, err
		}
		out.Items = append(out.Items, p)
	}
	return out, nil
}

// mentions are the texts by which the journal's entries about something are found.
func (s *Service) mentions(st *platform.State, about string) ([]string, error) {
	about = strings.TrimSpace(about)
	if about == "" {
		return nil, nil
	}
	names := []string{about}
	if subject, err := st.Model.FindSubject(about); err == nil {
		names = []string{subject.Ref()}
	} else if o, err := st.Model.Lookup(about); err == nil {
		names = []string{st.Model.Path(o.ID)}
		if o.Kind == access.Label || o.Kind == access.Lane {
			names = append(names, o.Name)
		}
	}
	var texts []string
	for _, name := range names {
		text, err := json.Marshal(name)
		if err != nil {
			return nil, err
		}
		texts = append(texts, string(text), strings.TrimSuffix(string(text), `"`)+".")
	}
	return texts, nil
}

// names are the names of revisions, and of drafts by their numbers.
func (s *Service) names(ctx context.Context) (map[int64][]string, map[int64]string, error) {
	given, err := s.store.RevisionNames(ctx)
	if err != nil {
		return nil, nil, err
	}
	names := map[int64][]string{}
	for _, l := range given {
		names[l.Revision] = append(names[l.Revision], l.Name)
	}
	drafts, err := s.store.DraftNames(ctx, false)
	return names, drafts, err
}

func past(e store.Past, names map[int64][]string, drafts map[int64]string) (wire.Past, error) {
	p := wire.Past{Revision: e.Revision, By: e.Actor, Reason: e.Reason, Says: []string{}, Effects: []wire.Effect{}, Draft: drafts[e.Draft],
		Names: append([]string{}, names[e.Revision]...)}
	var err error
	if p.At, err = e.Time(); err != nil {
		return p, err
	}
	if err := json.Unmarshal([]byte(e.Says), &p.Says); err != nil {
		return p, err
	}
	if len(p.Says) == 0 {
		p.Says = platform.Described(e.Entry)
	}
	return p, json.Unmarshal([]byte(e.Effects), &p.Effects)
}

// Drafts lists the open drafts, and the last that were closed: all for who reviews the platform, for
// others their own.
func (s *Service) Drafts(ctx context.Context, c identity.Caller) (wire.List[wire.Draft], error) {
	const lastClosed = 30
	out := wire.List[wire.Draft]{Items: []wire.Draft{}}
	kept, err := s.store.Drafts(ctx, lastClosed)
	if err != nil {
		return out, err
	}
	st := s.platform.Current()
	for _, d := range kept {
		if uint32(c.User) != d.Opener && !s.identity.Reviews(st, c) {
			continue
		}
		w, err := s.draft(st, c, d)
		if err != nil {
			return out, err
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}

// Draft is one open draft.
func (s *Service) Draft(ctx context.Context, c identity.Caller, name string) (wire.Draft, error) {
	d, err := s.seenDraft(ctx, c, name)
	if err != nil {
		return wire.Draft{}, err
	}
	return s.draft(s.platform.Current(), c, d.Draft)
}

// seenDraft finds an open draft that the caller may read: any for who reviews the platform, for
// others one of their own.
func (s *Service) seenDraft(ctx context.Context, c identity.Caller, name string) (*platform.Draft, error) {
	if s.identity.Reviews(s.platform.Current(), c) {
		return s.identity.FindDraft(ctx, name)
	}
	own, err := s.identity.Drafting(ctx, c, name)
	return own.Draft(), err
}

func (s *Service) draft(st *platform.State, c identity.Caller, kept store.Draft) (wire.Draft, error) {
	ref := func(id uint32) string {
		if id == 0 {
			return "gneiss"
		}
		return st.Model.Ref(access.SubjectID(id))
	}
	out := wire.Draft{Name: kept.Name, Reason: kept.Reason, Status: kept.Status, By: ref(kept.Opener), Base: kept.Base, Revision: kept.Revision,
		Steps: []wire.DraftStep{}}
	var err error
	if out.Opened, err = time.Parse(time.RFC3339Nano, kept.Opened); err != nil {
		return out, err
	}
	var misfits map[int]error
	if kept.Status == store.DraftOpen {
		d, err := s.platform.Imagined(kept)
		if err != nil {
			return out, err
		}
		misfits, out.Fill = d.Misfits, s.identity.MayFill(c, d)
	} else {
		closed, err := time.Parse(time.RFC3339Nano, kept.Closed)
		if err != nil {
			return out, err
		}
		out.Closed, out.ClosedBy = &closed, ref(kept.Closer)
	}
	out.Misfits = len(misfits)
	for i, step := range kept.Steps {
		w := wire.DraftStep{Number: step.N, By: ref(step.Subject), Reason: step.Reason}
		if w.At, err = time.Parse(time.RFC3339Nano, step.At); err != nil {
			return out, err
		}
		if err := json.Unmarshal([]byte(step.Says), &w.Says); err != nil {
			return out, err
		}
		if misfits[i] != nil {
			w.Misfit = s.identity.Told(c, misfits[i]).Detail
		}
		out.Steps = append(out.Steps, w)
	}
	return out, nil
}

// mostCounted bounds the pairs of person and table whose rows an impact counts.
const mostCounted = 200

// Impact is what a draft would do to whom. Rows are counted on the data, for who may look as others.
func (s *Service) Impact(ctx context.Context, c identity.Caller, name string) (wire.Impact, error) {
	d, err := s.seenDraft(ctx, c, name)
	if err != nil {
		return wire.Impact{}, err
	}
	before, after, now := s.platform.Current(), d.State, time.Now()
	out := wire.Impact{Draft: d.Name, Revision: before.Revision, Says: []string{}, Effects: []wire.Effect{}, Tables: []wire.TableImpact{}, Between: []wire.Past{},
		Misfits: []string{}, Breaks: []wire.CheckResult{}, Notes: append([]string{}, s.DormantNotes(c, before, after, d.All())...)}
	w, err := s.draft(before, c, d.Draft)
	if err != nil {
		return out, err
	}
	for _, step := range w.Steps {
		out.Says = append(out.Says, step.Says...)
		if step.Misfit != "" {
			out.Misfits = append(out.Misfits, say.Misfits.With(step.Number, strings.Join(step.Says, "; "), step.Misfit))
		}
	}
	all, more := s.comparisons(before, after, d.All(), c, now)
	out.More = more
	for _, x := range all {
		out.Effects = append(out.Effects, wire.Effect{Subject: after.Model.Ref(x.subject), Gains: gathered(x.gains), Loses: gathered(x.loses)})
	}
	if s.identity.Manages(before, c, access.PlatformID) {
		if err := s.counted(ctx, c, &out, all, before, after); err != nil {
			return out, err
		}
	}
	if s.identity.Reviews(before, c) {
		if out.Breaks, err = s.Breaks(ctx, c, d.Name); err != nil {
			return out, err
		}
	}
	if s.identity.Reviews(before, c) && d.Base < before.Revision {
		between, err := s.History(ctx, c, "", 0, min(int(before.Revision-d.Base), mostHistory))
		if err != nil {
			return out, err
		}
		out.Between = between.Items
	}
	return out, nil
}

// counted counts the rows of each table for whom something changes there, before and after.
func (s *Service) counted(ctx context.Context, c identity.Caller, out *wire.Impact, all []*comparison, before, after *platform.State) error {
	p, err := s.identity.ViewerAt(before, c, wire.Standpoint{})
	if err != nil {
		return err
	}
	record := c.Record(before.Model.Ref(c.User), audit.Matrix, say.CountedImpact.With(out.Draft))
	var paths []string
	lane, err := s.gateway.Lane(c, p, "")
	if err != nil {
		out.Notes = append(out.Notes, say.NotCounted.With(s.identity.Told(c, err).Detail))
		return nil
	}
	type pair struct {
		*comparison
		table *access.Object
		says  []string
	}
	var pairs []pair
	for _, x := range all {
		says := map[access.ObjectID][]string{}
		for _, d := range slices.Concat(x.gains, x.loses) {
			if d.relation != 0 && before.Model.HasObject(d.relation) {
				says[d.relation] = append(says[d.relation], strings.TrimSpace(d.what+" "+d.how))
			}
		}
		for _, id := range sortedKeys(says) {
			if o := before.Model.Object(id); o.Kind == access.Table && !o.Missing {
				pairs = append(pairs, pair{x, o, says[id]})
			}
		}
	}
	if len(pairs) > mostCounted {
		out.Notes = append(out.Notes, say.CountedFirst.With(mostCounted, len(pairs)))
		pairs = pairs[:mostCounted]
	}
	for _, x := range pairs {
		paths = append(paths, before.Model.Path(x.table.ID))
	}
	slices.Sort(paths)
	record.Objects = audit.List(slices.Compact(paths))
	if err := s.audit.Write(record); err != nil {
		return err
	}
	count := s.gateway.Counter(c.User, lane)
	for _, x := range pairs {
		t := wire.TableImpact{Table: before.Model.Path(x.table.ID), Subject: after.Model.Ref(x.subject), Columns: x.says}
		rows := func(st *platform.State, v *identity.Viewer) *int64 {
			if v == nil || !v.Resolve(x.table.ID).Allowed.Has(access.Select) {
				return nil
			}
			n, err := count.Rows(ctx, st, v.Standpoint, x.table)
			if err != nil {
				t.Note = fault.Of(err).Detail
				return nil
			}
			return &n
		}
		t.Before, t.After = rows(before, x.was), rows(after, x.is)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		out.Tables = append(out.Tables, t)
	}
	return nil
}

func sortedKeys[V any](m map[access.ObjectID]V) []access.ObjectID {
	keys := make([]access.ObjectID, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// CompareMoments says who gained and who lost what between two moments, the earlier first: all, or of
// one subject, or at and below one object.
func (s *Service) CompareMoments(ctx context.Context, c identity.Caller, at, with, of string) (wire.Between, error) {
	out := wire.Between{Effects: []wire.Effect{}, Differs: []wire.Differs{}}
	current := s.platform.Current()
	if !s.identity.Reviews(current, c) {
		return out, identity.Wants(current, access.Describe, access.PlatformID)
	}
	states := [2]*platform.State{}
	for i, text := range []string{at, with} {
		n, err := s.identity.Revision(ctx, text)
		if err != nil {
			return out, err
		}
		if states[i], err = s.platform.At(ctx, n); err != nil {
			return out, err
		}
	}
	before, after := states[0], states[1]
	if before.Revision > after.Revision {
		before, after = after, before
	}
	out.At, out.With = before.Revision, after.Revision
	only, err := scopeOf(after, of)
	if err != nil {
		return out, err
	}
	differs := outline.Between(before.Model, outlined(before), outlined(after))
	var changes []platform.Change
	for _, change := range outline.Make(differs) {
		changes = append(changes, change)
	}
	for _, d := range differs {
		out.Differs = append(out.Differs, wire.Differs{Name: d.Name(), How: how(d)})
	}
	if len(out.Differs) > mostDiffering {
		out.More = len(out.Differs) - mostDiffering
		out.Differs = out.Differs[:mostDiffering]
	}
	all, more := s.comparisons(before, after, changes, c, time.Now())
	out.Bounded = more
	for _, x := range all {
		if only.subject != 0 && x.subject != only.subject {
			continue
		}
		e := wire.Effect{Subject: after.Model.Ref(x.subject), Gains: gathered(only.of(after, x.gains)), Loses: gathered(only.of(after, x.loses))}
		if len(e.Gains)+len(e.Loses) > 0 {
			out.Effects = append(out.Effects, e)
		}
	}
	return out, nil
}

func outlined(st *platform.State) outline.State {
	return outline.State{Model: st.Model, Policies: st.Policies, Guards: st.Guards}
}

// mostDiffering bounds the things that a comparison of moments names.
const mostDiffering = 1_000

func how(d outline.Difference) string {
	switch {
	case d.Before == nil:
		return "added"
	case d.After == nil:
		return "removed"
	}
	return "changed"
}

// a scope is a subject, or an object with what is below it; neither: all.
type scope struct {
	subject access.SubjectID
	object  access.ObjectID
}

func scopeOf(st *platform.State, of string) (scope, error) {
	if of == "" {
		return scope{}, nil
	}
	if subject, err := st.Model.FindSubject(of); err == nil {
		return scope{subject: subject.ID}, nil
	}
	o, err := st.Model.Lookup(of)
	if err != nil {
		return scope{}, err
	}
	return scope{object: o.ID}, nil
}

// of are the differences that are about the scope's object.
func (w scope) of(st *platform.State, list []difference) []difference {
	if w.object == 0 {
		return list
	}
	var out []difference
	for _, d := range list {
		for at := d.relation; at != 0; at = st.Model.Object(at).Parent {
			if at == w.object {
				out = append(out, d)
				break
			}
			if at == access.PlatformID {
				break
			}
		}
	}
	return out
}
