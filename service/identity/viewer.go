package identity

import (
	"context"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/fault"
	"gneiss/service/platform"
	"gneiss/wire"
)

// A Viewer is as whom a request looks: the session, what it holds, and how
// the record names it.
type Viewer struct {
	*access.Rights
	State   *platform.State
	Through string // where the state is not the current one, which it is, for people
	Other   bool   // not the caller's own
	// review says that the caller may be told which policies and grants are
	// behind what is seen.
	Reviews bool
}

// Own returns the caller's own standing, with all their roles.
func (s *Service) Own(st *platform.State, c Caller) (*access.Rights, error) {
	if err := there(st, c.User); err != nil {
		return nil, err
	}
	return st.Rights(access.Standpoint{Subject: c.User}, time.Now())
}

// there refuses a subject that an imagined or past state does not have.
func there(st *platform.State, id access.SubjectID) error {
	if st.Imagined() && id != 0 && !st.Model.HasSubject(id) && st.Authority().Model.HasSubject(id) {
		return fault.New(fault.NotFound, "not_there", "%s is not there at that moment; view as a subject that is", st.Authority().Model.Ref(id))
	}
	return nil
}

// ViewerAt works out a standpoint. Everyone may narrow their own session; only
// who manages the platform may stand in for another.
func (s *Service) ViewerAt(st *platform.State, c Caller, at wire.Standpoint) (*Viewer, error) {
	if at.As == "" && at.Role == "" {
		at.Role = s.actingIn(st, c)
	}
	session := access.Standpoint{Subject: c.User}
	if at.As != "" {
		subject, err := st.Model.FindSubject(at.As)
		if err != nil {
			if !s.Reviews(st, c) {
				return nil, s.notStandIn()
			}
			return nil, err
		}
		session.Subject = subject.ID
	}
	if session.Subject != c.User && !s.Manages(st, c, access.PlatformID) {
		return nil, s.notStandIn()
	}
	return s.ViewerOf(st, c, session.Subject, at)
}

// actingIn is the role that the caller's session was set to act in, while it is
// held.
func (s *Service) actingIn(st *platform.State, c Caller) string {
	role := access.SubjectID(c.token.Role)
	if role == 0 {
		return ""
	}
	if own, err := s.Own(st, c); err != nil || !own.Holds(role) {
		return ""
	}
	return st.Model.Subject(role).Name
}

// ActIn makes the caller's session act in one role; zero: in all again.
func (s *Service) ActIn(ctx context.Context, c Caller, role access.SubjectID) error {
	return s.store.SetTokenRole(ctx, c.token, uint32(role))
}

// ViewerOf works out the standpoint of a subject, for who may ask about it.
func (s *Service) ViewerOf(st *platform.State, c Caller, id access.SubjectID, at wire.Standpoint) (*Viewer, error) {
	if len(at.Purpose) > mostPurpose {
		return nil, fault.New(fault.Invalid, "bad_purpose", "a purpose can have up to %d bytes", mostPurpose)
	}
	session := access.Standpoint{Subject: id, Purpose: strings.TrimSpace(at.Purpose)}
	if at.Role != "" {
		role, err := st.Model.FindSubject("role:" + strings.TrimPrefix(strings.ToLower(at.Role), "role:"))
		switch {
		case err == nil:
			session.Role = role.ID
		case s.Reviews(st, c):
			return nil, err
		default:
			return nil, roleNotHeld(at.Role)
		}
	}
	if err := there(st, id); err != nil {
		return nil, err
	}
	rights, err := st.Rights(session, time.Now())
	if err != nil && session.Role != 0 && !s.Reviews(st, c) {
		return nil, roleNotHeld(at.Role)
	}
	if err != nil {
		return nil, err
	}
	return &Viewer{Rights: rights, State: st, Through: c.through, Other: id != c.User, Reviews: s.Reviews(st, c)}, nil
}

// roleNotHeld says the same of a role that is not there.
func roleNotHeld(name string) error {
	return fault.New(fault.Invalid, "role_not_held", "you do not have a role %s", name)
}

func (s *Service) notStandIn() error {
	return fault.New(fault.Refused, "refused", "viewing as somebody else needs MANAGE on platform")
}

// Seen finds an object that the standpoint sees. What it does not see is
// refused in the words for what is not there.
func (s *Service) Seen(p *Viewer, path string) (*access.Object, error) {
	if path == "" {
		path = "platform"
	}
	o, err := p.Model.Lookup(path)
	if err == nil && p.Shows(o.ID) {
		return o, nil
	}
	if _, bad := err.(*access.Invalid); bad {
		return nil, err
	}
	var known []string
	p.Each(access.PlatformID, func(o *access.Object) { known = append(known, p.Model.Path(o.ID)) })
	near := fault.Nearest(path, known)
	told := fault.New(fault.NotFound, "not_found", "%s does not exist or is not %s to use%s", path, p.whose(), fault.DidYouMean(near))
	told.Near = near
	return nil, told
}

// Shows is Sees, and for columns whether a policy makes them absent. Who reviews
// may look at what their standpoint has not.
func (p *Viewer) Shows(id access.ObjectID) bool {
	return p.Sees(id) && (p.Reviews && !p.Other || !p.Absent(id))
}

// Absent reports whether a column does not exist for the standpoint.
func (p *Viewer) Absent(id access.ObjectID) bool {
	o := p.Model.Object(id)
	return o.Kind == access.Column && p.State.Policies.Govern(p.Rights, o.Parent).Columns[id].Treatment.Kind == policy.Absent
}

func (p *Viewer) whose() string {
	if p.Other {
		return p.Words + "'s"
	}
	return "yours"
}

// Each calls f for all that the standpoint sees below an object, columns left
// out.
func (p *Viewer) Each(id access.ObjectID, f func(*access.Object)) {
	for _, child := range p.Model.Object(id).Children {
		if o := p.Model.Object(child); o.Kind != access.Column && p.Sees(child) {
			f(o)
			p.Each(child, f)
		}
	}
}

func (p *Viewer) NeedNames(needs []access.Need) []string {
	out := []string{}
	for _, n := range needs {
		out = append(out, p.Model.NeedText(n))
	}
	return out
}
