package service

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gneiss/core/access"
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
	st := s.state()
	ref := st.model.Ref(c.User)
	if len(in.Old) > mostPassword || len(in.New) > mostPassword {
		return wire.Changed{}, problem(422, "too_long", "Not possible", "a password has at most %d bytes", mostPassword)
	}
	who := pair{"password " + ref, bounded(c.Address, mostName)}
	if s.attempt.wait(who, s.now(), func() bool { return false }) > 0 {
		return wire.Changed{}, problem(429, "too_many_attempts", "Too many attempts", "too many attempts; wait a minute")
	}
	ok, err := s.store.CheckPassword(ctx, uint32(c.User), in.Old)
	if err != nil {
		return wire.Changed{}, err
	}
	record := &store.Record{Actor: ref, Action: "password", Decision: "allowed", Text: "changed the own password", Address: c.Address}
	switch {
	case !ok:
		s.attempt.failed(who, s.now())
		record.Decision, record.Reason = "refused", "the old password is wrong"
		if err := s.record(record); err != nil {
			return wire.Changed{}, err
		}
		return wire.Changed{}, problem(403, "wrong_password", "Refused", "the old password is wrong")
	case len(in.New) < shortestPassword:
		return wire.Changed{}, weakPassword()
	case in.New == in.Old:
		return wire.Changed{}, problem(422, "same_password", "Not possible", "the new password is the old one")
	}
	s.attempt.succeeded(who)
	if err := s.record(record); err != nil {
		return wire.Changed{}, err
	}
	if err := s.store.ChangePassword(ctx, store.HashPassword(in.New), c.token); err != nil {
		return wire.Changed{}, err
	}
	return wire.Changed{Revision: st.revision, Done: true, Says: []string{"changed your password"}, Notes: []string{"your other sessions have ended; named tokens stay"}, Effects: []wire.Effect{}}, nil
}

const shortestPassword = 8

func weakPassword() error {
	return problem(422, "weak_password", "Not possible", "a password has at least %d characters", shortestPassword)
}

// Tokens lists the caller's sessions and tokens; of another account for who
// administers the platform.
func (s *Service) Tokens(ctx context.Context, c Caller, ref string) (wire.List[wire.Token], error) {
	out := wire.List[wire.Token]{Items: []wire.Token{}}
	st := s.state()
	subject, err := s.account(st, c, ref)
	if err != nil {
		return out, err
	}
	found, err := s.store.Tokens(ctx, uint32(subject), s.now())
	if err != nil {
		return out, err
	}
	for _, t := range found {
		out.Items = append(out.Items, wireToken(st, c, t))
	}
	return out, nil
}

// account is the caller, or the account that they ask about and administer.
func (s *Service) account(st *state, c Caller, ref string) (access.SubjectID, error) {
	if ref == "" || ref == st.model.Ref(c.User) {
		return c.User, nil
	}
	if err := s.administers(st, c, "the tokens of "+ref); err != nil {
		return 0, err
	}
	if ref == "all" {
		return 0, nil
	}
	subject, err := st.model.FindSubject(ref)
	if err != nil {
		return 0, err
	}
	if !subject.Acts() {
		return 0, problem(422, "wrong_kind", "Not possible", "%s has no tokens: only users and services sign in", subject.Ref())
	}
	return subject.ID, nil
}

func wireToken(st *state, c Caller, t store.Token) wire.Token {
	w := wire.Token{ID: t.ID(), Name: t.Name, Subject: st.model.Ref(access.SubjectID(t.Subject)), Session: t.Kind == store.SessionToken, Current: t.Hash == c.token.Hash}
	w.Created, _ = time.Parse(time.RFC3339, t.Created)
	w.Expires, _ = time.Parse(time.RFC3339, t.Expires)
	return w
}

// NewToken makes a named token for the caller, or for an account that the caller
// administers. A token made by a token lasts no longer than it: nobody stays in
// by passing on what was lent.
func (s *Service) NewToken(ctx context.Context, c Caller, in wire.TokenRequest) (wire.NewToken, error) {
	st := s.state()
	id, err := s.account(st, c, in.Subject)
	if err != nil {
		return wire.NewToken{}, err
	}
	now := s.now()
	in.Name = strings.TrimSpace(in.Name)
	expires := now.Add(usualToken)
	if in.Expires != nil {
		expires = *in.Expires
	}
	if c.token.Kind == store.NamedToken && id == c.User {
		if until, err := time.Parse(time.RFC3339, c.token.Expires); err == nil && expires.After(until) {
			expires = until
		}
	}
	switch {
	case id == 0:
		return wire.NewToken{}, problem(422, "nothing", "Not possible", "name the account that the token is for")
	case in.Name == "" || len(in.Name) > 100:
		return wire.NewToken{}, problem(422, "bad_name", "Not possible", "say in up to 100 characters what the token is for")
	case !expires.After(now):
		return wire.NewToken{}, problem(422, "bad_date", "Not possible", "the token would have ended already")
	case expires.After(now.Add(longestToken)):
		return wire.NewToken{}, problem(422, "bad_date", "Not possible", "a token lasts a year at the most")
	case st.model.Subject(id).Disabled:
		return wire.NewToken{}, problem(422, "disabled", "Not possible", "%s is disabled", st.model.Ref(id))
	}
	held, err := s.store.Tokens(ctx, uint32(id), now)
	if err != nil {
		return wire.NewToken{}, err
	}
	for _, t := range held {
		if t.Kind == store.NamedToken && t.Name == in.Name {
			return wire.NewToken{}, problem(409, "exists", "Not possible", "%s has a token named %s already; end it first, or choose another name", st.model.Ref(id), in.Name)
		}
	}
	if err := s.record(&store.Record{Actor: st.model.Ref(c.User), Action: "token", Decision: "allowed",
		Text: fmt.Sprintf("made the token %s for %s, until %s", in.Name, st.model.Ref(id), expires.UTC().Format(time.RFC3339)), Address: c.Address}); err != nil {
		return wire.NewToken{}, err
	}
	secret, t, err := s.store.NewToken(ctx, uint32(id), store.NamedToken, in.Name, now, expires, false)
	if err != nil {
		return wire.NewToken{}, err
	}
	return wire.NewToken{Token: wireToken(st, c, t), Secret: secret}, nil
}

// EndToken ends a session or token of the caller's, or of an account that the
// caller administers.
func (s *Service) EndToken(ctx context.Context, c Caller, id string) (wire.Changed, error) {
	st := s.state()
	of := uint32(c.User)
	if s.manages(st, c, access.PlatformID) {
		of = 0
	}
	found, err := s.store.Tokens(ctx, of, s.now())
	if err != nil {
		return wire.Changed{}, err
	}
	for _, t := range found {
		if t.ID() != id {
			continue
		}
		says := fmt.Sprintf("ended the %s %s (%s) of %s", t.Kind, t.ID(), t.Name, st.model.Ref(access.SubjectID(t.Subject)))
		if err := s.record(&store.Record{Actor: st.model.Ref(c.User), Action: "token", Decision: "allowed", Text: says, Address: c.Address}); err != nil {
			return wire.Changed{}, err
		}
		if err := s.store.DropToken(ctx, t); err != nil {
			return wire.Changed{}, err
		}
		return wire.Changed{Revision: st.revision, Done: true, Says: []string{says}, Notes: []string{}, Effects: []wire.Effect{}}, nil
	}
	return wire.Changed{}, problem(404, "not_found", "Not found", "there is no token %s, or it is not yours to end", id)
}
