package api

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/gofiber/fiber/v3"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/fault"
	"gneiss/source"
	"gneiss/store"
	"gneiss/wire"
)

// TestProblems gives each kind of error its status, and tells nothing of one it does not
// know.
func TestProblems(t *testing.T) {
	for kind := fault.Internal; kind <= fault.Unavailable; kind++ {
		if of, ok := statuses[kind]; !ok || of.status < 400 || of.title == "" {
			t.Errorf("the kind %d has the status %d, %q", kind, of.status, of.title)
		}
	}
	for _, c := range []struct {
		name   string
		err    error
		status int
		code   string
		says   string
	}{
		{"one of the service's", fault.New(fault.Stale, "stale", "changed meanwhile"), 412, "stale", "changed meanwhile"},
		{"wrapped", fmt.Errorf("below: %w", fault.New(fault.Refused, "refused", "no")), 403, "refused", "no"},
		{"a name", &access.NotFound{Kind: "role", Name: "redaer", Known: []string{"reader"}}, 404, "not_found", "no role redaer; did you mean reader?"},
		{"what is there", &access.Invalid{Code: "exists", Text: "x exists already"}, 409, "exists", "x exists already"},
		{"what cannot be", &access.Invalid{Code: "bad_lane", Text: "no"}, 422, "bad_lane", "no"},
		{"not SQL", &query.Error{Code: query.Syntax, Text: "no"}, 400, "syntax", "no"},
		{"a closed table", &query.Error{Code: query.Broken, Text: "closed"}, 409, "policy_broken", "closed"},
		{"of another type", &query.Error{Code: query.Mismatch, Text: "no"}, 422, "type_mismatch", "no"},
		{"no source", fmt.Errorf("%w: gone", source.ErrUnavailable), 503, "source_unavailable", "the source is not available: gone; look at the source, then try again"},
		{"too large", source.ErrTooLarge, 422, "too_large", "the answer is larger than its lane allows; ask for less"},
		{"a full disk", store.ErrUnwritable, 503, "unwritable", ""},
		{"stopping", fault.ErrStopping, 503, "stopping", ""},
		{"slow", context.DeadlineExceeded, 422, "too_long", ""},
		{"gone", context.Canceled, 499, "cancelled", ""},
		{"HTTP's own", fiber.ErrMethodNotAllowed, 405, "http", "Method Not Allowed"},
		{"a problem", &wire.Problem{Status: 418, Code: "teapot", Detail: "short"}, 418, "teapot", "short"},
		{"unknown", errors.New("/var/lib/gneiss/records.db is corrupt"), 500, "internal", "the service failed; the log has the reason"},
	} {
		p := problem(c.err)
		if p.Status != c.status || p.Code != c.code || p.Title == "" && c.name != "a problem" || c.says != "" && p.Detail != c.says {
			t.Errorf("%s: %d %s %q %q", c.name, p.Status, p.Code, p.Title, p.Detail)
		}
	}
}
