package identity

import (
	"context"
	"crypto/sha256"
	"errors"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/store"
	"gneiss/wire"
)

// A Caller is who makes a request: the account that signed in, and where from.
type Caller struct {
	User    access.SubjectID
	Address string
	// IfMatch is the revision that the caller saw; a change is refused when the
	// model has changed since. Zero: on any.
	IfMatch int64
	// SetAside are the guardrails that the caller sets aside for one change, with commas between
	// them.
	SetAside string
	// Client is the name of the program that the caller uses, as it says.
	Client  string
	token   store.Token
	look    *look             // the state that the caller asks about; nil: the current
	through string            // how the record names it
	proof   *store.Credential // of a connection that is kept, by which the caller was proven
}

// CSRF is what a change through the console must carry.
func (c Caller) CSRF() string { return c.token.CSRF }

// Record starts the record of what the caller does. The actor is who the record names.
func (c Caller) Record(actor, action, text string) *store.Record {
	return &store.Record{Actor: actor, Action: action, Decision: audit.Allowed, Text: text, Address: c.Address, Client: c.Client}
}

// How long sessions last.
const (
	consoleSession = 12 * time.Hour
	tokenSession   = 30 * 24 * time.Hour
)

// SignIn checks a password and makes a session. The secret is the bearer token
// or the cookie.
func (s *Service) SignIn(ctx context.Context, in wire.SignIn, address, client string) (secret string, out wire.Session, err error) {
	now := time.Now()
	name := strings.TrimPrefix(strings.ToLower(strings.TrimSpace(in.User)), "user:")
	if len(name) > mostName || len(in.Password) > mostPassword || len(in.Name) > mostName {
		return "", out, fault.New(fault.Invalid, "oversized", "a name can have up to %d bytes, and a password %d", mostName, mostPassword)
	}
	who := pair{userRef(name), audit.Bounded(address, mostName)}
	try, err := s.attempt(ctx, who)
	if err != nil {
		return "", out, err
	}
	defer try.end()
	st := s.platform.Current()
	var id access.SubjectID
	if subject, err := st.Model.FindSubject(userRef(name)); err == nil && subject.Acts() && !subject.Disabled {
		id = subject.ID
	}
	ok, given, err := s.store.CheckPassword(ctx, uint32(id), in.Password)
	if err != nil {
		return "", out, err
	}
	c := Caller{User: id, Address: address, Client: audit.Bounded(client, mostClient)}
	record := c.Record(userRef(name), audit.SignIn, "")
	if !ok {
		try.fails()
		record.Decision, record.Reason = audit.Refused, errWrong.Detail
		if err := s.audit.Write(record); err != nil {
			return "", out, err
		}
		return "", out, errWrong
	}
	try.succeeds()
	if given || in.NewPassword != "" {
		if in.NewPassword == "" {
			record.Decision, record.Reason = audit.Refused, errGiven.Detail
			return "", out, errors.Join(s.audit.Write(record), errGiven)
		}
		if err := s.chooses(ctx, c, in.Password, in.NewPassword); err != nil {
			return "", out, err
		}
	}
	lasts := consoleSession
	if in.Token {
		lasts = tokenSession
	}
	if err := s.audit.Write(record); err != nil {
		return "", out, err
	}
	secret, token, err := s.store.NewToken(ctx, uint32(id), store.SessionToken, in.Name, now, now.Add(lasts), !in.Token)
	if err != nil {
		return "", out, err
	}
	c.token = token
	out, err = s.Whoami(c, wire.Standpoint{})
	out.CSRF = token.CSRF
	return secret, out, err
}

// errGiven is said to who signs in with a password that an administrator has set.
var errGiven = fault.New(fault.NotSignedIn, "password_given",
	"an administrator has set this password: choose your own, at sign-in in the console or with gneiss sign-in")

// chooses sets a person's own password in the place of the one that they have just given.
func (s *Service) chooses(ctx context.Context, c Caller, old, text string) error {
	password, err := newPassword(ctx, old, text)
	if err != nil {
		return err
	}
	ref := s.platform.Current().Model.Ref(c.User)
	if err := s.audit.Write(c.Record(ref, audit.Password, "changed their password")); err != nil {
		return err
	}
	return s.store.ChangePassword(ctx, uint32(c.User), password, store.Token{})
}

// Connected reports whether the caller has come through one of the service's doors, and not from
// within it.
func (c Caller) Connected() bool { return c.token.Hash != "" || c.proof != nil }

func userRef(name string) string {
	if strings.HasPrefix(name, "service:") {
		return name
	}
	return "user:" + name
}

// Authenticate finds the caller of a bearer token or cookie.
func (s *Service) Authenticate(ctx context.Context, secret, address string) (Caller, error) {
	token, err := s.token(ctx, secret)
	if err != nil {
		return Caller{}, err
	}
	if token.Expired(time.Now()) {
		return Caller{}, fault.New(fault.NotSignedIn, "session_expired", "the session has expired; sign in again")
	}
	subject := s.platform.Current().Model.Subject(access.SubjectID(token.Subject))
	if subject.Disabled || subject.Removed {
		return Caller{}, fault.New(fault.NotSignedIn, "disabled", "this account is disabled")
	}
	return Caller{User: subject.ID, Address: address, token: token}, nil
}

// token finds the token of a secret. One that was found is kept for as long as no token and no
// password changes.
func (s *Service) token(ctx context.Context, secret string) (store.Token, error) {
	now, key := s.store.Generation(), sha256.Sum256([]byte(secret))
	if kept, ok := s.tokens.Get(key); ok && kept.generation == now {
		return kept.token, nil
	}
	token, ok, err := s.store.FindToken(ctx, secret)
	if err == nil && !ok {
		err = fault.New(fault.NotSignedIn, "not_signed_in", "sign in first")
	}
	if err == nil {
		s.tokens.Add(key, keptToken{token, now})
	}
	return token, err
}

type keptToken struct {
	token      store.Token
	generation int64 // of the store, as it was looked for
}

// SignOut ends the caller's session.
func (s *Service) SignOut(ctx context.Context, c Caller) error {
	return s.store.DropToken(ctx, c.token)
}

// Whoami says who the caller is, and as whom the request looks.
func (s *Service) Whoami(c Caller, at wire.Standpoint) (wire.Session, error) {
	st := s.platform.Current()
	p, err := s.ViewerAt(st, c, at)
	if err != nil {
		return wire.Session{}, err
	}
	own, err := s.Own(st, c)
	if err != nil {
		return wire.Session{}, err
	}
	rights := own.Resolve(access.PlatformID).Allowed
	out := wire.Session{User: st.Model.Ref(c.User), Title: st.Model.Subject(c.User).Title,
		Administrator: rights.Has(access.Manage), Reviewer: s.Reviews(st, c), Auditor: rights.Has(access.Audit),
		Standpoint: p.Words, Role: st.Model.Ref(p.Standpoint.Role), Purpose: p.Standpoint.Purpose,
		Roles: []string{}, Groups: []string{}, Revision: st.Revision, CSRF: c.token.CSRF}
	out.Expires, _ = time.Parse(time.RFC3339, c.token.Expires)
	for _, id := range p.Subjects() {
		switch subject := st.Model.Subject(id); subject.Kind {
		case access.Role:
			out.Roles = append(out.Roles, subject.Ref())
		case access.Group:
			out.Groups = append(out.Groups, subject.Ref())
		}
	}
	return out, nil
}

// Actor names who made a change: the service itself where there is no caller.
func Actor(m *access.Model, c Caller) string {
	if c.User == 0 {
		return "gneiss"
	}
	return m.Ref(c.User)
}
