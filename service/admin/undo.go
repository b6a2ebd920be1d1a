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

// mostUndone bounds the revisions that are taken back at once.
const mostUndone = 100

// Undo takes revisions back: the newest first, each thing that one of them changed becomes what it
// was before. It is refused where something later has changed the same, or would have to go with it.
func (s *Service) Undo(ctx context.Context, c identity.Caller, in wire.UndoRequest) (wire.Changed, error) {
	if err := s.identity.Administers(s.platform.Current(), c, "an undo"); err != nil {
		return wire.Changed{}, err
	}
	revisions := slices.Clone(in.Revisions)
	slices.Sort(revisions)
	revisions = slices.Compact(revisions)
	slices.Reverse(revisions)
	if len(revisions) == 0 || len(revisions) > mostUndone {
		return wire.Changed{}, fault.New(fault.Invalid, "nothing", "name one to %d revisions: gneiss history lists them", mostUndone)
	}
	before := s.identity.State(c)
	if c.IfMatch == 0 && c.Draft() == nil {
		c.IfMatch = before.Revision // what is worked out here is for this state
	}
	o := order{caller: c, Change: in.Change}
	after := before
	var undone []outline.Difference
	for _, n := range revisions {
		entry, differs, err := s.differences(ctx, n)
		if err != nil {
			return wire.Changed{}, err
		}
		back, err := s.takenBack(ctx, after, n, differs)
		if err != nil {
			return wire.Changed{}, err
		}
		if len(back) == 0 {
			continue
		}
		if after, err = after.ApplyAll(back, time.Now().UTC()); err != nil {
			return wire.Changed{}, fault.New(fault.Conflict, "in_the_way", "revision %d cannot be undone: %s", n, s.identity.Told(c, err).Detail)
		}
		undone = append(undone, differs...)
		o.changes = append(o.changes, back...)
		o.says = append(o.says, say.UndidRevision.With(n, entry.Actor, strings.Join(s.saysOfRevision(entry), "; ")))
		o.notes = append(o.notes, accountNotes(differs)...)
	}
	if len(o.changes) == 0 {
		return wire.Changed{}, fault.New(fault.Conflict, "nothing", "there is nothing left of that to take back")
	}
	if more := beyond(outline.Between(of(before), of(after)), undone); len(more) > 0 {
		return wire.Changed{}, fault.New(fault.Conflict, "in_the_way", "that would also change what later revisions made: %s. Undo those as well, or take it back by hand",
			strings.Join(more[:min(len(more), 10)], "; "))
	}
	return s.carryOut(ctx, o)
}

func of(st *platform.State) outline.State {
	return outline.State{Model: st.Model, Policies: st.Policies}
}

// differences is what a revision changed.
func (s *Service) differences(ctx context.Context, n int64) (store.Past, []outline.Difference, error) {
	current := s.platform.Current().Revision
	if n < 2 || n > current {
		return store.Past{}, nil, fault.New(fault.NotFound, "no_revision", "there is no revision %d to undo; they go from 2 to %d", n, current)
	}
	found, err := s.store.History(ctx, n+1, nil, 1)
	if err != nil {
		return store.Past{}, nil, err
	}
	before, err := s.platform.At(ctx, n-1)
	if err != nil {
		return store.Past{}, nil, err
	}
	changes, err := platform.Changes(found[0].Entry)
	if err != nil {
		return store.Past{}, nil, err
	}
	when, err := found[0].Time()
	if err != nil {
		return store.Past{}, nil, err
	}
	after, err := before.ApplyAll(changes, when)
	if err != nil {
		return store.Past{}, nil, err
	}
	return found[0], outline.Between(of(before), of(after)), nil
}

// takenBack are the changes that make what a revision changed as it was before, in a state.
func (s *Service) takenBack(ctx context.Context, now *platform.State, n int64, differs []outline.Difference) ([]platform.Change, error) {
	have := outline.Things(of(now))
	var back []outline.Difference
	var moved []string
	for _, d := range differs {
		switch is := have.Of(d); {
		case d.Fixed():
			return nil, fault.New(fault.Invalid, "not_undone", "revision %d is about what is in a source (%s), which a scan finds: scan it again, or connect it again", n, d.Name())
		case outline.Same(is, d.Before):
		case !outline.Same(is, d.After):
			moved = append(moved, d.Name())
		default:
			back = append(back, d)
		}
	}
	if len(moved) > 0 {
		return nil, fault.New(fault.Conflict, "in_the_way", "revision %d cannot be undone: later revisions changed the same again: %s. gneiss history --of tells which; undo those first, or with it",
			n, strings.Join(moved[:min(len(moved), 10)], "; "))
	}
	var changes []platform.Change
	for _, c := range outline.Back(back) {
		changes = append(changes, c)
	}
	return changes, nil
}

// beyond lists what changes beside what was meant to.
func beyond(changed, meant []outline.Difference) []string {
	named := map[string]bool{}
	for _, d := range meant {
		for _, t := range []outline.Thing{d.Before, d.After} {
			if t != nil {
				named[t.Name()] = true
			}
		}
	}
	var out []string
	for _, d := range changed {
		if !named[d.Name()] {
			out = append(out, d.Name())
		}
	}
	return out
}

// accountNotes says whose accounts come back without a password.
func accountNotes(differs []outline.Difference) []string {
	var notes []string
	for _, d := range differs {
		if ref := d.Account(); ref != "" && d.After == nil {
			notes = append(notes, say.NoPasswordBack.With(ref))
		}
	}
	return notes
}

// saysOfRevision are the sentences of a revision: as they were said, or, of an old one, from its
// changes.
func (s *Service) saysOfRevision(e store.Past) []string {
	var says []string
	if json.Unmarshal([]byte(e.Says), &says); len(says) > 0 {
		return says
	}
	return platform.Described(e.Entry)
}

// NameRevision gives a revision a name by which it is found.
func (s *Service) NameRevision(ctx context.Context, c identity.Caller, in wire.RevisionLabel) (wire.Changed, error) {
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "the name of a revision"); err != nil {
		return wire.Changed{}, err
	}
	name := strings.ToLower(strings.TrimSpace(in.Name))
	if _, err := strconv.Atoi(name); !draftName.MatchString(name) || err == nil || name == "now" {
		return wire.Changed{}, fault.New(fault.Invalid, "bad_name", "%.80q cannot name a revision: use up to 63 of a-z, 0-9 and _ - ., with a letter among them", in.Name)
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
	if err := s.audit.Write(c.Record(st.Model.Ref(c.User), audit.Change, says)); err != nil {
		return wire.Changed{}, err
	}
	return s.saidOnly(st, says), s.store.PutRevisionLabel(ctx, store.RevisionLabel{Name: name, Revision: in.Revision, At: now(), Actor: st.Model.Ref(c.User)})
}
