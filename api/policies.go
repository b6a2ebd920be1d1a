package api

import "gneiss/wire"

// The inputs of the endpoints of policies and labels.
type (
	policiesIn struct {
		Table string `query:"table" description:"at and below this object"`
	}
	policyStatus struct {
		nameIn
		wire.PolicyStatus
	}
	objectIn struct {
		Object string `query:"object" required:"true" description:"a table or a column"`
	}
	labelPlacement struct {
		nameIn
		wire.LabelPlacement
	}
	labelledIn struct {
		Label     string `query:"label" description:"of this label; of all when empty"`
		Uncovered bool   `query:"uncovered" description:"only those that no live policy treats"`
	}
	suggestIn struct {
		Object    string `query:"object" description:"at and below this object"`
		Again     bool   `query:"again" description:"sample the values again"`
		Dismissed bool   `query:"dismissed" description:"those that were dismissed, instead"`
	}
)

// policies registers the endpoints of policies, of labels, and of the
// relationships that policies follow.
func (s *Server) policies() {
	svc := s.service
	handle(s, "GET", "/policies", "row and column policies", func(r request, in policiesIn) (wire.List[wire.Policy], error) {
		return svc.Review.Policies(r.Caller, in.Table)
	})
	handle(s, "POST", "/policies", "add or replace a policy", func(r request, in wire.PolicyRequest) (wire.Changed, error) {
		return svc.Admin.PutPolicy(r.ctx, r.Caller, in)
	})
	handle(
		s,
		"POST",
		"/policies/trial",
		"what a policy would do if it were live, to whom, in rows and columns",
		func(r request, in wire.PolicyTrial) (wire.TrialResult, error) {
			return svc.Admin.TryPolicy(r.ctx, r.Caller, in)
		},
	)
	handle(s, "PATCH", "/policies/{name}", "publish or stop a policy", func(r request, in policyStatus) (wire.Changed, error) {
		return svc.Admin.SetPolicyStatus(r.ctx, r.Caller, in.Name, in.PolicyStatus)
	})
	handle(s, "DELETE", "/policies/{name}", "remove a policy", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.RemovePolicy(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(
		s,
		"GET",
		"/matrix",
		"what users and services get of a table or column: rows, and how columns appear",
		func(r request, in objectIn) (wire.Matrix, error) {
			return svc.Review.Matrix(r.ctx, r.Caller, in.Object)
		},
	)

	handle(s, "GET", "/labels", "labels, what they are on, and what they do", func(r request, _ none) (wire.List[wire.Label], error) {
		return svc.Review.Labels(r.Caller)
	})
	handle(s, "POST", "/labels", "add a label, or change its topic and level", func(r request, in wire.LabelRequest) (wire.Changed, error) {
		return svc.Admin.PutLabel(r.ctx, r.Caller, in)
	})
	handle(s, "DELETE", "/labels/{name}", "remove a label", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.RemoveLabel(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(
		s,
		"POST",
		"/labels/{name}/placements",
		"put a label on objects, lift it off them, or dismiss it for them",
		func(r request, in labelPlacement) (wire.Changed, error) {
			return svc.Admin.PlaceLabel(r.ctx, r.Caller, in.Name, in.LabelPlacement)
		},
	)
	handle(
		s,
		"GET",
		"/labelled-columns",
		"columns that have labels, and whether a policy treats them",
		func(r request, in labelledIn) (wire.List[wire.LabelledColumn], error) {
			return svc.Review.LabelledColumns(r.Caller, in.Label, in.Uncovered)
		},
	)
	handle(
		s,
		"GET",
		"/label-suggestions",
		"suggested labels for columns, with the evidence",
		func(r request, in suggestIn) (wire.Suggestions, error) {
			return svc.Review.SuggestLabels(r.ctx, r.Caller, in.Object, in.Again, in.Dismissed)
		},
	)
	handle(
		s,
		"POST",
		"/label-suggestions",
		"accept suggestions: put the labels on their columns",
		func(r request, in wire.Acceptance) (wire.Changed, error) {
			return svc.Admin.AcceptLabels(r.ctx, r.Caller, in)
		},
	)

	handle(s, "POST", "/pseudonym-key", "replaced the key of pseudonyms", func(r request, in wire.Change) (wire.Changed, error) {
		return svc.Admin.RotateKey(r.ctx, r.Caller, in)
	})

	handle(s, "GET", "/relationships", "which tables' rows belong to which", func(r request, in policiesIn) (wire.List[wire.Relationship], error) {
		return svc.Review.Relationships(r.Caller, in.Table)
	})
	handle(s, "POST", "/relationships", "declare a relationship, or forget one", func(r request, in wire.RelationshipRequest) (wire.Changed, error) {
		return svc.Admin.Relate(r.ctx, r.Caller, in)
	})
}
