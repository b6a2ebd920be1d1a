package sqlport

import (
	"errors"
	"fmt"
	"strings"
	"unicode"

	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/core/query"
	"gneiss/service/fault"
)

// stated is an error of this package's, with its SQLSTATE.
type stated struct{ state, text string }

func (e *stated) Error() string { return e.text }

func statef(state, format string, args ...any) *stated {
	return &stated{state, fmt.Sprintf(format, args...)}
}

// located is an error in a text that began at some characters of a longer one.
type located struct {
	error
	text string // that its line and column are of
	at   int    // characters before it
}

func (e *located) Unwrap() error { return e.error }

// placed is an error at a byte of a text.
type placed struct {
	error
	text string
	at   int
}

func (e *placed) Unwrap() error { return e.error }

var errStopping = fault.New(fault.Unavailable, "stopping", "the service is stopping")

// states are the SQLSTATEs of errors by their codes, where the error has none of its own.
var states = map[string]string{
	query.Syntax: "42601", query.Unsupported: "0A000", query.Unknown: "42704", query.Ambiguous: "42702", query.Mismatch: "42804",
	query.Grouping: "42803", query.Refused: "42501", query.ViewClosed: "55000", query.Broken: "55000",
	"row_policy": "42501", "standpoint": "42501", "role_not_held": "42501", "dependents": "2BP01", "exists": "42710", "not_found": "42704",
	"source_unavailable": "58000", "unwritable": "53100", "too_large": "54000", "too_many_rows": "54000", "oversized": "54000",
	"too_long": "57014", "cancelled": "57014", "stopping": "57P01", "session_ended": "57P01", "session_expired": "57P01", "disabled": "28000",
	"wrong_password": "28P01",
	"password_given": "28P01", "by_token": "42501", "too_many_attempts": "28000", "too_many_connections": "53300", "not_signed_in": "28000",
	"bad_parameter": "22023", "bad_purpose": "22023", "internal": "XX000", "bad_request": "42601", "weak_password": "22023", "lane_full": "53300",
	"others_wait": "53300",
}

// problem tells the session's caller of an error. What they may not know is not told, as by every
// other way to them.
func (c *session) problem(err error) *pgproto3.ErrorResponse {
	return problemAs(err, "ERROR", func(err error) *fault.Error { return c.server.service.Identity.Told(c.caller, err) })
}

// problem tells of an error to who has not signed in yet: one that names nothing.
func problem(err error, severity string) *pgproto3.ErrorResponse {
	return problemAs(err, severity, fault.Of)
}

// problemAs tells an error in the protocol's fields.
func problemAs(err error, severity string, told func(error) *fault.Error) *pgproto3.ErrorResponse {
	out := &pgproto3.ErrorResponse{Severity: severity, SeverityUnlocalized: severity}
	var s *stated
	var q *query.Error
	var place *located
	if errors.As(err, &s) {
		out.Code, out.Message = s.state, s.text
		var at *placed
		if errors.As(err, &at) && at.at >= 0 && at.at <= len(at.text) && errors.As(err, &place) {
			out.Position = int32(place.at + len([]rune(at.text[:at.at])) + 1)
		}
		return out
	}
	e := told(err)
	out.Code, out.Message = e.SQLState, e.Detail
	if out.Code == "" {
		out.Code = states[e.Code]
	}
	if out.Code == "" {
		out.Code = "XX000"
		if e.Kind != fault.Internal {
			out.Code = "22023"
		}
	}
	line, column := e.Line, e.Column
	if errors.As(err, &q) {
		line, column = q.Line, q.Col
	}
	if line > 0 {
		out.Message = strings.TrimPrefix(out.Message, fmt.Sprintf("line %d, column %d: ", line, column))
		if errors.As(err, &place) {
			out.Position = int32(place.at + position(place.text, line, column))
		}
	}
	if e.Code == "wrong_password" {
		out.Message = "password authentication failed"
		out.Hint = "An account that was made before the SQL port was there signs in once elsewhere, with gneiss sign-in or in the console."
	}
	if len(e.Missing) > 0 {
		out.Detail = "Missing: " + strings.Join(e.Missing, ", ") + "."
	}
	if len(e.Near) > 0 && !strings.Contains(out.Message, e.Near[0]) {
		out.Hint = "Perhaps you meant " + e.Near[0] + "."
	}
	if e.Reference != "" && (e.Kind == fault.Refused || e.Kind == fault.NotFound) {
		out.Hint = strings.TrimSpace(out.Hint + " To ask for it: gneiss request access --refusal " + e.Reference + " --reason WHY, or the page Requests.")
	} else if e.Reference != "" {
		out.Hint = strings.TrimSpace(out.Hint + " The record has it under " + e.Reference + ".")
	}
	return out
}

// position is the place of a line and column in a text, in characters from 1.
func position(text string, line, column int) int {
	at := 0
	for range line - 1 {
		head, rest, ok := strings.Cut(text, "\n")
		if !ok {
			break
		}
		at += len([]rune(head)) + 1
		text = rest
	}
	return at + column
}

// printable cuts a text that a stranger has sent, and leaves out what is no letter or sign.
func printable(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return '?'
	}, strings.ToValidUTF8(text, "?"))
	if len(text) > most {
		return strings.ToValidUTF8(text[:most], "") + "…"
	}
	return text
}

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
