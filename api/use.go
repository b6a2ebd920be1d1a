package api

import "gneiss/wire"

type useIn struct {
	Of     string `query:"of" description:"a subject; all when empty"`
	Days   int    `query:"days" description:"90 when not given"`
	Unused bool   `query:"unused" description:"only what nobody used, and what is far wider than its use"`
}

type countsIn struct {
	From  string `query:"from" description:"the first day; 89 days ago when not given"`
	Until string `query:"until" description:"the last day; today when not given"`
	Label string `query:"label" description:"of one label only"`
	Actor string `query:"actor" description:"of one person only"`
}

// use is about which rights are used.
func (s *Server) use() {
	svc := s.service
	handle(s, "GET", "/use", "which grants, memberships and roles queries needed", func(r request, in useIn) (wire.UseReport, error) {
		return svc.Review.Use(r.ctx, r.Caller, in.Of, in.Days, in.Unused)
	})
	handle(s, "GET", "/record-counts", "what the record comes to over some days, and what stands out", func(r request,
		in countsIn) (wire.RecordCounts, error) {
		return svc.Review.RecordCounts(r.ctx, r.Caller, in.From, in.Until, in.Label, in.Actor)
	})
	handle(s, "GET", "/anchor", "the heads of both chains, to be kept elsewhere", func(r request, _ none) (wire.Anchor, error) {
		return svc.Review.Anchor(r.ctx, r.Caller)
	})
	handle(s, "POST", "/anchor/verification", "check both chains against an anchor", func(r request, in wire.Anchor) (wire.Verification, error) {
		return svc.Review.VerifyAnchor(r.ctx, r.Caller, in)
	})
	handle(s, "POST", "/records/pruning", "take old records away", func(r request, in wire.Pruning) (wire.Changed, error) {
		return svc.Admin.Prune(r.ctx, r.Caller, in)
	})
	handle(s, "POST", "/use/take-back", "open a draft with what takes back what nobody used", func(r request, in wire.TakeBackRequest) (wire.Changed, error) {
		return svc.Admin.TakeBack(r.ctx, r.Caller, in)
	})
}
