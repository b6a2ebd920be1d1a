package admin

import (
	"context"
	"encoding/json"
	"errors"
	"regexp"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/outline"
	"gneiss/service/audit"
	"gneiss/service/events"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

var draftName = regexp.MustCompile(`^[a-z0-9][a-z0-9_.-]{0,62}$`)

// How many drafts can be open, and how much one can hold.
const (
	mostDrafts    = 200
	mostOwnDrafts = 20
	mostSteps     = 5_000
	mostStep      = 4 << 20  // bytes of the changes of one step
	mostInDraft   = 32 << 20 // and of all of them
)

// OpenDraft opens an empty draft, on top of the current revision.
func (s *Service) OpenDraft(ctx context.Context, c identity.Caller, in wire.DraftRequest) (wire.Changed, error) {
	st := s.platform.Current()
	name := strings.ToLower(strings.TrimSpace(in.Name))
	if !draftName.MatchString(name) {
		return wire.Changed{}, fault.New(fault.Invalid, "bad_name",
			"%.80q cannot name a draft: use up to 63 of a-z, 0-9 and _ - ., starting with a letter or digit", in.Name)
	}
	if len(in.Reason) > mostReason {
		return wire.Changed{}, fault.New(fault.Invalid, "oversized", "a reason can have up to %d bytes", mostReason)
	}
	if len(in.Steps) > 0 {
		if err := s.identity.Administers(st, c, "the changes of a draft"); err != nil {
			return wire.Changed{}, err
		}
	}
	says := say.OpenedDraft.With(name)
	err := s.onRecord(c.Record(st.Model.Ref(c.User), audit.Draft, says), func() error {
		d := store.Draft{Name: name, Reason: in.Reason, Base: st.Revision, Opened: now(), Opener: uint32(c.User)}
		return s.store.OpenDraft(ctx, d, store.Bound{Own: mostOwnDrafts, All: mostDrafts}, s.draftEvent(c, events.DraftOpened, d, says, in.Reason))
	})
	var full *store.Full
	if errors.As(err, &full) {
		return wire.Changed{}, fault.New(fault.Conflict, "too_many_drafts", "%s of yours are open, of %d; publish or drop some first", say.Count(full.Own,
			"draft"), full.All)
	}
	if errors.Is(err, store.ErrDraftExists) {
		return wire.Changed{}, fault.New(fault.Conflict, "exists", "there is an open draft %s already; choose another name", name)
	}
	out := s.saidOnly(st, says)
	if err == nil && len(in.Steps) > 0 {
		err = s.fill(ctx, c, name, in.Steps, &out)
	}
	return out, err
}

// fill puts the changes of an exported draft into one that was just opened, each as if its caller had
// made it. Where one does not fit, the draft is dropped again.
func (s *Service) fill(ctx context.Context, c identity.Caller, name string, steps []wire.DraftStepText, out *wire.Changed) error {
	for i, step := range steps {
		err := s.fillStep(ctx, c, name, step)
		if err != nil {
			_, dropped := s.DropDraft(ctx, c, name, wire.Change{Reason: "a change of it does not fit"})
			return errors.Join(dropped, fault.New(fault.Conflict, "misfit", "change %d (%s) does not fit here: %s. Nothing was opened", i+1,
				strings.Join(step.Says, "; "), s.identity.Told(c, err).Detail))
		}
	}
	out.Says = append(out.Says, say.FilledDraft.With(say.Count(len(steps), "change")))
	return nil
}

func (s *Service) fillStep(ctx context.Context, c identity.Caller, name string, step wire.DraftStepText) error {
	text, err := json.Marshal(step.Changes)
	if err != nil {
		return err
	}
	changes, err := platform.Decode(string(text))
	if err != nil {
		return fault.New(fault.Invalid, "bad_draft", "its changes cannot be read: %v", err)
	}
	if len(changes) == 0 {
		return fault.New(fault.Invalid, "bad_draft", "there is no change in it")
	}
	into, err := s.identity.Drafting(ctx, c, name)
	if err != nil {
		return err
	}
	before := into.Draft().State
	after := before
	for i, change := range changes { // what it names is looked up here, and not taken on trust
		if changes[i], err = s.boundTo(after, into, change); err != nil {
			return err
		}
		changes[i] = givenBy(changes[i], after.Model.Ref(c.User))
		if after, err = after.Apply(changes[i], time.Now().UTC()); err != nil {
			return err
		}
	}
	o := order{caller: into, changes: changes, says: differSays(outline.Between(before.Model, of(before), of(after))), Change: wire.Change{Reason: step.Reason}}
	if len(o.says) == 0 {
		return fault.New(fault.Invalid, "nothing", "it is so already")
	}
	_, err = s.carryOut(ctx, o)
	return err
}

// ExportDraft is a draft by itself, to be opened elsewhere.
func (s *Service) ExportDraft(ctx context.Context, c identity.Caller, name string) (wire.DraftText, error) {
	d, err := s.ownDraft(ctx, c, name)
	if err != nil {
		return wire.DraftText{}, err
	}
	out := wire.DraftText{Name: d.Name, Reason: d.Reason, Steps: []wire.DraftStepText{}}
	for _, step := range d.Draft.Steps {
		text := wire.DraftStepText{Says: saysOf(step), Reason: step.Reason}
		if err := json.Unmarshal([]byte(step.Changes), &text.Changes); err != nil {
			return out, err
		}
		out.Steps = append(out.Steps, text)
	}
	return out, nil
}

// draftEvent tells of what became of a draft those who review, and whoever opened it.
func (s *Service) draftEvent(c identity.Caller, kind events.Kind, d store.Draft, says, reason string) store.Write {
	actor := identity.Actor(s.platform.Current().Model, c)
	return events.New(kind, d.Name, d.Opener, events.Told{Text: actor + " " + says, Draft: d.Name, Actor: actor, Reason: reason})
}

const mostReason = 2_000

func now() string { return time.Now().UTC().Format(time.RFC3339Nano) }

// saidOnly is the answer of what changes no revision.
func (s *Service) saidOnly(st *platform.State, says ...string) wire.Changed {
	return wire.Changed{Revision: st.Revision, Done: true, Says: says, Notes: []string{}, Effects: []wire.Effect{}}
}

// intoDraft puts what an order comes to into a draft.
func (s *Service) intoDraft(ctx context.Context, o order, d *platform.Draft) (wire.Changed, error) {
	if o.also != nil {
		return wire.Changed{}, fault.New(fault.Invalid, "not_in_draft",
			"this takes effect outside of the model, and so cannot be part of a draft: passwords and sources are set at once")
	}
	for _, c := range o.changes {
		switch c.(type) {
		case guard.SignReview:
			return wire.Changed{}, fault.New(fault.Invalid, "not_in_draft", "a review is signed when it is closed, and by nothing else")
		case access.AddObject, access.MissObject:
			return wire.Changed{}, fault.New(fault.Invalid, "not_in_draft", "what is in a source is found by a scan, and cannot be part of a draft")
		}
	}
	if !s.identity.MayFill(o.caller, d) {
		return wire.Changed{}, s.identity.Refuse(o.caller, audit.Draft, strings.Join(o.says, "; "),
			fault.New(fault.Refused, "refused", "the draft %s is somebody else's: that takes MANAGE on platform", d.Name))
	}
	_, out, err := s.workOut(d.State, o, time.Now().UTC())
	if err != nil || len(o.changes) == 0 {
		return out, err
	}
	out.Draft = d.Name
	if o.DryRun {
		return out, nil
	}
	step, err := stepOf(o)
	if err != nil {
		return wire.Changed{}, err
	}
	step.Draft = d.ID
	size := len(step.Changes)
	for _, other := range d.Draft.Steps {
		size += len(other.Changes)
	}
	if size > mostInDraft {
		return wire.Changed{}, fault.New(fault.Invalid, "oversized", "a draft can have up to %d MiB of changes; publish it, and open another", mostInDraft>>20)
	}
	if len(d.Draft.Steps) >= mostSteps {
		return wire.Changed{}, fault.New(fault.Invalid, "oversized", "a draft can hold %d changes; publish it, and open another", mostSteps)
	}
	record := o.caller.Record(identity.Actor(s.platform.Current().Model, o.caller), audit.Draft, say.PutInDraft.With(d.Name, strings.Join(o.says, "; ")))
	record.Reason, record.Objects = o.Reason, audit.List(objectsOf(o.changes))
	if err := s.onRecord(record, func() error {
		return s.store.PutDraftStep(ctx, step, d.Version, s.draftEvent(o.caller, events.DraftChanged, d.Draft, record.Text, o.Reason))
	}); err != nil {
		return wire.Changed{}, draftMoved(d.Name, err)
	}
	out.Done = true
	return out, nil
}

func stepOf(o order) (store.DraftStep, error) {
	changes, err := platform.Encode(o.changes)
	if err != nil {
		return store.DraftStep{}, err
	}
	if len(changes) > mostStep {
		return store.DraftStep{}, fault.New(fault.Invalid, "oversized", "one change of a draft can have up to %d bytes", mostStep)
	}
	says, err := json.Marshal(o.says)
	return store.DraftStep{At: now(), Subject: uint32(o.caller.User), Reason: o.Reason, Says: string(says), Changes: changes}, err
}

// draftMoved says that somebody else was at the draft meanwhile.
func draftMoved(name string, err error) error {
	if errors.Is(err, store.ErrNoDraft) {
		return fault.New(fault.Stale, "stale", "the draft %s was changed, published or dropped meanwhile; look again, then repeat the change", name)
	}
	return err
}

// DropStep takes one step out of a draft.
func (s *Service) DropStep(ctx context.Context, c identity.Caller, name string, n int64) (wire.Changed, error) {
	d, err := s.ownDraft(ctx, c, name)
	if err != nil {
		return wire.Changed{}, err
	}
	for i, step := range d.Draft.Steps {
		if step.N != n {
			continue
		}
		says := say.TookFromDraft.With(d.Name, strings.Join(saysOf(step), "; "))
		record := c.Record(s.platform.Current().Model.Ref(c.User), audit.Draft, says)
		if err := s.onRecord(record, func() error {
			return s.store.DropDraftStep(ctx, d.ID, n, s.draftEvent(c, events.DraftChanged, d.Draft, says, ""))
		}); err != nil {
			return wire.Changed{}, draftMoved(d.Name, err)
		}
		out := s.saidOnly(s.platform.Current(), says)
		if rest := len(d.Draft.Steps) - 1 - i; rest > 0 {
			if after, err := s.identity.FindDraft(ctx, d.Name); err == nil && len(after.Misfits) > len(d.Misfits) {
				out.Notes = append(out.Notes, say.RestNoLongerFits.With(say.Count(len(after.Misfits), "change")))
			}
		}
		return out, nil
	}
	return wire.Changed{}, fault.New(fault.NotFound, "no_step", "the draft %s has no change %d: gneiss draft show %s", d.Name, n, d.Name)
}

func saysOf(step store.DraftStep) []string {
	var says []string
	if json.Unmarshal([]byte(step.Says), &says) != nil {
		return nil // it was written by stepOf
	}
	return says
}

// ownDraft finds a draft that the caller may change.
func (s *Service) ownDraft(ctx context.Context, c identity.Caller, name string) (*platform.Draft, error) {
	next, err := s.identity.Drafting(ctx, c, name)
	if err != nil {
		return nil, err
	}
	return next.Draft(), nil
}

// DropDraft drops a draft with all that is in it.
func (s *Service) DropDraft(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	d, err := s.ownDraft(ctx, c, name)
	if err != nil {
		return wire.Changed{}, err
	}
	out := s.saidOnly(s.platform.Current(), say.DroppedDraft.With(d.Name, say.Count(len(d.Draft.Steps), "change")))
	if out.DryRun, out.Done = in.DryRun, !in.DryRun; in.DryRun {
		return out, nil
	}
	record := c.Record(s.platform.Current().Model.Ref(c.User), audit.Draft, out.Says[0])
	record.Reason = in.Reason
	drop := store.CloseDraft(d.ID, store.DraftDropped, now(), uint32(c.User), 0)
	if len(d.Draft.Steps) == 0 { // nothing was in it: there is nothing to keep
		drop = store.ForgetDraft(d.ID)
	}
	return out, draftMoved(d.Name, s.onRecord(record, func() error {
		return s.store.Do(ctx, drop, s.draftEvent(c, events.DraftDropped, d.Draft, out.Says[0], in.Reason))
	}))
}

// onRecord does something that is on record before it is done, and notes there where it was not.
func (s *Service) onRecord(record *store.Record, do func() error) error {
	if err := s.audit.Write(record); err != nil {
		return err
	}
	err := do()
	if err != nil {
		undone := *record
		undone.Decision, undone.Reason = audit.Failed, "it was not done: "+err.Error()
		return errors.Join(err, s.audit.Write(&undone))
	}
	return nil
}

// PublishDraft makes all that is in a draft one revision. Its caller must be one who may make each of
// its changes.
func (s *Service) PublishDraft(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	if !s.identity.Reviews(s.platform.Current(), c) {
		if _, err := s.ownDraft(ctx, c, name); err != nil { // which others are open is not told
			return wire.Changed{}, err
		}
	}
	d, err := s.identity.FindDraft(ctx, name)
	if err != nil {
		return wire.Changed{}, err
	}
	if len(d.Draft.Steps) == 0 {
		return wire.Changed{}, fault.New(fault.Invalid, "nothing", "the draft %s has no change in it yet", d.Name)
	}
	if i, err := d.Misfit(); err != nil {
		return wire.Changed{}, misfit(d, i, s.identity.Told(c, err))
	}
	m := s.platform.Current().Model
	o := order{caller: c, Change: in, changes: d.All(), draft: d.ID}
	if o.Reason == "" {
		o.Reason = d.Reason
	}
	by := m.Ref(access.SubjectID(d.Opener))
	o.says = append(o.says, say.PublishedDraft.With(d.Name, by))
	for _, step := range d.Draft.Steps {
		o.makers = append(o.makers, step.Subject)
		o.says = append(o.says, saysOf(step)...)
	}
	if s.identity.Reviews(s.platform.Current(), c) {
		breaks, err := s.review.Breaks(ctx, c, d.Name)
		if err != nil {
			return wire.Changed{}, err
		}
		for _, b := range breaks {
			if b.Kind == "test" {
				o.notes = append(o.notes, say.TestFails.With(b.Name, b.Sentence, strings.Join(b.Says, "; ")))
			}
		}
	}
	o.also = func(after *platform.State) ([]store.Write, error) {
		still, err := s.store.OpenDraftNamed(ctx, d.Name) // no other change is made meanwhile
		if err != nil || still.ID != d.ID || still.Version != d.Version {
			return nil, draftMoved(d.Name, errors.Join(store.ErrNoDraft, err))
		}
		return []store.Write{store.CloseDraft(d.ID, store.DraftPublished, now(), uint32(c.User), after.Revision+1),
			s.draftEvent(c, events.DraftPublished, d.Draft, say.PublishedDraft.With(d.Name, by), o.Reason)}, nil
	}
	out, err := s.carryOut(ctx, o)
	return out, draftMoved(d.Name, err)
}

// misfit says which change of a draft does not fit what is there now.
func misfit(d *platform.Draft, i int, why *fault.Error) error {
	step := d.Draft.Steps[i]
	return fault.New(fault.Conflict, "misfit", "change %d of the draft (%s) does not fit what is there now: %s. Take it out with: gneiss draft remove %s %d",
		step.N, strings.Join(saysOf(step), "; "), why.Detail, d.Name, step.N)
}

// givenBy is a change that gives a right or a role, as given by who puts it into a draft: nobody
// writes there that somebody else gives.
func givenBy(what platform.Change, ref string) platform.Change {
	switch c := what.(type) {
	case access.AddGrant:
		c.Grantor = ref
		return c
	case access.Join:
		if c.By != "" {
			c.By = ref
		}
		return c
	}
	return what
}
