package identity

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"strings"
	"time"

	"github.com/xdg-go/scram"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/store"
)

// The mechanisms of a handshake, as RFC 7677 names them.
const (
	Scram     = "SCRAM-SHA-256"
	ScramPlus = "SCRAM-SHA-256-PLUS" // bound to the TLS connection
)

// A Handshake proves by SCRAM who connects, with their password or a token of theirs. The
// password itself is never sent.
type Handshake struct {
	service *Service
	id      access.SubjectID // zero: there is no such account, which does not show
	ref     string
	try     *attempt
	caller  Caller
	binding scram.ChannelBinding
	known   []*store.Credential
	talks   []*scram.ServerConversation // one for each credential, alike until the proof
}

// errWrong is what is said of a wrong name, password or account.
var errWrong = fault.New(fault.NotSignedIn, "wrong_password", "the name or the password is wrong")

// Handshake begins to find out who connects under a name. Where they connect through TLS, connection
// is its state.
func (s *Service) Handshake(ctx context.Context, name, address, client string, connection *tls.ConnectionState) (*Handshake, error) {
	name = strings.TrimPrefix(strings.ToLower(strings.TrimSpace(name)), "user:")
	if len(name) > mostName {
		return nil, fault.New(fault.Invalid, "oversized", "a name can have up to %d bytes", mostName)
	}
	h := &Handshake{service: s, ref: userRef(name)}
	var err error
	if h.try, err = s.attempt(ctx, pair{h.ref, audit.Bounded(address, mostName)}); err != nil {
		return nil, err
	}
	if subject, err := s.platform.Current().Model.FindSubject(h.ref); err == nil && subject.Acts() && !subject.Disabled {
		h.id = subject.ID
	}
	h.caller = Caller{User: h.id, Address: address, Client: audit.Bounded(client, mostClient)}
	if h.known, err = s.store.Credentials(ctx, uint32(h.id), h.ref, time.Now()); err != nil {
		return nil, err
	}
	if connection != nil {
		if h.binding, err = scram.NewTLSServerEndpointBinding(connection); err != nil {
			h.binding = scram.ChannelBinding{} // a certificate that has none: without
		}
	}
	return h, nil
}

// Mechanisms lists those that can be chosen, the best first.
func (h *Handshake) Mechanisms() []string {
	if h.binding.IsSupported() {
		return []string{ScramPlus, Scram}
	}
	return []string{Scram}
}

// First answers the client's first message.
func (h *Handshake) First(mechanism, message string) (reply string, err error) {
	nonce := rand.Text()
	for _, c := range h.known {
		server, err := scram.SHA256.NewServer(func(string) (scram.StoredCredentials, error) { return c.StoredCredentials, nil })
		if err != nil {
			return "", err
		}
		server.WithNonceGenerator(func() string { return nonce })
		var talk *scram.ServerConversation
		switch {
		case mechanism == ScramPlus && h.binding.IsSupported():
			talk = server.NewConversationWithChannelBindingRequired(h.binding)
		case mechanism == Scram && h.binding.IsSupported():
			talk = server.NewConversationWithChannelBinding(h.binding)
		case mechanism == Scram:
			talk = server.NewConversation()
		default:
			return "", fault.New(fault.Malformed, "mechanism", "the mechanism is one of %s, not %.32q", strings.Join(h.Mechanisms(), ", "), mechanism)
		}
		if reply, err = talk.Step(message); err != nil {
			return "", fault.New(fault.Malformed, "handshake", "the first message of %s is none: %v", mechanism, err)
		}
		h.talks = append(h.talks, talk)
	}
	return reply, nil
}

