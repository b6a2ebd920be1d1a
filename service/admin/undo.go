package admin

import (
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"gneiss/core/outline"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// How many revisions are taken back at once, and how many later ones are gone through for it.
const (
	mostUndone   = 100
	mostReplayed = 100_000
)

// Undo takes revisions back: the state becomes what it would be had they not been made, and all later
// ones had. It is refused where a later one could not have been made without them.
func (s *Service) Undo(ctx context.Context, c identity.Caller, in wire.UndoRequest) (wire.Changed, error) {
	before := s.identity.State(c)
	if err := s.identity.Administers(s.platform.Current(), c, "an undo"); err != nil {
		return wire.Changed{}, err
	}
	revisions := slices.Clone(in.Revisions)
	slices.Sort(revisions)
	revisions = slices.Compact(revisions)
	if len(revisions) == 0 || len(revisions) > mostUndone {
		return wire.Changed{}, fault.New(fault.Invalid, "nothing", "name one to %d revisions: gneiss history lists them", mostUndone)
	}
	if c.IfMatch == 0 && c.Draft() == nil {
		c.IfMatch = before.Revision // what is worked out here is for this state
	}
	o := order{caller: c, Change: in.Change}
	base, without, err := s.without(ctx, c, revisions, &o)
	if err != nil {
		return wire.Changed{}, err
	}
	if c.Draft() != nil { // what is in it comes on top
		if without, err = without.ApplyAll(c.Draft().Fitting(), time.Now().UTC()); err != nil {
			return wire.Changed{}, fault.New(fault.Conflict, "in_the_way", "the changes of the draft build on that: %s", s.identity.Told(c, err).Detail)
		}
	}
	differs := outline.Between(base.Model, of(before), of(without))
	for _, d := range differs {
		if d.Fixed() {
			return wire.Changed{}, fault.New(fault.Invalid, "not_undone",
				"that is about what is in a source (%s), which a scan finds: scan it again, or connect it again", d.Name())
		}
		if ref := d.Account(); ref != "" && d.Before == nil {
			o.notes = append(o.notes, say.NoPasswordBack.With(ref))
		}
	}
	if len(differs) == 0 {
		return wire.Changed{}, fault.New(fault.Conflict, "nothing", "there is nothing left of that to take back: later revisions made it again")
	}
	for _, change := range outline.Make(differs) {
		o.changes = append(o.changes, change)
	}
	after, err := before.ApplyAll(o.changes, time.Now().UTC())
	if err != nil {
		return wire.Changed{}, fault.New(fault.Conflict, "in_the_way", "it cannot be taken back: %s", s.identity.Told(c, err).Detail)
	}
	if rest := outline.Between(base.Model, of(after), of(without)); len(rest) > 0 {
		return wire.Changed{}, fault.New(fault.Conflict, "in_the_way", "it cannot be taken back alone: %s would not be as it was. Take it back by hand",
			rest[0].Name())
	}
	return s.carryOut(ctx, o)
}

func of(st *platform.State) outline.State {
	return outline.State{Model: st.Model, Policies: st.Policies, Guards: st.Guards}
}

// without is the current state as it would be had revisions, which are in order, not been made, and
// the state before the first of them. What they did is said in the order.
func (s *Service) without(ctx context.Context, c identity.Caller, revisions []int64, o *order) (base, st *platform.State, err error) {
	current, first := s.platform.Current().Revision, revisions[0]
	if last := revisions[len(revisions)-1]; first < 2 || last > current {
		return nil, nil, fault.New(fault.NotFound, "no_revision", "there is no revision %d to undo; they go from 2 to %d", min(first, last), current)
	}
	if current-first > mostReplayed {
		return nil, nil, fault.New(fault.Invalid, "too_old", "revision %d is more than %d revisions ago; take it back by hand", first, mostReplayed)
	}
	if base, err = s.platform.At(ctx, first-1); err != nil {
		return nil, nil, err
	}
	st = base
	entries, err := s.store.History(ctx, current+1, nil, int(current-first+1))
	if err != nil {
		return nil, nil, err
	}
	slices.Reverse(entries)
	for _, e := range entries {
		if slices.Contains(revisions, e.Revision) {
			o.says = append(o.says, say.UndidRevision.With(e.Revision, e.Actor, strings.Join(saysOfRevision(e), "; ")))
			continue
		}
		changes, err := platform.Changes(e.Entry)
		if err != nil {
			return nil, nil, err
		}
		when, err := e.Time()
		if err != nil {
			return nil, nil, err
		}
		next, err := st.ApplyAll(changes, when)
		if err != nil {
			return nil, nil, fault.New(fault.Conflict, "in_the_way", "revision %d by %s (%s) builds on that: %s. Undo it as well, or take it back by hand",
				e.Revision, e.Actor, strings.Join(saysOfRevision(e), "; "), s.identity.Told(c, err).Detail)
		}
		st = next
	}
	return base, st, nil
}

// saysOfRevision are the sentences of a revision: as they were said, or, of an old one, from its
// changes.
func saysOfRevision(e store.Past) []string {
	var says []string
	if json.Unmarshal([]byte(e.Says), &says); len(says) > 0 {
		return says
	}
	return platform.Described(e.Entry)
}

// NameRevision gives a revision a name by which it is found.
func (s *Service) NameRevision(ctx context.Context, c identity.Caller, in wire.RevisionName) (wire.Changed, error) {
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "the name of a revision"); err != nil {
		return wire.Changed{}, err
	}
	name := strings.ToLower(strings.TrimSpace(in.Name))
	if _, err := strconv.Atoi(name); !draftName.MatchString(name) || err == nil || name == "now" {
		return wire.Changed{}, fault.New(fault.Invalid, "bad_name",
			"%.80q cannot name a revision: use up to 63 of a-z, 0-9 and _ - ., with a letter among them", in.Name)
	}
	if _, err := time.Parse(time.DateOnly, name); err == nil {
		return wire.Changed{}, fault.New(fault.Invalid, "bad_name", "%s is a day, and cannot name a revision", name)
	}
	if in.Revision < 0 || in.Revision > st.Revision {
		return wire.Changed{}, fault.New(fault.NotFound, "no_revision", "there is no revision %d; they go from 1 to %d", in.Revision, st.Revision)
	}
	says := say.NamedRevision.With(in.Revision, name)
	if in.Revision == 0 {
		if _, err := s.identity.Revision(ctx, name); err != nil {
			return wire.Changed{}, err
		}
		says = say.UnnamedRevision.With(name)
	}
	put := store.RevisionName{Name: name, Revision: in.Revision, At: now(), Actor: st.Model.Ref(c.User)}
	err := s.onRecord(c.Record(st.Model.Ref(c.User), audit.Change, says), func() error { return s.store.PutRevisionName(ctx, put) })
	return s.saidOnly(st, says), err
}
