package admin

import (
	"context"
	"encoding/json"
	"errors"
	"strconv"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/events"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/review"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// mostOwnRequests is how many open requests somebody can have, and mostRequests how many there can be.
const (
	mostOwnRequests = 20
	mostRequests    = 10_000
)

// Ask keeps what the caller asks to be given. Whether what they name is there is not told: the answer is
// the same. What a refusal lacked is asked for by its reference, and is told to who decides.
func (s *Service) Ask(ctx context.Context, c identity.Caller, in wire.AccessRequest) (wire.Requested, error) {
	st := s.platform.Current()
	in.Reason = strings.TrimSpace(in.Reason)
	if in.Reason == "" || len(in.Reason) > mostReason {
		return wire.Requested{}, fault.New(fault.Invalid, "no_reason", "say why, in up to %d bytes: whoever decides reads it", mostReason)
	}
	r := store.AccessRequest{At: time.Now().UTC().Format(time.RFC3339), Subject: uint32(c.User), Reason: in.Reason}
	needs, shown, err := s.asksFor(ctx, st, c, in)
	if err != nil {
		return wire.Requested{}, err
	}
	r.Needs, r.Shown, r.Reference = audit.List(needs), shown, strings.ToUpper(in.Reference)
	actor := st.Model.Ref(c.User)
	record := c.Record(actor, audit.Request, say.Asked.With(shown))
	record.Reason = in.Reason
	var id int64
	if err := s.onRecord(record, func() (err error) {
		id, err = s.store.PutRequest(ctx, r, store.Bound{Own: mostOwnRequests, All: mostRequests}, func(id int64) store.Write {
			return events.New(events.RequestMade, strconv.FormatInt(id, 10), uint32(c.User), events.Told{Text: actor + " " + say.Asked.With(strings.Join(needs, ", ")),
				Request: id, Actor: actor, Reason: in.Reason})
		})
		return err
	}); err != nil {
		var full *store.Full
		if errors.As(err, &full) {
			err = fault.New(fault.TooMany, "too_many_requests", "%s of yours are open; withdraw some, or wait for an answer", say.Count(full.Own, "request"))
		}
		return wire.Requested{}, err
	}
	return s.review.Request(ctx, c, id)
}

// asksFor is what a request asks for, and what its asker is shown of that.
func (s *Service) asksFor(ctx context.Context, st *platform.State, c identity.Caller, in wire.AccessRequest) (needs []string, shown string, err error) {
	if in.Reference != "" {
		if in.Object != "" {
			return nil, "", fault.New(fault.Invalid, "both", "name an object, or the reference of a refusal, not both")
		}
		id, err := strconv.ParseInt(strings.TrimPrefix(strings.ToUpper(in.Reference), "R-"), 10, 64)
		if err != nil || id < 1 {
			return nil, "", fault.New(fault.Invalid, "bad_reference", "%.64q is not the reference of a refusal, such as R-17", in.Reference)
		}
		found, err := s.audit.Find(ctx, store.Search{Before: id + 1, Limit: 1})
		if err != nil {
			return nil, "", err
		}
		if len(found) == 0 || found[0].ID != id || found[0].Decision != audit.Refused || found[0].Actor != st.Model.Ref(c.User) || found[0].Standpoint != "" {
			return nil, "", fault.New(fault.NotFound, "not_found", "there is no refusal %s of yours", in.Reference)
		}
		// That nothing was missing, since what was named is not there, is not told: else asking would
		// tell what is hidden from what is not there.
		if err := json.Unmarshal([]byte(found[0].Missing), &needs); err != nil {
			return nil, "", err
		}
		return needs, say.AskedOf.With(strings.ToUpper(in.Reference)), nil
	}
	if in.Privilege == "" {
		in.Privilege = access.Select.String()
	}
	p, err := access.ParsePrivilege(in.Privilege)
	if err != nil {
		return nil, "", err
	}
	parts, err := access.ParsePath(in.Object)
	if err != nil || len(parts) == 0 || len(in.Object) > 1000 {
		return nil, "", fault.New(fault.Invalid, "bad_path", "name what you ask for, as in survey.assay.results")
	}
	need := p.String() + " on " + in.Object
	if n, err := st.Model.ParseNeed(need); err == nil {
		own, err := s.identity.Own(st, c)
		if err != nil {
			return nil, "", err
		}
		if own.Resolve(n.Object).Allowed.Has(p) {
			return nil, "", fault.New(fault.Conflict, "have_it", "you can do that already: %s", need)
		}
		need = st.Model.NeedText(n)
	} else if s.identity.Reviews(st, c) {
		return nil, "", err // who sees all may know that it does not exist; to others it may be hidden
	}
	return []string{need}, p.String() + " on " + in.Object, nil
}

// Decide grants a request, declines it, or by its asker withdraws it.
func (s *Service) Decide(ctx context.Context, c identity.Caller, number int64, in wire.RequestDecision) (wire.Changed, error) {
	st := s.platform.Current()
	w, err := s.review.Request(ctx, c, number)
	if err != nil {
		return wire.Changed{}, err
	}
	r, err := s.store.Request(ctx, number)
	if err != nil {
		return wire.Changed{}, err
	}
	needs, known := review.NeedsOf(st, r)
	switch {
	case w.Status != store.RequestOpen:
		return wire.Changed{}, fault.New(fault.Conflict, "decided", "request %d is %s already", number, w.Status)
	case in.Decision == "withdraw" && !w.Own:
		return wire.Changed{}, fault.New(fault.Refused, "not_yours", "only who asked can withdraw a request; decline it instead")
	case in.Decision != "withdraw" && w.Own:
		return wire.Changed{}, fault.New(fault.Refused, "own_request", "nobody decides a request of their own; it can be withdrawn")
	case in.Decision != "withdraw" && !s.review.Decides(st, c, needs, known):
		return wire.Changed{}, fault.New(fault.Refused, "refused", "to decide it takes MANAGE on what it asks for")
	case in.Decision == "decline" && strings.TrimSpace(in.Word) == "":
		return wire.Changed{}, fault.New(fault.Invalid, "no_word", "say why, for who asked")
	case len(in.Word) > mostReason:
		return wire.Changed{}, fault.New(fault.Invalid, "oversized", "a word can have up to %d bytes", mostReason)
	}
	r.Decided, r.Decider, r.Word = time.Now().UTC().Format(time.RFC3339), uint32(c.User), strings.TrimSpace(in.Word)
	switch in.Decision {
	case "grant":
		return s.grantRequest(ctx, c, w, r, in)
	case "decline":
		r.Status = store.RequestDeclined
	case "withdraw":
		r.Status = store.RequestWithdrawn
	default:
		return wire.Changed{}, fault.New(fault.Invalid, "bad_decision", "a request is granted, declined or withdrawn, not %.40q", in.Decision)
	}
	out := s.saidOnly(st, say.DecidedRequest.With(r.Status, number, w.By, w.Asks))
	if out.DryRun, out.Done = in.DryRun, !in.DryRun; in.DryRun {
		return out, nil
	}
	record := c.Record(st.Model.Ref(c.User), audit.Request, out.Says[0])
	record.Reason = r.Word
	err = s.onRecord(record, func() error { return s.store.Do(ctx, store.DecideRequest(r), s.requestEvent(st, c, w, r)) })
	return out, requestMoved(number, err)
}

// requestEvent tells who asked, and those who review, what became of a request.
func (s *Service) requestEvent(st *platform.State, c identity.Caller, w wire.Requested, r store.AccessRequest) store.Write {
	actor := st.Model.Ref(c.User)
	return events.New(events.RequestDecided, strconv.FormatInt(r.ID, 10), r.Subject, events.Told{
		Text: actor + " " + say.DecidedRequest.With(r.Status, r.ID, w.By, w.Asks), Request: r.ID, Actor: actor, Reason: r.Word})
}

func requestMoved(number int64, err error) error {
	if errors.Is(err, store.ErrNoRequest) {
		return fault.New(fault.Stale, "stale", "request %d was decided meanwhile; look again", number)
	}
	return err
}

// grantRequest carries out one of the fixes of a request, in one transaction with its decision.
func (s *Service) grantRequest(ctx context.Context, c identity.Caller, w wire.Requested, r store.AccessRequest, in wire.RequestDecision) (wire.Changed, error) {
	st := s.platform.Current()
	if w.Note != "" {
		return wire.Changed{}, fault.New(fault.Conflict, "nothing_to_grant", "%s; decline it with a word instead", w.Note)
	}
	if in.Fix == 0 {
		in.Fix = 1
	}
	if in.Fix < 1 || in.Fix > len(w.Fixes) {
		return wire.Changed{}, fault.New(fault.Invalid, "no_fix", "request %d has %d ways to grant it, numbered from 1: gneiss request show %d",
			w.Number, len(w.Fixes), w.Number)
	}
	fix := w.Fixes[in.Fix-1]
	o := order{caller: c, Change: wire.Change{Reason: say.RequestReason.With(w.Number, w.Reason), DryRun: in.DryRun}}
	add := func(next order, err error) error {
		o.changes, o.says, o.notes = append(o.changes, next.changes...), append(o.says, next.says...), append(o.notes, next.notes...)
		return err
	}
	var err error
	switch {
	case fix.Give != nil:
		fix.Give.Until, fix.Give.Reason = in.Until, o.Reason
		if err = s.mayJoin(st, c, *fix.Give, false); err == nil {
			err = add(s.joinOrder(st, c, *fix.Give, false))
		}
	default:
		for _, g := range fix.Grants {
			g.Until, g.Reason = in.Until, o.Reason
			if err == nil {
				err = add(s.grantOrder(st, c, g, false))
			}
		}
	}
	if err != nil {
		return wire.Changed{}, err
	}
	r.Status = store.RequestGranted
	if in.Until != nil {
		r.Until = in.Until.UTC().Format(time.RFC3339)
	}
	o.says = append(o.says, say.DecidedRequest.With(r.Status, w.Number, w.By, w.Asks))
	o.also = func(after *platform.State) ([]store.Write, error) {
		r.Revision = after.Revision + 1
		return []store.Write{store.DecideRequest(r), s.requestEvent(st, c, w, r)}, nil
	}
	out, err := s.carryOut(ctx, o)
	return out, requestMoved(w.Number, err)
}
