package api

import (
	"gneiss/service/review"
	"gneiss/wire"
)

type matrixIn struct {
	In          string `query:"in" description:"whose parts are across; the platform's sources when empty"`
	Level       string `query:"level" enum:"schemas" description:"instead: the schemas of all sources"`
	Kind        string `query:"kind" enum:"user,service,group,role" description:"of the subjects; user when not given"`
	Within      string `query:"within" description:"only members of this group, or holders of this role"`
	Text        string `query:"text" description:"only subjects whose name or title has it"`
	Label       string `query:"label" description:"only who sees a column of this label in clear"`
	Writes      bool   `query:"writes" description:"only who can write somewhere in the window"`
	Has         bool   `query:"has" description:"only who has anything in the window"`
	Direct      bool   `query:"direct" description:"only who has a grant of their own"`
	Unused      int    `query:"unused" description:"only who used nothing within so many days"`
	BesideDraft string `query:"beside_draft" description:"compare with this draft"`
	BesideAt    string `query:"beside_at" description:"compare with this moment"`
	Beside      string `query:"beside" description:"compare each row with what this standpoint has, such as user:flint in role:survey_reader"`
	Differs     bool   `query:"differs" description:"only rows that differ from what is compared with"`
	After       string `query:"after" description:"a cursor"`
	Limit       int    `query:"limit" description:"rows; 100 when not given, 1,000 at the most"`
	From        int    `query:"from" description:"the first column"`
	Columns     int    `query:"columns" description:"how many; 60 when not given, 500 at the most"`
}

// matrix is who has what on what, at a glance.
func (s *Server) matrix() {
	handle(s, "GET", "/access-matrix", "who has what on what, at a glance: subjects down, objects across", func(r request,
		in matrixIn) (wire.AccessMatrix, error) {
		return s.service.Review.AccessMatrix(r.ctx, r.Caller, review.MatrixSearch{In: in.In, Level: in.Level, Kind: in.Kind, Within: in.Within, Text: in.Text,
			Label: in.Label, Writes: in.Writes, Has: in.Has, Direct: in.Direct, Unused: in.Unused, Differs: in.Differs,
			Beside: wire.Moment{Draft: in.BesideDraft, At: in.BesideAt}, Other: in.Beside, After: in.After, Limit: in.Limit, From: in.From, Columns: in.Columns})
	})
}
