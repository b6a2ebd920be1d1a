package service

import (
	"context"
	"strings"
	"time"

	"gneiss/core/access"
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
	token   store.Token
}

// CSRF is what a change through the console must carry.
func (c Caller) CSRF() string { return c.token.CSRF }

// How long sessions last.
const (
	consoleSession = 12 * time.Hour
	tokenSession   = 30 * 24 * time.Hour
)

// SignIn checks a password and makes a session. The secret is the bearer token
// or the cookie.
func (s *Service) SignIn(ctx context.Context, in wire.SignIn, address string) (secret string, out wire.Session, err error) {
	now := s.now()
	name := strings.TrimPrefix(strings.ToLower(strings.TrimSpace(in.User)), "user:")
	if len(name) > mostName || len(in.Password) > mostPassword || len(in.Name) > mostName {
		return "", out, problem(422, "too_long", "Not signed in", "a name has at most %d bytes, and a password %d", mostName, mostPassword)
	}
	who := pair{userRef(name), bounded(address, mostName)}
	signedIn := func() bool { return s.store.Audit().SignedIn(ctx, who.account, who.address) }
	if wait := s.attempt.wait(who, now, signedIn); wait > 0 {
		return "", out, problem(429, "too_many_attempts", "Too many attempts", "too many attempts to sign in; wait %s", max(wait.Round(time.Second), time.Second))
	}
	st := s.state()
	var id access.SubjectID
	if subject, err := st.model.FindSubject(userRef(name)); err == nil && subject.Acts() && !subject.Disabled {
		id = subject.ID
	}
	ok, err := s.store.CheckPassword(ctx, uint32(id), in.Password)
	if err != nil {
		return "", out, err
	}
	record := &store.Record{Actor: userRef(name), Action: "sign-in", Decision: "allowed", Address: address}
	if !ok {
		s.attempt.failed(who, now)
		record.Decision, record.Reason = "refused", "the name or the password is wrong"
		if err := s.record(record); err != nil {
			return "", out, err
		}
		return "", out, problem(401, "wrong_password", "Not signed in", "the name or the password is wrong")
	}
	s.attempt.succeeded(who)
	lasts := consoleSession
	if in.Token {
		lasts = tokenSession
	}
	if err := s.record(record); err != nil {
		return "", out, err
	}
	secret, token, err := s.store.NewToken(ctx, uint32(id), store.SessionToken, in.Name, now, now.Add(lasts), !in.Token)
	if err != nil {
		return "", out, err
	}
	out, err = s.Whoami(Caller{User: id, Address: address, token: token}, wire.Standpoint{})
	out.CSRF = token.CSRF
	return secret, out, err
}

func userRef(name string) string {
	if strings.HasPrefix(name, "service:") {
		return name
	}
	return "user:" + name
}

// Authenticate finds the caller of a bearer token or cookie.
func (s *Service) Authenticate(ctx context.Context, secret, address string) (Caller, error) {
	token, ok, err := s.store.FindToken(ctx, secret)
	if err != nil {
		return Caller{}, err
	}
	if !ok {
		return Caller{}, problem(401, "not_signed_in", "Not signed in", "sign in first")
	}
	if token.Expired(s.now()) {
		return Caller{}, problem(401, "session_expired", "Not signed in", "the session has expired; sign in again")
	}
	subject := s.state().model.Subject(access.SubjectID(token.Subject))
	if subject.Disabled || subject.Removed {
		return Caller{}, problem(401, "disabled", "Not signed in", "this account is disabled")
	}
	return Caller{User: subject.ID, Address: address, token: token}, nil
}

// SignOut ends the caller's session.
func (s *Service) SignOut(ctx context.Context, c Caller) error {
	return s.store.DropToken(ctx, c.token)
}

// A standpoint is as whom a request looks: the session, what it holds, and how
// the record names it.
type standpoint struct {
	*access.Standing
	state *state
	words string // for people: "user:flint in role:x for audit"
	other bool   // not the caller's own
	// review says that the caller may be told which policies and grants are
	// behind what is seen.
	review bool
}

// own returns the caller's own standing, with all their roles.
func (s *Service) own(st *state, c Caller) (*access.Standing, error) {
	return st.stand(access.Session{Subject: c.User}, s.now())
}

// standAt works out a standpoint. Everyone may narrow their own session; only
// who manages the platform may stand in for another.
func (s *Service) standAt(st *state, c Caller, at wire.Standpoint) (*standpoint, error) {
	if at.As == "" && at.Role == "" {
		at.Role = s.actingIn(st, c)
	}
	session := access.Session{Subject: c.User}
	if at.As != "" {
		subject, err := st.model.FindSubject(at.As)
		if err != nil {
			if !s.reviews(st, c) {
				return nil, s.notStandIn()
			}
			return nil, err
		}
		session.Subject = subject.ID
	}
	if session.Subject != c.User && !s.manages(st, c, access.PlatformID) {
		return nil, s.notStandIn()
	}
	return s.standAs(st, c, session.Subject, at)
}

