package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/agext/levenshtein"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/source"
	"gneiss/store"
	"gneiss/wire"
)

// Problem turns an error into the problem that a caller is told of. An error
// that no case here knows is a failure of the service's own, and says nothing of
// its inside.
func Problem(err error) *wire.Problem {
	var p *wire.Problem
	var notFound *access.NotFound
	var invalid *access.Invalid
	var q *query.Error
	var rest *access.Dependents
	var constraint *source.Constraint
	var unfit *source.Unfit
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &notFound):
		near := nearest(notFound.Name, notFound.Known)
		p = problem(404, "not_found", "Not found", "%s%s", notFound.Error(), didYouMean(near))
		p.Near = near
		return p
	case errors.As(err, &invalid):
		status := 422
		if invalid.Code == "exists" {
			status = 409
		}
		return problem(status, invalid.Code, "Not possible", "%s", invalid.Text)
	case errors.As(err, &q):
		return queryProblem(q)
	case errors.Is(err, source.ErrUnavailable):
		return problem(503, "source_unavailable", "Source not available", "%v; look at the source, then try again", err)
	case errors.Is(err, store.ErrUnwritable):
		return problem(503, "unwritable", "Not recorded", "the service cannot write its records, so nothing was done. Its disk may be full; try again once /readyz reports ready")
	case errors.Is(err, source.ErrTooLarge):
		return problem(422, "too_large", "Too large", "the answer is larger than the lane lets through; ask for less")
	case errors.As(err, &rest):
		return problem(409, "dependents", "Others rest on it", "%v", err)
	case errors.As(err, &constraint):
		return problem(409, "constraint", "Not possible", "%v", err)
	case errors.As(err, &unfit):
		return problem(422, "query_failed", "The query failed", "%v", err)
	case errors.Is(err, errClosing):
		return problem(503, "stopping", "Stopping", "the service is stopping; try again when it is back")
	case errors.Is(err, context.DeadlineExceeded):
		return problem(422, "too_long", "Took too long", "the query took longer than it may; narrow it")
	case errors.Is(err, context.Canceled):
		return problem(499, "cancelled", "Cancelled", "the query was cancelled")
	}
	return problem(500, "internal", "The service failed", "the service failed; the log has the reason")
}

func problem(status int, code, title, format string, args ...any) *wire.Problem {
	return &wire.Problem{Type: "about:blank", Title: title, Status: status, Code: code, Detail: fmt.Sprintf(format, args...)}
}

func queryProblem(q *query.Error) *wire.Problem {
	status, title := 422, "Not a query of this language"
	switch q.Code {
	case query.Syntax:
		status, title = 400, "Not SQL"
	case query.Unknown:
		status, title = 404, "Not found"
	case query.Refused:
		status, title = 403, "Refused"
	case query.Broken:
		status, title = 409, "Table closed"
	case query.ViewClosed:
		status, title = 409, "View closed"
	}
	near := nearest(q.Name, q.Near)
	p := problem(status, q.Code, title, "%s%s", q.Error(), didYouMean(near))
	p.Line, p.Column, p.Near = q.Line, q.Col, near
	return p
}

// mostNear is the longest name that others are compared with, in bytes.
const mostNear = 256

// nearest finds the names that one may have meant, best first.
func nearest(name string, known []string) []string {
	type scored struct {
		name  string
		score float64
	}
	var best []scored
	if len(name) > mostNear {
		return nil
	}
	last := func(s string) string { return s[strings.LastIndexAny(s, ".:")+1:] }
	for _, k := range known {
		// The last part alone counts too: drilling.boreholes is near boreholes.
		score := max(levenshtein.Match(strings.ToLower(name), strings.ToLower(k), nil), levenshtein.Match(last(strings.ToLower(name)), last(strings.ToLower(k)), nil)-0.05)
		if score >= 0.6 {
			best = append(best, scored{k, score})
		}
	}
	slices.SortStableFunc(best, func(a, b scored) int {
		switch {
		case a.score > b.score:
			return -1
		case a.score < b.score:
			return 1
		}
		return strings.Compare(a.name, b.name)
	})
	var names []string
	for _, b := range best[:min(len(best), 3)] {
		names = append(names, b.name)
	}
	return names
}

func didYouMean(near []string) string {
	if len(near) == 0 {
		return ""
	}
	return "; did you mean " + near[0] + "?"
}
