package identity

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/platform"
	"gneiss/store"
	"gneiss/wire"
)

// How long named tokens last: when nothing is asked, and at the most.
const (
	usualToken   = 90 * 24 * time.Hour
	longestToken = 366 * 24 * time.Hour
)

// ChangePassword sets the caller's own new password. Their other sessions end.
func (s *Service) ChangePassword(ctx context.Context, c Caller, in wire.PasswordRequest) (wire.Changed, error) {
	st := s.platform.Current()
	ref := st.Model.Ref(c.User)
	if c.token.Kind == store.NamedToken {
		return wire.Changed{}, errByToken
	}
	if len(in.Old) > mostPassword {
		return wire.Changed{}, fault.New(fault.Invalid, "oversized", "a password can have up to %d bytes", mostPassword)
	}
	try, err := s.attempts.begin(ctx, pair{"password " + ref, audit.Bounded(c.Address, mostName)}, nil)
	if err != nil {
		return wire.Changed{}, err
	}
	defer try.end()
	ok, _, err := s.store.CheckPassword(ctx, uint32(c.User), in.Old)
	if err != nil {
		return wire.Changed{}, err
	}
	record := c.Record(ref, audit.Password, "changed their password")
	if !ok {
		try.fails()
		record.Decision, record.Reason = audit.Refused, "the old password is wrong"
		if err := s.audit.Write(record); err != nil {
			return wire.Changed{}, err
		}
		return wire.Changed{}, fault.New(fault.Refused, "wrong_password", "the old password is wrong")
	}
	try.succeeds()
	password, err := newPassword(ctx, in.Old, in.New)
	if err != nil {
		return wire.Changed{}, err
	}
	if err := s.audit.Write(record); err != nil {
		return wire.Changed{}, err
	}
	if err := s.store.ChangePassword(ctx, uint32(c.User), password, c.token); err != nil {
		return wire.Changed{}, err
	}
	return wire.Changed{
		Revision: st.Revision,
		Done:     true,
		Says:     []string{"changed your password"},
		Notes:    []string{"your other sessions have ended; named tokens stay"},
		Effects:  []wire.Effect{},
	}, nil
}

// errByToken is said to who would set a password by what was lent to a program.
var errByToken = fault.New(fault.Refused, "by_token", "a token cannot set a password; sign in with the password, in the console or with gneiss sign-in")

// newPassword is what a person chooses in the place of their old one.
func newPassword(ctx context.Context, old, text string) (store.Password, error) {
	if err := FitPassword(text); err != nil {
		return store.Password{}, err
	}
	if text == old {
		return store.Password{}, fault.New(fault.Invalid, "same_password", "the new password is the old one")
	}
	return store.NewPassword(ctx, text)
}

// Tokens lists the caller's sessions and tokens; of another account for who
// administers the platform.
func (s *Service) Tokens(ctx context.Context, c Caller, ref string) (wire.List[wire.Token], error) {
	out := wire.List[wire.Token]{Items: []wire.Token{}}
	st := s.platform.Current()
	subject, err := s.account(st, c, ref)
	if err != nil {
		return out, err
	}
	found, err := s.store.Tokens(ctx, uint32(subject), time.Now())
	if err != nil {
		return out, err
	}
	for _, t := range found {
		out.Items = append(out.Items, wireToken(st, c, t))
	}
	return out, nil
}

// account is the caller, or the account that they ask about and administer.
func (s *Service) account(st *platform.State, c Caller, ref string) (access.SubjectID, error) {
	if ref == "" || ref == st.Model.Ref(c.User) {
		return c.User, nil
	}
	if err := s.Administers(st, c, "the tokens of "+ref); err != nil {
		return 0, err
	}
	if ref == "all" {
		return 0, nil
	}
	subject, err := st.Model.FindSubject(ref)
	if err != nil {
		return 0, err
	}
	if !subject.Acts() {
		return 0, fault.New(fault.Invalid, "wrong_kind", "%s has no tokens: only users and services sign in", subject.Ref())
	}
	return subject.ID, nil
}

func wireToken(st *platform.State, c Caller, t store.Token) wire.Token {
	w := wire.Token{
		ID:      t.ID(),
		Name:    t.Name,
		Subject: st.Model.Ref(access.SubjectID(t.Subject)),
		Session: t.Kind == store.SessionToken,
		Current: t.Hash == c.token.Hash,
	}
	w.Created, _ = time.Parse(time.RFC3339, t.Created)
	w.Expires, _ = time.Parse(time.RFC3339, t.Expires)
	return w
}

