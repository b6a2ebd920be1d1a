package identity

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/platform"
	"gneiss/store"
	"gneiss/wire"
)

// look is a state that a caller asks about: through a draft, or as of a moment.
type look struct {
	state *platform.State
	draft *platform.Draft // nil: of a moment
}

// State is what the caller asks about: the current state, where nothing else is said. Whatever it
// is, the current one decides what the caller may ask.
func (s *Service) State(c Caller) *platform.State {
	if c.look != nil {
		return c.look.state
	}
	return s.platform.Current()
}

// Draft is the draft that the caller's changes go into; nil: they are made.
func (c Caller) Draft() *platform.Draft {
	if c.look != nil {
		return c.look.draft
	}
	return nil
}

// Past reports whether the caller looks at a moment, at which nothing is changed.
func (c Caller) Past() bool { return c.look != nil && c.look.draft == nil }

// About says which state the caller asks about; "" for the current.
func (c Caller) About() string { return c.through }

// Looks reports whether the caller asks about another state than the current.
func (c Caller) Looks() bool { return c.look != nil }

// Looking has the caller ask about another moment, or through a draft. That is for who reviews the
// platform: what somebody else has in mind, or once was, is not for everyone.
func (s *Service) Looking(ctx context.Context, c Caller, m wire.Moment) (Caller, error) {
	if m == (wire.Moment{}) {
		return c, nil
	}
	if !s.Reviews(s.platform.Current(), c) {
		return c, fault.New(fault.Refused, "refused", "to look through a draft or at another moment you need DESCRIBE on platform")
	}
	if m.Draft != "" && m.At != "" {
		return c, fault.New(fault.Invalid, "two_moments", "look through a draft, or at a moment, not both")
	}
	if m.Draft != "" {
		return s.through(ctx, c, m.Draft)
	}
	revision, err := s.Revision(ctx, m.At)
	if err != nil {
		return c, err
	}
	st, err := s.platform.At(ctx, revision)
	if err != nil {
		return c, err
	}
	c.look, c.through = &look{state: st}, fmt.Sprintf(" at revision %d", revision)
	return c, nil
}

// Drafting has the caller's changes go into a draft: one of their own, or, for who manages the
// platform, anybody's.
func (s *Service) Drafting(ctx context.Context, c Caller, name string) (Caller, error) {
	next, err := s.through(ctx, c, name)
	if err == nil && !s.MayFill(c, next.look.draft) || err != nil && !s.Reviews(s.platform.Current(), c) {
		return c, fault.New(fault.NotFound, "no_draft", "there is no open draft %s of yours", named(name))
	}
	return next, err
}

// MayFill reports whether a caller may put changes into a draft.
func (s *Service) MayFill(c Caller, d *platform.Draft) bool {
	return uint32(c.User) == d.Opener || s.Manages(s.platform.Current(), c, access.PlatformID)
}

func (s *Service) through(ctx context.Context, c Caller, name string) (Caller, error) {
	d, err := s.FindDraft(ctx, name)
	if err != nil {
		return c, err
	}
	c.look, c.through = &look{state: d.State, draft: d}, " through the draft "+d.Name
	return c, nil
}

// FindDraft is the open draft of a name, which is written as it was opened.
func (s *Service) FindDraft(ctx context.Context, name string) (*platform.Draft, error) {
	d, err := s.platform.OpenDraft(ctx, strings.ToLower(strings.TrimSpace(name)))
	if !errors.Is(err, store.ErrNoDraft) {
		return d, err
	}
	var known []string
	open, err := s.store.DraftNames(ctx, true)
	if err != nil {
		return nil, err
	}
	for _, name := range open {
		known = append(known, name)
	}
	near := fault.Nearest(name, known)
	told := fault.New(fault.NotFound, "no_draft", "there is no open draft %s%s", named(name), fault.DidYouMean(near))
	told.Near = near
	return nil, told
}

func named(name string) string {
	if len(name) > mostName {
		return name[:mostName] + "…"
	}
	return name
}

// Revision is the revision that a text names: a number, a day or a time, a label, or now. A day
// alone means its end, in UTC.
func (s *Service) Revision(ctx context.Context, text string) (int64, error) {
	now := s.platform.Current().Revision
	text = strings.TrimSpace(text)
	if strings.EqualFold(text, "now") {
		return now, nil
	}
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		if n < 1 || n > now {
			return 0, fault.New(fault.NotFound, "no_revision", "there is no revision %d; they go from 1 to %d", n, now)
		}
		return n, nil
	}
	at, err := moment(text)
	if err != nil {
		labels, err := s.store.RevisionNames(ctx)
		if err != nil {
			return 0, err
		}
		var known []string
		for _, l := range labels {
			if l.Name == strings.ToLower(text) {
				return l.Revision, nil
			}
			known = append(known, l.Name)
		}
		near := fault.Nearest(text, known)
		told := fault.New(fault.Invalid, "bad_moment",
			"%s is not a moment: write a revision (118), a day (2026-11-01), a time (2026-11-01T09:30:00Z) or the label of a "+
				"revision%s", named(text), fault.DidYouMean(near))
		told.Near = near
		return 0, told
	}
	n, err := s.platform.RevisionAt(ctx, at)
	if err == nil && n == 0 {
		return 0, fault.New(fault.NotFound, "no_revision", "there was no revision at %s yet", text)
	}
	return n, err
}

func moment(text string) (time.Time, error) {
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return day.AddDate(0, 0, 1).Add(-time.Nanosecond), nil
	}
	for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04", "2006-01-02 15:04"} {
		if at, err := time.Parse(form, text); err == nil {
			return at, nil
		}
	}
	return time.Time{}, errors.New("no time")
}
