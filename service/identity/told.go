package identity

import (
	"errors"
	"fmt"
	"slices"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/fault"
	"gneiss/service/platform"
	"gneiss/wire"
)

// Told is what a caller is told of an error. Every error goes through it on its way
// out, so that names, policies and grants which the caller may not know are not told
// of, whatever part of the service stumbled over them: who reviews the platform is
// told all; others are told of what they see, and of all else the same as if it were
// not there.
func (s *Service) Told(c Caller, err error) *fault.Error {
	return s.ToldIn(s.platform.Current(), c, err)
}

// ToldIn is Told for what the caller may know in a state.
func (s *Service) ToldIn(st *platform.State, c Caller, err error) *fault.Error {
	if c.User == 0 || s.Reviews(st, c) {
		return fault.Of(err)
	}
	var p *fault.Error
	var notFound *access.NotFound
	var invalid *access.Invalid
	var rest *access.Dependents
	var q *query.Error
	switch {
	case errors.As(err, &p):
		if p.Code == "in_use" {
			return fault.New(fault.Conflict, p.Code, "it is still in use; ask an administrator where")
		}
		return fault.Of(p)
	case errors.As(err, &notFound) && !slices.Contains(fixedKinds, notFound.Kind):
		return s.notYours(st, c, notFound.Kind, notFound.Name)
	case errors.As(err, &invalid):
		switch invalid.Code { // whose texts name subjects
		case "role_loop", "lead_loop":
			return fault.New(fault.Invalid, invalid.Code, "that would close a loop; an administrator can see it")
		case "dependents":
			return fault.New(fault.Invalid, invalid.Code, "others were given it from there; ask an administrator to revoke it")
		case "ambiguous_subject":
			return fault.New(fault.Invalid, invalid.Code, "write the kind before the name, such as user:NAME")
		}
	case errors.As(err, &rest):
		return fault.New(fault.Conflict, "dependents", "others were granted it from there; ask an administrator to revoke it")
	case errors.As(err, &q):
		return s.toldOfQuery(st, c, q)
	}
	return fault.Of(err)
}

// fixedKinds are the kinds of names that are the same on every platform.
var fixedKinds = []string{
	"kind of commands",
	"kind of condition",
	"kind of policy",
	"kind of subject",
	"level",
	"mode",
	"period",
	"privilege",
	"privilege or bundle",
	"status",
	"thing to do with a label",
	"treatment",
}

// toldOfQuery is told for the errors of statements. Which policy closes a table, and
// over which of its columns, and what closes a view, is for who reviews them.
func (s *Service) toldOfQuery(st *platform.State, c Caller, q *query.Error) *fault.Error {
	told := fault.Of(q)
	switch {
	case q.Code == query.Broken:
		told.Detail = "a table that this reads is closed because one of its policies no longer fits it. " +
			"An administrator has to edit or stop the policy; the record has the reason"
	case q.Code == query.ViewClosed:
		told.Detail = "a view that this reads is closed: what it reads has changed or is not for you, or its owner may no longer lend it; the record has the reason"
	case q.Hidden:
	default:
		own, err := s.Own(st, c)
		for _, n := range q.Needs {
			if err != nil || len(own.Resolve(n.Object).Shut) > 0 { // behind a shut door
				return s.notYours(st, c, st.Model.Object(n.Object).Kind.String(), st.Model.Path(n.Object))
			}
		}
	}
	return told
}

// notYours says the same of what is not there and of what is not the caller's to
// know. What it suggests the caller sees.
func (s *Service) notYours(st *platform.State, c Caller, kind, name string) *fault.Error {
	p := fault.New(fault.NotFound, "not_found", "%s does not exist or is not yours to use", name)
	own, err := s.Own(st, c)
	if err != nil {
		return p
	}
	var known []string
	switch kind {
	case "source", "schema", "table", "view", "column":
		if mine, err := s.ViewerAt(st, c, wire.Standpoint{}); err == nil {
			mine.Each(access.PlatformID, func(o *access.Object) { known = append(known, st.Model.Path(o.ID)) })
		}
	case "subject", "user", "service", "group", "role":
		for _, id := range own.Subjects() {
			known = append(known, st.Model.Ref(id))
		}
	}
	p.Near = fault.Nearest(name, known)
	p.Detail = fmt.Sprintf("%s%s", p.Detail, fault.DidYouMean(p.Near))
	return p
}
