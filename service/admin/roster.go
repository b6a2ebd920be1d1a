package admin

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// mostTaken bounds one roster.
const mostTaken = 100_000

// TakeRoster adds the subjects and memberships of a roster that are not there,
// and changes those that differ. All of it is one revision: a line that cannot
// be taken refuses the whole, and is named.
func (s *Service) TakeRoster(ctx context.Context, c identity.Caller, in wire.RosterRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "an import of subjects"); err != nil {
		return wire.Changed{}, err
	}
	for _, f := range in.Files {
		if err := readRoster(f, &in.Roster); err != nil {
			return wire.Changed{}, err
		}
	}
	if len(in.Subjects)+len(in.Memberships) > mostTaken {
		return wire.Changed{}, fault.New(fault.Invalid, "too_large", "one import can have up to %d lines", mostTaken)
	}
	t := &taking{order: order{caller: c, Change: in.Change}, state: st, by: st.Model.Ref(c.User)}
	for _, subject := range in.Subjects {
		t.subject(subject)
	}
	for _, subject := range in.Subjects { // when all are there
		t.lead(subject)
	}
	for _, m := range in.Memberships {
		t.membership(m)
	}
	if len(t.changes) == 0 {
		return wire.Changed{
			Revision: st.Revision,
			Says:     []string{say.NothingToImport.With()},
			Notes:    []string{},
			Effects:  []wire.Effect{},
		}, nil
	}
	// Dry, line by line: the message should name the first line that is bad.
	probe, now := st.Model, time.Now()
	for i, change := range t.changes {
		next, err := probe.Apply(now, change.(access.Change))
		if err != nil {
			return wire.Changed{}, atLine(t.lines[i], err)
		}
		probe = next
	}
	t.says = []string{say.Imported.With(strings.Join(t.counted(), ", "))}
	return s.carryOut(ctx, t.order)
}

// atLine says where in the file an error comes from.
func atLine(line int, err error) error {
	p := *fault.Of(err)
	if line > 0 {
		p.Detail = fmt.Sprintf("line %d: %s; nothing was imported", line, p.Detail)
	} else {
		p.Detail += "; nothing was imported"
	}
	p.Line = line
	return &p
}

// taking gathers the changes that a roster comes to.
type taking struct {
	order
	state  *platform.State
	by     string
	lines  []int // of each change
	counts map[string]int
}

func (t *taking) add(line int, what string, c access.Change) {
	if t.counts == nil {
		t.counts = map[string]int{}
	}
	t.changes, t.lines = append(t.changes, c), append(t.lines, line)
	t.counts[what]++
}

func (t *taking) counted() []string {
	var out []string
	for _, what := range slices.Sorted(maps.Keys(t.counts)) {
		out = append(out, say.Count(t.counts[what], what))
	}
	return out
}

// there finds a subject as it is now, or nil.
func (t *taking) there(ref string) *access.Subject {
	subject, err := t.state.Model.FindSubject(ref)
	var unknown *access.NotFound
	if errors.As(err, &unknown) || !strings.Contains(ref, ":") {
		return nil
	}
	return subject
}

func (t *taking) subject(in wire.RosterSubject) {
	ref := strings.ToLower(strings.TrimSpace(in.Ref))
	old := t.there(ref)
	if old == nil {
		t.add(in.Line, "new subject", access.AddSubject{Subject: ref, Title: in.Title})
		old = &access.Subject{Title: in.Title}
	} else if old.Title != in.Title && in.Title != "" {
		t.add(in.Line, "new title", access.SetSubject{Subject: ref, Title: &in.Title})
	}
	if old.Disabled != in.Disabled {
		t.add(in.Line, "account disabled or enabled", access.SetSubject{Subject: ref, Disabled: &in.Disabled})
	}
	for _, name := range slices.Sorted(maps.Keys(in.Attributes)) {
		values := slices.Sorted(slices.Values(in.Attributes[name]))
		if !slices.Equal(old.Attributes[name], slices.Compact(values)) {
			t.add(in.Line, "attribute", access.SetAttribute{Subject: ref, Name: name, Values: values})
		}
	}
}

func (t *taking) lead(in wire.RosterSubject) {
	if in.Lead == "" {
		return
	}
	if old := t.there(in.Ref); old == nil || t.state.Model.Ref(old.Lead) != in.Lead {
		t.add(in.Line, "reporting line", access.SetSubject{Subject: in.Ref, Lead: &in.Lead})
	}
}

func (t *taking) membership(in wire.RosterMembership) {
	if old := t.there(in.Member); old != nil {
		for _, e := range old.Memberships {
			if t.state.Model.Ref(e.Of) == in.Of && e.Until.Equal(givenTime(in.Until)) && e.Option == in.Option && e.Reason == in.Reason &&
				e.Ticket == in.Ticket {
				return
			}
		}
	}
	t.add(
		in.Line,
		"membership",
		access.Join{Member: in.Member, Of: in.Of, By: t.by, Until: givenTime(in.Until), Option: in.Option, Reason: in.Reason, Ticket: in.Ticket},
	)
}
