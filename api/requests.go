package api

import "gneiss/wire"

type (
	requestsIn struct {
		Status string `query:"status" enum:"open,granted,declined,withdrawn" description:"all when not given"`
		After  string `query:"after" description:"a cursor"`
	}
	numberIn struct {
		Number int `uri:"number" path:"number" json:"-"`
	}
	decisionIn struct {
		Number int `uri:"number" path:"number" json:"-"`
		wire.RequestDecision
	}
)

// requests are about asking to be given something.
func (s *Server) requests() {
	svc := s.service
	handle(s, "GET", "/requests", "requests for access: one's own, and those that are one's to decide", func(r request,
		in requestsIn) (wire.List[wire.Requested], error) {
		return svc.Review.Requests(r.ctx, r.Caller, in.Status, in.After)
	})
	handle(s, "POST", "/requests", "ask to be given something", func(r request, in wire.AccessRequest) (wire.Requested, error) {
		return svc.Admin.Ask(r.ctx, r.Caller, in)
	})
	handle(s, "GET", "/requests/{number}", "one request, with the ways to grant it for who decides", func(r request, in numberIn) (wire.Requested, error) {
		return svc.Review.Request(r.ctx, r.Caller, int64(in.Number))
	})
	handle(s, "POST", "/requests/{number}/decision", "grant, decline or withdraw it", func(r request, in decisionIn) (wire.Changed, error) {
		return svc.Admin.Decide(r.ctx, r.Caller, int64(in.Number), in.RequestDecision)
	})
}
