package api

import "gneiss/wire"

type (
	reviewIn struct {
		Name  string `uri:"name" path:"name" json:"-"`
		After string `query:"after" description:"a cursor"`
		All   bool   `query:"all" description:"all items in one answer"`
	}
	reviewDecisionIn struct {
		Name string `uri:"name" path:"name" json:"-"`
		wire.ReviewDecision
	}
	reviewCloseIn struct {
		Name string `uri:"name" path:"name" json:"-"`
		wire.ReviewClose
	}
)

// reviews are about reviewing access.
func (s *Server) reviews() {
	svc := s.service
	handle(s, "GET", "/reviews", "reviews of access, and how far they are", func(r request, _ none) (wire.List[wire.Review], error) {
		return svc.Review.Reviews(r.ctx, r.Caller)
	})
	handle(s, "POST", "/reviews", "open a review", func(r request, in wire.ReviewRequest) (wire.Changed, error) {
		return svc.Admin.OpenReview(r.ctx, r.Caller, in)
	})
	handle(s, "GET", "/reviews/{name}", "a review with what is to be decided", func(r request, in reviewIn) (wire.ReviewPage, error) {
		return svc.Review.Review(r.ctx, r.Caller, in.Name, in.After, in.All)
	})
	handle(s, "POST", "/reviews/{name}/decisions", "decide items, or hand them on", func(r request, in reviewDecisionIn) (wire.Changed, error) {
		return svc.Admin.DecideReview(r.ctx, r.Caller, in.Name, in.ReviewDecision)
	})
	handle(s, "POST", "/reviews/{name}/closing", "close it: revoke what is to be revoked, and sign it", func(r request, in reviewCloseIn) (wire.Changed, error) {
		return svc.Admin.CloseReview(r.ctx, r.Caller, in.Name, in.ReviewClose)
	})
	handle(s, "GET", "/reviews/{name}/verification", "whether a closed review is what was signed", func(r request, in nameIn) (wire.ReviewVerified, error) {
		return svc.Review.VerifyReview(r.ctx, r.Caller, in.Name)
	})
}
