package review

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"strconv"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/store"
	"gneiss/wire"
)

// A RecordSearch selects records of who did what.
type RecordSearch struct {
	Actor    string
	Action   string
	Decision string
	Contains string
	Label    string // that an object bore
	Running  bool   // only what has not ended
	From     string // a day or time: then or later
	Until    string // a day, which is included, or a time
	Address  string
	Client   string
	Object   string // of what was read or written, or below it
	Purpose  string
	Role     string // by which it was allowed, or that was acted in
	Others   bool   // only what somebody did as somebody else
	Behind   string // the reference of a record: only later ones, oldest first
	Before   string // a cursor: the reference of a record
	Limit    int
}

// Records lists the record of who did what, newest first. Who does not hold
// AUDIT on the platform sees their own lines, and of a refusal's reason only
// what they were told.
func (s *Service) Records(ctx context.Context, c identity.Caller, q RecordSearch) (wire.List[wire.Record], error) {
	st := s.platform.Current()
	out := wire.List[wire.Record]{Items: []wire.Record{}}
	own, err := s.identity.Own(st, c)
	if err != nil {
		return out, err
	}
	search := store.Search{Action: q.Action, Decision: q.Decision, Contains: q.Contains, Running: q.Running, Limit: 101}
	if q.Limit > 0 && q.Limit <= 1000 {
		search.Limit = q.Limit + 1
	}
	audits := own.Resolve(access.PlatformID).Allowed.Has(access.Audit)
	if !audits && q.Actor != "" && q.Actor != st.Model.Ref(c.User) {
		return out, identity.Wants(st, access.Audit, access.PlatformID) // whether or not there is such a one
	}
	if q.Actor != "" {
		subject, err := st.Model.FindSubject(q.Actor)
		if err != nil {
			return out, err
		}
		search.Actor = subject.Ref()
	}
	if !audits {
		search.Actor, search.Themself = st.Model.Ref(c.User), true // who stood in for the caller is the auditor's to see
	}
	// What a record has beside the text tells of policies, labels and what is behind
	// doors: to search it is to ask for it.
	search.TextOnly = !audits
	if q.Label != "" && !audits {
		return out, identity.Wants(st, access.Audit, access.PlatformID)
	}
	if q.Label != "" {
		label, err := st.Model.FindLabel(q.Label)
		if err != nil {
			return out, err
		}
		search.Label = st.Model.Path(label.ID)
	}
	if search.Before, err = cursor(q.Before); err != nil {
		return out, err
	}
	if search.Behind, err = cursor(q.Behind); err != nil {
		return out, err
	}
	if search.From, err = recordTime(q.From, false); err != nil {
		return out, err
	}
	if search.Until, err = recordTime(q.Until, true); err != nil {
		return out, err
	}
	if (q.Object != "" || q.Role != "") && !audits {
		return out, identity.Wants(st, access.Audit, access.PlatformID)
	}
	if q.Role != "" {
		role, err := st.Model.FindSubject(q.Role)
		if err != nil {
			return out, err
		}
		if role.Kind != access.Role && role.Kind != access.Group {
			return out, fault.New(fault.Invalid, "wrong_kind", "%s is a %s; name a role or a group, or search by who", role.Ref(), role.Kind)
		}
		search.Role, search.RoleID = role.Ref(), uint32(role.ID)
	}
	search.Address, search.Client, search.Object, search.Purpose, search.Others = q.Address, q.Client, q.Object, q.Purpose, q.Others
	found, err := s.store.Audit().Find(ctx, search)
	if err != nil {
		return out, err
	}
	for i, r := range found {
		if i == search.Limit-1 {
			out.Next = audit.Reference(found[i-1].ID)
			break
		}
		out.Items = append(out.Items, s.wireRecord(r, audits))
	}
	return out, nil
}

// recordTime reads a day or a time as the record has times. The end of a day is that of the day after.
func recordTime(text string, end bool) (string, error) {
	if text == "" {
		return "", nil
	}
	at, err := time.Parse(time.DateOnly, text)
	if err == nil && end {
		at = at.AddDate(0, 0, 1)
	}
	if err != nil {
		at, err = time.Parse(time.RFC3339, text)
	}
	if err != nil {
		return "", fault.New(fault.Invalid, "bad_date", "%.40q is not a day or time; write it like 2026-11-01 or 2026-11-01T08:00:00Z", text)
	}
	return at.UTC().Format("2006-01-02T15:04:05.000Z"), nil
}

func cursor(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	id, err := strconv.ParseInt(strings.TrimPrefix(strings.ToUpper(text), "R-"), 10, 64)
	if err != nil || id < 1 {
		return 0, fault.New(fault.Invalid, "bad_reference", "%q is not the reference of a record, such as R-17", text)
	}
	return id, nil
}

// Record is one line of the record, with the fixes for a refusal.
func (s *Service) Record(ctx context.Context, c identity.Caller, ref string) (wire.Record, error) {
	id, err := cursor(ref)
	if err != nil {
		return wire.Record{}, err
	}
	list, err := s.Records(ctx, c, RecordSearch{Before: audit.Reference(id + 1), Limit: 1})
	if err != nil {
		return wire.Record{}, err
	}
	if len(list.Items) == 0 || list.Items[0].ID != id {
		return wire.Record{}, fault.New(fault.NotFound, "not_found", "there is no record %s, or you may not see it", ref)
	}
	r := list.Items[0]
	st := s.platform.Current()
	if len(r.Missing) > 0 && s.identity.Reviews(st, c) {
		r.Fixes = s.recordFixes(st, c, r)
	}
	return r, nil
}

// recordFixes proposes fixes for a refusal as things stand now.
func (s *Service) recordFixes(st *platform.State, c identity.Caller, r wire.Record) []wire.Fix {
	at, err := st.Model.ParseStandpoint(cmp.Or(r.Standpoint, r.Actor))
	if err != nil {
		return nil // they are gone
	}
	need, err := st.Model.ParseNeed(r.Missing[len(r.Missing)-1])
	if err != nil {
		return nil
	}
	p, err := s.identity.ViewerOf(st, c, at.Subject, wire.Standpoint{})
	if err != nil {
		return nil
	}
	return s.identity.Fixes(p, need.Privilege, need.Object)
}

func (s *Service) wireRecord(r store.Record, audits bool) wire.Record {
	w := wire.Record{ID: r.ID, Reference: audit.Reference(r.ID), Actor: r.Actor, Standpoint: r.Standpoint, Action: r.Action, Decision: r.Decision,
		Text: r.Text, Objects: []string{}, Labels: []string{}, Missing: []string{}, Rows: r.Rows, TookMS: float64(r.TookUS) / 1000,
		Client: r.Client, Status: "ended"}
	switch {
	case !r.Open || r.Ended:
	case r.ID > s.store.Audit().Before:
		w.Status = "running"
	default:
		w.Status = "unknown"
	}
	w.At, _ = time.Parse(time.RFC3339, r.At)
	if !audits {
		return w
	}
	w.Reason, w.Address = r.Reason, r.Address
	if err := errors.Join(json.Unmarshal([]byte(r.Objects), &w.Objects), json.Unmarshal([]byte(r.Labels), &w.Labels),
		json.Unmarshal([]byte(r.Missing), &w.Missing)); err != nil {
		s.log.Error("a record cannot be read", "record", r.ID, "error", err)
	}
	return w
}