// NewToken makes a named token for the caller, or for a service that the caller
// administers: nobody gets one of another person. A token made by a token lasts no longer than
// it, whoever it is for: nobody stays in by passing on what was lent.
func (s *Service) NewToken(ctx context.Context, c Caller, in wire.TokenRequest) (wire.NewToken, error) {
	st := s.platform.Current()
	id, err := s.account(st, c, in.Subject)
	if err != nil {
		return wire.NewToken{}, err
	}
	now := time.Now()
	in.Name = strings.TrimSpace(in.Name)
	expires := now.Add(usualToken)
	if in.Expires != nil {
		expires = *in.Expires
	}
	if id != c.User && id != 0 && st.Model.Subject(id).Kind != access.Service {
		return wire.NewToken{}, fault.New(fault.Refused, "of_a_person",
			"%s is a person, who alone can make tokens of theirs; for programs, add a service", st.Model.Ref(id))
	}
	if c.token.Kind == store.NamedToken {
		if until, err := time.Parse(time.RFC3339, c.token.Expires); err == nil && expires.After(until) {
			expires = until
		}
	}
	switch {
	case id == 0:
		return wire.NewToken{}, fault.New(fault.Invalid, "nothing", "name the account that the token is for")
	case in.Name == "" || len(in.Name) > 100:
		return wire.NewToken{}, fault.New(fault.Invalid, "bad_name", "name the token, in up to 100 characters")
	case !expires.After(now):
		return wire.NewToken{}, fault.New(fault.Invalid, "bad_date", "the end date has passed already")
	case expires.After(now.Add(longestToken)):
		return wire.NewToken{}, fault.New(fault.Invalid, "bad_date", "a token lasts up to a year")
	case st.Model.Subject(id).Disabled:
		return wire.NewToken{}, fault.New(fault.Invalid, "disabled", "%s is disabled", st.Model.Ref(id))
	}
	says := fmt.Sprintf("made the token %s for %s, until %s", in.Name, st.Model.Ref(id), expires.UTC().Format(time.RFC3339))
	if err := s.audit.Write(c.Record(st.Model.Ref(c.User), audit.Token, says)); err != nil {
		return wire.NewToken{}, err
	}
	secret, t, err := s.store.NewToken(ctx, uint32(id), store.NamedToken, in.Name, now, expires, false)
	var full *store.Full
	switch {
	case errors.Is(err, store.ErrTokenExists):
		return wire.NewToken{}, fault.New(fault.Conflict, "exists",
			"%s has a token named %s already; end it first, or choose another name", st.Model.Ref(id), in.Name)
	case errors.As(err, &full):
		return wire.NewToken{}, fault.New(fault.Conflict, "too_many", "%s has %d tokens; end some first", st.Model.Ref(id), full.Own)
	case err != nil:
		return wire.NewToken{}, err
	}
	return wire.NewToken{Token: wireToken(st, c, t), Secret: secret}, nil
}

// EndToken ends a session or token of the caller's, or of an account that the
// caller administers.
func (s *Service) EndToken(ctx context.Context, c Caller, id string) (wire.Changed, error) {
	st := s.platform.Current()
	of := uint32(c.User)
	if s.Manages(st, c, access.PlatformID) {
		of = 0
	}
	found, err := s.store.Tokens(ctx, of, time.Now())
	if err != nil {
		return wire.Changed{}, err
	}
	for _, t := range found {
		if t.ID() != id {
			continue
		}
		says := fmt.Sprintf("ended the %s %s (%s) of %s", t.Kind, t.ID(), t.Name, st.Model.Ref(access.SubjectID(t.Subject)))
		if err := s.audit.Write(c.Record(st.Model.Ref(c.User), audit.Token, says)); err != nil {
			return wire.Changed{}, err
		}
		if err := s.store.DropToken(ctx, t); err != nil {
			return wire.Changed{}, err
		}
		return wire.Changed{Revision: st.Revision, Done: true, Says: []string{says}, Notes: []string{}, Effects: []wire.Effect{}}, nil
	}
	return wire.Changed{}, fault.New(fault.NotFound, "not_found", "there is no token %s, or you may not end it", id)
}