// actingIn is the role that the caller's session was set to act in, while it is
// held.
func (s *Service) actingIn(st *state, c Caller) string {
	role := access.SubjectID(c.token.Role)
	if own, err := s.own(st, c); role == 0 || err != nil || !own.Holds(role) {
		return ""
	}
	return st.model.Subject(role).Name
}

// actIn makes the caller's session act in one role; zero: in all again.
func (s *Service) actIn(ctx context.Context, c Caller, role access.SubjectID) error {
	return s.store.SetTokenRole(ctx, c.token, uint32(role))
}

// standAs works out the standpoint of a subject, for who may ask about it.
func (s *Service) standAs(st *state, c Caller, id access.SubjectID, at wire.Standpoint) (*standpoint, error) {
	if len(at.Purpose) > mostPurpose {
		return nil, problem(422, "bad_purpose", "Not possible", "a purpose has at most %d bytes", mostPurpose)
	}
	session := access.Session{Subject: id, Purpose: strings.TrimSpace(at.Purpose)}
	if at.Role != "" {
		role, err := st.model.FindSubject("role:" + strings.TrimPrefix(strings.ToLower(at.Role), "role:"))
		switch {
		case err == nil:
			session.Role = role.ID
		case s.reviews(st, c):
			return nil, err
		default:
			return nil, roleNotHeld(at.Role)
		}
	}
	standing, err := st.stand(session, s.now())
	if err != nil && session.Role != 0 && !s.reviews(st, c) {
		return nil, roleNotHeld(at.Role)
	}
	if err != nil {
		return nil, err
	}
	p := &standpoint{Standing: standing, state: st, words: st.model.Ref(id), other: id != c.User, review: s.reviews(st, c)}
	if session.Role != 0 {
		p.words += " in " + st.model.Ref(session.Role)
	}
	if session.Purpose != "" {
		p.words += " for " + session.Purpose
	}
	return p, nil
}

// roleNotHeld says the same of a role that is not there.
func roleNotHeld(name string) error {
	return problem(422, "role_not_held", "Not possible", "you do not hold a role %s", name)
}

func (s *Service) notStandIn() error {
	return problem(403, "refused", "Refused", "looking as somebody else needs MANAGE on platform")
}

// manages reports whether the caller, as themself, holds MANAGE on the object.
func (s *Service) manages(st *state, c Caller, id access.ObjectID) bool {
	own, err := s.own(st, c)
	return err == nil && own.Resolve(id).Allowed.Has(access.Manage)
}

// administers refuses a caller who does not manage the platform, before any
// name of the request is looked up: what there is is not theirs to learn.
func (s *Service) administers(st *state, c Caller, asked string) error {
	if c.User == 0 || s.manages(st, c, access.PlatformID) {
		return nil
	}
	return s.refuse(c, "change", asked, wants(st, access.Manage, access.PlatformID))
}

// reviews reports whether the caller may look at all subjects, grants and
// policies.
func (s *Service) reviews(st *state, c Caller) bool {
	own, err := s.own(st, c)
	return err == nil && own.Resolve(access.PlatformID).Allowed&access.Set(access.Manage, access.Describe) != 0
}

// MayMeasure refuses who may not read the service's metrics.
func (s *Service) MayMeasure(c Caller) error {
	if s.reviews(s.state(), c) {
		return nil
	}
	return problem(403, "refused", "Refused", "the metrics need DESCRIBE on platform")
}

// Whoami says who the caller is, and as whom the request looks.
func (s *Service) Whoami(c Caller, at wire.Standpoint) (wire.Session, error) {
	st := s.state()
	p, err := s.standAt(st, c, at)
	if err != nil {
		return wire.Session{}, err
	}
	own, err := s.own(st, c)
	if err != nil {
		return wire.Session{}, err
	}
	rights := own.Resolve(access.PlatformID).Allowed
	out := wire.Session{User: st.model.Ref(c.User), Title: st.model.Subject(c.User).Title,
		Administrator: rights.Has(access.Manage), Reviewer: s.reviews(st, c), Auditor: rights.Has(access.Audit),
		Standing: p.words, Purpose: p.Session.Purpose, Roles: []string{}, Groups: []string{}, Revision: st.revision, CSRF: c.token.CSRF}
	out.Expires, _ = time.Parse(time.RFC3339, c.token.Expires)
	for _, id := range p.Subjects() {
		switch subject := st.model.Subject(id); subject.Kind {
		case access.Role:
			out.Roles = append(out.Roles, subject.Ref())
		case access.Group:
			out.Groups = append(out.Groups, subject.Ref())
		}
	}
	return out, nil
}
