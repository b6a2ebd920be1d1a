package api

import "gneiss/wire"

type useIn struct {
	Of     string `query:"of" description:"a subject; all when empty"`
	Days   int    `query:"days" description:"90 when not given"`
	Unused bool   `query:"unused" description:"only what nobody used, and what is far wider than its use"`
}

// use is about which rights are used.
func (s *Server) use() {
	svc := s.service
	handle(s, "GET", "/use", "which grants, memberships and roles queries needed", func(r request, in useIn) (wire.UseReport, error) {
		return svc.Review.Use(r.ctx, r.Caller, in.Of, in.Days, in.Unused)
	})
	handle(s, "POST", "/use/take-back", "open a draft with what takes back what nobody used", func(r request, in wire.TakeBackRequest) (wire.Changed, error) {
		return svc.Admin.TakeBack(r.ctx, r.Caller, in)
	})
}
