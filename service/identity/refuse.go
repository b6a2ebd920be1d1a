package identity

import (
	"cmp"
	"errors"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/store"
	"gneiss/wire"
)

// Recorded is how a record has what was read, written or asked for, and the labels that it has.
func (p *Viewer) Recorded(ids []access.ObjectID) (objects, labels string) {
	var paths, all []string
	for _, id := range ids {
		paths = append(paths, p.Model.Path(id))
		for _, label := range p.State.Policies.Labels(p.Model, id) {
			all = append(all, p.Model.Path(label))
		}
	}
	slices.Sort(all)
	return audit.List(paths), audit.List(slices.Compact(all))
}

// NewRecord starts the record of what a caller does.
func (s *Service) NewRecord(c Caller, p *Viewer, action, text string) *store.Record {
	r := c.Record(p.Model.Ref(c.User), action, text)
	if words := p.Words + p.Through; words != r.Actor {
		r.Standpoint = words
	}
	return r
}

// mostRefused bounds what is kept of a statement that is refused, in bytes: whoever has no right at all can send many.
const mostRefused = 8 << 10

// RefuseFrom records a refused query and returns what the caller is told. The
// record has all that was missing; the caller is told what their door lets them
// know.
func (s *Service) RefuseFrom(c Caller, p *Viewer, record *store.Record, err error) error {
	told := s.ToldIn(p.State, c, err)
	record.Text = audit.Bounded(record.Text, mostRefused)
	record.Decision, record.Reason = audit.Refused, audit.Bounded(err.Error(), mostRefused)
	var q *query.Error
	if errors.As(err, &q) && len(q.Needs) > 0 {
		needs := p.NeedNames(q.Needs)
		record.Missing = audit.List(needs)
		record.Reason = "missing: " + strings.Join(needs, ", ")
		var objects []access.ObjectID
		for _, n := range q.Needs {
			objects = append(objects, n.Object)
		}
		record.Objects, record.Labels = p.Recorded(objects)
		own := s.Reviews(p.State, c) // who reviews may know what their standpoint may not
		if !q.Hidden || own {
			told.Missing = needs
		}
		if own {
			told.Fixes = s.FixesFor(p, q.Needs)
		}
	}
	if err := s.audit.Write(record); err != nil {
		return err
	}
	told.Reference = audit.Reference(record.ID)
	return told
}

// FixesFor proposes ways to give the last of several needs with all its doors.
func (s *Service) FixesFor(p *Viewer, needs []access.Need) []wire.Fix {
	last := needs[len(needs)-1]
	return s.Fixes(p, last.Privilege, last.Object)
}

// Refuse records a refusal that has no standpoint of its own.
func (s *Service) Refuse(c Caller, action, text string, err error) error {
	st := s.platform.Current()
	p, perr := s.ViewerAt(st, c, wire.Standpoint{})
	if perr != nil {
		return perr
	}
	return s.RefuseFrom(c, p, s.NewRecord(c, p, action, text), err)
}

// Failed records a query that was allowed but did not finish, and returns what
// the caller is told: nothing of the database's own words, which could tell of
// values.
func (s *Service) Failed(p *Viewer, record *store.Record, started time.Time, err error) error {
	told := fault.Of(err)
	if told.Code == "source_unavailable" && !p.Reviews {
		told.Detail = "the source is not available now; the record has the reason" // which names files
	}
	if told.Code == "internal" {
		s.log.Error("a query failed", "error", err)
		told = fault.New(fault.Invalid, "query_failed", "the database could not run the query; the record has the reason")
	}
	record.Decision, record.Reason, record.TookUS = audit.Failed, err.Error(), time.Since(started).Microseconds()
	if told.Code == "cancelled" || told.Code == "too_long" {
		record.Reason = told.Detail
	}
	if err := s.audit.Write(record); err != nil {
		return err
	}
	told.Reference = audit.Reference(cmp.Or(record.Ends, record.ID))
	return told
}
