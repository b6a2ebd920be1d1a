package admin

import (
	"context"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// itself is the caller where a platform is made, which no client does.
var itself = identity.Caller{Client: "the service itself"}

// Bootstrap makes the first administrator of a new platform. It is refused once
// there is a user.
func (s *Service) Bootstrap(ctx context.Context, name, password string) (identity.Caller, error) {
	if len(s.platform.Current().Model.Subjects(access.User)) > 0 {
		return identity.Caller{}, fault.New(fault.Conflict, "exists", "the platform has users already")
	}
	_, err := s.PutSubject(
		ctx,
		itself,
		wire.SubjectRequest{Subject: "user:" + name, Password: password, Title: new("administrator")},
		false,
	)
	if err != nil {
		return identity.Caller{}, err
	}
	if _, err := s.Join(ctx, itself, wire.Member{Member: "user:" + name, Of: access.Administrator}, false); err != nil {
		return identity.Caller{}, err
	}
	user, err := s.platform.Current().Model.FindSubject("user:" + name)
	if err != nil {
		return identity.Caller{}, err
	}
	return identity.Caller{User: user.ID, Client: itself.Client}, nil
}

// ActAs is a caller who is a subject: for the making of platforms, where nobody
// signs in.
func (s *Service) ActAs(ref string) (identity.Caller, error) {
	subject, err := s.platform.Current().Model.FindSubject(ref)
	if err != nil {
		return identity.Caller{}, err
	}
	return identity.Caller{User: subject.ID, Client: itself.Client}, nil
}

// Empty reports whether the platform has no user yet.
func (s *Service) Empty() bool { return len(s.platform.Current().Model.Subjects(access.User)) == 0 }
