// Package fault has the errors that the service tells its callers: what happened, why,
// and what to do. How a protocol reports a kind of error is the protocol's to say.
package fault

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/source"
	"gneiss/store"
	"gneiss/wire"
)

// A Kind sorts errors by what their caller can do about them.
type Kind int

// The kinds. The zero value is a failure of the service's own.
const (
	Internal    Kind = iota // nothing; the log has the reason
	Malformed               // write it correctly
	NotSignedIn             // sign in
	Refused                 // get the right to
	NotFound                // name something that is there
	Conflict                // resolve what is in the way
	Stale                   // look again, then repeat it
	Invalid                 // ask for something that is possible
	TooMany                 // wait
	Cancelled               // it was the caller who ended it
	Unavailable             // try again later
)

// An Error is what a caller is told of a failure.
type Error struct {
	Kind         Kind
	Code         string        // stable, for programs
	Detail       string        // for people
	Reference    string        // of the record that has the full reason
	Missing      []string      // privileges that would be needed
	Fixes        []wire.Fix    // ways to give them
	Near         []string      // names that may have been meant
	Line, Column int           // in a text, from 1; zero: of none
	SQLState     string        // of ISO/IEC 9075, where the database has one for it
	Wait         time.Duration // how long to wait before it is tried again; zero: not said
}

func (e *Error) Error() string { return e.Detail }

// New makes an error of a kind, with a code for programs.
func New(kind Kind, code, format string, args ...any) *Error {
	return &Error{Kind: kind, Code: code, Detail: fmt.Sprintf(format, args...)}
}

// ErrStopping says that the service is about to stop.
var ErrStopping = store.ErrStopping

// Passing reports whether an error says nothing of what was asked: it was not worked out, and may be another time.
func (e *Error) Passing() bool {
	return e.Kind == Internal || e.Kind == TooMany || e.Kind == Cancelled || e.Kind == Unavailable
}

// Of turns any error into what a caller is told of it: a value of the caller's own, which
// it may add to, for one error can be told to many. An error that it does not know is a
// failure of the service's own, and its text is not told.
func Of(err error) *Error {
	var e *Error
	var notFound *access.NotFound
	var invalid *access.Invalid
	var q *query.Error
	var rest *access.Dependents
	var constraint *source.Constraint
	var unfit *source.Unfit
	switch {
	case errors.As(err, &e):
		own := *e
		return &own
	case errors.As(err, &notFound):
		near := Nearest(notFound.Name, notFound.Known)
		e = New(NotFound, "not_found", "%s%s", notFound.Error(), DidYouMean(near))
		e.Near = near
		return e
	case errors.As(err, &invalid):
		kind := Invalid
		if invalid.Code == "exists" {
			kind = Conflict
		}
		return New(kind, invalid.Code, "%s", invalid.Text)
	case errors.As(err, &q):
		return ofQuery(q)
	case errors.Is(err, source.ErrUnavailable):
		return New(Unavailable, "source_unavailable", "%v; look at the source, then try again", err)
	case errors.Is(err, store.ErrUnwritable):
		return New(
			Unavailable,
			"unwritable",
			"the service cannot write its records, so nothing was done. Its disk may be full; try again once /readyz reports ready",
		)
	case errors.Is(err, source.ErrTooLarge):
		return New(Invalid, "too_large", "the answer is larger than its lane allows; ask for less")
	case errors.As(err, &rest):
		return New(Conflict, "dependents", "%v", err)
	case errors.As(err, &constraint):
		e = New(Conflict, "constraint", "%v", err)
		e.SQLState = map[string]string{"NOT NULL": "23502", "FOREIGN KEY": "23503", "UNIQUE": "23505", "PRIMARY KEY": "23505", "CHECK": "23514"}[constraint.Kind]
		return e
	case errors.As(err, &unfit):
		e = New(Invalid, "query_failed", "%v", err)
		e.SQLState = unfit.SQLState
		return e
	case errors.Is(err, ErrStopping):
		return New(Unavailable, "stopping", "the service is stopping; try again when it is back")
	case errors.Is(err, context.DeadlineExceeded):
		return New(Invalid, "too_long", "the query took longer than its lane allows; narrow it")
	case errors.Is(err, context.Canceled):
		return New(Cancelled, "cancelled", "the query was cancelled")
	}
	return New(Internal, "internal", "the service failed; the log has the reason")
}

// queryKinds are the kinds of the errors of statements; the rest are [Invalid].
var queryKinds = map[string]Kind{
	query.Syntax:     Malformed,
	query.Unknown:    NotFound,
	query.Refused:    Refused,
	query.Broken:     Conflict,
	query.ViewClosed: Conflict,
}

func ofQuery(q *query.Error) *Error {
	kind, ok := queryKinds[q.Code]
	if !ok {
		kind = Invalid
	}
	near := Nearest(q.Name, q.Near)
	e := New(kind, q.Code, "%s%s", q.Error(), DidYouMean(near))
	e.Line, e.Column, e.Near, e.SQLState = q.Line, q.Col, near, q.SQLState
	return e
}
