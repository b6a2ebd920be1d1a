package identity

import (
	"fmt"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/platform"
	"gneiss/wire"
)

func Wants(st *platform.State, p access.Privilege, id access.ObjectID) error {
	return &query.Error{Code: query.Refused, Text: fmt.Sprintf("this needs %s on %s", p, st.Model.Path(id)),
		Needs: []access.Need{{Privilege: p, Object: id}}}
}

// Manages reports whether the caller, as themself, holds MANAGE on the object.
func (s *Service) Manages(st *platform.State, c Caller, id access.ObjectID) bool {
	own, err := s.Own(st.Authority(), c)
	return err == nil && own.Resolve(st.InAuthority(id)).Allowed.Has(access.Manage)
}

// Administers refuses a caller who does not manage the platform, before any
// name of the request is looked up: what there is is not theirs to learn.
func (s *Service) Administers(st *platform.State, c Caller, asked string) error {
	if c.User == 0 || s.Manages(st, c, access.PlatformID) {
		return nil
	}
	return s.Refuse(c, audit.Change, asked, Wants(st, access.Manage, access.PlatformID))
}

// Reviews reports whether the caller may look at all subjects, grants and
// policies.
func (s *Service) Reviews(st *platform.State, c Caller) bool {
	own, err := s.Own(st.Authority(), c)
	return err == nil && own.Resolve(access.PlatformID).Allowed&access.Set(access.Manage, access.Describe) != 0
}

// MayHear reports whether the caller may hear of an event that somebody may hear of beside those who
// review: what changes is asked of who they are now, since streams last.
func (s *Service) MayHear(c Caller, subject access.SubjectID) bool {
	return c.User != 0 && c.User == subject || s.Reviews(s.platform.Current(), c)
}

// MayMeasure refuses who may not read the service's metrics.
func (s *Service) MayMeasure(c Caller) error {
	if s.Reviews(s.platform.Current(), c) {
		return nil
	}
	return fault.New(fault.Refused, "refused", "the metrics need DESCRIBE on platform")
}

// ReviewsObject reports whether the caller may see who can do what there.
func (s *Service) ReviewsObject(st *platform.State, c Caller, id access.ObjectID) bool {
	own, err := s.Own(st.Authority(), c)
	return err == nil && own.Resolve(st.InAuthority(id)).Allowed&access.Set(access.Manage, access.Describe) != 0
}

// Reviewable finds a subject that the caller may ask about: anyone for
// reviewers, for others themself and what they have.
func (s *Service) Reviewable(st *platform.State, c Caller, ref string) (*access.Subject, error) {
	subject, err := st.Model.FindSubject(ref)
	if s.Reviews(st, c) {
		return subject, err
	}
	own, ownErr := s.Own(st, c)
	if err == nil && ownErr == nil && own.Holds(subject.ID) {
		return subject, nil
	}
	return nil, fault.New(fault.Refused, "refused", "to ask about other subjects you need DESCRIBE on platform")
}

// WritesPolicies refuses a caller who may not write policies on what a path
// names, in the words that their door lets them have.
func (s *Service) WritesPolicies(st *platform.State, c Caller, path string) error {
	target, err := st.Model.LookupTarget(path)
	if err == nil && s.Manages(st, c, target.Object) {
		return nil
	}
	p, perr := s.ViewerAt(st, c, wire.Standpoint{})
	if perr != nil {
		return perr
	}
	if !p.Reviews || err != nil {
		o, err := s.Seen(p, path)
		if err != nil {
			return err
		}
		target.Object = o.ID
	}
	return s.Refuse(c, audit.Change, "a policy on "+path, Wants(st, access.Manage, target.Object))
}

// ChangesPolicy refuses a caller who may not change the policy of a name. Whose
// it is not is not told whether it is there.
func (s *Service) ChangesPolicy(st *platform.State, c Caller, name string) error {
	row, column := st.Policies.Find(name)
	switch {
	case row != nil && s.Manages(st, c, row.At()), column != nil && s.Manages(st, c, column.At()):
		return nil
	case row == nil && column == nil && s.Reviews(st, c):
		return &access.NotFound{Kind: "policy", Name: name, Known: st.Policies.Names()}
	}
	return s.Refuse(c, audit.Change, "the policy "+name, fault.New(fault.Refused, "refused", "there is no policy %s, or you may not change it", name))
}