// Last checks the proof. Where it holds, the reply proves to the client that the service knew the
// credential, and the caller is who connects.
func (h *Handshake) Last(ctx context.Context, message string) (reply string, c Caller, err error) {
	record := h.caller.Record(h.ref, audit.SignIn, "to the SQL port")
	for i, talk := range h.talks {
		answer, err := talk.Step(message)
		if err != nil || !talk.Valid() || h.id == 0 {
			continue
		}
		h.caller.proof = h.known[i]
		h.caller.token = h.known[i].Token
		if err := h.service.Holds(ctx, h.caller); err != nil {
			break
		}
		h.try.succeeds()
		if h.known[i].Given && h.caller.token.Hash == "" {
			record.Decision, record.Reason = audit.Refused, errGiven.Detail
			return "", Caller{}, errors.Join(h.service.audit.Write(record), errGiven)
		}
		return answer, h.caller, h.service.audit.Write(record)
	}
	h.try.fails()
	record.Decision, record.Reason = audit.Refused, errWrong.Detail
	return "", Caller{}, errors.Join(h.service.audit.Write(record), errWrong)
}

// End ends a handshake, however far it has come.
func (h *Handshake) End() { h.try.end() }

// attempt begins an attempt to sign in. It is refused where it comes too soon after others that
// failed.
func (s *Service) attempt(ctx context.Context, who pair) (*attempt, error) {
	return s.attempts.begin(ctx, who, func() bool { return s.store.Audit().SignedIn(ctx, who.account, who.address) })
}

// Holds reports by an error that a caller who keeps a connection is not let go on: the account is
// disabled or gone, or what proved it has ended.
func (s *Service) Holds(ctx context.Context, c Caller) error {
	subject := s.platform.Current().Model.Subject(c.User)
	if subject.Disabled || subject.Removed {
		return fault.New(fault.NotSignedIn, "disabled", "this account is disabled")
	}
	if c.proof == nil {
		return nil
	}
	if c.token.Hash != "" && c.token.Expired(time.Now()) {
		return fault.New(fault.NotSignedIn, "session_expired", "the token has expired")
	}
	now := s.store.Generation()
	if c.proof.Seen.Load() == now || c.proof.Changing.Load() {
		return nil
	}
	ok, err := s.store.Holds(ctx, uint32(c.User), c.proof, time.Now())
	if err != nil {
		return err
	}
	if !ok {
		return fault.New(fault.NotSignedIn, "session_expired", "the password has been changed, or the token has ended; connect again")
	}
	c.proof.Seen.Store(now)
	return nil
}

// SetOwnPassword sets the password of who keeps a connection: to a text, or to what a verifier of it
// says (RFC 5803), which is hashed when the password is next given. The connection goes on.
func (s *Service) SetOwnPassword(ctx context.Context, c Caller, name, text string) (Caller, error) {
	if c.token.Hash != "" {
		return c, errByToken
	}
	st := s.platform.Current()
	ref := st.Model.Ref(c.User)
	if name != "" && userRef(strings.ToLower(name)) != ref {
		return c, fault.New(fault.Refused, "refused", "a password is set for oneself here; that of others with gneiss user set, or in the console")
	}
	password := store.Password{}
	switch v, err := store.ParseVerifier(text); {
	case err == nil:
		password = store.VerifiedPassword(v)
	case strings.HasPrefix(text, "md5") || strings.HasPrefix(text, "SCRAM-SHA-256$"):
		return c, fault.New(fault.Invalid, "bad_parameter", "a password is sent as a text, or as its verifier of SCRAM-SHA-256")
	default:
		if password, err = newPassword(ctx, "", text); err != nil {
			return c, err
		}
	}
	if err := s.audit.Write(c.Record(ref, audit.Password, "changed their password")); err != nil {
		return c, err
	}
	if c.proof != nil { // which holds until the new one is known: a look at it meanwhile must not end the connection
		c.proof.Changing.Store(true)
	}
	if err := s.store.ChangePassword(ctx, uint32(c.User), password, c.token); err != nil {
		if c.proof != nil {
			c.proof.Changing.Store(false)
		}
		return c, err
	}
	known, err := s.store.Credentials(ctx, uint32(c.User), ref, time.Now())
	if err == nil && c.token.Hash == "" {
		c.proof = known[0]
	}
	return c, err
}
