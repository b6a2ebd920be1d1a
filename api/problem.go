package api

import (
	"cmp"
	"errors"

	"github.com/gofiber/fiber/v3"

	"gneiss/service/fault"
	"gneiss/wire"
)

// statuses are the HTTP statuses of the kinds of errors (RFC 9110), with the titles of
// their problems (RFC 9457).
var statuses = map[fault.Kind]struct {
	status int
	title  string
}{
	fault.Internal:    {500, "The service failed"},
	fault.Malformed:   {400, "Malformed"},
	fault.NotSignedIn: {401, "Not signed in"},
	fault.Refused:     {403, "Refused"},
	fault.NotFound:    {404, "Not found"},
	fault.Conflict:    {409, "Conflict"},
	fault.Stale:       {412, "Changed meanwhile"},
	fault.Invalid:     {422, "Not possible"},
	fault.TooMany:     {429, "Too many attempts"},
	fault.Cancelled:   {499, "Cancelled"},
	fault.Unavailable: {503, "Not available"},
}

// titles are those of codes that say more than their kind.
var titles = map[string]string{
	"policy_broken": "Table closed", "dependents": "Others depend on it", "in_use": "In use", "query_failed": "The query failed",
	"source_unavailable": "Source not available", "stopping": "Stopping", "syntax": "Not SQL", "too_large": "Too large",
	"too_long": "Took too long", "too_many_rows": "Too many rows", "unwritable": "Not recorded", "view_closed": "View closed",
}

// problem is an error as callers get it.
func problem(err error) *wire.Problem {
	var p *wire.Problem
	var f *fiber.Error
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &f):
		return &wire.Problem{Type: "about:blank", Title: f.Message, Status: f.Code, Code: "http", Detail: f.Message}
	}
	e := fault.Of(err)
	of := statuses[e.Kind]
	return &wire.Problem{Type: "about:blank", Title: cmp.Or(titles[e.Code], of.title), Status: of.status, Code: e.Code, Detail: e.Detail,
		Reference: e.Reference, Missing: e.Missing, Fixes: e.Fixes, Near: e.Near, Line: e.Line, Column: e.Column, SQLState: e.SQLState}
}
